package smstext

import (
	"errors"
	"strings"
	"testing"
	"unicode/utf16"
)

func TestWeigh(t *testing.T) {
	long := func(s string, n int) string { return strings.Repeat(s, n) }
	tests := map[string]struct {
		text     string
		encoding Encoding
		units    int
		segments int
	}{
		"one letter":                        {"a", GSM7, 1, 1},
		"a full message":                    {long("a", 160), GSM7, 160, 1},
		"one letter too many":               {long("a", 161), GSM7, 161, 2},
		"two full segments":                 {long("a", 306), GSM7, 306, 2},
		"a third one":                       {long("a", 307), GSM7, 307, 3},
		"the euro costs two":                {long("€", 80), GSM7, 160, 1},
		"an escape pair is never split":     {long("a", 152) + "€" + long("a", 152), GSM7, 306, 3},
		"the curly quote":                   {long("a", 70) + "’", UCS2, 71, 2},
		"a full message of Greek and small": {long("α", 70), UCS2, 70, 1},
		"Greek capitals of the alphabet":    {"ΔΦΓΛΩΠΨΣΘΞ", GSM7, 10, 1},
		"emoji are two units":               {long("⛴️", 1) + "😀", UCS2, 4, 1},
		"a surrogate pair is never split":   {long("α", 66) + "😀" + long("α", 66), UCS2, 134, 3},
		"a tab is not in the alphabet":      {"a\tb", UCS2, 3, 1},
		"line ends are":                     {"a\r\nb", GSM7, 4, 1},
		"the escape is no character":        {"\x1b", UCS2, 1, 1},
		"255 segments":                      {long("a", 153*255), GSM7, 153 * 255, 255},
	}
	for name, tt := range tests {
		t.Run(name, func(t *testing.T) {
			w, err := Weigh(tt.text)
			if err != nil || w.Encoding != tt.encoding || w.Units != tt.units || w.Segments != tt.segments {
				t.Errorf("Weigh(%.40q…) = %s, %d units, %d segments, %v; want %s, %d, %d",
					tt.text, w.Encoding, w.Units, w.Segments, err, tt.encoding, tt.units, tt.segments)
			}
		})
	}
}

func TestWeighRefuses(t *testing.T) {
	for text, want := range map[string]error{
		"": ErrEmpty, strings.Repeat("a", 153*255+1): ErrTooLong, "a\x00b": ErrInvalid, "a\xffb": ErrInvalid,
	} {
		if _, err := Weigh(text); !errors.Is(err, want) {
			t.Errorf("Weigh(%.20q) gives %v, want %v", text, err, want)
		}
	}
}

// FuzzWeigh holds every text to the promises: no panic, the segments joined
// give the text back, and none is larger than it may be.
func FuzzWeigh(f *testing.F) {
	f.Add("Crossing 0740 now leaves from berth 3")
	f.Add(strings.Repeat("Το πλοίο 😀 ", 30))
	f.Add(strings.Repeat("[€]", 90))
	f.Fuzz(func(t *testing.T, text string) {
		w, err := Weigh(text)
		if err != nil {
			return
		}
		alone, joined := w.Encoding.room()
		start, units := 0, 0
		cuts := w.Cuts(text)
		if len(cuts) != w.Segments {
			t.Fatalf("%q: %d cuts, %d segments", text, len(cuts), w.Segments)
		}
		for _, end := range cuts {
			if end <= start {
				t.Fatalf("%q: cuts %v do not rise", text, cuts)
			}
			n := 0
			for _, r := range text[start:end] {
				if w.Encoding == UCS2 {
					n += len(utf16.Encode([]rune{r}))
				} else {
					n += septets(r)
				}
			}
			if room := map[bool]int{true: alone, false: joined}[len(cuts) == 1]; n > room {
				t.Fatalf("%q: a segment of %d units, room for %d", text, n, room)
			}
			start, units = end, units+n
		}
		if start != len(text) || units != w.Units {
			t.Fatalf("%q: segments end at %d of %d, %d units of %d", text, start, len(text), units, w.Units)
		}
	})
}

func TestWeighingAllocatesNothing(t *testing.T) {
	for _, text := range []string{strings.Repeat("a", 160), strings.Repeat("a", 400), strings.Repeat("α", 100)} {
		if n := testing.AllocsPerRun(50, func() { Weigh(text) }); n > 0 {
			t.Errorf("weighing %d bytes allocates %v times", len(text), n)
		}
	}
}

func BenchmarkWeigh160(b *testing.B) {
	text := strings.Repeat("Crossing 0740 now leaves. ", 7)[:160]
	b.SetBytes(int64(len(text)))
	b.ReportAllocs()
	for b.Loop() {
		if _, err := Weigh(text); err != nil {
			b.Fatal(err)
		}
	}
}
