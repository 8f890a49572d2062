package e2e

import (
	"bufio"
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/fleet"
	"github.com/jackc/pgx/v5"
)

// The console's cookie is a session and not the key; it changes things only for
// our own pages, and ends when one signs out.
func TestSessionsOfTheConsole(t *testing.T) {
	t.Parallel()
	h := build(t)
	call := func(method, path, body string, cookie *http.Cookie, header ...string) (*http.Response, string) {
		t.Helper()
		r := must[*http.Request](t)(http.NewRequestWithContext(t.Context(), method, h.URL+path, strings.NewReader(body)))
		r.Header.Set("Content-Type", "application/json")
		if cookie != nil {
			r.AddCookie(cookie)
		}
		for i := 0; i < len(header); i += 2 {
			r.Header.Set(header[i], header[i+1])
		}
		response := must[*http.Response](t)(http.DefaultClient.Do(r))
		defer response.Body.Close()
		return response, string(must[[]byte](t)(io.ReadAll(response.Body)))
	}
	login := string(must[[]byte](t)(json.Marshal(client.Login{Key: h.Key})))
	const foreign = "https://elsewhere.example"
	response, _ := call("POST", "/v1/session", login, nil, "Origin", foreign)
	if response.StatusCode != http.StatusForbidden {
		t.Errorf("signing in from another site: %d", response.StatusCode)
	}
	response, _ = call("POST", "/v1/session", login, nil, "Origin", h.URL)
	cookies := response.Cookies()
	if len(cookies) != 1 || cookies[0].Value == h.Key || !cookies[0].HttpOnly || cookies[0].SameSite != http.SameSiteStrictMode {
		t.Fatalf("signing in gives %v", cookies)
	}
	session := cookies[0]
	const sender = `{"sender":"LH Boarding"}`
	for name, tt := range map[string]struct {
		method, path, body string
		header             []string
		want               int
	}{
		"looking":                          {"GET", "/v1/senders", "", nil, 200},
		"looking from another site's link": {"GET", "/v1/senders", "", []string{"Sec-Fetch-Site", "cross-site"}, 200},
		"changing, not said from where":    {"POST", "/v1/senders", sender, nil, 403},
		"changing from another site":       {"POST", "/v1/senders", sender, []string{"Sec-Fetch-Site", "cross-site", "Origin", foreign}, 403},
		"changing from a neighbour":        {"POST", "/v1/senders", sender, []string{"Sec-Fetch-Site", "same-site", "Origin", h.URL}, 403},
		"changing from another port":       {"POST", "/v1/senders", sender, []string{"Origin", "http://127.0.0.1:1"}, 403},
		"removing from another site":       {"DELETE", "/v1/senders/Lanternholm", "", []string{"Origin", foreign}, 403},
		"signing out from another site":    {"DELETE", "/v1/session", "", []string{"Origin", foreign}, 403},
		"changing as a form":               {"POST", "/v1/senders", sender, []string{"Origin", h.URL, "Content-Type", "text/plain"}, 400},
		"changing from our own page":       {"POST", "/v1/senders", sender, []string{"Sec-Fetch-Site", "same-origin"}, 201},
		"changing from our own page, anew": {"PUT", "/v1/senders/LH%20News", `{"sender":"LH News"}`, []string{"Origin", h.URL}, 200},
	} {
		response, said := call(tt.method, tt.path, tt.body, session, tt.header...)
		if response.StatusCode != tt.want {
			t.Errorf("%s: %d %s", name, response.StatusCode, said)
		}
		if response.Header.Get("X-Content-Type-Options") != "nosniff" || response.Header.Get("Cache-Control") != "no-store" {
			t.Errorf("%s: %v", name, response.Header)
		}
	}
	if response, _ := call("DELETE", "/v1/session", "", session, "Origin", h.URL); response.StatusCode != http.StatusNoContent {
		t.Errorf("signing out: %d", response.StatusCode)
	}
	if response, said := call("GET", "/v1/senders", "", session); response.StatusCode != http.StatusUnauthorized ||
		!strings.Contains(said, "wrong-key") {
		t.Errorf("after signing out: %d %s", response.StatusCode, said)
	}
	if response, said := call("GET", "/v1/senders", "", nil); response.StatusCode != http.StatusUnauthorized ||
		!strings.Contains(said, "no-key") {
		t.Errorf("without anything: %d %s", response.StatusCode, said)
	}
}

