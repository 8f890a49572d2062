package belong

import (
	"math/rand/v2"
	"testing"
	"time"
)

func TestNearest(t *testing.T) {
	t.Parallel()
	rule := Rule{Window: time.Minute}
	said := func(number string, second int) Line { return Line{Number: number, Speaks: at(second)} }
	from := func(l Line, sender string) Line { l.Sender = sender; return l }
	by := func(c Claimant, sender string) Claimant { c.Sender = sender; return c }
	for name, tt := range map[string]struct {
		lines     []Line
		claimants []Claimant
		want      []int
		tied      []bool
	}{
		"one and one":       {[]Line{said("+1", 12)}, []Claimant{sent("+1", 10)}, []int{0}, []bool{false}},
		"beyond the window": {[]Line{said("+1", 80)}, []Claimant{sent("+1", 10)}, []int{-1}, []bool{false}},
		"each the nearest": {[]Line{said("+1", 31), said("+1", 11)}, []Claimant{sent("+1", 10), sent("+1", 30)}, []int{1, 0},
			[]bool{false, false}},
		"the nearest pair first": {[]Line{said("+1", 20), said("+1", 11)}, []Claimant{sent("+1", 10)}, []int{-1, 0}, []bool{false, false}},
		"two as near to one":     {[]Line{said("+1", 12), said("+1", 8)}, []Claimant{sent("+1", 10)}, []int{-1, -1}, []bool{true, true}},
		"one as near to two":     {[]Line{said("+1", 20)}, []Claimant{sent("+1", 10), sent("+1", 30)}, []int{-1}, []bool{true}},
		"the sender tells": {[]Line{from(said("+1", 20), "lh")}, []Claimant{by(sent("+1", 10), "LH"), by(sent("+1", 30), "X")},
			[]int{0}, []bool{false}},
		"no moment": {[]Line{{Number: "+1"}}, []Claimant{sent("+1", 10)}, []int{-1}, []bool{false}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			for i, v := range Nearest(tt.lines, tt.claimants, rule) {
				if v.Claimant != tt.want[i] || v.Crowded != tt.tied[i] {
					t.Errorf("line %d: %+v, want %d, tied %v", i, v, tt.want[i], tt.tied[i])
				}
			}
		})
	}
}

// In any order the same belongs together, one to one, and nothing that is left free on both sides is nearer than
// what was taken.
func TestNearestIsOneToOneInAnyOrder(t *testing.T) {
	t.Parallel()
	rule := Rule{Window: 15 * time.Second}
	for seed := range uint64(3000) {
		r := rand.New(rand.NewPCG(seed, 5))
		numbers := []string{"+1", "+2"}
		var lines []Line
		var claimants []Claimant
		for range 1 + r.IntN(8) {
			lines = append(lines, Line{Number: numbers[r.IntN(2)], Speaks: at(r.IntN(60))})
		}
		for range r.IntN(8) {
			claimants = append(claimants, sent(numbers[r.IntN(2)], r.IntN(60)))
		}
		got := Nearest(lines, claimants, rule)
		taken := map[int]bool{}
		for i, v := range got {
			if v.Claimant < 0 {
				continue
			}
			if taken[v.Claimant] {
				t.Fatalf("seed %d: one claimant is taken twice: %+v", seed, got)
			}
			taken[v.Claimant] = true
			apart := lines[i].Speaks.Sub(claimants[v.Claimant].Began).Abs()
			for c, other := range claimants {
				nearer := other.Number == lines[i].Number && lines[i].Speaks.Sub(other.Began).Abs() < apart
				free := true
				for j, w := range got {
					near := lines[j].Number == other.Number && lines[j].Speaks.Sub(other.Began).Abs() <= rule.Window
					free = free && w.Claimant != c && !(w.Crowded && near)
				}
				if nearer && free {
					t.Fatalf(
						"seed %d: line %d took %d, and %d is free and nearer: %+v\n%+v\n%+v",
						seed,
						i,
						v.Claimant,
						c,
						got,
						lines,
						claimants,
					)
				}
			}
		}
		sameInAnyOrder(t, seed, r, lines, claimants, got, func(lines []Line, claimants []Claimant) []Verdict {
			return Nearest(lines, claimants, rule)
		})
	}
}
