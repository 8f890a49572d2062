package dialect

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"calmpigeon.example/internal/core/vary"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"calmpigeon.example/internal/core/delivery"
)

func schema(t *testing.T) (*jsonschema.Schema, map[string]any) {
	t.Helper()
	source, err := os.ReadFile("../../../dialects/schema.json")
	if err != nil {
		t.Fatal(err)
	}
	value, err := jsonschema.UnmarshalJSON(bytes.NewReader(source))
	if err != nil {
		t.Fatal(err)
	}
	compiler := jsonschema.NewCompiler()
	if err := compiler.AddResource("schema.json", value); err != nil {
		t.Fatal(err)
	}
	compiled, err := compiler.Compile("schema.json")
	if err != nil {
		t.Fatal(err)
	}
	return compiled, value.(map[string]any)
}

func asJSON(t *testing.T, source []byte) any {
	t.Helper()
	encoded, err := yaml.YAMLToJSON(source)
	if err != nil {
		t.Fatal(err)
	}
	value, err := jsonschema.UnmarshalJSON(bytes.NewReader(encoded))
	if err != nil {
		t.Fatal(err)
	}
	return value
}

func TestSchemaTakesEveryDialectThatShips(t *testing.T) {
	compiled, _ := schema(t)
	files, _ := filepath.Glob("../../../dialects/*.yaml")
	for _, file := range files {
		source, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		if err := compiled.Validate(asJSON(t, source)); err != nil {
			t.Errorf("%s: %v", file, err)
		}
	}
	for name, source := range map[string]string{
		"a field nobody knows": "dialect: x\nsubmitt: 1\nsubmit: {request: {get: /s}, reply: [{when: 'true', read: .}]}",
		"no submission":        "dialect: x",
		"a form of its own":    "dialect: x\nnumber: plus\nsubmit: {request: {get: /s}, reply: [{when: 'true', read: .}]}",
		"a state of ours":      "dialect: x\ncodes: {A: queued}\nsubmit: {request: {get: /s}, reply: [{when: 'true', read: .}]}",
	} {
		if compiled.Validate(asJSON(t, []byte(source))) == nil {
			t.Errorf("%s: the schema takes it", name)
		}
	}
}

// The schema knows every field of the file, and no others.
func TestSchemaHasEveryField(t *testing.T) {
	_, value := schema(t)
	defs := value["$defs"].(map[string]any)
	var compare func(place string, of reflect.Type, node any)
	compare = func(place string, of reflect.Type, node any) {
		object, _ := node.(map[string]any)
		for object["$ref"] != nil {
			object, _ = defs[strings.TrimPrefix(object["$ref"].(string), "#/$defs/")].(map[string]any)
		}
		for of.Kind() == reflect.Pointer {
			of = of.Elem()
		}
		if of.Kind() == reflect.Slice && of.Elem().Kind() == reflect.Struct {
			compare(place+"[]", of.Elem(), object["items"])
			return
		}
		properties, described := object["properties"].(map[string]any)
		if of.Kind() != reflect.Struct || !described {
			return
		}
		var fields, known []string
		for i := range of.NumField() {
			if !of.Field(i).IsExported() {
				continue
			}
			name := of.Field(i).Tag.Get("yaml")
			fields = append(fields, name)
			compare(place+"."+name, of.Field(i).Type, properties[name])
		}
		for name := range properties {
			known = append(known, name)
		}
		slices.Sort(fields)
		slices.Sort(known)
		if !slices.Equal(fields, known) {
			t.Errorf("%s: the file has %v, the schema %v", place, fields, known)
		}
	}
	compare("", reflect.TypeFor[Dialect](), value)
	var words []string
	for _, state := range delivery.GatewayStates {
		words = append(words, string(state))
	}
	if encoded, _ := json.Marshal(value); !strings.Contains(string(encoded), `["`+strings.Join(words, `","`)+`"]`) {
		t.Errorf("the schema lists other states than %v", words)
	}
}

// Whatever is answered, the first version is a file that loads and whose
// examples pass.
func TestSketchIsWellFormed(t *testing.T) {
	compiled, _ := schema(t)
	n := 0
	var each func(s Sketch, questions []Question)
	each = func(s Sketch, questions []Question) {
		if len(questions) == 0 {
			source, err := s.Source()
			if err != nil {
				t.Fatalf("%+v: %v", s, err)
			}
			d, err := Load("new.yaml", []byte(source))
			if err != nil {
				t.Fatalf("%+v: %v\n%s", s, err, source)
			}
			for i, p := range d.Play(t.Context()) {
				if p.Wrong != "" {
					t.Fatalf("%+v: example %d gives %v, want %v: %s", s, i+1, p.Got, p.Want, p.Wrong)
				}
			}
			if n%50 == 0 {
				if err := compiled.Validate(asJSON(t, []byte(source))); err != nil {
					t.Fatalf("%+v: %v", s, err)
				}
			}
			n++
			return
		}
		q := questions[0]
		answers := q.Accepts
		if answers == nil {
			answers = []string{"mine"}
		}
		for i, answer := range answers {
			if q.Field == "number" && i > 1 {
				continue
			}
			*q.To(&s) = answer
			each(s, questions[1:])
		}
	}
	each(Sketch{}, Questions)
	if n < 1000 {
		t.Errorf("%d sketches", n)
	}
	if err := (Sketch{Name: "x", Body: "soap"}).Check(); err == nil || !strings.Contains(err.Error(), `body "soap": accepted are json`) {
		t.Errorf("%v", err)
	}
}

