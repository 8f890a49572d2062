package batches

import (
	"context"
	"fmt"
	"iter"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/core/sheet"
	"calmpigeon.example/internal/engine/intake"
	"calmpigeon.example/internal/store"
)

// Row is a row of a batch, what rehearsing found of it, and what has become of it.
type Row struct {
	N       int
	Line    int
	Cells   []string
	Held    []sheet.Held // what a workbook holds in them
	Check   batch.Check
	Checked bool           // it was rehearsed
	State   delivery.State // empty: it is left out, or not launched yet
	Cause   delivery.Cause
	Settled *time.Time
	Message uuid.UUID // nil: it is none yet
	Gateway uuid.UUID
	Price   price.Money
	Text    string // as it would be sent, or why it cannot; worked out for rows that are looked at
}

// Choice chooses rows. The zero value chooses all.
type Choice struct {
	LeftOut bool         // those that are left out
	Reason  batch.Reason // for this reason
	State   delivery.State
	Texts   bool // their texts are wanted
}

func (c Choice) fits(r Row) bool {
	switch {
	case c.LeftOut || c.Reason != "":
		return r.Checked && !r.Check.Goes() && (c.Reason == "" || r.Check.Reason == c.Reason)
	case c.State != "":
		return r.State == c.State
	}
	return true
}

// Rows yields the chosen rows of a batch as they are now, from a row on, in their order. They
// are read a pack at a time.
func (b *Batches) Rows(ctx context.Context, one store.Batch, from int, choice Choice) iter.Seq2[Row, error] {
	return func(yield func(Row, error) bool) {
		waiting, err := b.waitingAs(ctx, one)
		if err != nil {
			yield(Row{}, err)
			return
		}
		reader, err := b.reading(&one)
		if err != nil && choice.Texts {
			yield(Row{}, err)
			return
		}
		from = max(from, 1)
		for n := (from - 1) / batch.PackRows; n*batch.PackRows < one.Rows; n++ {
			rows, err := b.packRows(ctx, one, n, waiting)
			if err != nil {
				yield(Row{}, err)
				return
			}
			for i := range rows {
				if rows[i].N < from || !choice.fits(rows[i]) {
					continue
				}
				if choice.Texts {
					b.addText(reader, &rows[i])
				}
				if !yield(rows[i], nil) {
					return
				}
			}
		}
	}
}

// addText works a row's text out.
func (b *Batches) addText(r *rows, row *Row) {
	if row.Check.Reason == batch.Unreadable {
		return
	}
	one := sheetRow(row)
	if p, _, err := b.plan(r, &one); err == nil {
		row.Text = p.Text
	}
}

// Example is a row of a batch as a message that goes to somebody else: the text and all that
// belongs to it stay the row's.
func (b *Batches) Example(ctx context.Context, id uuid.UUID, row int, to string) (intake.Draft, error) {
	one, err := b.Store.Batch(ctx, id)
	if err != nil {
		return intake.Draft{}, err
	}
	if one.Totals == nil {
		return intake.Draft{}, notNow(&one, "rehearse it first")
	}
	if row == 0 && len(one.Totals.Longest) > 0 {
		row = one.Totals.Longest[0].Row
	}
	reader, err := b.reading(&one)
	if err != nil {
		return intake.Draft{}, err
	}
	for found, err := range b.Rows(ctx, one, row, Choice{}) {
		if err != nil {
			return intake.Draft{}, err
		}
		if found.N != row || !found.Check.Goes() {
			break
		}
		as := sheetRow(&found)
		d := reader.draft(&as)
		d.To, d.Kind, d.Reference, d.Draw = to, "transactional", fmt.Sprintf("try of row %d", row), ""
		if d.Language == "" { // that of the row, wherever it goes instead
			d.Language = found.Check.Language
		}
		if d.Own != nil {
			d.Language = ""
		}
		return d, nil
	}
	return intake.Draft{}, fault.New(
		"row",
		fmt.Sprintf("row %d does not go", row),
		fmt.Sprintf("a row that goes, of 1 to %d; none: the longest text", one.Rows),
	)
}

// waitingAs is where the rows of each feed are counted that are no messages yet.
func (b *Batches) waitingAs(ctx context.Context, one store.Batch) (func(row int, c batch.Check) delivery.State, error) {
	if one.First == nil {
		return nil, nil
	}
	states, err := b.Store.FeedStates(ctx, one.ID)
	if err != nil {
		return nil, err
	}
	scouts, err := b.scoutsOf(ctx, one.ID, one.Launch)
	if err != nil {
		return nil, err
	}
	return func(row int, c batch.Check) delivery.State {
		return states[store.FeedKind{Gateway: c.Gateway, Scouts: scouts.Has(row), Hours: one.Launch.HoursOf(c.Hours())}]
	}, nil
}

// packRows reads one pack of a batch and what became of its rows.
func (b *Batches) packRows(ctx context.Context, one store.Batch, n int, waiting func(int, batch.Check) delivery.State) ([]Row, error) {
	packs, err := b.Store.BatchPacks(ctx, one.ID, n, 1, true, true)
	if err != nil {
		return nil, err
	}
	if len(packs) == 0 || packs[0].N != n {
		return nil, nil
	}
	read, err := batch.ReadRows(packs[0].Body, n*batch.PackRows+1)
	if err != nil {
		return nil, err
	}
	var checks []batch.Check
	if packs[0].Checks != nil && one.Totals != nil {
		if checks, err = batch.ReadChecks(packs[0].Checks); err != nil {
			return nil, err
		}
	}
	rows := make([]Row, len(read))
	for i, r := range read {
		rows[i] = Row{N: r.N, Line: r.Line, Cells: r.Cells, Held: r.Held}
		if i >= len(checks) {
			continue
		}
		rows[i].Check, rows[i].Checked = checks[i], true
		if rows[i].Price = checks[i].Price; waiting != nil && checks[i].Goes() {
			rows[i].State = waiting(r.N, checks[i])
		}
	}
	if one.First == nil || len(rows) == 0 {
		return rows, nil
	}
	messages, err := b.Store.BatchMessages(ctx, *one.First, rows[0].N, rows[len(rows)-1].N)
	if err != nil {
		return nil, err
	}
	for _, m := range messages {
		row := &rows[m.Row-rows[0].N]
		row.Message, row.State, row.Cause, row.Settled, row.Gateway = m.ID, m.State, m.Cause, m.SettledAt, m.GatewayID
		if row.Price = (price.Money{}); m.Micros != nil {
			row.Price = price.Of(*m.Micros, m.Currency)
		}
	}
	return rows, nil
}

func sheetRow(r *Row) sheet.Row { return sheet.Row{N: r.N, Line: r.Line, Cells: r.Cells, Held: r.Held} }