// A stream ends when its key is revoked, also by another instance, and says
// nothing more.
func TestStreamsEndWithTheirKey(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	other := h.beside()
	key := must[client.Key](t)(h.Client.NewKey(t.Context(), client.NewKey{Name: "watcher"}))
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	r := must[*http.Request](t)(http.NewRequestWithContext(ctx, "GET", h.URL+"/v1/messages/follow", nil))
	r.Header.Set("Authorization", "Bearer "+key.Key)
	response := must[*http.Response](t)(http.DefaultClient.Do(r))
	defer response.Body.Close()
	lines := bufio.NewScanner(response.Body)
	if !lines.Scan() {
		t.Fatal("the stream says nothing")
	}
	if err := other.Client.RevokeKey(t.Context(), key.ID); err != nil {
		t.Fatal(err)
	}
	for lines.Scan() {
	}
	if ctx.Err() != nil {
		t.Error("the stream goes on")
	}
}

// The last key stays, and whoever reaches the database makes another.
func TestNobodyIsLockedOut(t *testing.T) {
	t.Parallel()
	h := build(t)
	all := must[[]client.Key](t)(h.Client.Keys(t.Context()))
	code, _, said := h.pigeon("", "key", "revoke", all[0].ID)
	if code != 3 || !strings.Contains(said, "last key") {
		t.Errorf("revoking the last key: %d %s", code, said)
	}
	code, out, said := h.pigeon("", "key", "new", "rescue", "--database-url", h.database, "--output", "json")
	var made client.Key
	if err := json.Unmarshal([]byte(out), &made); code != 0 || err != nil {
		t.Fatalf("making one in the database: %d %s%s", code, out, said)
	}
	if _, err := client.New(h.URL, made.Key).Keys(t.Context()); err != nil {
		t.Errorf("it does not work: %v", err)
	}
}

// An instance with another sealing key says so and does not start.
func TestAnotherSealingKeyDoesNotStart(t *testing.T) {
	t.Parallel()
	h := build(t)
	cmd := exec.CommandContext(t.Context(), pigeon, "serve", "--listen", "127.0.0.1:0", "--data", t.TempDir())
	cmd.Env = append(os.Environ(), "PIGEON_DATABASE_URL="+h.database, "PIGEON_SEAL_KEY=YW5vdGhlci1hbm90aGVyLWFub3RoZXItYW5vdGhlci4=")
	out, err := cmd.CombinedOutput()
	if err == nil || !strings.Contains(string(out), "sealed with another key") || !strings.Contains(string(out), "--seal-key") {
		t.Errorf("it says %s, %v", out, err)
	}
}

// Neither numbers nor texts stand in the log, however much it says.
func TestLogsHoldNoNumbersAndNoTexts(t *testing.T) {
	t.Parallel()
	h := build(t, func(h *house) { h.flags = []string{"--log-level", "debug"} }).withHarbourline()
	for _, to := range []string{"+447700900001", "+447700900081", "+447700900044", "+447700900092"} {
		h.settled(h.send(client.Draft{To: to, Sender: "Lanternholm", Text: "A storm cancels all crossings"}).ID)
	}
	h.request("GET", "/v1/messages?to=%2B447700900001", "")
	h.request("POST", "/v1/numbers", `{"numbers":["07700 900001"],"country":"GB"}`)
	for _, path := range []string{"/v1/conversations/+447700900001", "/v1/conversations/%2B447700900001", "/v1/opt-outs/+447700900001"} {
		h.request("GET", path, "")
		h.request("DELETE", path, "")
	}
	secret := h.callback(t)
	for _, path := range []string{"/receipts/harbourline/" + secret, "//receipts/harbourline/" + secret, "/receipts//harbourline/" + secret} {
		if response, said := h.request("GET", path, ""); path[1] == '/' && (response.StatusCode != 404 || strings.Contains(said, "<html")) {
			t.Errorf("%s: %d %.100s", path, response.StatusCode, said)
		}
	}
	if strings.Contains(h.said(), secret) {
		t.Errorf("the secret of receipts stands in the log:\n%s", h.said())
	}
	for _, secret := range []string{"7700900", "%2B4477", "storm cancels", h.Key, "pigeon_"} {
		if strings.Contains(h.said(), secret) {
			t.Errorf("%q stands in the log:\n%s", secret, h.said())
		}
	}
}

