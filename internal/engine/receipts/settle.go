package receipts

import (
	"context"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/gather"
	"calmpigeon.example/internal/engine/guard"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/watch"
	"calmpigeon.example/internal/store"
)

// hastyPause is between two looks; the longer the less is found.
var hastyPause = pace.Backoff{First: 20 * time.Millisecond, Most: 200 * time.Millisecond}

const (
	settleMost = 500
	// holdMost is how much memory the callbacks of a gateway may take that wait
	// for their message. What is more is read from the database later.
	holdMost = 16 << 20
	// heavy is how large a callback is that is stored first and read later: it
	// may take long, and its gateway waits for an answer.
	heavy = 64 << 10
	// hasty is how long a callback whose message is not known is looked at again
	// before it becomes a stray: the reply that tells the message's name is
	// often being recorded just now. After Leftover others may look at it.
	hasty = Leftover - 500*time.Millisecond
	// recent is how far back a gateway's id is looked for at first.
	recent = 35 * 24 * time.Hour
)

// settler settles the callbacks of one gateway: what is heavy or bad in them
// holds up no other.
//
// A callback is kept and what it says is recorded in one transaction, before the
// gateway is answered. Where its message is not known yet, or where it would
// take long, it is kept as one that is still to be read.
type settler struct {
	r       *Receipts
	gateway uuid.UUID
	fresh   *gather.Gather[taken, struct{}] // receipts, in any order
	replies *gather.Gather[taken, struct{}] // what people write, one set after the other: they may change their mind
	later   chan taken
	held    atomic.Int64 // bytes that wait in later
	left    watch.Kick   // there is something to be read from the database
	started bool
}

// taken is a callback, with what it says once that was read.
type taken struct {
	store.Receipt
	until   time.Time // its message is waited for
	stored  bool
	read    bool
	hidden  bool // codes in it were hidden, once it was known of whom it speaks
	claims  []store.Stray
	inbound []store.Inbound
}

func newSettler(r *Receipts, gateway uuid.UUID) *settler {
	s := &settler{r: r, gateway: gateway, later: make(chan taken, 4*settleMost), left: watch.NewKick()}
	size := func(one taken) (int, int) { return bulk(one.Receipt) }
	settle := func(ctx context.Context, set []taken) ([]struct{}, error) {
		return make([]struct{}, len(set)), s.settle(ctx, set)
	}
	s.replies = gather.New(limits, size, settle)
	many := limits
	many.Overlap = settleMost / 5
	s.fresh = gather.New(many, size, settle)
	return s
}

// take keeps a callback, which is of what a person wrote if reply is set. What the database will not have
// of what it says is no reason not to keep it.
func (s *settler) take(ctx context.Context, record store.Receipt, reply bool) error {
	one := taken{Receipt: record, until: time.Now().Add(hasty)}
	into := s.fresh
	if reply {
		into = s.replies
	}
	_, err := into.Do(ctx, one)
	if err == nil || !gather.Hopeless(err) {
		return err
	}
	_, err = s.r.forged.Do(ctx, s.refused(one, err).Receipt)
	return err
}

// refused is a callback of which what it says cannot be kept.
func (s *settler) refused(one taken, why error) taken {
	s.r.Log.Warn("what a receipt says cannot be kept", "gateway", s.gateway, "receipt", one.ID, "error", why)
	said, _, _ := strings.Cut(why.Error(), "\n") // behind it may be where something panicked
	one.Problem = store.Keepable("what it says cannot be kept: " + said)
	one.read, one.claims, one.inbound = true, nil, nil
	return one
}

// run settles what could not be settled at once, until ctx ends.
func (s *settler) run(ctx context.Context) {
	var waiting []taken
	var soon <-chan time.Time // nil: nothing waits
	vain := 0                 // looks at which nothing was found
	said := time.Time{}
	failed := func(err error) {
		if err != nil && ctx.Err() == nil && time.Since(said) > 10*time.Second {
			said = time.Now()
			s.r.Log.Error("settling receipts", "gateway", s.gateway, "error", err)
		}
	}
	for ctx.Err() == nil {
		select {
		case <-ctx.Done():
			return
		case <-soon:
			set := waiting
			waiting, soon = nil, nil
			failed(s.halve(ctx, set)) // what fails is in the database
			if vain++; len(s.later) < len(set) {
				vain = 0
			}
		case one := <-s.later:
			s.held.Add(-int64(size(one.Receipt)))
			waiting = append(waiting, one)
			if soon == nil {
				soon = time.After(hastyPause.Wait(vain+1, 0))
			}
		case <-s.left:
			left, err := s.r.Store.UnreadReceipts(ctx, s.gateway, s.r.Now().Add(-Leftover), settleMost)
			failed(err)
			set := make([]taken, len(left))
			for i, record := range left {
				set[i] = taken{Receipt: record, stored: true}
			}
			if err = s.halve(ctx, set); err == nil && len(left) == settleMost {
				s.left.Now()
			}
			failed(err)
		}
	}
}

