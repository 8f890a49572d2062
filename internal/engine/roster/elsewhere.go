package roster

import (
	"slices"
	"time"

	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/store"
)

// Elsewhere finds another gateway of a message's route that may be used now:
// the next in order, or one before. next is true if it comes after the one that
// the message is queued for. It is nil if there is none.
func (r *Roster) Elsewhere(m *store.Message, now time.Time) (g *Gateway, next bool) {
	book := r.Book()
	way, ok := book.RouteNamed(m.Route)
	if !ok {
		return nil, false
	}
	order := way.Order(m.ID.String())
	here := -1
	if g := r.ByID(m.GatewayID); g != nil {
		here = slices.Index(order, g.Name)
	}
	for i := range order {
		at := (here + 1 + i) % len(order)
		g := r.ByName(order[at])
		if g == nil || g.ID == m.GatewayID || g.Unusable(r.Health(g.ID), now) != "" || !book.MaySend(m.Sender, g.Name) ||
			g.Refuses(
				dialect.Case{
					Kind:       m.Kind,
					Country:    m.Country,
					Sender:     m.Sender,
					Registered: m.Registration != "",
					Flash:      m.Flash,
				},
			) != "" {
			continue
		}
		return g, at > here
	}
	return nil, false
}
