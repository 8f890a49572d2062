package latency

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"
)

// Every duration lies within the bounds of its bucket, and of no other.
func TestBuckets(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(1, 2))
	try := []time.Duration{-time.Hour, 0, 1, Least - 1, Least, Least + 1, time.Second, 24 * time.Hour, 365 * 24 * time.Hour, math.MaxInt64}
	for range 10_000 {
		try = append(try, time.Duration(math.Exp(random.Float64()*45)))
	}
	for _, d := range try {
		in := BucketOf(d)
		for b := range Bucket(Buckets) {
			from, to := b.Bounds()
			inside := d >= from && d < to || b == 0 && d < 0 || b == Buckets-1 && d >= from
			if inside != (b == in) {
				t.Fatalf("%v: bucket %d, but that it is from %v to %v is %v of bucket %d", d, in, from, to, inside, b)
			}
		}
	}
	if from, to := Bucket(Buckets - 1).Bounds(); from < 14*24*time.Hour || to != math.MaxInt64 {
		t.Errorf("the last bucket is from %v to %v", from, to)
	}
}

// What is read from a histogram is within 9 % of what it is of the durations themselves.
func TestQuantiles(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(3, 4))
	for round := range 50 {
		var h, half, other Histogram
		var all []time.Duration
		mid, wide := math.Log(0.2+random.Float64()*100), 0.1+random.Float64()
		for i := range 200 + random.IntN(5000) {
			d := time.Duration(math.Exp(mid+wide*random.NormFloat64()) * float64(time.Second))
			d = max(d, Least)
			all = append(all, d)
			h.Add(BucketOf(d), 1)
			if i%2 == 0 {
				half.Add(BucketOf(d), 1)
			} else {
				other.Add(BucketOf(d), 1)
			}
		}
		half.Join(other)
		if half != h || h.N() != int64(len(all)) {
			t.Fatalf("round %d: halves of %d and %d do not join to %d", round, half.N(), other.N(), h.N())
		}
		slices.Sort(all)
		for _, share := range []float64{0, 0.01, 0.5, 0.9, 0.99, 1} {
			want := all[min(max(int(math.Ceil(share*float64(len(all))))-1, 0), len(all)-1)]
			got := h.Quantile(share)
			if off := math.Abs(math.Log(got.Seconds() / want.Seconds())); off > math.Log(math.Exp2(1.0/perDoubling)) {
				t.Errorf("round %d: quantile %v is %v, of the durations themselves %v", round, share, got, want)
			}
		}
		if h.Quantile(0.5) > h.Quantile(0.9) {
			t.Errorf("round %d: the median %v is longer than nine in ten took, %v", round, h.Quantile(0.5), h.Quantile(0.9))
		}
	}
	var none, long Histogram
	if none.Quantile(0.5) != 0 || none.Bars(4) != nil {
		t.Errorf("of nothing: median %v, bars %v", none.Quantile(0.5), none.Bars(4))
	}
	if long.Add(Buckets+5, 3); long.N() != 3 || long.Quantile(0.5) < 14*24*time.Hour {
		t.Errorf("what took too long: %d, median %v", long.N(), long.Quantile(0.5))
	}
}

// Bars hold all that a histogram holds, side by side.
func TestBars(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(5, 6))
	for range 500 {
		var h Histogram
		for range 1 + random.IntN(6) {
			h.Add(Bucket(random.IntN(Buckets)), 1+random.Int64N(9))
		}
		for _, wide := range []int{1, 2, 4, 8} {
			bars := h.Bars(wide)
			var sum int64
			for i, b := range bars {
				sum += b.N
				if b.From >= b.To || i > 0 && bars[i-1].To != b.From {
					t.Fatalf("bars of %d buckets: %v", wide, bars)
				}
			}
			if sum != h.N() || bars[len(bars)-1].N == 0 {
				t.Fatalf("bars of %d buckets hold %d of %d: %v", wide, sum, h.N(), bars)
			}
		}
	}
}
