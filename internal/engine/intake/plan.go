package intake

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/label"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/core/route"
	"calmpigeon.example/internal/core/sender"
	"calmpigeon.example/internal/core/smstext"
	"calmpigeon.example/internal/core/span"
	"calmpigeon.example/internal/core/template"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

// Draft is a message as it is asked for. Empty fields take their defaults.
type Draft struct {
	To, Text, Sender, Kind, Reference, Gateway string
	ValidFor                                   string        // a span of time
	Country                                    string        // in which To is dialled, if it has no country code
	Number                                     phone.Reading // To as it was read and judged before; zero: it is to be
	Template, Language                         string
	Source                                     string             // a template that is not stored, in the place of Template
	Own                                        *template.Template // the same, read already; nil: there is none
	Draw                                       string             // by which a route by weight is drawn; empty: by the id of the message
	Fields                                     map[string]any
	Cure                                       string
	Labels                                     map[string]string
	KeyID                                      uuid.UUID // that it is sent with
	KeyLabels                                  label.Set // of it
	SendAt                                     string    // RFC 3339; without a zone: by the recipient's clock
	AtAnyHour                                  bool      // also in quiet hours
	Flash                                      bool
	Long                                       bool // a text of many segments is meant
	// ReportTo is the address at which what becomes of it is told, in the place of its receiver's own.
	ReportTo string
	// Rather is a gateway that is taken last: rather another one.
	Rather string
}

// Policy is what becomes of a message to a kind of line. What is not named is
// allowed.
type Policy map[phone.Line]sender.Verdict

// Usual is the policy where none is given. Numbers of no range in use are let
// through with a warning: ranges open sooner than anyone's data knows.
var Usual = Policy{phone.Fixed: sender.Careful, phone.SpecialRate: sender.Refused, phone.Unassigned: sender.Careful}

// Judge says what becomes of a number of a country, and why.
func (p Policy) Judge(line phone.Line, country string) (sender.Verdict, string) {
	where := phone.CountryName(country)
	switch line {
	case phone.Fixed:
		return p.of(line), "a fixed line of " + where + ": texts seldom arrive there"
	case phone.SpecialRate:
		return p.of(line), "a special-rate number of " + where + ": no handset has it"
	case phone.Unassigned:
		return p.of(line), "no range in use in " + where + " begins so"
	case phone.Other:
		return p.of(line), "a number of " + where + " that is no mobile: texts may not arrive there"
	}
	return sender.Allowed, ""
}

func (p Policy) of(line phone.Line) sender.Verdict {
	if v, ok := p[line]; ok {
		return v
	}
	return sender.Allowed
}

// Warning is what speaks against a message without stopping it.
type Warning struct{ Field, Say string }

// Plan is what would become of a draft: every check made, nothing written.
type Plan struct {
	ID       uuid.UUID // that the message gets; a route by weight is drawn by it
	Number   phone.Reading
	Country  string // of the number, or the one that is given in its place
	Kind     pace.Kind
	ValidFor time.Duration
	Gateway  *roster.Gateway
	Route    string // the name of its route; empty if none fits
	Why      string // the gateway was chosen

	Template     string
	Language     string // of the template's text
	Registration string // of the text, in the country
	Rendered     template.Rendering
	Text         string // as it would be sent
	Given        string // as it was before characters were replaced; empty if none were
	Replaced     []smstext.Replacement
	Level        smstext.Level
	Weight       smstext.Weight

	Sender   sender.Entry
	Decision sender.Decision

	HeldUntil time.Time // zero: it goes at once
	Labels    label.Set
	ReportVia uuid.UUID // the receiver below whose address ReportTo is
	TimeZones []string  // where the recipient may be; only where that decides when it may go
	HeldWhy   string

	Price  price.Money
	Priced bool
	Rate   price.Entry // that the price was worked out by
	// Avoidable is what of the price characters cost that could be replaced safely, in millionths.
	Avoidable int64
	Warnings  []Warning
}

// Scope is what of a draft there is to look at.
type Scope int

// The scopes. Somewhere allows a country in the place of a number; what is
// missing is then no fault.
const (
	Whole Scope = iota
	Somewhere
)

