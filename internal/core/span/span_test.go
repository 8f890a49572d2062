package span

import (
	"errors"
	"testing"
	"time"
)

func TestParse(t *testing.T) {
	t.Parallel()
	for given, want := range map[string]time.Duration{
		"10s": 10 * time.Second, "5m": 5 * time.Minute, "48h": 48 * time.Hour, "1m30s": 90 * time.Second,
		"": 0, "10": 0, "0s": 0, "-5s": 0, "3 days": 0, "99999999h": 0} {
		got, err := Parse(given)
		if got != want || (err == nil) != (want > 0) || err != nil && !errors.Is(err, ErrInvalid) {
			t.Errorf("%q is read as %v, %v", given, got, err)
		}
	}
}
