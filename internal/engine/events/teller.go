package events

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/webhook"
	"calmpigeon.example/internal/engine/courier"
	"calmpigeon.example/internal/engine/guard"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/watch"
	"calmpigeon.example/internal/store"
)

const (
	// readMost is how many events of a receiver are in hand at most, read a set at a time.
	readMost, setMost = 1000, 500
	// flushAt is how many outcomes are written together at most, and flushWithin how long they may wait for others.
	flushAt     = 500
	flushWithin = 10 * time.Millisecond
	// restAfter is after how many failures in a row a receiver rests. Then one event at a time is tried.
	restAfter = 10
	// retryMost bounds for how long a receiver is heeded that says when to come again.
	retryMost = time.Hour
	// answerKept is how much is kept of an answer that is none that takes an event, and answerRead is read, so that
	// the connection is of use again.
	answerKept, answerRead = 1000, 64 << 10
	// grace is how long what is on its way is waited for.
	grace = 3 * time.Second
	// noteEvery is how often it is written how a receiver fares, unless it changes for the worse.
	noteEvery = 2 * time.Second
)

// teller tells one receiver. All of its state belongs to run.
type teller struct {
	e    *Events
	id   uuid.UUID
	stop context.CancelFunc
	kick watch.Kick

	inHand  map[int64]bool      // events that were read and of which nothing is written yet
	lines   map[uuid.UUID]*line // by subject
	ready   []*item             // may be told now
	running int
	reading bool // a set is being read
	more    bool // there may be more to be read

	results  chan *item
	sets     chan set
	written  chan wrote
	outcomes []store.Telling
	writing  bool
	flushAt  time.Time
	hold     time.Time // until when nothing is written: it could not be

	version  int // of what is set of it
	failures int // in a row
	failure  string
	rest     time.Time // until when nobody is told
	told     time.Time
	failed   time.Time
	noted    time.Time
	unnoted  bool
}

// line is what is told of one subject: one is on its way or ready, others wait for the one before them.
type line struct {
	last int64 // of those in hand
	wait []*item
}

// item is an event that is told.
type item struct {
	store.Telling
	kind   webhook.Type
	to     string
	body   []byte
	header func(now time.Time) http.Header

	after time.Duration // when it asks to be told again
	gone  bool          // it wants no more
}

type set struct {
	due   []store.Telling
	items []*item
	err   error
}

type wrote struct {
	what []store.Telling
	err  error
}

func newTeller(e *Events, id uuid.UUID, stop context.CancelFunc) *teller {
	return &teller{e: e, id: id, stop: stop, kick: watch.NewKick(), inHand: map[int64]bool{}, lines: map[uuid.UUID]*line{}, more: true,
		results: make(chan *item, 256), sets: make(chan set, 1), written: make(chan wrote, 1)}
}

// run tells until ctx ends; what is on its way then is recorded.
func (t *teller) run(ctx context.Context) {
	if h, err := t.e.Store.ReceiverHealths(ctx); err == nil { // another instance may have told it before
		known := h[t.id]
		if t.failures, t.failure = known.Failures, known.Failure; known.RestUntil != nil {
			t.rest = *known.RestUntil
		}
	}
	pause := time.NewTimer(0)
	defer pause.Stop()
	for ctx.Err() == nil {
		r := t.e.Roster.Receiver(t.id, "")
		if r == nil {
			break
		}
		if t.version != 0 && t.version != r.Version { // somebody has put it right, perhaps
			t.failures, t.rest, t.unnoted = 0, time.Time{}, true
		}
		t.version = r.Version
		wait := t.step(ctx, r)
		pause.Reset(wait)
		select {
		case <-ctx.Done():
		case <-t.kick:
			t.more = true
		case i := <-t.results:
			t.take(r, i)
			for more := true; more; {
				select {
				case i := <-t.results:
					t.take(r, i)
				default:
					more = false
				}
			}
		case s := <-t.sets:
			t.put(s)
		case w := <-t.written:
			t.wrote(ctx, w)
		case <-pause.C:
		}
	}
	t.end(ctx)
}

