package store

import (
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/price"
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
		if i%4 > 0 {
			m.Price, m.Avoidable = price.Of(int64(i%4)*30_000, "EUR"), int64(i%3)*10_000
		}
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
			if wrong, err := s.proveAll(at); err != nil || len(wrong) > 0 {
				t.Errorf("in the middle of it these are said to be wrong: %v, %v", wrong, err)
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
					e := Evidence{ID: NewID(), MessageID: m.ID, At: now(), Attempt: r.IntN(3), GatewayID: &m.GatewayID,
						Source: []delivery.Source{delivery.Reply, delivery.Receipt}[r.IntN(2)], Claim: delivery.States[r.IntN(len(delivery.States))]}
					if r.IntN(3) == 0 {
						micros := int64(r.IntN(5)) * 12_345
						e.ChargeMicros, e.ChargeCurrency = &micros, []string{"EUR", "GBP"}[r.IntN(2)]
					}
					set = append(set, e)
				}
				to, rate := gateways[r.IntN(2)], price.Of(int64(r.IntN(4))*20_000, "EUR")
				if _, err := s.Append(context.Background(), now(), nil, set, func(_, m *Message, _ delivery.Outcome) {
					if m.GatewayID != to {
						m.GatewayID = to
						m.Reprice(rate)
					}
				}); err != nil {
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
	type costs struct {
		day     time.Time
		gateway uuid.UUID
		country string
		priced  string
		charged string
	}
	keptMoney, counted := map[costs][5]int64{}, map[costs][5]int64{}
	for _, one := range must[[]Spent](t)(s.Spent(t.Context(), Spending{Since: at.AddDate(0, -1, 0), Until: at.Add(time.Hour),
		ByGateway: true, ByCountry: true, ByDay: true})) {
		k := costs{one.At, one.Gateway, one.Country, one.Currency, one.ToldCurrency}
		keptMoney[k] = [5]int64{one.N, one.Micros, one.ToldMicros, one.AvoidableN, one.AvoidableMicros}
	}
	for _, m := range must[[]Message](t)(s.Find(t.Context(), Filter{}, uuid.Nil, 1000)) {
		told := m.Told()
		switch m.State {
		case delivery.Held, delivery.Queued, delivery.Sending, delivery.Rejected, delivery.Cancelled:
			if !told.Told {
				continue
			}
		default:
			if m.Attempts == 0 && !told.Told {
				continue
			}
		}
		k := costs{timeOf(m.ID).UTC().Truncate(24 * time.Hour), m.GatewayID, m.Country, m.Price.Currency(), told.Currency}
		sum := counted[k]
		avoidable := int64(0)
		if m.Avoidable > 0 {
			avoidable = 1
		}
		for i, n := range []int64{1, m.Price.Micros(), told.Micros, avoidable, m.Avoidable} {
			sum[i] += n
		}
		counted[k] = sum
	}
	if !maps.Equal(keptMoney, counted) || len(counted) < 20 {
		t.Errorf("money is kept as\n%v\nand counted\n%v", keptMoney, counted)
	}
	for hour := range 62 {
		differences, _, err := s.Prove(t.Context(), at.Add(-time.Duration(hour)*time.Hour))
		if err != nil || len(differences) > 0 {
			t.Errorf("%v, %v", differences, err)
		}
	}
}

// proveAll proves all sums of the last days.
func (s *Store) proveAll(now time.Time) (wrong []Miscount, err error) {
	for back := range 4 {
		for _, prove := range []func(context.Context, time.Time) ([]Miscount, error){s.ProveMoney, s.ProveDay} {
			found, err := prove(context.Background(), now.AddDate(0, 0, -back))
			if err != nil {
				return nil, err
			}
			wrong = append(wrong, found...)
		}
	}
	for last := (uuid.UUID{}); ; {
		looked, found, err := s.ProveBatch(context.Background(), last)
		if err != nil || looked == uuid.Nil {
			return wrong, err
		}
		last, wrong = looked, append(wrong, found...)
	}
}

// Sums of money, of batches and of days that are wrong are noticed, once, and corrected.
func TestWrongSumsAreCorrected(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	at := now()
	first := BatchAt(at)
	b := Batch{ID: NewID(), First: &first, Name: "Storm", State: "running", KeyID: NewID()}
	if err := s.db.Create(&b).Error; err != nil {
		t.Fatal(err)
	}
	gateway := NewID()
	var messages []Message
	for row := range 20 {
		m := newMessage(gateway, 2)
		m.ID, m.CreatedAt, m.Price, m.Country = InBatch(first, row+1), at, price.Of(50_000, "EUR"), "GB"
		messages = append(messages, m)
	}
	accept(t, s, messages...)
	charge := int64(48_000)
	var said []Evidence
	for i := range messages[:10] {
		e := Evidence{
			ID:        NewID(),
			MessageID: messages[i].ID,
			At:        at,
			Attempt:   1,
			GatewayID: &gateway,
			Source:    delivery.Receipt,
			Claim:     delivery.Delivered,
		}
		e.ChargeMicros, e.ChargeCurrency = &charge, "EUR"
		said = append(said, e)
	}
	if _, err := s.Append(t.Context(), at, nil, said, func(_, _ *Message, _ delivery.Outcome) {}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Compact(t.Context()); err != nil {
		t.Fatal(err)
	}
	counted := func() string {
		batch := must[[]BatchCount](t)(s.CountBatch(t.Context(), b))
		spent := must[[]Spent](t)(s.Spent(t.Context(), Spending{Since: at.AddDate(0, 0, -1), Until: at.AddDate(0, 0, 1)}))
		daily := must[map[Along]*delivery.Tally](
			t,
		)(
			s.Endings(t.Context(), Faring{Since: at.AddDate(0, 0, -2), Until: at.AddDate(0, 0, 1), Daily: true}),
		)
		return fmt.Sprint(batch, spent, daily[Along{Gateway: gateway}])
	}
	if wrong, err := s.proveAll(at); err != nil || len(wrong) > 0 {
		t.Fatalf("%v, %v", wrong, err)
	}
	right := counted()
	for _, sql := range []string{
		"UPDATE money SET n = n + 1 WHERE told",
		"UPDATE money SET told_micros = told_micros + 5 WHERE told",
		"DELETE FROM money",
		"UPDATE batch_counts SET n = n - 1 WHERE state = 'delivered'",
		"UPDATE batch_counts SET micros = micros + 1 WHERE state = 'queued'",
		"DELETE FROM batch_counts",
		"UPDATE tallies SET n = n + 7 WHERE grain = 'day' AND state = 'delivered'",
		"DELETE FROM tallies WHERE grain = 'day'",
	} {
		if err := s.db.Exec(sql).Error; err != nil {
			t.Fatal(err)
		}
		if counted() == right {
			t.Fatalf("%s changes nothing that is read", sql)
		}
		if wrong, err := s.proveAll(at); err != nil || len(wrong) == 0 {
			t.Errorf("%s is not noticed: %v", sql, err)
		}
		if now := counted(); now != right {
			t.Errorf("after %s\nwas %s\nis  %s", sql, right, now)
		}
		if wrong, err := s.proveAll(at); err != nil || len(wrong) > 0 {
			t.Errorf("after %s is corrected: %v, %v", sql, wrong, err)
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
	want := map[delivery.State]string{delivery.Queued: "kept 1, counted 0", delivery.Delivered: "kept 0, counted 1"}
	for _, d := range differences {
		if got := fmt.Sprintf("kept %d, counted %d", d.Kept, d.Counted); got != want[d.State] {
			t.Errorf("%s: %s", d.State, got)
		}
		delete(want, d.State)
	}
	if len(want) > 0 {
		t.Errorf("not noticed: %v", want)
	}
	if err := s.Recount(t.Context(), timeOf(m.ID)); err != nil {
		t.Fatal(err)
	}
	if differences, _, err := s.Prove(t.Context(), timeOf(m.ID)); err != nil || len(differences) > 0 {
		t.Errorf("counted anew it differs: %v, %v", differences, err)
	}
}

// A count that is right in all and wrong by one of its dimensions is noticed, and counted anew; also where the
// combination that messages are counted in is not there any more.
func TestProofFindsWhatIsWrongInOneDimension(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	m := newMessage(uuid.New(), 1)
	m.Sender = "Lantern"
	accept(t, s, m, newMessage(m.GatewayID, 1))
	for _, sql := range []string{"DELETE FROM cuts WHERE sender = 'Lantern'", "UPDATE tally_deltas SET cut_id = cut_id + 1000 WHERE cut_id = (SELECT min(cut_id) FROM tally_deltas)"} {
		if err := s.db.Exec(sql).Error; err != nil {
			t.Fatal(err)
		}
	}
	s.cuts.forget()
	if tally, err := s.Tally(t.Context(), Filter{}); err != nil || tally.Total != 2 {
		t.Fatalf("%+v, %v", tally, err)
	}
	if differences, _, err := s.Prove(t.Context(), timeOf(m.ID)); err != nil || len(differences) != 2 {
		t.Errorf("%v, %v", differences, err)
	}
	if err := s.Recount(t.Context(), timeOf(m.ID)); err != nil {
		t.Fatal(err)
	}
	for name, f := range map[string]Filter{"all": {}, "its sender": {Sender: "Lantern"}} {
		if tally, err := s.Tally(t.Context(), f); err != nil || tally.Total != int64(2-one(name != "all")) {
			t.Errorf("%s: %+v, %v", name, tally, err)
		}
	}
}

func one(is bool) int {
	if is {
		return 1
	}
	return 0
}
