package store

import (
	"reflect"
	"testing"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
)

// Whatever there is to do is seen, and nothing else.
func TestLookSeesWhatThereIsToDo(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	at := now()
	look := func() Sight {
		t.Helper()
		sight := must[Sight](t)(s.Look(t.Context(), at, at))
		sight.Settings = 0
		return sight
	}
	before := must[Sight](t)(s.Look(t.Context(), at, at)).Settings
	g := Gateway{ID: NewID(), Name: "g", SealedSecrets: []byte{}, SealedCallback: []byte{}, CreatedAt: at, Version: 1}
	if err := s.AddGateway(t.Context(), g); err != nil {
		t.Fatal(err)
	}
	if after := must[Sight](t)(s.Look(t.Context(), at, at)).Settings; after <= before {
		t.Errorf("a gateway was added, and the changes are still %d", after)
	}
	if got := look(); !reflect.DeepEqual(got, Sight{}) {
		t.Errorf("there is nothing to do but %+v", got)
	}
	compact := func() {
		t.Helper()
		for more := true; more; {
			more = must[bool](t)(s.Compact(t.Context()))
		}
	}

	waiting, later, taken := newMessage(g.ID, 1), newMessage(g.ID, 0), newMessage(g.ID, 2)
	waiting.DueAt, later.DueAt, taken.DueAt = at, at.Add(time.Hour), at
	accept(t, s, waiting, later)
	if got := look(); !reflect.DeepEqual(got, Sight{Due: []DueLane{{g.ID, 1}}, Deltas: true}) {
		t.Errorf("with one due and one to come: %+v", got)
	}
	at = at.Add(time.Hour) // both are due now, and one is too late
	compact()
	if got := look(); !reflect.DeepEqual(got, Sight{Due: []DueLane{{g.ID, 0}}, Late: waiting.ValidUntil.Before(at)}) {
		t.Errorf("an hour later: %+v", got)
	}
	at = at.Add(-time.Hour)

	accept(t, s, taken)
	submit(t, s, taken, 1, "g-1")
	e := Evidence{ID: NewID(), MessageID: taken.ID, At: at, Source: delivery.Receipt, Claim: delivery.Enroute, Attempt: 1, GatewayID: &g.ID}
	ask := at.Add(-time.Second)
	if _, err := s.Append(t.Context(), at, nil, []Evidence{e}, func(_, m *Message, _ delivery.Outcome) { m.AskAt = &ask }); err != nil {
		t.Fatal(err)
	}
	stray := Stray{ID: NewID(), GatewayID: g.ID, GatewayRef: "g-2", At: at, LookAt: &ask, ReceiptID: NewID(), Claim: delivery.Delivered}
	if err := s.AddStrays(t.Context(), []Stray{stray}); err != nil {
		t.Fatal(err)
	}
	unread := Receipt{ID: IDAt(at.Add(-time.Second)), GatewayID: g.ID, ReceivedAt: at, Unread: true}
	if err := s.StoreReceipts(t.Context(), []Receipt{unread}); err != nil {
		t.Fatal(err)
	}
	compact()
	want := Sight{Due: []DueLane{{g.ID, 1}}, Silent: []uuid.UUID{g.ID}, Unread: []uuid.UUID{g.ID}, Strays: true}
	if got := look(); !reflect.DeepEqual(got, want) {
		t.Errorf("%+v, want %+v", got, want)
	}
}
