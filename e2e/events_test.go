package e2e

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	webhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/fleet"
)

// ear is an application that is told of events. It checks their signatures with a published library.
type ear struct {
	t      testing.TB
	URL    string
	answer func(n int, path string) int // by how many requests came before; nil: 204

	mu     sync.Mutex
	checks []*webhooks.Webhook // any of which is to fit
	heard  []heard
	asked  int
}

// heard is an event that was taken.
type heard struct {
	id, path string
	client.Told
	message client.MessageEvent
}

func hear(t testing.TB, answer func(n int, path string) int) *ear {
	t.Helper()
	e := &ear{t: t, answer: answer}
	server := httptest.NewServer(e)
	t.Cleanup(server.Close)
	e.URL = server.URL + "/hook"
	return e
}

func (e *ear) trust(secret string) *ear {
	e.t.Helper()
	e.mu.Lock()
	defer e.mu.Unlock()
	e.checks = append(e.checks, must[*webhooks.Webhook](e.t)(webhooks.NewWebhook(secret)))
	return e
}

func (e *ear) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(r.Body)
	if err != nil {
		return
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	n := e.asked
	e.asked++
	if e.answer != nil {
		if status := e.answer(n, r.URL.Path); status != http.StatusNoContent {
			w.Header().Set("Location", "/elsewhere")
			w.WriteHeader(status)
			fmt.Fprint(w, "not now")
			return
		}
	}
	if !slices.ContainsFunc(e.checks, func(c *webhooks.Webhook) bool { return c.Verify(body, r.Header) == nil }) {
		e.t.Errorf("nobody signed this: %v %s", r.Header, body)
	}
	one := heard{id: r.Header.Get("webhook-id"), path: r.URL.Path}
	if err := json.Unmarshal(body, &one.Told); err != nil {
		e.t.Errorf("%s: %v", body, err)
	}
	if strings.HasPrefix(one.Type, "message.") {
		if err := json.Unmarshal(one.Data, &one.message); err != nil {
			e.t.Errorf("%s: %v", body, err)
		}
	}
	e.heard = append(e.heard, one)
	w.WriteHeader(http.StatusNoContent)
}

func (e *ear) all() []heard {
	e.mu.Lock()
	defer e.mu.Unlock()
	return slices.Clone(e.heard)
}

// types are those of the events about something, in the order in which they came, each id once.
func (e *ear) types(subject string) (types []string) {
	seen := map[string]bool{}
	for _, one := range e.all() {
		if (one.message.ID == subject || strings.Contains(string(one.Data), subject)) && !seen[one.id] {
			seen[one.id] = true
			types = append(types, one.Type)
		}
	}
	return types
}

// tell adds a receiver at the ear, which trusts its secret.
func (h *house) tell(name string, e *ear, change ...func(*client.ReceiverSettings)) client.Receiver {
	h.t.Helper()
	s := client.ReceiverSettings{Name: name, Address: &e.URL}
	for _, c := range change {
		c(&s)
	}
	r := must[client.Receiver](h.t)(h.Client.AddReceiver(h.t.Context(), s))
	e.trust(r.Secret)
	return r
}

