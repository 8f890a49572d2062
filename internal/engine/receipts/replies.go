package receipts

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/google/uuid"

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
	// Message is the id of the message that it answers, and Reference and Labels are those of that; empty: none is known.
	Message   string            `json:"message,omitempty"`
	Reference string            `json:"reference,omitempty"`
	Labels    map[string]string `json:"labels,omitempty"`
}

// tellReplies lets applications know that somebody wrote: those that chose the kind and labels of the message that is
// answered, or the one that alone is told of what people write to its sender.
func (s *settler) tellReplies(ctx context.Context, tx *store.Store, inbound []store.Inbound, now time.Time) error {
	var answered []uuid.UUID
	for _, m := range inbound {
		if m.MessageID != nil {
			answered = append(answered, *m.MessageID)
		}
	}
	contents, err := tx.Contents(ctx, answered)
	if err != nil {
		return err
	}
	only := map[string]string{}
	for _, one := range s.r.Roster.Book().Senders {
		if r := s.r.Roster.Receiver(uuid.Nil, one.RepliesTo); r != nil { // one that is no more tells nobody
			only[one.ID] = r.Name
		}
	}
	events := make([]store.Event, 0, len(inbound))
	for _, m := range inbound {
		r := reply{ID: m.ID.String(), From: cmp.Or(m.FromE164, m.FromNumber), To: m.ToSender, Text: m.Text, GatewayRef: m.GatewayRef,
			GatewayAt: m.At, At: m.ReceivedAt}
		if g := s.r.Roster.ByID(m.GatewayID); g != nil {
			r.Gateway = g.Name
		}
		e := store.Event{Type: webhook.Reply, Subject: m.ID, Only: only[m.ToSender]}
		if m.MessageID != nil {
			if c, known := contents[*m.MessageID]; known {
				r.Message, r.Reference, r.Labels = c.ID.String(), c.Reference, c.Labels.Map()
				e.Kind, e.Labels = c.Kind, c.Labels
			}
		}
		if e.Data, err = json.Marshal(r); err != nil {
			return fmt.Errorf("telling of inbound message %s: %w", m.ID, err)
		}
		events = append(events, e)
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
