package batches

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/sheet"
	"calmpigeon.example/internal/engine/guard"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

const (
	// lookEvery is how often it is seen to it that keepers do not run out of work.
	lookEvery = 100 * time.Millisecond
	// lookMost is how long one look may take: rows that are held for their time fill no gateway,
	// and there may be any number of them.
	lookMost = 500 * time.Millisecond
	// settleEvery is how often it is seen whether a batch has come to its end.
	settleEvery = time.Second
	// aheadFor is how long what is let out of a batch lasts. All of it goes before a batch
	// that comes in later, and has to be held back where the batch is.
	aheadFor = 1500 * time.Millisecond
	// readyFor is how long what is ready to be drawn lasts.
	readyFor = 600 * time.Millisecond
	// aheadLeast and aheadMost bound what is let out through a gateway at a time.
	aheadLeast, aheadMost = 20, 20_000
	// unlimited is how fast a gateway is taken to be, at least, unless it has a lower limit.
	unlimited = 3000
)

// feedAll lets rows out until ctx ends.
func (b *Batches) feedAll(ctx context.Context) {
	f := b.newFeeding()
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	said := time.Time{}
	for {
		busy, err := false, error(nil)
		if b.Gate.Open() {
			err = guard.Try(func() (err error) { busy, err = f.look(ctx); return err })
		}
		if err != nil && ctx.Err() == nil && time.Since(said) > 10*time.Second {
			said = time.Now()
			b.Log.Error("letting rows of batches out", "error", err)
		}
		if busy && err == nil {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
				continue
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-b.feed: // rung for twice a second while there is any
		}
	}
}

// unfoldMost is how many rows become messages in one transaction of [Batches.UnfoldAll].
const unfoldMost = 2000

// UnfoldAll makes messages of all rows whose time has come, also of batches that are held: in a database that
// was restored any of them may have gone. Rows for which a budget has too little left stay rows.
func (b *Batches) UnfoldAll(ctx context.Context) error {
	all, err := b.Store.AtWork(ctx, false)
	if err != nil {
		return err
	}
	f := b.newFeeding()
	f.held = true
	for _, one := range all {
		feeds, err := b.Store.Feeds(ctx, []uuid.UUID{one.ID})
		if err != nil {
			return err
		}
		for _, feed := range feeds {
			for more := true; more; {
				if _, more, err = f.unfold(ctx, one, feed, unfoldMost); err != nil {
					return fmt.Errorf("batch %s: %w", one.ID, err)
				}
			}
		}
	}
	return nil
}

func (b *Batches) newFeeding() *feeding {
	return &feeding{
		Batches: b,
		flows:   map[flowing]*flow{},
		packs:   map[feedID]*opened{},
		scouts:  map[uuid.UUID]batch.Scouts{},
		stood:   map[uuid.UUID][]stood{},
	}
}

// feeding is what one instance remembers of the batches that it feeds.
type feeding struct {
	*Batches
	held    bool // rows of batches that are held go, too
	flows   map[flowing]*flow
	packs   map[feedID]*opened
	scouts  map[uuid.UUID]batch.Scouts
	settled time.Time
	stood   map[uuid.UUID][]stood
}

// stood is how a batch stood at a moment.
type stood struct {
	at time.Time
	batch.Standing
}

// feedID names a feed.
type feedID struct {
	batch uuid.UUID
	n     int
}

// opened is a pack that was read, as the next rows are most often of it too.
type opened struct {
	n      int
	reader *rows
	rows   []sheet.Row
	checks []batch.Check
}

// flowing is a batch going through a gateway.
type flowing struct {
	batch, gateway uuid.UUID
}

// flow is how fast it goes.
type flow struct {
	ahead int // were let out when it was last seen
	at    time.Time
	rate  float64 // messages a second
}

