package fleet

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"sync"
	"time"
)

// Longshore is the third practice gateway: an array of up to 1,000 texts under
// Basic authorization, each with an outcome of its own, and receipts in batches
// as an array.
type Longshore struct {
	*chassis
	mu    sync.Mutex
	batch map[string][]map[string]any // by address
}

var longshoreWords = map[string]int{taken: 10, afloat: 20, landed: 30, absent: 41, invalid: 42, blocked: 43}

const longshoreMost = 1000

func newLongshore(f *Fleet) *Longshore {
	l := &Longshore{chassis: newChassis(f, "longshore", "ls", 30_000), batch: map[string][]map[string]any{}}
	l.tell, l.inbound = l.collect, l.postInbound
	return l
}

func (l *Longshore) routes(mux *http.ServeMux) {
	mux.HandleFunc("POST /longshore/batches", l.keyed(l.submit))
	mux.HandleFunc("GET /longshore/balance", l.keyed(func(w http.ResponseWriter, r *http.Request) {
		answer(w, http.StatusOK, map[string]any{"balance": map[string]any{"units": l.left(), "iso": "EUR"}})
	}))
	mux.HandleFunc("GET /longshore/messages/{id}", l.keyed(func(w http.ResponseWriter, r *http.Request) {
		e, ok := l.find(r.PathValue("id"))
		if !ok {
			answer(w, http.StatusNotFound, map[string]any{"reason": "unknown id"})
			return
		}
		answer(w, http.StatusOK, l.event(report{Entry: e}))
	}))
}

func (l *Longshore) keyed(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if user, password, ok := r.BasicAuth(); !ok || user != LongshoreAccount || password != LongshoreToken {
			l.noKey(w)
			return
		}
		next(w, r)
	}
}

func (l *Longshore) noKey(w http.ResponseWriter) {
	w.Header().Set("WWW-Authenticate", `Basic realm="longshore"`)
	answer(w, http.StatusUnauthorized, map[string]any{"reason": "account or token"})
}

func (l *Longshore) submit(w http.ResponseWriter, r *http.Request) {
	type item struct {
		To, From, Body, Tag string
		Notify              string
	}
	in, err := decode[[]item](r)
	if err != nil || len(in) == 0 || len(in) > longshoreMost {
		answer(w, http.StatusBadRequest, map[string]any{"reason": "an array of 1 to 1000 is expected"})
		return
	}
	offers := make([]offer, 0, len(in))
	bad := map[int]string{}
	at := make([]int, 0, len(in))
	for i, m := range in {
		switch {
		case !isNumber(m.To):
			bad[i] = "to"
		case m.From == "" || m.Body == "" || !loopbackOnly(m.Notify):
			bad[i] = "from, body or notify"
		default:
			offers, at = append(offers, offer{From: m.From, To: m.To, Text: m.Body, Ref: m.Tag, Report: m.Notify}), append(at, i)
		}
	}
	status := func(status int, reason string) func(http.ResponseWriter) {
		return func(w http.ResponseWriter) { answer(w, status, map[string]any{"reason": reason}) }
	}
	l.serve(w, r, offers, voice{
		taken: func(w http.ResponseWriter, all []verdict) {
			results := make([]map[string]any, len(in))
			for i := range in {
				if why, refused := bad[i]; refused {
					results[i] = map[string]any{"ok": false, "tag": in[i].Tag, "status": 40, "reason": why}
				}
			}
			for i, v := range all {
				one := map[string]any{"ok": v.Entry != nil, "tag": v.Offer.Ref}
				if v.Entry != nil {
					one["id"], one["status"], one["segments"], one["charge"] = v.Entry.ID, longshoreWords[taken], v.Entry.Billed, v.Entry.Charge
				} else {
					one["status"] = longshoreWords[v.Refused]
				}
				results[at[i]] = one
			}
			answer(w, http.StatusMultiStatus, map[string]any{"results": results})
		},
		fault: status(http.StatusServiceUnavailable, "nothing accepted"), limited: status(http.StatusTooManyRequests, "slow down"),
		noCredit: status(http.StatusPaymentRequired, "balance"), noKey: l.noKey,
	})
}

func (l *Longshore) event(r report) map[string]any {
	return map[string]any{"id": r.ID, "tag": r.Ref, "status": longshoreWords[r.Status], "at": r.at().UnixMilli()}
}

// collect keeps receipts for a moment, to push them together.
func (l *Longshore) collect(ctx context.Context, r report) bool {
	address := r.Report
	if r.Forged {
		address = elsewhere(address)
	}
	event := l.event(r)
	if r.NoRef {
		delete(event, "tag")
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.batch[address] = append(l.batch[address], event); len(l.batch[address]) == 1 {
		l.fleet.agenda.in(150*time.Millisecond, func() { l.flush(address, 0) })
	}
	return true
}

// postInbound pushes what somebody wrote back.
func (l *Longshore) postInbound(ctx context.Context, m written) bool {
	return l.push(ctx, m.Report, map[string]any{"back": []any{
		map[string]any{"id": m.ID, "from": m.From, "to": m.To, "body": m.Text, "at": m.At.UnixMilli()}}})
}

func (l *Longshore) push(ctx context.Context, address string, value any) bool {
	body, _ := json.Marshal(value)
	request, err := http.NewRequestWithContext(ctx, "POST", address, bytes.NewReader(body))
	if err == nil {
		request.Header.Set("Content-Type", "application/json")
	}
	return l.deliver(request, err, done)
}

func (l *Longshore) flush(address string, tries int) {
	l.mu.Lock()
	events := l.batch[address]
	delete(l.batch, address)
	l.mu.Unlock()
	if len(events) == 0 {
		return
	}
	ctx, cancel := context.WithTimeout(l.fleet.ctx, 5*time.Second)
	defer cancel()
	if l.push(ctx, address, events) || tries >= giveUp {
		return
	}
	l.mu.Lock()
	l.batch[address] = append(events, l.batch[address]...)
	l.mu.Unlock()
	l.fleet.agenda.in(min(250*time.Millisecond<<min(tries, 4), 2*time.Second), func() { l.flush(address, tries+1) })
}
