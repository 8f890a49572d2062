package batches

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/sheet"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/intake"
	"calmpigeon.example/internal/store"
)

// unfoldPacks is how many packs are gone through at most while a feed is locked: scouts are
// few and far between.
const unfoldPacks = 50

// openMost is how many packs are held open at most.
const openMost = 16

// unfold makes messages of the next rows of a feed, at most so many, that go by way of the
// queue, and returns how many of them can go at once; more if it can go on.
func (f *feeding) unfold(ctx context.Context, one store.Batch, feed store.Feed, most int) (made int, more bool, err error) {
	var refused []store.Message
	var purses *purses
	err = f.Store.Transact(ctx, func(s *store.Store) error {
		made, more, refused, purses = 0, false, nil, nil
		now := f.Now()
		lock := s.LockFeed
		if f.held {
			lock = s.LockHeldFeed
		}
		feed, ok, err := lock(ctx, one.ID, feed.N, now)
		if err != nil || !ok {
			return err
		}
		one.Launch = feed.Launch // its budget may have been changed since it was read
		if purses, err = f.openPurses(ctx, s, &one, now); err != nil {
			return err
		}
		rows, next, until, err := f.ready(ctx, one, feed.Feed, feed.NextRow, min(most, feed.Waiting))
		if err != nil {
			return err
		}
		if len(rows) == 0 && !until.IsZero() {
			return s.DeferFeed(ctx, feed.Feed, until)
		}
		u := unfolding{one: one, purses: purses}
		for i := range rows {
			if !u.affords(&rows[i]) {
				next = rows[i].row
				break
			}
			u.add(rows[i])
		}
		made = u.goes()
		more = len(u.set) < feed.Waiting && next <= one.Rows && !purses.isEmpty() && until.IsZero()
		refused, err = u.write(ctx, f.Batches, s, now, feed.Feed, next)
		return err
	})
	if err != nil {
		return 0, false, err
	}
	f.Course.Announce(refused)
	if purses.isEmpty() {
		return made, false, f.broke(ctx, &one, purses)
	}
	return made, more, nil
}

// broke stops a batch of which a budget has too little left.
func (b *Batches) broke(ctx context.Context, one *store.Batch, purses *purses) error {
	p := purses.empty
	b.Log.Warn("a budget stopped a batch", "batch", one.ID, "name", one.Name, "budget", p.Name)
	return b.stop(ctx, one.ID, p.stop, fmt.Sprintf("%s of %s is spent", p.Name, p.Budget))
}

// ready makes rows of a feed ready to become messages, from a row on, at most so many, and
// returns with them the first row that was not looked at. Where that one, and so all after it,
// must not go before a moment, it returns until when.
func (f *feeding) ready(
	ctx context.Context,
	one store.Batch,
	feed store.Feed,
	from, most int,
) (rows []ready, next int, until time.Time, err error) {
	scouts, ok := f.scouts[one.ID]
	if !ok {
		if scouts, err = f.scoutsOf(ctx, one.ID, one.Launch); err != nil {
			return nil, 0, until, err
		}
		f.scouts[one.ID] = scouts
	}
	next = max(from, 1)
	last := next + unfoldPacks*batch.PackRows
	for ; len(rows) < most && next < last; next++ {
		p, err := f.open(ctx, one, feed.N, (next-1)/batch.PackRows)
		if err != nil {
			return nil, 0, until, err
		}
		i := (next - 1) % batch.PackRows
		if i >= len(p.rows) {
			break
		}
		c := p.checks[i]
		if !c.Goes() || c.Gateway != feed.Gateway || scouts.Has(next) != feed.Scouts ||
			one.Launch.HoursOf(c.Hours()) != feed.Hours {
			continue
		}
		r, err := f.make(one, p.reader, &p.rows[i], c)
		if err != nil {
			return nil, 0, until, err
		}
		if feed.Hours != "" && r.refused == nil && r.Message.State == delivery.Held && !p.reader.timed(&p.rows[i]) {
			return rows, next, *r.Message.HeldUntil, nil
		}
		rows = append(rows, r)
	}
	return rows, next, until, nil
}

// open reads a pack for a feed, unless it was the last that was read.
func (f *feeding) open(ctx context.Context, one store.Batch, feed, n int) (*opened, error) {
	key := feedID{one.ID, feed}
	last := f.packs[key]
	if last != nil && last.n == n {
		return last, nil
	}
	packs, err := f.Store.BatchPacks(ctx, one.ID, n, 1, true, true)
	if err != nil {
		return nil, err
	}
	p := &opened{n: n}
	if last != nil {
		p.reader = last.reader
	} else if p.reader, err = f.reading(&one); err != nil {
		return nil, err
	}
	if len(packs) == 1 && packs[0].N == n {
		if p.rows, err = batch.ReadRows(packs[0].Body, n*batch.PackRows+1); err != nil {
			return nil, err
		}
		if p.checks, err = batch.ReadChecks(packs[0].Checks); err != nil {
			return nil, err
		}
	}
	if len(f.packs) >= openMost {
		clear(f.packs)
	}
	f.packs[key] = p
	return p, nil
}

