package store

import (
	"slices"
	"testing"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/phone"
)

// What a gateway says under one id for several messages is told apart by
// number; what went through several gateways, by the submission through each.
func TestMatchByNumberAndSubmission(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	gateway, other := uuid.New(), uuid.New()
	a, b, c := newMessage(gateway, 1), newMessage(gateway, 1), newMessage(gateway, 1)
	a.To, b.To = phone.Stored("+447700900101"), phone.Stored("+447700900102")
	accept(t, s, a, b, c)
	submit(t, s, a, 1, "batch")
	submit(t, s, b, 1, "batch")
	say := func(e Evidence, next uuid.UUID) {
		e.ID, e.MessageID, e.At, e.GatewayID = NewID(), c.ID, now(), &next
		move := func(_, m *Message, _ delivery.Outcome) { m.GatewayID = next }
		if _, err := s.Append(t.Context(), now(), nil, []Evidence{e}, move); err != nil {
			t.Fatal(err)
		}
	}
	// Not taken by the first, moved to the other, not taken either, and now
	// under way there for the second time.
	say(Evidence{Source: delivery.Own, Claim: delivery.Sending, Attempt: 1}, gateway)
	say(Evidence{Source: delivery.Reply, Claim: delivery.Queued, Attempt: 1, GatewayRef: "refused-1"}, gateway)
	say(Evidence{Source: delivery.Own, Claim: delivery.Queued, Attempt: 1, Note: "goes elsewhere"}, other)
	say(Evidence{Source: delivery.Own, Claim: delivery.Sending, Attempt: 2}, other)
	say(Evidence{Source: delivery.Reply, Claim: delivery.Queued, Attempt: 2}, other)
	say(Evidence{Source: delivery.Own, Claim: delivery.Sending, Attempt: 3}, other)
	for name, tt := range map[string]struct {
		claim   Stray
		want    uuid.UUID
		attempt int
	}{
		"by number":                  {Stray{GatewayID: gateway, GatewayRef: "batch", ToNumber: "447700900102"}, b.ID, 1},
		"by number, as an address":   {Stray{GatewayID: gateway, GatewayRef: "batch", ToNumber: "tel:+447700900101"}, a.ID, 1},
		"by number, with zeros":      {Stray{GatewayID: gateway, GatewayRef: "batch", ToNumber: "00447700900101"}, a.ID, 1},
		"no number: a guess":         {Stray{GatewayID: gateway, GatewayRef: "batch"}, uuid.Nil, 0},
		"a number of nobody":         {Stray{GatewayID: gateway, GatewayRef: "batch", ToNumber: "447700900103"}, uuid.Nil, 0},
		"through the first gateway":  {Stray{GatewayID: gateway, Reference: c.ID.String()}, c.ID, 1},
		"through the second gateway": {Stray{GatewayID: other, Reference: c.ID.String()}, c.ID, 3},
		"an earlier one, by its id":  {Stray{GatewayID: gateway, GatewayRef: "refused-1"}, c.ID, 1},
		"through a gateway of none":  {Stray{GatewayID: uuid.New(), Reference: c.ID.String()}, uuid.Nil, 0},
	} {
		tt.claim.ID = NewID()
		matched := must[map[uuid.UUID]Matched](t)(s.Match(t.Context(), []Stray{tt.claim}, now().AddDate(0, -1, 0)))[tt.claim.ID]
		if matched.MessageID != tt.want || matched.Attempt != tt.attempt {
			t.Errorf("%s: %v, submission %d; want %v, %d", name, matched.MessageID, matched.Attempt, tt.want, tt.attempt)
		}
	}
}

// What waits is gone through from one place to the next, the most urgent first.
func TestWaiting(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	gateway := uuid.New()
	on := func(route string, gateway uuid.UUID, lane int) Message {
		m := newMessage(gateway, lane)
		m.Route = route
		return m
	}
	bulk, code, text := on("a", gateway, 2), on("b", gateway, 0), on("a", gateway, 1)
	elsewhere, sent, off := on("a", uuid.New(), 1), on("a", gateway, 1), on("c", gateway, 1)
	accept(t, s, bulk, code, text, elsewhere, sent, off)
	submit(t, s, sent, 1, "g-1")
	var got []uuid.UUID
	var place Place
	for more := true; more; {
		err := s.Transact(t.Context(), func(s *Store) error {
			var waiting []Message
			var err error
			waiting, place, more, err = s.Waiting(t.Context(), gateway, []string{"a", "b"}, place, 2)
			for _, m := range waiting {
				got = append(got, m.ID)
				if known := m.Known(); known.State != delivery.Queued || known.MayHaveGone {
					t.Errorf("%+v waits", known)
				}
			}
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	if want := []uuid.UUID{code.ID, text.ID, bulk.ID}; !slices.Equal(got, want) {
		t.Errorf("%v wait, want %v", got, want)
	}
}

func TestHealthAndPace(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	g := Gateway{ID: NewID(), Name: "g", SealedSecrets: []byte{}, SealedCallback: []byte{}, CreatedAt: now(), Version: 1}
	if err := s.AddGateway(t.Context(), g); err != nil {
		t.Fatal(err)
	}
	at := now()
	until := at.Add(time.Minute)
	steps := []error{
		s.NoteRest(
			t.Context(),
			Health{GatewayID: g.ID, RestSince: &at, RestUntil: &until, RestCause: delivery.NoCredit, RestNote: "empty"},
		),
		s.NoteBalance(t.Context(), g.ID, -250_000, "EUR", at),
		s.NoteNoBalance(t.Context(), g.ID, "no answer"),
	}
	for i, err := range steps {
		if err != nil {
			t.Fatalf("step %d: %v", i, err)
		}
	}
	h := must[map[uuid.UUID]Health](t)(s.Healths(t.Context()))[g.ID]
	if h.RestCause != delivery.NoCredit || !h.RestUntil.Equal(until) || *h.BalanceMicros != -250_000 || h.BalanceNote != "no answer" {
		t.Errorf("%+v", h)
	}
	if err := s.NoteRest(t.Context(), Health{GatewayID: g.ID}); err != nil {
		t.Fatal(err)
	}
	if h := must[map[uuid.UUID]Health](t)(s.Healths(t.Context()))[g.ID]; h.RestSince != nil || h.BalanceMicros == nil {
		t.Errorf("working again: %+v", h)
	}
	// One asks for all: whoever comes within the time does not.
	for i, want := range []bool{true, false} {
		if may := must[bool](t)(s.MayAskBalance(t.Context(), g.ID, at, at.Add(-time.Minute))); may != want {
			t.Errorf("asking for the %dth time: %v", i+1, may)
		}
	}
	if !must[bool](t)(s.MayAskBalance(t.Context(), g.ID, at.Add(2*time.Minute), at.Add(time.Minute))) {
		t.Error("later it is not asked any more")
	}
	for _, slot := range []Slot{{Slot: at.Add(-2 * time.Hour), N: 9}, {Slot: at, N: 3}, {Slot: at, N: 4}} {
		if err := s.NoteWent(t.Context(), g.ID, slot); err != nil {
			t.Fatal(err)
		}
	}
	if went := must[[]Slot](t)(s.Went(t.Context(), g.ID, at.Add(-time.Hour))); len(went) != 1 || went[0].N != 7 {
		t.Errorf("%+v", went)
	}
	// Two who change it at once do not overwrite each other.
	if err := s.ChangeGateway(t.Context(), g); err != nil {
		t.Fatal(err)
	}
	if err := s.ChangeGateway(t.Context(), g); err != ErrChanged {
		t.Errorf("an old version was written: %v", err)
	}
}
