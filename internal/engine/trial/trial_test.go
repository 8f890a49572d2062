package trial

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/engine/courier"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

// tried is a gateway with an account and a balance, and how often it was asked.
func tried(t *testing.T, user, password string) (*Trial, *roster.Gateway, *atomic.Int32) {
	t.Helper()
	var asked atomic.Int32
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		io.Copy(io.Discard, r.Body)
		asked.Add(1)
		w.Header().Set("Content-Type", "application/json")
		if u, p, _ := r.BasicAuth(); u != "ferry" || p != "lantern" {
			w.WriteHeader(http.StatusUnauthorized)
			io.WriteString(w, `{"error":"who are you"}`)
			return
		}
		json.NewEncoder(w).Encode(map[string]any{"left": "12.50", "id": "q-1"})
	}))
	t.Cleanup(server.Close)
	d, err := dialect.Load("quayside.yaml", []byte(`dialect: quayside
secrets: [user, password]
submit:
  request: {post: /s, basic: {user: user, password: password}, json: '{to, text}'}
  reply:
    - {when: .status == 200, read: '{gateway_ref: .body.id, state: "accepted"}'}
    - {when: .status == 401, refused: credentials_refused}
balance:
  request: {get: /b, basic: {user: user, password: password}}
  reply:
    - {when: .status == 200, balance: '{amount: .body.left, currency: "EUR"}'}
    - {when: .status == 401, refused: credentials_refused}
`))
	if err != nil {
		t.Fatal(err)
	}
	g := &roster.Gateway{Gateway: store.Gateway{Name: "quayside", Address: server.URL, TimeoutMs: 5000}, Dialect: d,
		Secrets: map[string]string{"user": user, "password": password}}
	c := courier.New(time.Now, false)
	t.Cleanup(c.Close)
	return &Trial{Courier: c, Now: time.Now}, g, &asked
}

// A test sends nothing, says whether the credentials are accepted, and if not
// whether they are swapped.
func TestCredentialsAreTested(t *testing.T) {
	t.Parallel()
	for name, tt := range map[string]struct {
		user, password string
		passed         bool
		mistake        string
	}{
		"right":   {"ferry", "lantern", true, ""},
		"wrong":   {"ferry", "buoy", false, ""},
		"swapped": {"lantern", "ferry", false, "swapped"},
	} {
		tests, g, _ := tried(t, tt.user, tt.password)
		r := tests.Test(t.Context(), g)
		if r.Passed != tt.passed || r.Say == "" {
			t.Errorf("%s: %+v", name, r)
		}
		if said := strings.Join(r.Mistakes, " "); tt.mistake != "" && !strings.Contains(said, tt.mistake) {
			t.Errorf("%s: it looks like %q", name, said)
		}
		for _, step := range r.Steps {
			if step.What == string(Submit) {
				t.Errorf("%s: a text was sent", name)
			}
			if x := step.Exchange; x != nil && strings.Contains(x.RequestHeader["authorization"], tt.password) {
				t.Errorf("%s: the password is shown: %v", name, x.RequestHeader)
			}
		}
	}
}

// What any web server answers to any question tells nothing of the credentials.
func TestCredentialsAreNotProvedByAnyAnswer(t *testing.T) {
	t.Parallel()
	for name, tt := range map[string]struct {
		status     int
		body, when string
		passed     bool
		say        string
	}{
		"a bare 404 that the dialect believes": {404, "404 page not found", ".status == 404", false, "cannot be told from that"},
		"a 404 in the gateway's words":         {404, `{"error":"none"}`, `.status == 404 and .body.error? == "none"`, true, "are accepted"},
		"a page":                               {200, "<html>Welcome</html>", ".status == 404", false, "cannot read that"},
		"an object of something else":          {200, `{"welcome":true}`, ".status == 404", false, "cannot be told"},
		"what it knows":                        {200, `{"id":"q-1","code":"OK"}`, ".status == 404", true, "are accepted"},
	} {
		door := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(tt.status)
			io.WriteString(w, tt.body)
		}))
		t.Cleanup(door.Close)
		d, err := dialect.Load("quayside.yaml", []byte(`dialect: quayside
submit: {request: {post: /s, json: '{to}'}, reply: [{when: .status == 200, read: '{state: "accepted"}'}]}
query:
  request: {get: "/q/{gateway_ref}"}
  reply:
  - {when: .status == 200, read: "{gateway_ref: .body.id?, code: .body.code?}"}
  - {when: '`+tt.when+`', absent: true}
codes: {OK: accepted}
`))
		if err != nil {
			t.Fatal(err)
		}
		c := courier.New(time.Now, false)
		t.Cleanup(c.Close)
		tests := &Trial{Courier: c, Now: time.Now}
		g := &roster.Gateway{Gateway: store.Gateway{Name: "quayside", Address: door.URL, TimeoutMs: 5000}, Dialect: d}
		if r := tests.Test(t.Context(), g); r.Passed != tt.passed || !strings.Contains(r.Say, tt.say) {
			t.Errorf("%s: passed %v, %s", name, r.Passed, r.Say)
		}
	}
}

// A dry run builds the request, shows it, and sends nothing.
func TestADryRunSendsNothing(t *testing.T) {
	t.Parallel()
	tests, g, asked := tried(t, "ferry", "lantern")
	m := dialect.Message{To: phone.Stored("+447700900123"), Text: "Berth 3"}
	r := tests.Try(t.Context(), g, Submit, m, true)
	if asked.Load() != 0 || len(r.Steps) != 1 || r.Steps[0].Exchange == nil ||
		!strings.Contains(string(r.Steps[0].Exchange.RequestBody), "Berth 3") {
		t.Errorf("asked %d times: %+v", asked.Load(), r)
	}
	if r = tests.Try(t.Context(), g, Submit, m, false); !r.Passed || asked.Load() != 1 {
		t.Errorf("in earnest, asked %d times: %+v", asked.Load(), r)
	}
}
