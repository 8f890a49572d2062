package roster

import (
	"context"
	"crypto/rand"
	"encoding/base32"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/big"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"golang.org/x/text/currency"

	"calmpigeon.example/internal/core/address"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/sender"
	"calmpigeon.example/internal/core/span"
	"calmpigeon.example/internal/store"
)

// Settings is what is set of a gateway. Of one that is added, what is nil takes
// the dialect's; of one that is changed, it stays.
type Settings struct {
	Source, Address                        *string
	Secrets                                map[string]string // those that are not named stay
	PerSecond, PerMinute, PerDay, InFlight *int
	AskAfter, GiveUpAfter, Timeout         *time.Duration
	AskKinds                               map[string]string // spans by kind, all of them; nil: they stay
	Currency                               *string
	Senders                                *[]string
	LowBalance                             *string // an amount; empty: never warn
	StatementEvery                         *string // a span; empty: never by itself
}

// statementLeast and statementMost are how often a statement can be fetched.
const (
	statementLeast = time.Hour
	statementMost  = 31 * 24 * time.Hour
)

var nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,39}$`)

// AddGateway checks and adds a gateway; without a name it is called as its
// dialect. What is wrong with it comes as [fault.Faults].
func (r *Roster) AddGateway(ctx context.Context, name string, settings Settings, now time.Time) (*Gateway, error) {
	if settings.Source == nil {
		return nil, fault.New("dialect", "is missing", "a dialect file, or the name of one that ships")
	}
	d, err := dialect.Load("dialect", []byte(*settings.Source))
	if err != nil {
		return nil, fault.New("dialect", err.Error(), "a dialect file, or the name of one that ships")
	}
	if name == "" {
		name = d.Name
	}
	if !nameForm.MatchString(name) {
		return nil, fault.New("name", fmt.Sprintf("%q is no name for a gateway", name), "1 to 40 small letters, digits and hyphens")
	}
	if settings.Address == nil {
		settings.Address = new(string)
	}
	random := make([]byte, 20)
	rand.Read(random)
	callback := strings.ToLower(base32.StdEncoding.EncodeToString(random))
	id := store.NewID()
	ms := func(d dialect.Duration) int64 { return time.Duration(d).Milliseconds() }
	g := &Gateway{Secrets: map[string]string{}, Gateway: store.Gateway{
		ID: id, Name: name, SealedCallback: r.sealer.Seal([]byte(callback), id.String()),
		PerSecond: d.Limits.PerSecond, PerMinute: d.Limits.PerMinute, PerDay: d.Limits.PerDay, InFlight: d.Limits.InFlight,
		AskAfterMs: ms(
			d.Silence.AskAfter,
		), GiveUpMs: ms(d.Silence.GiveUpAfter), TimeoutMs: ms(d.Timeout), Senders: []string{}, CreatedAt: now, Version: 1,
	}}
	if err := r.set(g, settings); err != nil {
		return nil, err
	}
	if err := r.store.AddGateway(ctx, g.Gateway); err != nil {
		return nil, err
	}
	return r.reloaded(ctx, id)
}

func (r *Roster) reloaded(ctx context.Context, id uuid.UUID) (*Gateway, error) {
	if err := r.Reload(ctx); err != nil {
		return nil, err
	}
	return r.ByID(id), nil
}

// fresh is a gateway as it is in the database: another instance may have changed
// it a moment ago.
func (r *Roster) fresh(ctx context.Context, g *Gateway) (*Gateway, error) {
	now, err := r.reloaded(ctx, g.ID)
	if err == nil && (now == nil || now.RemovedAt != nil) {
		err = store.ErrNotFound
	}
	return now, err
}

// ChangeGateway changes what is set of a gateway. Work goes on as it was begun;
// the next request is made in the new way.
func (r *Roster) ChangeGateway(ctx context.Context, g *Gateway, settings Settings) (*Gateway, error) {
	g, err := r.fresh(ctx, g)
	if err != nil {
		return nil, err
	}
	changed := *g
	changed.Secrets = maps.Clone(g.Secrets)
	if err := r.set(&changed, settings); err != nil {
		return nil, err
	}
	if err := r.store.ChangeGateway(ctx, changed.Gateway); err != nil {
		return nil, err
	}
	return r.reloaded(ctx, g.ID)
}

// PauseGateway lets nothing more go through a gateway until it is resumed.
// What is on its way is still heard of.
func (r *Roster) PauseGateway(ctx context.Context, g *Gateway, by, why string, now time.Time) (*Gateway, error) {
	if len(why) > 200 || strings.ContainsRune(why, 0) {
		return nil, fault.New("why", "it is too long, or cannot be kept", "at most 200 characters")
	}
	g, err := r.fresh(ctx, g)
	if err != nil || g.PausedAt != nil {
		return g, err
	}
	changed := *g
	changed.PausedAt, changed.PausedBy, changed.PausedWhy = &now, by, why
	if err := r.store.ChangeGateway(ctx, changed.Gateway); err != nil {
		return nil, err
	}
	return r.reloaded(ctx, g.ID)
}

// ResumeGateway ends a pause.
func (r *Roster) ResumeGateway(ctx context.Context, g *Gateway) (*Gateway, error) {
	g, err := r.fresh(ctx, g)
	if err != nil || g.PausedAt == nil {
		return g, err
	}
	changed := *g
	changed.PausedAt, changed.PausedBy, changed.PausedWhy = nil, "", ""
	if err := r.store.ChangeGateway(ctx, changed.Gateway); err != nil {
		return nil, err
	}
	return r.reloaded(ctx, g.ID)
}

// ErrInUse is returned for a gateway that has work, or that a route or a sender
// names.
var ErrInUse = errors.New("the gateway is in use")

// RemoveGateway takes a gateway out of use. Messages that went through it keep
// their evidence, and late receipts still find them.
func (r *Roster) RemoveGateway(ctx context.Context, g *Gateway, now time.Time) error {
	g, err := r.fresh(ctx, g)
	if err != nil {
		return err
	}
	book := r.Book()
	for _, record := range book.Routes {
		for _, leg := range record.Route.Gateways {
			if leg.Gateway == g.Name {
				return fault.Because(ErrInUse, "route %s names it; change the route first", record.Name)
			}
		}
	}
	for _, s := range book.Senders {
		if slices.Contains(s.Gateways, g.Name) {
			return fault.Because(ErrInUse, "sender %s is only for certain gateways, and this is one; change the sender first", s.ID)
		}
	}
	n, err := r.store.Unsettled(ctx, g.ID)
	if err != nil {
		return err
	}
	if n > 0 {
		return fault.Because(ErrInUse, "%d of its messages are not settled yet; pause it and wait for them, or cancel them", n)
	}
	changed := *g
	changed.RemovedAt = &now
	if err := r.store.ChangeGateway(ctx, changed.Gateway); err != nil {
		return err
	}
	return r.Reload(ctx)
}

// set checks settings and writes them into a gateway, sealed as it is stored.
func (r *Roster) set(g *Gateway, s Settings) error {
	var faults fault.Faults
	before, known := g.Speech(), maps.Clone(g.Secrets)
	if s.Source != nil {
		d, err := dialect.Load("dialect", []byte(*s.Source))
		if why := recordProblem(*s.Source); err == nil && why != "" {
			err = errors.New(why)
		}
		if err != nil {
			return fault.New("dialect", err.Error(), "a dialect file, or the name of one that ships")
		}
		g.Source, g.Gateway.Dialect, g.Dialect = *s.Source, d.Name, d
	}
	if s.Address != nil {
		at, err := address.Parse(*s.Address)
		if err != nil {
			faults.Add("address", err.Error(), address.Accepted)
		}
		g.Address = at
	}
	// Whoever may change where secrets go, or how, does not get to see them by it.
	elsewhere := faults == nil && len(g.Secrets) > 0 && g.Speech() != before
	if elsewhere {
		clear(g.Secrets)
	}
	for name, secret := range s.Secrets {
		g.Secrets[name] = secret
	}
	for _, name := range slices.Sorted(maps.Keys(g.Secrets)) {
		switch {
		case slices.Contains(g.Dialect.Secrets, name):
		case s.Secrets[name] != "":
			faults.Add("secrets."+name, "is not a secret of dialect "+g.Dialect.Name, strings.Join(g.Dialect.Secrets, ", "))
		default:
			delete(g.Secrets, name) // of the dialect that it spoke before
		}
	}
	for _, name := range g.Dialect.Secrets {
		if g.Secrets[name] == "" {
			wrong := "is missing"
			if elsewhere {
				wrong = "has to be given again: it would go to another address, or in other requests"
			}
			faults.Add(
				"secrets."+name,
				wrong,
				"a value for each secret that dialect "+g.Dialect.Name+" names: "+strings.Join(g.Dialect.Secrets, ", "),
			)
		}
	}
	for _, limit := range []struct {
		field       string
		given       *int
		to          *int
		least, most int
	}{{"per_second", s.PerSecond, &g.PerSecond, 1, 10_000}, {"per_minute", s.PerMinute, &g.PerMinute, 0, 600_000}, {"per_day", s.PerDay, &g.PerDay, 0, 100_000_000}, {"in_flight", s.InFlight, &g.InFlight, 1, 1000}} {
		if limit.given == nil {
			continue
		}
		if *limit.given < limit.least || *limit.given > limit.most {
			faults.Add(limit.field, fmt.Sprintf("%d is out of range", *limit.given), fmt.Sprintf("%d to %d", limit.least, limit.most))
		}
		*limit.to = *limit.given
	}
	for _, one := range []struct {
		field string
		given *time.Duration
		to    *int64
	}{{"ask_after", s.AskAfter, &g.AskAfterMs}, {"give_up_after", s.GiveUpAfter, &g.GiveUpMs}, {"timeout", s.Timeout, &g.TimeoutMs}} {
		if one.given == nil {
			continue
		}
		if *one.given < time.Millisecond {
			faults.Add(one.field, fmt.Sprintf("%v is too short", *one.given), "a number and a unit, such as 10s, 5m or 48h")
		}
		if one.field == "timeout" && *one.given > timeoutMost {
			faults.Add(
				one.field,
				fmt.Sprintf("%v is too long: stopping waits for it", *one.given),
				fmt.Sprintf("at most %v", timeoutMost),
			)
		}
		*one.to = one.given.Milliseconds()
	}
	if s.AskKinds != nil {
		g.AskKinds = map[string]int64{}
		for kind, given := range s.AskKinds {
			d, err := span.Parse(given)
			if _, unknown := pace.ParseKind(kind); unknown != nil || err != nil || d < time.Millisecond {
				faults.Add("ask_after_kinds."+kind, fmt.Sprintf("%q of %q is not a time span of a kind", given, kind),
					"otp, transactional or bulk, and a time span such as 10s")
				continue
			}
			g.AskKinds[kind] = d.Milliseconds()
		}
	}
	if s.Currency != nil {
		if unit, err := currency.ParseISO(*s.Currency); *s.Currency != "" && (err != nil || unit.String() != *s.Currency) {
			faults.Add("currency", fmt.Sprintf("%q is no currency", *s.Currency), "a code such as EUR (ISO 4217)")
		}
		g.Currency = *s.Currency
	}
	if s.Senders != nil {
		g.Senders = []string{}
		for _, given := range *s.Senders {
			id, err := sender.Parse(given)
			if err != nil {
				faults.Add("senders", fault.Why(err), sender.Accepted)
				continue
			}
			g.Senders = append(g.Senders, id.String())
		}
	}
	if s.LowBalance != nil {
		g.LowBalanceMicros = nil
		if *s.LowBalance != "" {
			amount, ok := new(big.Rat).SetString(*s.LowBalance)
			if !ok || len(*s.LowBalance) > 20 || strings.Trim(*s.LowBalance, "0123456789.") != "" {
				faults.Add(
					"low_balance",
					fmt.Sprintf("%q is no amount", *s.LowBalance),
					"a number such as 25 or 12.50, or nothing for no warning",
				)
			} else {
				micros := new(big.Int).Quo(new(big.Int).Mul(amount.Num(), big.NewInt(1_000_000)), amount.Denom()).Int64()
				g.LowBalanceMicros = &micros
			}
		}
	}
	if s.StatementEvery != nil {
		g.StatementEveryMs = 0
		if *s.StatementEvery != "" {
			every, err := span.Parse(*s.StatementEvery)
			switch {
			case err != nil || every < statementLeast || every > statementMost:
				faults.Add("statement_every", fmt.Sprintf("%q is out of range", *s.StatementEvery),
					fmt.Sprintf("%s to %s, or nothing for never", span.Format(statementLeast), span.Format(statementMost)))
			case !g.Dialect.CanFetchStatement():
				faults.Add("statement_every", "dialect "+g.Dialect.Name+" does not say how a statement is fetched",
					"nothing, or a dialect with statement.request")
			default:
				g.StatementEveryMs = every.Milliseconds()
			}
		}
	}
	if len(faults) > 0 {
		return faults
	}
	if maps.Equal(known, g.Secrets) && g.SealedSecrets != nil {
		return nil
	}
	secrets, err := json.Marshal(g.Secrets)
	if err != nil {
		return err
	}
	g.SealedSecrets = r.sealer.Seal(secrets, g.ID.String())
	return nil
}
