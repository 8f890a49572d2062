package roster

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/fraud"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/passcode"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/core/route"
	"calmpigeon.example/internal/core/sender"
	"calmpigeon.example/internal/core/template"
	"calmpigeon.example/internal/store"
)

// Book is what holds for messages at a moment: senders, country rules,
// templates and prices. It is never changed; a new one takes its place.
type Book struct {
	Senders   []store.Sender // in order of their names
	Entries   []sender.Entry // the same, as the core knows them
	Paced     map[string]int // senders with a pace of their own, and how many a second that is
	Routes    []store.Route  // in the order in which they are tried
	order     []route.Route  // the same, as the core knows them
	changed   map[string]store.CountryRule
	templates map[string]store.Template
	prices    map[uuid.UUID]Prices

	badTemplates []Flaw // that cannot be used as they stand

	// Limits are those that hold for passcodes.
	Limits map[passcode.By][]passcode.Limit
	blocks map[about][]store.PasscodeBlock // that stand, and some that are over
	// Acts are what is done when a rule finds something about passcodes.
	Acts   map[fraud.Rule]fraud.Act
	alarms map[about][]store.PasscodeAlarm // that stand, and some that are over; the newest first
	honest map[ruled]float64               // numbers an hour, as alarms were lifted
}

// Prices is the price list of a gateway.
type Prices struct {
	store.PriceList
	Entries []price.Entry
	List    *price.List
}

// Book returns the book as it is now.
func (r *Roster) Book() *Book {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.book
}

// changedSince says up to which count a table was read, if it has changed since then. Rows that were removed since then are not
// told one by one: where all says so, the table is to be read from the start.
type changedSince func(tables ...string) (after int64, all, changed bool)

// readBook makes the book that follows the last one. It reads the tables that have changed, and of templates, blocks and
// alarms, which may be many, the rows that have changed.
func (r *Roster) readBook(ctx context.Context, last *Book, since changedSince) (*Book, error) {
	b := *last
	for _, part := range []struct {
		what   string
		tables []string
		read   func(ctx context.Context, b *Book, after int64, all bool) error
	}{
		{"senders", []string{"senders", "sender_defaults"}, r.readSenders},
		{"routes", []string{"routes"}, r.readRoutes},
		{"country rules", []string{"country_rules"}, r.readRules},
		{"templates", []string{"templates"}, r.readTemplates},
		{"price lists", []string{"price_lists", "prices"}, r.readPrices},
		{"limits of passcodes", []string{"passcode_limits"}, r.readLimits},
		{"blocks of passcodes", []string{"passcode_blocks"}, r.readBlocks},
		{"what is done about fraud", []string{"passcode_rules"}, r.readActs},
		{"alarms", []string{"passcode_alarms"}, r.readAlarms},
	} {
		after, all, changed := since(part.tables...)
		if !changed {
			continue
		}
		if err := part.read(ctx, &b, after, all); err != nil {
			return nil, fmt.Errorf("reading %s: %w", part.what, err)
		}
	}
	return &b, nil
}

func (r *Roster) readSenders(ctx context.Context, b *Book, _ int64, _ bool) (err error) {
	if b.Senders, err = r.store.Senders(ctx); err != nil {
		return err
	}
	b.Paced, b.Entries = map[string]int{}, make([]sender.Entry, 0, len(b.Senders))
	for _, s := range b.Senders {
		if s.PerSecond > 0 {
			b.Paced[s.ID] = s.PerSecond
		}
		b.Entries = append(b.Entries, sender.Entry{
			ID:            sender.Stored(s.ID, sender.Kind(s.Kind)),
			Gateways:      s.Gateways,
			Countries:     s.Countries,
			Registrations: s.Registrations,
			Defaults:      s.Defaults,
			TwoWay:        s.TwoWay,
			PerSecond:     s.PerSecond,
		})
	}
	return nil
}

func (r *Roster) readRoutes(ctx context.Context, b *Book, _ int64, _ bool) (err error) {
	if b.Routes, err = r.store.Routes(ctx); err != nil {
		return err
	}
	b.order = make([]route.Route, len(b.Routes))
	for i, one := range b.Routes {
		b.order[i] = one.Route
	}
	return nil
}

