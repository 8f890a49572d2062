package chase

import (
	"testing"
	"time"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/engine/courier"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/gate"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/roster/rostertest"
	"calmpigeon.example/internal/postgres/pgtest"
	"calmpigeon.example/internal/store"
)

func TestMain(m *testing.M) { pgtest.Main(m, store.Migrate) }

const honours = "dialect: plain\nreference: honoured\nsubmit: {request: {post: /s, json: '{to}'}, reply: [{when: .status == 200, read: '{state: \"accepted\"}'}]}\n"

// desk is a chase over a store of its own, with a clock that is set by hand.
type desk struct {
	*Chase
	t     *testing.T
	store *store.Store
	g     *roster.Gateway
	at    time.Time // when it was set up
	clock time.Time
}

func setUp(t *testing.T, dialect string) *desk {
	t.Helper()
	at := time.Now().UTC().Truncate(time.Microsecond)
	d := &desk{t: t, at: at, clock: at}
	gateways, s := rostertest.Roster(t)
	d.store, d.g = s, rostertest.Gateway(t, gateways, dialect, roster.Settings{})
	now := func() time.Time { return d.clock }
	k := rostertest.Kit(gateways, s)
	k.Now = now
	d.Chase = &Chase{Kit: k, Courier: courier.New(now, false), Course: &course.Course{Kit: k}}
	return d
}

// accept puts in a message with what is known of it.
func (d *desk) accept(evidence ...store.Evidence) store.Message {
	d.t.Helper()
	return d.acceptAs(pace.Bulk, evidence...)
}

func (d *desk) acceptAs(kind pace.Kind, evidence ...store.Evidence) store.Message {
	d.t.Helper()
	m := rostertest.Message(d.g, d.at)
	m.Kind, m.Lane = kind, kind.Lane()
	m.ValidUntil = d.at.Add(time.Minute)
	if _, err := d.store.Accept(d.t.Context(), []store.Acceptance{{Message: m}}); err != nil {
		d.t.Fatal(err)
	}
	for _, e := range evidence {
		e.ID, e.MessageID, e.At, e.GatewayID = store.NewID(), m.ID, d.at, &d.g.ID
		if _, err := d.Course.Record(d.t.Context(), d.store, []store.Evidence{e}, nil); err != nil {
			d.t.Fatal(err)
		}
	}
	return m
}

// state is what has become of a message.
func (d *desk) state(m store.Message) store.Message {
	d.t.Helper()
	now, err := d.store.Message(d.t.Context(), m.ID)
	if err != nil {
		d.t.Fatal(err)
	}
	return now
}

func own(attempt int, claim delivery.State) store.Evidence {
	return store.Evidence{Source: delivery.Own, Claim: claim, Attempt: attempt}
}

// A query that cannot be built is no reason to wait for ever: the message is
// given up when its time is over, and not before.
func TestGivesUpWhatCannotBeAsked(t *testing.T) {
	t.Parallel()
	d := setUp(
		t,
		honours+"query: {request: {post: /q, json: 'error(\"never\")'}, "+
			"reply: [{when: .status == 200, read: '{state: \"delivered\"}'}]}\nsilence: {ask_after: 1s, give_up_after: 1h}\n",
	)
	m := d.accept(own(1, delivery.Sending), store.Evidence{Source: delivery.Reply, Claim: delivery.Accepted, Attempt: 1, GatewayRef: "r-1"})
	for _, tt := range []struct {
		after time.Duration
		want  delivery.State
	}{{time.Minute, delivery.Accepted}, {time.Hour, delivery.Unknown}} {
		d.clock = d.at.Add(tt.after + time.Second)
		if _, err := d.look(t.Context(), d.g); err != nil {
			t.Fatal(err)
		}
		if got := d.state(m); got.State != tt.want {
			t.Errorf("after %v it is %s, want %s", tt.after, got.State, tt.want)
		}
	}
}

