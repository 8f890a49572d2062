package smstext

import (
	"errors"
	"strings"
	"testing"

	"calmpigeon.example/internal/core/vary"
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

func TestOptions(t *testing.T) {
	tr := "Fırtına nedeniyle pazar günkü tüm seferler iptal edildi. Biletler çarşambaya kadar geçerlidir."
	tests := map[string]struct {
		text     string
		options  Options
		encoding Encoding
		alphabet Alphabet
		units    int
		segments int
		err      error
	}{
		"forced UCS-2":                    {"plain", Options{Encoding: UCS2}, UCS2, Alphabet{}, 5, 1, nil},
		"forced UCS-2 in segments":        {strings.Repeat("a", 135), Options{Encoding: UCS2}, UCS2, Alphabet{}, 135, 3, nil},
		"forced GSM":                      {"plain", Options{Encoding: GSM7}, GSM7, Alphabet{}, 5, 1, nil},
		"forced GSM that it does not fit": {"it’s", Options{Encoding: GSM7}, UCS2, Alphabet{}, 4, 1, ErrAlphabet},
		"a 16-bit reference":              {strings.Repeat("a", 305), Options{WideReference: true}, GSM7, Alphabet{}, 305, 3, nil},
		"a 16-bit reference and UCS-2":    {strings.Repeat("α", 133), Options{WideReference: true}, UCS2, Alphabet{}, 133, 3, nil},
		"Turkish without tables":          {tr, Options{}, UCS2, Alphabet{}, 94, 2, nil},
		"Turkish with a single shift table": {
			tr,
			Options{Languages: []Language{Turkish}},
			GSM7,
			Alphabet{Single: Turkish},
			99,
			1,
			nil,
		},
		"tables are left where they save nothing": {"İki", Options{Languages: []Language{Turkish}}, UCS2, Alphabet{}, 3, 1, nil},
		"unless GSM is forced": {
			"İki",
			Options{Languages: []Language{Turkish}, Encoding: GSM7},
			GSM7,
			Alphabet{Single: Turkish},
			4,
			1,
			nil,
		},
		"155 septets fit beside one table": {
			strings.Repeat("a", 153) + "ş",
			Options{Languages: []Language{Turkish}},
			GSM7,
			Alphabet{Single: Turkish},
			155,
			1,
			nil,
		},
		"the locking table where it takes less": {
			strings.Repeat("ş", 155),
			Options{Languages: []Language{Turkish}},
			GSM7,
			Alphabet{Locking: Turkish},
			155,
			1,
			nil,
		},
		"149 septets a segment beside a table": {
			strings.Repeat("ş", 298),
			Options{Languages: []Language{Turkish}},
			GSM7,
			Alphabet{Locking: Turkish},
			298,
			2,
			nil,
		},
		"and one more": {
			strings.Repeat("ş", 299),
			Options{Languages: []Language{Turkish}},
			GSM7,
			Alphabet{Locking: Turkish},
			299,
			3,
			nil,
		},
		"both tables leave 152": {
			strings.Repeat("ã", 140) + "Σ{",
			Options{Languages: []Language{Portuguese}},
			GSM7,
			Alphabet{Locking: Portuguese, Single: Portuguese},
			144,
			1,
			nil,
		},
		"Spanish has a single shift table only": {
			strings.Repeat("á", 77),
			Options{Languages: []Language{Spanish}},
			GSM7,
			Alphabet{Single: Spanish},
			154,
			1,
			nil,
		},
	}
	for name, tt := range tests {
		t.Run(name, func(t *testing.T) {
			w, err := tt.options.Weigh(tt.text)
			if w.Encoding != tt.encoding || w.Alphabet != tt.alphabet || w.Units != tt.units || w.Segments != tt.segments ||
				!errors.Is(err, tt.err) {
				t.Errorf("%+v weighs %.20q… %s, %s, %d units, %d segments, %v; want %s, %s, %d, %d, %v", tt.options, tt.text,
					w.Encoding, w.Alphabet, w.Units, w.Segments, err, tt.encoding, tt.alphabet, tt.units, tt.segments, tt.err)
			}
		})
	}
}

// FuzzWeigh holds every text to the promises: no panic, the segments joined
// give the text back, and none is larger than it may be.
func FuzzWeigh(f *testing.F) {
	f.Add("Crossing 0740 now leaves from berth 3", 0)
	f.Add(strings.Repeat("Το πλοίο 😀 ", 30), 1)
	f.Add(strings.Repeat("[€]", 90), 2)
	f.Add(strings.Repeat("pişmiş {aş} ", 30), 3)
	options := 0
	vary.Of(
		f,
		5000,
		[]string{strings.Repeat("Crossing 0740 [B] ", 12), strings.Repeat("Το πλοίο 😀 ", 30), strings.Repeat("pişmiş {aş} ", 30)},
		func(s string) {
			options++
			f.Add(s, options)
		},
	)
	f.Fuzz(func(t *testing.T, text string, options int) {
		o := Options{
			WideReference: options&1 != 0,
			Languages:     Languages[:options>>1&3],
			Encoding:      []Encoding{"", "", GSM7, UCS2}[options>>3&3],
		}
		w, err := o.Weigh(text)
		if err != nil {
			return
		}
		start, units := 0, 0
		cuts := w.Cuts(text)
		if len(cuts) != w.Segments {
			t.Fatalf("%q: %d cuts, %d segments", text, len(cuts), w.Segments)
		}
		for _, end := range cuts {
			if end <= start {
				t.Fatalf("%q: cuts %v do not rise", text, cuts)
			}
			n := w.Measure(text[start:end])
			octets := n * 2
			if w.Encoding == GSM7 {
				packed, septets, err := w.Alphabet.Pack(text[start:end])
				if back, unpackErr := w.Alphabet.Unpack(packed, septets); err != nil || unpackErr != nil || back != text[start:end] ||
					septets != n {
					t.Fatalf("%q packs to %d septets, not %d, and back to %q: %v, %v", text[start:end], septets, n, back, err, unpackErr)
				}
				octets = len(packed)
			}
			if header := w.header(len(cuts) > 1); octets+header > 140 {
				t.Fatalf("%q: a segment of %d octets and a header of %d", text, octets, header)
			}
			start, units = end, units+n
		}
		if start != len(text) || units != w.Units {
			t.Fatalf("%q: segments end at %d of %d, %d units of %d", text, start, len(text), units, w.Units)
		}
	})
}

// header is the user data header by TS 23.040 §9.2.3.24, counted anew.
func (w Weight) header(joined bool) int {
	octets := 0
	if joined {
		octets += 2 + 3 // element, its length, reference, count, number
		if w.wide {
			octets++
		}
	}
	for _, table := range []Language{w.Alphabet.Locking, w.Alphabet.Single} {
		if table != "" {
			octets += 3
		}
	}
	if octets > 0 {
		octets++
	}
	return octets
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

func BenchmarkWeighGreek(b *testing.B) {
	text := strings.Repeat("λόγω κακοκαιρίας ακυρώνονται όλα ", 10)
	b.SetBytes(int64(len(text)))
	b.ReportAllocs()
	for b.Loop() {
		if _, err := Weigh(text); err != nil {
			b.Fatal(err)
		}
	}
}

func BenchmarkBlame(b *testing.B) {
	text := strings.Repeat("Don’t miss the 07:40 – berth 3… ", 5)
	b.SetBytes(int64(len(text)))
	b.ReportAllocs()
	for b.Loop() {
		if len(Blame(text)) != 3 {
			b.Fatal(Blame(text))
		}
	}
}
