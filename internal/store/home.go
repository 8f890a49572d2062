package store

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/identity"
)

// liveIdentity is what the server says of itself: any user may ask it.
const liveIdentity = `(SELECT system_identifier::text FROM pg_control_system()),
	CASE WHEN pg_is_in_recovery() THEN 0
		ELSE ('x' || substr(pg_walfile_name(pg_current_wal_insert_lsn()), 1, 8))::bit(32)::bigint END,
	(SELECT oid::bigint FROM pg_database WHERE datname = current_database())`

// Identity is which database this is, and what its note says; nil if it bears none.
func (s *Store) Identity(ctx context.Context) (live identity.Live, noted *identity.Noted, err error) {
	live.Address = s.address
	err = s.pools[2].QueryRow(ctx, "SELECT "+liveIdentity).Scan(&live.System, &live.Timeline, &live.Database)
	if err != nil {
		return live, nil, fmt.Errorf("asking which database this is: %w", err)
	}
	var n identity.Noted
	err = s.pools[2].QueryRow(ctx, "SELECT system_id, timeline, database_oid, row_xid, address, xmin::text::bigint FROM home").
		Scan(&n.System, &n.Timeline, &n.Database, &n.Row, &n.Address, &live.Row)
	switch {
	case errors.Is(err, pgx.ErrNoRows):
		return live, nil, nil
	case err != nil:
		return live, nil, fmt.Errorf("reading where the database lived: %w", err)
	}
	return live, &n, nil
}

// NoteHome writes that the database is in order where it is.
func (s *Store) NoteHome(ctx context.Context) error {
	_, err := s.pools[2].Exec(ctx, `INSERT INTO home AS h (system_id, timeline, database_oid, row_xid, address, noted_at)
		SELECT `+liveIdentity+`, pg_current_xact_id()::text::bigint & 4294967295, $1, clock_timestamp()
		ON CONFLICT (only_row) DO UPDATE SET system_id = excluded.system_id, timeline = excluded.timeline,
			database_oid = excluded.database_oid, row_xid = excluded.row_xid, address = excluded.address, noted_at = excluded.noted_at`,
		s.address)
	if err != nil {
		return fmt.Errorf("noting where the database lives: %w", err)
	}
	return nil
}

// addressOf is how a database is reached: host, port and name.
func addressOf(config *pgx.ConnConfig) string {
	return net.JoinHostPort(config.Host, strconv.Itoa(int(config.Port))) + "/" + config.Database
}

// Used reports whether the database holds messages.
func (s *Store) Used(ctx context.Context) (used bool, err error) {
	err = s.pools[1].QueryRow(ctx, "SELECT EXISTS (SELECT FROM standings)").Scan(&used)
	return used, err
}

// MarksOf are the last committed marks of an instance, by slot.
func (s *Store) MarksOf(ctx context.Context, instance uuid.UUID) (map[int]int64, error) {
	return marksOf(ctx, s.pools[2], instance)
}

func marksOf(ctx context.Context, from reader, instance uuid.UUID) (map[int]int64, error) {
	marks := map[int]int64{}
	_, err := query(ctx, from, func(rows pgx.Rows) (slot int, err error) {
		var mark int64
		err = rows.Scan(&slot, &mark)
		marks[slot] = mark
		return slot, err
	}, `SELECT n, (SELECT max(mark) FROM commit_marks WHERE instance_id = $1 AND slot = n)
		FROM generate_series(0, $2::int - 1) AS n WHERE EXISTS (SELECT FROM commit_marks WHERE instance_id = $1 AND slot = n)`,
		instance, slotsOf)
	if err != nil {
		return nil, fmt.Errorf("reading commit marks: %w", err)
	}
	return marks, nil
}

// MarksKept is how many marks a [MarkKeeper] is given.
const MarksKept = slotsOf

