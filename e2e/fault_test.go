package e2e

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/fleet"
	"calmpigeon.example/internal/fleet/arrival"
	"calmpigeon.example/internal/postgres"
)

// accepted sends until the message is committed, however often the service
// dies meanwhile: the idempotency key makes that harmless.
func (h *house) accepted(ctx context.Context, d client.Draft, key string) (client.Message, error) {
	for {
		try, cancel := context.WithTimeout(ctx, 3*time.Second)
		m, err := h.Client.SendOnce(try, d, key)
		cancel()
		problem, refused := err.(*client.Problem)
		if err == nil || ctx.Err() != nil || refused && problem.Status < 500 {
			return m, err
		}
		select {
		case <-ctx.Done():
		case <-time.After(30 * time.Millisecond):
		}
	}
}

// The service is killed at random moments under load, again and again. At the
// end no accepted message is missing, none was handed to the gateway more
// often than its evidence allowed, and everything adds up.
func TestKilledAtRandomMoments(t *testing.T) {
	t.Parallel()
	const kills, senders, each = 32, 6, 60
	h := build(t, quick).withHarbourline()
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	ctx, cancel := context.WithTimeout(t.Context(), 4*time.Minute)
	defer cancel()

	// Every way in which a message ends in the end; those that are never taken
	// or never heard of again only make the test long.
	endings := []int{1, 23, 44, 80, 81, 82, 83, 84, 87, 88, 90, 91, 92, 93, 94, 95, 96}
	var mu sync.Mutex
	sent := map[string]client.Draft{}
	var loading sync.WaitGroup
	paced := make(chan struct{}) // so that there is load until the last kill
	for s := range senders {
		loading.Go(func() {
			r := rand.New(rand.NewPCG(seed, uint64(s)))
			for i := range each {
				if i%2 == 0 {
					select {
					case <-paced:
					case <-ctx.Done():
						return
					}
				}
				d := client.Draft{
					To:   fmt.Sprintf("+44770090%02d%02d", s, endings[r.IntN(len(endings))]),
					Text: fmt.Sprintf("Text %d of sender %d", i, s),
				}
				m, err := h.accepted(ctx, d, fmt.Sprintf("%d-%d", s, i))
				if err != nil {
					t.Errorf("sender %d, text %d: %v", s, i, err)
					return
				}
				mu.Lock()
				sent[m.ID] = d
				mu.Unlock()
			}
		})
	}
	r := rand.New(rand.NewPCG(seed, 99))
	for range kills {
		end := time.After(time.Duration(100+r.IntN(1700)) * time.Millisecond)
		for alive := true; alive; {
			select {
			case paced <- struct{}{}:
				select { // spread what is left over what is left of time
				case <-time.After(time.Duration(r.IntN(200)) * time.Millisecond):
				case <-end:
					alive = false
				}
			case <-end:
				alive = false
			}
		}
		h.kill()
		h.restart()
	}
	close(paced)
	loading.Wait()
	if len(sent) != senders*each {
		t.Fatalf("%d messages were accepted of %d", len(sent), senders*each)
	}
	var tally client.Tally
	// Each message that is answered 429 makes the gateway rest for a second, and
	// as they go evenly spread they seldom share one.
	within(t, 2*time.Minute, "every message is settled", func() bool {
		tally = must[client.Tally](t)(h.Client.Tally(ctx, client.Filter{}))
		open := tally.Total
		for _, s := range delivery.States {
			if s.Final() {
				open -= tally.States[string(s)]
			}
		}
		return open == 0
	})
	t.Log(tally.Equation)
	h.audit(sent)
}

