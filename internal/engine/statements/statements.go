// Package statements takes gateways' own lists and bills in, matches their lines with messages, and lets what
// they say become evidence.
//
// A file is read as it streams; its lines are matched by name while it is read. What names no message is matched
// by number, sender and time once all of it is there, so that the result is the same for every order of lines.
// Where a state differs from ours the line becomes evidence; where it does not, the line itself is the record.
package statements

import (
	"context"
	"errors"
	"sync"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/belong"
	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/guard"
	"calmpigeon.example/internal/engine/kit"
	"calmpigeon.example/internal/engine/watch"
	"calmpigeon.example/internal/store"
)

const (
	// setMost is how many lines are matched at once, and applyMost of how many evidence is made.
	setMost, applyMost = 5000, 500
	// readWithin is in what time whoever reads a file has to have gone on.
	readWithin = 2 * time.Minute
	// window is how far apart the time that a line gives and the submission may be, where nothing names the message.
	window = 10 * time.Minute
)

// Statements takes statements in.
type Statements struct {
	kit.Kit
	Course *course.Course
	// Skew is by how much a gateway's clock is ahead.
	Skew func(gateway uuid.UUID) time.Duration

	work watch.Kick

	mu   sync.Mutex
	said time.Time
}

// New makes one that matches once it runs.
func New(k kit.Kit, c *course.Course, skew func(gateway uuid.UUID) time.Duration) *Statements {
	return &Statements{Kit: k, Course: c, Skew: skew, work: watch.NewKick()}
}

// Wake says that there is work on statements.
func (s *Statements) Wake(work bool) {
	if work {
		s.work.Now()
	}
}

// Run works on statements, whenever it is woken, until ctx ends.
func (s *Statements) Run(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-s.work:
		}
		if err := s.dropLost(ctx); err != nil {
			s.failed(ctx, err)
		}
		for more := true; more && ctx.Err() == nil; {
			var err error
			if err = guard.Try(func() (err error) { more, err = s.step(ctx); return err }); err != nil {
				s.failed(ctx, err)
				break
			}
		}
	}
}

func (s *Statements) failed(ctx context.Context, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if ctx.Err() == nil && time.Since(s.said) > 10*time.Second {
		s.said = time.Now()
		s.Log.Error("working on statements", "error", err)
	}
}

// dropLost forgets statements whose reading broke off.
func (s *Statements) dropLost(ctx context.Context) error {
	lost, err := s.Store.LostStatements(ctx, s.Now())
	for _, id := range lost {
		if err = s.Store.DropStatement(ctx, id); err != nil {
			break
		}
	}
	return err
}

// Tidy forgets statements that were taken in before a moment.
func (s *Statements) Tidy(ctx context.Context, before time.Time) error {
	old, err := s.Store.OldStatements(ctx, before)
	for _, id := range old {
		if err = s.Store.DropStatement(ctx, id); err != nil {
			break
		}
	}
	return err
}

// step does the next piece of work on a statement, in one transaction: whoever comes after a crash goes on there.
func (s *Statements) step(ctx context.Context) (more bool, err error) {
	var changed []store.Message
	var held store.Statement
	err = s.Store.Transact(ctx, func(tx *store.Store) error {
		more, changed = false, nil
		one, err := tx.HoldStatement(ctx, s.Now())
		if err != nil || one == nil {
			return err
		}
		more, held = true, *one
		switch one.State {
		case store.Matching:
			return s.match(ctx, tx, *one)
		case store.Done:
			changed, err = s.again(ctx, tx, *one)
			return err
		case store.Withdrawing:
			changed, err = s.takeBack(ctx, tx, *one)
		default:
			changed, err = s.apply(ctx, tx, *one)
		}
		return err
	})
	if err == nil {
		s.Course.Announce(changed)
	}
	if err != nil && store.Refused(err) && held.State == store.Done { // its lines stay as they are
		held.AgainAt = nil
		_, wrong := s.Store.ChangeStatement(ctx, held, store.Done, "again_at")
		err = errors.Join(err, wrong)
	} else if err != nil && store.Refused(err) && held.State != store.Withdrawing { // it would hold up all that come after it
		now, was := s.Now(), held.State
		held.State, held.WithdrawnAt, held.WithdrawnWhy, held.DoneN = store.Withdrawing, &now, "it could not be matched: "+err.Error(), 0
		_, wrong := s.Store.ChangeStatement(ctx, held, was, "state", "withdrawn_at", "withdrawn_why", "done_n")
		err = errors.Join(err, wrong)
	}
	return more, err
}

