package store

import (
	"testing"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
)

// What a gateway says under one id for several messages is told apart by
// number; what went through several gateways, by the submission through each.
func TestMatchByNumberAndSubmission(t *testing.T) {
	t.Parallel()
	s := open(t)
	gateway, other := uuid.New(), uuid.New()
	a, b, c := newMessage(gateway, 1), newMessage(gateway, 1), newMessage(other, 1)
	a.ToNumber, b.ToNumber = "+447700900101", "+447700900102"
	a.GatewayRef, b.GatewayRef = "batch", "batch"
	c.Route = "all"
	accept(t, s, a, b, c)
	sending := func(gateway uuid.UUID, attempt int) Evidence {
		return Evidence{ID: NewID(), MessageID: c.ID, At: now(), Source: delivery.Own, Claim: delivery.Sending, Attempt: attempt, GatewayID: &gateway}
	}
	if _, err := s.Append(t.Context(), now(), []Evidence{sending(gateway, 1), sending(other, 2), sending(other, 3)}, func(_, _ *Message, _ delivery.Outcome) {}); err != nil {
		t.Fatal(err)
	}
	for name, tt := range map[string]struct {
		claim   Stray
		want    uuid.UUID
		attempt int
	}{
		"by number":                  {Stray{GatewayID: gateway, GatewayRef: "batch", ToNumber: "447700900102"}, b.ID, 0},
		"by number, as an address":   {Stray{GatewayID: gateway, GatewayRef: "batch", ToNumber: "tel:+447700900101"}, a.ID, 0},
		"by number, with zeros":      {Stray{GatewayID: gateway, GatewayRef: "batch", ToNumber: "00447700900101"}, a.ID, 0},
		"no number: a guess":         {Stray{GatewayID: gateway, GatewayRef: "batch"}, uuid.Nil, 0},
		"a number of nobody":         {Stray{GatewayID: gateway, GatewayRef: "batch", ToNumber: "447700900103"}, uuid.Nil, 0},
		"through the first gateway":  {Stray{GatewayID: gateway, Reference: c.ID.String()}, c.ID, 1},
		"through the second gateway": {Stray{GatewayID: other, Reference: c.ID.String()}, c.ID, 3},
		"through a gateway of none":  {Stray{GatewayID: uuid.New(), Reference: c.ID.String()}, uuid.Nil, 0},
	} {
		tt.claim.ID = NewID()
		matched := must[map[uuid.UUID]Matched](t)(s.Match(t.Context(), []Stray{tt.claim}))[tt.claim.ID]
		if matched.ID != tt.want || matched.Attempt != tt.attempt {
			t.Errorf("%s: %v, submission %d; want %v, %d", name, matched.ID, matched.Attempt, tt.want, tt.attempt)
		}
	}
}

// Only what waits and has a route can be moved, the most urgent first.
func TestWaiting(t *testing.T) {
	t.Parallel()
	s := open(t)
	gateway := uuid.New()
	bulk, code, unrouted, elsewhere, sent := newMessage(gateway, 2), newMessage(gateway, 0), newMessage(gateway, 1), newMessage(uuid.New(), 1), newMessage(gateway, 1)
	for _, m := range []*Message{&bulk, &code, &elsewhere, &sent} {
		m.Route = "all"
	}
	sent.State = delivery.Accepted
	accept(t, s, bulk, code, unrouted, elsewhere, sent)
	err := s.Transact(t.Context(), func(s *Store) error {
		waiting, known, err := s.Waiting(t.Context(), gateway, 10)
		if err == nil && (len(waiting) != 2 || waiting[0].ID != code.ID || waiting[1].ID != bulk.ID || known[0].State != delivery.Queued) {
			t.Errorf("%+v, %+v", waiting, known)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}

func TestHealthAndPace(t *testing.T) {
	t.Parallel()
	s := open(t)
	g := Gateway{ID: NewID(), Name: "g", SealedSecrets: []byte{}, SealedCallback: []byte{}, CreatedAt: now(), Version: 1}
	if err := s.AddGateway(t.Context(), g); err != nil {
		t.Fatal(err)
	}
	at := now()
	until := at.Add(time.Minute)
	steps := []error{
		s.NoteRest(t.Context(), Health{GatewayID: g.ID, RestSince: &at, RestUntil: &until, RestCause: delivery.NoCredit, RestNote: "empty"}),
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
	for _, slot := range []Slot{{at.Add(-2 * time.Hour), 9}, {at, 3}, {at, 4}} {
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
