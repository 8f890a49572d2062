package dialect

import (
	"encoding/base64"
	"fmt"
	"net/url"
	"reflect"
	"strings"
	"testing"
	"time"

	"calmpigeon.example/internal/core/vary"

	"calmpigeon.example/internal/core/phone"
)

var noon = time.Date(2026, 11, 15, 12, 0, 0, 0, time.UTC)

// built builds a submission of a dialect whose request is given.
func built(t *testing.T, request string, messages ...Message) (Request, error) {
	t.Helper()
	d, err := Load(
		"x.yaml",
		[]byte(
			"dialect: x\nsecrets: [key, secret]\nsubmit: {most: 9, request: "+request+
				", reply: [{when: .status == 200, read: '{state: \"accepted\"}'}]}",
		),
	)
	if err != nil {
		t.Fatal(err)
	}
	return d.SubmitRequest(messages, Means{Secrets: map[string]string{"key": "k &+", "secret": "s"}, Base: "/api", Now: noon})
}

func text(to, text string) Message {
	return Message{
		ID:       "m-1",
		To:       phone.Stored(to),
		Country:  "GB",
		Sender:   "Lanternholm",
		Text:     text,
		ValidFor: 60,
		Fields:   map[string]any{"berth": "3"},
	}
}

func TestRequestsOfEveryKind(t *testing.T) {
	m := text("+447700900123", "Größe & 1+1 = <2>")
	for name, tt := range map[string]struct {
		request           string
		path, body, ctype string
		header            map[string]string
	}{
		"query, plus signs encoded": {`{get: /s, query: '{to, text: .text, key: .secrets.key}'}`,
			"/s?key=k+%26%2B&text=Gr%C3%B6%C3%9Fe+%26+1%2B1+%3D+%3C2%3E&to=%2B447700900123", "", "", nil},
		"query in Latin-1":         {`{get: /s, charset: latin-1, query: '{text: "ö"}'}`, "/s?text=%F6", "", "", nil},
		"behind a query":           {`{get: '/s?v=2', query: '{to}'}`, "/s?v=2&to=%2B447700900123", "", "", nil},
		"null and lists in fields": {`{get: /s, query: '{a: null, b: [1, true, "x"], c: 2.5}'}`, "/s?b=1&b=true&b=x&c=2.5", "", "", nil},
		"form":                     {`{post: /s, form: '{to, text: .text}'}`, "/s", "text=Gr%C3%B6%C3%9Fe+%26+1%2B1+%3D+%3C2%3E&to=%2B447700900123", "application/x-www-form-urlencoded", nil},
		"form in Latin-1":          {`{post: /s, charset: latin-1, form: '{text: "ö"}'}`, "/s", "text=%F6", "application/x-www-form-urlencoded; charset=iso-8859-1", nil},
		"JSON":                     {`{post: /s, json: '{text: .text, f: .fields.berth}'}`, "/s", `{"f":"3","text":"Größe & 1+1 = <2>"}`, "application/json", nil},
		"XML": {`{post: /s, xml: '{sms: {"@v": 2, to: .to, text: {"@lang": "de", "#text": .text}, tag: ["a", "b"], none: null}}'}`, "/s",
			`<?xml version="1.0" encoding="UTF-8"?>` + "\n" + `<sms v="2"><tag>a</tag><tag>b</tag><text lang="de">Größe &amp; 1+1 = &lt;2&gt;</text><to>+447700900123</to></sms>`, "application/xml; charset=utf-8", nil},
		"plain text":     {`{post: /s, text: '.to + " " + .text'}`, "/s", "+447700900123 Größe & 1+1 = <2>", "text/plain; charset=utf-8", nil},
		"hexadecimal":    {`{get: /s, query: '{t: .text_hex[0:8]}'}`, "/s?t=00470072", "", "", nil},
		"holes in paths": {`{get: '/s/{sender}/{"tel:" + .to}/{id}'}`, "/s/Lanternholm/tel:+447700900123/m-1", "", "", nil},
		"national":       {`{get: /s, query: '{n: .national, c: .country}'}`, "/s?c=GB&n=07700900123", "", "", nil},
		"bearer":         {`{get: /s, bearer: key}`, "/s", "", "", map[string]string{"Authorization": "Bearer k &+"}},
		"basic":          {`{get: /s, basic: {user: key, password: secret}}`, "/s", "", "", map[string]string{"Authorization": "Basic " + base64.StdEncoding.EncodeToString([]byte("k &+:s"))}},
		"headers":        {`{get: /s, headers: '{"X-Key": .secrets.key, "X-N": 7}'}`, "/s", "", "", map[string]string{"X-Key": "k &+", "X-N": "7"}},
		"signed": {`{post: /s, form: '{to}', sign: {hmac_sha256: secret, over: '[.method, .path, .time, .body, .body_sha256[0:4]] | map(tostring) | join("|")', headers: '{"X-Sig": .signature, "X-Time": .time}', query: '{sig: .signature[0:6]}'}}`,
			"/s?sig=b8f12b", "to=%2B447700900123", "", map[string]string{"X-Time": fmt.Sprint(noon.Unix()), "X-Sig": "b8f12b43f76adea36e85dc24a1e6b1d4d8dc2bd3e2b1f09fd8d59c7c2a5dd7f2"}},
		"the time": {`{get: /s, query: '{t: (.time | todate)}'}`, "/s?t=2026-11-15T12%3A00%3A00Z", "", "", nil},
	} {
		r, err := built(t, tt.request, m)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if name == "signed" { // its value is checked by the practice gateway that verifies it; here that it is there, and of what
			if len(r.Header["X-Sig"]) != 64 || !strings.HasPrefix(r.Path, "/s?sig="+r.Header["X-Sig"][:6]) ||
				r.Header["X-Time"] != tt.header["X-Time"] {
				t.Errorf("%s: %+v", name, r)
			}
			continue
		}
		if r.Path != tt.path || string(r.Body) != tt.body || tt.ctype != "" && r.Header["Content-Type"] != tt.ctype {
			t.Errorf("%s: %s %s %q\nwant %s %q", name, r.Path, r.Header["Content-Type"], r.Body, tt.path, tt.body)
		}
		for h, want := range tt.header {
			if r.Header[h] != want {
				t.Errorf("%s: header %s is %q, want %q", name, h, r.Header[h], want)
			}
		}
	}
}

