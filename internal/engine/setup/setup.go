// Package setup writes everything that is set up here to one file and takes it
// in again, so that a set-up can live in version control and be moved: gateways
// with their dialects, routes, senders, templates and country rules. Secrets
// never stand in it; placeholders do.
package setup

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"reflect"
	"regexp"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"calmpigeon.example/dialects"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/route"
	"calmpigeon.example/internal/core/sender"
	"calmpigeon.example/internal/core/template"
	"calmpigeon.example/internal/engine/fault"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/explain"
	"calmpigeon.example/internal/store"
)

// File is a set-up as it is written. Its parts may be left out.
type File struct {
	Gateways  []Gateway `yaml:"gateways,omitempty"`
	Routes    []Route   `yaml:"routes,omitempty"`
	Senders   []Sender  `yaml:"senders,omitempty"`
	Rules     []any     `yaml:"rules,omitempty"`     // those that differ from the ones that ship
	Templates []any     `yaml:"templates,omitempty"` // each as in a file of its own
}

// Gateway is a gateway as it is written. Dialect names one that ships, Source is
// a dialect file.
type Gateway struct {
	Name        string            `yaml:"name"`
	Dialect     string            `yaml:"dialect,omitempty"`
	Source      string            `yaml:"source,omitempty"`
	Address     string            `yaml:"address"`
	Secrets     map[string]string `yaml:"secrets,omitempty"`
	PerSecond   int               `yaml:"per_second"`
	PerMinute   int               `yaml:"per_minute,omitempty"`
	PerDay      int               `yaml:"per_day,omitempty"`
	InFlight    int               `yaml:"in_flight"`
	AskAfter    string            `yaml:"ask_after"`
	GiveUpAfter string            `yaml:"give_up_after"`
	Timeout     string            `yaml:"timeout"`
	Currency    string            `yaml:"currency,omitempty"`
	Senders     []string          `yaml:"senders,omitempty"`
	LowBalance  string            `yaml:"low_balance,omitempty"`
}

// Route is a route as it is written.
type Route struct {
	Name      string      `yaml:"name"`
	Countries []string    `yaml:"countries,omitempty"`
	Prefixes  []string    `yaml:"prefixes,omitempty"`
	Kinds     []pace.Kind `yaml:"kinds,omitempty"`
	Senders   []string    `yaml:"senders,omitempty"`
	Gateways  []Leg       `yaml:"gateways"`
}

// Leg is one gateway of a route.
type Leg struct {
	Gateway string `yaml:"gateway"`
	Weight  int    `yaml:"weight,omitempty"`
}

// Sender is a sender as it is written.
type Sender struct {
	Sender        string            `yaml:"sender"`
	Defaults      []Default         `yaml:"defaults,omitempty"`
	Gateways      []string          `yaml:"gateways,omitempty"`
	Countries     []string          `yaml:"countries,omitempty"`
	Registrations map[string]string `yaml:"registrations,omitempty"`
	TwoWay        bool              `yaml:"two_way,omitempty"`
	PerSecond     int               `yaml:"per_second,omitempty"`
}

// Default is what a sender is the default for; empty stands for all.
type Default struct {
	Kind    pace.Kind `yaml:"kind"`
	Country string    `yaml:"country"`
}

// Change is what taking a file in does: names of what is new, changed, or as it
// was.
type Change struct{ New, Changed, Same []string }

var placeholder = regexp.MustCompile(`^\$\{([A-Z0-9_]+)\}$`)

// Placeholder is what stands for a secret of a gateway.
func Placeholder(gateway, secret string) string {
	upper := strings.ToUpper(gateway + "_" + secret)
	return "${" + regexp.MustCompile(`[^A-Z0-9]`).ReplaceAllString(upper, "_") + "}"
}

// Write writes what is set up.
func Write(r *roster.Roster) ([]byte, error) {
	var f File
	for _, g := range r.All() {
		f.Gateways = append(f.Gateways, written(g))
	}
	book := r.Book()
	for _, record := range book.Routes {
		one := Route{Name: record.Name, Countries: record.Route.Countries, Prefixes: record.Route.Prefixes, Kinds: record.Route.Kinds, Senders: record.Route.Senders}
		for _, leg := range record.Route.Gateways {
			one.Gateways = append(one.Gateways, Leg(leg))
		}
		f.Routes = append(f.Routes, one)
	}
	for _, s := range book.Senders {
		f.Senders = append(f.Senders, writtenSender(s))
	}
	for _, country := range book.Ruled() {
		rule, by := book.Rule(country)
		if by == nil {
			continue
		}
		source, err := sender.WriteRules([]sender.Rule{rule})
		if err != nil {
			return nil, err
		}
		var nested struct{ Rules []any }
		if err := yaml.UnmarshalWithOptions(source, &nested, yaml.UseOrderedMap()); err != nil {
			return nil, err
		}
		f.Rules = append(f.Rules, nested.Rules...)
	}
	for _, t := range book.Templates() {
		source, err := t.Template.Write()
		if err != nil {
			return nil, err
		}
		var nested any
		if err := yaml.UnmarshalWithOptions(source, &nested, yaml.UseOrderedMap()); err != nil {
			return nil, err
		}
		f.Templates = append(f.Templates, nested)
	}
	body, err := yaml.MarshalWithOptions(f, yaml.UseLiteralStyleIfMultiline(true))
	if err != nil {
		return nil, err
	}
	return append([]byte("# A set-up of Calm Pigeon. Secrets are placeholders: pigeon setup import takes\n# their values from the environment.\n"), body...), nil
}

