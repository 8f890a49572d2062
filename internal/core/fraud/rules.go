package fraud

import (
	"cmp"
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/passcode"
)

// Rule is one way in which fraud shows.
type Rule string

// The rules.
const (
	Sequence  Rule = "sequence"  // numbers one after the other
	Untouched Rule = "untouched" // a range whose codes are not used
	Asking    Rule = "asking"    // an address, or a network, asks for many numbers and uses few codes
	Rise      Rule = "rise"      // a country suddenly gets many that are not used
)

// Rules are all of them.
var Rules = []Rule{Sequence, Untouched, Asking, Rise}

// About is what a rule says, in words.
func (r Rule) About() string {
	return map[Rule]string{
		Sequence:  "numbers in sequence",
		Untouched: "a range whose codes are not used",
		Asking:    "one address asks for many numbers",
		Rise:      "a country suddenly rises",
	}[r]
}

// Act is what is done when a rule finds something.
type Act string

// What can be done.
const (
	Off   Act = "off"   // it is not judged
	Alarm Act = "alarm" // it is told
	Slow  Act = "slow"  // and gets few codes for a time
	Block Act = "block" // and gets none
)

// Acts are all of them, the mildest first.
var Acts = []Act{Off, Alarm, Slow, Block}

// ErrAct is wrapped by errors of what cannot be done.
var ErrAct = errors.New("nothing that can be done")

// ParseAct reads what is done.
func ParseAct(word string) (Act, error) {
	if a := Act(word); slices.Contains(Acts, a) {
		return a, nil
	}
	return "", fault.Because(ErrAct, "%q: accepted are %s", word, fault.Words(Acts))
}

// Usual is what is done where nothing else is said. A country is not slowed unless somebody means it: all of its people
// would be.
var Usual = map[Rule]Act{Sequence: Slow, Untouched: Slow, Asking: Slow, Rise: Alarm}

// Thresholds.
const (
	// gapMost is by how much a number may be higher than the one before it to stand in sequence with it.
	gapMost = 3
	// runLeast is how many numbers in sequence are looked at.
	runLeast = 6
	// rangeSize is how many numbers a range has.
	rangeSize = 1000

	chanceSequence = 1e-7
	chanceRange    = 1e-6
	chanceAddress  = 1e-4
	chanceNetwork  = 1e-6

	riseLeast = 20 // codes left unused within an hour
	riseTimes = 4  // as many as usual
	riseDays  = 3  // that have to be known for anything to be usual

	// UsedAssumed is the share of numbers whose codes are used, where too little is known to say; UsedLeast and UsedMost
	// are between what shares what is known is believed.
	UsedAssumed, UsedLeast, UsedMost = 0.6, 0.3, 0.95
)

// numbersLeast is of how many numbers something is judged by what they are asked by or lie in, at least.
var numbersLeast = map[passcode.By]int{passcode.Range: 10, passcode.Stretch: 20, passcode.Address: 8, passcode.Network: 25}

// Watched are the things of which ledgers are kept.
var Watched = []passcode.By{passcode.Address, passcode.Network, passcode.Range, passcode.Stretch}

// Found is what a rule found, with what it rests on.
type Found struct {
	Rule    Rule        `json:"rule"`
	By      passcode.By `json:"by"`
	Value   string      `json:"value"`
	Numbers int         `json:"numbers"` // that speak for it: they stand in sequence, or their codes were not used
	Of      int         `json:"of"`      // all that were looked at
	Used    int         `json:"used"`    // of them
	Usual   float64     `json:"usual"`   // share that is used, or codes an hour that are not
	Chance  float64     `json:"chance"`  // that honest people look so; 0: it was not judged by chance
	Since   time.Time   `json:"since"`
	Until   time.Time   `json:"until"`
	PerHour float64     `json:"per_hour"` // how many of these numbers an hour
	Sample  []Asked     `json:"-"`        // some of the passcodes, the last first
}

// Say says it in a sentence.
func (f Found) Say() string {
	took := roughly(f.Until.Sub(f.Since))
	switch f.Rule {
	case Sequence:
		return fmt.Sprintf("%d numbers one after the other within %s, at most %d apart, of which %s. By chance that comes about %s.",
			f.Numbers, took, gapMost, used(f.Used), onceIn(f.Chance))
	case Untouched:
		return fmt.Sprintf("Codes reached %d numbers within %s, of which %s, where %.0f %% do usually. By chance that comes about %s.",
			f.Of, took, used(f.Used), 100*f.Usual, onceIn(f.Chance))
	case Asking:
		return fmt.Sprintf(
			"It asked for codes for %d numbers within %s, of which %s, where %.0f %% do usually. By chance that comes about %s.",
			f.Of,
			took,
			used(f.Used),
			100*f.Usual,
			onceIn(f.Chance),
		)
	case Rise:
		return fmt.Sprintf("%d codes arrived within an hour and were not used, %d were; of an hour with many %.0f are not, usually.",
			f.Numbers, f.Used, f.Usual)
	}
	return ""
}