// ready is a row that was made ready to become a message.
type ready struct {
	store.Acceptance
	row     int
	cut     store.Cut       // that it is counted in until then
	refused *store.Evidence // it cannot go any more; nil: it can
}

// refuse makes it a row that does not go after all.
func (r *ready) refuse(e store.Evidence) { r.refused = &e }

// unfolding is rows on their way to become messages.
type unfolding struct {
	one     store.Batch
	set     []store.Acceptance
	refused []store.Evidence
	cuts    map[store.Cut]int
	purses  *purses

	segments int64 // of those that are not refused
}

// affords takes the price of a row out of the budgets; false if one of them has too little.
func (u *unfolding) affords(r *ready) bool { return r.refused != nil || u.purses.take(r.Message.Price) }

// forgo gives the price of a row back, which does not go yet.
func (u *unfolding) forgo(r *ready) { u.purses.give(r.Message.Price) }

func (u *unfolding) add(r ready) {
	if r.refused != nil {
		u.refused = append(u.refused, *r.refused)
	} else {
		u.segments += int64(r.Message.Segments)
	}
	u.set = append(u.set, r.Acceptance)
	if u.cuts == nil {
		u.cuts = map[store.Cut]int{}
	}
	u.cuts[r.cut]++
}

// goes is how many of them need not wait for a time.
func (u *unfolding) goes() (n int) {
	for i := range u.set {
		if u.set[i].Message.State != delivery.Held {
			n++
		}
	}
	return n
}

// write makes messages of them, after which their feed stands at a row, and returns those that
// were refused. Call it within [store.Store.Transact].
func (u *unfolding) write(
	ctx context.Context,
	b *Batches,
	s *store.Store,
	now time.Time,
	feed store.Feed,
	next int,
) (refused []store.Message, err error) {
	if err := u.purses.close(ctx, s); err != nil {
		return nil, err
	}
	counted := make([]store.Waiting, 0, len(u.cuts))
	for cut, n := range u.cuts {
		counted = append(counted, store.Waiting{Cut: cut, N: n})
	}
	feed.Segments += u.segments
	if err := b.Course.Unfold(ctx, s, now, feed, next, u.set, counted); err != nil || len(u.refused) == 0 {
		return nil, err
	}
	return b.Course.Record(ctx, s, u.refused, nil)
}

// make makes a row ready to become a message, planned anew: what was rehearsed may have been
// hours ago. One that cannot go any more is rejected, and says why.
func (f *feeding) make(one store.Batch, r *rows, row *sheet.Row, c batch.Check) (ready, error) {
	d := r.draft(row)
	d.Number = phone.Reading{Number: phone.Stored(c.To), Country: c.Country} // to read it is most of the work
	p, faults, err := f.planned(r, d)
	if len(faults) > 0 && faults[0].Field == "send_at" { // its time has come while it waited
		d.SendAt = ""
		p, faults, err = f.planned(r, d)
	}
	if err != nil {
		return ready{}, err
	}
	if r.own != nil {
		p.Template = ""
	}
	if p.Gateway == nil {
		if p.Gateway = f.through(c.Gateway); p.Gateway == nil {
			return ready{}, intake.ErrNoGateway
		}
	}
	m := f.Intake.Message(p, d)
	m.ID, m.KeyID = store.InBatch(*one.First, row.N), one.KeyID
	m.CreatedAt = *one.LaunchedAt
	if until := one.Launch.Until; !until.IsZero() && until.Before(m.ValidUntil) {
		m.ValidUntil = until
	}
	// What has no price here, as its list was only just set elsewhere, costs what was rehearsed.
	m.Price = cmp.Or(m.Price, c.Price)
	made := ready{row: row.N, cut: cutOf(one, c)}
	if len(faults) > 0 {
		m.Sender, m.Country, m.Segments = c.Sender, c.Country, c.Segments
		reason, say := reasonOf(p, faults)
		e := course.Own(m, f.Now(), delivery.Rejected, 0, "not sent: "+say)
		e.Cause = causes[reason]
		made.refuse(e)
	}
	made.Acceptance = store.Acceptance{Message: m, Begun: intake.Begun(p)}
	return made, nil
}

// causes are what rows are rejected for that could go when they were rehearsed.
var causes = map[batch.Reason]delivery.Cause{
	batch.BadSender: delivery.SenderRefused, batch.BadLink: delivery.ContentRefused, batch.BadText: delivery.ContentRefused,
	batch.BadField: delivery.ContentRefused, batch.TooLong: delivery.ContentRefused, batch.BadNumber: delivery.InvalidNumber,
	batch.NoMobile: delivery.InvalidNumber, batch.NoRoute: delivery.Unfit, batch.Otherwise: delivery.Unspecified,
}
