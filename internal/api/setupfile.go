package api

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/engine/setup"
)

func (a *API) exportSetup(c *gin.Context) {
	source, err := setup.Write(a.engine.Roster)
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, client.SetupFile{Source: string(source)})
}

func (a *API) importSetup(c *gin.Context) {
	f, err := read[client.SetupFile](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	change, err := setup.Take(
		c.Request.Context(),
		a.engine.Store,
		a.engine.Roster,
		[]byte(f.Source),
		f.Secrets,
		keyOf(c).Name,
		a.engine.Now(),
		c.Query("dry_run") == "true",
	)
	if err != nil {
		a.refuse(c, err)
		return
	}
	a.engine.Bells.RingAll()
	c.JSON(
		http.StatusOK,
		client.SetupChange{
			New:     append([]string{}, change.New...),
			Changed: append([]string{}, change.Changed...),
			Same:    append([]string{}, change.Same...),
		},
	)
}
