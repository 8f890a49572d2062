package store

import (
	"testing"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/latency"
)

// keepTimes is a plan that leaves everything as it is.
func keepTimes(_, _ *Message, _ delivery.Outcome) {}

// saying makes evidence of what was said so long after the submission began.
type saying func(source delivery.Source, claim delivery.State, after time.Duration, more ...func(*Evidence)) Evidence

// An arrival is counted once, with how long it took, when it becomes known by name; and it comes to the same
// whether it was added up or not.
func TestArrivalsAreCountedOnce(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	gateway := uuid.New()
	began := now().Truncate(time.Hour).Add(-30 * time.Minute)
	for _, c := range []struct {
		name string
		of   func(e saying) [][]Evidence
		want time.Duration // 0: it is not counted
	}{
		{"told by a receipt", func(e saying) [][]Evidence {
			return [][]Evidence{{e(delivery.Reply, delivery.Accepted, time.Second)}, {e(delivery.Receipt, delivery.Delivered, 7*time.Second)}}
		}, 7 * time.Second},
		{"told again, and once more that it failed", func(e saying) [][]Evidence {
			return [][]Evidence{{e(delivery.Receipt, delivery.Delivered, 7*time.Second)}, {e(delivery.Receipt, delivery.Delivered, 9*time.Second)},
				{e(delivery.Receipt, delivery.Undeliverable, 10*time.Second)}, {e(delivery.Query, delivery.Delivered, 20*time.Second)}}
		}, 7 * time.Second},
		{"asked, with the gateway's time", func(e saying) [][]Evidence {
			at := began.Add(4 * time.Second)
			return [][]Evidence{{e(delivery.Query, delivery.Delivered, 10*time.Minute, func(e *Evidence) { e.GatewayAt = &at })}}
		}, 4 * time.Second},
		{"asked, with a time before it began", func(e saying) [][]Evidence {
			at := began.Add(-4 * time.Second)
			return [][]Evidence{{e(delivery.Query, delivery.Delivered, 10*time.Minute, func(e *Evidence) { e.GatewayAt = &at })}}
		}, 10 * time.Minute},
		{"two segments", func(e saying) [][]Evidence {
			part := func(n int) func(*Evidence) { return func(e *Evidence) { e.Part, e.Parts = n, 2 } }
			return [][]Evidence{{e(delivery.Receipt, delivery.Delivered, 3*time.Second, part(2))},
				{e(delivery.Receipt, delivery.Delivered, 5*time.Second, part(1))}}
		}, 5 * time.Second},
		{"two segments, told at once", func(e saying) [][]Evidence {
			part := func(n int) func(*Evidence) { return func(e *Evidence) { e.Part, e.Parts = n, 2 } }
			return [][]Evidence{{e(delivery.Receipt, delivery.Delivered, 3*time.Second, part(2)),
				e(delivery.Receipt, delivery.Delivered, 9*time.Second, part(1))}}
		}, 9 * time.Second},
		{"told by a receipt with the gateway's time", func(e saying) [][]Evidence {
			at := began.Add(time.Second)
			return [][]Evidence{{e(delivery.Receipt, delivery.Delivered, 8*time.Second, func(e *Evidence) { e.GatewayAt = &at })}}
		}, 8 * time.Second},
		{"failed", func(e saying) [][]Evidence {
			return [][]Evidence{{e(delivery.Receipt, delivery.Undeliverable, 3*time.Second)}}
		}, 0},
		{"only a weak match", func(e saying) [][]Evidence {
			return [][]Evidence{
				{e(delivery.Own, delivery.Doubtful, time.Second)},
				{e(delivery.Receipt, delivery.Delivered, 3*time.Second, func(e *Evidence) { e.Ground, e.Weak = 77, true })},
			}
		}, 0},
		{"decided", func(e saying) [][]Evidence {
			return [][]Evidence{{e(delivery.Operator, delivery.Delivered, 3*time.Second, func(e *Evidence) { e.Ground = 78 })}}
		}, 0},
		{"asked again after it was given up", func(e saying) [][]Evidence {
			return [][]Evidence{{e(delivery.Clock, delivery.Unknown, time.Minute)}, {e(delivery.Query, delivery.Delivered, time.Hour)}}
		}, 0},
	} {
		m := newMessage(gateway, 1)
		m.Country = c.name
		accept(t, s, m)
		e := func(source delivery.Source, claim delivery.State, after time.Duration, more ...func(*Evidence)) Evidence {
			e := Evidence{ID: NewID(), MessageID: m.ID, At: began.Add(after), Source: source, Claim: claim, Attempt: 1, GatewayID: &gateway}
			for _, change := range more {
				change(&e)
			}
			return e
		}
		for _, some := range append([][]Evidence{{e(delivery.Own, delivery.Sending, 0)}}, c.of(e)...) {
			known := must[[]Message](t)(s.Append(t.Context(), some[0].At, nil, some, keepTimes))
			if known[0].State == delivery.Unknown {
				if err := s.AskNow(t.Context(), known, now()); err != nil {
					t.Fatal(err)
				}
			}
		}
		ask := Faring{Since: began.Add(-24 * time.Hour), Until: began.Add(24 * time.Hour), Country: c.name}
		told := func() map[Along]*latency.Histogram {
			return must[map[Along]*latency.Histogram](t)(s.Arrivals(t.Context(), ask))
		}
		first := told()
		for more := true; more; {
			more = must[bool](t)(s.Compact(t.Context()))
		}
		second := told()
		for _, found := range []map[Along]*latency.Histogram{first, second} {
			var all latency.Histogram
			for _, h := range found {
				all.Join(*h)
			}
			var want latency.Histogram
			if c.want > 0 {
				want.Add(latency.BucketOf(c.want), 1)
			}
			if all != want {
				t.Errorf("%s: %d arrived, half within %v; want %d, %v", c.name, all.N(), all.Quantile(0.5), want.N(), c.want)
			}
		}
	}
}

