package smstext

import (
	"errors"
	"reflect"
	"strings"
	"testing"
	"unicode/utf8"

	"calmpigeon.example/internal/core/vary"
)

func TestBlame(t *testing.T) {
	tests := map[string]struct {
		text string
		want []Culprit
	}{
		"nothing to blame": {"Crossing 0740 now leaves from berth 3", nil},
		"curly quotes":     {"Don’t, don’t", []Culprit{{"’", Forces, []int{3, 12}, "'", Safe, ""}}},
		"brackets cost two": {
			"[a]",
			[]Culprit{{"[", Doubles, []int{0}, "(", Strong, ""}, {"]", Doubles, []int{2}, ")", Strong, ""}},
		},
		"and nothing beside it":               {"[a]…", []Culprit{{"…", Forces, []int{3}, "...", Safe, ""}}},
		"the euro is kept":                    {"48€", []Culprit{{"€", Doubles, []int{2}, "", Off, Sign}}},
		"a letter of a word":                  {"żagiel", []Culprit{{"ż", Forces, []int{0}, "", Off, Letter}}},
		"an accent apart":                     {"cafe\u0301", []Culprit{{"e\u0301", Forces, []int{3}, "é", Safe, ""}}},
		"a Latin word with a Cyrillic letter": {"Lаnternholm", []Culprit{{"а", Forces, []int{1}, "a", Safe, ""}}},
		"a Cyrillic word": {
			"сор",
			[]Culprit{
				{"с", Forces, []int{0}, "", Off, Letter},
				{"о", Forces, []int{2}, "", Off, Letter},
				{"р", Forces, []int{4}, "", Off, Letter},
			},
		},
		"a link": {
			"http://ferry.example/~a see [b]",
			[]Culprit{
				{"~", Doubles, []int{21}, "", Off, Link},
				{"[", Doubles, []int{28}, "(", Strong, ""},
				{"]", Doubles, []int{30}, ")", Strong, ""},
			},
		},
		"a zero-width space": {"berth\u200b 3", []Culprit{{"\u200b", Forces, []int{5}, "", Safe, ""}}},
		"a joiner in an emoji": {
			"👨\u200d👩",
			[]Culprit{
				{"👨", Forces, []int{0}, "", Off, Sign},
				{"\u200d", Forces, []int{4}, "", Off, Sign},
				{"👩", Forces, []int{7}, "", Off, Sign},
			},
		},
		"letters in a dress": {
			"𝗯𝗼 ３",
			[]Culprit{
				{"𝗯", Forces, []int{0}, "b", Strong, ""},
				{"𝗼", Forces, []int{4}, "o", Strong, ""},
				{"３", Forces, []int{9}, "3", Strong, ""},
			},
		},
	}
	for name, tt := range tests {
		t.Run(name, func(t *testing.T) {
			if got := Blame(tt.text); !reflect.DeepEqual(got, tt.want) {
				t.Errorf("Blame(%q)\n got %+v\nwant %+v", tt.text, got, tt.want)
			}
		})
	}
}

func TestCure(t *testing.T) {
	long := strings.Repeat("a", 70)
	tests := map[string]struct {
		text  string
		level Level
		want  string
		done  []Replacement
	}{
		"off":                          {long + "’", Off, long + "’", nil},
		"one curly quote":              {long + "’", Safe, long + "'", []Replacement{{"’", "'", 1}}},
		"what saves nothing stays":     {"Don’t", Strong, "Don’t", nil},
		"safe leaves signs":            {long + "©", Safe, long + "©", nil},
		"strong writes them":           {long + "©’", Strong, long + "(c)'", []Replacement{{"©", "(c)", 1}, {"’", "'", 1}}},
		"the gentlest that saves most": {long + "’ [a]", Strong, long + "' [a]", []Replacement{{"’", "'", 1}}},
		"brackets where they save": {
			strings.Repeat("a", 157) + "[]",
			Strong,
			strings.Repeat("a", 157) + "()",
			[]Replacement{{"[", "(", 1}, {"]", ")", 1}},
		},
		"a word is never changed":            {strings.Repeat("ż", 70) + "’", Strong, strings.Repeat("ż", 70) + "’", nil},
		"but what is shorter without it may": {strings.Repeat("ż", 70) + " \u200b", Safe, strings.Repeat("ż", 70) + " \u200b", nil},
		"an unseen space between words": {
			strings.Repeat("ż", 69) + " \u200b",
			Safe,
			strings.Repeat("ż", 69) + " ",
			[]Replacement{{"\u200b", "", 1}},
		},
		"an ellipsis that would lengthen": {strings.Repeat("ż", 69) + "…", Safe, strings.Repeat("ż", 69) + "…", nil},
	}
	for name, tt := range tests {
		t.Run(name, func(t *testing.T) {
			got, done := Options{}.Cure(tt.text, tt.level)
			if got != tt.want || !reflect.DeepEqual(done, tt.done) {
				t.Errorf("Cure(%q, %s)\n got %q %+v\nwant %q %+v", tt.text, tt.level, got, done, tt.want, tt.done)
			}
		})
	}
	forced := Options{Encoding: GSM7}
	if got, _ := forced.Cure("Don’t", Safe); got != "Don't" {
		t.Errorf("where GSM is forced: %q", got)
	}
	if got, _ := (Options{Encoding: UCS2}).Cure(long+"’", Safe); got != long+"’" {
		t.Errorf("where UCS-2 is forced: %q", got)
	}
}

// FuzzCure: a cure never lengthens, changes nothing that saves nothing, is as
// gentle as it says, and never has anything to add to itself.
func FuzzCure(f *testing.F) {
	f.Add(strings.Repeat("Don’t miss it… ", 6))
	f.Add(strings.Repeat("[“tickets”] e\u0301", 20))
	f.Add("\u200bа" + strings.Repeat("Lаntern ©", 12))
	vary.Of(
		f,
		2000,
		[]string{
			strings.Repeat("Don’t miss it… ", 6),
			strings.Repeat("[“tickets”] e\u0301", 20),
			strings.Repeat("Lаntern © https://a.example/é ", 6),
		},
		func(s string) { f.Add(s) },
	)
	f.Fuzz(func(t *testing.T, text string) {
		before, err := Weigh(text)
		for _, c := range Blame(text) {
			for _, at := range c.At {
				if !strings.HasPrefix(text[at:], c.Text) {
					t.Fatalf("%q: %q does not stand at %d", text, c.Text, at)
				}
			}
			if c.Level != Off && !encodable(c.Cure) && utf8.RuneCountInString(c.Cure) >= utf8.RuneCountInString(c.Text) {
				t.Fatalf("%q: %q would be replaced by %q", text, c.Text, c.Cure)
			}
		}
		for _, level := range []Level{Off, Safe, Strong} {
			cured, done := Options{}.Cure(text, level)
			after, afterErr := Weigh(cured)
			switch {
			case (cured == text) != (len(done) == 0):
				t.Fatalf("%s: %q became %q by %+v", level, text, cured, done)
			case cured != text && (level == Off || after.Segments >= before.Segments):
				t.Fatalf("%s: %q became %q, %d segments of %d", level, text, cured, after.Segments, before.Segments)
			case err == nil && afterErr != nil:
				t.Fatalf("%s: %q became %q, which cannot be sent: %v", level, text, cured, afterErr)
			}
			if again, _ := (Options{}).Cure(cured, level); again != cured && !errors.Is(err, ErrTooLong) {
				t.Fatalf("%s: %q became %q and then %q", level, text, cured, again)
			}
		}
	})
}
