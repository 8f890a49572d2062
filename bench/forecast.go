package main

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"strings"
	"time"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/fleet"
)

// A voyage is a batch on the practice fleet, under limits and beside others.
type voyage struct {
	name     string
	speeds   map[string]int // of gateways, a second
	minutes  map[string]int // their quotas of a minute
	legs     []client.Leg   // among which messages are divided
	greek    []client.Leg   // those to Greece, if otherwise
	quiet    time.Duration  // in Greece, from now until about then: to the full minute after
	british  int            // rows
	hellenic int            // rows to Greece
	later    time.Duration  // every second row has a time of its own: so long after now
	slow     int            // the sender's pace; 0: it has none
	kind     string         // transactional; else bulk
	launch   client.Launch  // how it goes
	rivals   []rival        // that go before
	queue    int            // single texts that wait before
}

// rival is a batch that was launched before.
type rival struct {
	rows   int
	launch client.Launch
}

var voyages = []voyage{
	{name: "one gateway", speeds: map[string]int{"harbourline": 50}, legs: legs("harbourline"), british: 1500},
	{
		name: "two gateways by weight", speeds: map[string]int{"harbourline": 60, "stillwater": 15},
		legs: []client.Leg{{Gateway: "harbourline", Weight: 3}, {Gateway: "stillwater", Weight: 1}}, british: 2000,
	},
	{
		name: "a pace of its own over two gateways", speeds: map[string]int{"harbourline": 100, "stillwater": 100},
		legs:    []client.Leg{{Gateway: "harbourline", Weight: 1}, {Gateway: "stillwater", Weight: 1}},
		british: 1200, launch: client.Launch{Pace: "40/s"},
	},
	{
		name: "a rival that was there before", speeds: map[string]int{"longshore": 60}, legs: legs("longshore"),
		british: 1200, rivals: []rival{{rows: 900}},
	},
	{
		name: "three rivals, one of them slow", speeds: map[string]int{"longshore": 100}, legs: legs("longshore"),
		british: 1500, rivals: []rival{{rows: 300}, {rows: 800}, {rows: 400, launch: client.Launch{Pace: "10/s"}}},
	},
	{name: "a sender with a pace", speeds: map[string]int{"harbourline": 100}, legs: legs("harbourline"), british: 500, slow: 17},
	{
		name: "quiet hours for a part", speeds: map[string]int{"harbourline": 60, "waxseal": 40}, legs: legs("harbourline"),
		greek: legs("waxseal"), british: 1000, hellenic: 600, quiet: 15 * time.Second,
	},
	{
		name: "every second at a time of its own", speeds: map[string]int{"longshore": 80}, legs: legs("longshore"),
		british: 2000, later: 20 * time.Second,
	},
	{
		name: "a quota of a minute", speeds: map[string]int{"harbourline": 40}, minutes: map[string]int{"harbourline": 500},
		legs: legs("harbourline"), british: 900,
	},
	{
		name: "behind a queue, urgent, with scouts", speeds: map[string]int{"longshore": 50}, legs: legs("longshore"),
		british: 900, queue: 600, kind: "transactional", rivals: []rival{{rows: 700}},
		launch: client.Launch{Scouts: "5%", ScoutsAfter: "25s", ScoutsLeast: 0.01},
	},
}

func legs(gateway string) []client.Leg { return []client.Leg{{Gateway: gateway}} }

// forecasts holds forecasts against what then happens.
func forecasts(ctx context.Context, s settings) ([]Figure, error) {
	worst, where := 0.0, ""
	for _, v := range voyages {
		off, took, err := v.sail(ctx, s)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", v.name, err)
		}
		fmt.Printf("  %-40s %5.1f s, off by %.1f%%\n", v.name, took.Seconds(), 100*off)
		if off >= worst {
			worst, where = off, v.name
		}
	}
	return []Figure{{Name: "forecast_error", Value: 100 * worst, Unit: "%", Asked: "5% at most",
		Note: fmt.Sprintf("the worst of %d: %s", len(voyages), where)}}, nil
}

