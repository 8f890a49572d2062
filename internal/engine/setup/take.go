package setup

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/google/uuid"

	"calmpigeon.example/dialects"
	"calmpigeon.example/internal/core/document"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/core/route"
	"calmpigeon.example/internal/core/sender"
	"calmpigeon.example/internal/core/span"
	"calmpigeon.example/internal/core/template"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

func read(source []byte) (File, error) {
	var f File
	if err := document.Decode(source, &f, yaml.UseOrderedMap()); err != nil {
		return f, fault.New("source", err.Error(), "a set-up as an export has it")
	}
	return f, nil
}

// errRehearsed undoes a rehearsal.
var errRehearsed = errors.New("only rehearsed")

// Take takes a file in, all of it or nothing. What the file does not name stays
// as it is; routes, if it has any, take the place of all that are there. secrets
// are the values of placeholders; those of a gateway that is there already may
// be left out. A rehearsal makes every check and changes nothing.
func Take(
	ctx context.Context,
	s *store.Store,
	r *roster.Roster,
	source []byte,
	secrets map[string]string,
	by string,
	now time.Time,
	rehearse bool,
) (Change, error) {
	f, err := read(source)
	if err != nil {
		return Change{}, err
	}
	var change Change
	err = s.Transact(ctx, func(s *store.Store) error {
		change = Change{}
		within, err := r.Within(ctx, s)
		if err != nil {
			return err
		}
		t := taking{ctx: ctx, roster: within, secrets: secrets, by: by, now: now, change: &change,
			broken: map[string]bool{}, missing: map[string]bool{}}
		for _, part := range []func(File) error{t.gateways, t.prices, t.receivers, t.senders, t.rules, t.templates, t.routes} {
			if err := part(f); err != nil {
				return err
			}
		}
		if len(t.missing) > 0 {
			t.faults.Add("secrets", "there is no value for "+strings.Join(slices.Sorted(maps.Keys(t.missing)), ", "),
				"a value for each: pigeon setup import takes them from the environment")
		}
		if len(t.faults) > 0 {
			return t.faults
		}
		if rehearse {
			return errRehearsed
		}
		return nil
	})
	if errors.Is(err, errRehearsed) {
		return change, nil
	}
	if err != nil {
		return Change{}, err
	}
	return change, r.Reload(ctx)
}

// taking is a file on its way in.
type taking struct {
	ctx     context.Context
	roster  *roster.Roster
	secrets map[string]string
	by      string
	now     time.Time
	change  *Change
	faults  fault.Faults
	broken  map[string]bool // gateways that something is wrong with: what follows from it is not told
	missing map[string]bool // variables
}

// note counts a part in; faults of it are gathered under its name, other errors
// end the taking.
func (t *taking) note(name string, known, same bool, put func() error) error {
	switch {
	case known && same:
		t.change.Same = append(t.change.Same, name)
		return nil
	case known:
		t.change.Changed = append(t.change.Changed, name)
	default:
		t.change.New = append(t.change.New, name)
	}
	err := put()
	if faults := fault.Of(err); faults != nil {
		for _, f := range faults {
			t.faults.Add(name+": "+f.Field, f.Wrong, f.Accepted)
		}
		return nil
	}
	return err
}

func (t *taking) gateways(f File) error {
	for _, g := range f.Gateways {
		name := "gateway " + g.Name
		there := t.roster.ByName(g.Name)
		source := g.Source
		if g.Dialect != "" {
			shipped, err := dialects.Source(g.Dialect)
			if err != nil {
				t.faults.Add(
					name+": dialect",
					fmt.Sprintf("%q does not ship", g.Dialect),
					"one of "+strings.Join(dialects.Names(), ", ")+", or a dialect file as source",
				)
				t.broken[g.Name] = true
				continue
			}
			source = string(shipped)
		}
		given := map[string]string{}
		variables := map[string]string{} // that stand for its secrets
		for secret, value := range g.Secrets {
			m := placeholder.FindStringSubmatch(value)
			if m == nil {
				t.faults.Add(
					name+": secrets."+secret,
					"a secret stands in the file itself",
					"a placeholder such as "+Placeholder(g.Name, secret)+", whose value is taken from the environment",
				)
				t.broken[g.Name] = true
				continue
			}
			variables[secret] = m[1]
			if known, ok := t.secrets[m[1]]; ok {
				given[secret] = known
			}
		}
		setup := roster.Settings{
			Source:     &source,
			Address:    &g.Address,
			Secrets:    given,
			PerSecond:  number(g.PerSecond),
			PerMinute:  &g.PerMinute,
			PerDay:     &g.PerDay,
			InFlight:   number(g.InFlight),
			Currency:   &g.Currency,
			Senders:    &g.Senders,
			LowBalance: &g.LowBalance,
			AskKinds:   map[string]string{},

			StatementEvery: &g.Statement,
		}
		if every, err := span.Parse(g.Statement); err == nil { // as it is written again
			g.Statement = span.Format(every)
		}
		for kind, given := range g.AskKinds {
			if d, err := span.Parse(given); err == nil { // what cannot be read is told where it is set
				given = span.Format(d)
			}
			g.AskKinds[kind], setup.AskKinds[kind] = given, given
		}
		for _, one := range []struct {
			field string
			given *string
			to    **time.Duration
		}{
			{"ask_after", &g.AskAfter, &setup.AskAfter},
			{"give_up_after", &g.GiveUpAfter, &setup.GiveUpAfter},
			{"timeout", &g.Timeout, &setup.Timeout},
		} {
			if *one.given == "" {
				continue
			}
			d, err := span.Parse(*one.given)
			if err != nil {
				t.faults.Add(name+": "+one.field, fmt.Sprintf("%q is not a time span", *one.given), span.Accepted)
				t.broken[g.Name] = true
			}
			*one.given, *one.to = span.Format(d), &d
		}
		if t.broken[g.Name] {
			continue
		}
		same := there != nil && len(given) == 0
		if there != nil {
			now, wanted := written(there), g
			wanted.Secrets, now.Secrets = nil, nil
			if now.Dialect != "" && wanted.Source == source {
				wanted.Source = ""
			}
			wanted.Senders, wanted.Prices = some(wanted.Senders), ""
			same = same && reflect.DeepEqual(now, wanted)
		}
		before := len(t.faults)
		err := t.note(name, there != nil, same, func() error { return t.gateway(g.Name, setup, variables) })
		if err != nil {
			return err
		}
		if len(t.faults) > before {
			t.broken[g.Name] = true
		}
	}
	return nil
}

