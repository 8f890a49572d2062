package chase

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

// own404 is what the gateway says of a message that it does not know.
const own404 = `{"error":"no such message"}`

// asked is a dialect that is asked by our reference.
const asked = `dialect: plain
reference: none
timeout: 1s
submit: {request: {post: /s, json: '{to}'}, reply: [{when: .status == 200, read: '{state: "accepted"}'}]}
query:
  request: {get: "/q/{id}"}
  reply:
  - {when: .status == 200, read: "{reference: .body.ref, code: .body.code}"}
  - {when: '.status == 404 and .body.error? == "no such message"', absent: true}
  - {when: .status == 410, absent: true}
codes: {OK: accepted}
`

// That a gateway knows no such message proves that it was not taken only where
// it has answered the same question about a message that it knows, and in words
// of its own; and without an honoured reference it lets a message go again once.
func TestAbsentProvesOnlyWhatItCan(t *testing.T) {
	t.Parallel()
	sent := func(attempt int) []store.Evidence {
		return []store.Evidence{own(attempt, delivery.Sending), own(attempt, delivery.Doubtful)}
	}
	freed := store.Evidence{Source: delivery.Query, Claim: delivery.Queued, Attempt: 1}
	again := append(append(sent(1), freed), sent(2)...)
	for name, tt := range map[string]struct {
		evidence      []store.Evidence
		kind          pace.Kind
		before, after string // what the dialect is changed into after the question has been answered
		known         bool   // whether it has been
		status        int
		body, note    string
		want          delivery.State
	}{
		"as it should be":                    {sent(1), "bulk", "", "", true, 404, own404, "knows no such message", delivery.Queued},
		"never answered":                     {sent(1), "bulk", "", "", false, 404, own404, "has not yet", delivery.Doubtful},
		"a dialect that changed":             {sent(1), "bulk", "get: \"/q/", "get: \"/qq/", true, 404, own404, "has not yet", delivery.Doubtful},
		"a web server's word":                {sent(1), "bulk", "", "", true, 404, "404 page not found", "cannot be read", delivery.Doubtful},
		"a rule that any web server matches": {sent(1), "bulk", "", "", true, 410, own404, "any web server could", delivery.Doubtful},
		"a second time":                      {again, "bulk", "", "", true, 404, own404, "does not go a third time", delivery.Doubtful},
		"a second time, transactional":       {again, "transactional", "", "", true, 404, own404, "does not go a third time", delivery.Doubtful},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			d := setUp(t, asked)
			answer := func(w http.ResponseWriter, r *http.Request) {}
			door := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { answer(w, r) }))
			t.Cleanup(door.Close)
			change := func(s roster.Settings) {
				t.Helper()
				g, err := d.Roster.ChangeGateway(t.Context(), d.g, s)
				if err != nil {
					t.Fatal(err)
				}
				d.g = g
			}
			change(roster.Settings{Address: &door.URL})
			look := func() {
				t.Helper()
				if _, err := d.look(t.Context(), d.g); err != nil {
					t.Fatal(err)
				}
			}
			if tt.known {
				answer = func(w http.ResponseWriter, r *http.Request) {
					w.Header().Set("Content-Type", "application/json")
					fmt.Fprintf(w, `{"ref":%q,"code":"OK"}`, strings.TrimPrefix(r.URL.Path, "/q/"))
				}
				m := d.accept(sent(1)...)
				d.clock = d.at.Add(40 * time.Second)
				look()
				if got := d.state(m); got.State != delivery.Accepted {
					t.Fatalf("the one that it knows is %s", got.State)
				}
			}
			if tt.before != "" {
				source := strings.Replace(asked, tt.before, tt.after, 1)
				change(roster.Settings{Source: &source})
			}
			answer = func(w http.ResponseWriter, r *http.Request) {
				if strings.HasPrefix(tt.body, "{") {
					w.Header().Set("Content-Type", "application/json")
				}
				w.WriteHeader(tt.status)
				fmt.Fprint(w, tt.body)
			}
			m := d.acceptAs(tt.kind, tt.evidence...)
			d.clock = d.at.Add(2 * time.Minute)
			look()
			got := d.state(m)
			timeline, err := d.store.Timeline(t.Context(), got.ID)
			if err != nil {
				t.Fatal(err)
			}
			if last := timeline[len(timeline)-1]; got.State != tt.want || !strings.Contains(last.Note, tt.note) {
				t.Errorf("it is %s: %s; want %s: …%s…", got.State, last.Note, tt.want, tt.note)
			}
		})
	}
}
