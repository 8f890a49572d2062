package store

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"calmpigeon.example/internal/core/label"
	"calmpigeon.example/internal/core/pace"
)

// Receiver is an address of an application that is told what happens, or somebody who follows for a while.
type Receiver struct {
	ID            uuid.UUID
	Name          string
	Address       string // empty: somebody follows, and fetches
	SealedSecrets []byte
	Types         []string // of events; empty: all
	Kinds         []pace.Kind
	Labels        label.Set // that messages must have
	Reports       Reports
	Keys          []uuid.UUID // whose messages may name addresses; empty: all
	AtOnce        int
	TimeoutMs     int
	PausedAt      *time.Time
	PausedBy      string
	PausedWhy     string
	CreatedAt     time.Time
	RemovedAt     *time.Time
	Version       int
}

// Reports is whether messages may name addresses below that of a receiver, at which their events are told.
type Reports string

// What there is.
const (
	ReportsNo   Reports = "no"
	ReportsAlso Reports = "also" // and it is told of all others at its own
	ReportsOnly Reports = "only" // and it is told of no others
)

// AllReports lists them.
var AllReports = []Reports{ReportsNo, ReportsAlso, ReportsOnly}

// Follows reports that there is no address to be told at: somebody fetches.
func (r *Receiver) Follows() bool { return r.Address == "" }

const receiverColumns = `id, name, address, sealed_secrets, types, kinds, labels, reports, keys, at_once, timeout_ms, paused_at, paused_by,
	paused_why, created_at, removed_at, version`

func scanReceiver(rows pgx.Rows) (r Receiver, err error) {
	err = rows.Scan(
		&r.ID,
		&r.Name,
		&r.Address,
		&r.SealedSecrets,
		&r.Types,
		&r.Kinds,
		&r.Labels,
		&r.Reports,
		&r.Keys,
		&r.AtOnce,
		&r.TimeoutMs,
		&r.PausedAt,
		&r.PausedBy,
		&r.PausedWhy,
		&r.CreatedAt,
		&r.RemovedAt,
		&r.Version,
	)
	return r, err
}

// Receivers lists those in use, the oldest first.
func (s *Store) Receivers(ctx context.Context) ([]Receiver, error) {
	all, err := query(ctx, s.hot(), scanReceiver, "SELECT "+receiverColumns+" FROM receivers WHERE removed_at IS NULL ORDER BY id")
	if err != nil {
		return nil, fmt.Errorf("reading receivers: %w", err)
	}
	return all, nil
}

// PutReceiver adds a receiver (its version is 0) or writes it anew, if it still is what it was when it was read;
// [ErrChanged] otherwise. Two in use do not have one name: [ErrExists].
func (s *Store) PutReceiver(ctx context.Context, r Receiver) error {
	args := []any{r.ID, r.Name, r.Address, r.SealedSecrets, nonNil(r.Types), fromWords(r.Kinds), string(r.Labels), string(r.Reports),
		uuids(nonNil(r.Keys)), r.AtOnce, r.TimeoutMs, r.PausedAt, r.PausedBy, r.PausedWhy, r.CreatedAt, r.RemovedAt, r.Version + 1}
	sql := `INSERT INTO receivers (` + receiverColumns + `)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17) ON CONFLICT DO NOTHING RETURNING id`
	wrong := ErrExists
	if r.Version > 0 {
		sql = `UPDATE receivers SET (` + receiverColumns + `)
			= ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17)
			WHERE id = $1 AND version = $17 - 1 AND removed_at IS NULL RETURNING id`
		wrong = ErrChanged
	}
	put := func(s *Store) error {
		written, err := query(ctx, s.hot(), scanID, sql, args...)
		if err != nil {
			return fmt.Errorf("keeping receiver %s: %w", r.Name, err)
		}
		if len(written) == 0 {
			return fmt.Errorf("receiver %s: %w", r.Name, wrong)
		}
		if r.RemovedAt == nil {
			return nil
		}
		var b pgx.Batch
		b.Queue("DELETE FROM to_tell WHERE receiver_id = $1", r.ID)
		b.Queue("DELETE FROM receiver_health WHERE receiver_id = $1", r.ID)
		return s.send(ctx, &b)
	}
	space := roomForReceivers
	if r.Follows() {
		space = roomForFollowers
	}
	return s.setting(ctx, "receiver", r.Name, func(s *Store) error {
		return s.within(ctx, space, func() error { return put(s) })
	})
}

