// Package engine puts the moving parts together: what is accepted is sent,
// what comes back is recorded, what stays silent is looked after.
package engine

import (
	"cmp"
	"context"
	"crypto/rand"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"calmpigeon.example/internal/engine/balance"
	"calmpigeon.example/internal/engine/chase"
	"calmpigeon.example/internal/engine/courier"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/dispatch"
	"calmpigeon.example/internal/engine/intake"
	"calmpigeon.example/internal/engine/keys"
	"calmpigeon.example/internal/engine/receipts"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/trial"
	"calmpigeon.example/internal/engine/watch"
	"calmpigeon.example/internal/store"
)

// Config is what differs from one instance to another.
type Config struct {
	PublicURL string        // where gateways reach this instance
	SealKey   []byte        // 32 bytes that seal the secrets of gateways
	Lease     time.Duration // how long a keeper that died holds up its gateway
	KeepRaw   time.Duration // how long raw exchanges and callbacks are kept
	// BalanceEvery is how often gateways are asked what is left; 0: as usual.
	BalanceEvery time.Duration
	Policy       intake.Policy // what becomes of messages to which kinds of lines; nil: as usual
}

// Engine is the running service without its interfaces.
type Engine struct {
	Store    *store.Store
	Roster   *roster.Roster
	Course   *course.Course
	Hub      *watch.Hub
	Intake   *intake.Intake
	Receipts *receipts.Receipts
	Keys     *keys.Keys
	Trial    *trial.Trial
	Now      func() time.Time
	Config   Config

	dispatch *dispatch.Dispatch
	chase    *chase.Chase
	balance  *balance.Watch
	courier  *courier.Courier
	log      *slog.Logger
}

// Now is the clock of a running service, in the precision that PostgreSQL
// keeps.
func Now() time.Time { return time.Now().UTC().Truncate(time.Microsecond) }

// New puts an engine together. Nothing moves before [Engine.Run].
func New(ctx context.Context, s *store.Store, config Config, log *slog.Logger) (*Engine, error) {
	sealer, err := store.NewSealer(config.SealKey)
	if err != nil {
		return nil, err
	}
	gateways := roster.New(s, sealer)
	if err := gateways.Reload(ctx); err != nil {
		return nil, err
	}
	hub := &watch.Hub{}
	c := &course.Course{Store: s, Roster: gateways, Hub: hub, Now: Now, Due: watch.NewBells()}
	carrier := courier.New(Now)
	if config.Policy == nil {
		config.Policy = intake.Usual
	}
	return &Engine{
		Store: s, Roster: gateways, Course: c, Hub: hub, Now: Now, Config: config, log: log, courier: carrier,
		Intake:   intake.New(c, config.Policy),
		Receipts: receipts.New(c, log),
		Keys:     &keys.Keys{Store: s, Now: Now, Random: rand.Reader},
		dispatch: &dispatch.Dispatch{Course: c, Courier: carrier, Log: log, PublicURL: config.PublicURL, Lease: config.Lease},
		Trial:    &trial.Trial{Courier: carrier, Now: Now},
		balance:  &balance.Watch{Course: c, Courier: carrier, Log: log, Every: cmp.Or(config.BalanceEvery, 5*time.Minute)},
		chase:    &chase.Chase{Course: c, Courier: carrier, Log: log},
	}, nil
}

// Run moves everything until ctx ends, and returns when what was in flight has
// been recorded.
func (e *Engine) Run(ctx context.Context) {
	var parts sync.WaitGroup
	for _, run := range []func(context.Context){e.Intake.Run, e.Receipts.Run, e.dispatch.Run, e.chase.Run, e.balance.Run, e.keepHouse} {
		parts.Go(func() { run(ctx) })
	}
	parts.Wait()
	e.courier.Close()
}

// keepHouse does what has to be done every so often.
func (e *Engine) keepHouse(ctx context.Context) {
	often, daily := time.NewTicker(15*time.Second), time.NewTicker(6*time.Hour)
	defer often.Stop()
	defer daily.Stop()
	for {
		var err error
		select {
		case <-ctx.Done():
			last, cancel := context.WithTimeout(context.Background(), 2*time.Second)
			defer cancel()
			if err := e.Keys.Flush(last); err != nil {
				e.log.Warn("noting the use of keys", "error", err)
			}
			return
		case <-often.C:
			err = e.Keys.Flush(ctx)
		case <-daily.C:
			err = e.tidy(ctx)
		}
		if err != nil && ctx.Err() == nil {
			e.log.Error("keeping house", "error", err)
		}
	}
}

func (e *Engine) tidy(ctx context.Context) error {
	now := e.Now()
	if err := e.Store.EnsurePartitions(ctx, now); err != nil {
		return fmt.Errorf("making partitions: %w", err)
	}
	return e.Store.Tidy(ctx, now, store.Keep{Exchanges: e.Config.KeepRaw, Idempotency: 48 * time.Hour})
}
