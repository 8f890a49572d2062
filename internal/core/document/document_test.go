package document

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"calmpigeon.example/internal/core/vary"
)

func bomb(levels int) string {
	var b strings.Builder
	b.WriteString("a0: &a0 [x, x, x, x, x, x, x, x, x]\n")
	for i := 1; i <= levels; i++ {
		fmt.Fprintf(&b, "a%d: &a%d [%s]\n", i, i, strings.TrimSuffix(strings.Repeat(fmt.Sprintf("*a%d, ", i-1), 9), ", "))
	}
	return b.String()
}

// What would take gigabytes or forever to read is refused at once.
func TestWhatIsTooMuchIsRefused(t *testing.T) {
	t.Parallel()
	for name, tt := range map[string]struct{ source, want string }{
		"a bomb of aliases":         {bomb(7), "aliases expanded"},
		"a bomb of fifty":           {bomb(50), "aliases expanded"},
		"an alias of itself":        {"a: &a [*a]", "stands within its anchor"},
		"an alias of nothing":       {"a: *b", "has none"},
		"brackets":                  {strings.Repeat("[", 80_000), "nested more than 64"},
		"brackets within the bound": {strings.Repeat("[", 70) + strings.Repeat("]", 70), "nested more than 64"},
		"braces":                    {strings.Repeat("{a: ", 60_000), "nested more than 64"},
		"dashes":                    {strings.Repeat("- ", 100_000), "nested more than 64"},
		"question marks":            {strings.Repeat("? ", 100_000), "nested more than 64"},
		"keys":                      {deepKeys(100), "nested more than 64"},
		"tags":                      {strings.Repeat("!!str ", 40_000) + "x", "more than 2000 anchors"},
		"anchors":                   {strings.Repeat("&a ", 40_000) + "x", "more than 2000 anchors"},
		"some anchors":              {strings.Repeat("&a ", 1000) + "x", "unexpected"},
		"merges":                    {bomb(3) + "m:\n  <<: [*a3, *a3, *a3, *a3, *a3, *a3, *a3]\n", "aliases expanded"},
		"a long file":               {strings.Repeat("a: b\n", 60_000), "octets"},
		"many values":               {"[" + strings.Repeat("1,", 60_000) + "1]", "more than 50000 values"},
		"several documents":         {"a: 1\n---\nb: 2\n", "several documents"},
		"nothing":                   {"# nothing\n", "empty"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			began := time.Now()
			var into any
			err := Decode([]byte(tt.source), &into)
			if err == nil || !strings.Contains(err.Error(), tt.want) {
				t.Errorf("got %.200v, want %q", err, tt.want)
			}
			if took := time.Since(began); took > 5*time.Second {
				t.Errorf("it took %v", took)
			}
		})
	}
}

func deepKeys(n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, "%sk:\n", strings.Repeat(" ", i))
	}
	return b.String() + strings.Repeat(" ", n) + "x"
}

// What people write is read, with aliases too.
func TestWhatPeopleWriteIsRead(t *testing.T) {
	t.Parallel()
	var into struct {
		Common map[string]string
		List   []map[string]string
		Code   string
	}
	err := Decode([]byte("common: &c {a: x}\nlist:\n- *c\n- {b: y}\n- <<: *c\n  d: z\ncode: |\n  .a[] | {b: [.c, \"[[\"]}\n"), &into)
	if err != nil || len(into.List) != 3 || into.List[0]["a"] != "x" || into.List[2]["a"] != "x" || !strings.Contains(into.Code, "[[") {
		t.Errorf("%+v, %v", into, err)
	}
	if err := Decode([]byte("common: {}\ncommn: {}\n"), &into); err == nil || !strings.Contains(err.Error(), "commn") {
		t.Errorf("a key that nobody knows: %v", err)
	}
}

func TestJSONIsBounded(t *testing.T) {
	t.Parallel()
	for body, want := range map[string]string{
		`{"a":[1,2,{"b":"[[[[` + strings.Repeat("[", 100) + `"}]}`: "",
		strings.Repeat("[", 65):                       "deep",
		strings.Repeat("[", 64):                       "",
		strings.Repeat(`{"a":`, 1000):                 "deep",
		`{"a":` + strings.Repeat("9", 101) + `}`:      "digits",
		`{"a":"` + strings.Repeat("9", 10_000) + `"}`: "",
		`{"a":"\"` + strings.Repeat("[", 100) + `"}`:  "",
		`{"a":0.` + strings.Repeat("3", 100) + `}`:    "",
	} {
		err := CheckJSON([]byte(body))
		if said := fmt.Sprint(err); want == "" && err != nil || want != "" && !strings.Contains(said, want) {
			t.Errorf("%.40s: got %v, want %q", body, err, want)
		}
	}
}

func FuzzYAML(f *testing.F) {
	for _, seed := range []string{bomb(2), "a: &a [*a]", "- - - x", "? ? x", "a: {b: [c]}\n", "<<: *x", "&a !!map {}"} {
		f.Add(seed)
	}
	vary.Of(f, 1000, []string{bomb(2), "a: &a [*a]", "a: {b: [c, 'd']}\ne: |\n  f\n", "- - - x\n- ? y : z\n"}, func(s string) { f.Add(s) })
	f.Fuzz(func(t *testing.T, source string) {
		var into any
		Decode([]byte(source), &into)
		CheckJSON([]byte(source))
	})
}

// What the decoder falls over is a mistake of the file, and not the end of whoever reads it.
func TestDecodeSurvivesTheDecoder(t *testing.T) {
	t.Parallel()
	var into struct{ List []struct{ A string } }
	if err := Decode([]byte("list: !x\n"), &into); err == nil {
		t.Error("a tag with nothing behind it is read")
	}
}
