package template

import (
	"errors"
	"iter"
	"slices"
	"strings"
	"testing"

	"calmpigeon.example/internal/core/sheet"
	try "calmpigeon.example/internal/core/vary"

	"calmpigeon.example/internal/core/locale"
	"calmpigeon.example/internal/core/smstext"
)

const crossing = `
name: crossing-moved
language: en
cure: safe
texts:
  en: "Crossing {time} to {port} leaves from berth {berth}. {note|} {{ok}}"
  el: "Το δρομολόγιο {time} για {port} φεύγει από την αποβάθρα {berth}. {note|}"
  pt-BR: "{fare} {day} {weight}"
fields:
  time: {as: time}
  berth: {only: digits, most: 2}
  note: {only: no_links, most: 10}
  fare: {as: money}
  day: {as: date}
  weight: {as: number}
registered:
  - {country: IN, gateway: monsoon, id: "1107", wording: "Crossing {5} to {} leaves from berth {2}. {}"}
`

func read(t *testing.T, source string) *Template {
	t.Helper()
	parsed, err := Read([]byte(source))
	if err != nil {
		t.Fatal(err)
	}
	return parsed
}

func TestRender(t *testing.T) {
	tmpl := read(t, crossing)
	for _, tt := range []struct {
		lang   string
		values map[string]any
		want   string
		wrong  string
	}{
		{"en", map[string]any{"time": "07:40", "port": "Skerrow", "berth": 3.0}, "Crossing 07:40 to Skerrow leaves from berth 3.  {ok}", ""},
		{"en", map[string]any{"time": "2026-11-15T07:40:00+01:00", "port": "{port}", "berth": "12", "note": "Sorry."}, "Crossing 07:40 to {port} leaves from berth 12. Sorry. {ok}", ""},
		{"el", map[string]any{"time": "19:05", "port": "Σκέρο", "berth": "3"}, "Το δρομολόγιο 7:05 μ.μ. για Σκέρο φεύγει από την αποβάθρα 3. ", ""},
		{"pt-BR", map[string]any{"fare": "1048.50 EUR", "day": "2026-11-15", "weight": 1234.5}, "1.048,50 EUR 15 de nov. de 2026 1.234,5", ""},
		{"en", map[string]any{"time": "07:40", "berth": "3"}, "", "field port: it is missing"},
		{"en", map[string]any{"time": "07:40", "port": "", "berth": "3"}, "", "field port: it is missing"},
		{"en", map[string]any{"time": "late", "port": "Skerrow", "berth": "3"}, "", `field time: "late" cannot be written as time; accepted is a time of day`},
		{"en", map[string]any{"time": "07:40", "port": "Skerrow", "berth": "3b"}, "", "field berth: \"3b\" is not digits only"},
		{"en", map[string]any{"time": "07:40", "port": "Skerrow", "berth": "123"}, "", "3 characters, 1 too many; accepted is at most 2"},
		{"en", map[string]any{"time": "07:40", "port": "Skerrow", "berth": "1", "note": "a.example"}, "", "it holds a link, a.example"},
		{"en", map[string]any{"time": "07:40", "port": []any{}, "berth": "1"}, "", "field port: it is a list"},
		{"pt-BR", map[string]any{"fare": "48,50 EUR"}, "", "an amount and a currency"},
		{"fr", nil, "", "there is no such text"},
	} {
		got, err := tmpl.Render(tt.lang, tt.values)
		if tt.wrong == "" && (err != nil || got.Text != tt.want) ||
			tt.wrong != "" && (!errors.Is(err, ErrTemplate) || !strings.Contains(err.Error(), tt.wrong)) {
			t.Errorf("%s with %v:\n got %q, %v\nwant %q, %s", tt.lang, tt.values, got.Text, err, tt.want, tt.wrong)
		}
	}
}

