package phone

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"calmpigeon.example/internal/core/vary"
)

func TestRead(t *testing.T) {
	for _, tt := range []struct{ in, country, want, changes string }{
		{"+447700900123", "", "+447700900123", ""},
		{" +44 7700 900123 ", "", "+447700900123", ""},
		{"+44\u00a07700\u202f900-123", "", "+447700900123", ""},
		{"+44 (7700) 900.123", "", "+447700900123", ""},
		{"\u202a+447700900123\u202c", "", "+447700900123", ""},
		{"00447700900123", "", "+447700900123", "read 00 as +"},
		{"0044 (0) 7700 900123", "", "+447700900123", "read 00 as +; dropped the trunk 0"},
		{"+44 (0) 7700 900123", "", "+447700900123", "dropped the trunk 0"},
		{"+4407700900123", "", "+447700900123", "dropped the trunk 0"},
		{"07700 900123", "GB", "+447700900123", "added +44; dropped the trunk 0"},
		{"7700900123", "gb", "+447700900123", "added +44"},
		{"447700900123", "GB", "+447700900123", "added the plus"},
		{"447700900123", "US", "+447700900123", "added the plus"},
		{"33639980012", "GB", "+33639980012", "added the plus"},
		{"011 44 7700 900123", "US", "+447700900123", "read 011 as +"},
		{"(202) 555-0143", "US", "+12025550143", "added +1"},
		{"2025550143", "US", "+12025550143", "added +1"}, // not +20 2 555 0143 in Cairo
		{"1 202 555 0143", "US", "+12025550143", "added the plus"},
		{"06 1234 5678", "IT", "+390612345678", "added +39"}, // the zero is part of it
		{"+39 06 1234 5678", "", "+390612345678", ""},
		{"8 (916) 123-45-67", "RU", "+79161234567", "added +7; dropped the trunk 8"},
		{"011 15 2345 6789", "AR", "+5491123456789", "rewrote it as it is dialled from abroad"},
		{"'+447700900123", "", "+447700900123", "dropped the ' in front"},
		{"447700900123.0", "GB", "+447700900123", "dropped the trailing .0; added the plus"},
		{"4.47700900123E+11", "GB", "+447700900123", "wrote 4.47700900123E+11 out; added the plus"},
		{"%2B447700900123", "", "+447700900123", "read %2B as +"},
		{"＋44（7700）900123", "", "+447700900123", "wrote its digits as 0 to 9"},
		{"＋４４７７００９００１２３", "", "+447700900123", "wrote its digits as 0 to 9"},
		{"+٤٤٧٧٠٠٩٠٠١٢٣", "", "+447700900123", "wrote its digits as 0 to 9"},
		{"+۴۴۷۷۰۰۹۰۰۱۲۳", "", "+447700900123", "wrote its digits as 0 to 9"},
		{"tel:+44-7700-900123", "", "+447700900123", "took it out of the tel: address"},
		{"TEL:7700-900123;phone-context=+44", "", "+447700900123", "took it out of the tel: address"},
		{"sms:+447700900123?body=hello", "", "+447700900123", "took it out of the sms: address"},
		{"sms:%2B447700900123", "", "+447700900123", "took it out of the sms: address"},
		{"+46 70 174 06 05", "", "+46701740605", ""},
	} {
		got, err := Read(tt.in, tt.country)
		if err != nil || got.Number.String() != tt.want || strings.Join(got.Changes, "; ") != tt.changes || !got.Number.IsValid() {
			t.Errorf("Read(%q, %q) = %s, %q, %v; want %s, %q", tt.in, tt.country, got.Number, got.Changes, err, tt.want, tt.changes)
		}
		again, err := Read(got.Number.String(), tt.country)
		if err != nil || again.Number != got.Number || again.Changes != nil {
			t.Errorf("%s is read again as %s, %q, %v", got.Number, again.Number, again.Changes, err)
		}
	}
}

func TestReadRefuses(t *testing.T) {
	for _, tt := range []struct{ in, country, why string }{
		{"", "GB", "empty"},
		{" \u200b ", "GB", "empty"},
		{"07700900123", "", "no country code in front, and no country is given"},
		{" 447700900123", "", "%2B"},
		{"33639980012", "", "no country code in front, and no country is given"},
		{"12025550143", "", "if it is +12025550143, write the plus"},
		{"4.47701E+11", "GB", "lost in a spreadsheet"},
		{"4,47701e11", "GB", "lost in a spreadsheet"},
		{"+44 77OO 900123", "", `'O' is a letter`},
		{"+44 7700 900123 ext. 4", "", "extension"},
		{"+44 7700 900123 x4", "", "extension"},
		{"tel:+447700900123;ext=4", "", "extension"},
		{"+44 7700 900***", "", "masked"},
		{"+447700900123, +447700900124", "", "separates numbers"},
		{"+447700900123 +447700900124", "", "more than one number"},
		{"sms:+447700900123,+447700900124", "", "several numbers"},
		{"+0447700900123", "", "no country code starts with 0"},
		{"+999123456789", "", "no country code begins so"},
		{"+3363998001", "", "too short: 8 digits, mobile numbers of France that begin so have 9"},
		{"+4477009001234", "", "too long: 11 digits, mobile numbers of United Kingdom that begin so have 10"},
		{"+447700", "", "too short: "},
		{"112", "GB", "too short: "},
		{"+1234567890123456", "", "at most 15"},
		{"555-0143", "US", "area code is missing"},
		{"nobody", "", "is a letter"},
		{"+4400000000000", "GB", "more than one trunk prefix"},
		{"+", "", "no digits"},
		{"07700900123", "UK", "is not the code of a country (ISO 3166-1); United Kingdom is GB"},
		{"+44😀", "", "not part of a number"},
	} {
		got, err := Read(tt.in, tt.country)
		if !errors.Is(err, ErrInvalid) || !strings.Contains(err.Error(), tt.why) || got.Number.IsValid() {
			t.Errorf("Read(%q, %q) = %v, %v; want it refused: %s", tt.in, tt.country, got, err, tt.why)
		}
	}
}

