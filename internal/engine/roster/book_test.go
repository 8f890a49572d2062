package roster

import "testing"

func TestKeepable(t *testing.T) {
	for text, want := range map[string]bool{"": true, "plain": true, "a\x00b": false, `jq: test("[^\u0000-\u00ff]")`: true, `\` + "\x00": false, `\\u0000`: true} {
		if got := keepable(map[string]string{"a": text}); got != want {
			t.Errorf("%q: %v", text, got)
		}
	}
}
