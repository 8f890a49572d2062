package batches

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/sheet"
	"calmpigeon.example/internal/store"
)

// rowHead is the column of a result sheet that names its row, by which a row that was
// corrected finds back.
const rowHead = "row"

// Correct puts rows back that were left out and have been corrected: a sheet as
// [WriteResult] gives it, with the number of each row. All of them or none; what goes as it
// is cannot be changed. The batch is to be rehearsed anew.
func (b *Batches) Correct(ctx context.Context, id uuid.UUID, in io.Reader, hint sheet.Hint) (rows int, err error) {
	defer beFrugal()()
	one, err := b.Store.Batch(ctx, id)
	if err != nil {
		return 0, err
	}
	if one.State != batch.Rehearsed {
		return 0, notNow(&one, "rows are corrected once it is rehearsed, and before it is launched")
	}
	if hint.Country = one.Wants.Country; hint.Locale == "" {
		hint.Locale = one.Found.Locale
	}
	list, err := b.Sheets.Open(ctx, in, hint)
	if err != nil {
		return 0, sheet.Fault(err)
	}
	defer list.Close()
	list.Ours()
	c := correcting{b: b, one: &one, packs: map[int]*corrected{}, number: -1}
	if err := c.recognise(list.Columns(one.Wants.Country)); err != nil {
		return 0, err
	}
	for row, err := range list.Rows() {
		if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return 0, sheet.Fault(err)
		}
		if err := c.put(ctx, row); err != nil {
			return 0, err
		}
	}
	packs, err := c.written()
	if err != nil {
		return 0, err
	}
	_, err = b.Store.ChangeBatch(ctx, id, b.Now(), func(s *store.Store, is *store.Batch) error {
		if is.State != batch.Rehearsed || !is.RehearsedAt.Equal(*one.RehearsedAt) {
			return notNow(is, "it was changed meanwhile; take the sheet of what is left out anew")
		}
		is.State, is.Totals, is.RehearsedAt = batch.Open, nil, nil
		return errors.Join(s.ReplacePacks(ctx, id, packs), s.DropFile(ctx, id))
	})
	return c.rows, err
}

// correcting is rows on their way back into their packs.
type correcting struct {
	b      *Batches
	one    *store.Batch
	number int   // the column of the row's number
	place  []int // of each column of the sheet, that of the batch; -1: it is ours
	packs  map[int]*corrected
	open   *corrected // the one that the last row was in
	rows   int
}

// corrected is a pack of which rows were corrected.
type corrected struct {
	n      int
	body   []byte // compressed, while it is not open
	rows   []sheet.Row
	checks []batch.Check
	done   map[int]bool
}

// recognise finds the columns of the batch among those of the sheet.
func (c *correcting) recognise(columns []sheet.Column) error {
	var faults fault.Faults
	for i, column := range columns {
		if name, ok := strings.CutPrefix(column.Head, ours); ok {
			if c.place = append(c.place, -1); name == rowHead {
				c.number = i
			}
			continue
		}
		at := slices.IndexFunc(c.one.Found.Columns, func(k batch.Column) bool { return k.Head == column.Head })
		if at < 0 {
			faults.Add("columns", fmt.Sprintf("%q is no column of the batch", column.Head), "the columns that it has, as they were")
		}
		c.place = append(c.place, at)
	}
	if c.number < 0 {
		faults.Add(
			"columns",
			fmt.Sprintf("there is no column %q", ours+rowHead),
			"the sheet of rows that are left out, with all its columns",
		)
	}
	if faults != nil {
		return faults
	}
	return nil
}

// put puts a row into its place.
func (c *correcting) put(ctx context.Context, row sheet.Row) error {
	wrong := func(say, accepted string) error {
		return fault.New("rows", fmt.Sprintf("line %d: %s", row.Line, say), accepted)
	}
	if row.Wrong != "" {
		return wrong(row.Wrong, "cells that can be told apart")
	}
	given := ""
	if c.number < len(row.Cells) {
		given = strings.TrimSpace(row.Cells[c.number])
	}
	n, err := strconv.Atoi(given)
	if err != nil || n < 1 || n > c.one.Rows {
		return wrong(fmt.Sprintf("%q is no row", given), fmt.Sprintf("the row's number, 1 to %d", c.one.Rows))
	}
	p, err := c.pack(ctx, (n-1)/batch.PackRows)
	if err != nil {
		return err
	}
	i := (n - 1) % batch.PackRows
	switch {
	case i >= len(p.rows) || i >= len(p.checks):
		return wrong(fmt.Sprintf("row %d is not there", n), "rows of the batch")
	case p.checks[i].Goes():
		return wrong(fmt.Sprintf("row %d goes as it is", n), "rows that are left out")
	case p.done[i]:
		return wrong(fmt.Sprintf("row %d stands there twice", n), "each row once")
	}
	cells := make([]string, len(c.one.Found.Columns))
	held := make([]sheet.Held, len(cells))
	copy(cells, p.rows[i].Cells) // columns that the sheet does not have stay
	copy(held, p.rows[i].Held)
	for at, cell := range row.Cells {
		if at < len(c.place) && c.place[at] >= 0 {
			cells[c.place[at]], held[c.place[at]] = cell, row.HeldAt(at)
		}
	}
	p.rows[i].Cells, p.rows[i].Held, p.rows[i].Wrong = cells, held, ""
	p.done[i] = true
	c.rows++
	return nil
}

// pack opens a pack, and closes the one before: most often rows come in their order.
func (c *correcting) pack(ctx context.Context, n int) (*corrected, error) {
	if c.open != nil && c.open.n == n {
		return c.open, nil
	}
	c.close()
	p := c.packs[n]
	if p == nil {
		packs, err := c.b.Store.BatchPacks(ctx, c.one.ID, n, 1, true, true)
		if err != nil {
			return nil, err
		}
		if len(packs) == 0 || packs[0].N != n {
			return nil, fmt.Errorf("pack %d of batch %s is missing", n, c.one.ID)
		}
		p = &corrected{n: n, done: map[int]bool{}}
		if p.rows, err = batch.ReadRows(packs[0].Body, n*batch.PackRows+1); err != nil {
			return nil, err
		}
		if p.checks, err = batch.ReadChecks(packs[0].Checks); err != nil {
			return nil, err
		}
		c.packs[n] = p
	} else {
		body, err := store.Decompress(p.body)
		if err != nil {
			return nil, err
		}
		if p.rows, err = batch.ReadRows(body, n*batch.PackRows+1); err != nil {
			return nil, err
		}
	}
	c.open = p
	return p, nil
}

// close compresses the pack that is open.
func (c *correcting) close() {
	if p := c.open; p != nil {
		p.body, p.rows = store.Compress(batch.AppendRows(nil, p.rows)), nil
	}
	c.open = nil
}

// written are the packs as they are to be kept.
func (c *correcting) written() ([]store.BatchPack, error) {
	c.close()
	if c.rows == 0 {
		return nil, fault.New("rows", "there are none", "at least one row")
	}
	var packs []store.BatchPack
	for _, p := range c.packs {
		packs = append(packs, store.BatchPack{N: p.n, Body: p.body})
	}
	slices.SortFunc(packs, func(a, b store.BatchPack) int { return a.N - b.N })
	return packs, nil
}
