package batch

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"calmpigeon.example/internal/core/fault"
)

// Pace is how many messages may go in a span of time. The zero value is no limit.
type Pace struct {
	N   int           `json:"n"`
	Per time.Duration `json:"per"`
}

// PaceAccepted is what is accepted as a pace.
const PaceAccepted = "messages a second, minute or hour, such as 50/s, 30/min or 2000/h"

// PaceMost is the fastest pace, in messages a second.
const PaceMost = 10_000

var paceUnits = []struct {
	word string
	per  time.Duration
}{{"s", time.Second}, {"min", time.Minute}, {"h", time.Hour}}

// ParsePace reads a pace such as 50/s, 30/min or 2000/h; a number alone is a second's.
func ParsePace(s string) (Pace, error) {
	number, unit, _ := strings.Cut(strings.TrimSpace(s), "/")
	n, err := strconv.Atoi(strings.TrimSpace(number))
	unit = strings.TrimSpace(unit)
	if unit == "" {
		unit = "s"
	}
	for _, u := range paceUnits {
		if unit != u.word {
			continue
		}
		p := Pace{n, u.per}
		if err != nil || n < 1 || p.Rate() > PaceMost {
			break
		}
		return p, nil
	}
	return Pace{}, fault.New("pace", fmt.Sprintf("%q is no pace", s), fmt.Sprintf("%s; at most %d/s", PaceAccepted, PaceMost))
}

// String writes it as ParsePace reads it.
func (p Pace) String() string {
	if p.N == 0 {
		return ""
	}
	for _, u := range paceUnits {
		if p.Per == u.per {
			return fmt.Sprintf("%d/%s", p.N, u.word)
		}
	}
	return fmt.Sprintf("%.3g/s", p.Rate())
}

// Rate is how many messages that are in a second; 0 if there is no limit.
func (p Pace) Rate() float64 {
	if p.N == 0 {
		return 0
	}
	return float64(p.N) / p.Per.Seconds()
}

// Window is the pace as a limit that can be watched closely: so many messages in any
// span of about a second, or one in a longer span.
func (p Pace) Window() (n int, span time.Duration) {
	if p.N == 0 {
		return 0, 0
	}
	rate := p.Rate()
	n = max(1, int(rate+0.999999))
	return n, time.Duration(float64(n) / rate * float64(time.Second))
}
