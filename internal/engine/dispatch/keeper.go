package dispatch

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/watch"
	"calmpigeon.example/internal/store"
)

const (
	// span is the window that a gateway's limit counts in. It is a little
	// longer than a second, because requests do not all take equally long to
	// arrive.
	span = time.Second + 25*time.Millisecond
	// claimMost is how many messages are claimed at once.
	claimMost = 200
	// faultsBeforeRest is how many failures in a row make a gateway rest.
	faultsBeforeRest = 5
)

// resting is how long a gateway that keeps failing rests before it is probed.
var resting = pace.Backoff{First: time.Second, Most: 30 * time.Second}

// keeper sends what is queued for one gateway, as long as it holds the lease.
type keeper struct {
	d    *Dispatch
	g    *roster.Gateway
	kick watch.Kick

	window *pace.Window
	slots  chan struct{}
	// until is when the lease ends by our own clock, in nanoseconds since
	// began: after it nothing may be sent.
	until atomic.Int64
	began time.Time

	// booked is until when the messages of a sender with a pace of its own have
	// a place, by lane; deferring is whether some had to wait the last time.
	// Only claiming uses them.
	booked    map[booking]time.Time
	deferring bool

	mu        sync.Mutex
	faults    int       // in a row
	rests     int       // in a row
	restUntil time.Time // nothing is sent before
}

func newKeeper(d *Dispatch, g *roster.Gateway, kick watch.Kick) *keeper {
	return &keeper{d: d, g: g, kick: kick, window: pace.NewWindow(g.PerSecond, span), slots: make(chan struct{}, g.InFlight), began: time.Now(),
		booked: map[booking]time.Time{}}
}

// run takes the lease whenever it is to be had and keeps the gateway while it
// lasts.
func (k *keeper) run(ctx context.Context) {
	for ctx.Err() == nil {
		lease, err := k.takeLease(ctx)
		switch {
		case err != nil:
			if ctx.Err() == nil {
				k.d.Log.Error("keeping gateway", "gateway", k.g.Name, "error", err)
			}
		case lease.Held:
			k.keep(ctx, lease)
		}
		pause(ctx, k.d.Lease/4)
	}
}

func pause(ctx context.Context, d time.Duration) {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
	case <-t.C:
	}
}

// takeLease asks for the lease and notes, by our own clock, until when it
// surely lasts: counted from before the question.
func (k *keeper) takeLease(ctx context.Context) (store.Lease, error) {
	ctx, cancel := context.WithTimeout(ctx, k.d.Lease)
	defer cancel()
	asked := time.Since(k.began)
	lease, err := k.d.Course.Store.TakeLease(ctx, k.g.ID, k.d.holder, k.d.Lease)
	if err == nil && lease.Held {
		k.until.Store(int64(asked + k.d.Lease))
	}
	return lease, err
}

// holds reports whether the lease surely lasts.
func (k *keeper) holds() bool { return int64(time.Since(k.began)) < k.until.Load() }

// keep sends until ctx ends or the lease is lost, then waits for what is in
// flight.
func (k *keeper) keep(ctx context.Context, lease store.Lease) {
	log := k.d.Log.With("gateway", k.g.Name)
	log.Info("keeping gateway")
	work, stop := context.WithCancel(ctx)
	var renewer, inFlight sync.WaitGroup
	renewer.Go(func() {
		defer stop()
		for work.Err() == nil && k.holds() {
			pause(work, k.d.Lease/4)
			if lease, err := k.takeLease(work); err == nil && !lease.Held {
				return
			}
		}
	})
	defer func() {
		stop()
		renewer.Wait()
		inFlight.Wait()
		back, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		defer cancel()
		if err := k.d.Course.Store.GiveLease(back, k.g.ID, k.d.holder); err != nil {
			log.Warn("giving the gateway back", "error", err)
		}
		log.Info("no longer keeping gateway")
	}()

	if lease.Fresh {
		if err := k.adopt(work); err != nil {
			if work.Err() == nil {
				log.Error("adopting what was being sent", "error", err)
			}
			return
		}
		if !lease.Clean {
			// Whoever kept it before may have used up the limit until the lease
			// ran out.
			pause(work, span-lease.Idle)
		}
	}
	for work.Err() == nil {
		free, wait := k.free()
		if free == 0 {
			k.await(work, wait)
			continue
		}
		claimed, noted, deferred, err := k.claim(work, free)
		if err != nil {
			if work.Err() == nil {
				log.Error("claiming messages", "error", err)
			}
			k.await(work, 500*time.Millisecond)
			continue
		}
		if len(claimed) == 0 && deferred > 0 {
			continue // others may stand behind those that wait for their sender
		}
		if len(claimed) == 0 {
			k.await(work, k.idle(work))
			continue
		}
		k.window.Take(time.Now(), len(claimed))
		for _, m := range claimed {
			k.slots <- struct{}{}
			inFlight.Go(func() {
				k.send(m)
				<-k.slots
				k.kick.Now()
			})
		}
		if len(noted) > 0 {
			// Before they can leave the window; until then others count the
			// moment of the claim.
			if err := k.d.Course.Store.SendersWent(work, noted); err != nil && work.Err() == nil {
				log.Error("noting when a sender's messages went", "error", err)
			}
		}
	}
}

