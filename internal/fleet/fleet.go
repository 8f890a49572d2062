// Package fleet is the practice fleet: simulated gateways, networks and
// phones, to try everything on before a real gateway is paid for it. It talks
// to loopback addresses only.
//
// How a gateway behaves towards a number is decided by the number's last two
// digits; see [Endings]. What is left to chance is drawn under a seed.
package fleet

import (
	"context"
	"crypto/rand"
	"embed"
	"html/template"
	"log/slog"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"
)

// The credentials of the practice gateways. They open nothing but practice.
const (
	HarbourlineKey           = "practice-api-key"
	HarbourlineReceiptSecret = "practice-receipt-secret"
	SandbankUser             = "practice-user"
	SandbankPassword         = "practice-pass & word"
	LongshoreAccount         = "practice-account"
	LongshoreToken           = "practice:token/with=signs"
	StillwaterClient         = "practice-client"
	StillwaterSecret         = "practice-client-secret"
	OldpierKey               = "practice-key-5"
	OldpierSecret            = "practice-secret-5"
	CommonquayKey            = "practice-quay-key"
	StamphouseKey            = "practice-stamp-key"
	StamphouseUser           = "practice-hook"
	StamphousePassword       = "practice-hook-password"
	WaxsealKeyID             = "practice-key-id"
	WaxsealSigningKey        = "practice-signing-key"
)

//go:embed page
var page embed.FS

var pages = template.Must(template.ParseFS(page, "page/*.html"))

// Fleet is the practice fleet.
type Fleet struct {
	Phones      *Handsets
	Harbourline *Harbourline
	Sandbank    *Sandbank
	Longshore   *Longshore
	Stillwater  *Stillwater
	Oldpier     *Oldpier
	Commonquay  *Commonquay
	Stamphouse  *Stamphouse
	Waxseal     *Waxseal
	Booking     *App

	gateways []*chassis
	lastMu   sync.Mutex
	last     map[string]lastText // that reached a handset

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
	f.last, f.Booking = map[string]lastText{}, &App{last: map[string]string{}}
	f.Harbourline, f.Sandbank, f.Longshore, f.Stillwater = newHarbourline(f), newSandbank(f), newLongshore(f), newStillwater(f)
	f.Oldpier, f.Commonquay, f.Stamphouse, f.Waxseal = newOldpier(f), newCommonquay(f), newStamphouse(f), newWaxseal(f)
	go f.agenda.run(ctx, 16)
	return f
}

// Handler serves the gateways and the practice phone.
func (f *Fleet) Handler() http.Handler {
	mux := http.NewServeMux()
	for _, g := range []interface{ routes(*http.ServeMux) }{f.Harbourline, f.Sandbank, f.Longshore, f.Stillwater, f.Oldpier, f.Commonquay, f.Stamphouse, f.Waxseal} {
		g.routes(mux)
	}
	f.moodRoutes(mux)
	f.appRoutes(mux)
	mux.HandleFunc("POST /phones/{number}/reply", f.reply)
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

// Gateway returns a gateway by its name, or nil.
func (f *Fleet) Gateway(name string) *chassis {
	for _, c := range f.gateways {
		if c.Name == name {
			return c
		}
	}
	return nil
}

// lastText is the last text that reached a handset.
type lastText struct {
	through *chassis
	from    string
	report  string
}

func (f *Fleet) noteSender(number string, c *chassis, e *Entry) {
	f.lastMu.Lock()
	defer f.lastMu.Unlock()
	if len(f.last) >= handsetsMost {
		clear(f.last)
	}
	f.last[number] = lastText{c, e.From, e.Report}
}

// written is what somebody wrote back from a handset.
type written struct {
	ID, From, To, Text string
	At                 time.Time
	Report             string // where it is pushed
}

// reply writes back from a handset to whoever wrote last: {"text": "…"}.
func (f *Fleet) reply(w http.ResponseWriter, r *http.Request) {
	in, err := decode[struct{ Text string }](r)
	number := r.PathValue("number")
	f.lastMu.Lock()
	last, ok := f.last[number]
	f.lastMu.Unlock()
	switch {
	case err != nil || in.Text == "":
		answer(w, http.StatusUnprocessableEntity, map[string]any{"error": "accepted is {\"text\": \"…\"}"})
	case !ok:
		answer(w, http.StatusNotFound, map[string]any{"error": "nobody has written to " + number})
	case last.through.inbound == nil:
		answer(w, http.StatusConflict, map[string]any{"error": last.through.Name + " takes no replies back"})
	case strings.Trim(strings.TrimPrefix(last.from, "tel:"), "+0123456789") != "":
		answer(w, http.StatusConflict, map[string]any{"error": last.from + " is a name: nobody can write back to one"})
	case !last.through.inbound(r.Context(), written{
		ID: "in-" + rand.Text()[:12], From: number, To: last.from, Text: in.Text, At: time.Now().UTC(), Report: last.report,
	}):
		answer(w, http.StatusBadGateway, map[string]any{"error": "the reply was not taken at the other side"})
	default:
		w.WriteHeader(http.StatusNoContent)
	}
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
