// Package setup writes everything that is set up here to one file and takes it
// in again, so that a set-up can live in version control and be moved: gateways
// with their dialects, receivers of events, routes, senders, templates and country rules. Secrets
// never stand in it; placeholders do.
package setup

import (
	"bytes"
	"errors"
	"regexp"
	"strings"

	"github.com/goccy/go-yaml"

	"calmpigeon.example/dialects"
	"calmpigeon.example/internal/core/document"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/core/sender"
	"calmpigeon.example/internal/core/span"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/explain"
	"calmpigeon.example/internal/store"
)

// File is a set-up as it is written. Its parts may be left out.
type File struct {
	Gateways  []Gateway  `yaml:"gateways,omitempty"`
	Receivers []Receiver `yaml:"receivers,omitempty"` // of events
	Routes    []Route    `yaml:"routes,omitempty"`
	Senders   []Sender   `yaml:"senders,omitempty"`
	Rules     []any      `yaml:"rules,omitempty"`     // those that differ from the ones that ship
	Templates []any      `yaml:"templates,omitempty"` // each as in a file of its own
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
	AskKinds    map[string]string `yaml:"ask_after_kinds,omitempty"`
	GiveUpAfter string            `yaml:"give_up_after"`
	Timeout     string            `yaml:"timeout"`
	Currency    string            `yaml:"currency,omitempty"`
	Senders     []string          `yaml:"senders,omitempty"`
	LowBalance  string            `yaml:"low_balance,omitempty"`
	Statement   string            `yaml:"statement_every,omitempty"`
	Prices      string            `yaml:"prices,omitempty"` // a price list in CSV
}

// Receiver is a receiver of events as it is written. Whose messages may name addresses below it is not in it: keys never
// are.
type Receiver struct {
	Name    string            `yaml:"name"`
	Address string            `yaml:"address"`
	Secret  string            `yaml:"secret"`
	Types   []string          `yaml:"types,omitempty"`
	Kinds   []string          `yaml:"kinds,omitempty"`
	Labels  map[string]string `yaml:"labels,omitempty"`
	Reports string            `yaml:"reports,omitempty"`
	AtOnce  int               `yaml:"at_once,omitempty"`
	Timeout string            `yaml:"timeout,omitempty"`
}

// Route is a route as it is written.
type Route struct {
	Name      string      `yaml:"name"`
	Countries []string    `yaml:"countries,omitempty"`
	Prefixes  []string    `yaml:"prefixes,omitempty"`
	Kinds     []pace.Kind `yaml:"kinds,omitempty"`
	Senders   []string    `yaml:"senders,omitempty"`
	Gateways  []Leg       `yaml:"gateways"`
	Prefer    string      `yaml:"prefer,omitempty"`
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
	RepliesTo     string            `yaml:"replies_to,omitempty"` // a receiver of events
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

// pricesMost is how much of price lists a file holds: what document reads of one
// leaves room for everything else.
const pricesMost = 128 << 10 // octets

// Write writes the set-up as a [File]. Its head names the price lists that it leaves out.
func Write(r *roster.Roster) ([]byte, error) {
	book := r.Book()
	var body bytes.Buffer
	leftOut, err := writeGateways(&body, r)
	if err != nil {
		return nil, err
	}
	receivers := writer{out: &body, list: "receivers"}
	for _, one := range r.Receivers() {
		if !one.Follows() {
			receivers.write(writtenReceiver(one))
		}
	}
	routes := writer{out: &body, list: "routes"}
	for _, record := range book.Routes {
		one := Route{
			Name:      record.Name,
			Countries: record.Route.Countries,
			Prefixes:  record.Route.Prefixes,
			Kinds:     record.Route.Kinds,
			Senders:   record.Route.Senders,
			Prefer:    record.Route.Prefer,
		}
		for _, leg := range record.Route.Gateways {
			one.Gateways = append(one.Gateways, Leg(leg))
		}
		routes.write(one)
	}
	senders := writer{out: &body, list: "senders"}
	for _, s := range book.Senders {
		senders.write(writtenSender(s))
	}
	rules := writer{out: &body, list: "rules"}
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
		for _, one := range nested.Rules {
			rules.write(one)
		}
	}
	templates := writer{out: &body, list: "templates"}
	for _, t := range book.Templates() {
		source, err := t.Template.Write()
		if err != nil {
			return nil, err
		}
		var nested any
		if err := yaml.UnmarshalWithOptions(source, &nested, yaml.UseOrderedMap()); err != nil {
			return nil, err
		}
		templates.write(nested)
	}
	if err := errors.Join(receivers.err, routes.err, senders.err, rules.err, templates.err); err != nil {
		return nil, err
	}
	if body.Len() == 0 {
		body.WriteString("{}\n")
	}
	head := "# A set-up of Calm Pigeon. Secrets are placeholders: pigeon setup import takes\n" +
		"# their values from the environment. API keys are not in it.\n"
	for _, name := range leftOut {
		head += "# The prices of " + name + " are too many for it: pigeon gateway prices export " + name + "\n"
	}
	return append([]byte(head), body.Bytes()...), nil
}

