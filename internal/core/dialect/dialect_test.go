package dialect

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/phone"
)

func load(t testing.TB, name string) *Dialect {
	t.Helper()
	source, err := os.ReadFile(filepath.Join("../../../dialects", name+".yaml"))
	if err != nil {
		t.Fatal(err)
	}
	d, err := Load(name+".yaml", source)
	if err != nil {
		t.Fatal(err)
	}
	return d
}

func TestShippedDialectsPlayTheirExamples(t *testing.T) {
	files, err := filepath.Glob("../../../dialects/*.yaml")
	if err != nil || len(files) == 0 {
		t.Fatal("no dialect files", err)
	}
	for _, file := range files {
		d := load(t, strings.TrimSuffix(filepath.Base(file), ".yaml"))
		played := d.Play(t.Context())
		for i, p := range played {
			if p.Wrong != "" {
				t.Errorf("%s: example %d, a %s, gives %v, want %v: %s", file, i+1, p.Kind, p.Got, p.Want, p.Wrong)
			}
		}
		if len(played) == 0 {
			t.Errorf("%s: there are no examples", file)
		}
	}
}

func TestSubmitRequest(t *testing.T) {
	d := load(t, "harbourline")
	to, _ := phone.Parse("+447700900123")
	secrets := map[string]string{"api_key": "k-1", "receipt_secret": "s-1"}
	m := Message{
		ID:         "m-1",
		To:         to,
		Sender:     "Lanternholm",
		Text:       "Berth <3> & \"more\"",
		ReceiptURL: "http://127.0.0.1/r",
		GatewayRef: "hl/1",
		ValidFor:   300,
	}
	r, err := d.SubmitRequest([]Message{m}, Means{Secrets: secrets})
	if err != nil {
		t.Fatal(err)
	}
	want := `{"from":"Lanternholm","keep_for":300,"ref":"m-1","report":"http://127.0.0.1/r",` +
		`"text":"Berth <3> & \"more\"","to":"+447700900123"}`
	if r.Method != "POST" || r.Path != "/v2/texts" || string(r.Body) != want || r.Header["Authorization"] != "Bearer k-1" {
		t.Errorf("got %+v with body %s, want %s", r, r.Body, want)
	}
	if !d.CanAsk("hl/1") || d.CanAsk("") {
		t.Error("a query by the gateway's id needs that id and nothing more")
	}
	if r, err := d.QueryRequest([]Message{m}, Means{Secrets: secrets}); err != nil || r.Path != "/v2/texts/hl%2F1" || r.Method != "GET" {
		t.Errorf("query %+v, %v", r, err)
	}
}

func TestGenuine(t *testing.T) {
	d := load(t, "harbourline")
	body := []byte(`{"events":[]}`)
	mac := hmac.New(sha256.New, []byte("s-1"))
	mac.Write(body)
	signature := hex.EncodeToString(mac.Sum(nil))
	secrets := map[string]string{"receipt_secret": "s-1"}
	for name, tt := range map[string]struct {
		signature string
		body      string
		want      bool
	}{
		"signed":            {signature, string(body), true},
		"another body":      {signature, `{"events":[{}]}`, false},
		"no signature":      {"", string(body), false},
		"not hexadecimal":   {"zz", string(body), false},
		"half a signature":  {signature[:32], string(body), false},
		"capital hex works": {strings.ToUpper(signature), string(body), true},
	} {
		in := Incoming{Header: map[string]string{"x-signature": tt.signature}, Body: []byte(tt.body)}
		if got := d.Receipt.Proves(in, secrets); got != tt.want {
			t.Errorf("%s: %v", name, got)
		}
	}
}

func TestReadKeepsWhatItCannotPlace(t *testing.T) {
	d := load(t, "harbourline")
	r := d.ReadReceipt(Incoming{Body: []byte(`{"events":[{"id":12345678901234567890,"status":"ADRIFT"}]}`)})
	if r.Meaning != Read || r.Items[0].GatewayRef != "12345678901234567890" || r.Items[0].State != "" ||
		!strings.Contains(r.Items[0].Note, "ADRIFT") {
		t.Errorf("an unknown code reads as %+v", r)
	}
	for _, body := range []string{"", "[]", "{}", `{"events":[]}`, `{"events":[1]}`, `{"events":{"a":null}}`, "\x00\xff"} {
		if r := d.ReadReceipt(Incoming{Body: []byte(body)}); r.Meaning != Unreadable || r.Note == "" {
			t.Errorf("receipt %q reads as %+v", body, r)
		}
	}
}

