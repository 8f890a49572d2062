package fraud

import (
	"cmp"
	"container/heap"
	"flag"
	"fmt"
	"math"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"
	"time"

	"calmpigeon.example/internal/core/passcode"
)

// one is a passcode of generated traffic: when it is asked for, by whom, and what becomes of it.
type one struct {
	at              time.Duration
	number, address string
	country         string
	usedAfter       time.Duration // 0: never
	arrives         bool
	bad             bool // somebody makes others pay
}

// midnight is when generated traffic begins.
var midnight = time.Date(2026, 11, 2, 0, 0, 0, 0, time.UTC)

// uses draws after how long an honest person types a code in: half within 20 s, one in a hundred takes two minutes.
func uses(r *rand.Rand) time.Duration {
	return time.Duration(20 * math.Exp(0.77*r.NormFloat64()) * float64(time.Second))
}

// honest makes days of people who sign in: more by day than by night, of four countries, most from an address of their
// own, some from an office or a phone network of many, some twice, one in eight never using the code. On the fifth day
// a sale brings ten times as many for an hour, and a gateway loses a third of all texts for another.
func honest(r *rand.Rand, days int, perHour float64) (all []one) {
	countries := []struct {
		code, prefix string
		digits       int
		share        float64
	}{{"GB", "+4477009", 5, .5}, {"FR", "+3363998", 5, .25}, {"AU", "+6149157", 5, .15}, {"IE", "+35320913", 4, .1}}
	end := time.Duration(days) * 24 * time.Hour
	for at := time.Duration(0); at < end; {
		hour := at.Hours()
		rate := perHour * (0.25 + 0.75*max(math.Sin((math.Mod(hour, 24)-6)/18*math.Pi), 0))
		if sale := hour >= 108 && hour < 109; sale {
			rate *= 10
		}
		at += time.Duration(r.ExpFloat64() / rate * float64(time.Hour))
		draw, i := r.Float64(), 0
		for draw -= countries[0].share; draw > 0 && i < len(countries)-1; i++ {
			draw -= countries[i+1].share
		}
		c := countries[i]
		p := one{at: at, country: c.code, arrives: r.Float64() < .97,
			number: fmt.Sprintf("%s%0*d", c.prefix, c.digits, r.IntN(int(math.Pow10(c.digits))))}
		switch draw := r.Float64(); {
		case draw < .05:
			p.address = "192.0.2.1" // an office
		case draw < .25:
			p.address = fmt.Sprintf("198.51.100.%d", r.IntN(40)) // a phone network
		default:
			p.address = fmt.Sprintf("2001:db8:%x:%x::1", r.IntN(1<<16), r.IntN(1<<16)&0xff00)
		}
		if hour >= 100 && hour < 101 && r.Float64() < .33 {
			p.arrives = false
		}
		if p.arrives && r.Float64() < .88 {
			p.usedAfter = max(uses(r), 3*time.Second)
		}
		all = append(all, p)
		if p.usedAfter == 0 && r.Float64() < .5 { // they try again
			p.at += 35 * time.Second
			p.arrives = p.arrives || r.Float64() < .5
			if p.arrives && r.Float64() < .4 {
				p.usedAfter = uses(r)
			}
			all = append(all, p)
		}
	}
	return all
}

// flood is a way of making others pay: how many codes are asked for, how far apart, and for which numbers, from where.
type flood struct {
	n       int
	every   time.Duration
	country string
	number  func(r *rand.Rand) func(i int) string
	address func(r *rand.Rand, i int) string
}

// of makes the codes of a flood that begins at a moment.
func (f flood) of(r *rand.Rand, from time.Duration) (all []one) {
	number := f.number(r)
	for i := range f.n {
		all = append(all, one{at: from + time.Duration(i)*f.every, number: number(i), address: f.address(r, i), country: f.country,
			bad: true, arrives: true})
	}
	return all
}

