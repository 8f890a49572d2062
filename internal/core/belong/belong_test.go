package belong

import (
	"math/rand/v2"
	"reflect"
	"testing"
	"time"
)

var noon = time.Date(2026, 11, 15, 12, 0, 0, 0, time.UTC)

func at(second int) time.Time { return noon.Add(time.Duration(second) * time.Second) }

var usual = Rule{Window: time.Hour, Slack: 2 * time.Second, Quiet: at(600)}

// came is a line about a number that came in a second, sent one that began in one.
func came(number string, second int) Line {
	return Line{Number: number, Came: at(second), Last: at(second)}
}

func sent(number string, second int) Claimant {
	return Claimant{Number: number, Began: at(second), Moved: at(second + 5)}
}

func TestJudge(t *testing.T) {
	t.Parallel()
	speaks := func(l Line, second int) Line { l.Speaks = at(second); return l }
	says := func(l Line, text string) Line { l.Text = text; return l }
	not := func(l Line, c int) Line { l.NotOf = []int{c}; return l }
	saying := func(c Claimant, text string) Claimant { c.Text = text; return c }
	for name, tt := range map[string]struct {
		lines     []Line
		claimants []Claimant
		want      []int
		rivals    []int
	}{
		"one and one":                      {[]Line{came("+1", 20)}, []Claimant{sent("+1", 10)}, []int{0}, []int{1}},
		"another number":                   {[]Line{came("+2", 20)}, []Claimant{sent("+1", 10)}, []int{-1}, []int{0}},
		"no number, and one in the window": {[]Line{came("", 20)}, []Claimant{sent("+1", 10)}, []int{0}, []int{1}},
		"no number, and two":               {[]Line{came("", 20)}, []Claimant{sent("+1", 10), sent("+2", 11)}, []int{-1}, []int{2}},
		"two to one number":                {[]Line{came("+1", 20)}, []Claimant{sent("+1", 10), sent("+1", 11)}, []int{-1}, []int{2}},
		"two lines, two to one number": {
			[]Line{came("+1", 20), came("+1", 21)},
			[]Claimant{sent("+1", 10), sent("+1", 11)}, []int{-1, -1}, []int{2, 2},
		},
		"one came before the second went": {
			[]Line{came("+1", 20), came("+1", 40)},
			[]Claimant{sent("+1", 10), sent("+1", 30)}, []int{0, 1}, []int{1, 2},
		},
		"more lines than messages": {
			[]Line{came("+1", 20), came("+1", 21)},
			[]Claimant{sent("+1", 10)}, []int{-1, -1}, []int{1, 1},
		},
		"it came before anything went": {[]Line{came("+1", 5)}, []Claimant{sent("+1", 10)}, []int{-1}, []int{0}},
		"it came a day later":          {[]Line{came("+1", 4000)}, []Claimant{sent("+1", 10)}, []int{-1}, []int{0}},
		"it speaks of an hour before":  {[]Line{speaks(came("+1", 20), -3600)}, []Claimant{sent("+1", 10)}, []int{-1}, []int{0}},
		"its time is rounded":          {[]Line{speaks(came("+1", 20), 9)}, []Claimant{sent("+1", 10)}, []int{0}, []int{1}},
		"its text tells": {
			[]Line{says(came("", 20), "b")},
			[]Claimant{saying(sent("+1", 10), "a"), saying(sent("+2", 10), "b")}, []int{1}, []int{1},
		},
		"by decision not this one": {
			[]Line{not(came("+1", 20), 0)},
			[]Claimant{sent("+1", 10), sent("+1", 11)}, []int{1}, []int{1},
		},
		"a line without a number may be of either, and leaves none": {
			[]Line{came("", 20), came("+1", 20)},
			[]Claimant{sent("+1", 10), sent("+2", 10)}, []int{1, 0}, []int{2, 1},
		},
		"too early": {[]Line{came("+1", 601)}, []Claimant{sent("+1", 10)}, []int{-1}, []int{1}},
		"one is being sent": {
			[]Line{came("+1", 20)},
			[]Claimant{{Number: "+1", Began: at(10), Sending: true}}, []int{-1}, []int{1},
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			for i, v := range Judge(tt.lines, tt.claimants, usual) {
				if v.Claimant != tt.want[i] || v.Rivals != tt.rivals[i] {
					t.Errorf("line %d: %+v, want claimant %d of %d", i, v, tt.want[i], tt.rivals[i])
				}
			}
		})
	}
}