// What becomes of messages is told, in order, to whoever wants to know just that; no text is.
func TestEventsAreTold(t *testing.T) {
	t.Parallel()
	h := build(t).with("harbourline")
	all, codes, labelled := hear(t, nil), hear(t, nil), hear(t, nil)
	h.tell("all", all)
	h.tell("codes", codes, func(s *client.ReceiverSettings) { s.Kinds, s.Types = &[]string{"otp"}, &[]string{"message.delivered"} })
	h.tell("island", labelled, func(s *client.ReceiverSettings) { s.Labels = map[string]string{"pier": "east"} })
	arrives := h.send(
		client.Draft{To: "+447700900100", Text: "Berth 7-SECRET", Reference: "b-7", Labels: map[string]string{"pier": "east", "a": "b"}},
	)
	fails := h.send(client.Draft{To: "+447700900180", Text: "x"})
	code := h.send(client.Draft{To: "+447700900101", Text: "Your code is 493117", Kind: "otp"})
	for _, id := range []string{arrives.ID, fails.ID, code.ID} {
		h.settled(id)
	}
	last := func(e *ear, id string) string {
		types := e.types(id)
		if len(types) == 0 {
			return ""
		}
		return types[len(types)-1]
	}
	eventually(t, "all are told", func() bool {
		return last(all, arrives.ID) == "message.delivered" && last(all, fails.ID) == "message.undeliverable" &&
			last(all, code.ID) == "message.delivered" &&
			len(codes.all()) == 1 &&
			last(labelled, arrives.ID) == "message.delivered"
	})
	if got := all.types(arrives.ID); got[0] != "message.accepted" || slices.Contains(got, "message.sending") {
		t.Errorf("%v", got)
	}
	for _, one := range all.all() {
		if strings.Contains(string(one.Data), "SECRET") || strings.Contains(string(one.Data), "493117") {
			t.Errorf("what a message says is told: %s", one.Data)
		}
	}
	if one := codes.all()[0]; one.message.ID != code.ID || one.message.Kind != "otp" {
		t.Errorf("%+v", one)
	}
	for _, one := range labelled.all() {
		if one.message.ID != arrives.ID {
			t.Errorf("island was told of %s", one.Data)
		}
	}
	page := must[client.List[client.Event]](t)(
		h.Client.Events(t.Context(), client.EventFilter{Message: arrives.ID, Types: []string{"message.delivered"}}, "", 9),
	)
	eventually(t, "it is written that they were told", func() bool {
		page = must[client.List[client.Event]](t)(
			h.Client.Events(t.Context(), client.EventFilter{Message: arrives.ID, Types: []string{"message.delivered"}}, "", 9),
		)
		return len(page.Items) == 1 && len(page.Items[0].Tellings) == 2 && page.Items[0].Tellings[0].Outcome == "told" &&
			page.Items[0].Tellings[1].Outcome == "told"
	})
	one := page.Items[0]
	var told client.Told
	var m client.MessageEvent
	if err := errors.Join(json.Unmarshal(one.Body, &told), json.Unmarshal(told.Data, &m)); err != nil {
		t.Fatal(err)
	}
	if m.To != "+447700900100" || m.Reference != "b-7" || m.Gateway != "harbourline" || !m.Final || m.Labels["pier"] != "east" ||
		m.Segments != 1 ||
		one.Tellings[0].Status != 204 ||
		one.Tellings[0].Tries != 1 {
		t.Errorf("%s, %+v", one.Body, one.Tellings)
	}
	code1, out, errOut := h.pigeon("", "event", "show", one.ID)
	if code1 != 0 || !strings.Contains(out, "island: told, 1 request. 204 after") || !strings.Contains(out, `"reference": "b-7"`) {
		t.Errorf("show: %d, %s%s", code1, out, errOut)
	}
	code1, out, errOut = h.pigeon("", "event", "list", "--receiver", "codes")
	if code1 != 0 || strings.Count(out, "message.delivered") != 1 {
		t.Errorf("list: %d, %s%s", code1, out, errOut)
	}
	// They are told again when somebody wants it, under the same ids.
	before := len(labelled.all())
	code1, out, errOut = h.pigeon("", "event", "replay", "--receiver", "island", "--since", "1h")
	if code1 != 0 || !strings.Contains(out, fmt.Sprintf("island is told again of %d events.", before)) {
		t.Errorf("replay: %d, %s%s", code1, out, errOut)
	}
	eventually(t, "they are told again", func() bool { return len(labelled.all()) == 2*before })
	if types := labelled.types(arrives.ID); len(types) != before {
		t.Errorf("under other ids: %v", types)
	}
	// A receiver that is added later can be told of what was before.
	late := hear(t, nil)
	h.tell("late", late, func(s *client.ReceiverSettings) { s.Types = &[]string{"message.undeliverable"} })
	if done := must[client.Retold](t)(h.Client.Retell(t.Context(), client.Retelling{Receiver: "late", Message: fails.ID})); done.Events != 1 {
		t.Errorf("%+v", done)
	}
	eventually(t, "late is told", func() bool { return last(late, fails.ID) == "message.undeliverable" })
}

