package sender

import (
	"cmp"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/phone"
)

// Entry is a sender in use and what is known of it.
type Entry struct {
	ID ID
	// Gateways that may use it; empty is all.
	Gateways []string
	// Countries it is for; empty is all that accept it.
	Countries []string
	// Registrations are the ids under which countries have registered it.
	Registrations map[string]string
	// Defaults is what it is taken for when no sender is named.
	Defaults []Default
	TwoWay   bool // replies reach us
	// PerSecond is how many messages a second it may send; 0 is as many as the
	// gateway takes.
	PerSecond int
}

// Default is what a sender is the default for. Empty fields stand for all.
type Default struct {
	Kind    pace.Kind `json:"kind"`
	Country string    `json:"country"`
}

// Verdict is whether something may be done.
type Verdict string

// The verdicts, the worst last. NotKnown is let through: the gateway decides.
const (
	Allowed  Verdict = "allowed"
	NotKnown Verdict = "unknown"
	Careful  Verdict = "careful"
	Refused  Verdict = "refused"
)

var severity = []Verdict{Allowed, NotKnown, Careful, Refused}

// Finding is one thing that a rule says about a message.
type Finding struct {
	About   string // sender, text, link, quiet_hours or opt_out
	Verdict Verdict
	Say     string // what is so
	Do      string // what can be done about it; empty if nothing need be
}

// Decision is what a rule says about a message.
type Decision struct {
	Verdict  Verdict // the worst of its findings
	Rule     string  // the rule's name
	Origin   string
	Findings []Finding
}

func (d *Decision) add(f Finding) {
	d.Findings = append(d.Findings, f)
	if slices.Index(severity, f.Verdict) > slices.Index(severity, d.Verdict) {
		d.Verdict = f.Verdict
	}
}

// Case is a message that a rule is asked about.
type Case struct {
	Sender Entry
	Kind   pace.Kind
	Text   string
	// Wording is the text as a template has it, and TextRegistered whether it
	// is registered in the country. Without a template, Wording is empty.
	Wording        string
	TextRegistered bool
	At             time.Time
	TimeZones      []string // where the recipient may be
}

// Decide asks a rule about a message.
func (r Rule) Decide(c Case) Decision {
	d := Decision{Verdict: Allowed, Rule: r.Name(), Origin: r.Origin}
	where := phone.CountryName(r.Country)
	d.add(r.sender(c, where))
	switch {
	case r.Texts == Registered && !c.TextRegistered:
		d.add(
			Finding{"text", Refused, where + " takes registered texts only", "send by a template that has a registration for " + r.Country},
		)
	case r.Texts == Closed:
		d.add(Finding{"text", Refused, where + " takes no such texts", ""})
	case r.Texts == Unknown:
		d.add(Finding{"text", NotKnown, "whether " + where + " wants texts registered is not known", "ask the gateway"})
	}
	if links := Links(c.Text); len(links) > 0 {
		loose := slices.ContainsFunc(links, func(link string) bool { return !strings.Contains(c.Wording, link) })
		switch {
		case r.Links == Closed:
			d.add(Finding{"link", Refused, where + " lets no links through", "leave out " + links[0]})
		case r.Links == Registered && (loose || !c.TextRegistered):
			d.add(
				Finding{
					"link",
					Refused,
					where + " lets links through only in the fixed wording of a registered template",
					"register the link in the template's wording, not in a field",
				},
			)
		case r.Links == Unknown:
			d.add(
				Finding{
					"link",
					NotKnown,
					"whether " + where + " lets links through is not known",
					"ask the gateway, or send one to yourself there",
				},
			)
		}
	}
	if r.OptOut != "" && c.Kind == pace.Bulk && !strings.Contains(strings.ToUpper(c.Text), strings.ToUpper(r.OptOut)) {
		d.add(
			Finding{
				"opt_out",
				Careful,
				fmt.Sprintf("bulk texts to %s must say how to stop them; %q is not in it", where, r.OptOut),
				fmt.Sprintf("add a line with %s", r.OptOut),
			},
		)
	}
	for _, q := range r.Quiet {
		if zone, until, ok := q.anywhere(c); ok {
			d.add(
				Finding{
					"quiet_hours",
					Careful,
					fmt.Sprintf("quiet hours for %s texts in %s until %s", c.Kind, zone, until),
					"send it later",
				},
			)
		}
	}
	return d
}

func (r Rule) sender(c Case, where string) Finding {
	id := c.Sender.ID
	kind := strings.ReplaceAll(string(id.Kind()), "_", " ")
	switch r.For(id.Kind()) {
	case Closed:
		return Finding{"sender", Refused, fmt.Sprintf("%s takes no %s senders such as %s", where, kind, id), r.instead(id.Kind())}
	case Registered:
		if registration := c.Sender.Registrations[r.Country]; registration != "" {
			return Finding{"sender", Allowed, fmt.Sprintf("%s is registered in %s as %s", id, where, registration), ""}
		}
		return Finding{
			"sender",
			Refused,
			fmt.Sprintf("%s takes only registered %s senders, and no registration of %s is known", where, kind, id),
			fmt.Sprintf("register it, then note the id: pigeon sender set %q --registration %s=ID", id, r.Country),
		}
	case Open:
		return Finding{"sender", Allowed, fmt.Sprintf("%s takes %s senders", where, kind), ""}
	}
	return Finding{"sender", NotKnown, fmt.Sprintf("whether %s takes %s senders is not known", where, kind), "ask the gateway"}
}

