package fleet

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"
)

// Stillwater is the fourth practice gateway: OAuth 2 client credentials whose
// tokens expire quickly, JSON, only senders leased from it, and no receipts at
// all: it is asked, about many ids at once.
type Stillwater struct {
	*chassis
	mu     sync.Mutex
	tokens map[string]time.Time
	issued int
}

// StillwaterSenders are the senders that the practice account has leased.
var StillwaterSenders = []string{"Lanternholm", "LH Boarding", "+447700900000"}

// stillwaterLife is how long its tokens last.
const stillwaterLife = 4 * time.Second

const stillwaterMost = 100 // ids a query

var stillwaterWords = map[string]string{
	taken:   "pending",
	afloat:  "pending",
	landed:  "received",
	absent:  "unreachable",
	invalid: "bad-number",
	blocked: "bad-content",
}

func newStillwater(f *Fleet) *Stillwater {
	s := &Stillwater{chassis: newChassis(f, "stillwater", "sw", 45_000), tokens: map[string]time.Time{}}
	s.check = func(o offer) string {
		if !slices.Contains(StillwaterSenders, o.From) {
			return "sender not leased"
		}
		return ""
	}
	return s
}

func (s *Stillwater) routes(mux *http.ServeMux) {
	mux.HandleFunc("POST /stillwater/oauth/token", s.token)
	mux.HandleFunc("POST /stillwater/sms", s.keyed(s.submit))
	mux.HandleFunc("POST /stillwater/sms/status", s.keyed(s.status))
	mux.HandleFunc("GET /stillwater/wallet", s.keyed(func(w http.ResponseWriter, r *http.Request) {
		answer(w, http.StatusOK, map[string]any{"wallet": fmt.Sprintf("%.4f", s.left()), "currency": "EUR"})
	}))
}

func (s *Stillwater) token(w http.ResponseWriter, r *http.Request) {
	user, password, _ := r.BasicAuth()
	if r.ParseForm() != nil || user != StillwaterClient || password != StillwaterSecret ||
		r.PostForm.Get("grant_type") != "client_credentials" {
		answer(w, http.StatusUnauthorized, map[string]any{"error": "invalid_client"})
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.issued++
	sum := sha256.Sum256(fmt.Appendf(nil, "%d|%d", s.fleet.seed, s.issued))
	token := "swt-" + hex.EncodeToString(sum[:12])
	now := time.Now()
	for t, until := range s.tokens {
		if until.Before(now) {
			delete(s.tokens, t)
		}
	}
	s.tokens[token] = now.Add(stillwaterLife)
	answer(w, http.StatusOK, map[string]any{"access_token": token, "token_type": "Bearer", "expires_in": int(stillwaterLife.Seconds())})
}

// Revoke ends all tokens before their time.
func (s *Stillwater) Revoke() {
	s.mu.Lock()
	defer s.mu.Unlock()
	clear(s.tokens)
}

// Issued is how many tokens were fetched.
func (s *Stillwater) Issued() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.issued
}

func (s *Stillwater) keyed(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		given := strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")
		s.mu.Lock()
		good := false
		for token, until := range s.tokens {
			good = good || hmac.Equal([]byte(token), []byte(given)) && time.Now().Before(until)
		}
		s.mu.Unlock()
		if !good {
			s.noKey(w)
			return
		}
		next(w, r)
	}
}

func (s *Stillwater) noKey(w http.ResponseWriter) {
	answer(w, http.StatusUnauthorized, map[string]any{"error": "invalid_token"})
}

func (s *Stillwater) submit(w http.ResponseWriter, r *http.Request) {
	in, err := decode[struct {
		Sender    string
		Recipient string
		Content   struct{ Text string }
		TTL       int
	}](r)
	if err != nil || !isNumber(in.Recipient) || in.Content.Text == "" {
		answer(w, http.StatusUnprocessableEntity, map[string]any{"error": "bad-request"})
		return
	}
	status := func(status int, word string) func(http.ResponseWriter) {
		return func(w http.ResponseWriter) { answer(w, status, map[string]any{"error": word}) }
	}
	s.serve(w, r, []offer{{From: in.Sender, To: in.Recipient, Text: in.Content.Text}}, voice{
		taken: func(w http.ResponseWriter, all []verdict) {
			v := all[0]
			if v.Entry == nil {
				word := stillwaterWords[v.Refused]
				if word == "" {
					word = "sender-not-leased"
				}
				answer(w, http.StatusUnprocessableEntity, map[string]any{"error": word})
				return
			}
			answer(
				w,
				http.StatusCreated,
				map[string]any{"message": map[string]any{"id": v.Entry.ID, "units": v.Entry.Billed, "cost": v.Entry.Charge}},
			)
		},
		fault: status(http.StatusInternalServerError, "not-accepted"), limited: status(http.StatusTooManyRequests, "rate"),
		noCredit: status(http.StatusForbidden, "wallet-empty"), noKey: s.noKey,
	})
}

func (s *Stillwater) status(w http.ResponseWriter, r *http.Request) {
	in, err := decode[struct{ IDs []string }](r)
	if err != nil || len(in.IDs) > stillwaterMost {
		answer(w, http.StatusUnprocessableEntity, map[string]any{"error": "1 to 100 ids are expected"})
		return
	}
	list := []map[string]any{}
	for _, id := range in.IDs {
		e, ok := s.find(id)
		if !ok {
			list = append(list, map[string]any{"id": id, "state": "unknown-id"})
			continue
		}
		list = append(list, map[string]any{"id": id, "state": stillwaterWords[e.Status], "changed": e.StatusAt.Format(time.RFC3339)})
	}
	answer(w, http.StatusOK, map[string]any{"messages": list})
}
