package phone

import (
	"errors"
	"testing"
)

func TestParse(t *testing.T) {
	for in, want := range map[string]string{
		"+447700900123":       "+447700900123",
		" +44 7700 900123 ":   "+447700900123",
		"00447700900123":      "+447700900123",
		"+44 (7700) 900-123":  "+447700900123",
		"+44\u00a07700900123": "+447700900123",
		"+12025550143":        "+12025550143",
		"+123456789012345":    "+123456789012345",
		"+12345678":           "+12345678",
	} {
		if got, err := Parse(in); err != nil || got.String() != want || !got.IsValid() {
			t.Errorf("Parse(%q) = %v, %v; want %s", in, got, err, want)
		}
	}
	for _, in := range []string{"", "   ", "07700900123", "447700900123", "+0447700900123", "+1234567", "+1234567890123456", "4.47701E+11", "+44 77OO 900123", "nobody"} {
		if got, err := Parse(in); !errors.Is(err, ErrInvalid) || got.IsValid() {
			t.Errorf("Parse(%q) = %v, %v; want it refused", in, got, err)
		}
	}
}
