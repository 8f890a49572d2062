package store

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"calmpigeon.example/internal/core/pace"
)

// sending is that a message waits to be sent.
type sending struct {
	id, gateway uuid.UUID
	lane        int
	due, valid  time.Time
}

func queueToSend(b *pgx.Batch, set []sending) {
	if len(set) == 0 {
		return
	}
	b.Queue(`INSERT INTO to_send (id, gateway_id, lane, due_at, valid_until)
		SELECT * FROM unnest($1::uuid[], $2::uuid[], $3::int[], $4::timestamptz[], $5::timestamptz[])
		ON CONFLICT (id) DO UPDATE SET gateway_id = excluded.gateway_id, lane = excluded.lane, due_at = excluded.due_at`,
		ids(set, func(s *sending) uuid.UUID { return s.id }), ids(set, func(s *sending) uuid.UUID { return s.gateway }),
		numbers(set, func(s *sending) int { return s.lane }), column(set, func(s *sending) time.Time { return s.due }),
		column(set, func(s *sending) time.Time { return s.valid }))
}

// turn is the place of a message among those that wait.
type turn struct {
	id  uuid.UUID
	due time.Time
}

func scanTurn(rows pgx.Rows) (t turn, err error) {
	err = rows.Scan(&t.id, &t.due)
	return t, err
}

// mayGo is the state of a message that waits to be sent.
const mayGo = "'queued'"

// passOver locks what is read and passes over what others have locked.
const passOver = " FOR UPDATE OF s SKIP LOCKED" // #nosec G101 -- SQL

// never is when a message is due that is held.
var never = time.Date(9999, 12, 31, 0, 0, 0, 0, time.UTC)

// take reads messages that wait in some states, in their order, to be written in
// this transaction: those of some routes alone where these are given. What somebody
// else has taken meanwhile is left out. They are to be given to [Store.Append] as
// they were read, so that what was taken since is not written.
func (s *Store) take(ctx context.Context, turns []turn, gateway uuid.UUID, states, locking string, routes ...string) ([]Message, error) {
	if len(turns) == 0 {
		return nil, nil
	}
	where, args := "AND s.state IN ("+states+")", []any(nil)
	if len(routes) > 0 {
		where, args = where+" AND m.route = ANY($2)", []any{routes}
	}
	found, err := s.read(ctx, ids(turns, func(t *turn) uuid.UUID { return t.id }), where+locking, args...)
	if err != nil {
		return nil, err
	}
	byID := make(map[uuid.UUID]*Message, len(found))
	for i := range found {
		byID[found[i].ID] = &found[i]
	}
	taken := make([]Message, 0, len(found))
	for _, t := range turns {
		if m := byID[t.id]; m != nil && (gateway == uuid.Nil || m.GatewayID == gateway) {
			m.DueAt = t.due
			taken = append(taken, *m)
		}
	}
	return taken, nil
}

// Claim takes messages that are due at a gateway, and within a lane the longest
// due first: at most urgent passcodes, then at most so many others, the more
// urgent lane first, and of the last lane, bulk, none unless it has its turn; in
// each lane those alone that were due at a moment or since, so that it need not
// go past what went before. Call it within [Store.Transact]. Nothing is claimed
// unless the holder keeps the gateway, which it then does until the transaction
// ends; kept tells.
func (s *Store) Claim(
	ctx context.Context,
	gateway, holder uuid.UUID,
	now time.Time,
	since [pace.Lanes]time.Time,
	urgent, others int,
	bulk bool,
) (claimed []Message, kept bool, err error) {
	const lane = `(SELECT q.lane, q.id, q.due_at FROM to_send q WHERE q.gateway_id = $1 AND q.lane = %d AND q.due_at <= $2
		AND q.due_at >= $%d AND q.valid_until > $2
		ORDER BY q.due_at, q.id LIMIT $%d)`
	type waiting struct {
		turn
		lane   *int
		optOut bool // there are opt-outs
	}
	last := 0
	if bulk {
		last = others
	}
	found, err := query(ctx, s.hot(), func(rows pgx.Rows) (w waiting, err error) {
		var id *uuid.UUID
		var due *time.Time
		if err = rows.Scan(&w.lane, &id, &due, &w.optOut); err == nil && id != nil {
			w.turn = turn{*id, *due}
		}
		return w, err
	}, fmt.Sprintf(`WITH kept AS MATERIALIZED (
			SELECT until > clock_timestamp() AS still FROM keepers WHERE gateway_id = $1 AND holder = $5 FOR SHARE)
		SELECT t.lane, t.id, t.due_at, (SELECT true FROM opt_outs WHERE ended_at IS NULL LIMIT 1) IS NOT NULL
		FROM kept LEFT JOIN LATERAL (`+lane+" UNION ALL "+lane+" UNION ALL "+lane+") AS t ON true WHERE kept.still",
		0, 6, 3, 1, 7, 4, 2, 8, 9), gateway, now, urgent, others, holder, since[0], since[1], since[2], last)
	if err != nil {
		return nil, false, fmt.Errorf("claiming messages: %w", err)
	}
	var turns []turn
	for _, w := range found { // in the order of the lanes
		if w.lane == nil {
			break
		}
		if *w.lane > 0 {
			if others--; others < 0 {
				break
			}
		}
		turns = append(turns, w.turn)
	}
	if claimed, err = s.take(ctx, turns, gateway, mayGo, s.locking(passOver)); err != nil {
		return nil, false, err
	}
	if len(found) > 0 && found[0].optOut {
		if err := s.holdAgainst(ctx, claimed); err != nil {
			return nil, false, err
		}
	}
	return claimed, len(found) > 0, s.readSealed(ctx, claimed)
}

