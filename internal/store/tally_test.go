package store

import (
	"context"
	"fmt"
	"math/rand/v2"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/pace"
)

// Through random evidence from many writers, with deltas being added up all the
// while, kept counts are what counting gives, for every choice and every span.
func TestKeptCountsAreWhatCountingGives(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	gateways := []uuid.UUID{uuid.New(), uuid.New()}
	at := now()
	var messages []Message
	for i := range 120 {
		m := newMessage(gateways[i%2], i%3)
		m.Kind = []pace.Kind{"otp", "transactional", "bulk"}[i%3]
		m.Sender, m.Country = []string{"Lanternholm", "LH Boarding"}[i%2], []string{"GB", "FR", "DE"}[i%3]
		when := at.Add(-time.Duration(i) * 31 * time.Minute) // over hours and days, and into the month before on some days
		m.ID, m.CreatedAt = Floor(when), when
		m.ID[15] = byte(i)
		messages = append(messages, m)
	}
	accept(t, s, messages...)
	stop := make(chan struct{})
	var adding, writing sync.WaitGroup
	adding.Go(func() {
		for {
			select {
			case <-stop:
				return
			default:
				if _, err := s.Compact(context.Background()); err != nil {
					t.Error(err)
				}
			}
			if tally, err := s.Tally(context.Background(), Filter{}); err != nil || tally.Total != int64(len(messages)) {
				t.Errorf("in the middle of it: %s, %v", tally, err)
			}
		}
	})
	for writer := range 4 {
		writing.Go(func() {
			r := rand.New(rand.NewPCG(uint64(writer), 8))
			for range 40 {
				var set []Evidence
				for range 1 + r.IntN(15) {
					m := messages[r.IntN(len(messages))]
					set = append(set, Evidence{ID: NewID(), MessageID: m.ID, At: now(), Attempt: r.IntN(3), GatewayID: &m.GatewayID,
						Source: []delivery.Source{delivery.Reply, delivery.Receipt}[r.IntN(2)], Claim: delivery.States[r.IntN(len(delivery.States))]})
				}
				to := gateways[r.IntN(2)]
				if _, err := s.Append(context.Background(), now(), nil, set, func(_, m *Message, _ delivery.Outcome) { m.GatewayID = to }); err != nil {
					t.Error(err)
				}
			}
		})
	}
	writing.Wait()
	close(stop)
	adding.Wait()

	spans := []stretch{
		{},
		{from: at.Add(-90 * time.Minute)},
		{to: at.Add(-3*time.Hour - 7*time.Minute)},
		{at.Add(-50 * time.Hour), at.Add(-61 * time.Minute)},
		{
			at.Add(-40 * time.Minute),
			at.Add(-20 * time.Minute),
		},
		{at.Truncate(time.Hour).Add(-20 * time.Minute), at.Truncate(time.Hour).Add(10 * time.Minute)},
		{from: at.Add(-26 * time.Hour).Truncate(24 * time.Hour)},
		{at.Truncate(time.Hour).Add(-50 * time.Minute), at.Truncate(time.Hour).Add(-40 * time.Minute)},
		{at.Truncate(time.Hour).Add(-20 * time.Minute), at.Truncate(time.Hour).Add(-10 * time.Minute)},
		{at.Truncate(time.Hour).Add(-40 * time.Minute), at.Truncate(time.Hour).Add(-20 * time.Minute)},
		{at.Truncate(24 * time.Hour).Add(-20 * time.Minute), at.Truncate(24 * time.Hour).Add(40 * time.Minute)},
		{at.Add(-time.Hour), at.Add(-2 * time.Hour)},
	}
	for _, f := range []Filter{
		{}, {Gateway: gateways[0]}, {Sender: "Lanternholm"}, {Country: "FR"}, {Kind: "bulk"}, {Contested: true}, {Template: "none"},
		{States: []delivery.State{delivery.Delivered, delivery.Rejected}}, {Gateway: gateways[1], Kind: "otp"}} {
		for _, span := range spans {
			f.Since, f.Until = span.from, span.to
			kept := must[delivery.Tally](t)(s.Tally(t.Context(), f))
			var counted delivery.Tally
			for _, m := range must[[]Message](t)(s.Find(t.Context(), f, uuid.Nil, 1000)) {
				counted.Add(m.State, 1)
			}
			if kept.String() != counted.String() {
				t.Errorf("%+v\nkept    %s\ncounted %s", f, kept, counted)
			}
		}
	}
	for hour := range 62 {
		differences, _, err := s.Prove(t.Context(), at.Add(-time.Duration(hour)*time.Hour))
		if err != nil || len(differences) > 0 {
			t.Errorf("%v, %v", differences, err)
		}
	}
}

// A count that is wrong is noticed, and the messages that are to blame.
func TestProofFindsWhatIsWrong(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	m, other := newMessage(uuid.New(), 1), newMessage(uuid.New(), 1)
	accept(t, s, m, other)
	if err := s.db.Exec("UPDATE standings SET state = 'delivered' WHERE id = ?", m.ID).Error; err != nil {
		t.Fatal(err)
	}
	differences, wrong, err := s.Prove(t.Context(), timeOf(m.ID))
	if err != nil || len(wrong) != 1 || wrong[0] != m.ID {
		t.Errorf("to blame: %v, %v", wrong, err)
	}
	want := map[delivery.State]string{delivery.Queued: "kept 2, counted 1", delivery.Delivered: "kept 0, counted 1"}
	for _, d := range differences {
		if got := fmt.Sprintf("kept %d, counted %d", d.Kept, d.Counted); got != want[d.State] {
			t.Errorf("%s: %s", d.State, got)
		}
		delete(want, d.State)
	}
	if len(want) > 0 {
		t.Errorf("not noticed: %v", want)
	}
}