func TestLanguages(t *testing.T) {
	tmpl := read(t, crossing)
	for _, tt := range []struct{ asked, country, want string }{
		{"el", "", "el"}, {"el-CY", "", "el"}, {"en-US", "", "en"}, {"pt", "", "pt-BR"}, {"tr", "", "en"}, {"", "", "en"}, {"no language", "", "en"},
		{"", "GR", "el"}, {"", "CY", "el"}, {"", "BR", "pt-BR"}, {"", "GB", "en"}, {"", "JP", "en"}, {"en", "GR", "en"}, {"", "001", "en"},
	} {
		if got := tmpl.For(tt.asked, tt.country); got != tt.want {
			t.Errorf("For(%q, %q) = %s, want %s", tt.asked, tt.country, got, tt.want)
		}
	}
	must, may := tmpl.Needs()
	if want := []string{"time", "port", "berth", "fare", "day", "weight"}; !slices.Equal(must, want) ||
		!slices.Equal(may, []string{"note"}) {
		t.Errorf("needs %v and may have %v", must, may)
	}
}

func TestReadRefuses(t *testing.T) {
	for source, why := range map[string]string{
		"name: Crossing":                        "small letters",
		"name: a\nlanguage: en":                 "there are no texts",
		"name: a\nlanguage: en\ntexts: {el: γ}": `no text for the language "en"`,
		"name: a\nlanguage: english language\ntexts: {english language: x}":                                                             "is not a language",
		"name: a\nlanguage: en\ntexts: {en: 'hi {name'}":                                                                                "text en: the { at character 4 is never closed",
		"name: a\nlanguage: en\ntexts: {en: 'hi }'}":                                                                                    "the } at character 4 closes nothing|a } at character 4 closes nothing",
		"name: a\nlanguage: en\ntexts: {en: 'hi {{a}'}":                                                                                 "closes nothing",
		"name: a\nlanguage: en\ntexts: {en: hi}\nfields: {x: {}}":                                                                       "field x: no text has it",
		"name: a\nlanguage: en\ntexts: {en: '{x}'}\nfields: {x: {as: roman}}":                                                           `as "roman"`,
		"name: a\nlanguage: en\ntexts: {en: '{x}'}\nfields: {x: {only: odd}}":                                                           `only "odd"`,
		"name: a\nlanguage: en\ntexts: {en: '{x}'}\nfields: {x: {most: -1}}":                                                            "most -1",
		"name: a\nlanguage: en\ncolour: red":                                                                                            "colour",
		"name: a\nlanguage: en\ncure: full\ntexts: {en: x}":                                                                             "off, safe or strong",
		"name: a\nlanguage: en\nkind: sms\ntexts: {en: x}":                                                                              "otp, transactional or bulk",
		"name: a\nlanguage: en\nsender: Lanternholms\ntexts: {en: x}":                                                                   "12 characters",
		"name: a\nlanguage: en\ntexts: {en: x}\nregistered: [{country: India, id: a, wording: x}]":                                      "registered in \"India\"",
		"name: a\nlanguage: en\ntexts: {en: x}\nregistered: [{country: IN, wording: x}]":                                                "without an id",
		"name: a\nlanguage: en\ntexts: {en: x}\nregistered: [{country: IN, id: a}]":                                                     "without its wording",
		"name: a\nlanguage: en\ntexts: {en: x}\nregistered: [{country: IN, id: a, wording: '" + strings.Repeat("{999}", 20_000) + "'}]": "cannot be matched",

		"name: a\nlanguage: en\ntexts: {en: 'hi {a%b}'}": `"a%b" is no name of a field`,
	} {
		_, err := Read([]byte(source))
		if !errors.Is(err, ErrTemplate) ||
			!slices.ContainsFunc(strings.Split(why, "|"), func(w string) bool { return strings.Contains(err.Error(), w) }) {
			t.Errorf("%q gives %v; want it to say %q", source, err, why)
		}
	}
	written, err := read(t, crossing).Write()
	if err != nil {
		t.Fatal(err)
	}
	if again, err := read(t, string(written)).Write(); err != nil || string(again) != string(written) {
		t.Errorf("written, read and written again: %v\n%s\n%s", err, written, again)
	}
}

