package fleet

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"
)

// Harbourline is the first practice gateway: one text a request as JSON under
// a bearer key, our reference honoured, signed receipts, a query by its id.
type Harbourline struct {
	fleet         *Fleet
	key           string
	receiptSecret string

	mu     sync.Mutex
	byRef  map[string]*Entry
	byID   map[string]*Entry
	order  []*Entry
	turned map[string]int // submissions that were turned away, by reference
}

// Entry is what the gateway's own ledger says of one text.
type Entry struct {
	ID          string    `json:"id"`
	Ref         string    `json:"ref"`
	From        string    `json:"from"`
	To          string    `json:"to"`
	Parts       int       `json:"parts"`
	Submissions int       `json:"submissions"` // how often it was handed over, turned away or not
	TakenAt     time.Time `json:"taken_at"`
	Status      string    `json:"status"`
	Reason      string    `json:"reason,omitempty"`
	StatusAt    time.Time `json:"status_at"`

	Report string `json:"-"` // where its receipts go
}

func newHarbourline(f *Fleet, key, receiptSecret string) *Harbourline {
	return &Harbourline{fleet: f, key: key, receiptSecret: receiptSecret,
		byRef: map[string]*Entry{}, byID: map[string]*Entry{}, turned: map[string]int{}}
}

func (h *Harbourline) routes(mux *http.ServeMux) {
	mux.HandleFunc("POST /harbourline/v2/texts", h.keyed(h.submit))
	mux.HandleFunc("GET /harbourline/v2/texts/{id}", h.keyed(h.query))
	mux.HandleFunc("GET /harbourline/ledger", h.ledger)
}

func (h *Harbourline) keyed(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if !hmac.Equal([]byte(r.Header.Get("Authorization")), []byte("Bearer "+h.key)) {
			answer(w, http.StatusUnauthorized, map[string]any{"outcome": "refused_key"})
			return
		}
		next(w, r)
	}
}

func answer(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(body)
}

func refused(w http.ResponseWriter, status int, code, text string) {
	answer(w, status, map[string]any{"outcome": "refused", "error": map[string]string{"code": code, "text": text}})
}

func (h *Harbourline) submit(w http.ResponseWriter, r *http.Request) {
	var in struct{ From, To, Text, Ref, Report string }
	if err := json.NewDecoder(io.LimitReader(r.Body, 1<<20)).Decode(&in); err != nil {
		refused(w, http.StatusBadRequest, "bad_request", err.Error())
		return
	}
	if len(in.To) < 9 || in.To[0] != '+' || strings.Trim(in.To[1:], "0123456789") != "" {
		refused(w, http.StatusBadRequest, "bad_number", "to must be a plus sign and digits")
		return
	}
	if in.From == "" || in.Text == "" || in.Ref == "" {
		refused(w, http.StatusBadRequest, "bad_request", "from, text and ref are needed")
		return
	}
	if u, err := url.Parse(in.Report); in.Report != "" && (err != nil || !loopback(u.Hostname())) {
		refused(w, http.StatusBadRequest, "bad_request", "this practice gateway reports to loopback addresses only")
		return
	}
	if h.fleet.agenda.full() {
		answer(w, http.StatusServiceUnavailable, map[string]any{"outcome": "not_taken"})
		return
	}
	ending := endingOf(in.To)
	h.mu.Lock()
	known := h.byRef[in.Ref]
	if known != nil {
		known.Submissions++
	}
	turned := h.turned[in.Ref]
	h.mu.Unlock()
	if known != nil { // the same reference twice is one text; its id never changes
		answer(w, http.StatusAccepted, map[string]any{"outcome": "taken", "id": known.ID, "parts": known.Parts, "repeated": true})
		return
	}
	turnAway := func() {
		h.mu.Lock()
		h.turned[in.Ref]++
		h.mu.Unlock()
	}
	switch {
	case ending == endInvalid:
		refused(w, http.StatusUnprocessableEntity, "bad_number", "There is no such number")
		return
	case ending == endFalseSuccess:
		refused(w, http.StatusOK, "bad_text", "The wording is blocked")
		return
	case ending == endFault, ending == endFaultOnce && turned == 0:
		turnAway()
		answer(w, http.StatusInternalServerError, map[string]any{"outcome": "not_taken"})
		return
	case ending == endLimited && turned == 0:
		turnAway()
		w.Header().Set("Retry-After", "1")
		answer(w, http.StatusTooManyRequests, map[string]any{"outcome": "not_taken"})
		return
	case ending == endCutBefore && turned == 0:
		turnAway()
		panic(http.ErrAbortHandler)
	}
	e := h.take(in.From, in.To, in.Text, in.Ref, in.Report, ending)
	switch ending {
	case endMute:
		<-r.Context().Done() // until the other side gives up
		return
	case endCutAfter:
		panic(http.ErrAbortHandler)
	case endGarbled:
		w.Header().Set("Content-Type", "text/html")
		w.WriteHeader(http.StatusBadGateway)
		io.WriteString(w, "<html><h1>Bad gateway</h1></html>")
		return
	case endSlow:
		h.fleet.pause(r.Context(), time.Second)
	case endEarly:
		h.pushNow(r.Context(), e)
	}
	answer(w, http.StatusAccepted, map[string]any{"outcome": "taken", "id": e.ID, "parts": e.Parts})
}

func loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// take writes a text into the ledger and sets its fate going.
func (h *Harbourline) take(from, to, text, ref, report, ending string) *Entry {
	h.mu.Lock()
	if known := h.byRef[ref]; known != nil { // both came at the same time
		known.Submissions++
		h.mu.Unlock()
		return known
	}
	n := len(h.order) + 1
	now := time.Now().UTC()
	// The id follows from the reference, so that it means the same text after
	// the fleet was restarted.
	id := sha256.Sum256(fmt.Appendf(nil, "%d|%s", h.fleet.seed, ref))
	e := &Entry{ID: "hl-" + hex.EncodeToString(id[:6]), Ref: ref, From: from, To: to, Submissions: h.turned[ref] + 1, TakenAt: now, Status: "TAKEN", StatusAt: now, Report: report}
	shorts := cutUp(from, to, text, byte(n))
	e.Parts = len(shorts)
	h.byRef[ref], h.byID[e.ID], h.order = e, e, append(h.order, e)
	h.mu.Unlock()

	later := h.fleet.agenda.in
	wait := h.fleet.between(200*time.Millisecond, 900*time.Millisecond, "network", ref)
	arrive := func() {
		for _, s := range shorts {
			if err := h.fleet.Phones.receive(s, time.Now().UTC()); err != nil {
				h.fleet.log.Error("handset cannot read a short message", "number", to, "error", err)
			}
		}
		h.status(e, "LANDED", "")
	}
	end := func(wait time.Duration, status, reason string, receipts int) {
		later(wait, func() {
			if status == "LANDED" {
				arrive()
			} else {
				h.status(e, status, reason)
			}
			for range receipts {
				h.push(h.event(e, true), e.Report, 0, h.receiptSecret)
			}
		})
	}
	switch ending {
	case endAbsent:
		end(wait, "NOBODY", "The handset is switched off", 1)
	case endLost:
		end(wait, "LANDED", "", 0)
	case endTwice:
		end(wait, "LANDED", "", 2)
	case endSilent:
		end(wait, "AFLOAT", "", 0)
	case endEarly:
		arrive() // pushed by submit, before it answers
	case endMute:
		later(wait, func() { arrive(); h.push(h.event(e, false), e.Report, 0, h.receiptSecret) })
	case endBackwards:
		later(wait, func() {
			h.status(e, "AFLOAT", "")
			afloat := h.event(e, true)
			arrive()
			h.push(h.event(e, true), e.Report, 0, h.receiptSecret)
			later(400*time.Millisecond, func() { h.push(afloat, e.Report, 0, h.receiptSecret) })
		})
	case endContested:
		end(wait, "NOBODY", "The handset is switched off", 1)
		end(wait+500*time.Millisecond, "LANDED", "", 1)
	case endForged:
		later(50*time.Millisecond, func() {
			forged := h.event(e, true)
			forged["status"], forged["reason"] = "NONUMBER", "Forged"
			h.push(forged, e.Report, giveUp, "not the secret")
		})
		end(wait, "LANDED", "", 1)
	case endSlow:
		end(3*time.Second, "LANDED", "", 1)
	default:
		end(wait, "LANDED", "", 1)
	}
	return e
}

