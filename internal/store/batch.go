package store

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"

	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/webhook"
)

// Batch is a list of recipients and what is sent to them.
type Batch struct {
	ID          uuid.UUID
	First       *uuid.UUID // of its messages; nil until it is launched
	KeyID       uuid.UUID
	ByWhom      string
	Name        string
	State       batch.State
	Why         string        // it is held, or could not be rehearsed
	Wants       batch.Wants   `gorm:"serializer:json"`
	Found       batch.Found   `gorm:"serializer:json"`
	Launch      batch.Launch  `gorm:"serializer:json"`
	Totals      *batch.Totals `gorm:"serializer:json"`
	Rows        int
	Checked     int // rows that were rehearsed until now
	Content     []byte
	PaceN       int
	PaceMs      int
	CreatedAt   time.Time `gorm:"autoCreateTime:false"`
	ChangedAt   time.Time
	RehearsedAt *time.Time
	LaunchedAt  *time.Time
	FinishedAt  *time.Time
	Keeper      *uuid.UUID
	KeptUntil   *time.Time
}

// Pace is how fast it goes at most.
func (b *Batch) Pace() batch.Pace {
	return batch.Pace{N: b.PaceN, Per: time.Duration(b.PaceMs) * time.Millisecond}
}

// ErrNotNow is returned for what cannot be done with a batch in its state.
var ErrNotNow = errors.New("not in the state that the batch is in")

// AddBatch keeps a new batch.
func (s *Store) AddBatch(ctx context.Context, b *Batch) error {
	return create(s.gorm(ctx), b, "batch "+b.Name)
}

// Batch returns one batch.
func (s *Store) Batch(ctx context.Context, id uuid.UUID) (b Batch, err error) {
	return b, found(s.gorm(ctx).Where("id = ?", id).First(&b).Error)
}

// BatchFirst returns the batch whose first message that is.
func (s *Store) BatchFirst(ctx context.Context, first uuid.UUID) (b Batch, err error) {
	return b, found(s.gorm(ctx).Where("first = ?", first).First(&b).Error)
}

// Batches lists batches, the newest first, from the one after a cursor on; of a state, if
// it is given.
func (s *Store) Batches(ctx context.Context, state batch.State, after uuid.UUID, most int) (all []Batch, err error) {
	find := s.gorm(ctx).Order("id DESC").Limit(most)
	if state != "" {
		find = find.Where("state = ?", state)
	}
	if after != uuid.Nil {
		find = find.Where("id < ?", after)
	}
	if err := find.Find(&all).Error; err != nil {
		return nil, fmt.Errorf("reading batches: %w", err)
	}
	return all, nil
}

// AlikeBatches are those whose ids begin or end so; at most so many.
func (s *Store) AlikeBatches(ctx context.Context, part string, most int) (ids []uuid.UUID, err error) {
	err = s.gorm(ctx).
		Raw(`SELECT id FROM batches WHERE starts_with(id::text, ?) OR right(id::text, length(?)) = ? ORDER BY id DESC LIMIT ?`,
			part, part, part, most).
		Scan(&ids).
		Error
	return ids, err
}

// ChangeBatch locks a batch, lets change make something else of it, and writes that. What
// change refuses is not written.
func (s *Store) ChangeBatch(ctx context.Context, id uuid.UUID, now time.Time, change func(*Store, *Batch) error) (b Batch, err error) {
	err = s.Transact(ctx, func(s *Store) error {
		b = Batch{}
		if err := found(s.gorm(ctx).Raw("SELECT * FROM batches WHERE id = ? FOR UPDATE", id).First(&b).Error); err != nil {
			return err
		}
		state, finished := b.State, b.FinishedAt != nil
		if err := change(s, &b); err != nil {
			return err
		}
		b.ChangedAt = now
		if err := s.moved(ctx, now, &b, state, finished); err != nil {
			return err
		}
		return s.gorm(ctx).Session(&gorm.Session{}).Model(&b).Select("*").Omit("id").Updates(&b).Error
	})
	return b, err
}

