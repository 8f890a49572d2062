package main

import (
	"context"
	"fmt"
	"time"

	"calmpigeon.example/client"
)

// passcodeIssue measures how many passcodes are sent a second, one a request, with a limit by everything that they can
// be limited by, while the gateway takes them and receipts come.
func passcodeIssue(ctx context.Context, s settings) ([]Figure, error) {
	n := s.count(20_000)
	h, err := open(ctx, s, single, newGateway())
	if err != nil {
		return nil, err
	}
	defer h.Close()
	most := 1_000_000
	var limits []client.PasscodeLimit
	for _, by := range []string{"number", "address", "network", "range", "purpose", "country", "key"} {
		for _, window := range []string{"minute", "hour", "day"} {
			limits = append(limits, client.PasscodeLimit{By: by, Window: window, Most: &most})
		}
	}
	if _, err := h.Client.SetPasscodeLimits(ctx, limits); err != nil {
		return nil, err
	}
	// The numbers stand in a few ranges that are reserved for fiction, one after the other: what looks like fraud is told,
	// and goes on.
	if _, err := h.Client.SetPasscodeRules(ctx, []client.PasscodeRule{{Rule: "sequence", Act: "alarm"}, {Rule: "untouched", Act: "alarm"},
		{Rule: "asking", Act: "alarm"}}); err != nil {
		return nil, err
	}
	c := carrier()
	var rate float64
	cost := h.cost(n)
	err = h.profiled(s, func() error {
		began := time.Now()
		err := many(n, 64, func(i int) error {
			return post(c, h.URL+"/v1/passcodes", h.Key, fmt.Sprintf(
				`{"to":"+3363998%04d","purpose":"sign-in","address":"198.51.%d.%d","sender":"Lanternholm"}`,
				i%10_000,
				100+i/250%100,
				i%250,
			))
		})
		rate = float64(n) / time.Since(began).Seconds()
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("%w\n%s", err, h.said())
	}
	spent := cost()
	if err := h.reached(ctx, "delivered", n); err != nil {
		return nil, err
	}
	counted, err := h.number(ctx, "SELECT count(*)::float8 FROM passcode_counts")
	if err != nil {
		return nil, err
	}
	return []Figure{{Name: "passcode_issue", Value: rate, Unit: "issues/s", Asked: "1,000/s",
		Note: fmt.Sprintf(
			"%d limits, %.0f counters; processor an issue, with what is sent meanwhile: %s",
			len(limits),
			counted,
			spent,
		)}}, nil
}