// anyOf are numbers of a form, as many as there are digits.
func anyOf(form string, digits int) func(*rand.Rand) func(int) string {
	return func(r *rand.Rand) func(int) string {
		return func(int) string { return fmt.Sprintf(form, r.IntN(int(math.Pow10(digits)))) }
	}
}

func anywhere(r *rand.Rand, _ int) string { return fmt.Sprintf("2001:db8:%x::1", r.IntN(1<<16)) }

var floods = map[string]flood{
	"numbers in sequence, any address, 20 a minute": {300, 3 * time.Second, "GB", func(r *rand.Rand) func(int) string {
		base := r.IntN(600)
		return func(i int) string { return fmt.Sprintf("+44770091%04d", base+i) }
	}, anywhere},
	"every third number of a range, in any order": {150, 10 * time.Second, "GB", func(r *rand.Rand) func(int) string {
		order := r.Perm(150)
		return func(i int) string { return fmt.Sprintf("+447700913%03d", 3*order[i]) }
	}, anywhere},
	"a stretch of 100,000 numbers, any address, 6 a minute": {1000, 10 * time.Second, "GB", anyOf("+4474580%05d", 5), anywhere},
	"a range of 1,000 numbers, one in 12 minutes":           {30, 12 * time.Minute, "GB", anyOf("+447458123%03d", 3), anywhere},
	"one address, any number of a country, one a minute": {200, time.Minute, "GB", anyOf("+44745%07d", 7),
		func(*rand.Rand, int) string { return "203.0.113.7" }},
	"a network of 250 addresses, any number, 5 a minute": {500, 12 * time.Second, "GB", anyOf("+44745%07d", 7),
		func(r *rand.Rand, _ int) string { return fmt.Sprintf("203.0.113.%d", r.IntN(250)) }},
	"a country where nobody was, any number, any address, 2 a minute": {400, 30 * time.Second, "TZ", anyOf("+25578%07d", 7), anywhere},
	"any number of a country with many, any address, 10 a minute":     {2000, 6 * time.Second, "GB", anyOf("+44745%07d", 7), anywhere},
}

// due are subjects that are to be judged, the first first.
type due []judging

// judging is when a subject is to be judged.
type judging struct {
	at  time.Duration
	key [2]string
}

func (d due) Len() int           { return len(d) }
func (d due) Less(i, j int) bool { return d[i].at < d[j].at }
func (d due) Swap(i, j int)      { d[i], d[j] = d[j], d[i] }
func (d *due) Push(x any)        { *d = append(*d, x.(judging)) }
func (d *due) Pop() any {
	last := (*d)[len(*d)-1]
	*d = (*d)[:len(*d)-1]
	return last
}

// raised is what the rules found in traffic, the first time for each rule and subject.
type raised struct {
	Found
	at time.Duration
}

