package api

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"calmpigeon.example/client"
)

func (a *API) flaws(c *gin.Context) {
	l := client.List[client.Flaw]{Items: []client.Flaw{}}
	for _, f := range a.engine.Roster.Flaws() {
		l.Items = append(l.Items, client.Flaw{What: f.What, Name: f.Name, Why: f.Why})
	}
	c.JSON(http.StatusOK, l)
}
