package api

import (
	"cmp"
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
		l.Items = append(l.Items, a.wireInbound(m))
	}
	c.JSON(http.StatusOK, l)
}

// wireInbound is an inbound message as the API gives it: numbers as they are written here, where they can be read.
func (a *API) wireInbound(m store.Inbound) client.Inbound {
	w := client.Inbound{ID: m.ID.String(), Gateway: a.gatewayName(m.GatewayID), GatewayRef: m.GatewayRef,
		From: cmp.Or(m.FromE164, m.FromNumber), To: cmp.Or(m.ToSender, m.ToNumber), Text: m.Text, At: m.ReceivedAt, GatewayAt: m.At}
	if m.MessageID != nil {
		w.Message = m.MessageID.String()
	}
	return w
}
