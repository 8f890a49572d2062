package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/passcode"
	"calmpigeon.example/internal/engine/keys"
	"calmpigeon.example/internal/store"
)

// cookie carries the session of the console: out of reach of scripts, and sent
// with requests from our own pages only.
const cookie = "pigeon_session"

var (
	errNoKey   = errors.New("no key was presented")
	errForeign = errors.New("the request comes from another site")
)

// admission looks again whether a request may go on: streams last longer than
// keys.
type admission func(ctx context.Context) (store.Key, error)

const admissionName, keyName = "admission", "key"

// needKey lets only requests with a key in use pass, or of somebody who is signed
// in with one.
func (a *API) needKey(c *gin.Context) {
	admit, err := a.admission(c)
	var key store.Key
	if err == nil {
		key, err = admit(c.Request.Context())
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.Set(keyName, key)
	c.Set(admissionName, admit)
}

// addressOf is the address of whoever connected: of IPv6 the /64, which one subscriber has.
func addressOf(c *gin.Context) string {
	at, err := netip.ParseAddrPort(c.Request.RemoteAddr)
	if err != nil {
		return "" // it did not come over a network
	}
	return passcode.AddressOf(at.Addr().Unmap())
}

func (a *API) admission(c *gin.Context) (admission, error) {
	from := addressOf(c)
	if header := c.GetHeader("Authorization"); header != "" {
		presented := strings.TrimSpace(strings.TrimPrefix(header, "Bearer "))
		return func(ctx context.Context) (store.Key, error) { return a.engine.Keys.Check(ctx, from, presented) }, nil
	}
	token, _ := c.Cookie(cookie)
	if token == "" {
		return nil, errNoKey
	}
	if !ours(c.Request) {
		return nil, errForeign
	}
	return func(ctx context.Context) (store.Key, error) { return a.engine.Keys.CheckSession(ctx, from, token) }, nil
}

// legible lets a request pass whose address and Idempotency-Key are text: UTF-8 without U+0000. Nothing
// else can be looked for or kept.
func (a *API) legible(c *gin.Context) {
	var faults fault.Faults
	check := func(field, given string) {
		if store.Keepable(given) != given {
			faults.Add(field, fmt.Sprintf("%.60q is no text", given), "UTF-8 without U+0000")
		}
	}
	for _, p := range c.Params {
		check(p.Key, p.Value)
	}
	if c.Request.URL.RawQuery != "" {
		for name, values := range c.Request.URL.Query() {
			check("address", name)
			for _, value := range values {
				check(store.Keepable(name), value)
			}
		}
	}
	check("Idempotency-Key", c.GetHeader("Idempotency-Key"))
	if faults != nil {
		slices.SortFunc(faults, func(a, b fault.Fault) int { return strings.Compare(a.Field, b.Field) })
		p, _ := problemOf(c, faults)
		p.Status = http.StatusBadRequest
		answerProblem(c, p)
	}
}

// ours reports whether a request that a browser sends a cookie with was made by
// one of our own pages, or changes nothing.
func ours(r *http.Request) bool {
	if r.Method == http.MethodGet || r.Method == http.MethodHead || r.Header.Get("Sec-Fetch-Site") == "same-origin" {
		return true
	}
	origin, err := url.Parse(r.Header.Get("Origin"))
	return r.Header.Get("Sec-Fetch-Site") == "" && err == nil && origin.Host != "" && strings.EqualFold(origin.Host, r.Host)
}

// plainly tells browsers not to guess what an answer is, and nobody to keep it.
func plainly(c *gin.Context) {
	c.Header("X-Content-Type-Options", "nosniff")
	c.Header("Cache-Control", "no-store")
}

func keyOf(c *gin.Context) store.Key { return c.MustGet(keyName).(store.Key) }

// stillAdmitted reports whether whoever began a request may still see what it
// answers.
func stillAdmitted(c *gin.Context) bool {
	_, err := c.MustGet(admissionName).(admission)(c.Request.Context())
	return !errors.Is(err, keys.ErrRefused)
}

func (a *API) signIn(c *gin.Context) {
	if !ours(c.Request) && c.GetHeader("Origin") != "" {
		a.refuse(c, errForeign)
		return
	}
	login, err := read[client.Login](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	key, err := a.engine.Keys.Check(c.Request.Context(), addressOf(c), strings.TrimSpace(login.Key))
	if err != nil {
		a.refuse(c, err)
		return
	}
	token, err := a.engine.Keys.Begin(c.Request.Context(), key)
	if err != nil {
		a.refuse(c, err)
		return
	}
	a.setCookie(c, token, 30*24*3600)
	c.JSON(http.StatusOK, client.Session{KeyName: key.Name, PhoneURL: a.phoneURL})
}

func (a *API) signOut(c *gin.Context) {
	token, _ := c.Cookie(cookie)
	if !ours(c.Request) {
		a.refuse(c, errForeign)
		return
	}
	if err := a.engine.Keys.End(c.Request.Context(), token); err != nil {
		a.refuse(c, err)
		return
	}
	a.setCookie(c, "", -1)
	c.Status(http.StatusNoContent)
}

func (a *API) setCookie(c *gin.Context, value string, seconds int) {
	c.SetSameSite(http.SameSiteStrictMode)
	secure := c.Request.TLS != nil || c.GetHeader("X-Forwarded-Proto") == "https"
	c.SetCookie(cookie, value, seconds, "/v1", "", secure, true)
}

func (a *API) session(c *gin.Context) {
	c.JSON(http.StatusOK, client.Session{KeyName: keyOf(c).Name, PhoneURL: a.phoneURL, Quarantine: !a.engine.Gate.Open()})
}
