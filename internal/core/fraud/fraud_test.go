package fraud

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"calmpigeon.example/internal/core/passcode"
)

var noon = time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)

func idOf(i int) [16]byte { return [16]byte{byte(i), byte(i >> 8)} }

// all is a ledger of numbers a second apart, each with its fate.
func all(numbers []uint64, fate func(i int) Fate) (l Ledger) {
	for i, n := range numbers {
		l.Add(n, idOf(i), noon.Add(time.Duration(i)*time.Second))
		l.Asked[len(l.Asked)-1].Fate = fate(i)
	}
	return l
}

func upFrom(from uint64, n int, step uint64) (out []uint64) {
	for i := range n {
		out = append(out, from+uint64(i)*step) // #nosec G115 -- small
	}
	return out
}

func fated(f Fate) func(int) Fate { return func(int) Fate { return f } }

func TestFewerIsTheBinomialDistribution(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2)) // #nosec G404 -- a test that can be repeated
	for _, tt := range []struct {
		k, n int
		p    float64
	}{{0, 3, .5}, {2, 8, .3}, {5, 8, .6}, {12, 20, .7}} {
		met := 0
		const times = 40_000
		for range times {
			got := 0
			for range tt.n {
				if r.Float64() < tt.p {
					got++
				}
			}
			if got <= tt.k {
				met++
			}
		}
		if got, want := Fewer(tt.k, tt.n, tt.p), float64(met)/times; math.Abs(got-want) > .012 {
			t.Errorf("at most %d of %d by %.1f: %.4f, drawn %.4f", tt.k, tt.n, tt.p, got, want)
		}
	}
	if Fewer(7, 7, .5) != 1 || Fewer(0, 40, UsedMost) < 0 {
		t.Error("the ends of it")
	}
}

func TestRules(t *testing.T) {
	random := []uint64{447700900017, 447700900940, 447700900333, 447700900512, 447700900760, 447700900128, 447700900401, 447700900876,
		447700900250, 447700900629, 447700900701, 447700900089}
	oneRange := append(upFrom(447700900100, 20, 7), 447700911000, 447700912000) // and two numbers more of the stretch
	for name, tt := range map[string]struct {
		by     passcode.By
		ledger Ledger
		want   []Rule
	}{
		"seven in sequence":             {passcode.Range, all(upFrom(447700900100, 7, 1), fated(Open)), []Rule{Sequence}},
		"seven in sequence, downwards":  {passcode.Range, all([]uint64{7, 6, 5, 4, 3, 2, 1}, fated(Open)), []Rule{Sequence}},
		"every third":                   {passcode.Range, all(upFrom(447700900100, 7, 3), fated(Open)), []Rule{Sequence}},
		"every fourth":                  {passcode.Range, all(upFrom(447700900100, 7, 4), fated(Open)), nil},
		"five in sequence":              {passcode.Range, all(upFrom(447700900100, 5, 1), fated(Open)), nil},
		"in sequence, and used":         {passcode.Range, all(upFrom(447700900100, 8, 1), fated(Used)), nil},
		"in sequence, at an address":    {passcode.Address, all(upFrom(447700900100, 7, 1), fated(Open)), nil},
		"a range that uses none":        {passcode.Range, all(random, fated(Unused)), []Rule{Untouched}},
		"a range whose texts were lost": {passcode.Range, all(random, fated(Lost)), nil},
		"a range that is not known yet": {passcode.Range, all(random, fated(Open)), nil},
		"a range that uses half": {passcode.Range, all(random, func(i int) Fate {
			return []Fate{Used, Unused}[i%2]
		}), nil},
		"an address with nine numbers, none used": {passcode.Address, all(random[:9], fated(Unused)), []Rule{Asking}},
		"an address with seven":                   {passcode.Address, all(random[:7], fated(Unused)), nil},
		"an office":                               {passcode.Address, all(random, fated(Used)), nil},
		"a network with twelve":                   {passcode.Network, all(random, fated(Unused)), nil},
		"a network with thirty":                   {passcode.Network, all(upFrom(447700900100, 30, 17), fated(Unused)), []Rule{Asking}},
		"a stretch with thirty":                   {passcode.Stretch, all(upFrom(447700900100, 30, 1700), fated(Unused)), []Rule{Untouched}},
		"a stretch of which one range uses none":  {passcode.Stretch, all(oneRange, fated(Unused)), nil},
		"nothing":                                 {passcode.Range, Ledger{}, nil},
	} {
		var got []Rule
		for _, f := range tt.ledger.Judge(tt.by, "it", .8, noon.Add(3*time.Minute)) {
			got = append(got, f.Rule)
			if f.By != tt.by || f.Value != "it" || len(f.Sample) == 0 || f.Until.Before(f.Since) || f.Say() == "" || f.PerHour <= 0 {
				t.Errorf("%s: %+v", name, f)
			}
		}
		if !slices.Equal(got, tt.want) {
			t.Errorf("%s: %v, want %v", name, got, tt.want)
		}
		if got := tt.ledger.Judge(tt.by, "it", .8, noon.Add(26*time.Hour)); len(got) > 0 &&
			len(tt.ledger.since(noon.Add(26*time.Hour), remembered)) == 0 {
			t.Errorf("%s: %v of what is forgotten", name, got)
		}
	}
}

