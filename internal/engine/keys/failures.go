package keys

import (
	"cmp"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"time"

	"calmpigeon.example/internal/store"
)

const (
	// failuresFree is how many wrong keys from one address are looked up without a pause, and failureEvery how long it takes
	// until one more is.
	failuresFree = 10
	failureEvery = 6 * time.Second
	// addressesMost is of how many addresses wrong keys are counted. Those of all others are counted together.
	addressesMost = 10_000
	// knownMost is of how many keys and sessions it is remembered that they were in use.
	knownMost = 20_000
	// sweepEvery is how often addresses are forgotten whose failures have faded, when there is no room for another.
	sweepEvery = time.Second
	// tellEvery is how often it is logged that keys were wrong.
	tellEvery = time.Minute
)

// TooManyError is the error of a key that was not looked up: too many from its address were wrong.
type TooManyError struct{ After time.Duration } // until the next one is looked up

// Error says how long to wait.
func (t *TooManyError) Error() string {
	return fmt.Sprintf("too many wrong keys from this address; the next one is looked up in %v", t.After)
}

// failures counts wrong keys and sessions by address. Keys that were in use a moment ago are looked up all the same, so
// that nobody can shut others out from behind the same address.
type failures struct {
	mu    sync.Mutex
	count map[string]failureCount // by address
	good  map[string]bool         // handles of keys and hashes of sessions that were in use
	told  time.Time               // when it was last logged
	swept time.Time               // when addresses were last forgotten
	wrong map[string]int          // since then, by address
}

// failureCount is how many failures of an address count at a moment. They fade: one every failureEvery.
type failureCount struct {
	n  float64
	at time.Time
}

func (s failureCount) now(now time.Time) float64 {
	return max(0, s.n-max(0, now.Sub(s.at).Seconds())/failureEvery.Seconds())
}

// check looks a key or a session up, by what identifies it. [ErrRefused] counts against the address.
func (f *failures) check(log *slog.Logger, from, what string, now time.Time, look func() (store.Key, error)) (store.Key, error) {
	after, known := f.before(from, what, now)
	if after > 0 && !known {
		f.note(log, from, now)
		return store.Key{}, &TooManyError{after}
	}
	key, err := look()
	switch {
	case err == nil:
		f.remember(what)
	case errors.Is(err, ErrRefused):
		f.note(log, from, now)
		if after > 0 {
			return store.Key{}, &TooManyError{after}
		}
	}
	return key, err
}

// before tells how long an address has to wait, and whether something was in use before.
func (f *failures) before(from, what string, now time.Time) (after time.Duration, known bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if over := f.count[f.place(from)].now(now) - failuresFree + 1; over > 0 {
		after = max(time.Second, (time.Duration(over * float64(failureEvery))).Round(time.Second))
	}
	return after, f.good[what]
}

// place is under which name an address is counted.
func (f *failures) place(from string) string {
	if _, there := f.count[from]; !there && len(f.count) >= addressesMost {
		return ""
	}
	return from
}

// note counts a failure. Addresses whose failures have faded are forgotten when there is no room for another.
func (f *failures) note(log *slog.Logger, from string, now time.Time) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.count == nil {
		f.count, f.wrong = map[string]failureCount{}, map[string]int{}
	}
	if len(f.count) >= addressesMost && now.Sub(f.swept) >= sweepEvery {
		f.swept = now
		maps.DeleteFunc(f.count, func(_ string, s failureCount) bool { return s.now(now) == 0 })
	}
	at := f.place(from)
	f.count[at] = failureCount{min(f.count[at].now(now)+1, failuresFree), now}
	f.wrong[at]++
	f.tell(log, now)
}

func (f *failures) remember(what string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if len(f.good) >= knownMost || f.good == nil {
		f.good = map[string]bool{}
	}
	f.good[what] = true
}

// flush logs what was not logged yet, if it is time.
func (f *failures) flush(log *slog.Logger, now time.Time) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if len(f.wrong) > 0 {
		f.tell(log, now)
	}
}

// tell logs, if there is a log, how many keys were wrong since the last time, at most once a minute.
func (f *failures) tell(log *slog.Logger, now time.Time) {
	if log == nil || now.Sub(f.told) < tellEvery {
		return
	}
	n := 0
	for _, one := range f.wrong {
		n += one
	}
	worst := slices.SortedFunc(maps.Keys(f.wrong), func(a, b string) int {
		return cmp.Or(f.wrong[b]-f.wrong[a], cmp.Compare(a, b))
	})
	log.Warn("wrong API keys or sessions were presented", "count", n, "addresses", len(worst), "most_from", worst[0])
	f.told = now
	clear(f.wrong)
}
