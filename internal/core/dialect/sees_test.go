package dialect

import (
	"strings"
	"testing"
)

// wholeFile is a file in which every part stands, with one line that the test adds
// or changes.
const wholeFile = `dialect: quayside
secrets: [key, user]
takes: {kinds: [otp]}
limits: {per_second: 5}
segments: {reference_bits: 8}
silence: {ask_after: 1m}
token:
  request: {post: /token, form: "{u: .secrets.user, t: .time}"}
  reply:
  - {when: .status == 200, token: "{token: .body.t, expires_in: .body.s}"}
submit:
  most: 10
  request:
    post: "/s/{country}/{.to | tostring}"
    query: "{a: .messages[0].to, b: .secrets.token}"
    headers: "{x: .secrets.key}"
    json: '{from: .sender, all: [.messages[] | {to, text: .text, of: .fields.anything.at.all}], first: (.messages | map(.id) | first)}'
    sign: {hmac_sha256: key, over: '.method + .path + .body', headers: "{sig: .signature}"}
  reply:
  - when: .status == 200 and (.headers["x-any"] | not)
    read: ".body.items[] | {gateway_ref: .id, state: \"accepted\"}"
  - {when: .raw == "", limited: '.headers["retry-after"]'}
receipt:
  genuine: {same: ".query.key, .secrets.key"}
  when: .method == "POST"
  read: "{gateway_ref: .body.id, code: .body.st}"
  answer: {status: 200}
query:
  request: {get: "/q/{gateway_ref}"}
  reply:
  - {when: .status == 200, read: "{gateway_ref: .body.id, code: .body.st}"}
statement:
  request: {get: /lines, query: "{from, until: .until}"}
  read: "{reference: .ours, state: .theirs}"
codes:
  OK: delivered
  NO: {state: undeliverable, cause: absent}
examples:
- reply: {status: 200, body: {items: [{id: q1}]}}
  gives: {gateway_ref: q1, state: accepted}
`

// A field that requests, replies or callbacks do not have is a mistake, with its
// line; so is a key that the file does not have, wherever it stands.
func TestNamesThatNobodyKnowsAreMistakes(t *testing.T) {
	t.Parallel()
	if _, err := Load("q", []byte(wholeFile)); err != nil {
		t.Fatal(err)
	}
	for _, tt := range []struct{ old, new, want string }{
		{".sender", ".sendr", "q:17: submit.request.json: there is no .sendr; expected one of country, "},
		{"text: .text", "text: .txt", "there is no .txt"},
		{"{to, text", "{too, text", "there is no .too"},
		{"map(.id)", "map(.idd)", "there is no .idd"},
		{"{country}", "{contry}", "q:14: submit.request.post: there is no .contry"},
		{".messages[0].to", ".messages[0].mobile", "there is no .mobile"},
		{".secrets.token", ".secrets.tokn", "there is no .tokn; expected one of key, token, user"},
		{"x: .secrets.key", "x: .secret.key", "there is no .secret"},
		{"t: .time", "t: .text", "token.request.form: there is no .text; expected one of secrets, time"},
		{"/q/{gateway_ref}", "/q/{gatway_ref}", "there is no .gatway_ref"},
		{".method + .path", ".verb + .path", "submit.request.sign.over: there is no .verb"},
		{"sig: .signature", "sig: .sig", "there is no .sig"},
		{".status == 200 and", ".code == 200 and", "q:20: submit.reply[0].when: there is no .code; expected one of body, headers, raw, status"},
		{`.raw == ""`, `.text == ""`, "there is no .text"},
		{"gateway_ref: .body.id, code: .body.st}\"\n  answer", "gateway_ref: .bdy.id}\"\n  answer", "receipt.read: there is no .bdy"},
		{".query.key, .secrets.key", ".query.key, .secrets.kee", "receipt.genuine.same: there is no .kee"},
		{"{from, until: .until}", "{since, until: .until}", "there is no .since"},
		{"x: .secrets.key", "Host: .secrets.key", "Host: it says how the request is carried"},
		{"x: .secrets.key", "\\\"content-length\\\": .secrets.key", "content-length: it says how"},
		{"sig: .signature", "\\\"transfer-encoding\\\": .signature", "transfer-encoding: it says how"},
		// Keys of the file.
		{"takes: {kinds: [otp]}", "takes: {kind: [otp]}", "kind"},
		{"per_second: 5", "per_secnd: 5", "per_secnd"},
		{"reference_bits: 8", "bits: 8", "bits"},
		{"ask_after: 1m", "ask_aftr: 1m", "ask_aftr"},
		{"form: \"{u", "from: \"{u", "from"},
		{"hmac_sha256: key, over", "hmac_sha265: key, over", "hmac_sha265"},
		{"{when: .raw == \"\", limited", "{when: .raw == \"\", limitd", "limitd"},
		{"answer: {status: 200}", "answer: {stats: 200}", "stats"},
		{"cause: absent", "cuase: absent", "cuase"},
		{"- reply: {status: 200, body", "- reply: {stat: 200, body", "stat"},
		{"  gives:", "  give:", "give"},
	} {
		source := strings.Replace(wholeFile, tt.old, tt.new, 1)
		if source == wholeFile {
			t.Fatalf("%q does not stand in the file", tt.old)
		}
		_, err := Load("q", []byte(source))
		if err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s in place of %s: got %v, want %q", tt.new, tt.old, err, tt.want)
		}
	}
}

// Any web server's answer is no proof, and a file that takes it for one is warned
// about.
func TestABareAnswerIsWarnedAbout(t *testing.T) {
	t.Parallel()
	for when, warned := range map[string]bool{
		"404 |.status == 404": true,
		`404 |.status == 404 and .body.error? == "no such message"`:         false,
		`404 |.status == 404 or .body.error? == "no such message"`:          true,
		`404 |.status == 404 and (.body | type) == "object"`:                true, // what stands before a server answers so, too
		`404 |.status >= 400 and .status < 500`:                             true,
		`200 |.body.state? == "unknown"`:                                    false,
		`200 |.status == 200 and (.body.state? == "sent" | not)`:            true,
		`404 |.status == 404 and .headers["x-gateway"] == "quay"`:           false,
		`404 |.status == 404 and (.raw | test("(?i)not found"))`:            true,
		`404 |.status == 404 and (.raw | test("message [0-9]+ not found"))`: false,
	} {
		_, condition, _ := strings.Cut(when, "|")
		source := strings.Replace(wholeFile, "  - {when: .status == 200, read: \"{gateway_ref: .body.id, code: .body.st}\"}\nstatement",
			"  - when: '"+condition+"'\n    absent: true\nstatement", 1)
		d, err := Load("q", []byte(source))
		if err != nil {
			t.Fatal(err)
		}
		if got := len(d.Warnings()) > 0; got != warned {
			t.Errorf("%s: warned %v, want %v: %v", condition, got, warned, d.Warnings())
		}
	}
}
