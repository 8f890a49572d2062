// Package dispatch sends what is queued: one keeper per gateway claims, paces,
// submits and records.
package dispatch

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/engine/courier"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/gather"
	"calmpigeon.example/internal/engine/guard"
	"calmpigeon.example/internal/engine/kit"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

// Dispatch runs the keepers of this instance.
type Dispatch struct {
	kit.Kit
	Course    *course.Course
	Courier   *courier.Courier
	PublicURL string        // where gateways reach us
	Lease     time.Duration // how long a keeper that died holds up its gateway
	Rows      Rows          // of batches that may be drawn; nil: there are none
	// SweepEvery is how often it is looked for messages that nobody sends; 0: as usual.
	SweepEvery time.Duration

	holder  uuid.UUID
	flaws   []roster.Flaw // that were said
	results *gather.Gather[result, struct{}]

	stalls    stalls
	instances atomic.Pointer[[]uuid.UUID] // that are at work; nil: it is not known

	mu       sync.Mutex
	kept     map[uuid.UUID]*keeper // of ours, by gateway
	balances map[uuid.UUID]balance // that replies told, to be noted
}

type balance struct {
	dialect.Amount
	at time.Time
}

// result is what came of one request.
type result struct {
	evidence  []store.Evidence
	exchanges []store.Exchange
	steps     course.Steps
	moves     []move
	seen      []store.Message // those that it speaks of, as they went
	last      bool            // there is nothing simpler to be recorded in its place
}

// move is a message that is to go through another gateway of its route.
type move struct {
	message store.Message
	to      *roster.Gateway
	why     string
	next    bool // in the order of the route: at once, and not after the usual pause
}

// evidence tells of the move.
func (m move) evidence(now time.Time, attempt int) store.Evidence {
	e := course.Own(m.message, now, delivery.Queued, attempt, fmt.Sprintf("goes through %s instead: %s", m.to.Name, m.why))
	e.GatewayID = &m.to.ID
	return e
}

// mayMove reports whether what is known of a message lets it go through another
// gateway: what may have gone through one would go twice, which only a passcode
// may.
func mayMove(m store.Message) bool {
	return !m.Known().MayHaveGone || m.Kind == pace.OTP
}

// resultLimits bound what is recorded as one set.
var resultLimits = gather.Limits{Rows: 1000, Bytes: 8 << 20, Linger: 10 * time.Millisecond}

// bulk is how large a result is.
func bulk(r result) (rows, bytes int) {
	rows = len(r.evidence)
	for _, x := range r.exchanges {
		bytes += len(x.RequestBody) + len(x.ReplyBody)
	}
	return rows, bytes + 200*rows
}

// Run keeps every gateway that no other instance keeps, until ctx ends; then
// it waits for what is in flight and gives the gateways back.
func (d *Dispatch) Run(ctx context.Context) {
	d.holder = uuid.New()
	d.results = gather.New(resultLimits, bulk, d.record)
	d.kept = map[uuid.UUID]*keeper{}
	d.balances = map[uuid.UUID]balance{}
	d.sayFlaws()

	recording, stopRecording := context.WithCancel(context.Background())
	var recorder, keepers sync.WaitGroup
	recorder.Go(func() { d.results.Run(recording) })
	renewing, stopRenewing := context.WithCancel(context.Background())
	recorder.Go(func() { d.renew(renewing) })
	recorder.Go(func() { d.sweep(renewing) })
	recorder.Go(func() { d.stalls.run(renewing) })
	spreading, stopSpreading := context.WithCancel(ctx)
	defer stopSpreading()
	recorder.Go(func() { d.spread(spreading) })

	tick := time.NewTicker(2 * time.Second)
	defer tick.Stop()
	for ctx.Err() == nil {
		d.mu.Lock()
		for _, g := range d.Roster.All() {
			if d.kept[g.ID] == nil {
				k := newKeeper(d, g)
				d.kept[g.ID] = k
				keepers.Go(func() {
					err := guard.Try(func() error {
						k.run(ctx)
						return nil
					})
					if err != nil {
						d.Log.Error("keeping a gateway failed and begins again", "gateway", g.Name, "error", err)
					}
					d.mu.Lock()
					defer d.mu.Unlock()
					delete(d.kept, g.ID)
				})
			}
		}
		d.mu.Unlock()
		select {
		case <-ctx.Done():
		case <-d.Bells.Fresh:
		case <-tick.C:
			d.sayFlaws()
			d.noteBalances(ctx)
		}
	}
	keepers.Wait() // what is in flight keeps its lease
	stopRenewing()
	stopRecording()
	recorder.Wait()
}

