package sender

import (
	_ "embed"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"calmpigeon.example/internal/core/document"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/phone"
)

// Access is what a country says to something.
type Access string

// What countries say. Unknown means that the gateway must be asked.
const (
	Open       Access = "open"
	Registered Access = "registered" // only if registered there before
	Closed     Access = "closed"
	Unknown    Access = "unknown"
)

// Accesses lists them all.
var Accesses = []Access{Open, Registered, Closed, Unknown}

// Rule is what a country accepts. Rules change: they are data with a date and
// an origin, and whoever sends there is the one to check them.
type Rule struct {
	Country string `yaml:"country"           json:"country"` // ISO 3166-1 alpha-2
	// Senders by their kind.
	Alphanumeric Access `yaml:"alphanumeric"      json:"alphanumeric"`
	Numeric      Access `yaml:"numeric"           json:"numeric"`
	ShortCode    Access `yaml:"short_code"        json:"short_code"`
	// Texts: Registered if only registered templates pass.
	Texts Access `yaml:"texts"             json:"texts"`
	// Links: Registered if only in the fixed wording of a registered template.
	Links Access `yaml:"links"             json:"links"`
	// Quiet are the hours in which no message of some kinds should arrive.
	Quiet []Quiet `yaml:"quiet,omitempty"   json:"quiet"`
	// OptOut is what bulk messages must say; empty if nothing.
	OptOut string `yaml:"opt_out,omitempty" json:"opt_out"`
	// StopAnswer and StartAnswer are what is answered to somebody who asks not to be written
	// to, and to be again; empty if nothing.
	StopAnswer  string `yaml:"stop_answer,omitempty"  json:"stop_answer"`
	StartAnswer string `yaml:"start_answer,omitempty" json:"start_answer"`
	// Date is the day (2026-11-01) on which the rule was looked at, Origin who
	// says so, and Note what else there is to know.
	Date   string `yaml:"date,omitempty"    json:"date"`
	Origin string `yaml:"origin,omitempty"  json:"origin"`
	Note   string `yaml:"note,omitempty"    json:"note"`
}

// Quiet is a span of local time, over midnight if it ends before it begins.
type Quiet struct {
	Kinds []pace.Kind `yaml:"kinds"          json:"kinds"`
	From  string      `yaml:"from"           json:"from"` // 21:00
	To    string      `yaml:"to"             json:"to"`   // 08:00
	// Days are English short names of days on which the whole day is quiet.
	Days []string `yaml:"days,omitempty" json:"days"`
}

// Name is what decisions call the rule.
func (r Rule) Name() string {
	if r.Date == "" {
		return r.Country + ", of no date"
	}
	return r.Country + " of " + r.Date
}

// For is what the country says to a kind of sender.
func (r Rule) For(k Kind) Access {
	switch k {
	case Alphanumeric:
		return r.Alphanumeric
	case Numeric:
		return r.Numeric
	case ShortCode:
		return r.ShortCode
	}
	return Unknown
}

// Unruled is the rule of a country of which nothing is known.
func Unruled(country string) Rule {
	return Rule{Country: country, Alphanumeric: Unknown, Numeric: Unknown, ShortCode: Unknown, Texts: Unknown, Links: Unknown,
		Origin: "nothing is known", Note: "Ask the gateway."}
}

// ErrRule is wrapped by the errors of rules.
var ErrRule = errors.New("not a rule")

var (
	hour = regexp.MustCompile(`^([01]\d|2[0-3]):[0-5]\d$`)
	days = []string{"Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"}
)

// answerMost is how many characters an answer to STOP or START has at most.
const answerMost = 300

// Check reports what is wrong with a rule that was written by hand. What is
// left out is unknown. Errors wrap [ErrRule] and name the field.
func (r *Rule) Check() error {
	wrong := func(field string, value any, accepted string) error {
		return fault.Because(ErrRule, "%s: %s %q: accepted is %s", r.Country, field, fmt.Sprint(value), accepted)
	}
	if !phone.IsCountry(r.Country) {
		return wrong("country", r.Country, "a country such as GB (ISO 3166-1)")
	}
	for _, access := range []struct {
		field string
		value *Access
	}{{"alphanumeric", &r.Alphanumeric}, {"numeric", &r.Numeric}, {"short_code", &r.ShortCode}, {"texts", &r.Texts}, {"links", &r.Links}} {
		if *access.value == "" {
			*access.value = Unknown
		}
		if !slices.Contains(Accesses, *access.value) {
			return wrong(access.field, *access.value, "open, registered, closed or unknown")
		}
	}
	for _, q := range r.Quiet {
		for _, bound := range []string{q.From, q.To} {
			if !hour.MatchString(bound) {
				return wrong("quiet", bound, "from and to as in 21:00")
			}
		}
		for _, kind := range q.Kinds {
			if _, err := pace.ParseKind(string(kind)); err != nil {
				return wrong("quiet.kinds", kind, "otp, transactional or bulk")
			}
		}
		for _, day := range q.Days {
			if !slices.Contains(days, day) {
				return wrong("quiet.days", day, strings.Join(days, ", "))
			}
		}
	}
	for field, text := range map[string]string{"stop_answer": r.StopAnswer, "start_answer": r.StartAnswer} {
		if n := utf8.RuneCountInString(text); n > answerMost || !utf8.ValidString(text) || strings.ContainsRune(text, 0) {
			return wrong(field, text, fmt.Sprintf("a text of at most %d characters", answerMost))
		}
	}
	if _, err := time.Parse(time.DateOnly, r.Date); err != nil && r.Date != "" {
		return wrong("date", r.Date, "a day such as 2026-11-01")
	}
	return nil
}

