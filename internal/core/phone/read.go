package phone

import (
	"errors"
	"fmt"
	"math/big"
	"net/url"
	"regexp"
	"strings"
	"unicode"

	"github.com/nyaruka/phonenumbers"
)

// ErrInvalid is wrapped by every error of [Parse] and [Read].
var ErrInvalid = errors.New("not a number that can be known")

// Error is why a number was refused. It wraps [ErrInvalid].
type Error struct{ Given, Why string }

func (e *Error) Error() string { return e.Reason() + ": " + ErrInvalid.Error() }

// Reason is the reason in words; see [fault.Why].
func (e *Error) Reason() string {
	given := e.Given
	if runes := []rune(given); len(runes) > 60 {
		given = string(runes[:60]) + "…"
	}
	return fmt.Sprintf("number %q: %s", given, e.Why)
}

// Unwrap makes it an [ErrInvalid].
func (e *Error) Unwrap() error { return ErrInvalid }

// Accepted is what [Parse] takes, in one sentence for people.
const Accepted = "a plus sign, the country code and the number, such as +447700900123; with a country, also the number as it is dialled there"

// Reading is a number that was read, and what was changed to read it.
type Reading struct {
	Number  Number
	Country string // ISO 3166-1 alpha-2; 001 for numbers of no country
	Line    Line
	Changes []string // in the order they were made, for people
}

// Read reads a number as people type it and as sheets hold it. The country, an
// ISO 3166-1 alpha-2 code, is where a number without a country code is
// dialled; it may be empty, and then the number must be in international form.
//
// Passed over without a word are spaces of every width, dots, dashes, slashes,
// brackets and marks of direction (E.123). Changed, and said, are digits of
// other scripts, an apostrophe in front, a trailing .0, tel: and sms:
// addresses (RFC 3966, RFC 5724), 00 or another dialling prefix, a trunk
// prefix (also in brackets), a missing plus and a missing country code.
//
// Refused with the reason is what cannot be known: digits lost in a
// spreadsheet, letters, extensions, lengths that the country does not have.
// Errors wrap [ErrInvalid].
func Read(s, country string) (Reading, error) {
	r := reader{given: s, country: strings.ToUpper(strings.TrimSpace(country))}
	if r.country != "" && !IsCountry(r.country) {
		return Reading{}, r.refuse("%q is not the code of a country (ISO 3166-1)%s", country, Meant(r.country))
	}
	digits, plus, err := r.clean()
	if err != nil {
		return Reading{}, err
	}
	return r.settle(digits, plus)
}

// Meant is what somebody may have meant who wrote a code that is none, to be added
// to what is said of it.
func Meant(code string) string {
	meant := map[string]string{"UK": "GB", "EN": "GB", "EL": "GR", "USA": "US", "UAE": "AE", "KSA": "SA", "GER": "DE"}[strings.ToUpper(code)]
	if meant == "" {
		return "; expected two letters, such as GB"
	}
	return "; " + CountryName(meant) + " is " + meant
}

// reader reads one number.
type reader struct {
	given   string
	country string
	changes []string
}

func (r *reader) changed(format string, args ...any) {
	r.changes = append(r.changes, fmt.Sprintf(format, args...))
}

func (r *reader) refuse(format string, args ...any) error {
	return &Error{Given: r.given, Why: fmt.Sprintf(format, args...)}
}

var (
	// scientific is how spreadsheets show long numbers.
	scientific = regexp.MustCompile(`^\+?(\d)(?:[.,](\d+))?[eE]\+?(\d{1,2})$`)
	// fraction is what sheets make of a whole number.
	fraction = regexp.MustCompile(`^([^.,]*\d{7,})[.,]0{1,2}$`)
)

// thousands is a long number as a sheet with commas between thousands shows it.
var thousands = regexp.MustCompile(`^\+?\d{1,3}(,\d{3}){2,}(\.0+)?$`)

