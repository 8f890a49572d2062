package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/store"
)

// paced is the single gateway with a limit.
func paced(perSecond int) string {
	return strings.Replace(single, "per_second: 100000", fmt.Sprintf("per_second: %d", perSecond), 1)
}

// fill puts messages into the queue of a gateway, past the HTTP API.
func (h *house) fill(ctx context.Context, gateway string, n int) error {
	db, err := store.Open(ctx, h.server.URL, time.Now())
	if err != nil {
		return err
	}
	defer db.Close()
	gateways, err := db.Gateways(ctx, store.FromTheStart)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(gateways, func(g store.Gateway) bool { return g.Name == gateway })
	keys, err := db.Keys(ctx)
	if err != nil {
		return err
	}
	const set = 1000
	return many(n/set, 3, func(int) error {
		now := time.Now().UTC().Truncate(time.Microsecond)
		batch := make([]store.Acceptance, set)
		for k := range batch {
			m := &batch[k].Message
			m.Content = store.Content{
				ID:         store.NewID(),
				KeyID:      keys[0].ID,
				To:         phone.Stored(fmt.Sprintf("+447700%06d", 900000+k)),
				Sender:     "Lanternholm",
				Kind:       "bulk",
				Lane:       2,
				Text:       "All Sunday crossings are cancelled.",
				Encoding:   "gsm7",
				Units:      35,
				Segments:   1,
				Country:    "GB",
				ValidUntil: now.Add(24 * time.Hour),
				CreatedAt:  now,
			}
			m.GatewayID, m.State, m.ChangedAt, m.DueAt = gateways[i].ID, delivery.Queued, now, now
		}
		_, err := db.Accept(ctx, batch)
		return err
	})
}

// passcodes measures how long an otp takes from the request to the gateway's
// door, with nothing else to do and beside a million others.
func passcodes(ctx context.Context, s settings) ([]Figure, error) {
	const perSecond = 500
	h, err := build(ctx, s)
	if err != nil {
		return nil, err
	}
	defer h.Close()
	g := newGateway()
	var mu sync.Mutex
	arrived := map[string]time.Time{}
	g.door = func(body []byte, _ time.Time) {
		now := time.Now()
		var in struct{ Text string }
		json.Unmarshal(body, &in)
		if strings.HasPrefix(in.Text, "Code ") {
			mu.Lock()
			arrived[in.Text] = now
			mu.Unlock()
		}
	}
	if err := h.gateway(ctx, paced(perSecond), g); err != nil {
		return nil, err
	}
	c := carrier()
	measure := func(what string, n int) (float64, error) {
		sent := make([]time.Time, n)
		name := func(i int) string { return fmt.Sprintf("Code %s %d", what, i) }
		for i := range n {
			sent[i] = time.Now()
			code := fmt.Sprintf(`{"to":"+447700900123","text":%q,"kind":"otp","sender":"Lanternholm"}`, name(i))
			if err := post(c, h.URL+"/v1/messages", h.Key, code); err != nil {
				return 0, err
			}
			time.Sleep(time.Until(sent[i].Add(40 * time.Millisecond)))
		}
		var spans []time.Duration
		err := until(ctx, time.Minute, func() (bool, error) {
			mu.Lock()
			defer mu.Unlock()
			spans = spans[:0]
			for i := range n {
				if at, ok := arrived[name(i)]; ok {
					spans = append(spans, at.Sub(sent[i]))
				}
			}
			return len(spans) == n, nil
		})
		slices.Sort(spans)
		if len(spans) == 0 {
			return 0, err
		}
		fmt.Fprintf(os.Stderr, "  otp %s: half within %v, nine tenths within %v\n", what, spans[len(spans)/2].Round(10*time.Microsecond),
			spans[len(spans)*9/10].Round(10*time.Microsecond))
		return float64(spans[len(spans)*99/100].Microseconds()) / 1000, err
	}
	idle, err := measure("idle", 500)
	if err != nil {
		return nil, err
	}
	if _, err := h.Client.PauseGateway(ctx, "single", "to fill the queue"); err != nil {
		return nil, err
	}
	queued := s.count(1_000_000)
	if err := h.fill(ctx, "single", queued); err != nil {
		return nil, err
	}
	if _, err := h.Client.ResumeGateway(ctx, "single"); err != nil {
		return nil, err
	}
	// The filling is not what is measured: what it left to be written to disk is
	// written first, and they flow for a while.
	if _, err := h.db.Exec(ctx, "CHECKPOINT"); err != nil {
		return nil, err
	}
	time.Sleep(5 * time.Second)
	busy, err := measure("busy", 500)
	return []Figure{
		{Name: "otp_p99_idle", Value: idle, Unit: "ms", Asked: "50 ms at most"},
		{
			Name:  "otp_p99_busy",
			Value: busy,
			Unit:  "ms",
			Bound: idle,
			Ratio: busy / idle,
			Asked: "twice idle at most",
			Note:  fmt.Sprintf("%d queued, flowing at %d/s", queued, perSecond),
		},
	}, err
}

