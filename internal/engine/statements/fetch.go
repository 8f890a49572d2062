package statements

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/sheet"
	"calmpigeon.example/internal/core/statement"
	"calmpigeon.example/internal/engine/courier"
	"calmpigeon.example/internal/engine/guard"
	"calmpigeon.example/internal/engine/kit"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

const (
	// fetchLook is how often it is looked whether a statement is to be fetched.
	fetchLook = 15 * time.Second
	// fetchLease is in what time a statement has to be fetched.
	fetchLease = 30 * time.Minute
	// fetchLong is how many octets of a statement are read.
	fetchLong = 1 << 30
	// FetchAfter is how long after the end of its span a statement is fetched, where nothing else is set: gateways
	// write them later.
	FetchAfter = time.Hour
	// margin is by how much more is asked for at both ends of the span: what goes about midnight is in the day before
	// by one clock, and in the day after by the other.
	margin = 10 * time.Minute
	// retryLeast and retryMost are the pauses after a statement that could not be fetched.
	retryLeast, retryMost = time.Minute, time.Hour
)

// Fetcher fetches gateways' statements as their dialects say, on a schedule and when it is asked to.
type Fetcher struct {
	kit.Kit
	Statements *Statements
	Courier    *courier.Courier
	After      time.Duration // the end of a span
}