// watch goes through traffic as the service does: what is asked for is noted; what is due is judged by what is known by
// then. Nothing is stopped: it is counted when it would have been.
func watch(traffic []one) (alarms []raised, suspicions []int) {
	slices.SortStableFunc(traffic, func(a, b one) int { return cmp.Compare(a.at, b.at) })
	ledgers := map[[2]string]*Ledger{}
	judged := map[[2]string]time.Duration{}
	var waits due
	seen := map[[3]string]bool{}
	raise := func(f Found, at time.Duration) {
		if k := [3]string{string(f.Rule), string(f.By), f.Value}; !seen[k] {
			seen[k] = true
			alarms = append(alarms, raised{f, at})
		}
	}
	id := func(i int) (out [16]byte) {
		for j := range 8 {
			out[j] = byte(i >> (8 * j))
		}
		return out
	}
	of := func(b [16]byte) one {
		i := 0
		for j := range 8 {
			i |= int(b[j]) << (8 * j)
		}
		return traffic[i]
	}
	settle := func(l *Ledger, now time.Duration) {
		l.Settle(midnight.Add(now), func(b [16]byte) bool {
			o := of(b)
			return o.usedAfter > 0 && o.at+o.usedAfter <= now
		}, func(b [16]byte) (bool, bool) { return of(b).arrives, true })
	}
	plan := func(k [2]string, now time.Duration) {
		at := ledgers[k].JudgeAt(passcode.By(k[0]), midnight.Add(now))
		if at.IsZero() {
			return
		}
		when := max(at.Sub(midnight), now)
		if next, waiting := judged[k]; waiting && next > now && next <= when {
			return
		}
		judged[k] = when
		heap.Push(&waits, judging{when, k})
	}
	// Countries are judged every minute, by their last hour.
	countries, nextMinute := map[string][]one{}, time.Duration(0)
	usual := map[string]*[24][2]float64{}
	minute := func(now time.Duration) {
		days := now.Hours() / 24
		for country, all := range countries {
			h := Hours{Days: days}
			for len(all) > 0 && all[0].at < now-time.Hour-Ripe {
				all = all[1:]
			}
			countries[country] = all
			for _, o := range all {
				if o.at > now-Ripe {
					break
				}
				if used := o.usedAfter > 0 && o.at+o.usedAfter <= now; used || o.arrives {
					h.Arrived++
					if used {
						h.Used++
					}
				}
			}
			for _, hour := range usual[country] {
				if left := hour[0] / max(math.Floor(days), 1); left > h.UsualLeft {
					h.UsualLeft, h.UsualUsed = left, hour[1]/max(math.Floor(days), 1)
				}
			}
			if f, is := h.Judge(country, 0.85, midnight.Add(now)); is {
				raise(f, now)
			}
		}
	}
	for i, o := range traffic {
		for len(waits) > 0 && waits[0].at <= o.at {
			w := heap.Pop(&waits).(judging)
			if judged[w.key] != w.at {
				continue
			}
			l := ledgers[w.key]
			settle(l, w.at)
			for _, f := range l.Judge(passcode.By(w.key[0]), w.key[1], 0.85, midnight.Add(w.at)) {
				raise(f, w.at)
			}
			plan(w.key, w.at+time.Second)
		}
		for nextMinute <= o.at {
			minute(nextMinute)
			nextMinute += time.Minute
		}
		keys := [][2]string{
			{"range", passcode.RangeOf(o.number)}, {"stretch", passcode.StretchOf(o.number)},
			{"address", o.address}, {"network", passcode.NetworkOf(netip.MustParseAddr(o.address)).String()},
		}
		r := Request{Number: NumberOf(o.number), Usual: 0.85}
		for _, k := range keys {
			if ledgers[k] == nil {
				ledgers[k] = &Ledger{}
			}
			settle(ledgers[k], o.at)
			r.Subjects = append(r.Subjects, Subject{passcode.By(k[0]), k[1], *ledgers[k]})
		}
		for _, a := range alarms {
			if slices.Contains(keys, [2]string{string(a.By), a.Value}) || a.By == passcode.Country && a.Value == o.country {
				r.Standing = append(r.Standing, a.Found)
			}
		}
		score, _ := Suspicion(r, midnight.Add(o.at))
		suspicions = append(suspicions, score)
		for _, k := range keys {
			ledgers[k].Add(NumberOf(o.number), id(i), midnight.Add(o.at))
			plan(k, o.at)
		}
		countries[o.country] = append(countries[o.country], o)
		if usual[o.country] == nil {
			usual[o.country] = &[24][2]float64{}
		}
		if hour := int(o.at.Hours()); !o.bad { // what is usual is known from the days before
			which := 1
			if o.usedAfter == 0 {
				which = 0
			}
			usual[o.country][hour%24][which]++
		}
	}
	return alarms, suspicions
}