// clean reduces what was given to its digits, and whether a plus stood in
// front of them.
func (r *reader) clean() (digits string, plus bool, err error) {
	if digits, plus := strings.CutPrefix(r.given, "+"); digits != "" && onlyDigits(digits) {
		return digits, plus, nil
	}
	s := strings.TrimFunc(r.given, func(c rune) bool { return unicode.IsSpace(c) || unicode.Is(unicode.Cf, c) })
	if s == "" {
		return "", false, r.refuse("it is empty")
	}
	if s, err = r.address(s); err != nil {
		return "", false, err
	}
	if rest := strings.TrimLeft(s, "'‘’`\""); rest != s {
		r.changed("dropped the %s in front", s[:len(s)-len(rest)])
		s = strings.TrimRight(rest, "'’\"")
	}
	s = r.western(s)
	if rest, ok := strings.CutPrefix(strings.ToUpper(s), "%2B"); ok {
		r.changed("read %%2B as +")
		s = "+" + rest
	}
	if m := scientific.FindStringSubmatch(s); m != nil {
		exponent, _ := new(big.Int).SetString(m[3], 10)
		if int64(1+len(m[2])) != exponent.Int64()+1 {
			return "", false, r.refuse("its digits were lost in a spreadsheet; export the column as text")
		}
		r.changed("wrote %s out", s)
		s = strings.TrimRight(s[:strings.IndexAny(s, "eE")], " ")
		s = strings.NewReplacer(".", "", ",", "").Replace(s)
	}
	if thousands.MatchString(s) {
		r.changed("dropped the commas between thousands")
		s = strings.ReplaceAll(s, ",", "")
	}
	if m := fraction.FindStringSubmatch(s); m != nil {
		r.changed("dropped the trailing %s", s[len(m[1]):])
		s = m[1]
	}
	var b strings.Builder
	for i, c := range s {
		switch {
		case c >= '0' && c <= '9':
			b.WriteRune(c)
		case c == '+' && b.Len() == 0 && !plus:
			plus = true
		case c == '+':
			return "", false, r.refuse("a plus stands inside it, at character %d; is this more than one number?", len([]rune(s[:i]))+1)
		case unicode.IsSpace(c),
			unicode.Is(unicode.Cf, c),
			unicode.In(c, unicode.Pd, unicode.Ps, unicode.Pe),
			strings.ContainsRune("./−·", c):
		case strings.ContainsRune(",;|&", c):
			return "", false, r.refuse("%q separates numbers; one is expected", c)
		case c == '#' || c == 'x' || c == 'X' || strings.HasPrefix(strings.ToLower(s[i:]), "ext"):
			return "", false, r.refuse("it has an extension, and texts reach none")
		case c == '*':
			return "", false, r.refuse("it holds *, as masked numbers and service codes do")
		case unicode.IsLetter(c):
			return "", false, r.refuse("%q is a letter", c)
		default:
			return "", false, r.refuse("%q is not part of a number", c)
		}
	}
	if b.Len() == 0 {
		return "", false, r.refuse("there are no digits in it")
	}
	return b.String(), plus, nil
}

func onlyDigits(s string) bool {
	for i := range len(s) {
		if s[i] < '0' || s[i] > '9' {
			return false
		}
	}
	return true
}

// address takes the number out of a tel: or sms: address.
func (r *reader) address(s string) (string, error) {
	scheme, rest, ok := strings.Cut(s, ":")
	switch scheme = strings.ToLower(scheme); {
	case ok && scheme == "tel":
	case ok && (scheme == "sms" || scheme == "smsto"):
		rest, _, _ = strings.Cut(rest, "?")
		if strings.Contains(rest, ",") {
			return "", r.refuse("the address holds several numbers; one is expected")
		}
	default:
		return s, nil
	}
	number, err := url.PathUnescape(strings.TrimPrefix(rest, "//"))
	if err != nil {
		return "", r.refuse("the address is not well-formed")
	}
	number, parameters, _ := strings.Cut(number, ";")
	for parameter := range strings.SplitSeq(parameters, ";") {
		name, value, _ := strings.Cut(parameter, "=")
		switch strings.ToLower(name) {
		case "ext":
			return "", r.refuse("it has an extension, and texts reach none")
		case "phone-context":
			if strings.HasPrefix(value, "+") && !strings.HasPrefix(strings.TrimSpace(number), "+") {
				number = value + number
			}
		}
	}
	r.changed("took it out of the %s: address", scheme)
	return number, nil
}

