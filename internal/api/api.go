// Package api is the HTTP API: it parses, calls the engine and answers.
package api

import (
	"context"
	_ "embed"
	"errors"
	"io/fs"
	"log/slog"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"calmpigeon.example/internal/engine"
	"calmpigeon.example/internal/store"
)

// Description is the OpenAPI 3.1 document of the API. A test holds it against
// the routes.
//
//go:embed openapi.yaml
var Description []byte

// API answers HTTP requests.
type API struct {
	engine   *engine.Engine
	log      *slog.Logger
	phoneURL string
	closing  <-chan struct{} // ends streams when the service stops
}

// New makes the handler of the whole service: API, receipts and console.
// phoneURL is the practice phone's, empty if there is none; streams end when
// closing is closed.
func New(e *engine.Engine, console fs.FS, phoneURL string, closing <-chan struct{}, log *slog.Logger) *gin.Engine {
	gin.SetMode(gin.ReleaseMode)
	a := &API{engine: e, log: log, phoneURL: phoneURL, closing: closing}
	r := gin.New()
	r.UseRawPath, r.UnescapePathValues = true, true
	r.HandleMethodNotAllowed = true
	r.Use(unhurried, a.log1, a.recover)
	r.NoMethod(func(c *gin.Context) {
		problem(c, http.StatusMethodNotAllowed, "method-not-allowed", "This address does not take "+c.Request.Method, "")
	})

	r.GET("/healthz", plainly, a.health)
	r.GET("/openapi.yaml", func(c *gin.Context) { c.Data(http.StatusOK, "application/yaml", Description) })
	r.GET("/receipts/:gateway/:secret", plainly, a.receipt)
	r.POST("/receipts/:gateway/:secret", plainly, a.receipt)
	r.POST("/v1/session", plainly, a.signIn)
	r.DELETE("/v1/session", plainly, a.signOut)

	checking, trying := a.atOnce(checksMost), a.atOnce(trialsMost)
	v1 := r.Group("/v1", plainly, a.needKey)
	v1.GET("/session", a.session)
	v1.POST("/messages", a.send)
	v1.GET("/messages", a.find)
	v1.GET("/messages/follow", a.followAll)
	v1.GET("/messages/:id", a.message)
	v1.GET("/messages/:id/follow", a.follow)
	v1.POST("/messages/:id/cancel", a.cancel)
	v1.POST("/messages/:id/stop", a.stop)
	v1.GET("/tally", a.tally)
	v1.GET("/gateways", a.gateways)
	v1.POST("/gateways", a.addGateway)
	v1.GET("/gateways/:name", a.gateway)
	v1.PATCH("/gateways/:name", a.changeGateway)
	v1.DELETE("/gateways/:name", a.removeGateway)
	v1.POST("/gateways/:name/pause", a.pauseGateway)
	v1.POST("/gateways/:name/resume", a.resumeGateway)
	v1.POST("/gateways/:name/test", trying, a.testGateway)
	v1.GET("/dialects", checking, a.dialects)
	v1.POST("/dialects/check", checking, a.checkDialect)
	v1.POST("/dialects/try", trying, a.tryDialect)
	v1.GET("/setup", a.exportSetup)
	v1.PUT("/setup", a.importSetup)
	v1.GET("/routes", a.routes)
	v1.PUT("/routes", a.putRoutes)
	v1.GET("/inbound", a.inbound)
	v1.GET("/flaws", a.flaws)
	v1.GET("/senders", a.senders)
	v1.POST("/senders", a.putSender)
	v1.PUT("/senders/:sender", a.putSender)
	v1.DELETE("/senders/:sender", a.removeSender)
	v1.GET("/gateways/:name/prices", a.prices)
	v1.PUT("/gateways/:name/prices", a.putPrices)
	v1.POST("/weigh", a.weigh)
	v1.POST("/numbers", a.numbers)
	v1.GET("/rules", a.rules)
	v1.GET("/rules/export", a.exportRules)
	v1.POST("/rules/import", a.importRules)
	v1.GET("/rules/:country", a.rule)
	v1.PUT("/rules/:country", a.putRule)
	v1.DELETE("/rules/:country", a.resetRule)
	v1.GET("/templates", a.templates)
	v1.POST("/templates", a.putTemplate)
	v1.POST("/templates/weigh", a.weighTemplate)
	v1.GET("/templates/:name", a.template)
	v1.PUT("/templates/:name", a.putTemplate)
	v1.DELETE("/templates/:name", a.removeTemplate)
	v1.GET("/keys", a.keys)
	v1.POST("/keys", a.newKey)
	v1.DELETE("/keys/:id", a.revokeKey)

	files := consoleFiles(console)
	r.NoRoute(func(c *gin.Context) {
		if strings.HasPrefix(c.Request.URL.Path, "/v1/") || c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead {
			problem(c, http.StatusNotFound, "not-found", "There is nothing at this address", "")
			return
		}
		files(c)
	})
	return r
}