// idle is how long to wait where nothing is known to come.
const idle = time.Minute

// step reads, tells and writes as much as may be done now, and says how long to wait if nothing comes.
func (t *teller) step(ctx context.Context, r *roster.Receiver) (wait time.Duration) {
	now := time.Now()
	wait = idle
	resting := t.e.Now().Before(t.rest)
	atOnce := r.AtOnce
	if t.failures >= restAfter {
		atOnce = 1
	}
	switch {
	case !t.e.holds(): // another instance may tell by now: what is on its way is ours, and no more
		t.drop()
		t.more = true
		wait = t.e.Lease / 4
	case resting:
		t.drop()
		t.more = true
		wait = t.rest.Sub(t.e.Now())
	default:
		if t.more && !t.reading && len(t.inHand) <= readMost-setMost && (len(t.ready) < atOnce*2 || len(t.inHand) < setMost/2) {
			t.read(ctx, r, atOnce)
		}
		for len(t.ready) > 0 && t.running < atOnce {
			i := t.ready[0]
			t.ready = t.ready[1:]
			t.running++
			go func() {
				if err := guard.Try(func() error { t.tell(ctx, r, i); return nil }); err != nil {
					t.e.Log.Error("telling of an event", "receiver", t.id, "event", i.EventID, "error", err)
					i.Outcome, i.Error = store.Waits, "telling of it failed on our side"
				}
				t.results <- i
			}()
		}
	}
	if len(t.outcomes) > 0 && !t.writing {
		idling := t.running == 0 && len(t.ready) == 0
		switch {
		case now.Before(t.hold):
			wait = min(wait, t.hold.Sub(now))
		case len(t.outcomes) >= flushAt || idling || !now.Before(t.flushAt):
			t.write(ctx)
		default:
			wait = min(wait, t.flushAt.Sub(now))
		}
	}
	t.note(ctx)
	if t.unnoted {
		wait = min(wait, max(noteEvery-time.Since(t.noted), time.Millisecond))
	}
	return max(wait, time.Millisecond)
}

// read reads what the receiver is to be told.
func (t *teller) read(ctx context.Context, r *roster.Receiver, atOnce int) {
	most := setMost
	if t.failures >= restAfter {
		most = atOnce
	}
	t.reading, t.more = true, false
	inHand := make([]int64, 0, len(t.inHand))
	for seq := range t.inHand {
		inHand = append(inHand, seq)
	}
	go func() {
		var s set
		s.err = guard.Try(func() (err error) {
			if s.due, err = t.e.Store.ToTell(ctx, r.ID, t.e.Now(), inHand, most); err == nil {
				s.items, err = t.e.items(ctx, r, s.due)
			}
			return err
		})
		t.sets <- s
	}()
}

// put takes a set in hand.
func (t *teller) put(s set) {
	t.reading = false
	if s.err != nil {
		t.e.Log.Error("reading what is to be told", "receiver", t.id, "error", s.err)
		return // it is looked again when somebody looks
	}
	read := map[int64]*item{}
	for _, i := range s.items {
		read[i.Seq] = i
	}
	before := len(t.inHand)
	for _, due := range s.due {
		l := t.lines[due.Subject]
		switch i := read[due.Seq]; {
		case t.inHand[due.Seq]:
			continue
		case i == nil:
			due.Outcome, due.Error, due.At = store.Parked, "it is kept no more, or cannot be read", ptr(t.e.Now())
			t.outcome(due)
		case l != nil && due.Before == l.last:
			l.last, l.wait = due.Seq, append(l.wait, i)
		case l == nil && due.Before == 0:
			t.lines[due.Subject] = &line{last: due.Seq}
			t.ready = append(t.ready, i)
		case due.BeforeDue.After(*due.DueAt): // so that it is read after the one before, however few are read at a time
			due.DueAt = &due.BeforeDue
			t.outcome(due)
		default: // it is read again when what became of the one before is written
			continue
		}
		t.inHand[due.Seq] = true
	}
	t.more = len(t.inHand) > before && (len(s.due) >= setMost || t.failures >= restAfter)
}

