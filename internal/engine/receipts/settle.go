package receipts

import (
	"context"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/watch"
	"calmpigeon.example/internal/store"
)

const (
	settleMost = 500
	// holdMost is how much memory the callbacks of a gateway may take that wait
	// to be settled. What is more is read from the database later.
	holdMost = 16 << 20
	// collect is how long a set collects where much comes.
	collect = 4 * time.Millisecond
	// hasty is how long a callback whose message is not known is looked at again
	// before it becomes a stray: the reply that tells the message's name is
	// often being recorded just now. hastyPause is between two looks.
	hasty      = 300 * time.Millisecond
	hastyPause = 20 * time.Millisecond
	// recent is how far back a gateway's id is looked for at first.
	recent = 35 * 24 * time.Hour
)

// settler settles the callbacks of one gateway: what is heavy or bad in them
// holds up no other.
type settler struct {
	r       *Receipts
	gateway uuid.UUID
	queue   chan taken
	held    atomic.Int64 // bytes in the queue
	left    watch.Kick   // there is something to be read from the database
	started bool
}

// taken is a callback that is stored, with what it says once that was read.
type taken struct {
	store.Receipt
	at      time.Time // it was taken
	read    bool
	claims  []store.Stray
	inbound []store.Inbound
}

func newSettler(r *Receipts, gateway uuid.UUID) *settler {
	return &settler{r: r, gateway: gateway, queue: make(chan taken, 4*settleMost), left: watch.NewKick()}
}

// give hands over a callback that has been stored. If there are too many it is
// read from the database later.
func (s *settler) give(record store.Receipt) {
	n := int64(size(record))
	if s.held.Add(n) <= holdMost {
		select {
		case s.queue <- taken{Receipt: record, at: time.Now()}:
			return
		default:
		}
	}
	s.held.Add(-n)
}

// run settles until ctx ends.
func (s *settler) run(ctx context.Context) {
	var waiting []taken // for their message to become known
	several := false
	said := time.Time{}
	for ctx.Err() == nil {
		set := s.collect(ctx, waiting, several)
		several = len(set) > 1
		if len(set) == 0 {
			continue
		}
		again, err := s.settle(ctx, set)
		waiting = again
		if err != nil && ctx.Err() == nil {
			if time.Since(said) > 10*time.Second {
				said = time.Now()
				s.r.Log.Error("settling receipts", "gateway", s.gateway, "error", err)
			}
			waiting = nil // they are in the database
			select {
			case <-ctx.Done():
			case <-time.After(500 * time.Millisecond):
			}
		}
	}
}

// collect gathers what is to be settled next: what was given, what could not be
// matched a moment ago, and what was left in the database.
func (s *settler) collect(ctx context.Context, waiting []taken, several bool) []taken {
	set := waiting
	var soon <-chan time.Time
	if len(waiting) > 0 {
		soon = time.After(hastyPause)
	}
	select {
	case <-ctx.Done():
		return nil
	case <-soon:
	case <-s.left:
		left, err := s.r.Course.Store.UnreadReceipts(ctx, s.gateway, time.Now().Add(-leftover), settleMost)
		if err != nil && ctx.Err() == nil {
			s.r.Log.Error("reading receipts", "gateway", s.gateway, "error", err)
		}
		for _, record := range left {
			set = append(set, taken{Receipt: record})
		}
		if len(left) == settleMost {
			s.left.Now()
		}
	case one := <-s.queue:
		set = append(set, s.received(one))
		if several {
			select {
			case <-ctx.Done():
			case <-time.After(collect):
			}
		}
	}
	for len(set) < settleMost {
		select {
		case one := <-s.queue:
			set = append(set, s.received(one))
			continue
		default:
		}
		break
	}
	return set
}

func (s *settler) received(one taken) taken {
	s.held.Add(-int64(size(one.Receipt)))
	return one
}

// settle makes evidence, strays and inbound messages of stored callbacks, in one
// transaction: if it is cut short, they are read again. What waits for its
// message to become known is returned. When the database refuses a set it is
// halved until the culprit stands alone, which is marked and kept, and the rest
// goes on.
func (s *settler) settle(ctx context.Context, set []taken) (again []taken, err error) {
	for i := range set {
		s.read(&set[i])
	}
	changed, again, err := s.write(ctx, set)
	switch {
	case err == nil:
		s.r.Course.Announce(changed)
		return again, nil
	case !store.Refused(err):
		return nil, err
	case len(set) == 1:
		one := set[0]
		one.Problem = store.Keepable("what it says cannot be kept: " + err.Error())
		one.claims, one.inbound = nil, nil
		s.r.Log.Warn("what a receipt says cannot be kept", "gateway", s.gateway, "receipt", one.ID, "error", err)
		_, _, err := s.write(ctx, []taken{one})
		return nil, err
	}
	first, err := s.settle(ctx, set[:len(set)/2])
	if err != nil {
		return nil, err
	}
	second, err := s.settle(ctx, set[len(set)/2:])
	return append(first, second...), err
}

