// Package phone knows telephone numbers: what people type and sheets hold
// becomes a [Number], or is refused with the reason, and a number knows its
// country, its kind of line, its time zones and how people write it.
//
//	n, err := phone.Parse("+44 7700 900123")            // international form
//	r, err := phone.Read("07700 900123", "GB")          // what was changed is said
//	// r.Number.String() == "+447700900123"
//	// r.Changes == []string{"added +44", "dropped the trunk 0"}
//
// A number that cannot be known is never guessed. Numbers are those of ITU-T
// E.164; the numbering plans of the countries come from
// github.com/nyaruka/phonenumbers.
package phone

import (
	"cmp"
	"slices"
	"strings"
	"sync"

	"github.com/nyaruka/phonenumbers"
	"golang.org/x/text/language"
	"golang.org/x/text/language/display"
)

// Number is an international telephone number (ITU-T E.164). It is immutable
// and comparable; its zero value is no number. It costs one string header.
type Number struct{ e164 string }

// Parse reads a number in international form, as [Read] does without a
// country. Errors wrap [ErrInvalid].
func Parse(s string) (Number, error) {
	r, err := Read(s, "")
	return r.Number, err
}

// Stored is a number that was read before and kept as [Number.String] gave it.
// It is not held against the numbering plan again: plans change, and what was
// accepted must not be lost for it.
func Stored(e164 string) Number { return Number{e164} }

// String is the number as machines write it: plus and digits.
func (n Number) String() string { return n.e164 }

// Digits is the number without the plus.
func (n Number) Digits() string { return strings.TrimPrefix(n.e164, "+") }

// National is the number as it is dialled within its country, digits alone:
// +447700900123 is 07700900123.
func (n Number) National() string {
	plan := n.plan()
	if plan == nil {
		return ""
	}
	return strings.Map(func(r rune) rune {
		if r < '0' || r > '9' {
			return -1
		}
		return r
	}, phonenumbers.Format(plan, phonenumbers.NATIONAL))
}

// IsValid reports whether this is a number at all.
func (n Number) IsValid() bool { return n.e164 != "" }

// Line is what stands at the end of a number.
type Line string

// The kinds of lines.
const (
	Mobile      Line = "mobile"
	Fixed       Line = "fixed"
	Either      Line = "fixed_or_mobile" // countries where the number does not tell
	SpecialRate Line = "special_rate"    // freephone, premium rate, shared cost, company and voicemail numbers
	Other       Line = "other"           // internet telephony, personal numbers, pagers
	Unassigned  Line = "unassigned"      // no range in use begins so
)

// Lines lists all kinds of lines.
var Lines = []Line{Mobile, Fixed, Either, SpecialRate, Other, Unassigned}

var lines = map[phonenumbers.PhoneNumberType]Line{
	phonenumbers.MOBILE: Mobile, phonenumbers.FIXED_LINE: Fixed, phonenumbers.FIXED_LINE_OR_MOBILE: Either,
	phonenumbers.TOLL_FREE: SpecialRate, phonenumbers.PREMIUM_RATE: SpecialRate, phonenumbers.SHARED_COST: SpecialRate,
	phonenumbers.UAN: SpecialRate, phonenumbers.VOICEMAIL: SpecialRate,
	phonenumbers.VOIP: Other, phonenumbers.PERSONAL_NUMBER: Other, phonenumbers.PAGER: Other, phonenumbers.UNKNOWN: Unassigned,
}

// plan is the number for the library; nil for the zero value.
func (n Number) plan() *phonenumbers.PhoneNumber {
	parsed, err := parse(strings.TrimPrefix(n.e164, "+"))
	if err != nil {
		return nil
	}
	return parsed
}

// place finds country and line of a number.
func place(n Number, plan *phonenumbers.PhoneNumber) (country string, line Line) {
	reserved, ok := fiction(n)
	if ok && reserved.country != "" {
		return reserved.country, reserved.line
	}
	country = phonenumbers.GetRegionCodeForNumber(plan)
	if line = reserved.line; !ok {
		line = lines[phonenumbers.GetNumberType(plan)]
	}
	if country == "" {
		country = phonenumbers.GetRegionCodeForCountryCode(int(plan.GetCountryCode()))
	}
	return country, line
}

// Details is what can be said about a number.
type Details struct {
	Country     string // ISO 3166-1 alpha-2; 001 for numbers of no country
	CountryName string // in English
	Region      string // in English, where the number tells
	Line        Line
	Fictional   string // who reserves the range for fiction, if it is
	TimeZones   []string
	Display     string // as people write it abroad (ITU-T E.123)
}

// Details looks a number up. A number that is none has none.
func (n Number) Details() Details {
	plan := n.plan()
	if plan == nil {
		return Details{}
	}
	d := Details{Display: phonenumbers.Format(plan, phonenumbers.INTERNATIONAL)}
	d.Country, d.Line = place(n, plan)
	d.CountryName = CountryName(d.Country)
	if zones, err := phonenumbers.GetTimezonesForNumber(plan); err == nil {
		zones = slices.DeleteFunc(zones, func(z string) bool { return z == phonenumbers.UNKNOWN_TIMEZONE })
		d.TimeZones = athome(zones, d.Country)
	}
	if d.Line == Fixed || d.Line == Either { // others are at home nowhere
		if region, err := phonenumbers.GetGeocodingForNumber(plan, "en"); err == nil && region != d.CountryName {
			d.Region = region
		}
	}
	if f, ok := fiction(n); ok {
		d.Fictional = f.by
	}
	return d
}

// CountryName is a country's name in English; the code itself if there is none.
func CountryName(code string) string {
	if code == "001" {
		return "no country"
	}
	if name, ok := countryNames()[code]; ok {
		return name
	}
	return countryName(code)
}

// countryNames are those of countries with a numbering plan: to look one up takes long.
var countryNames = sync.OnceValue(func() map[string]string {
	names := map[string]string{}
	for code := range phonenumbers.GetSupportedRegions() {
		names[code] = countryName(code)
	}
	return names
})

func countryName(code string) string {
	region, err := language.ParseRegion(code)
	if err != nil {
		return code
	}
	return cmp.Or(display.English.Regions().Name(region), code)
}

// IsCountry reports whether this is a country with a numbering plan, by its
// ISO 3166-1 alpha-2 code in capitals.
func IsCountry(code string) bool { return phonenumbers.GetSupportedRegions()[code] }

// Countries lists the ISO 3166-1 alpha-2 codes of all countries with a
// numbering plan, in order.
func Countries() []string {
	var all []string
	for code := range phonenumbers.GetSupportedRegions() {
		all = append(all, code)
	}
	slices.Sort(all)
	return all
}
