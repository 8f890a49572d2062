// Package octets reads numbers and words that were kept one after the other, as
// encoding/binary writes them. What comes from outside may be anything: a reader never
// goes past its end, bounds what it is asked for, and remembers that something was bad.
package octets

import "encoding/binary"

// Reader reads from octets. What is bad reads as nothing.
type Reader struct {
	b   []byte
	bad bool
}

// NewReader reads b.
func NewReader(b []byte) *Reader { return &Reader{b: b} }

// Bad reports whether anything was not as it was expected.
func (r *Reader) Bad() bool { return r.bad }

// Whole reports whether all was read, and nothing was bad.
func (r *Reader) Whole() bool { return !r.bad && len(r.b) == 0 }

// Fail notes that something was bad.
func (r *Reader) Fail() { r.bad = true }

// Take reads n octets; nil if there are not so many.
func (r *Reader) Take(n int) []byte {
	if r.bad || n > len(r.b) {
		r.bad = true
		return nil
	}
	taken := r.b[:n]
	r.b = r.b[n:]
	return taken
}

// Octet reads one octet.
func (r *Reader) Octet() byte {
	if one := r.Take(1); one != nil {
		return one[0]
	}
	return 0
}

// Uint reads an unsigned number.
func (r *Reader) Uint() uint64 {
	v, n := binary.Uvarint(r.b)
	if r.Take(max(n, 1)); n <= 0 {
		r.bad = true
		return 0
	}
	return v
}

// Number reads a number from 0 to most.
func (r *Reader) Number(most int) int {
	v := r.Uint()
	if v > uint64(most) { // #nosec G115 -- a bound is not negative
		r.bad = true
		return 0
	}
	return int(v)
}

// Signed reads a number that may be negative.
func (r *Reader) Signed() int64 {
	v, n := binary.Varint(r.b)
	if r.Take(max(n, 1)); n <= 0 {
		r.bad = true
	}
	return v
}

// Word reads a word and its length before it.
func (r *Reader) Word() string { return string(r.Take(r.Number(len(r.b)))) }

// One reads the place of a word in a list, and returns that word.
func One[T any](r *Reader, list []T) (v T) {
	i := int(r.Octet())
	if i >= len(list) {
		r.bad = true
		return v
	}
	return list[i]
}

// AppendWord writes a word as [Reader.Word] reads it.
func AppendWord(b []byte, s string) []byte {
	return append(binary.AppendUvarint(b, uint64(len(s))), s...)
}
