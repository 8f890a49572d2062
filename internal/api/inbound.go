package api

import (
	"net/http"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/store"
)

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
	l := client.List[client.Inbound]{Items: []client.Inbound{}, Next: next}
	for _, m := range found {
		l.Items = append(l.Items, client.Inbound{ID: m.ID.String(), Gateway: a.gatewayName(m.GatewayID), GatewayRef: m.GatewayRef,
			From: m.FromNumber, To: m.ToNumber, Text: m.Text, At: m.ReceivedAt, GatewayAt: m.At})
	}
	c.JSON(http.StatusOK, l)
}
