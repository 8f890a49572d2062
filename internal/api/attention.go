package api

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"calmpigeon.example/client"
)

func (a *API) attention(c *gin.Context) {
	needs, err := a.engine.Needs.Needs(c.Request.Context())
	if err != nil {
		a.refuse(c, err)
		return
	}
	l := client.Attention{Items: []client.Need{}}
	for _, n := range needs {
		l.Items = append(
			l.Items,
			client.Need{What: string(n.What), Wrong: n.Wrong, Count: n.Count, Gateway: n.Gateway, Batch: n.Batch, Receiver: n.Receiver,
				Since: n.Since, Title: n.Title, Why: n.Why, Cost: n.Cost, Do: n.Do, Command: n.Command, Link: n.Link},
		)
	}
	c.JSON(http.StatusOK, l)
}