// audit holds what the service says against the gateway's own ledger and the
// handsets.
func (h *house) audit(sent map[string]client.Draft) {
	t := h.t
	t.Helper()
	var sum int64
	tally := must[client.Tally](t)(h.Client.Tally(t.Context(), client.Filter{}))
	for _, n := range tally.States {
		sum += n
	}
	if sum != tally.Total || tally.Total != int64(len(sent)) {
		t.Errorf("%s, states sum to %d, sent were %d", tally.Equation, sum, len(sent))
	}
	submissions := map[string]int{}
	for _, e := range h.Fleet.Harbourline.Entries() {
		submissions[e.Ref] = e.Submissions
		if _, known := sent[e.Ref]; !known {
			t.Errorf("the gateway took %s, which nobody sent", e.Ref)
		}
	}
	shown := map[string]int{}
	for _, p := range h.Fleet.Phones.All("", 100) {
		for _, text := range p.Texts {
			shown[p.Number+text.Text]++
		}
	}
	again := 0
	for id, d := range sent {
		m := must[client.Message](t)(h.Client.Message(t.Context(), id, false))
		if m.Text != d.Text || m.To != d.To {
			t.Errorf("%s is %q to %s, sent was %q to %s", id, m.Text, m.To, d.Text, d.To)
		}
		begun, allowed := map[int]bool{}, map[int]bool{}
		for _, e := range m.Evidence {
			begun[e.Attempt] = begun[e.Attempt] || e.Claim == "sending"
			allowed[e.Attempt] = allowed[e.Attempt] || e.Claim == "queued"
		}
		for attempt := 2; attempt <= m.Attempts; attempt++ {
			if begun[attempt] && !allowed[attempt-1] {
				t.Errorf("%s: attempt %d was begun, and nothing allowed it: %v", id, attempt, claims(m))
			}
		}
		if submissions[id] > m.Attempts {
			t.Errorf("%s was handed over %d times in %d attempts", id, submissions[id], m.Attempts)
		}
		if submissions[id] > 1 {
			again++
		}
		want := 0
		if m.State == "delivered" {
			want = 1
		}
		if got := shown[d.To+d.Text]; got != want {
			t.Errorf("%s is %s, and on the handset %d times: %v", id, m.State, got, claims(m))
		}
	}
	t.Logf("%d of %d were handed over more than once, with the same reference", again, len(sent))
}

// restart starts the service where it was.
func (h *house) restart() { h.start(h.listen()) }

// The database goes away and comes back while messages are on their way.
func TestDatabaseRestarts(t *testing.T) {
	t.Parallel()
	folder, err := os.MkdirTemp("", "pigeon-restart-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(folder) })
	if err := os.Chmod(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	server := must[*postgres.Server](t)(postgres.Start(t.Context(), folder, postgres.Options{}))
	t.Cleanup(func() { server.Stop() })
	h := buildOn(t, server.URL).withHarbourline()
	sent := map[string]client.Draft{}
	var mu sync.Mutex
	var loading sync.WaitGroup
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	for s := range 4 {
		loading.Go(func() {
			for i := range 40 {
				d := client.Draft{To: fmt.Sprintf("+447700900%d%02d", s, i), Text: fmt.Sprintf("Text %d", i)}
				m, err := h.accepted(ctx, d, fmt.Sprintf("%d-%d", s, i))
				if err != nil {
					t.Error(err)
					return
				}
				mu.Lock()
				sent[m.ID] = d
				mu.Unlock()
			}
		})
	}
	for range 3 {
		h.untilSome(ctx)
		port := server.Port()
		server.Stop()
		if response, _ := h.request("GET", "/healthz", ""); response.StatusCode != http.StatusServiceUnavailable {
			t.Errorf("without a database the service is %s", response.Status)
		}
		server = must[*postgres.Server](t)(postgres.Start(t.Context(), folder, postgres.Options{Port: port}))
	}
	loading.Wait()
	eventually(t, "every message is delivered", func() bool {
		tally, err := h.Client.Tally(ctx, client.Filter{})
		return err == nil && tally.States["delivered"] == 160
	})
	h.audit(sent)
}

// untilSome waits until another ten texts have reached the gateway.
func (h *house) untilSome(ctx context.Context) {
	before := len(h.Fleet.Harbourline.Entries())
	deadline := time.After(10 * time.Second)
	for len(h.Fleet.Harbourline.Entries()) < before+10 {
		select {
		case <-ctx.Done():
			return
		case <-deadline: // all are there
			return
		case <-time.After(5 * time.Millisecond):
		}
	}
}

const plainDialect = `
dialect: plain
limits: {per_second: %d, in_flight: 16}
submit:
  request: {post: /send, json: "{to, text, id}"}
  reply:
    - when: .status == 200
      read: "{gateway_ref: .body.id, state: \"accepted\"}"
`

// Two instances share a database. In no second does the gateway get more than
// it allows, also when the instance that keeps it is killed; and while there
// is work the limit is used.
func TestNeverFasterThanAllowedAcrossInstances(t *testing.T) {
	t.Parallel()
	const limit, messages = 30, 150
	h := build(t, quick)
	var mu sync.Mutex
	var arrived []time.Time
	seen := map[string]int{}
	gateway := stamped(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		arrived = append(arrived, arrival.Of(r))
		body, _ := io.ReadAll(r.Body)
		seen[string(body)]++
		fmt.Fprintf(w, `{"id":"p-%d"}`, len(arrived))
	}))
	defer gateway.Close()
	must[client.Gateway](
		t,
	)(
		h.Client.AddGateway(
			t.Context(),
			client.NewGateway{Source: fmt.Sprintf(plainDialect, limit), Address: gateway.URL, AskAfter: "1h", GiveUpAfter: "2h"},
		),
	)
	second := h.beside()

	for i := range messages {
		c := []*client.Client{h.Client, second.Client}[i%2]
		must[client.Message](t)(c.Send(t.Context(), client.Draft{To: "+447700900123", Text: fmt.Sprintf("Text %d", i), Kind: "bulk"}))
	}
	count := func() int {
		mu.Lock()
		defer mu.Unlock()
		return len(arrived)
	}
	eventually(t, "half are sent", func() bool { return count() >= messages/2 })
	h.kill()
	eventually(t, "the other instance sends the rest", func() bool {
		tally := must[client.Tally](t)(second.Client.Tally(t.Context(), client.Filter{}))
		return tally.States["queued"]+tally.States["sending"] == 0
	})
	h.restart() // so that it can be stopped as usual

	mu.Lock()
	defer mu.Unlock()
	slices.SortFunc(arrived, time.Time.Compare)
	busiest := 0
	for i := range arrived {
		n := 0
		for j := i; j < len(arrived) && arrived[j].Sub(arrived[i]) < time.Second; j++ {
			n++
		}
		busiest = max(busiest, n)
	}
	if busiest > limit || busiest < limit*9/10 {
		t.Errorf("the busiest second had %d messages, the limit is %d", busiest, limit)
	}
	for text, n := range seen {
		if n > 1 {
			t.Errorf("%s was sent %d times", text, n)
		}
	}
}

