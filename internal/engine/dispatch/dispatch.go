// Package dispatch sends what is queued: one keeper per gateway claims, paces,
// submits and records.
package dispatch

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/core/phone"
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

	mu    sync.Mutex
	kicks map[uuid.UUID]watch.Kick
}

// result is what came of one submission.
type result struct {
	evidence store.Evidence
	exchange *store.Exchange
	wait     *time.Duration // before the next try; nil: as usual
}

// Run keeps every gateway that no other instance keeps, until ctx ends; then
// it waits for what is in flight and gives the gateways back.
func (d *Dispatch) Run(ctx context.Context) {
	d.holder = uuid.New()
	d.results = store.NewGather(300, d.record)
	d.kicks = map[uuid.UUID]watch.Kick{}

	recording, stopRecording := context.WithCancel(context.Background())
	var recorder, keepers sync.WaitGroup
	recorder.Go(func() { d.results.Run(recording) })

	tick := time.NewTicker(2 * time.Second) // for gateways that other instances added
	defer tick.Stop()
	for ctx.Err() == nil {
		d.mu.Lock()
		for _, g := range d.Course.Roster.All() {
			if d.kicks[g.ID] == nil {
				kick := watch.NewKick()
				d.kicks[g.ID] = kick
				k := newKeeper(d, g, kick)
				keepers.Go(func() { k.run(ctx) })
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
		}
	}
	keepers.Wait()
	stopRecording()
	recorder.Wait()
}

// record commits a set of results.
func (d *Dispatch) record(ctx context.Context, set []result) ([]struct{}, error) {
	evidence := make([]store.Evidence, len(set))
	var exchanges []store.Exchange
	waits := course.Plan{}
	for i, r := range set {
		evidence[i] = r.evidence
		if r.exchange != nil {
			exchanges = append(exchanges, *r.exchange)
		}
		if r.wait != nil {
			waits[r.evidence.MessageID] = *r.wait
		}
	}
	err := d.Course.Store.Transact(ctx, func(s *store.Store) error {
		if err := s.StoreExchanges(ctx, exchanges); err != nil {
			return err
		}
		return d.Course.Record(ctx, s, evidence, waits)
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
		d.Log.Error("recording what a gateway answered", "message", r.evidence.MessageID, "error", err)
		if store.Refused(err) {
			return // the attempt is durable; without an outcome it becomes doubtful
		}
		time.Sleep(500 * time.Millisecond)
	}
}

// submit makes one submission and returns what came of it.
func (d *Dispatch) submit(ctx context.Context, g *roster.Gateway, m store.Message) result {
	attempt := m.Attempts + 1
	request, err := g.Dialect.SubmitRequest(dialect.Message{
		ID: m.ID.String(), To: phone.Stored(m.ToNumber), Sender: m.Sender, Text: m.Text, Kind: m.Kind, Encoding: m.Encoding, Segments: m.Segments,
		ReceiptURL: g.ReceiptURL(d.PublicURL), ValidFor: int(m.ValidUntil.Sub(d.Course.Now()).Seconds()),
	}, g.Secrets)
	if err != nil {
		e := course.Own(m, d.Course.Now(), delivery.Queued, attempt, "not sent: "+err.Error())
		e.Cause = delivery.GatewayFault
		return result{evidence: e}
	}
	reply, fate, exchange := d.Courier.Carry(ctx, g, "submit", request)
	now := d.Course.Now()
	r := result{exchange: &exchange}
	switch fate {
	case courier.NotSent:
		r.evidence = course.Own(m, now, delivery.Queued, attempt, "not sent: "+exchange.Error)
		r.evidence.Cause = delivery.GatewayFault
	case courier.NoAnswer:
		r.evidence = course.Own(m, now, delivery.Doubtful, attempt, exchange.Error)
	default:
		r.evidence, r.wait = understand(m, attempt, now, g.Dialect.ReadSubmit(reply, now))
	}
	r.evidence.ExchangeID = &exchange.ID
	return r
}

// understand makes evidence of what was read of a reply.
func understand(m store.Message, attempt int, now time.Time, reading dialect.Reading) (store.Evidence, *time.Duration) {
	e := course.Own(m, now, delivery.Doubtful, attempt, reading.Note)
	switch reading.Meaning {
	case dialect.Unreadable:
		e.Note = "the reply cannot be read: " + reading.Note
	case dialect.Absent:
		e.Note = "the reply cannot be read: it says that there is no such message"
	case dialect.NotTaken:
		e.Source, e.Claim, e.Cause = delivery.Reply, delivery.Queued, reading.Cause
		if reading.RetryAfter > 0 {
			return e, &reading.RetryAfter
		}
	case dialect.Read:
		course.Said(&e, delivery.Reply, reading.Items[0])
		if e.Claim == "" {
			e.Source, e.Claim = delivery.Own, delivery.Doubtful
		}
	}
	return e, nil
}

func ids(messages []store.Message) []uuid.UUID {
	all := make([]uuid.UUID, len(messages))
	for i, m := range messages {
		all[i] = m.ID
	}
	return all
}