// recognise looks whether a new connection leads to the database of the others, with all
// that this instance has committed. A failover, or a move of the database, breaks the connections first.
func (s *Store) recognise(ctx context.Context, c *pgx.Conn) error {
	if s.slots.free == nil { // it is only just opened
		return nil
	}
	var system string
	var timeline, database int64
	remembered := map[int]int64{}
	for i := range s.slots.marks {
		remembered[i] = s.slots.marks[i].Load()
	}
	if err := c.QueryRow(ctx, "SELECT "+liveIdentity).Scan(&system, &timeline, &database); err != nil {
		return err
	}
	marks, err := marksOf(ctx, c, s.slots.instance())
	if err != nil {
		return err
	}
	home := place{system, timeline, database}
	first := s.slots.home.Load()
	if first == nil {
		s.slots.home.CompareAndSwap(nil, &home)
	} else if *first != home {
		if first.system != system || first.database != database {
			s.slots.rewound.Store(true)
		}
		s.slots.home.Store(&home)
		s.slots.moved.Store(true)
	}
	for slot, mark := range remembered {
		if marks[slot] < mark {
			s.slots.rewound.Store(true)
		}
	}
	return nil
}

// place is where a connection leads.
type place struct {
	system             string
	timeline, database int64
}

// Moved reports, once, that a connection led to another place than before: after a failover,
// say.
func (s *Store) Moved() bool { return s.slots.moved.Swap(false) }

// Beat notes that this instance is at work.
func (s *Store) Beat(ctx context.Context) error {
	_, err := s.pools[2].Exec(ctx, "UPDATE instances SET seen_at = clock_timestamp(), at_work = true WHERE id = $1", s.slots.instance())
	return err
}

// LastBeat is when another instance was last at work; zero if none ever was.
func (s *Store) LastBeat(ctx context.Context) (at time.Time, err error) {
	var seen *time.Time
	err = s.pools[2].QueryRow(ctx, "SELECT max(seen_at) FROM instances WHERE id <> $1 AND ended_at IS NULL AND at_work",
		s.slots.instance()).Scan(&seen)
	if seen != nil {
		at = *seen
	}
	return at, err
}

// liveWithin is for how long an instance counts as at work after it last said so.
const liveWithin = 7 * time.Second

// LiveInstances notes that this instance is at work, and lists those that are, this one among them. The
// note need not be on disk: to wait for that took a percent of a core.
func (s *Store) LiveInstances(ctx context.Context) ([]uuid.UUID, error) {
	return query(ctx, s.pools[2], scanID, `WITH beat AS (UPDATE instances SET seen_at = clock_timestamp(), at_work = true WHERE id = $1)
		SELECT id FROM instances, (SELECT set_config('synchronous_commit', 'off', true) OFFSET 0) AS lazily WHERE ended_at IS NULL
		AND (id = $1 OR seen_at > clock_timestamp() - make_interval(secs => $2) AND at_work) ORDER BY id`, s.slots.instance(), liveWithin.Seconds())
}

// End notes that this instance ends.
func (s *Store) End(ctx context.Context) error {
	_, err := s.pools[2].Exec(ctx, "UPDATE instances SET ended_at = clock_timestamp() WHERE id = $1", s.slots.instance())
	return err
}

// Quarantine is a time at which nothing is sent.
type Quarantine struct {
	ID         uuid.UUID
	Since      time.Time
	Reason     string
	Why        string
	Reaches    *time.Time // the last moment of which the database knows anything
	PreparedAt *time.Time // what was queued is doubtful since
	AskedAt    *time.Time // gateways are asked about what is doubtful since
	LiftedAt   *time.Time
	LiftedBy   string
}

// Quarantine is the one that stands; [ErrNotFound] if none does.
func (s *Store) Quarantine(ctx context.Context) (q Quarantine, err error) {
	return q, found(s.gorm(ctx).Where("lifted_at IS NULL").First(&q).Error)
}

// LastQuarantine is the last one that was lifted; [ErrNotFound] if there was none.
func (s *Store) LastQuarantine(ctx context.Context) (q Quarantine, err error) {
	return q, found(s.gorm(ctx).Where("lifted_at IS NOT NULL").Order("since DESC").First(&q).Error)
}

// Lacking is a time of which the database lacks messages, as it was restored or rewound.
type Lacking struct{ From, Until time.Time }

// Lacks lists the times of which the database lacks messages, of quarantines since a moment. A quarantine
// that a person began lacks nothing.
func (s *Store) Lacks(ctx context.Context, since time.Time) ([]Lacking, error) {
	lacks, err := query(ctx, s.hot(), func(rows pgx.Rows) (l Lacking, err error) { err = rows.Scan(&l.From, &l.Until); return l, err },
		"SELECT reaches, since FROM quarantines WHERE since >= $1 AND reaches IS NOT NULL AND reason <> $2", since, string(identity.ByHand))
	if err != nil {
		return nil, fmt.Errorf("reading what the database lacks: %w", err)
	}
	return lacks, nil
}

