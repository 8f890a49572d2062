package price

import (
	"cmp"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/phone"
)

// ErrList is wrapped by the errors of reading a price list.
var ErrList = errors.New("not a price list")

// Per is what a price is for.
type Per string

// What prices are for.
const (
	PerSegment Per = "segment"
	PerMessage Per = "message"
)

// Entry is one price of a list.
type Entry struct {
	// Country is an ISO 3166-1 alpha-2 code, or * for all that have no entry.
	Country string
	// Prefix narrows the entry to numbers that begin so, without the plus: a
	// network's. Empty is the whole country.
	Prefix string
	// Kind narrows it to messages of a kind; empty is all.
	Kind pace.Kind
	Per  Per
	Rate Money
	// From is when it begins to hold, until the next entry of the same
	// country, prefix and kind does.
	From time.Time
}

// Key is what an entry is found by. Of entries with the same key the latest
// that has begun holds.
type Key struct {
	Country, Prefix string
	Kind            pace.Kind
}

// Key is the entry's.
func (e Entry) Key() Key { return Key{e.Country, e.Prefix, e.Kind} }

// List is the price list of a gateway, ready to look prices up. The zero value
// knows no price.
type List struct {
	entries map[Key][]Entry // the latest first
	longest int             // digits of the longest prefix
}

// NewList makes a list of entries in any order.
func NewList(entries []Entry) *List {
	l := &List{entries: make(map[Key][]Entry, len(entries))}
	for _, e := range entries {
		l.entries[e.Key()] = append(l.entries[e.Key()], e)
		l.longest = max(l.longest, len(e.Prefix))
	}
	for _, of := range l.entries {
		slices.SortStableFunc(of, func(a, b Entry) int { return b.From.Compare(a.From) })
	}
	return l
}

// Find looks up what holds at a moment for a number of a country. The longest
// prefix wins, then the country, then what holds anywhere; in each, an entry
// of the kind before one of all kinds.
func (l *List) Find(number phone.Number, country string, kind pace.Kind, at time.Time) (Entry, bool) {
	if l == nil {
		return Entry{}, false
	}
	digits := number.Digits()
	for n := min(l.longest, len(digits)); n > 0; n-- {
		if e, ok := l.at(country, digits[:n], kind, at); ok {
			return e, true
		}
	}
	if e, ok := l.at(country, "", kind, at); ok {
		return e, true
	}
	return l.at("*", "", kind, at)
}

func (l *List) at(country, prefix string, kind pace.Kind, at time.Time) (Entry, bool) {
	for _, k := range []pace.Kind{kind, ""} {
		for _, e := range l.entries[Key{country, prefix, k}] {
			if !e.From.After(at) {
				return e, true
			}
		}
	}
	return Entry{}, false
}

// Cost is what a message of so many segments costs; false if that is more than
// can be counted.
func (e Entry) Cost(segments int) (Money, bool) {
	if e.Per == PerMessage {
		return e.Rate, true
	}
	return e.Rate.Times(segments)
}

// Estimate is what a message costs by the list; false if that is unknown.
func (l *List) Estimate(number phone.Number, country string, kind pace.Kind, segments int, at time.Time) (Money, bool) {
	e, ok := l.Find(number, country, kind, at)
	if !ok {
		return Money{}, false
	}
	return e.Cost(segments)
}

var columns = []string{"country", "prefix", "kind", "per", "price", "currency", "from"}

// mostFaults is how many mistakes of a list are told at once.
const mostFaults = 20

