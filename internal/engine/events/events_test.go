package events

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/engine/attention"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/roster/rostertest"
	"calmpigeon.example/internal/postgres/pgtest"
	"calmpigeon.example/internal/store"
)

func TestMain(m *testing.M) { pgtest.Main(m, store.Migrate) }

// desk is where events happen, by a clock that can be put forward.
type desk struct {
	*Events
	t     *testing.T
	ahead atomic.Int64
	calls calls

	mu    sync.Mutex
	order map[uuid.UUID][]uuid.UUID // events by their subjects, as they happened
}

func open(t *testing.T, url string) *desk {
	t.Helper()
	r, s := rostertest.On(t, url)
	if err := r.Reload(t.Context()); err != nil {
		t.Fatal(err)
	}
	d := &desk{t: t, order: map[uuid.UUID][]uuid.UUID{}}
	k := rostertest.Kit(r, s)
	k.Now = func() time.Time { return time.Now().Add(time.Duration(d.ahead.Load())) }
	d.Events = New(k, time.Second, false, func(context.Context) ([]attention.Need, error) { return nil, nil })
	d.calls.RoundTripper = d.client.Transport
	d.client.Transport = &d.calls
	return d
}

// calls counts how many requests are made at once: who is called may still be busy with one that was given up.
type calls struct {
	http.RoundTripper
	inside atomic.Int64
	most   atomic.Int64
}

func (c *calls) RoundTrip(r *http.Request) (*http.Response, error) {
	in := c.inside.Add(1)
	defer c.inside.Add(-1)
	for most := c.most.Load(); in > most && !c.most.CompareAndSwap(most, in); most = c.most.Load() {
	}
	return c.RoundTripper.RoundTrip(r)
}

// skip puts the clock forward to when the receiver is to be called next, if that is not now.
func (d *desk) skip(r *roster.Receiver) {
	d.t.Helper()
	now := d.Now()
	if at := d.next(r); at.After(now) {
		d.forward(at.Sub(now))
	}
}

// next is when the receiver is to be called next; zero if it is not.
func (d *desk) next(r *roster.Receiver) time.Time {
	d.t.Helper()
	next, err := d.Store.ToTell(d.t.Context(), r.ID, d.Now().Add(100*time.Hour), nil, 1)
	healths, wrong := d.Store.ReceiverHealths(d.t.Context())
	if err != nil || wrong != nil {
		d.t.Fatal(err, wrong)
	}
	if len(next) == 0 {
		return time.Time{}
	}
	at := *next[0].DueAt
	if rest := healths[r.ID].RestUntil; rest != nil && rest.After(at) {
		at = *rest
	}
	return at
}

// forward puts the clock forward.
func (d *desk) forward(by time.Duration) { d.ahead.Add(int64(by)) }

// running tells until what it returns is called, and looks often.
func (d *desk) running() func() {
	ctx, stop := context.WithCancel(d.t.Context())
	var parts sync.WaitGroup
	parts.Go(func() { d.Run(ctx) })
	parts.Go(func() {
		for ctx.Err() == nil {
			time.Sleep(5 * time.Millisecond)
			d.wake(nil)
		}
	})
	return func() { stop(); parts.Wait() }
}

// happen writes events about a subject, as one transaction.
func (d *desk) happen(subject uuid.UUID, n int) {
	d.t.Helper()
	now := d.Now()
	set := make([]store.Event, n)
	for i := range set {
		set[i] = store.Event{ID: store.IDAt(now), Type: "batch.running", Subject: subject, Data: []byte(`{}`)}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if err := d.Store.Happen(d.t.Context(), now, set); err != nil {
		d.t.Fatal(err)
	}
	for _, e := range set {
		d.order[subject] = append(d.order[subject], e.ID)
	}
}

// taker takes events, or does not.
type taker struct {
	*httptest.Server
	answer func(n int, w http.ResponseWriter, r *http.Request) bool // true: it was answered

	mu    sync.Mutex
	asked []time.Time
	taken []uuid.UUID
}

func take(t *testing.T, answer func(n int, w http.ResponseWriter, r *http.Request) bool) *taker {
	k := &taker{answer: answer}
	k.Server = httptest.NewServer(k)
	t.Cleanup(k.Close)
	return k
}

func (k *taker) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if _, err := io.Copy(io.Discard, r.Body); err != nil {
		return
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.asked = append(k.asked, time.Now())
	if k.answer != nil && k.answer(len(k.asked)-1, w, r) {
		return
	}
	k.taken = append(k.taken, uuid.MustParse(r.Header.Get("webhook-id")))
	w.WriteHeader(http.StatusNoContent)
}

// counts is how many requests came, and how many events were taken.
func (k *taker) counts() (asked, taken int) {
	k.mu.Lock()
	defer k.mu.Unlock()
	distinct := map[uuid.UUID]bool{}
	for _, id := range k.taken {
		distinct[id] = true
	}
	return len(k.asked), len(distinct)
}

func (d *desk) receiver(name string, k *taker, atOnce int) *roster.Receiver {
	d.t.Helper()
	r, err := d.Roster.AddReceiver(d.t.Context(), name, roster.ReceiverSettings{Address: &k.URL, AtOnce: &atOnce}, d.Now())
	if err != nil {
		d.t.Fatal(err)
	}
	return r
}

func eventually(t *testing.T, what string, holds func() bool) {
	t.Helper()
	for until := time.Now().Add(60 * time.Second); !holds(); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(until) {
			t.Fatalf("never came true: %s", what)
		}
	}
}