// A receiver that fails, hangs, repeats and is gone for a while is told of everything in its order, also where the
// service is killed; and it holds up nobody else.
func TestReceiverThatFailsIsToldInTheEnd(t *testing.T) {
	t.Parallel()
	h := build(t, quick).with("harbourline")
	hangs := make(chan struct{})
	hang := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		select {
		case <-hangs:
		case <-r.Context().Done():
		}
	}))
	t.Cleanup(func() { close(hangs); hang.Close() })
	must[client.Receiver](t)(h.Client.AddReceiver(t.Context(), client.ReceiverSettings{Name: "hangs", Address: &hang.URL}))
	good := hear(t, nil)
	flaky := hear(t, func(n int, _ string) int {
		if n%3 == 1 && n < 60 {
			return http.StatusInternalServerError
		}
		return http.StatusNoContent
	})
	h.tell("good", good)
	h.tell("flaky", flaky)
	var ids []string
	for i := range 40 {
		ids = append(ids, h.send(client.Draft{To: fmt.Sprintf("+4477009002%02d", i), Text: "x", Kind: "bulk", AtAnyHour: true}).ID)
		if i == 20 {
			h.kill()
			h.start(h.listen())
		}
	}
	within(t, 60*time.Second, "good is told of all ends", func() bool { return ends(good, ids) == len(ids) })
	within(t, 90*time.Second, "flaky is told of all ends", func() bool { return ends(flaky, ids) == len(ids) })
	ranks := map[string]int{"message.accepted": 1, "message.enroute": 2, "message.delivered": 3}
	for _, e := range []*ear{good, flaky} {
		for _, id := range ids {
			types := e.types(id)
			for i := 1; i < len(types); i++ {
				if ranks[types[i]] < ranks[types[i-1]] && ranks[types[i]] > 0 {
					t.Errorf("%s was told in another order: %v", id, types)
				}
			}
		}
	}
	within(t, 20*time.Second, "it is said that one hangs", func() bool {
		r := must[client.Receiver](t)(h.Client.Receiver(t.Context(), "hangs"))
		return r.State != "working" && strings.Contains(r.Why, "no answer within 10s")
	})
}

// ends is of how many messages an end was told.
func ends(e *ear, ids []string) (n int) {
	final := map[string]bool{}
	for _, one := range e.all() {
		if one.message.Final {
			final[one.message.ID] = true
		}
	}
	for _, id := range ids {
		if final[id] {
			n++
		}
	}
	return n
}