// What goes out in a query string or form comes back as it was.
func FuzzFormSurvives(f *testing.F) {
	f.Add("+447700900123", "1+1 = 2 & more")
	vary.Of(f, 5000, []string{"+447700900123", "1+1 = 2 & more", "é😀%"}, func(s string) { f.Add(s, s) })
	f.Fuzz(func(t *testing.T, a, b string) {
		encoded, err := writeForm(map[string]any{"a": a, "b": b}, UTF8)
		if err != nil {
			t.Fatal(err)
		}
		back, err := url.ParseQuery(encoded)
		if err != nil || back.Get("a") != a || back.Get("b") != b {
			t.Fatalf("%q and %q go out as %s and come back as %v, %v", a, b, encoded, back, err)
		}
	})
}

func TestRequestsThatCannotBeBuilt(t *testing.T) {
	for name, tt := range map[string]struct{ request, want string }{
		"an expression that fails": {`{post: /s, json: '.text | tonumber'}`, "building the body"},
		"a form that is no object": {`{post: /s, form: '[1]'}`, "object of fields"},
		"a field that is none":     {`{post: /s, form: '{a: {b: 1}}'}`, "a: "},
		"two roots of XML":         {`{post: /s, xml: '{a: 1, b: 2}'}`, "one element"},
		"a name that is none":      {`{post: /s, xml: '{a: {"b c": 1}}'}`, "no name of an element"},
		"a break in a header":      {`{get: /s, headers: '{"X-A": "a\r\nb"}'}`, "line break"},
		"an empty hole":            {`{get: '/s/{gateway_ref}'}`, "is empty"},
		"what Latin-1 has not":     {`{get: /s, charset: latin-1, query: '{a: "Ω"}'}`, "not in Latin-1"},
		"one that never ends":      {`{post: /s, json: 'last(range(1e12))'}`, "took longer"},
		"one that is too large":    {`{post: /s, json: '[range(4e4) | "xxxxxxxxxxxxxxxx" * 40]'}`, "larger than"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			if _, err := built(t, tt.request, text("+447700900123", "x")); err == nil || !strings.Contains(err.Error(), tt.want) {
				t.Errorf("%v, want it to say %q", err, tt.want)
			}
		})
	}
}

