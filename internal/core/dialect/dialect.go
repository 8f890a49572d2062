// Package dialect reads dialect files and speaks as they say.
//
// A dialect file is YAML. It describes how one kind of gateway is spoken to:
// how texts are submitted, how replies, receipts, inbound messages and
// statements are read, how the gateway is asked about messages and about its
// balance. Whatever a gateway sends becomes one JSON value, and every
// expression that builds a request or reads an answer is written in jq. No
// gateway needs code.
//
// # What expressions see
//
// A request's expressions see the message that it carries:
//
//	{id, to, sender, text, text_hex, kind, encoding, segments, flash,
//	 receipt_url, valid_for, country, national, template, registration,
//	 fields, gateway_ref, secrets, time}
//
// id is our reference, to the number as the file's number says, text_hex the
// text as UTF-16BE in hexadecimal, valid_for is in seconds, national the number
// as it is dialled within its country, time in seconds since 1970. Of a request
// that carries several messages these are the first one's (valid_for is the
// shortest), and messages is the list of all. A sender that is a number is
// written as the file's number says, too.
//
// Those of a reply see {status, headers, body, raw}; those of a receipt or an
// inbound message {method, query, headers, body, raw}; those of a statement
// one line of it, an object of its columns. Header names are in small letters.
// A body of JSON, of XML or of a form is a value of its own, any other a
// string; see [bodyValue].
//
// # What is read
//
// An object, or several, one for each message that is spoken of, with any of
//
//	{reference, gateway_ref, to, index, state, cause, code, note, segments,
//	 part, parts, charge, at, text, not_taken, absent}
//
// A message is told by our reference, the gateway's own id, its number, or its
// place in the request, counted from 0. A code is looked up in the file's table
// of codes; a state that is given outright wins over it.
package dialect

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/jq"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/smstext"
	"calmpigeon.example/internal/core/span"
)

// Dialect is a checked dialect file. It is safe for concurrent use.
type Dialect struct {
	Name      string          `yaml:"dialect"`
	About     string          `yaml:"about"`
	Secrets   []string        `yaml:"secrets"`
	Number    NumberForm      `yaml:"number"`
	Reference Reference       `yaml:"reference"`
	Takes     Takes           `yaml:"takes"`
	Limits    Limits          `yaml:"limits"`
	Segments  Segments        `yaml:"segments"`
	Timeout   Duration        `yaml:"timeout"`
	Silence   Silence         `yaml:"silence"`
	Token     *Call           `yaml:"token"`
	Submit    Call            `yaml:"submit"`
	Receipt   *PushRule       `yaml:"receipt"`
	Inbound   *PushRule       `yaml:"inbound"`
	Query     *Call           `yaml:"query"`
	Balance   *Call           `yaml:"balance"`
	Statement *StatementRule  `yaml:"statement"`
	Codes     map[string]Code `yaml:"codes"`
	Examples  []Example       `yaml:"examples"`

	uses  uses
	meter *jq.Meter // of whoever tries it out; nil: each reading has its own
}

// uses is what the expressions of a file ask for, worked out once when it is
// loaded: some of it costs something to make.
type uses struct {
	hex      bool // text_hex, in a submission
	national bool // national, in a submission or query
	ref      bool // gateway_ref, in a query
	ours     bool // what only we know of a message, in a query
}

// NumberForm is how a gateway wants numbers written.
type NumberForm string

// The forms of +447700900123.
const (
	E164     NumberForm = "e164"     // +447700900123
	Digits   NumberForm = "digits"   // 447700900123
	Zeros    NumberForm = "00"       // 00447700900123
	National NumberForm = "national" // 07700900123
	TelURI   NumberForm = "tel"      // tel:+447700900123 (RFC 3966)
)

var numberForms = []NumberForm{E164, Digits, Zeros, National, TelURI}

// Reference is what a gateway makes of the reference we send along.
type Reference string

// What a gateway does with our reference.
const (
	Honoured Reference = "honoured" // the same reference twice is one message
	Carried  Reference = "carried"  // it comes back in receipts, nothing more
	NoRef    Reference = "none"     // there is no place for it
)

// Takes is what a gateway takes; what is left out is not limited.
type Takes struct {
	Kinds     []pace.Kind `yaml:"kinds"`
	Countries []string    `yaml:"countries"`
	// Senders: any, or leased from the gateway and listed when it is added.
	Senders string `yaml:"senders"`
	// Texts: any, or only those of templates registered with the gateway.
	Texts string `yaml:"texts"`
	// Flash: whether texts that are shown at once and not kept can be sent
	// (TS 23.038 §4, class 0).
	Flash bool `yaml:"flash"`
	// Voice: what it takes is spoken in a call. It is taken for nothing that does not ask for it, unless there is no
	// other.
	Voice bool `yaml:"voice"`
}

