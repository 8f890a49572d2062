// Package dialect reads dialect files and speaks as they say.
//
// A dialect file is YAML. It describes how one kind of gateway is spoken to:
// how a text is submitted, and how replies, receipts and the answers to status
// queries are read. Whatever a gateway sends becomes one JSON value, and every
// expression that builds a request or reads an answer is written in jq. No
// gateway needs code.
//
// A submission's expression sees the message:
//
//	{id, to, sender, text, kind, encoding, segments, receipt_url, valid_for}
//
// where id is our reference and valid_for is in seconds. The expressions of a
// reply see {status, headers, body, raw}; those of a receipt {method, query,
// headers, body, raw}. Header names are in small letters. A body of JSON or
// of a form is an object, any other a string.
//
// What is read is an object, or several, with any of
//
//	{reference, gateway_ref, state, cause, code, note, segments, part, parts, at}
//
// A code is looked up in the file's table of codes; a state that is given
// outright wins over it.
package dialect

import (
	"fmt"
	"time"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/smstext"
)

// Dialect is a checked dialect file. It is safe for concurrent use.
type Dialect struct {
	Name      string          `yaml:"dialect"`
	About     string          `yaml:"about"`
	Secrets   []string        `yaml:"secrets"`
	Number    NumberForm      `yaml:"number"`
	Reference Reference       `yaml:"reference"`
	Limits    Limits          `yaml:"limits"`
	Segments  Segments        `yaml:"segments"`
	Timeout   Duration        `yaml:"timeout"`
	Silence   Silence         `yaml:"silence"`
	Submit    Call            `yaml:"submit"`
	Receipt   *ReceiptRule    `yaml:"receipt"`
	Query     *Call           `yaml:"query"`
	Codes     map[string]Code `yaml:"codes"`
	Examples  []Example       `yaml:"examples"`
}

// NumberForm is how a gateway wants numbers written.
type NumberForm string

// The forms of +447700900123.
const (
	E164   NumberForm = "e164"   // +447700900123
	Digits NumberForm = "digits" // 447700900123
	Zeros  NumberForm = "00"     // 00447700900123
)

// Reference is what a gateway makes of the reference we send along.
type Reference string

// What a gateway does with our reference.
const (
	Honoured Reference = "honoured" // the same reference twice is one message
	Carried  Reference = "carried"  // it comes back in receipts, nothing more
	NoRef    Reference = "none"     // there is no place for it
)

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
	InFlight  int `yaml:"in_flight"`
}

// Silence is what to do when nothing is heard of a message.
type Silence struct {
	// AskAfter is the wait before the first status query; later ones back off.
	AskAfter Duration `yaml:"ask_after"`
	// GiveUpAfter is the time after submission in which anyone might tell us.
	GiveUpAfter Duration `yaml:"give_up_after"`
}

// Call is a request and how its replies are read: the first rule that holds.
type Call struct {
	Request RequestRule `yaml:"request"`
	Reply   []ReplyRule `yaml:"reply"`
}

// RequestRule describes an HTTP request. Exactly one of Get and Post is set.
type RequestRule struct {
	Get    string `yaml:"get"`
	Post   string `yaml:"post"`
	Bearer string `yaml:"bearer"` // the secret that is sent as bearer token (RFC 6750)
	JSON   Expr   `yaml:"json"`
}

// ReplyRule is what a reply means when a condition holds. Exactly one of Read,
// Limited, Refused and Absent is set.
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
}

// ReceiptRule is how pushed receipts are proved, read and answered.
type ReceiptRule struct {
	Genuine *Genuine `yaml:"genuine"`
	Read    Expr     `yaml:"read"`
	Answer  Answer   `yaml:"answer"`
}

// Genuine is how a receipt is proved to come from the gateway, besides the
// secret in the address it is sent to: an HMAC in hexadecimal over the body.
type Genuine struct {
	HMACSHA256 string `yaml:"hmac_sha256"` // the secret that keys it
	Header     string `yaml:"header"`
}

// Answer is what a gateway wants to hear when it pushes a receipt.
type Answer struct {
	Status int    `yaml:"status"`
	Body   string `yaml:"body"`
}

// Code is what a gateway's code means: a state's word alone, or a state with a
// cause.
type Code struct {
	State delivery.State `yaml:"state"`
	Cause delivery.Cause `yaml:"cause"`
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
	span, err := time.ParseDuration(word)
	if err != nil || span <= 0 {
		return fmt.Errorf("%q is not a time span; accepted is a number and a unit, such as 10s, 5m or 48h", word)
	}
	*d = Duration(span)
	return nil
}

// Example is a recorded answer and what must be read from it.
type Example struct {
	Reply   *ExampleReply  `yaml:"reply"`
	Answer  *ExampleReply  `yaml:"answer"` // of a query
	Receipt *ExampleReply  `yaml:"receipt"`
	Gives   map[string]any `yaml:"gives"`
}

// ExampleReply is a recorded reply, answer or receipt.
type ExampleReply struct {
	Status  int               `yaml:"status"`
	Headers map[string]string `yaml:"headers"`
	Body    any               `yaml:"body"`
}

// HonoursReference reports whether the same submission may be made again in
// doubt, because the gateway takes the same reference twice for one message.
func (d *Dialect) HonoursReference() bool { return d.Reference == Honoured }