// Without a reference that the gateway honours and without a query, nothing
// that is in doubt goes a second time; a passcode does, for it harms nobody.
func TestDoubtIsNotResolvedByHoping(t *testing.T) {
	t.Parallel()
	h := build(t)
	var mu sync.Mutex
	got := map[string]int{}
	gateway := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		mu.Lock()
		got[string(body)]++
		mu.Unlock()
		panic(http.ErrAbortHandler)
	}))
	defer gateway.Close()
	source := `
dialect: plain
submit:
  request: {post: /send, json: "{text}"}
  reply:
    - {when: .status == 200, read: "{state: \"accepted\"}"}
`
	must[client.Gateway](t)(h.Client.AddGateway(t.Context(), client.NewGateway{Source: source, Address: gateway.URL, GiveUpAfter: "4s"}))
	var ids []string
	for _, kind := range []string{"transactional", "bulk"} {
		ids = append(ids, h.send(client.Draft{To: "+447700900123", Text: kind, Kind: kind}).ID)
	}
	code := h.send(client.Draft{To: "+447700900123", Text: "otp", Kind: "otp", ValidFor: "3s"})
	for _, id := range ids {
		if m := h.settled(id); m.State != "unknown" || m.Attempts != 1 {
			t.Errorf("%s became %s after %d attempts", m.Kind, m.State, m.Attempts)
		}
	}
	if m := h.settled(code.ID); m.State != "unknown" || m.Attempts < 2 {
		t.Errorf("the passcode became %s after %d attempts: %v", m.State, m.Attempts, claims(m))
	}
	mu.Lock()
	defer mu.Unlock()
	if got[`{"text":"transactional"}`] != 1 || got[`{"text":"bulk"}`] != 1 || got[`{"text":"otp"}`] < 2 {
		t.Errorf("the gateway got %v", got)
	}
}

// A gateway that is away: known not to be taken, tried again, and sent when it
// is back.
func TestGatewayComesBack(t *testing.T) {
	t.Parallel()
	h := build(t)
	gateway := stamped(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, `{"id":"p-1"}`) }))
	address := gateway.Listener.Addr().String()
	gateway.Listener.Close()
	must[client.Gateway](
		t,
	)(
		h.Client.AddGateway(
			t.Context(),
			client.NewGateway{Source: fmt.Sprintf(plainDialect, 30), Address: "http://" + address, AskAfter: "1h", GiveUpAfter: "2h"},
		),
	)
	m := h.send(client.Draft{To: "+447700900123", Text: "x"})
	h.await(m.ID, "it was tried and is queued again", func(m client.Message) bool {
		return m.State == "queued" && m.Attempts > 0 && m.Cause == "gateway_fault"
	})
	back := &http.Server{Addr: address, Handler: gateway.Config.Handler}
	go back.ListenAndServe()
	defer back.Close()
	m = h.await(m.ID, "it was taken", func(m client.Message) bool { return m.State == "accepted" })
	if m.Evidence[2].Source != "own" || m.Evidence[2].Raw.Status != 0 || m.Evidence[2].Raw.Error == "" {
		t.Errorf("the first try is told as %+v", m.Evidence[2])
	}
}