// PlanAsSet is [Intake.Plan] for a request of somebody who may have set something a moment ago
// through another instance: before anything is refused it is looked whether something was set.
func (in *Intake) PlanAsSet(ctx context.Context, d Draft, level smstext.Level, scope Scope) (Plan, fault.Faults, error) {
	p, faults, err := in.Plan(d, level, scope)
	if err == nil && len(faults) == 0 {
		return p, faults, err
	}
	known := in.Roster.Changes()
	if in.Roster.Reload(ctx) != nil || in.Roster.Changes() == known {
		return p, faults, err
	}
	return in.Plan(d, level, scope)
}

// Plan looks at a draft in the light of the book and writes nothing. level is
// how far characters may be replaced where the draft and its template do not
// say. Of a draft with faults as much is worked out as can be.
func (in *Intake) Plan(d Draft, level smstext.Level, scope Scope) (Plan, fault.Faults, error) {
	now := in.Now()
	p := Plan{ID: store.IDAt(now)}
	var faults fault.Faults
	book := in.Roster.Book()

	in.number(&p, d, scope, &faults)
	if len(in.Roster.All()) == 0 && scope == Whole {
		return p, nil, ErrNoGateway
	}
	tmpl := in.template(d, book, &faults)
	p.Kind = pace.Transactional
	if tmpl != nil && tmpl.Kind != "" {
		p.Kind = tmpl.Kind
	}
	if d.Kind != "" {
		if kind, err := pace.ParseKind(d.Kind); err != nil {
			faults.Add("kind", fmt.Sprintf("%q is not a kind", d.Kind), "otp, transactional or bulk")
		} else {
			p.Kind = kind
		}
	}
	p.ValidFor = p.Kind.Validity()
	if d.ValidFor != "" {
		var err error
		if p.ValidFor, err = span.Parse(d.ValidFor); err != nil || p.ValidFor < time.Second || p.ValidFor > ValidMost {
			faults.Add("valid_for", fmt.Sprintf("%q is out of range", d.ValidFor),
				fmt.Sprintf("%s, at most %s", span.Accepted, span.Format(ValidMost)))
		}
	}
	if n := utf8.RuneCountInString(d.Reference); n > wordMost || !utf8.ValidString(d.Reference) || strings.ContainsRune(d.Reference, 0) {
		faults.Add(
			"reference",
			fmt.Sprintf("%d characters, or characters that cannot be kept", n),
			fmt.Sprintf("at most %d characters of UTF-8", wordMost),
		)
	}

	if d.ReportTo != "" {
		if r := in.Roster.ReportsTo(d.ReportTo, d.KeyID, &faults); r != nil {
			p.ReportVia = r.ID
		}
	}
	if labels, err := d.KeyLabels.With(d.Labels); err != nil {
		faults = append(faults, fault.Of(err)...)
	} else {
		p.Labels = labels
	}
	in.sendAt(&p, d, now, &faults)
	found := in.through(p, d, tmpl, book, level, now, scope)
	return found.plan, append(faults, found.faults...), nil
}

// passage is a draft planned through one gateway.
type passage struct {
	plan   Plan
	faults fault.Faults
	silent bool // the gateway is not to be used now
}

