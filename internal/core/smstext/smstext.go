// Package smstext knows how a text travels in SMS: which alphabet it needs,
// how many units it takes, where it is cut into segments, which characters are
// to blame for its cost, and how it is written for gateways.
//
//	w, err := smstext.Weigh("Crossing 0740 now leaves from berth 3")
//	// w.Encoding == smstext.GSM7, w.Units == 37, w.Segments == 1
//
// One SMS carries 140 octets: 160 septets of the GSM 7-bit default alphabet or
// 70 UTF-16 code units (3GPP TS 23.038). A longer text is sent as segments
// that each lose octets to a header which says how to join them: 6 with a
// reference of 8 bits, 7 with one of 16 bits, and 3 more for each national
// language table (3GPP TS 23.040 §9.2.3.24).
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
	ErrEmpty    = errors.New("the text is empty")
	ErrTooLong  = errors.New("the text is too long")
	ErrInvalid  = errors.New("the text holds what no handset can show")
	ErrAlphabet = errors.New("the text does not fit the alphabet")
)

// Options say how a text is to travel. The zero value chooses what costs least
// and needs nothing special of the gateway.
type Options struct {
	// Encoding forces an encoding; empty chooses.
	Encoding Encoding
	// WideReference numbers long texts with 16 bits instead of 8.
	WideReference bool
	// Languages allows the tables of languages, for gateways that accept them.
	// They are used where they save a segment: handsets that do not know them
	// show other characters.
	Languages []Language
}

// Weight is what a text costs to send.
type Weight struct {
	Encoding Encoding
	// Units is the length of the text without headers.
	Units int
	// Segments is how many segments the text is sent in.
	Segments int
	// Alphabet is the alphabet in GSM7.
	Alphabet Alphabet

	wide bool // 16-bit reference
}

// Weigh chooses the encoding that costs less, and counts units and segments.
// It allocates nothing. Errors wrap [ErrEmpty], [ErrTooLong] or [ErrInvalid];
// the weight is counted as far as it can be.
func Weigh(text string) (Weight, error) { return Options{}.Weigh(text) }

// Weigh is [Weigh] with options. A text that a forced encoding cannot carry
// gives an error that wraps [ErrAlphabet].
func (o Options) Weigh(text string) (Weight, error) {
	w := Weight{Encoding: GSM7, wide: o.WideReference}
	if text == "" {
		if o.Encoding != "" {
			w.Encoding = o.Encoding
		}
		return w, fmt.Errorf("%w: at least one character is needed", ErrEmpty)
	}
	c := defaults.count(text)
	if c.bad >= 0 && text[c.bad] != 0 {
		return w, fmt.Errorf("%w: byte %d is not UTF-8", ErrInvalid, c.bad)
	}
	if c.strange >= 0 || o.Encoding == UCS2 {
		w.Encoding = UCS2
	}
	w.settle(text, c)
	if o.Encoding != UCS2 && (c.strange >= 0 || w.Segments > 1) {
		for _, language := range o.Languages {
			for _, a := range national[language] {
				with := Weight{Encoding: GSM7, Alphabet: a, wide: o.WideReference}
				n := a.table().count(text)
				if n.strange >= 0 {
					continue
				}
				if with.settle(text, n); with.Segments < w.Segments || w.Encoding == UCS2 && o.Encoding == GSM7 {
					w, c = with, n
				}
			}
		}
	}
	switch {
	case c.bad >= 0:
		return w, fmt.Errorf("%w: U+0000 at byte %d", ErrInvalid, c.bad)
	case o.Encoding == GSM7 && w.Encoding != GSM7:
		r, _ := utf8.DecodeRuneInString(text[c.strange:])
		return w, fmt.Errorf("%w: %q (U+%04X) at byte %d is not in the GSM 7-bit alphabet", ErrAlphabet, r, r, c.strange)
	case w.Segments > MaxSegments:
		return w, fmt.Errorf("%w: %d segments, at most %d", ErrTooLong, w.Segments, MaxSegments)
	}
	return w, nil
}

