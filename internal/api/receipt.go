package api

import (
	"errors"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/engine/courier"
	"calmpigeon.example/internal/engine/receipts"
)

// receipt takes a callback in. It is answered only when it is stored.
func (a *API) receipt(c *gin.Context) {
	var answer dialect.Answer
	g, err := a.engine.Receipts.Of(c.Param("gateway"), c.Param("secret"))
	if err == nil {
		var raw []byte
		if raw, err = body(c); err != nil {
			a.refuse(c, err)
			return
		}
		answer, err = a.engine.Receipts.Take(c.Request.Context(), g, dialect.Incoming{Method: c.Request.Method,
			Query: strings.ToValidUTF8(c.Request.URL.RawQuery, ""), Header: courier.FlatHeader(c.Request.Header), Body: raw})
	}
	switch {
	case err == nil:
		c.Data(answer.Status, answer.Type, []byte(answer.Body))
	case errors.Is(err, receipts.ErrNobody):
		problem(c, http.StatusNotFound, "not-found", "There is nothing at this address", "")
	case errors.Is(err, receipts.ErrForged):
		problem(c, http.StatusForbidden, "not-genuine", "This receipt does not prove that it comes from the gateway", "")
	default:
		a.refuse(c, err)
	}
}
