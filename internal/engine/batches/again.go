package batches

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"slices"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/store"
)

// repeats is who would get a text again that they got, or will get, by another batch of the last day.
type repeats struct {
	n      int          // rows of this batch
	more   bool         // there may be more: not all other batches were read to their end
	latest *store.Batch // the last that was launched of those with these rows; nil: there is none
	looked map[uuid.UUID]bool
}

// mostly reports whether so many of the rows that go are repeats that the launch is taken for a mistake.
func (r repeats) mostly(goes int) bool { return r.n > 0 && 2*r.n >= goes }

// add notes a batch with rows that are repeats.
func (r *repeats) add(other store.Batch) {
	if r.latest == nil || other.LaunchedAt.After(*r.latest.LaunchedAt) {
		r.latest = &other
	}
}

// findRepeats compares a batch with those that were launched since a moment. Rows of these that failed for good, or never go,
// do not count.
func (b *Batches) findRepeats(ctx context.Context, one *store.Batch, since time.Time) (repeats, error) {
	r := repeats{looked: map[uuid.UUID]bool{}}
	launched, err := b.Store.LaunchedSince(ctx, since)
	if err != nil || len(launched) == 0 {
		return r, err
	}
	for _, id := range launched {
		r.looked[id] = true
	}
	own, err := b.reachOf(ctx, one)
	if err != nil {
		return r, err
	}
	// An older version keeps no fingerprints. Batches that it rehearsed are compared as a whole.
	same, err := b.Store.SameBatch(ctx, one.ID, one.Content, since, own.Len() > 0)
	switch {
	case err == nil:
		r.n = one.Totals.Goes
		r.add(same)
		return r, nil
	case !errors.Is(err, store.ErrNotFound):
		return r, err
	}
	others, err := b.sample(ctx, &own, one.ID, since)
	if err != nil {
		return r, err
	}
	got := newRowSet(one.Rows)
	for i, id := range others {
		other, err := b.Store.Batch(ctx, id)
		if errors.Is(err, store.ErrNotFound) {
			continue // it was removed meanwhile
		}
		before := got.n
		if err == nil {
			err = b.repeatsOf(ctx, &own, other, got)
		}
		if err != nil {
			return r, err
		}
		if r.n = got.n; got.n > before {
			r.add(other)
		}
		if r.mostly(one.Totals.Goes) {
			r.more = i+1 < len(others)
			break
		}
	}
	return r, nil
}

// sample finds the batches launched since a moment that send what some rows of this one send, those with the most of them
// first. It looks at about sampleLeast rows, or at all: of a batch in which none of so many is, half cannot be.
func (b *Batches) sample(ctx context.Context, own *batch.Reach, id uuid.UUID, since time.Time) ([]uuid.UUID, error) {
	var parts []int
	for n, rows := 0, 0; n < batch.ReachParts && rows < sampleLeast; n++ {
		if own.PartLen(n) > 0 {
			parts, rows = append(parts, n), rows+own.PartLen(n)
		}
	}
	found := map[uuid.UUID]int{}
	err := b.Store.ReachOfOthers(ctx, id, since, parts, func(other uuid.UUID, part int, body []byte) error {
		return own.Common(part, body, func(int, int) { found[other]++ })
	})
	return slices.SortedFunc(maps.Keys(found), func(a, b uuid.UUID) int { return found[b] - found[a] }), err
}

// rowSet is a set of rows, 1 first.
type rowSet struct {
	bits []uint64
	n    int
}

func newRowSet(rows int) *rowSet { return &rowSet{bits: make([]uint64, rows/64+1)} }

func (s *rowSet) add(row int) {
	word, bit := row/64, uint64(1)<<(row%64)
	if word < len(s.bits) && s.bits[word]&bit == 0 {
		s.bits[word] |= bit
		s.n++
	}
}

// reachOf reads the fingerprints of a batch.
func (b *Batches) reachOf(ctx context.Context, one *store.Batch) (batch.Reach, error) {
	var r batch.Reach
	for n := 0; n < batch.ReachParts; n += partsAtOnce {
		parts, err := b.Store.ReachParts(ctx, one.ID, n, n+partsAtOnce)
		if err != nil {
			return r, err
		}
		for _, p := range parts {
			if err := r.Read(p.Part, p.Body); err != nil {
				return r, err
			}
		}
	}
	return r, nil
}

// ReachKept is how long it is kept after its launch what a batch sends to whom.
const ReachKept = 2 * sameWithin

const (
	// partsAtOnce is how many parts of what a batch sends are read at once.
	partsAtOnce = 32
	// sampleLeast is how many rows of a batch are looked up in others before these are read as a whole.
	sampleLeast = 500
)

// pair is a row of this batch that sends what a row of another one does.
type pair struct{ own, other int }

// repeatsOf notes the rows of a batch whose number gets, or got, the same text by another one.
func (b *Batches) repeatsOf(ctx context.Context, own *batch.Reach, other store.Batch, got *rowSet) error {
	var common []pair
	for n := 0; n < batch.ReachParts; n += partsAtOnce {
		parts, err := b.Store.ReachParts(ctx, other.ID, n, n+partsAtOnce)
		if err != nil {
			return err
		}
		for _, p := range parts {
			if err := own.Common(p.Part, p.Body, func(mine, theirs int) { common = append(common, pair{mine, theirs}) }); err != nil {
				return err
			}
		}
	}
	waiting, err := b.waitingAs(ctx, other)
	if err != nil {
		return err
	}
	slices.SortFunc(common, func(x, y pair) int { return cmp.Compare(x.other, y.other) })
	for len(common) > 0 {
		n := (common[0].other - 1) / batch.PackRows
		rows, err := b.packRows(ctx, other, n, waiting)
		if err != nil {
			return err
		}
		for len(common) > 0 && (common[0].other-1)/batch.PackRows == n {
			if at := common[0].other - 1 - n*batch.PackRows; at < len(rows) && gets(rows[at].State) {
				got.add(common[0].own)
			}
			common = common[1:]
		}
	}
	return nil
}

// gets reports whether whom a row is for has got its text, may have, or will.
func gets(s delivery.State) bool {
	switch s {
	case "", delivery.Undeliverable, delivery.Expired, delivery.Rejected, delivery.Cancelled:
		return false
	}
	return true
}

// refuseRepeats refuses a launch that is taken for a mistake.
func (b *Batches) refuseRepeats(ctx context.Context, one *store.Batch, now time.Time) (repeats, error) {
	r, err := b.findRepeats(ctx, one, now.Add(-sameWithin))
	if err != nil || !r.mostly(one.Totals.Goes) {
		return r, err
	}
	least := ""
	if r.more {
		least = "at least "
	}
	return r, fault.Because(ErrSame, "%s%d of %d people would get the same text again that batch %s, launched at %s, sends them",
		least, r.n, one.Totals.Goes, cmp.Or(r.latest.Name, r.latest.ID.String()), r.latest.LaunchedAt.UTC().Format(time.RFC3339))
}