// ToldBatch is what is told of a batch.
type ToldBatch struct {
	ID         uuid.UUID   `json:"id"`
	Name       string      `json:"name"`
	State      batch.State `json:"state"`
	Why        string      `json:"why,omitempty"`
	Kind       string      `json:"kind"`
	Rows       int         `json:"rows"`
	ByWhom     string      `json:"by"`
	LaunchedAt *time.Time  `json:"launched_at,omitempty"`
	FinishedAt *time.Time  `json:"finished_at,omitempty"`
	ChangedAt  time.Time   `json:"changed_at"`
}

// moved writes that a batch came to another state, or to its end.
func (s *Store) moved(ctx context.Context, now time.Time, b *Batch, state batch.State, finished bool) error {
	t := webhook.OfBatch(b.State)
	switch {
	case b.FinishedAt != nil && !finished:
		t = webhook.OfBatch(batch.Finished)
	case b.State == state || t == "":
		return nil
	}
	kind := cmp.Or(b.Wants.Kind, string(pace.Bulk))
	data, err := json.Marshal(ToldBatch{ID: b.ID, Name: b.Name, State: b.State, Why: b.Why, Kind: kind, Rows: b.Rows, ByWhom: b.ByWhom,
		LaunchedAt: b.LaunchedAt, FinishedAt: b.FinishedAt, ChangedAt: now})
	if err != nil {
		return fmt.Errorf("telling of batch %s: %w", b.ID, err)
	}
	return s.Happen(ctx, now, []Event{{Type: t, Subject: b.ID, Kind: pace.Kind(kind), Labels: b.Wants.AllLabels, Data: data}})
}

// BatchAct is what somebody did with a batch.
type BatchAct struct {
	ID      int64
	BatchID uuid.UUID
	At      time.Time
	ByWhom  string // empty: it stopped or went on by itself
	Act     string
}

// NoteAct notes what is done with a batch. Call it within the transaction that does it.
func (s *Store) NoteAct(ctx context.Context, id uuid.UUID, at time.Time, by, act string) error {
	return s.gorm(ctx).Omit("id").Create(&BatchAct{BatchID: id, At: at, ByWhom: by, Act: act}).Error
}

// BatchActs are the last things that were done with a batch, the first first; at most so many.
func (s *Store) BatchActs(ctx context.Context, id uuid.UUID, most int) (acts []BatchAct, err error) {
	err = s.gorm(ctx).Where("batch_id = ?", id).Order("id DESC").Limit(most).Find(&acts).Error
	slices.Reverse(acts)
	return acts, err
}

// RemoveBatch forgets a batch that was not launched, with its rows.
func (s *Store) RemoveBatch(ctx context.Context, id uuid.UUID) error {
	result := s.gorm(ctx).Exec("DELETE FROM batches WHERE id = ? AND launched_at IS NULL", id)
	if result.Error == nil && result.RowsAffected == 0 {
		if _, err := s.Batch(ctx, id); err != nil {
			return err
		}
		return ErrNotNow
	}
	return result.Error
}

// BatchPack is rows that are kept together, compressed, and what rehearsing found of them.
type BatchPack struct {
	N      int // 0 first
	Rows   int
	Body   []byte
	Checks []byte // nil: they were not rehearsed
}

// Compress and Decompress are how packs are kept.
func Compress(b []byte) []byte { return compressor.EncodeAll(b, nil) }

// Decompress undoes [Compress].
func Decompress(b []byte) ([]byte, error) { return decompressor.DecodeAll(b, nil) }

// PutPacks keeps packs of a batch that takes rows, and what was recognised of its list. It
// holds so many rows before and so many after; where it holds others, somebody else has
// added to it meanwhile: [ErrChanged].
func (s *Store) PutPacks(ctx context.Context, id uuid.UUID, now time.Time, before, after int, found batch.Found, packs []BatchPack) error {
	recognised, err := json.Marshal(found)
	if err != nil {
		return err
	}
	return s.Transact(ctx, func(s *Store) error {
		changed, err := query(ctx, s.hot(), scanNumber, `UPDATE batches SET rows = $3, found = $4::jsonb, changed_at = $5
			WHERE id = $1 AND rows = $2 AND state = 'open' RETURNING rows`, id, before, after, string(recognised), now)
		if err != nil {
			return fmt.Errorf("keeping rows of a batch: %w", err)
		}
		if len(changed) == 0 {
			return ErrChanged
		}
		var b pgx.Batch
		b.Queue(`INSERT INTO batch_packs (batch_id, n, rows, body) SELECT $1, * FROM unnest($2::int[], $3::int[], $4::bytea[])
			ON CONFLICT (batch_id, n) DO UPDATE SET rows = excluded.rows, body = excluded.body, checks = NULL`, id,
			numbers(packs, func(p *BatchPack) int { return p.N }), numbers(packs, func(p *BatchPack) int { return p.Rows }),
			column(packs, func(p *BatchPack) []byte { return p.Body }))
		return s.send(ctx, &b)
	})
}

