// Package engine puts the moving parts together: what is accepted is sent,
// what comes back is recorded, what stays silent is looked after.
package engine

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/sheet"
	"calmpigeon.example/internal/engine/arrivals"
	"calmpigeon.example/internal/engine/attention"
	"calmpigeon.example/internal/engine/balance"
	"calmpigeon.example/internal/engine/batches"
	"calmpigeon.example/internal/engine/chase"
	"calmpigeon.example/internal/engine/conversations"
	"calmpigeon.example/internal/engine/courier"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/decide"
	"calmpigeon.example/internal/engine/dispatch"
	"calmpigeon.example/internal/engine/events"
	"calmpigeon.example/internal/engine/gate"
	"calmpigeon.example/internal/engine/hold"
	"calmpigeon.example/internal/engine/intake"
	"calmpigeon.example/internal/engine/keys"
	"calmpigeon.example/internal/engine/kit"
	"calmpigeon.example/internal/engine/money"
	"calmpigeon.example/internal/engine/passcodes"
	"calmpigeon.example/internal/engine/receipts"
	"calmpigeon.example/internal/engine/recipients"
	"calmpigeon.example/internal/engine/recovery"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/statements"
	"calmpigeon.example/internal/engine/strays"
	"calmpigeon.example/internal/engine/trial"
	"calmpigeon.example/internal/engine/watch"
	"calmpigeon.example/internal/engine/withdraw"
	"calmpigeon.example/internal/store"
)

// Config is what differs from one instance to another.
type Config struct {
	PublicURL string        // where gateways reach this instance
	SealKey   []byte        // 32 bytes that seal the secrets of gateways
	Lease     time.Duration // how long a keeper that died holds up its gateway
	KeepRaw   time.Duration // how long raw exchanges and callbacks are kept
	// KeepMessages is how long messages are kept, in whole months; 0: for ever.
	KeepMessages time.Duration
	// StatementAfter is how long after the end of its span a statement is fetched; 0: as usual.
	StatementAfter time.Duration
	// BalanceEvery is how often gateways are asked what is left; 0: as usual.
	BalanceEvery time.Duration
	Clock        func() time.Time // nil: the database's, which all instances share
	OnlyPublic   bool             // no gateway at a private address
	Policy       intake.Policy    // what becomes of messages to which kinds of lines; nil: as usual
	Batches      batches.Limits
	Files        string        // the folder of files that are needed for a while; where the system keeps such if empty
	StrayQuiet   time.Duration // how long a gateway is to be quiet before strays are judged; 0: as usual
}

// Engine is the running service without its interfaces.
type Engine struct {
	kit.Kit
	Intake     *intake.Intake
	Withdraw   *withdraw.Withdrawal
	Receipts   *receipts.Receipts
	Keys       *keys.Keys
	Trial      *trial.Trial
	Batches    *batches.Batches
	Lists      *recipients.Lists
	Hold       *hold.Hold
	Strays     *strays.Strays
	Arrivals   *arrivals.Arrivals
	Money      *money.Money
	Passcodes  *passcodes.Passcodes
	Needs      *attention.Attention
	Decide     *decide.Decide
	Statements *statements.Statements
	Fetcher    *statements.Fetcher
	Events     *events.Events
	Talk       *conversations.Conversations
	Recovery   *recovery.Recovery
	Config     Config

	dispatch *dispatch.Dispatch
	chase    *chase.Chase
	balance  *balance.Watch
	courier  *courier.Courier
	clock    *clock
	counts   watch.Kick // there is something to be added up
	heard    int64      // how many changes of what is set [Engine.look] has told of
}

// balanceEvery is how often gateways are asked what is left, where nothing else
// is said.
const balanceEvery = 5 * time.Minute

