// Package span reads spans of time as people write them.
package span

import (
	"errors"
	"time"

	"calmpigeon.example/internal/core/fault"
)

// ErrInvalid is wrapped by the errors of [Parse].
var ErrInvalid = errors.New("not a time span")

// Accepted is what [Parse] takes, for people.
const Accepted = "a number and a unit, such as 10s, 5m or 48h"

// Parse reads a span that is longer than nothing. Errors wrap [ErrInvalid].
func Parse(s string) (time.Duration, error) {
	d, err := time.ParseDuration(s)
	if err != nil || d <= 0 {
		return 0, fault.Because(ErrInvalid, "%q: accepted is %s", s, Accepted)
	}
	return d, nil
}
