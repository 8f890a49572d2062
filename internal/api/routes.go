package api

import (
	"net/http"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/route"
	"calmpigeon.example/internal/store"
)

func (a *API) answerRoutes(c *gin.Context) {
	w := client.Routes{Routes: []client.Route{}}
	for _, record := range a.engine.Roster.Book().Routes {
		r := record.Route
		one := client.Route{Name: r.Name, Countries: append([]string{}, r.Countries...), Prefixes: append([]string{}, r.Prefixes...),
			Kinds: []string{}, Senders: append([]string{}, r.Senders...), Gateways: []client.Leg{}}
		for _, kind := range r.Kinds {
			one.Kinds = append(one.Kinds, string(kind))
		}
		for _, leg := range r.Gateways {
			one.Gateways = append(one.Gateways, client.Leg(leg))
		}
		w.Routes = append(w.Routes, one)
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
	routes := make([]route.Route, len(n.Routes))
	for i, r := range n.Routes {
		routes[i] = route.Route{Name: r.Name, Countries: r.Countries, Prefixes: r.Prefixes, Senders: r.Senders}
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

func (a *API) inbound(c *gin.Context) {
	p, faults := pageOf(c)
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	found, err := a.engine.Store.Inbound(c.Request.Context(), p.after, p.limit+1)
	if err != nil {
		a.refuse(c, err)
		return
	}
	found, next := cut(p, found, func(m *store.Inbound) uuid.UUID { return m.ID })
	l := client.InboundPage{Items: []client.Inbound{}, Next: next}
	for _, m := range found {
		l.Items = append(l.Items, client.Inbound{ID: m.ID.String(), Gateway: a.gatewayName(m.GatewayID), GatewayRef: m.GatewayRef,
			From: m.FromNumber, To: m.ToNumber, Text: m.Text, At: m.At, ReceivedAt: m.ReceivedAt})
	}
	c.JSON(http.StatusOK, l)
}
