package dispatch

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/engine/courier"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/roster/rostertest"
	"calmpigeon.example/internal/postgres/pgproxy"
	"calmpigeon.example/internal/postgres/pgtest"
	"calmpigeon.example/internal/store"
)

// ledger is a gateway that writes down what it takes.
type ledger struct {
	mu    sync.Mutex
	taken map[string]int
	hold  chan struct{} // requests wait for it, if it is set
}

func (l *ledger) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	if l.hold != nil {
		<-l.hold
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.taken[string(body)]++
	w.Write([]byte("{}"))
}

const plainly = "dialect: plainly\n" +
	"submit: {request: {post: /s, json: '.id'}, reply: [{when: .status == 200, read: '{state: \"accepted\"}'}]}\n"

// running is a dispatch behind a proxy that sends through a gateway with a ledger, until the
// test or stop ends it.
type running struct {
	*Dispatch
	direct *store.Store
	proxy  *pgproxy.Proxy
	ledger *ledger
	g      *roster.Gateway
	stop   func()
}

func runs(t *testing.T, l *ledger, perSecond int) *running {
	t.Helper()
	r := runsOn(t, l, plainly, perSecond)
	r.ledger = l
	return r
}

// runsOn is runs with a gateway of its own dialect; set may set more of the dispatch.
func runsOn(t *testing.T, handler http.Handler, source string, perSecond int, set ...func(*Dispatch)) *running {
	t.Helper()
	url := pgtest.Database(t)
	proxy, err := pgproxy.Start(url)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(proxy.Close)
	_, direct := rostertest.On(t, url)
	gateways, s := rostertest.On(t, proxy.URL)
	server := httptest.NewServer(handler)
	t.Cleanup(server.Close)
	k := rostertest.Kit(gateways, s)
	d := &Dispatch{
		Kit:        k,
		Courier:    courier.New(k.Now, false),
		Course:     &course.Course{Kit: k},
		Lease:      time.Second,
		SweepEvery: 200 * time.Millisecond,
	}
	for _, one := range set {
		one(d)
	}
	r := &running{Dispatch: d, direct: direct, proxy: proxy}
	r.g = rostertest.Gateway(t, gateways, source, roster.Settings{Address: &server.URL, PerSecond: &perSecond})
	ctx, stop := context.WithCancel(context.Background())
	var run sync.WaitGroup
	run.Go(func() { d.Run(ctx) })
	r.stop = func() { stop(); run.Wait() }
	t.Cleanup(r.stop)
	return r
}

// accept accepts n messages.
func (r *running) accept(t *testing.T, n int, kind pace.Kind) []uuid.UUID {
	t.Helper()
	return r.acceptSaying(t, n, kind, "x")
}

func (r *running) acceptSaying(t *testing.T, n int, kind pace.Kind, text string) []uuid.UUID {
	t.Helper()
	set := make([]store.Acceptance, n)
	all := make([]uuid.UUID, n)
	for i := range set {
		m := rostertest.Message(r.g, r.Now())
		m.Kind, m.Lane, m.Text = kind, kind.Lane(), text
		set[i].Message, all[i] = m, m.ID
	}
	if _, err := r.direct.Accept(t.Context(), set); err != nil {
		t.Fatal(err)
	}
	r.Bells.Ring(r.g.ID, kind == pace.OTP)
	return all
}

// states counts the states of messages.
func (r *running) states(t *testing.T, all []uuid.UUID) map[delivery.State]int {
	t.Helper()
	counts := map[delivery.State]int{}
	for _, id := range all {
		m, err := r.direct.Message(t.Context(), id)
		if err != nil {
			t.Fatal(err)
		}
		counts[m.State]++
	}
	return counts
}

// until waits for a condition.
func until(t *testing.T, what string, is func() bool) {
	t.Helper()
	for deadline := time.Now().Add(40 * time.Second); !is(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("waited in vain: %s", what)
		}
	}
}

// However the COMMIT of a claim or of an outcome breaks, each message goes once and has
// an end that is known.
func TestAClaimWhoseCommitBreaks(t *testing.T) {
	t.Parallel()
	for name, fault := range map[string]pgproxy.Fault{
		"its answer is lost":               {Within: "INSERT INTO to_ask", Do: pgproxy.LoseAnswer},
		"it is not sent":                   {Within: "INSERT INTO to_ask", Do: pgproxy.CutBefore},
		"answers are lost again and again": {Within: "INSERT INTO to_ask", Do: pgproxy.LoseAnswer, Times: 4},
		"of an outcome, its answer":        {Within: "INSERT INTO exchange_packs", Do: pgproxy.LoseAnswer},
		"of an outcome, not sent":          {Within: "INSERT INTO exchange_packs", Do: pgproxy.CutBefore},
	} {
		for _, kind := range []pace.Kind{pace.OTP, pace.Bulk} {
			t.Run(fmt.Sprintf("%s, %s", name, kind), func(t *testing.T) {
				t.Parallel()
				r := runs(t, &ledger{taken: map[string]int{}}, 500)
				until(t, "the gateway is kept", func() bool { return r.Keeps(r.g.ID) })
				in := r.proxy.Inject(fault)
				all := r.accept(t, 40, kind)
				until(t, "all are accepted", func() bool { return r.states(t, all)[delivery.Accepted] == len(all) })
				select {
				case <-in.Hit:
				default:
					t.Error("nothing broke")
				}
				r.ledger.mu.Lock()
				defer r.ledger.mu.Unlock()
				for _, id := range all {
					if n := r.ledger.taken[`"`+id.String()+`"`]; n != 1 {
						t.Errorf("%s went %d times", id, n)
					}
				}
			})
		}
	}
}

