package receipts

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"calmpigeon.example/internal/core/webhook"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

// reply is what is told of an inbound message. Its names are those of the API.
type reply struct {
	ID         string     `json:"id"`
	From       string     `json:"from"`
	To         string     `json:"to"`
	Text       string     `json:"text"`
	Gateway    string     `json:"gateway"`
	GatewayRef string     `json:"gateway_ref,omitempty"`
	GatewayAt  *time.Time `json:"gateway_at,omitempty"`
	At         time.Time  `json:"at"`
}

// tellReplies lets applications know that somebody wrote.
func (s *settler) tellReplies(ctx context.Context, tx *store.Store, inbound []store.Inbound, now time.Time) error {
	events := make([]store.Event, 0, len(inbound))
	for _, m := range inbound {
		r := reply{ID: m.ID.String(), From: numberOr(m.FromNumber), To: numberOr(m.ToNumber), Text: m.Text, GatewayRef: m.GatewayRef,
			GatewayAt: m.At, At: m.ReceivedAt}
		if g := s.r.Roster.ByID(m.GatewayID); g != nil {
			r.Gateway = g.Name
		}
		data, err := json.Marshal(r)
		if err != nil {
			return fmt.Errorf("telling of inbound message %s: %w", m.ID, err)
		}
		events = append(events, store.Event{Type: webhook.Reply, Subject: m.ID, Data: data})
	}
	return tx.Happen(ctx, now, events)
}

// numberOr is a number in E.164, or what was written where it is none: a short code.
func numberOr(written string) string {
	if r, err := roster.ReadNumber(written, ""); err == nil {
		return r.Number.String()
	}
	return written
}