// through plans the draft through the gateways that it can take, in their
// order, and settles for the first that takes it and may be used now; else for
// one that takes it and has to be waited for; else what is wrong with the first
// is what is wrong.
func (in *Intake) through(
	p Plan,
	d Draft,
	tmpl *template.Template,
	book *roster.Book,
	level smstext.Level,
	now time.Time,
	scope Scope,
) passage {
	along := func(g *roster.Gateway) passage {
		one := passage{plan: p}
		one.plan.Warnings = slices.Clone(p.Warnings)
		one.plan.Gateway = g
		in.text(&one.plan, d, tmpl, level, scope, &one.faults)
		in.sender(&one.plan, d, tmpl, book, now, scope, &one.faults)
		if g == nil {
			return one
		}
		one.silent = g.Unusable(in.Roster.Health(g.ID), now) != ""
		if scope == Whole && len(one.faults) == 0 {
			if why := g.Refuses(dialect.Case{Kind: p.Kind, Country: p.Country, Sender: one.plan.Sender.ID.String(), Registered: one.plan.Registration != "", Flash: d.Flash}); why != "" {
				one.faults.Add(
					"gateway",
					fmt.Sprintf("%s cannot take this: %s", g.Name, why),
					"another gateway, or a message that this one takes",
				)
			}
		}
		if p.Country != "" && one.plan.Weight.Segments > 0 {
			list := book.Prices(g.ID).List
			if rate, ok := list.Find(p.Number.Number, p.Country, p.Kind, now); ok {
				one.plan.Rate = rate
				one.plan.Price, one.plan.Priced = rate.Cost(one.plan.Weight.Segments)
				one.plan.Avoidable = one.plan.avoidable()
			}
		}
		return one
	}
	if d.Gateway != "" {
		g := in.Roster.ByName(d.Gateway)
		one := along(g)
		one.plan.Why = "it was asked for"
		if g == nil {
			one.faults.Add(
				"gateway",
				fmt.Sprintf("%q is not a gateway here", d.Gateway),
				"one of "+strings.Join(names(in.Roster.All()), ", "),
			)
		}
		return one
	}
	ways, because := in.ways(p, d, tmpl, book)
	if i := slices.IndexFunc(ways.gateways, func(g *roster.Gateway) bool { return g.Name == d.Rather }); i >= 0 &&
		len(ways.gateways) > 1 {
		ways.gateways = append(slices.Delete(slices.Clone(ways.gateways), i, i+1), ways.gateways[i])
		because += "; " + d.Rather + " last"
	}
	p.Route = ways.Route
	var first, waits *passage
	var passed []string
	for _, g := range ways.gateways {
		one := along(g)
		one.plan.Why = because
		if len(passed) > 0 {
			one.plan.Why += "; " + strings.Join(passed, "; ")
		}
		switch {
		case len(one.faults) == 0 && !one.silent:
			return one
		case len(one.faults) == 0:
			passed = append(passed, g.Unusable(in.Roster.Health(g.ID), now))
			if waits == nil {
				waits = &one
			}
		default:
			passed = append(passed, g.Name+": "+one.faults[0].Wrong)
		}
		if first == nil {
			first = &one
		}
	}
	switch {
	case waits != nil:
		return *waits
	case first != nil:
		return *first
	}
	return along(nil)
}

// avoidable is what of the price characters cost that could be replaced safely, such as a curly quote.
func (p *Plan) avoidable() int64 {
	if !p.Priced || p.Weight.Segments < 2 || p.Level == smstext.Safe || p.Level == smstext.Strong {
		return 0
	}
	options := p.Gateway.Dialect.Segments.Options()
	cured, replaced := options.Cure(p.Text, smstext.Safe)
	if len(replaced) == 0 {
		return 0
	}
	weight, err := options.Weigh(cured)
	less, ok := p.Rate.Cost(weight.Segments)
	if err != nil || !ok {
		return 0
	}
	return max(p.Price.Micros()-less.Micros(), 0)
}

// ways are the gateways that a draft can take, in their order.
type ways struct {
	Route    string
	gateways []*roster.Gateway
}

func (in *Intake) ways(p Plan, d Draft, tmpl *template.Template, book *roster.Book) (ways, string) {
	all := in.Roster.All()
	named := d.Sender
	if named == "" && tmpl != nil {
		named = tmpl.Sender
	}
	if named == "" {
		if entry, _, err := sender.Choose(book.Entries, sender.Unruled(p.Country), "", "", sender.Case{Kind: p.Kind}); err == nil {
			named = entry.ID.String()
		}
	} else if id, err := sender.Parse(named); err == nil {
		named = id.String()
	}
	r, ok := book.Route(route.Case{Number: p.Number.Number, Country: p.Country, Kind: p.Kind, Sender: named})
	if ok {
		w := ways{Route: r.Name}
		drawn := cmp.Or(d.Draw, p.ID.String())
		order, preferred := r.Order(drawn), ""
		if r.Prefer == route.Conversion && p.Kind == pace.OTP && in.Fared != nil {
			order, preferred = route.Prefer(
				order,
				func(g string) route.Fared { return in.Fared(g, p.Country) },
				in.Now(),
				route.Draw(drawn),
			)
		}
		for _, name := range order {
			if i := slices.IndexFunc(all, func(g *roster.Gateway) bool { return g.Name == name }); i >= 0 {
				w.gateways = append(w.gateways, all[i])
			}
		}
		if len(w.gateways) > 0 {
			because := fmt.Sprintf("route %s: %s", r.Name, strings.Join(order, ", then "))
			if preferred != "" {
				because = "route " + r.Name + ", " + preferred
			}
			if r.Weighted() {
				because = fmt.Sprintf("route %s, by weight: %s", r.Name, strings.Join(order, ", else "))
			}
			return w, because
		}
	}
	if texting := slices.DeleteFunc(slices.Clone(all), func(g *roster.Gateway) bool { return g.Dialect.Takes.Voice }); len(texting) > 0 {
		all = texting // nobody is called who was to be written to
	}
	if len(all) == 1 {
		return ways{gateways: all}, "the only gateway"
	}
	return ways{gateways: all}, "no route fits, and of those that take it it was added first"
}