// drop lets go of all that is not on its way: it stays due.
func (t *teller) drop() {
	for _, i := range t.ready {
		delete(t.inHand, i.Seq)
		t.dropLine(i.Subject)
		delete(t.lines, i.Subject)
	}
	t.ready = nil
	for subject := range t.lines {
		t.dropLine(subject)
	}
}

// dropLine lets go of what waits for the one before. Nothing is appended then until that one is told.
func (t *teller) dropLine(subject uuid.UUID) {
	l := t.lines[subject]
	for _, i := range l.wait {
		delete(t.inHand, i.Seq)
	}
	if len(l.wait) > 0 {
		l.last, l.wait = -1, nil
	}
}

// take notes what came of telling, and lets what waited for it come next.
func (t *teller) take(r *roster.Receiver, i *item) {
	t.running--
	now := t.e.Now()
	l := t.lines[i.Subject]
	t.unnoted = true
	if i.Outcome == store.IsTold {
		t.told, t.failures, t.failure, t.rest = now, 0, "", time.Time{}
		t.outcome(i.Telling)
		if len(l.wait) == 0 {
			delete(t.lines, i.Subject)
			return
		}
		t.ready, l.wait = append(t.ready, l.wait[0]), l.wait[1:]
		return
	}
	t.failed, t.failure = now, i.Error
	if t.failures++; t.failures >= restAfter {
		t.rest = now.Add(min(webhook.Pause(t.failures-restAfter+1, t.e.Luck()), restMost))
		t.noted = time.Time{}
	}
	pause := max(webhook.Pause(i.Tries, t.e.Luck()), min(i.after, retryMost))
	if i.after > 0 {
		t.rest = later(t.rest, now.Add(min(i.after, retryMost)))
	}
	delete(t.lines, i.Subject)
	if i.gone {
		go t.e.retire(r, i.Error)
	}
	if now.Sub(i.Since) >= webhook.TryFor || i.gone {
		i.Outcome = store.Parked
		t.outcome(i.Telling)
		for _, after := range l.wait { // they are told, if they can be
			delete(t.inHand, after.Seq)
		}
		t.more = true
		return
	}
	i.DueAt = ptr(now.Add(pause))
	t.outcome(i.Telling)
	for _, after := range l.wait {
		after.DueAt = i.DueAt
		t.outcome(after.Telling)
	}
}

// restMost is how long a receiver rests at most before it is tried again.
const restMost = 5 * time.Minute

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

func ptr[T any](v T) *T { return &v }

func (t *teller) outcome(o store.Telling) {
	if len(t.outcomes) == 0 {
		t.flushAt = time.Now().Add(flushWithin)
	}
	t.outcomes = append(t.outcomes, o)
}

// write writes what came of telling.
func (t *teller) write(ctx context.Context) {
	what := t.outcomes
	t.outcomes, t.writing = nil, true
	go func() {
		t.written <- wrote{what, guard.Try(func() error { return t.e.Store.Tell(context.WithoutCancel(ctx), what) })}
	}()
}

func (t *teller) wrote(ctx context.Context, w wrote) {
	t.writing = false
	if w.err != nil {
		t.e.Log.Error("recording what was told", "receiver", t.id, "error", w.err)
		// What was told stays in hand, so that it is not told again, and is written when it can be.
		t.outcomes = append(w.what, t.outcomes...)
		t.hold = time.Now().Add(time.Second)
		return
	}
	for _, o := range w.what {
		delete(t.inHand, o.Seq)
	}
}

// note writes how the receiver fares.
func (t *teller) note(ctx context.Context) {
	if !t.unnoted || time.Since(t.noted) < noteEvery {
		return
	}
	h := store.ReceiverHealth{ReceiverID: t.id, Failures: t.failures, Failure: store.Keepable(t.failure)}
	if !t.told.IsZero() {
		h.ToldAt = &t.told
	}
	if !t.failed.IsZero() {
		h.FailedAt = &t.failed
	}
	if !t.rest.IsZero() {
		h.RestUntil = &t.rest
	}
	t.noted, t.unnoted = time.Now(), false
	if err := t.e.Store.NoteReceiver(ctx, h); err != nil && ctx.Err() == nil {
		t.e.Log.Error("noting how a receiver fares", "receiver", t.id, "error", err)
	}
}

