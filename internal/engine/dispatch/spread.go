package dispatch

import (
	"bytes"
	"context"
	"crypto/sha256"
	"time"

	"github.com/google/uuid"
)

// Gateways are spread over the instances that are at work by rendezvous: each goes to the instance
// whose id, hashed with the gateway's, is the highest. When an instance joins or leaves, only those
// gateways move that it gains or had.

// spreadEvery is how often each instance notes that it is at work, and looks which others are.
const spreadEvery = 2 * time.Second

// chosen is the instance that a gateway goes to; nil if none is at work.
func chosen(gateway uuid.UUID, instances []uuid.UUID) (best uuid.UUID) {
	var highest [sha256.Size]byte
	for _, id := range instances {
		if sum := sha256.Sum256(append(gateway[:], id[:]...)); best == uuid.Nil || bytes.Compare(sum[:], highest[:]) > 0 {
			best, highest = id, sum
		}
	}
	return best
}

// spread looks which instances are at work, until ctx ends. A gateway that goes to another is given
// up once two looks in a row say so.
func (d *Dispatch) spread(ctx context.Context) {
	other := map[uuid.UUID]int{}
	for ; ctx.Err() == nil; pause(ctx, spreadEvery) {
		instances, err := d.Store.LiveInstances(ctx)
		if err != nil {
			continue // who keeps a gateway goes on keeping it
		}
		d.instances.Store(&instances)
		d.mu.Lock()
		for id, k := range d.kept {
			if d.isOurs(id) || k.lost.Load() == nil {
				other[id] = 0
				continue
			}
			if other[id]++; other[id] >= 2 {
				other[id] = 0
				d.Log.Info("giving a gateway to another instance", "gateway", id)
				k.yielding.Store(true)
				k.lose()
			}
		}
		d.mu.Unlock()
	}
}

// isOurs reports whether a gateway goes to this instance, or it is not known to whom.
func (d *Dispatch) isOurs(gateway uuid.UUID) bool {
	instances := d.instances.Load()
	if instances == nil || len(*instances) == 0 {
		return true
	}
	to := chosen(gateway, *instances)
	return to == uuid.Nil || to == d.Store.Instance()
}