// western turns digits and plus signs of other scripts into ours.
func (r *reader) western(s string) string {
	changed := false
	s = strings.Map(func(c rune) rune {
		switch {
		case c < 0x80:
			return c
		case c == '＋' || c == '﹢' || c == '⁺':
			changed = true
			return '+'
		case unicode.Is(unicode.Nd, c):
			changed = true
			return '0' + digit(c)
		}
		return c
	}, s)
	if changed {
		r.changed("wrote its digits as 0 to 9")
	}
	return s
}

// digit is the value of a decimal digit of any script: Unicode keeps the ten
// of a script together, and a run of scripts begins with a zero.
func digit(c rune) rune {
	for _, run := range unicode.Nd.R16 {
		if uint16(c) >= run.Lo && uint16(c) <= run.Hi && c <= 0xFFFF {
			return (c - rune(run.Lo)) % 10
		}
	}
	for _, run := range unicode.Nd.R32 {
		if uint32(c) >= run.Lo && uint32(c) <= run.Hi {
			return (c - rune(run.Lo)) % 10
		}
	}
	return 0
}

// settle finds the number that the digits stand for.
func (r *reader) settle(digits string, plus bool) (Reading, error) {
	if plus {
		return r.international(digits)
	}
	if rest, ok := strings.CutPrefix(digits, "00"); ok {
		r.changed("read 00 as +")
		return r.international(rest)
	}
	if r.country == "" {
		why := "no country code in front, and no country is given"
		if strings.HasPrefix(r.given, " ") {
			why += "; a plus that is sent unencoded arrives as a space, in an address it is written %2B"
		}
		if whole, err := r.international(digits); err == nil && whole.Line != Unassigned {
			why += fmt.Sprintf("; if it is %s, write the plus", whole.Number)
		}
		return Reading{}, r.refuse("%s", why)
	}
	before := len(r.changes)
	national, wrong := r.national(digits)
	if wrong == nil && national.Line != Unassigned {
		return r.whole(digits, national, before), nil
	}
	// No number of that country: it may be a whole one that lost its plus.
	kept := r.changes
	r.changes = append([]string(nil), kept[:before]...)
	r.changed("added the plus")
	if abroad, err := r.international(digits); err == nil && abroad.Line != Unassigned {
		return abroad, nil
	}
	return national, wrong
}

// whole is the reading of digits that begin with the code of their own country, before which only the plus is missing: where
// what follows is a mobile number, and the digits as they are dialled there are none. Both readings are named. before is how
// many changes were made before the digits were read as they are dialled there.
func (r *reader) whole(digits string, national Reading, before int) Reading {
	code := fmt.Sprint(phonenumbers.GetCountryCodeForRegion(r.country))
	if national.Line == Mobile || national.Line == Either || !strings.HasPrefix(digits, code) {
		return national
	}
	kept := r.changes
	r.changes = append([]string(nil), kept[:before]...)
	r.changed("added the plus")
	reading, err := r.international(digits)
	if err != nil || reading.Line != Mobile || reading.Country != national.Country {
		r.changes = kept
		return national
	}
	reading.Changes = append(reading.Changes, fmt.Sprintf("took %s for the country code; dialled in %s the digits are %s",
		code, CountryName(r.country), national.Number))
	return reading
}

// national reads digits as they are dialled in the country.
func (r *reader) national(digits string) (Reading, error) {
	plan, err := phonenumbers.Parse(digits, r.country)
	if err != nil {
		return Reading{}, r.wrong(digits, err)
	}
	return r.finish(plan, digits, "")
}

// international reads digits that begin with a country code.
func (r *reader) international(digits string) (Reading, error) {
	if strings.HasPrefix(digits, "0") {
		return Reading{}, r.refuse("no country code starts with 0")
	}
	plan, err := parse(digits)
	if err != nil {
		return Reading{}, r.wrong(digits, err)
	}
	return r.finish(plan, digits, fmt.Sprint(plan.GetCountryCode()))
}

