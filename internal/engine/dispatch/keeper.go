package dispatch

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

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
	// claimMost is how many messages are claimed at once, and packMost how many
	// where a request carries several.
	claimMost = 200
	packMost  = 2000
	// faultsBeforeRest is how many failures in a row make a gateway rest.
	faultsBeforeRest = 5
)

// resting is how long a gateway that keeps failing rests before it is probed,
// and closed how long one that does not accept the account: that wants a person.
var (
	resting = pace.Backoff{First: time.Second, Most: 30 * time.Second}
	closed  = pace.Backoff{First: 5 * time.Second, Most: 5 * time.Minute}
)

// longRest is how long a rest for which a gateway asks must be for its messages
// to go through others.
const longRest = 10 * time.Second

// keeper sends what is queued for one gateway, as long as it holds the lease.
type keeper struct {
	d    *Dispatch
	id   uuid.UUID
	kick watch.Kick

	// Only the keeping loop uses these.
	version int // of the gateway that window and quota are made for
	window  *pace.Window
	quota   quota
	// booked is until when the messages of a sender with a pace of its own have
	// a place, by lane; deferring is whether some had to wait the last time.
	booked    map[booking]time.Time
	deferring bool
	rerouted  time.Time

	busy atomic.Int32 // requests in flight
	// until is when the lease ends by our own clock, in nanoseconds since
	// began: after it nothing may be sent.
	until atomic.Int64
	began time.Time

	mu        sync.Mutex
	ease      pace.Ease
	faults    int       // in a row
	rests     int       // in a row
	restUntil time.Time // nothing is sent before
	restSince time.Time // by the clock of the records; zero: it does not rest
	restCause delivery.Cause
	brokeAt   time.Time // when it last said that there is no credit
}

func newKeeper(d *Dispatch, g *roster.Gateway, kick watch.Kick) *keeper {
	k := &keeper{d: d, id: g.ID, kick: kick, window: pace.NewWindow(0, span), began: time.Now(), booked: map[booking]time.Time{}}
	k.adapt(g)
	return k
}

// adapt takes up what was changed of the gateway. Whatever made it rest may be
// mended, so it is tried at once.
func (k *keeper) adapt(g *roster.Gateway) {
	if k.version == g.Version {
		return
	}
	k.version = g.Version
	k.window.Limit(g.PerSecond)
	k.quota.perMinute, k.quota.perDay = g.PerMinute, g.PerDay
	k.mu.Lock()
	defer k.mu.Unlock()
	k.faults, k.restUntil = 0, time.Time{}
}

// run takes the lease whenever it is to be had and keeps the gateway while it
// lasts.
func (k *keeper) run(ctx context.Context) {
	for ctx.Err() == nil {
		if g := k.gateway(); g == nil {
			return
		}
		lease, err := k.takeLease(ctx)
		switch {
		case err != nil:
			if ctx.Err() == nil {
				k.d.Log.Error("keeping gateway", "gateway", k.id, "error", err)
			}
		case lease.Held:
			k.keep(ctx, lease)
		}
		pause(ctx, k.d.Lease/4)
	}
}

// gateway is the gateway as it is now; nil if it was removed.
func (k *keeper) gateway() *roster.Gateway {
	if g := k.d.Course.Roster.ByID(k.id); g != nil && g.RemovedAt == nil {
		return g
	}
	return nil
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
	lease, err := k.d.Course.Store.TakeLease(ctx, k.id, k.d.holder, k.d.Lease)
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
	g := k.gateway()
	if g == nil {
		return
	}
	log := k.d.Log.With("gateway", g.Name)
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
		if err := k.d.Course.Store.GiveLease(back, k.id, k.d.holder); err != nil {
			log.Warn("giving the gateway back", "error", err)
		}
		log.Info("no longer keeping gateway")
	}()

	var err error
	if lease.Fresh {
		k.inherit()
		if err = k.adopt(work); err != nil {
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
	if k.quota.slots, err = k.d.Course.Store.Went(work, k.id, k.d.Course.Now().Add(-day-minute)); err != nil {
		if work.Err() == nil {
			log.Error("reading what went", "error", err)
		}
		return
	}
	for work.Err() == nil {
		g := k.gateway()
		if g == nil {
			return
		}
		k.adapt(g)
		free, wait := k.free(g)
		if free.requests == 0 {
			k.reroute(work, g)
			k.await(work, wait)
			continue
		}
		claim, err := k.claim(work, g, free)
		if err != nil {
			if work.Err() == nil {
				log.Error("claiming messages", "error", err)
			}
			k.await(work, 500*time.Millisecond)
			continue
		}
		if len(claim.packs) == 0 {
			if claim.deferred == 0 { // else others may stand behind those that wait for their sender
				k.await(work, k.idle(work))
			}
			continue
		}
		k.window.Take(time.Now(), claim.counted(g))
		for _, p := range claim.packs {
			k.busy.Add(1)
			inFlight.Go(func() {
				k.send(g, p.messages)
				k.busy.Add(-1)
				k.kick.Now()
			})
		}
		if len(claim.noted) > 0 {
			// Before they can leave the window; until then others count the
			// moment of the claim.
			if err := k.d.Course.Store.SendersWent(work, claim.noted); err != nil && work.Err() == nil {
				log.Error("noting when a sender's messages went", "error", err)
			}
		}
	}
}

// idle is how long there is nothing to do, at most half a second: other
// instances accept messages too.
func (k *keeper) idle(ctx context.Context) time.Duration {
	const most = 500 * time.Millisecond
	due, any, err := k.d.Course.Store.NextDue(ctx, k.id)
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
		orphans, err := k.d.Course.Store.Orphans(ctx, k.id, 500)
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

// send submits a pack and records what came of it. It is not stopped half way:
// a submission that has begun is worth waiting for.
func (k *keeper) send(g *roster.Gateway, messages []store.Message) {
	if !k.holds() {
		now := k.d.Course.Now()
		r := result{steps: course.Plan{}}
		for _, m := range messages {
			r.evidence = append(r.evidence, course.Own(m, now, delivery.Queued, m.Attempts+1, "not sent: the gateway went to another keeper"))
			r.steps[m.ID] = course.Step{Wait: new(time.Duration)}
		}
		k.d.settle(r)
		return
	}
	r, lesson := k.d.submit(context.Background(), g, messages)
	health, changed := k.learn(lesson)
	k.d.settle(r)
	if changed {
		k.note(g, health)
	}
}