func (r *Roster) readRules(ctx context.Context, b *Book, _ int64, _ bool) error {
	rules, err := r.store.Rules(ctx)
	b.changed = make(map[string]store.CountryRule, len(rules))
	for _, rule := range rules {
		b.changed[rule.Country] = rule
	}
	return err
}

func (r *Roster) readTemplates(ctx context.Context, b *Book, after int64, _ bool) error {
	names, err := r.store.TemplateNames(ctx)
	if err != nil {
		return err
	}
	records, err := r.store.Templates(ctx, after)
	if err != nil {
		return err
	}
	last, flaws := b.templates, b.badTemplates
	b.templates, b.badTemplates = make(map[string]store.Template, len(names)), nil
	fresh := make(map[string]bool, len(records))
	for _, t := range records {
		fresh[t.Name] = true
		if err := t.Template.Check(); err != nil {
			b.badTemplates = append(b.badTemplates, Flaw{"template", t.Name, err.Error()})
			continue
		}
		b.templates[t.Name] = t
	}
	for _, name := range names {
		if t, known := last[name]; known && !fresh[name] {
			b.templates[name] = t
		}
	}
	for _, flaw := range flaws {
		if !fresh[flaw.Name] && slices.Contains(names, flaw.Name) {
			b.badTemplates = append(b.badTemplates, flaw)
		}
	}
	return nil
}

// readPrices takes the lists over that have not changed.
func (r *Roster) readPrices(ctx context.Context, b *Book, _ int64, _ bool) error {
	lists, err := r.store.PriceLists(ctx)
	if err != nil {
		return err
	}
	last := b.prices
	b.prices = make(map[uuid.UUID]Prices, len(lists))
	for _, list := range lists {
		known, ok := last[list.GatewayID]
		if !ok || !known.ChangedAt.Equal(list.ChangedAt) {
			entries, err := r.store.Prices(ctx, list.GatewayID)
			if err != nil {
				return err
			}
			known = Prices{list, entries, price.NewList(entries)}
		}
		b.prices[list.GatewayID] = known
	}
	return nil
}

// Route is the first route that fits.
func (b *Book) Route(c route.Case) (route.Route, bool) {
	return route.Find(b.order, c)
}

// RoutesThrough are the names of the routes that a gateway is part of.
func (b *Book) RoutesThrough(gateway string) []string {
	var names []string
	for _, r := range b.order {
		if slices.ContainsFunc(r.Gateways, func(l route.Leg) bool { return l.Gateway == gateway }) {
			names = append(names, r.Name)
		}
	}
	return names
}

// RouteNamed returns a route by its name.
func (b *Book) RouteNamed(name string) (route.Route, bool) {
	for _, r := range b.order {
		if r.Name == name {
			return r, true
		}
	}
	return route.Route{}, false
}

// PutRoutes checks routes and stores them in the place of all that are there.
func (r *Roster) PutRoutes(ctx context.Context, routes []route.Route, by string, now time.Time) error {
	if len(routes) > store.RoutesMost {
		return fault.New("items", fmt.Sprintf("%d routes", len(routes)), fmt.Sprintf("at most %d", store.RoutesMost))
	}
	var faults fault.Faults
	records := make([]store.Route, len(routes))
	for i, one := range routes {
		at := fmt.Sprintf("items[%d]", i)
		if err := one.Check(); err != nil {
			faults.Add(at, fault.Why(err), "a route as an export has it")
		}
		if why := recordProblem(one); why != "" {
			faults.Add(at, why, recordAccepted)
		}
		for _, leg := range one.Gateways {
			if r.ByName(leg.Gateway) == nil {
				faults.Add(at+".gateways", fmt.Sprintf("%q is not a gateway here", leg.Gateway), "names of gateways in use")
			}
		}
		if slices.ContainsFunc(routes[:i], func(o route.Route) bool { return o.Name == one.Name }) {
			faults.Add(at+".name", fmt.Sprintf("%q stands twice", one.Name), "a name of its own for each route")
		}
		records[i] = store.Route{Name: one.Name, Position: i + 1, Route: one, ChangedAt: now, ChangedBy: by}
	}
	if len(faults) > 0 {
		return faults
	}
	if err := r.store.PutRoutes(ctx, records); err != nil {
		return err
	}
	return r.Reload(ctx)
}