// New puts an engine together. Nothing moves before [Engine.Run].
func New(ctx context.Context, s *store.Store, config Config, log *slog.Logger) (*Engine, error) {
	sealer, err := store.NewSealer(config.SealKey)
	if err != nil {
		return nil, err
	}
	if err := s.Probe(ctx, sealer); err != nil {
		return nil, err
	}
	gateways := roster.New(s, sealer)
	if err := gateways.Reload(ctx); err != nil {
		return nil, err
	}
	shared := &clock{local: time.Now, store: s}
	if config.Clock != nil {
		shared = &clock{local: config.Clock}
	}
	if err := shared.set(ctx); err != nil {
		return nil, err
	}
	k := kit.Kit{
		Store:  s,
		Roster: gateways,
		Hub:    &watch.Hub{},
		Bells:  watch.NewBells(),
		Gate:   &gate.Gate{Rewound: s.Rewound},
		Sheets: sheet.NewOpener(config.Files),
		Now:    shared.now,
		Log:    log,
	}
	c := &course.Course{Kit: k}
	carrier := courier.New(k.Now, config.OnlyPublic)
	sending := &dispatch.Dispatch{Kit: k, Course: c, Courier: carrier, PublicURL: config.PublicURL, Lease: config.Lease}
	if config.Policy == nil {
		config.Policy = intake.Usual
	}
	in := intake.New(k, config.Policy)
	sheets := batches.New(k, in, c, sending.Keeps, config.Batches)
	sending.Rows = sheets
	astray := strays.New(k, c, &strays.Clocks{Store: s}, config.StrayQuiet)
	faring, costs := &arrivals.Arrivals{Kit: k}, &money.Money{Kit: k}
	needs := &attention.Attention{Kit: k, Clocks: astray.Clocks, Arrivals: faring, Money: costs}
	lists := statements.New(k, c, func(gateway uuid.UUID) time.Duration { skew, _ := astray.Clocks.Skew(gateway); return skew })
	fetcher := &statements.Fetcher{
		Kit:        k,
		Statements: lists,
		Courier:    carrier,
		After:      cmp.Or(config.StatementAfter, statements.FetchAfter),
	}
	needs.Fetcher = fetcher
	asking := chase.New(k, c, carrier, sending.Keeps, sending.LeaveQuery)
	using := &keys.Keys{Store: s, Now: k.Now, Random: rand.Reader, Log: log}
	recovering := &recovery.Recovery{Kit: k, Course: c, Batches: sheets, Chase: asking, Forget: func(ctx context.Context) error {
		using.Forget()
		return errors.Join(s.EnsurePartitions(ctx, k.Now()), gateways.Renew(ctx))
	}}
	if err := recovering.Enter(ctx); err != nil {
		return nil, err
	}
	return &Engine{
		Kit: k, Config: config, clock: shared, courier: carrier,
		Intake:     in,
		Batches:    sheets,
		Lists:      &recipients.Lists{Store: s, Sheets: k.Sheets, Now: k.Now},
		Hold:       hold.New(k, c),
		Withdraw:   &withdraw.Withdrawal{Kit: k, Course: c},
		Strays:     astray,
		Statements: lists,
		Fetcher:    fetcher,
		Arrivals:   faring,
		Money:      costs,
		Passcodes:  passcodes.New(k, in, rand.Reader),
		Needs:      needs,
		Talk:       &conversations.Conversations{Kit: k, Intake: in},
		Events:     events.New(k, config.Lease, config.OnlyPublic, needs.Needs),
		Decide:     &decide.Decide{Kit: k, Course: c},
		Receipts:   receipts.New(k, c, in, astray),
		Keys:       using,
		Recovery:   recovering,
		Trial:      &trial.Trial{Courier: carrier, Now: k.Now},
		dispatch:   sending,
		balance:    &balance.Watch{Kit: k, Courier: carrier, Every: cmp.Or(config.BalanceEvery, balanceEvery)},
		chase:      asking,
		counts:     watch.NewKick(),
	}, nil
}

// Ask lets messages be asked about at once; see [chase.Chase.AskNow].
func (e *Engine) Ask(ctx context.Context, messages []uuid.UUID, try bool) ([]chase.Cost, []chase.Refusal, error) {
	return e.chase.AskNow(ctx, messages, try)
}

