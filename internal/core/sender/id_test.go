package sender

import (
	"errors"
	"strings"
	"testing"
)

func TestParse(t *testing.T) {
	for in, want := range map[string]Kind{
		"Lanternholm": Alphanumeric, "Berth 3": Alphanumeric, "Ärö": Alphanumeric, "1a": Alphanumeric,
		"+447700900000": Numeric, "80123": ShortCode, "12345678": ShortCode,
	} {
		if got, err := Parse(in); err != nil || got.Kind() != want || got.String() != in {
			t.Errorf("Parse(%q) = %v %q, %v; want %s", in, got, got.Kind(), err, want)
		}
	}
	for in, why := range map[string]string{
		"": "empty", "Lanternholms": "12 characters, at most 11", "12": "2 digits", "123456789": "9 digits",
		"Łódź": "not in the GSM alphabet", "€uro": "not in the GSM alphabet", "--": "no letter", " Ferry": "space", "+44": "2 digits are too few", "a\nb": "not in the GSM alphabet",
	} {
		if _, err := Parse(in); !errors.Is(err, ErrInvalid) || !strings.Contains(err.Error(), why) {
			t.Errorf("Parse(%q) gives %v; want it to say %q", in, err, why)
		}
	}
}