// What a gateway takes of senders and texts.
const (
	Any        = "any"
	Leased     = "leased"
	Registered = "registered"
)

// Case is a message that a gateway is asked to take.
type Case struct {
	Kind       pace.Kind
	Country    string
	Sender     string
	Registered bool // its text comes of a template that is registered with the gateway
	Flash      bool
}

// Refuses says why a message cannot be taken; empty if it can. Whether a sender
// is leased is not known here.
func (t Takes) Refuses(c Case) string {
	switch {
	case len(t.Kinds) > 0 && !slices.Contains(t.Kinds, c.Kind):
		return fmt.Sprintf("it takes no %s messages", c.Kind)
	case len(t.Countries) > 0 && c.Country != "" && !slices.Contains(t.Countries, c.Country):
		return fmt.Sprintf("it does not reach %s, only %s", c.Country, strings.Join(t.Countries, ", "))
	case t.Texts == Registered && !c.Registered:
		return "it takes only texts of templates that are registered with it"
	case c.Flash && !t.Flash:
		return "it cannot send texts that are only flashed on the screen"
	}
	return ""
}

// Segments is how a gateway cuts long texts. The zero value is what nearly all
// do: a reference of 8 bits and the default alphabet.
type Segments struct {
	ReferenceBits int                `yaml:"reference_bits"` // 8 or 16
	ShiftTables   []smstext.Language `yaml:"shift_tables"`   // that it accepts
}

// Options are how texts are weighed for the gateway.
func (s Segments) Options() smstext.Options {
	return smstext.Options{WideReference: s.ReferenceBits == 16, Languages: s.ShiftTables}
}

// Limits are what a gateway allows.
type Limits struct {
	PerSecond int `yaml:"per_second"`
	PerMinute int `yaml:"per_minute"` // 0: not limited
	PerDay    int `yaml:"per_day"`    // in any 24 hours; 0: not limited
	InFlight  int `yaml:"in_flight"`  // requests
	// Counting is what the limits count: messages or requests.
	Counting string `yaml:"counting"`
}

// What limits can count.
const (
	Messages = "messages"
	Requests = "requests"
)

// Silence is what to do when nothing is heard of a message.
type Silence struct {
	// AskAfter is the wait before the first status query; later ones back off.
	AskAfter Duration `yaml:"ask_after"`
	// GiveUpAfter is the time after submission in which anyone might tell us.
	GiveUpAfter Duration `yaml:"give_up_after"`
}

// Call is a request and how its replies are read: the first rule that holds.
type Call struct {
	// Most is how many messages one request can carry or ask about.
	Most int `yaml:"most"`
	// Same names what all messages of a request must have in common.
	Same    []string    `yaml:"same"`
	Request RequestRule `yaml:"request"`
	Reply   []ReplyRule `yaml:"reply"`
}

// RequestRule describes an HTTP request. Exactly one of Get and Post is set,
// and at most one of Form, JSON, XML and Text.
type RequestRule struct {
	Get     Path    `yaml:"get"`
	Post    Path    `yaml:"post"`
	Query   Expr    `yaml:"query"`
	Headers Expr    `yaml:"headers"`
	Form    Expr    `yaml:"form"`
	JSON    Expr    `yaml:"json"`
	XML     Expr    `yaml:"xml"`
	Text    Expr    `yaml:"text"`
	Charset Charset `yaml:"charset"` // of query, form and text
	Bearer  string  `yaml:"bearer"`  // the secret that is sent as bearer token (RFC 6750)
	Basic   *Basic  `yaml:"basic"`
	Sign    *Sign   `yaml:"sign"`
}

// Charset is how characters are written in a query string, a form or a text.
type Charset string

// The charsets.
const (
	UTF8   Charset = "utf-8"
	Latin1 Charset = "latin-1"
)

// Basic names the secrets of Basic authorization (RFC 7617).
type Basic struct {
	User     string `yaml:"user"`
	Password string `yaml:"password"`
}

// Sign is an HMAC with SHA-256 over a described string. Over sees {method,
// path, query, body, body_sha256, time, secrets} besides what all expressions
// see; the path is the whole one, with that of the gateway's address. What Headers and Query add to the request
// sees signature besides.
type Sign struct {
	HMACSHA256 string `yaml:"hmac_sha256"` // the secret that keys it
	Over       Expr   `yaml:"over"`
	As         string `yaml:"as"` // hex or base64
	Headers    Expr   `yaml:"headers"`
	Query      Expr   `yaml:"query"`
}

