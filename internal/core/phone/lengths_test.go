package phone

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/nyaruka/phonenumbers"
)

// Of every country: a mobile number is read however it is dialled, also whole without its plus, and one with a digit too few or
// too many is never read as a number of no range in use.
func TestEveryCountrysMobileNumbers(t *testing.T) {
	t.Parallel()
	countries := 0
	for _, country := range Countries() {
		example := phonenumbers.GetExampleNumberForType(country, phonenumbers.MOBILE)
		if example == nil {
			continue
		}
		countries++
		want := phonenumbers.Format(example, phonenumbers.E164)
		code := fmt.Sprint(example.GetCountryCode())
		national := strings.TrimPrefix(want, "+"+code)
		prefix := plans()[country].prefix
		for _, given := range []string{want, strings.TrimPrefix(want, "+"), "00" + strings.TrimPrefix(want, "+"), prefix + national, national} {
			r, err := Read(given, country)
			if err != nil || r.Number.String() != want {
				t.Errorf("%s: %s is read as %s, %v; want %s", country, given, r.Number, err, want)
			}
		}
		for _, amiss := range []string{national[:len(national)-1], national[:len(national)-2], national + "7"} {
			for _, given := range []string{"+" + code + amiss, prefix + amiss, amiss} {
				if strings.HasPrefix(given, code) && slices.Contains(plans()[country].all, len(given)-len(code)) {
					continue // a whole number without its plus, for all that can be told
				}
				if r, err := Read(given, country); err == nil && r.Line == Unassigned {
					t.Errorf("%s: %s, of %s, is read as %s of no range in use", country, given, want, r.Number)
				}
			}
		}
	}
	if countries < 200 {
		t.Errorf("%d countries have mobile numbers", countries)
	}
}

// The error says how many digits the number has, and how many mobile numbers have that begin so.
func TestADigitShortIsNoNumber(t *testing.T) {
	t.Parallel()
	for _, tt := range []struct{ given, country, want string }{
		{"06 12 34 56 7", "FR", "too short: 8 digits, mobile numbers of France that begin so have 9"},
		{"07400 1234", "GB", "too short: 8 digits, mobile numbers of United Kingdom that begin so have 10"},
		{"0770090097", "GB", "too short: 9 digits, mobile numbers of United Kingdom that begin so have 10"},
		{"06123456789", "FR", "too long: 10 digits, mobile numbers of France that begin so have 9"},
		{"0151123456", "DE", "too short: 9 digits, mobile numbers of Germany that begin so have 11"},
		{"+12025550", "", "too short: 7 digits"},
	} {
		if r, err := Read(tt.given, tt.country); err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("Read(%q, %q) = %+v, %v; want %s", tt.given, tt.country, r, err, tt.want)
		}
	}
}

// Digits that begin with the code of their own country are a whole number that lost its plus, where a mobile number follows.
func TestAWholeNumberWithoutItsPlus(t *testing.T) {
	t.Parallel()
	for given, want := range map[string]string{
		"491701234567":  "+491701234567",
		"4915112345678": "+4915112345678",
		"491 712345":    "+49491712345", // no mobile number follows: a line in Leer
	} {
		r, err := Read(given, "DE")
		if err != nil || r.Number.String() != want {
			t.Errorf("%s is read as %s, %v; want %s", given, r.Number, err, want)
		}
		if both := strings.Contains(strings.Join(r.Changes, "; "), "dialled in Germany the digits are +4949"); both != (r.Line == Mobile) {
			t.Errorf("%s: %v", given, r.Changes)
		}
	}
}
