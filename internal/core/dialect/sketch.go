package dialect

import (
	"fmt"
	"slices"
	"strings"
	"text/template"
)

// Sketch is what has to be known of a gateway to write the first version of its
// file.
type Sketch struct {
	Name        string
	Body        string // json, form, query or xml
	Credentials string // bearer, basic, header, fields, oauth, hmac or none
	Number      string // a form of numbers
	Recipients  string // one, list or array
	Receipts    string // json, form, query, xml or none
	Asked       string // yes or no: whether it can be asked what became of a message
}

// Question is one thing to be known for a sketch.
type Question struct {
	Field   string // of the sketch, in small letters
	Ask     string
	Accepts []string // the first is the default; none: anything
	To      func(*Sketch) *string
}

// Questions are all that are asked, in order.
var Questions = []Question{
	{"name", "What shall the dialect be called? (small letters, digits, hyphens)", nil, func(s *Sketch) *string { return &s.Name }},
	{"body", "How does the gateway take a text?", []string{"json", "form", "query", "xml"}, func(s *Sketch) *string { return &s.Body }},
	{
		"credentials",
		"How does it know you?",
		[]string{"bearer", "basic", "header", "fields", "oauth", "hmac", "none"},
		func(s *Sketch) *string { return &s.Credentials },
	},
	{
		"number",
		"How does it want numbers? (e164 is +447700900123, digits 447700900123, 00 00447700900123, national 07700900123, tel " +
			"tel:+447700900123)",
		[]string{"e164", "digits", "00", "national", "tel"},
		func(s *Sketch) *string { return &s.Number },
	},
	{
		"recipients",
		"How many go in one request? (list: one text to many, array: many texts)",
		[]string{"one", "list", "array"},
		func(s *Sketch) *string { return &s.Recipients },
	},
	{
		"receipts",
		"How does it report what became of a text?",
		[]string{"json", "form", "query", "xml", "none"},
		func(s *Sketch) *string { return &s.Receipts },
	},
	{"asked", "Can it be asked what became of a text?", []string{"yes", "no"}, func(s *Sketch) *string { return &s.Asked }},
}

// Check names the first answer that is none of the accepted.
func (s Sketch) Check() error {
	for _, q := range Questions {
		given := *q.To(&s)
		if q.Accepts != nil && !slices.Contains(q.Accepts, given) {
			return fmt.Errorf("%s %q: accepted are %s", q.Field, given, strings.Join(q.Accepts, ", "))
		}
	}
	if s.Name == "" || strings.Trim(s.Name, "abcdefghijklmnopqrstuvwxyz0123456789-") != "" {
		return fmt.Errorf("name %q: accepted are small letters, digits and hyphens", s.Name)
	}
	return nil
}

// Source writes the first version of a dialect file, with comments at what is to
// be filled in. It is well-formed as it stands.
func (s Sketch) Source() (string, error) {
	if err := s.Check(); err != nil {
		return "", err
	}
	var out strings.Builder
	err := sketch.Execute(&out, s)
	return out.String(), err
}

// Many reports whether a request carries several messages.
func (s Sketch) Many() bool { return s.Recipients != "one" }

// Fields are what stands in a submission.
func (s Sketch) Fields() string {
	fields := "from: .sender, to, text: .text, ref: .id, report: .receipt_url"
	switch s.Recipients {
	case "list":
		fields = `from: .sender, to: ([.messages[].to] | join(",")), text: .text, report: .receipt_url`
	case "array":
		fields = "from: .sender, to, text: .text, ref: .id, report: .receipt_url"
	}
	if s.Credentials == "fields" && s.Recipients != "array" {
		fields = "user: .secrets.user, password: .secrets.password, " + fields
	}
	switch {
	case s.Recipients == "array" && s.Body == "json":
		return "[.messages[] | {" + fields + "}]"
	case s.Recipients == "array" && s.Body == "xml":
		return "{messages: {message: [.messages[] | {" + fields + "}]}}"
	case s.Recipients == "array":
		return "{batch: ([.messages[] | {" + fields + "}] | tojson)}"
	case s.Body == "xml":
		return "{message: {" + fields + "}}"
	}
	return "{" + fields + "}"
}

