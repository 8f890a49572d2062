package band

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"
)

// road is how a gateway fares in a country, for generated histories.
type road struct {
	perHour  int     // messages in the busiest hour
	seconds  float64 // median latency at night
	busy     float64 // by how much more it takes in the evening
	wide     float64 // of one message's latency, as the standard deviation of its logarithm
	restless float64 // of an hour's, likewise
	rate     float64 // that is delivered
	swing    float64 // of an hour's rate, as a standard deviation
}

// some is a road as there are: quick or slow, steady or not, few messages or many.
func some(random *rand.Rand) road {
	return road{
		perHour:  30 + int(math.Exp(random.Float64()*7)),
		seconds:  math.Exp(random.Float64()*4 - 0.5),
		busy:     random.Float64() * 2,
		wide:     0.2 + random.Float64()*0.8,
		restless: random.Float64() * 0.3,
		rate:     0.8 + random.Float64()*0.2,
		swing:    random.Float64() * 0.02,
	}
}

// trouble is what goes wrong: latencies so many times as long, and so much of what would be delivered is not.
type trouble struct {
	times float64
	lost  float64
}

// hour is one hour of a road, as it stood at four moments in it.
func (r road) hour(random *rand.Rand, at time.Time, t trouble) []Hour {
	clock := at.UTC().Hour()
	daylight := 0.15 + 0.85*math.Pow(math.Sin(math.Pi*float64(clock)/24), 2)
	n := int(float64(r.perHour) * daylight * (0.7 + 0.6*random.Float64()))
	mid := r.seconds * (1 + r.busy*math.Pow(math.Sin(math.Pi*float64(clock)/24), 4)) * math.Exp(r.restless*random.NormFloat64())
	if t.times > 0 {
		mid *= t.times
	}
	rate := min(max(r.rate+r.swing*random.NormFloat64(), 0), 1) * (1 - t.lost)
	var stands []Hour
	var took []float64
	gone := 0
	for i := range n {
		gone++
		if random.Float64() < rate {
			took = append(took, mid*math.Exp(r.wide*random.NormFloat64()))
		}
		if (i+1)%max(n/4, 1) == 0 || i == n-1 {
			sorted := slices.Clone(took)
			h := Hour{At: at, Arrived: int64(len(took)), Gone: int64(gone), Failed: int64(gone - len(took))}
			if len(took) > 0 {
				h.Median = time.Duration(median(sorted) * float64(time.Second))
			}
			stands = append(stands, h)
		}
	}
	return stands
}

// unusual judges every moment of an hour, and adds the hour to the history.
func unusual(history *[]Hour, stands []Hour) (slow, failing bool) {
	for _, now := range stands {
		for _, l := range Judge(*history, now) {
			slow, failing = slow || l.Slow, failing || !l.Slow
		}
	}
	if len(stands) > 0 {
		*history = append(*history, stands[len(stands)-1])
	}
	return slow, failing
}

