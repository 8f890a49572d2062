// Package chase looks after messages that stay silent: it asks about them,
// resolves doubt, and closes what is too late.
package chase

import (
	"context"
	"math/rand/v2"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/schedule"
	"calmpigeon.example/internal/engine/courier"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/guard"
	"calmpigeon.example/internal/engine/kit"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

const (
	lateMost   = 500
	silentMost = 40
	silentAll  = 1000
	asksAtOnce = 8
	// restMost is how long after its time a message is not given up because its
	// gateway cannot be asked.
	restMost = 10 * time.Minute
)

// Chase looks after silent messages.
type Chase struct {
	kit.Kit
	Course  *course.Course
	Courier *courier.Courier
	// Keeps reports whether this instance keeps a gateway: only whoever does asks
	// it. Leave waits until a query may go, below the submissions and within the
	// pace of the gateway; told takes what was learned. nil: no instance but this
	// one, and no limits.
	Keeps func(gateway uuid.UUID) bool
	Leave func(ctx context.Context, gateway uuid.UUID) (told func(cause delivery.Cause, wait time.Duration), ok bool)

	woken chan woken

	mu   sync.Mutex
	said time.Time // when an error was last said
}

// woken is why it was woken.
type woken struct {
	silent []uuid.UUID // gateways of which messages are due to be looked after
	strays []uuid.UUID // gateways that are to be asked about strays
	late   bool        // a message waits that is too late to be sent
}

// New makes one that looks after messages once it runs. Of several instances
// only the one that keeps a gateway asks it, and leave says when it may.
func New(k kit.Kit, c *course.Course, carrier *courier.Courier, keeps func(uuid.UUID) bool,
	leave func(context.Context, uuid.UUID) (func(delivery.Cause, time.Duration), bool)) *Chase {
	return &Chase{Kit: k, Course: c, Courier: carrier, Keeps: keeps, Leave: leave, woken: make(chan woken, 1)}
}

// Wake says of which gateways messages are due to be looked after, which are to
// be asked about strays, and whether any message is too late to be sent. It never
// waits; who is busy is told again.
func (c *Chase) Wake(silent, strays []uuid.UUID, late bool) {
	if len(silent) == 0 && len(strays) == 0 && !late {
		return
	}
	select {
	case c.woken <- woken{silent, strays, late}:
	default:
	}
}

// Run looks after messages, whenever it is woken, until ctx ends: those of each
// gateway by themselves, so that one that does not answer holds up no other.
func (c *Chase) Run(ctx context.Context) {
	var loops sync.WaitGroup
	defer loops.Wait()
	messages := rounds{c: c, loops: &loops, busy: map[uuid.UUID]bool{}, look: c.look}
	strays := rounds{c: c, loops: &loops, busy: map[uuid.UUID]bool{}, look: c.askStrays}
	for {
		var why woken
		select {
		case <-ctx.Done():
			return
		case why = <-c.woken:
		}
		if !c.Gate.Asks() {
			continue
		}
		for more := why.late; more && ctx.Err() == nil; {
			var err error
			if more, err = c.closeLate(ctx); err != nil {
				c.failed(ctx, err)
				break
			}
		}
		messages.begin(ctx, why.silent)
		strays.begin(ctx, why.strays)
	}
}

// rounds looks after something of each gateway, one round of a gateway at a time.
type rounds struct {
	c     *Chase
	loops *sync.WaitGroup
	look  func(context.Context, *roster.Gateway) (more bool, err error)

	mu   sync.Mutex
	busy map[uuid.UUID]bool
}

// begin looks after gateways that this instance keeps, unless it does already.
func (r *rounds) begin(ctx context.Context, gateways []uuid.UUID) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, id := range gateways {
		g := r.c.Roster.ByID(id)
		if g == nil || r.busy[id] || r.c.Keeps != nil && !r.c.Keeps(id) {
			continue
		}
		r.busy[id] = true
		r.loops.Go(func() {
			for more := true; more && ctx.Err() == nil; {
				var err error
				more = false // if it panics
				err = guard.Try(func() (err error) { more, err = r.look(ctx, g); return err })
				r.c.failed(ctx, err)
			}
			r.mu.Lock()
			defer r.mu.Unlock()
			delete(r.busy, id)
		})
	}
}

