package store

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"calmpigeon.example/internal/core/batch"
)

// PutReach keeps what a batch sends to whom, in the place of what was kept of it. Call it within [Store.Transact].
func (s *Store) PutReach(ctx context.Context, id uuid.UUID, r *batch.Reach) error {
	var clear pgx.Batch
	clear.Queue("DELETE FROM batch_reach WHERE batch_id = $1", id)
	if err := s.send(ctx, &clear); err != nil {
		return fmt.Errorf("keeping what a batch sends to whom: %w", err)
	}
	for from := 0; from < batch.ReachParts; from += partsTogether {
		var numbers []int32
		var bodies [][]byte
		for n := from; n < from+partsTogether; n++ {
			if body := r.AppendPart(nil, n); len(body) > 0 {
				numbers, bodies = append(numbers, int32(n)), append(bodies, body) // #nosec G115 -- below 256
			}
		}
		if len(numbers) == 0 {
			continue
		}
		var b pgx.Batch
		b.Queue("INSERT INTO batch_reach (batch_id, part, body) SELECT $1, n.part, n.body FROM unnest($2::int[], $3::bytea[]) AS n (part, body)",
			id, numbers, bodies)
		if err := s.send(ctx, &b); err != nil {
			return fmt.Errorf("keeping what a batch sends to whom: %w", err)
		}
	}
	return nil
}

// partsTogether is how many parts of what a batch sends are written at once.
const partsTogether = 32

// ReachPart is a part of what a batch sends to whom.
type ReachPart struct {
	Part int
	Body []byte
}

// ReachParts reads parts of what a batch sends to whom, from one to before another.
func (s *Store) ReachParts(ctx context.Context, id uuid.UUID, from, before int) ([]ReachPart, error) {
	parts, err := query(ctx, s.reading(), func(rows pgx.Rows) (p ReachPart, err error) {
		err = rows.Scan(&p.Part, &p.Body)
		return p, err
	}, "SELECT part, body FROM batch_reach WHERE batch_id = $1 AND part >= $2 AND part < $3 ORDER BY part", id, from, before)
	if err != nil {
		return nil, fmt.Errorf("reading what a batch sends to whom: %w", err)
	}
	return parts, nil
}

// ReachOfOthers calls do for these parts of what the batches send that were launched since a moment, but for one.
func (s *Store) ReachOfOthers(
	ctx context.Context,
	id uuid.UUID,
	since time.Time,
	parts []int,
	do func(other uuid.UUID, part int, body []byte) error,
) error {
	_, err := query(ctx, s.reading(), func(rows pgx.Rows) (none struct{}, err error) {
		var other uuid.UUID
		var part int
		var body []byte
		if err = rows.Scan(&other, &part, &body); err == nil {
			err = do(other, part, body)
		}
		return none, err
	}, `SELECT r.batch_id, r.part, r.body FROM batches b JOIN batch_reach r ON r.batch_id = b.id AND r.part = ANY($3)
		WHERE b.launched_at > $1 AND b.id <> $2`, since, id, parts)
	if err != nil {
		return fmt.Errorf("comparing what batches send to whom: %w", err)
	}
	return nil
}

// SameBatch finds a batch of the same content that was launched since a moment, other than this; with unknown only one whose
// fingerprints are not kept.
func (s *Store) SameBatch(ctx context.Context, id uuid.UUID, content []byte, since time.Time, unknown bool) (b Batch, err error) {
	db := s.gorm(ctx).Where("content = ? AND launched_at > ? AND id <> ?", content, since, id)
	if unknown {
		db = db.Where("NOT EXISTS (SELECT FROM batch_reach r WHERE r.batch_id = batches.id)")
	}
	return b, found(db.Order("launched_at DESC").First(&b).Error)
}

// LaunchedSince lists the batches that were launched since a moment.
func (s *Store) LaunchedSince(ctx context.Context, since time.Time) ([]uuid.UUID, error) {
	ids, err := query(ctx, s.hot(), scanID, "SELECT id FROM batches WHERE launched_at > $1", since)
	if err != nil {
		return nil, fmt.Errorf("looking for batches that were launched of late: %w", err)
	}
	return ids, nil
}

// LaunchAlone lets one launch follow the other until the transaction ends. Call it within [Store.Transact].
func (s *Store) LaunchAlone(ctx context.Context) error {
	if err := s.gorm(ctx).Exec("SELECT pg_advisory_xact_lock(hashtext('pigeon launches'))").Error; err != nil {
		return fmt.Errorf("waiting for other launches: %w", err)
	}
	return nil
}

// DropReach forgets what batches sent to whom that were launched before a moment.
func (s *Store) DropReach(ctx context.Context, before time.Time) error {
	err := s.gorm(ctx).Exec("DELETE FROM batch_reach r USING batches b WHERE b.id = r.batch_id AND b.launched_at < ?", before).Error
	if err != nil {
		return fmt.Errorf("forgetting what batches sent to whom: %w", err)
	}
	return nil
}