// On generated histories, each hour looked at four times: where nothing is wrong, an alarm is rare; what is wrong
// is found. The figures are those of docs/reconciling.md: go test -v -run Generated ./internal/core/band
func TestBandsOnGeneratedHistories(t *testing.T) {
	t.Parallel()
	const roads, days = 60, 21
	start := time.Date(2026, 10, 1, 0, 0, 0, 0, time.UTC)
	random := rand.New(rand.NewPCG(7, 8))
	hours, falsely := 0, 0
	troubles := []struct {
		name  string
		what  trouble
		slow  bool
		least float64 // to be found
		n     int
		found int
	}{
		{name: "ten times as slow", what: trouble{times: 10}, slow: true, least: 0.9},
		{name: "four times as slow", what: trouble{times: 4}, slow: true, least: 0.7},
		{name: "half is lost", what: trouble{lost: 0.5}, least: 0.8},
		{name: "one in five is lost", what: trouble{lost: 0.2}, least: 0.2},
	}
	for range roads {
		r := some(random)
		var history []Hour
		for h := range days * 24 {
			at := start.Add(time.Duration(h) * time.Hour)
			if h > 10*24 && h%17 == 0 { // what would be, if something were wrong in this hour alone
				for i := range troubles {
					T := &troubles[i]
					stands := r.hour(random, at, T.what)
					if len(stands) == 0 || stands[len(stands)-1].Gone < Least {
						continue
					}
					past := slices.Clone(history)
					slow, failing := unusual(&past, stands)
					if T.n++; T.slow && slow || !T.slow && failing {
						T.found++
					}
				}
			}
			slow, failing := unusual(&history, r.hour(random, at, trouble{}))
			if h > 3*24 {
				hours++
				if slow || failing {
					falsely++
				}
			}
		}
	}
	rate := float64(falsely) / float64(hours)
	t.Logf("nothing wrong: %d of %d hours unusual, one in %.0f", falsely, hours, 1/rate)
	if rate > 1.0/4000 {
		t.Errorf("an alarm without trouble in %d of %d hours", falsely, hours)
	}
	for _, T := range troubles {
		found := float64(T.found) / float64(T.n)
		t.Logf("%s for an hour: found in %d of %d, %.1f %%", T.name, T.found, T.n, 100*found)
		if found < T.least {
			t.Errorf("%s: found in %.2f of the hours, less than %.2f", T.name, found, T.least)
		}
	}
}

func TestBandRules(t *testing.T) {
	t.Parallel()
	start := time.Date(2026, 10, 1, 0, 0, 0, 0, time.UTC)
	usual := func(hours int, of int64) (history []Hour) {
		for h := range hours {
			history = append(history, Hour{At: start.Add(time.Duration(h) * time.Hour), Arrived: of, Gone: of, Failed: of * 5 / 100,
				Median: time.Duration(9+h%3) * time.Second})
		}
		return history
	}
	at := func(hours int) time.Time { return start.Add(time.Duration(hours) * time.Hour) }
	slow := Hour{Arrived: 100, Median: time.Minute, Gone: 100, Failed: 5}
	failing := Hour{Arrived: 100, Median: 10 * time.Second, Gone: 100, Failed: 50}
	for _, c := range []struct {
		name    string
		history []Hour
		now     Hour
		at      time.Time
		want    int
	}{
		{"two days are enough", usual(48, 100), slow, at(51), 1},
		{"so are eleven hours, whatever the hour", usual(11, 100), slow, at(14), 1},
		{"nine are not", usual(9, 100), slow, at(12), 0},
		{"hours of few messages say nothing", usual(48, Least-1), slow, at(51), 0},
		{"nor does one now", usual(48, 100), Hour{Arrived: Least - 1, Median: time.Hour, Gone: Least - 1, Failed: Least - 1}, at(51), 0},
		{"what is long ago is forgotten", usual(48, 100), slow, at(48 + Days*24), 0},
		{"the last two hours are not held against", usual(12, 100), slow, at(12), 1},
		{"half is lost", usual(48, 100), failing, at(51), 1},
		{"better than usual is no trouble", usual(48, 100), Hour{Arrived: 100, Median: time.Second, Gone: 100}, at(51), 0},
		{"both", usual(48, 100), Hour{Arrived: 100, Median: time.Hour, Gone: 100, Failed: 100}, at(51), 2},
		{"nothing is known", nil, slow, at(51), 0},
	} {
		c.now.At = c.at
		if got := Judge(c.history, c.now); len(got) != c.want {
			t.Errorf("%s: %+v, want %d findings", c.name, got, c.want)
		}
	}
	quick := usual(48, 100)
	for i := range quick {
		quick[i].Median = 200 * time.Millisecond
	}
	if got := Judge(quick, Hour{At: at(51), Arrived: 100, Median: 1500 * time.Millisecond}); got != nil {
		t.Errorf("seven times as slow, but little more than a second: %+v", got)
	}
	b, ok := Latency(usual(15*24, 100), at(15*24+3))
	if !ok || !b.AtHour || b.Hours < 36 || b.Middle < 9 || b.Middle > 11.1 || b.Edge < 20 || b.Edge > 30 {
		t.Errorf("what is usual: %+v, %v", b, ok)
	}
}