// healthWithin is how soon the health check answers, either way.
const healthWithin = 900 * time.Millisecond

func (a *API) health(c *gin.Context) {
	ctx, cancel := context.WithTimeout(c.Request.Context(), healthWithin)
	defer cancel()
	if err := a.engine.Store.Ping(ctx); errors.Is(err, store.ErrReadOnly) {
		problem(c, http.StatusServiceUnavailable, "read-only", "The database takes nothing to write", "")
		return
	} else if err != nil {
		problem(c, http.StatusServiceUnavailable, "no-database", "The database does not answer", "")
		return
	}
	c.JSON(http.StatusOK, gin.H{"status": "ok"})
}

// log1 logs one request. Addresses of receipts hold a secret and are cut.
func (a *API) log1(c *gin.Context) {
	started := time.Now()
	c.Next()
	path := c.Request.URL.Path
	if strings.HasPrefix(path, "/receipts/") {
		path = "/receipts/" + c.Param("gateway") + "/…"
	}
	level := slog.LevelDebug
	if c.Writer.Status() >= 500 {
		level = slog.LevelError
	}
	a.log.Log(c, level, "request", "method", c.Request.Method, "path", path, "status", c.Writer.Status(), "took", time.Since(started))
}

func (a *API) recover(c *gin.Context) {
	defer func() {
		if wrong := recover(); wrong != nil {
			if err, ok := wrong.(error); ok && errors.Is(err, http.ErrAbortHandler) {
				panic(wrong)
			}
			a.log.Error("handler failed", "path", c.FullPath(), "why", wrong)
			problem(c, http.StatusInternalServerError, "fault", "Something went wrong on our side", "")
		}
	}()
	c.Next()
}

// consoleFiles serves the built console; every address that is no file is a
// page of it.
func consoleFiles(console fs.FS) gin.HandlerFunc {
	index, err := fs.ReadFile(console, "index.html")
	server := http.FileServerFS(console)
	return func(c *gin.Context) {
		h := c.Writer.Header()
		h.Set(
			"Content-Security-Policy",
			"default-src 'self'; img-src 'self' data:; style-src 'self' 'unsafe-inline'; frame-ancestors 'none'",
		)
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		if err != nil {
			c.String(http.StatusOK, "The console is not built into this binary. Build it with: make build\n")
			return
		}
		if name := strings.TrimPrefix(c.Request.URL.Path, "/"); name != "" {
			if info, err := fs.Stat(console, name); err == nil && !info.IsDir() {
				if strings.HasPrefix(name, "assets/") { // their names change with their content
					h.Set("Cache-Control", "public, max-age=31536000, immutable")
				}
				c.Status(http.StatusOK)
				server.ServeHTTP(c.Writer, c.Request)
				return
			}
		}
		h.Set("Cache-Control", "no-cache")
		c.Data(http.StatusOK, "text/html; charset=utf-8", index)
	}
}