// tokened is the single gateway with a limit and a token that does not last.
func tokened(perSecond int) string {
	return strings.Replace(strings.Replace(paced(perSecond), "submit:", `secrets: [client_id, client_secret]
token:
  request: {post: /token, basic: {user: client_id, password: client_secret}, form: "{grant_type: \"client_credentials\"}"}
  reply:
    - when: .status == 200
      token: "{token: .body.access_token, expires_in: .body.expires_in}"
submit:`, 1), "request: {post: /send,", "request: {post: /send, bearer: token,", 1)
}

// paces measures how much of a limit is used, and whether it is ever exceeded in
// any second, at the gateway's door.
func paces(ctx context.Context, s settings) ([]Figure, error) {
	var figures []Figure
	for _, run := range []struct {
		what      string
		perSecond int
		handover  bool
		dialect   string
	}{{"10", 10, false, paced(10)}, {"50", 50, false, paced(50)}, {"120", 120, false, paced(120)}, {"500", 500, false, paced(500)}, {"2000", 2000, false, paced(2000)},
		{"500, with tokens of 3 s", 500, false, tokened(500)}, {"500, another keeper", 500, true, paced(500)}} {
		used, exceeded, err := pace(ctx, s, run.dialect, run.perSecond, run.handover)
		if err != nil {
			return figures, err
		}
		if !run.handover { // the pause of a change is not used, and must not be
			figures = append(figures, Figure{Name: "pace_used", Value: 100 * used, Unit: "%", Asked: "99%", Note: "at " + run.what})
		}
		figures = append(figures,
			Figure{Name: "pace_exceeded", Value: float64(exceeded), Unit: "windows", Asked: "never", Note: "at " + run.what})
	}
	return figures, nil
}

func pace(ctx context.Context, s settings, dialect string, perSecond int, handover bool) (used float64, exceeded int, err error) {
	h, err := build(ctx, s)
	if err != nil {
		return 0, 0, err
	}
	defer h.Close()
	g, arrivals := watchedGateway()
	if err := h.gateway(ctx, dialect, g); err != nil {
		return 0, 0, err
	}
	const span = 12 * time.Second
	if _, err := h.Client.PauseGateway(ctx, "single", ""); err != nil {
		return 0, 0, err
	}
	if err := h.fill(ctx, "single", max(perSecond*20/1000*1000, 1000)); err != nil {
		return 0, 0, err
	}
	if _, err := h.Client.ResumeGateway(ctx, "single"); err != nil {
		return 0, 0, err
	}
	if handover {
		time.Sleep(span / 3)
		h.cmd.Process.Kill()
		h.cmd.Wait()
		if err := h.start(s); err != nil {
			return 0, 0, err
		}
	}
	time.Sleep(span)
	arrived := arrivals()
	if len(arrived) == 0 {
		return 0, 0, errors.New("nothing arrived")
	}
	return shareUsed(arrived, perSecond, arrived[0].Add(span-time.Second)), windowsExceeded(arrived, perSecond), nil
}

// watchedGateway is one without receipts, and what says when texts arrived at its door.
func watchedGateway() (*theGateway, func() []time.Time) {
	g := newGateway()
	g.silent = true
	var mu sync.Mutex
	var arrived []time.Time
	g.door = func(_ []byte, at time.Time) {
		mu.Lock()
		defer mu.Unlock()
		arrived = append(arrived, at)
	}
	return g, func() []time.Time {
		mu.Lock()
		defer mu.Unlock()
		return slices.SortedFunc(slices.Values(arrived), time.Time.Compare)
	}
}

// windowsExceeded counts the seconds, beginning with each arrival, in which more arrived than
// may.
func windowsExceeded(arrived []time.Time, perSecond int) (exceeded int) {
	for i := range arrived {
		if j := i + perSecond; j < len(arrived) && arrived[j].Sub(arrived[i]) < time.Second {
			exceeded++
		}
	}
	return exceeded
}

// shareUsed is how much of what may arrive did, from a second after the first until a moment.
func shareUsed(arrived []time.Time, perSecond int, until time.Time) float64 {
	from, n := arrived[0].Add(time.Second), 0
	for _, at := range arrived {
		if !at.Before(from) && at.Before(until) {
			n++
		}
	}
	return float64(n) / (float64(perSecond) * until.Sub(from).Seconds())
}

// idle measures what service and database take with ten gateways and nothing to
// do.
func idle(ctx context.Context, s settings) ([]Figure, error) {
	h, err := build(ctx, s)
	if err != nil {
		return nil, err
	}
	defer h.Close()
	address, err := h.serve(newGateway())
	if err != nil {
		return nil, err
	}
	for i := range 10 {
		g := client.NewGateway{Name: fmt.Sprintf("gateway-%d", i), Source: single, Address: address}
		if _, err := h.Client.AddGateway(ctx, g); err != nil {
			return nil, err
		}
	}
	time.Sleep(5 * time.Second)
	const span = 30 * time.Second
	service, database, _ := processor(h)
	time.Sleep(span)
	service2, database2, _ := processor(h)
	share := func(from, to time.Duration) float64 { return 100 * (to - from).Seconds() / span.Seconds() }
	own, its := share(service, service2), share(database, database2)
	return []Figure{
		{Name: "idle", Value: own + its, Unit: "% of a core", Asked: "0.5% at most",
			Note: fmt.Sprintf("ten gateways; the service %.2f, its database %.2f", own, its)},
	}, nil
}
