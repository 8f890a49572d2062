// Package api is the HTTP API: it parses, calls the engine and answers.
package api

import (
	"cmp"
	"context"
	_ "embed"
	"errors"
	"io/fs"
	"log/slog"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/engine"
	"calmpigeon.example/internal/engine/batches"
	"calmpigeon.example/internal/engine/gate"
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
	router   http.Handler    // itself, to be asked for the pages of an export
	pages    chan struct{}   // one for each page that is made for an export
}

// New makes the handler of the whole service: API, receipts and console.
// phoneURL is the practice phone's, empty if there is none; streams end when
// closing is closed.
func New(e *engine.Engine, console fs.FS, phoneURL string, shares Shares, closing <-chan struct{}, log *slog.Logger) *gin.Engine {
	gin.SetMode(gin.ReleaseMode)
	a := &API{engine: e, log: log, phoneURL: phoneURL, closing: closing, pages: make(chan struct{}, pagesMost)}
	r := gin.New()
	a.router = r
	r.UseRawPath, r.UnescapePathValues = true, true
	r.HandleMethodNotAllowed = true
	r.Use(unhurried, a.log1, a.recover, a.reserved)
	r.NoMethod(func(c *gin.Context) {
		problem(c, http.StatusMethodNotAllowed, "method-not-allowed", "This address does not take "+c.Request.Method, "")
	})

	r.GET("/healthz", plainly, a.health)
	r.GET("/openapi.yaml", func(c *gin.Context) { c.Data(http.StatusOK, "application/yaml", Description) })
	r.GET("/receipts/:gateway/:secret", plainly, a.receipt)
	r.POST("/receipts/:gateway/:secret", plainly, a.receipt)
	r.POST("/v1/session", plainly, a.signIn)
	r.DELETE("/v1/session", plainly, a.signOut)

	checking, trying, setting := a.atOnce(checksMost), a.atOnce(trialsMost), a.atOnce(setupsMost)
	v1 := r.Group("/v1", plainly, a.needKey, a.within(shares.Requests), a.legible, a.asked)
	lasting := a.within(shares.Streams)
	v1.GET("/session", a.session)
	v1.POST("/messages", a.sends, a.send)
	v1.GET("/messages", a.find)
	v1.GET("/messages/follow", lasting, a.followAll)
	v1.GET("/messages/:id", a.message)
	v1.GET("/messages/:id/follow", lasting, a.follow)
	v1.POST("/messages/:id/cancel", a.cancel)
	v1.POST("/messages/:id/stop", a.stop)
	v1.POST("/messages/:id/send-at", a.sendAt)
	v1.GET("/attention", a.attention)
	v1.POST("/decisions", a.decisions)
	v1.POST("/chase", a.chase)
	v1.GET("/recovery", a.recovery)
	v1.POST("/recovery/ask", a.recoveryAsk)
	v1.POST("/recovery/decide", a.recoveryDecide)
	v1.POST("/recovery/lift", a.liftQuarantine)
	v1.GET("/strays", a.strays)
	v1.GET("/strays/:id", a.stray)
	v1.POST("/strays/attach", a.attachStrays)
	v1.POST("/strays/discard", a.discardStrays)
	v1.POST("/strays/restore", a.restoreStrays)
	v1.GET("/statements", a.statements)
	v1.POST("/statements", a.takeStatement)
	v1.GET("/statements/:id", a.statement)
	v1.GET("/statements/:id/lines", a.statementLines)
	v1.GET("/statements/:id/ours", a.statementOurs)
	v1.POST("/statements/:id/withdraw", a.withdrawStatement)
	v1.GET("/events", a.events)
	v1.GET("/events/types", a.eventTypes)
	v1.GET("/events/:id", a.event)
	v1.POST("/events/resend", a.resendEvents)
	v1.GET("/exports/*list", a.export)
	v1.GET("/tally", a.tally)
	v1.GET("/arrivals", a.arrivals)
	v1.GET("/money", a.money)
	v1.GET("/passcodes", a.passcodes)
	v1.POST("/passcodes", a.sends, a.issuePasscode)
	v1.POST("/passcodes/check", a.checkCurrentPasscode)
	v1.GET("/passcodes/:id", a.passcode)
	v1.DELETE("/passcodes/:id", a.endPasscode)
	v1.POST("/passcodes/:id/check", a.checkPasscode)
	v1.POST("/passcodes/:id/again", a.sends, a.passcodeAgain)
	v1.GET("/passcode-funnel", a.passcodeFunnel)
	v1.POST("/passcode-suspicion", a.passcodeSuspicion)
	v1.GET("/passcode-alarms", a.passcodeAlarms)
	v1.GET("/passcode-alarms/:id", a.passcodeAlarm)
	v1.GET("/passcode-blocks", a.passcodeBlocks)
	v1.GET("/statement-schedules", a.statementSchedules)
	v1.POST("/gateways/:name/statement", a.fetchStatement)
	v1.GET("/opt-outs", a.optOuts)
	v1.POST("/opt-outs", a.addOptOuts)
	v1.DELETE("/opt-outs/:number", a.removeOptOut)
	v1.GET("/recipient-lists", a.recipientLists)
	v1.GET("/recipient-lists/:list", a.recipientList)
	v1.DELETE("/recipient-lists/:list", a.removeRecipientList)
	v1.GET("/recipient-lists/:list/recipients", a.recipients)
	v1.POST("/recipient-lists/:list/recipients", a.saveRecipients)
	v1.DELETE("/recipient-lists/:list/recipients", a.removeRecipients)
	v1.GET("/batches", a.batches)
	v1.POST("/batches", a.newBatch)
	v1.GET("/batches/:id", a.batch)
	v1.PUT("/batches/:id", a.changeBatch)
	v1.DELETE("/batches/:id", a.removeBatch)
	v1.GET("/batches/:id/rows", a.batchRows)
	v1.POST("/batches/:id/rows", a.appendRows)
	v1.POST("/batches/:id/recipients", a.inviteRecipients)
	v1.POST("/batches/:id/corrections", a.correctRows)
	v1.POST("/batches/:id/rehearse", a.rehearseBatch)
	v1.POST("/batches/:id/try", a.sends, a.tryBatch)
	v1.POST("/batches/:id/forecast", a.forecastBatch)
	v1.POST("/batches/:id/launch", a.sends, a.launchBatch)
	v1.POST("/batches/:id/pause", a.batchDo((*batches.Batches).Pause))
	v1.POST("/batches/:id/resume", a.sends, a.batchDo((*batches.Batches).Resume))
	v1.POST("/batches/:id/release", a.sends, a.batchDo((*batches.Batches).Release))
	v1.POST("/batches/:id/cancel", a.batchDo((*batches.Batches).Cancel))
	v1.POST("/batches/:id/pace", a.paceBatch)
	v1.POST("/batches/:id/approve", a.sends, a.approveBatch)
	v1.POST("/batches/:id/budget", a.sends, a.budgetBatch)
	v1.POST("/batches/:id/retry", a.sends, a.retryBatch)
	v1.GET("/batches/:id/result", a.batchResult)
	v1.GET("/batches/:id/course", a.batchCourse)
	v1.GET("/changes", a.changes)
	set := v1.Group("", a.acting)
	set.GET("/gateways", a.gateways)
	set.POST("/gateways", a.addGateway)
	set.GET("/gateways/:name", a.gateway)
	set.PATCH("/gateways/:name", a.changeGateway)
	set.DELETE("/gateways/:name", a.removeGateway)
	set.POST("/gateways/:name/pause", a.pauseGateway)
	set.POST("/gateways/:name/resume", a.resumeGateway)
	v1.POST("/gateways/:name/test", a.sends, trying, a.testGateway)
	set.GET("/receivers", a.receivers)
	set.POST("/receivers", a.addReceiver)
	set.GET("/receivers/:name", a.receiver)
	set.PATCH("/receivers/:name", a.changeReceiver)
	set.DELETE("/receivers/:name", a.removeReceiver)
	set.POST("/receivers/:name/pause", a.pauseReceiver)
	set.POST("/receivers/:name/resume", a.resumeReceiver)
	set.POST("/receivers/:name/rotate", a.rotateReceiver)
	v1.POST("/receivers/:name/test", a.sends, trying, a.testReceiver)
	v1.POST("/receivers/follow", a.followEvents)
	v1.POST("/receivers/:name/fetch", lasting, a.fetchEvents)
	v1.GET("/dialects", checking, a.dialects)
	v1.POST("/dialects/check", checking, a.checkDialect)
	v1.POST("/dialects/try", a.sends, trying, a.tryDialect)
	set.GET("/setup", setting, a.exportSetup)
	set.PUT("/setup", setting, a.importSetup)
	set.GET("/routes", a.routes)
	set.PUT("/routes", a.putRoutes)
	set.GET("/passcode-limits", a.passcodeLimits)
	set.PUT("/passcode-limits", a.setPasscodeLimits)
	set.GET("/passcode-rules", a.passcodeRules)
	set.PUT("/passcode-rules", a.setPasscodeRules)
	set.POST("/passcode-alarms/:id/lift", a.liftPasscodeAlarm)
	set.POST("/passcode-alarms/:id/restore", a.restorePasscodeAlarm)
	set.POST("/passcode-alarms/:id/act", a.actOnPasscodeAlarm)
	set.POST("/passcode-blocks", a.addPasscodeBlock)
	set.POST("/passcode-blocks/:id/lift", a.liftPasscodeBlock)
	v1.GET("/inbound", a.inbound)
	v1.GET("/conversations", a.conversations)
	v1.GET("/conversations/:number", a.conversation)
	v1.POST("/conversations/:number", a.sends, a.answerConversation)
	v1.POST("/conversations/:number/done", a.conversationDone)
	v1.GET("/flaws", a.flaws)
	set.GET("/senders", a.senders)
	set.POST("/senders", a.putSender)
	set.PUT("/senders/:sender", a.putSender)
	set.DELETE("/senders/:sender", a.removeSender)
	set.GET("/gateways/:name/prices", a.prices)
	set.PUT("/gateways/:name/prices", a.putPrices)
	v1.POST("/weigh", a.weigh)
	v1.POST("/numbers", a.numbers)
	set.GET("/rules", a.rules)
	set.GET("/rules/export", a.exportRules)
	set.POST("/rules/import", a.importRules)
	set.GET("/rules/:country", a.rule)
	set.PUT("/rules/:country", a.putRule)
	set.DELETE("/rules/:country", a.resetRule)
	set.GET("/templates", a.templates)
	set.POST("/templates", a.putTemplate)
	v1.POST("/templates/weigh", a.weighTemplate)
	set.GET("/templates/:name", a.template)
	set.PUT("/templates/:name", a.putTemplate)
	set.DELETE("/templates/:name", a.removeTemplate)
	set.GET("/keys", a.keys)
	set.POST("/keys", a.newKey)
	set.DELETE("/keys/:id", a.revokeKey)

	files := newConsoleFiles(console)
	r.NoRoute(func(c *gin.Context) {
		path, reads := c.Request.URL.Path, c.Request.Method == http.MethodGet || c.Request.Method == http.MethodHead
		if strings.Contains(path, "//") || !files.has(path) || !reads {
			problem(c, http.StatusNotFound, "not-found", "There is nothing at this address", "")
			return
		}
		files.serve(c)
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
	if a.engine.Gate.Outdated() {
		a.refuse(c, gate.ErrOutdated)
		return
	}
	h := client.Health{Status: "ok"}
	if !a.engine.Gate.Open() {
		h.Status = "quarantine" // it takes receipts, so it is to be kept in service
	}
	h.Workbooks.Reading, h.Workbooks.Waiting = a.engine.Sheets.Books()
	c.JSON(http.StatusOK, h)
}

// meantKey marks a request that is refused with a 5xx although nothing is wrong on our side.
const meantKey = "meant"

// log1 logs one request, by the pattern of its address: addresses hold numbers, ids and secrets.
func (a *API) log1(c *gin.Context) {
	started := time.Now()
	c.Next()
	level := slog.LevelDebug
	if c.Writer.Status() >= 500 && !c.GetBool(meantKey) {
		level = slog.LevelError
	}
	path := cmp.Or(c.FullPath(), "none of ours")
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

// pages are the pages of the console, by the first part of their address.
var pages = map[string]bool{
	"":           true,
	"send":       true,
	"messages":   true,
	"batches":    true,
	"recipients": true,
	"templates":  true,
	"gateways":   true,
	"dialects":   true,
	"senders":    true,
	"optouts":    true,
	"strays":     true,
	"statements": true,
	"arrivals":   true,
	"money":      true,
	"passcodes":  true,
	"events":     true,
	"replies":    true,
	"countries":  true,
	"prices":     true,
	"changes":    true,
}

// consoleFiles is the built console.
type consoleFiles struct {
	files  fs.FS
	server http.Handler
	index  []byte
}

func newConsoleFiles(console fs.FS) *consoleFiles {
	index, _ := fs.ReadFile(console, "index.html") // without it, it is not built in
	return &consoleFiles{console, http.FileServerFS(console), index}
}

// file reports whether there is a file at a path.
func (f *consoleFiles) file(path string) bool {
	info, err := fs.Stat(f.files, strings.TrimPrefix(path, "/"))
	return err == nil && !info.IsDir()
}

// has reports whether a path is a file or a page of the console. What looks like an
// address of an API is neither.
func (f *consoleFiles) has(path string) bool {
	first, _, _ := strings.Cut(strings.TrimPrefix(path, "/"), "/")
	return pages[first] || f.file(path)
}

// serve answers with a file, or with the page that becomes whatever page it is.
func (f *consoleFiles) serve(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("Content-Security-Policy", "default-src 'self'; img-src 'self' data:; style-src 'self' 'unsafe-inline'; frame-ancestors 'none'")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	path := c.Request.URL.Path
	switch {
	case f.index == nil:
		c.String(http.StatusOK, "The console is not built into this binary. Build it with: make build\n")
	case path != "/" && f.file(path):
		if strings.HasPrefix(path, "/assets/") { // their names change with their content
			h.Set("Cache-Control", "public, max-age=31536000, immutable")
		}
		c.Status(http.StatusOK)
		f.server.ServeHTTP(c.Writer, c.Request)
	default:
		h.Set("Cache-Control", "no-cache")
		c.Data(http.StatusOK, "text/html; charset=utf-8", f.index)
	}
}