// A gateway's own queue is not ours: if it could claim that a message is
// queued, one in doubt would be sent again.
func TestGatewayCannotClaimWhatIsOurs(t *testing.T) {
	d, err := Load("x.yaml", []byte(`{dialect: x, submit: {request: {post: /s, json: .}, reply: [{when: .status == 200, read: .body}]}}`))
	if err != nil {
		t.Fatal(err)
	}
	for _, state := range delivery.States {
		r := d.ReadSubmit(Reply{Status: 200, Body: []byte(`{"state":"` + string(state) + `"}`)}, time.Time{})
		if _, err := delivery.ParseGatewayState(string(state)); (err == nil) != (r.Meaning == Read) {
			t.Errorf("state %s reads as %+v", state, r)
		}
	}
	if r := d.ReadSubmit(Reply{Status: 200, Body: []byte(`{"state":"queued"}`)}, time.Time{}); r.Meaning != Unreadable {
		t.Errorf("queued reads as %+v", r)
	}
}

func TestRetryAfter(t *testing.T) {
	now := time.Date(2026, 11, 15, 7, 40, 0, 0, time.UTC)
	for value, want := range map[any]time.Duration{
		"2": 2 * time.Second, 3: 3 * time.Second, 0.5: 500 * time.Millisecond, nil: 0, "soon": 0, -4: 0,
		"Sun, 15 Nov 2026 07:41:00 GMT": time.Minute, 1 << 40: time.Hour,
	} {
		if got := retryAfter(value, now); got != want {
			t.Errorf("retryAfter(%v) = %v, want %v", value, got, want)
		}
	}
}

func TestLoadNamesLineAndExpectation(t *testing.T) {
	good := `dialect: x
submit:
  request: {post: /send, json: "{to}"}
  reply:
    - when: .status == 200
      read: "{state: \"accepted\"}"
`
	if _, err := Load("x.yaml", []byte(good)); err != nil {
		t.Fatal(err)
	}
	for name, tt := range map[string]struct{ old, new, want string }{
		"a word nobody knows":       {"dialect: x", "dialect: x\nsubmitt: 1", "submitt"},
		"jq that is none":           {".status == 200", ".status ==", "x.yaml:5: submit.reply[0].when: expected an expression in jq"},
		"two meanings":              {"    - when", "    - absent: true\n      when", "expected exactly one of read"},
		"a secret not named":        {"{post: /send,", "{post: /send, bearer: key,", "x.yaml:3: submit.request.bearer: \"key\": expected one of the names under secrets"},
		"a state nobody knows":      {"dialect: x", "dialect: x\ncodes: {A: landed}", "x.yaml:2: codes.A: state \"landed\": not a state"},
		"a state that is only ours": {"dialect: x", "dialect: x\ncodes: {A: queued}", "accepted are accepted, enroute, delivered"},
		"a span that is none":       {"dialect: x", "dialect: x\ntimeout: soon", "not a time span"},
		"no path":                   {"post: /send", "post: send", "expected it to start with /"},
		"a number form of its own":  {"dialect: x", "dialect: x\nnumber: plus", "expected e164, digits, 00, national or tel"},
		"YAML that is none":         {"dialect: x", "dialect: [x", "x.yaml:"},
		"a name with capital":       {"dialect: x", "dialect: X", "expected a name of small letters"},
	} {
		_, err := Load("x.yaml", []byte(strings.Replace(good, tt.old, tt.new, 1)))
		if err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: %v\nwant it to say %q", name, err, tt.want)
		}
	}
}

func BenchmarkReadSubmit(b *testing.B) {
	d := load(b, "harbourline")
	reply := Reply{
		Status: 202,
		Header: map[string]string{"content-type": "application/json"},
		Body:   []byte(`{"outcome":"taken","id":"hl-1","parts":1}`),
	}
	for b.Loop() {
		if d.ReadSubmit(reply, time.Time{}).Meaning != Read {
			b.Fatal("not read")
		}
	}
}
