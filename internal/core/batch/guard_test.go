package batch

import (
	"strings"
	"testing"
	"time"

	"calmpigeon.example/internal/core/delivery"
)

func TestGuard(t *testing.T) {
	t.Parallel()
	estimate := Sums{"EUR": 1_000_000}
	for name, tt := range map[string]struct {
		before, now Standing
		why         string
	}{
		"well":                     {Standing{}, Standing{Gone: 1000, Delivered: 950, Failed: 50}, ""},
		"too few to judge":         {Standing{}, Standing{Gone: 49, Failed: 49}, ""},
		"many fail from the start": {Standing{}, Standing{Gone: 100, Delivered: 60, Failed: 40}, "40 failed (40%); the guard allows 40%"},
		"nobody knows of many yet": {Standing{Doubtful: 20}, Standing{Gone: 300, Delivered: 200, Doubtful: 90}, ""},
		"nobody knows of many": {
			Standing{Doubtful: 80}, Standing{Gone: 300, Delivered: 200, Doubtful: 60}, "60 stay doubtful",
		},
		"many fail since a while": {
			Standing{Gone: 9000, Delivered: 9000}, Standing{Gone: 9100, Delivered: 9040, Failed: 60}, "of the last 100",
		},
		"as many failed long ago": {
			Standing{Gone: 100, Failed: 60, Delivered: 40}, Standing{Gone: 200, Delivered: 140, Failed: 60}, "",
		},
		"many fail for one cause": {
			Standing{Gone: 100, Delivered: 90, Failed: 10, Causes: map[delivery.Cause]int64{delivery.SenderRefused: 10}},
			Standing{Gone: 200, Delivered: 160, Failed: 40, Causes: map[delivery.Cause]int64{
				delivery.SenderRefused: 35, delivery.Absent: 5,
			}},
			"25 failed for one cause, sender_refused (25%); the guard allows 25%",
		},
		"as many fail for many causes": {
			Standing{}, Standing{Gone: 100, Delivered: 70, Failed: 30, Causes: map[delivery.Cause]int64{
				delivery.SenderRefused: 10, delivery.Absent: 10, delivery.InvalidNumber: 10,
			}}, "",
		},
		"it costs more than it should": {
			Standing{}, Standing{Gone: 100, Delivered: 100, Micros: Sums{"EUR": 1_300_000}}, "125% of the estimate in EUR",
		},
	} {
		if why := UsualGuard.Judge(tt.before, tt.now, estimate); why != tt.why && (tt.why == "" || !strings.Contains(why, tt.why)) {
			t.Errorf("%s: %q, want %q", name, why, tt.why)
		}
		if why := (Guard{}).Judge(tt.before, tt.now, estimate); why != "" {
			t.Errorf("%s: without a guard %q", name, why)
		}
	}
}

func TestScoutsWait(t *testing.T) {
	t.Parallel()
	wait := ScoutsWait{After: 10 * time.Minute, Least: 0.95}
	for name, tt := range map[string]struct {
		wait      ScoutsWait
		since     time.Duration
		delivered int64
		goes      bool
		why       string
	}{
		"for a person":   {ScoutsWait{}, time.Hour, 100, false, ""},
		"too early":      {wait, 9 * time.Minute, 100, false, ""},
		"enough arrived": {wait, 10 * time.Minute, 95, true, ""},
		"too few":        {wait, 10 * time.Minute, 94, false, "of 100 scouts 94 were delivered in 10m0s (94%); 95% were asked for"},
	} {
		if goes, why := tt.wait.Judge(tt.since, tt.delivered, 100); goes != tt.goes || why != tt.why {
			t.Errorf("%s: %v, %q", name, goes, why)
		}
	}
}
