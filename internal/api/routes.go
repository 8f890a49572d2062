package api

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/route"
)

func (a *API) answerRoutes(c *gin.Context) {
	w := client.Routes{Items: []client.Route{}}
	for _, record := range a.engine.Roster.Book().Routes {
		r := record.Route
		one := client.Route{Name: r.Name, Countries: append([]string{}, r.Countries...), Prefixes: append([]string{}, r.Prefixes...),
			Kinds: []string{}, Senders: append([]string{}, r.Senders...), Gateways: []client.Leg{}, Prefer: r.Prefer}
		for _, kind := range r.Kinds {
			one.Kinds = append(one.Kinds, string(kind))
		}
		for _, leg := range r.Gateways {
			one.Gateways = append(one.Gateways, client.Leg(leg))
		}
		w.Items = append(w.Items, one)
		w.ChangedAt, w.ChangedBy = &record.ChangedAt, record.ChangedBy
	}
	c.JSON(http.StatusOK, w)
}

func (a *API) routes(c *gin.Context) { a.answerRoutes(c) }

func (a *API) putRoutes(c *gin.Context) {
	n, err := read[client.Routes](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	if n.Items == nil { // not the same as an empty list, which removes all
		a.refuse(c, fault.New("items", "it is missing", "a list of routes, which takes the place of all there are"))
		return
	}
	routes := make([]route.Route, len(n.Items))
	for i, r := range n.Items {
		routes[i] = route.Route{Name: r.Name, Countries: r.Countries, Prefixes: r.Prefixes, Senders: r.Senders, Prefer: r.Prefer}
		for _, kind := range r.Kinds {
			routes[i].Kinds = append(routes[i].Kinds, pace.Kind(kind))
		}
		for _, leg := range r.Gateways {
			routes[i].Gateways = append(routes[i].Gateways, route.Leg(leg))
		}
	}
	if err := a.engine.Roster.PutRoutes(c.Request.Context(), routes, keyOf(c).Name, a.engine.Now()); err != nil {
		a.refuse(c, err)
		return
	}
	a.answerRoutes(c)
}
