package fleet

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"
)

// Ways to misbehave that no number stands for.
const (
	howLimitedBare   = "429 without Retry-After"
	howNoKey         = "credentials expired"
	howNoCredit      = "no credit"
	howLate          = "receipts late"
	howWrongSegments = "wrong segments"
	howSkew          = "clock skew"
	howForeign       = "receipt of somebody else"
)

// skewed is by how much a gateway's clock goes wrong.
const skewed = 10 * time.Minute

// misbehaviours are the ways that can be asked for: of a whole request, or of
// each text by itself.
var misbehaviours = []struct {
	name    string
	request bool
	about   string
}{
	{endSlow, true, "The answer takes a second."},
	{endFault, true, "Answered 500, and nothing is taken."},
	{endLimited, true, "Answered 429 with Retry-After."},
	{howLimitedBare, true, "Answered 429 without Retry-After."},
	{endCutBefore, true, "The connection is cut before anything is taken."},
	{endCutAfter, true, "The connection is cut after all is taken."},
	{endMute, true, "All is taken, and the answer never comes."},
	{endGarbled, true, "All is taken, and the answer is a page of some proxy."},
	{howNoKey, true, "The credentials are not accepted."},
	{howNoCredit, true, "The account is said to be empty."},
	{howSkew, true, "The gateway's clock is ten minutes ahead: signatures are too old, and its times are wrong."},
	{endLost, false, "Receipts never come."},
	{endTwice, false, "Receipts come twice."},
	{howLate, false, "Receipts come after three seconds."},
	{endBackwards, false, "Receipts come in the wrong order."},
	{endForged, false, "A forged receipt comes before the real one."},
	{endAbsent, false, "Handsets are switched off."},
	{endSilent, false, "Nothing is heard, and a query only says that it is on its way."},
	{howForeign, false, "A receipt of a text that another customer of the account sent comes to the same address, too."},
	{howWrongSegments, false, "One segment more is counted than there was."},
}

// Mood is a misbehaviour that was asked for.
type Mood struct {
	Gateway string `json:"gateway"` // empty: all of them
	How     string `json:"how"`
	// Share is how much of what comes is affected, drawn under the fleet's seed;
	// 0 is all.
	Share float64 `json:"share,omitempty"`
	// Times is how often it happens; 0 is without end.
	Times int `json:"times,omitempty"`
	// After and For say when it begins and how long it lasts, such as 5s.
	After string `json:"after,omitempty"`
	For   string `json:"for,omitempty"`

	from, until time.Time
	drawn       int
	request     bool
}

func (m *Mood) active() bool {
	now := time.Now()
	return !now.Before(m.from) && (m.until.IsZero() || now.Before(m.until)) && m.Times >= 0
}

// mood is the misbehaviour of this request, or of this text; empty for none.
// Who calls it holds the lock.
func (c *chassis) mood(request bool) string {
	for _, m := range c.moods {
		if m.request != request || m.How == howSkew || !m.active() {
			continue
		}
		m.drawn++
		if m.Share > 0 && c.fleet.luck("mood", fmt.Sprint(c.Name, m.How, m.drawn)) >= m.Share {
			continue
		}
		if m.Times > 0 {
			if m.Times--; m.Times == 0 {
				m.Times = -1 // it is over
			}
		}
		return m.How
	}
	return ""
}

// skew is by how much the gateway's clock goes wrong.
func (c *chassis) skew() time.Duration {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, m := range c.moods {
		if m.How == howSkew && m.active() {
			return skewed
		}
	}
	return 0
}