// Run moves everything until ctx ends, and returns when what was in flight has
// been recorded.
func (e *Engine) Run(ctx context.Context) {
	var parts sync.WaitGroup
	for _, run := range []func(context.Context){
		e.Intake.Run, e.Batches.Run, e.Hold.Run,
		e.Receipts.Run, e.Strays.Run, e.Statements.Run, e.Fetcher.Run, e.Passcodes.Run,
		e.Events.Run, e.dispatch.Run, e.chase.Run, e.balance.Run, e.keepHouse, e.addUp, e.lookOut, e.Recovery.Run,
	} {
		parts.Go(func() { run(ctx) })
	}
	parts.Wait()
	e.courier.Close()
}

// lookEvery is how often it is looked what there is to do: what other instances
// accepted, set or left, and whose time has come.
const lookEvery = 500 * time.Millisecond

// lookOut sees what there is to do and wakes who does it.
func (e *Engine) lookOut(ctx context.Context) {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	said := time.Time{}
	for {
		if err := e.look(ctx); err != nil && ctx.Err() == nil && time.Since(said) > 10*time.Second {
			said = time.Now()
			e.Log.Error("looking out", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

func (e *Engine) look(ctx context.Context) error {
	now := e.Now()
	sight, err := e.Store.Look(ctx, now, now.Add(-receipts.Leftover))
	if err != nil {
		return err
	}
	if sight.Schema > store.SchemaVersion && !e.Gate.Outdated() {
		e.Gate.Outdate()
		e.Log.Error("the database was migrated to a newer schema: this instance gives its gateways up and sends nothing more; "+
			"end it, and start the newer version", "schema", sight.Schema, "known", store.SchemaVersion)
	}
	if err := e.Recovery.Look(ctx, sight.Quarantined, sight.Asking, sight.Prepared); err != nil {
		return err
	}
	if sight.Settings != e.heard { // whether or not the roster has read it already
		if err := e.Roster.Reload(ctx); err != nil {
			return err
		}
		e.Keys.Forget()
		e.Bells.Fresh.Now()
		e.heard = sight.Settings
	}
	for _, one := range sight.Due {
		e.Bells.Ring(one.Gateway, one.Lane == pace.OTP.Lane())
	}
	e.chase.Wake(sight.Silent, sight.ToAsk, sight.Late)
	e.Receipts.Wake(sight.Unread, sight.Strays)
	e.Strays.Wake(sight.ToJudge)
	e.Statements.Wake(sight.Stated)
	e.Batches.Wake(sight.ToCheck, sight.AtWork)
	if e.Gate.Open() {
		e.Events.Wake(sight.ToTell)
		e.Hold.Wake(sight.Held)
	}
	if sight.Deltas {
		e.counts.Now()
	}
	return nil
}

// keepHouse does what has to be done every so often.
func (e *Engine) keepHouse(ctx context.Context) {
	if err := e.Strays.Clocks.Flush(ctx, e.Now()); err != nil {
		e.Log.Warn("reading how gateways' clocks go", "error", err)
	}
	often, daily := time.NewTicker(15*time.Second), time.NewTicker(6*time.Hour)
	defer often.Stop()
	defer daily.Stop()
	for {
		var err error
		select {
		case <-ctx.Done():
			last, cancel := context.WithTimeout(context.Background(), 2*time.Second)
			defer cancel()
			if err := errors.Join(e.Keys.Flush(last), e.Strays.Clocks.Flush(last, e.Now())); err != nil {
				e.Log.Warn("noting the use of keys, and how gateways' clocks go", "error", err)
			}
			return
		case <-often.C:
			err = errors.Join(e.Keys.Flush(ctx), e.clock.set(ctx), e.Strays.Clocks.Flush(ctx, e.Now()),
				e.Store.TidyPasscodes(ctx, e.Now()))
		case <-daily.C:
			err = e.tidy(ctx)
		}
		if err != nil && ctx.Err() == nil {
			e.Log.Error("keeping house", "error", err)
		}
	}
}

// strayEnd is how long strays stay that nobody looks at any more, beyond what
// they came with.
const strayEnd = 7 * 24 * time.Hour

// addEvery is how long deltas are left to gather before they are added up.
const addEvery = 2 * time.Second

// addUp adds up what is counted, and proves now and then that it is right.
func (e *Engine) addUp(ctx context.Context) {
	seldom := time.NewTicker(time.Minute)
	defer seldom.Stop()
	added := time.Time{}
	hours := 0
	var proved uuid.UUID // the batch whose counts were proved last
	for {
		var err error
		select {
		case <-ctx.Done():
			return
		case <-e.counts:
			if time.Since(added) < addEvery { // it is seen again
				continue
			}
			added = time.Now()
			for more := true; more && err == nil; {
				more, err = e.Store.Compact(ctx)
			}
		case <-seldom.C:
			// The last hours again and again, and of those before one after the
			// other.
			hours = (hours + 1) % (31 * 24)
			for _, back := range []int{hours % 3, hours} {
				if err = e.prove(ctx, e.Now().Add(-time.Duration(back)*time.Hour)); err != nil {
					break
				}
			}
			if err == nil {
				proved, err = e.proveSums(ctx, proved, hours)
			}
		}
		if err != nil && ctx.Err() == nil {
			e.Log.Error("adding up tallies", "error", err)
		}
	}
}

// prove holds what is counted of an hour against its messages.
func (e *Engine) prove(ctx context.Context, hour time.Time) error {
	differences, wrong, err := e.Store.Prove(ctx, hour)
	for _, d := range differences {
		e.Log.Error("a tally is wrong, and counted anew", "hour", d.Hour, "gateway", d.Gateway, "state", d.State, "kept", d.Kept,
			"counted", d.Counted, "messages", wrong)
	}
	if err == nil && len(differences) > 0 {
		return e.Store.Recount(ctx, hour)
	}
	return err
}

// proveSums holds the counts of the next batch against its messages, and once in an hour those of the last
// days and of one before them. Turn is counted up each minute.
func (e *Engine) proveSums(ctx context.Context, last uuid.UUID, turn int) (looked uuid.UUID, err error) {
	looked, wrong, err := e.Store.ProveBatch(ctx, last)
	if err == nil && turn%60 == 1 {
		for _, back := range []int{0, 1, 2 + turn/60%30} {
			day := e.Now().AddDate(0, 0, -back)
			for _, prove := range []func(context.Context, time.Time) ([]store.Miscount, error){e.Store.ProveDay, e.Store.ProveMoney} {
				more, wrongly := prove(ctx, day)
				wrong, err = append(wrong, more...), errors.Join(err, wrongly)
			}
		}
	}
	for _, one := range wrong {
		e.Log.Error("a kept count is wrong, and corrected", "count", one.What, "kept", one.Kept, "counted", one.Counted)
	}
	return looked, err
}

func (e *Engine) tidy(ctx context.Context) error {
	now := e.Now()
	if err := e.Store.EnsurePartitions(ctx, now); err != nil {
		return fmt.Errorf("making partitions: %w", err)
	}
	if err := e.Store.DropSessions(ctx, now.Add(-7*keys.SessionUnused)); err != nil {
		return fmt.Errorf("forgetting sessions: %w", err)
	}
	if keep := e.Config.KeepMessages; keep > 0 {
		if err := e.Statements.Tidy(ctx, now.Add(-keep)); err != nil {
			return fmt.Errorf("forgetting statements: %w", err)
		}
	}
	if err := e.Store.ForgetRemovedStrays(ctx, now.Add(-strayEnd)); err != nil {
		return err
	}
	if err := e.Strays.Clocks.Tidy(ctx, now); err != nil {
		return fmt.Errorf("forgetting how clocks went: %w", err)
	}
	forgotten := time.Time{}
	if keep := e.Config.KeepMessages; keep > 0 {
		forgotten = now.Add(-keep)
	}
	if err := e.Passcodes.Tidy(ctx, now, forgotten); err != nil {
		return err
	}
	if err := e.Store.DropReach(ctx, now.Add(-batches.ReachKept)); err != nil {
		return err
	}
	if err := e.Store.DropStaged(ctx, now.Add(-24*time.Hour)); err != nil {
		return fmt.Errorf("forgetting lists of recipients that never became whole: %w", err)
	}
	return e.Store.Tidy(ctx, now, store.Keep{Messages: e.Config.KeepMessages, Exchanges: e.Config.KeepRaw, Idempotency: 48 * time.Hour,
		Strays: e.Config.KeepRaw + strayEnd, Inbound: e.Config.KeepMessages})
}
