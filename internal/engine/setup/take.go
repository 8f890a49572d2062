package setup

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"reflect"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"calmpigeon.example/dialects"
	"calmpigeon.example/internal/core/document"
	"calmpigeon.example/internal/core/fault"
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
		t := taking{ctx: ctx, roster: within, secrets: secrets, by: by, now: now, change: &change}
		for _, part := range []func(File) error{t.gateways, t.senders, t.rules, t.templates, t.routes} {
			if err := part(f); err != nil {
				return err
			}
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
				continue
			}
			source = string(shipped)
		}
		given := map[string]string{}
		for secret, value := range g.Secrets {
			m := placeholder.FindStringSubmatch(value)
			if m == nil {
				t.faults.Add(
					name+": secrets."+secret,
					"a secret stands in the file itself",
					"a placeholder such as "+Placeholder(g.Name, secret)+", whose value is taken from the environment",
				)
				continue
			}
			if known, ok := t.secrets[m[1]]; ok {
				given[secret] = known
			}
		}
		same := there != nil && len(given) == 0
		if there != nil {
			now, wanted := written(there), g
			wanted.Secrets, now.Secrets = nil, nil
			if now.Dialect != "" && wanted.Source == source {
				wanted.Source = ""
			}
			wanted.Senders = some(wanted.Senders)
			same = same && reflect.DeepEqual(now, wanted)
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
		}
		bad := false
		for _, one := range []struct {
			field, given string
			to           **time.Duration
		}{{"ask_after", g.AskAfter, &setup.AskAfter}, {"give_up_after", g.GiveUpAfter, &setup.GiveUpAfter}, {"timeout", g.Timeout, &setup.Timeout}} {
			if one.given == "" {
				continue
			}
			d, err := span.Parse(one.given)
			if err != nil {
				t.faults.Add(name+": "+one.field, fmt.Sprintf("%q is not a time span", one.given), span.Accepted)
				bad = true
			}
			*one.to = &d
		}
		if bad {
			continue
		}
		err := t.note(name, there != nil, same, func() error {
			if there != nil {
				_, err := t.roster.ChangeGateway(t.ctx, there, setup)
				return err
			}
			_, err := t.roster.AddGateway(t.ctx, g.Name, setup, t.now)
			return err
		})
		if err != nil {
			return err
		}
	}
	return nil
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
			Gateways:      s.Gateways,
			Countries:     s.Countries,
			Registrations: s.Registrations,
			TwoWay:        s.TwoWay,
			PerSecond:     s.PerSecond,
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
	source, err := yaml.Marshal(map[string]any{"rules": f.Rules})
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
		source, err := yaml.Marshal(nested)
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
		routes[i] = route.Route{Name: r.Name, Countries: r.Countries, Prefixes: r.Prefixes, Kinds: r.Kinds, Senders: r.Senders}
		for _, leg := range r.Gateways {
			routes[i].Gateways = append(routes[i].Gateways, route.Leg(leg))
		}
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
			return t.roster.PutRoutes(t.ctx, routes, t.by, t.now)
		},
	)
}