var sketch = template.Must(template.New("dialect").Parse(`# {{.Name}}: a first version. Fill in what the gateway's manual says, then
#   pigeon dialect check {{.Name}}.yaml     plays the examples at the end
#   pigeon dialect try {{.Name}}.yaml …     makes one real request and shows it
# Every expression is jq. pigeon dialect show lists files to copy from.
dialect: {{.Name}}
about: What kind of gateway this is, in one line.

# Named here, given when the gateway is added, never shown again.
secrets: [{{if eq .Credentials "bearer" "header"}}api_key{{else if eq .Credentials "basic" "fields"}}user, password{{else if eq .Credentials "oauth"}}client_id, client_secret{{else if eq .Credentials "hmac"}}key_id, signing_key{{end}}]

number: "{{.Number}}"
reference: none         # honoured: the same reference twice is one message; carried: it comes back
limits: {per_second: 10, in_flight: 4}
timeout: 10s
silence: {ask_after: 1m, give_up_after: 48h}
{{if eq .Credentials "oauth"}}
token:
  request:
    post: /oauth/token
    basic: {user: client_id, password: client_secret}
    form: '{grant_type: "client_credentials"}'
  reply:
    - when: .status == 200
      token: "{token: .body.access_token, expires_in: .body.expires_in}"
    - when: .status == 400 or .status == 401
      refused: credentials_refused
{{end}}
submit:
{{- if .Many}}
  most: 100             # messages a request
{{- end}}
{{- if eq .Recipients "list"}}
  same: [text, sender]  # what they have in common
{{- end}}
  request:
    {{if eq .Body "query"}}get{{else}}post{{end}}: /messages        # the path below the gateway's address
{{- template "credentials" .}}
    {{.Body}}: >-
      {{.Fields}}
  reply: # the first rule that holds
    - when: .status == 200
{{- if .Many}}
      # One item for each message, told by reference, to or index.
      read: ".body.messages[] | {to: .to, gateway_ref: .id, code: .status}"
{{- else}}
      read: "{gateway_ref: .body.id, state: \"accepted\"}"
{{- end}}
    - when: .status == 401 or .status == 403
      refused: credentials_refused
    - when: .status == 402
      refused: no_credit
    - when: .status == 429
      limited: .headers["retry-after"]
    - when: .status >= 400 and .status < 500
      read: "{state: \"rejected\", code: .body.code, note: .body.message}"
    # Anything else leaves the message in doubt. If the manual says that with some
    # answer nothing was taken, say so:
    # - when: .status == 503
    #   refused: gateway_fault
{{if ne .Receipts "none"}}
receipt:
  # genuine: {hmac_sha256: {{if eq .Credentials "hmac"}}signing_key{{else}}receipt_secret{{end}}, header: x-signature}
{{- if eq .Receipts "query"}}
  read: "{gateway_ref: .query.id, code: .query.status}"
{{- else if eq .Receipts "xml"}}
  read: "[.body.receipts.receipt] | flatten[] | {gateway_ref: .id, code: .status}"
{{- else}}
  read: "{gateway_ref: .body.id, code: .body.status}"
{{- end}}
  answer: {status: 200}
{{end}}
{{- if eq .Asked "yes"}}
query:
  request:
    get: /messages/{gateway_ref}
{{- template "credentials" .}}
{{- if eq .Credentials "fields"}}
    query: "{user: .secrets.user, password: .secrets.password}"
{{- end}}
  reply:
    - when: .status == 200
      read: "{gateway_ref: .body.id, code: .body.status}"
    # The gateway knows no such message. Say it with words of its own from the
    # body: a bare 404 comes from any web server, and proves nothing.
    - when: .status == 404 and .body.error? == "no such message"
      absent: true
{{end}}
# The gateway's codes, and what they mean.
codes:
  OK: accepted
  DELIVRD: delivered
  UNDELIV: {state: undeliverable, cause: absent}
  REJECTD: {state: rejected, cause: unspecified}

# Recorded answers and what must be read from them: paste here what the gateway
# really says.
examples:
{{- if .Many}}
  - reply: {status: 200, body: {messages: [{to: "447700900123", id: g-1, status: OK}]}}
    gives: {to: "447700900123", gateway_ref: g-1, state: accepted, code: OK}
{{- else}}
  - reply: {status: 200, body: {id: g-1}}
    gives: {gateway_ref: g-1, state: accepted}
{{- end}}
  - reply: {status: 429, headers: {Retry-After: "2"}, body: {}}
    gives: {not_taken: limited, retry_after: 2}
  - reply: {status: 502, body: "<html>Bad gateway</html>"}
    gives: {unreadable: true}
{{- define "credentials"}}
{{- if eq .Credentials "bearer"}}
    bearer: api_key
{{- else if eq .Credentials "basic"}}
    basic: {user: user, password: password}
{{- else if eq .Credentials "header"}}
    headers: '{"X-Api-Key": .secrets.api_key}'
{{- else if eq .Credentials "oauth"}}
    bearer: token
{{- else if eq .Credentials "hmac"}}
    sign:
      hmac_sha256: signing_key
      over: "[.method, .path, (.time | tostring), .body] | join(\"\\n\")"
      as: hex
      headers: '{"X-Key": .secrets.key_id, "X-Time": .time, "X-Signature": .signature}'
{{- end}}
{{- end}}
`))