// TestWhereCodesAreNotChecked: who checks no codes here, but by themselves, is not taken for a cheat.
func TestWhereCodesAreNotChecked(t *testing.T) {
	l := all(upFrom(447700900000, 40, 17), fated(Unused))
	for _, by := range Watched {
		if f := l.Judge(by, "it", .1, noon.Add(3*time.Minute)); f != nil {
			t.Errorf("%s: %v", by, f)
		}
		if score, why := Suspicion(Request{Usual: .1, Subjects: []Subject{{passcode.Network, "it", l}}}, noon); score > 0 {
			t.Errorf("%d: %v", score, why)
		}
	}
	if f, is := (Hours{Arrived: 400, Days: 5}).Judge("GB", .1, noon); is {
		t.Errorf("%v", f)
	}
}

// TestWhatMayNotHaveArrivedSpeaksAgainstNobody: a gateway that loses everything makes nobody look like a cheat.
func TestWhatMayNotHaveArrivedSpeaksAgainstNobody(t *testing.T) {
	for _, known := range []bool{true, false} {
		l := all(upFrom(447700900100, 30, 31), fated(Open))
		for _, after := range []time.Duration{time.Minute, 5 * time.Minute, 20 * time.Minute, 2 * time.Hour} {
			now := noon.Add(after)
			l.Settle(now, func([16]byte) bool { return false }, func([16]byte) (bool, bool) { return false, known })
			if f := l.Judge(passcode.Stretch, "it", .9, now); f != nil {
				t.Errorf("known %v, after %v: %v", known, after, f)
			}
		}
		if told := tell(l.Asked); told[Lost] != 30 {
			t.Errorf("known %v: %v", known, told)
		}
	}
}

// TestIsJudgedInTime: what would be found is due to be judged at the latest when all is known of as many as it takes.
func TestIsJudgedInTime(t *testing.T) {
	for by, least := range numbersLeast {
		var l Ledger
		for i := range 40 {
			now := noon.Add(time.Duration(i) * 10 * time.Second)
			l.Add(447700900000+uint64(i*37), idOf(i), now) // #nosec G115 -- small
			switch at := l.JudgeAt(by, now); {
			case i+1 < least && !at.IsZero():
				t.Fatalf("%s: %d numbers are judged", by, i+1)
			case i+1 == least && !at.Equal(now.Add(Ripe)):
				t.Fatalf("%s: %d numbers are judged at %v, want %v", by, i+1, at, now.Add(Ripe))
			case i+1 > least && at.After(noon.Add(time.Duration(least-1)*10*time.Second+Ripe)):
				t.Fatalf("%s: with %d numbers it is judged later: %v", by, i+1, at)
			}
		}
	}
	l := all(upFrom(447700900100, 8, 1), fated(Open))
	if at := l.JudgeAt(passcode.Range, noon.Add(9*time.Second)); !at.Equal(noon.Add(9 * time.Second)) {
		t.Errorf("a sequence is judged at %v", at)
	}
}

func TestACountryRises(t *testing.T) {
	for name, tt := range map[string]struct {
		hours Hours
		is    bool
	}{
		"from nothing":               {Hours{Arrived: 40, Days: 5}, true},
		"from nothing, and is used":  {Hours{Arrived: 80, Used: 55, Days: 5}, false},
		"by little":                  {Hours{Arrived: 19, Days: 5}, false},
		"when nothing is known":      {Hours{Arrived: 400, Days: 1}, false},
		"as usual":                   {Hours{Arrived: 130, Used: 100, UsualLeft: 25, UsualUsed: 105, Days: 5}, false},
		"six times":                  {Hours{Arrived: 250, Used: 100, UsualLeft: 25, UsualUsed: 100, Days: 5}, true},
		"a sale of ten times":        {Hours{Arrived: 1250, Used: 1000, UsualLeft: 25, UsualUsed: 100, Days: 5}, false},
		"where few are used, always": {Hours{Arrived: 40, Used: 10, UsualLeft: 30, UsualUsed: 10, Days: 5}, false},
	} {
		f, is := tt.hours.Judge("GB", .8, noon)
		if is != tt.is || is && (f.Value != "GB" || f.Say() == "") {
			t.Errorf("%s: %v", name, f)
		}
	}
}