// used is how many used their code, in words.
func used(n int) string {
	switch n {
	case 0:
		return "none used its code"
	case 1:
		return "one used its code"
	}
	return fmt.Sprintf("%d used their code", n)
}

// onceIn is a chance in words.
func onceIn(chance float64) string {
	if chance <= 1e-12 {
		return "less than once in a million million times"
	}
	for _, unit := range []struct {
		from float64
		word string
	}{{1e9, "thousand million"}, {1e6, "million"}, {1e3, "thousand"}, {1, ""}} {
		if times := 1 / chance; times >= unit.from {
			digits := math.Pow(10, math.Floor(math.Log10(times/unit.from)))
			n := math.Floor(times/unit.from/digits) * digits
			if unit.word == "" {
				return fmt.Sprintf("once in %.0f times", n)
			}
			return fmt.Sprintf("once in %.0f %s times", n, unit.word)
		}
	}
	return "often"
}

func roughly(d time.Duration) string {
	switch {
	case d < 2*time.Second:
		return "a second or two"
	case d < 2*time.Minute:
		return fmt.Sprintf("%d seconds", int(d.Seconds()))
	case d < 2*time.Hour:
		return fmt.Sprintf("%d minutes", int(d.Minutes()))
	}
	return fmt.Sprintf("%d hours", int(d.Hours()))
}

// Fewer is the chance that of n at most k come about, each with the same probability (binomial distribution).
func Fewer(k, n int, p float64) float64 {
	if k >= n {
		return 1
	}
	sum, term := 0.0, math.Pow(1-p, float64(n))
	for i := 0; i <= k; i++ {
		sum += term
		term *= float64(n-i) / float64(i+1) * p / (1 - p)
	}
	return min(sum, 1)
}

// believed is a share of numbers that use their code, as far as it is believed.
func believed(usual float64) float64 { return min(max(usual, UsedLeast), UsedMost) }

// tells reports whether anything follows from it that codes are not used: where hardly any is checked, nothing does.
func tells(usual float64) bool { return usual >= UsedLeast/2 }

// Judge judges what is known of something, by the share of numbers whose codes are used usually.
func (l *Ledger) Judge(by passcode.By, value string, usual float64, now time.Time) []Found {
	var all []Found
	if by == passcode.Range {
		if f, is := l.sequence(now); is {
			f.By, f.Value = by, value
			all = append(all, f)
		}
	}
	if !tells(usual) {
		return all
	}
	usual = believed(usual)
	rule, span, chance := Untouched, remembered, chanceRange
	switch by {
	case passcode.Address:
		rule, span, chance = Asking, time.Hour, chanceAddress
	case passcode.Network:
		rule, span, chance = Asking, time.Hour, chanceNetwork
	}
	asked := slices.DeleteFunc(slices.Clone(l.since(now, span)), func(a Asked) bool { return a.Fate == Open || a.Fate == Lost })
	asked = spread(by, asked)
	told := tell(asked)
	if c := Fewer(told[Used], len(asked), usual); len(asked) >= numbersLeast[by] && c <= chance {
		f := found(rule, slices.DeleteFunc(slices.Clone(asked), func(a Asked) bool { return a.Fate == Used }))
		f.By, f.Value = by, value
		f.Of, f.Used, f.Usual, f.Chance = len(asked), told[Used], usual, c
		all = append(all, f)
	}
	return all
}

// perRange is how many numbers of a range count for the stretch that it is in: what one range does is not its neighbours'.
const perRange = 3

// spread leaves of the numbers of a stretch the last few of each range.
func spread(by passcode.By, asked []Asked) []Asked {
	if by != passcode.Stretch {
		return asked
	}
	of := map[uint64]int{}
	slices.Reverse(asked)
	asked = slices.DeleteFunc(asked, func(a Asked) bool {
		of[a.Number/rangeSize]++
		return of[a.Number/rangeSize] > perRange
	})
	slices.Reverse(asked)
	return asked
}

// sampleMost is how many passcodes are shown with what was found.
const sampleMost = 12

// found is what speaks for a rule: numbers, in the order in which they were asked for.
func found(rule Rule, numbers []Asked) Found {
	f := Found{Rule: rule, Numbers: len(numbers), Of: len(numbers), Since: numbers[0].At, Until: numbers[len(numbers)-1].At}
	f.PerHour = float64(len(numbers)) / max(f.Until.Sub(f.Since).Hours(), 1.0/12)
	f.Sample = slices.Clone(numbers[max(len(numbers)-sampleMost, 0):])
	slices.Reverse(f.Sample)
	return f
}

