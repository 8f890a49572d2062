package batch

import (
	"encoding/binary"
	"errors"
	"slices"

	"calmpigeon.example/internal/core/sheet"
)

// ErrPack is returned for octets that are no pack, or one of a later version.
var ErrPack = errors.New("not a pack of rows that can be read")

// packForm is the form in which packs are kept, and the first octet of each.
const packForm = 1

// AppendRows writes rows as they are kept.
func AppendRows(b []byte, rows []sheet.Row) []byte {
	w := writer{b: append(b, packForm)}
	w.number(uint64(len(rows)))
	for _, r := range rows {
		w.number(uint64(r.Line))
		w.word(r.Wrong)
		w.number(uint64(len(r.Cells)))
		for _, c := range r.Cells {
			w.word(c)
		}
	}
	return w.b
}

// ReadRows reads what AppendRows wrote. The first has the number first.
func ReadRows(b []byte, first int) ([]sheet.Row, error) {
	r := reader{b: b}
	if r.octet() != packForm {
		return nil, ErrPack
	}
	rows := make([]sheet.Row, r.number(PackRows))
	for i := range rows {
		rows[i] = sheet.Row{N: first + i, Line: r.number(1 << 40), Wrong: r.word()}
		rows[i].Cells = make([]string, r.number(1<<16))
		for c := range rows[i].Cells {
			rows[i].Cells[c] = r.word()
		}
		if r.bad {
			return nil, ErrPack
		}
	}
	if r.bad || len(r.b) > 0 {
		return nil, ErrPack
	}
	return rows, nil
}

// Same reports whether two rows say the same.
func Same(a, b sheet.Row) bool {
	return a.Wrong == b.Wrong && slices.Equal(trimmed(a.Cells), trimmed(b.Cells))
}

// trimmed are cells without those that are empty at the end: a list may have got more
// columns since.
func trimmed(cells []string) []string {
	for len(cells) > 0 && cells[len(cells)-1] == "" {
		cells = cells[:len(cells)-1]
	}
	return cells
}

// writer appends numbers and words.
type writer struct{ b []byte }

func (w *writer) number(n uint64) { w.b = binary.AppendUvarint(w.b, n) }

func (w *writer) word(s string) {
	w.number(uint64(len(s)))
	w.b = append(w.b, s...)
}

// reader reads them, and remembers that one was bad.
type reader struct {
	b   []byte
	bad bool
}

func (r *reader) take(n int) []byte {
	if r.bad || n > len(r.b) {
		r.bad = true
		return nil
	}
	taken := r.b[:n]
	r.b = r.b[n:]
	return taken
}

func (r *reader) octet() byte {
	if one := r.take(1); one != nil {
		return one[0]
	}
	return 0
}

func (r *reader) big() uint64 {
	v, n := binary.Uvarint(r.b)
	if r.take(max(n, 1)); n <= 0 {
		r.bad = true
		return 0
	}
	return v
}

func (r *reader) number(most int) int {
	v := r.big()
	if v > uint64(most) {
		r.bad = true
		return 0
	}
	return int(v)
}

func (r *reader) word() string { return string(r.take(r.number(len(r.b)))) }
