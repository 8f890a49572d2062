// Package band learns what is usual of a gateway in a country from what its last days came to, hour by
// hour, and says when an hour leaves it.
//
// These are the rules:
//
//  1. An hour says something about latency if [Least] messages arrived in it, and about failing if Least messages
//     that were accepted in it went to the gateway. Of those whose end is not known it is hoped that they arrive:
//     failures are often told sooner.
//  2. An hour is held against those of the last [Days] days at the same hour of the day, the one before or
//     the one after; the day's own last two hours, which may be part of the same trouble, are not among
//     them. If fewer than [Enough] of these say something, against every hour of these days; if still
//     fewer, nothing is usual yet, and nothing is said.
//  3. The middle is the median, and the spread 1.4826 times the median distance from it, which is the
//     standard deviation of what is normal and does not mind that one hour in three was bad. Latencies
//     are compared by their logarithms. The spread is taken to be no less than 20 % of a latency
//     and one point of a share: a gateway that never varies may vary a little.
//  4. The share that fails of few messages varies by chance. The spread of that, as of drawing n messages of which
//     the usual share fails, is added to the spread of the hours.
//  5. An hour leaves the band if its median latency is beyond [Far] spreads above the middle and
//     at least two seconds above it, or the share that fails beyond Far spreads and at least three points above it.
//     What is better than usual is no trouble.
package band

import (
	"math"
	"slices"
	"time"
)

const (
	// Least is how many messages an hour has to have to say something.
	Least = 20
	// Days is how far back is looked, and Enough how many hours have to say something.
	Days, Enough = 14, 10
	// Far is how many spreads from the middle is unusual: an hour is looked at again and again as it goes, of every
	// gateway in every country, and whoever is called for nothing does not come the next time.
	Far = 5

	latencyFloor, failFloor = 0.2, 0.01
	latencyLeast            = 2 * time.Second
	failLeast               = 0.03
	normal                  = 1.4826 // standard deviations in a median distance, of what is normal
)

// Hour is what an hour came to, of a gateway in a country.
type Hour struct {
	At      time.Time     // when it began
	Arrived int64         // messages that arrived in it
	Median  time.Duration // how long half of them took at most
	Gone    int64         // messages accepted in it that went, or were refused
	Failed  int64         // those of them that failed
}

// Band is what is usual.
type Band struct {
	Middle float64 // seconds, or a share
	Edge   float64 // beyond which an hour leaves it
	Hours  int     // so many hours it was learned from
	AtHour bool    // these were of the same hour of the day, or next to it
}

// Latency is what is usual of the latency at a moment; false if nothing is yet.
func Latency(history []Hour, at time.Time) (Band, bool) {
	b, values := learn(history, at, func(h Hour) (float64, bool) {
		return math.Log(max(h.Median.Seconds(), 0.001)), h.Arrived >= Least
	})
	if values == nil {
		return Band{}, false
	}
	middle, spread := spreadOf(values)
	b.Middle = math.Exp(middle)
	b.Edge = max(math.Exp(middle+Far*max(spread, latencyFloor)), b.Middle+latencyLeast.Seconds())
	return b, true
}

// Fails is what share of so many messages usually fails at a moment; false if nothing is usual yet.
func Fails(history []Hour, at time.Time, of int64) (Band, bool) {
	b, values := learn(history, at, func(h Hour) (float64, bool) {
		return float64(h.Failed) / float64(max(h.Gone, 1)), h.Gone >= Least
	})
	if values == nil {
		return Band{}, false
	}
	middle, spread := spreadOf(values)
	// As if one more had failed and one more not, so that chance is not taken for nothing where none ever failed.
	chance := (middle*float64(of) + 1) / (float64(of) + 2)
	spread = math.Sqrt(math.Pow(max(spread, failFloor), 2) + chance*(1-chance)/float64(max(of, 1)))
	b.Middle = middle
	b.Edge = max(middle+Far*spread, middle+failLeast)
	return b, true
}

// learn takes those hours of the history that an hour is held against.
func learn(history []Hour, at time.Time, says func(Hour) (value float64, ok bool)) (Band, []float64) {
	from, until := at.Add(-Days*24*time.Hour), at.Truncate(time.Hour).Add(-2*time.Hour)
	var near, any []float64
	for _, h := range history {
		value, ok := says(h)
		if !ok || h.At.Before(from) || h.At.After(until) {
			continue
		}
		any = append(any, value)
		if apart := (h.At.UTC().Hour() - at.UTC().Hour() + 24) % 24; apart <= 1 || apart == 23 {
			near = append(near, value)
		}
	}
	switch {
	case len(near) >= Enough:
		return Band{Hours: len(near), AtHour: true}, near
	case len(any) >= Enough:
		return Band{Hours: len(any)}, any
	}
	return Band{}, nil
}

// spreadOf is the median, and the median distance from it as a standard deviation.
func spreadOf(values []float64) (middle, spread float64) {
	middle = median(values)
	apart := make([]float64, len(values))
	for i, v := range values {
		apart[i] = math.Abs(v - middle)
	}
	return middle, normal * median(apart)
}

// median sorts the values.
func median(values []float64) float64 {
	slices.Sort(values)
	n := len(values)
	return (values[(n-1)/2] + values[n/2]) / 2
}

// Leaving is how an hour leaves what is usual.
type Leaving struct {
	Slow  bool    // else too many fail
	Is    float64 // seconds, or a share
	Usual Band
	Of    int64 // messages
}

// Judge says how an hour leaves what is usual; nil if it does not, or if it says too little.
func Judge(history []Hour, now Hour) []Leaving {
	var all []Leaving
	if now.Arrived >= Least {
		if b, ok := Latency(history, now.At); ok && now.Median.Seconds() > b.Edge {
			all = append(all, Leaving{Slow: true, Is: now.Median.Seconds(), Usual: b, Of: now.Arrived})
		}
	}
	if now.Gone >= Least {
		share := float64(now.Failed) / float64(now.Gone)
		if b, ok := Fails(history, now.At, now.Gone); ok && share > b.Edge {
			all = append(all, Leaving{Is: share, Usual: b, Of: now.Gone})
		}
	}
	return all
}