// halve settles a set that is stored. When the database refuses it, it is halved
// until the culprit stands alone, which is marked and kept, and the rest goes on.
func (s *settler) halve(ctx context.Context, set []taken) error {
	if len(set) == 0 {
		return nil
	}
	err := guard.Try(func() error { return s.settle(ctx, set) })
	switch {
	case err == nil || !gather.Hopeless(err):
		return err
	case len(set) == 1:
		return s.settle(ctx, []taken{s.refused(set[0], err)})
	}
	if err := s.halve(ctx, set[:len(set)/2]); err != nil {
		return err
	}
	return s.halve(ctx, set[len(set)/2:])
}

// settle makes evidence, strays and inbound messages of callbacks, and keeps
// those that are not kept yet, all in one transaction.
func (s *settler) settle(ctx context.Context, set []taken) error {
	now := s.r.Now()
	var claims []store.Stray
	for i := range set {
		if one := &set[i]; one.stored || size(one.Receipt) < heavy {
			s.read(one)
		}
		claims = append(claims, set[i].claims...)
	}
	matched, err := s.r.Store.Match(ctx, claims, now.Add(-recent))
	if err != nil {
		return err
	}
	for i := range set {
		s.hide(&set[i], matched)
	}
	var due, wait []taken
	var keep, read []store.Receipt
	for _, one := range set {
		one.Unread = !one.read || time.Now().Before(one.until) && !known(one, matched)
		if one.Unread {
			wait = append(wait, one)
		} else {
			due = append(due, one)
		}
		switch {
		case one.stored:
		case one.Unread || one.Problem != "":
			keep = append(keep, one.Receipt)
		default:
			one.Header = dialect.Telling(one.Header)
			read = append(read, one.Receipt)
		}
	}
	packs, err := store.PackReceipts(read)
	if err != nil {
		return err
	}
	for i := range due {
		due[i].call(packs)
	}
	var changed []store.Message
	if len(due) > 0 || len(keep) > 0 {
		if changed, err = s.write(ctx, due, keep, packs, matched, now); err != nil {
			return err
		}
	}
	s.r.Course.Announce(changed)
	s.heard(ctx, due, matched)
	s.r.Strays.Bound(ctx, s.gateway, countUnmatched(due, matched))
	for _, one := range wait {
		one.stored = true
		s.put(one)
	}
	return nil
}

// countUnmatched counts the claims that match no message.
func countUnmatched(set []taken, matched map[uuid.UUID]store.Matched) (n int) {
	for _, one := range set {
		for _, c := range one.claims {
			if _, ok := matched[c.ID]; !ok {
				n++
			}
		}
	}
	return n
}

// heard notes what receipts tell of their gateway: that it reports under the ids that it gave, and how
// its clock goes.
func (s *settler) heard(ctx context.Context, set []taken, matched map[uuid.UUID]store.Matched) {
	g := s.r.Roster.ByID(s.gateway)
	if g == nil {
		return
	}
	named, heard := false, time.Time{}
	for _, one := range set {
		for _, c := range one.claims {
			m, ok := matched[c.ID]
			if ok && c.At.After(heard) {
				heard = c.At
			}
			named = named || ok && m.Named && c.GatewayRef != ""
			if ok && c.GatewayAt != nil {
				s.r.Strays.Clocks.Note(g.ID, c.At, *c.GatewayAt, m.Began)
			}
		}
	}
	if !heard.IsZero() {
		s.r.Strays.Clocks.Heard(g.ID, heard)
	}
	if named {
		if err := s.r.Roster.NoteNamed(ctx, g); err != nil {
			s.r.Log.Error("noting that receipts bear the ids of replies", "gateway", g.Name, "error", err)
		}
	}
}

// hide hides the codes of the passcodes that a callback speaks of in what is kept of
// it.
func (s *settler) hide(one *taken, matched map[uuid.UUID]store.Matched) {
	marks := ""
	for _, c := range one.claims {
		marks += matched[c.ID].Marks
	}
	if marks == "" || one.hidden {
		return
	}
	hiding := s.r.Roster.Hiding(marks)
	one.hidden = true
	one.Query, one.Body = hiding(one.Query), []byte(hiding(string(one.Body)))
	header := make(map[string]string, len(one.Header))
	for name, value := range one.Header {
		header[name] = hiding(value)
	}
	one.Header = header
	one.claims = slices.Clone(one.claims)
	for i := range one.claims {
		one.claims[i].Note = hiding(one.claims[i].Note)
	}
}

// put lets a stored callback wait. If there are too many it is read from the
// database later.
func (s *settler) put(one taken) {
	n := int64(size(one.Receipt))
	if s.held.Add(n) <= holdMost {
		select {
		case s.later <- one:
			return
		default:
		}
	}
	s.held.Add(-n)
}

