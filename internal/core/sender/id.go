// Package sender knows what a message may name as its origin.
package sender

import (
	"errors"
	"strings"
	"unicode/utf8"

	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/smstext"
)

// ErrInvalid is wrapped by every error of [Parse].
var ErrInvalid = errors.New("not a sender")

// Kind is how networks treat a sender.
type Kind string

// The kinds of senders.
const (
	Alphanumeric Kind = "alphanumeric" // a name; nobody can reply to it
	Numeric      Kind = "numeric"      // a number in E.164
	ShortCode    Kind = "short_code"   // 3 to 8 digits, valid in one country
)

// ID is a sender. It is immutable and comparable; its zero value is none.
type ID struct {
	text string
	kind Kind
}

// Accepted is what [Parse] takes, in one sentence for people.
const Accepted = "a name of 1 to 11 GSM characters with at least one letter, an international number with plus, or a short code of 3 to 8 digits"

// Parse reads a sender: a name (TP-OA of type alphanumeric carries at most 11
// septet-coded characters, 3GPP TS 23.040 §9.1.2.5), a number or a short code.
func Parse(s string) (ID, error) {
	if s == "" {
		return ID{}, fault.Because(ErrInvalid, "sender is empty")
	}
	if strings.HasPrefix(s, "+") {
		number, err := phone.Parse(s)
		if err != nil {
			var why *phone.Error
			errors.As(err, &why)
			return ID{}, fault.Because(ErrInvalid, "sender %q: %s", s, why.Why)
		}
		return ID{number.String(), Numeric}, nil
	}
	if strings.Trim(s, "0123456789") == "" {
		if len(s) < 3 || len(s) > 8 {
			return ID{}, fault.Because(ErrInvalid, "sender %q: %d digits; a short code has 3 to 8, a number starts with a plus", s, len(s))
		}
		return ID{s, ShortCode}, nil
	}
	if n := utf8.RuneCountInString(s); n > 11 {
		return ID{}, fault.Because(ErrInvalid, "sender %q: %d characters, at most 11, so %d too many", s, n, n-11)
	}
	letter := false
	for _, r := range s {
		if !smstext.InGSM7(r) || r < ' ' {
			return ID{}, fault.Because(ErrInvalid, "sender %q: %q is not in the GSM alphabet", s, r)
		}
		letter = letter || r >= 'A' && r <= 'Z' || r >= 'a' && r <= 'z' || r > 0x7f
	}
	if !letter {
		return ID{}, fault.Because(ErrInvalid, "sender %q: no letter in it", s)
	}
	if strings.TrimSpace(s) != s {
		return ID{}, fault.Because(ErrInvalid, "sender %q: a space at its start or end", s)
	}
	return ID{s, Alphanumeric}, nil
}

// Stored is a sender that was parsed before and kept with its kind. It is not
// checked again: numbering plans change, and what is in use stays so.
func Stored(text string, kind Kind) ID { return ID{text, kind} }

// String is the sender as it is written.
func (id ID) String() string { return id.text }

// Kind is how networks treat the sender; empty for the zero value.
func (id ID) Kind() Kind { return id.kind }
