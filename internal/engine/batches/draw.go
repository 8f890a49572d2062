package batches

import (
	"context"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/dispatch"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

const (
	// staleAfter is how old rows become that are ready, before they are made ready anew.
	staleAfter = 2 * time.Second
	// asideMost is how many rows that do not go at once become messages with those that do.
	asideMost = 500
	// barFirst is how long no row of a batch is drawn when that failed, so that it holds up nothing
	// else; twice as long each time, up to barMost.
	barFirst, barMost = 2 * time.Second, time.Minute
)

// drawn reports whether the rows of a feed are drawn by the keeper of its gateway, because they
// have to wait for nothing else. All instances come to the same answer.
func (b *Batches) drawn(one *store.Batch, feed *store.Feed, g *roster.Gateway) bool {
	if one.Pace().N > 0 || one.Wants.Kind != "" && one.Wants.Kind != string(pace.Bulk) || g.Name != feed.Gateway ||
		g.Unusable(b.Roster.Health(g.ID), b.Now()) != "" {
		return false
	}
	for sender := range b.Roster.Book().Paced {
		if _, uses := one.Totals.BySender[sender]; uses {
			return false
		}
	}
	return true
}

// shelf holds rows that are ready for the gateways that are kept here.
type shelf struct {
	mu     sync.Mutex
	lines  map[uuid.UUID][]*line // by gateway
	queued map[uuid.UUID]int     // batches that go through a gateway by way of its queue
	last   map[uuid.UUID]*line   // that was drawn from
}

// line are rows of a feed that are ready, in their order.
type line struct {
	one  store.Batch
	feed int
	rows []ready
	from int // the rows of the feed from this one on are among them, up to
	next int // the first row that was not looked at

	failed int       // so often in a row
	barred time.Time // until then nothing is drawn from it
}

func newShelf() *shelf { return &shelf{lines: map[uuid.UUID][]*line{}, last: map[uuid.UUID]*line{}} }

// find finds a line; nil if there is none.
func (s *shelf) find(gateway, one uuid.UUID, feed int) *line {
	for _, l := range s.lines[gateway] {
		if l.one.ID == one && l.feed == feed {
			return l
		}
	}
	return nil
}

// at is how many rows of a feed are ready.
func (s *shelf) at(gateway, one uuid.UUID, feed int) int {
	s.mu.Lock()
	defer s.mu.Unlock()
	if l := s.find(gateway, one, feed); l != nil {
		return len(l.rows)
	}
	return 0
}

// keep drops the lines of all feeds but those that are to be filled.
func (s *shelf) keep(filled []*filling, queued map[uuid.UUID]int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.queued = queued
	for gateway, lines := range s.lines {
		s.lines[gateway] = slices.DeleteFunc(lines, func(l *line) bool {
			return !slices.ContainsFunc(filled, func(w *filling) bool {
				return w.drawn && w.g.ID == gateway && w.one.ID == l.one.ID && w.feed.N == l.feed
			})
		})
		if len(s.lines[gateway]) == 0 {
			delete(s.lines, gateway)
			delete(s.last, gateway)
		}
	}
}

// from is the row from which on rows of a feed are to be made ready. Those that have become
// stale are dropped; it returns how many they were.
func (s *shelf) from(w *filling, now time.Time) (row, dropped int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	l := s.find(w.g.ID, w.one.ID, w.feed.N)
	if l == nil {
		l = &line{feed: w.feed.N, from: w.feed.NextRow, next: w.feed.NextRow}
		s.lines[w.g.ID] = append(s.lines[w.g.ID], l)
	}
	l.one = w.one
	if len(l.rows) > 0 && now.Sub(l.rows[0].Message.ChangedAt) > staleAfter {
		l.next, l.rows, dropped = l.rows[0].row, nil, len(l.rows)
	}
	return l.next, dropped
}

// add puts rows behind those that are ready.
func (s *shelf) add(w *filling, rows []ready, next int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if l := s.find(w.g.ID, w.one.ID, w.feed.N); l != nil {
		l.rows, l.next = append(l.rows, rows...), next
	}
}

// forward drops rows before the one at which their feed stands now.
func (s *shelf) forward(gateway, one uuid.UUID, feed, stands int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if l := s.find(gateway, one, feed); l != nil {
		l.rows, l.from, l.next = since(l.rows, stands), max(l.from, stands), max(l.next, stands)
		l.failed = 0
	}
}

// bar lets nothing be drawn for a while from the line that was drawn from last.
func (s *shelf) bar(gateway uuid.UUID, now time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if l := s.last[gateway]; l != nil {
		l.barred = now.Add(min(barFirst<<min(l.failed, 10), barMost))
		l.failed++
	}
}

// ready reports whether rows of a line may be drawn.
func (l *line) ready(now time.Time) bool { return len(l.rows) > 0 && !now.Before(l.barred) }

// since are rows from one on.
func since(rows []ready, from int) []ready {
	at, _ := slices.BinarySearchFunc(rows, from, func(r ready, row int) int { return r.row - row })
	return rows[at:]
}

// counted counts lines that have rows, and the batches that go by way of the queue.
func (s *shelf) counted(gateway uuid.UUID, now time.Time) (lines, queued int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, l := range s.lines[gateway] {
		lines += one(l.ready(now))
	}
	return lines, s.queued[gateway]
}

func one(is bool) int {
	if is {
		return 1
	}
	return 0
}

// take is the line of those that have rows whose turn it is, as it is now; false if there is
// none.
func (s *shelf) take(gateway uuid.UUID, turn int, now time.Time) (line, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	var full []*line
	for _, l := range s.lines[gateway] {
		if l.ready(now) {
			full = append(full, l)
		}
	}
	if full == nil {
		return line{}, false
	}
	s.last[gateway] = full[turn%len(full)]
	return *s.last[gateway], true
}

// shelve makes rows ready to be drawn, at most so many.
func (f *feeding) shelve(ctx context.Context, w *filling, most int) (n int, more bool, err error) {
	from, dropped := f.shelf.from(w, f.Now())
	f.flows[flowing{w.one.ID, w.g.ID}].ahead -= dropped // they have not gone
	if most <= 0 {
		return 0, false, nil
	}
	rows, next, until, err := f.ready(ctx, w.one, w.feed, from, most)
	if err != nil {
		return 0, false, err
	}
	f.shelf.add(w, rows, next)
	if f.shelf.at(w.g.ID, w.one.ID, w.feed.N) == 0 && !until.IsZero() {
		err = f.Store.DeferFeed(ctx, w.feed, until)
	}
	return len(rows), len(rows) == most, err
}

// Ready is what [dispatch.Rows] asks for.
func (b *Batches) Ready(gateway uuid.UUID) (lines, queued int) {
	return b.shelf.counted(gateway, b.Now())
}

// Failed is what [dispatch.Rows] tells.
func (b *Batches) Failed(gateway uuid.UUID) { b.shelf.bar(gateway, b.Now()) }

// Draw is what [dispatch.Rows] asks for.
func (b *Batches) Draw(
	ctx context.Context,
	s *store.Store,
	gateway uuid.UUID,
	turn, most int,
	place func(store.Message) bool,
) (d dispatch.Drawn, err error) {
	now := b.Now()
	l, ok := b.shelf.take(gateway, turn, now)
	if !ok {
		return d, nil
	}
	feed, ok, err := s.LockFeed(ctx, l.one.ID, l.feed, now)
	if err != nil || !ok || feed.Paced || feed.NextRow < l.from { // rows would be passed over
		return d, err
	}
	u := unfolding{one: l.one}
	u.one.Launch = feed.Launch
	if u.purses, err = b.openPurses(ctx, s, &u.one, now); err != nil {
		return d, err
	}
	rows := since(l.rows, feed.NextRow)
	rows = rows[:min(len(rows), most+asideMost)]
	out := map[string]store.OptOut{}
	if feed.OptOuts {
		numbers := make([]string, len(rows))
		for i := range rows {
			numbers[i] = rows[i].Message.To.String()
		}
		if out, err = s.OptedOut(ctx, numbers); err != nil {
			return d, err
		}
	}
	paced := b.Roster.Book().Paced
	next := feed.NextRow
	for _, r := range rows {
		m := &r.Message
		if o, is := out[m.To.String()]; is && r.refused == nil {
			r.refuse(course.OptedOut(*m, now, o))
		}
		if !u.affords(&r) {
			break
		}
		slow := paced[m.Sender] > 0 // it was only just given a pace
		if r.refused == nil && m.State == delivery.Queued && m.GatewayID == gateway && !slow && m.ValidUntil.After(now) {
			if !place(*m) {
				u.forgo(&r)
				d.More = true
				break
			}
			goes := course.Own(*m, now, delivery.Sending, 1, "")
			r.Goes = &goes
		}
		u.add(r)
		next = r.row + 1
	}
	if len(u.set) == 0 && !u.purses.isEmpty() {
		return d, nil
	}
	var refused []store.Message
	if len(u.set) > 0 {
		if refused, err = u.write(ctx, b, s, now, feed.Feed, next); err != nil {
			return d, err
		}
	}
	aside := refused
	for i := range u.set {
		switch m := u.set[i].Message; {
		case u.set[i].Goes != nil:
			d.Going = append(d.Going, m)
		case m.State == delivery.Queued:
			aside = append(aside, m)
		}
	}
	d.Done = func(ctx context.Context) {
		b.shelf.forward(gateway, l.one.ID, l.feed, next)
		b.Course.Announce(aside)
		if u.purses.isEmpty() {
			if err := b.broke(ctx, &u.one, u.purses); err != nil && ctx.Err() == nil {
				b.Log.Error("stopping a batch", "batch", l.one.ID, "error", err)
			}
		}
	}
	return d, nil
}

var _ dispatch.Rows = (*Batches)(nil)
