package roster

import (
	"strings"
	"testing"

	"calmpigeon.example/internal/store"
)

func TestRecordProblem(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]bool{
		"": true, "plain": true, "a\x00b": false, `jq: test("[^\u0000-\u00ff]")`: true, `\` + "\x00": false, `\\u0000`: true,
		strings.Repeat("x", store.SettingBytes-8): true, strings.Repeat("x", store.SettingBytes): false,
	} {
		if why := recordProblem(map[string]string{"a": text}); (why == "") != want {
			t.Errorf("%.40q: %s", text, why)
		}
	}
}
