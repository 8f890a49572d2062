package phone

import (
	"math/rand/v2"
	"slices"
	"strconv"
	"testing"

	"github.com/nyaruka/phonenumbers"
	"google.golang.org/protobuf/proto"
)

// A number that is read the short way is read as the long way would.
func TestTheShortWayLeadsWhereTheLongOneDoes(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(1, 2))
	var codes []int
	for code := range phonenumbers.GetSupportedCallingCodes() {
		codes = append(codes, code)
	}
	slices.Sort(codes)
	short := 0
	check := func(digits string) {
		got := plain(digits)
		if got == nil {
			return
		}
		short++
		want, err := phonenumbers.Parse("+"+digits, "")
		if err != nil || !proto.Equal(got, want) {
			t.Fatalf("%s is read as %v, the long way %v, %v", digits, got, want, err)
		}
	}
	n := 0
	for range 60 {
		for _, code := range codes {
			digits := strconv.Itoa(code)
			for range 4 + random.IntN(10) {
				digits += strconv.Itoa(random.IntN(10))
			}
			check(digits)
			n++
		}
	}
	for region := range phonenumbers.GetSupportedRegions() {
		for _, kind := range []phonenumbers.PhoneNumberType{phonenumbers.MOBILE, phonenumbers.FIXED_LINE, phonenumbers.TOLL_FREE} {
			if example := phonenumbers.GetExampleNumberForType(region, kind); example != nil {
				check(phonenumbers.Format(example, phonenumbers.E164)[1:])
				n++
			}
		}
	}
	if short < n/2 {
		t.Errorf("only %d of %d were read the short way", short, n)
	}
}