// ReplacePacks keeps packs in the place of those that are there, with as many rows; what was
// found of them is forgotten. Call it within [Store.Transact].
func (s *Store) ReplacePacks(ctx context.Context, id uuid.UUID, packs []BatchPack) error {
	var b pgx.Batch
	b.Queue(`UPDATE batch_packs p SET body = n.body, checks = NULL FROM unnest($2::int[], $3::bytea[]) AS n (n, body)
		WHERE p.batch_id = $1 AND p.n = n.n`, id, numbers(packs, func(p *BatchPack) int { return p.N }),
		column(packs, func(p *BatchPack) []byte { return p.Body }))
	if err := s.send(ctx, &b); err != nil {
		return fmt.Errorf("keeping corrected rows of a batch: %w", err)
	}
	return nil
}

// BatchPacks reads packs from one on, in their order, at most so many: with what was found of
// them alone, or with the rows too.
func (s *Store) BatchPacks(ctx context.Context, id uuid.UUID, from, most int, rows, checks bool) ([]BatchPack, error) {
	columns := "n, rows"
	columns += map[bool]string{true: ", body", false: ", NULL::bytea"}[rows]
	columns += map[bool]string{true: ", checks", false: ", NULL::bytea"}[checks]
	packs, err := query(ctx, s.reading(), func(rows pgx.Rows) (p BatchPack, err error) {
		err = rows.Scan(&p.N, &p.Rows, &p.Body, &p.Checks)
		return p, err
	}, "SELECT "+columns+" FROM batch_packs WHERE batch_id = $1 AND n >= $2 ORDER BY n LIMIT $3", id, from, most)
	if err != nil {
		return nil, fmt.Errorf("reading rows of a batch: %w", err)
	}
	for i := range packs {
		for _, part := range []*[]byte{&packs[i].Body, &packs[i].Checks} {
			if *part == nil {
				continue
			}
			if *part, err = Decompress(*part); err != nil {
				return nil, fmt.Errorf("reading rows of a batch: %w", err)
			}
		}
	}
	return packs, nil
}

// KeepBatch takes a batch to be rehearsed that nobody is at work on, until a moment; false
// if there is none.
func (s *Store) KeepBatch(ctx context.Context, keeper uuid.UUID, now, until time.Time) (b Batch, ok bool, err error) {
	kept, err := query(ctx, s.hot(), scanID, `UPDATE batches SET keeper = $1, kept_until = $3, checked = 0 WHERE id =
		(SELECT id FROM batches WHERE state = 'checking' AND (kept_until IS NULL OR kept_until < $2)
			ORDER BY id LIMIT 1 FOR UPDATE SKIP LOCKED) RETURNING id`, keeper, now, until)
	if err != nil || len(kept) == 0 {
		return b, false, err
	}
	b, err = s.Batch(ctx, kept[0])
	return b, err == nil, err
}

// PutChecks keeps what rehearsing found of packs, as long as the keeper is at work on the
// batch: else [ErrChanged].
func (s *Store) PutChecks(ctx context.Context, id, keeper uuid.UUID, checked int, until time.Time, packs []BatchPack) error {
	kept, err := query(ctx, s.hot(), scanNumber, `WITH kept AS (UPDATE batches SET checked = $3, kept_until = $4
			WHERE id = $1 AND keeper = $2 AND state = 'checking' RETURNING id),
		put AS (UPDATE batch_packs p SET checks = n.checks FROM kept, unnest($5::int[], $6::bytea[]) AS n (n, checks)
			WHERE p.batch_id = kept.id AND p.n = n.n)
		SELECT count(*)::int FROM kept`, id, keeper, checked, until, numbers(packs, func(p *BatchPack) int { return p.N }),
		column(packs, func(p *BatchPack) []byte { return p.Checks }))
	if err == nil && kept[0] == 0 {
		err = ErrChanged
	}
	return err
}
