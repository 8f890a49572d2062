package main

import (
	"context"
	"fmt"
)

// onPackaged compares a PostgreSQL as Debian sets it up, with nothing set, with our own: the same figures
// on both, one after the other.
func onPackaged(ctx context.Context, s settings) ([]Figure, error) {
	var all []Figure
	for _, run := range []func(context.Context, settings) ([]Figure, error){idle, lifeSingle, lifeList} {
		s.packaged = false
		own, err := run(ctx, s)
		if err != nil {
			return all, err
		}
		s.packaged = true
		packaged, err := run(ctx, s)
		if err != nil {
			return all, fmt.Errorf("on a packaged server: %w", err)
		}
		f := packaged[0]
		all = append(all, Figure{
			Name: "packaged_" + f.Name, Value: f.Value, Unit: f.Unit, Bound: own[0].Value, Ratio: f.Value / own[0].Value,
			Asked: "within 10% of our own server", Note: f.Note,
		})
	}
	return all, nil
}