// ReadCSV reads a price list (RFC 4180) with a head that names its columns:
//
//	country,prefix,kind,per,price,currency,from
//	GB,,,segment,0.0391,EUR,2026-01-01
//	GB,447700,otp,segment,0.0402,EUR,2026-01-01
//	*,,,segment,0.1200,EUR,2026-01-01
//
// country, price and currency must be there. kind is otp, transactional or
// bulk, or empty for all; per is segment, if empty, or message; from is a day
// in UTC or a time (RFC 3339), and if empty, always. Errors wrap [ErrList] and
// name line, column, and what is accepted, of up to twenty mistakes.
func ReadCSV(r io.Reader) ([]Entry, error) {
	rows := csv.NewReader(r)
	rows.TrimLeadingSpace = true
	head, err := rows.Read()
	if err != nil {
		return nil, fault.Because(ErrList, "line 1: no head with the columns %s", strings.Join(columns, ", "))
	}
	if len(head) > 0 {
		head[0] = strings.TrimPrefix(head[0], "\uFEFF") // as spreadsheets write it
	}
	at := map[string]int{}
	for i, name := range head {
		name = strings.ToLower(strings.TrimSpace(name))
		if _, twice := at[name]; twice || !slices.Contains(columns, name) {
			return nil, fault.Because(ErrList, "line 1: column %q: accepted, once each, are %s", name, strings.Join(columns, ", "))
		}
		at[name] = i
	}
	for _, name := range []string{"country", "price", "currency"} {
		if _, ok := at[name]; !ok {
			return nil, fault.Because(ErrList, "line 1: no column %s", name)
		}
	}
	var entries []Entry
	var faults []error
	type moment struct {
		Key
		from time.Time
	}
	seen := map[moment]int{}
	for len(faults) < mostFaults {
		row, err := rows.Read()
		if err == io.EOF {
			break
		}
		if err != nil {
			faults = append(faults, err) // it names the line
			break
		}
		line, _ := rows.FieldPos(0)
		e, err := entry(func(column string) string {
			if i, ok := at[column]; ok {
				return strings.TrimSpace(row[i])
			}
			return ""
		})
		if err != nil {
			faults = append(faults, fmt.Errorf("line %d: %w", line, err))
			continue
		}
		if first, twice := seen[moment{e.Key(), e.From}]; twice {
			faults = append(faults, fmt.Errorf("line %d: the same country, prefix, kind and from stand on line %d", line, first))
		}
		seen[moment{e.Key(), e.From}] = line
		entries = append(entries, e)
	}
	if len(faults) > 0 {
		return nil, fault.Because(ErrList, "%w", errors.Join(faults...))
	}
	return entries, nil
}

func entry(column func(string) string) (Entry, error) {
	e := Entry{Country: strings.ToUpper(column("country")), Prefix: strings.TrimPrefix(column("prefix"), "+"), Per: PerSegment}
	wrong := func(name, accepted string) (Entry, error) {
		return Entry{}, fmt.Errorf("%s %q: accepted is %s", name, column(name), accepted)
	}
	if e.Country != "*" && !phone.IsCountry(e.Country) {
		return wrong("country", "a country such as GB (ISO 3166-1), or * for all others")
	}
	if strings.Trim(e.Prefix, "0123456789") != "" || len(e.Prefix) > 15 || e.Country == "*" && e.Prefix != "" {
		return wrong("prefix", "the first digits of international numbers of that country, such as 447700")
	}
	var err error
	if kind := column("kind"); kind != "" {
		if e.Kind, err = pace.ParseKind(kind); err != nil {
			return wrong("kind", "otp, transactional, bulk or nothing")
		}
	}
	switch per := Per(column("per")); per {
	case "":
	case PerSegment, PerMessage:
		e.Per = per
	default:
		return wrong("per", "segment or message")
	}
	if e.Rate, err = ParseMoney(column("price"), "EUR"); err != nil {
		return wrong("price", "an amount such as 0.0391, with a point and at most six places")
	}
	if e.Rate, err = ParseMoney(column("price"), strings.ToUpper(column("currency"))); err != nil {
		return wrong("currency", "a currency such as EUR (ISO 4217)")
	}
	if from := column("from"); from != "" {
		if e.From, err = time.Parse(time.DateOnly, from); err != nil {
			if e.From, err = time.Parse(time.RFC3339, from); err != nil {
				return wrong("from", "a day such as 2026-01-01, or a time such as 2026-01-01T00:00:00Z")
			}
		}
	}
	return e, nil
}

// WriteCSV writes entries as [ReadCSV] reads them, in order of their keys.
func WriteCSV(w io.Writer, entries []Entry) error {
	entries = slices.Clone(entries)
	slices.SortFunc(entries, func(a, b Entry) int {
		return cmp.Or(
			cmp.Compare(a.Country, b.Country),
			cmp.Compare(a.Prefix, b.Prefix),
			cmp.Compare(a.Kind, b.Kind),
			a.From.Compare(b.From),
		)
	})
	rows := csv.NewWriter(w)
	rows.Write(columns)
	for _, e := range entries {
		from := ""
		if !e.From.IsZero() {
			if from = e.From.UTC().Format(time.RFC3339Nano); e.From.UTC().Truncate(24 * time.Hour).Equal(e.From) {
				from = e.From.UTC().Format(time.DateOnly)
			}
		}
		rows.Write([]string{e.Country, e.Prefix, string(e.Kind), string(e.Per), e.Rate.Amount(), e.Rate.Currency(), from})
	}
	rows.Flush()
	return rows.Error()
}