// failed says that a round failed, though not again and again.
func (c *Chase) failed(ctx context.Context, err error) {
	if err == nil || ctx.Err() != nil {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if time.Since(c.said) > 5*time.Second {
		c.said = time.Now()
		c.Log.Error("looking after silent messages", "error", err)
	}
}

// closeLate expires what was not sent within its validity. What may have gone
// all the same, because an earlier try is in doubt, is not said to be expired.
func (c *Chase) closeLate(ctx context.Context) (more bool, err error) {
	var changed []store.Message
	err = c.Store.Transact(ctx, func(s *store.Store) error {
		now := c.Now()
		late, err := s.TooLate(ctx, now, lateMost)
		if err != nil {
			return err
		}
		more = len(late) == lateMost
		var evidence []store.Evidence
		for _, m := range late {
			e := course.ByClock(m, now, delivery.Expired, delivery.TooLate, "its validity ended before it could go")
			if m.Known().MayHaveGone {
				e = course.ByClock(
					m,
					now,
					delivery.Unknown,
					"",
					"its validity ended before it could go again, and an earlier try is in doubt",
				)
			}
			evidence = append(evidence, e)
		}
		changed, err = c.Course.Record(ctx, s, evidence, nil, late...)
		return err
	})
	if err == nil {
		c.Course.Announce(changed)
	}
	return more, err
}

// look takes a gateway's messages that are due to be looked after, and does
// for each what can be done. A crash in between delays them by the lease.
func (c *Chase) look(ctx context.Context, g *roster.Gateway) (more bool, err error) {
	now := c.Now()
	most := silentMost
	if g.Dialect.Query != nil { // as many requests, however many each asks about
		most = min(silentMost*g.Dialect.Query.Most, silentAll)
	}
	// Long enough for all of them, and short enough that a crash does not take the time in which anyone might tell.
	lease := min(g.Timeout()*silentMost/asksAtOnce+5*time.Second, max(2*g.Timeout(), g.GiveUpAfter()/4))
	silent, err := c.Store.TakeSilent(ctx, g.ID, now, lease, most)
	if err != nil || len(silent) == 0 {
		return false, err
	}
	var found finding
	var asking sync.WaitGroup
	gate := make(chan struct{}, asksAtOnce)
	var batch []*store.Message
	ask := func() {
		if len(batch) == 0 {
			return
		}
		asked := batch
		batch = nil
		gate <- struct{}{}
		asking.Go(func() {
			defer func() { <-gate }()
			c.failed(ctx, guard.Try(func() error {
				c.ask(ctx, g, asked, now, &found)
				return nil
			}))
		})
	}
	for i := range silent {
		m := &silent[i]
		switch {
		case !c.isOver(m, now) && m.State == delivery.Doubtful && c.Gate.Open() &&
			schedule.MayResubmit(course.Seen(m), course.Through(g, m), now):
			found.again(c.again(m, g, now))
		case g.Dialect.CanAsk(m.GatewayRef):
			if batch = append(batch, m); len(batch) == g.Dialect.Query.Most {
				ask()
			}
		case c.isOver(m, now):
			found.add(giveUp(m, now))
		}
	}
	ask()
	asking.Wait()
	packs, err := store.PackExchanges(found.exchanges)
	if err != nil {
		return false, err
	}
	var changed []store.Message
	err = c.Store.Transact(ctx, func(s *store.Store) error {
		// First when to look again, should nothing change; then what was
		// found, which plans anew what it moves.
		now := c.Now()
		again := slices.Clone(silent)
		if !found.left { // those that have an end were asked about this once
			ended := func(m store.Message) bool { return m.State.Final() }
			if err := s.Unwatch(ctx, slices.DeleteFunc(slices.Clone(silent), func(m store.Message) bool { return !ended(m) })); err != nil {
				return err
			}
			again = slices.DeleteFunc(again, ended)
		}
		for i := range again {
			m := &again[i]
			if from := c.Gate.GivesUpFrom(now); m.GiveUpAt != nil && m.GiveUpAt.Before(from) && !m.State.Final() {
				m.GiveUpAt = &from // else it would be due again at once, until then
			}
			m.AskAt = m.GiveUpAt
			// In quarantine a doubtful message cannot go again, though it may be about to.
			if g.Dialect.CanAsk(m.GatewayRef) || m.State == delivery.Doubtful && !c.Gate.Open() {
				m.AskAt = schedule.AskAgain(m.Times, g.AskAfterOf(m.Kind), now, rand.Float64()) // #nosec G404 -- jitter of a pause
			}
			m.Asks++
		}
		if err := s.Postpone(ctx, again); err != nil {
			return err
		}
		if err := s.StoreExchanges(ctx, packs); err != nil {
			return err
		}
		changed, err = c.Course.Record(ctx, s, packs.Cite(found.evidence), found.steps)
		return err
	})
	if err == nil {
		c.Course.Announce(changed)
	}
	return len(silent) == most && !found.left, err
}

// isOver reports whether the time in which anyone might tell is over. What has an
// end is asked about because somebody wants to, and is not given up; and in quarantine
// and for a while after it nothing is.
func (c *Chase) isOver(m *store.Message, now time.Time) bool {
	return c.Gate.GivesUp(now) && m.GiveUpAt != nil && !now.Before(*m.GiveUpAt) && !m.State.Final()
}

// again lets a doubtful message go once more: through the same gateway if it
// takes a reference twice for one message, and a passcode through whichever.
func (c *Chase) again(m *store.Message, g *roster.Gateway, now time.Time) (store.Evidence, course.Step) {
	step := course.Step{Wait: new(time.Duration)} // it has waited for its answer
	if g.Dialect.HonoursReference() {
		return course.Own(*m, now, delivery.Queued, m.Attempt, "goes again: the gateway takes a reference twice for one message"), step
	}
	e := course.Own(*m, now, delivery.Queued, m.Attempt, "goes again: a passcode twice harms nobody")
	if other, _ := c.Roster.Elsewhere(m, now); other != nil {
		e.Note += ". It goes through " + other.Name
		e.GatewayID, step.Gateway = &other.ID, other.ID
	}
	return e, step
}

// ask makes a status query about one message or several. For those whose time
// is over it is the last one: unless it brings the end, they are given up.
func (c *Chase) ask(ctx context.Context, g *roster.Gateway, asked []*store.Message, now time.Time, found *finding) {
	messages := make([]dialect.Message, len(asked))
	for i, m := range asked {
		messages[i] = dialect.Message{
			ID:         m.ID.String(),
			GatewayRef: m.GatewayRef,
			To:         m.To,
			Sender:     m.Sender,
			Country:    m.Country,
			Kind:       string(m.Kind),
		}
	}
	// nothing is what is left to do when nothing could be asked.
	nothing := func(exchange *store.Exchange, why string) {
		at := c.Now()
		for _, m := range asked {
			e := c.asked(m, at, exchange)
			e.Note = why
			found.add(e)
			if c.isOver(m, now) {
				found.add(giveUp(m, at))
			}
		}
		found.keep(exchange)
	}
	means, fetched, err := c.Courier.Means(ctx, g)
	if err != nil {
		nothing(fetched, "not asked: "+err.Error())
		return
	}
	found.keep(fetched)
	request, err := g.Dialect.QueryRequest(messages, means)
	if err != nil {
		c.Log.Error("building a status query", "gateway", g.Name, "error", g.Mask(err.Error()))
		nothing(nil, "not asked: "+g.Mask(err.Error()))
		return
	}
	told := func(delivery.Cause, time.Duration) {}
	if c.Leave != nil {
		var ok bool
		if told, ok = c.Leave(ctx, g.ID); !ok {
			// It is asked a last time before it is given up, once it may be asked
			// again, if that is not too long after.
			found.leave()
			for _, m := range asked {
				if m.GiveUpAt != nil && now.Sub(*m.GiveUpAt) > restMost {
					found.add(giveUp(m, c.Now()))
				}
			}
			return
		}
	}
	mask := g.Masking(request.Hidden)
	reply, fate, exchange := c.Courier.Carry(ctx, g, "query", request)
	marks := ""
	for _, m := range asked {
		marks += m.Marks
	}
	if marks != "" {
		mask = c.Roster.Hide(&exchange, marks, mask)
	}
	if fate != courier.Answered {
		told("", 0)
	}
	if fate != courier.Answered {
		nothing(&exchange, "asked: "+exchange.Error)
		return
	}
	found.keep(&exchange)
	at := c.Now()
	reading := g.Dialect.ReadQuery(reply, at).Masked(mask)
	told(reading.Cause, reading.RetryAfter)
	if token := means.Secrets["token"]; reading.Cause == delivery.CredentialsRefused && token != "" {
		c.Courier.DropToken(g, token)
	}
	each := make([][]dialect.Item, len(asked))
	if reading.Meaning == dialect.Read {
		each, _ = g.Dialect.Divide(reading.Items, messages)
	}
	if slices.ContainsFunc(each, func(items []dialect.Item) bool { return slices.ContainsFunc(items, dialect.Item.Known) }) {
		if err := c.Roster.NoteAnswer(ctx, g); err != nil {
			c.Log.Error("noting that queries are answered", "gateway", g.Name, "error", err)
		}
	}
	unproved := c.unproved(g, reply)
	if unproved == notYetAnswered && slices.ContainsFunc(asked, func(m *store.Message) bool { return m.State == delivery.Doubtful }) {
		if err := c.askKnown(ctx, g, at); err != nil {
			c.Log.Error("asking about a message that a gateway knows", "gateway", g.Name, "error", err)
		}
	}
	for i, m := range asked {
		said := c.understand(m, g, reading, each[i], unproved, at, &exchange)
		found.add(said...)
		final := func(e store.Evidence) bool { return e.Claim.Final() }
		if c.isOver(m, now) && !slices.ContainsFunc(said, final) {
			found.add(giveUp(m, at))
		}
	}
}

// notYetAnswered is why an answer proves nothing from a gateway that was never asked about a
// message that it knows.
const notYetAnswered = "it has not yet answered the same question about a message that it knows"

// askKnown lets a gateway be asked at once about a message that it has taken: what it says of
// others is worth something after that.
func (c *Chase) askKnown(ctx context.Context, g *roster.Gateway, now time.Time) error {
	known, err := c.Store.OpenAt(ctx, g.ID)
	if err != nil || known == uuid.Nil {
		return err
	}
	return c.Store.Transact(ctx, func(s *store.Store) error {
		stand, err := s.Stand(ctx, []uuid.UUID{known})
		m, ok := stand[known]
		if err != nil || !ok || !g.Dialect.CanAsk(m.GatewayRef) || m.AskAt != nil && !m.AskAt.After(now) {
			return err
		}
		return s.AskNow(ctx, []store.Message{m}, now)
	})
}

// unproved says why an answer that the gateway knows no such message proves
// nothing; empty if it does prove it.
func (c *Chase) unproved(g *roster.Gateway, reply dialect.Reply) string {
	switch {
	case !g.Dialect.Recognises(reply):
		return "any web server could have answered so"
	case !c.Roster.HasAnswered(g):
		return notYetAnswered
	}
	return ""
}

func (c *Chase) asked(m *store.Message, at time.Time, exchange *store.Exchange) store.Evidence {
	e := store.Evidence{ID: store.IDAt(at), MessageID: m.ID, At: at, Source: delivery.Query, Attempt: m.Attempt, GatewayID: &m.GatewayID}
	if exchange != nil {
		e.ExchangeID = &exchange.ID
	}
	return e
}

func giveUp(m *store.Message, now time.Time) store.Evidence {
	return course.ByClock(*m, now, delivery.Unknown, "", "the time in which anyone might have told us is over")
}

// finding collects what was found out; queries run at the same time.
type finding struct {
	mu        sync.Mutex
	evidence  []store.Evidence
	exchanges []store.Exchange
	steps     course.Steps
	left      bool // some could not be asked just now
}

func (f *finding) leave() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.left = true
}

