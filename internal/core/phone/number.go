// Package phone knows telephone numbers as messages are addressed by them.
package phone

import (
	"errors"
	"fmt"
	"strings"
)

// ErrInvalid is wrapped by every error of [Parse].
var ErrInvalid = errors.New("not an international number")

// Number is an international telephone number (ITU-T E.164). It is immutable
// and comparable; its zero value is no number. It costs one string header.
type Number struct{ e164 string }

// Accepted is what [Parse] takes, in one sentence for people.
const Accepted = "a plus sign, the country code and the number, 8 to 15 digits in all, such as +447700900123"

// Parse reads a number in international form: a plus sign (or 00 in its
// place), country code and number. Spaces, no-break spaces, dots, hyphens,
// slashes and round brackets between digits are passed over (E.123). A number
// without a country code is refused, never guessed.
func Parse(s string) (Number, error) {
	trimmed := strings.TrimSpace(s)
	if trimmed == "" {
		return Number{}, fmt.Errorf("number is empty: %w", ErrInvalid)
	}
	plus := strings.HasPrefix(trimmed, "+")
	var digits strings.Builder
	digits.WriteByte('+')
	for _, r := range strings.TrimPrefix(trimmed, "+") {
		switch {
		case r >= '0' && r <= '9':
			digits.WriteRune(r)
		case strings.ContainsRune(" .-/()\u00a0\u202f\u2011", r):
		default:
			return Number{}, fmt.Errorf("number %q: %q is not part of a number: %w", s, r, ErrInvalid)
		}
	}
	e164 := digits.String()
	if !plus {
		if !strings.HasPrefix(e164, "+00") {
			return Number{}, fmt.Errorf("number %q: no country code in front: %w", s, ErrInvalid)
		}
		e164 = "+" + e164[3:]
	}
	switch n := len(e164) - 1; {
	case strings.HasPrefix(e164, "+0"):
		return Number{}, fmt.Errorf("number %q: no country code starts with 0: %w", s, ErrInvalid)
	case n < 8:
		return Number{}, fmt.Errorf("number %q: %d digits, at least 8: %w", s, n, ErrInvalid)
	case n > 15:
		return Number{}, fmt.Errorf("number %q: %d digits, at most 15 (E.164): %w", s, n, ErrInvalid)
	}
	return Number{e164}, nil
}

// String is the number as machines write it: plus and digits.
func (n Number) String() string { return n.e164 }

// Digits is the number without the plus.
func (n Number) Digits() string { return strings.TrimPrefix(n.e164, "+") }

// IsValid reports whether this is a number at all.
func (n Number) IsValid() bool { return n.e164 != "" }
