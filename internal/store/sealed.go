package store

import (
	"context"
	"fmt"

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
	b.Queue("INSERT INTO sealed_texts (id, sealed) SELECT * FROM unnest($1::uuid[], $2::bytea[])",
		ids(sealed, func(a *Acceptance) uuid.UUID { return a.Message.ID }), column(sealed, func(a *Acceptance) []byte { return a.Sealed }))
}

// readSealed gives passcodes that are about to go their texts, still sealed.
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
		id   uuid.UUID
		text []byte
	}
	found, err := query(ctx, s.hot(), func(rows pgx.Rows) (one sealed, err error) {
		err = rows.Scan(&one.id, &one.text)
		return one, err
	}, "SELECT id, sealed FROM sealed_texts WHERE id = ANY($1)", uuids(all))
	if err != nil {
		return fmt.Errorf("reading what is sealed: %w", err)
	}
	for _, one := range found {
		at[one.id].Sealed = one.text
	}
	return nil
}

// mayBeHandedOver reports whether a message in a state may have to be handed over, for the
// first time or again.
func mayBeHandedOver(s delivery.State) bool {
	return waits(s) || s == delivery.Sending || s == delivery.Doubtful
}