func TestManyMessagesInOneRequest(t *testing.T) {
	one, two := text("+447700900123", "a"), text("+447700900124", "b")
	two.ID, two.ValidFor = "m-2", 30
	r, err := built(t, `{post: /s, json: '{all: [.messages[] | .to + .text], first: .text, valid: .valid_for}'}`, one, two)
	if want := `{"all":["+447700900123a","+447700900124b"],"first":"a","valid":30}`; err != nil || string(r.Body) != want {
		t.Errorf("%s, %v; want %s", r.Body, err, want)
	}
}

func TestNumbersAndSendersInEveryForm(t *testing.T) {
	for form, want := range map[NumberForm][2]string{
		E164: {"+447700900123", "+447700900000"}, Digits: {"447700900123", "447700900000"}, Zeros: {"00447700900123", "00447700900000"},
		National: {"07700900123", "+447700900000"}, TelURI: {"tel:+447700900123", "tel:+447700900000"},
	} {
		if to, from := form.write(phone.Stored("+447700900123")), form.sender("+447700900000"); to != want[0] || from != want[1] {
			t.Errorf("%s: %s from %s, want %v", form, to, from, want)
		}
		if got := form.sender("Lanternholm"); got != "Lanternholm" {
			t.Errorf("%s writes a name as %s", form, got)
		}
		if bare(want[0]) != "447700900123" && form != National {
			t.Errorf("%s is bare %s", want[0], bare(want[0]))
		}
	}
}

func TestBodiesBecomeValues(t *testing.T) {
	for name, tt := range map[string]struct {
		ctype, body string
		want        any
	}{
		"JSON, whatever it is called": {"text/plain", `{"a":[1,2.5,12345678901234567890]}`, nil},
		"a form":                      {"application/x-www-form-urlencoded", "a=1&a=2&b=%2B", map[string]any{"a": "1,2", "b": "+"}},
		"XML":                         {"text/xml", `<r a="1"><x>one</x><y b="2">t</y><x/><z><q>1</q></z></r>`, map[string]any{"r": map[string]any{"@a": "1", "x": []any{"one", ""}, "y": map[string]any{"@b": "2", "#text": "t"}, "z": map[string]any{"q": "1"}}}},
		"XML with name spaces":        {"application/soap+xml", `<s:r xmlns:s="urn:x"><s:a>1</s:a></s:r>`, map[string]any{"r": map[string]any{"a": "1"}}},
		"XML in Latin-1":              {"", "<?xml version=\"1.0\" encoding=\"ISO-8859-1\"?><r>\xf6</r>", map[string]any{"r": "ö"}},
		"half of XML":                 {"text/xml", "<r><a>", "<r><a>"},
		"a page":                      {"text/html", "<html></html>", "<html></html>"},
		"XML nested without end":      {"text/xml", strings.Repeat("<a>", 70) + strings.Repeat("</a>", 70), strings.Repeat("<a>", 70) + strings.Repeat("</a>", 70)},
		"a line of text":              {"text/plain", "OK 17", "OK 17"},
		"what is not UTF-8":           {"text/plain", "a\xffb", "a\uFFFDb"},
		"two values of JSON":          {"application/json", "1 2", "1 2"},
	} {
		got := bodyValue(tt.ctype, []byte(tt.body))
		if name == "JSON, whatever it is called" {
			if list := got.(map[string]any)["a"].([]any); fmt.Sprint(list...) != "1 2.5 12345678901234567890" {
				t.Errorf("%s: %v", name, list)
			}
			continue
		}
		if !reflect.DeepEqual(got, tt.want) {
			t.Errorf("%s: %#v, want %#v", name, got, tt.want)
		}
	}
}