func (h *Harbourline) status(e *Entry, status, reason string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	e.Status, e.Reason, e.StatusAt = status, reason, time.Now().UTC()
}

// event is what a receipt says of a text as it is.
func (h *Harbourline) event(e *Entry, withRef bool) map[string]any {
	h.mu.Lock()
	defer h.mu.Unlock()
	event := map[string]any{"id": e.ID, "status": e.Status, "time": e.StatusAt.Format(time.RFC3339Nano)}
	if withRef {
		event["ref"] = e.Ref
	}
	if e.Reason != "" {
		event["reason"] = e.Reason
	}
	return event
}

// giveUp is how many times a receipt is pushed before the gateway gives up.
const giveUp = 60

// push delivers a receipt, and tries again later when it is not taken.
func (h *Harbourline) push(event map[string]any, to string, tries int, secret string) {
	if to == "" {
		return
	}
	ctx, cancel := context.WithTimeout(h.fleet.ctx, 5*time.Second)
	defer cancel()
	if h.post(ctx, event, to, secret) || tries >= giveUp {
		return
	}
	wait := min(250*time.Millisecond<<min(tries, 4), 2*time.Second)
	h.fleet.agenda.in(wait, func() { h.push(event, to, tries+1, secret) })
}

func (h *Harbourline) pushNow(ctx context.Context, e *Entry) {
	if e.Report != "" && !h.post(ctx, h.event(e, false), e.Report, h.receiptSecret) {
		h.push(h.event(e, false), e.Report, 1, h.receiptSecret)
	}
}

func (h *Harbourline) post(ctx context.Context, event map[string]any, to, secret string) bool {
	body, _ := json.Marshal(map[string]any{"events": []any{event}})
	request, err := http.NewRequestWithContext(ctx, "POST", to, bytes.NewReader(body))
	if err != nil {
		return false
	}
	mac := hmac.New(sha256.New, []byte(secret))
	mac.Write(body)
	request.Header.Set("X-Signature", hex.EncodeToString(mac.Sum(nil)))
	request.Header.Set("Content-Type", "application/json")
	response, err := h.fleet.client.Do(request)
	if err != nil {
		return false
	}
	io.Copy(io.Discard, io.LimitReader(response.Body, 1<<16))
	response.Body.Close()
	return response.StatusCode < 300
}

func (h *Harbourline) query(w http.ResponseWriter, r *http.Request) {
	h.mu.Lock()
	defer h.mu.Unlock()
	e := h.byID[r.PathValue("id")]
	if e == nil {
		answer(w, http.StatusNotFound, map[string]any{})
		return
	}
	body := map[string]any{"id": e.ID, "status": e.Status, "time": e.StatusAt.Format(time.RFC3339Nano)}
	if e.Reason != "" {
		body["reason"] = e.Reason
	}
	answer(w, http.StatusOK, body)
}

// Entries is the gateway's own account of what it took, in that order.
func (h *Harbourline) Entries() []Entry {
	h.mu.Lock()
	defer h.mu.Unlock()
	entries := make([]Entry, len(h.order))
	for i, e := range h.order {
		entries[i] = *e
	}
	return entries
}

// ledger shows the entries.
func (h *Harbourline) ledger(w http.ResponseWriter, r *http.Request) {
	answer(w, http.StatusOK, map[string]any{"entries": h.Entries()})
}