func writeGateways(body *bytes.Buffer, r *roster.Roster) (leftOut []string, err error) {
	gateways := writer{out: body, list: "gateways"}
	room := pricesMost
	for _, g := range r.All() {
		one := written(g)
		if one.Prices, err = writtenPrices(r.Book().Prices(g.ID).Entries); err != nil {
			return nil, err
		}
		if len(one.Prices) > room {
			one.Prices = ""
			leftOut = append(leftOut, g.Name)
		}
		room -= len(one.Prices)
		gateways.write(one)
	}
	return leftOut, gateways.err
}

// writer writes a list item by item: writing YAML needs many times the memory of what is written.
type writer struct {
	out  *bytes.Buffer
	list string
	any  bool // has been written
	err  error
}

func (w *writer) write(item any) {
	if w.err != nil {
		return
	}
	source, err := document.Encode([]any{item}, yaml.UseLiteralStyleIfMultiline(true))
	if inBrackets := bytes.TrimSpace(source); bytes.HasPrefix(inBrackets, []byte("[")) { // as JSON, where YAML would not do
		source = append(append([]byte("- "), inBrackets[1:len(inBrackets)-1]...), '\n')
	}
	if !w.any {
		w.out.WriteString(w.list + ":\n")
	}
	w.any, w.err = true, err
	w.out.Write(source)
}

// writtenPrices is a price list as it is written; nothing if there is none.
func writtenPrices(entries []price.Entry) (string, error) {
	if len(entries) == 0 {
		return "", nil
	}
	var list bytes.Buffer
	err := price.WriteCSV(&list, entries)
	return list.String(), err
}

func written(g *roster.Gateway) Gateway {
	w := Gateway{
		Name:        g.Name,
		Source:      g.Source,
		Address:     g.Address,
		Secrets:     map[string]string{},
		PerSecond:   g.PerSecond,
		PerMinute:   g.PerMinute,
		PerDay:      g.PerDay,
		InFlight:    g.InFlight,
		AskAfter:    span.Format(g.AskAfter()),
		GiveUpAfter: span.Format(g.GiveUpAfter()),
		Timeout:     span.Format(g.Timeout()),
		Currency:    g.Currency,
	}
	if len(g.Senders) > 0 {
		w.Senders = g.Senders
	}
	if shipped, err := dialects.Source(g.Gateway.Dialect); err == nil && string(shipped) == g.Source {
		w.Dialect, w.Source = g.Gateway.Dialect, ""
	}
	for _, name := range g.Dialect.Secrets {
		w.Secrets[name] = Placeholder(g.Name, name)
	}
	for kind := range g.AskKinds {
		if w.AskKinds == nil {
			w.AskKinds = map[string]string{}
		}
		w.AskKinds[kind] = span.Format(g.AskAfterOf(pace.Kind(kind)))
	}
	if g.StatementEveryMs > 0 {
		w.Statement = span.Format(g.StatementEvery())
	}
	if g.LowBalanceMicros != nil {
		w.LowBalance = explain.Amount(*g.LowBalanceMicros)
	}
	return w
}

func writtenReceiver(r *roster.Receiver) Receiver {
	w := Receiver{Name: r.Name, Address: r.Address, Secret: Placeholder(r.Name, "webhook_secret"), Types: some(r.Types),
		Reports: string(r.Reports), AtOnce: r.AtOnce, Timeout: span.Format(r.Timeout())}
	for _, k := range r.Kinds {
		w.Kinds = append(w.Kinds, string(k))
	}
	if r.Labels != "" {
		w.Labels = r.Labels.Map()
	}
	return w
}

func writtenSender(s store.Sender) Sender {
	w := Sender{Sender: s.ID, Gateways: some(s.Gateways), Countries: some(s.Countries), TwoWay: s.TwoWay, PerSecond: s.PerSecond,
		RepliesTo: s.RepliesTo}
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
