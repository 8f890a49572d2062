// Package vary makes variations of inputs, so that an ordinary run of a fuzz test
// tries some thousand that nobody thought of, and others each time. It is for tests
// alone.
package vary

import (
	"flag"
	"math/rand/v2"
	"testing"
	"time"
)

// pieces are what parsers stumble over.
var pieces = []string{
	"\x00", "\xff", "\xed\xa0\x80", "\ufeff", "\u202e", "😀", "’", "\r\n", "\t", " ", "\"", "'", "`", "\\", "/", "%", "%zz", "%00",
	"+", "-", ".", ",", ";", ":", "=", "&", "#", "|", "*", "?", "!", "@", "~", "$", "{", "}", "[", "]", "(", ")", "<", ">", "{}",
	"[]", "()", "{{", "}}", "null", "true", "0", "-1", "1e309", "18446744073709551616", "00000000000000000000000000000000", "NaN",
	"\\u0000", "\\ud800", "&a", "*a", "<<: ", "- ", "? ", "<a>", "<!--", "&lt;", "]]>", "=1+1", "select(", "limit(1; ", "range(9)",
	"..", "as $x | ", "reduce ", "def f: f; f",
}

// Of adds seeds, and variations of them under a seed of chance that is logged, as many as
// it is told; none of these while the test is fuzzed in earnest, which finds its own.
func Of(f *testing.F, n int, seeds []string, add func(string)) {
	f.Helper()
	for _, one := range seeds {
		add(one)
	}
	if fuzzing := flag.Lookup("test.fuzz"); len(seeds) == 0 || fuzzing != nil && fuzzing.Value.String() != "" {
		return
	}
	chance := uint64(time.Now().UnixNano())
	f.Logf("variations under %d", chance)
	r := rand.New(rand.NewPCG(chance, 0)) // #nosec G404 -- to try things out
	for range n {
		one := seeds[r.IntN(len(seeds))]
		for range 1 + r.IntN(4) {
			one = changed(r, one, seeds)
		}
		add(one)
	}
}

// changed is a string with one change.
func changed(r *rand.Rand, s string, seeds []string) string {
	const most = 64 << 10 // octets
	at := r.IntN(len(s) + 1)
	to := at + r.IntN(len(s)-at+1)
	switch r.IntN(7) {
	case 0: // left out
		return s[:at] + s[to:]
	case 1: // cut
		return s[:at]
	case 2: // put in
		return s[:at] + pieces[r.IntN(len(pieces))] + s[at:]
	case 3: // put in the place of something
		return s[:at] + pieces[r.IntN(len(pieces))] + s[to:]
	case 4: // repeated
		again := s[at:to]
		for range r.IntN(12) {
			if len(s)+2*len(again) > most {
				break
			}
			again += again
		}
		return s[:at] + again + s[to:]
	case 5: // another octet
		if at == len(s) {
			return s
		}
		return s[:at] + string([]byte{byte(r.IntN(256))}) + s[at+1:]
	}
	other := seeds[r.IntN(len(seeds))] // grafted
	return s[:at] + other[r.IntN(len(other)+1):]
}