// another waits until somebody else is told of what happens now: whoever is to be told of what happened before has been.
func (d *desk) another() {
	d.t.Helper()
	k := take(d.t, nil)
	d.receiver("another", k, 1)
	for n := 1; n <= 3; n++ {
		d.happen(store.NewID(), 1)
		eventually(d.t, "another is told", func() bool { _, taken := k.counts(); return taken == n })
	}
}

// left is how many events are still to be told.
func (d *desk) left(r *roster.Receiver) int64 {
	healths, err := d.Store.ReceiverHealths(d.t.Context())
	if err != nil {
		d.t.Fatal(err)
	}
	return healths[r.ID].Waiting
}

// However a receiver fails, and however often telling stops and begins again, it is told of everything, and of what is
// about one subject in the order in which it happened; nobody is called by more than so many requests at once.
func TestAllIsToldInOrder(t *testing.T) {
	t.Parallel()
	for seed := range uint64(3) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			random := rand.New(rand.NewPCG(seed, 7))
			luck := rand.New(rand.NewPCG(seed, 8)) // used under the lock of the taker
			d := open(t, pgtest.Database(t))
			k := take(t, func(_ int, w http.ResponseWriter, r *http.Request) bool {
				switch luck.IntN(8) {
				case 0:
					w.WriteHeader(http.StatusBadGateway)
				case 1:
					w.Header().Set("Retry-After", "3")
					w.WriteHeader(http.StatusTooManyRequests)
				case 2:
					if c, _, err := http.NewResponseController(w).Hijack(); err == nil {
						c.Close() // cut
					}
				default:
					return false
				}
				return true
			})
			r := d.receiver("flaky", k, 4)
			subjects := make([]uuid.UUID, 12)
			for i := range subjects {
				subjects[i] = store.NewID()
			}
			stop := d.running()
			for range 40 {
				d.happen(subjects[random.IntN(len(subjects))], 1+random.IntN(3))
				d.forward(time.Duration(random.IntN(20)) * time.Second)
				if random.IntN(8) == 0 {
					stop()
					stop = d.running()
				}
			}
			eventually(t, "all of it is told", func() bool {
				d.skip(r)
				return d.left(r) == 0
			})
			stop()
			first := map[uuid.UUID]int{}
			for i, id := range k.taken {
				if _, known := first[id]; !known {
					first[id] = i
				}
			}
			for subject, events := range d.order {
				for i, id := range events {
					at, told := first[id]
					if !told {
						t.Errorf("%s was told of %s never", subject, id)
					}
					if i > 0 && at < first[events[i-1]] {
						t.Errorf("%s was told in another order than it happened", subject)
					}
				}
			}
			if most := d.calls.most.Load(); most > 4 || most < 2 {
				t.Errorf("%d requests at once", most)
			}
		})
	}
}

