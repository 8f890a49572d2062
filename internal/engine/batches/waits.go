package batches

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/store"
)

// Wait is what rows of a batch wait for.
type Wait struct {
	Rows    int
	For     string    // scouts, start, quiet_hours or own_time
	Country string    // in which it is quiet
	Until   time.Time // zero: it is not known
}

// Waits are what rows of a batch wait for while it is at work, but for their turn. counts are how it stands.
func (b *Batches) Waits(ctx context.Context, one *store.Batch, counts []store.BatchCount) ([]Wait, error) {
	if !one.State.Active() {
		return nil, nil
	}
	feeds, err := b.Store.Feeds(ctx, []uuid.UUID{one.ID})
	if err != nil {
		return nil, err
	}
	now := b.Now()
	var waits []Wait
	add := func(w Wait) {
		at := slices.IndexFunc(waits, func(k Wait) bool { return k.For == w.For && k.Country == w.Country && k.Until.Equal(w.Until) })
		if at < 0 {
			waits = append(waits, w)
			return
		}
		waits[at].Rows += w.Rows
	}
	for _, f := range feeds {
		country, _, _ := strings.Cut(f.Hours, " ")
		switch {
		case !f.Open:
			add(Wait{Rows: f.Waiting, For: "scouts"})
		case !f.OpensAt.After(now):
		case f.Hours == "" || f.OpensAt.Equal(one.Launch.StartsAt):
			add(Wait{Rows: f.Waiting, For: "start", Until: f.OpensAt})
		default:
			add(Wait{Rows: f.Waiting, For: "quiet_hours", Country: country, Until: f.OpensAt})
		}
	}
	for _, c := range counts {
		if !c.Waiting && c.State == delivery.Held {
			add(Wait{Rows: int(c.N), For: "own_time"})
		}
	}
	slices.SortStableFunc(waits, func(x, y Wait) int { return cmp.Or(cmp.Compare(y.Rows, x.Rows), cmp.Compare(x.For, y.For)) })
	return waits, nil
}
