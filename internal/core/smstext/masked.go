package smstext

import (
	"strings"
	"unicode"
)

// Masked is a text with its letters and digits masked, and its shape, punctuation
// and encoding kept: what it cost can be seen, what it said cannot. An asterisk is
// in the default alphabet, a bullet is not.
func Masked(text string, encoding Encoding) string {
	mask := '*'
	if encoding == UCS2 {
		mask = '•'
	}
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) || unicode.IsNumber(r) || unicode.IsMark(r) {
			return mask
		}
		return r
	}, text)
}