// Run fetches what is due until ctx ends. Of all instances one fetches a statement.
func (f *Fetcher) Run(ctx context.Context) {
	tick := time.NewTicker(fetchLook)
	defer tick.Stop()
	for {
		if !f.Gate.Open() {
			// nothing is asked of gateways by itself
		} else if err := f.All(ctx); err != nil && ctx.Err() == nil {
			f.Log.Error("fetching statements", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// All fetches the statements that are due, one after the other.
func (f *Fetcher) All(ctx context.Context) error {
	var scheduled []*roster.Gateway
	for _, g := range f.Roster.All() {
		if g.StatementEveryMs > 0 && g.Dialect.CanFetchStatement() {
			scheduled = append(scheduled, g)
		}
	}
	if scheduled == nil {
		return nil
	}
	known, err := f.Store.StatementFetches(ctx)
	if err != nil {
		return err
	}
	var failed []error
	for _, g := range scheduled {
		if one, ok := known[g.ID]; ok && f.DueAt(g, one).After(f.Now()) {
			continue
		}
		if err := guard.Try(func() error { return f.fetchNext(ctx, g) }); err != nil {
			failed = append(failed, fmt.Errorf("%s: %w", g.Name, err))
		}
	}
	return errors.Join(failed...)
}

// end is the end of the span after one that was fetched. Spans of a day begin at midnight of UTC, those of a week on
// Mondays.
func end(g *roster.Gateway, through time.Time) time.Time {
	every := g.StatementEvery()
	return through.UTC().Truncate(every).Add(every)
}

// DueAt is when the next statement of a gateway is fetched.
func (f *Fetcher) DueAt(g *roster.Gateway, fetched store.StatementFetch) time.Time {
	due := end(g, fetched.Through).Add(f.After)
	if fetched.NotBefore.After(due) {
		return fetched.NotBefore
	}
	return due
}

// fetchNext fetches the next statement of a gateway, unless somebody else does. What goes wrong with the gateway is
// noted, and is no error.
func (f *Fetcher) fetchNext(ctx context.Context, g *roster.Gateway) error {
	now, every := f.Now(), g.StatementEvery()
	last := now.Add(-f.After).UTC().Truncate(every) // the end of the last span that is over
	claimed, err := f.Store.ClaimFetch(ctx, g.ID, last.Add(-every), now, now.Add(fetchLease))
	if err != nil || claimed == nil {
		return err
	}
	until := end(g, claimed.Through)
	if f.DueAt(g, *claimed).After(now) { // another has fetched it since it was looked
		_, err := f.Store.EndFetch(ctx, *claimed)
		return err
	}
	bounded, stop := context.WithTimeout(ctx, fetchLease-time.Minute)
	defer stop()
	_, err = f.Fetch(bounded, g, claimed.Through, until, "schedule")
	switch {
	case ctx.Err() != nil: // as it was: the next instance begins anew
	case err == nil:
		claimed.Through, claimed.Tries, claimed.FailedAt, claimed.Failure = until, 0, nil, ""
	default:
		if claimed.FailedAt == nil {
			claimed.FailedAt = &now
		}
		claimed.Tries, claimed.Failure = claimed.Tries+1, fault.Why(err)
		claimed.NotBefore = f.Now().Add(min(retryLeast<<min(claimed.Tries-1, 10), retryMost))
	}
	ending, stop := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer stop()
	mine, err := f.Store.EndFetch(ending, *claimed)
	if err == nil && !mine {
		f.Log.Warn("a statement took longer than its lease", "gateway", g.Name)
	}
	return err
}

// ErrFetch is wrapped by errors of a gateway that does not give its statement.
var ErrFetch = errors.New("the statement could not be fetched")

// Fetch fetches a gateway's statement of a span of time and takes it in, as it flows. A little more is asked for than
// the span, at both of its ends.
func (f *Fetcher) Fetch(ctx context.Context, g *roster.Gateway, from, until time.Time, by string) (Took, error) {
	var none Took
	now := f.Now()
	end := until.Add(margin)
	if end.After(now) {
		end = now.Add(time.Second) // it is asked for in whole ones
	}
	ours := until
	if settled := now.Add(-margin); ours.After(settled) { // what has only just gone may be on no list yet
		ours = settled
	}
	means, _, err := f.Courier.Means(ctx, g)
	if err != nil {
		return none, fault.Because(ErrFetch, "%w", err)
	}
	request, err := g.Dialect.StatementRequest(from.Add(-margin), end, means)
	if err != nil {
		return none, fault.Because(ErrFetch, "%s", g.Mask(err.Error()))
	}
	answer, err := f.Courier.Open(ctx, g, request, fetchLong)
	if err != nil {
		var refusal *courier.Refusal
		token := means.Secrets["token"]
		if errors.As(err, &refusal) && refusal.Status == http.StatusUnauthorized && token != "" && g.Dialect.Token != nil {
			f.Courier.DropToken(g, token)
		}
		return none, fault.Because(ErrFetch, "%w", err)
	}
	defer answer.Close()
	from, until = from.UTC(), until.UTC()
	name := fmt.Sprintf("%s, %s to %s", g.Name, from.Format("2 Jan 2006 15:04"), until.Format("2 Jan 2006 15:04"))
	took, err := f.Statements.Take(ctx, Wants{Gateway: g, Name: name, By: by, From: &from, Until: &ours, Fetched: true,
		Mapping: &statement.Mapping{Dialect: true, Columns: map[statement.Role]string{}}}, answer, sheet.Hint{})
	if faults := fault.Of(err); faults != nil { // it is the gateway that sent it
		err = fault.Because(ErrFetch, "what it answered is no statement: %s", faults[0].Wrong)
	}
	return took, err
}

// Schedule is how far a gateway's statements were fetched.
type Schedule struct {
	Gateway *roster.Gateway
	store.StatementFetch
	Due time.Time // when the next one is fetched
}

// Schedules are those of all gateways whose statements are fetched.
func (f *Fetcher) Schedules(ctx context.Context) ([]Schedule, error) {
	known, err := f.Store.StatementFetches(ctx)
	if err != nil {
		return nil, err
	}
	var all []Schedule
	for _, g := range f.Roster.All() {
		if g.StatementEveryMs == 0 {
			continue
		}
		one := Schedule{g, known[g.ID], f.Now()}
		if !one.Through.IsZero() {
			one.Due = f.DueAt(g, one.StatementFetch)
		}
		all = append(all, one)
	}
	return all, nil
}
