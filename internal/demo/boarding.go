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
type gangway struct{ pigeon atomic.Pointer[client.Client] } // nil: not open yet

//go:embed data/boarding.html
var boardingPage []byte

// purpose tells codes that open a boarding pass from others of the same number.
const purpose = "boarding-pass"

// asked is what the page asks, of which passcode, and from where.
type asked struct {
	Number, Code, passcode, address, language string
	Anyway                                    bool
}

// Handler serves page and calls below /boarding/.
func (b *gangway) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /boarding/{$}", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Content-Security-Policy", "default-src 'self'; style-src 'self'; script-src 'unsafe-inline'")
		w.Write(boardingPage)
	})
	mux.HandleFunc("POST /boarding/{call}", func(w http.ResponseWriter, r *http.Request) {
		a := asked{language: r.Header.Get("Accept-Language")}
		a.address, _, _ = net.SplitHostPort(r.RemoteAddr)
		if c, err := r.Cookie("boarding"); err == nil {
			a.passcode = c.Value
		}
		pigeon := b.pigeon.Load()
		if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<12)).Decode(&a); err != nil || pigeon == nil {
			http.Error(w, "not now", http.StatusServiceUnavailable)
			return
		}
		answer, err := call(w, r, pigeon, a)
		switch p := (*client.Problem)(nil); {
		case errors.As(err, &p):
			w.WriteHeader(p.Status)
			answer = map[string]any{"wrong": p.Title + ".", "kind": p.Type, "retry_at": p.RetryAt}
			if len(p.Errors) > 0 && p.Errors[0].Field == "to" {
				answer["wrong"] = "This is no number that gets texts: " + p.Errors[0].Wrong + "."
			}
		case err != nil:
			http.Error(w, "not now", http.StatusBadGateway)
			return
		}
		json.NewEncoder(w).Encode(answer)
	})
	return mux
}

// call does what the page asks: it sends a code, sends it again, or checks one.
func call(w http.ResponseWriter, r *http.Request, pigeon *client.Client, a asked) (map[string]any, error) {
	var p client.Passcode
	var err error
	w.Header().Set("Content-Type", "application/json")
	switch r.PathValue("call") {
	case "code":
		p, err = pigeon.Issue(r.Context(), client.NewPasscode{To: a.Number, Country: "GB", Purpose: purpose, Sender: "LH Boarding",
			Language: a.language[:min(2, len(a.language))], Address: a.address}, "")
		if err == nil { // without Secure: the demo is reached by plain HTTP, on this machine
			http.SetCookie(w, &http.Cookie{Name: "boarding", Value: p.ID, Path: "/boarding/", HttpOnly: true,
				SameSite: http.SameSiteStrictMode}) // #nosec G124
		}
	case "again":
		p, err = pigeon.Again(r.Context(), a.passcode, a.Anyway)
	case "check":
		v, err := pigeon.Check(r.Context(), a.passcode, a.Code)
		if v.Verdict == "right" {
			return map[string]any{"verdict": v.Verdict, "pass": "Crossing 0740 to Skerrow · berth 3 · deck B, seat 14"}, err
		}
		return map[string]any{"verdict": v.Verdict, "tries_left": v.TriesLeft}, err
	}
	return map[string]any{"to": p.Number, "again_at": p.AgainAt, "ends_at": p.EndsAt}, err
}
