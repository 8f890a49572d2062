package e2e

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/http"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/fleet"
)

// The whole scenario, as make example plays it.
func TestExample(t *testing.T) {
	t.Parallel()
	out, err := exec.CommandContext(t.Context(), pigeon, "demo", "--example").CombinedOutput()
	if err != nil || !bytes.Contains(out, []byte("the tally adds up")) {
		t.Errorf("%v\n%s", err, out)
	}
}

func TestOneMessageEndToEnd(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline(func(n *client.NewGateway) { n.AskAfter = "1m" }) // nobody asks before the receipt comes
	text := "Crossing 0740 now leaves from berth 3 [48€]"
	m := h.send(client.Draft{To: "+44 7700 900123", Text: text, Reference: "crossing-0740"})
	if m.State != "queued" || m.To != "+447700900123" || m.Sender != "Lanternholm" || m.Kind != "transactional" || m.Encoding != "gsm7" ||
		m.Segments != 1 {
		t.Errorf("accepted as %+v", m)
	}
	m = h.settled(m.ID)
	want := []string{"own queued", "own sending", "reply accepted", "receipt delivered"}
	if m.State != "delivered" || !slices.Equal(claims(m), want) || m.Attempts != 1 || m.GatewayRef == "" || m.SettledAt == nil {
		t.Errorf("became %s by %v (%+v)", m.State, claims(m), m)
	}
	phones := h.Fleet.Phones.All("+447700900123", 10)
	if len(phones) != 1 || len(phones[0].Texts) != 1 || phones[0].Texts[0].Text != text || phones[0].Texts[0].From != "Lanternholm" {
		t.Errorf("the handset shows %+v", phones)
	}
	raw := must[client.Message](t)(h.Client.Message(t.Context(), m.ID, true))
	submit, receipt := raw.Evidence[2].Raw, raw.Evidence[3].Raw
	if submit == nil || submit.Status != 202 || !strings.Contains(submit.RequestBody, text) ||
		submit.RequestHeader["authorization"] != "Bearer ‹api_key›" {
		t.Errorf("the raw submission is %+v", submit)
	}
	if receipt == nil || !strings.Contains(receipt.RequestBody, "LANDED") {
		t.Errorf("the raw receipt is %+v", receipt)
	}
	_, body := h.request("GET", "/v1/messages/"+m.ID+"?raw=true", "")
	for _, secret := range []string{fleet.HarbourlineKey, fleet.HarbourlineReceiptSecret, h.callback(t)} {
		if strings.Contains(body, secret) || strings.Contains(h.said(), secret) {
			t.Errorf("the secret %s is shown", secret)
		}
	}
}

// callback finds the secret in the address of receipts, as only the gateway
// knows it.
func (h *house) callback(t testing.TB) string {
	t.Helper()
	m := h.settled(h.send(client.Draft{To: "+447700900179", Text: "for its address"}).ID)
	for _, e := range h.Fleet.Harbourline.Entries() {
		if e.Ref == m.ID {
			return e.Report[strings.LastIndex(e.Report, "/")+1:]
		}
	}
	t.Fatal("the gateway has no such message")
	return ""
}