// Misbehave asks gateways to misbehave, each as it is told. A list with times is
// a schedule; under the same seed it comes out the same.
func (f *Fleet) Misbehave(moods ...Mood) error {
	now := time.Now()
	made := make([]*Mood, len(moods))
	for i, m := range moods {
		at := slices.IndexFunc(misbehaviours, func(b struct {
			name    string
			request bool
			about   string
		}) bool {
			return b.name == m.How
		})
		if at < 0 {
			var known []string
			for _, b := range misbehaviours {
				known = append(known, b.name)
			}
			return fmt.Errorf("how %q: accepted are %s", m.How, strings.Join(known, ", "))
		}
		if m.Gateway != "" && f.Gateway(m.Gateway) == nil {
			return fmt.Errorf("gateway %q: there is none of this name", m.Gateway)
		}
		if m.Share < 0 || m.Share > 1 || m.Times < 0 {
			return fmt.Errorf("share is 0 to 1, and times 0 or more")
		}
		m.from, m.request = now, misbehaviours[at].request
		for field, span := range map[string]string{"after": m.After, "for": m.For} {
			if span == "" {
				continue
			}
			d, err := time.ParseDuration(span)
			if err != nil || d < 0 {
				return fmt.Errorf("%s %q: accepted is a span such as 5s", field, span)
			}
			if field == "after" {
				m.from = now.Add(d)
			}
		}
		if m.For != "" {
			d, _ := time.ParseDuration(m.For)
			m.until = m.from.Add(d)
		}
		made[i] = &m
	}
	for _, m := range made {
		for _, c := range f.gateways {
			if m.Gateway == "" || m.Gateway == c.Name {
				mine := *m
				c.mu.Lock()
				c.moods = append(c.moods, &mine)
				c.mu.Unlock()
			}
		}
	}
	return nil
}

// Script takes a schedule of misbehaviour as JSON: a list of moods.
func (f *Fleet) Script(source []byte) error {
	var moods []Mood
	decoder := json.NewDecoder(bytes.NewReader(source))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&moods); err != nil {
		return fmt.Errorf("a list of {gateway, how, share, times, after, for} is expected: %w", err)
	}
	return f.Misbehave(moods...)
}

// Behave ends all misbehaviour that was asked for.
func (f *Fleet) Behave() {
	for _, c := range f.gateways {
		c.mu.Lock()
		c.moods = nil
		c.mu.Unlock()
	}
}

func (f *Fleet) moodRoutes(mux *http.ServeMux) {
	mux.HandleFunc("GET /misbehave", func(w http.ResponseWriter, r *http.Request) {
		known := map[string]string{}
		for _, b := range misbehaviours {
			known[b.name] = b.about
		}
		asked := []Mood{}
		for _, c := range f.gateways {
			c.mu.Lock()
			for _, m := range c.moods {
				if m.active() {
					one := *m
					one.Gateway = c.Name
					asked = append(asked, one)
				}
			}
			c.mu.Unlock()
		}
		answer(w, http.StatusOK, map[string]any{"known": known, "asked": asked})
	})
	mux.HandleFunc("POST /misbehave", func(w http.ResponseWriter, r *http.Request) {
		script, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 1<<20))
		if err == nil {
			err = f.Script(script)
		}
		if err != nil {
			answer(
				w,
				http.StatusUnprocessableEntity,
				map[string]any{"error": err.Error(), "accepted": "a list of {gateway, how, share, times, after, for}"},
			)
			return
		}
		w.WriteHeader(http.StatusNoContent)
	})
	mux.HandleFunc("DELETE /misbehave", func(w http.ResponseWriter, r *http.Request) {
		f.Behave()
		w.WriteHeader(http.StatusNoContent)
	})
	for _, c := range f.gateways {
		mux.HandleFunc("GET /"+c.Name+"/ledger", c.ledger)
		mux.HandleFunc("PUT /"+c.Name+"/balance", func(w http.ResponseWriter, r *http.Request) {
			in, err := decode[struct{ Amount *float64 }](r)
			if err != nil || in.Amount == nil {
				answer(w, http.StatusUnprocessableEntity, map[string]any{"error": "accepted is {\"amount\": 12.5}"})
				return
			}
			c.SetBalance(*in.Amount)
			w.WriteHeader(http.StatusNoContent)
		})
	}
}