// At reports whether a moment is quiet for a kind of message, and until when
// of the day.
func (q Quiet) At(kind pace.Kind, local time.Time) (until string, quiet bool) {
	if !slices.Contains(q.Kinds, kind) {
		return "", false
	}
	if slices.Contains(q.Days, local.Weekday().String()[:3]) {
		return "the end of the day", true
	}
	now := local.Format("15:04")
	if q.From <= q.To {
		return q.To, now >= q.From && now < q.To
	}
	return q.To, now >= q.From || now < q.To
}

// QuietUntil is when a moment's quiet hours are over for a kind of message, in every place
// where the recipient may be; the moment itself, and no place, where it is not quiet.
func (r Rule) QuietUntil(kind pace.Kind, zones []string, at time.Time) (until time.Time, zone string) {
	const most = 50 // spans one after the other: a rule may be quiet at all times
	for range most {
		next := at
		for _, q := range r.Quiet {
			for _, name := range zones {
				place, err := time.LoadLocation(name)
				if err != nil {
					continue
				}
				if end := q.end(kind, at.In(place)); end.After(next) {
					next, zone = end, name
				}
			}
		}
		if next.Equal(at) {
			return at, zone
		}
		at = next
	}
	return at, zone
}

// Hours tells whether a moment is open to a kind of message in every place where the recipient
// may be, and until when at least that holds; the zero time if it always does.
func (r Rule) Hours(kind pace.Kind, zones []string, at time.Time) (open bool, until time.Time) {
	if end, _ := r.QuietUntil(kind, zones, at); end.After(at) {
		return false, end
	}
	for _, q := range r.Quiet {
		if !slices.Contains(q.Kinds, kind) {
			continue
		}
		for _, name := range zones {
			place, err := time.LoadLocation(name)
			if err != nil {
				continue
			}
			if next := q.next(at.In(place)); until.IsZero() || next.Before(until) {
				until = next
			}
		}
	}
	return true, until
}

// next is when the quiet span may begin next after a local moment: at its hour, or, where it
// has quiet days, with the next day.
func (q Quiet) next(local time.Time) time.Time {
	year, month, day := local.Date()
	midnight := time.Date(year, month, day+1, 0, 0, 0, 0, local.Location())
	from, err := time.Parse("15:04", q.From)
	if err != nil { // rules are checked
		return midnight
	}
	begins := time.Date(year, month, day, from.Hour(), from.Minute(), 0, 0, local.Location())
	if !begins.After(local) || len(q.Days) > 0 && midnight.Before(begins) {
		begins = midnight
	}
	return begins
}

// end is when a span is over that a local moment lies in; zero if it lies in none.
func (q Quiet) end(kind pace.Kind, local time.Time) time.Time {
	if _, quiet := q.At(kind, local); !quiet {
		return time.Time{}
	}
	year, month, day := local.Date()
	if slices.Contains(q.Days, local.Weekday().String()[:3]) {
		return time.Date(year, month, day+1, 0, 0, 0, 0, local.Location())
	}
	to, err := time.Parse("15:04", q.To)
	if err != nil { // rules are checked
		return time.Time{}
	}
	if local.Format("15:04") >= q.To {
		day++
	}
	return time.Date(year, month, day, to.Hour(), to.Minute(), 0, 0, local.Location())
}

// ReadRules reads rules from YAML: a list under rules, with what holds for all
// of them (date, origin) beside it. Errors wrap [ErrRule] and name the line, or
// the country and the field.
func ReadRules(data []byte) ([]Rule, error) {
	var file struct {
		Date   string `yaml:"date"`
		Origin string `yaml:"origin"`
		Rules  []Rule `yaml:"rules"`
	}
	if err := document.Decode(data, &file); err != nil {
		return nil, fault.Because(ErrRule, "%w", err)
	}
	seen := map[string]bool{}
	for i := range file.Rules {
		r := &file.Rules[i]
		if r.Date == "" {
			r.Date = file.Date
		}
		if r.Origin == "" {
			r.Origin = file.Origin
		}
		if err := r.Check(); err != nil {
			return nil, err
		}
		if seen[r.Country] {
			return nil, fault.Because(ErrRule, "%s stands there twice", r.Country)
		}
		seen[r.Country] = true
	}
	return file.Rules, nil
}

// WriteRules writes rules as [ReadRules] reads them.
func WriteRules(rules []Rule) ([]byte, error) {
	return document.Encode(struct {
		Rules []Rule `yaml:"rules"`
	}{rules})
}

//go:embed rules.yaml
var shipped []byte

// Shipped returns the rules to start with, by country. They are read when they
// are first asked for.
var Shipped = sync.OnceValue(func() map[string]Rule {
	rules, err := ReadRules(shipped)
	if err != nil {
		panic(err) // a test reads them
	}
	of := make(map[string]Rule, len(rules))
	for _, r := range rules {
		of[r.Country] = r
	}
	return of
})
