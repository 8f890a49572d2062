package events

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/core/webhook"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

// Told is an event as an application is told of it: type, timestamp and data, as Standard Webhooks recommends.
type Told struct {
	Type      webhook.Type `json:"type"`
	Timestamp time.Time    `json:"timestamp"`
	Data      any          `json:"data"`
}

// Message is what is told of a message: what never changes of it, and where it stood then. Its names are those of the
// API. What it says is not told.
type Message struct {
	ID         uuid.UUID         `json:"id"`
	To         string            `json:"to,omitempty"` // empty: the message is kept no more
	Sender     string            `json:"sender,omitempty"`
	Kind       string            `json:"kind,omitempty"`
	Reference  string            `json:"reference,omitempty"`
	Labels     map[string]string `json:"labels,omitempty"`
	Batch      string            `json:"batch,omitempty"`
	Row        int               `json:"row,omitempty"`
	Country    string            `json:"country,omitempty"`
	Template   string            `json:"template,omitempty"`
	Segments   int               `json:"segments,omitempty"`
	CreatedAt  time.Time         `json:"created_at,omitzero"`
	State      delivery.State    `json:"state"`
	Final      bool              `json:"final"`
	Cause      delivery.Cause    `json:"cause,omitempty"`
	Advice     string            `json:"advice,omitempty"`
	Contested  []delivery.State  `json:"contested,omitempty"`
	Weak       bool              `json:"weak,omitempty"`
	Gateway    string            `json:"gateway,omitempty"`
	GatewayRef string            `json:"gateway_ref,omitempty"`
	Attempts   int               `json:"attempts,omitempty"`
	Price      *Money            `json:"price,omitempty"`
	ChangedAt  time.Time         `json:"changed_at"`
}

// Money is an amount.
type Money struct {
	Amount   string `json:"amount"`
	Currency string `json:"currency"`
}

// items make what is told of events: address, body and header.
func (e *Events) items(ctx context.Context, r *roster.Receiver, due []store.Telling) ([]*item, error) {
	all := make([]uuid.UUID, len(due))
	for i, t := range due {
		all[i] = t.EventID
	}
	events, err := e.Store.Events(ctx, all)
	if err != nil {
		return nil, err
	}
	bodies, err := e.Bodies(ctx, events)
	if err != nil {
		return nil, err
	}
	byID := make(map[uuid.UUID]*store.Event, len(events))
	for i := range events {
		byID[events[i].ID] = &events[i]
	}
	items := make([]*item, 0, len(due))
	for _, t := range due {
		event := byID[t.EventID]
		if event == nil || bodies[t.EventID] == nil {
			continue
		}
		one := &item{Telling: t, kind: event.Type, to: r.Address, body: bodies[t.EventID]}
		if event.ReportVia == r.ID && r.Below(event.ReportTo) {
			one.to = event.ReportTo
		}
		one.header = func(now time.Time) http.Header {
			return headerOf(r.Signing(now), event.ID, now, one.body)
		}
		items = append(items, one)
	}
	return items, nil
}

// Bodies are what is told of events, by their ids. They are the same however often they are told. One that cannot be
// read is left out, and holds up no other.
func (e *Events) Bodies(ctx context.Context, events []store.Event) (map[uuid.UUID][]byte, error) {
	var messages []uuid.UUID
	for _, one := range events {
		if isAboutMessage(one) {
			messages = append(messages, one.Subject)
		}
	}
	contents, err := e.Store.Contents(ctx, messages)
	if err != nil {
		return nil, err
	}
	bodies := make(map[uuid.UUID][]byte, len(events))
	for _, one := range events {
		var data any = one.Data
		if isAboutMessage(one) {
			m, err := e.message(one, contents)
			if err != nil {
				e.Log.Error("an event cannot be read", "event", one.ID, "error", err)
				continue
			}
			if m.Batch, m.Row, err = e.batchOf(ctx, one.Subject); err != nil {
				return nil, err
			}
			data = m
		}
		body, err := json.Marshal(Told{Type: one.Type, Timestamp: one.At().UTC(), Data: data})
		if err != nil {
			e.Log.Error("an event cannot be told", "event", one.ID, "error", err)
			continue
		}
		bodies[one.ID] = body
	}
	return bodies, nil
}

func isAboutMessage(one store.Event) bool { return strings.HasPrefix(string(one.Type), "message.") }

