package dispatch

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/engine/courier"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/guard"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/watch"
	"calmpigeon.example/internal/store"
)

const (
	// span is the window that a gateway's limit counts in. Clocks may run apart
	// by a few parts in ten thousand.
	span = time.Second + 300*time.Microsecond
	// claimMost is how many messages are claimed at once, and packMost how many
	// where a request carries several.
	claimMost = 200
	packMost  = 2000
	// claimEvery is how long claims collect, unless a passcode is due.
	claimEvery = 15 * time.Millisecond
	// ahead is how long before its place in time comes free a message is claimed:
	// about as long as a claim takes. It leaves when the place is free.
	ahead = 20 * time.Millisecond
	// leavesWithin is how long what is claimed waits at the door at most, but for what a busy
	// machine adds: for its place in the second, and for that of its sender.
	leavesWithin = 5 * time.Second
	// unsavedMost is how many outcomes may wait to be recorded before no more is
	// sent: whatever is not recorded when we are killed is in doubt.
	unsavedMost = 2 * packMost
	// idleMost is how long a keeper waits that has nothing to do. It is rung for.
	idleMost = time.Minute
	// urgentKept is how long room is kept for passcodes after the last one.
	urgentKept = time.Hour
	// faultsBeforeRest is how many failures in a row make a gateway rest. That it
	// fails again at the same message shows nothing new.
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
	bell *watch.Bell

	// Only the keeping loop uses these.
	version   int       // of the gateway that window and quota are made for
	claimed   time.Time // the last time
	deferring bool      // some had to wait for the pace of their sender the last time
	heads     heads
	turn      int       // whose it is to send what is not urgent
	reroute   time.Time // when what waits is looked through the next time, if it is not to be used

	quotas   sync.Mutex // is held to claim, where a quota holds
	planning sync.Mutex
	quota    quota
	codes    time.Time // when a passcode was claimed last
	// booked is until when the messages of a sender with a pace of its own have
	// a place, by lane.
	booked map[booking]time.Time

	flying flying      // messages that are claimed and whose outcome is not recorded yet
	ending atomic.Bool // this instance is stopping: what has not left is put back
	// yielding: the gateway goes to another instance: what has not left is put back.
	yielding atomic.Bool
	broken   atomic.Bool  // something panicked: another keeper is to take its place
	busy     atomic.Int32 // requests in flight
	unsaved  atomic.Int64 // messages whose outcome is not recorded yet

	door   sync.Mutex
	window *pace.Window
	flow   *pace.Flow
	// queries is how status queries go while hungry, when more waits to be sent
	// than may go.
	queries *pace.Flow
	asked   *pace.Window // the queries in the window
	hungry  atomic.Bool
	booths  int // places in the window that are promised to what has not left yet
	// lined and gone count the places that were waited for at the door, and those
	// for which nobody waits any more.
	lined, gone int
	// until is when the lease ends by our own clock, in nanoseconds since
	// began: after it nothing may be sent.
	until atomic.Int64
	began time.Time
	lost  atomic.Pointer[context.CancelFunc] // ends the keeping; nil while it does not keep

	mu        sync.Mutex
	ease      pace.Ease
	faults    int                   // in a row
	failedAt  map[uuid.UUID]failing // the messages of these
	successes int                   // requests that the gateway did its work for
	rests     int                   // in a row
	restUntil time.Time             // nothing is sent before
	restSince time.Time             // by the clock of the records; zero: it does not rest
	restedAt  time.Time             // when it was last made to rest
	restCause delivery.Cause
	brokeAt   time.Time // when it last said that there is no credit
}

func newKeeper(d *Dispatch, g *roster.Gateway) *keeper {
	k := &keeper{
		d:      d,
		id:     g.ID,
		bell:   d.Bells.Of(g.ID),
		window: pace.NewWindow(0, span),
		began:  time.Now(),
		booked: map[booking]time.Time{},

		failedAt: map[uuid.UUID]failing{},
	}
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
	k.door.Lock()
	k.window.Limit(g.PerSecond)
	k.flow = pace.NewFlow(g.PerSecond, together(g), time.Second)
	k.asked = pace.NewWindow(g.PerSecond, span)
	k.queries = pace.NewFlow((g.PerSecond+queryShare-1)/queryShare, 1, span)
	k.door.Unlock()
	k.planning.Lock()
	k.quota.perMinute, k.quota.perDay = g.PerMinute, g.PerDay
	k.planning.Unlock()
	k.mu.Lock()
	defer k.mu.Unlock()
	k.forgive()
	k.restUntil = time.Time{}
}

