package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"calmpigeon.example/internal/core/delivery"
)

// BatchSample is how a batch stood at a moment.
type BatchSample struct {
	At     time.Time
	Counts map[delivery.State]int64
}

// NoteSample notes how a batch stands, unless that was noted within the span before.
func (s *Store) NoteSample(ctx context.Context, id uuid.UUID, sample BatchSample, apart time.Duration) error {
	counts, err := json.Marshal(sample.Counts)
	if err != nil {
		return err
	}
	var b pgx.Batch
	b.Queue(`INSERT INTO batch_samples (batch_id, at, counts) SELECT $1, $2, $3
		WHERE NOT EXISTS (SELECT FROM batch_samples WHERE batch_id = $1 AND at > $4) ON CONFLICT DO NOTHING`,
		id, sample.At, counts, sample.At.Add(-apart))
	if err := s.send(ctx, &b); err != nil {
		return fmt.Errorf("noting how a batch stands: %w", err)
	}
	return nil
}

// BatchSamples are how a batch stood, the earliest first.
func (s *Store) BatchSamples(ctx context.Context, id uuid.UUID) ([]BatchSample, error) {
	samples, err := query(ctx, s.reading(), func(rows pgx.Rows) (b BatchSample, err error) {
		var counts []byte
		if err = rows.Scan(&b.At, &counts); err == nil {
			err = json.Unmarshal(counts, &b.Counts)
		}
		return b, err
	}, "SELECT at, counts FROM batch_samples WHERE batch_id = $1 ORDER BY at", id)
	if err != nil {
		return nil, fmt.Errorf("reading how a batch stood: %w", err)
	}
	return samples, nil
}
