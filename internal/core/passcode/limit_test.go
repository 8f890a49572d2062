package passcode

import (
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"
	"time"

	"calmpigeon.example/internal/core/vary"
)

var began = time.Date(2026, 11, 15, 7, 40, 0, 0, time.UTC)

// At random times, with clocks that stand and go back: in no window, wherever it begins, more are admitted than the
// limit, and one is refused only if as many were admitted within the window and a step.
func TestLimitsHoldInEveryWindow(t *testing.T) {
	t.Parallel()
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 5))
		w := Windows[r.IntN(3)]
		most := 1 + r.IntN(6)
		limits := []Limit{{Number, w, most}}
		c := &Counter{}
		now := began.Add(time.Duration(r.IntN(86400)) * time.Second)
		var admitted []time.Time
		pace := float64(window[w].long) / float64(most) / 2
		for range 200 {
			now = now.Add(time.Duration(r.ExpFloat64() * pace))
			if r.IntN(3) == 0 { // it is kept, and read again
				b, _ := c.AppendBinary(nil)
				c = &Counter{}
				if err := c.UnmarshalBinary(b); err != nil {
					t.Fatal(err)
				}
			}
			within := func(long time.Duration) (n int) {
				for _, at := range admitted {
					if at.After(now.Add(-long)) {
						n++
					}
				}
				return n
			}
			full := Admit(now, []Subject{{Number, c, limits}})
			switch {
			case full == nil:
				admitted = append(admitted, now)
				if n := within(window[w].long); n > most {
					t.Fatalf("seed %d: %d in a %s, at most %d", seed, n, w, most)
				}
			case within(window[w].long+window[w].step) < most:
				t.Fatalf("seed %d: refused although only %d were sent in a %s and a step", seed, within(window[w].long+window[w].step), w)
			case !full.Until.After(now) || full.Until.Sub(now) > window[w].long+window[w].step:
				t.Fatalf("seed %d: at %s refused until %s", seed, now, full.Until)
			default: // at that time it is not
				b, _ := c.AppendBinary(nil)
				var then Counter
				then.UnmarshalBinary(b)
				if again := Admit(full.Until, []Subject{{Number, &then, limits}}); again != nil {
					t.Fatalf("seed %d: refused until %s, and then again: %v", seed, full.Until, again)
				}
				var before Counter
				before.UnmarshalBinary(b)
				if again := Admit(full.Until.Add(-time.Second), []Subject{{Number, &before, limits}}); again == nil {
					t.Fatalf("seed %d: refused until %s, and a second before not", seed, full.Until)
				}
			}
		}
	}
}

// What one limit refuses is counted by none, and the one that holds longest is named.
func TestAllLimitsOrNone(t *testing.T) {
	t.Parallel()
	number, address := &Counter{}, &Counter{}
	subjects := []Subject{
		{Number, number, []Limit{{Number, Hour, 2}, {Number, Minute, 9}}},
		{Address, address, []Limit{{Address, Minute, 3}, {Address, Day, 0}}},
	}
	full := Admit(began, subjects)
	if full == nil || full.By != Address || full.Window != Day || number.Count(Hour, began) != 0 ||
		!strings.Contains(full.Error(), "0 a day for each address") {
		t.Fatalf("%v, %d counted", full, number.Count(Hour, began))
	}
	subjects[1].Limits = subjects[1].Limits[:1]
	for range 2 {
		if full := Admit(began, subjects); full != nil {
			t.Fatal(full)
		}
	}
	if full := Admit(began, subjects); full == nil || full.By != Number || full.Until.Sub(began) != 65*time.Minute {
		t.Errorf("%v", full)
	}
	for _, limits := range [][]Limit{{{Number, Hour, 2}, {Number, Hour, 1}}, {{Number, Hour, 1}, {Number, Hour, 2}}} {
		if full := Admit(began, []Subject{{Number, number, limits}}); full == nil || full.Most != 1 {
			t.Errorf("of %v %v is named", limits, full)
		}
	}
	if n := address.Count(Day, began.Add(23*time.Hour)); n != 2 {
		t.Errorf("%d are counted a day", n)
	}
	if n := address.Count(Day, began.Add(26*time.Hour)); n != 0 {
		t.Errorf("%d are counted a day later", n)
	}
}

func TestWhatLimitsAreBy(t *testing.T) {
	t.Parallel()
	for given, want := range map[string]string{
		"192.0.2.77": "192.0.2.0/24", "::ffff:192.0.2.77": "192.0.2.0/24", "2001:db8:1:2ff::7": "2001:db8:1:200::/56",
		"fe80::1%eth0": "fe80::/56",
	} {
		if got := NetworkOf(netip.MustParseAddr(given)); got.String() != want {
			t.Errorf("%s is in %s, want %s", given, got, want)
		}
	}
	for given, want := range map[string]string{
		"192.0.2.77": "192.0.2.77", "::ffff:192.0.2.77": "192.0.2.77", "2001:db8:1:2ff:a::7": "2001:db8:1:2ff::/64", "fe80::1%eth0": "fe80::/64",
	} {
		if got := AddressOf(netip.MustParseAddr(given)); got != want {
			t.Errorf("%s is counted as %s, want %s", given, got, want)
		}
	}
	for given, want := range map[string]string{"+447700900123": "+447700900xxx", "": "", "+1": "xx"} {
		if got := RangeOf(given); got != want {
			t.Errorf("%q is of %q, want %q", given, got, want)
		}
	}
	for _, l := range Usual {
		if err := l.Check(); err != nil {
			t.Error(err)
		}
	}
	for _, l := range []Limit{{"postman", Hour, 1}, {Number, 7, 1}, {Number, Hour, -1}, {Number, Hour, MostCounted + 1}} {
		if l.Check() == nil {
			t.Errorf("%+v is a limit", l)
		}
	}
	if w, err := ParseWindow("day"); w != Day || err != nil {
		t.Error(w, err)
	}
	if _, err := ParseWindow("week"); err == nil {
		t.Error("week is a window")
	}
}

func FuzzCounter(f *testing.F) {
	var c Counter
	for i := range 40 {
		c.Add(began.Add(time.Duration(i) * time.Minute))
	}
	b, _ := c.AppendBinary(nil)
	f.Add(b)
	vary.Of(f, 2000, []string{string(b)}, func(s string) { f.Add([]byte(s)) })
	f.Fuzz(func(t *testing.T, b []byte) {
		var c Counter
		if c.UnmarshalBinary(b) == nil {
			Admit(began, []Subject{{Number, &c, Usual}})
			c.Until(Hour, 1, began)
			if _, err := c.AppendBinary(nil); err != nil {
				t.Fatal(err)
			}
		}
	})
}
