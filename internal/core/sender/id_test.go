package sender

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"calmpigeon.example/internal/core/vary"
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

// Whatever a sender is, it is refused, or written as it will be read again; a name has
// eleven characters at most.
func FuzzParse(f *testing.F) {
	vary.Of(f, 10_000, []string{"Lanternholm", "LH Boarding", "+447700900000", "80123", "Ünïcode"}, func(s string) { f.Add(s) })
	f.Fuzz(func(t *testing.T, s string) {
		id, err := Parse(s)
		if err != nil {
			return
		}
		if again, err := Parse(id.String()); err != nil || again != id || len([]rune(id.String())) > 16 {
			t.Fatalf("%q is read as %q, and that as %q, %v", s, id, again, err)
		}
	})
}

func FuzzReadRules(f *testing.F) {
	seeds := []string{
		"rules: [{country: GB, alphanumeric: open, quiet: [{kinds: [bulk], from: '21:00', to: '08:00', days: [Sun]}], note: a}]",
		"rules:\n  - country: IN\n    texts: registered\n    links: closed\n    date: 2026-11-01\n",
	}
	vary.Of(f, 800, seeds, func(s string) { f.Add([]byte(s)) })
	f.Fuzz(func(t *testing.T, source []byte) {
		rules, err := ReadRules(source)
		if err != nil {
			return
		}
		written, err := WriteRules(rules)
		if err != nil {
			t.Fatalf("%q is read, and cannot be written: %v", source, err)
		}
		if again, err := ReadRules(written); err != nil || fmt.Sprint(again) != fmt.Sprint(rules) {
			t.Fatalf("%q is read as %v, and written so it is %v, %v", source, rules, again, err)
		}
	})
}
