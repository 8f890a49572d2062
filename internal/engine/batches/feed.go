package batches

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/sheet"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/intake"
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
	// aheadLeast and aheadMost bound what is let out through a gateway at a time.
	aheadLeast, aheadMost = 20, 20_000
	// unlimited is how fast a gateway without a limit is taken to be, at least.
	unlimited = 3000
)

// feedAll lets rows out until ctx ends.
func (b *Batches) feedAll(ctx context.Context) {
	f := &feeding{
		Batches: b,
		flows:   map[flowing]*flow{},
		packs:   map[feedID]*opened{},
		scouts:  map[uuid.UUID]batch.Scouts{},
		stood:   map[uuid.UUID][]stood{},
	}
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	said := time.Time{}
	for {
		busy, err := f.look(ctx)
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

// feeding is what one instance remembers of the batches that it feeds.
type feeding struct {
	*Batches
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
		return false, errors.Join(errs...)
	}
	feeds, err := f.Store.Feeds(ctx, ids)
	if err != nil {
		return true, err
	}
	now := f.Now()
	var open []store.Feed
	sharing := map[string]int{} // batches at a gateway
	for _, feed := range feeds {
		if feed.Open && !feed.OpensAt.After(now) {
			open = append(open, feed)
			sharing[feed.Gateway]++
		}
	}
	var wanting []*filling
	taken := map[flowing]bool{}
	ahead := map[uuid.UUID]map[uuid.UUID]int{}
	for _, feed := range open {
		one := running[feed.BatchID]
		if ahead[one.ID] == nil {
			if ahead[one.ID], err = f.Store.Ahead(ctx, *one.First); err != nil {
				return true, err
			}
		}
		// Scouts come before the rest that goes through the same gateway.
		if g := f.through(feed.Gateway); g != nil && !taken[flowing{one.ID, g.ID}] {
			taken[flowing{one.ID, g.ID}] = true
			if want := f.want(one, g, ahead[one.ID][g.ID], sharing[feed.Gateway]); want > 0 {
				wanting = append(wanting, &filling{one, feed.N, g, want})
			}
		}
	}
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
	one  store.Batch
	feed int
	g    *roster.Gateway
	want int
}

// fill lets a portion out; more if it is not all that is wanted.
func (f *feeding) fill(ctx context.Context, w *filling) (more bool, err error) {
	n, more, err := f.unfold(ctx, w.one, w.feed, min(w.want, batch.PackRows))
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

// want is how many rows a gateway lacks of a batch, ahead being those that it has.
func (f *feeding) want(one store.Batch, g *roster.Gateway, ahead, sharing int) int {
	key := flowing{one.ID, g.ID}
	at := f.flows[key]
	now := time.Now()
	if at == nil {
		at = &flow{at: now}
		f.flows[key] = at
	}
	if passed := now.Sub(at.at); passed >= lookEvery/2 {
		went := max(float64(at.ahead-ahead)/passed.Seconds(), 0)
		at.rate = max(went, at.rate*0.8)
		at.at = now
	}
	at.ahead = ahead
	rate := at.rate
	switch {
	case g.PerSecond > 0:
		rate = float64(g.PerSecond) / float64(max(sharing, 1))
	default:
		rate = max(rate, unlimited/float64(max(sharing, 1)))
	}
	if own := one.Pace().Rate(); own > 0 {
		rate = min(rate, own)
	}
	target := min(max(int(rate*aheadFor.Seconds()), aheadLeast), aheadMost)
	if lacks := target - ahead; lacks >= max(target/4, 1) || ahead < aheadLeast/2 {
		return lacks
	}
	return 0
}

// unfoldPacks is how many packs are gone through at most while a feed is locked: scouts are
// few and far between.
const unfoldPacks = 50

// unfold makes messages of the next rows of a feed, at most so many, and returns how many of
// them can go at once; more if it can go on.
func (f *feeding) unfold(ctx context.Context, one store.Batch, n, most int) (made int, more bool, err error) {
	scouts, ok := f.scouts[one.ID]
	if !ok {
		if scouts, err = f.scoutsOf(ctx, one.ID, one.Launch); err != nil {
			return 0, false, err
		}
		f.scouts[one.ID] = scouts
	}
	var refused []store.Message
	var purses *purses
	err = f.Store.Transact(ctx, func(s *store.Store) error {
		made, more, refused, purses = 0, false, nil, nil
		now := f.Now()
		feed, launch, ok, err := s.LockFeed(ctx, one.ID, n, now)
		if err != nil || !ok {
			return err
		}
		one.Launch = launch // its budget may have been changed since it was read
		if purses, err = f.openPurses(ctx, s, &one, now); err != nil {
			return err
		}
		u := unfolding{now: now, one: one, purses: purses}
		next := max(feed.NextRow, 1)
		last := next + unfoldPacks*batch.PackRows
		for ; len(u.set) < min(most, feed.Waiting) && next < last; next++ {
			p, err := f.open(ctx, one, n, (next-1)/batch.PackRows)
			if err != nil {
				return err
			}
			i := (next - 1) % batch.PackRows
			if i >= len(p.rows) {
				break
			}
			c := p.checks[i]
			if !c.Goes() || c.Gateway != feed.Gateway || scouts.Has(next) != feed.Scouts {
				continue
			}
			fits, err := f.make(&u, p.reader, &p.rows[i], c)
			if err != nil {
				return err
			}
			if !fits {
				break
			}
		}
		made = u.goes()
		more = len(u.set) < feed.Waiting && next <= one.Rows && !purses.isEmpty()
		if err := purses.close(ctx, s); err != nil {
			return err
		}
		if err := s.Unfold(ctx, feed, next, u.set, u.counted()); err != nil {
			return err
		}
		if len(u.refused) > 0 {
			refused, err = f.Course.Record(ctx, s, u.refused, nil)
		}
		return err
	})
	if err != nil {
		return 0, false, err
	}
	f.Course.Announce(refused)
	if purses.isEmpty() {
		p := purses.empty
		f.Log.Warn("a budget stopped a batch", "batch", one.ID, "name", one.Name, "budget", p.Name)
		return made, false, f.stop(ctx, one.ID, p.stop, fmt.Sprintf("%s of %s is spent", p.Name, p.Budget))
	}
	return made, more, nil
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
	f.packs[key] = p
	return p, nil
}

// unfolding is rows on their way to become messages.
type unfolding struct {
	now     time.Time
	one     store.Batch
	set     []store.Acceptance
	refused []store.Evidence
	cuts    map[store.Cut]int
	purses  *purses
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

func (u *unfolding) counted() []store.Waiting {
	var all []store.Waiting
	for cut, n := range u.cuts {
		all = append(all, store.Waiting{Cut: cut, N: n})
	}
	return all
}

// make makes a message of a row, planned anew: what was rehearsed may have been hours ago. One
// that cannot go any more is rejected, and says why. It does not fit if its budget is spent.
func (f *feeding) make(u *unfolding, r *rows, row *sheet.Row, c batch.Check) (fits bool, err error) {
	d := r.draft(row)
	p, faults, err := f.planned(r, d)
	if len(faults) > 0 && faults[0].Field == "send_at" { // its time has come while it waited
		d.SendAt = ""
		p, faults, err = f.planned(r, d)
	}
	if err != nil {
		return false, err
	}
	if r.own != nil {
		p.Template = ""
	}
	if p.Gateway == nil {
		if p.Gateway = f.through(c.Gateway); p.Gateway == nil {
			return false, intake.ErrNoGateway
		}
	}
	m := f.Intake.Message(p, d)
	m.ID, m.KeyID = store.InBatch(*u.one.First, row.N), u.one.KeyID
	m.CreatedAt = *u.one.LaunchedAt
	if until := u.one.Launch.Until; !until.IsZero() && until.Before(m.ValidUntil) {
		m.ValidUntil = until
	}
	// What has no price here, as its list was only just set elsewhere, costs what was rehearsed.
	m.Price = cmp.Or(m.Price, c.Price)
	if len(faults) == 0 && !u.purses.take(m.Price) {
		return false, nil
	}
	if len(faults) > 0 {
		m.Sender, m.Country, m.Segments = c.Sender, c.Country, c.Segments
		reason, say := reasonOf(p, faults)
		e := course.Own(m, u.now, delivery.Rejected, 0, "not sent: "+say)
		e.Cause = causes[reason]
		u.refused = append(u.refused, e)
	}
	u.set = append(u.set, store.Acceptance{Message: m, Begun: intake.Begun(p)})
	if u.cuts == nil {
		u.cuts = map[store.Cut]int{}
	}
	u.cuts[cutOf(u.one, c)]++
	return true, nil
}

// causes are what rows are rejected for that could go when they were rehearsed.
var causes = map[batch.Reason]delivery.Cause{
	batch.BadSender: delivery.SenderRefused, batch.BadLink: delivery.ContentRefused, batch.BadText: delivery.ContentRefused,
	batch.BadField: delivery.ContentRefused, batch.TooLong: delivery.ContentRefused, batch.BadNumber: delivery.InvalidNumber,
	batch.NoMobile: delivery.InvalidNumber, batch.NoRoute: delivery.Unfit, batch.Otherwise: delivery.Unspecified,
}

// settle sees whether the time of a batch is over, withdraws what is left of one that was
// cancelled, and notes that it has come to its end.
func (f *feeding) settle(ctx context.Context, one store.Batch) error {
	now := f.Now()
	if one.State == batch.Cancelled {
		if err := f.withdraw(ctx, one); err != nil {
			return err
		}
	}
	counts, err := f.Store.CountBatch(ctx, one)
	if err != nil {
		return err
	}
	if err := f.sample(ctx, one, counts, now, f.apart(one, now)); err != nil {
		return err
	}
	late := !one.Launch.Until.IsZero() && !one.Launch.Until.After(now)
	rows, open := 0, false
	for _, c := range counts {
		switch {
		case c.Waiting && !c.State.Final():
			rows++
		case !c.State.Final():
			open = true
		}
	}
	if one.State == batch.Held && one.Launch.Stopped == batch.ByDay && now.Sub(one.Launch.StoppedOn) >= 24*time.Hour {
		if _, err := f.Resume(ctx, one.ID, ""); err != nil && !errors.Is(err, store.ErrNotNow) { // somebody else did
			return err
		}
	}
	if one.State == batch.Running {
		if held, err := f.guard(ctx, one, counts); held || err != nil {
			return err
		}
	}
	switch {
	case rows > 0 && late:
		_, err = f.Store.ChangeBatch(ctx, one.ID, now, func(s *store.Store, is *store.Batch) error {
			if !is.State.Active() {
				return nil
			}
			is.Why = "its time was over"
			return errors.Join(s.CloseFeeds(ctx, one.ID), s.CountWaiting(ctx, one.ID, now, delivery.Expired))
		})
	case rows > 0:
		return f.Store.CountOpened(ctx, one.ID, now)
	case open:
	default:
		if err := f.sample(ctx, one, counts, now, 0); err != nil {
			return err
		}
		_, err = f.Store.ChangeBatch(ctx, one.ID, now, func(_ *store.Store, is *store.Batch) error {
			if is.FinishedAt != nil {
				return nil
			}
			if is.FinishedAt = &now; is.State != batch.Cancelled {
				is.State = batch.Finished
			}
			return nil
		})
	}
	return err
}

// samplesFine is how many samples of a batch are a second apart; after that they are as many
// parts of its time apart.
const samplesFine = 200

// apart is how far apart samples of a batch are.
func (f *feeding) apart(one store.Batch, now time.Time) time.Duration {
	return max(settleEvery, now.Sub(later(*one.LaunchedAt, one.Launch.StartsAt))/samplesFine) - settleEvery/10
}

// sample notes how a batch stands, to be drawn, unless that was noted a moment ago.
func (f *feeding) sample(ctx context.Context, one store.Batch, counts []store.BatchCount, now time.Time, apart time.Duration) error {
	sample := store.BatchSample{At: now, Counts: map[delivery.State]int64{}}
	for _, c := range counts {
		sample.Counts[c.State] += c.N
	}
	if now.Before(one.Launch.StartsAt) && now.Sub(*one.LaunchedAt) > 2*settleEvery {
		return nil // nothing happens until then
	}
	return f.Store.NoteSample(ctx, one.ID, sample, apart)
}

// standing is what a guard looks at.
func standing(counts []store.BatchCount) (s batch.Standing, messages int64) {
	s.Micros, s.Causes = batch.Sums{}, map[delivery.Cause]int64{}
	for _, c := range counts {
		if c.Waiting {
			continue
		}
		messages += c.N
		if c.Cause == delivery.TooLate { // it was not sent, as was asked for
			continue
		}
		switch c.State {
		case delivery.Held, delivery.Queued, delivery.Cancelled:
			continue
		case delivery.Delivered:
			s.Delivered += c.N
		case delivery.Doubtful, delivery.Unknown:
			s.Doubtful += c.N
		case delivery.Undeliverable, delivery.Expired, delivery.Rejected:
			s.Failed += c.N
			if c.Cause != "" {
				s.Causes[c.Cause] += c.N
			}
		}
		s.Gone += c.N
		if c.Currency != "" && c.State != delivery.Rejected {
			s.Micros[c.Currency] += c.Micros
		}
	}
	return s, messages
}

// guard stops a batch that does not go as it should, and lets the rest follow its scouts, or
// says why it does not.
func (f *feeding) guard(ctx context.Context, one store.Batch, counts []store.BatchCount) (held bool, err error) {
	now := f.Now()
	is, messages := standing(counts)
	past := f.stood[one.ID]
	for len(past) > 1 && now.Sub(past[1].at) >= batch.GuardWindow {
		past = past[1:]
	}
	f.stood[one.ID] = append(past, stood{now, is})
	before := batch.Standing{}
	if len(past) > 0 && now.Sub(past[0].at) >= batch.GuardWindow {
		before = past[0].Standing
	}
	if why := one.Launch.Guard.Judge(before, is, one.Totals.Micros); why != "" {
		f.Log.Warn("the guard stopped a batch", "batch", one.ID, "name", one.Name, "why", why)
		return true, f.stop(ctx, one.ID, batch.ByGuard, why)
	}
	if one.Launch.ScoutsWait.After == 0 || int64(one.Launch.Scouts) != messages {
		return false, nil
	}
	goes, why := one.Launch.ScoutsWait.Judge(now.Sub(later(*one.LaunchedAt, one.Launch.StartsAt)), is.Delivered, messages)
	switch {
	case goes:
		_, err = f.Release(ctx, one.ID, "")
	case why != "":
		err = f.stop(ctx, one.ID, batch.ByScouts, why)
	}
	return why != "", err
}

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}
