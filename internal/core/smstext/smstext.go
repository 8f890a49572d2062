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
	// Segments is how many segments the text is sent in.
	Segments int
}

// Weigh chooses the encoding that costs less, and counts units and segments.
// It allocates nothing. Errors wrap [ErrEmpty], [ErrTooLong] or [ErrInvalid].
func Weigh(text string) (Weight, error) {
	if text == "" {
		return Weight{}, fmt.Errorf("%w: at least one character is needed", ErrEmpty)
	}
	w := Weight{Encoding: GSM7, Segments: 1}
	wide, gsm := 0, true
	for i := 0; i < len(text); {
		r, size := rune(text[i]), 1
		if r >= utf8.RuneSelf {
			r, size = utf8.DecodeRuneInString(text[i:])
			if r == utf8.RuneError && size == 1 {
				return Weight{}, fmt.Errorf("%w: byte %d is not UTF-8", ErrInvalid, i)
			}
		} else if r == 0 {
			return Weight{}, fmt.Errorf("%w: U+0000 at byte %d", ErrInvalid, i)
		}
		n := septets(r)
		gsm = gsm && n > 0
		w.Units += n
		wide += utf16Units(r)
		i += size
	}
	if !gsm {
		w.Encoding, w.Units = UCS2, wide
	}
	if alone, _ := w.Encoding.room(); w.Units <= alone {
		return w, nil
	}
	w.Segments = 0
	for at := 0; at < len(text); at = w.Encoding.segmentEnd(text, at) {
		w.Segments++
	}
	if w.Segments > MaxSegments {
		return Weight{}, fmt.Errorf("%w: %d segments, at most %d", ErrTooLong, w.Segments, MaxSegments)
	}
	return w, nil
}

// Cuts lists the byte offsets at which the segments of a text end; the last is
// the length of the text. The weight is that of the text.
func (w Weight) Cuts(text string) []int {
	if w.Segments == 1 {
		return []int{len(text)}
	}
	cuts := make([]int, 0, w.Segments)
	for at := 0; at < len(text); {
		at = w.Encoding.segmentEnd(text, at)
		cuts = append(cuts, at)
	}
	return cuts
}

// segmentEnd is where the segment of a long text that starts at a byte offset
// ends. Segments are filled greedily: never is an escape cut from the septet
// after it, nor a surrogate pair in two.
func (e Encoding) segmentEnd(text string, start int) int {
	_, room := e.room()
	for i, r := range text[start:] {
		n := utf16Units(r)
		if e == GSM7 {
			n = septets(r)
		}
		if room -= n; room < 0 {
			return start + i
		}
	}
	return len(text)
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
