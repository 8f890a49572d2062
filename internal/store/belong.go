package store

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"gorm.io/gorm/clause"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/phone"
)

// JudgeAlone sees to it that no other instance judges the strays of a gateway until the end of the
// transaction; false if one does just now. Call it within [Store.Transact].
func (s *Store) JudgeAlone(ctx context.Context, gateway uuid.UUID) (mine bool, err error) {
	got, err := query(ctx, s.hot(), func(rows pgx.Rows) (b bool, err error) { err = rows.Scan(&b); return b, err },
		"SELECT pg_try_advisory_xact_lock($1, $2)", int32(judging), int32(GroundOf(gateway))) // #nosec G115 -- told apart, not counted
	return len(got) == 1 && got[0], err
}

// judging is the class of the locks of [Store.JudgeAlone].
const judging = 0x57A7

// TakeToJudge locks strays of a gateway that are to be judged. Call it within [Store.Transact].
func (s *Store) TakeToJudge(ctx context.Context, gateway uuid.UUID, now time.Time, most int) ([]Stray, error) {
	var strays []Stray
	err := s.gorm(ctx).Clauses(clause.Locking{Strength: "UPDATE", Options: "SKIP LOCKED"}).
		Where("gateway_id = ? AND judge_at <= ?", gateway, now).Order("judge_at").Limit(most).Find(&strays).Error
	if err != nil {
		return nil, fmt.Errorf("taking strays to judge: %w", err)
	}
	return strays, nil
}

// StraysOf lists strays of a gateway, but for those discarded, that came since and bear one of the
// numbers; an empty one is that they bear none.
func (s *Store) StraysOf(ctx context.Context, gateway uuid.UUID, numbers []string, since time.Time, most int) ([]Stray, error) {
	var strays []Stray
	err := s.gorm(ctx).Where("gateway_id = ? AND fate <> 'discarded' AND number IN ? AND id >= ?", gateway, numbers, Floor(since)).
		Order("id").Limit(most).Find(&strays).Error
	if err != nil {
		return nil, fmt.Errorf("reading strays: %w", err)
	}
	return strays, nil
}

// Claimant is a submission through a gateway to which a stray may belong.
type Claimant struct {
	MessageID uuid.UUID
	GatewayID uuid.UUID // only [Store.Through] tells it
	Attempt   int
	Began     time.Time
	Ref       string // what the gateway called it; empty: it did not
	To        phone.Number
	Sender    string
	Text      string // empty for a passcode
	State     delivery.State
	Moved     time.Time // when anything was last heard of its message
	Settled   bool      // somebody who names it has said how it ended, or that it was not taken
	Sending   bool      // its answer is waited for
	Grounds   int       // on which claims about its message rest
}

// Nameless lists submissions through a gateway, begun within a span of time, that it gave no name, the
// first first: those in doubt are among them.
func (s *Store) Nameless(ctx context.Context, gateway uuid.UUID, from, until time.Time, most int) ([]Claimant, error) {
	return s.claimants(ctx, from, until, most, `SELECT message_id, attempt, began_at, gateway_ref FROM submissions_%M
		WHERE gateway_id = $1 AND gateway_ref = '' AND began_at BETWEEN $2 AND $3`, gateway, from, until)
}

// SentTo lists submissions through a gateway to numbers, begun within a span of time, the first first,
// and those that are being made.
func (s *Store) SentTo(ctx context.Context, gateway uuid.UUID, numbers []string, from, until time.Time, most int) ([]Claimant, error) {
	return s.claimants(ctx, from, until, most, `SELECT b.message_id, b.attempt, b.began_at, b.gateway_ref
		FROM messages_%M n JOIN submissions_%M b ON b.message_id = n.id
		WHERE n.to_number = ANY($4) AND b.gateway_id = $1 AND b.began_at BETWEEN $2 AND $3
		UNION ALL SELECT n.id, t.attempts, a.began_at, '' FROM messages_%M n JOIN standings_%M t ON t.id = n.id JOIN to_ask a ON a.id = n.id
		WHERE n.to_number = ANY($4) AND t.gateway_id = $1 AND t.state = 'sending'`, gateway, from, until, numbers)
}

// Through lists the submissions of a message: attempts and gateways.
func (s *Store) Through(ctx context.Context, message uuid.UUID) ([]Claimant, error) {
	if !s.months.has(monthOf(message)) {
		return nil, nil
	}
	return query(ctx, s.hot(), func(rows pgx.Rows) (c Claimant, err error) {
		err = rows.Scan(&c.GatewayID, &c.Attempt)
		return c, err
	}, monthOf(message).in(`SELECT gateway_id, attempt FROM submissions_%M WHERE message_id = $1
		UNION ALL SELECT gateway_id, attempts FROM standings_%M WHERE id = $1 AND state = 'sending'`), message)
}

// longestWait is how much earlier than its submission a message may have been accepted, as far as
// strays go: within it the months are looked through.
const longestWait = 31 * 24 * time.Hour