func TestReceipts(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	secret := h.callback(t)
	m := h.settled(h.send(client.Draft{To: "+447700900180", Text: "switched off"}).ID)
	if m.State != "undeliverable" || m.Cause != "absent" || m.Advice == "" {
		t.Fatalf("became %s %s", m.State, m.Cause)
	}
	path := "/receipts/harbourline/" + secret
	push := func(path, body, key string) int {
		mac := hmac.New(sha256.New, []byte(key))
		mac.Write([]byte(body))
		response, _ := h.request("POST", path, body, "X-Signature", hex.EncodeToString(mac.Sum(nil)))
		return response.StatusCode
	}
	event := func(ref, status string) string {
		return fmt.Sprintf(`{"events":[{"id":%q,"status":%q,"time":"2026-11-15T07:40:00Z"}]}`, ref, status)
	}
	key := fleet.HarbourlineReceiptSecret
	for name, tt := range map[string]struct {
		path, body, key string
		want            int
	}{
		"a forged signature":      {path, event(m.GatewayRef, "LANDED"), "guess", 403},
		"a secret that is none":   {"/receipts/harbourline/guess", event(m.GatewayRef, "LANDED"), key, 404},
		"a gateway that is none":  {"/receipts/nobody/" + secret, event(m.GatewayRef, "LANDED"), key, 404},
		"what cannot be read":     {path, "<html>", key, 204},
		"an unknown message":      {path, event("hl-nobody", "LANDED"), key, 204},
		"an unknown code":         {path, event(m.GatewayRef, "ADRIFT"), key, 204},
		"more than anybody sends": {path, strings.Repeat("x", 1<<20+1), key, 413},
	} {
		if got := push(tt.path, tt.body, tt.key); got != tt.want {
			t.Errorf("%s is answered %d, want %d", name, got, tt.want)
		}
	}
	seen := h.await(m.ID, "the unknown code is evidence", func(m client.Message) bool {
		return slices.ContainsFunc(m.Evidence, func(e client.Evidence) bool { return e.Code == "ADRIFT" && e.Claim == "" })
	})
	if seen.State != "undeliverable" {
		t.Errorf("forged, unreadable or unknown receipts made it %s", seen.State)
	}
	// A genuine one counts, however often and from however many at once.
	done := make(chan int)
	for range 20 {
		go func() { done <- push(path, event(m.GatewayRef, "LANDED"), key) }()
	}
	for range 20 {
		if got := <-done; got != http.StatusNoContent {
			t.Errorf("a repeated receipt is answered %d", got)
		}
	}
	// Said again in the same words it is counted, and is not evidence twice.
	final := h.await(m.ID, "all twenty are known", func(m client.Message) bool { return m.Repeats == 19 })
	n := 0
	for _, c := range claims(final) {
		n += strings.Count(c, "receipt delivered")
	}
	if n != 1 {
		t.Errorf("the same receipt is evidence %d times", n)
	}
	if final.State != "delivered" || !slices.Equal(final.Rivals, []string{"delivered", "undeliverable"}) {
		t.Errorf("became %s, rivals %v", final.State, final.Rivals)
	}
}

func TestIdempotencyKey(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	d := client.Draft{To: "+447700900123", Text: "once"}
	first := must[client.Message](t)(h.Client.SendOnce(t.Context(), d, "k-1"))
	h.settled(first.ID)
	again := must[client.Message](t)(h.Client.SendOnce(t.Context(), d, "k-1"))
	if again.ID != first.ID || again.State != "queued" || !again.ChangedAt.Equal(first.ChangedAt) {
		t.Errorf("the first answer was %+v, the second %+v", first, again)
	}
	d.Text = "twice"
	_, err := h.Client.SendOnce(t.Context(), d, "k-1")
	if problem, ok := err.(*client.Problem); !ok || problem.Status != 422 || problem.Errors[0].Field != "Idempotency-Key" {
		t.Errorf("another request with the key: %v", err)
	}
	// The first answer stands, though the same would be refused today.
	d.Text, d.Sender = "as Boarding", "LH Boarding"
	must[client.Sender](t)(h.Client.AddSender(t.Context(), client.NewSender{Sender: d.Sender}))
	boarding := must[client.Message](t)(h.Client.SendOnce(t.Context(), d, "k-2"))
	if err := h.Client.RemoveSender(t.Context(), d.Sender); err != nil {
		t.Fatal(err)
	}
	if again, err := h.Client.SendOnce(t.Context(), d, "k-2"); err != nil || again.ID != boarding.ID {
		t.Errorf("after its sender is gone: %+v, %v", again, err)
	}
	if _, err := h.Client.SendOnce(t.Context(), d, "k-3"); err == nil {
		t.Error("a sender that is gone is taken with a new key")
	}
	d.Sender = ""
	// Another API key is another namespace.
	key := must[client.Key](t)(h.Client.NewKey(t.Context(), client.NewKey{Name: "second"}))
	other := must[client.Message](t)(client.New(h.URL, key.Key).SendOnce(t.Context(), d, "k-1"))
	if other.ID == first.ID {
		t.Error("one API key sees another's requests")
	}
	if tally := must[client.Tally](t)(h.Client.Tally(t.Context(), client.Filter{})); tally.Total != 3 {
		t.Errorf("%s, want 3", tally.Equation)
	}
}

// Passcodes overtake what waits; within a lane it is first come, first served.
func TestPasscodesOvertakeBulk(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline(func(n *client.NewGateway) { n.PerSecond, n.InFlight = 20, 1 })
	for i := range 160 {
		h.send(client.Draft{To: fmt.Sprintf("+4477009001%02d", i%80), Text: "All Sunday crossings are cancelled", Kind: "bulk"})
	}
	code := h.send(client.Draft{To: "+447700900112", Text: "493 117", Kind: "otp"})
	h.settled(code.ID)
	tally := must[client.Tally](t)(h.Client.Tally(t.Context(), client.Filter{Kind: "bulk"}))
	if tally.States["queued"] == 0 { // what came before it and is less urgent still waits
		t.Errorf("when the passcode had arrived, bulk stood at %s", tally.Equation)
	}
}
