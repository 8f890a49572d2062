package batches

import (
	"context"
	"errors"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/sheet"
	"calmpigeon.example/internal/store"
)

// Retry makes a new batch of the rows of a launched one that failed for a reason that may
// pass. What was delivered, or may have been, is never among them.
func (b *Batches) Retry(ctx context.Context, id uuid.UUID, key store.Key) (store.Batch, error) {
	from, err := b.Store.Batch(ctx, id)
	if err != nil {
		return from, err
	}
	if !from.State.Launched() {
		return from, notNow(&from, "nothing of it can have failed yet")
	}
	name := []rune(from.Name)
	one, err := b.Create(ctx, key, string(name[:min(len(name), nameMost-7)])+", again", from.Wants)
	if err != nil {
		return one, err
	}
	one.Found = from.Found
	// What is only weakly known to have failed may have been delivered all the same.
	weak, err := b.Store.MarkedWeak(ctx, store.InBatch(*from.First, 1), store.InBatch(*from.First, from.Rows))
	if err != nil {
		return one, errors.Join(err, b.Store.RemoveBatch(context.WithoutCancel(ctx), one.ID))
	}
	w := &appending{b: b, one: &one}
	var wrong error
	for row, err := range b.Rows(ctx, from, 1, Choice{}) {
		if wrong = err; wrong != nil {
			break
		}
		if !mayHelp(row) || weak[row.Message] {
			continue
		}
		if wrong = w.add(ctx, sheet.Row{Line: row.Line, Cells: row.Cells}); wrong != nil {
			break
		}
	}
	if wrong == nil {
		wrong = w.flush(ctx, true)
	}
	if wrong == nil && w.before == 0 {
		wrong = fault.Because(store.ErrNotNow, "nothing of it failed for a reason that may pass")
	}
	if wrong != nil {
		return one, errors.Join(wrong, b.Store.RemoveBatch(context.WithoutCancel(ctx), one.ID))
	}
	return b.Store.Batch(ctx, one.ID)
}

// mayHelp reports whether it may help to send to a row again.
func mayHelp(r Row) bool {
	switch r.State {
	case delivery.Undeliverable, delivery.Expired, delivery.Rejected:
		return r.Check.Reason == batch.Reason("") && (r.Cause == "" || r.Cause.Advice().Again)
	}
	return false
}