// What a passcode says stands nowhere but on the handset: neither at rest, while
// it waits or afterwards, nor in what is shown of it, nor in what was exchanged.
func TestPasscodesAreSealed(t *testing.T) {
	t.Parallel()
	const code = "739184"
	h := build(t).with("harbourline", "oldpier", "sandbank", "longshore")
	db := must[*pgx.Conn](t)(pgx.Connect(t.Context(), h.database))
	defer db.Close(context.Background())
	atRest := func(when string) {
		t.Helper()
		tables := must[[]string](t)(pgx.CollectRows(must[pgx.Rows](t)(db.Query(
			t.Context(),
			"SELECT format('%I', relname) FROM pg_class WHERE relkind = 'r' AND relnamespace = 'public'::regnamespace",
		)), pgx.RowTo[string]))
		if len(tables) < 20 {
			t.Fatalf("only %d tables", len(tables))
		}
		for _, table := range tables {
			var found int
			if err := db.QueryRow(t.Context(), "SELECT count(*) FROM "+table+" r WHERE r::text LIKE ANY($1)",
				[]string{"%" + code + "%", "%" + hex.EncodeToString([]byte(code)) + "%"}).Scan(&found); err != nil || found > 0 {
				t.Errorf("%s: the code stands in %s (%v)", when, table, err)
			}
		}
	}
	for i, gateway := range []string{"harbourline", "oldpier", "sandbank", "longshore"} {
		must[client.Routes](t)(h.Client.PutRoutes(t.Context(), []client.Route{{Name: "all", Gateways: []client.Leg{{Gateway: gateway}}}}))
		must[client.Gateway](t)(h.Client.PauseGateway(t.Context(), gateway, ""))
		draft := client.Draft{
			To:     fmt.Sprintf("+4477009001%02d", i),
			Sender: "Lanternholm",
			Kind:   "otp",
			Text:   "Your boarding code is " + code + ". Ünly for you.",
		}
		accepted := must[client.Message](t)(h.Client.SendOnce(t.Context(), draft, "the-same-"+gateway))
		again := must[client.Message](t)(h.Client.SendOnce(t.Context(), draft, "the-same-"+gateway))
		if again.ID != accepted.ID {
			t.Errorf("%s: the same again is another", gateway)
		}
		atRest(gateway + ", while it waits")
		must[client.Gateway](t)(h.Client.ResumeGateway(t.Context(), gateway))
		h.settled(accepted.ID)
		shown := must[client.Message](t)(h.Client.Message(t.Context(), accepted.ID, true))
		all := string(must[[]byte](t)(json.Marshal(shown)))
		if shown.State != "delivered" || strings.Contains(all, code) || strings.Contains(all, "boarding") ||
			shown.Text != "**** ******** **** ** ******. **** *** ***." {
			t.Errorf("%s: %s: %s", gateway, shown.State, all)
		}
		if !strings.Contains(all, "‹text›") {
			t.Errorf("%s: nothing is masked in what was exchanged: %s", gateway, all)
		}
		if phones := h.Fleet.Phones.All(draft.To, 5); len(phones) != 1 || phones[0].Texts[0].Text != draft.Text {
			t.Errorf("%s: the handset shows %+v", gateway, phones)
		}
		atRest(gateway + ", afterwards")
	}
	var left int
	if err := db.QueryRow(t.Context(), "SELECT count(*) FROM sealed_texts WHERE sealed <> ''").Scan(&left); err != nil || left > 0 {
		t.Errorf("%d are still sealed, %v", left, err)
	}
	if strings.Contains(h.said(), code) {
		t.Error("the code stands in the log")
	}
}

// Six who set routes at the same time, each with what it has read: one does, and the
// others are told. Who changed what can be read afterwards.
func TestTwoAtOnceDoNotUndoEachOther(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	response, _ := h.request("GET", "/v1/routes", "")
	version := response.Header.Get("ETag")
	if version == "" {
		t.Fatal("routes have no version")
	}
	statuses := make(chan int, 6)
	var setting sync.WaitGroup
	for i := range cap(statuses) {
		setting.Go(func() {
			response, _ := h.request(
				"PUT",
				"/v1/routes",
				fmt.Sprintf(`{"items":[{"name":"r%d","gateways":[{"gateway":"harbourline"}]}]}`, i),
				"If-Match",
				version,
			)
			statuses <- response.StatusCode
		})
	}
	setting.Wait()
	close(statuses)
	count := map[int]int{}
	for status := range statuses {
		count[status]++
	}
	if count[200] != 1 || count[412] != 5 {
		t.Errorf("statuses %v", count)
	}
	if response, said := h.request("PUT", "/v1/routes", `{"items":[]}`, "If-Match", "soon"); response.StatusCode != 422 ||
		!strings.Contains(said, "If-Match") {
		t.Errorf("a version that is none: %d %s", response.StatusCode, said)
	}
	if code, out, said := h.pigeon("", "gateway", "set", "harbourline", "--per-second", "7"); code != 0 {
		t.Errorf("setting a gateway: %s%s", out, said)
	}
	code, out, _ := h.pigeon("", "changes", "--what", "gateway")
	if code != 0 || !strings.Contains(out, "harbourline") || !strings.Contains(out, "per_second 50 → 7") ||
		!strings.Contains(out, "first") ||
		strings.Contains(out, fleet.HarbourlineKey) {
		t.Errorf("changes: %d %s", code, out)
	}
	if code, _, said := h.pigeon("", "changes", "--what", "weather"); code != 3 || !strings.Contains(said, "gateway, sender") {
		t.Errorf("changes of nothing: %d %s", code, said)
	}
}