func TestDiagnoseNamesTheMistake(t *testing.T) {
	plain := load(t, "harbourline")
	signed := load(t, "waxseal")
	refused := Reading{Meaning: NotTaken, Cause: delivery.CredentialsRefused}
	for name, tt := range map[string]struct {
		d    *Dialect
		a    Attempt
		want string
	}{
		"nobody there":            {plain, Attempt{Error: "no connection: refused"}, "Nobody answers"},
		"no such host":            {plain, Attempt{Error: "the host sms.example is not known"}, "does not exist"},
		"http for https":          {plain, Attempt{Error: "http: server gave HTTP response to HTTPS client"}, "plain HTTP"},
		"a key with its word":     {plain, Attempt{Reply: Reply{Status: 401}, Reading: refused, Secrets: map[string]string{"api_key": "Bearer abc", "receipt_secret": "x"}}, `api_key begins with "Bearer"`},
		"a key with a line break": {plain, Attempt{Reply: Reply{Status: 401}, Reading: refused, Secrets: map[string]string{"api_key": "abc\n", "receipt_secret": "x"}}, "line break"},
		"a key in quotes":         {plain, Attempt{Reply: Reply{Status: 401}, Reading: refused, Secrets: map[string]string{"api_key": `"abc"`, "receipt_secret": "x"}}, "quotation marks"},
		"a key that was cut":      {plain, Attempt{Reply: Reply{Status: 401}, Reading: refused, Secrets: map[string]string{"api_key": "abc…", "receipt_secret": "x"}}, "placeholder"},
		"a key of another kind":   {plain, Attempt{Reply: Reply{Status: 401}, Reading: refused, Secrets: map[string]string{"api_key": "abc", "receipt_secret": "x"}}, "a key of another kind"},
		"a token for a key":       {plain, Attempt{Reply: Reply{Status: 401}, Reading: refused, Secrets: map[string]string{"api_key": "eyJhbGciOiJI.eyJzdWIiOiIx.SflKxwRJ", "receipt_secret": "x"}}, "issued for a while"},
		"clocks apart":            {signed, Attempt{Reply: Reply{Status: 403, Header: map[string]string{"date": noon.Add(600e9).Format("Mon, 02 Jan 2006 15:04:05 GMT")}}, Reading: refused, Now: noon}, "10m0s apart"},
		"a sender of others":      {plain, Attempt{Reply: Reply{Status: 422}, Reading: Reading{Meaning: Read, Items: []Item{{State: "rejected", Cause: delivery.SenderRefused}}}}, "not yours"},
		"a trial account":         {plain, Attempt{Reply: Reply{Status: 400, Body: []byte("Trial accounts can only send to verified numbers")}, Reading: Reading{Meaning: Read, Items: []Item{{State: "rejected", Cause: delivery.Barred}}}}, "trial account"},
		"no credit":               {plain, Attempt{Reply: Reply{Status: 402}, Reading: Reading{Meaning: NotTaken, Cause: delivery.NoCredit}}, "account is empty"},
		"an unencoded plus":       {plain, Attempt{Request: Request{Path: "/s?to=+447700900123"}, Reply: Reply{Status: 400}, Reading: Reading{Meaning: Read, Items: []Item{{Cause: delivery.InvalidNumber}}}}, "unencoded"},
		"a plus that got lost":    {plain, Attempt{Reply: Reply{Status: 400, Body: []byte(`{"error":"bad number: 447700900123"}`)}, Reading: Reading{Meaning: Read, Items: []Item{{Cause: delivery.InvalidNumber}}}}, "space in front"},
		"a page":                  {plain, Attempt{Reply: Reply{Status: 200, Body: []byte("<!DOCTYPE html>")}}, "web page"},
		"a wrong path":            {plain, Attempt{Address: "https://x", Request: Request{Path: "/v1/s?key=a"}, Reply: Reply{Status: 404}}, "nothing at https://x/v1/s."},
		"elsewhere":               {plain, Attempt{Reply: Reply{Status: 301, Header: map[string]string{"location": "https://y/"}}}, "https://y/"},
	} {
		if said := strings.Join(tt.d.Diagnose(tt.a), "\n"); !strings.Contains(said, tt.want) {
			t.Errorf("%s: %q, want it to say %q", name, said, tt.want)
		}
	}
	if said := plain.Diagnose(Attempt{Reply: Reply{Status: 202}, Reading: Reading{Meaning: Read, Items: []Item{{State: delivery.Accepted}}}}); said != nil {
		t.Errorf("all is well, and it says %q", said)
	}
}

