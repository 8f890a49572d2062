package batch

import (
	"cmp"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
)

// Reach is what a batch sends to whom: of each row that goes a fingerprint of number and final text, and the row. It takes
// some sixteen octets a row. The zero value is empty.
type Reach struct {
	entries []reached
	sorted  bool
}

type reached struct {
	print uint64
	row   uint32
}

// ReachParts is in how many parts a reach is kept: a fingerprint tells by its first octet in which.
const ReachParts = 256

// Fingerprint is that of a number, in E.164, and of the text that it gets. Of a million of them two are the same about once in
// 37 million cases.
func Fingerprint(to, text string) uint64 {
	sum := sha256.Sum256([]byte(to + "\x00" + text))
	return binary.BigEndian.Uint64(sum[:8])
}

// NewReach makes one with room for so many rows.
func NewReach(rows int) *Reach { return &Reach{entries: make([]reached, 0, rows)} }

// Add adds a row, 1 first.
func (r *Reach) Add(print uint64, row int) {
	r.entries = append(r.entries, reached{print, uint32(row)}) // #nosec G115 -- at most RowsMost
	r.sorted = false
}

// Len is how many rows there are.
func (r *Reach) Len() int { return len(r.entries) }

func (r *Reach) sort() {
	if !r.sorted {
		slices.SortFunc(r.entries, func(a, b reached) int { return cmp.Or(cmp.Compare(a.print, b.print), cmp.Compare(a.row, b.row)) })
		r.sorted = true
	}
}

// part is the entries of one part, 0 to 255.
func (r *Reach) part(n int) []reached {
	r.sort()
	first := func(n int) int {
		if n == ReachParts {
			return len(r.entries)
		}
		at, _ := slices.BinarySearchFunc(r.entries, uint64(n)<<56, func(e reached, from uint64) int { return cmp.Compare(e.print, from) })
		return at
	}
	return r.entries[first(n):first(n+1)]
}

// AppendPart appends a part as it is kept: how far each fingerprint is from the one before, and its row. Nothing is appended
// for an empty one.
func (r *Reach) AppendPart(to []byte, n int) []byte {
	before := uint64(n) << 56
	for _, e := range r.part(n) {
		to = binary.AppendUvarint(to, e.print-before)
		to = binary.AppendUvarint(to, uint64(e.row))
		before = e.print
	}
	return to
}

// PartLen is how many rows are in a part.
func (r *Reach) PartLen(n int) int { return len(r.part(n)) }

// Read adds a part as it is kept.
func (r *Reach) Read(n int, part []byte) error {
	return eachOf(n, part, func(print uint64, row int) { r.Add(print, row) })
}

// eachOf calls do for each entry of a part as it is kept.
func eachOf(n int, part []byte, do func(print uint64, row int)) error {
	at := uint64(n) << 56
	for len(part) > 0 {
		step, k := binary.Uvarint(part)
		if k <= 0 {
			return fmt.Errorf("%w: part %d", ErrReach, n)
		}
		row, l := binary.Uvarint(part[k:])
		if l <= 0 || row > RowsMost {
			return fmt.Errorf("%w: part %d", ErrReach, n)
		}
		part, at = part[k+l:], at+step
		do(at, int(row)) // #nosec G115 -- at most RowsMost
	}
	return nil
}

// ErrReach is wrapped by errors of parts that cannot be read.
var ErrReach = errors.New("not a part of what a batch sends")

// Common calls do for each row of this batch whose number gets the same text by a part of another one, with both rows.
func (r *Reach) Common(n int, part []byte, do func(own, other int)) error {
	mine := r.part(n)
	return eachOf(n, part, func(print uint64, row int) {
		for len(mine) > 0 && mine[0].print < print {
			mine = mine[1:]
		}
		for i := 0; i < len(mine) && mine[i].print == print; i++ {
			do(int(mine[i].row), row)
		}
	})
}
