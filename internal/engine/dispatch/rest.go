package dispatch

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
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
	if l.ours {
		return h, false
	}
	now := time.Now()
	rest := func(d time.Duration, cause delivery.Cause, note string) {
		k.restUntil = later(k.restUntil, now.Add(d))
		if k.restSince.IsZero() {
			k.restSince = now
		}
		k.restCause, k.restedAt = cause, now
		since, until := k.restSince.UTC(), k.restUntil.UTC()
		h, changed = store.Health{GatewayID: k.id, RestSince: &since, RestUntil: &until, RestCause: cause, RestNote: note}, true
	}
	switch l.cause {
	case "":
		k.successes++
		k.faults, k.rests = 0, 0
		if len(k.failedAt) >= failingMost { // far too many to be told apart
			clear(k.failedAt)
		}
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
		fresh := k.blame(l.at)
		switch {
		case !l.began.IsZero() && l.began.Before(k.restedAt): // it began before the rest, and tells nothing of how it ended
		case k.faults < faultsBeforeRest && k.rests == 0:
		default:
			if fresh || k.rests == 0 { // that it fails at what failed before shows nothing new
				k.rests++
			}
			rest(resting.Wait(k.rests, 0), l.cause, l.note)
		}
		if l.wait != nil {
			k.restUntil = later(k.restUntil, now.Add(*l.wait))
		}
	}
	return h, changed
}

// failing is a message at which the gateway has failed.
type failing struct {
	times     int
	successes int // of the gateway, when it first failed
}

// blame counts a failure of the gateway, unless it failed at these messages before:
// then they may be to blame. fresh is whether it counts. It needs the lock.
func (k *keeper) blame(at []store.Message) (fresh bool) {
	fresh = len(at) == 0
	for i := range at {
		f, known := k.failedAt[at[i].ID]
		if !known {
			fresh = true
			if len(k.failedAt) >= failingMost {
				continue
			}
			f.successes = k.successes
		}
		f.times++
		k.failedAt[at[i].ID] = f
	}
	if fresh {
		k.faults++
	}
	return fresh
}

// forgive forgets failures: whatever was wrong may be mended. It needs the lock.
func (k *keeper) forgive() {
	k.faults = 0
	clear(k.failedAt)
}

// arrangeForProbe puts messages first at which the gateway has not failed: if it fails at some only, a
// probe with another ends the rest. After a probe that failed the next one is drawn at random, since
// those at which it fails often stand side by side.
func (k *keeper) arrangeForProbe(found []store.Message) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.rests > 1 {
		rand.Shuffle(len(found), func(i, j int) { found[i], found[j] = found[j], found[i] })
	}
	slices.SortStableFunc(found, func(a, b store.Message) int {
		return min(k.failedAt[a.ID].times, 1) - min(k.failedAt[b.ID].times, 1)
	})
}

// failingMost is how many messages are remembered at which a gateway has failed.
const failingMost = packMost * faultsBeforeRest

// lonelyMost is how often a gateway may fail at a message while it does its work for others.
const lonelyMost = 8

// endLonely ends messages at which the gateway fails time and again while it does its work for others:
// the next try would fail too, and hold up what stands behind. A message that the gateway may have
// taken in one of these tries is not known to have failed.
func (k *keeper) endLonely(r *result) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for i := range r.evidence {
		e := &r.evidence[i]
		f := k.failedAt[e.MessageID]
		failed := e.Claim == delivery.Doubtful || e.Claim == delivery.Queued && e.Cause == delivery.GatewayFault
		if failed && f.times >= lonelyMost-1 && k.successes > f.successes {
			if e.Claim == delivery.Doubtful {
				e.Claim = delivery.Unknown
			} else {
				e.Claim = delivery.Rejected
			}
			e.Note = fmt.Sprintf("the gateway failed at it %d times and took others meanwhile: %s", f.times+1, e.Note)
			delete(r.steps, e.MessageID)
			r.moves = slices.DeleteFunc(r.moves, func(m move) bool { return m.message.ID == e.MessageID })
		}
	}
	if len(k.failedAt) > 0 {
		for i := range r.evidence { // it has an end, or went
			if e := &r.evidence[i]; e.Claim != delivery.Queued && e.Claim != delivery.Doubtful {
				delete(k.failedAt, e.MessageID)
			}
		}
	}
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