func (f *finding) keep(exchange *store.Exchange) {
	if exchange != nil {
		f.mu.Lock()
		defer f.mu.Unlock()
		f.exchanges = append(f.exchanges, *exchange)
	}
}

func (f *finding) add(evidence ...store.Evidence) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.evidence = append(f.evidence, evidence...)
	for _, e := range evidence {
		if e.Claim == delivery.Queued { // it has waited for its answer
			f.plan(e.MessageID, course.Step{Wait: new(time.Duration)})
		}
	}
}

func (f *finding) again(e store.Evidence, step course.Step) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.evidence = append(f.evidence, e)
	f.plan(e.MessageID, step)
}

func (f *finding) plan(id uuid.UUID, step course.Step) {
	if f.steps == nil {
		f.steps = course.Steps{}
	}
	f.steps[id] = step
}

// understand makes evidence of the answer to a status query, for one of the
// messages that were asked about.
func (c *Chase) understand(
	m *store.Message,
	g *roster.Gateway,
	reading dialect.Reading,
	items []dialect.Item,
	unproved string,
	at time.Time,
	exchange *store.Exchange,
) []store.Evidence {
	e := c.asked(m, at, exchange)
	absent := func(e *store.Evidence) {
		e.Note = "the gateway knows no such message"
		switch {
		case m.State != delivery.Doubtful:
		case unproved != "":
			e.Note += ", but that proves nothing: " + unproved
		case m.Kind != pace.OTP && !g.Dialect.HonoursReference() && m.Known().Freed > 0:
			e.Note += ". It said so of an earlier submission, too: it does not go a third time by itself"
		default:
			e.Claim = delivery.Queued // it was not taken, so it may go
		}
	}
	switch reading.Meaning {
	case dialect.Read:
		if len(items) == 0 {
			e.Note = "the answer does not speak of this message"
		}
		var said []store.Evidence
		for _, item := range items {
			e := c.asked(m, at, exchange)
			if item.Absent {
				absent(&e)
			} else {
				course.Said(&e, delivery.Query, item, g.Currency)
			}
			said = append(said, e)
		}
		if said != nil {
			return said
		}
	case dialect.Absent:
		absent(&e)
	case dialect.NotTaken:
		e.Note = "the query was refused: " + string(reading.Cause)
	case dialect.Unreadable:
		e.Note = "the answer cannot be read: " + reading.Note
	}
	return []store.Evidence{e}
}