// gateway adds or changes one. Secrets whose variables have no value are missing, and
// something stands for them, so that everything else can be looked at: nothing is
// kept of it.
func (t *taking) gateway(name string, setup roster.Settings, variables map[string]string) error {
	put := func() (err error) {
		if there := t.roster.ByName(name); there != nil {
			_, err = t.roster.ChangeGateway(t.ctx, there, setup)
			return err
		}
		_, err = t.roster.AddGateway(t.ctx, name, setup, t.now)
		return err
	}
	err := put()
	missing := false
	for _, f := range fault.Of(err) {
		secret, ok := strings.CutPrefix(f.Field, "secrets.")
		if variable := variables[secret]; ok && variable != "" && setup.Secrets[secret] == "" {
			t.missing[variable], missing = true, true
			setup.Secrets[secret] = "‹missing›"
		}
	}
	if missing {
		return put()
	}
	return err
}

// prices takes the price lists of gateways in. A gateway without one keeps its own.
func (t *taking) prices(f File) error {
	for _, g := range f.Gateways {
		if g.Prices == "" || t.broken[g.Name] {
			continue
		}
		name := "prices of " + g.Name
		entries, err := price.ReadCSV(strings.NewReader(g.Prices))
		if err != nil {
			t.faults.Add(name, fault.Why(err), "a price list in CSV as the documentation describes it")
			continue
		}
		gateway := t.roster.ByName(g.Name)
		before, err := writtenPrices(t.roster.Book().Prices(gateway.ID).Entries)
		if err != nil {
			return err
		}
		after, err := writtenPrices(entries)
		if err != nil {
			return err
		}
		put := func() error { return t.roster.PutPrices(t.ctx, gateway, entries, t.by, t.now) }
		if err := t.note(name, before != "", before == after, put); err != nil {
			return err
		}
	}
	return nil
}

// receivers takes receivers of events in. One that is there keeps its secret, unless another is given: then events are
// signed with both for a while.
func (t *taking) receivers(f File) error {
	for _, w := range f.Receivers {
		name := "receiver " + w.Name
		m := placeholder.FindStringSubmatch(w.Secret)
		if m == nil {
			t.faults.Add(name+": secret", "it stands in the file itself, or is missing",
				"a placeholder such as "+Placeholder(w.Name, "webhook_secret")+", whose value is taken from the environment")
			continue
		}
		w.Types, w.Kinds = some(w.Types), some(w.Kinds)
		settings := roster.ReceiverSettings{
			Address: &w.Address,
			Types:   &w.Types,
			Kinds:   &w.Kinds,
			Labels:  w.Labels,
			AtOnce:  number(w.AtOnce),
		}
		if settings.Labels == nil {
			settings.Labels = map[string]string{}
		}
		if w.Reports != "" {
			settings.Reports = &w.Reports
		}
		if w.Timeout != "" {
			d, err := span.Parse(w.Timeout)
			if err != nil {
				t.faults.Add(name+": timeout", fmt.Sprintf("%q is not a time span", w.Timeout), span.Accepted)
				continue
			}
			w.Timeout, settings.Timeout = span.Format(d), &d
		}
		secret, given := t.secrets[m[1]]
		there := t.roster.Receiver(uuid.Nil, w.Name)
		if there == nil {
			if given {
				settings.Secret = &secret
			} else {
				t.missing[m[1]] = true
			}
			if err := t.note(name, false, false, func() error {
				_, err := t.roster.AddReceiver(t.ctx, w.Name, settings, t.now)
				return err
			}); err != nil {
				return err
			}
			continue
		}
		now := writtenReceiver(there)
		now.Secret = w.Secret
		turned := given && there.Secrets[0].Secret.Reveal() != secret
		if err := t.note(name, true, !turned && reflect.DeepEqual(now, w), func() error {
			_, err := t.roster.ChangeReceiver(t.ctx, there.ID, settings)
			if err == nil && turned {
				_, err = t.roster.RotateSecret(t.ctx, there.ID, secret, nil, t.now)
			}
			return err
		}); err != nil {
			return err
		}
	}
	return nil
}

