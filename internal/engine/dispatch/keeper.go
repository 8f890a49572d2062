package dispatch

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/dialect"
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

// inherit takes over that the gateway rests, if its last keeper said so.
func (k *keeper) inherit() {
	h := k.d.Course.Roster.Health(k.id)
	if h.RestSince == nil || h.RestUntil == nil {
		return
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.rests = max(k.rests, 1) // it is probed first
	k.restSince, k.restUntil, k.restCause, k.brokeAt = *h.RestSince, *h.RestUntil, h.RestCause, *h.RestSince
}

// leave is how much may go now.
type leave struct{ requests, messages int }

// free is how much may go now, and if nothing how long until it is worth
// looking again.
func (k *keeper) free(g *roster.Gateway) (leave, time.Duration) {
	now := time.Now()
	if g.PausedAt != nil {
		return leave{}, time.Second // whoever resumes it kicks
	}
	k.mu.Lock()
	if k.restCause == delivery.NoCredit { // topped up: it need not rest to the end
		if h := k.d.Course.Roster.Health(k.id); h.BalanceMicros != nil && *h.BalanceMicros > 0 && h.BalanceAt.After(k.brokeAt) {
			k.restUntil = time.Time{}
		}
	}
	rest, probing, share := k.restUntil.Sub(now), k.rests > 0, k.ease.Share(now)
	k.mu.Unlock()
	if rest > 0 {
		return leave{}, min(rest, time.Second)
	}
	busy := int(k.busy.Load())
	open := g.InFlight - busy
	each := g.Dialect.Submit.Most
	if probing {
		open, each = min(open, 1-busy), 1 // one goes ahead to see
	}
	if open <= 0 {
		return leave{}, time.Second // one that comes back kicks
	}
	most := claimMost
	if each > 1 {
		most = packMost
	}
	byRequest := g.Dialect.Limits.Counting == dialect.Requests
	want := min(open*each, most)
	if byRequest {
		want = open
	}
	n := k.window.Free(now, want)
	if share < 1 {
		n = min(n, max(1, int(share*float64(g.PerSecond)))-k.window.Used(now))
	}
	if n <= 0 {
		return leave{}, max(k.window.Wait(now), 20*time.Millisecond)
	}
	if k.quota.limited() {
		var wait time.Duration
		if n, wait = k.quota.free(k.d.Course.Now(), n); n == 0 {
			return leave{}, min(wait, time.Minute)
		}
	}
	if byRequest {
		return leave{n, min(n*each, most)}, 0
	}
	return leave{min(open, n), n}, 0
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

// claimed is what was taken to be sent.
type claimed struct {
	packs    []pack
	noted    []store.Noted
	deferred int // how many wait for the pace of their sender
}

// counted is how much of the limit it uses up.
func (c claimed) counted(g *roster.Gateway) int {
	if g.Dialect.Limits.Counting == dialect.Requests {
		return len(c.packs)
	}
	n := 0
	for _, p := range c.packs {
		n += len(p.messages)
	}
	return n
}

// claim takes messages and records that they are about to go, in one
// transaction that holds only if the lease does. After it, and not before,
// they may be sent.
func (k *keeper) claim(ctx context.Context, g *roster.Gateway, free leave) (claimed, error) {
	var c claimed
	var slot store.Slot
	var goes []store.Message
	limits := k.paces()
	err := k.d.Course.Store.Transact(ctx, func(s *store.Store) error {
		c = claimed{}
		held, err := s.HoldsLease(ctx, k.id, k.d.holder)
		if err != nil || !held {
			return err
		}
		now := k.d.Course.Now()
		look := free.messages
		if k.deferring {
			look = max(look, claimMost) // the next ones may have to wait too
		}
		found, err := s.Claim(ctx, k.id, now, look)
		if err != nil || len(found) == 0 {
			k.deferring = false
			return err
		}
		senders, err := k.ration(ctx, s, found, limits)
		if err != nil {
			return err
		}
		packer := newPacker(&g.Dialect.Submit, free.requests, free.messages)
		for _, m := range found {
			switch {
			case !senders.allows(m):
				senders.wait(k, m, now)
			case packer.place(m):
				senders.count(m)
			}
		}
		c.packs, c.deferred = packer.packs, len(senders.later)
		k.deferring = c.deferred > 0
		if err := s.Defer(ctx, senders.later); err != nil {
			return err
		}
		if c.noted, err = s.SendersSent(ctx, senders.sent, span); err != nil {
			return err
		}
		if n := c.counted(g); n > 0 && k.quota.limited() {
			slot = store.Slot{Slot: now, N: n}
			if err := s.NoteWent(ctx, k.id, store.Slot{Slot: now.Truncate(k.quota.width()), N: n}); err != nil {
				return err
			}
		}
		goes = packer.messages()
		evidence := make([]store.Evidence, len(goes))
		for i, m := range goes {
			evidence[i] = course.Own(m, now, delivery.Sending, m.Attempts+1, "")
		}
		return k.d.Course.Record(ctx, s, evidence, nil)
	})
	if err != nil {
		return claimed{}, err
	}
	if slot.N > 0 {
		k.quota.take(slot.Slot, slot.N)
	}
	if len(goes) > 0 {
		k.d.Course.Hub.Changed(ids(goes)...)
	}
	return c, nil
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
	if health, changed := k.learn(lesson); changed {
		k.note(g, health)
	}
	k.d.settle(r)
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
	if err := k.d.Course.Store.NoteRest(ctx, h); err != nil {
		k.d.Log.Error("noting that a gateway rests", "gateway", g.Name, "error", err)
	}
	k.d.Course.Roster.NoteRest(h)
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
		k.faults, k.rests = 0, 0
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
		if k.faults++; k.faults >= faultsBeforeRest || k.rests > 0 {
			k.rests++
			rest(resting.Wait(k.rests, 0), l.cause, l.note)
		}
		if l.wait != nil {
			k.restUntil = later(k.restUntil, now.Add(*l.wait))
		}
	}
	return h, changed
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// reroute sends what waits for a gateway that is not to be used through others
// of its routes.
func (k *keeper) reroute(ctx context.Context, g *roster.Gateway) {
	now := k.d.Course.Now()
	why := g.Silent(k.d.Course.Roster.Health(k.id), now)
	if why == "" || time.Since(k.rerouted) < 500*time.Millisecond {
		return
	}
	k.rerouted = time.Now()
	for {
		var evidence []store.Evidence
		full := false
		err := k.d.Course.Store.Transact(ctx, func(s *store.Store) error {
			evidence = nil
			waiting, known, err := s.Waiting(ctx, k.id, claimMost)
			if err != nil {
				return err
			}
			full = len(waiting) == claimMost
			steps := course.Plan{}
			for i, m := range waiting {
				if other, _ := k.d.Course.Elsewhere(&m, now); other != nil && mayMove(m, known[i]) {
					evidence = append(evidence, move{message: m, to: other, why: why}.evidence(now, m.Attempts))
					steps[m.ID] = course.Step{Gateway: other.ID}
				}
			}
			return k.d.Course.Record(ctx, s, evidence, steps)
		})
		if err != nil && ctx.Err() == nil {
			k.d.Log.Error("sending messages through other gateways", "gateway", g.Name, "error", err)
		}
		if err != nil || len(evidence) == 0 {
			return
		}
		k.d.Course.Announce(evidence)
		if !full {
			return
		}
	}
}
