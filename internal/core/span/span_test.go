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
		"2d": 48 * time.Hour, "60d": 60 * 24 * time.Hour, "1d12h": 36 * time.Hour, "0.5d": 12 * time.Hour,
		"1d30m15s": 24*time.Hour + 30*time.Minute + 15*time.Second,
		"0d":       0, "-1d": 0, "1d-12h": 0, "999999d": 0, "1dd": 0, "1d1d": 0, "d": 0, "1h1d": 0, "1d5": 0,
		"10": 10 * time.Second, "0.5": 500 * time.Millisecond,
		"": 0, "0": 0, "0s": 0, "-5s": 0, "-5": 0, "3 days": 0, "99999999h": 0, "1e3": 0} {
		got, err := Parse(given)
		if got != want || (err == nil) != (want > 0) || err != nil && !errors.Is(err, ErrInvalid) {
			t.Errorf("%q is read as %v, %v", given, got, err)
		}
	}
}

func TestWritten(t *testing.T) {
	t.Parallel()
	for _, tt := range []struct {
		d            time.Duration
		short, words string
	}{
		{10 * time.Second, "10s", "10 s"},
		{2 * time.Minute, "2m", "2 min"},
		{90 * time.Second, "1m30s", "1 min 30 s"},
		{time.Hour, "1h", "1 h"},
		{90 * time.Minute, "1h30m", "1 h 30 min"},
		{time.Hour + time.Second, "1h0m1s", "1 h"},
		{48 * time.Hour, "48h", "2 days"},
		{24 * time.Hour, "24h", "1 day"},
		{1500 * time.Millisecond, "1.5s", "1 s"},
		{20 * time.Millisecond, "20ms", "20 ms"},
		{0, "0s", "0 s"},
	} {
		if short, words := Format(tt.d), Words(tt.d); short != tt.short || words != tt.words {
			t.Errorf("%d ns is written %q and %q, want %q and %q", tt.d, short, words, tt.short, tt.words)
		}
		if again, err := Parse(Format(tt.d)); tt.d > 0 && (err != nil || again != tt.d) {
			t.Errorf("%v comes back as %v, %v", tt.d, again, err)
		}
	}
}
