// Package conversations is what was said with a number: our messages to it and what it wrote, in one order, and our
// answer.
package conversations

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/smstext"
	"calmpigeon.example/internal/engine/intake"
	"calmpigeon.example/internal/engine/kit"
	"calmpigeon.example/internal/store"
)

// Conversations reads and answers.
type Conversations struct {
	kit.Kit
	Intake *intake.Intake
}

// ErrNothing is returned for a number that never wrote.
var ErrNothing = errors.New("this number has written nothing")

// Said is one text of a conversation: ours, or theirs.
type Said struct {
	Ours   *store.Message
	Theirs *store.Inbound
}

// ID is that of the message or inbound message. Both bear their time, and are in one order.
func (s Said) ID() uuid.UUID {
	if s.Ours != nil {
		return s.Ours.ID
	}
	return s.Theirs.ID
}

// Thread is what was said with a number, the newest first, before a cursor (nil: from the newest on).
func (c *Conversations) Thread(ctx context.Context, number string, before uuid.UUID, most int) ([]Said, error) {
	ours, err := c.Store.Find(ctx, store.Filter{To: number}, before, most)
	if err != nil {
		return nil, err
	}
	theirs, err := c.Store.InboundOf(ctx, number, before, most)
	if err != nil {
		return nil, err
	}
	all := make([]Said, 0, len(ours)+len(theirs))
	for i := range ours {
		all = append(all, Said{Ours: &ours[i]})
	}
	for i := range theirs {
		all = append(all, Said{Theirs: &theirs[i]})
	}
	slices.SortFunc(all, func(x, y Said) int {
		a, b := x.ID(), y.ID()
		return slices.Compare(b[:], a[:])
	})
	return all[:min(len(all), most)], nil
}

// Reply plans the answer to what a number wrote last: from the sender to whom it wrote, through the gateway that
// brought it if that can send it, else through the one of its route.
func (c *Conversations) Reply(ctx context.Context, key store.Key, number string, d intake.Draft) (intake.Draft, error) {
	last, err := c.Store.InboundOf(ctx, number, uuid.Nil, 1)
	if err != nil {
		return d, err
	}
	if len(last) == 0 {
		return d, ErrNothing
	}
	d.To = number
	if d.Sender == "" {
		if d.Sender = last[0].ToSender; !slices.ContainsFunc(c.Roster.Book().Senders, func(s store.Sender) bool { return s.ID == d.Sender }) {
			return d, fault.New("sender", fmt.Sprintf("they wrote to %s, which is no sender in use", d.Sender), "a sender in use, to answer from")
		}
	}
	if d.Gateway != "" {
		return d, nil
	}
	if g := c.Roster.ByID(last[0].GatewayID); g != nil && g.RemovedAt == nil {
		through := d
		through.Gateway, through.KeyID, through.KeyLabels = g.Name, key.ID, key.Labels
		if _, faults, err := c.Intake.Plan(through, smstext.Level(key.Cure), intake.Whole); err == nil && len(faults) == 0 {
			d.Gateway = g.Name
		}
	}
	return d, nil
}
