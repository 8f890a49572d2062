package client

import (
	"fmt"
	"strings"
	"time"
)

// Draft is a message to be sent. Only To and Text are needed.
type Draft struct {
	To        string `json:"to"`
	Text      string `json:"text"`
	Sender    string `json:"sender,omitempty"`
	Kind      string `json:"kind,omitempty"` // otp, transactional or bulk
	Reference string `json:"reference,omitempty"`
	Gateway   string `json:"gateway,omitempty"`
	ValidFor  *int   `json:"valid_for,omitempty"` // seconds in which the text is of use
}

// Message is a message and what became of it.
type Message struct {
	ID         string     `json:"id"`
	To         string     `json:"to"`
	Sender     string     `json:"sender"`
	Kind       string     `json:"kind"`
	Text       string     `json:"text"`
	Reference  string     `json:"reference"`
	State      string     `json:"state"`
	Final      bool       `json:"final"`
	Cause      string     `json:"cause"`
	Advice     string     `json:"advice"`
	Rivals     []string   `json:"rivals"` // final states that contradict each other
	Encoding   string     `json:"encoding"`
	Units      int        `json:"units"`
	Segments   int        `json:"segments"`
	Gateway    string     `json:"gateway"`
	GatewayRef string     `json:"gateway_ref"`
	Attempts   int        `json:"attempts"`
	CreatedAt  time.Time  `json:"created_at"`
	ChangedAt  time.Time  `json:"changed_at"`
	ValidUntil time.Time  `json:"valid_until"`
	SettledAt  *time.Time `json:"settled_at"`
	Evidence   []Evidence `json:"evidence,omitempty"`
}

// Evidence is one recorded fact about a message.
type Evidence struct {
	ID         string     `json:"id"`
	At         time.Time  `json:"at"`
	Source     string     `json:"source"`
	Claim      string     `json:"claim"`
	Cause      string     `json:"cause"`
	StateAfter string     `json:"state_after"`
	Attempt    int        `json:"attempt"`
	Part       int        `json:"part"`
	Parts      int        `json:"parts"`
	Gateway    string     `json:"gateway"`
	GatewayRef string     `json:"gateway_ref"`
	Code       string     `json:"code"`
	Note       string     `json:"note"`
	GatewayAt  *time.Time `json:"gateway_at"`
	HasRaw     bool       `json:"has_raw"`
	Raw        *Exchange  `json:"raw,omitempty"`
}

// Exchange is a raw exchange behind a piece of evidence, secrets masked. Of a
// receipt there is only the request, which came from the gateway.
type Exchange struct {
	Purpose       string            `json:"purpose"`
	Method        string            `json:"method"`
	URL           string            `json:"url"`
	RequestHeader map[string]string `json:"request_header"`
	RequestBody   string            `json:"request_body"`
	Status        int               `json:"status"`
	ReplyHeader   map[string]string `json:"reply_header"`
	ReplyBody     string            `json:"reply_body"`
	Error         string            `json:"error"`
	StartedAt     time.Time         `json:"started_at"`
	TookMs        float64           `json:"took_ms"`
}

// Page is a part of a list of messages. Next is the cursor of the part that
// follows, empty on the last.
type Page struct {
	Messages []Message `json:"messages"`
	Next     string    `json:"next"`
}

// Tally is the account of a set of messages.
type Tally struct {
	Total     int64            `json:"total"`
	States    map[string]int64 `json:"states"` // every state, also those with none
	Contested int64            `json:"contested"`
	Equation  string           `json:"equation"`
}

// Gateway is a gateway in use. Its secrets are never shown.
type Gateway struct {
	ID          string    `json:"id"`
	Name        string    `json:"name"`
	Dialect     string    `json:"dialect"`
	About       string    `json:"about"`
	Address     string    `json:"address"`
	Secrets     []string  `json:"secrets"` // their names
	PerSecond   int       `json:"per_second"`
	InFlight    int       `json:"in_flight"`
	AskAfter    string    `json:"ask_after"`
	GiveUpAfter string    `json:"give_up_after"`
	Timeout     string    `json:"timeout"`
	Reference   string    `json:"reference"`
	CreatedAt   time.Time `json:"created_at"`
}

// NewGateway is a gateway to be added: Dialect names one that ships, or
// Source is a dialect file. What is left empty is the dialect's own.
type NewGateway struct {
	Name        string            `json:"name,omitempty"`
	Dialect     string            `json:"dialect,omitempty"`
	Source      string            `json:"source,omitempty"`
	Address     string            `json:"address"`
	Secrets     map[string]string `json:"secrets,omitempty"`
	PerSecond   int               `json:"per_second,omitempty"`
	InFlight    int               `json:"in_flight,omitempty"`
	AskAfter    string            `json:"ask_after,omitempty"`
	GiveUpAfter string            `json:"give_up_after,omitempty"`
	Timeout     string            `json:"timeout,omitempty"`
}

// Sender is a sender in use.
type Sender struct {
	Sender    string    `json:"sender"`
	Kind      string    `json:"kind"`
	Default   bool      `json:"default"`
	CreatedAt time.Time `json:"created_at"`
}

// NewSender is a sender to be registered.
type NewSender struct {
	Sender  string `json:"sender"`
	Default bool   `json:"default,omitempty"`
}

// Key is an API key. Key is the key itself, there only when it has just been
// made.
type Key struct {
	ID         string     `json:"id"`
	Name       string     `json:"name"`
	Handle     string     `json:"handle"`
	Key        string     `json:"key,omitempty"`
	CreatedAt  time.Time  `json:"created_at"`
	LastUsedAt *time.Time `json:"last_used_at"`
	RevokedAt  *time.Time `json:"revoked_at"`
}

// NewKey asks for a key.
type NewKey struct {
	Name string `json:"name"`
}

// List is a list that comes whole.
type List[T any] struct {
	Items []T `json:"items"`
}

// Login signs the console in.
type Login struct {
	Key string `json:"key"`
}

// Session is who is signed in, and what the console needs to know.
type Session struct {
	KeyName  string `json:"key_name"`
	PhoneURL string `json:"phone_url"` // of the practice phone, if there is one
}

// Problem is what the service says when it refuses a request (RFC 9457).
type Problem struct {
	Type   string       `json:"type"`
	Title  string       `json:"title"`
	Status int          `json:"status"`
	Detail string       `json:"detail,omitempty"`
	Errors []FieldError `json:"errors,omitempty"`
}

// FieldError is what is wrong with one field.
type FieldError struct {
	Field    string `json:"field"`
	Wrong    string `json:"wrong"`
	Accepted string `json:"accepted"`
}

func (p *Problem) Error() string {
	var text strings.Builder
	text.WriteString(p.Title)
	if p.Detail != "" {
		text.WriteString(": " + p.Detail)
	}
	for _, e := range p.Errors {
		fmt.Fprintf(&text, "\n  %s: %s\n    accepted: %s", e.Field, e.Wrong, e.Accepted)
	}
	return text.String()
}