func TestLedgersAreKeptAsTheyAre(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4)) // #nosec G404 -- a test that can be repeated
	for range 200 {
		var l Ledger
		now := noon
		for i := range r.IntN(90) {
			now = now.Add(time.Duration(r.IntN(3_000_000)) * time.Millisecond)
			l.Add(uint64(r.Int64N(1e15)), idOf(i), now)    // #nosec G115 -- not negative
			l.Asked[len(l.Asked)-1].Fate = Fate(r.IntN(4)) // #nosec G115 -- small
		}
		kept, _ := l.AppendBinary(nil)
		var read Ledger
		if err := read.UnmarshalBinary(kept); err != nil || len(read.Asked) != len(l.Asked) {
			t.Fatalf("%v: %d instead of %d", err, len(read.Asked), len(l.Asked))
		}
		for i := range l.Asked {
			if l.Asked[i] != read.Asked[i] {
				t.Fatalf("%+v instead of %+v", read.Asked[i], l.Asked[i])
			}
		}
		if len(l.Asked) > AskedMost || len(kept) > 1+AskedMost*34 {
			t.Fatalf("%d numbers, %d octets", len(l.Asked), len(kept))
		}
	}
}

func FuzzLedger(f *testing.F) {
	kept, _ := (&Ledger{Asked: []Asked{{Number: 447700900123, At: noon, Codes: 2, Fate: Unused}}}).AppendBinary(nil)
	f.Add(kept)
	f.Fuzz(func(t *testing.T, b []byte) {
		var l Ledger
		if l.UnmarshalBinary(b) != nil && len(l.Asked) > 0 {
			t.Fatal("half a ledger was read")
		}
		l.Add(447700900124, idOf(1), noon)
		l.Settle(noon, func([16]byte) bool { return false }, func([16]byte) (bool, bool) { return true, true })
		for _, by := range Watched {
			l.Judge(by, "it", 0, noon)
			l.JudgeAt(by, noon)
		}
	})
}

func TestSuspicion(t *testing.T) {
	sequence := all(upFrom(447700900100, 6, 1), fated(Open))
	many := all(upFrom(33639980000, 12, 37), fated(Unused))
	office := all(upFrom(33639980000, 30, 37), fated(Used))
	for name, tt := range map[string]struct {
		r           Request
		least, most int
		says        string
	}{
		"nothing is known": {Request{Number: 447700900106}, 0, 0, ""},
		"beside a sequence": {Request{Number: 447700900106, Subjects: []Subject{{passcode.Range, "+447700900xxx", sequence}}}, 55, 70,
			"3 neighbours"},
		"from an address of a cheat": {Request{Number: 447700900106, Subjects: []Subject{{passcode.Address, "192.0.2.7", many}}}, 90, 100,
			"asked for 12 other numbers"},
		"from an office": {Request{Number: 447700900106, Subjects: []Subject{{passcode.Address, "192.0.2.7", office}}}, 0, 0, ""},
		"while an alarm stands": {Request{Standing: []Found{{Rule: Sequence, By: passcode.Range, Value: "+447700900xxx"}}}, 80, 80,
			"numbers in sequence"},
		"while one stands for the country": {Request{Standing: []Found{{Rule: Rise, By: passcode.Country, Value: "GB"}}}, 30, 30, "country GB"},
		"no mobile":                        {Request{NoMobile: "a fixed line of France"}, 25, 25, "fixed line"},
	} {
		tt.r.Usual = .8
		score, why := Suspicion(tt.r, noon.Add(time.Minute))
		said := fmt.Sprint(why)
		if score < tt.least || score > tt.most || !strings.Contains(said, tt.says) || (score == 0) != (len(why) == 0) {
			t.Errorf("%s: %d %s", name, score, said)
		}
		if !slices.IsSortedFunc(why, func(a, b Reason) int { return b.Points - a.Points }) {
			t.Errorf("%s: %s is not sorted", name, said)
		}
	}
}

func TestWhatWasLearntStays(t *testing.T) {
	f := Found{PerHour: 30}
	if !f.Above(0) || !f.Above(14) || f.Above(15) || f.Above(40) {
		t.Error("more than twice as many an hour as were lifted are needed for another alarm")
	}
	for earlier, days := range map[int]int{0: 1, 1: 2, 3: 8, 4: 8, 100: 8} {
		if got := Stands(earlier); got != time.Duration(days)*24*time.Hour {
			t.Errorf("after %d earlier ones an alarm stands for %v", earlier, got)
		}
	}
	for _, by := range append(slices.Clone(Watched), passcode.Country) {
		if l := Slowed(by); l.Check() != nil || l.Most == 0 {
			t.Errorf("what is slowed by %s gets %v", by, l)
		}
	}
	for _, bad := range []string{"", "stop", "BLOCK"} {
		if _, err := ParseAct(bad); err == nil || !strings.Contains(err.Error(), "alarm") {
			t.Errorf("%q: %v", bad, err)
		}
	}
}