// What is not taken for a day is parked, and can be told again; nothing is parked before.
func TestWhatIsNotTakenIsParked(t *testing.T) {
	t.Parallel()
	d := open(t, pgtest.Database(t))
	var up atomic.Bool
	k := take(t, func(_ int, w http.ResponseWriter, _ *http.Request) bool {
		if !up.Load() {
			http.Error(w, "we are closed", http.StatusServiceUnavailable)
		}
		return !up.Load()
	})
	r := d.receiver("closed", k, 2)
	defer d.running()()
	for range 30 {
		d.happen(store.NewID(), 2)
	}
	parked := func() int64 {
		healths, err := d.Store.ReceiverHealths(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		return healths[r.ID].Parked
	}
	for began := d.Now(); d.Now().Sub(began) < 22*time.Hour; {
		asked, _ := k.counts()
		eventually(t, "it is tried", func() bool {
			d.skip(r)
			now, _ := k.counts()
			return now > asked
		})
	}
	if n := parked(); n > 0 {
		t.Fatalf("%d were parked within a day", n)
	}
	if asked, _ := k.counts(); asked > 22*60/4 {
		t.Errorf("one that is closed was called %d times in 22 hours", asked)
	}
	d.forward(3 * time.Hour)
	eventually(t, "all are parked", func() bool {
		if err := d.tidy(t.Context()); err != nil {
			t.Fatal(err)
		}
		return d.left(r) == 0 && parked() == 60
	})
	up.Store(true)
	f := store.EventFilter{Outcome: store.Parked, Receiver: r.ID}
	if n, err := d.Retell(t.Context(), r, f, true); n != 60 || err != nil || d.left(r) != 0 {
		t.Errorf("it would be told again of %d, %v", n, err)
	}
	if n, err := d.Retell(t.Context(), r, f, false); n != 60 || err != nil {
		t.Errorf("it is told again of %d, %v", n, err)
	}
	eventually(t, "all are told", func() bool {
		d.skip(r)
		_, taken := k.counts()
		return taken == 60 && parked() == 0
	})
}

// One that asks for time gets it, and one that is resting is called again as soon as its settings change.
func TestAReceiverThatAsksForTimeGetsIt(t *testing.T) {
	t.Parallel()
	d := open(t, pgtest.Database(t))
	k := take(t, func(n int, w http.ResponseWriter, _ *http.Request) bool {
		if n == 0 {
			w.Header().Set("Retry-After", "600")
			w.WriteHeader(http.StatusTooManyRequests)
		}
		return n == 0
	})
	r := d.receiver("busy", k, 1)
	defer d.running()()
	for range 5 {
		d.happen(store.NewID(), 1)
	}
	eventually(t, "it is called", func() bool { asked, _ := k.counts(); return asked == 1 })
	eventually(t, "the time that it asked for is noted", func() bool { return d.next(r).After(d.Now().Add(9 * time.Minute)) })
	d.forward(9 * time.Minute)
	d.another()
	if asked, _ := k.counts(); asked != 1 {
		t.Fatalf("it was called %d times in the time that it asked for", asked)
	}
	eventually(t, "all are told", func() bool {
		d.skip(r)
		_, taken := k.counts()
		return taken == 8 && d.left(r) == 0
	})
}

// Of two instances one tells, and the other goes on when that one stops.
func TestOneInstanceTells(t *testing.T) {
	t.Parallel()
	url := pgtest.Database(t)
	one, two := open(t, url), open(t, url)
	k := take(t, nil)
	r := one.receiver("shop", k, 8)
	if err := two.Roster.Reload(t.Context()); err != nil {
		t.Fatal(err)
	}
	stopOne := one.running()
	stopTwo := two.running()
	for range 50 {
		one.happen(store.NewID(), 1)
	}
	eventually(t, "fifty are told", func() bool { return one.left(r) == 0 })
	stopOne()
	for range 50 {
		one.happen(store.NewID(), 1)
	}
	eventually(t, "the other goes on", func() bool { return one.left(r) == 0 })
	stopTwo()
	if asked, taken := k.counts(); asked != 100 || taken != 100 {
		t.Errorf("of a hundred events %d were told in %d requests", taken, asked)
	}
}

// A choice is kept to the letter, and nobody who is paused is called.
func TestReceiversGetWhatTheyChose(t *testing.T) {
	t.Parallel()
	d := open(t, pgtest.Database(t))
	k := take(t, nil)
	types, kinds := []string{"batch.*", "reply.received"}, []string{"otp"}
	r, err := d.Roster.AddReceiver(t.Context(), "codes", roster.ReceiverSettings{Address: &k.URL, Types: &types, Kinds: &kinds,
		Labels: map[string]string{"pier": "east"}}, d.Now())
	if err != nil {
		t.Fatal(err)
	}
	now := d.Now()
	set := []store.Event{
		{Type: "batch.running", Kind: "otp", Labels: "pier=east"}, {Type: "batch.running", Kind: "otp", Labels: "a=b,pier=east"},
		{Type: "batch.running", Kind: "bulk", Labels: "pier=east"}, {Type: "batch.running", Kind: "otp", Labels: "pier=eastern"},
		{Type: "batch.running", Kind: "otp"}, {Type: "reply.received", Labels: "pier=east"},
		{Type: "attention.raised", Kind: "otp", Labels: "pier=east"}, {Type: "message.delivered", Kind: "otp", Labels: "pier=east"},
	}
	for i := range set {
		set[i].Subject, set[i].Data = store.NewID(), []byte(`{}`)
	}
	if err := d.Store.Happen(t.Context(), now, set); err != nil {
		t.Fatal(err)
	}
	if n := d.left(r); n != 2 {
		t.Errorf("it is to be told of %d events, want 2", n)
	}
	if _, err := d.Roster.PauseReceiver(t.Context(), r.ID, "ada", "", now); err != nil {
		t.Fatal(err)
	}
	stop := d.running()
	d.another()
	if asked, _ := k.counts(); asked != 0 {
		t.Error("one that is paused was called")
	}
	if _, err := d.Roster.ResumeReceiver(t.Context(), r.ID); err != nil {
		t.Fatal(err)
	}
	eventually(t, "both are told", func() bool { return d.left(r) == 0 })
	stop()
	if _, taken := k.counts(); taken != 2 {
		t.Errorf("it was told of %d", taken)
	}
}

// Addresses that messages name are below that of a receiver, however they are written.
func TestBelow(t *testing.T) {
	t.Parallel()
	r := &roster.Receiver{Receiver: store.Receiver{Address: "https://app.example.net/hooks", Reports: store.ReportsAlso}}
	below := []string{"", "/", "/x", "/x/y?z=1", "?z=1", "/%C3%A9", "/a..b"}
	above := []string{"x", "-x", "/..", "/../x", "/x/../y", "/%2e%2e/x", "/x%2f..%2fy", "/.", "/x\\..\\y", "/%5c..%5cx",
		"/..;/x", "/x/..;a=b/y", "/%252e%252e/x", "/x%00", "/%c0%ae%c0%ae/x", "/%20../x", "/.%0a./x"}
	for _, rest := range below {
		if !r.Below(r.Address + rest) {
			t.Errorf("%s is not below", rest)
		}
	}
	for _, rest := range above {
		if r.Below(r.Address + rest) {
			t.Errorf("%s is below", rest)
		}
	}
	for _, other := range []string{"http://app.example.net/hooks/x", "https://app.example.net:8443/hooks/x",
		"https://app.example.net.evil/hooks/x",
		"https://app.example.net@evil/hooks/x", "https://me@app.example.net/hooks/x", "//app.example.net/hooks/x", "", "/hooks/x"} {
		if r.Below(other) {
			t.Errorf("%s is below", other)
		}
	}
	if r.Reports = store.ReportsNo; r.Below(r.Address) {
		t.Error("one that lets messages name none has addresses below it")
	}
}

// An event that cannot be read is parked, and holds up no other.
func TestOneThatCannotBeReadHoldsUpNoOther(t *testing.T) {
	t.Parallel()
	d := open(t, pgtest.Database(t))
	k := take(t, nil)
	r := d.receiver("shop", k, 4)
	now := d.Now()
	bad := store.Event{ID: store.IDAt(now), Type: "message.delivered", Subject: store.NewID(), Data: []byte(`{"at": "soon"}`)}
	if err := d.Store.Happen(t.Context(), now, []store.Event{bad}); err != nil {
		t.Fatal(err)
	}
	d.happen(store.NewID(), 3)
	stop := d.running()
	eventually(t, "all others are told", func() bool { _, taken := k.counts(); return taken == 3 && d.left(r) == 0 })
	stop()
	told, err := d.Store.Tellings(t.Context(), []store.Event{bad})
	if err != nil || len(told[bad.ID]) != 1 || told[bad.ID][0].Outcome != store.Parked {
		t.Errorf("%+v, %v", told, err)
	}
}

// A teller that panics is replaced, and what it had in hand is told all the same.
func TestATellerThatPanicsIsReplaced(t *testing.T) {
	t.Parallel()
	d := open(t, pgtest.Database(t))
	k := take(t, func(n int, w http.ResponseWriter, _ *http.Request) bool {
		if n == 0 {
			w.WriteHeader(http.StatusInternalServerError)
		}
		return n == 0
	})
	var drawn atomic.Int32
	d.Luck = func() float64 {
		if drawn.Add(1) == 1 {
			panic("luck that breaks")
		}
		return 0.5
	}
	r := d.receiver("shop", k, 1)
	defer d.running()()
	d.happen(store.NewID(), 3)
	eventually(t, "all are told", func() bool {
		d.skip(r)
		_, taken := k.counts()
		return taken >= 3 && d.left(r) == 0
	})
	if drawn.Load() == 0 {
		t.Error("nothing broke")
	}
}
