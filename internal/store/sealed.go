package store

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/pace"
)

// queueSealed keeps the texts of passcodes, sealed.
func queueSealed(b *pgx.Batch, set []Acceptance) {
	var sealed []Acceptance
	for _, a := range set {
		if a.Sealed != nil {
			sealed = append(sealed, a)
		}
	}
	if sealed == nil {
		return
	}
	b.Queue("INSERT INTO sealed_texts (id, sealed, marks) SELECT * FROM unnest($1::uuid[], $2::bytea[], $3::bytea[])",
		ids(sealed, func(a *Acceptance) uuid.UUID { return a.Message.ID }), column(sealed, func(a *Acceptance) []byte { return a.Sealed }),
		column(sealed, func(a *Acceptance) []byte { return []byte(a.Message.Marks) }))
}

// MarkSize is how many octets a mark has.
const MarkSize = 8

// marksKept is how long what a gateway says of a passcode is looked through for its
// codes: receipts may come late.
const marksKept = 72 * time.Hour

// readSealed gives passcodes their marks, and those that are about to go their texts,
// still sealed.
func (s *Store) readSealed(ctx context.Context, messages []Message) error {
	at := map[uuid.UUID]*Message{}
	var all []uuid.UUID
	for i := range messages {
		if m := &messages[i]; m.Kind == pace.OTP {
			at[m.ID] = m
			all = append(all, m.ID)
		}
	}
	if all == nil {
		return nil
	}
	type sealed struct {
		id          uuid.UUID
		text, marks []byte
	}
	found, err := query(ctx, s.hot(), func(rows pgx.Rows) (one sealed, err error) {
		err = rows.Scan(&one.id, &one.text, &one.marks)
		return one, err
	}, "SELECT id, nullif(sealed, ''), marks FROM sealed_texts WHERE id = ANY($1)", uuids(all))
	if err != nil {
		return fmt.Errorf("reading what is sealed: %w", err)
	}
	for _, one := range found {
		at[one.id].Sealed, at[one.id].Marks = one.text, string(one.marks)
	}
	return nil
}

// mayBeHandedOver reports whether a message in a state may have to be handed over, for the
// first time or again.
func mayBeHandedOver(s delivery.State) bool {
	return waits(s) || s == delivery.Sending || s == delivery.Doubtful
}
