package api

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"calmpigeon.example/client"
	"calmpigeon.example/dialects"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/engine/courier"
	"calmpigeon.example/internal/engine/fault"
	"calmpigeon.example/internal/engine/receipts"
	"calmpigeon.example/internal/engine/roster"
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

func wireGateway(g *roster.Gateway) client.Gateway {
	return client.Gateway{ID: g.ID.String(), Name: g.Name, Dialect: g.Gateway.Dialect, About: g.Dialect.About, Address: g.Address,
		Secrets: g.Dialect.Secrets, PerSecond: g.PerSecond, InFlight: g.InFlight, AskAfter: g.AskAfter().String(),
		GiveUpAfter: g.GiveUpAfter().String(), Timeout: g.Timeout().String(), Reference: string(g.Dialect.Reference), CreatedAt: g.CreatedAt}
}

func (a *API) gateways(c *gin.Context) {
	l := client.List[client.Gateway]{Items: []client.Gateway{}}
	for _, g := range a.engine.Roster.All() {
		l.Items = append(l.Items, wireGateway(g))
	}
	c.JSON(http.StatusOK, l)
}

func (a *API) gateway(c *gin.Context) {
	g := a.engine.Roster.ByName(c.Param("name"))
	if g == nil {
		a.refuse(c, store.ErrNotFound)
		return
	}
	c.JSON(http.StatusOK, wireGateway(g))
}

func (a *API) addGateway(c *gin.Context) {
	n, err := read[client.NewGateway](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	setup := roster.Setup{Name: n.Name, Source: n.Source, Address: n.Address, Secrets: n.Secrets, PerSecond: n.PerSecond, InFlight: n.InFlight}
	var faults fault.Faults
	switch {
	case (n.Dialect == "") == (n.Source == ""):
		faults.Add("dialect", "either a name or a source is needed", "dialect, the name of one that ships, or source, a dialect file")
	case n.Dialect != "":
		source, err := dialects.Source(n.Dialect)
		if err != nil {
			faults.Add("dialect", fmt.Sprintf("%q does not ship", n.Dialect), "one of "+strings.Join(dialects.Names(), ", ")+", or a dialect file as source")
		}
		setup.Source = string(source)
	}
	for _, span := range []struct {
		field, given string
		to           *time.Duration
	}{{"ask_after", n.AskAfter, &setup.AskAfter}, {"give_up_after", n.GiveUpAfter, &setup.GiveUp}, {"timeout", n.Timeout, &setup.Limit}} {
		if span.given == "" {
			continue
		}
		if *span.to, err = time.ParseDuration(span.given); err != nil || *span.to < time.Millisecond {
			faults.Add(span.field, fmt.Sprintf("%q is not a time span", span.given), "a number and a unit, such as 10s, 5m or 48h")
		}
	}
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	g, err := a.engine.Roster.Add(c.Request.Context(), setup, a.engine.Now())
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.Header("Location", "/v1/gateways/"+g.Name)
	c.JSON(http.StatusCreated, wireGateway(g))
}

func wireKey(k store.Key) client.Key {
	return client.Key{ID: k.ID.String(), Name: k.Name, Handle: k.Handle, CreatedAt: k.CreatedAt, LastUsedAt: k.LastUsedAt, RevokedAt: k.RevokedAt, Cure: k.Cure}
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
		c.Data(answer.Status, "text/plain; charset=utf-8", []byte(answer.Body))
	case errors.Is(err, receipts.ErrNobody):
		problem(c, http.StatusNotFound, "not-found", "There is nothing at this address", "")
	case errors.Is(err, receipts.ErrForged):
		problem(c, http.StatusForbidden, "not-genuine", "This receipt does not prove that it comes from the gateway", "")
	default:
		a.refuse(c, err)
	}
}