func TestStatementGoesOnBehindBadLines(t *testing.T) {
	d := load(t, "waxseal")
	file := "\uFEFFId;Reference;Recipient;Sent;Parts;Status;Price EUR\nwx-1;m-1;+44;2026-11-15T07:40:02Z;1;3;0.03\nwx-2;m-2\n;;;;1;3;0.03\nwx-3;m-3;+44;;many;3;0.03\nwx-4;m-4;+44;;1;9;0.03\n"
	var got []string
	for item, err := range d.ReadStatement(strings.NewReader(file)) {
		if err != nil {
			got = append(got, strings.SplitN(err.Error(), ":", 2)[0])
			continue
		}
		got = append(got, item.GatewayRef+" "+string(item.State))
	}
	if want := []string{"wx-1 delivered", "line 3", "line 4", "line 5", "wx-4 "}; !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
}

// FuzzEveryDialect: whatever a gateway sends is read or unreadable, never a
// crash, and never a success that is not in it.
func FuzzEveryDialect(f *testing.F) {
	files, _ := filepath.Glob("../../../dialects/*.yaml")
	var all []*Dialect
	var recorded, types []string
	for _, file := range files {
		d := load(f, strings.TrimSuffix(filepath.Base(file), ".yaml"))
		all = append(all, d)
		for _, e := range d.Examples {
			_, r := e.recorded()
			body, ctype, _ := r.text()
			for name, value := range r.Headers {
				if strings.EqualFold(name, "content-type") {
					ctype = value
				}
			}
			f.Add(r.Status, ctype, body, r.Query)
			recorded = append(recorded, string(body))
			types = append(types, ctype)
		}
	}
	at := 0
	vary.Of(f, 300, recorded, func(s string) {
		at++
		f.Add(200+100*(at%4), types[at%len(types)], []byte(s), "id=1&"+s)
	})
	f.Fuzz(func(t *testing.T, status int, ctype string, body []byte, query string) {
		for _, d := range all {
			reply := Reply{Status: status, Header: map[string]string{"content-type": ctype}, Body: body}
			readings := []Reading{d.ReadSubmit(reply, noon)}
			if d.Query != nil {
				readings = append(readings, d.ReadQuery(reply, noon))
			}
			if d.Balance != nil {
				d.ReadBalance(reply, noon)
			}
			if d.Token != nil {
				d.ReadToken(reply, noon)
			}
			in := Incoming{Method: "POST", Query: query, Header: reply.Header, Body: body}
			if d.Receipt != nil {
				readings = append(readings, d.ReadReceipt(in))
			}
			if d.Inbound != nil {
				d.ReadInbound(in)
			}
			for _, r := range readings {
				if r.Meaning == Unreadable && r.Note == "" || r.Meaning == Read && len(r.Items) == 0 {
					t.Fatalf("%s: %d %q reads as %+v", d.Name, status, body, r)
				}
				if _, err := r.Value(); err != nil {
					t.Fatalf("%s: %d %q cannot be shown: %v", d.Name, status, body, err)
				}
			}
			if r := readings[0]; status >= 400 && r.Meaning == Read && d.Name != "oldpier" {
				for _, item := range r.Items {
					if item.State == delivery.Accepted || item.State == delivery.Delivered {
						t.Fatalf("%s: %d %q was taken for a success", d.Name, status, body)
					}
				}
			}
		}
	})
}

// Whatever a dialect file says, loading it ends, and so do its examples.
func FuzzLoad(f *testing.F) {
	files, _ := filepath.Glob("../../../dialects/*.yaml")
	var all []string
	for _, file := range files {
		source, err := os.ReadFile(file)
		if err != nil {
			f.Fatal(err)
		}
		all = append(all, string(source))
	}
	vary.Of(f, 150, all, func(s string) { f.Add([]byte(s)) })
	f.Fuzz(func(t *testing.T, source []byte) {
		d, err := Load("x.yaml", source)
		if err != nil {
			return
		}
		d.Warnings()
		for _, p := range d.Play(t.Context()) {
			if p.Kind == "" {
				t.Fatalf("%q: an example of no kind: %+v", source, p)
			}
		}
	})
}

// A query that has nothing of a message but the gateway's own id can be made for a message that is not known.
func TestQueriesByTheGatewaysID(t *testing.T) {
	t.Parallel()
	for query, want := range map[string]bool{
		"{n: .gateway_ref}": true, "{id: .gateway_ref}": true, "{to: .gateway_ref, country: 1}": true, "{id: .gateway_ref, to}": false,
		"{n: .gateway_ref, to: .to}": false, "{ id , n: .gateway_ref}": false, "{n: .id}": false,
	} {
		d, err := Load("x", []byte("dialect: x\nsubmit: {request: {post: /s, json: '{to}'}, "+
			"reply: [{when: .status == 200, read: '{state: \"accepted\"}'}]}\n"+
			"query: {request: {get: /q, query: '"+query+"'}, reply: [{when: .status == 200, read: '{state: \"delivered\"}'}]}\n"))
		if err != nil {
			t.Fatal(err)
		}
		if got := d.CanAskByRef(); got != want {
			t.Errorf("%s: %t, want %t", query, got, want)
		}
	}
}
