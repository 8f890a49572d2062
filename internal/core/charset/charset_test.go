package charset

import (
	"strings"
	"testing"
)

func TestDecode(t *testing.T) {
	t.Parallel()
	for _, tt := range []struct{ text, name, want, wrong string }{
		{"Größe", "", "Größe", ""},
		{"\ufeffGröße", "", "Größe", ""},
		{"Gr\xf6\xdfe", "", "", `byte 3 is 0xf6. It looks like windows-1252, in which it reads "Größe"`},
		{"Gr\xf6\xdfe", "windows-1252", "Größe", ""},
		{"Gr\xf6\xdfe \x80", "Windows-1252", "Größe €", ""},
		{"Gr\xf6\xdfe", "latin-1", "Größe", ""},
		{"\xff\xfeG\x00r\x00\xf6\x00", "", "", "looks like utf-16"},
		{"\xff\xfeG\x00r\x00\xf6\x00", "utf-16", "Grö", ""},
		{"\xc3\xe5", "windows-1253", "Γε", ""},
		{"x", "klingon", "", "accepted are utf-8, windows-1252"},
		{"\x81\x8d\x8f", "", "", "no text"},
	} {
		got, err := Decode([]byte(tt.text), tt.name)
		if got != tt.want || (err != nil) != (tt.wrong != "") || err != nil && !strings.Contains(err.Error(), tt.wrong) {
			t.Errorf("%q in %q: got %q, %v; want %q, %q", tt.text, tt.name, got, err, tt.want, tt.wrong)
		}
	}
}
