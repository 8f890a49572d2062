package batches

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/sheet"
	"calmpigeon.example/internal/store"
)

// groupPacks is how many packs are written at once.
const groupPacks = 8

// Appended is what came of rows that were appended.
type Appended struct {
	Rows    int // that the batch holds now
	Already int // of those that came it held before
	Mended  int // octets that were no UTF-8 and were read as windows-1252
}

// Append reads a list and adds its rows. at is the number of rows that stand before the
// first of them, -1: all that the batch holds. Rows that it holds already are held against
// those that come and passed over, so an upload that broke off is simply repeated. What
// was kept before an error stays.
func (b *Batches) Append(ctx context.Context, id uuid.UUID, in io.Reader, hint sheet.Hint, file string, at int) (Appended, error) {
	defer beFrugal()()
	one, err := b.Store.Batch(ctx, id)
	if err != nil {
		return Appended{}, err
	}
	if one.State != batch.Open {
		return Appended{}, notNow(&one, "it takes rows while it is open")
	}
	done := Appended{Rows: one.Rows}
	if at < 0 {
		at = one.Rows
	}
	if at > one.Rows {
		return done, tooFar(at, one.Rows)
	}
	whole := at == 0 && (one.Rows == 0 || one.Found.File == file) // then the file is all that the batch is made of
	hint.Country = one.Wants.Country
	list, err := b.Sheets.Open(ctx, in, hint)
	if err != nil {
		return done, sheet.Fault(err)
	}
	defer list.Close()
	if resulting(list) {
		list.Ours()
	}
	columns := list.Columns(one.Wants.Country)
	if one.Found.Columns == nil {
		one.Found = foundOf(list, file)
	}
	place := recognise(&one.Found, columns)
	w := &appending{b: b, one: &one, at: at}
	if err := w.begin(ctx); err != nil {
		return done, err
	}
	for row, err := range list.Rows() {
		if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return w.done(list.Mended), errors.Join(sheet.Fault(err), w.flush(ctx, true))
		}
		row.Cells, row.Held = placed(row.Cells, place, len(one.Found.Columns)), placed(row.Held, place, len(one.Found.Columns))
		if err := w.add(ctx, row); err != nil {
			return w.done(list.Mended), err
		}
	}
	if err = w.flush(ctx, true); err != nil {
		return w.done(list.Mended), err
	}
	if whole && w.at == w.before && list.Packed != nil {
		err = b.Store.PutFile(ctx, id, list.Packed)
	} else if w.before > w.one.Rows {
		err = b.Store.DropFile(ctx, id)
	}
	return w.done(list.Mended), err
}

// resulting reports whether a list is a result sheet.
func resulting(list *sheet.List) bool {
	return slices.ContainsFunc(list.Head(), func(head string) bool { return strings.HasPrefix(head, ours) })
}

// foundOf is what was recognised of a list, but for its columns.
func foundOf(list *sheet.List, file string) batch.Found {
	found := batch.Found{File: file, Said: list.Found.String(), Format: string(list.Format), Encoding: list.Encoding,
		Mark: list.Mark, NoHead: !list.Found.Head, Sheet: list.Sheet, HeadLine: list.HeadLine,
		Locale: list.Locale}
	if list.Delimiter != 0 {
		found.Comma = string(list.Delimiter)
	}
	return found
}

// recognise adds columns to those that a batch has, and returns where they stand among them; -1
// for those that a result sheet has from us, whose ids and words are nobody's text.
func recognise(found *batch.Found, columns []sheet.Column) []int {
	place := make([]int, len(columns))
	for i, c := range columns {
		if strings.HasPrefix(c.Head, ours) {
			place[i] = -1
			continue
		}
		at := slices.IndexFunc(found.Columns, func(k batch.Column) bool { return k.Head == c.Head })
		if at < 0 {
			role := c.Role
			if slices.ContainsFunc(found.Columns, func(k batch.Column) bool { return k.Role == role }) {
				role = ""
			}
			at = len(found.Columns)
			found.Columns = append(found.Columns, batch.Column{Head: c.Head, Role: role, Field: c.Field, Why: c.Why})
		}
		place[i] = at
	}
	return place
}