// What waits can be withdrawn, and never goes; what has gone cannot.
func TestCancel(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	m := h.send(client.Draft{To: "+447700900186", Text: "500 every time"})
	h.await(m.ID, "it waits for its next try", func(m client.Message) bool { return m.State == "queued" && m.Attempts > 0 })
	// Its keeper may be about to try again: then it is gone for a moment.
	eventually(t, "it is withdrawn", func() bool {
		code, out, errOut := h.pigeon("", "message", "cancel", m.ID)
		if code != 0 && !strings.Contains(errOut, "can no longer be withdrawn") {
			t.Fatalf("%d %s%s", code, out, errOut)
		}
		return code == 0
	})
	m = h.settled(m.ID)
	if last := m.Evidence[len(m.Evidence)-1]; m.State != "cancelled" || last.Source != "operator" ||
		!strings.Contains(last.Note, "the key first") {
		t.Errorf("became %s by %+v", m.State, last)
	}
	gone := h.settled(h.send(client.Draft{To: "+447700900123", Text: "x"}).ID)
	for id, want := range map[string]int{gone.ID: http.StatusConflict, m.ID: http.StatusConflict, "01a20774-0000-7000-8000-000000000000": http.StatusNotFound} {
		_, err := h.Client.Cancel(t.Context(), id)
		if problem, ok := err.(*client.Problem); !ok || problem.Status != want {
			t.Errorf("withdrawing %s: %v, want %d", id, err, want)
		}
	}
}

// Killed while large requests are under way, nothing is unaccounted for and
// nothing goes twice, though the gateway takes the same reference twice for two.
func TestKilledWithLargeRequests(t *testing.T) {
	t.Parallel()
	h := build(t, quick).with("longshore")
	must[client.Gateway](t)(h.Client.PauseGateway(t.Context(), "longshore", ""))
	const n = 240
	sent := make([]string, n)
	var all sync.WaitGroup
	gate := make(chan struct{}, 16)
	for i := range n {
		gate <- struct{}{}
		all.Go(func() {
			sent[i] = h.send(
				client.Draft{To: fmt.Sprintf("+4477009%05d", i/80*100+i%80), Text: fmt.Sprintf("Storm %d", i), Kind: "bulk"},
			).ID
			<-gate
		})
	}
	all.Wait()
	if err := h.Fleet.Misbehave(fleet.Mood{Gateway: "longshore", How: "slow", Share: 0.7}); err != nil {
		t.Fatal(err)
	}
	per := 40 // so that there is something under way at every kill
	must[client.Gateway](t)(h.Client.ChangeGateway(t.Context(), "longshore", client.GatewayChange{PerSecond: &per}))
	must[client.Gateway](t)(h.Client.ResumeGateway(t.Context(), "longshore"))
	for i := range 5 {
		before := len(h.Fleet.Longshore.Entries())
		eventually(t, "the gateway takes more", func() bool { return len(h.Fleet.Longshore.Entries()) > before+5*i || before == n })
		h.kill()
		h.restart()
	}
	h.Fleet.Behave()
	taken := map[string]int{}
	unknown := 0
	for _, id := range sent {
		m := h.settled(id)
		if m.State != "delivered" && m.State != "unknown" {
			t.Errorf("%s to %s is %s: %v", id, m.To, m.State, claims(m))
		}
		if m.State == "unknown" {
			unknown++
		}
		taken[id] = 0
	}
	for _, e := range h.Fleet.Longshore.Entries() {
		if taken[e.Ref]++; taken[e.Ref] > 1 {
			t.Errorf("%s was taken %d times", e.Ref, taken[e.Ref])
		}
	}
	for id, times := range taken {
		m := must[client.Message](t)(h.Client.Message(t.Context(), id, false))
		if times == 0 && m.State == "delivered" || times == 1 && m.State == "unknown" {
			t.Errorf("%s is %s, and was taken %d times: %v", id, m.State, times, claims(m))
		}
	}
	t.Logf("%d of %d are unknown", unknown, n)
}
