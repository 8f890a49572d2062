package fraud

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"calmpigeon.example/internal/core/passcode"
)

// Subject is one of what a passcode would be asked for by, or lie in, with what is known of it.
type Subject struct {
	By     passcode.By
	Value  string
	Ledger Ledger
}

// Request is a passcode that somebody is about to ask for.
type Request struct {
	Number   uint64
	Subjects []Subject
	Standing []Found // alarms that stand for any of its subjects, or its country
	NoMobile string  // a sentence: why texts may not arrive at the number
	Usual    float64 // share of numbers that use their code
}

// Reason is why something is suspicious, and how much that weighs: from 0 to 100.
type Reason struct {
	Points int
	Say    string
}

const (
	pointsStanding  = 80
	pointsCountry   = 30 // where the alarm is about a country: most people there are honest
	pointsNoMobile  = 25
	pointsNeighbour = 20 // each, up to
	neighboursMost  = 4
	pointsUnused    = 15 // each code that reached this number and was not used, up to
	unusedMost      = 4
	pointsOther     = 8 // each number more than two that the address asks for within the hour, up to
	othersFree      = 2
	othersMost      = 8
	pointsChance    = 15 // each power of ten by which it is unlikely that honest people use so few codes, up to
	chanceMost      = 90
)

// Suspicion says how suspicious a request is, from 0 to 100, and why, the weightiest first. Reasons add up as
// independent doubts do: two of 50 make 75.
func Suspicion(r Request, now time.Time) (int, []Reason) {
	var all []Reason
	add := func(points int, format string, args ...any) {
		all = append(all, Reason{min(points, 100), fmt.Sprintf(format, args...)})
	}
	usual := believed(r.Usual)
	for _, f := range r.Standing {
		points := pointsStanding
		if f.By == passcode.Country {
			points = pointsCountry
		}
		add(points, "an alarm stands for the %s %s: %s", f.By, f.Value, f.Rule.About())
	}
	if r.NoMobile != "" {
		add(pointsNoMobile, "%s", r.NoMobile)
	}
	for _, s := range r.Subjects {
		hour := s.Ledger.since(now, time.Hour)
		switch s.By {
		case passcode.Range:
			if n := neighbours(hour, r.Number); n > 0 {
				add(
					pointsNeighbour*min(n, neighboursMost),
					"codes were asked for by %s of this number within the hour",
					count(n, "neighbour"),
				)
			}
			if i := slices.IndexFunc(s.Ledger.Asked, func(a Asked) bool { return a.Number == r.Number }); i >= 0 {
				if a := s.Ledger.Asked[i]; a.Fate == Unused {
					add(
						pointsUnused*min(a.Codes, unusedMost),
						"%s reached this number and %s not used",
						count(a.Codes, "code"),
						were(a.Codes),
					)
				}
			}
		case passcode.Address:
			others := slices.DeleteFunc(slices.Clone(hour), func(a Asked) bool { return a.Fate == Used || a.Number == r.Number })
			if n := len(others) - othersFree; n > 0 {
				add(
					pointsOther*min(n, othersMost),
					"the address asked for %d other numbers within the hour, and their codes were not used",
					len(others),
				)
			}
		}
		told := tell(spread(s.By, slices.Clone(s.Ledger.Asked)))
		n := told[Used] + told[Unused]
		if chance := Fewer(told[Used], n, usual); tells(r.Usual) && n >= 3 && chance < 0.1 {
			points := min(int(math.Floor(-math.Log10(max(chance, 1e-12))*pointsChance)), chanceMost)
			add(points, "of %d numbers of the %s %s that got a code, %d used it", n, s.By, s.Value, told[Used])
		}
	}
	slices.SortStableFunc(all, func(a, b Reason) int {
		return cmp.Or(cmp.Compare(b.Points, a.Points), strings.Compare(a.Say, b.Say))
	})
	trust := 1.0
	for _, one := range all {
		trust *= 1 - float64(one.Points)/100
	}
	return int(math.Round(100 * (1 - trust))), all
}

// neighbours counts numbers that stand closely beside one, and whose codes were not used.
func neighbours(asked []Asked, number uint64) (n int) {
	for _, a := range asked {
		if d := int64(a.Number) - int64(number); d != 0 && d >= -gapMost && d <= gapMost && a.Fate != Used { // #nosec G115 -- below 1e15
			n++
		}
	}
	return n
}

func count(n int, word string) string {
	if n == 1 {
		return "one " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

func were(n int) string {
	if n == 1 {
		return "was"
	}
	return "were"
}
