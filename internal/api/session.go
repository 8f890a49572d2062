package api

import (
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"calmpigeon.example/client"
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