// XML that is written reads back as it was.
func TestXMLSurvives(t *testing.T) {
	value := map[string]any{
		"sms": map[string]any{
			"@a":   `q"<&`,
			"to":   []any{"1", "2"},
			"text": "a < b & c > d",
			"more": map[string]any{"@x": "1", "#text": "ö"},
		},
	}
	written, err := writeXML(value)
	if err != nil {
		t.Fatal(err)
	}
	if got := bodyValue("application/xml", written); !reflect.DeepEqual(got, value) {
		t.Errorf("%s reads as %v", written, got)
	}
}

func TestDivide(t *testing.T) {
	d := &Dialect{Number: Digits}
	messages := []Message{text("+447700900123", "a"), text("+447700900124", "b"), text("+447700900125", "c")}
	messages[0].ID, messages[1].ID, messages[2].ID = "m-0", "m-1", "m-2"
	asked := []Message{{ID: "m-0", GatewayRef: "g-0"}, {ID: "m-1", GatewayRef: "g-1"}}
	for name, tt := range map[string]struct {
		messages []Message
		items    []Item
		want     string // for each message the codes of its items; then what is left over
	}{
		"by reference":               {messages, []Item{{Code: "x", Reference: "m-2"}, {Code: "y", Reference: "m-0"}}, "[y] [] [x] over []"},
		"a reference of nobody":      {messages, []Item{{Code: "x", Reference: "m-9", To: "447700900123"}}, "[] [] [] over [x]"},
		"by number, however written": {messages, []Item{{Code: "x", To: "+447700900125"}, {Code: "y", To: "00447700900123"}, {Code: "z", To: " 447700900124"}}, "[y] [z] [x] over []"},
		"by place":                   {messages, []Item{{Code: "x", Index: 2}, {Code: "y", Index: 4}}, "[] [x] [] over [y]"},
		"two for one":                {messages, []Item{{Code: "x", Index: 1}, {Code: "y", Index: 1}}, "[x y] [] [] over []"},
		"one for all":                {messages, []Item{{Code: "x", GatewayRef: "batch"}}, "[x] [x] [x] over []"},
		"two for nobody":             {messages, []Item{{Code: "x"}, {Code: "y"}}, "[] [] [] over [x y]"},
		"one message, no name":       {messages[:1], []Item{{Code: "x"}, {Code: "y"}}, "[x y] over []"},
		"asked, by its id":           {asked, []Item{{Code: "x", GatewayRef: "g-1"}}, "[] [x] over []"},
		"asked, of another":          {asked, []Item{{Code: "x", GatewayRef: "g-9"}}, "[] [] over [x]"},
		"asked for one, of another":  {asked[:1], []Item{{Code: "x", GatewayRef: "g-9"}}, "[] over [x]"},
	} {
		each, over := d.Divide(tt.items, tt.messages)
		got := ""
		for _, items := range append(each, over) {
			codes := []string{}
			for _, item := range items {
				codes = append(codes, item.Code)
			}
			got += fmt.Sprint(codes) + " "
		}
		parts := strings.Split(strings.TrimSpace(got), "] [")
		got = strings.Join(parts[:len(parts)-1], "] [") + "] over [" + parts[len(parts)-1]
		if got != tt.want {
			t.Errorf("%s: %s, want %s", name, got, tt.want)
		}
	}
}
