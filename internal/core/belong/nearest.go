package belong

import (
	"cmp"
	"slices"
	"strings"
	"time"
)

// pairsMost bounds how many pairs of one number, within the window of each other, are compared.
const pairsMost = 200_000

// Nearest finds for each line that names a number, and a moment of which it speaks, the submission to that
// number, and from that sender if it names one, that began nearest to it, within the window: one to one, the
// nearest pairs first. Moments are compared by the second, as far as such lists tell them. Where several are
// as near, none is taken, and all of them are tied. The result is the same for every order of lines and of
// claimants. A verdict is Crowded where it is tied.
func Nearest(lines []Line, claimants []Claimant, rule Rule) []Verdict {
	verdicts := make([]Verdict, len(lines))
	byNumber := map[string][]int{}
	for i, c := range claimants {
		byNumber[c.Number] = append(byNumber[c.Number], i)
	}
	group := map[string][]int{}
	for i, l := range lines {
		verdicts[i].Claimant = none
		if l.Number != "" && !l.Speaks.IsZero() {
			group[l.Number] = append(group[l.Number], i)
		}
	}
	for number, some := range group {
		nearest(lines, claimants, some, byNumber[number], rule.Window, verdicts)
	}
	return verdicts
}

func nearest(lines []Line, claimants []Claimant, some, of []int, window time.Duration, verdicts []Verdict) {
	type pair struct {
		apart          time.Duration
		line, claimant int
	}
	var pairs []pair
	of = slices.SortedFunc(slices.Values(of), func(a, b int) int { return claimants[a].Began.Compare(claimants[b].Began) })
	for _, i := range some {
		from, _ := slices.BinarySearchFunc(of, lines[i].Speaks.Add(-window-time.Second), func(c int, t time.Time) int {
			return claimants[c].Began.Compare(t)
		})
		for _, c := range of[from:] {
			if claimants[c].Began.Sub(lines[i].Speaks) > window+time.Second {
				break
			}
			apart := lines[i].Speaks.Sub(claimants[c].Began).Abs().Truncate(time.Second)
			if apart <= window && (lines[i].Sender == "" || strings.EqualFold(lines[i].Sender, claimants[c].Sender)) {
				pairs = append(pairs, pair{apart, i, c})
				verdicts[i].Rivals++
			}
		}
		if len(pairs) > pairsMost { // more than can be told apart
			for _, i := range some {
				verdicts[i] = Verdict{Claimant: none, Rivals: len(of), Crowded: true}
			}
			return
		}
	}
	slices.SortFunc(pairs, func(a, b pair) int { return cmp.Compare(a.apart, b.apart) })
	gone, done := map[int]bool{}, map[int]bool{} // claimants, and lines
	for len(pairs) > 0 {
		n := 1
		for n < len(pairs) && pairs[n].apart == pairs[0].apart {
			n++
		}
		var free []pair
		ofLine, ofClaimant := map[int]int{}, map[int]int{}
		for _, p := range pairs[:n] {
			if !done[p.line] && !gone[p.claimant] {
				free = append(free, p)
				ofLine[p.line]++
				ofClaimant[p.claimant]++
			}
		}
		pairs = pairs[n:]
		for _, p := range free {
			done[p.line], gone[p.claimant] = true, true
			if ofLine[p.line] == 1 && ofClaimant[p.claimant] == 1 {
				verdicts[p.line].Claimant = p.claimant
			} else {
				verdicts[p.line].Crowded = true
			}
		}
	}
}
