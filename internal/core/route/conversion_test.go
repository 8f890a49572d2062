package route

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"
)

var began = time.Date(2026, 11, 27, 8, 0, 0, 0, time.UTC)

func TestFaredCountsTheLast(t *testing.T) {
	f := Fared{}.With(100, 80, began)
	if f.N != 100 || f.Used != 80 {
		t.Errorf("%+v", f)
	}
	if f = f.With(300, 0, began); f.N != faredMost || f.Used != 0 {
		t.Errorf("only the last %d count: %+v", faredMost, f)
	}
	f = f.With(50, 50, began)
	if math.Abs(f.N-faredMost) > 1e-9 || math.Abs(f.Used-50) > 1e-9 {
		t.Errorf("50 of %d: %+v", faredMost, f)
	}
	if f = f.as(began.Add(faredHalf)); math.Abs(f.N-faredMost/2) > 1e-9 || math.Abs(f.Used-25) > 1e-9 {
		t.Errorf("after half the time: %+v", f)
	}
	if f := f.With(0, 0, began); f.N < 0 || f.Used > f.N {
		t.Errorf("nothing more, and a clock that went back: %+v", f)
	}
	if f := f.With(10, 20, began.Add(faredHalf)); f.Used > f.N {
		t.Errorf("more used than there were: %+v", f)
	}
}

func TestPrefer(t *testing.T) {
	order := []string{"a", "b", "c"}
	at := func(n, used float64) Fared { return Fared{n, used, began} }
	for name, tt := range map[string]struct {
		fared map[string]Fared
		draw  float64
		want  string
	}{
		"nothing is known":               {nil, .5, "a b c"},
		"the second is better":           {map[string]Fared{"a": at(100, 40), "b": at(100, 80)}, .5, "b a c"},
		"by chance perhaps":              {map[string]Fared{"a": at(100, 75), "b": at(100, 80)}, .5, "a b c"},
		"too little is known of it":      {map[string]Fared{"a": at(100, 10), "b": at(19, 19)}, .5, "a b c"},
		"too little of the first":        {map[string]Fared{"a": at(10, 0), "b": at(100, 99)}, .5, "a b c"},
		"the third is the best":          {map[string]Fared{"a": at(100, 20), "b": at(100, 50), "c": at(100, 90)}, .5, "c a b"},
		"to find out, the first other":   {map[string]Fared{"a": at(100, 80), "b": at(100, 80), "c": at(100, 80)}, .001, "b a c"},
		"to find out, the last other":    {map[string]Fared{"a": at(100, 80), "b": at(100, 80), "c": at(100, 80)}, .039, "c a b"},
		"not to find out any more":       {map[string]Fared{"a": at(100, 80), "b": at(100, 80), "c": at(100, 80)}, .041, "a b c"},
		"more as long as one is unknown": {map[string]Fared{"a": at(100, 80), "b": at(100, 80)}, .041, "b a c"},
	} {
		got, why := Prefer(order, func(g string) Fared { return tt.fared[g] }, began, tt.draw)
		if strings.Join(got, " ") != tt.want || !strings.Contains(why, "used") {
			t.Errorf("%s: %v (%s), want %s", name, got, why, tt.want)
		}
	}
	if !slices.Equal(order, []string{"a", "b", "c"}) {
		t.Error("the route itself was changed")
	}
	if got, _ := Prefer([]string{"a"}, func(string) Fared { return Fared{} }, began, 0); len(got) != 1 {
		t.Error(got)
	}
}

// turned is what comes of a gateway that turns bad, simulated: how many codes were lost until another took its place,
// that would have been used there; and how many of those that go after that still go to the bad one.
type turned struct{ lost, moved, still int }

// turn sends codes one after the other, pace apart, through a (85 in 100 are used) and b (80); from a moment on a's are
// used one in ten times. What became of a code is known a minute and up to ten seconds later, as the service looks.
func turn(seed uint64, pace time.Duration) (out turned, wrongBefore int) {
	r := rand.New(rand.NewPCG(seed, 1)) // #nosec G404 -- a simulation that can be repeated
	fared := map[string]Fared{}
	type sent struct {
		at   time.Time
		by   string
		used bool
	}
	var open []sent
	const before, after = 3000, 3000
	looked := began
	streak := 0
	for i := range before + after {
		now := began.Add(time.Duration(i) * pace)
		if now.Sub(looked) >= 10*time.Second {
			looked = now
			sums := map[string][2]int64{}
			for len(open) > 0 && now.Sub(open[0].at) >= time.Minute {
				s := sums[open[0].by]
				s[0]++
				if open[0].used {
					s[1]++
				}
				sums[open[0].by], open = s, open[1:]
			}
			for by, s := range sums {
				fared[by] = fared[by].With(s[0], s[1], now)
			}
		}
		order, why := Prefer([]string{"a", "b"}, func(g string) Fared { return fared[g] }, now, r.Float64())
		rates := map[string]float64{"a": .85, "b": .8}
		if i >= before {
			rates["a"] = .1
		}
		by := order[0]
		open = append(open, sent{now, by, r.Float64() < rates[by]})
		preferred := by == "a" != strings.Contains(why, "to find out")
		switch {
		case i < before:
			if i >= before/2 && !preferred {
				wrongBefore++
			}
		case out.moved == 0 && preferred:
			if by == "a" && r.Float64() < .8 {
				out.lost++
			}
			streak = 0
		case out.moved == 0:
			if streak++; streak == 20 {
				out.moved = i - before - 19
			}
		case by == "a":
			out.still++
		}
	}
	return out, wrongBefore
}

// TestMovesFromAGatewayThatTurnsBad reports how many codes are lost until a route has moved: the guide says it.
func TestMovesFromAGatewayThatTurnsBad(t *testing.T) {
	const times = 40
	for _, pace := range []time.Duration{100 * time.Millisecond, time.Second, 20 * time.Second, 5 * time.Minute} {
		var lost, still []int
		wrong := 0
		for seed := range uint64(times) {
			one, before := turn(seed, pace)
			if one.moved == 0 {
				t.Fatalf("one code in %v, seed %d: it never moved", pace, seed)
			}
			lost, still, wrong = append(lost, one.lost), append(still, one.still), wrong+before
		}
		slices.Sort(lost)
		slices.Sort(still)
		said := fmt.Sprintf(
			"one code in %v: %d lost until it moved, in nine of ten runs at most %d; of the next codes %.1f %% went there to find out",
			pace,
			lost[times/2],
			lost[times*9/10],
			100*float64(still[times/2])/3000,
		)
		t.Log(said)
		late := int(70*time.Second/pace) + 1 // what went before anything could be known
		if lost[times*9/10] > 150+late {
			t.Errorf("too many: %s", said)
		}
		if wrong > times*1500/20 {
			t.Errorf("before, b was preferred for %d of %d codes although a was better", wrong, times*1500)
		}
	}
}