func (s *settler) write(ctx context.Context, set []taken) (changed []store.Message, again []taken, err error) {
	now := s.r.Course.Now()
	var claims []store.Stray
	for _, one := range set {
		claims = append(claims, one.claims...)
	}
	matched, err := s.r.Course.Store.Match(ctx, claims, now.Add(-recent))
	if err != nil {
		return nil, nil, err
	}
	due := set[:0:0]
	for _, one := range set {
		if !one.at.IsZero() && time.Since(one.at) < hasty && !known(one, matched) {
			again = append(again, one)
			continue
		}
		due = append(due, one)
	}
	if len(due) == 0 {
		return nil, again, nil
	}
	err = s.r.Course.Store.Transact(ctx, func(tx *store.Store) error {
		ids := make([]uuid.UUID, len(due))
		for i, one := range due {
			ids[i] = one.ID
		}
		mine, err := tx.TakeReceipts(ctx, ids)
		if err != nil {
			return err
		}
		var evidence []store.Evidence
		var strays []store.Stray
		var inbound []store.Inbound
		var problems []store.Receipt
		for _, one := range due {
			if !mine[one.ID] {
				continue
			}
			for _, c := range one.claims {
				if m, ok := matched[c.ID]; ok {
					evidence = append(evidence, evidenceOf(c, m, now))
				} else {
					strays = append(strays, c)
				}
			}
			inbound = append(inbound, one.inbound...)
			if one.Problem != "" {
				problems = append(problems, one.Receipt)
			}
		}
		if err := tx.AddInbound(ctx, inbound); err != nil {
			return err
		}
		if err := tx.AddStrays(ctx, strays); err != nil {
			return err
		}
		if err := tx.NoteProblems(ctx, problems); err != nil {
			return err
		}
		changed, err = s.r.Course.Record(ctx, tx, evidence, nil)
		return err
	})
	return changed, again, err
}

// known reports whether all that a callback speaks of is known.
func known(one taken, matched map[uuid.UUID]store.Matched) bool {
	for _, c := range one.claims {
		if _, ok := matched[c.ID]; !ok {
			return false
		}
	}
	return true
}

// read makes claims, or inbound messages, of one callback; what is wrong with
// it is noted in it.
func (s *settler) read(one *taken) {
	if one.read {
		return
	}
	one.read = true
	g := s.r.Course.Roster.ByID(one.GatewayID)
	if g == nil {
		one.Problem = "its gateway is gone"
		return
	}
	unread := func(why string) {
		one.Problem = store.Keepable("cannot be read: " + g.Mask(why))
		s.r.Log.Warn("receipt cannot be read", "gateway", g.Name, "receipt", one.ID, "why", g.Mask(why))
	}
	in := dialect.Incoming{Method: one.Method, Query: one.Unmasked, Header: one.Header, Body: one.Body}
	if g.Dialect.Inbound != nil && g.Dialect.Pushed(in) == g.Dialect.Inbound {
		arrivals, err := g.Dialect.ReadInbound(in)
		if err != nil {
			unread(err.Error())
			return
		}
		one.inbound = make([]store.Inbound, len(arrivals))
		for i, a := range arrivals {
			one.inbound[i] = store.Inbound{ID: store.NewID(), GatewayID: g.ID, ReceiptID: one.ID, GatewayRef: a.ID,
				FromNumber: a.From, ToNumber: a.To, Text: a.Text, ReceivedAt: one.ReceivedAt}
			if !a.At.IsZero() {
				one.inbound[i].At = &a.At
			}
		}
		return
	}
	reading := g.Dialect.ReadReceipt(in)
	if reading.Meaning != dialect.Read {
		unread(reading.Note)
		return
	}
	one.claims = make([]store.Stray, len(reading.Items))
	soon := s.r.Course.Now().Add(250 * time.Millisecond)
	for i, item := range reading.Items {
		one.claims[i] = store.Stray{ID: store.NewID(), GatewayID: g.ID, GatewayRef: item.GatewayRef, Reference: item.Reference,
			At: one.ReceivedAt, Claim: item.State, Cause: item.Cause, Part: item.Part, Parts: item.Parts,
			Code: item.Code, Note: item.Note, ReceiptID: one.ID, LookAt: &soon, ToNumber: item.To, Billed: course.Billed(item, g.Currency)}
		if !item.At.IsZero() {
			one.claims[i].GatewayAt = &item.At
		}
	}
}

// evidenceOf is what a claim says about the submission that it speaks of.
func evidenceOf(c store.Stray, m store.Matched, now time.Time) store.Evidence {
	note := c.Note
	if wait := now.Sub(c.At); c.Looks > 0 && note == "" {
		note = "came " + wait.Round(time.Millisecond).String() + " before its message was known"
	}
	return store.Evidence{ID: store.NewID(), MessageID: m.MessageID, At: c.At, Source: delivery.Receipt,
		Claim: c.Claim, Cause: c.Cause, Attempt: m.Attempt, Part: c.Part, Parts: c.Parts, GatewayID: &c.GatewayID,
		GatewayRef: c.GatewayRef, Code: c.Code, Note: note, GatewayAt: c.GatewayAt, ReceiptID: &c.ReceiptID, Billed: c.Billed}
}