func names(gateways []*roster.Gateway) []string {
	all := make([]string, len(gateways))
	for i, g := range gateways {
		all[i] = g.Name
	}
	return all
}

// number reads whom the message is for.
func (in *Intake) number(p *Plan, d Draft, scope Scope, faults *fault.Faults) {
	if scope == Somewhere {
		if d.To == "" {
			p.Country = strings.ToUpper(d.Country)
			return
		}
		if code := strings.ToUpper(d.To); phone.IsCountry(code) {
			p.Country = code
			return
		}
	}
	if d.Number.Number != (phone.Number{}) {
		p.Number, p.Country = d.Number, d.Number.Country
		return
	}
	var err error
	if p.Number, err = phone.Read(d.To, d.Country); err != nil {
		var why *phone.Error
		errors.As(err, &why)
		faults.Add("to", why.Why, phone.Accepted)
		return
	}
	p.Country = p.Number.Country
	switch verdict, why := in.Policy.Judge(p.Number.Line, p.Country); verdict {
	case sender.Refused:
		faults.Add("to", why, "a number that can receive texts")
	case sender.Careful:
		p.Warnings = append(p.Warnings, Warning{"to", why})
	}
}

// template finds the template that a draft names.
func (in *Intake) template(d Draft, book *roster.Book, faults *fault.Faults) *template.Template {
	if d.Own != nil {
		return d.Own
	}
	if d.Source != "" {
		t, err := template.Read([]byte(d.Source))
		if err != nil {
			faults.Add("source", err.Error(), "a template as the documentation describes it")
			return nil
		}
		return t
	}
	if d.Template == "" {
		if len(d.Fields) > 0 {
			faults.Add("fields", "there are fields but no template", "template, the name of one that is stored")
		}
		return nil
	}
	if d.Text != "" {
		faults.Add("text", "there is a text and a template", "one of the two")
		return nil
	}
	record, ok := book.Template(d.Template)
	if !ok {
		var names []string
		for _, t := range book.Templates() {
			names = append(names, t.Name)
		}
		accepted := "one of " + strings.Join(names, ", ")
		if len(names) == 0 {
			accepted = "a template; there is none yet, add one with: pigeon template add"
		}
		faults.Add("template", fmt.Sprintf("%q is not a template here", d.Template), accepted)
		return nil
	}
	return record.Template
}

// LongLeast is how many segments a text has that somebody has to say is meant.
const LongLeast = 10

// unknown refuses fields and languages that a template does not have: what is
// misspelt would be lost without a word.
func unknown(d Draft, tmpl *template.Template, faults *fault.Faults) {
	must, may := tmpl.Needs()
	has := append(must, may...)
	for _, name := range slices.Sorted(maps.Keys(d.Fields)) {
		if _, declared := tmpl.Fields[name]; !declared && !slices.Contains(has, name) {
			faults.Add("fields."+name, "template "+tmpl.Name+" has no such field", cmp.Or(strings.Join(has, ", "), "none"))
		}
	}
	if d.Language != "" && !tmpl.Speaks(d.Language) {
		faults.Add(
			"language",
			fmt.Sprintf("template %s has no text in %q", tmpl.Name, d.Language),
			strings.Join(slices.Sorted(maps.Keys(tmpl.Texts)), ", "),
		)
	}
}

