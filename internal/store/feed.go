package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/label"
	"calmpigeon.example/internal/core/pace"
)

// Feed are the rows of a batch that are let out together: those that go through one
// gateway, and are scouts or not. Its rows are those of its kind from NextRow on.
type Feed struct {
	BatchID uuid.UUID
	N       int
	Gateway string // by name, as rehearsed
	Scouts  bool
	Hours   string // at which its rows may go, as [batch.Check.Hours] tells them apart; empty: any, or each at its own
	Open    bool
	OpensAt time.Time
	NextRow int // 1 first; 0: none has been looked at
	Waiting int // rows
	// Segments are those of the rows that were let out and not refused.
	Segments int64
}

// Waiting are rows of a feed that are counted alike and are no messages yet.
type Waiting struct {
	Feed    int
	Cut     Cut
	Gateway uuid.UUID
	N       int

	cut int32
}

// Cut is what tallies count a message by.
type Cut struct {
	Key                             uuid.UUID
	Sender, Country, Kind, Template string
	Labels                          label.Set
}

// cutsOf gives the combinations that rows are counted in.
func (s *Store) cutsOf(ctx context.Context, waiting []Waiting) error {
	set := make([]Acceptance, len(waiting))
	for i, w := range waiting {
		m := &set[i].Message
		m.KeyID, m.Sender, m.Country, m.Kind, m.Template = w.Cut.Key, w.Cut.Sender, w.Cut.Country, pace.Kind(w.Cut.Kind), w.Cut.Template
		m.Labels = w.Cut.Labels
	}
	if err := s.cut(ctx, set); err != nil {
		return err
	}
	for i := range waiting {
		waiting[i].cut = set[i].Message.cut
	}
	return nil
}

// PutFeeds keeps the feeds of a batch that is launched, and counts its rows as accepted. Call
// it within [Store.Transact].
func (s *Store) PutFeeds(ctx context.Context, id, first uuid.UUID, state delivery.State, feeds []Feed, waiting []Waiting) error {
	if err := s.cutsOf(ctx, waiting); err != nil {
		return err
	}
	var b pgx.Batch
	b.Queue(`INSERT INTO batch_feeds (batch_id, n, gateway, scouts, open, opens_at, waiting, hours)
		SELECT $1, * FROM unnest($2::int[], $3::text[], $4::boolean[], $5::boolean[], $6::timestamptz[], $7::int[], $8::text[])`, id,
		numbers(feeds, func(f *Feed) int { return f.N }), words(feeds, func(f *Feed) string { return f.Gateway }),
		column(feeds, func(f *Feed) bool { return f.Scouts }), column(feeds, func(f *Feed) bool { return f.Open }),
		column(feeds, func(f *Feed) time.Time { return f.OpensAt }), numbers(feeds, func(f *Feed) int { return f.Waiting }),
		words(feeds, func(f *Feed) string { return f.Hours }))
	b.Queue(`INSERT INTO batch_waiting (batch_id, feed, cut_id, gateway_id, accepted_at, state, n)
		SELECT $1, n.feed, n.cut, n.gateway, $2, CASE WHEN f.open AND f.opens_at <= now() THEN $3 ELSE 'held' END, n.n
		FROM unnest($4::int[], $5::int[], $6::uuid[], $7::int[]) AS n (feed, cut, gateway, n)
		JOIN batch_feeds f ON f.batch_id = $1 AND f.n = n.feed`, id, timeOf(first), string(state),
		numbers(waiting, func(w *Waiting) int { return w.Feed }), numbers(waiting, func(w *Waiting) int { return int(w.cut) }),
		ids(waiting, func(w *Waiting) uuid.UUID { return w.Gateway }), numbers(waiting, func(w *Waiting) int { return w.N }))
	return s.send(ctx, &b)
}

// AtWork are the batches whose rows may have to go, or of which the end is not known. Of their
// totals only what all of it costs, how much goes and through which senders is read, as this is asked for ten times a
// second; whole reads all of them.
func (s *Store) AtWork(ctx context.Context, whole bool) (all []Batch, err error) {
	find := s.gorm(ctx)
	if !whole {
		find = find.Select("*", `jsonb_build_object('rows', totals->'rows', 'goes', totals->'goes', 'cost', totals->'cost',
			'by_sender', totals->'by_sender') AS totals`)
	}
	err = find.Where("state IN ('running', 'paused', 'held', 'cancelled') AND finished_at IS NULL").Order("id").Find(&all).Error
	return all, err
}

