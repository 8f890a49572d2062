package batch

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"calmpigeon.example/internal/core/delivery"
)

// Guard is when a batch stops by itself. What is zero is not watched.
type Guard struct {
	Failures float64 `json:"failures,omitempty"` // share of what came to an end within the window
	Cause    float64 `json:"cause,omitempty"`    // share of what came to an end within the window that failed for one cause
	Doubt    float64 `json:"doubt,omitempty"`    // share of what has gone that stays in doubt over the window
	Cost     float64 `json:"cost,omitempty"`     // times what was estimated
}

// UsualGuard is the guard where nothing else is said.
var UsualGuard = Guard{Failures: 0.4, Cause: 0.25, Doubt: 0.2, Cost: 1.25}

const (
	// GuardWindow is how far back failures are looked at.
	GuardWindow = time.Minute
	// guardLeast is how many messages it takes to judge.
	guardLeast = 50
)

// Standing is what a guard looks at: how many messages of a batch are where, and what they
// cost until now.
type Standing struct {
	Gone      int64 // messages that have gone, or may have
	Doubtful  int64 // or unknown for good
	Delivered int64
	Failed    int64 // came to an end otherwise
	Micros    Sums  // by estimate, of what has gone
	Causes    map[delivery.Cause]int64
}

// Judge says why a batch is to stop; empty if it may go on. before is how it stood a window
// ago, estimate what all of it was to cost.
func (g Guard) Judge(before, now Standing, estimate Sums) string {
	failed, ended := now.Failed-before.Failed, now.Failed+now.Delivered-before.Failed-before.Delivered
	if g.Failures > 0 && ended >= guardLeast && float64(failed) >= g.Failures*float64(ended) {
		return fmt.Sprintf("of the last %d messages that came to an end %d failed (%d%%); the guard allows %d%%",
			ended, failed, failed*100/ended, int(100*g.Failures))
	}
	for _, cause := range slices.Sorted(maps.Keys(now.Causes)) {
		if n := now.Causes[cause] - before.Causes[cause]; g.Cause > 0 && ended >= guardLeast && float64(n) >= g.Cause*float64(ended) {
			return fmt.Sprintf("of the last %d messages that came to an end %d failed for one cause, %s (%d%%); the guard allows %d%%. %s",
				ended, n, cause, n*100/ended, int(100*g.Cause), cause.Advice().Text)
		}
	}
	// One that stumbles leaves its whole request in doubt, most often for seconds.
	if doubt := min(before.Doubtful, now.Doubtful); g.Doubt > 0 && doubt >= guardLeast && float64(doubt) >= g.Doubt*float64(now.Gone) {
		return fmt.Sprintf("of %d messages that have gone %d stay doubtful (%d%%); the guard allows %d%%",
			now.Gone, doubt, doubt*100/now.Gone, int(100*g.Doubt))
	}
	for currency, all := range estimate {
		if spent := now.Micros[currency]; g.Cost > 0 && now.Gone >= guardLeast && all > 0 && float64(spent) > g.Cost*float64(all) {
			return fmt.Sprintf("it has cost more than %.0f%% of the estimate in %s", 100*g.Cost, currency)
		}
	}
	return ""
}

// ScoutsWait are what the rest of a batch waits for, once its scouts are out. The zero value
// waits for a person.
type ScoutsWait struct {
	After time.Duration `json:"after,omitempty"` // since its launch
	Least float64       `json:"least,omitempty"` // share of the scouts that has to be delivered
}

// Judge says what becomes of the rest: it goes, or stays for a reason, or both are open yet.
func (w ScoutsWait) Judge(since time.Duration, delivered, scouts int64) (goes bool, why string) {
	if w.After <= 0 || since < w.After || scouts == 0 {
		return false, ""
	}
	if float64(delivered) >= w.Least*float64(scouts) {
		return true, ""
	}
	return false, fmt.Sprintf("of %d scouts %d were delivered in %s (%d%%); %d%% were asked for",
		scouts, delivered, w.After, delivered*100/scouts, int(100*w.Least))
}