// Defer sets when queued messages are due. Call it within the transaction that
// claimed them.
func (s *Store) Defer(ctx context.Context, due map[uuid.UUID]time.Time) error {
	if len(due) == 0 {
		return nil
	}
	set := make([]turn, 0, len(due))
	for id, at := range due {
		set = append(set, turn{id, at})
	}
	var b pgx.Batch
	b.Queue("UPDATE to_send q SET due_at = n.due_at FROM unnest($1::uuid[], $2::timestamptz[]) AS n (id, due_at) WHERE q.id = n.id",
		ids(set, func(t *turn) uuid.UUID { return t.id }), column(set, func(t *turn) time.Time { return t.due }))
	if err := s.send(ctx, &b); err != nil {
		return fmt.Errorf("deferring messages: %w", err)
	}
	return nil
}

// NextDue is when the next queued message of a gateway is due; false if there
// is none.
func (s *Store) NextDue(ctx context.Context, gateway uuid.UUID) (time.Time, bool, error) {
	due, err := query(ctx, s.hot(), func(rows pgx.Rows) (t *time.Time, err error) { err = rows.Scan(&t); return t, err },
		`SELECT min(due_at) FROM (VALUES (0), (1), (2)) AS lanes (lane), LATERAL
			(SELECT due_at FROM to_send q WHERE q.gateway_id = $1 AND q.lane = lanes.lane ORDER BY q.due_at LIMIT 1) AS firsts`, gateway)
	if err != nil || len(due) == 0 || due[0] == nil {
		return time.Time{}, false, err
	}
	return *due[0], true, nil
}

// TooLate locks messages whose validity ended before they went, and returns
// them; what a keeper is claiming just now is passed over. Call it within
// [Store.Transact].
func (s *Store) TooLate(ctx context.Context, now time.Time, most int) ([]Message, error) {
	turns, err := query(
		ctx,
		s.hot(),
		scanTurn,
		"SELECT id, due_at FROM to_send WHERE valid_until <= $1 ORDER BY valid_until LIMIT $2",
		now,
		most,
	)
	if err != nil {
		return nil, fmt.Errorf("looking for what is too late: %w", err)
	}
	return s.take(ctx, turns, uuid.Nil, mayGo, passOver)
}

// Place is a place among the messages that wait for a gateway.
type Place struct {
	Lane int
	Due  time.Time
	ID   uuid.UUID
}

// Waiting takes messages of some routes that wait to be sent through a gateway,
// from the one after a place on, and returns them with the place of the last that
// was looked at; false if there are no more. Call it within [Store.Transact].
func (s *Store) Waiting(ctx context.Context, gateway uuid.UUID, routes []string, after Place, most int) ([]Message, Place, bool, error) {
	places, err := query(ctx, s.hot(), func(rows pgx.Rows) (p Place, err error) {
		err = rows.Scan(&p.Lane, &p.Due, &p.ID)
		return p, err
	}, "SELECT lane, due_at, id FROM to_send WHERE gateway_id = $1 AND (lane, due_at, id) > ($2, $3, $4) ORDER BY lane, due_at, id LIMIT $5",
		gateway, after.Lane, after.Due, after.ID, most)
	if err != nil || len(places) == 0 {
		return nil, after, false, err
	}
	turns := make([]turn, len(places))
	for i, p := range places {
		turns[i] = turn{p.ID, p.Due}
	}
	waiting, err := s.take(ctx, turns, gateway, mayGo, s.locking(passOver), routes...)
	return waiting, places[len(places)-1], len(places) == most, err
}

// Unsettled counts messages of a gateway that wait to be sent or of which more
// is to be heard.
func (s *Store) Unsettled(ctx context.Context, gateway uuid.UUID) (n int64, err error) {
	err = s.gorm(ctx).
		Raw("SELECT (SELECT count(*) FROM to_send WHERE gateway_id = ?) + (SELECT count(*) FROM to_ask WHERE gateway_id = ?) "+
			"+ (SELECT count(*) FROM held WHERE gateway_id = ?)", gateway, gateway, gateway).
		Scan(&n).
		Error
	return n, err
}
