package passcode

import (
	"crypto/rand"
	"io"
	"math"
	"strings"
	"testing"
	"unicode"
)

// Each character is as likely as any other, at each place: by chi-squared over many codes, at one in a million.
func TestCodesAreUniform(t *testing.T) {
	t.Parallel()
	for name, tt := range map[string]struct {
		form     Form
		alphabet string
		most     float64 // of chi-squared, at p = 1e-6
	}{
		"digits":  {Form{Length: 6}, "0123456789", 45.1},
		"letters": {Form{Letters: true, Length: 8}, Letters, 56.5},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			const draws = 40_000
			counts := make([]map[byte]float64, tt.form.Length)
			for i := range counts {
				counts[i] = map[byte]float64{}
			}
			for range draws {
				code, err := Draw(rand.Reader, tt.form)
				if err != nil || len(code) != tt.form.Length {
					t.Fatal(code, err)
				}
				for i := range len(code) {
					counts[i][code[i]]++
				}
			}
			expected := draws / float64(len(tt.alphabet))
			for i, at := range counts {
				sum := 0.0
				for _, c := range []byte(tt.alphabet) {
					sum += math.Pow(at[c]-expected, 2) / expected
				}
				if sum > tt.most || len(at) != len(tt.alphabet) {
					t.Errorf("at place %d chi-squared is %.1f, at most %.1f; %d characters are drawn", i, sum, tt.most, len(at))
				}
			}
		})
	}
}

// What is thrown away favours nobody: of all octets each digit is drawn as often.
func TestDrawingThrowsAway(t *testing.T) {
	t.Parallel()
	all := make([]byte, 256)
	for i := range all {
		all[i] = byte(i)
	}
	source := strings.NewReader(strings.Repeat(string(all), 1))
	counts := map[rune]int{}
	for {
		code, err := Draw(source, Form{Length: 5})
		if err != nil {
			break
		}
		for _, c := range code {
			counts[c]++
		}
	}
	for c := '0'; c <= '9'; c++ {
		if counts[c] != 25 {
			t.Errorf("%c is drawn %d times of 250", c, counts[c])
		}
	}
	if _, err := Draw(io.LimitReader(rand.Reader, 3), Form{}); err == nil {
		t.Error("a code is drawn from too little")
	}
}

func TestCodesAreReadAsTyped(t *testing.T) {
	t.Parallel()
	digits, word := Form{}, Form{Letters: true}
	for _, tt := range []struct {
		typed string
		form  Form
		want  string
	}{
		{"042197", digits, "042197"},
		{" 042 197 ", digits, "042197"},
		{"042-197", digits, "042197"},
		{"042–197", digits, "042197"}, // an en dash
		{"042\u2212197", digits, "042197"},
		{"０４２１９７", digits, "042197"}, // full width
		{"٠٤٢١٩٧", digits, "042197"}, // Arabic-Indic
		{"०४२१९७", digits, "042197"}, // Devanagari
		{"𝟎𝟒𝟐𝟏𝟗𝟕", digits, "042197"},
		{"𝟬𝟰𝟮𝟭𝟵𝟳", digits, "042197"}, // another style, in the same row
		{"0\u200b42\u00a0197\ufeff", digits, "042197"},
		{"042197x", digits, "042197x"},
		{"bcdf", word, "BCDF"},
		{"b-c d.f", word, "BCDF"},
		{"8CDF", word, "BCDF"},
		{"ＢＣＤＦ", word, "BCDF"},
		{"2bcd", word, "ZBCD"},
		{"", digits, ""},
		{strings.Repeat("1", 1000), digits, strings.Repeat("1", typedMost)},
		{"\xff\x00", digits, "\uFFFD\x00"},
	} {
		if got := Read(tt.typed, tt.form); got != tt.want {
			t.Errorf("%q is read as %q, want %q", tt.typed, got, tt.want)
		}
	}
	for _, table := range unicode.Nd.R16 {
		for r := rune(table.Lo); r <= rune(table.Hi); r++ {
			if got := Read(string(r), digits); len(got) != 1 || got[0] != '0'+byte((r-rune(table.Lo))%10) {
				t.Errorf("%q is read as %q", r, got)
			}
		}
	}
}

func TestForms(t *testing.T) {
	t.Parallel()
	for _, tt := range []struct {
		of     string
		length int
		want   Form
		wrong  string
	}{
		{"", 0, Form{false, 6}, ""}, {"digits", 4, Form{false, 4}, ""}, {"letters", 10, Form{true, 10}, ""},
		{"emoji", 6, Form{}, "accepted are digits and letters"}, {"", 3, Form{}, "accepted is 4 to 10"}, {"", 11, Form{}, "accepted is 4 to 10"},
		{"", -1, Form{}, "accepted is 4 to 10"},
	} {
		got, err := ParseForm(tt.of, tt.length)
		if tt.wrong == "" && (err != nil || got != tt.want) ||
			tt.wrong != "" && (err == nil || !strings.Contains(err.Error(), tt.wrong)) {
			t.Errorf("%s %d: %+v, %v", tt.of, tt.length, got, err)
		}
	}
}
