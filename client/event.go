package client

import (
	"context"
	"encoding/json"
	"net/url"
	"time"
)

// Event is something that happened, and who was told of it.
type Event struct {
	ID       string    `json:"id"`
	Type     string    `json:"type"` // message.delivered
	At       time.Time `json:"at"`
	Subject  string    `json:"subject"` // the id of what it is about: a message, a batch, an inbound message
	Tellings []Telling `json:"tellings"`
	// Body is what is told, as it is told. Its data is a [MessageEvent] where the type begins with message.
	Body json.RawMessage `json:"body"`
}

// Told is the body of an event.
type Told struct {
	Type      string          `json:"type"`
	Timestamp time.Time       `json:"timestamp"`
	Data      json.RawMessage `json:"data"`
}

// MessageEvent is what is told of a message: what never changes of it, and where it stood when the event happened. What
// it says is not told.
type MessageEvent struct {
	ID         string            `json:"id"`
	To         string            `json:"to"`
	Sender     string            `json:"sender"`
	Kind       string            `json:"kind"`
	Reference  string            `json:"reference"`
	Labels     map[string]string `json:"labels"`
	Batch      string            `json:"batch"`
	Row        int               `json:"row"`
	Country    string            `json:"country"`
	Template   string            `json:"template"`
	Segments   int               `json:"segments"`
	CreatedAt  time.Time         `json:"created_at"`
	State      string            `json:"state"`
	Final      bool              `json:"final"`
	Cause      string            `json:"cause"`
	Advice     string            `json:"advice"`
	Contested  []string          `json:"contested"`
	Weak       bool              `json:"weak"`
	Gateway    string            `json:"gateway"`
	GatewayRef string            `json:"gateway_ref"`
	Attempts   int               `json:"attempts"`
	Price      *Money            `json:"price"`
	ChangedAt  time.Time         `json:"changed_at"`
}

// Telling is that a receiver is told of an event.
type Telling struct {
	Receiver string     `json:"receiver"`
	Outcome  string     `json:"outcome"` // waiting, told or parked
	Tries    int        `json:"tries"`
	At       *time.Time `json:"at"`     // of the last try
	Status   int        `json:"status"` // of its answer; 0: there was none
	TookMs   float64    `json:"took_ms"`
	Error    string     `json:"error"`
	Answer   string     `json:"answer"` // how it began, where it was none that takes an event
	DueAt    *time.Time `json:"due_at"` // it is told then; nil: no more
}

// EventFilter chooses events. Zero fields choose all.
type EventFilter struct {
	Receiver     string // that was told, or is to be
	Outcome      string
	Types        []string // also message.*
	Message      string   // that they are about
	Since, Until time.Time
}

func (f EventFilter) query() map[string]string {
	q := map[string]string{"receiver": f.Receiver, "outcome": f.Outcome, "message": f.Message}
	for i, t := range f.Types {
		if i > 0 {
			q["type"] += ","
		}
		q["type"] += t
	}
	for name, at := range map[string]time.Time{"since": f.Since, "until": f.Until} {
		if !at.IsZero() {
			q[name] = at.Format(time.RFC3339Nano)
		}
	}
	return q
}

// Events lists events, the newest first.
func (c *Client) Events(ctx context.Context, f EventFilter, cursor string, limit int) (l List[Event], err error) {
	q := f.query()
	q["cursor"] = cursor
	return l, c.call(ctx, "GET", "/v1/events"+choose(url.Values{}, q, limit), nil, nil, &l)
}

// Event is one event.
func (c *Client) Event(ctx context.Context, id string) (e Event, err error) {
	return e, c.call(ctx, "GET", "/v1/events/"+url.PathEscape(id), nil, nil, &e)
}

// EventType is a type of events, and when one is told.
type EventType struct {
	Type string `json:"type"`
	When string `json:"when"`
}

// EventTypes lists what one can be told of.
func (c *Client) EventTypes(ctx context.Context) (l List[EventType], err error) {
	return l, c.call(ctx, "GET", "/v1/events/types", nil, nil, &l)
}