func (r *reader) wrong(digits string, err error) error {
	switch {
	case len(digits) > 15:
		return r.refuse("%d digits, at most 15 (E.164)", len(digits))
	case errors.Is(err, phonenumbers.ErrInvalidCountryCode):
		return r.refuse("no country code begins so")
	case errors.Is(err, phonenumbers.ErrTooShortNSN), errors.Is(err, phonenumbers.ErrTooShortAfterIDD), len(digits) < 7:
		return r.refuse("%d digits are too few", len(digits))
	}
	return r.refuse("it cannot be read as a number")
}

// typed is what was given as it is dialled within the country, without the trunk prefix; empty where a country code stood in
// front.
func (r *reader) typed(digits, code string) string {
	if code != "" {
		return ""
	}
	return strings.TrimPrefix(digits, plans()[r.country].prefix)
}

// finish checks the length and says what was changed. code is the country code
// that stood in front of the digits, empty if none did.
func (r *reader) finish(plan *phonenumbers.PhoneNumber, digits, code string) (Reading, error) {
	n := Number{phonenumbers.Format(plan, phonenumbers.E164)}
	country, line := place(n, plan)
	if len(n.e164) > 16 {
		return Reading{}, r.refuse("%d digits, at most 15 (E.164)", len(n.e164)-1)
	}
	possible := phonenumbers.IsPossibleNumberWithReason(plan)
	if possible == phonenumbers.IS_POSSIBLE_LOCAL_ONLY && code != "" {
		possible = phonenumbers.TOO_SHORT // nobody dials a country code next door
	}
	national := strings.TrimPrefix(n.Digits(), fmt.Sprint(plan.GetCountryCode()))
	if typed := r.typed(digits, code); line == Unassigned && typed != national && plans()[r.country].isMobile(typed) {
		r.changed("added +%s", plans()[r.country].code) // what stands before it is the trunk prefix, and nothing else
		r.changed("dropped the trunk %s", plans()[r.country].prefix)
		return Reading{Number: Number{"+" + plans()[r.country].code + typed}, Country: r.country, Line: Mobile, Changes: r.changes}, nil
	}
	if possible != phonenumbers.IS_POSSIBLE_LOCAL_ONLY && (possible != phonenumbers.IS_POSSIBLE || line == Unassigned) {
		for _, of := range []string{r.country, country} {
			if plans()[of].code != fmt.Sprint(plan.GetCountryCode()) { // several countries may share a code
				continue
			}
			for _, as := range []string{national, r.typed(digits, code)} {
				if why := miswritten(of, as); why != "" {
					return Reading{}, r.refuse("%s", why)
				}
			}
		}
	}
	switch possible {
	case phonenumbers.TOO_SHORT:
		return Reading{}, r.refuse("too short: %s", counted(country, national))
	case phonenumbers.TOO_LONG:
		return Reading{}, r.refuse("too long: %s", counted(country, national))
	case phonenumbers.INVALID_LENGTH:
		return Reading{}, r.refuse("no number of %s has so many digits: %s", CountryName(country), counted(country, national))
	case phonenumbers.IS_POSSIBLE_LOCAL_ONLY:
		return Reading{}, r.refuse("the area code is missing; so it can be dialled only from nearby")
	}
	if digits != n.Digits() { // what was dropped may stand there twice
		if again, err := parse(n.Digits()); err != nil || phonenumbers.Format(again, phonenumbers.E164) != n.e164 {
			return Reading{}, r.refuse("more than one trunk prefix stands before the number")
		}
	}
	prefix := fmt.Sprint(plan.GetCountryCode())
	rest := strings.TrimPrefix(n.Digits(), prefix)
	typed := strings.TrimPrefix(digits, code)
	switch {
	case digits == n.Digits() && code == "":
		r.changed("added the plus")
	case digits == n.Digits():
	case strings.HasSuffix(typed, rest):
		dropped := strings.TrimSuffix(typed, rest)
		if international := dropped != "" && code == "" && strings.HasSuffix(dropped, prefix); international {
			r.changed("read %s as +", strings.TrimSuffix(dropped, prefix))
			break
		}
		if code == "" {
			r.changed("added +%s", prefix)
		}
		if dropped != "" {
			r.changed("dropped the trunk %s", dropped)
		}
	default:
		r.changed("rewrote it as it is dialled from abroad")
	}
	return Reading{Number: n, Country: country, Line: line, Changes: r.changes}, nil
}
