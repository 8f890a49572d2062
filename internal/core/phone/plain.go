package phone

import (
	"regexp"
	"strconv"
	"sync"

	"github.com/nyaruka/phonenumbers"
)

// Most numbers come as they should be: a country code, and a national number
// without any prefix. To find that out takes a fraction of what it takes to read
// everything that people write.

// trunkPrefixes are, by country code, what may stand before a national number as
// it is dialled within the country; nil where nothing does.
var trunkPrefixes = sync.OnceValue(func() map[int]*regexp.Regexp {
	prefixes := map[int]*regexp.Regexp{}
	all, err := phonenumbers.MetadataCollection()
	if err != nil {
		return prefixes // then every number is read the long way
	}
	for _, plan := range all.GetMetadata() {
		code := int(plan.GetCountryCode())
		if plan.GetId() != phonenumbers.GetRegionCodeForCountryCode(code) {
			continue
		}
		prefixes[code] = nil
		if p := plan.GetNationalPrefixForParsing(); p != "" {
			prefixes[code] = regexp.MustCompile("^(?:" + p + ")")
		}
	}
	return prefixes
})

// parse reads digits that begin with a country code.
func parse(digits string) (*phonenumbers.PhoneNumber, error) {
	if plan := plain(digits); plan != nil {
		return plan, nil
	}
	return phonenumbers.Parse("+"+digits, "")
}

// plain reads digits that need no looking at. It is nil if they do.
func plain(digits string) *phonenumbers.PhoneNumber {
	if len(digits) < 8 || len(digits) > 15 {
		return nil
	}
	for n := 1; n <= 3; n++ { // no country code begins another
		code, err := strconv.Atoi(digits[:n])
		if err != nil {
			return nil
		}
		prefix, known := trunkPrefixes()[code]
		if !known {
			continue
		}
		rest := digits[n:]
		national, err := strconv.ParseUint(rest, 10, 64)
		if err != nil || rest[0] == '0' || prefix != nil && prefix.MatchString(rest) {
			return nil
		}
		country := int32(code) // #nosec G109 -- three digits at most
		return &phonenumbers.PhoneNumber{CountryCode: &country, NationalNumber: &national}
	}
	return nil
}