// match settles first which lines have the messages that several name; then it matches the next lines that name
// none, by number, sender and time. When none is left, what has no line is noted.
func (s *Statements) match(ctx context.Context, tx *store.Store, one store.Statement) error {
	if one.DoneN == 0 { // the first piece of work
		if err := tx.AtLarge(ctx); err != nil {
			return err
		}
		if err := tx.SettleDoubles(ctx, one.ID); err != nil {
			return err
		}
		one.DoneN = 1
		_, err := tx.ChangeStatement(ctx, one, store.Matching, "done_n")
		return err
	}
	open, err := tx.OpenLines(ctx, one.ID, setMost)
	if err != nil {
		return err
	}
	if len(open) == 0 {
		return s.matched(ctx, tx, one)
	}
	if last := open[len(open)-1].Number; len(open) == setMost && open[0].Number != last {
		for open[len(open)-1].Number == last { // the others of this number are to come
			open = open[:len(open)-1]
		}
	}
	var numbers []string
	first, end := *open[0].At, *open[0].At
	lines := make([]belong.Line, len(open))
	skew := s.Skew(one.GatewayID)
	for i, l := range open {
		lines[i] = belong.Line{Number: l.Number, Sender: l.Sender, Speaks: l.At.Add(-skew)}
		if len(numbers) == 0 || numbers[len(numbers)-1] != l.Number {
			numbers = append(numbers, l.Number)
		}
		if l.At.Before(first) {
			first = *l.At
		}
		if l.At.After(end) {
			end = *l.At
		}
	}
	const most = 10 * setMost
	sent, err := tx.SentTo(ctx, one.GatewayID, numbers, first.Add(-window-skew.Abs()), end.Add(window+skew.Abs()), most)
	if err != nil {
		return err
	}
	var verdicts []belong.Verdict
	claimants, kept, err := s.claimants(ctx, tx, one, sent)
	if err != nil {
		return err
	}
	if len(sent) > most { // too much to tell apart
		verdicts = make([]belong.Verdict, len(open))
		for i := range verdicts {
			verdicts[i] = belong.Verdict{Claimant: -1, Crowded: true}
		}
	} else {
		verdicts = belong.Nearest(lines, claimants, belong.Rule{Window: window})
	}
	for i, v := range verdicts {
		l := &open[i]
		switch {
		case v.Claimant >= 0:
			c := kept[v.Claimant]
			l.How, l.MessageID, l.Attempt = store.ByNumber, &c.MessageID, c.Attempt
		case v.Crowded:
			l.How = store.Tied
		default:
			l.How = store.NoMessage
		}
	}
	if err := compare(ctx, tx, open); err != nil {
		return err
	}
	return tx.MatchedLines(ctx, open)
}

// compare puts lines that have a message on the heap on which they fall.
func compare(ctx context.Context, tx *store.Store, lines []store.StatementLine) error {
	var messages []uuid.UUID
	for _, l := range lines {
		if l.MessageID != nil {
			messages = append(messages, *l.MessageID)
		}
	}
	ours, err := tx.Compare(ctx, messages)
	if err != nil {
		return err
	}
	for i := range lines {
		l := &lines[i]
		if l.MessageID == nil {
			l.Heap = store.OnlyTheirs
			continue
		}
		c, ok := ours[*l.MessageID]
		if !ok { // its month is gone
			l.Heap, l.How, l.MessageID, l.Attempt = store.OnlyTheirs, store.NoMessage, nil, 0
			continue
		}
		l.OursState, l.OursSegments, l.OursMicros, l.OursCurrency, l.Country = c.State, c.Segments, c.Micros, c.Currency, c.Country
		l.Heap = heapOf(*l, c)
	}
	return nil
}

// heapOf is where a line falls, compared with its message. A line that claims no end says nothing of ours.
func heapOf(l store.StatementLine, c store.Compared) store.Heap {
	switch {
	case delivery.EndingsOf(l.State) != 0 && l.State != c.State:
		return store.StateDiffers
	case l.Segments > 0 && l.Segments != c.Segments,
		l.ChargeMicros != nil && c.Micros != nil && (*l.ChargeMicros != *c.Micros || l.ChargeCurrency != "" && l.ChargeCurrency != c.Currency):
		return store.MoneyDiffers
	}
	return store.Agrees
}

// matched ends matching.
func (s *Statements) matched(ctx context.Context, tx *store.Store, one store.Statement) error {
	if err := tx.AtLarge(ctx); err != nil {
		return err
	}
	if one.FromAt != nil {
		skew := s.Skew(one.GatewayID)
		if err := tx.FindOurs(ctx, one.ID, one.GatewayID, one.FromAt.Add(-skew), one.UntilAt.Add(-skew)); err != nil {
			return err
		}
	}
	heaps, err := tx.CountHeaps(ctx, one.ID)
	if err != nil {
		return err
	}
	one.State, one.Totals, one.DoneN = store.Applying, &heaps, 0
	if _, err = tx.ChangeStatement(ctx, one, store.Matching, "state", "totals", "done_n"); err != nil {
		return err
	}
	return tx.SumBilled(ctx, one)
}

// apply makes evidence of the next lines whose state differs from ours.
func (s *Statements) apply(ctx context.Context, tx *store.Store, one store.Statement) ([]store.Message, error) {
	lines, err := tx.LinesToApply(ctx, one.ID, one.DoneN, applyMost)
	if err != nil {
		return nil, err
	}
	now := s.Now()
	if len(lines) == 0 {
		one.State, one.FinishedAt = store.Done, &now
		if one.Totals != nil && one.Totals.Lines[store.OnlyTheirs] > 0 {
			one.AgainAt = againAt(0, now)
		}
		_, err := tx.ChangeStatement(ctx, one, store.Applying, "state", "finished_at", "again_at")
		return nil, err
	}
	evidence := make([]store.Evidence, len(lines))
	for i, l := range lines {
		evidence[i] = EvidenceOf(l, one, now)
		one.DoneN = int64(l.N)
	}
	if _, err := tx.ChangeStatement(ctx, one, store.Applying, "done_n"); err != nil {
		return nil, err
	}
	return s.Course.Record(ctx, tx, evidence, nil)
}