// sayFlaws says which records cannot be used, once for each.
func (d *Dispatch) sayFlaws() {
	flaws := d.Roster.Flaws()
	for _, f := range flaws {
		if !slices.Contains(d.flaws, f) {
			d.Log.Error("a record cannot be used; everything else goes on", "what", f.What, "name", f.Name, "why", f.Why)
		}
	}
	d.flaws = flaws
}

// noteBalances writes down what replies told of balances. Every reply may tell,
// and the last is enough.
func (d *Dispatch) noteBalances(ctx context.Context) {
	d.mu.Lock()
	told := d.balances
	d.balances = map[uuid.UUID]balance{}
	d.mu.Unlock()
	for id, b := range told {
		if err := d.Store.NoteBalance(ctx, id, b.Micros, b.Currency, b.at); err != nil && ctx.Err() == nil {
			d.Log.Error("noting a balance", "error", err)
		}
	}
}

// record commits a set of results.
func (d *Dispatch) record(ctx context.Context, set []result) ([]struct{}, error) {
	var evidence []store.Evidence
	var exchanges []store.Exchange
	var moves []move
	var seen []store.Message
	steps := course.Steps{}
	for _, r := range set {
		seen = append(seen, r.seen...)
		evidence = append(evidence, r.evidence...)
		exchanges = append(exchanges, r.exchanges...)
		moves = append(moves, r.moves...)
		maps.Copy(steps, r.steps)
	}
	packs, err := store.PackExchanges(exchanges)
	if err != nil {
		return nil, err
	}
	evidence = packs.Cite(evidence)
	var changed []store.Message
	err = d.Store.Transact(ctx, func(s *store.Store) error {
		// All that the set speaks of is locked at once, in one order: two sets
		// that lock in two goes would wait for each other.
		var concerned []uuid.UUID
		if len(moves) > 0 {
			for _, e := range evidence {
				concerned = append(concerned, e.MessageID)
			}
		}
		stands, err := s.Stand(ctx, concerned)
		if err != nil {
			return err
		}
		evidence, steps := slices.Clone(evidence), maps.Clone(steps) // they are added to
		for _, m := range moves {
			if now, ok := stands[m.message.ID]; !ok || !mayMove(now) {
				continue
			}
			evidence = append(evidence, m.evidence(d.Now(), m.message.Attempts+1))
			step := course.Step{Gateway: m.to.ID}
			if m.next {
				step.Wait = new(time.Duration)
			}
			steps[m.message.ID] = step
		}
		if err := s.StoreExchanges(ctx, packs); err != nil {
			return err
		}
		changed, err = d.Course.Record(ctx, s, evidence, steps, seen...)
		return err
	})
	if err != nil {
		return nil, err
	}
	d.Course.Announce(changed)
	return make([]struct{}, len(set)), nil
}

// settle records a result, however long the database takes to come back: what
// a gateway answered is not to be had a second time. What the database will not
// have leaves its messages in doubt, which is what we then know of them.
func (d *Dispatch) settle(r result) {
	said := rate{every: 10 * time.Second}
	for {
		_, err := d.results.Do(context.Background(), r)
		unknown := (*store.UnknownOutcome)(nil)
		switch {
		case err == nil:
			return
		case errors.As(err, &unknown):
			if committed, err := unknown.Wait(context.Background()); err == nil && committed {
				return
			}
			continue
		case gather.Hopeless(err):
			d.Log.Error("what a gateway answered cannot be kept", "messages", len(r.evidence), "error", err)
			if r.last {
				return
			}
			r = r.inDoubt(d.Now(), err)
			continue
		case said.may():
			d.Log.Error("recording what a gateway answered", "messages", len(r.evidence), "error", err)
		}
		time.Sleep(500 * time.Millisecond)
	}
}

// inDoubt is what remains of a result that cannot be kept.
func (r result) inDoubt(now time.Time, why error) result {
	out := result{steps: course.Steps{}, last: true}
	seen := map[uuid.UUID]bool{}
	for _, e := range r.evidence {
		if e.GatewayID != nil && !seen[e.MessageID] {
			seen[e.MessageID] = true
			out.evidence = append(out.evidence, store.Evidence{ID: store.IDAt(now), MessageID: e.MessageID, At: now, Source: delivery.Own,
				Claim: delivery.Doubtful, Attempt: e.Attempt, GatewayID: e.GatewayID,
				Note: store.Keepable("the answer cannot be kept: " + why.Error())})
		}
	}
	return out
}

// rate lets something be said at most every so often.
type rate struct {
	every time.Duration
	last  time.Time
}

func (r *rate) may() bool {
	if now := time.Now(); now.Sub(r.last) >= r.every {
		r.last = now
		return true
	}
	return false
}