// A secret is replaced with an overlap; redirects are not followed; what an address answers is shown.
func TestReceiversAreSetUp(t *testing.T) {
	t.Parallel()
	h := build(t).with("harbourline")
	e := hear(t, nil)
	code, out, errOut := h.pigeon("", "event", "receiver", "add", "shop", "--address", e.URL, "--type", "message.delivered")
	first := strings.TrimSpace(out)
	if code != 0 || !strings.HasPrefix(first, "whsec_") || !strings.Contains(errOut, "pigeon event receiver test shop") {
		t.Fatalf("add: %d, %s%s", code, out, errOut)
	}
	e.trust(first)
	code, out, errOut = h.pigeon("", "event", "receiver", "test", "shop")
	if code != 0 || !strings.Contains(out, "> webhook-signature: v1,") || !strings.Contains(out, "< 204 after") ||
		!strings.Contains(out, "It takes events.") {
		t.Errorf("test: %d, %s%s", code, out, errOut)
	}
	// Whoever knows only the old secret, and whoever knows only the new one, find what they look for.
	old := hear(t, nil).trust(first)
	if code, _, errOut := h.pigeon("", "event", "receiver", "set", "shop", "--address", old.URL); code != 0 {
		t.Fatal(errOut)
	}
	code, out, errOut = h.pigeon("", "event", "receiver", "rotate", "shop", "--overlap", "1h")
	second := strings.TrimSpace(out)
	if code != 0 || second == first || !strings.Contains(errOut, "signed with the one before, too") {
		t.Fatalf("rotate: %d, %s%s", code, out, errOut)
	}
	if trial := must[client.EventTrial](t)(h.Client.TestReceiver(t.Context(), "shop")); !trial.Taken ||
		strings.Count(trial.Exchange.RequestHeader["webhook-signature"], "v1,") != 2 {
		t.Errorf("%+v", trial)
	}
	fresh := hear(t, nil).trust(second)
	must[client.Receiver](t)(h.Client.ChangeReceiver(t.Context(), "shop", client.ReceiverSettings{Address: &fresh.URL}))
	if trial := must[client.EventTrial](t)(h.Client.TestReceiver(t.Context(), "shop")); !trial.Taken {
		t.Errorf("%+v", trial)
	}
	code, out, errOut = h.pigeon("", "event", "receiver", "rotate", "shop", "--overlap", "0s")
	fresh.trust(strings.TrimSpace(out))
	if r := must[client.Receiver](t)(h.Client.Receiver(t.Context(), "shop")); code != 0 || len(r.Signing) != 1 || r.Secret != "" {
		t.Errorf("%+v, %s", r, errOut)
	}
	if trial := must[client.EventTrial](t)(h.Client.TestReceiver(t.Context(), "shop")); strings.Count(
		trial.Exchange.RequestHeader["webhook-signature"],
		"v1,",
	) != 1 {
		t.Errorf("%+v", trial)
	}
	moved := hear(t, func(int, string) int { return http.StatusFound })
	must[client.Receiver](t)(h.Client.ChangeReceiver(t.Context(), "shop", client.ReceiverSettings{Address: &moved.URL}))
	code, out, errOut = h.pigeon("", "event", "receiver", "test", "shop")
	if code != 3 || !strings.Contains(out, "redirects are not followed") || moved.asked != 1 {
		t.Errorf("moved: %d, %s%s, asked %d times", code, out, errOut, moved.asked)
	}
	// One that wants no more is paused.
	gone := hear(t, func(int, string) int { return http.StatusGone })
	must[client.Receiver](t)(h.Client.ChangeReceiver(t.Context(), "shop", client.ReceiverSettings{Address: &gone.URL}))
	h.settled(h.send(client.Draft{To: "+447700900100", Text: "x"}).ID)
	eventually(t, "it is paused", func() bool { return must[client.Receiver](t)(h.Client.Receiver(t.Context(), "shop")).State == "paused" })
	for name, tt := range map[string]struct {
		s     client.ReceiverSettings
		field string
	}{
		"no address":      {client.ReceiverSettings{Name: "a"}, "address"},
		"no such address": {client.ReceiverSettings{Name: "a", Address: new("ftp://x")}, "address"},
		"a user in it":    {client.ReceiverSettings{Name: "a", Address: new("https://me:pw@app.example.net/")}, "address"},
		"no name":         {client.ReceiverSettings{Name: "A b", Address: &e.URL}, "name"},
		"the name of one": {client.ReceiverSettings{Name: "shop", Address: &e.URL}, "name"},
		"no such type": {client.ReceiverSettings{Name: "a", Address: &e.URL,
			Types: &[]string{"message.delivered", "message.read"}}, "types[1]"},
		"no such kind":       {client.ReceiverSettings{Name: "a", Address: &e.URL, Kinds: &[]string{"sms"}}, "kinds[0]"},
		"no such key":        {client.ReceiverSettings{Name: "a", Address: &e.URL, Keys: &[]string{"nobody"}}, "keys[0]"},
		"too many at once":   {client.ReceiverSettings{Name: "a", Address: &e.URL, AtOnce: new(1000)}, "at_once"},
		"too much time":      {client.ReceiverSettings{Name: "a", Address: &e.URL, Timeout: new(client.Span("1h"))}, "timeout"},
		"a secret too short": {client.ReceiverSettings{Name: "a", Address: &e.URL, Secret: new("whsec_c2hvcnQ=")}, "secret"},
		"reports to none":    {client.ReceiverSettings{Name: "a", Address: &e.URL, Reports: new("yes")}, "reports"},
	} {
		var p *client.Problem
		if _, err := h.Client.AddReceiver(t.Context(), tt.s); !errors.As(err, &p) || p.Status != 422 || len(p.Errors) == 0 ||
			p.Errors[0].Field != tt.field {
			t.Errorf("%s: %v", name, err)
		}
	}
	if code, _, errOut := h.pigeon("", "event", "receiver", "remove", "shop"); code != 0 {
		t.Error(errOut)
	}
	if code, _, errOut := h.pigeon("", "event", "receiver", "show", "shop"); code == 0 ||
		!strings.Contains(errOut, "There is no receiver") {
		t.Error(errOut)
	}
}