// end waits for what is on its way, and writes what came of it.
func (t *teller) end(ctx context.Context) {
	ctx = context.WithoutCancel(ctx)
	r := t.e.Roster.Receiver(t.id, "")
	for t.running > 0 {
		i := <-t.results
		if t.running--; r != nil && i.Outcome == store.IsTold {
			t.outcomes = append(t.outcomes, i.Telling)
		}
	}
	if t.reading {
		<-t.sets
	}
	if t.writing {
		t.wrote(ctx, <-t.written)
	}
	if len(t.outcomes) > 0 {
		if err := t.e.Store.Tell(ctx, t.outcomes); err != nil {
			t.e.Log.Warn(
				"what was told could not be recorded, and is told again",
				"receiver",
				t.id,
				"events",
				len(t.outcomes),
				"error",
				err,
			)
		}
	}
	t.unnoted = t.unnoted && r != nil
	t.noted = time.Time{}
	t.note(ctx)
}

// tell tells the receiver of one event.
func (t *teller) tell(ctx context.Context, r *roster.Receiver, i *item) {
	parent := ctx
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), r.Timeout())
	defer cancel()
	// What is on its way is waited for a little when the service stops.
	defer context.AfterFunc(parent, func() { time.AfterFunc(grace, cancel) })()
	now := t.e.Now()
	i.Tries++
	i.At, i.Outcome, i.Status, i.Error, i.Answer = &now, store.Waits, 0, "", ""
	began := time.Now()
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, i.to, bytes.NewReader(i.body))
	if err != nil {
		i.Error = err.Error()
		return
	}
	request.Header = i.header(now)
	response, err := t.e.client.Do(request)
	if i.Took = time.Since(began); err != nil {
		i.Error = courier.Plain(err, r.Timeout())
		return
	}
	defer response.Body.Close()
	i.Status = response.StatusCode
	if i.Status >= 200 && i.Status < 300 {
		i.Outcome = store.IsTold
		io.CopyN(io.Discard, response.Body, answerRead)
		i.Took = time.Since(began)
		return
	}
	answer, _ := io.ReadAll(io.LimitReader(response.Body, answerRead))
	i.Took = time.Since(began)
	i.Answer = strings.ToValidUTF8(string(answer[:min(len(answer), answerKept)]), "\uFFFD")
	i.Error = refusal(i.Status)
	i.gone = i.Status == http.StatusGone
	if i.Status == http.StatusTooManyRequests || i.Status == http.StatusServiceUnavailable {
		i.after = retryAfter(response.Header.Get("Retry-After"), now)
	}
}

// refusal says in words what an answer means that takes no event.
func refusal(status int) string {
	word := http.StatusText(status)
	switch {
	case status >= 300 && status < 400:
		return fmt.Sprintf("it answered %d %s: redirects are not followed; give the address to which it leads", status, word)
	case status == http.StatusGone:
		return "it answered 410 Gone: it wants no more"
	}
	return fmt.Sprintf("it answered %d %s", status, word)
}

// retryAfter is what a Retry-After header (RFC 9110 §10.2.3) says: seconds, or a date.
func retryAfter(said string, now time.Time) time.Duration {
	if seconds, err := strconv.Atoi(said); err == nil {
		return time.Duration(max(0, min(seconds, int(retryMost.Seconds())))) * time.Second
	}
	if at, err := http.ParseTime(said); err == nil {
		return max(0, at.Sub(now))
	}
	return 0
}

// retire pauses a receiver that wants no more.
func (e *Events) retire(r *roster.Receiver, why string) {
	ctx, cancel := context.WithTimeout(store.Acting(context.Background(), "the service", nil), 10*time.Second)
	defer cancel()
	if _, err := e.Roster.PauseReceiver(ctx, r.ID, "the service", why, e.Now()); err != nil {
		e.Log.Error("pausing a receiver that wants no more", "receiver", r.Name, "error", err)
	}
}