// MaySend reports whether a sender is in use and may use a gateway.
func (b *Book) MaySend(id, gateway string) bool {
	i := slices.IndexFunc(b.Entries, func(e sender.Entry) bool { return e.ID.String() == id })
	return i >= 0 && (len(b.Entries[i].Gateways) == 0 || slices.Contains(b.Entries[i].Gateways, gateway))
}

// Rule is what holds in a country: the rule that was changed here, else the
// one that ships, else nothing is known. by is who changed it.
func (b *Book) Rule(country string) (rule sender.Rule, by *store.CountryRule) {
	if changed, ok := b.changed[country]; ok {
		return changed.Rule, &changed
	}
	if shipped, ok := sender.Shipped()[country]; ok {
		return shipped, nil
	}
	return sender.Unruled(country), nil
}

// Ruled lists the countries of which something is known, in order.
func (b *Book) Ruled() []string {
	var countries []string
	for _, country := range phone.Countries() {
		if _, changed := b.changed[country]; changed || sender.Shipped()[country].Country != "" {
			countries = append(countries, country)
		}
	}
	return countries
}

// Template returns a template by its name.
func (b *Book) Template(name string) (store.Template, bool) {
	t, ok := b.templates[name]
	return t, ok
}

// Templates lists all templates in order of their names.
func (b *Book) Templates() []store.Template {
	all := make([]store.Template, 0, len(b.templates))
	for _, t := range b.templates {
		all = append(all, t)
	}
	slices.SortFunc(all, func(a, b store.Template) int { return strings.Compare(a.Name, b.Name) })
	return all
}

// Prices returns the price list of a gateway; that of one without a list knows
// no price.
func (b *Book) Prices(gateway uuid.UUID) Prices { return b.prices[gateway] }

// Price is what a message costs through a gateway; no amount if that is not
// known.
func (b *Book) Price(gateway uuid.UUID, m store.Content, now time.Time) price.Money {
	rate, ok := b.Prices(gateway).List.Find(m.To, m.Country, m.Kind, now)
	if !ok {
		return price.Money{}
	}
	cost, ok := rate.Cost(m.Segments)
	if !ok {
		return price.Money{}
	}
	return cost
}

// PutSender checks a sender and registers it, or changes the one that is there
// if it may be changed. What is wrong with it comes as [fault.Faults].
func (r *Roster) PutSender(ctx context.Context, s store.Sender, mayChange bool, now time.Time) (store.Sender, error) {
	parsed, err := sender.Parse(s.ID)
	if err != nil {
		return s, fault.New("sender", fault.Why(err), sender.Accepted)
	}
	s.ID, s.Kind, s.CreatedAt = parsed.String(), string(parsed.Kind()), now
	var faults fault.Faults
	country := func(field, code string) {
		if !phone.IsCountry(code) {
			faults.Add(field, fmt.Sprintf("%q is not a country", code), "countries such as GB (ISO 3166-1)")
		}
	}
	for _, code := range s.Countries {
		country("countries", code)
	}
	if parsed.Kind() == sender.ShortCode && len(s.Countries) != 1 {
		faults.Add(
			"countries",
			fmt.Sprintf("a short code is valid in one country, and %d are given", len(s.Countries)),
			"the country of the short code, such as GB",
		)
	}
	for code, id := range s.Registrations {
		country("registrations", code)
		if id == "" {
			faults.Add("registrations", "no id is given for "+code, "the id under which it is registered there")
		}
	}
	if s.RepliesTo != "" && r.Receiver(uuid.Nil, s.RepliesTo) == nil {
		faults.Add("replies_to", fmt.Sprintf("%q is no receiver of events", s.RepliesTo), "the name of one: pigeon event receiver list")
	}
	for _, name := range s.Gateways {
		if r.ByName(name) == nil {
			faults.Add("gateways", fmt.Sprintf("%q is not a gateway here", name), "names of gateways in use")
		}
	}
	for _, d := range s.Defaults {
		if _, err := pace.ParseKind(string(d.Kind)); err != nil && d.Kind != "" {
			faults.Add("defaults", fmt.Sprintf("%q is not a kind", d.Kind), "otp, transactional, bulk or nothing for all")
		}
		if d.Country != "" {
			country("defaults", d.Country)
		}
	}
	if why := recordProblem(s); why != "" {
		faults.Add("registrations", why, recordAccepted)
	}
	if s.PerSecond < 0 || s.PerSecond > 10_000 {
		faults.Add("per_second", fmt.Sprintf("%d is out of range", s.PerSecond), "1 to 10000, or 0 for no pace of its own")
	}
	if len(faults) > 0 {
		return s, faults
	}
	// Empty lists are lists.
	s.Countries, s.Gateways = append([]string{}, s.Countries...), append([]string{}, s.Gateways...)
	if s.Registrations == nil {
		s.Registrations = map[string]string{}
	}
	s.Defaults = append([]sender.Default{}, s.Defaults...)
	if s, err = r.store.PutSender(ctx, s, mayChange); err != nil {
		return s, err
	}
	return s, r.Reload(ctx)
}

