package arrivals

import (
	"testing"
	"time"

	"calmpigeon.example/internal/core/band"
	"calmpigeon.example/internal/core/delivery"
)

// What failed before the hour's turn is not forgotten at it, though other things go well since; once the hour is half
// over it speaks for itself, and one that says too little is never alone.
func TestTheHoursTurn(t *testing.T) {
	t.Parallel()
	turn := time.Date(2026, 11, 27, 13, 0, 0, 0, time.UTC)
	var usual []band.Hour
	for back := 3; back < 100; back++ {
		usual = append(usual, band.Hour{At: turn.Add(-time.Duration(back) * time.Hour), Gone: 60, Failed: int64(1 + back%2)})
	}
	fared := func(at time.Time, delivered, failed int64) Fared {
		f := Fared{At: at}
		f.Tally.Add(delivery.Delivered, delivered)
		f.Tally.Add(delivery.Undeliverable, failed)
		return f
	}
	for _, tt := range []struct {
		what                    string
		past                    time.Duration
		wellBefore, failsBefore int64
		wellSince, failsSince   int64
		want                    bool
	}{
		{"nothing fails", 4 * time.Minute, 60, 1, 40, 1, false},
		{"it failed before the turn", 4 * time.Minute, 60, 60, 30, 1, true},
		{"it failed before, half an hour ago", 31 * time.Minute, 60, 60, 60, 1, false},
		{"it fails since the turn", 4 * time.Minute, 400, 4, 10, 15, true},
		{"it says too little by itself", 31 * time.Minute, 60, 60, 10, 1, true},
	} {
		left := false
		for _, stands := range running(
			[]Fared{fared(turn.Add(-time.Hour), tt.wellBefore, tt.failsBefore), fared(turn, tt.wellSince, tt.failsSince)}, turn.Add(tt.past)) {
			left = left || band.Judge(usual, stands) != nil
		}
		if left != tt.want {
			t.Errorf("%s: it leaves what is usual: %t", tt.what, left)
		}
	}
}