// text renders, cures and weighs.
func (in *Intake) text(p *Plan, d Draft, tmpl *template.Template, level smstext.Level, scope Scope, faults *fault.Faults) {
	text := d.Text
	if tmpl != nil {
		p.Template, p.Language = tmpl.Name, tmpl.For(d.Language, p.Country)
		if scope == Whole {
			unknown(d, tmpl, faults)
		}
		rendered, err := tmpl.Render(p.Language, d.Fields)
		if err != nil {
			var wrong *template.Error
			errors.As(err, &wrong)
			field := "template"
			if wrong.Field != "" {
				field = "fields." + wrong.Field
			}
			where := fmt.Sprintf("template %s, text %s: ", wrong.Template, wrong.Language)
			if d.Own != nil { // whoever gave it knows which it is
				where = ""
			}
			faults.Add(field, where+wrong.Wrong, wrong.Accepted)
			return
		}
		p.Rendered = rendered
		text = rendered.Text
		if tmpl.Cure != smstext.Off {
			level = tmpl.Cure
		}
	} else if d.Template+d.Source != "" { // there is no such template
		return
	}
	if d.Cure != "" {
		parsed, err := smstext.ParseLevel(d.Cure)
		if err != nil {
			faults.Add("cure", fmt.Sprintf("%q is no level", d.Cure), "off, safe or strong")
		}
		level = parsed
	}
	options := smstext.Options{}
	if p.Gateway != nil {
		options = p.Gateway.Dialect.Segments.Options()
	}
	p.Level = level
	p.Text = text
	if cured, replaced := options.Cure(text, level); len(replaced) > 0 {
		p.Text, p.Given, p.Replaced = cured, text, replaced
	}
	if scope == Whole && text != "" &&
		strings.TrimFunc(text, func(r rune) bool { return unicode.IsSpace(r) || !unicode.IsPrint(r) }) == "" {
		faults.Add("text", "it is blank: there is nothing in it to see", "a text with at least one character that can be seen")
		return
	}
	weight, err := options.Weigh(p.Text)
	if scope == Whole && err == nil && weight.Segments >= LongLeast && !d.Long {
		faults.Add("text", fmt.Sprintf("it has %d segments, and each is paid for", weight.Segments),
			fmt.Sprintf("fewer than %d segments, or more with \"long\": true (--long)", LongLeast))
	}
	if p.Weight = weight; err != nil && (scope == Whole || text != "") {
		faults.Add(
			"text",
			err.Error(),
			fmt.Sprintf(
				"1 to %d segments of text: up to %d GSM characters, or %d others",
				smstext.MaxSegments,
				153*smstext.MaxSegments,
				67*smstext.MaxSegments,
			),
		)
	}
}

// sender chooses who the message comes from and asks the country's rule.
func (in *Intake) sender(p *Plan, d Draft, tmpl *template.Template, book *roster.Book, now time.Time, scope Scope, faults *fault.Faults) {
	named := d.Sender
	if named == "" && tmpl != nil {
		named = tmpl.Sender
	}
	if p.Country == "" { // then all there is to see is whether it is in use
		_, _, err := sender.Choose(book.Entries, sender.Unruled(""), named, "", sender.Case{Kind: p.Kind})
		if named != "" && err != nil {
			faults.Add("sender", sayWhy(named, err), in.senders(book))
		}
		return
	}
	gateway := ""
	if p.Gateway != nil {
		gateway = p.Gateway.Name
	}
	rule, _ := book.Rule(p.Country)
	c := sender.Case{Kind: p.Kind, Text: p.Text, Wording: p.Rendered.Wording, At: now}
	if len(rule.Quiet) > 0 {
		c.TimeZones = p.Number.Number.Details().TimeZones
		if !p.HeldUntil.IsZero() {
			c.At = p.HeldUntil
		}
	}
	if tmpl != nil && p.Text != "" {
		registration, ok, err := tmpl.Registration(template.Rendering{Text: p.Text, Language: p.Language}, p.Country, gateway)
		var wrong *template.Error
		if errors.As(err, &wrong) {
			faults.Add("template", wrong.Wrong, "a text worded as "+wrong.Accepted)
		}
		p.Registration, c.TextRegistered = registration.ID, ok
	}
	entries := book.Entries
	if p.Gateway != nil && p.Gateway.Dialect.Takes.Senders == dialect.Leased {
		entries = slices.DeleteFunc(
			slices.Clone(entries),
			func(e sender.Entry) bool { return !slices.Contains(p.Gateway.Senders, e.ID.String()) },
		)
		if len(entries) == 0 || named != "" && !slices.Contains(p.Gateway.Senders, named) {
			faults.Add(
				"sender",
				fmt.Sprintf("gateway %s takes only senders leased from it, and %q is none of them", gateway, named),
				"one of "+strings.Join(append([]string{}, p.Gateway.Senders...), ", ")+", in use here and leased from the gateway",
			)
			return
		}
	}
	entry, decision, err := sender.Choose(entries, rule, named, gateway, c)
	p.Sender, p.Decision = entry, decision
	if err != nil {
		faults.Add("sender", sayWhy(named, err), in.senders(book))
		return
	}
	in.quiet(p, d, rule, c)
	for _, f := range decision.Findings {
		if f.About == "quiet_hours" && p.HeldWhy != "" {
			f.Say = "held until " + p.HeldUntil.UTC().Format(time.RFC3339) + ": " + f.Say
		}
		field := map[string]string{"sender": "sender", "quiet_hours": "to"}[f.About]
		if field == "" {
			field = "text"
		}
		if scope == Somewhere && p.Text == "" && field == "text" {
			continue
		}
		switch f.Verdict {
		case sender.Refused:
			accepted := f.Do
			if accepted == "" {
				accepted = "what the rule allows"
			}
			faults.Add(field, fmt.Sprintf("%s (rule %s)", f.Say, decision.Rule), accepted)
		case sender.Careful:
			p.Warnings = append(p.Warnings, Warning{field, fmt.Sprintf("%s (rule %s)", f.Say, decision.Rule)})
		}
	}
}

