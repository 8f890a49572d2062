// Package latency keeps how long things took, as histograms that can be added up: by hour, then by
// day, over gateways and countries, of ten messages or ten million.
//
// A bucket is a quarter of a doubling, from 50 ms to two weeks. So whatever is read from a
// histogram is within 9 % of what it would be of the durations themselves.
package latency

import (
	"fmt"
	"math"
	"sort"
	"time"
)

// Bucket is a place in a histogram: 0 is below [Least], each next one is a fourth root of two wider, and
// the last one is open.
type Bucket int16

const (
	// Least is where the second bucket begins.
	Least = 50 * time.Millisecond
	// Buckets is how many there are.
	Buckets = 101
	// perDoubling is how many buckets there are from a duration to twice as long.
	perDoubling = 4
)

// bounds are where buckets end; that of the last is not among them.
var bounds = func() (ends [Buckets - 1]time.Duration) {
	for i := range ends {
		ends[i] = time.Duration(float64(Least) * math.Exp2(float64(i)/perDoubling)).Round(time.Millisecond)
	}
	return ends
}()

// BucketOf is the bucket of a duration. One below zero is none.
func BucketOf(d time.Duration) Bucket {
	return Bucket(sort.Search(len(bounds), func(i int) bool { return d < bounds[i] }))
}

// Bounds are the durations from which on, and below which, what is in a bucket took. The last one has
// no end, and tells the longest duration that there is.
func (b Bucket) Bounds() (from, to time.Duration) {
	to = math.MaxInt64
	if b > 0 {
		from = bounds[b-1]
	}
	if int(b) < len(bounds) {
		to = bounds[b]
	}
	return from, to
}

// Histogram is how many took how long. The zero value is of none.
type Histogram [Buckets]int64

// Add counts n more in a bucket. What is in no bucket is in the last.
func (h *Histogram) Add(b Bucket, n int64) {
	h[min(max(b, 0), Buckets-1)] += n
}

// Join adds all of another histogram.
func (h *Histogram) Join(o Histogram) {
	for i, n := range o {
		h[i] += n
	}
}

// N is how many there are.
func (h *Histogram) N() int64 {
	var sum int64
	for _, n := range h {
		sum += n
	}
	return sum
}

// Quantile is the duration within which a share of all were done, 0.5 for the median; 0 if there are
// none. Within a bucket they are taken to lie evenly on a logarithmic scale.
func (h *Histogram) Quantile(share float64) time.Duration {
	all := h.N()
	if all == 0 {
		return 0
	}
	rank := min(max(share, 0), 1) * float64(all)
	var below int64
	for i, n := range h {
		if n == 0 || float64(below+n) < rank {
			below += n
			continue
		}
		from, to := Bucket(i).Bounds()
		switch {
		case i == 0:
			from = to / 2
		case i == Buckets-1:
			return from
		}
		within := (rank - float64(below)) / float64(n)
		return time.Duration(float64(from) * math.Pow(float64(to)/float64(from), within)).Round(time.Millisecond)
	}
	return bounds[Buckets-2]
}

// Bar is a piece of a histogram as it is drawn.
type Bar struct {
	From, To time.Duration // To is the longest duration there is where it is open
	N        int64
}

// Bars are the pieces from the first that is not empty to the last, so many buckets a piece: 4 double.
func (h *Histogram) Bars(buckets int) []Bar {
	first, last := -1, -1
	for i, n := range h {
		if n > 0 && first < 0 {
			first = i
		}
		if n > 0 {
			last = i
		}
	}
	if first < 0 {
		return nil
	}
	// Pieces begin at 50 ms times a power, whatever is in them.
	var bars []Bar
	start := func(i int) int { return (max(i-1, 0)/buckets)*buckets + 1 }
	if first == 0 {
		_, to := Bucket(0).Bounds()
		bars = append(bars, Bar{0, to, h[0]})
		first = 1
	}
	for at := start(first); at <= last; at += buckets {
		end := min(at+buckets, Buckets)
		var bar Bar
		bar.From, _ = Bucket(at).Bounds()
		_, bar.To = Bucket(end - 1).Bounds()
		for _, n := range h[at:end] {
			bar.N += n
		}
		bars = append(bars, bar)
	}
	return bars
}

// Words writes a duration for people, to two figures or so: 420 ms, 4.2 s, 41 s, 12 min, 5 h, 3 days.
func Words(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < 10*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < 2*time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d < 2*time.Hour:
		return fmt.Sprintf("%.0f min", d.Minutes())
	case d < 48*time.Hour:
		return fmt.Sprintf("%.0f h", d.Hours())
	}
	return fmt.Sprintf("%.0f days", d.Hours()/24)
}