// Feeds are those of batches of which rows wait.
func (s *Store) Feeds(ctx context.Context, batches []uuid.UUID) ([]Feed, error) {
	if len(batches) == 0 {
		return nil, nil
	}
	return query(ctx, s.hot(), func(rows pgx.Rows) (f Feed, err error) {
		err = rows.Scan(f.into()...)
		return f, err
	}, "SELECT "+feedColumns+" FROM batch_feeds f WHERE f.batch_id = ANY($1) AND f.waiting > 0 ORDER BY f.batch_id, f.n", uuids(batches))
}

const feedColumns = "f.batch_id, f.n, f.gateway, f.scouts, f.open, f.opens_at, f.next_row, f.waiting, f.hours, f.segments"

func (f *Feed) into() []any {
	return []any{&f.BatchID, &f.N, &f.Gateway, &f.Scouts, &f.Open, &f.OpensAt, &f.NextRow, &f.Waiting, &f.Hours, &f.Segments}
}

// LockedFeed is a feed that is locked, with what of its batch its rows have to know as they
// are let out. While it is locked the batch stays as it is.
type LockedFeed struct {
	Feed
	Launch  batch.Launch
	Paced   bool // the batch has a pace of its own
	OptOuts bool // there are any
}

// LockFeed locks a feed whose rows may go now; false if they may not, or another instance is
// at it. Call it within [Store.Transact].
func (s *Store) LockFeed(ctx context.Context, id uuid.UUID, n int, now time.Time) (LockedFeed, bool, error) {
	return s.lockFeed(ctx, id, n, now, "AND f.open AND b.state = 'running' FOR UPDATE OF f SKIP LOCKED FOR SHARE OF b SKIP LOCKED")
}

// LockHeldFeed is [Store.LockFeed] for a feed whose time has come, also where it is held, or its batch
// is. It waits for an instance that is at it.
func (s *Store) LockHeldFeed(ctx context.Context, id uuid.UUID, n int, now time.Time) (LockedFeed, bool, error) {
	return s.lockFeed(ctx, id, n, now, "FOR UPDATE OF f FOR SHARE OF b")
}

func (s *Store) lockFeed(ctx context.Context, id uuid.UUID, n int, now time.Time, which string) (LockedFeed, bool, error) {
	locked, err := query(ctx, s.hot(), func(rows pgx.Rows) (f LockedFeed, err error) {
		var launch []byte
		if err = rows.Scan(append(f.into(), &launch, &f.Paced, &f.OptOuts)...); err == nil {
			err = json.Unmarshal(launch, &f.Launch)
		}
		return f, err
	}, "SELECT "+feedColumns+`, b.launch, b.pace_n > 0, EXISTS (SELECT FROM opt_outs WHERE ended_at IS NULL)
		FROM batch_feeds f JOIN batches b ON b.id = f.batch_id
		WHERE f.batch_id = $1 AND f.n = $2 AND f.waiting > 0 AND f.opens_at <= $3 `+which, id, n, now)
	if err != nil || len(locked) == 0 {
		return LockedFeed{}, false, err
	}
	return locked[0], true, nil
}

// Unfold makes messages of rows of a feed, which then stands at a row. counted are how the
// rows were counted until now. Those that go at once are planned, as [Store.Append] does, and
// changed to what they are then. Call it within [Store.Transact].
func (s *Store) Unfold(
	ctx context.Context,
	now time.Time,
	f Feed,
	next int,
	set []Acceptance,
	counted []Waiting,
	plan func(before, after *Message, known delivery.Outcome),
) error {
	if err := s.cutsOf(ctx, counted); err != nil {
		return err
	}
	if err := s.cut(ctx, set); err != nil {
		return err
	}
	for i := range set {
		if set[i].Goes != nil {
			set[i].begin(now, plan)
		}
	}
	if err := s.accept(ctx, set); err != nil {
		return fmt.Errorf("unfolding %d rows of a batch: %w", len(set), err)
	}
	var b pgx.Batch
	b.Queue("UPDATE batch_feeds SET next_row = $3, waiting = waiting - $4, segments = $5 WHERE batch_id = $1 AND n = $2", f.BatchID, f.N,
		next, len(set), f.Segments)
	b.Queue(`UPDATE batch_waiting w SET n = w.n - n.n FROM unnest($3::int[], $4::int[]) AS n (cut, n)
		WHERE w.batch_id = $1 AND w.feed = $2 AND w.cut_id = n.cut`, f.BatchID, f.N,
		numbers(counted, func(w *Waiting) int { return int(w.cut) }), numbers(counted, func(w *Waiting) int { return w.N }))
	b.Queue("DELETE FROM batch_waiting WHERE batch_id = $1 AND feed = $2 AND n = 0", f.BatchID, f.N)
	return s.send(ctx, &b)
}