// count is what one pass over a text finds.
type count struct {
	septets, units   int  // in the alphabet of the table, in UTF-16
	escapes, doubles bool // some take two septets, some two units
	strange          int  // where the first character outside the alphabet stands; -1
	bad              int  // where the first stands that no text may hold; -1
}

func (t *table) count(text string) count {
	c := count{strange: -1, bad: -1}
	var twice uint8
	for i := 0; i < len(text); {
		// Most of a text is ASCII: a byte, a unit, one look.
		start := i
		for i < len(text) && text[i] < utf8.RuneSelf {
			n := t.cost[text[i]]
			if n == 0 {
				if c.strange < 0 {
					c.strange = i
				}
				if text[i] == 0 && c.bad < 0 {
					c.bad = i
				}
			}
			twice |= n
			c.septets += int(n)
			i++
		}
		c.units += i - start
		if i == len(text) {
			break
		}
		r, size := utf8.DecodeRuneInString(text[i:])
		if r == utf8.RuneError && size == 1 {
			c.bad = i
			return c
		}
		if r > 0xFFFF {
			c.doubles = true
			c.units++
		}
		n := t.septets(r)
		if n == 0 && c.strange < 0 {
			c.strange = i
		}
		twice |= uint8(n)
		c.septets += n
		c.units++
		i += size
	}
	c.escapes = twice&2 != 0
	return c
}

// settle fills in units and segments from what was counted.
func (w *Weight) settle(text string, c count) {
	w.Units, w.Segments = c.septets, 1
	uneven := c.escapes
	if w.Encoding == UCS2 {
		w.Units, uneven = c.units, c.doubles
	}
	alone, joined := w.rooms()
	switch {
	case w.Units <= alone:
	case !uneven: // every segment is full to the last unit
		w.Segments = (w.Units + joined - 1) / joined
	default:
		w.Segments = 0
		for at := 0; at < len(text); at = w.segmentEnd(text, at) {
			w.Segments++
		}
	}
}

// rooms is how many units fit into a message that is alone, and into a segment
// of many.
func (w Weight) rooms() (alone, joined int) {
	const octets = 140
	tables := 3 * w.Alphabet.tables()
	reference := 5
	if w.wide {
		reference = 6
	}
	fit := func(header int) int {
		if header > 0 {
			header++ // its own length
		}
		if w.Encoding == UCS2 {
			return (octets - header) / 2
		}
		return (octets - header) * 8 / 7
	}
	return fit(tables), fit(tables + reference)
}

// Room is how many units each segment of the text can hold.
func (w Weight) Room() int {
	alone, joined := w.rooms()
	if w.Segments > 1 {
		return joined
	}
	return alone
}

// Cuts lists the byte offsets at which the segments of a text end; the last is
// the length of the text. The weight is that of the text.
func (w Weight) Cuts(text string) []int {
	if w.Segments <= 1 {
		return []int{len(text)}
	}
	cuts := make([]int, 0, w.Segments)
	for at := 0; at < len(text); {
		at = w.segmentEnd(text, at)
		cuts = append(cuts, at)
	}
	return cuts
}

// Measure counts the units of a part of a text of this weight, such as the
// part between two cuts.
func (w Weight) Measure(part string) (units int) {
	t := w.Alphabet.table()
	for _, r := range part {
		units += w.unitsOf(t, r)
	}
	return units
}

func (w Weight) unitsOf(t *table, r rune) int {
	switch {
	case w.Encoding == GSM7:
		return t.septets(r)
	case r > 0xFFFF:
		return 2
	}
	return 1
}

// segmentEnd is where the segment of a long text that starts at a byte offset
// ends. Segments are filled greedily: never is an escape cut from the septet
// after it, nor a surrogate pair in two.
func (w Weight) segmentEnd(text string, start int) int {
	_, room := w.rooms()
	t := w.Alphabet.table()
	for i, r := range text[start:] {
		if room -= w.unitsOf(t, r); room < 0 {
			return start + i
		}
	}
	return len(text)
}
