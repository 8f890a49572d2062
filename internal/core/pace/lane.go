package pace

import (
	"fmt"
	"time"

	"calmpigeon.example/internal/core/fault"
)

// Kind is what a message is for. It decides the lane, the validity and what
// may be done in doubt.
type Kind string

// The kinds, most urgent first.
const (
	OTP           Kind = "otp"
	Transactional Kind = "transactional"
	Bulk          Kind = "bulk"
)

// Lanes is how many lanes there are.
const Lanes = 3

// Kinds lists the kinds in the order of their lanes.
var Kinds = []Kind{OTP, Transactional, Bulk}

// ParseKind reads a kind's word. The error names every word it accepts.
func ParseKind(s string) (Kind, error) {
	for _, k := range Kinds {
		if string(k) == s {
			return k, nil
		}
	}
	return "", fmt.Errorf("kind %q: not a kind; accepted are %s", s, fault.Words(Kinds))
}

// Lane is the order of urgency, 0 first.
func (k Kind) Lane() int {
	for i, kind := range Kinds {
		if kind == k {
			return i
		}
	}
	return len(Kinds) - 1
}

// Validity is how long a message of this kind is of use unless its sender says
// otherwise. A passcode outlives no sign-in; a newsletter may wait for a night.
func (k Kind) Validity() time.Duration {
	switch k {
	case OTP:
		return 5 * time.Minute
	case Transactional:
		return 6 * time.Hour
	}
	return 24 * time.Hour
}
