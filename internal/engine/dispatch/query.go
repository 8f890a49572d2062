package dispatch

import (
	"context"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/engine/roster"
)

// Status queries go through the keeper: within the gateway's pace, below
// submissions, and not while it rests. As long as there is more to be sent than
// may go, queries get a tenth of the pace, so that they come to an end as well.

// queryShare is the share of the pace that queries get beside submissions: one in
// so many.
const queryShare = 10

// Keeps reports whether this instance keeps a gateway.
func (d *Dispatch) Keeps(gateway uuid.UUID) bool { return d.keeper(gateway) != nil }

func (d *Dispatch) keeper(gateway uuid.UUID) *keeper {
	d.mu.Lock()
	defer d.mu.Unlock()
	if k := d.kept[gateway]; k != nil && k.holds() {
		return k
	}
	return nil
}

// LeaveQuery waits until a status query may go to a gateway. If it may, told has
// to be called with what was learned of the answer.
func (d *Dispatch) LeaveQuery(ctx context.Context, gateway uuid.UUID) (told func(cause delivery.Cause, wait time.Duration), ok bool) {
	k := d.keeper(gateway)
	for k != nil && ctx.Err() == nil && k.holds() && k.d.Gate.Asks() {
		g := k.gateway()
		if g == nil || k.resting() {
			return nil, false
		}
		ticket, wait := k.query(g)
		if ticket != nil {
			return func(cause delivery.Cause, wait time.Duration) {
				k.arrives(ticket)()
				k.busy.Add(-1)
				k.bell.Some.Now()
				if cause == delivery.Limited {
					l := lesson{cause: cause, note: "a status query was refused"}
					if wait > 0 {
						l.wait = &wait
					}
					if h, changed := k.learn(l); changed {
						k.note(g, h)
					}
				}
			}, true
		}
		pause(ctx, wait)
	}
	return nil, false
}

// resting reports whether nothing is to be asked of the gateway now.
func (k *keeper) resting() bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return time.Now().Before(k.restUntil)
}

// query takes a place for a status query; else it returns how long it is worth
// waiting.
func (k *keeper) query(g *roster.Gateway) (*pace.Ticket, time.Duration) {
	k.mu.Lock()
	share := k.ease.Share(time.Now())
	k.mu.Unlock()
	k.door.Lock()
	defer k.door.Unlock()
	now := time.Now()
	const soon = 5 * time.Millisecond
	switch {
	case int(k.busy.Load()) >= g.InFlight:
		return nil, soon
	case k.window.Free(now, k.booths+1) <= k.booths:
		return nil, max(k.window.Wait(now), soon)
	case share < 1 && k.asked.Used(now) >= max(1, int(share*float64(g.PerSecond))/queryShare):
		return nil, soon // it asked to go slower, and they are the first to do so
	case k.hungry.Load() && k.queries.Free(now, 1) == 0:
		return nil, max(k.queries.Wait(now), soon)
	}
	ticket := k.window.Leave(now, 1)
	k.flow.Take(now, 1)
	k.queries.Take(now, 1)
	k.asked.Take(now, 1)
	k.busy.Add(1)
	return ticket, 0
}
