package chase

import (
	"context"
	"errors"
	"slices"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/store"
)

// NowMost is how many messages can be asked about with one word.
const NowMost = 1000

// Cost is what asking a gateway costs.
type Cost struct {
	Gateway   string
	Messages  int
	Requests  int
	PerSecond int // that it allows, submissions among them
}

// Refusal is why a message cannot be asked about.
type Refusal struct {
	Message uuid.UUID
	Why     string
}

// errTried undoes what was only tried out.
var errTried = errors.New("only tried out")

// AskNow lets messages be asked about at once, within the pace of their gateways, also those whose end is known or
// was given up. With try nothing is written, and only what it would cost is told.
func (c *Chase) AskNow(ctx context.Context, messages []uuid.UUID, try bool) (costs []Cost, refused []Refusal, err error) {
	messages = slices.Clone(messages)
	slices.SortFunc(messages, func(a, b uuid.UUID) int { return slices.Compare(a[:], b[:]) })
	messages = slices.Compact(messages)
	var gateways []uuid.UUID
	err = c.Store.Transact(ctx, func(s *store.Store) error {
		costs, refused, gateways = nil, nil, nil
		stand, err := s.Stand(ctx, messages)
		if err != nil {
			return err
		}
		of := map[uuid.UUID][]store.Message{}
		for _, id := range messages {
			m, ok := stand[id]
			if why := c.unaskable(&m, ok); why != "" {
				refused = append(refused, Refusal{id, why})
				continue
			}
			if of[m.GatewayID] == nil {
				gateways = append(gateways, m.GatewayID)
			}
			of[m.GatewayID] = append(of[m.GatewayID], m)
		}
		for _, id := range gateways {
			g, each := c.Roster.ByID(id), 1
			if g.Dialect.Query.Most > 1 {
				each = g.Dialect.Query.Most
			}
			n := len(of[id])
			costs = append(costs, Cost{g.Name, n, (n + each - 1) / each, g.PerSecond})
			if !try {
				if err := s.AskNow(ctx, of[id], c.Now()); err != nil {
					return err
				}
			}
		}
		if try {
			return errTried
		}
		return nil
	})
	if errors.Is(err, errTried) {
		return costs, refused, nil
	}
	if err == nil {
		c.Wake(gateways, nil, false) // another instance that keeps them looks by itself
	}
	return costs, refused, err
}

// unaskable says why a message cannot be asked about; empty if it can.
func (c *Chase) unaskable(m *store.Message, there bool) string {
	if !there {
		return "there is no such message"
	}
	g := c.Roster.ByID(m.GatewayID)
	switch {
	case len(m.Tried()) == 0 || m.State == delivery.Sending || m.State == delivery.Queued || m.State == delivery.Held:
		return "no gateway has it"
	case g == nil || g.RemovedAt != nil:
		return "its gateway is out of use"
	case g.Dialect.Query == nil:
		return g.Name + " cannot be asked about messages"
	case !g.Dialect.CanAsk(m.GatewayRef):
		return g.Name + " is asked by its own id, which is not known"
	}
	return ""
}