// What a gateway repeats of a passcode later is hidden, too: in receipts, also in one
// that comes before its message is known by the gateway's name, and in answers.
func TestRepeatedPasscodesAreHidden(t *testing.T) {
	t.Parallel()
	const code, other = "739184", "882031"
	h := build(t)
	var asked atomic.Int64
	push := func(address, id, state string) {
		said := fmt.Sprintf(`{"id":%q,"state":%q,"echo":"Your code is %s. %s","at":"20261126"}`, id, state, code, other)
		response, err := http.Post(address+"?echo="+code, "application/json", strings.NewReader(said))
		if err != nil {
			t.Errorf("pushing: %v", err)
			return
		}
		response.Body.Close()
	}
	gateway := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		if r.Method == http.MethodGet {
			w.Header().Set("X-Echo", code)
			state := "moving"
			if asked.Add(1) > 1 {
				state = "up"
			}
			fmt.Fprintf(w, `{"id":"g-1","state":%q,"echo":"%s is the code"}`, state, code)
			return
		}
		var in struct{ Report string }
		if err := json.NewDecoder(r.Body).Decode(&in); err != nil {
			t.Error(err)
		}
		early := make(chan struct{})
		go func() { // before the answer: its message is not known by this name yet
			defer close(early)
			push(in.Report, "g-1", "moving")
		}()
		select {
		case <-early:
		case <-time.After(5 * time.Second):
		}
		fmt.Fprintf(w, `{"id":"g-1","echo":%q}`, "code "+code)
	}))
	defer gateway.Close()
	source := `
dialect: echo
submit:
  request: {post: /send, json: "{text, report: .receipt_url}"}
  reply: [{when: .status == 200, read: '{gateway_ref: .body.id, state: "accepted"}'}]
receipt:
  read: '{gateway_ref: .body.id, code: .body.state, note: .body.echo}'
  answer: {status: 200}
query:
  request: {get: "/state/{gateway_ref}"}
  reply: [{when: .status == 200, read: '{gateway_ref: .body.id, code: .body.state, note: .body.echo}'}]
codes: {moving: enroute, up: delivered}
`
	must[client.Gateway](t)(h.Client.AddGateway(t.Context(), client.NewGateway{Source: source, Address: gateway.URL, AskAfter: "100ms"}))
	m := h.settled(h.send(client.Draft{To: "+447700900123", Text: "Your code is " + code + ".", Kind: "otp"}).ID)
	if m.State != "delivered" {
		t.Fatalf("it is %s", m.State)
	}
	m = must[client.Message](t)(h.Client.Message(t.Context(), m.ID, true))
	all := string(must[[]byte](t)(json.Marshal(m)))
	if strings.Contains(all, code) || strings.Count(all, "‹code›") < 7 || !strings.Contains(all, other) ||
		!strings.Contains(all, "20261126") {
		t.Errorf("%d are hidden: %s", strings.Count(all, "‹code›"), all)
	}
	db := must[*pgx.Conn](t)(pgx.Connect(t.Context(), h.database))
	defer db.Close(context.Background())
	for _, table := range []string{"receipts", "evidence", "strays", "to_read", "sealed_texts"} {
		var found int
		if err := db.QueryRow(t.Context(), "SELECT count(*) FROM "+table+" r WHERE r::text LIKE ANY($1)",
			[]string{"%" + code + "%", "%" + hex.EncodeToString([]byte(code)) + "%"}).Scan(&found); err != nil || found > 0 {
			t.Errorf("the code stands in %s (%v)", table, err)
		}
	}
}