// CountWaiting writes as what the rows of a batch count that are no messages yet: held or
// queued as their feeds are open, or as they are told to.
func (s *Store) CountWaiting(ctx context.Context, id uuid.UUID, now time.Time, state delivery.State) error {
	var b pgx.Batch
	b.Queue(`UPDATE batch_waiting w SET state = CASE WHEN $3 <> 'queued' OR f.open AND f.opens_at <= $2 THEN $3 ELSE 'held' END
		FROM batch_feeds f WHERE f.batch_id = $1 AND w.batch_id = $1 AND w.feed = f.n`, id, now, string(state))
	return s.send(ctx, &b)
}

// OpenFeeds lets feeds of a batch go that are held: all of them, or scouts alone.
func (s *Store) OpenFeeds(ctx context.Context, id uuid.UUID) error {
	var b pgx.Batch
	b.Queue("UPDATE batch_feeds SET open = true WHERE batch_id = $1", id)
	return s.send(ctx, &b)
}

// Ahead counts the messages of a batch that wait to be sent, by gateway.
func (s *Store) Ahead(ctx context.Context, first uuid.UUID) (map[uuid.UUID]int, error) {
	type ahead struct {
		gateway uuid.UUID
		n       int
	}
	found, err := query(ctx, s.hot(), func(rows pgx.Rows) (a ahead, err error) {
		err = rows.Scan(&a.gateway, &a.n)
		return a, err
	}, "SELECT gateway_id, count(*)::int FROM to_send WHERE id > $1 AND id <= $2 GROUP BY 1", first, lastOf(first))
	counts := make(map[uuid.UUID]int, len(found))
	for _, a := range found {
		counts[a.gateway] = a.n
	}
	return counts, err
}

// lastOf is the last id that a message of a batch can have.
func lastOf(first uuid.UUID) uuid.UUID { return InBatch(first, 1<<24-1) }

// Keep holds back what waits of a batch, and Release lets it go from a moment on.
func (s *Store) Keep(ctx context.Context, first uuid.UUID) error {
	var b pgx.Batch
	b.Queue("UPDATE to_send SET due_at = $3 WHERE id > $1 AND id <= $2", first, lastOf(first), never)
	return s.send(ctx, &b)
}

// Release undoes [Store.Keep].
func (s *Store) Release(ctx context.Context, first uuid.UUID, now time.Time) error {
	var b pgx.Batch
	b.Queue("UPDATE to_send SET due_at = $3 WHERE id > $1 AND id <= $2 AND due_at = $4", first, lastOf(first), now, never)
	return s.send(ctx, &b)
}

// WaitingOf takes messages of a batch that wait to be sent, or for their time, at most so
// many. Call it within [Store.Transact].
func (s *Store) WaitingOf(ctx context.Context, first uuid.UUID, most int) ([]Message, error) {
	waiting, err := query(ctx, s.hot(), scanID, `(SELECT id FROM to_send WHERE id > $1 AND id <= $2 ORDER BY id LIMIT $3)
		UNION ALL (SELECT id FROM held WHERE id > $1 AND id <= $2 ORDER BY id LIMIT $3)`, first, lastOf(first), most)
	if err != nil {
		return nil, err
	}
	return s.read(ctx, waiting[:min(len(waiting), most)], "AND s.state IN ('queued', 'held') ORDER BY s.id FOR UPDATE OF s")
}