// BeginQuarantine begins one, unless one stands.
func (s *Store) BeginQuarantine(ctx context.Context, reason identity.Reason, why string) error {
	reaches, err := s.reaches(ctx)
	if err != nil {
		return err
	}
	_, err = s.pools[2].Exec(ctx, `INSERT INTO quarantines (id, since, reason, why, reaches) VALUES ($1, clock_timestamp(), $2, $3, $4)
		ON CONFLICT DO NOTHING`, NewID(), string(reason), why, reaches)
	if err != nil {
		return fmt.Errorf("beginning a quarantine: %w", err)
	}
	return nil
}

// reaches is the last moment of which the database knows anything: something was accepted, said,
// or an instance was at work.
func (s *Store) reaches(ctx context.Context) (*time.Time, error) {
	var last *time.Time
	err := s.pools[1].QueryRow(ctx, `SELECT greatest((SELECT max(seen_at) FROM instances WHERE id <> $1),
		(SELECT max(received_at) FROM receipts), (SELECT max(at) FROM changes))`, s.slots.instance()).Scan(&last)
	if err != nil {
		return nil, fmt.Errorf("looking how far the database reaches: %w", err)
	}
	return last, nil
}

// noteQuarantine sets a moment of the quarantine that stands.
func (s *Store) noteQuarantine(ctx context.Context, column string, by string) error {
	result := s.gorm(ctx).Model(&Quarantine{}).Where("lifted_at IS NULL").
		Updates(map[string]any{column: gorm.Expr("clock_timestamp()"), "lifted_by": by})
	return changed(result)
}

// PreparedQuarantine notes that nothing is queued any more.
func (s *Store) PreparedQuarantine(ctx context.Context) error {
	return s.noteQuarantine(ctx, "prepared_at", "")
}

// AskInQuarantine notes that gateways are to be asked.
func (s *Store) AskInQuarantine(ctx context.Context) error {
	return s.noteQuarantine(ctx, "asked_at", "")
}

// LiftQuarantine ends the quarantine, and notes where the database lives now.
func (s *Store) LiftQuarantine(ctx context.Context, by string) error {
	if err := s.NoteHome(ctx); err != nil {
		return err
	}
	return s.noteQuarantine(ctx, "lifted_at", by)
}

// MayHaveGone takes messages that wait to be sent, or whose time has come, at most so many: since
// the moment of a copy any of them may have gone. Call it within [Store.Transact].
func (s *Store) MayHaveGone(ctx context.Context, now time.Time, most int) ([]Message, error) {
	waiting, err := query(ctx, s.hot(), scanID, `(SELECT id FROM to_send ORDER BY id LIMIT $1)
		UNION ALL (SELECT id FROM held WHERE release_at <= $2 ORDER BY id LIMIT $1)`, most, now)
	if err != nil {
		return nil, fmt.Errorf("looking for what may have gone: %w", err)
	}
	return s.read(ctx, waiting[:min(len(waiting), most)], "AND s.state IN ('queued', 'held') ORDER BY s.id FOR UPDATE OF s")
}

// Doubts are doubtful messages that are alike.
type Doubts struct {
	Gateway uuid.UUID
	Kind    string
	N       int64
	First   time.Time // when the first and the last of them were accepted
	Last    time.Time
}