// An outcome of a claim that stays unknown for long is waited for; then what was claimed goes.
func TestAClaimThatIsKnownLate(t *testing.T) {
	t.Parallel()
	r := runs(t, &ledger{taken: map[string]int{}}, 500)
	until(t, "the gateway is kept", func() bool { return r.Keeps(r.g.ID) })
	var mu sync.Mutex
	away := true
	in := r.proxy.Inject(pgproxy.Fault{Within: "INSERT INTO to_ask", Do: pgproxy.LoseAnswer})
	r.proxy.Inject(pgproxy.Fault{At: "fence", Do: pgproxy.CutBefore, Times: -1, When: func() bool {
		mu.Lock()
		defer mu.Unlock()
		return away
	}})
	back := func() {
		mu.Lock()
		defer mu.Unlock()
		away = false
	}
	t.Cleanup(back)
	all := r.accept(t, 20, pace.Bulk)
	<-in.Hit
	until(t, "some are claimed", func() bool { return r.states(t, all)[delivery.Sending] > 0 })
	back()
	until(t, "all are accepted", func() bool { return r.states(t, all)[delivery.Accepted] == len(all) })
}

// Stopping amid claims leaves nothing in doubt: what left was answered, and the rest waits.
func TestStoppingLeavesNothingInDoubt(t *testing.T) {
	t.Parallel()
	for try := range 4 {
		l := &ledger{taken: map[string]int{}}
		r := runs(t, l, 100)
		until(t, "the gateway is kept", func() bool { return r.Keeps(r.g.ID) })
		hold := r.proxy.Inject(pgproxy.Fault{Within: "INSERT INTO to_ask", Skip: try, Do: pgproxy.HoldBack, Delay: 300 * time.Millisecond})
		all := r.accept(t, 200, pace.Bulk)
		<-hold.Hit
		r.stop()
		counts := r.states(t, all)
		l.mu.Lock()
		if counts[delivery.Queued]+counts[delivery.Accepted] != len(all) || counts[delivery.Accepted] != len(l.taken) ||
			counts[delivery.Queued] == 0 {
			t.Errorf("stopped at claim %d: %v, and the gateway took %d", try+1, counts, len(l.taken))
		}
		l.mu.Unlock()
	}
}

// A message that is being sent by the database's account, and that no keeper knows of, is
// found and becomes doubtful. One whose request is on its way is left alone.
func TestWhatIsLeftOverIsFound(t *testing.T) {
	t.Parallel()
	l := &ledger{taken: map[string]int{}, hold: make(chan struct{})}
	r := runs(t, l, 500)
	until(t, "the gateway is kept", func() bool { return r.Keeps(r.g.ID) })
	real := r.accept(t, 3, pace.Bulk)
	until(t, "three are on their way", func() bool { return r.states(t, real)[delivery.Sending] == 3 })
	k := r.keeper(r.g.ID)
	lost := rostertest.Message(r.g, r.Now())
	lost.DueAt = r.Now().Add(time.Hour)
	if _, err := r.direct.Accept(t.Context(), []store.Acceptance{{Message: lost}}); err != nil {
		t.Fatal(err)
	}
	claims := course.Course{Kit: r.Kit}
	began := course.Own(lost, r.Now(), delivery.Sending, 1, "")
	if _, err := claims.Record(t.Context(), r.direct, []store.Evidence{began}, nil); err != nil {
		t.Fatal(err)
	}
	if counts, err := r.direct.Sending(t.Context(), r.Now()); err != nil || counts[r.g.ID] != 4 || k.flying.len() != 3 {
		t.Fatalf("%v, %v; the keeper knows of %d", counts, err, k.flying.len())
	}
	until(t, "the one left over is doubtful", func() bool { return r.states(t, []uuid.UUID{lost.ID})[delivery.Doubtful] == 1 })
	if counts := r.states(t, real); counts[delivery.Sending] != 3 {
		t.Errorf("those on their way: %v", counts)
	}
	close(l.hold)
	until(t, "all are accepted", func() bool { return r.states(t, real)[delivery.Accepted] == 3 })
	until(t, "the keeper knows of none any more", func() bool { return k.flying.len() == 0 })
	story, err := r.direct.Timeline(t.Context(), lost.ID)
	if err != nil || !strings.Contains(fmt.Sprint(story), "left over") {
		t.Errorf("%v, %v", story, err)
	}
}