// ReplyRule is what a reply means when a condition holds. Exactly one of Read,
// Limited, Refused, Absent and Token is set; Balance may be set besides, or
// alone.
type ReplyRule struct {
	When Expr `yaml:"when"`
	// Read yields one item for each message.
	Read Expr `yaml:"read"`
	// Limited: not taken, try again after so many seconds, at an HTTP date, or
	// when it seems right if it yields null.
	Limited Expr `yaml:"limited"`
	// Refused: the request as a whole was not taken, for a cause.
	Refused delivery.Cause `yaml:"refused"`
	// Absent: the gateway knows no such message.
	Absent bool `yaml:"absent"`
	// Token yields {token, expires_in}, the latter in seconds.
	Token Expr `yaml:"token"`
	// Balance yields what is left: a number, or {amount, currency}.
	Balance Expr `yaml:"balance"`
}

// PushRule is how what a gateway pushes is proved, read and answered: receipts
// or inbound messages.
type PushRule struct {
	Genuine *Genuine `yaml:"genuine"`
	// When tells those apart that come to the same address; all if not set.
	When   Expr   `yaml:"when"`
	Read   Expr   `yaml:"read"`
	Answer Answer `yaml:"answer"`
}

// Genuine is how what is pushed is proved to come from the gateway, besides the
// secret in the address it is sent to. Each proof that is given must hold.
type Genuine struct {
	HMACSHA256 string `yaml:"hmac_sha256"` // the secret that keys a signature with SHA-256
	Header     string `yaml:"header"`      // that bears it
	Over       Expr   `yaml:"over"`        // what is signed; the body if not set
	As         string `yaml:"as"`          // hex or base64
	Basic      *Basic `yaml:"basic"`
	// Same yields two strings that must be equal, such as a field and a secret.
	Same Expr `yaml:"same"`
}

// Answer is what a gateway wants to hear when it pushes something.
type Answer struct {
	Status int    `yaml:"status"`
	Type   string `yaml:"type"`
	Body   string `yaml:"body"`
}

// StatementRule is how a gateway's own list of what it carried is read, a line
// at a time.
type StatementRule struct {
	// Request fetches it; it sees {from, until} (RFC 3339), secrets and time.
	Request *RequestRule `yaml:"request"`
	// Separator stands between the columns.
	Separator string `yaml:"separator"`
	Read      Expr   `yaml:"read"`
}

// Code is what a gateway's code means: a state's word alone, a state with a
// cause, or that the message was not taken.
type Code struct {
	State    delivery.State `yaml:"state"`
	Cause    delivery.Cause `yaml:"cause"`
	NotTaken delivery.Cause `yaml:"not_taken"`
}

// UnmarshalYAML takes a bare word for the state.
func (c *Code) UnmarshalYAML(unmarshal func(any) error) error {
	var word string
	if err := unmarshal(&word); err == nil {
		c.State = delivery.State(word)
		return nil
	}
	type plain Code
	return unmarshal((*plain)(c))
}

// Duration is a time span written as Go does: 10s, 48h.
type Duration time.Duration

// UnmarshalYAML reads the written span.
func (d *Duration) UnmarshalYAML(unmarshal func(any) error) error {
	var word string
	if err := unmarshal(&word); err != nil {
		return err
	}
	long, err := span.Parse(word)
	if err != nil {
		return fmt.Errorf("%q is not a time span; accepted is %s", word, span.Accepted)
	}
	*d = Duration(long)
	return nil
}

// Example is something recorded and what must be read from it: exactly one of
// its fields besides Gives is set.
type Example struct {
	Reply     *Recorded `yaml:"reply"`
	Answer    *Recorded `yaml:"answer"` // of a query
	Receipt   *Recorded `yaml:"receipt"`
	Inbound   *Recorded `yaml:"inbound"`
	Token     *Recorded `yaml:"token"`
	Balance   *Recorded `yaml:"balance"`
	Statement *Recorded `yaml:"statement"`
	// Gives is one object, or a list of them where several are read.
	Gives any `yaml:"gives"`
}

// Recorded is a recorded reply or push.
type Recorded struct {
	Status  int               `yaml:"status"`
	Method  string            `yaml:"method"`
	Query   string            `yaml:"query"`
	Headers map[string]string `yaml:"headers"`
	Body    any               `yaml:"body"`
}

// HonoursReference reports whether the same submission may be made again in
// doubt, because the gateway takes the same reference twice for one message.
func (d *Dialect) HonoursReference() bool { return d.Reference == Honoured }
