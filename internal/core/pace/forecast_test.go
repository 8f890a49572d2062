package pace

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"
	"time"
)

var dawn = time.Date(2026, 11, 29, 6, 0, 0, 0, time.UTC)

func gatewayLimit(name string) LimitOf { return LimitOf{"gateway", name} }

// from is open from so many seconds on.
func from(seconds float64) func(time.Time) (bool, time.Time) {
	opens := dawn.Add(time.Duration(seconds * float64(time.Second)))
	return func(at time.Time) (bool, time.Time) {
		if at.Before(opens) {
			return false, opens
		}
		return true, time.Time{}
	}
}

func TestForecasts(t *testing.T) {
	t.Parallel()
	a, b, own := gatewayLimit("a"), gatewayLimit("b"), LimitOf{"pace", "x"}
	limits := map[LimitOf]Limit{
		a:   {PerSecond: 10},
		b:   {PerSecond: 100},
		own: {PerSecond: 5},
		gatewayLimit("quota"): {PerSecond: 10, Quotas: []Quota{
			{N: 100, Per: time.Minute, Used: 40},
		}},
		LimitOf{"sender", "s"}: {PerSecond: 2},
	}
	at := func(seconds float64) time.Time { return dawn.Add(time.Duration(seconds * float64(time.Second))) }
	for name, c := range map[string]struct {
		loads        []Load
		starts, ends float64
		left         float64
		bound        LimitOf
	}{
		"one gateway": {
			loads: []Load{{Of: "x", Under: []LimitOf{a}, N: 100}}, ends: 10, bound: a,
		},
		"two gateways, the slower one ends it": {
			loads: []Load{{Of: "x", Under: []LimitOf{a}, N: 300}, {Of: "x", Under: []LimitOf{b}, N: 1000}}, ends: 30, bound: b,
		},
		"a pace of its own, through both": {
			loads: []Load{{Of: "x", Under: []LimitOf{a, own}, N: 50}, {Of: "x", Under: []LimitOf{b, own}, N: 50}}, ends: 20, bound: own,
		},
		"what waits already goes first": {
			loads:  []Load{{Of: "queue", Lane: 0, Under: []LimitOf{a}, N: 50}, {Of: "x", Lane: 1, Under: []LimitOf{a}, N: 50}},
			starts: 5, ends: 10, bound: a,
		},
		"a rival takes half while it lasts": {
			loads: []Load{{Of: "y", Under: []LimitOf{a}, N: 50}, {Of: "x", Under: []LimitOf{a}, N: 100}}, ends: 15, bound: a,
		},
		"a rival of many parts has no more than its share": {
			loads: []Load{
				{Of: "y", Under: []LimitOf{a}, N: 25}, {Of: "y", Under: []LimitOf{a, {"sender", "none"}}, N: 25},
				{Of: "x", Under: []LimitOf{a}, N: 100},
			}, ends: 15, bound: a,
		},
		"a rival with a slow sender leaves what it cannot use": {
			loads: []Load{{Of: "y", Under: []LimitOf{a, {"sender", "s"}}, N: 50}, {Of: "x", Under: []LimitOf{a}, N: 200}},
			ends:  25, bound: a,
		},
		"half of it opens later": {
			loads: []Load{{Of: "x", Under: []LimitOf{a}, N: 50}, {Of: "x", Under: []LimitOf{a}, N: 50, Hours: from(60)}},
			ends:  65, bound: a,
		},
		"all of it starts later": {
			loads: []Load{{Of: "x", Under: []LimitOf{a}, N: 50, Opens: at(30)}}, starts: 30, ends: 35, bound: a,
		},
		"an end": {
			loads: []Load{{Of: "x", Under: []LimitOf{a}, N: 500, Until: at(20)}}, ends: 20, left: 300, bound: a,
		},
		"a quota of which a part is used": {
			loads: []Load{{Of: "x", Under: []LimitOf{gatewayLimit("quota")}, N: 210}}, ends: 125, bound: gatewayLimit("quota"),
		},
		"nothing": {},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			got := Foresee("x", c.loads, limits, dawn)
			if len(c.loads) == 0 {
				if !got.Starts.IsZero() || !got.Ends.IsZero() || got.Gone != 0 {
					t.Fatalf("nothing goes: %+v", got)
				}
				return
			}
			near := func(what string, is time.Time, want float64) {
				if diff := is.Sub(at(want)).Abs(); diff > 10*time.Millisecond {
					t.Errorf("%s after %v, want %vs", what, is.Sub(dawn), want)
				}
			}
			near("starts", got.Starts, c.starts)
			near("ends", got.Ends, c.ends)
			if math.Abs(got.Left-c.left) > 1 || len(got.Bounds) == 0 || got.Bounds[0].LimitOf != c.bound {
				t.Errorf("%v left, bound by %v; want %v and %v", got.Left, got.Bounds, c.left, c.bound)
			}
			if last := got.Points[len(got.Points)-1]; math.Abs(last.Gone-got.Gone) > 0.01 || got.Points[0].Gone != 0 {
				t.Errorf("the curve ends at %v, and %v went", last, got.Gone)
			}
		})
	}
}

