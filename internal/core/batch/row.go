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

// packForm is the form in which packs of checks are kept, and the first octet of each.
const packForm = 1

// The forms in which packs of rows are kept. The first had nothing of what workbooks hold.
const (
	cellsForm = 1
	heldForm  = 2
)

// AppendRows writes rows as they are kept.
func AppendRows(b []byte, rows []sheet.Row) []byte {
	w := writer{b: append(b, heldForm)}
	var formats []string // each once
	places := map[string]uint64{}
	for i := range rows {
		for _, held := range rows[i].Held {
			if _, ok := places[held.Format]; !ok {
				places[held.Format] = uint64(len(formats))
				formats = append(formats, held.Format)
			}
		}
	}
	w.number(uint64(len(formats)))
	for _, format := range formats {
		w.word(format)
	}
	w.number(uint64(len(rows)))
	for _, r := range rows {
		w.number(uint64(r.Line))
		w.word(r.Wrong)
		w.number(uint64(len(r.Cells)))
		for _, c := range r.Cells {
			w.word(c)
		}
		w.number(uint64(len(r.Held)))
		for i, held := range r.Held {
			w.number(places[held.Format])
			if i < len(r.Cells) && held.Value == r.Cells[i] {
				w.number(1)
				continue
			}
			w.number(0)
			w.word(held.Value)
		}
	}
	return w.b
}

// ReadRows reads what AppendRows wrote. The first has the number first.
func ReadRows(b []byte, first int) ([]sheet.Row, error) {
	r := octets.NewReader(b)
	form := r.Octet()
	if form != cellsForm && form != heldForm {
		return nil, ErrPack
	}
	var formats []string
	if form == heldForm {
		formats = make([]string, r.Number(1<<18))
		for i := range formats {
			if formats[i] = r.Word(); r.Bad() {
				return nil, ErrPack
			}
		}
	}
	rows := make([]sheet.Row, r.Number(PackRows))
	for i := range rows {
		rows[i] = sheet.Row{N: first + i, Line: r.Number(1 << 40), Wrong: r.Word()}
		rows[i].Cells = make([]string, r.Number(1<<16))
		for c := range rows[i].Cells {
			rows[i].Cells[c] = r.Word()
		}
		if form == heldForm {
			readHeld(r, &rows[i], formats)
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

// readHeld reads what a workbook holds in the cells of a row.
func readHeld(r *octets.Reader, row *sheet.Row, formats []string) {
	n := r.Number(len(row.Cells))
	if n == 0 {
		return
	}
	row.Held = make([]sheet.Held, n)
	for i := range row.Held {
		at := r.Number(max(len(formats)-1, 0))
		if r.Bad() || at >= len(formats) {
			r.Fail()
			return
		}
		row.Held[i].Format = formats[at]
		if row.Held[i].Value = row.Cells[i]; r.Number(1) == 0 {
			row.Held[i].Value = r.Word()
		}
	}
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