// sound leaves out gateways that something is wrong with already.
func (t *taking) sound(gateways []string) []string {
	return slices.DeleteFunc(slices.Clone(gateways), func(name string) bool { return t.broken[name] })
}

func number(n int) *int {
	if n == 0 {
		return nil
	}
	return &n
}

func (t *taking) senders(f File) error {
	for _, s := range f.Senders {
		record := store.Sender{
			ID:            s.Sender,
			Gateways:      t.sound(s.Gateways),
			Countries:     s.Countries,
			Registrations: s.Registrations,
			TwoWay:        s.TwoWay,
			PerSecond:     s.PerSecond,
			RepliesTo:     s.RepliesTo,
		}
		for _, d := range s.Defaults {
			record.Defaults = append(record.Defaults, sender.Default(d))
		}
		known, same := false, false
		for _, there := range t.roster.Book().Senders {
			if there.ID == s.Sender {
				known, same = true, reflect.DeepEqual(writtenSender(there), s)
			}
		}
		err := t.note("sender "+s.Sender, known, same, func() error {
			_, err := t.roster.PutSender(t.ctx, record, true, t.now)
			return err
		})
		if err != nil {
			return err
		}
	}
	return nil
}

func (t *taking) rules(f File) error {
	if len(f.Rules) == 0 {
		return nil
	}
	source, err := document.Encode(map[string]any{"rules": f.Rules})
	if err != nil {
		return err
	}
	rules, err := sender.ReadRules(source)
	if err != nil {
		t.faults.Add("rules", fault.Why(err), "rules as an export has them")
		return nil
	}
	for _, rule := range rules {
		now, by := t.roster.Book().Rule(rule.Country)
		before, _ := sender.WriteRules([]sender.Rule{now})
		after, _ := sender.WriteRules([]sender.Rule{rule})
		err := t.note("rule "+rule.Country, by != nil, string(before) == string(after), func() error {
			return t.roster.PutRules(t.ctx, []sender.Rule{rule}, t.by, t.now)
		})
		if err != nil {
			return err
		}
	}
	return nil
}

func (t *taking) templates(f File) error {
	for i, nested := range f.Templates {
		source, err := document.Encode(nested)
		if err != nil {
			return err
		}
		one, err := template.Read(source)
		if err != nil {
			t.faults.Add(fmt.Sprintf("templates[%d]", i), err.Error(), "a template as the documentation describes it")
			continue
		}
		there, known := t.roster.Book().Template(one.Name)
		same := false
		if known {
			before, _ := there.Template.Write()
			after, _ := one.Write()
			same = string(before) == string(after)
		}
		if err := t.note("template "+one.Name, known, same, func() error { return t.roster.PutTemplate(t.ctx, one, true, t.now) }); err != nil {
			return err
		}
	}
	return nil
}

func (t *taking) routes(f File) error {
	if len(f.Routes) == 0 {
		return nil
	}
	routes := make([]route.Route, len(f.Routes))
	for i, r := range f.Routes {
		routes[i] = route.Route{Name: r.Name, Countries: r.Countries, Prefixes: r.Prefixes, Kinds: r.Kinds, Senders: r.Senders,
			Prefer: r.Prefer}
		for _, leg := range r.Gateways {
			if !t.broken[leg.Gateway] {
				routes[i].Gateways = append(routes[i].Gateways, route.Leg(leg))
			}
		}
	}
	if len(t.broken) > 0 { // nothing is kept anyway
		routes = slices.DeleteFunc(routes, func(r route.Route) bool { return len(r.Gateways) == 0 })
	}
	there := t.roster.Book().Routes
	same := len(there) == len(routes)
	for i := range min(len(there), len(routes)) {
		same = same && fmt.Sprint(there[i].Route) == fmt.Sprint(routes[i])
	}
	return t.note(
		cmp.Or(map[int]string{1: "1 route"}[len(routes)], fmt.Sprintf("%d routes", len(routes))),
		len(there) > 0,
		same,
		func() error {
			err := t.roster.PutRoutes(t.ctx, routes, t.by, t.now)
			for i, f := range fault.Of(err) { // as they are called in a file
				fault.Of(err)[i].Field = strings.Replace(f.Field, "items[", "routes[", 1)
			}
			return err
		},
	)
}