// message is what is told of a message.
func (e *Events) message(one store.Event, contents map[uuid.UUID]store.Content) (m Message, err error) {
	var then store.Told
	if err := json.Unmarshal(one.Data, &then); err != nil {
		return m, err
	}
	m = Message{
		ID:         one.Subject,
		Kind:       string(one.Kind),
		Labels:     one.Labels.Map(),
		State:      then.State,
		Final:      then.State.Final(),
		Cause:      then.Cause,
		Contested:  then.Contested,
		Weak:       then.Weak,
		GatewayRef: then.GatewayRef,
		Attempts:   then.Attempts,
		ChangedAt:  then.At,
	}
	if then.Cause != "" {
		m.Advice = then.Cause.Advice().Text
	}
	if g := e.Roster.ByID(then.Gateway); g != nil {
		m.Gateway = g.Name
	}
	if then.Price != nil {
		m.Price = &Money{price.Of(*then.Price, then.Currency).Amount(), then.Currency}
	}
	if c, known := contents[one.Subject]; known {
		m.To, m.Sender, m.Reference, m.Country, m.Template, m.Segments, m.CreatedAt = c.To.String(), c.Sender, c.Reference, c.Country, c.Template,
			c.Segments, c.CreatedAt
	}
	return m, nil
}

// batchesKnown is how many batches are remembered by their first messages.
const batchesKnown = 1000

// batchOf is the batch of a message; empty if it is of none.
func (e *Events) batchOf(ctx context.Context, message uuid.UUID) (batch string, row int, err error) {
	first, row, is := store.BatchOf(message)
	if !is {
		return "", 0, nil
	}
	e.mu.Lock()
	batch, known := e.batches[first]
	e.mu.Unlock()
	if known {
		return batch, row, nil
	}
	one, err := e.Store.BatchFirst(ctx, first)
	switch {
	case errors.Is(err, store.ErrNotFound):
	case err != nil:
		return "", 0, err
	default:
		batch = one.ID.String()
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if len(e.batches) >= batchesKnown {
		clear(e.batches)
	}
	e.batches[first] = batch
	return batch, row, nil
}

// Signed is an event as it is told, headers and all, for somebody who fetches it.
type Signed struct {
	store.Telling
	Type   webhook.Type
	Header http.Header
	Body   []byte
}

const (
	// followLasts is how long somebody follows who does not come again, and fetchedFor how long what was fetched is theirs.
	followLasts = time.Minute
	fetchedFor  = 30 * time.Second
	// FetchMost is how many events are fetched at once at most.
	FetchMost = 100
)

// Fetch gives somebody who follows what is to be told next, in its order, signed as it would be. It is theirs for half
// a minute; what came of it is to be said with [Events.Report].
func (e *Events) Fetch(ctx context.Context, r *roster.Receiver, most int) ([]Signed, error) {
	now := e.Now()
	if err := e.Store.NoteFollowed(ctx, r.ID, now); err != nil {
		return nil, err
	}
	due, err := e.Store.ToTell(ctx, r.ID, now, nil, most)
	if err != nil || len(due) == 0 {
		return nil, err
	}
	items, err := e.items(ctx, r, due)
	if err != nil {
		return nil, err
	}
	last := map[uuid.UUID]int64{} // of each subject
	later := make([]store.Telling, 0, len(due))
	var all []Signed
	for _, i := range items {
		t := i.Telling
		due := *t.DueAt
		t.DueAt = ptr(now.Add(fetchedFor))
		switch {
		case t.Before == last[t.Subject]: // none, or the one that was fetched just before
			last[t.Subject] = t.Seq
			all = append(all, Signed{t, i.kind, i.header(now), i.body})
		case t.BeforeDue.After(due):
			t.DueAt = &t.BeforeDue
		default:
			continue
		}
		later = append(later, t)
	}
	return all, e.Store.Tell(ctx, later)
}

// Report records what came of telling what was fetched. What is left out is told again.
func (e *Events) Report(ctx context.Context, r *roster.Receiver, results []store.Telling) error {
	now := e.Now()
	if err := e.Store.NoteFollowed(ctx, r.ID, now); err != nil {
		return err
	}
	for i := range results {
		t := &results[i]
		t.ReceiverID, t.At = r.ID, &now
		if t.Outcome == store.Waits {
			t.DueAt = ptr(now.Add(webhook.Pause(t.Tries, e.Luck())))
		}
	}
	return e.Store.Tell(ctx, results)
}

// Unfollow ends following.
func (e *Events) Unfollow(ctx context.Context, r *roster.Receiver) error {
	return e.Roster.RemoveReceiver(ctx, r.ID, e.Now())
}

// wants reports whether anybody is told of a type.
func (e *Events) wants(types ...webhook.Type) bool {
	return slices.ContainsFunc(e.Roster.Receivers(), func(r *roster.Receiver) bool {
		return len(r.Types) == 0 || slices.ContainsFunc(types, func(t webhook.Type) bool {
			return slices.Contains(r.Types, string(t)) || slices.Contains(r.Types, t.Family())
		})
	})
}

// headerOf is the header with which an event is told.
func headerOf(secrets []webhook.Secret, id uuid.UUID, now time.Time, body []byte) http.Header {
	header := http.Header{"Content-Type": {"application/json"}, "User-Agent": {"calm-pigeon"}}
	for name, value := range webhook.Header(secrets, id.String(), now, body) {
		header.Set(name, value)
	}
	return header
}
