package demo

import (
	_ "embed"
	"encoding/json"
	"errors"
	"net"
	"net/http"
	"sync/atomic"

	"calmpigeon.example/client"
)

// gangway is the page on which passengers sign in to their boarding pass, as an application would have it: it sends a
// passcode, checks it, and sends it again. What it knows of one who signs in is the id of the passcode, in a cookie.
type gangway struct {
	pigeon atomic.Pointer[client.Client] // nil: not open yet
}

//go:embed data/boarding.html
var boardingPage []byte

// purpose tells codes that open a boarding pass from others of the same number.
const purpose = "boarding-pass"

// Handler serves page and calls below /boarding/.
func (b *gangway) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /boarding/{$}", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Content-Security-Policy", "default-src 'self'; style-src 'self'; script-src 'unsafe-inline'")
		w.Write(boardingPage)
	})
	mux.HandleFunc("POST /boarding/code", b.calling(b.code))
	mux.HandleFunc("POST /boarding/again", b.calling(b.again))
	mux.HandleFunc("POST /boarding/check", b.calling(b.check))
	return mux
}

// asked is what the page asks.
type asked struct {
	Number string `json:"number"`
	Code   string `json:"code"`
	Anyway bool   `json:"anyway"`
}

// calling reads what the page asks, and answers with what do gives, or with why not in words.
func (b *gangway) calling(do func(http.ResponseWriter, *http.Request, *client.Client, asked) (any, error)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		pigeon := b.pigeon.Load()
		var a asked
		if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<12)).Decode(&a); err != nil || pigeon == nil {
			http.Error(w, "not now", http.StatusServiceUnavailable)
			return
		}
		answer, err := do(w, r, pigeon, a)
		var p *client.Problem
		w.Header().Set("Content-Type", "application/json")
		switch {
		case errors.As(err, &p):
			w.WriteHeader(p.Status)
			answer = map[string]any{"wrong": words(p), "kind": p.Type, "retry_at": p.RetryAt}
		case err != nil:
			http.Error(w, "not now", http.StatusBadGateway)
			return
		}
		json.NewEncoder(w).Encode(answer)
	}
}

// words are what a passenger is told of a refusal.
func words(p *client.Problem) string {
	if len(p.Errors) > 0 && p.Errors[0].Field == "to" {
		return "This is no number that gets texts: " + p.Errors[0].Wrong + "."
	}
	return p.Title + "."
}

func (b *gangway) code(w http.ResponseWriter, r *http.Request, pigeon *client.Client, a asked) (any, error) {
	address, _, _ := net.SplitHostPort(r.RemoteAddr)
	p, err := pigeon.Issue(r.Context(), client.NewPasscode{To: a.Number, Country: "GB", Purpose: purpose, Sender: "LH Boarding",
		Language: r.Header.Get("Accept-Language")[:min(2, len(r.Header.Get("Accept-Language")))], Address: address}, "")
	if err != nil {
		return nil, err
	}
	// Without Secure: the demo is reached by plain HTTP, on this machine.
	signing := http.Cookie{Name: "boarding", Value: p.ID, HttpOnly: true, SameSite: http.SameSiteStrictMode} // #nosec G124
	signing.Path = "/boarding/"
	http.SetCookie(w, &signing)
	return map[string]any{"to": p.Number, "again_at": p.AgainAt, "ends_at": p.EndsAt}, nil
}

// passcode is the id of the passcode that was sent to who asks.
func passcode(r *http.Request) string {
	if c, err := r.Cookie("boarding"); err == nil {
		return c.Value
	}
	return ""
}

func (b *gangway) again(_ http.ResponseWriter, r *http.Request, pigeon *client.Client, a asked) (any, error) {
	p, err := pigeon.Again(r.Context(), passcode(r), a.Anyway)
	return map[string]any{"to": p.Number, "again_at": p.AgainAt, "ends_at": p.EndsAt}, err
}

func (b *gangway) check(_ http.ResponseWriter, r *http.Request, pigeon *client.Client, a asked) (any, error) {
	v, err := pigeon.Check(r.Context(), passcode(r), a.Code)
	answer := map[string]any{"verdict": v.Verdict, "tries_left": v.TriesLeft}
	if v.Verdict == "right" {
		answer["pass"] = "Crossing 0740 to Skerrow · berth 3 · deck B, seat 14"
	}
	return answer, err
}