// free is how many messages may go now, and if none how long until it is worth
// looking again.
func (k *keeper) free() (int, time.Duration) {
	now := time.Now()
	k.mu.Lock()
	rest, probing := k.restUntil.Sub(now), k.rests > 0
	k.mu.Unlock()
	if rest > 0 {
		return 0, rest
	}
	open := cap(k.slots) - len(k.slots)
	if probing {
		open = min(open, 1-len(k.slots)) // one goes ahead to see
	}
	if open <= 0 {
		return 0, time.Second // a slot that opens kicks
	}
	if n := k.window.Free(now, min(open, claimMost)); n > 0 {
		return n, 0
	}
	return 0, k.window.Wait(now)
}

// idle is how long there is nothing to do, at most half a second: other
// instances accept messages too.
func (k *keeper) idle(ctx context.Context) time.Duration {
	const most = 500 * time.Millisecond
	due, any, err := k.d.Course.Store.NextDue(ctx, k.g.ID)
	if err != nil || !any {
		return most
	}
	return min(max(due.Sub(k.d.Course.Now()), time.Millisecond), most)
}

func (k *keeper) await(ctx context.Context, d time.Duration) {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
	case <-k.kick:
	case <-t.C:
	}
}

// adopt makes doubtful what was being sent when the last keeper ended: nobody
// knows what became of it.
func (k *keeper) adopt(ctx context.Context) error {
	for {
		orphans, err := k.d.Course.Store.Orphans(ctx, k.g.ID, 500)
		if err != nil || len(orphans) == 0 {
			return err
		}
		now := k.d.Course.Now()
		evidence := make([]store.Evidence, len(orphans))
		for i, m := range orphans {
			evidence[i] = course.Own(m, now, delivery.Doubtful, m.Attempts, "stopped before an answer was recorded")
		}
		if err := k.d.Course.Store.Transact(ctx, func(s *store.Store) error { return k.d.Course.Record(ctx, s, evidence, nil) }); err != nil {
			return err
		}
		k.d.Course.Announce(evidence)
	}
}

// claim takes messages and records that they are about to go, in one
// transaction that holds only if the lease does. After it, and not before,
// they may be sent. deferred is how many wait for the pace of their sender.
func (k *keeper) claim(ctx context.Context, most int) (claimed []store.Message, noted []store.Noted, deferred int, err error) {
	var evidence []store.Evidence
	paces := k.paces()
	err = k.d.Course.Store.Transact(ctx, func(s *store.Store) error {
		held, err := s.HoldsLease(ctx, k.g.ID, k.d.holder)
		if err != nil || !held {
			return err
		}
		now := k.d.Course.Now()
		look := most
		if k.deferring {
			look = claimMost // the next ones may have to wait too
		}
		if claimed, err = s.Claim(ctx, k.g.ID, now, look); err != nil {
			return err
		}
		if claimed, noted, deferred, err = k.pace(ctx, s, claimed, paces, most, now); err != nil {
			return err
		}
		k.deferring = deferred > 0
		evidence = make([]store.Evidence, len(claimed))
		for i, m := range claimed {
			evidence[i] = course.Own(m, now, delivery.Sending, m.Attempts+1, "")
		}
		return k.d.Course.Record(ctx, s, evidence, nil)
	})
	if err != nil {
		return nil, nil, 0, err
	}
	if len(evidence) > 0 {
		k.d.Course.Hub.Changed(ids(claimed)...)
	}
	return claimed, noted, deferred, nil
}

// send submits one claimed message and records what came of it. It is not
// stopped half way: a submission that has begun is worth waiting for.
func (k *keeper) send(m store.Message) {
	if !k.holds() {
		e := course.Own(m, k.d.Course.Now(), delivery.Queued, m.Attempts+1, "not sent: the gateway went to another keeper")
		at := time.Duration(0)
		k.d.settle(result{evidence: e, wait: &at})
		return
	}
	r := k.d.submit(context.Background(), k.g, m)
	k.learn(r)
	k.d.settle(r)
}

// learn makes the gateway rest when it keeps failing or asks for it.
func (k *keeper) learn(r result) {
	k.mu.Lock()
	defer k.mu.Unlock()
	notTaken := r.evidence.Claim == delivery.Queued
	switch {
	case notTaken && r.wait != nil:
		k.restUntil = later(k.restUntil, time.Now().Add(*r.wait))
	case notTaken || r.evidence.Claim == delivery.Doubtful:
		if k.faults++; k.faults >= faultsBeforeRest {
			k.rests++
			k.restUntil = later(k.restUntil, time.Now().Add(resting.Wait(k.rests, 0)))
			k.d.Log.Warn("gateway rests", "gateway", k.g.Name, "until", k.restUntil, "why", r.evidence.Note+string(r.evidence.Cause))
		}
	default:
		k.faults, k.rests = 0, 0
	}
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}
