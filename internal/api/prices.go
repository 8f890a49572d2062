package api

import (
	"bytes"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/explain"
)

func wirePrices(g *roster.Gateway, p roster.Prices) (client.PriceList, error) {
	w := client.PriceList{Gateway: g.Name, Prices: []client.Price{}, ChangedBy: p.ChangedBy}
	if !p.ChangedAt.IsZero() {
		w.ChangedAt = &p.ChangedAt
	}
	for _, e := range p.Entries {
		w.Prices = append(w.Prices, explain.Price(e))
	}
	var source bytes.Buffer
	err := price.WriteCSV(&source, p.Entries)
	w.Source = source.String()
	return w, err
}

func (a *API) prices(c *gin.Context) {
	g, ok := a.named(c)
	if !ok {
		return
	}
	a.answerPrices(c, g, a.engine.Roster.Book().Prices(g.ID))
}

func (a *API) answerPrices(c *gin.Context, g *roster.Gateway, p roster.Prices) {
	w, err := wirePrices(g, p)
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, w)
}

func (a *API) putPrices(c *gin.Context) {
	g, ok := a.named(c)
	if !ok {
		return
	}
	f, err := read[client.PricesFile](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	entries, err := price.ReadCSV(strings.NewReader(f.Source))
	if err != nil {
		a.refuse(
			c,
			fault.New(
				"source",
				fault.Why(err),
				"a price list in CSV as the documentation describes it",
			),
		)
		return
	}
	if c.Query("dry_run") == "true" {
		a.answerPrices(c, g, roster.Prices{Entries: entries})
		return
	}
	if err := a.engine.Roster.PutPrices(c.Request.Context(), g, entries, keyOf(c).Name, a.engine.Now()); err != nil {
		a.refuse(c, err)
		return
	}
	a.answerPrices(c, g, a.engine.Roster.Book().Prices(g.ID))
}