// CountDoubts counts messages that became doubtful since a moment, by gateway and kind.
func (s *Store) CountDoubts(ctx context.Context, since time.Time) ([]Doubts, error) {
	type listed struct{ id uuid.UUID }
	sums := map[[2]string]*Doubts{}
	var order [][2]string
	for after := (uuid.UUID{}); ; {
		found, err := query(ctx, s.reading(), func(rows pgx.Rows) (l listed, err error) { err = rows.Scan(&l.id); return l, err },
			"SELECT id FROM marks WHERE mark = $1 AND id > $2 ORDER BY id LIMIT 5000", string(delivery.Doubtful), after)
		if err != nil {
			return nil, fmt.Errorf("counting doubtful messages: %w", err)
		}
		if len(found) == 0 {
			break
		}
		after = found[len(found)-1].id
		for m, some := range byMonth(s, found, func(l *listed) uuid.UUID { return l.id }) {
			counted, err := query(ctx, s.reading(), func(rows pgx.Rows) (d Doubts, err error) {
				err = rows.Scan(&d.Gateway, &d.Kind, &d.N, &d.First, &d.Last)
				return d, err
			}, m.in(`SELECT s.gateway_id, m.kind, count(*), min(m.created_at), max(m.created_at) FROM standings_%M s
				JOIN messages_%M m ON m.id = s.id WHERE s.id = ANY($1) AND s.changed_at >= $2 GROUP BY 1, 2`),
				ids(some, func(l *listed) uuid.UUID { return l.id }), since)
			if err != nil {
				s.missing(err)
				return nil, fmt.Errorf("counting doubtful messages: %w", err)
			}
			for _, d := range counted {
				k := [2]string{d.Gateway.String(), d.Kind}
				if sums[k] == nil {
					order = append(order, k)
					sums[k] = &Doubts{Gateway: d.Gateway, Kind: d.Kind, First: d.First, Last: d.Last}
				}
				sum := sums[k]
				sum.N += d.N
				if d.First.Before(sum.First) {
					sum.First = d.First
				}
				if d.Last.After(sum.Last) {
					sum.Last = d.Last
				}
			}
		}
	}
	all := make([]Doubts, len(order))
	for i, k := range order {
		all[i] = *sums[k]
	}
	return all, nil
}

// Doubtful chooses doubtful messages.
type Doubtful struct {
	Since   time.Time // became doubtful since
	Gateway uuid.UUID // nil: any
	Kind    string    // empty: any
	Before  time.Time // accepted before; zero: whenever
}

// DoubtfulAfter lists doubtful messages in the order of their ids, after one of them, of at most so
// many that it looks at; with the last that was looked at, and whether there may be more.
func (s *Store) DoubtfulAfter(
	ctx context.Context,
	d Doubtful,
	after uuid.UUID,
	most int,
) (all []Message, last uuid.UUID, more bool, err error) {
	found, err := query(ctx, s.hot(), scanID, "SELECT id FROM marks WHERE mark = $1 AND id > $2 ORDER BY id LIMIT $3",
		string(delivery.Doubtful), after, most)
	if err != nil || len(found) == 0 {
		return nil, after, false, err
	}
	messages, err := s.read(ctx, found, "AND s.state = 'doubtful'")
	if err != nil {
		return nil, after, false, err
	}
	for _, m := range messages {
		if !m.ChangedAt.Before(d.Since) && (d.Gateway == uuid.Nil || m.GatewayID == d.Gateway) &&
			(d.Kind == "" || string(m.Kind) == d.Kind) &&
			(d.Before.IsZero() || m.CreatedAt.Before(d.Before)) {
			all = append(all, m)
		}
	}
	return all, found[len(found)-1], len(found) == most, nil
}

// StraysSince counts distinct references of strays that came since a moment: each that is an id of ours
// is a message that was accepted and is not known.
func (s *Store) StraysSince(ctx context.Context, since time.Time) (n int64, err error) {
	err = s.gorm(ctx).Raw("SELECT count(DISTINCT reference) FROM strays WHERE id >= ? AND reference <> ''", Floor(since)).Scan(&n).Error
	return n, err
}

// CountQueued counts the messages that wait to be sent.
func (s *Store) CountQueued(ctx context.Context) (n int64, err error) {
	return n, s.gorm(ctx).Raw("SELECT count(*) FROM to_send").Scan(&n).Error
}

// EnrolAgain makes this process a new instance, of a database that lacks what it had committed: what
// was remembered of the database is forgotten. Nothing may be sent meanwhile.
func (s *Store) EnrolAgain(ctx context.Context) (err error) {
	l := &s.slots
	was := l.id.Load()
	var taken []*commitSlot
	defer func() {
		if err != nil { // it stays what it was
			l.id.Store(was)
			for _, slot := range taken {
				l.free <- slot
			}
		}
	}()
	for range slotsOf { // transactions that are about to end
		select {
		case slot := <-l.free:
			taken = append(taken, slot)
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	l.rename()
	if err := s.addInstance(ctx); err != nil {
		return err
	}
	s.cuts.forget()
	for n := range slotsOf {
		l.marks[n].Store(0)
	}
	l.rewound.Store(false)
	for n := range slotsOf {
		l.free <- &commitSlot{number: n}
	}
	return nil
}
