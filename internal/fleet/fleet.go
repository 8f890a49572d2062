// Package fleet is the practice fleet: simulated gateways, networks and
// phones, to try everything on before a real gateway is paid for it. It talks
// to loopback addresses only.
//
// How a gateway behaves towards a number is decided by the number's last two
// digits; see [Endings]. What is left to chance is drawn under a seed.
package fleet

import (
	"context"
	"embed"
	"html/template"
	"log/slog"
	"net/http"
	"strconv"
	"time"
)

// The credentials of the practice gateways. They open nothing but practice.
const (
	HarbourlineKey           = "practice-api-key"
	HarbourlineReceiptSecret = "practice-receipt-secret"
)

//go:embed page
var page embed.FS

var pages = template.Must(template.ParseFS(page, "page/*.html"))

// Fleet is the practice fleet.
type Fleet struct {
	Phones      *Handsets
	Harbourline *Harbourline

	seed   uint64
	agenda *agenda
	client *http.Client
	ctx    context.Context
	log    *slog.Logger
}

// New makes a fleet whose chances are drawn under seed. It works until ctx
// ends.
func New(ctx context.Context, seed uint64, log *slog.Logger) *Fleet {
	f := &Fleet{Phones: newHandsets(), seed: seed, agenda: newAgenda(200_000), ctx: ctx, log: log,
		client: &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 32, IdleConnTimeout: 30 * time.Second}}}
	f.Harbourline = newHarbourline(f, HarbourlineKey, HarbourlineReceiptSecret)
	go f.agenda.run(ctx, 16)
	return f
}

// Handler serves the gateways and the practice phone.
func (f *Fleet) Handler() http.Handler {
	mux := http.NewServeMux()
	f.Harbourline.routes(mux)
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, "/phone", http.StatusSeeOther) })
	mux.HandleFunc("GET /phone", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		pages.ExecuteTemplate(w, "phone.html", nil)
	})
	mux.HandleFunc("GET /endings", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		pages.ExecuteTemplate(w, "endings.html", Endings)
	})
	mux.Handle("GET /page/", http.FileServerFS(page))
	mux.HandleFunc("GET /phones", f.phones)
	mux.HandleFunc("GET /phones/follow", f.followPhones)
	return mux
}

// phones lists handsets as JSON: ?number=+44…&texts=20.
func (f *Fleet) phones(w http.ResponseWriter, r *http.Request) {
	most, err := strconv.Atoi(r.URL.Query().Get("texts"))
	if err != nil || most < 1 {
		most = 20
	}
	answer(w, http.StatusOK, map[string]any{"phones": f.Phones.All(r.URL.Query().Get("number"), most)})
}

// followPhones is a stream of server-sent events, one whenever something
// arrived.
func (f *Fleet) followPhones(w http.ResponseWriter, r *http.Request) {
	arrived, end := f.Phones.watch()
	defer end()
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	flusher := http.NewResponseController(w)
	for {
		if _, err := w.Write([]byte("data: {}\n\n")); err != nil || flusher.Flush() != nil {
			return
		}
		f.pause(r.Context(), 100*time.Millisecond)
		select {
		case <-arrived:
		case <-time.After(15 * time.Second):
		case <-r.Context().Done():
			return
		case <-f.ctx.Done():
			return
		}
	}
}

func (f *Fleet) pause(ctx context.Context, d time.Duration) {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
	case <-t.C:
	}
}