func TestRegistration(t *testing.T) {
	tmpl := read(t, crossing)
	for _, tt := range []struct {
		text, country, gateway string
		ok                     bool
		wrong                  string
	}{
		{"Crossing 07:40 to Skerrow leaves from berth 3. Sorry.", "IN", "monsoon", true, ""},
		{"Crossing 07:40 to Skerrow leaves from berth 3.", "IN", "monsoon", false, "not worded as registered"},
		{"Crossing 07:40:00 to Skerrow leaves from berth 3. ", "IN", "monsoon", false, "not worded as registered"},
		{"Crossing 07:40 to Skerrow now leaves from berth 3. ", "IN", "monsoon", true, ""}, // {} takes it
		{"anything", "IN", "harbourline", false, ""},
		{"anything", "GB", "monsoon", false, ""},
	} {
		r, ok, err := tmpl.Registration(Rendering{Text: tt.text, Language: "en"}, tt.country, tt.gateway)
		if ok != tt.ok || (err != nil) != (tt.wrong != "") || err != nil && !strings.Contains(err.Error(), tt.wrong) ||
			ok && r.ID != "1107" {
			t.Errorf("%q in %s through %s: %v, %v, %v", tt.text, tt.country, tt.gateway, r, ok, err)
		}
	}
}

func TestSpan(t *testing.T) {
	tmpl := read(t, "name: a\nlanguage: en\ncure: safe\ntexts: {en: 'Hello {name}'}")
	rows := func(yield func(Row) bool) {
		for _, name := range []string{strings.Repeat("x", 200), "Jo", "", "Ann", strings.Repeat("y", 150) + "’", "Λίνα", strings.Repeat("z", 400)} {
			if !yield(Row{Language: "en", Values: map[string]any{"name": name}}) {
				return
			}
		}
	}
	var seen []int
	s := tmpl.Weigh(rows, smstext.Options{}, func(_ Row, sample Sample) { seen = append(seen, sample.Row) })
	if s.Rows != 7 || s.Failed != 1 || s.Segments != 1+1+1+1+2+3 || s.Shortest.Row != 2 || s.Longest.Row != 7 || s.Typical.Row != 2 ||
		s.BySegments[1] != 4 {
		t.Errorf("got %+v", s)
	}
	if len(s.Faults) != 1 || !strings.Contains(s.Faults[0].Error(), `template "a", row 3, text en, field name: it is missing`) {
		t.Errorf("faults %v", s.Faults)
	}
	if !slices.Equal(seen, []int{1, 2, 4, 5, 6, 7}) {
		t.Errorf("rows %v were handed on", seen)
	}
	if none := tmpl.Weigh(func(func(Row) bool) {}, smstext.Options{}, nil); none.Rows != 0 || none.Typical.Row != 0 {
		t.Errorf("of no rows: %+v", none)
	}
}

// A row whose number is none cannot go; one that has no number yet can be weighed.
func TestRowsWithoutANumber(t *testing.T) {
	t.Parallel()
	tmpl := read(t, "name: a\nlanguage: en\ntexts: {en: 'Hello {name}'}")
	for source, failed := range map[string]int{
		"name\nJo\nAnn\n": 0,
		"name,to\nJo,+447700900123\nAnn,4.47701E+11\nBo,\n":                        2,
		"name;to\nJo;+447700900123\nAnn;none\n":                                    1,
		"\uFEFF\"to\";\"name, given\";name\n+447700900123;\"Jo, Ann\";\"J;A\"\n":   0,
		"name\tto\tcountry\nJo\t07700 900123\tGB\nAnn\t\tGB\nBo\t07700 900123\t\n": 1,
		"name|to\nJo|+447700900123\n":                                              0,
		"to,name\n+447700900123,a;b;c;d\n":                                         0,
		"name,to\n\"a\n;;;;b\",+447700900123\n":                                    0,
		"Vorname;Telefon;name\nJo;+447700900123;x\nAnn;none;y\n":                   1,
		"name,to\nJo,+447700900123,x\n":                                            1,
	} {
		var broken error
		s := tmpl.Weigh(listed(t, tmpl, source, "", &broken), smstext.Options{}, nil)
		if broken != nil || s.Failed != failed {
			t.Errorf("%.80q: %d of %d cannot go, want %d; %v %v", source, s.Failed, s.Rows, failed, s.Faults, broken)
		}
	}
}

// The examples of a template are such that it can be rendered with them.
func TestExample(t *testing.T) {
	t.Parallel()
	tmpl := read(t, `name: a
language: en
fields:
  code: {only: digits, most: 4}
  port: {most: 3}
  time: {as: time}
  day: {as: date}
  fare: {as: money}
  share: {as: number}
texts:
  en: "{code} {port} {time} {day} {fare} {share} {name} {berth|3}"
  de: "{code} {port} {time} {day} {fare} {share} {name} {berth|3}"
`)
	for _, lang := range []string{"en", "de"} {
		r, err := tmpl.Render(lang, tmpl.Example())
		if err != nil || !strings.HasPrefix(r.Text, "1234 exa 07:40 15") || !strings.HasSuffix(r.Text, "example 3") {
			t.Errorf("%s: %q, %v", lang, r.Text, err)
		}
	}
}

