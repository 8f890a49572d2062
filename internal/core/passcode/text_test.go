package passcode

import (
	"strings"
	"testing"
	"time"

	"calmpigeon.example/internal/core/smstext"
)

// Each of the twenty texts bears the code once and at its beginning, how long it holds, and fits into one segment; so it
// does with the longest code.
func TestTextsFit(t *testing.T) {
	t.Parallel()
	if n := len(Languages()); n != 20 {
		t.Errorf("there are texts in %d languages", n)
	}
	for _, language := range Languages() {
		code := strings.Repeat("8", LengthMost)
		text, in := Text(language, code, 60*time.Minute)
		w, err := smstext.Options{}.Weigh(text)
		if err != nil || w.Segments != 1 || in != language {
			t.Errorf("%s: %d segments, %v: %s", language, w.Segments, err, text)
		}
		if strings.Count(text, code) != 1 || !strings.HasPrefix(text, code) || !strings.Contains(text, " 60 ") {
			t.Errorf("%s: %s", language, text)
		}
	}
	for given, want := range map[string]string{"de-AT": "de", "no": "nb", "nn_NO": "nb", "xx": "en", "": "en", "EN": "en"} {
		if _, got := Text(given, "1", time.Minute); got != want {
			t.Errorf("%q is written in %s, want %s", given, got, want)
		}
	}
	if got := Minutes(119 * time.Second); got != "1" {
		t.Errorf("two minutes less a second are %s", got)
	}
}

func TestLastLines(t *testing.T) {
	t.Parallel()
	if got := Bound("042197 is it.", "pass.lanternholm.example", "042197"); got != "042197 is it.\n\n@pass.lanternholm.example #042197" {
		t.Errorf("%q", got)
	}
	if got := ForApp("042197", "FA+9qCX9VSu"); got != "042197\n\nFA+9qCX9VSu" {
		t.Errorf("%q", got)
	}
	for name, want := range map[string]bool{"pass.lanternholm.example": true, "example": false, "a..b": false, "-a.b": false, "a b.c": false,
		"A.b": false, strings.Repeat("a", 64) + ".b": false, "x.y/z": false, "": false} {
		if Domain(name) != want {
			t.Errorf("%q is a domain: %v", name, !want)
		}
	}
	for hash, want := range map[string]bool{"FA+9qCX9VSu": true, "short": false, "FA+9qCX9VS ": false} {
		if AppHash(hash) != want {
			t.Errorf("%q is a hash: %v", hash, !want)
		}
	}
}
