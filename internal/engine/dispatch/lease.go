package dispatch

import (
	"context"
	"time"

	"github.com/google/uuid"
)

// renew prolongs the leases of all gateways that are kept here, in one statement
// every quarter of their span, until ctx ends. A keeper whose lease cannot be
// prolonged in time stops by itself; one that has lost it is told.
func (d *Dispatch) renew(ctx context.Context) {
	said := rate{every: 10 * time.Second}
	for ctx.Err() == nil {
		pause(ctx, d.Lease/4)
		keepers := map[uuid.UUID]*keeper{}
		d.mu.Lock()
		for id, k := range d.kept {
			if k.lost.Load() != nil {
				keepers[id] = k
			}
		}
		d.mu.Unlock()
		if d.Gate.Outdated() {
			for _, k := range keepers {
				k.lose()
			}
			continue
		}
		if len(keepers) == 0 {
			continue
		}
		asked := time.Now()
		within, cancel := context.WithTimeout(ctx, d.Lease)
		held, err := d.Store.RenewLeases(within, d.holder, keys(keepers), d.Lease)
		cancel()
		if err != nil {
			if ctx.Err() == nil && said.may() {
				d.Log.Error("prolonging leases", "error", err)
			}
			for _, k := range keepers {
				if !k.holds() {
					k.lose()
				}
			}
			continue
		}
		for _, id := range held {
			k := keepers[id]
			k.until.Store(int64(asked.Sub(k.began) + d.Lease))
			delete(keepers, id)
		}
		for _, k := range keepers {
			k.lose()
		}
	}
}

// lose ends the keeping of a gateway that has another keeper now, or none.
func (k *keeper) lose() {
	if stop := k.lost.Load(); stop != nil {
		(*stop)()
	}
}

func keys(keepers map[uuid.UUID]*keeper) []uuid.UUID {
	all := make([]uuid.UUID, 0, len(keepers))
	for id := range keepers {
		all = append(all, id)
	}
	return all
}