// recordAccepted is what a record may be.
var recordAccepted = fmt.Sprintf("text without U+0000, at most %d KiB as JSON", store.SettingBytes>>10)

// recordProblem says why a record cannot be kept as JSON; empty if it can. PostgreSQL cannot keep U+0000, and every
// instance holds all records in memory. A backslash of the text itself is written as two.
func recordProblem(record any) string {
	encoded, err := json.Marshal(record)
	switch {
	case err != nil:
		return err.Error()
	case len(encoded) > store.SettingBytes:
		return fmt.Sprintf("it is %d KiB as JSON", (len(encoded)+1023)>>10)
	case bytes.Contains(bytes.ReplaceAll(encoded, []byte(`\\`), nil), []byte(`\u0000`)):
		return "it holds U+0000"
	}
	return ""
}

// RemoveSender takes a sender out of use.
func (r *Roster) RemoveSender(ctx context.Context, id string) error {
	if err := r.store.RemoveSender(ctx, id); err != nil {
		return err
	}
	return r.Reload(ctx)
}

// PutRules checks rules and stores them, all or none.
func (r *Roster) PutRules(ctx context.Context, rules []sender.Rule, by string, now time.Time) error {
	var faults fault.Faults
	records := make([]store.CountryRule, len(rules))
	for i, rule := range rules {
		if err := rule.Check(); err != nil {
			faults.Add("rules", fault.Why(err), "a rule as an export has it")
		}
		if why := recordProblem(rule); why != "" {
			faults.Add("rules", rule.Country+": "+why, recordAccepted)
		}
		rule.Quiet = append([]sender.Quiet{}, rule.Quiet...)
		records[i] = store.CountryRule{Country: rule.Country, Rule: rule, ChangedAt: now, ChangedBy: by}
	}
	if len(faults) > 0 {
		return faults
	}
	if err := r.store.PutRules(ctx, records); err != nil {
		return err
	}
	return r.Reload(ctx)
}

// DropRule puts the rule that ships back in force.
func (r *Roster) DropRule(ctx context.Context, country string) error {
	if err := r.store.DropRule(ctx, country); err != nil {
		return err
	}
	return r.Reload(ctx)
}

// PutTemplate checks a template and stores it.
func (r *Roster) PutTemplate(ctx context.Context, t *template.Template, mayChange bool, now time.Time) error {
	if err := t.Check(); err != nil {
		return fault.New("template", err.Error(), "a template as the documentation describes it")
	}
	if why := recordProblem(t); why != "" {
		return fault.New("template", why, recordAccepted)
	}
	if err := r.store.PutTemplate(ctx, store.Template{Name: t.Name, Template: t, CreatedAt: now, ChangedAt: now}, mayChange); err != nil {
		return err
	}
	return r.Reload(ctx)
}

// RemoveTemplate forgets a template.
func (r *Roster) RemoveTemplate(ctx context.Context, name string) error {
	if err := r.store.RemoveTemplate(ctx, name); err != nil {
		return err
	}
	return r.Reload(ctx)
}

// PutPrices stores the price list of a gateway in the place of its last one.
func (r *Roster) PutPrices(ctx context.Context, gateway *Gateway, entries []price.Entry, by string, now time.Time) error {
	list := store.PriceList{GatewayID: gateway.ID, Gateway: gateway.Name, ChangedAt: now, ChangedBy: by}
	if err := r.store.PutPrices(ctx, list, entries); err != nil {
		return err
	}
	return r.Reload(ctx)
}
