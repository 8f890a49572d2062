// Package span reads and writes spans of time.
package span

import (
	"errors"
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"

	"calmpigeon.example/internal/core/fault"
)

// ErrInvalid is wrapped by the errors of [Parse].
var ErrInvalid = errors.New("not a time span")

// Accepted is what [Parse] takes, for people.
const Accepted = "seconds, or numbers with units, such as 90, 10s, 5m, 48h, 2d or 1d12h"

// day is 24 hours: a span is no date, and knows nothing of summer time.
const day = 24 * time.Hour

// inDays are spans that begin with days.
var inDays = regexp.MustCompile(`^(\d{1,6}(?:\.\d{1,6})?)d(.*)$`)

// Parse reads a span that is longer than nothing; a number without a unit is seconds.
// Errors wrap [ErrInvalid].
func Parse(s string) (time.Duration, error) {
	days, rest := time.Duration(0), s
	if m := inDays.FindStringSubmatch(s); m != nil {
		n, err := strconv.ParseFloat(m[1], 64)
		if err != nil || n > float64(math.MaxInt64/2/day) {
			return 0, fault.Because(ErrInvalid, "%q: accepted is %s", s, Accepted)
		}
		days, rest = time.Duration(math.Round(n*float64(day))), m[2]
	}
	d, err := time.ParseDuration(rest)
	switch {
	case rest == "" && days > 0:
		d, err = 0, nil
	case err != nil && days == 0:
		d, err = time.ParseDuration(s + "s")
	}
	if d += days; err != nil || d <= 0 || d < days {
		return 0, fault.Because(ErrInvalid, "%q: accepted is %s", s, Accepted)
	}
	return d, nil
}

// Format writes a span so that [Parse] reads it, without parts that are nothing: 2m
// and not 2m0s.
func Format(d time.Duration) string {
	s := d.String()
	if strings.HasSuffix(s, "m0s") {
		s = strings.TrimSuffix(s, "0s")
	}
	if strings.HasSuffix(s, "h0m") {
		s = strings.TrimSuffix(s, "0m")
	}
	return s
}

// Words writes a span for people, in one or two units: 2 min, 1 h 30 min, 2 days.
func Words(d time.Duration) string {
	units := []struct {
		of        time.Duration
		one, many string
	}{
		{24 * time.Hour, "day", "days"},
		{time.Hour, "h", "h"},
		{time.Minute, "min", "min"},
		{time.Second, "s", "s"},
		{time.Millisecond, "ms", "ms"},
	}
	for i, unit := range units {
		n := d / unit.of
		if n == 0 {
			continue
		}
		word := unit.many
		if n == 1 {
			word = unit.one
		}
		said := fmt.Sprintf("%d %s", n, word)
		if i+1 < len(units)-1 {
			if rest := d % unit.of / units[i+1].of; rest > 0 {
				said += " " + Words(rest*units[i+1].of)
			}
		}
		return said
	}
	return "0 s"
}