// Hours and days, gateways, countries and kinds come to the same sum, and each to its own.
func TestFaringIsToldApart(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	gateways := []uuid.UUID{uuid.New(), uuid.New()}
	first := now().Truncate(24 * time.Hour)
	for i := range 24 {
		at := first.Add(time.Duration(i) * 30 * time.Minute)
		m := newMessage(gateways[i%2], i%3)
		m.ID, m.Country, m.CreatedAt = IDAt(at), []string{"GB", "FR"}[i/2%2], at
		m.Kind = "bulk"
		if i%4 == 0 {
			m.Kind = "otp"
		}
		accept(t, s, m)
		for k, claim := range []delivery.State{delivery.Sending, delivery.Delivered} {
			e := Evidence{
				ID:        NewID(),
				MessageID: m.ID,
				At:        at.Add(time.Duration(k*(i+1)) * time.Second),
				Source:    delivery.Own,
				Claim:     claim,
				Attempt:   1,
				GatewayID: &m.GatewayID,
			}
			if k == 1 {
				if e.Source = delivery.Receipt; i%6 == 5 {
					e.Claim = delivery.Undeliverable
				}
			}
			if _, err := s.Append(t.Context(), e.At, nil, []Evidence{e}, keepTimes); err != nil {
				t.Fatal(err)
			}
		}
		if i == 11 { // half is added up, half is not
			must[bool](t)(s.Compact(t.Context()))
		}
	}
	whole := Faring{Since: first, Until: first.Add(24 * time.Hour)}
	for _, c := range []struct {
		name            string
		f               func(*Faring)
		groups, arrived int
		accepted        int64
	}{
		{"all", func(*Faring) {}, 2, 20, 24},
		{"by hour", func(f *Faring) { f.ByTime = true }, 24, 20, 24},
		{"by day", func(f *Faring) { f.ByTime, f.Daily = true, true }, 2, 20, 24},
		{"by country", func(f *Faring) { f.ByCountry = true }, 4, 20, 24},
		{"by kind", func(f *Faring) { f.ByKind = true }, 3, 20, 24},
		{"one gateway", func(f *Faring) { f.Gateway = gateways[1] }, 1, 8, 12},
		{"one country", func(f *Faring) { f.Country = "FR" }, 2, 10, 12},
		{"one kind", func(f *Faring) { f.Kind = "otp" }, 1, 6, 6},
		{"two hours", func(f *Faring) { f.Since, f.Until = first.Add(time.Hour), first.Add(3*time.Hour) }, 2, 3, 4},
		{"no hour", func(f *Faring) { f.Since, f.Until = first.Add(20*time.Hour), first.Add(21*time.Hour) }, 0, 0, 0},
	} {
		f := whole
		c.f(&f)
		var all latency.Histogram
		for _, h := range must[map[Along]*latency.Histogram](t)(s.Arrivals(t.Context(), f)) {
			all.Join(*h)
		}
		ended := must[map[Along]*delivery.Tally](t)(s.Endings(t.Context(), f))
		var sum delivery.Tally
		for _, one := range ended {
			sum.Join(*one)
		}
		if all.N() != int64(c.arrived) || sum.Total != c.accepted || len(ended) != c.groups || sum.ByState[delivery.Delivered] != all.N() {
			t.Errorf(
				"%s: %d arrived, %d accepted (%v) in %d groups; want %d, %d, %d",
				c.name,
				all.N(),
				sum.Total,
				sum,
				len(ended),
				c.arrived,
				c.accepted,
				c.groups,
			)
		}
	}
}