func (s *settler) write(
	ctx context.Context,
	due []taken,
	keep []store.Receipt,
	packs store.Packs,
	matched map[uuid.UUID]store.Matched,
	now time.Time,
) (changed []store.Message, err error) {
	err = s.r.Store.Transact(ctx, func(tx *store.Store) error {
		var waited []uuid.UUID
		for _, one := range due {
			if one.stored {
				waited = append(waited, one.ID)
			}
		}
		mine, err := tx.TakeReceipts(ctx, waited)
		if err != nil {
			return err
		}
		var evidence []store.Evidence
		var strays []store.Stray
		var inbound []store.Inbound
		var problems, hidden []store.Receipt
		for _, one := range due {
			if one.stored && !mine[one.ID] {
				continue
			}
			for _, c := range one.claims {
				if m, ok := matched[c.ID]; ok {
					evidence = append(evidence, evidenceOf(c, m, now))
				} else {
					strays = append(strays, s.r.Strays.Fresh(c))
				}
			}
			inbound = append(inbound, one.inbound...)
			if one.stored && one.Problem != "" {
				problems = append(problems, one.Receipt)
			}
			if one.stored && one.hidden {
				hidden = append(hidden, one.Receipt)
			}
		}
		if err := tx.FindAnswered(ctx, inbound, now); err != nil {
			return err
		}
		fresh, err := tx.AddInbound(ctx, inbound)
		if err != nil {
			return err
		}
		if err := s.tellReplies(ctx, tx, fresh, now); err != nil {
			return err
		}
		answers, err := s.heed(ctx, tx, fresh, now)
		if err != nil {
			return err
		}
		if err := tx.AddStrays(ctx, strays); err != nil {
			return err
		}
		if err := tx.NoteProblems(ctx, problems); err != nil {
			return err
		}
		if err := tx.RewriteReceipts(ctx, hidden); err != nil {
			return err
		}
		if changed, err = s.r.Course.Record(ctx, tx, evidence, nil); err != nil {
			return err
		}
		changed = append(changed, answers...)
		if err := tx.StoreExchanges(ctx, packs); err != nil {
			return err
		}
		return tx.StoreReceipts(ctx, keep)
	})
	return changed, err
}

// call lets what a callback says cite it as it is called in its pack.
func (t *taken) call(packs store.Packs) {
	name := packs.Called(t.ID)
	t.claims, t.inbound = slices.Clone(t.claims), slices.Clone(t.inbound)
	for i := range t.claims {
		t.claims[i].ReceiptID = name
	}
	for i := range t.inbound {
		t.inbound[i].ReceiptID = name
	}
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
	g := s.r.Roster.ByID(one.GatewayID)
	if g == nil {
		one.Problem = "its gateway is gone"
		return
	}
	unread := func(why string) {
		one.Problem = store.Keepable("cannot be read: " + g.Mask(why))
		s.r.Log.Warn("receipt cannot be read", "gateway", g.Name, "receipt", one.ID, "why", g.Mask(why))
	}
	in := dialect.Incoming{Method: one.Method}
	in.Query, in.Header, in.Body = one.AsItCame()
	if g.Dialect.Inbound != nil && g.Dialect.Pushed(in) == g.Dialect.Inbound {
		arrivals, err := g.Dialect.ReadInbound(in)
		if err != nil {
			unread(err.Error())
			return
		}
		one.inbound = make([]store.Inbound, len(arrivals))
		for i, a := range arrivals {
			one.inbound[i] = store.Inbound{ID: store.IDAt(one.ReceivedAt), GatewayID: g.ID, ReceiptID: one.ID, GatewayRef: a.ID,
				FromNumber: a.From, ToNumber: a.To, Text: a.Text, ReceivedAt: one.ReceivedAt, ToSender: numberOr(a.To)}
			if from, err := roster.ReadNumber(a.From, ""); err == nil {
				one.inbound[i].FromE164 = from.Number.String()
			}
			if !a.At.IsZero() {
				one.inbound[i].At = &a.At
			}
		}
		return
	}
	reading := g.Dialect.ReadReceipt(in).Masked(g.Mask)
	if reading.Meaning != dialect.Read {
		unread(reading.Note)
		return
	}
	one.claims = make([]store.Stray, len(reading.Items))
	soon := s.r.Now().Add(250 * time.Millisecond)
	for i, item := range reading.Items {
		one.claims[i] = store.Stray{
			ID:         store.IDAt(s.r.Now()),
			GatewayID:  g.ID,
			GatewayRef: item.GatewayRef,
			Reference:  item.Reference,
			At:         one.ReceivedAt,
			Claim:      item.State,
			Cause:      item.Cause,
			Part:       item.Part,
			Parts:      item.Parts,
			Code:       item.Code,
			Note:       item.Note,
			ReceiptID:  one.ID,
			LookAt:     &soon,
			ToNumber:   item.To,
			Billed:     course.Billed(item, g.Currency),
		}
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
	return course.FromReceipt(c, m.MessageID, m.Attempt, now, note)
}
