package main

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"sync"
	"time"

	"calmpigeon.example/client"
)

// taker is an application that takes events at once.
type taker struct {
	URL    string
	server *http.Server

	mu    sync.Mutex
	seen  map[string]bool // by their ids
	total int
}

func takeEvents() (*taker, error) {
	t := &taker{seen: map[string]bool{}}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	t.URL = "http://" + listener.Addr().String() + "/hook"
	t.server = &http.Server{Handler: t, ReadHeaderTimeout: time.Minute}
	go t.server.Serve(listener)
	return t, nil
}

func (t *taker) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if _, err := io.Copy(io.Discard, r.Body); err != nil {
		return
	}
	t.mu.Lock()
	t.seen[r.Header.Get("webhook-id")] = true
	t.total++
	t.mu.Unlock()
	w.WriteHeader(http.StatusNoContent)
}

func (t *taker) taken() (distinct, total int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	return len(t.seen), t.total
}

// eventsWithin is how long is waited until all have come.
const eventsWithin = 5 * time.Minute

// eventsOut lets an application be told of what is written down already, and then of what becomes of messages while
// they are sent: each is a request of its own, signed, and recorded.
func eventsOut(ctx context.Context, s settings) ([]Figure, error) {
	n := s.count(100_000)
	h, err := build(ctx, s)
	if err != nil {
		return nil, err
	}
	defer h.Close()
	if err := h.gateway(ctx, single, newGateway()); err != nil {
		return nil, err
	}
	if err := h.past(ctx, n); err != nil {
		return nil, err
	}
	if _, err := h.db.Exec(ctx, `INSERT INTO events (id, seq, type, subject, cut_id, kind, labels, data)
		SELECT s.id, nextval('event_seq'), 'message.' || s.state, s.id, s.cut_id, 'bulk', '', json_build_object('at', s.changed_at,
			'state', s.state, 'gateway', s.gateway_id, 'gateway_ref', 'g-1', 'attempts', 1) FROM standings s`); err != nil {
		return nil, fmt.Errorf("making events: %w", err)
	}
	t, err := takeEvents()
	if err != nil {
		return nil, err
	}
	defer t.server.Close()
	at := 64
	if _, err := h.Client.AddReceiver(ctx, client.ReceiverSettings{Name: "taker", Address: &t.URL, AtOnce: &at}); err != nil {
		return nil, err
	}
	var took time.Duration
	cost := h.cost(n)
	err = h.profiled(s, func() error {
		began := time.Now()
		since := began.Add(-40 * 24 * time.Hour)
		told, err := h.Client.Retell(ctx, client.Retelling{Receiver: "taker", Since: &since})
		if err != nil || told.Events != n {
			return fmt.Errorf("%d of %d events are told: %w", told.Events, n, err)
		}
		for until := time.Now().Add(eventsWithin); ; time.Sleep(20 * time.Millisecond) {
			if distinct, _ := t.taken(); distinct == n {
				break
			}
			if time.Now().After(until) {
				return fmt.Errorf("it was told of %d of %d events in %s", len(t.seen), n, eventsWithin)
			}
		}
		took = time.Since(began)
		for until := time.Now().Add(eventsWithin); ; time.Sleep(20 * time.Millisecond) {
			left, err := h.number(ctx, "SELECT count(*)::float8 FROM to_tell")
			if err != nil || left == 0 {
				return err
			}
			if time.Now().After(until) {
				return fmt.Errorf("%.0f are still to be told", left)
			}
		}
	})
	if err != nil {
		return nil, fmt.Errorf("%w\n%s", err, h.said())
	}
	spent := cost()
	distinct, total := t.taken()
	return []Figure{{Name: "events_out", Value: float64(n) / took.Seconds(), Unit: "events/s", Asked: "5,000/s",
		Note: fmt.Sprintf("%d more than once; processor an event: %s", total-distinct, spent)}}, nil
}

// livesTold are lives of which an application is told each change.
func livesTold(ctx context.Context, s settings) ([]Figure, error) {
	n := s.count(30_000)
	h, err := open(ctx, s, single, newGateway())
	if err != nil {
		return nil, err
	}
	defer h.Close()
	t, err := takeEvents()
	if err != nil {
		return nil, err
	}
	defer t.server.Close()
	at := 64
	if _, err := h.Client.AddReceiver(ctx, client.ReceiverSettings{Name: "taker", Address: &t.URL, AtOnce: &at}); err != nil {
		return nil, err
	}
	var rate float64
	var behind time.Duration
	cost := h.cost(n)
	err = h.profiled(s, func() error {
		began := time.Now()
		if err := h.flood(n); err != nil {
			return err
		}
		if err := h.reached(ctx, "delivered", n); err != nil {
			return err
		}
		ended := time.Now()
		rate = float64(n) / ended.Sub(began).Seconds()
		for until := ended.Add(eventsWithin); ; time.Sleep(20 * time.Millisecond) {
			left, err := h.number(ctx, "SELECT count(*)::float8 FROM to_tell")
			if behind = time.Since(ended); err != nil || left == 0 {
				return err
			}
			if time.Now().After(until) {
				return fmt.Errorf("%.0f are still to be told", left)
			}
		}
	})
	if err != nil {
		return nil, fmt.Errorf("%w\n%s", err, h.said())
	}
	spent := cost()
	_, total := t.taken()
	return []Figure{{Name: "life_told", Value: rate, Unit: "lives/s",
		Note: fmt.Sprintf("%d events, the last told %.1f s after the last receipt; processor a life: %s", total, behind.Seconds(), spent)}}, nil
}