// covers reports whether what an alarm is about is what a passcode would be asked for by, or lie in.
func (a raised) covers(o one) bool {
	switch a.By {
	case passcode.Range:
		return passcode.RangeOf(o.number) == a.Value
	case passcode.Stretch:
		return passcode.StretchOf(o.number) == a.Value
	case passcode.Address:
		return o.address == a.Value
	case passcode.Network:
		return passcode.NetworkOf(netip.MustParseAddr(o.address)).String() == a.Value
	}
	return o.country == a.Value
}

const (
	generatedDays = 5
	attackedFrom  = 84 * time.Hour
)

func mixed(seed uint64, attack *flood) []one {
	r := rand.New(rand.NewPCG(seed, 7)) // #nosec G404 -- a test that can be repeated
	all := honest(r, generatedDays, 400)
	if attack != nil {
		all = append(all, attack.of(r, attackedFrom)...)
	}
	return all
}

// trafficTimes is how often traffic of each kind is generated.
var trafficTimes = flag.Int("traffic", 1, "how often traffic of each kind is generated")

func middle(all []int) int {
	slices.Sort(all)
	return all[len(all)/2]
}

// TestRulesOnTraffic reports what the rules find in generated traffic: -v shows it, and the guide says it.
func TestRulesOnTraffic(t *testing.T) {
	times := *trafficTimes
	t.Run("honest people", func(t *testing.T) {
		t.Parallel()
		codes, alarms, suspected := 0, map[Rule]int{}, 0
		for seed := range uint64(times) {
			traffic := mixed(seed, nil)
			found, suspicions := watch(traffic)
			codes += len(traffic)
			for _, f := range found {
				alarms[f.Rule]++
				t.Logf("false: %s %s: %s", f.By, f.Value, f.Say())
			}
			for _, s := range suspicions {
				if s >= 60 {
					suspected++
				}
			}
		}
		t.Logf("%d codes in %d days: false alarms %v; %.2f %% with a suspicion of 60 or more", codes, times*generatedDays, alarms,
			100*float64(suspected)/float64(codes))
		if n := alarms[Sequence] + alarms[Untouched] + alarms[Asking] + alarms[Rise]; n > 1 {
			t.Errorf("%d false alarms", n)
		}
		if 100*suspected > codes {
			t.Errorf("%d of %d honest requests have a suspicion of 60 or more", suspected, codes)
		}
	})
	for name, attack := range floods {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var lost, stopped, suspected, wronged []int
			rules := map[Rule]int{}
			hits := 0
			for seed := range uint64(times) {
				traffic := mixed(100+seed, &attack)
				alarms, suspicions := watch(traffic)
				bad, before, covered, high, wrong := 0, 0, 0, 0, 0
				by := map[Rule]bool{}
				for i, o := range traffic {
					if !o.bad {
						if suspicions[i] >= 60 {
							wrong++
						}
						continue
					}
					bad++
					if suspicions[i] >= 60 {
						high++
					}
					is := false
					for _, a := range alarms {
						if a.covers(o) {
							by[a.Rule] = true
							is = is || a.at <= o.at
						}
					}
					if is {
						covered++
					} else if covered == 0 {
						before++
					}
				}
				if covered > 0 {
					hits++
				}
				for r := range by {
					rules[r]++
				}
				lost, stopped = append(lost, before), append(stopped, 100*covered/bad)
				suspected = append(suspected, 100*high/bad)
				wronged = append(wronged, 10_000*wrong/(len(traffic)-bad))
				for _, a := range alarms {
					if !slices.ContainsFunc(traffic, func(o one) bool { return o.bad && a.covers(o) }) {
						t.Errorf("a false alarm: %s %s: %s", a.By, a.Value, a.Say())
					}
				}
			}
			t.Logf(
				"found %d of %d, by %v; codes until the first alarm %d, then covered %d %% of all; "+
					"%d %% with a suspicion of 60 or more, of honest people %.2f %%",
				hits,
				times,
				rules,
				middle(lost),
				middle(stopped),
				middle(suspected),
				float64(middle(wronged))/100,
			)
			if hits < times {
				t.Errorf("found in %d of %d", hits, times)
			}
		})
	}
}
