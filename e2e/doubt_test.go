package e2e

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"

	"calmpigeon.example/client"
)

// A file with one letter wrong in the path of its query: every question is
// answered by a web server that knows of no such page. The text goes once, stays
// in doubt, and a person can end that.
func TestAWrongPathSendsNothingTwice(t *testing.T) {
	t.Parallel()
	var taken atomic.Int32
	mux := http.NewServeMux()
	mux.HandleFunc("POST /s", func(w http.ResponseWriter, _ *http.Request) {
		taken.Add(1)
		fmt.Fprint(w, "<html>the answer that nobody can read</html>")
	})
	mux.HandleFunc("GET /messages/", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, `{"state":"sent"}`) })
	door := httptest.NewServer(mux)
	t.Cleanup(door.Close)
	h := build(t)
	must[client.Gateway](
		t,
	)(
		h.Client.AddGateway(t.Context(), client.NewGateway{Address: door.URL, Timeout: "500ms", AskAfter: "200ms", GiveUpAfter: "1m",
			Source: `dialect: quayside
reference: none
submit:
  request: {post: /s, json: '{to, text}'}
  reply: [{when: '.body | type == "object"', read: '{gateway_ref: .body.id, state: "accepted"}'}]
query:
  request: {get: "/mesages/{id}"}
  reply:
  - {when: .status == 200, read: '{reference: .body.ref, state: "accepted"}'}
  - {when: .status == 404, absent: true}
`}),
	)
	m := h.send(client.Draft{To: "+447700900001", Sender: "Lanternholm", Text: "Berth 3"})
	h.await(m.ID, "it has been asked about twice", func(m client.Message) bool {
		last := m.Evidence[len(m.Evidence)-1]
		return m.Repeats > 0 && strings.Contains(last.Note, "any web server could have answered so")
	})
	if code, _, said := h.pigeon("", "message", "cancel", m.ID); code == 0 || !strings.Contains(said, "may have gone") ||
		!strings.Contains(said, "stop") {
		t.Errorf("withdrawing it: %d %s", code, said)
	}
	code, out, said := h.pigeon("", "message", "stop", m.ID)
	if code != 0 || !strings.Contains(out, "unknown") {
		t.Errorf("stopping it: %d %s%s", code, out, said)
	}
	if code, _, said := h.pigeon("", "message", "stop", m.ID); code == 0 || !strings.Contains(said, "nothing") {
		t.Errorf("stopping it again: %d %s", code, said)
	}
	got := must[client.Message](t)(h.Client.Message(t.Context(), m.ID, false))
	if last := got.Evidence[len(got.Evidence)-1]; got.State != "unknown" || last.Source != "operator" ||
		!strings.Contains(last.Note, "first") {
		t.Errorf("it is %s by %+v", got.State, last)
	}
	if n := taken.Load(); n != 1 {
		t.Errorf("it was submitted %d times", n)
	}
	if code, said, _ := h.pigeon("", "gateway", "test", "quayside"); code == 0 || !strings.Contains(said, "cannot be told") {
		t.Errorf("testing the gateway: %d %s", code, said)
	}
}
