package dispatch

import (
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/store"
)

// Gateways are spread evenly, and only those move that a joining instance gains or a leaving one had.
func TestGatewaysAreSpread(t *testing.T) {
	t.Parallel()
	const many = 3000
	gateways := make([]uuid.UUID, many)
	for i := range gateways {
		gateways[i] = store.NewID()
	}
	instances := []uuid.UUID{store.NewID(), store.NewID(), store.NewID(), store.NewID()}
	counts := map[uuid.UUID]int{}
	for _, g := range gateways {
		before, after := chosen(g, instances[:3]), chosen(g, instances)
		counts[after]++
		if before != after && after != instances[3] {
			t.Errorf("a gateway moved from one that stays to another that was there")
		}
	}
	for _, id := range instances {
		if n := counts[id]; n < many/5 || n > many/3 {
			t.Errorf("of %d gateways one of four instances has %d", many, n)
		}
	}
	if chosen(gateways[0], nil) != uuid.Nil {
		t.Error("where nobody is at work somebody was chosen")
	}
}

// A process that stood still is noticed by whoever asks first after it, and for what began before.
func TestAStallIsNoticed(t *testing.T) {
	t.Parallel()
	var s stalls
	now := time.Now()
	at := func(ms int) time.Time { return now.Add(time.Duration(ms) * time.Millisecond) }
	for ms := 0; ms <= 1000; ms += 50 {
		s.note(at(ms))
	}
	if s.since(at(0), at(1010)) {
		t.Error("it ran, and is said to have stood still")
	}
	if !s.since(at(900), at(9000)) {
		t.Error("it stood still for 8 s, and nobody noticed")
	}
	if s.since(at(9001), at(9050)) {
		t.Error("what began after the stall is said to have met it")
	}
}

// Requests that time out while this process stands still make no gateway rest, and of several that fail
// together one doubles the rest.
func TestOurOwnStallIsNoFaultOfTheGateway(t *testing.T) {
	t.Parallel()
	k, _ := alone(t, 100, 50)
	fails := func(began time.Time, ours bool) {
		k.learn(
			lesson{
				cause: delivery.GatewayFault,
				note:  "no answer",
				began: began,
				ours:  ours,
				at:    []store.Message{message("+447700900123", "x")},
			},
		)
	}
	for range 20 {
		fails(time.Now(), true)
	}
	if k.resting() || k.rests != 0 {
		t.Errorf("it rests for our own stall: %d", k.rests)
	}
	began := time.Now()
	for range 20 {
		fails(began, false)
	}
	if !k.resting() || k.rests != 1 {
		t.Errorf("of 20 that failed together the rests are %d", k.rests)
	}
}

// fussy is a gateway that fails at texts that say so, and takes all others.
type fussy struct {
	ledger
	cuts bool // it ends the connection, and says nothing
}

func (f *fussy) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	if strings.Contains(string(body), "poison") {
		if f.cuts {
			panic(http.ErrAbortHandler)
		}
		w.WriteHeader(http.StatusServiceUnavailable)
		return
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.taken[string(body)]++
	w.Write([]byte("{}"))
}

// A few messages at which a gateway always fails hold up no others.
func TestAFewThatAlwaysFailHoldUpNobody(t *testing.T) {
	t.Parallel()
	for name, cuts := range map[string]bool{"it says that it fails": false, "it cuts their connection": true} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			f := &fussy{ledger{taken: map[string]int{}}, cuts}
			r := runsOn(t, f, "dialect: fussy\n"+
				"submit:\n  request: {post: /s, json: '.text + .id'}\n  reply:\n    - {when: .status == 503, refused: gateway_fault}\n"+
				"    - {when: .status == 200, read: '{state: \"accepted\"}'}\n", 200)
			until(t, "the gateway is kept", func() bool { return r.Keeps(r.g.ID) })
			r.acceptSaying(t, 12, pace.Transactional, "poison")
			until(t, "it rests", func() bool { return r.keeper(r.g.ID).resting() })
			others := r.accept(t, 100, pace.Transactional)
			until(t, "all others are accepted", func() bool { return r.states(t, others)[delivery.Accepted] == len(others) })
		})
	}
}

// A message at which a gateway fails time and again, while it takes others, has an end: rejected where
// the gateway says that it failed, unknown where it may have taken it.
func TestWhatFailsAloneHasAnEnd(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		claim  delivery.State
		cause  delivery.Cause
		times  int
		others int // that it took meanwhile
		want   delivery.State
	}{
		{delivery.Queued, delivery.GatewayFault, lonelyMost - 1, 1, delivery.Rejected},
		{delivery.Doubtful, "", lonelyMost - 1, 1, delivery.Unknown},
		{delivery.Queued, delivery.GatewayFault, lonelyMost - 2, 1, delivery.Queued},
		{delivery.Doubtful, "", lonelyMost - 2, 1, delivery.Doubtful},
		{delivery.Queued, delivery.GatewayFault, lonelyMost - 1, 0, delivery.Queued},
		{delivery.Doubtful, "", lonelyMost - 1, 0, delivery.Doubtful},
		{delivery.Queued, delivery.Limited, lonelyMost - 1, 1, delivery.Queued},
		{delivery.Accepted, "", lonelyMost - 1, 1, delivery.Accepted},
	} {
		k, _ := alone(t, 100, 8)
		m := message("+447700900123", "x")
		m.ID = store.NewID()
		k.failedAt[m.ID] = failing{times: c.times}
		k.successes = c.others
		r := result{
			evidence: []store.Evidence{{MessageID: m.ID, Claim: c.claim, Cause: c.cause}},
			steps:    course.Steps{m.ID: {}},
			moves:    []move{{message: m}},
		}
		k.endLonely(&r)
		ended := c.want != c.claim
		if got := r.evidence[0].Claim; got != c.want || ended != (len(r.moves) == 0) || ended != (len(r.steps) == 0) {
			t.Errorf("%+v: it is %s, %d moves, %d steps", c, got, len(r.moves), len(r.steps))
		}
	}
}