// Retelling is which events a receiver is to be told again, or for the first time: those with these ids, or of a choice.
type Retelling struct {
	Receiver string     `json:"receiver"`
	Events   []string   `json:"events,omitempty"`
	Outcome  string     `json:"outcome,omitempty"` // what became of telling it
	Types    []string   `json:"types,omitempty"`
	Message  string     `json:"message,omitempty"`
	Since    *time.Time `json:"since,omitempty"`
	Until    *time.Time `json:"until,omitempty"`
	DryRun   bool       `json:"dry_run,omitempty"`
}

// Retold is of how many it is told again.
type Retold struct {
	Events int `json:"events"`
}

// Retell lets a receiver be told again.
func (c *Client) Retell(ctx context.Context, r Retelling) (t Retold, err error) {
	return t, c.call(ctx, "POST", "/v1/events/resend", nil, r, &t)
}

// Receiver is an address that is told of events, or somebody who follows for a while.
type Receiver struct {
	ID        string            `json:"id"`
	Name      string            `json:"name"`
	Address   string            `json:"address"` // empty: somebody follows
	Types     []string          `json:"types"`   // none: all
	Kinds     []string          `json:"kinds"`   // of messages; none: all, and what is about none
	Labels    map[string]string `json:"labels"`  // that messages must have
	Reports   string            `json:"reports"` // whether messages may name addresses below its own: no, also, only
	Keys      []string          `json:"keys"`    // whose messages may; none: all
	AtOnce    int               `json:"at_once"` // requests in flight
	Timeout   Span              `json:"timeout"`
	CreatedAt time.Time         `json:"created_at"`
	State     string            `json:"state"` // working, failing, resting or paused
	Why       string            `json:"why"`
	Since     *time.Time        `json:"since"`
	Until     *time.Time        `json:"until"`   // it rests
	ToldAt    *time.Time        `json:"told_at"` // the last event that it took
	Waiting   int64             `json:"waiting"` // events, of which
	Late      int64             `json:"late"`    // were tried
	Parked    int64             `json:"parked"`
	// Signing is until when events are signed with each of its secrets, the newest first; null: until it is replaced.
	Signing []SigningUntil `json:"signing"`
	// Secret is what it is told once, when it is made.
	Secret string `json:"secret,omitempty"`
}

// SigningUntil is how long a secret is in use.
type SigningUntil struct {
	Until *time.Time `json:"until"`
}

// ReceiverSettings is what is set of a receiver. Of one that is added, what is nil is as usual; of one that is changed,
// it stays.
type ReceiverSettings struct {
	Name    string            `json:"name,omitempty"` // of one that is added
	Address *string           `json:"address,omitempty"`
	Secret  *string           `json:"secret,omitempty"` // of one that is added; one is made if there is none
	Types   *[]string         `json:"types,omitempty"`
	Kinds   *[]string         `json:"kinds,omitempty"`
	Labels  map[string]string `json:"labels,omitempty"`
	Reports *string           `json:"reports,omitempty"`
	Keys    *[]string         `json:"keys,omitempty"`
	AtOnce  *int              `json:"at_once,omitempty"`
	Timeout *Span             `json:"timeout,omitempty"`
}

func receiverPath(name, rest string) string { return "/v1/receivers/" + url.PathEscape(name) + rest }

// Receivers lists receivers.
func (c *Client) Receivers(ctx context.Context) (l List[Receiver], err error) {
	return l, c.call(ctx, "GET", "/v1/receivers", nil, nil, &l)
}

// Receiver is one receiver.
func (c *Client) Receiver(ctx context.Context, name string) (r Receiver, err error) {
	return r, c.call(ctx, "GET", receiverPath(name, ""), nil, nil, &r)
}

// AddReceiver adds a receiver. Its secret is in the answer, and told never again.
func (c *Client) AddReceiver(ctx context.Context, s ReceiverSettings) (r Receiver, err error) {
	return r, c.call(ctx, "POST", "/v1/receivers", nil, s, &r)
}

// ChangeReceiver changes what is set of a receiver.
func (c *Client) ChangeReceiver(ctx context.Context, name string, s ReceiverSettings) (r Receiver, err error) {
	return r, c.call(ctx, "PATCH", receiverPath(name, ""), nil, s, &r)
}

