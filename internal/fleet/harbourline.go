package fleet

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"net/http"
	"time"
)

// Harbourline is the first practice gateway: one text a request as JSON under
// a bearer key, our reference honoured, signed receipts, a query by its id, and
// a balance.
type Harbourline struct{ *chassis }

// harbourlineWords are its words for what became of a text.
var harbourlineWords = map[string]string{taken: "TAKEN", afloat: "AFLOAT", landed: "LANDED", absent: "NOBODY", invalid: "NONUMBER",
	overdue: "OVERDUE"}

func newHarbourline(f *Fleet) *Harbourline {
	h := &Harbourline{newChassis(f, "harbourline", "hl", 40_000)}
	h.honours, h.tell, h.inbound = true, h.post, h.postInbound
	return h
}

func (h *Harbourline) routes(mux *http.ServeMux) {
	mux.HandleFunc("POST /harbourline/v2/texts", h.keyed(h.submit))
	mux.HandleFunc("GET /harbourline/v2/texts/{id}", h.keyed(h.query))
	mux.HandleFunc("GET /harbourline/v2/account", h.keyed(func(w http.ResponseWriter, r *http.Request) {
		answer(w, http.StatusOK, map[string]any{"left": h.left(), "currency": "EUR"})
	}))
}

func (h *Harbourline) keyed(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if !hmac.Equal([]byte(r.Header.Get("Authorization")), []byte("Bearer "+HarbourlineKey)) {
			refusedKey(w)
			return
		}
		next(w, r)
	}
}

func refusedKey(w http.ResponseWriter) {
	answer(w, http.StatusUnauthorized, map[string]any{"outcome": "refused_key"})
}

func refused(w http.ResponseWriter, status int, code, text string) {
	answer(w, status, map[string]any{"outcome": "refused", "error": map[string]string{"code": code, "text": text}})
}

func (h *Harbourline) submit(w http.ResponseWriter, r *http.Request) {
	in, err := decode[struct {
		From, To, Text, Ref, Report string
		KeepFor                     int `json:"keep_for"`
	}](r)
	switch {
	case err != nil:
		refused(w, http.StatusBadRequest, "bad_request", err.Error())
		return
	case !isNumber(in.To):
		refused(w, http.StatusBadRequest, "bad_number", "to must be a plus sign and digits")
		return
	case in.From == "" || in.Text == "" || in.Ref == "":
		refused(w, http.StatusBadRequest, "bad_request", "from, text and ref are needed")
		return
	case in.KeepFor < 0:
		refused(w, http.StatusBadRequest, "bad_request", "keep_for is seconds")
		return
	case !loopbackOnly(in.Report):
		refused(w, http.StatusBadRequest, "bad_request", "this practice gateway reports to loopback addresses only")
		return
	}
	h.serve(w, r, []offer{{From: in.From, To: in.To, Text: in.Text, Ref: in.Ref, Report: in.Report, KeepFor: in.KeepFor}}, voice{
		taken: func(w http.ResponseWriter, all []verdict) {
			switch e := all[0].Entry; {
			case all[0].Refused == invalid:
				refused(w, http.StatusUnprocessableEntity, "bad_number", "There is no such number")
			case all[0].Refused != "":
				refused(w, http.StatusOK, "bad_text", "The wording is blocked")
			default:
				body := map[string]any{"outcome": "taken", "id": e.ID, "parts": e.Billed}
				if all[0].Again {
					body["repeated"] = true
				}
				answer(w, http.StatusAccepted, body)
			}
		},
		fault: func(w http.ResponseWriter) {
			answer(w, http.StatusInternalServerError, map[string]any{"outcome": "not_taken"})
		},
		limited: func(w http.ResponseWriter) {
			answer(w, http.StatusTooManyRequests, map[string]any{"outcome": "not_taken"})
		},
		noCredit: func(w http.ResponseWriter) {
			answer(w, http.StatusPaymentRequired, map[string]any{"outcome": "not_taken"})
		},
		noKey: refusedKey,
	})
}

// event is what a receipt says.
func (h *Harbourline) event(r report) map[string]any {
	event := map[string]any{"id": r.ID, "status": harbourlineWords[r.Status], "time": r.at().Format(time.RFC3339Nano)}
	if !r.NoRef {
		event["ref"] = r.Ref
	}
	if r.Reason != "" {
		event["reason"] = r.Reason
	}
	return event
}

func (h *Harbourline) post(ctx context.Context, r report) bool {
	secret := HarbourlineReceiptSecret
	if r.Forged {
		secret = "not the secret"
	}
	return h.push(ctx, r.Report, secret, map[string]any{"events": []any{h.event(r)}})
}

// postInbound pushes what somebody wrote back.
func (h *Harbourline) postInbound(ctx context.Context, m written) bool {
	return h.push(ctx, m.Report, HarbourlineReceiptSecret, map[string]any{"back": map[string]any{
		"id": m.ID, "from": m.From, "to": m.To, "text": m.Text, "time": m.At.Format(time.RFC3339Nano)}})
}

func (h *Harbourline) push(ctx context.Context, address, secret string, value any) bool {
	body, _ := json.Marshal(value)
	mac := hmac.New(sha256.New, []byte(secret))
	mac.Write(body)
	request, err := http.NewRequestWithContext(ctx, "POST", address, bytes.NewReader(body))
	if err == nil {
		request.Header.Set("X-Signature", hex.EncodeToString(mac.Sum(nil)))
		request.Header.Set("Content-Type", "application/json")
	}
	return h.deliver(request, err, done)
}

func (h *Harbourline) query(w http.ResponseWriter, r *http.Request) {
	e, ok := h.find(r.PathValue("id"))
	if !ok {
		answer(w, http.StatusNotFound, map[string]any{"error": map[string]any{"code": "no_text", "text": "No such text"}})
		return
	}
	body := h.event(report{Entry: e, NoRef: true})
	answer(w, http.StatusOK, body)
}
