package store

import (
	"fmt"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/pace"
)

// Whatever there is to do is seen, and nothing else.
func TestLookSeesWhatThereIsToDo(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	at := now()
	look := func() Sight {
		t.Helper()
		sight := must[Sight](t)(s.Look(t.Context(), at, at))
		if sight.Schema != SchemaVersion {
			t.Errorf("the schema is %d, want %d", sight.Schema, SchemaVersion)
		}
		sight.Settings, sight.Schema = 0, 0
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

// However much waits, little of it is looked at.
func TestLookingDoesNotGoThroughTheQueue(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	at := now()
	var set []Message
	for i := range 3 {
		g := Gateway{
			ID:             NewID(),
			Name:           fmt.Sprintf("g-%d", i),
			SealedSecrets:  []byte{},
			SealedCallback: []byte{},
			CreatedAt:      at,
			Version:        1,
		}
		if err := s.AddGateway(t.Context(), g); err != nil {
			t.Fatal(err)
		}
		for lane := range pace.Lanes {
			for range 400 {
				m := newMessage(g.ID, lane)
				m.DueAt = at
				set = append(set, m)
			}
		}
	}
	accept(t, s, set...)
	asked := set[:900]
	evidence := make([]Evidence, len(asked))
	for i, m := range asked {
		evidence[i] = Evidence{ID: NewID(), MessageID: m.ID, At: at, Source: delivery.Own, Claim: delivery.Sending, Attempt: 1,
			GatewayID: &m.GatewayID}
	}
	ask := at.Add(-time.Second)
	if _, err := s.Append(t.Context(), at, nil, evidence, func(_, m *Message, _ delivery.Outcome) { m.AskAt = &ask }); err != nil {
		t.Fatal(err)
	}
	for _, analysed := range []bool{false, true} {
		if analysed {
			if _, err := s.work.Exec(t.Context(), "ANALYZE to_send, to_ask, gateways"); err != nil {
				t.Fatal(err)
			}
		}
		lines, err := query(t.Context(), s.hot(), func(rows pgx.Rows) (line string, err error) { err = rows.Scan(&line); return line, err },
			"EXPLAIN (ANALYZE, COSTS OFF, TIMING OFF, SUMMARY OFF) "+lookSQL, at, Floor(at))
		if err != nil {
			t.Fatal(err)
		}
		for _, line := range lines {
			var rows int
			if _, found, ok := strings.Cut(line, "(actual rows="); ok {
				fmt.Sscanf(found, "%d", &rows)
			}
			if rows > 50 {
				t.Errorf("analysed %v: %d rows are gone through:\n%s", analysed, rows, strings.Join(lines, "\n"))
				break
			}
		}
	}
}