// A number is at home in the zones of its own country alone.
func TestTimeZones(t *testing.T) {
	t.Parallel()
	for in, want := range map[string]string{
		"+353850000123": "Europe/Dublin",
		"+447700900123": "Europe/London",
		"+447911000123": "Europe/London",
		"+33639980012":  "Europe/Paris",
		"+390612345678": "Europe/Rome",
		"+919876543210": "Asia/Calcutta",
		"+882161234567": "",
	} {
		n, err := Parse(in)
		if got := strings.Join(n.Details().TimeZones, " "); err != nil || got != want {
			t.Errorf("%s is in %q, want %q (%v)", in, got, want, err)
		}
	}
}

func TestDetails(t *testing.T) {
	for in, want := range map[string]Details{
		"+447700900123": {Country: "GB", CountryName: "United Kingdom", Line: Mobile, Fictional: "Ofcom", Display: "+44 7700 900123"},
		"+442079460123": {Country: "GB", CountryName: "United Kingdom", Region: "London", Line: Fixed, Fictional: "Ofcom", Display: "+44 20 7946 0123"},
		"+12025550143":  {Country: "US", CountryName: "United States", Region: "Washington D.C.", Line: Either, Fictional: "NANPA", Display: "+1 202-555-0143"},
		"+19995550100":  {Country: "US", CountryName: "United States", Line: Either, Fictional: "NANPA", Display: "+1 999-555-0100"},
		"+61491570006":  {Country: "AU", CountryName: "Australia", Line: Mobile, Fictional: "ACMA", Display: "+61 491 570 006"},
		"+390612345678": {Country: "IT", CountryName: "Italy", Region: "Rome", Line: Fixed, Display: "+39 06 1234 5678"},
		"+882161234567": {Country: "001", CountryName: "no country", Line: Other, Display: "+882 16 123 4567"},
	} {
		n, err := Parse(in)
		got := n.Details()
		zones := got.TimeZones
		got.TimeZones = nil
		if err != nil || got.Country != want.Country || got.CountryName != want.CountryName || got.Region != want.Region ||
			got.Line != want.Line ||
			got.Fictional != want.Fictional ||
			got.Display != want.Display {
			t.Errorf("%s, %v: got %+v, want %+v", in, err, got, want)
		}
		if want.Country == "GB" && !slices.Contains(zones, "Europe/London") {
			t.Errorf("%s: time zones %v", in, zones)
		}
	}
	if d := (Number{}).Details(); d.Country != "" || d.Line != "" {
		t.Errorf("of no number: %+v", d)
	}
	for _, f := range fictional {
		if n, err := Parse(f.from); err != nil || n.String() != f.from || len(f.from) != len(f.to) || f.from > f.to {
			t.Errorf("the range %s to %s: %v", f.from, f.to, err)
		}
	}
}

// FuzzRead: whatever comes in, a number that comes out is one of E.164, and is
// itself when it is read again.
func FuzzRead(f *testing.F) {
	f.Add("+44 (0) 7700 900123", "GB")
	f.Add("tel:7700-900123;phone-context=+44", "")
	f.Add("'４.47E+11", "US")
	vary.Of(
		f,
		10_000,
		[]string{"+44 (0) 7700 900123", "tel:7700-900123;phone-context=+44", "'４.47E+11", "00353 85 012 3456", "011 1 202 555 0143"},
		func(s string) {
			f.Add(s, "GB")
		},
	)
	f.Fuzz(func(t *testing.T, s, country string) {
		r, err := Read(s, country)
		if err != nil {
			if !errors.Is(err, ErrInvalid) || r.Number.IsValid() {
				t.Fatalf("Read(%q, %q) = %v, %v", s, country, r, err)
			}
			return
		}
		if d := r.Number.Digits(); len(d) > 15 || len(d) < 5 || strings.Trim(d, "0123456789") != "" {
			t.Fatalf("Read(%q, %q) = %s", s, country, r.Number)
		}
		if again, err := Parse(r.Number.String()); err != nil || again != r.Number {
			t.Fatalf("Read(%q, %q) = %s, and that is read as %s, %v", s, country, r.Number, again, err)
		}
	})
}

func BenchmarkRead(b *testing.B) {
	b.ReportAllocs()
	for b.Loop() {
		if _, err := Read("+33639980012", ""); err != nil {
			b.Fatal(err)
		}
	}
}
