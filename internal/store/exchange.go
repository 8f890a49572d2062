package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// Exchange is a raw exchange with a gateway, its secrets masked.
type Exchange struct {
	ID            uuid.UUID
	GatewayID     uuid.UUID
	Purpose       string // submit or query
	Method        string
	URL           string
	RequestHeader map[string]string `gorm:"serializer:json"`
	RequestBody   []byte
	Status        int
	ReplyHeader   map[string]string `gorm:"serializer:json"`
	ReplyBody     []byte
	Error         string
	StartedAt     time.Time
	TookUs        int64
}

// StoreExchanges keeps raw exchanges.
func (s *Store) StoreExchanges(ctx context.Context, exchanges []Exchange) error {
	var b pgx.Batch
	for m, set := range byMonth(s, exchanges, func(x *Exchange) uuid.UUID { return x.ID }) {
		asked, err := objects(set, func(x *Exchange) map[string]string { return x.RequestHeader })
		if err != nil {
			return err
		}
		answered, err := objects(set, func(x *Exchange) map[string]string { return x.ReplyHeader })
		if err != nil {
			return err
		}
		b.Queue(
			m.in(
				`INSERT INTO exchanges_%M (id, gateway_id, purpose, method, url, request_header, request_body, status, reply_header, reply_body,
				error, started_at, took_us)
			SELECT n.id, n.gateway_id, n.purpose, n.method, n.url, n.request_header::jsonb, n.request_body, n.status, n.reply_header::jsonb,
				n.reply_body,
				n.error, n.started_at, n.took_us
			FROM unnest($1::uuid[], $2::uuid[], $3::text[], $4::text[], $5::text[], $6::text[], $7::bytea[], $8::int[], $9::text[], $10::bytea[],
				$11::text[], $12::timestamptz[], $13::bigint[])
				AS n (id, gateway_id, purpose, method, url, request_header, request_body, status, reply_header, reply_body, error, started_at,
					took_us)`,
			),
			ids(set, func(x *Exchange) uuid.UUID { return x.ID }),
			ids(set, func(x *Exchange) uuid.UUID { return x.GatewayID }),
			words(set, func(x *Exchange) string { return x.Purpose }),
			words(set, func(x *Exchange) string { return x.Method }),
			words(set, func(x *Exchange) string { return x.URL }),
			asked,
			column(set, func(x *Exchange) []byte { return present(x.RequestBody) }),
			numbers(set, func(x *Exchange) int { return x.Status }),
			answered,
			column(set, func(x *Exchange) []byte { return present(x.ReplyBody) }),
			words(set, func(x *Exchange) string { return x.Error }),
			column(set, func(x *Exchange) time.Time { return x.StartedAt }),
			column(set, func(x *Exchange) int64 { return x.TookUs }),
		)
	}
	if err := s.send(ctx, &b); err != nil {
		s.missing(err)
		return fmt.Errorf("storing %d exchanges: %w", len(exchanges), err)
	}
	return nil
}

// objects is a column of JSON objects.
func objects[T any](records []T, of func(*T) map[string]string) ([]string, error) {
	values := make([]string, len(records))
	for i := range records {
		values[i] = "{}"
		if object := of(&records[i]); len(object) > 0 {
			encoded, err := json.Marshal(object)
			if err != nil {
				return nil, fmt.Errorf("headers: %w", err)
			}
			values[i] = string(encoded)
		}
	}
	return values, nil
}

// Exchanges returns the raw exchanges and callbacks behind a message's
// evidence, by their ids.
func (s *Store) Exchanges(ctx context.Context, timeline []Evidence) (map[uuid.UUID]Exchange, map[uuid.UUID]Receipt, error) {
	var exchangeIDs, receiptIDs []uuid.UUID
	for _, e := range timeline {
		if e.ExchangeID != nil {
			exchangeIDs = append(exchangeIDs, *e.ExchangeID)
		}
		if e.ReceiptID != nil {
			receiptIDs = append(receiptIDs, *e.ReceiptID)
		}
	}
	exchanges, receipts := map[uuid.UUID]Exchange{}, map[uuid.UUID]Receipt{}
	for m, set := range byMonth(s, exchangeIDs, itself) {
		var found []Exchange
		if err := s.gorm(ctx).Table("exchanges_"+string(m)).Where("id = ANY(?::uuid[])", list(set)).Find(&found).Error; err != nil {
			return nil, nil, fmt.Errorf("reading exchanges: %w", err)
		}
		for _, x := range found {
			exchanges[x.ID] = x
		}
	}
	found, err := s.receipts(ctx, receiptIDs)
	for _, r := range found {
		receipts[r.ID] = r
	}
	return exchanges, receipts, err
}
