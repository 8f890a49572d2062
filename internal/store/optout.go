package store

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"calmpigeon.example/internal/core/pace"
)

// OptOut is that somebody does not want to be written to, from when to when.
type OptOut struct {
	ID       int64
	Number   string // E.164
	Since    time.Time
	Why      string
	ByWhom   string
	EndedAt  *time.Time // nil: it holds
	EndedWhy string
	EndedBy  string
	// Answer is the message that tells the recipient of it, which goes all the same; nil: none.
	Answer *uuid.UUID
}

// AddOptOuts keeps that numbers do not want to be written to. Those that are known to
// stay as they are; it returns the numbers that are new.
func (s *Store) AddOptOuts(ctx context.Context, set []OptOut) (added []string, err error) {
	if len(set) == 0 {
		return nil, nil
	}
	added, err = query(ctx, s.hot(), scanPhone, `INSERT INTO opt_outs (number, since, why, by_whom, answer)
			SELECT DISTINCT ON (n.number) n.number, n.since, n.why, n.by_whom, n.answer
			FROM unnest($1::text[], $2::timestamptz[], $3::text[], $4::text[], $5::uuid[]) AS n (number, since, why, by_whom, answer)
			ORDER BY n.number
			ON CONFLICT (number) WHERE ended_at IS NULL DO NOTHING RETURNING number`,
		words(set, func(o *OptOut) string { return o.Number }), column(set, func(o *OptOut) time.Time { return o.Since }),
		words(set, func(o *OptOut) string { return o.Why }), words(set, func(o *OptOut) string { return o.ByWhom }),
		maybeIDs(set, func(o *OptOut) *uuid.UUID { return o.Answer }))
	if err != nil {
		return nil, fmt.Errorf("keeping %d opt-outs: %w", len(set), err)
	}
	return added, nil
}

func scanPhone(rows pgx.Rows) (number string, err error) {
	err = rows.Scan(&number)
	return number, err
}

// EndOptOuts ends opt-outs that hold, and returns how many there were.
func (s *Store) EndOptOuts(ctx context.Context, numbers []string, at time.Time, why, by string) (ended int, err error) {
	if len(numbers) == 0 {
		return 0, nil
	}
	were, err := query(ctx, s.hot(), scanPhone, `UPDATE opt_outs SET ended_at = $2, ended_why = $3, ended_by = $4
		WHERE ended_at IS NULL AND number = ANY($1) RETURNING number`, numbers, at, why, by)
	if err != nil {
		return 0, fmt.Errorf("ending opt-outs: %w", err)
	}
	return len(were), nil
}

// OptOuts lists opt-outs before one of them (0: from the last on), the newest first:
// of a number, if it is given, and those that have ended, too, if all are wanted.
func (s *Store) OptOuts(ctx context.Context, number string, all bool, before int64, most int) ([]OptOut, error) {
	find := s.gorm(ctx)
	if number != "" {
		find = find.Where("number = ?", number)
	}
	if !all {
		find = find.Where("ended_at IS NULL")
	}
	if before > 0 {
		find = find.Where("id < ?", before)
	}
	var found []OptOut
	if err := find.Order("id DESC").Limit(most).Find(&found).Error; err != nil {
		return nil, fmt.Errorf("reading opt-outs: %w", err)
	}
	return found, nil
}

// OptedOut are the opt-outs that hold, of those numbers.
func (s *Store) OptedOut(ctx context.Context, numbers []string) (map[string]OptOut, error) {
	held := map[string]OptOut{}
	if len(numbers) == 0 {
		return held, nil
	}
	found, err := query(ctx, s.hot(), func(rows pgx.Rows) (o OptOut, err error) {
		err = rows.Scan(&o.Number, &o.Since, &o.Why, &o.ByWhom, &o.Answer)
		return o, err
	}, "SELECT number, since, why, by_whom, answer FROM opt_outs WHERE ended_at IS NULL AND number = ANY($1)", numbers)
	if err != nil {
		return nil, fmt.Errorf("looking for opt-outs: %w", err)
	}
	for _, o := range found {
		held[o.Number] = o
	}
	return held, nil
}

// holdAgainst marks messages whose recipients do not want them. Passcodes are asked for, and
// what answers an opt-out is expected.
func (s *Store) holdAgainst(ctx context.Context, messages []Message) error {
	var numbers []string
	for i := range messages {
		if messages[i].Kind != pace.OTP {
			numbers = append(numbers, messages[i].To.String())
		}
	}
	held, err := s.OptedOut(ctx, numbers)
	if err != nil {
		return err
	}
	for i := range messages {
		o, ok := held[messages[i].To.String()]
		if ok && messages[i].Kind != pace.OTP && (o.Answer == nil || *o.Answer != messages[i].ID) {
			messages[i].OptedOut = &o
		}
	}
	return nil
}

// HasOptOuts reports whether there are any.
func (s *Store) HasOptOuts(ctx context.Context) (bool, error) {
	found, err := query(ctx, s.hot(), scanNumber, "SELECT 1 FROM opt_outs WHERE ended_at IS NULL LIMIT 1")
	return len(found) > 0, err
}
