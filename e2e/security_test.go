package e2e

import (
	"bufio"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"calmpigeon.example/client"
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
	if response, _ := call("POST", "/v1/session", login, nil, "Origin", "https://elsewhere.example"); response.StatusCode != http.StatusForbidden {
		t.Errorf("signing in from another site: %d", response.StatusCode)
	}
	response, _ := call("POST", "/v1/session", login, nil, "Origin", h.URL)
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
		"looking":                            {"GET", "/v1/senders", "", nil, 200},
		"looking from another site's link":   {"GET", "/v1/senders", "", []string{"Sec-Fetch-Site", "cross-site"}, 200},
		"changing, not said from where":      {"POST", "/v1/senders", sender, nil, 403},
		"changing from another site":         {"POST", "/v1/senders", sender, []string{"Sec-Fetch-Site", "cross-site", "Origin", "https://elsewhere.example"}, 403},
		"changing from a neighbour":          {"POST", "/v1/senders", sender, []string{"Sec-Fetch-Site", "same-site", "Origin", h.URL}, 403},
		"changing from another port":         {"POST", "/v1/senders", sender, []string{"Origin", "http://127.0.0.1:1"}, 403},
		"removing from another site":         {"DELETE", "/v1/senders/Lanternholm", "", []string{"Origin", "https://elsewhere.example"}, 403},
		"signing out from another site":      {"DELETE", "/v1/session", "", []string{"Origin", "https://elsewhere.example"}, 403},
		"changing as a form":                 {"POST", "/v1/senders", sender, []string{"Origin", h.URL, "Content-Type", "text/plain"}, 400},
		"changing from our own page":         {"POST", "/v1/senders", sender, []string{"Sec-Fetch-Site", "same-origin"}, 201},
		"changing from our own page, anew":   {"PUT", "/v1/senders/LH%20News", `{"sender":"LH News"}`, []string{"Origin", h.URL}, 200},
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
	if response, said := call("GET", "/v1/senders", "", session); response.StatusCode != http.StatusUnauthorized || !strings.Contains(said, "wrong-key") {
		t.Errorf("after signing out: %d %s", response.StatusCode, said)
	}
	if response, said := call("GET", "/v1/senders", "", nil); response.StatusCode != http.StatusUnauthorized || !strings.Contains(said, "no-key") {
		t.Errorf("without anything: %d %s", response.StatusCode, said)
	}
}

// A stream ends when its key is revoked, also by another instance, and says
// nothing more.
func TestStreamsEndWithTheirKey(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	other := &house{t: t, database: h.database, data: t.TempDir(), FleetURL: h.FleetURL, Key: h.Key}
	other.start("127.0.0.1:0")
	t.Cleanup(func() { other.stop(os.Interrupt) })
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
	for _, secret := range []string{"7700900", "%2B4477", "storm cancels", h.Key, "pigeon_"} {
		if strings.Contains(h.said(), secret) {
			t.Errorf("%q stands in the log:\n%s", secret, h.said())
		}
	}
}