// look lets out what may go, each batch in its turn; busy if there is any at work.
func (f *feeding) look(ctx context.Context) (busy bool, err error) {
	all, err := f.Store.AtWork(ctx, false)
	if err != nil {
		return false, err
	}
	if len(all) == 0 {
		f.shelf.keep(nil, nil)
		clear(f.packs)
		clear(f.scouts)
		clear(f.flows)
		clear(f.stood)
		return false, nil
	}
	settle := time.Since(f.settled) >= settleEvery
	if settle {
		f.settled = time.Now()
	}
	var ids []uuid.UUID
	var errs []error // of one batch holds up no other
	running := map[uuid.UUID]store.Batch{}
	for _, one := range all {
		if settle {
			if err := f.settle(ctx, one); err != nil {
				errs = append(errs, fmt.Errorf("batch %s: %w", one.ID, err))
			}
		}
		if one.State == batch.Running {
			ids = append(ids, one.ID)
			running[one.ID] = one
		}
	}
	if len(ids) == 0 { // it is rung for when one goes on
		f.shelf.keep(nil, nil)
		return false, errors.Join(errs...)
	}
	feeds, err := f.Store.Feeds(ctx, ids)
	if err != nil {
		return true, err
	}
	now := f.Now()
	var open []store.Feed
	sharing := map[string]int{} // batches at a gateway; their feeds follow each other
	for _, feed := range feeds {
		if !feed.Open || feed.OpensAt.After(now) {
			continue
		}
		open = append(open, feed)
		same := func(other store.Feed) bool { return other.BatchID == feed.BatchID && other.Gateway == feed.Gateway }
		if !slices.ContainsFunc(open[:len(open)-1], same) {
			sharing[feed.Gateway]++
		}
	}
	if len(open) == 0 { // it is rung for twice a second
		f.shelf.keep(nil, nil)
		return false, errors.Join(errs...)
	}
	var wanting []*filling
	taken := map[flowing]bool{}
	queued := map[uuid.UUID]int{} // batches, by gateway
	ahead := map[uuid.UUID]map[uuid.UUID]int{}
	for _, feed := range open {
		one := running[feed.BatchID]
		// Scouts come before the rest that goes through the same gateway.
		g := f.through(feed.Gateway)
		if g == nil || taken[flowing{one.ID, g.ID}] {
			continue
		}
		taken[flowing{one.ID, g.ID}] = true
		w := &filling{one: one, feed: feed, g: g, drawn: f.drawn(&one, &feed, g)}
		n := 0
		switch {
		case w.drawn && !f.Keeps(g.ID): // whoever keeps it sees to it
			continue
		case w.drawn:
			n = f.shelf.at(g.ID, one.ID, feed.N)
		default:
			queued[g.ID]++
			if ahead[one.ID] == nil {
				if ahead[one.ID], err = f.Store.Ahead(ctx, *one.First); err != nil {
					return true, err
				}
			}
			n = ahead[one.ID][g.ID]
		}
		if w.want = f.want(one, g, n, sharing[feed.Gateway], w.lasts()); w.want > 0 || w.drawn {
			wanting = append(wanting, w)
		}
	}
	f.shelf.keep(wanting, queued)
	// A portion of each in its turn: a small batch does not wait for a large one.
	for began := time.Now(); len(wanting) > 0 && time.Since(began) < lookMost; {
		wanting = slices.DeleteFunc(wanting, func(w *filling) bool {
			more, err := f.fill(ctx, w)
			if err != nil {
				errs = append(errs, fmt.Errorf("batch %s: %w", w.one.ID, err))
			}
			return !more || err != nil
		})
	}
	return true, errors.Join(errs...)
}

// filling is a feed of which a gateway lacks rows.
type filling struct {
	one   store.Batch
	feed  store.Feed
	g     *roster.Gateway
	want  int
	drawn bool // by the gateway's keeper: its rows are made ready, and not queued
}

// lasts is how long what a gateway has of a feed lasts.
func (w *filling) lasts() time.Duration {
	if w.drawn {
		return readyFor
	}
	return aheadFor
}

// fill lets a portion out, or makes it ready; more if it is not all that is wanted.
func (f *feeding) fill(ctx context.Context, w *filling) (more bool, err error) {
	n := 0
	if most := min(w.want, batch.PackRows); w.drawn {
		n, more, err = f.shelve(ctx, w, most)
	} else {
		n, more, err = f.unfold(ctx, w.one, w.feed, most)
	}
	if err != nil {
		return false, err
	}
	w.want -= n
	f.flows[flowing{w.one.ID, w.g.ID}].ahead += n
	f.Bells.Ring(w.g.ID, false)
	return more && w.want > 0, nil
}

// through is the gateway of a feed, or, while that one is not to be used or gone, another one
// that its messages will take; nil if there is none at all.
func (b *Batches) through(name string) *roster.Gateway {
	g := b.Roster.ByName(name)
	if g != nil && g.Unusable(b.Roster.Health(g.ID), b.Now()) == "" {
		return g
	}
	all := b.Roster.All()
	for _, other := range all {
		if other.Unusable(b.Roster.Health(other.ID), b.Now()) == "" {
			return other
		}
	}
	if g == nil && len(all) > 0 {
		return all[0]
	}
	return g
}

// want is how many rows a gateway lacks of a batch, ahead being those that it has, which are
// to last for a while.
func (f *feeding) want(one store.Batch, g *roster.Gateway, ahead, sharing int, lasts time.Duration) int {
	key := flowing{one.ID, g.ID}
	at := f.flows[key]
	now := time.Now()
	if at == nil {
		at = &flow{at: now}
		f.flows[key] = at
	}
	if passed := now.Sub(at.at); passed >= lookEvery/2 {
		// They go in bursts, so that what went since the last look says little by itself.
		went := max(float64(at.ahead-ahead)/passed.Seconds(), 0)
		at.rate += (went - at.rate) * min(passed.Seconds(), 1)
		at.at = now
	}
	at.ahead = ahead
	rate := max(at.rate, unlimited/float64(max(sharing, 1)))
	if g.PerSecond > 0 {
		rate = min(rate, float64(g.PerSecond)/float64(max(sharing, 1)))
	}
	if own := one.Pace().Rate(); own > 0 {
		rate = min(rate, own)
	}
	target := min(max(int(rate*lasts.Seconds()), aheadLeast), aheadMost)
	if lacks := target - ahead; lacks >= max(target/4, 1) || ahead < aheadLeast/2 {
		return lacks
	}
	return 0
}