// sail plays it, and returns by how much of the time that it took its end was forecast wrongly.
func (v voyage) sail(ctx context.Context, s settings) (off float64, took time.Duration, err error) {
	h, err := build(ctx, s)
	if err != nil {
		return 0, 0, err
	}
	defer h.Close()
	if err := v.prepare(ctx, h); err != nil {
		return 0, 0, err
	}
	for i, r := range v.rivals {
		one, err := h.listed(
			ctx,
			client.BatchWants{Name: fmt.Sprint("rival ", i), Text: "Rival", Sender: "Lanternholm"},
			v.list(r.rows, 0, time.Time{}),
			"rival.csv",
		)
		if err == nil {
			_, err = h.Client.LaunchBatch(ctx, one.ID, r.launch)
		}
		if err != nil {
			return 0, 0, err
		}
	}
	if err := many(v.queue, 32, func(i int) error { return post(carrier(), h.URL+"/v1/messages", h.Key, text(i, "bulk")) }); err != nil {
		return 0, 0, err
	}
	at := time.Time{}
	if v.later > 0 {
		at = time.Now().Add(v.later)
	}
	wants := client.BatchWants{Name: v.name, Text: "Dear passenger, {n}", Sender: "Lanternholm", OwnTimes: v.later > 0, Kind: v.kind}
	if v.later > 0 {
		wants.Columns = map[string]string{"at": "when"}
	}
	one, err := h.listed(ctx, wants, v.list(v.british, v.hellenic, at), "list.csv")
	if err != nil {
		return 0, 0, err
	}
	if one, err = h.Client.LaunchBatch(ctx, one.ID, v.launch); err != nil {
		return 0, 0, err
	}
	if one.Launch.Foreseen == nil {
		return 0, 0, fmt.Errorf("no end was forecast")
	}
	err = until(ctx, 5*time.Minute, func() (bool, error) {
		one, err = h.Client.Batch(ctx, one.ID)
		if err == nil && one.State == "held" {
			err = fmt.Errorf("it was held: %s", one.Why)
		}
		return err == nil && one.Tally.States["queued"]+one.Tally.States["held"] == 0, err
	})
	ended := time.Now()
	took = ended.Sub(*one.LaunchedAt)
	return ended.Sub(*one.Launch.Foreseen).Abs().Seconds() / took.Seconds(), took, err
}

// prepare sets up fleet, gateways, routes, senders and rules.
func (v voyage) prepare(ctx context.Context, h *house) error {
	f := fleet.New(ctx, 1, slog.New(slog.DiscardHandler))
	url, err := h.serve(f.Handler())
	if err != nil {
		return err
	}
	for _, b := range fleet.Berths() {
		if _, used := v.speeds[b.Dialect]; !used {
			continue
		}
		if _, err := h.Client.AddGateway(ctx, client.NewGateway{Dialect: b.Dialect, Address: url + b.Path, Secrets: b.Secrets}); err != nil {
			return err
		}
		change := client.GatewayChange{PerSecond: new(v.speeds[b.Dialect])}
		if n := v.minutes[b.Dialect]; n > 0 {
			change.PerMinute = &n
		}
		if _, err := h.Client.ChangeGateway(ctx, b.Dialect, change); err != nil {
			return err
		}
	}
	routes := []client.Route{{Name: "all", Gateways: v.legs}}
	if v.greek != nil {
		routes = append([]client.Route{{Name: "greece", Countries: []string{"GR"}, Gateways: v.greek}}, routes...)
	}
	if _, err := h.Client.PutRoutes(ctx, routes); err != nil {
		return err
	}
	if v.slow > 0 {
		if _, err := h.Client.PutSender(ctx, client.NewSender{Sender: "Lanternholm", PerSecond: v.slow}); err != nil {
			return err
		}
	}
	for _, country := range []string{"GB", "GR"} {
		r := client.Rule{Country: country, Alphanumeric: "open", Numeric: "open", ShortCode: "open", Texts: "open", Links: "open",
			Quiet: []client.Quiet{}, Date: time.Now().Format(time.DateOnly), Origin: "the bench"}
		if athens, err := time.LoadLocation("Europe/Athens"); v.quiet > 0 && country == "GR" && err == nil {
			now := time.Now().In(athens)
			r.Quiet = []client.Quiet{{Kinds: []string{"bulk"}, From: now.Add(-time.Hour).Format("15:04"),
				To: now.Add(v.quiet + time.Minute).Truncate(time.Minute).Format("15:04"), Days: []string{}}}
		}
		if _, err := h.Client.PutRule(ctx, r); err != nil {
			return err
		}
	}
	return nil
}

// list is a list of rows whose phones get what is sent to them. The last two digits of a
// number decide that.
func (v voyage) list(british, hellenic int, at time.Time) io.Reader {
	var b strings.Builder
	b.WriteString("mobile,n,when\n")
	for i := range british + hellenic {
		when := ""
		if !at.IsZero() && i%2 == 1 {
			when = at.UTC().Format(time.RFC3339)
		}
		number := fmt.Sprintf("+447700%04d23", i)
		if (i+1)*hellenic/(british+hellenic) > i*hellenic/(british+hellenic) {
			number = fmt.Sprintf("+30690%05d23", i)
		}
		fmt.Fprintf(&b, "%s,%d,%s\n", number, i, when)
	}
	return strings.NewReader(b.String())
}
