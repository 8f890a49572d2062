package api

import (
	"errors"
	"io"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/engine/courier"
	"calmpigeon.example/internal/engine/receipts"
	"calmpigeon.example/internal/store"
)

// cookie carries the key of the console: out of reach of scripts, and sent
// with requests from our own pages only.
const cookie = "pigeon_key"

// needKey lets only requests with a key in use pass.
func (a *API) needKey(c *gin.Context) {
	presented, ok := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer ")
	if !ok {
		presented, _ = c.Cookie(cookie)
	}
	key, err := a.engine.Keys.Check(c.Request.Context(), strings.TrimSpace(presented))
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.Set("key", key)
}

func keyOf(c *gin.Context) store.Key { return c.MustGet("key").(store.Key) }

func (a *API) signIn(c *gin.Context) {
	login, err := read[client.Login](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	key, err := a.engine.Keys.Check(c.Request.Context(), strings.TrimSpace(login.Key))
	if err != nil {
		a.refuse(c, err)
		return
	}
	a.setCookie(c, strings.TrimSpace(login.Key), 30*24*3600)
	c.JSON(http.StatusOK, client.Session{KeyName: key.Name, PhoneURL: a.phoneURL})
}

func (a *API) signOut(c *gin.Context) {
	a.setCookie(c, "", -1)
	c.Status(http.StatusNoContent)
}

func (a *API) setCookie(c *gin.Context, value string, seconds int) {
	c.SetSameSite(http.SameSiteStrictMode)
	secure := c.Request.TLS != nil || c.GetHeader("X-Forwarded-Proto") == "https"
	c.SetCookie(cookie, value, seconds, "/v1", "", secure, true)
}

func (a *API) session(c *gin.Context) {
	c.JSON(http.StatusOK, client.Session{KeyName: keyOf(c).Name, PhoneURL: a.phoneURL})
}

func wireKey(k store.Key) client.Key {
	return client.Key{
		ID:         k.ID.String(),
		Name:       k.Name,
		Handle:     k.Handle,
		CreatedAt:  k.CreatedAt,
		LastUsedAt: k.LastUsedAt,
		RevokedAt:  k.RevokedAt,
		Cure:       k.Cure,
	}
}

func (a *API) keys(c *gin.Context) {
	all, err := a.engine.Store.Keys(c.Request.Context())
	if err != nil {
		a.refuse(c, err)
		return
	}
	l := client.List[client.Key]{Items: []client.Key{}}
	for _, k := range all {
		l.Items = append(l.Items, wireKey(k))
	}
	c.JSON(http.StatusOK, l)
}

func (a *API) newKey(c *gin.Context) {
	n, err := read[client.NewKey](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	record, key, err := a.engine.Keys.Make(n.Name, n.Cure)
	if err == nil {
		err = a.engine.Keys.Add(c.Request.Context(), record)
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	w := wireKey(record)
	w.Key = key
	c.JSON(http.StatusCreated, w)
}

func (a *API) revokeKey(c *gin.Context) {
	id, ok := a.id(c)
	if !ok {
		return
	}
	if err := a.engine.Keys.Revoke(c.Request.Context(), id); err != nil {
		a.refuse(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// receipt takes a callback in. It is answered only when it is stored.
func (a *API) receipt(c *gin.Context) {
	body, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, bodyMost))
	if err != nil {
		a.refuse(c, err)
		return
	}
	header := courier.FlatHeader(c.Request.Header)
	answer, err := a.engine.Receipts.Take(c.Request.Context(), c.Param("gateway"), c.Param("secret"), dialect.Incoming{
		Method: c.Request.Method, Query: strings.ToValidUTF8(c.Request.URL.RawQuery, ""), Header: header, Body: body})
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
