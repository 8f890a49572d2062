package main

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"path/filepath"
	"sync/atomic"
	"time"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/service"
)

// monthTurn measures lives across a change of month against lives within one. The
// service runs in this process, with a clock that is told what month it is.
func monthTurn(ctx context.Context, s settings) ([]Figure, error) {
	n := s.count(20_000)
	within, err := livesFrom(ctx, s, n, func(turn time.Time) time.Time { return turn.AddDate(0, 0, -14) })
	if err != nil {
		return nil, err
	}
	// The turn comes when about a third has gone.
	third := time.Duration(float64(n) / within / 3 * float64(time.Second))
	across, err := livesFrom(ctx, s, n, func(turn time.Time) time.Time { return turn.Add(-third) })
	if err != nil {
		return nil, err
	}
	return []Figure{{Name: "month_turn", Value: across, Unit: "lives/s", Bound: within, Ratio: across / within, Asked: "0.95",
		Note: fmt.Sprintf("the month turns after %.1f s; the bound is within a month", third.Seconds())}}, nil
}

// livesFrom measures single lives with a clock that starts at a moment, told by
// when the next month begins.
func livesFrom(ctx context.Context, s settings, n int, start func(turn time.Time) time.Time) (float64, error) {
	h, err := build(ctx, s)
	if err != nil {
		return 0, err
	}
	defer h.Close()
	h.stop() // its place is taken by one in this process
	now := time.Now().UTC()
	turn := time.Date(now.Year(), now.Month()+1, 1, 0, 0, 0, 0, time.UTC)
	var ahead atomic.Int64 // nanoseconds
	running, stop := context.WithCancel(ctx)
	ended := make(chan error, 1)
	ready := make(chan string, 1)
	go func() {
		ended <- service.Run(running, service.Options{
			Listen: "127.0.0.1:0", DatabaseURL: h.server.URL, Data: filepath.Join(h.folder, "data"),
			Lease: 5 * time.Second, KeepRaw: time.Hour * 24 * 365,
			SealKey: "cHJhY3RpY2UtcHJhY3RpY2UtcHJhY3RpY2UtcHJhY3Q=", Log: slog.New(slog.NewJSONHandler(io.Discard, nil)),
			Clock: func() time.Time { return time.Now().Add(time.Duration(ahead.Load())) },
		}, func(url string) { ready <- url })
	}()
	defer func() {
		stop()
		<-ended
	}()
	select {
	case h.URL = <-ready:
	case err := <-ended:
		ended <- err
		return 0, fmt.Errorf("the service did not come up: %w", err)
	}
	h.Client = client.New(h.URL, h.Key)
	if err := h.gateway(ctx, single, newGateway()); err != nil {
		return 0, err
	}
	ahead.Store(int64(time.Until(start(turn))))
	began := time.Now()
	if err := h.flood(n); err != nil {
		return 0, err
	}
	err = h.reached(ctx, "delivered", n)
	return float64(n) / time.Since(began).Seconds(), err
}
