// Package strays sees which strays can only belong to one message, and lets a person say to which
// one a stray belongs, or that it means nothing to us.
package strays

import (
	"context"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/belong"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/guard"
	"calmpigeon.example/internal/engine/kit"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

// Quiet is how long nothing may have been heard of strays, and of the messages to which they may
// belong, before they are judged.
const Quiet = time.Minute

// Strays judges and settles strays.
type Strays struct {
	kit.Kit
	Course *course.Course
	Clocks *Clocks
	// Quiet is as the constant; 0: so.
	Quiet time.Duration

	due chan []uuid.UUID

	mu   sync.Mutex
	said time.Time // when an error was last said

	adding sync.Mutex
	added  map[uuid.UUID]int // strays by gateway since it was last looked how many there are
}

// New makes one that judges once it runs.
func New(k kit.Kit, c *course.Course, clocks *Clocks, quiet time.Duration) *Strays {
	if quiet <= 0 {
		quiet = Quiet
	}
	return &Strays{Kit: k, Course: c, Clocks: clocks, Quiet: quiet, due: make(chan []uuid.UUID, 1)}
}

// Fresh makes a claim ready to be kept as a stray: when it is to be judged, when the gateway is to be
// asked about its id, and its number as we write it.
func (s *Strays) Fresh(t store.Stray) store.Stray {
	g := s.Roster.ByID(t.GatewayID)
	if g == nil {
		return t
	}
	judge := t.At.Add(s.Quiet)
	t.JudgeAt, t.Number = &judge, g.Number(t.ToNumber)
	if t.GatewayRef != "" && g.Dialect.CanAskByRef() {
		ask := t.At.Add(s.Quiet / 2)
		t.AskAt = &ask
	}
	return t
}

// lookAfter is after how many new strays of a gateway it is looked whether there are too many.
const lookAfter = 1000

// Bound is told how many strays of a gateway were added. Now and then it removes the oldest of those that wait, if there
// are too many ([store.StraysMost]).
func (s *Strays) Bound(ctx context.Context, gateway uuid.UUID, added int) {
	if added == 0 {
		return
	}
	s.adding.Lock()
	n, looked := s.added[gateway]
	n += added
	look := !looked || n >= lookAfter
	if look {
		n = 0
	}
	if s.added == nil {
		s.added = map[uuid.UUID]int{}
	}
	s.added[gateway] = n
	s.adding.Unlock()
	for look {
		var err error
		if look, err = s.Store.TrimStrays(ctx, gateway, s.Now()); err != nil {
			s.failed(ctx, gateway, err)
			return
		}
	}
}

// Wake says of which gateways strays are to be judged. It never waits; who is busy is told again.
func (s *Strays) Wake(gateways []uuid.UUID) {
	if len(gateways) == 0 {
		return
	}
	select {
	case s.due <- gateways:
	default:
	}
}

// Run judges strays, whenever it is woken, until ctx ends.
func (s *Strays) Run(ctx context.Context) {
	for {
		var gateways []uuid.UUID
		select {
		case <-ctx.Done():
			return
		case gateways = <-s.due:
		}
		for _, gateway := range gateways {
			for more := true; more && ctx.Err() == nil; {
				var err error
				if err = guard.Try(func() (err error) { more, err = s.judge(ctx, gateway); return err }); err != nil {
					s.failed(ctx, gateway, err)
					break
				}
			}
		}
	}
}

// failed says that a round failed, though not again and again.
func (s *Strays) failed(ctx context.Context, gateway uuid.UUID, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if ctx.Err() == nil && time.Since(s.said) > 10*time.Second {
		s.said = time.Now()
		s.Log.Error("judging strays", "gateway", gateway, "error", err)
	}
}

const (
	// judgeMost is how many strays are judged in one transaction, and amongMost among how many
	// strays, and how many submissions, it is looked to which they belong.
	judgeMost, amongMost = 500, 1000
	// longest is how long strays are judged again and again, and pauseMost the longest pause.
	longest, pauseMost = 72 * time.Hour, time.Hour
	// groundsMost is on how many grounds claims about a message may rest for another to be added.
	groundsMost = 20
)

// judge sees, of strays of a gateway whose time has come, which can only belong to one message.
func (s *Strays) judge(ctx context.Context, gateway uuid.UUID) (more bool, err error) {
	var changed []store.Message
	err = s.Store.Transact(ctx, func(tx *store.Store) error {
		more, changed = false, nil
		if mine, err := tx.JudgeAlone(ctx, gateway); err != nil || !mine {
			return err
		}
		now := s.Now()
		due, err := tx.TakeToJudge(ctx, gateway, now, judgeMost)
		if err != nil || len(due) == 0 {
			return err
		}
		more = len(due) == judgeMost
		g := s.Roster.ByID(gateway)
		if g == nil { // nobody can tell how it speaks
			for i := range due {
				due[i].JudgeAt = nil
			}
			return tx.JudgedStrays(ctx, due)
		}
		c, err := s.consider(ctx, tx, g, due, now)
		if err != nil {
			return err
		}
		changed, err = s.settle(ctx, tx, g, c, now)
		return err
	})
	if err == nil {
		s.Course.Announce(changed)
	}
	return more, err
}

// considered is what strays are judged by.
type considered struct {
	due       []store.Stray
	lines     []line
	claimants []store.Claimant
	verdicts  []belong.Verdict
	crowd     bool            // there is more than is looked at
	written   map[string]bool // numbers to which something was sent
	since     time.Time
	skew      time.Duration
	known     bool // by how much the clock is wrong
	lacks     []store.Lacking
	window    time.Duration
}

// lacking reports whether a stray may belong to a message that is missing, as the database was restored.
// Then it belongs to no other message for sure.
func (c *considered) lacking(t *store.Stray) bool {
	return slices.ContainsFunc(c.lacks, func(l store.Lacking) bool {
		return t.At.After(l.From) && t.At.Before(l.Until.Add(c.window))
	})
}

// line is all that came under one name.
type line struct {
	belong.Line
	strays []store.Stray
	has    *store.Stray // the one that has a message
}

// window is how long after a submission what belongs to it may come.
func window(g *roster.Gateway) time.Duration { return min(max(g.GiveUpAfter(), time.Hour), longest) }

// consider gathers everything to which strays may belong and everything that may belong there, and
// judges them.
func (s *Strays) consider(ctx context.Context, tx *store.Store, g *roster.Gateway, due []store.Stray, now time.Time) (considered, error) {
	c := considered{due: due, since: now.Add(-window(g)), written: map[string]bool{}, window: window(g)}
	c.skew, c.known = s.Clocks.Skew(g.ID)
	var err error
	if c.lacks, err = tx.Lacks(ctx, c.since.Add(-window(g))); err != nil {
		return c, err
	}
	numbers, anonymous := []string{}, false
	seen := map[string]bool{"": true}
	for i := range due {
		if due[i].Number == "" {
			due[i].Number = g.Number(due[i].ToNumber)
		}
		if n := due[i].Number; !seen[n] {
			seen[n] = true
			numbers = append(numbers, n)
		}
	}
	others, err := tx.StraysOf(ctx, g.ID, append(numbers, ""), c.since, amongMost+1)
	if err != nil {
		return c, err
	}
	c.gather(others)
	for _, l := range c.lines {
		anonymous = anonymous || l.Number == ""
	}
	sent, err := tx.SentTo(ctx, g.ID, numbers, c.since, now, amongMost)
	if err != nil {
		return c, err
	}
	c.crowd = len(others) > amongMost || len(sent) > amongMost
	for _, one := range sent {
		c.written[one.To.String()] = true
	}
	if anonymous {
		nameless, err := tx.Nameless(ctx, g.ID, c.since, now, amongMost)
		if err != nil {
			return c, err
		}
		c.crowd = c.crowd || len(nameless) > amongMost
		sent = append(sent, nameless...)
	}
	c.claim(sent, s.Roster.HasNamed(g))
	if c.crowd {
		return c, nil
	}
	return c, s.judgeAmong(&c, now)
}

// gather makes lines of the strays that are judged and of the others among them.
func (c *considered) gather(others []store.Stray) {
	at := map[string]int{}
	there := map[uuid.UUID]bool{}
	for _, t := range append(append([]store.Stray{}, c.due...), others...) {
		if there[t.ID] || t.Fate == store.Discarded {
			continue
		}
		there[t.ID] = true
		i, ok := at[t.Of()]
		if !ok {
			i = len(c.lines)
			at[t.Of()] = i
			c.lines = append(c.lines, line{Line: belong.Line{Came: t.At, Last: t.At}})
		}
		l := &c.lines[i]
		l.strays = append(l.strays, t)
		if l.Number == "" {
			l.Number = t.Number
		}
		if l.Text == "" {
			l.Text = t.Says
		}
		if t.At.Before(l.Came) {
			l.Came = t.At
		}
		if t.At.After(l.Last) {
			l.Last = t.At
		}
		if t.GatewayAt != nil && c.known {
			if speaks := t.GatewayAt.Add(-c.skew); l.Speaks.IsZero() || speaks.Before(l.Speaks) {
				l.Speaks = speaks
			}
		}
		if t.MessageID != nil {
			one := t
			l.has = &one
		}
	}
}

// claim takes those submissions to which strays may belong: of which nobody who names them has told
// the end. Where the gateway reports under the ids that it gave, only those to which it gave none.
func (c *considered) claim(sent []store.Claimant, names bool) {
	type key struct {
		message uuid.UUID
		attempt int
	}
	there := map[key]bool{}
	for _, l := range c.lines { // what a person attached is taken
		if l.has != nil && l.has.Fate == store.Attached {
			there[key{*l.has.MessageID, l.has.Attempt}] = true
		}
	}
	for _, one := range sent {
		if k := (key{one.MessageID, one.Attempt}); !there[k] && !one.Settled && one.Grounds < groundsMost && (one.Ref == "" || !names) {
			there[k] = true
			c.claimants = append(c.claimants, one)
		}
	}
}

func (s *Strays) judgeAmong(c *considered, now time.Time) error {
	texts := false
	for _, l := range c.lines {
		texts = texts || l.Text != ""
	}
	claimants := make([]belong.Claimant, len(c.claimants))
	at := map[uuid.UUID][]int{}
	for i, one := range c.claimants {
		claimants[i] = belong.Claimant{Number: one.To.String(), Began: one.Began, Moved: one.Moved, Sending: one.Sending}
		if texts && one.Text != "" {
			claimants[i].Text = s.Roster.TextMark(one.Text)
		}
		at[one.MessageID] = append(at[one.MessageID], i)
	}
	var lines []belong.Line
	var place []int // of each among all
	for i := range c.lines {
		l := &c.lines[i]
		if l.has != nil && l.has.Fate == store.Attached {
			continue
		}
		for _, t := range l.strays {
			for _, id := range t.Not() {
				l.NotOf = append(l.NotOf, at[id]...)
			}
		}
		lines, place = append(lines, l.Line), append(place, i)
	}
	c.verdicts = make([]belong.Verdict, len(c.lines))
	for i := range c.verdicts {
		c.verdicts[i].Claimant = -1
	}
	rule := belong.Rule{Window: now.Sub(c.since), Slack: slack, Quiet: now.Add(-s.Quiet)}
	for i, v := range belong.Judge(lines, claimants, rule) {
		c.verdicts[place[i]] = v
	}
	return nil
}

// slack is the roundness of gateways' times, and of what is known of their clocks.
const slack = 3 * time.Second