// placed puts cells where their columns stand.
func placed[T any](cells []T, place []int, columns int) []T {
	in := true
	for i := range cells {
		in = in && i < len(place) && place[i] == i
	}
	if in {
		return cells
	}
	all := make([]T, columns)
	for i, c := range cells {
		if i < len(place) && place[i] >= 0 {
			all[place[i]] = c
		}
	}
	return all
}

// appending is rows on their way into packs.
type appending struct {
	b       *Batches
	one     *store.Batch
	at      int // rows that stand before the next
	already int

	held   []sheet.Row // of the pack that at lies in, as it is kept
	full   []store.BatchPack
	fresh  int         // rows in the packs that are not written yet
	rows   []sheet.Row // of the pack that is filled
	before int         // rows that are kept
}

// begin reads the pack that the first row lies in.
func (w *appending) begin(ctx context.Context) error {
	w.before = w.one.Rows
	return w.load(ctx)
}

// load reads what the batch holds of the pack in which the next row lies.
func (w *appending) load(ctx context.Context) error {
	n := w.at / batch.PackRows
	w.held, w.rows = nil, nil
	if n*batch.PackRows >= w.before {
		return nil
	}
	packs, err := w.b.Store.BatchPacks(ctx, w.one.ID, n, 1, true, false)
	if err != nil || len(packs) == 0 {
		return err
	}
	if w.held, err = batch.ReadRows(packs[0].Body, n*batch.PackRows+1); err != nil {
		return err
	}
	w.rows = slices.Clone(w.held[:w.at%batch.PackRows])
	return nil
}

// add adds one row, or passes it over if it is there.
func (w *appending) add(ctx context.Context, row sheet.Row) error {
	if w.at >= batch.RowsMost {
		return fault.New("rows", fmt.Sprintf("there are more than %d", batch.RowsMost), "lists of at most so many rows")
	}
	i := w.at % batch.PackRows
	row.N = w.at + 1
	if i < len(w.held) {
		if !batch.Same(w.held[i], row) {
			return fault.New("rows", fmt.Sprintf("row %d differs from the one that is there", row.N),
				"the list as it came first, or rows after those that there are")
		}
		w.already++
		row = w.held[i]
	}
	w.rows = append(w.rows, row)
	w.at++
	if len(w.rows) < batch.PackRows {
		return nil
	}
	w.close()
	if w.at < w.before {
		return w.load(ctx)
	}
	w.held, w.rows = nil, nil
	if len(w.full) == groupPacks {
		return w.flush(ctx, false)
	}
	return nil
}

// close makes the pack that is filled ready to be written, if there is anything new in it.
func (w *appending) close() {
	if len(w.rows) <= len(w.held) {
		return
	}
	w.fresh += len(w.rows) - len(w.held)
	n := (w.at - 1) / batch.PackRows
	w.full = append(w.full, store.BatchPack{N: n, Rows: len(w.rows), Body: store.Compress(batch.AppendRows(nil, w.rows))})
}

// flush writes packs; at the end also the one that is not full.
func (w *appending) flush(ctx context.Context, end bool) error {
	if end && len(w.rows) > 0 && len(w.rows) < batch.PackRows {
		w.close()
	}
	if len(w.full) == 0 {
		return nil
	}
	ctx = context.WithoutCancel(ctx) // what was read is kept
	err := w.b.Store.PutPacks(ctx, w.one.ID, w.b.Now(), w.before, w.before+w.fresh, w.one.Found, w.full)
	if errors.Is(err, store.ErrChanged) {
		return fault.Because(store.ErrNotNow, "rows were added from elsewhere meanwhile; repeat it to add what is missing")
	}
	if err == nil {
		w.before, w.fresh, w.full = w.before+w.fresh, 0, nil
	}
	return err
}

func (w *appending) done(mended int) Appended {
	return Appended{Rows: cmp.Or(w.before, w.one.Rows), Already: w.already, Mended: mended}
}