// A private address is called no more than a gateway's is, where that is not wanted.
func TestReceiversArePublic(t *testing.T) {
	t.Parallel()
	h := build(t, func(h *house) { h.flags = append(h.flags, "--no-private-addresses") })
	e := hear(t, nil)
	r := h.tell("inside", e)
	trial := must[client.EventTrial](t)(h.Client.TestReceiver(t.Context(), r.Name))
	if trial.Taken || !strings.Contains(trial.Wrong, "private address") || e.asked > 0 {
		t.Errorf("%+v", trial)
	}
}

// A message may name an address of its own, as far as its key may have it called.
func TestMessagesNameAddresses(t *testing.T) {
	t.Parallel()
	h := build(t).with("harbourline")
	e, other := hear(t, nil), hear(t, nil)
	h.tell("other", other)
	second := must[client.Key](t)(h.Client.NewKey(t.Context(), client.NewKey{Name: "till"}))
	h.tell("shop", e, func(s *client.ReceiverSettings) { s.Reports, s.Keys = new("only"), &[]string{"till"} })
	till := client.New(h.URL, second.Key)
	named := must[client.Message](t)(till.Send(t.Context(), client.Draft{To: "+447700900100", Text: "x", ReportTo: e.URL + "/orders/7"}))
	plain := must[client.Message](t)(till.Send(t.Context(), client.Draft{To: "+447700900101", Text: "x"}))
	h.settled(named.ID)
	h.settled(plain.ID)
	eventually(t, "both are told", func() bool {
		return ends(e, []string{named.ID}) == 1 && ends(other, []string{named.ID, plain.ID}) == 2
	})
	for _, one := range e.all() {
		if one.message.ID != named.ID || one.path != "/hook/orders/7" {
			t.Errorf("%s was told at %s", one.message.ID, one.path)
		}
	}
	if m := must[client.Message](t)(h.Client.Message(t.Context(), named.ID, false)); m.ReportTo != e.URL+"/orders/7" {
		t.Errorf("%+v", m)
	}
	for name, tt := range map[string]struct {
		with *client.Client
		to   string
	}{
		"another host":       {till, "http://127.0.0.1:1/hook/x"},
		"beside it":          {till, e.URL + "s/x"},
		"above it":           {till, e.URL + "/../admin"},
		"above it, hidden":   {till, e.URL + "/%2e%2e/admin"},
		"no address":         {till, "x"},
		"another key":        {h.Client, e.URL + "/x"},
		"one that names one": {till, other.URL + "/x"},
	} {
		var p *client.Problem
		_, err := tt.with.Send(t.Context(), client.Draft{To: "+447700900100", Text: "x", ReportTo: tt.to})
		if !errors.As(err, &p) || len(p.Errors) != 1 || p.Errors[0].Field != "report_to" {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// Events are brought to a developer's machine, signed as they will be; what is not taken there comes again.
func TestEventsAreFollowed(t *testing.T) {
	t.Parallel()
	h := build(t).with("harbourline")
	e := hear(t, func(n int, _ string) int {
		if n == 0 {
			return http.StatusInternalServerError
		}
		return http.StatusNoContent
	})
	ctx, stop := context.WithCancel(t.Context())
	cmd := exec.CommandContext(ctx, pigeon, "event", "follow", "--to", e.URL, "--url", h.URL, "--key", h.Key)
	cmd.Cancel = func() error { return cmd.Process.Signal(os.Interrupt) }
	var said safe
	cmd.Stdout, cmd.Stderr = &said, &said
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	eventually(t, "it follows", func() bool { return strings.Contains(said.String(), "Following.") })
	secret, _, _ := strings.Cut(said.String()[strings.Index(said.String(), "whsec_"):], "\n")
	e.trust(secret)
	m := h.settled(h.send(client.Draft{To: "+447700900100", Text: "x"}).ID)
	within(t, 30*time.Second, "all of it comes in its order", func() bool {
		types := e.types(m.ID)
		return len(types) > 1 && types[0] == "message.accepted" && types[len(types)-1] == "message.delivered"
	})
	if out := said.String(); !strings.Contains(out, "it answered 500 Internal Server Error, tried again later") {
		t.Error(out)
	}
	stop()
	cmd.Wait()
	eventually(t, "nobody follows any more", func() bool {
		return len(must[client.List[client.Receiver]](t)(h.Client.Receivers(t.Context())).Items) == 0
	})
}

// safe is what a command says, read while it goes on.
type safe struct {
	mu sync.Mutex
	b  strings.Builder
}

func (s *safe) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}

func (s *safe) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.String()
}

// Batches that move, somebody who writes, and what wants somebody are told of, too.
func TestOtherEventsAreTold(t *testing.T) {
	t.Parallel()
	h := build(t).with("harbourline", "waxseal")
	const own = "+447700900000"
	must[client.Sender](t)(h.Client.AddSender(t.Context(), client.NewSender{Sender: own, TwoWay: true}))
	e := hear(t, nil)
	h.tell("all", e, func(s *client.ReceiverSettings) { s.Types = &[]string{"batch.*", "reply.received", "attention.*"} })
	one := h.batched(
		[]byte("+447700900100\n+447700900101\n"),
		client.BatchWants{Name: "Sunday", Text: "x", AtAnyHour: true, Gateway: "harbourline"},
	)
	must[client.Batch](t)(h.Client.LaunchBatch(t.Context(), one.ID, client.Launch{}))
	eventually(t, "the batch is over", func() bool {
		types := e.types(one.ID)
		return len(types) == 3 && types[0] == "batch.rehearsed" && types[1] == "batch.running" && types[2] == "batch.finished"
	})
	h.settled(h.send(client.Draft{To: "+447700900123", Text: "x", Sender: own, Gateway: "waxseal"}).ID)
	h.reply("+447700900123", "Is the bar open?")
	eventually(t, "somebody wrote", func() bool { return len(e.types("Is the bar open?")) == 1 })
	if err := h.Fleet.Misbehave(fleet.Mood{Gateway: "harbourline", How: "credentials expired"}); err != nil {
		t.Fatal(err)
	}
	h.send(client.Draft{To: "+447700900100", Text: "x", Gateway: "harbourline"})
	within(
		t,
		30*time.Second,
		"a gateway that rests is told of",
		func() bool { return slices.Contains(e.types("gateway_rests"), "attention.raised") },
	)
}

// On the page of events an address is added and tried, and what it was told is looked at and told again.
func TestConsoleEvents(t *testing.T) {
	t.Parallel()
	h := build(t).with("harbourline")
	e := hear(t, nil)
	b := open(t)
	b.do(chromedp.Navigate(h.URL + "/events#key=" + h.Key))
	b.shows(".empty", "Nobody is told")
	b.write(`input[aria-label="Name of the receiver"]`, "shop")
	b.write(`input[aria-label="Its address"]`, e.URL)
	b.write(`input[aria-label="Types of events"]`, "message.delivered, message.reed")
	b.do(chromedp.Click(`.filters button[type="submit"]`))
	b.shows(".page", `"message.reed" is no type of events`)
	b.write(`input[aria-label="Types of events"]`, "message.delivered")
	b.do(chromedp.Click(`.filters button[type="submit"]`))
	b.shows(".notice", "It is shown this once")
	secret := must[string](t)(chromedp.Run(b.ctx, chromedp.Text(".notice .mono")))
	e.trust(strings.TrimSpace(secret))
	b.do(chromedp.Click(".notice .btn-link"))
	b.do(chromedp.Click(`tbody .btn-outline-primary`))
	b.shows("tr.raw", "It takes events.")
	b.shows("tr.raw", "webhook-signature: v1,")
	b.do(chromedp.Click(`tr.raw button.plain`))
	m := h.settled(h.send(client.Draft{To: "+447700900123", Text: "x", Reference: "booking-7"}).ID)
	b.shows(".events", "shop took it after")
	b.shows(".events", "booking-7")
	b.do(chromedp.Click(`.events button.plain`))
	b.shows(".events tr.raw", `"state": "delivered"`)
	before := len(e.all())
	b.do(chromedp.Click(`.events tr.raw .btn-outline-primary`))
	b.shows(".notice[role=status]", "shop is told again of 1 event.")
	eventually(t, "it is told again", func() bool { return len(e.all()) == before+1 && len(e.types(m.ID)) == 1 })
}