func TestRowsFindTheirLanguage(t *testing.T) {
	tmpl := read(t, "name: a\nlanguage: en\ntexts: {en: a, de: b, el: c}")
	var broken error
	data := "\uFEFFto,country,language\n+491713920000,,\n+491713920000,,el\n0171 3920000,de,\n,gr,\n+447700900123,,\nnobody,,\n"
	for _, tt := range []struct{ lang, want string }{{"", "de el de el en en"}, {"el", "el el el el el el"}} {
		var got []string
		for row := range listed(t, tmpl, data, tt.lang, &broken) {
			got = append(got, row.Language)
		}
		if broken != nil || strings.Join(got, " ") != tt.want {
			t.Errorf("with %q: %v, %v; want %s", tt.lang, got, broken, tt.want)
		}
	}
}

// listed are the rows of a list as a template takes them.
func listed(t testing.TB, tmpl *Template, source, lang string, broken *error) iter.Seq[Row] {
	t.Helper()
	list, err := sheet.Open(strings.NewReader(source), sheet.Hint{})
	if err != nil {
		*broken = err
		return func(func(Row) bool) {}
	}
	return tmpl.Rows(list, list.Columns(""), lang, broken)
}

// Whatever is written of a number, a date, a time or money, in whatever
// language, makes no text dearer than the language does.
func TestWritingForcesNothing(t *testing.T) {
	for _, lang := range locale.Tags() {
		for as, value := range map[As]string{AsNumber: "-1234567.5", AsMoney: "1048.50 EUR"} {
			written, accepted := as.write(lang, value)
			if accepted != "" || written == "" {
				t.Errorf("%s as %s in %s: %q, %s", value, as, lang, written, accepted)
			}
			if w, err := smstext.Weigh(written); err != nil || w.Encoding != smstext.GSM7 && lang != "ar" {
				t.Errorf("%s as %s in %s: %q weighs %+v, %v", value, as, lang, written, w, err)
			}
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add("Hi {name|there}, {{x}} {a}")
	try.Of(f, 10_000, []string{"Hi {name|there}, {{x}} {a}", "{a}{b}{c|}"}, func(s string) { f.Add(s) })
	f.Fuzz(func(t *testing.T, text string) {
		pieces, wrong := parse(text)
		if wrong != "" {
			return
		}
		fields := 0
		for _, p := range pieces {
			if p.field != "" {
				fields++
			}
		}
		if fields > strings.Count(text, "{") {
			t.Fatalf("%q has %d fields", text, fields)
		}
	})
}

// A template is refused, or it is written so that it is read again; whatever data it is
// weighed over.
func FuzzTemplates(f *testing.F) {
	sources := []string{
		"name: a\nlanguage: en\ncure: safe\nfields: {code: {only: digits, most: 4}, day: {as: date}}\n" +
			"texts: {en: 'Hi {code} {day|soon}', de: x}\n" +
			"registered: [{country: IN, id: x, wording: 'Hi {4}'}]",
	}
	sheets := []string{"code,day,to,language\n1234,2026-11-15,+447700900123,en\n\"1\",,,de\n", "code;to;country\n1;07700 900123;GB\n"}
	try.Of(f, 400, sources, func(s string) { f.Add(s, sheets[0]) })
	try.Of(f, 2000, sheets, func(s string) { f.Add(sources[0], s) })
	f.Fuzz(func(t *testing.T, file, source string) {
		tmpl, err := Read([]byte(file))
		if err != nil {
			return
		}
		written, err := tmpl.Write()
		if err != nil {
			t.Fatal(err)
		}
		if _, err := Read(written); err != nil {
			t.Fatalf("%q is read, and written as %q it is not: %v", file, written, err)
		}
		var broken error
		s := tmpl.Weigh(listed(t, tmpl, source, "", &broken), smstext.Options{}, nil)
		if s.Failed > s.Rows || s.Failed < len(s.Faults) {
			t.Fatalf("%q over %q: %+v", file, source, s)
		}
	})
}