// Whatever the loads and limits are: all go or are left, no limit is passed, the curve never
// falls, and more work for others makes nothing earlier.
func TestForecastsOfAnyWork(t *testing.T) {
	t.Parallel()
	for seed := range uint64(300) {
		rnd := rand.New(rand.NewPCG(seed, 7))
		limits := map[LimitOf]Limit{}
		for i := range 4 {
			l := Limit{PerSecond: 1 + rnd.Float64()*50}
			if rnd.IntN(3) == 0 {
				l.Quotas = []Quota{{N: float64(50 + rnd.IntN(500)), Per: time.Duration(1+rnd.IntN(10)) * time.Minute}}
			}
			limits[gatewayLimit(fmt.Sprint(i))] = l
		}
		var loads []Load
		all := 0.0
		for range 1 + rnd.IntN(12) {
			l := Load{Of: string("xyz"[rnd.IntN(3)]), Lane: rnd.IntN(2), Under: []LimitOf{gatewayLimit(fmt.Sprint(rnd.IntN(4)))},
				N: float64(rnd.IntN(2000)), Opens: dawn.Add(time.Duration(rnd.IntN(300)) * time.Second)}
			if rnd.IntN(3) == 0 {
				l.Under = append(l.Under, gatewayLimit(fmt.Sprint(rnd.IntN(4))))
			}
			if rnd.IntN(3) == 0 {
				l.Hours = from(float64(rnd.IntN(600)))
			}
			if l.Of == "x" {
				all += l.N
			}
			loads = append(loads, l)
		}
		got := Foresee("x", loads, limits, dawn)
		if math.Abs(got.Gone+got.Left-all) > 0.01*max(all, 1) || got.Left > 0.01 {
			t.Fatalf("seed %d: %v went and %v are left of %v", seed, got.Gone, got.Left, all)
		}
		fastest := 0.0
		for _, l := range limits {
			fastest += l.PerSecond
		}
		for i := 1; i < len(got.Points); i++ {
			p, before := got.Points[i], got.Points[i-1]
			span := p.At.Sub(before.At).Seconds()
			if p.Gone < before.Gone-few || p.Gone-before.Gone > fastest*span+1 || !p.At.After(before.At) {
				t.Fatalf("seed %d: from %v to %v", seed, before, p)
			}
		}
		if all == 0 {
			continue
		}
		alone := Foresee("x", only(loads, "x"), limits, dawn)
		if alone.Ends.After(got.Ends.Add(time.Second)) {
			t.Fatalf("seed %d: alone it ends at %v, beside others at %v", seed, alone.Ends, got.Ends)
		}
	}
}

func only(loads []Load, of string) (own []Load) {
	for _, l := range loads {
		if l.Of == of {
			own = append(own, l)
		}
	}
	return own
}

// However long a quota of a minute has to be gone through, it is worked out in a moment, and
// the curve stays small.
func TestForecastOfWeeks(t *testing.T) {
	t.Parallel()
	name := gatewayLimit("a")
	limits := map[LimitOf]Limit{name: {PerSecond: 10, Quotas: []Quota{{N: 30, Per: time.Minute}}}}
	got := Foresee("x", []Load{{Of: "x", Under: []LimitOf{name}, N: 1_000_000}}, limits, dawn)
	if want := dawn.Add(1_000_000 / 30 * time.Minute); got.Ends.Sub(want).Abs() > 2*time.Minute {
		t.Errorf("ends %v, want %v", got.Ends, want)
	}
	if len(got.Points) > pointsMost {
		t.Errorf("%d points", len(got.Points))
	}
}
