package dispatch

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

// leave is how much may go now: messages in all, and how many of them may be
// others than passcodes.
type leave struct {
	requests, messages, others int
	probing                    bool // one goes ahead to see
	kept                       int  // requests that are kept for passcodes
}

// secondShare is the share of a second that is left to passcodes: one in so many.
const secondShare = 50

// free is how much may go now, and if nothing how long until it is worth
// looking again.
//
// Passcodes take what they need of what is open, of the second and of the
// quota. The others go evenly spread, so that a place in the second comes free
// every so often; and as long as passcodes go through the gateway, a request and a
// fiftieth of the second and of the quota are left to them.
func (k *keeper) free(g *roster.Gateway) (leave, time.Duration) {
	k.planning.Lock()
	defer k.planning.Unlock()
	return k.may(g)
}

// take is free, and keeps the requests for whoever asks: for passcodes alone if
// express, else but those that are kept for passcodes. They have to be given back
// if they are not made. It is not free if passcodes are all that may go, unless
// they are all that is asked for.
func (k *keeper) take(g *roster.Gateway, express bool) (leave, time.Duration) {
	k.planning.Lock()
	defer k.planning.Unlock()
	free, wait := k.may(g)
	switch {
	case free.requests == 0:
	case express:
		free.others = 0
	case free.others == 0:
		free = leave{}
	default:
		free.requests, free.kept = free.requests-free.kept, 0
		free.messages = min(free.messages, free.others)
	}
	k.busy.Add(int32(free.requests))
	return free, wait
}

// giveBack gives back requests that are not made.
func (k *keeper) giveBack(n int) {
	k.busy.Add(-int32(n))
}

