package chase

import (
	"log/slog"
	"strings"
	"testing"
	"time"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/watch"
	"calmpigeon.example/internal/postgres/pgtest"
	"calmpigeon.example/internal/store"
)

func TestMain(m *testing.M) { pgtest.Main(m, nil) }

const honours = "dialect: plain\nreference: honoured\nsubmit: {request: {post: /s, json: '{to}'}, reply: [{when: .status == 200, read: '{state: \"accepted\"}'}]}\n"

// What was never taken is expired when its time is over; of what may have gone
// nobody says so; and what is being claimed at that moment is left alone.
func TestCloseLateSaysOnlyWhatIsKnown(t *testing.T) {
	t.Parallel()
	at := time.Now().UTC().Truncate(time.Microsecond)
	s, err := store.Open(t.Context(), pgtest.Database(t), at)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	sealer, err := store.NewSealer([]byte(strings.Repeat("k", 32)))
	if err != nil {
		t.Fatal(err)
	}
	gateways := roster.New(s, sealer)
	g, err := gateways.Add(t.Context(), roster.Setup{Source: honours, Address: "http://127.0.0.1:1"}, at)
	if err != nil {
		t.Fatal(err)
	}
	clock := at
	c := &Chase{Log: slog.New(slog.DiscardHandler), Course: &course.Course{Store: s, Roster: gateways, Hub: &watch.Hub{},
		Now: func() time.Time { return clock }, Due: watch.NewKick(), Strays: watch.NewKick()}}
	accept := func(evidence ...store.Evidence) store.Message {
		m := store.Message{ID: store.NewID(), GatewayID: g.ID, ToNumber: "+447700900123", Sender: "Lanternholm", Kind: "bulk", Text: "x", Encoding: "gsm7",
			Units: 1, Segments: 1, State: delivery.Queued, DueAt: at, ValidUntil: at.Add(time.Minute), CreatedAt: at, ChangedAt: at}
		if _, err := s.Accept(t.Context(), []store.Acceptance{{Message: m, Evidence: course.Own(m, at, delivery.Queued, 0, "")}}); err != nil {
			t.Fatal(err)
		}
		for _, e := range evidence {
			e.ID, e.MessageID, e.At = store.NewID(), m.ID, at
			if err := c.Course.Record(t.Context(), s, []store.Evidence{e}, nil); err != nil {
				t.Fatal(err)
			}
		}
		return m
	}
	own := func(attempt int, claim delivery.State) store.Evidence {
		return store.Evidence{Source: delivery.Own, Claim: claim, Attempt: attempt}
	}
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
	clock = at.Add(time.Hour)
	err = s.Transact(t.Context(), func(keeper *store.Store) error {
		if _, _, err := keeper.Hold(t.Context(), claimed.ID); err != nil {
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
		e.ID, e.MessageID, e.At = store.NewID(), claimed.ID, clock
		return c.Course.Record(t.Context(), keeper, []store.Evidence{e}, nil)
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