// sendMost is how far ahead a message may be handed over.
const sendMost = 30 * 24 * time.Hour

// sendAt reads when a message is to go. A time without a zone is one by the clock of the
// recipient: where that may be several, so late that it is over nowhere too early.
func (in *Intake) sendAt(p *Plan, d Draft, now time.Time, faults *fault.Faults) {
	if d.SendAt == "" {
		return
	}
	const accepted = "a time within the next 30 days: 2026-11-29T09:00:00Z, or without a zone by the recipient's clock"
	at, err := time.Parse(time.RFC3339, d.SendAt)
	if err != nil {
		for _, form := range []string{"2006-01-02T15:04:05", "2006-01-02T15:04", "2006-01-02 15:04"} {
			if _, err = time.Parse(form, d.SendAt); err == nil {
				at = in.local(p, form, d.SendAt)
				break
			}
		}
	}
	switch {
	case err != nil:
		faults.Add("send_at", fmt.Sprintf("%q is no time", d.SendAt), accepted)
	case at.Before(now.Add(-time.Minute)):
		faults.Add("send_at", d.SendAt+" is over", accepted)
	case at.After(now.Add(sendMost)):
		faults.Add("send_at", d.SendAt+" is too far ahead", accepted)
	case at.After(now):
		p.HeldUntil, p.HeldWhy = at.UTC(), "as was asked for"
	}
}

// local is a time by the clock of whom a message is for.
func (in *Intake) local(p *Plan, form, given string) (at time.Time) {
	zones := p.Number.Number.Details().TimeZones
	for _, name := range append([]string{}, zones...) {
		if place, err := time.LoadLocation(name); err == nil {
			if t, err := time.ParseInLocation(form, given, place); err == nil && t.After(at) {
				at = t
			}
		}
	}
	if at.IsZero() { // it is known of no place
		at, _ = time.Parse(form, given)
	}
	return at
}

// quiet holds a bulk message back for the quiet hours of its recipient.
func (in *Intake) quiet(p *Plan, d Draft, rule sender.Rule, c sender.Case) {
	if p.Kind != pace.Bulk || d.AtAnyHour || len(c.TimeZones) == 0 {
		return
	}
	p.TimeZones = c.TimeZones
	if until, zone := rule.QuietUntil(p.Kind, c.TimeZones, c.At); until.After(c.At) {
		p.HeldUntil, p.HeldWhy = until.UTC(), "quiet hours in "+zone
	}
}

// sayWhy says why a sender cannot be used: because it is none, if so.
func sayWhy(named string, err error) string {
	if _, bad := sender.Parse(named); bad != nil && named != "" {
		return fault.Why(bad)
	}
	return fault.Why(err)
}

func (in *Intake) senders(book *roster.Book) string {
	if len(book.Senders) == 0 {
		return "a sender in use; there is none yet, add one with: pigeon sender add"
	}
	names := make([]string, len(book.Senders))
	for i, s := range book.Senders {
		names[i] = s.ID
	}
	return "one of the senders in use: " + strings.Join(names, ", ")
}