// BatchMessage is where the message of a row stands.
type BatchMessage struct {
	Row       int
	ID        uuid.UUID
	State     delivery.State
	Cause     delivery.Cause
	SettledAt *time.Time
	GatewayID uuid.UUID
	Micros    *int64
	Currency  string
}

// BatchMessages are those of the rows from one to another, both included, in their order.
func (s *Store) BatchMessages(ctx context.Context, first uuid.UUID, from, to int) ([]BatchMessage, error) {
	m := monthOf(first)
	if !s.months.has(m) {
		return nil, nil
	}
	found, err := query(ctx, s.reading(), func(rows pgx.Rows) (b BatchMessage, err error) {
		err = rows.Scan(&b.ID, &b.State, &b.Cause, &b.SettledAt, &b.GatewayID, &b.Micros, &b.Currency)
		_, b.Row, _ = BatchOf(b.ID)
		return b, err
	}, m.in(`SELECT id, state, cause, settled_at, gateway_id, price_micros, currency FROM standings_%M
		WHERE id >= $1 AND id <= $2 ORDER BY id`), InBatch(first, from), InBatch(first, to))
	if err != nil {
		s.missing(err)
		return nil, fmt.Errorf("reading messages of a batch: %w", err)
	}
	return found, nil
}

// CloseFeeds lets no more of a batch go.
func (s *Store) CloseFeeds(ctx context.Context, id uuid.UUID) error {
	var b pgx.Batch
	b.Queue("UPDATE batch_feeds SET open = false WHERE batch_id = $1", id)
	return s.send(ctx, &b)
}

// SegmentsOut counts the segments of the rows of a batch that were let out and not refused.
func (s *Store) SegmentsOut(ctx context.Context, id uuid.UUID) (n int64, err error) {
	return n, s.gorm(ctx).Raw("SELECT coalesce(sum(segments), 0)::bigint FROM batch_feeds WHERE batch_id = ?", id).Scan(&n).Error
}

// DeferFeed lets nothing of a feed go before a moment, unless it stands elsewhere by now.
func (s *Store) DeferFeed(ctx context.Context, f Feed, until time.Time) error {
	var b pgx.Batch
	b.Queue(
		`WITH deferred AS (UPDATE batch_feeds SET opens_at = $4
			WHERE batch_id = $1 AND n = $2 AND next_row = $3 AND opens_at < $4 RETURNING n)
		UPDATE batch_waiting w SET state = 'held' FROM deferred WHERE w.batch_id = $1 AND w.feed = deferred.n AND w.state = 'queued'`,
		f.BatchID,
		f.N,
		f.NextRow,
		until,
	)
	return s.send(ctx, &b)
}

// CountOpened counts rows as queued whose time has come while their batch is running.
func (s *Store) CountOpened(ctx context.Context, id uuid.UUID, now time.Time) error {
	var b pgx.Batch
	b.Queue(`UPDATE batch_waiting w SET state = 'queued' FROM batch_feeds f, batches b
		WHERE b.id = $1 AND b.state = 'running' AND f.batch_id = $1 AND w.batch_id = $1 AND w.feed = f.n AND w.state = 'held'
			AND f.open AND f.opens_at <= $2`, id, now)
	return s.send(ctx, &b)
}

// FeedKind is what the rows of a feed have in common.
type FeedKind struct {
	Gateway string
	Scouts  bool
	Hours   string
}

// FeedStates are where the rows of a batch's feeds are counted that are no messages yet.
func (s *Store) FeedStates(ctx context.Context, id uuid.UUID) (map[FeedKind]delivery.State, error) {
	states := map[FeedKind]delivery.State{}
	_, err := query(ctx, s.reading(), func(rows pgx.Rows) (k FeedKind, err error) {
		var state delivery.State
		err = rows.Scan(&k.Gateway, &k.Scouts, &k.Hours, &state)
		states[k] = state
		return k, err
	}, `SELECT f.gateway, f.scouts, f.hours, min(w.state)
		FROM batch_feeds f JOIN batch_waiting w ON w.batch_id = f.batch_id AND w.feed = f.n
		WHERE f.batch_id = $1 GROUP BY 1, 2, 3`, id)
	if err != nil {
		return nil, fmt.Errorf("reading the feeds of a batch: %w", err)
	}
	return states, nil
}
