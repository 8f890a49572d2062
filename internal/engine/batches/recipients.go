package batches

import (
	"context"
	"fmt"
	"strings"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/sheet"
	"calmpigeon.example/internal/store"
)

// recipientsMost is how many recipients of a list are read at once.
const recipientsMost = 2000

// Invite adds recipients of a list that is kept to the rows of a batch, as Append adds those
// of a sheet.
func (b *Batches) Invite(ctx context.Context, id uuid.UUID, name string, of store.Of, at int) (Appended, error) {
	one, err := b.Store.Batch(ctx, id)
	if err != nil {
		return Appended{}, err
	}
	if one.State != batch.Open {
		return Appended{}, notNow(&one, "it takes rows while it is open")
	}
	list, err := b.Store.RecipientList(ctx, name)
	if err != nil {
		return Appended{}, err
	}
	if at < 0 {
		at = one.Rows
	}
	if at > one.Rows {
		return Appended{}, tooFar(at, one.Rows)
	}
	if one.Found.Columns == nil {
		one.Found = batch.Found{Said: said(name, of), Format: "list of recipients"}
	}
	columns := make([]sheet.Column, len(list.Columns))
	for i, c := range list.Columns {
		columns[i] = sheet.Column{Head: c.Head, Role: c.Role, Field: c.Field, Why: c.Why}
	}
	place := recognise(&one.Found, columns)
	w := &appending{b: b, one: &one, at: at}
	if err := w.begin(ctx); err != nil {
		return Appended{}, err
	}
	for after := int64(0); ; {
		some, err := b.Store.Recipients(ctx, list.ID, of, after, recipientsMost)
		if err != nil {
			return w.done(0), err
		}
		for _, r := range some {
			cells := make([]string, len(columns))
			for i, c := range columns {
				cells[i] = r.Fields[c.Head]
			}
			if err := w.add(ctx, sheet.Row{Line: w.at + 1, Cells: placed(cells, place, len(one.Found.Columns))}); err != nil {
				return w.done(0), err
			}
			after = r.N
		}
		if len(some) < recipientsMost {
			break
		}
	}
	if err := w.flush(ctx, true); err != nil {
		return w.done(0), err
	}
	if w.at == at {
		return w.done(
				0,
			), fault.New(
				"groups",
				"nobody on the list is meant",
				fmt.Sprintf("groups that somebody is in: pigeon recipients show %q", name),
			)
	}
	return w.done(0), b.Store.DropFile(ctx, id)
}

// said tells which recipients are meant.
func said(name string, of store.Of) string {
	say := fmt.Sprintf("the list %q", name)
	if len(of.Groups) > 0 {
		say += ", of " + strings.Join(of.Groups, " or ")
	}
	if len(of.Without) > 0 {
		say += ", without " + strings.Join(of.Without, " and ")
	}
	return say
}

func tooFar(at, rows int) error {
	return fault.New("at", fmt.Sprintf("%d rows would stand before it, and there are %d", at, rows), fmt.Sprintf("0 to %d", rows))
}
