// Package dispatch sends what is queued: one keeper per gateway claims, paces,
// submits and records.
package dispatch

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"sync"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/engine/courier"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/watch"
	"calmpigeon.example/internal/store"
)

// Dispatch runs the keepers of this instance.
type Dispatch struct {
	Course    *course.Course
	Courier   *courier.Courier
	Log       *slog.Logger
	PublicURL string        // where gateways reach us
	Lease     time.Duration // how long a keeper that died holds up its gateway

	holder  uuid.UUID
	results *store.Gather[result, struct{}]

	mu       sync.Mutex
	kicks    map[uuid.UUID]watch.Kick
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
	steps     course.Plan
	moves     []move
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
func mayMove(m store.Message, known delivery.Outcome) bool {
	return !known.MayHaveGone || m.Kind == string(pace.OTP)
}

// Run keeps every gateway that no other instance keeps, until ctx ends; then
// it waits for what is in flight and gives the gateways back.
func (d *Dispatch) Run(ctx context.Context) {
	d.holder = uuid.New()
	d.results = store.NewGather(300, d.record)
	d.kicks = map[uuid.UUID]watch.Kick{}
	d.balances = map[uuid.UUID]balance{}

	recording, stopRecording := context.WithCancel(context.Background())
	var recorder, keepers sync.WaitGroup
	recorder.Go(func() { d.results.Run(recording) })

	tick := time.NewTicker(2 * time.Second) // for what other instances changed
	defer tick.Stop()
	for ctx.Err() == nil {
		d.mu.Lock()
		for _, g := range d.Course.Roster.All() {
			if d.kicks[g.ID] == nil {
				kick := watch.NewKick()
				d.kicks[g.ID] = kick
				k := newKeeper(d, g, kick)
				keepers.Go(func() {
					k.run(ctx)
					d.mu.Lock()
					defer d.mu.Unlock()
					delete(d.kicks, g.ID)
				})
			} else {
				d.kicks[g.ID].Now()
			}
		}
		d.mu.Unlock()
		select {
		case <-ctx.Done():
		case <-d.Course.Due:
		case <-tick.C:
			if err := d.Course.Roster.Reload(ctx); err != nil && ctx.Err() == nil {
				d.Log.Error("reading gateways", "error", err)
			}
			d.noteBalances(ctx)
		}
	}
	keepers.Wait()
	stopRecording()
	recorder.Wait()
}

// noteBalances writes down what replies told of balances. Every reply may tell,
// and the last is enough.
func (d *Dispatch) noteBalances(ctx context.Context) {
	d.mu.Lock()
	told := d.balances
	d.balances = map[uuid.UUID]balance{}
	d.mu.Unlock()
	for id, b := range told {
		if err := d.Course.Store.NoteBalance(ctx, id, b.Micros, b.Currency, b.at); err != nil && ctx.Err() == nil {
			d.Log.Error("noting a balance", "error", err)
		}
	}
}

// record commits a set of results.
func (d *Dispatch) record(ctx context.Context, set []result) ([]struct{}, error) {
	var evidence []store.Evidence
	var exchanges []store.Exchange
	var moves []move
	steps := course.Plan{}
	for _, r := range set {
		evidence = append(evidence, r.evidence...)
		exchanges = append(exchanges, r.exchanges...)
		moves = append(moves, r.moves...)
		maps.Copy(steps, r.steps)
	}
	err := d.Course.Store.Transact(ctx, func(s *store.Store) error {
		messages := make([]store.Message, len(moves))
		for i, m := range moves {
			messages[i] = m.message
		}
		known, err := s.Known(ctx, messages)
		if err != nil {
			return err
		}
		for i, m := range moves {
			if !mayMove(m.message, known[i]) {
				continue
			}
			evidence = append(evidence, m.evidence(d.Course.Now(), m.message.Attempts+1))
			step := course.Step{Gateway: m.to.ID}
			if m.next {
				step.Wait = new(time.Duration)
			}
			steps[m.message.ID] = step
		}
		if err := s.StoreExchanges(ctx, exchanges); err != nil {
			return err
		}
		return d.Course.Record(ctx, s, evidence, steps)
	})
	if err != nil {
		return nil, err
	}
	d.Course.Announce(evidence)
	return make([]struct{}, len(set)), nil
}

// settle records a result, however long the database takes to come back: what
// a gateway answered is not to be had a second time.
func (d *Dispatch) settle(r result) {
	for {
		_, err := d.results.Do(context.Background(), r)
		if err == nil {
			return
		}
		d.Log.Error("recording what a gateway answered", "message", r.evidence[0].MessageID, "error", err)
		if store.Refused(err) {
			return // the attempt is durable; without an outcome it becomes doubtful
		}
		time.Sleep(500 * time.Millisecond)
	}
}

func ids(messages []store.Message) []uuid.UUID {
	all := make([]uuid.UUID, len(messages))
	for i, m := range messages {
		all[i] = m.ID
	}
	return all
}