func written(g *roster.Gateway) Gateway {
	w := Gateway{Name: g.Name, Source: g.Source, Address: g.Address, Secrets: map[string]string{}, PerSecond: g.PerSecond, PerMinute: g.PerMinute, PerDay: g.PerDay,
		InFlight: g.InFlight, AskAfter: g.AskAfter().String(), GiveUpAfter: g.GiveUpAfter().String(), Timeout: g.Timeout().String(), Currency: g.Currency}
	if len(g.Senders) > 0 {
		w.Senders = g.Senders
	}
	if shipped, err := dialects.Source(g.Gateway.Dialect); err == nil && string(shipped) == g.Source {
		w.Dialect, w.Source = g.Gateway.Dialect, ""
	}
	for _, name := range g.Dialect.Secrets {
		w.Secrets[name] = Placeholder(g.Name, name)
	}
	if g.LowBalanceMicros != nil {
		w.LowBalance = explain.Amount(*g.LowBalanceMicros)
	}
	return w
}

func writtenSender(s store.Sender) Sender {
	w := Sender{Sender: s.ID, Gateways: some(s.Gateways), Countries: some(s.Countries), TwoWay: s.TwoWay, PerSecond: s.PerSecond}
	if len(s.Registrations) > 0 {
		w.Registrations = s.Registrations
	}
	for _, d := range s.Defaults {
		w.Defaults = append(w.Defaults, Default(d))
	}
	return w
}

// some is a list, nil if it is empty, so that it compares and is left out.
func some(list []string) []string {
	if len(list) == 0 {
		return nil
	}
	return list
}

func read(source []byte) (File, error) {
	var f File
	if err := yaml.UnmarshalWithOptions(source, &f, yaml.Strict(), yaml.UseOrderedMap()); err != nil {
		return f, fault.New("source", strings.TrimSpace(yaml.FormatError(err, false, true)), "a set-up as an export has it")
	}
	return f, nil
}

// errRehearsed undoes a rehearsal.
var errRehearsed = errors.New("only rehearsed")

// Take takes a file in, all of it or nothing. What the file does not name stays
// as it is; routes, if it has any, take the place of all that are there. secrets
// are the values of placeholders; those of a gateway that is there already may
// be left out. A rehearsal makes every check and changes nothing.
func Take(ctx context.Context, s *store.Store, r *roster.Roster, source []byte, secrets map[string]string, by string, now time.Time, rehearse bool) (Change, error) {
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
				t.faults.Add(name+": dialect", fmt.Sprintf("%q does not ship", g.Dialect), "one of "+strings.Join(dialects.Names(), ", ")+", or a dialect file as source")
				continue
			}
			source = string(shipped)
		}
		given := map[string]string{}
		for secret, value := range g.Secrets {
			m := placeholder.FindStringSubmatch(value)
			if m == nil {
				t.faults.Add(name+": secrets."+secret, "a secret stands in the file itself", "a placeholder such as "+Placeholder(g.Name, secret)+", whose value is taken from the environment")
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
		setup := roster.Setup{Source: &source, Address: &g.Address, Secrets: given, PerSecond: number(g.PerSecond), PerMinute: &g.PerMinute, PerDay: &g.PerDay, InFlight: number(g.InFlight),
			Currency: &g.Currency, Senders: &g.Senders, LowBalance: &g.LowBalance}
		bad := false
		for _, span := range []struct {
			field, given string
			to           **time.Duration
		}{{"ask_after", g.AskAfter, &setup.AskAfter}, {"give_up_after", g.GiveUpAfter, &setup.GiveUpAfter}, {"timeout", g.Timeout, &setup.Timeout}} {
			if span.given == "" {
				continue
			}
			d, err := time.ParseDuration(span.given)
			if err != nil {
				t.faults.Add(name+": "+span.field, fmt.Sprintf("%q is not a time span", span.given), "a number and a unit, such as 10s, 5m or 48h")
				bad = true
			}
			*span.to = &d
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
		record := store.Sender{ID: s.Sender, Gateways: s.Gateways, Countries: s.Countries, Registrations: s.Registrations, TwoWay: s.TwoWay, PerSecond: s.PerSecond}
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
		t.faults.Add("rules", fault.Plainly(err, sender.ErrRule), "rules as an export has them")
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
	return t.note(cmp.Or(map[int]string{1: "1 route"}[len(routes)], fmt.Sprintf("%d routes", len(routes))), len(there) > 0, same, func() error {
		return t.roster.PutRoutes(t.ctx, routes, t.by, t.now)
	})
}