// together is how much of the limit one request may use up.
func together(g *roster.Gateway) int { return counting(g, g.Dialect.Submit.Most) }

// run takes the lease whenever it is to be had and keeps the gateway while it
// lasts.
func (k *keeper) run(ctx context.Context) {
	for ctx.Err() == nil && !k.broken.Load() {
		if g := k.gateway(); g == nil {
			return
		}
		if k.d.Gate.Outdated() {
			pause(ctx, k.d.Lease)
			continue
		}
		if !k.d.isOurs(k.id) { // should nobody else take it, it is taken all the same
			if kept, err := k.d.Store.Kept(ctx, k.id, k.d.Lease/4+500*time.Millisecond); err != nil || kept {
				pause(ctx, k.d.Lease/4)
				continue
			}
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
	if g := k.d.Roster.ByID(k.id); g != nil && g.RemovedAt == nil {
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
	lease, err := k.d.Store.TakeLease(ctx, k.id, k.d.holder, k.d.Lease)
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
	k.yielding.Store(false)
	k.lost.Store(&stop)
	defer context.AfterFunc(ctx, func() { k.ending.Store(true) })()
	inFlight := newSenders()
	defer func() {
		k.lost.Store(nil)
		stop()
		inFlight.Wait()
		back, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		defer cancel()
		k.door.Lock()
		used := k.window.Empty(time.Now())
		k.door.Unlock()
		if err := k.d.Store.GiveLease(back, k.id, k.d.holder, used); err != nil {
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
		// The last keeper may have used up the limit until its lease ran out, or has said how
		// long the limit is used.
		used := -lease.Idle
		if !lease.Clean {
			used += span
		}
		pause(work, used)
	}
	slots, err := k.d.Store.Went(work, k.id, k.d.Now().Add(-day-minute))
	if err != nil {
		if work.Err() == nil {
			log.Error("reading what went", "error", err)
		}
		return
	}
	k.planning.Lock()
	k.quota.inherit(slots, leavesWithin+g.Timeout(), k.d.Now())
	k.planning.Unlock()
	inFlight.Go(func() { k.guarded(nil, func() { k.express(work, inFlight) }) })
	for work.Err() == nil {
		g := k.gateway()
		if g == nil {
			return
		}
		k.adapt(g)
		if early := claimEvery - time.Since(k.claimed); early > 0 {
			k.await(work, early, true)
			continue
		}
		claim, pass, wait, err := k.claimNext(work, g, false)
		k.claimed = time.Now()
		if err == nil && wait > 0 {
			k.elsewhere(work, g)
			k.await(work, wait, false)
			continue
		}
		if err != nil {
			if work.Err() == nil {
				log.Error("claiming messages", "error", err)
			}
			k.await(work, 500*time.Millisecond, true)
			continue
		}
		k.deferring = claim.deferred > 0
		if len(claim.packs) == 0 {
			k.hungry.Store(false)
			if claim.deferred == 0 { // else others may stand behind those that wait for their sender
				k.await(work, k.idle(work), false)
			}
			continue
		}
		k.hungry.Store(claim.full)
		k.dispatch(g, claim, pass, inFlight)
	}
}

// claimNext claims what may go now: passcodes alone if express. If nothing may,
// it returns how long it is worth waiting. The requests it claims for count as in
// flight.
func (k *keeper) claimNext(ctx context.Context, g *roster.Gateway, express bool) (c claimed, pass passport, wait time.Duration, err error) {
	if g.Dialect.Token != nil {
		// What takes time comes before anything is claimed, and only if there is
		// something to be sent.
		if due, any, err := k.d.Store.NextDue(ctx, k.id); err != nil || (!any || due.After(k.d.Now())) && !k.drawable() {
			return c, pass, 0, err
		}
		if free, wait := k.free(g); free.requests == 0 {
			return c, pass, max(wait, time.Millisecond), nil
		}
	}
	pass = k.d.passport(ctx, g)
	if g.PerMinute > 0 || g.PerDay > 0 { // two at once might both take the last of a quota
		k.quotas.Lock()
		defer k.quotas.Unlock()
	}
	free, wait := k.take(g, express)
	if free.requests == 0 {
		return c, pass, max(wait, time.Millisecond), nil
	}
	limit := free
	if pass.err != nil { // one tells why
		limit.requests, limit.messages, limit.others = 1, 1, min(free.others, 1)
	}
	var since *heads
	if !express {
		since = &k.heads
	}
	c, err = k.claim(ctx, g, limit, k.deferring && !express, since)
	k.giveBack(free.requests - len(c.packs))
	return c, pass, 0, err
}

// dispatch lets what was claimed go, each request by itself.
func (k *keeper) dispatch(g *roster.Gateway, c claimed, pass passport, inFlight *senders) {
	k.promise(c.counted(g))
	if len(c.noted) > 0 {
		var all sync.WaitGroup
		at := make([]time.Time, len(c.packs))
		for i := range c.packs {
			all.Add(1)
			c.packs[i].arrived = sync.OnceFunc(func() {
				at[i] = time.Now()
				all.Done()
			})
		}
		inFlight.Go(func() {
			all.Wait()
			k.went(c, at)
		})
	}
	for i, p := range c.packs {
		own := pass
		if i > 0 {
			own.fetched = nil // it is told once
		}
		inFlight.Go(func() { k.guarded(p.arrived, func() { k.send(g, p, own) }) })
	}
}

// guarded does something. If it panics, the keeping ends, and with another keeper it begins again: that one makes doubtful
// what was being sent. arrived is called then, if it is not nil.
func (k *keeper) guarded(arrived func(), do func()) {
	err := guard.Try(func() error {
		do()
		return nil
	})
	if err == nil {
		return
	}
	k.d.Log.Error("sending through a gateway failed and begins again", "gateway", k.id, "error", err)
	if arrived != nil {
		arrived()
	}
	k.broken.Store(true)
	if stop := k.lost.Load(); stop != nil {
		(*stop)()
	}
}

// express claims passcodes as soon as they are rung for, beside whatever else is
// being claimed.
func (k *keeper) express(ctx context.Context, inFlight *senders) {
	for ctx.Err() == nil {
		select {
		case <-ctx.Done():
			return
		case <-k.bell.Urgent:
		}
		for more := true; more && ctx.Err() == nil; {
			g := k.gateway()
			if g == nil {
				return
			}
			claim, pass, wait, err := k.claimNext(ctx, g, true)
			if wait > time.Second { // it rests or is paused; they are rung for again
				break
			}
			if wait > 0 {
				pause(ctx, min(wait, 20*time.Millisecond))
				continue
			}
			if err != nil {
				if ctx.Err() == nil {
					k.d.Log.Error("claiming passcodes", "gateway", g.Name, "error", err)
				}
				break // they are rung for again
			}
			more = len(claim.packs) > 0 && claim.full
			k.dispatch(g, claim, pass, inFlight)
		}
	}
}

// went notes when messages with a pace of their own arrived, each pack at its moment: before
// they can leave the window; until then others count the moment that was planned.
func (k *keeper) went(c claimed, at []time.Time) {
	arrived := map[uuid.UUID]time.Time{}
	for i, p := range c.packs {
		for _, m := range p.messages {
			arrived[m.ID] = at[i]
		}
	}
	now := time.Now()
	for i := range c.noted {
		c.noted[i].Ago = now.Sub(arrived[c.noted[i].Message])
	}
	ctx, cancel := context.WithTimeout(context.Background(), span)
	defer cancel()
	if err := k.d.Store.NoteGone(ctx, c.noted); err != nil {
		k.d.Log.Error("noting when messages went", "gateway", k.id, "error", err)
	}
}

// idle is how long there is nothing to do, unless somebody rings.
func (k *keeper) idle(ctx context.Context) time.Duration {
	if k.drawable() { // somebody else had them locked
		return 50 * time.Millisecond
	}
	due, any, err := k.d.Store.NextDue(ctx, k.id)
	switch {
	case err != nil:
		return 500 * time.Millisecond
	case !any:
		return idleMost
	}
	return min(max(due.Sub(k.d.Now()), time.Millisecond), idleMost)
}

// await waits until somebody rings. While claims collect, a ring does not end the
// wait, and is not lost.
func (k *keeper) await(ctx context.Context, d time.Duration, collecting bool) {
	t := time.NewTimer(d)
	defer t.Stop()
	some := k.bell.Some
	if collecting {
		some = nil
	}
	select {
	case <-ctx.Done():
	case <-some:
	case <-t.C:
	}
}

// promise keeps places in the window for what is about to leave.
func (k *keeper) promise(n int) {
	k.door.Lock()
	defer k.door.Unlock()
	k.booths += n
	k.flow.Take(time.Now(), n)
}

// leave lets a request out that uses up n of the limit: once the window has
// room for it and as long as the lease holds, and not a moment earlier or
// later. If it may not go it says why; its promise is kept either way. It is to be
// told as soon as it is known that the request has arrived, or will not.
func (k *keeper) leave(n int) (arrived func(), not string) {
	k.door.Lock()
	mine := k.lined
	k.lined += n
	k.door.Unlock()
	for {
		arrived, wait, not := k.tryToLeave(n, mine)
		if wait == 0 {
			return arrived, not
		}
		time.Sleep(wait)
	}
}

// tryToLeave is one try of [keeper.leave], by whoever was given the turn mine. It has to be repeated after wait, unless
// that is 0.
func (k *keeper) tryToLeave(n, mine int) (arrived func(), wait time.Duration, not string) {
	k.door.Lock()
	defer k.door.Unlock()
	now := time.Now()
	if k.window.Free(now, n) < n { // those before have their turn first
		wait = max(k.window.WaitFor(now, max(mine-k.gone, 0)+n), 500*time.Microsecond)
	}
	switch {
	case k.d.Gate.Outdated():
		not = "the database was migrated to a newer version"
	case !k.d.Gate.Open():
		not = "the service went into quarantine"
	case !k.holds():
		not = "the gateway went to another keeper"
	case wait > 0 && k.ending.Load():
		not = "this instance was stopping"
	case wait > 0 && k.yielding.Load():
		not = "the gateway went to another keeper"
	}
	if wait > 0 && not == "" {
		return nil, wait, ""
	}
	k.booths, k.gone = k.booths-n, k.gone+n
	if not != "" {
		return nil, 0, not
	}
	return k.arrives(k.window.Leave(now, n)), 0, ""
}

// mayLeave reports whether a request may still be written.
func (k *keeper) mayLeave() bool { return k.holds() && k.d.Gate.Open() }

// arrives is to be called once it is known that what has a place in the window has arrived,
// or will not.
func (k *keeper) arrives(ticket *pace.Ticket) (arrived func()) {
	return func() {
		k.door.Lock()
		defer k.door.Unlock()
		k.window.Arrived(ticket, time.Now())
	}
}

// forgo gives back the places of what will not leave.
func (k *keeper) forgo(n int) {
	k.door.Lock()
	defer k.door.Unlock()
	k.booths -= n
}

// adopt makes doubtful what was being sent when the last keeper ended: nobody
// knows what became of it.
func (k *keeper) adopt(ctx context.Context) error {
	for {
		orphans, err := k.d.Store.Orphans(ctx, k.id, uuid.Nil, 500)
		if err != nil || len(orphans) == 0 {
			return err
		}
		now := k.d.Now()
		evidence := make([]store.Evidence, len(orphans))
		for i, m := range orphans {
			evidence[i] = course.Own(m, now, delivery.Doubtful, m.Attempts, "stopped before an answer was recorded")
		}
		changed, err := k.d.Course.Record(ctx, k.d.Store, evidence, nil)
		if err != nil {
			return err
		}
		k.d.Course.Announce(changed)
	}
}

// send submits a pack and records what came of it. It is not stopped half way:
// a submission that has begun is worth waiting for.
func (k *keeper) send(g *roster.Gateway, p pack, pass passport) {
	n := counting(g, len(p.messages))
	ready, went, began := false, false, time.Now()
	arrived := func() {}
	r, lesson := k.d.submit(context.Background(), g, p.messages, pass, func() (courier.Leaving, string) {
		ready = true
		if early := time.Until(p.notBefore); early > 0 && !p.notBefore.IsZero() {
			time.Sleep(early)
		}
		place, not := k.leave(n)
		if not != "" {
			return courier.Leaving{}, not
		}
		went = true
		arrived = sync.OnceFunc(func() {
			place()
			k.planning.Lock()
			k.quota.arrive(k.d.Now(), n)
			k.planning.Unlock()
			if p.arrived != nil {
				p.arrived()
			}
		})
		return courier.Leaving{May: k.mayLeave, Arrived: arrived}, ""
	})
	if !ready {
		k.forgo(n)
	}
	arrived()
	if !went {
		k.planning.Lock()
		k.quota.forgo(n)
		k.planning.Unlock()
		if p.arrived != nil {
			p.arrived()
		}
	}
	r.seen = p.going
	lesson.began, lesson.ours = began, lesson.cause == delivery.GatewayFault && k.d.stalls.since(began, time.Now())
	k.endLonely(&r)
	health, changed := k.learn(lesson)
	k.unsaved.Add(int64(len(p.messages)))
	k.busy.Add(-1) // the next may go while this one is being recorded
	k.bell.Some.Now()
	k.d.settle(r)
	k.flying.land(p.messages)
	k.unsaved.Add(-int64(len(p.messages)))
	k.bell.Some.Now()
	if changed {
		k.note(g, health)
	}
}
