package document

import (
	"reflect"
	"testing"
)

// Whatever a text begins with, it is read as it was written.
func TestEncode(t *testing.T) {
	t.Parallel()
	for _, text := range []string{
		"? who", "?", "- a", "-", ": x", "a: b", "# x", "'", `"`, "{a}", "[a", "&a", "*a", "!a", "|", "> x", "%a", "@a", "`a", "yes", "null", "~", "1e3",
		"0x1f", "1_000", ".5", "2026-12-03", " a ", "a\nb", "a\n", "\ttab", "a #b", "a:", "<<", "=", "---", "...", "\u00a0x", "é", "",
	} {
		given := map[string]string{"text": text}
		written, err := Encode(given)
		if err != nil {
			t.Errorf("%q: %v", text, err)
			continue
		}
		var read map[string]string
		if err := Decode(written, &read); err != nil || !reflect.DeepEqual(read, given) {
			t.Errorf("%q is written as %q, and read as %q, %v", text, written, read, err)
		}
	}
}