// ways lists every way in which all lines find a claimant of their own.
func ways(lines []Line, claimants []Claimant, rule Rule, taken map[int]int, i int, found *[]map[int]int) {
	if i == len(lines) {
		way := map[int]int{}
		for c, l := range taken {
			way[l] = c
		}
		*found = append(*found, way)
		return
	}
	for c := range claimants {
		if _, gone := taken[c]; !gone && rule.Fits(lines[i], claimants[c]) {
			taken[c] = i
			ways(lines, claimants, rule, taken, i+1, found)
			delete(taken, c)
		}
	}
}

// What belongs together is what does so in every way there is, as found by trying them all,
// in any order.
func TestJudgeFindsWhatHasNoOtherWay(t *testing.T) {
	t.Parallel()
	decided, undecided := 0, 0
	for seed := range uint64(6000) {
		r := rand.New(rand.NewPCG(seed, 3))
		numbers := []string{"+1", "+2", "+3", ""}
		var lines []Line
		var claimants []Claimant
		for range 1 + r.IntN(4) {
			lines = append(lines, came(numbers[r.IntN(4)], r.IntN(40)))
		}
		for range r.IntN(6) {
			claimants = append(claimants, sent(numbers[r.IntN(3)], r.IntN(40)))
		}
		got := Judge(lines, claimants, usual)
		var found []map[int]int
		ways(lines, claimants, usual, map[int]int{}, 0, &found)
		for i, v := range got {
			if len(found) == 0 { // some part of it has no way: that part is judged by itself
				break
			}
			want := found[0][i]
			for _, way := range found {
				if way[i] != want {
					want = -1
				}
			}
			if v.Claimant != want {
				t.Fatalf("seed %d, line %d of %+v\namong %+v: %+v, want %d of %d ways", seed, i, lines, claimants, v, want, len(found))
			}
			if want < 0 {
				undecided++
			} else {
				decided++
			}
		}
		sameInAnyOrder(t, seed, r, lines, claimants, got, func(lines []Line, claimants []Claimant) []Verdict {
			return Judge(lines, claimants, usual)
		})
	}
	if decided < 500 || undecided < 500 {
		t.Errorf("%d decided and %d not: the histories are too alike", decided, undecided)
	}
}

func BenchmarkJudge(b *testing.B) {
	var lines []Line
	var claimants []Claimant
	for i := range 500 {
		lines, claimants = append(lines, came("", 100+i%7)), append(claimants, sent("+1", i%50))
	}
	for b.Loop() {
		Judge(lines, claimants, usual)
	}
}

// sameInAnyOrder holds what was found against what is found when lines and claimants stand in another order.
func sameInAnyOrder(t *testing.T, seed uint64, r *rand.Rand, lines []Line, claimants []Claimant, got []Verdict,
	judge func([]Line, []Claimant) []Verdict) {
	t.Helper()
	order, others := r.Perm(len(lines)), r.Perm(len(claimants))
	moved, shuffled := make([]Line, len(lines)), make([]Claimant, len(claimants))
	for i, to := range order {
		moved[to] = lines[i]
	}
	for i, to := range others {
		shuffled[to] = claimants[i]
	}
	again := judge(moved, shuffled)
	for i, v := range got {
		if v.Claimant >= 0 {
			v.Claimant = others[v.Claimant]
		}
		if !reflect.DeepEqual(again[order[i]], v) {
			t.Fatalf("seed %d: in another order line %d is %+v, not %+v", seed, i, again[order[i]], v)
		}
	}
}
