package batch

import (
	"encoding/binary"
	"errors"
	"slices"

	"calmpigeon.example/internal/core/octets"
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
	r := octets.NewReader(b)
	if r.Octet() != packForm {
		return nil, ErrPack
	}
	rows := make([]sheet.Row, r.Number(PackRows))
	for i := range rows {
		rows[i] = sheet.Row{N: first + i, Line: r.Number(1 << 40), Wrong: r.Word()}
		rows[i].Cells = make([]string, r.Number(1<<16))
		for c := range rows[i].Cells {
			rows[i].Cells[c] = r.Word()
		}
		if r.Bad() {
			return nil, ErrPack
		}
	}
	if !r.Whole() {
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
	w.b = octets.AppendWord(w.b, s)
}