// sequence looks for numbers one after the other, in what was asked for within an hour.
func (l *Ledger) sequence(now time.Time) (Found, bool) {
	asked := slices.Clone(l.since(now, time.Hour))
	slices.SortFunc(asked, func(a, b Asked) int { return cmp.Compare(a.Number, b.Number) })
	var best []Asked
	for from := 0; from < len(asked); {
		to := from + 1
		for to < len(asked) && asked[to].Number-asked[to-1].Number <= gapMost {
			to++
		}
		if to-from > len(best) {
			best = asked[from:to]
		}
		from = to
	}
	// Numbers that have nothing to do with each other are followed so closely with this probability.
	follows := 1 - math.Pow(1-min(float64(len(asked))/rangeSize, 1), gapMost)
	chance := min(float64(len(asked))*math.Pow(follows, float64(len(best)-1)), 1)
	used := tell(best)[Used]
	if len(best) < runLeast || 5*used > len(best) || chance > chanceSequence {
		return Found{}, false
	}
	best = slices.Clone(best)
	slices.SortStableFunc(best, func(a, b Asked) int { return a.At.Compare(b.At) })
	f := found(Sequence, best)
	f.Of, f.Used, f.Chance = len(asked), used, chance
	return f, true
}

// JudgeAt is when there may be something to judge, by what is not known yet; zero if there is not.
func (l *Ledger) JudgeAt(by passcode.By, now time.Time) time.Time {
	if by == passcode.Range {
		if _, is := l.sequence(now); is {
			return now
		}
	}
	span := remembered
	if by == passcode.Address || by == passcode.Network {
		span = time.Hour
	}
	asked := l.since(now, span)
	told := tell(asked)
	open := slices.DeleteFunc(slices.Clone(asked), func(a Asked) bool { return a.Fate != Open })
	if len(open) == 0 || told[Open]+told[Unused] < numbersLeast[by] {
		return time.Time{}
	}
	// Once there are enough, or a few more than there were: each number is looked at a few times, however many come.
	enough := max(numbersLeast[by]-told[Unused], 5)
	return open[min(enough, len(open))-1].At.Add(Ripe)
}

// Hours is what is known of a country: its last hour, as far as its codes are ripe, and what is usual.
type Hours struct {
	Arrived, Used        int64   // within the last hour
	UsualLeft, UsualUsed float64 // codes of its busiest hour of the day that are not used, and that are; on average
	Days                 float64 // of which anything is known, of any country
}

// Judge looks whether a country suddenly rises.
func (h Hours) Judge(country string, usual float64, now time.Time) (Found, bool) {
	left := h.Arrived - h.Used
	share := believed(usual)
	if known := h.UsualLeft + h.UsualUsed; known >= riseLeast {
		share = believed(h.UsualUsed / known)
	}
	if !tells(usual) || h.Days < riseDays || left < riseLeast || float64(left) <= riseTimes*h.UsualLeft ||
		float64(h.Used) > share/2*float64(h.Arrived) {
		return Found{}, false
	}
	return Found{Rule: Rise, By: passcode.Country, Value: country, Numbers: int(left), Of: int(h.Arrived), Used: int(h.Used),
		Usual: h.UsualLeft, Since: now.Add(-time.Hour), Until: now, PerHour: float64(left)}, true
}

// learntTimes is how much more than what was lifted as a false alarm is needed for another.
const learntTimes = 2

// Above reports whether something is more than what is known to be honest: more than twice as many an hour as when an
// alarm of the same rule was lifted.
func (f Found) Above(honest float64) bool { return f.PerHour > learntTimes*honest }

// slowed is how many codes what is slowed still gets, within an hour.
var slowed = map[passcode.By]int{
	passcode.Number: 2, passcode.Range: 6, passcode.Stretch: 20, passcode.Address: 3, passcode.Network: 10, passcode.Country: 60,
}

// Slowed is the limit of what is slowed.
func Slowed(by passcode.By) passcode.Limit {
	return passcode.Limit{By: by, Window: passcode.Hour, Most: slowed[by]}
}

const (
	standsLeast = 24 * time.Hour
	standsMost  = 8 * 24 * time.Hour
	// Before is how far back alarms about the same count, to how long another stands.
	Before = 14 * 24 * time.Hour
)

// Stands is how long an alarm stands: a day, and twice as long each time that it comes again, eight days at most.
func Stands(earlier int) time.Duration {
	return min(standsLeast<<min(earlier, 5), standsMost)
}
