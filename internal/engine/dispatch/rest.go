package dispatch

import (
	"context"
	"time"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

// inherit takes over that the gateway rests, if its last keeper said so.
func (k *keeper) inherit() {
	h := k.d.Roster.Health(k.id)
	if h.RestSince == nil || h.RestUntil == nil {
		return
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.rests = max(k.rests, 1) // it is probed first
	k.restSince, k.restUntil, k.restCause, k.brokeAt = *h.RestSince, *h.RestUntil, h.RestCause, *h.RestSince
}

// note tells everybody that the gateway rests, or works again.
func (k *keeper) note(g *roster.Gateway, h store.Health) {
	if h.RestSince != nil {
		k.d.Log.Warn("gateway rests", "gateway", g.Name, "until", h.RestUntil, "cause", h.RestCause, "why", h.RestNote)
	} else {
		k.d.Log.Info("gateway works again", "gateway", g.Name)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := k.d.Store.NoteRest(ctx, h); err != nil {
		k.d.Log.Error("noting that a gateway rests", "gateway", g.Name, "error", err)
	}
	k.d.Roster.NoteRest(h)
}

// learn makes the gateway go slower when it asks for it, rest when it keeps
// failing or does not accept the account, and work again when it does. It
// returns what others should know, if that changed.
func (k *keeper) learn(l lesson) (h store.Health, changed bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	now := time.Now()
	rest := func(d time.Duration, cause delivery.Cause, note string) {
		k.restUntil = later(k.restUntil, now.Add(d))
		if k.restSince.IsZero() {
			k.restSince = now
		}
		k.restCause = cause
		since, until := k.restSince.UTC(), k.restUntil.UTC()
		h, changed = store.Health{GatewayID: k.id, RestSince: &since, RestUntil: &until, RestCause: cause, RestNote: note}, true
	}
	switch l.cause {
	case "":
		k.forgive()
		k.rests = 0
		if !k.restSince.IsZero() {
			k.restSince, k.restCause = time.Time{}, ""
			h, changed = store.Health{GatewayID: k.id}, true
		}
	case delivery.Limited:
		k.ease.Slow(now)
		if l.wait != nil {
			if k.restUntil = later(k.restUntil, now.Add(*l.wait)); *l.wait >= longRest {
				rest(*l.wait, l.cause, l.note)
			}
		}
	case delivery.NoCredit, delivery.CredentialsRefused:
		k.rests++
		if l.cause == delivery.NoCredit {
			k.brokeAt = now
		}
		rest(closed.Wait(k.rests, 0), l.cause, l.note)
	default:
		if k.blame(l.at); k.faults >= faultsBeforeRest || k.rests > 0 {
			k.rests++
			rest(resting.Wait(k.rests, 0), l.cause, l.note)
		}
		if l.wait != nil {
			k.restUntil = later(k.restUntil, now.Add(*l.wait))
		}
	}
	return h, changed
}

// blame counts a failure of the gateway, unless it failed at these messages before:
// then they may be to blame. It needs the lock.
func (k *keeper) blame(at []store.Message) {
	fresh := len(at) == 0
	for i := range at {
		if _, known := k.failedAt[at[i].ID]; !known {
			fresh = true
		}
	}
	if !fresh {
		return
	}
	k.faults++
	if len(k.failedAt) < packMost*faultsBeforeRest {
		for i := range at {
			k.failedAt[at[i].ID] = struct{}{}
		}
	}
}

// forgive forgets failures: it works. It needs the lock.
func (k *keeper) forgive() {
	k.faults = 0
	clear(k.failedAt)
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// elsewhere sends what waits for a gateway that is not to be used through others
// of its routes.
func (k *keeper) elsewhere(ctx context.Context, g *roster.Gateway) {
	now := k.d.Now()
	why := g.Unusable(k.d.Roster.Health(k.id), now)
	routes := k.d.Roster.Book().RoutesThrough(g.Name)
	if why == "" || !k.d.Gate.Open() || len(routes) == 0 || time.Now().Before(k.reroute) {
		return
	}
	began := time.Now()
	// However much waits: to look through it takes a tenth of the time at most.
	defer func() { k.reroute = began.Add(max(500*time.Millisecond, 10*time.Since(began))) }()
	var from store.Place
	for more := true; more && ctx.Err() == nil; {
		place := from
		var changed []store.Message
		err := k.d.Store.Transact(ctx, func(s *store.Store) error {
			var evidence []store.Evidence
			var waiting []store.Message
			var err error
			if waiting, place, more, err = s.Waiting(ctx, k.id, routes, from, 5*claimMost); err != nil {
				return err
			}
			steps := course.Steps{}
			for i := range waiting {
				m := &waiting[i]
				if !mayMove(*m) {
					continue
				}
				if other, _ := k.d.Roster.Elsewhere(m, now); other != nil {
					evidence = append(evidence, move{message: *m, to: other, why: why}.evidence(now, m.Attempts))
					steps[m.ID] = course.Step{Gateway: other.ID}
				}
			}
			changed, err = k.d.Course.Record(ctx, s, evidence, steps, waiting...)
			return err
		})
		if err != nil {
			if ctx.Err() == nil {
				k.d.Log.Error("sending messages through other gateways", "gateway", g.Name, "error", err)
			}
			return
		}
		k.d.Course.Announce(changed)
		from = place
		if now := k.gateway(); now == nil || now.Unusable(k.d.Roster.Health(k.id), k.d.Now()) == "" {
			return // it is to be used again
		}
	}
}
