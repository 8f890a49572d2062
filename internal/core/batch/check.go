package batch

import (
	"slices"
	"strconv"
	"strings"

	"calmpigeon.example/internal/core/octets"
	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/core/smstext"
)

// Reason is why a row is left out.
type Reason string

// The reasons.
const (
	Unreadable Reason = "unreadable" // its cells cannot be told apart
	BadNumber  Reason = "number"     // it is no number
	NoMobile   Reason = "line"       // a line that takes no texts
	Repeated   Reason = "repeated"   // the number stands in the list before
	Unwanted   Reason = "opted_out"  // the recipient does not want it
	NoRoute    Reason = "no_route"   // no gateway takes it
	BadSender  Reason = "sender"     // the country does not take the sender
	BadField   Reason = "field"      // a field is missing, or holds what it may not
	TooLong    Reason = "too_long"
	BadLink    Reason = "link" // a link where none may be
	BadTime    Reason = "time" // the time at which it is to go is none, or over
	BadText    Reason = "text" // anything else about the text
	Otherwise  Reason = "other"
)

// Reasons lists them in the order in which they are told.
var Reasons = []Reason{
	Unreadable,
	BadNumber,
	NoMobile,
	Repeated,
	Unwanted,
	NoRoute,
	BadSender,
	BadField,
	TooLong,
	BadLink,
	BadTime,
	BadText,
	Otherwise,
}

// Check is what rehearsing found of a row.
type Check struct {
	Reason   Reason // it is left out for; empty: it goes
	Say      string // why it is left out, or what was changed of its number
	To       string // E.164; empty if it is no number
	Country  string
	Sender   string
	Gateway  string // it takes
	Kind     string
	Template string
	Language string // of its text
	UCS2     bool
	Units    int
	Segments int
	Price    price.Money // none if it is not known
	Cured    bool        // characters of its text were replaced
	Warned   bool        // something speaks against it
	Zones    string      // in which it may be quiet, by spaces; empty: it may go at any hour
}

// Hours tells rows apart that may go at different hours; empty: at any.
func (c Check) Hours() string { return hours(c.Country, c.Zones) }

func hours(country, zones string) string {
	if zones == "" {
		return ""
	}
	return country + " " + zones
}

// Goes reports whether the row is sent.
func (c Check) Goes() bool { return c.Reason == "" }

// Encoding is that of the text.
func (c Check) Encoding() smstext.Encoding {
	if c.UCS2 {
		return smstext.UCS2
	}
	return smstext.GSM7
}

// Digits is the number as a number; 0 if there is none.
func (c Check) Digits() uint64 {
	n, err := strconv.ParseUint(strings.TrimPrefix(c.To, "+"), 10, 64)
	if err != nil {
		return 0
	}
	return n
}

func bit(set bool, flag uint64) uint64 {
	if set {
		return flag
	}
	return 0
}

// flags of a check as it is kept.
const (
	flagUCS2 uint64 = 1 << iota
	flagCured
	flagWarned
	flagPriced
	flagZones
)

// AppendChecks writes checks as they are kept: the words that they share once.
func AppendChecks(b []byte, checks []Check) []byte {
	words := []string{""}
	places := map[string]uint64{"": 0}
	place := func(s string) uint64 {
		at, ok := places[s]
		if !ok {
			at = uint64(len(words))
			words, places[s] = append(words, s), at
		}
		return at
	}
	var w writer
	for i := range checks {
		c := &checks[i]
		flags := bit(c.UCS2, flagUCS2) | bit(c.Cured, flagCured) | bit(c.Warned, flagWarned) | bit(c.Price != (price.Money{}), flagPriced) |
			bit(c.Zones != "", flagZones)
		w.number(flags)
		w.number(c.Digits())
		for _, s := range []string{string(c.Reason), c.Say, c.Country, c.Sender, c.Gateway, c.Kind, c.Template, c.Language} {
			w.number(place(s))
		}
		w.number(uint64(c.Units))
		w.number(uint64(c.Segments))
		if flags&flagPriced != 0 {
			w.number(uint64(c.Price.Micros()))
			w.number(place(c.Price.Currency()))
		}
		if c.Zones != "" {
			w.number(place(c.Zones))
		}
	}
	head := writer{b: append(b, packForm)}
	head.number(uint64(len(words)))
	for _, s := range words {
		head.word(s)
	}
	head.number(uint64(len(checks)))
	return append(head.b, w.b...)
}

// ReadChecks reads what AppendChecks wrote.
func ReadChecks(b []byte) ([]Check, error) {
	r := octets.NewReader(b)
	if r.Octet() != packForm {
		return nil, ErrPack
	}
	words := make([]string, r.Number(16*PackRows))
	for i := range words {
		words[i] = r.Word()
	}
	word := func() string {
		at := r.Number(max(len(words)-1, 0))
		if r.Bad() || at >= len(words) {
			r.Fail()
			return ""
		}
		return words[at]
	}
	checks := make([]Check, r.Number(PackRows))
	for i := range checks {
		c := &checks[i]
		flags := r.Uint()
		c.UCS2, c.Cured, c.Warned = flags&flagUCS2 != 0, flags&flagCured != 0, flags&flagWarned != 0
		if to := r.Uint(); to > 0 {
			c.To = "+" + strconv.FormatUint(to, 10)
		}
		c.Reason = Reason(word())
		for _, into := range []*string{&c.Say, &c.Country, &c.Sender, &c.Gateway, &c.Kind, &c.Template, &c.Language} {
			*into = word()
		}
		c.Units, c.Segments = r.Number(1<<20), r.Number(1<<20)
		if flags&flagPriced != 0 {
			micros := r.Uint()
			c.Price = price.Of(int64(micros), word()) // #nosec G115 -- it was written from one
		}
		if flags&flagZones != 0 {
			c.Zones = word()
		}
		if r.Bad() {
			return nil, ErrPack
		}
	}
	if !r.Whole() || !slices.Contains(words, "") {
		return nil, ErrPack
	}
	return checks, nil
}