// instead says what a country takes in the place of a kind of sender.
func (r Rule) instead(not Kind) string {
	for _, access := range []Access{Open, Registered, Unknown} {
		for _, k := range []Kind{Numeric, Alphanumeric, ShortCode} {
			if k != not && r.For(k) == access {
				if access == Registered {
					return "use a registered " + strings.ReplaceAll(string(k), "_", " ") + " sender"
				}
				return "use a " + strings.ReplaceAll(string(k), "_", " ") + " sender"
			}
		}
	}
	return "ask the gateway"
}

// anywhere reports whether it is quiet in any place where the recipient may be.
func (q Quiet) anywhere(c Case) (zone, until string, quiet bool) {
	for _, name := range c.TimeZones {
		place, err := time.LoadLocation(name)
		if err != nil {
			continue
		}
		if until, quiet = q.At(c.Kind, c.At.In(place)); quiet {
			return name, until, true
		}
	}
	return "", "", false
}

var link = regexp.MustCompile(
	`(?i)\b(?:https?://|www\.)\S+|` +
		`\b[a-z0-9][a-z0-9-]*(?:\.[a-z0-9-]+)*\.(?:com|net|org|info|io|co|me|ly|app|link|page|shop|xyz|example)\b(?:/\S*)?`,
)

// Links finds the links in a text, also those without http in front.
func Links(text string) []string {
	if !mayLink(text) {
		return nil
	}
	return link.FindAllString(text, -1)
}

// mayLink reports whether there may be a link in a text. Most texts have none,
// and to find that out with the expression takes long.
func mayLink(text string) bool {
	if strings.Contains(text, "://") {
		return true
	}
	for i := 0; i < len(text)-1; i++ { // a dot within a word
		if text[i] == '.' && text[i+1] > ' ' {
			return true
		}
	}
	return false
}

// ErrNone is wrapped by the errors of [Choose].
var ErrNone = errors.New("no sender can be used")

// Choose finds the sender of a message: the one that is named, else the
// default for its kind and country, else any number in use there. What cannot
// be used in the country or through the gateway is passed over; a named one is
// taken as it is, and the decision says what speaks against it. Errors wrap
// [ErrNone] and say what to do.
func Choose(all []Entry, rule Rule, named string, gateway string, c Case) (Entry, Decision, error) {
	decide := func(e Entry) Decision {
		c.Sender = e
		return rule.Decide(c)
	}
	if named != "" {
		for _, e := range all {
			if e.ID.String() == named {
				if why := e.unfit(rule.Country, gateway); why != "" {
					return e, decide(e), fault.Because(ErrNone, "%s", why)
				}
				return e, decide(e), nil
			}
		}
		return Entry{}, Decision{}, fault.Because(ErrNone, "%q is not in use here", named)
	}
	type candidate struct {
		Entry
		rank int
	}
	var fit []candidate
	var against []string // every candidate
	for _, e := range all {
		rank := e.rank(c.Kind, rule.Country)
		if rank == 0 {
			continue
		}
		c.Sender = e
		if why := e.unfit(rule.Country, gateway); why != "" {
			against = append(against, why)
		} else if f := rule.sender(c, phone.CountryName(rule.Country)); f.Verdict == Refused {
			against = append(against, f.Say+": "+f.Do)
		} else {
			fit = append(fit, candidate{e, rank})
		}
	}
	if len(fit) > 0 {
		best := slices.MaxFunc(fit, func(a, b candidate) int {
			return cmp.Or(cmp.Compare(a.rank, b.rank), cmp.Compare(b.ID.String(), a.ID.String()))
		})
		return best.Entry, decide(best.Entry), nil
	}
	if len(against) > 0 {
		return Entry{}, Decision{}, fault.Because(ErrNone, "none is given, and none in use can be chosen: %s", strings.Join(against, "; "))
	}
	return Entry{}, Decision{}, fmt.Errorf(
		"none is given, and there is no default for %s texts to %s: %w",
		c.Kind,
		phone.CountryName(rule.Country),
		ErrNone,
	)
}

// rank is how well a sender matches when none is named; 0 if it does not.
func (e Entry) rank(kind pace.Kind, country string) int {
	best := 0
	if e.ID.Kind() == Numeric {
		best = 1
	}
	for _, d := range e.Defaults {
		if d.Kind != "" && d.Kind != kind || d.Country != "" && d.Country != country {
			continue
		}
		rank := 2
		if d.Kind != "" {
			rank++
		}
		if d.Country != "" { // what a country takes weighs more than a habit
			rank += 2
		}
		best = max(best, rank)
	}
	return best
}

// unfit says why a sender cannot be used there; empty if it can.
func (e Entry) unfit(country, gateway string) string {
	if country != "" && len(e.Countries) > 0 && !slices.Contains(e.Countries, country) {
		return fmt.Sprintf("%s is for %s only", e.ID, strings.Join(e.Countries, ", "))
	}
	if gateway != "" && len(e.Gateways) > 0 && !slices.Contains(e.Gateways, gateway) {
		return fmt.Sprintf("%s goes out through %s only, not through %s", e.ID, strings.Join(e.Gateways, ", "), gateway)
	}
	return ""
}
