// Package passcode knows one-time passwords: how a code is drawn and read as people type it, when it may be checked and
// sent again, and what limits hold for asking for one.
//
// It follows NIST SP 800-63B §5.1.3: codes of a proper source of randomness, a short life, used once, and few tries.
package passcode

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode"

	"golang.org/x/text/width"

	"calmpigeon.example/internal/core/fault"
)

// Form is what a code is made of. The zero value is six digits.
type Form struct {
	Letters bool // without look-alikes, and without vowels, so that no word comes of it
	Length  int  // 0: 6
}

// Letters are those that codes are drawn from: sixteen that nobody takes for one another, or for a digit that is not
// read as one of them.
const Letters = "BCDFHJKMNPRTVWXZ"

const (
	// LengthLeast and LengthMost are how many characters a code has.
	LengthLeast, LengthMost = 4, 10
	lengthUsual             = 6
	typedMost               = 64 // characters that are looked at of what somebody typed
)

// ErrForm is wrapped by errors of codes that cannot be made.
var ErrForm = errors.New("not a form of codes")

// ParseForm reads what codes are to be made of: digits or letters, and how many, 0 for six.
func ParseForm(of string, length int) (Form, error) {
	f := Form{Letters: of == "letters", Length: length}
	if length == 0 {
		f.Length = lengthUsual
	}
	switch {
	case of != "" && of != "digits" && of != "letters":
		return f, fault.Because(ErrForm, "%q: accepted are digits and letters", of)
	case f.Length < LengthLeast || f.Length > LengthMost:
		return f, fault.Because(ErrForm, "a length of %d: accepted is %d to %d", length, LengthLeast, LengthMost)
	}
	return f, nil
}

// String names what codes are made of.
func (f Form) String() string {
	if f.Letters {
		return "letters"
	}
	return "digits"
}

// size is how many characters a code has.
func (f Form) size() int {
	if f.Length == 0 {
		return lengthUsual
	}
	return f.Length
}

// Draw draws a code. Each is as likely as any other: an octet that would favour some digits is thrown away.
func Draw(random io.Reader, f Form) (string, error) {
	code := make([]byte, 0, f.size())
	for octet := make([]byte, 1); len(code) < f.size(); {
		if _, err := io.ReadFull(random, octet); err != nil {
			return "", fmt.Errorf("drawing a code: %w", err)
		}
		switch {
		case f.Letters:
			code = append(code, Letters[octet[0]&15])
		case octet[0] < 250:
			code = append(code, '0'+octet[0]%10)
		}
	}
	return string(code), nil
}

// readAs are digits that people type for the letter that they look like.
var readAs = map[rune]rune{'8': 'B', '2': 'Z'}

// Read is a code as somebody typed it: spaces, dashes, dots and what cannot be seen are passed over, digits of every
// script and full width are digits, and the letters of a code are capitals. What is longer than any code is cut.
func Read(typed string, f Form) string {
	var code strings.Builder
	n := 0
	for _, r := range typed {
		if n++; n > typedMost {
			break
		}
		if unicode.IsSpace(r) || unicode.In(r, unicode.Pd, unicode.Cf, unicode.Mn) || strings.ContainsRune(".,·_/\u2212", r) {
			continue
		}
		if folded := width.LookupRune(r).Folded(); folded != 0 {
			r = folded
		}
		if d, is := digit(r); is {
			r = '0' + d
		}
		if f.Letters {
			r = unicode.ToUpper(r)
			if letter, is := readAs[r]; is {
				r = letter
			}
		}
		code.WriteRune(r)
	}
	return code.String()
}

// digit is the value of a decimal digit of any script: those of a script stand in a row, and rows that touch each other
// begin ten apart.
func digit(r rune) (rune, bool) {
	if !unicode.IsDigit(r) {
		return 0, false
	}
	first := r
	for unicode.IsDigit(first - 1) {
		first--
	}
	return (r - first) % 10, true
}