// nonNil is a list that is there, if only with nothing on it.
func nonNil[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

func fromWords[T ~string](all []T) []string {
	return words(all, func(t *T) string { return string(*t) })
}

// ReceiverHealth is how a receiver fares.
type ReceiverHealth struct {
	ReceiverID    uuid.UUID
	ToldAt        *time.Time // the last event that it took
	FailedAt      *time.Time // when it last did not
	Failure       string     // why
	Failures      int        // in a row
	RestUntil     *time.Time
	FollowedUntil *time.Time
	Waiting       int64 // events that it is to be told
	Late          int64 // of those the ones that were tried
	Parked        int64
}

// ReceiverHealths are how receivers fare. What waits is counted to a bound: more are as many.
func (s *Store) ReceiverHealths(ctx context.Context) (map[uuid.UUID]ReceiverHealth, error) {
	all, err := query(ctx, s.reading(), func(rows pgx.Rows) (h ReceiverHealth, err error) {
		err = rows.Scan(&h.ReceiverID, &h.ToldAt, &h.FailedAt, &h.Failure, &h.Failures, &h.RestUntil, &h.FollowedUntil, &h.Waiting, &h.Late,
			&h.Parked)
		return h, err
	}, `SELECT r.id, h.told_at, h.failed_at, coalesce(h.failure, ''), coalesce(h.failures, 0), h.rest_until, h.followed_until,
			(SELECT count(*) FROM (SELECT FROM to_tell t WHERE t.receiver_id = r.id LIMIT $1) AS counted),
			(SELECT count(*) FROM (SELECT FROM to_tell t WHERE t.receiver_id = r.id AND t.tries > 0 LIMIT $1) AS counted),
			(SELECT count(*) FROM (SELECT FROM tellings t WHERE t.receiver_id = r.id AND t.outcome = 'parked' LIMIT $1) AS counted)
		FROM receivers r LEFT JOIN receiver_health h ON h.receiver_id = r.id WHERE r.removed_at IS NULL`, CountedMost)
	if err != nil {
		return nil, fmt.Errorf("reading how receivers fare: %w", err)
	}
	found := make(map[uuid.UUID]ReceiverHealth, len(all))
	for _, h := range all {
		found[h.ReceiverID] = h
	}
	return found, nil
}

// CountedMost is how many events are counted that wait.
const CountedMost = 100_000

// NoteReceiver writes how a receiver fares, as whoever tells it knows it.
func (s *Store) NoteReceiver(ctx context.Context, h ReceiverHealth) error {
	var b pgx.Batch
	b.Queue(`INSERT INTO receiver_health AS h (receiver_id, told_at, failed_at, failure, failures, rest_until)
		SELECT $1, $2, $3, $4, $5, $6 WHERE EXISTS (SELECT FROM receivers WHERE id = $1 AND removed_at IS NULL)
		ON CONFLICT (receiver_id) DO UPDATE SET told_at = coalesce(excluded.told_at, h.told_at),
			failed_at = coalesce(excluded.failed_at, h.failed_at), failure = excluded.failure, failures = excluded.failures,
			rest_until = excluded.rest_until`, h.ReceiverID, h.ToldAt, h.FailedAt, h.Failure, h.Failures, h.RestUntil)
	return s.send(ctx, &b)
}

// NoteFollowed notes that somebody follows, until a moment.
func (s *Store) NoteFollowed(ctx context.Context, receiver uuid.UUID, until time.Time) error {
	var b pgx.Batch
	b.Queue(`INSERT INTO receiver_health (receiver_id, followed_until) VALUES ($1, $2)
		ON CONFLICT (receiver_id) DO UPDATE SET followed_until = excluded.followed_until`, receiver, until)
	return s.send(ctx, &b)
}

// Unfollowed are those who follow no more since a moment.
func (s *Store) Unfollowed(ctx context.Context, now time.Time) ([]uuid.UUID, error) {
	return query(ctx, s.hot(), scanID, `SELECT r.id FROM receivers r LEFT JOIN receiver_health h ON h.receiver_id = r.id
		WHERE r.removed_at IS NULL AND r.address = '' AND coalesce(h.followed_until, r.created_at) < $1`, now)
}

// Listening is who is to be told of anything, as far as those who write need to know it.
type Listening struct {
	Any     bool // somebody is told of something
	Reports bool // messages may name addresses
}

// Listen notes who is to be told. Without it nothing is written of what happens.
func (s *Store) Listen(l Listening) {
	if s.tx == nil { // what was set in a transaction may come to nothing
		s.listening.Store(&l)
	}
}

func (c *common) heard() Listening {
	if l := c.listening.Load(); l != nil {
		return *l
	}
	return Listening{}
}