// claimants reads submissions and what is known of them, of all months in which their messages may have
// been accepted.
func (s *Store) claimants(ctx context.Context, from, until time.Time, most int, list string, args ...any) ([]Claimant, error) {
	var all []Claimant
	for _, m := range s.months.all() {
		if m > monthAt(until) || m < monthAt(from.Add(-longestWait)) {
			continue
		}
		some, err := query(ctx, s.hot(), scanClaimant, m.in(`WITH c AS MATERIALIZED (`+list+fmt.Sprintf(` LIMIT %d)
			SELECT c.*, m.to_number, m.sender, CASE WHEN m.lane = %d THEN '' ELSE m.text END, t.state, t.changed_at, t.digest, t.attempts
			FROM c JOIN messages_%%M m ON m.id = c.message_id JOIN standings_%%M t ON t.id = c.message_id
			ORDER BY c.began_at, c.message_id, c.attempt`, most+1, pace.OTP.Lane())), args...)
		if err != nil {
			s.missing(err)
			return nil, fmt.Errorf("looking for what strays may belong to: %w", err)
		}
		all = append(all, some...)
	}
	return all, nil
}

func scanClaimant(rows pgx.Rows) (c Claimant, err error) {
	var kept []byte
	var attempts int
	var d delivery.Digest
	err = rows.Scan(&c.MessageID, &c.Attempt, &c.Began, &c.Ref, (*number)(&c.To), &c.Sender, &c.Text, &c.State, &c.Moved, &kept, &attempts)
	c.Sending = c.State == delivery.Sending && c.Attempt == attempts
	// A digest that cannot be read is worked out when its message is next touched; until then it takes nothing in.
	if err == nil && d.UnmarshalBinary(kept) == nil {
		c.Settled, c.Grounds = d.Settled(c.Attempt) && !c.Sending, d.Grounds()
	} else {
		c.Settled = true
	}
	return c, err
}

// Clock is how a gateway's clock goes, by the receipts of an hour.
type Clock struct {
	GatewayID uuid.UUID
	Hour      time.Time
	N         int64   // receipts that said when
	Least     []int64 // the shortest times after which they came, in milliseconds, sorted; below 0: before
	Early     int64   // gave a time before the message went
	Late      int64   // came more than a day after the message went
	HeardAt   *time.Time
}

// leastMost is how many of the shortest times are kept.
const leastMost = 32

// Came notes that one came so many milliseconds after the time it gave.
func (c *Clock) Came(ms int64) {
	if len(c.Least) == leastMost && ms >= c.Least[leastMost-1] {
		return
	}
	at, _ := slices.BinarySearch(c.Least, ms)
	c.Least = slices.Insert(c.Least, at, ms)
	c.Least = c.Least[:min(len(c.Least), leastMost)]
}

// Join adds what was seen by another, or in another hour.
func (c Clock) Join(o Clock) Clock {
	least := slices.Concat(c.Least, o.Least)
	slices.Sort(least)
	c.Least = least[:min(len(least), leastMost)]
	c.N, c.Early, c.Late = c.N+o.N, c.Early+o.Early, c.Late+o.Late
	if c.HeardAt == nil || o.HeardAt != nil && o.HeardAt.After(*c.HeardAt) {
		c.HeardAt = o.HeardAt
	}
	return c
}

// AddClocks adds what was seen of gateways' clocks.
func (s *Store) AddClocks(ctx context.Context, clocks []Clock) error {
	var b pgx.Batch
	for _, c := range clocks { // one for each gateway and hour
		b.Queue(fmt.Sprintf(`INSERT INTO gateway_clocks AS c (gateway_id, hour, n, least, early, late, heard_at)
				VALUES ($1, $2, $3, $4, $5, $6, $7)
			ON CONFLICT (gateway_id, hour) DO UPDATE SET n = c.n + excluded.n, early = c.early + excluded.early, late = c.late + excluded.late,
				heard_at = greatest(c.heard_at, excluded.heard_at),
				least = ARRAY(SELECT x FROM unnest(c.least || excluded.least) AS x ORDER BY x LIMIT %d)`, leastMost),
			c.GatewayID, c.Hour, c.N, present(c.Least), c.Early, c.Late, c.HeardAt)
	}
	if err := s.send(ctx, &b); err != nil {
		return fmt.Errorf("noting how gateways' clocks go: %w", err)
	}
	return nil
}

// Clocks lists how gateways' clocks went since, the last hour first.
func (s *Store) Clocks(ctx context.Context, since time.Time) ([]Clock, error) {
	clocks, err := query(ctx, s.reading(), func(rows pgx.Rows) (c Clock, err error) {
		err = rows.Scan(&c.GatewayID, &c.Hour, &c.N, &c.Least, &c.Early, &c.Late, &c.HeardAt)
		return c, err
	}, "SELECT gateway_id, hour, n, least, early, late, heard_at FROM gateway_clocks WHERE hour >= $1 ORDER BY hour DESC, gateway_id", since)
	if err != nil {
		return nil, fmt.Errorf("reading how gateways' clocks go: %w", err)
	}
	return clocks, nil
}

// DropClocks forgets how clocks went before a moment.
func (s *Store) DropClocks(ctx context.Context, before time.Time) error {
	return s.gorm(ctx).Exec("DELETE FROM gateway_clocks WHERE hour < ?", before).Error
}

// MarkedWeak returns those messages of a span of ids whose state rests on a weak match.
func (s *Store) MarkedWeak(ctx context.Context, from, until uuid.UUID) (map[uuid.UUID]bool, error) {
	found, err := query(ctx, s.reading(), scanID, "SELECT id FROM marks WHERE mark = $1 AND id >= $2 AND id <= $3", weakMark, from, until)
	if err != nil {
		return nil, fmt.Errorf("looking for weak matches: %w", err)
	}
	weak := make(map[uuid.UUID]bool, len(found))
	for _, id := range found {
		weak[id] = true
	}
	return weak, nil
}