// Nothing is given up for a while after a quarantine, and nobody asks about a message again and again
// meanwhile, as its time is over.
func TestGivesUpLaterAfterAQuarantine(t *testing.T) {
	t.Parallel()
	asks := "query: {request: {post: /q, json: '{id}'}, reply: [{when: .status == 200, read: '{state: \"delivered\"}'}]}\n"
	for name, dialect := range map[string]string{"it can be asked about": honours + asks, "it cannot": honours} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			d := setUp(t, dialect+"silence: {ask_after: 1s, give_up_after: 1h}\n")
			reply := store.Evidence{Source: delivery.Reply, Claim: delivery.Accepted, Attempt: 1, GatewayRef: "r-1"}
			m := d.accept(own(1, delivery.Sending), reply)
			d.clock = d.at.Add(2 * time.Hour)
			d.Gate = &gate.Gate{}
			d.Gate.Lifted(d.clock)
			looks := 0
			for range 600 { // ten minutes, a look a second
				d.clock = d.clock.Add(time.Second)
				taken, err := d.store.TakeSilent(t.Context(), d.g.ID, d.clock, 0, 10)
				if err != nil {
					t.Fatal(err)
				}
				if len(taken) > 0 {
					looks++
					if _, err := d.look(t.Context(), d.g); err != nil {
						t.Fatal(err)
					}
				}
			}
			if got := d.state(m); got.State != delivery.Accepted || looks > 20 {
				t.Errorf("after ten minutes it is %s, and was looked at %d times", got.State, looks)
			}
			d.clock = d.clock.Add(10 * time.Minute)
			if _, err := d.look(t.Context(), d.g); err != nil {
				t.Fatal(err)
			}
			if got := d.state(m); got.State != delivery.Unknown {
				t.Errorf("twenty minutes after the quarantine it is %s", got.State)
			}
		})
	}
}

// A doubtful message whose gateway takes a reference twice for one message is looked at in quarantine, goes once that
// is lifted, and does not wait until it would be given up.
func TestGoesAgainSoonAfterAQuarantine(t *testing.T) {
	t.Parallel()
	d := setUp(t, honours+"silence: {ask_after: 1s, give_up_after: 24h}\n")
	m := d.accept(own(1, delivery.Sending), own(1, delivery.Doubtful))
	d.Gate = &gate.Gate{}
	for _, at := range []struct {
		when        string
		quarantined bool
		want        delivery.State
	}{{"in quarantine", true, delivery.Doubtful}, {"after the quarantine", false, delivery.Queued}} {
		if !at.quarantined {
			d.Gate.Lifted(d.clock)
		}
		d.Gate.Set(at.quarantined, at.quarantined)
		d.clock = d.clock.Add(20 * time.Second)
		if _, err := d.look(t.Context(), d.g); err != nil {
			t.Fatal(err)
		}
		if got := d.state(m); got.State != at.want {
			t.Fatalf("%s it is %s", at.when, got.State)
		}
	}
}

// What was never taken is expired when its time is over; of what may have gone
// nobody says so; and what is being claimed at that moment is left alone.
func TestCloseLateSaysOnlyWhatIsKnown(t *testing.T) {
	t.Parallel()
	d := setUp(t, honours)
	c, s, accept := d.Chase, d.store, d.accept
	refused := store.Evidence{Source: delivery.Reply, Claim: delivery.Queued, Cause: delivery.Limited, Attempt: 1}
	want := map[string]struct {
		m     store.Message
		state delivery.State
		cause delivery.Cause
	}{
		"never tried":         {accept(), delivery.Expired, delivery.TooLate},
		"tried and not taken": {accept(own(1, delivery.Sending), refused), delivery.Expired, delivery.TooLate},
		"waits to go again":   {accept(own(1, delivery.Sending), own(1, delivery.Doubtful), own(1, delivery.Queued)), delivery.Unknown, ""},
		"being sent":          {accept(own(1, delivery.Sending)), delivery.Sending, ""},
	}
	claimed := accept()
	d.clock = d.at.Add(time.Hour)
	err := s.Transact(t.Context(), func(keeper *store.Store) error {
		if _, err := keeper.Hold(t.Context(), claimed.ID); err != nil {
			return err
		}
		if _, err := c.closeLate(t.Context()); err != nil { // does not wait for the keeper
			return err
		}
		for name, tt := range want {
			if m, err := s.Message(t.Context(), tt.m.ID); err != nil || m.State != tt.state || m.Cause != tt.cause {
				t.Errorf("%s: became %s %s, %v; want %s %s", name, m.State, m.Cause, err, tt.state, tt.cause)
			}
		}
		e := own(1, delivery.Sending)
		e.ID, e.MessageID, e.At = store.NewID(), claimed.ID, d.clock
		_, err := c.Course.Record(t.Context(), keeper, []store.Evidence{e}, nil)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := c.closeLate(t.Context()); err != nil {
		t.Fatal(err)
	}
	if m, err := s.Message(t.Context(), claimed.ID); err != nil || m.State != delivery.Sending {
		t.Errorf("what was claimed in time is %s, %v", m.State, err)
	}
}