// may works out what is free.
func (k *keeper) may(g *roster.Gateway) (leave, time.Duration) {
	now := time.Now()
	if g.PausedAt != nil || !k.d.Gate.Open() {
		return leave{}, idleMost // whoever resumes it rings
	}
	k.mu.Lock()
	if k.restCause == delivery.NoCredit { // topped up: it need not rest to the end
		if h := k.d.Roster.Health(k.id); h.BalanceMicros != nil && *h.BalanceMicros > 0 && h.BalanceAt.After(k.brokeAt) {
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
	if open <= 0 || k.unsaved.Load() >= unsavedMost {
		return leave{}, time.Second // one that comes back rings
	}
	codes := now.Sub(k.codes) < urgentKept
	kept, room := 0, 0
	if codes && g.PerSecond >= 10 {
		room = (g.PerSecond + secondShare - 1) / secondShare
	}
	if codes && g.InFlight > 1 && !probing {
		kept = 1
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
	k.door.Lock()
	second := k.window.Free(now.Add(ahead), want+room+k.booths) - k.booths // what is left of it
	if share < 1 {
		second = min(second, max(1, int(share*float64(g.PerSecond)))-k.window.Used(now)+k.asked.Used(now)-k.booths)
		room = min(room, max(second-1, 0))
	}
	n := min(second, want)
	others := k.flow.Free(now, max(min(second-room, want), 0))
	wait, even := k.window.Wait(now), k.flow.Wait(now)
	k.door.Unlock()
	if n <= 0 {
		return leave{}, max(wait-ahead, 5*time.Millisecond)
	}
	if k.quota.limited() {
		var wait time.Duration
		if n, wait = k.quota.free(k.d.Now(), n, 0); n == 0 {
			return leave{}, min(wait, time.Minute)
		}
		share := 0
		if codes {
			share = quotaShare
		}
		if others, _ = k.quota.free(k.d.Now(), min(others, n), share); others == 0 {
			even = time.Second
		}
	}
	if open <= kept {
		others = 0
		even = time.Second
	}
	if byRequest {
		return leave{n, min(n*each, most), min(others*each, most), probing, kept}, even
	}
	return leave{min(open, n), n, others, probing, kept}, even
}

// claimed is what was taken to be sent.
type claimed struct {
	packs    []pack
	noted    []store.Noted
	deferred int  // how many wait for the pace of their sender
	full     bool // there may be more than could be taken
}

// counted is how much of the limit it uses up.
func (c claimed) counted(g *roster.Gateway) int {
	n := 0
	for _, p := range c.packs {
		n += counting(g, len(p.messages))
	}
	return n
}

// counting is how much of a gateway's limit a request with so many messages uses
// up.
func counting(g *roster.Gateway, messages int) int {
	if g.Dialect.Limits.Counting == dialect.Requests {
		return 1
	}
	return messages
}

// claim takes messages and records that they are about to go, in one
// transaction that holds only if the lease does. After it, and not before,
// they may be sent.
//
// from is where in the queue to look, and is moved on; nil: from the first on.
func (k *keeper) claim(ctx context.Context, g *roster.Gateway, free leave, deferring bool, from *heads) (claimed, error) {
	rows := k.rows(from)
	since := from.since(time.Now(), rows.queue)
	next := since
	var c claimed
	var changed, stopped []store.Message
	codes := 0
	paced := k.d.Roster.Book().Paced
	var rowed drawn
	flight := k.flying.begin()
	err := k.d.Store.Transact(ctx, func(s *store.Store) error {
		c, codes, next, changed, stopped, rowed = claimed{}, 0, since, nil, nil, drawn{}
		now := k.d.Now()
		others := free.others
		urgent := free.messages
		if deferring && others > 0 {
			others = max(others, claimMost) // the next ones may have to wait too
		}
		if free.probing { // one that has not failed here is looked for
			urgent, others = max(urgent, claimMost), max(others, one(others > 0)*claimMost)
		}
		found, kept, err := s.Claim(ctx, k.id, k.d.holder, now, since, urgent, others, rows.queue)
		if err != nil || !kept || len(found) == 0 && rows.lines == 0 {
			return err
		}
		for i := range found {
			if err := k.d.Roster.Open(&found[i].Content); err != nil { // it stays sealed, and ends as what cannot be put into a request
				k.d.Log.Error("opening the text of a passcode", "message", found[i].ID, "error", err)
			}
		}
		batches, err := s.BatchesOf(ctx, found)
		if err != nil {
			return err
		}
		if found, stopped, err = k.stop(ctx, s, found, batches, now); err != nil {
			return err
		}
		senders, err := k.ration(ctx, s, found, paced, batches, leavesWithin+g.Timeout())
		if err != nil {
			return err
		}
		packer := newPacker(&g.Dialect.Submit, free.requests, free.messages)
		others = free.others
		if free.probing {
			k.arrangeForProbe(found)
		}
		left := [pace.Lanes]bool{} // one could not go: the next look begins with it
		for _, m := range found {
			if !left[m.Lane] {
				next[m.Lane] = m.DueAt
			}
			code := m.Lane == pace.OTP.Lane()
			codes += one(code)
			packer.kept = free.kept * (1 - one(code))
			switch {
			case !senders.allows(k, m, now):
			case (code || others > 0) && packer.place(m):
				senders.count(m)
				others -= 1 - one(code)
			default:
				left[m.Lane] = true
			}
		}
		if free.probing { // they are not in the order of the queue
			next = since
		}
		packer.kept = free.kept
		rowed, err = k.draw(ctx, s, rows, others, packer)
		if err != nil {
			return err
		}
		for i := range packer.packs {
			packer.packs[i].notBefore = senders.notBefore(packer.packs[i].messages)
		}
		c.packs, c.deferred = packer.packs, len(senders.later)
		c.full = len(found) > 0 && len(found) >= max(free.others, 1) || rowed.more
		if err := s.Defer(ctx, senders.later); err != nil {
			return err
		}
		if c.noted, err = s.NoteLeaving(ctx, senders.leaving); err != nil {
			return err
		}
		k.planning.Lock()
		limited, slot := k.quota.limited(), k.quota.slot(now, c.counted(g))
		k.planning.Unlock()
		if slot.N > 0 && limited {
			if err := s.NoteWent(ctx, k.id, slot); err != nil {
				return err
			}
		}
		evidence := make([]store.Evidence, 0, len(found))
		for _, m := range packer.messages() {
			if _, is := rowed.going[m.ID]; !is {
				changed = append(changed, m)
				evidence = append(evidence, course.Own(m, now, delivery.Sending, m.Attempts+1, ""))
			}
		}
		if err := k.d.Course.RecordClaimed(ctx, s, changed, evidence); err != nil {
			return err
		}
		c.going(changed, rowed.going)
		k.flying.replace(flight, c)
		return nil
	})
	// This keeper alone sends or puts back the claimed messages, so it waits until it
	// knows.
	if unknown := (*store.UnknownOutcome)(nil); errors.As(err, &unknown) {
		if committed, asked := unknown.Wait(context.Background()); asked == nil && committed {
			err = nil
		}
	}
	if err != nil {
		k.flying.replace(flight, claimed{})
		if rowed.tried {
			k.d.Rows.Failed(k.id)
		}
		return claimed{}, err
	}
	k.flying.depart(flight)
	from.move(since, next)
	k.planning.Lock()
	defer k.planning.Unlock()
	if codes > 0 {
		k.codes = time.Now()
	}
	k.quota.claim(c.counted(g))
	k.d.Course.Announce(changed)
	k.d.Course.Announce(stopped)
	if rowed.done != nil {
		rowed.done(ctx)
	}
	return c, nil
}

// going notes messages as they are now that it is recorded that they go: those that were
// claimed in the order of the packs, those that were drawn by id.
func (c *claimed) going(claimed []store.Message, drawn map[uuid.UUID]store.Message) {
	for i := range c.packs {
		p := &c.packs[i]
		p.going = make([]store.Message, 0, len(p.messages))
		for _, m := range p.messages {
			is, ok := drawn[m.ID]
			if !ok {
				is, claimed = claimed[0], claimed[1:]
			}
			p.going = append(p.going, is)
		}
	}
}

// stop ends messages whose recipients do not want them, or whose batch was withdrawn, and
// returns the others.
func (k *keeper) stop(
	ctx context.Context,
	s *store.Store,
	found []store.Message,
	batches map[uuid.UUID]store.BatchNow,
	now time.Time,
) (goes, stopped []store.Message, err error) {
	var evidence []store.Evidence
	for _, m := range found {
		e := course.Own(m, now, "", m.Attempt, "")
		why := ""
		if b := batches[batchOf(m)]; b.State == batch.Cancelled {
			e.Source, e.Claim, why = delivery.Operator, delivery.Cancelled, "its batch was "+b.Why
		}
		if m.OptedOut != nil {
			e, why = course.OptedOut(m, now, *m.OptedOut), course.WhyOptedOut(*m.OptedOut)
		}
		if why == "" {
			goes = append(goes, m)
			continue
		}
		e.Note = "not sent: " + why
		if m.Known().MayHaveGone {
			e.Claim, e.Cause, e.Note = delivery.Unknown, "", "does not go again: "+why
		}
		stopped, evidence = append(stopped, m), append(evidence, e)
	}
	if stopped == nil {
		return found, nil, nil
	}
	return goes, stopped, k.d.Course.RecordClaimed(ctx, s, stopped, evidence)
}

func one(b bool) int {
	if b {
		return 1
	}
	return 0
}

// heads are how far a keeper has come in each lane of its queue. What went leaves
// entries in the index that are dead until the database tidies, and to go past
// them at each claim takes long.
type heads struct {
	due    [pace.Lanes]time.Time
	wholly time.Time // when it last looked from the first on
}

const (
	// wholly is how often a keeper looks from the first on, should anything have
	// come in further ahead than it looks back.
	wholly = time.Second
	// lookBack is how much earlier than the last a message may be due that comes
	// in later.
	lookBack = 500 * time.Millisecond
)

// since is from where on to look; all is whether all lanes are looked at.
func (h *heads) since(now time.Time, all bool) (since [pace.Lanes]time.Time) {
	if h == nil {
		return since
	}
	if all && now.Sub(h.wholly) >= wholly {
		h.wholly = now
		return since
	}
	for lane, due := range h.due {
		if !due.IsZero() {
			since[lane] = due.Add(-lookBack)
		}
	}
	return since
}

// move notes how far it has come.
func (h *heads) move(since, next [pace.Lanes]time.Time) {
	if h == nil {
		return
	}
	for lane := range next {
		if next[lane] != since[lane] { // else nothing was found
			h.due[lane] = next[lane]
		}
	}
}
