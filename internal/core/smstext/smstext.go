// Package smstext knows how a text travels in SMS: which alphabet it needs,
// how many units it takes and where it is cut into segments.
//
// One SMS carries 140 octets: 160 septets of the GSM 7-bit default alphabet or
// 70 UTF-16 code units (3GPP TS 23.038). A longer text is sent as segments
// that each lose 6 octets to a header which says how to join them, leaving 153
// septets or 67 units (3GPP TS 23.040 §9.2.3.24.1, 8-bit reference).
package smstext

import (
	"errors"
	"fmt"
	"unicode/utf8"
)

// Encoding is the alphabet a text is sent in.
type Encoding string

// The encodings. Units are septets in GSM7 and UTF-16 code units in UCS2.
const (
	GSM7 Encoding = "gsm7"
	UCS2 Encoding = "ucs2"
)

// MaxSegments is how many segments the concatenation header can count
// (3GPP TS 23.040 §9.2.3.24.1).
const MaxSegments = 255

// Errors of [Weigh].
var (
	ErrEmpty   = errors.New("the text is empty")
	ErrTooLong = errors.New("the text is too long")
	ErrInvalid = errors.New("the text holds what no handset can show")
)

// room is what fits into a message that is alone and into a segment of many.
func (e Encoding) room() (alone, joined int) {
	if e == GSM7 {
		return 160, 153
	}
	return 70, 67
}

// Weight is what a text costs to send.
type Weight struct {
	Encoding Encoding
	// Units is the length of the text without headers.
	Units int
	// Cuts are the byte offsets at which the segments end; the last is the
	// length of the text.
	Cuts []int
}

// Segments is how many segments the text is sent in.
func (w Weight) Segments() int { return len(w.Cuts) }

// Weigh chooses the encoding that costs less, and cuts the text into segments
// greedily: never between an escape and the septet after it, nor within a
// surrogate pair. Errors wrap [ErrEmpty], [ErrTooLong] or [ErrInvalid].
func Weigh(text string) (Weight, error) {
	if text == "" {
		return Weight{}, fmt.Errorf("%w: at least one character is needed", ErrEmpty)
	}
	w := Weight{Encoding: GSM7}
	for i, r := range text {
		if r == 0 {
			return Weight{}, fmt.Errorf("%w: U+0000 at byte %d", ErrInvalid, i)
		}
		if r == utf8.RuneError {
			if _, size := utf8.DecodeRuneInString(text[i:]); size == 1 {
				return Weight{}, fmt.Errorf("%w: byte %d is not UTF-8", ErrInvalid, i)
			}
		}
		if septets(r) == 0 {
			w.Encoding = UCS2
		}
	}
	cost := septets
	if w.Encoding == UCS2 {
		cost = utf16Units
	}
	for _, r := range text {
		w.Units += cost(r)
	}
	alone, joined := w.Encoding.room()
	if w.Units <= alone {
		w.Cuts = []int{len(text)}
		return w, nil
	}
	used := 0
	for i, r := range text {
		if used+cost(r) > joined {
			w.Cuts = append(w.Cuts, i)
			used = 0
		}
		used += cost(r)
	}
	w.Cuts = append(w.Cuts, len(text))
	if len(w.Cuts) > MaxSegments {
		return Weight{}, fmt.Errorf("%w: %d segments, at most %d", ErrTooLong, len(w.Cuts), MaxSegments)
	}
	return w, nil
}

func utf16Units(r rune) int {
	if r > 0xFFFF {
		return 2
	}
	return 1
}

// InGSM7 reports whether the character stands in the GSM 7-bit default
// alphabet itself, without an escape (TS 23.038 §6.2.1).
func InGSM7(r rune) bool { return septets(r) == 1 }
