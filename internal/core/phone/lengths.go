package phone

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/nyaruka/phonenumbers"
)

// plans are the numbering plans by country (ISO 3166-1 alpha-2), as far as they tell which numbers are mobile.
var plans = sync.OnceValue(func() map[string]plan {
	all := map[string]plan{}
	collection, err := phonenumbers.MetadataCollection()
	if err != nil {
		return all // then no length is held against a plan
	}
	for _, one := range collection.GetMetadata() {
		p := plan{code: strconv.Itoa(int(one.GetCountryCode())), prefix: one.GetNationalPrefix()}
		for _, n := range one.GetGeneralDesc().GetPossibleLength() {
			p.all = append(p.all, int(n))
		}
		for _, n := range one.GetMobile().GetPossibleLength() {
			p.lengths = append(p.lengths, int(n))
		}
		if len(p.lengths) == 0 {
			p.lengths = p.all
		}
		if pattern := one.GetMobile().GetNationalNumberPattern(); pattern != "" && pattern != "NA" {
			p.mobile = regexp.MustCompile(`^(?:` + pattern + `)$`)
		}
		all[one.GetId()] = p
	}
	return all
})

// plan is what the numbering plan of a country says of its mobile numbers.
type plan struct {
	code   string         // of the country
	prefix string         // that is dialled before a national number; empty if none is
	mobile *regexp.Regexp // nil: no number tells that it is mobile
	all    []int          // how many digits numbers have, without prefix and country code
	// lengths is how many of these digits mobile numbers have.
	lengths []int
}

// isMobile reports whether a national number is mobile, or one that is reserved for fiction.
func (p plan) isMobile(national string) bool {
	if p.mobile == nil {
		return false
	}
	if p.mobile.MatchString(national) {
		return true
	}
	reserved, ok := fiction(Number{"+" + p.code + national})
	return ok && reserved.line == Mobile
}

// digitsAmiss is how many digits more or fewer a number may have for it to be taken for a mobile number that was miswritten.
const digitsAmiss = 4

// miswritten says what is wrong with a national number of no range in use that begins like a mobile number and has
// too many or too few digits; empty if that is not what is wrong with it.
func miswritten(country, national string) string {
	p := plans()[country]
	for _, digits := range []string{strings.TrimPrefix(national, p.prefix), national} {
		if have := p.begunSo(digits); len(have) > 0 {
			word := "short"
			if have[0] < len(digits) {
				word = "long"
			}
			return fmt.Sprintf("too %s: %d digits, mobile numbers of %s that begin so have %s",
				word, len(digits), CountryName(country), orList(have))
		}
	}
	return ""
}

// begunSo lists how many digits mobile numbers have that begin as these digits do.
func (p plan) begunSo(digits string) (have []int) {
	for n := min(digitsAmiss, len(digits)-1); n > 0; n-- {
		if slices.Contains(p.lengths, len(digits)-n) && p.isMobile(digits[:len(digits)-n]) {
			have = append(have, len(digits)-n)
		}
	}
	for n := 1; n <= digitsAmiss; n++ {
		if !slices.Contains(p.lengths, len(digits)+n) {
			continue
		}
		for d := range 10 {
			if p.isMobile(digits + strings.Repeat(strconv.Itoa(d), n)) {
				have = append(have, len(digits)+n)
				break
			}
		}
	}
	return have
}

// counted says how many digits a national number has, and how many numbers of its country have.
func counted(country, national string) string {
	digits := strings.TrimPrefix(national, plans()[country].prefix)
	why := fmt.Sprintf("%d digits", len(digits))
	if all := plans()[country].all; len(all) > 0 {
		why += fmt.Sprintf(", numbers of %s have %s", CountryName(country), orList(all))
	}
	return why
}

// orList is a list of numbers such as "9, 10 or 11".
func orList(numbers []int) string {
	words := make([]string, len(numbers))
	for i, n := range numbers {
		words[i] = strconv.Itoa(n)
	}
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}