// RemoveReceiver removes a receiver, and what it was still to be told.
func (c *Client) RemoveReceiver(ctx context.Context, name string) error {
	return c.call(ctx, "DELETE", receiverPath(name, ""), nil, nil, nil)
}

// PauseReceiver lets a receiver be told of nothing until it is resumed.
func (c *Client) PauseReceiver(ctx context.Context, name, why string) (r Receiver, err error) {
	return r, c.call(ctx, "POST", receiverPath(name, "/pause"), nil, map[string]string{"why": why}, &r)
}

// ResumeReceiver ends a pause.
func (c *Client) ResumeReceiver(ctx context.Context, name string) (r Receiver, err error) {
	return r, c.call(ctx, "POST", receiverPath(name, "/resume"), nil, nil, &r)
}

// Rotation is how a secret is replaced.
type Rotation struct {
	Secret  string `json:"secret,omitempty"`  // one is made if there is none
	Overlap Span   `json:"overlap,omitempty"` // for how long events are signed with the one before, too
}

// RotateSecret gives a receiver a new secret, which is in the answer, and told never again.
func (c *Client) RotateSecret(ctx context.Context, name string, r Rotation) (one Receiver, err error) {
	return one, c.call(ctx, "POST", receiverPath(name, "/rotate"), nil, r, &one)
}

// EventTrial is what came of telling an address of nothing but that it is told.
type EventTrial struct {
	Taken    bool     `json:"taken"`
	Wrong    string   `json:"wrong"` // why it was not
	Exchange Exchange `json:"exchange"`
}

// TestReceiver tells a receiver of nothing but that it is told.
func (c *Client) TestReceiver(ctx context.Context, name string) (t EventTrial, err error) {
	return t, c.call(ctx, "POST", receiverPath(name, "/test"), nil, nil, &t)
}

// Following is what somebody follows.
type Following struct {
	Like   string            `json:"like,omitempty"` // a receiver whose choice and secrets are taken
	Secret *string           `json:"secret,omitempty"`
	Types  []string          `json:"types,omitempty"`
	Kinds  []string          `json:"kinds,omitempty"`
	Labels map[string]string `json:"labels,omitempty"`
}

// FollowEvents begins to follow. Nobody who does not fetch for a minute is followed any more.
func (c *Client) FollowEvents(ctx context.Context, f Following) (r Receiver, err error) {
	return r, c.call(ctx, "POST", "/v1/receivers/follow", nil, f, &r)
}

// SignedEvent is an event as it would be told, headers and all.
type SignedEvent struct {
	ID      string              `json:"id"`
	Seq     int64               `json:"seq"`
	Since   time.Time           `json:"since"` // it is to be told
	Type    string              `json:"type"`
	Subject string              `json:"subject"`
	Tries   int                 `json:"tries"`
	Header  map[string][]string `json:"header"`
	Body    string              `json:"body"`
}

// Delivered is what came of telling an event that was fetched.
type Delivered struct {
	ID     string    `json:"id"`
	Seq    int64     `json:"seq"`
	Since  time.Time `json:"since"` // as it was fetched
	Taken  bool      `json:"taken"`
	Tries  int       `json:"tries"`
	Status int       `json:"status,omitempty"`
	TookMs float64   `json:"took_ms,omitempty"`
	Error  string    `json:"error,omitempty"`
	Answer string    `json:"answer,omitempty"`
}

// FetchEvents says what came of those that were fetched before, and fetches the next, for which it waits a while if there
// are none.
func (c *Client) FetchEvents(ctx context.Context, name string, done []Delivered, wait Span) (l List[SignedEvent], err error) {
	if done == nil {
		done = []Delivered{}
	}
	return l, c.call(ctx, "POST", receiverPath(name, "/fetch"), nil, EventFetch{done, wait}, &l)
}

// EventFetch is what is said when events are fetched.
type EventFetch struct {
	Done []Delivered `json:"done"`
	Wait Span        `json:"wait,omitempty"`
}
