package client

import (
	"fmt"
	"strings"
	"time"
)

// Draft is a message to be sent. Only To and Text, or To and Template, are
// needed.
type Draft struct {
	To        string `json:"to"`
	Text      string `json:"text,omitempty"`
	Sender    string `json:"sender,omitempty"`
	Kind      string `json:"kind,omitempty"` // otp, transactional or bulk
	Reference string `json:"reference,omitempty"`
	Gateway   string `json:"gateway,omitempty"`
	ValidFor  Span   `json:"valid_for,omitempty"` // in which the text is of use; by its kind if empty
	// Country is where To is dialled if it has no country code, such as GB.
	Country string `json:"country,omitempty"`
	// Template takes the place of Text; Fields are what is put into it, and
	// Language whose text is taken, if not that of the country.
	Template string         `json:"template,omitempty"`
	Fields   map[string]any `json:"fields,omitempty"`
	Language string         `json:"language,omitempty"`
	// Cure is how far characters may be replaced to save segments: off, safe or
	// strong. The template's, else the key's, if it is empty.
	Cure string `json:"cure,omitempty"`
	// Flash shows the text at once and does not keep it, where the gateway can.
	Flash bool `json:"flash,omitempty"`
	// Long lets a text of ten segments and more be sent.
	Long bool `json:"long,omitempty"`
	// SendAt is when it is to go, as RFC 3339 has it; without a zone by the clock of whom it
	// is for: 2026-11-29T09:00. Until then it is held.
	SendAt string `json:"send_at,omitempty"`
	// Labels tell this application's messages from those of others: a few words such as
	// shop: eu, beside those of the key.
	Labels map[string]string `json:"labels,omitempty"`
	// AtAnyHour sends a bulk message in quiet hours, too.
	AtAnyHour bool `json:"at_any_hour,omitempty"`
	// ReportTo is where what becomes of it is told, below the address of a receiver of events.
	ReportTo string `json:"report_to,omitempty"`
	// DryRun makes every check and sends nothing; see [Client.Rehearse].
	DryRun bool `json:"dry_run,omitempty"`
}

// Message is a message and what became of it.
type Message struct {
	ID         string            `json:"id"`
	Again      bool              `json:"again,omitempty"` // it was handed over before, with the same Idempotency-Key
	To         string            `json:"to"`
	Sender     string            `json:"sender"`
	Kind       string            `json:"kind"`
	Text       string            `json:"text"`
	Reference  string            `json:"reference"`
	State      string            `json:"state"`
	Final      bool              `json:"final"`
	Cause      string            `json:"cause"`
	Advice     string            `json:"advice"`
	Rivals     []string          `json:"rivals"`  // final states that contradict each other
	Weak       bool              `json:"weak"`    // its state rests on what names no message and can only belong to this one
	Decided    bool              `json:"decided"` // its state is what a person decided
	Encoding   string            `json:"encoding"`
	Units      int               `json:"units"`
	Segments   int               `json:"segments"`
	Gateway    string            `json:"gateway"`
	GatewayRef string            `json:"gateway_ref"`
	Attempts   int               `json:"attempts"`
	Repeats    int               `json:"repeats"` // how often something was said again that is evidence already
	CreatedAt  time.Time         `json:"created_at"`
	ChangedAt  time.Time         `json:"changed_at"`
	ValidUntil time.Time         `json:"valid_until"`
	HeldUntil  *time.Time        `json:"held_until"` // nil: it does not wait for a time
	Batch      string            `json:"batch"`      // its id; empty if it is of none. Of one message only
	Row        int               `json:"row"`        // of its batch, 1 first; 0 if it is of none
	SettledAt  *time.Time        `json:"settled_at"`
	Country    string            `json:"country"`
	Template   string            `json:"template"`
	Labels     map[string]string `json:"labels"`
	ReportTo   string            `json:"report_to"` // where what becomes of it is told; empty: where all is
	Given      string            `json:"given"`     // the text before characters were replaced; empty if none were
	Price      *Money            `json:"price"`     // nil: not known
	Charged    *Money            `json:"charged"`   // as the gateway told; nil: it did not
	Flash      bool              `json:"flash"`
	Route      string            `json:"route"`           // empty if none fits
	Parts      []Part            `json:"parts,omitempty"` // its segments; of one message only
	Room       int               `json:"room,omitempty"`  // units that a segment holds; of one message only
	Warnings   []Warning         `json:"warnings,omitempty"`
	// Statements are the lines of gateways' own lists about it; of one message only.
	Statements []StatementLine `json:"statements,omitempty"`
	Evidence   []Evidence      `json:"evidence,omitempty"`
}

// SendAt is when a message that is held is to go.
type SendAt struct {
	SendAt *time.Time `json:"send_at"` // nil: now
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
	Segments   int        `json:"segments"`  // as the gateway counts them; 0: not said
	Charge     *Money     `json:"charge"`    // nil: not said
	Weak       bool       `json:"weak"`      // it names no message, and can only belong to this one
	Withdrawn  bool       `json:"withdrawn"` // it counts no more
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

// Tally is the account of a set of messages.
type Tally struct {
	Total     int64            `json:"total"`
	States    map[string]int64 `json:"states"` // every state, also those with none
	Contested int64            `json:"contested"`
	Equation  string           `json:"equation"`
}

// Gateway is a gateway in use. Its secrets are never shown.
type Gateway struct {
	ID             string          `json:"id"`
	Name           string          `json:"name"`
	Dialect        string          `json:"dialect"`
	About          string          `json:"about"`
	Address        string          `json:"address"`
	Secrets        []string        `json:"secrets"`    // their names
	PerSecond      int             `json:"per_second"` // at most
	PerMinute      int             `json:"per_minute"` // at most; 0: not limited
	PerDay         int             `json:"per_day"`    // at most in 24 hours; 0: not limited
	InFlight       int             `json:"in_flight"`
	Recipients     int             `json:"recipients"` // messages a request, at most
	AskAfter       Span            `json:"ask_after"`
	AskAfterKinds  map[string]Span `json:"ask_after_kinds"` // of kinds for which it differs
	GiveUpAfter    Span            `json:"give_up_after"`
	Timeout        Span            `json:"timeout"`
	Reference      string          `json:"reference"`
	Currency       string          `json:"currency"`
	Senders        []string        `json:"senders"`     // leased from it
	LowBalance     string          `json:"low_balance"` // below which it warns; empty: never
	CanTellBalance bool            `json:"can_tell_balance"`
	// StatementEvery is how often its statement is fetched; empty: never by itself.
	StatementEvery    Span          `json:"statement_every"`
	CanFetchStatement bool          `json:"can_fetch_statement"`
	Health            GatewayHealth `json:"health"`
	Clock             GatewayClock  `json:"clock"`
	CreatedAt         time.Time     `json:"created_at"`
}

// GatewayClock is how a gateway's clock goes, by its receipts of the last day.
type GatewayClock struct {
	Ahead    *float64 `json:"ahead"`    // seconds, below 0 if it is behind; nil: too little is known
	Receipts int64    `json:"receipts"` // that said when
	Early    int64    `json:"early"`    // gave a time before the message went
	Late     int64    `json:"late"`     // came more than a day after the message went
}

// Health is how an instance of the service fares, for whoever asks without a key.
type Health struct {
	Status    string `json:"status"` // ok, or quarantine: nothing is sent
	Workbooks struct {
		Reading int `json:"reading"`
		Waiting int `json:"waiting"` // for their turn
	} `json:"workbooks"`
}

// GatewayHealth is how a gateway fares.
type GatewayHealth struct {
	State    string     `json:"state"` // working, resting or paused
	Since    *time.Time `json:"since"`
	Until    *time.Time `json:"until"` // when it is tried again
	Cause    string     `json:"cause"`
	Why      string     `json:"why"`
	Advice   string     `json:"advice"`
	Balance  *Balance   `json:"balance"` // nil: not known
	Warnings []string   `json:"warnings"`
}

// Balance is what is left on an account.
type Balance struct {
	Amount   string    `json:"amount"`
	Currency string    `json:"currency"` // empty if nobody says
	At       time.Time `json:"at"`
}

// NewGateway is a gateway to be added: Dialect names one that ships, or
// Source is a dialect file. What is left empty is the dialect's own.
type NewGateway struct {
	Name          string            `json:"name,omitempty"`
	Dialect       string            `json:"dialect,omitempty"`
	Source        string            `json:"source,omitempty"`
	Address       string            `json:"address"`
	Secrets       map[string]string `json:"secrets,omitempty"`
	PerSecond     int               `json:"per_second,omitempty"`
	PerMinute     int               `json:"per_minute,omitempty"`
	PerDay        int               `json:"per_day,omitempty"`
	InFlight      int               `json:"in_flight,omitempty"`
	AskAfter      Span              `json:"ask_after,omitempty"`
	AskAfterKinds map[string]string `json:"ask_after_kinds,omitempty"` // of kinds for which it differs; all of them
	GiveUpAfter   Span              `json:"give_up_after,omitempty"`
	Timeout       Span              `json:"timeout,omitempty"`
	Currency      string            `json:"currency,omitempty"`
	Senders       []string          `json:"senders,omitempty"`
	LowBalance    string            `json:"low_balance,omitempty"`
	// StatementEvery is how often its statement is fetched; empty: never by itself.
	StatementEvery string `json:"statement_every,omitempty"`
}

// GatewayChange is what is to be changed of a gateway. What is left out stays.
type GatewayChange struct {
	Dialect       string            `json:"dialect,omitempty"`
	Source        string            `json:"source,omitempty"`
	Address       *string           `json:"address,omitempty"`
	Secrets       map[string]string `json:"secrets,omitempty"`
	PerSecond     *int              `json:"per_second,omitempty"`
	PerMinute     *int              `json:"per_minute,omitempty"`
	PerDay        *int              `json:"per_day,omitempty"`
	InFlight      *int              `json:"in_flight,omitempty"`
	AskAfter      Span              `json:"ask_after,omitempty"`
	AskAfterKinds map[string]string `json:"ask_after_kinds,omitempty"` // of kinds for which it differs; all of them
	GiveUpAfter   Span              `json:"give_up_after,omitempty"`
	Timeout       Span              `json:"timeout,omitempty"`
	Currency      *string           `json:"currency,omitempty"`
	Senders       *[]string         `json:"senders,omitempty"`
	LowBalance    *string           `json:"low_balance,omitempty"`
	// StatementEvery is how often its statement is fetched; empty: never by itself.
	StatementEvery *string `json:"statement_every,omitempty"`
}

// SetupFile is everything that is set up, as a file in YAML. To take one in,
// Secrets are the values of its placeholders.
type SetupFile struct {
	Source  string            `json:"source"`
	Secrets map[string]string `json:"secrets,omitempty"`
}

// SetupChange is what taking a set-up in did, or would do: names of its parts.
type SetupChange struct {
	New     []string `json:"new"`
	Changed []string `json:"changed"`
	Same    []string `json:"same"`
}

// Trial is what came of trying a gateway or a dialect out.
type Trial struct {
	Passed   bool        `json:"passed"`
	Say      string      `json:"say"`
	Mistakes []string    `json:"mistakes"` // that it looks like, the likeliest first
	Steps    []TrialStep `json:"steps"`
}

// TrialStep is one request of a trial, its secrets masked.
type TrialStep struct {
	What     string    `json:"what"`     // token, balance, query or submit
	Exchange *Exchange `json:"exchange"` // nil: nothing could be sent
	Read     any       `json:"read"`     // what was read of the answer
	Note     string    `json:"note"`
	// BuildMs, AnswerMs and ReadMs are how long each part took.
	BuildMs  float64 `json:"build_ms"`
	AnswerMs float64 `json:"answer_ms"`
	ReadMs   float64 `json:"read_ms"`
}

// TryRequest is one request to be made in a dialect. Only Dialect or Source,
// Address and the secrets are needed; to submit, also To and Text.
type TryRequest struct {
	Dialect      string            `json:"dialect,omitempty"`
	Source       string            `json:"source,omitempty"`
	Address      string            `json:"address"`
	Secrets      map[string]string `json:"secrets,omitempty"`
	Call         string            `json:"call,omitempty"` // submit, query, balance or token; submit if empty
	To           string            `json:"to,omitempty"`
	Text         string            `json:"text,omitempty"`
	Sender       string            `json:"sender,omitempty"`
	Kind         string            `json:"kind,omitempty"`
	GatewayRef   string            `json:"gateway_ref,omitempty"`
	Registration string            `json:"registration,omitempty"`
	Fields       map[string]any    `json:"fields,omitempty"`
	ReceiptURL   string            `json:"receipt_url,omitempty"`
	// DryRun builds the request and sends nothing.
	DryRun bool `json:"dry_run,omitempty"`
}

// DialectFile is a dialect as its file.
type DialectFile struct {
	Source string `json:"source"`
}

// Dialect is a dialect that ships.
type Dialect struct {
	Name    string   `json:"name"`
	About   string   `json:"about"`
	Secrets []string `json:"secrets"`
	Source  string   `json:"source"`
}

// DialectCheck is what there is to say about a dialect file.
type DialectCheck struct {
	Name     string           `json:"name"`
	About    string           `json:"about"`
	Secrets  []string         `json:"secrets"`
	Mistakes []string         `json:"mistakes"` // each with its line; empty if there are none
	Warnings []string         `json:"warnings"` // what is well-formed, and likely to do harm
	Examples []DialectExample `json:"examples"`
	Passed   bool             `json:"passed"`
}

// DialectExample is what came of a recorded example.
type DialectExample struct {
	Example int    `json:"example"` // from 1
	Kind    string `json:"kind"`
	Status  int    `json:"status"`
	Passed  bool   `json:"passed"`
	Gives   any    `json:"gives"`
	Want    any    `json:"want"`
	Wrong   string `json:"wrong"`
}

// Pause says why a gateway is paused.
type Pause struct {
	Why string `json:"why,omitempty"`
}

// Route says for which messages it is and through which gateways they go. Empty
// lists stand for all.
type Route struct {
	Name      string   `json:"name"`
	Countries []string `json:"countries"`
	Prefixes  []string `json:"prefixes"`
	Kinds     []string `json:"kinds"`
	Senders   []string `json:"senders"`
	Gateways  []Leg    `json:"gateways"`
	// Prefer is conversion where passcodes go, country by country, through the gateway whose codes get used.
	Prefer string `json:"prefer,omitempty"`
}

// Leg is one gateway of a route. With weights each takes its share, without
// them the order counts.
type Leg struct {
	Gateway string `json:"gateway"`
	Weight  int    `json:"weight,omitempty"`
}

// Routes are all routes, in the order in which they are tried.
type Routes struct {
	Items     []Route    `json:"items"`
	ChangedAt *time.Time `json:"changed_at,omitempty"`
	ChangedBy string     `json:"changed_by,omitempty"`
	Next      string     `json:"next"` // always empty: they come whole
}

// Inbound is what somebody wrote to one of our senders.
type Inbound struct {
	ID         string     `json:"id"`
	Gateway    string     `json:"gateway"`
	GatewayRef string     `json:"gateway_ref"`
	From       string     `json:"from"`
	To         string     `json:"to"`
	Text       string     `json:"text"`
	At         time.Time  `json:"at"`         // when it came here
	GatewayAt  *time.Time `json:"gateway_at"` // as the gateway says
	Message    string     `json:"message"`    // the id of the message that it answers; empty: none is known
}

// Sender is a sender in use and what is known of it.
type Sender struct {
	Sender        string            `json:"sender"`
	Kind          string            `json:"kind"`
	Default       bool              `json:"default"` // for everything that has no other
	Defaults      []SenderDefault   `json:"defaults"`
	Gateways      []string          `json:"gateways"`  // that may use it; all if there are none
	Countries     []string          `json:"countries"` // it is for; all if there are none
	Registrations map[string]string `json:"registrations"`
	TwoWay        bool              `json:"two_way"`
	// RepliesTo is the receiver of events that alone is told of what people write to it; empty: all that want to know.
	RepliesTo string    `json:"replies_to"`
	PerSecond int       `json:"per_second"` // its own pace; 0 is none
	CreatedAt time.Time `json:"created_at"`
}

// SenderDefault is what a sender is taken for when none is named. Empty fields
// stand for all.
type SenderDefault struct {
	Kind    string `json:"kind"`
	Country string `json:"country"`
}

// NewSender is a sender to be registered, or changed.
type NewSender struct {
	Sender        string            `json:"sender"`
	Default       bool              `json:"default,omitempty"`
	Defaults      []SenderDefault   `json:"defaults,omitempty"`
	Gateways      []string          `json:"gateways,omitempty"`
	Countries     []string          `json:"countries,omitempty"`
	Registrations map[string]string `json:"registrations,omitempty"`
	TwoWay        bool              `json:"two_way,omitempty"`
	RepliesTo     string            `json:"replies_to,omitempty"`
	PerSecond     int               `json:"per_second,omitempty"`
}

// Rule is what a country accepts: open, registered, closed or unknown.
type Rule struct {
	Country      string     `json:"country"`
	Name         string     `json:"name"` // of the country, in English
	Alphanumeric string     `json:"alphanumeric"`
	Numeric      string     `json:"numeric"`
	ShortCode    string     `json:"short_code"`
	Texts        string     `json:"texts"`
	Links        string     `json:"links"`
	Quiet        []Quiet    `json:"quiet"`
	OptOut       string     `json:"opt_out"`
	StopAnswer   string     `json:"stop_answer"`  // to who asks not to be written to; empty: none
	StartAnswer  string     `json:"start_answer"` // to who asks to be again
	Date         string     `json:"date"`
	Origin       string     `json:"origin"`
	Note         string     `json:"note"`
	ChangedBy    string     `json:"changed_by"` // empty: as it ships
	ChangedAt    *time.Time `json:"changed_at"`
}

// Quiet is a span of local time in which no message of some kinds should
// arrive.
type Quiet struct {
	Kinds []string `json:"kinds"`
	From  string   `json:"from"`
	To    string   `json:"to"`
	Days  []string `json:"days"`
}

// RulesFile is a file of rules, in YAML.
type RulesFile struct {
	Source string `json:"source"`
}

// RulesChange is what importing a file of rules did, or would do.
type RulesChange struct {
	New       []string `json:"new"`
	Changed   []string `json:"changed"`
	Unchanged int      `json:"unchanged"`
}

// Template is a text with fields, in one or more languages.
type Template struct {
	Name       string                   `json:"name"`
	About      string                   `json:"about"`
	Kind       string                   `json:"kind"`
	Sender     string                   `json:"sender"`
	Cure       string                   `json:"cure"`
	Language   string                   `json:"language"`
	Texts      map[string]string        `json:"texts"`
	Fields     map[string]TemplateField `json:"fields"`
	Registered []Registration           `json:"registered"`
	Must       []string                 `json:"must"`   // fields that every row needs
	May        []string                 `json:"may"`    // fields with a default
	Source     string                   `json:"source"` // the file
	ChangedAt  time.Time                `json:"changed_at"`
}

// TemplateField says what may stand in a field.
type TemplateField struct {
	As   string `json:"as"`
	Only string `json:"only"`
	Most int    `json:"most"`
}

// Registration is a text as a country has registered it.
type Registration struct {
	Country string `json:"country"`
	Gateway string `json:"gateway"`
	ID      string `json:"id"`
	Wording string `json:"wording"`
}

// TemplateFile is a template as a file, in YAML.
type TemplateFile struct {
	Source string `json:"source"`
}

// TemplateData asks what a template weighs over data. Template names one that
// is stored, or Source is one that is not.
type TemplateData struct {
	Template string `json:"template,omitempty"`
	Source   string `json:"source,omitempty"`
	// Data is CSV whose head names the fields; columns to, country and language
	// say for whom a row is.
	Data     string `json:"data"`
	Language string `json:"language,omitempty"` // of rows that name none
	Gateway  string `json:"gateway,omitempty"`  // by whose price list it is priced
}

// TemplateSpan is what a template weighs over data.
type TemplateSpan struct {
	Rows     int             `json:"rows"`
	Failed   int             `json:"failed"` // rows that cannot be sent
	Segments int64           `json:"segments"`
	Shortest *TemplateSample `json:"shortest"`
	Typical  *TemplateSample `json:"typical"` // the first row of the median number of segments
	Longest  *TemplateSample `json:"longest"`
	Faults   []TemplateFault `json:"faults"` // the first twenty
	Cost     *Estimate       `json:"cost"`   // nil: there is no price list
}

// TemplateSample is one rendering and what it weighs.
type TemplateSample struct {
	Row  int    `json:"row"` // of the data, 1 first
	Text string `json:"text"`
	Weight
}

// TemplateFault is why a row cannot be sent.
type TemplateFault struct {
	Row      int    `json:"row"`
	Language string `json:"language"`
	Field    string `json:"field"`
	Wrong    string `json:"wrong"`
	Accepted string `json:"accepted"`
}

// Estimate is what a set of messages costs.
type Estimate struct {
	Sums    []Money `json:"sums"` // one for each currency
	Priced  int     `json:"priced"`
	Unknown int     `json:"unknown"` // messages whose price is not known
}

// PricesFile is a price list as a file, in CSV.
type PricesFile struct {
	Source string `json:"source"`
}

// PriceList is the price list of a gateway.
type PriceList struct {
	Gateway   string     `json:"gateway"`
	Source    string     `json:"source"` // the list as a file, in CSV
	Prices    []Price    `json:"prices"`
	ChangedBy string     `json:"changed_by"`
	ChangedAt *time.Time `json:"changed_at"`
}

// Price is one price of a list.
type Price struct {
	Country  string  `json:"country"` // * for all others
	Prefix   string  `json:"prefix"`
	Kind     string  `json:"kind"`
	Per      string  `json:"per"` // segment or message
	Amount   string  `json:"price"`
	Currency string  `json:"currency"`
	From     *string `json:"from"` // nil: always
}

// Money is an amount in a currency of ISO 4217.
type Money struct {
	Amount   string `json:"amount"` // a decimal number
	Currency string `json:"currency"`
}

// String is the amount for people.
func (m Money) String() string { return m.Amount + " " + m.Currency }

// Warning is what speaks against a message without stopping it.
type Warning struct {
	Field string `json:"field"`
	Say   string `json:"say"`
}

// WeighRequest asks what a text costs and whether it may go. Only Text, or
// Template, is needed.
type WeighRequest struct {
	Text     string         `json:"text,omitempty"`
	Template string         `json:"template,omitempty"`
	Source   string         `json:"source,omitempty"` // a template that is not stored, in YAML
	Fields   map[string]any `json:"fields,omitempty"`
	Language string         `json:"language,omitempty"`
	// To are numbers, or countries in their place, at most fifty.
	To      []string `json:"to,omitempty"`
	Country string   `json:"country,omitempty"`
	Sender  string   `json:"sender,omitempty"`
	Kind    string   `json:"kind,omitempty"`
	Gateway string   `json:"gateway,omitempty"`
	Cure    string   `json:"cure,omitempty"`
}

// Weighing is what a text costs and whether it may go.
type Weighing struct {
	Text string `json:"text"`
	Weight
	Parts []Part `json:"parts"`
	// Problem is why the text cannot be sent; empty if it can.
	Problem  string    `json:"problem"`
	Culprits []Culprit `json:"culprits"`
	// Cures are the gentlest ways to save segments, one for each level that
	// saves more than the one before.
	Cures []Cure `json:"cures"`
	// Replaced is what was replaced already, as the request wanted.
	Replaced []Replacement `json:"replaced"`
	// Tables are the national language tables that would save segments, for
	// gateways that accept them.
	Tables     []ShiftTable `json:"tables"`
	Recipients []Recipient  `json:"recipients"`
	Errors     []FieldError `json:"errors"` // what else speaks against it
}

// Weight is what a text takes.
type Weight struct {
	Encoding string `json:"encoding"` // gsm7 or ucs2
	Units    int    `json:"units"`    // septets or UTF-16 code units
	Segments int    `json:"segments"`
	Room     int    `json:"room"`     // units that a segment holds
	Alphabet string `json:"alphabet"` // of gsm7
}

// Part is one segment of a text.
type Part struct {
	From  int    `json:"from"` // byte offsets
	To    int    `json:"to"`
	Units int    `json:"units"`
	Text  string `json:"text"`
}

// Culprit is a character that makes a text cost more.
type Culprit struct {
	Text  string `json:"text"`
	Name  string `json:"name"` // by Unicode
	Why   string `json:"why"`  // forces_ucs2 or costs_two
	At    []int  `json:"at"`   // byte offsets
	Count int    `json:"count"`
	Cure  string `json:"cure"`  // what could stand in its place
	Level string `json:"level"` // safe or strong; off: there is no cure, and then
	Keep  string `json:"keep"`  // it is a letter, a sign, or in a link
}

// Replacement is what was put in the place of what, and how often.
type Replacement struct {
	From  string `json:"from"`
	To    string `json:"to"`
	Count int    `json:"count"`
}

// Cure is a text with fewer segments that means the same.
type Cure struct {
	Level string `json:"level"`
	Text  string `json:"text"`
	Weight
	Saves    int           `json:"saves"` // segments
	Price    *Money        `json:"price"` // for the first recipient; nil: not known
	Saved    *Money        `json:"saved"` // what is saved of its price
	Replaced []Replacement `json:"replaced"`
}

// ShiftTable is what a text would take with a national language table.
type ShiftTable struct {
	Language string `json:"language"`
	Segments int    `json:"segments"`
}

// Recipient is one to whom a text may go, and at what price.
type Recipient struct {
	Given    string       `json:"given"`
	Number   *Number      `json:"number"` // nil where a country was given
	Country  string       `json:"country"`
	Name     string       `json:"country_name"`
	Text     string       `json:"text"` // as it would be sent
	Segments int          `json:"segments"`
	Encoding string       `json:"encoding"`
	Sender   string       `json:"sender"`
	Kind     string       `json:"kind"`
	Gateway  string       `json:"gateway"`
	Why      string       `json:"why"`      // it is that gateway, and why the usual one is passed over
	Language string       `json:"language"` // of the template's text
	Decision *Decision    `json:"decision"`
	Price    *Money       `json:"price"` // nil: not known
	Rate     *Price       `json:"rate"`  // that it was worked out by
	Warnings []Warning    `json:"warnings"`
	Errors   []FieldError `json:"errors"` // empty: it may go
}

// Decision is what a country's rule says.
type Decision struct {
	Verdict  string    `json:"verdict"` // allowed, unknown, careful or refused
	Rule     string    `json:"rule"`
	Origin   string    `json:"origin"`
	Findings []Finding `json:"findings"`
}

// Finding is one thing that a rule says.
type Finding struct {
	About   string `json:"about"`
	Verdict string `json:"verdict"`
	Say     string `json:"say"`
	Do      string `json:"do"`
}

// NumbersRequest asks about numbers, at most a thousand.
type NumbersRequest struct {
	Numbers []string `json:"numbers"`
	Country string   `json:"country,omitempty"` // where they are dialled
}

// Number is what can be said about a number.
type Number struct {
	Given     string   `json:"given"`
	Valid     bool     `json:"valid"` // texts can be sent to it as far as is known
	E164      string   `json:"e164"`
	Country   string   `json:"country"`
	Name      string   `json:"country_name"`
	Region    string   `json:"region"`
	Line      string   `json:"line"`
	TimeZones []string `json:"time_zones"`
	Display   string   `json:"display"`
	Fictional string   `json:"fictional"` // who reserves it for fiction
	Changes   []string `json:"changes"`
	Reason    string   `json:"reason"` // why it is not valid
}

// Key is an API key. Key is the key itself, there only when it has just been
// made.
type Key struct {
	ID        string `json:"id"`
	Name      string `json:"name"`
	Handle    string `json:"handle"`
	Key       string `json:"key,omitempty"`
	Cure      string `json:"cure"`       // off, safe or strong
	BudgetDay string `json:"budget_day"` // what its batches may spend a day; empty: any amount
	// Labels are put on all that is sent with it.
	Labels   map[string]string `json:"labels"`
	Practice bool              `json:"practice"` // it may see the codes of passcodes
	// PasscodeCountries are those to which it may send passcodes; none: all.
	PasscodeCountries []string `json:"passcode_countries"`
	// MadeBy is the id of the key that made it; nil: it was made in the database itself.
	MadeBy     *string    `json:"made_by"`
	CreatedAt  time.Time  `json:"created_at"`
	LastUsedAt *time.Time `json:"last_used_at"`
	RevokedAt  *time.Time `json:"revoked_at"`
}

// NewKey asks for a key.
type NewKey struct {
	Name string `json:"name"`
	Cure string `json:"cure,omitempty"` // how far characters may be replaced in what it sends
	// BudgetDay is what batches that are launched with it may spend a day, such as 30 EUR.
	BudgetDay string `json:"budget_day,omitempty"`
	// Labels are put on all that is sent with it.
	Labels map[string]string `json:"labels,omitempty"`
	// Practice lets it see the codes of passcodes.
	Practice bool `json:"practice,omitempty"`
	// PasscodeCountries are those to which it may send passcodes; none: all.
	PasscodeCountries []string `json:"passcode_countries,omitempty"`
}

// List is a list, or a part of one: the shape of all of them. Next is the cursor of
// the part that follows, empty where nothing does.
type List[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next"`
}

// Login signs the console in.
type Login struct {
	Key string `json:"key"`
}

// OptOut is that a number does not want to be written to, from when to when.
type OptOut struct {
	Number   string     `json:"number"`
	Since    time.Time  `json:"since"`
	Why      string     `json:"why"`
	By       string     `json:"by"`       // the name of a key, or the recipient
	EndedAt  *time.Time `json:"ended_at"` // nil: it holds
	EndedWhy string     `json:"ended_why"`
	EndedBy  string     `json:"ended_by"`
}

// NewOptOuts are numbers that do not want to be written to.
type NewOptOuts struct {
	Numbers []string `json:"numbers"`
	Country string   `json:"country,omitempty"` // where numbers without a country code are dialled
	Why     string   `json:"why,omitempty"`
	DryRun  bool     `json:"dry_run,omitempty"` // make every check and keep nothing
}

// OptOutsAdded says how many numbers are new on the list, and how many stood there
// already.
type OptOutsAdded struct {
	Added   int `json:"added"`
	Already int `json:"already"`
}

// Flaw is a record that cannot be used as it stands: a check that is newer than it
// refuses it. It is left alone, and everything else goes on.
type Flaw struct {
	What string `json:"what"` // gateway or template
	Name string `json:"name"`
	Why  string `json:"why"`
}

// Session is who is signed in, and what the console needs to know.
type Session struct {
	KeyName  string `json:"key_name"`
	PhoneURL string `json:"phone_url"` // of the practice phone, if there is one
	// Quarantine: nothing is sent; see [Client.Recovery].
	Quarantine bool `json:"quarantine"`
}

// Problem is what the service says when it refuses a request (RFC 9457).
type Problem struct {
	Type   string       `json:"type"`
	Title  string       `json:"title"`
	Status int          `json:"status"`
	Detail string       `json:"detail,omitempty"`
	Errors []FieldError `json:"errors,omitempty"`
	Items  []Outcome    `json:"items,omitempty"` // of a list of which nothing was taken
	// RetryAt is when it may be asked for again.
	RetryAt *time.Time `json:"retry_at,omitempty"`
}

// Outcome is what came of one message of a list: Message, or Problem.
type Outcome struct {
	Index   int      `json:"index"` // its place in the list, from 0
	Message *Message `json:"message,omitempty"`
	Problem *Problem `json:"problem,omitempty"`
}

// Outcomes are those of a list, in its order.
type Outcomes struct {
	Items   []Outcome `json:"items"`
	Next    string    `json:"next"`
	Taken   int       `json:"taken"`
	Refused int       `json:"refused"`
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
		text.WriteString(". " + p.Detail)
	}
	for _, e := range p.Errors {
		fmt.Fprintf(&text, "\n  %s: %s\n    accepted: %s", e.Field, e.Wrong, e.Accepted)
	}
	return text.String()
}

// Change is one change of what is set: by whom, when, and what differs.
type Change struct {
	ID     int64          `json:"id"`
	At     time.Time      `json:"at"`
	By     string         `json:"by"`   // the name of a key
	What   string         `json:"what"` // gateway, sender, default, rule, template, route, prices, key
	Name   string         `json:"name"`
	Action string         `json:"action"` // added, changed, removed
	Before map[string]any `json:"before"` // what differs, as it was; null of what was added
	After  map[string]any `json:"after"`
}

// Stray is a receipt, or one claim of it, that no message is known to match by name.
type Stray struct {
	ID         string     `json:"id"`
	Gateway    string     `json:"gateway"`
	GatewayRef string     `json:"gateway_ref"` // the id under which it came
	Reference  string     `json:"reference"`   // ours, as it came
	Number     string     `json:"number"`      // in E.164; empty: not said, or it cannot be read
	Written    string     `json:"written"`     // the number as the gateway writes it
	At         time.Time  `json:"at"`
	GatewayAt  *time.Time `json:"gateway_at"`
	Claim      string     `json:"claim"`
	Cause      string     `json:"cause"`
	Part       int        `json:"part"`
	Parts      int        `json:"parts"`
	Segments   int        `json:"segments"`
	Code       string     `json:"code"`
	Note       string     `json:"note"`
	Fate       string     `json:"fate"`    // waiting, weak, attached or discarded
	Message    string     `json:"message"` // to which it belongs; empty: none
	Attempt    int        `json:"attempt"`
	FatedAt    *time.Time `json:"fated_at"`
	By         string     `json:"by"`
	Why        string     `json:"why"`
	Reason     string     `json:"reason"` // why, most likely, it has no message; empty: not judged yet
	Advice     string     `json:"advice"` // the reason in a sentence
	Rivals     int        `json:"rivals"` // submissions that it may belong to
	Asks       int        `json:"asks"`   // how often the gateway was asked about it
	Answer     string     `json:"answer"` // known, absent, nothing; empty: it was not asked
	LookAt     *time.Time `json:"look_at"`
	// Candidates and Raw are of one stray only.
	Candidates []StrayCandidate `json:"candidates,omitempty"`
	Raw        *Exchange        `json:"raw,omitempty"`
}

// StrayCandidate is a submission to which a stray may belong, or that is near to it.
type StrayCandidate struct {
	Message    string    `json:"message"`
	To         string    `json:"to"`
	State      string    `json:"state"`
	Attempt    int       `json:"attempt"`
	BeganAt    time.Time `json:"began_at"`
	After      float64   `json:"after"` // seconds from its submission to the stray
	GatewayRef string    `json:"gateway_ref"`
	SameNumber bool      `json:"same_number"`
	Settled    bool      `json:"settled"` // somebody who names it has said how it ended, or that it was not taken
	Fits       bool      `json:"fits"`    // by number and time it may be this one
}

// Strays is a page of strays, and how many there are.
type Strays struct {
	Items  []Stray      `json:"items"`
	Next   string       `json:"next"`
	Counts []StrayCount `json:"counts"`
}

// StrayCount is how many strays of a gateway share a fate and a reason.
type StrayCount struct {
	Gateway string `json:"gateway"`
	Fate    string `json:"fate"`
	Reason  string `json:"reason"`
	Advice  string `json:"advice"`
	Count   int64  `json:"count"`
}

// StrayFilter chooses strays. Empty fields choose all.
type StrayFilter struct {
	Fates                                        []string
	Gateway, GatewayRef, Number, Reason, Message string
}

// StrayWish is what is to be done with strays; Message is to which they are to be attached.
type StrayWish struct {
	Strays  []string `json:"strays"`
	Message string   `json:"message,omitempty"`
	Why     string   `json:"why,omitempty"`
}

// StraysDone is with how many strays it was done.
type StraysDone struct {
	Strays int `json:"strays"`
}

// MessageDecision is a decision about messages: delivered, failed, not_sent, send_again, leave or take_back.
type MessageDecision struct {
	Messages []string `json:"messages"`
	Decision string   `json:"decision"`
	Why      string   `json:"why,omitempty"`
	DryRun   bool     `json:"dry_run,omitempty"`
}

// Decided is about how many messages was decided, and about which not.
type Decided struct {
	Decided int              `json:"decided"`
	Refused []MessageRefused `json:"refused"`
	DryRun  bool             `json:"dry_run"`
}

// MessageRefused is why something was not done with a message.
type MessageRefused struct {
	Message string `json:"message"`
	Why     string `json:"why"`
}

// Attention is what wants a person, the most pressing first.
type Attention struct {
	Items []Need `json:"items"`
}

// Need is one thing that wants a person.
type Need struct {
	What    string `json:"what"`
	Wrong   bool   `json:"wrong"` // it went wrong, and does not merely want a look
	Count   int64  `json:"count"`
	Gateway string `json:"gateway"` // empty: it is about none
	Batch   string `json:"batch"`
	// Receiver of events; empty: it is about none.
	Receiver string     `json:"receiver"`
	Since    *time.Time `json:"since"`
	Title    string     `json:"title"`
	Why      string     `json:"why"`
	Cost     string     `json:"cost"` // of waiting
	Do       string     `json:"do"`
	Command  string     `json:"command"` // that does it, or shows more
	Link     string     `json:"link"`    // the page of the console
}

// NewPasscode is a one-time password to be sent. What is left empty takes its default.
type NewPasscode struct {
	To        string            `json:"to"`
	Country   string            `json:"country,omitempty"`  // in which To is dialled, if it has no country code
	Purpose   string            `json:"purpose"`            // what it is for: of a number and a purpose the newest counts
	Template  string            `json:"template,omitempty"` // with the fields code and minutes; a text that ships if empty
	Language  string            `json:"language,omitempty"`
	Fields    map[string]any    `json:"fields,omitempty"`
	Sender    string            `json:"sender,omitempty"`
	Gateway   string            `json:"gateway,omitempty"`
	Of        string            `json:"of,omitempty"`      // digits or letters
	Length    int               `json:"length,omitempty"`  // 4 to 10; 6
	Life      Span              `json:"life,omitempty"`    // 30s to 1h; 5m
	Tries     int               `json:"tries,omitempty"`   // wrong codes that may be typed; 5
	Address   string            `json:"address,omitempty"` // of the end user
	Reference string            `json:"reference,omitempty"`
	Domain    string            `json:"domain,omitempty"`   // that the code is bound to, in the last line
	AppHash   string            `json:"app_hash,omitempty"` // of the app that is meant, in the last line
	Labels    map[string]string `json:"labels,omitempty"`
	Reveal    bool              `json:"reveal,omitempty"` // answer the code; for keys for practice only
	// SuspicionMost is how suspicious it may be, at most, to be sent; 0: it is not asked.
	SuspicionMost int `json:"suspicion_most,omitempty"`
}

// Passcode is a one-time password: how it stands, and never its code, but to keys for practice that asked for it.
type Passcode struct {
	ID        string     `json:"id"`
	Number    string     `json:"number"`
	Country   string     `json:"country"`
	Purpose   string     `json:"purpose"`
	State     string     `json:"state"` // open, used, ended or locked
	Of        string     `json:"of"`
	Length    int        `json:"length"`
	CreatedAt time.Time  `json:"created_at"`
	EndsAt    time.Time  `json:"ends_at"`
	Sends     int        `json:"sends"`
	SendsLeft int        `json:"sends_left"`
	AgainAt   *time.Time `json:"again_at"` // not before may it be sent again; nil: it may not
	TriesLeft int        `json:"tries_left"`
	UsedAt    *time.Time `json:"used_at"`
	CheckedAt *time.Time `json:"checked_at"`
	Message   string     `json:"message"` // the last that bears it
	Address   string     `json:"address"`
	Reference string     `json:"reference"`
	Template  string     `json:"template"`
	Language  string     `json:"language"`
	Code      string     `json:"code,omitempty"`
	Gateway   string     `json:"gateway,omitempty"` // through which it goes again
	Again     bool       `json:"again,omitempty"`   // the same request was made before
	Warnings  []Warning  `json:"warnings,omitempty"`
	// Suspicion is how suspicious the request was, where it was asked.
	Suspicion *Suspicion `json:"suspicion,omitempty"`
	// Texts are the messages that bear it, in their order; of one passcode only.
	Texts []PasscodeText `json:"texts,omitempty"`
}

// PasscodeText is a message that bears a passcode.
type PasscodeText struct {
	Message   string    `json:"message"`
	Gateway   string    `json:"gateway"`
	State     string    `json:"state"`
	Cause     string    `json:"cause"`
	Spoken    bool      `json:"spoken"` // in a call
	CreatedAt time.Time `json:"created_at"`
	ChangedAt time.Time `json:"changed_at"`
}

// WouldBePasscode is a passcode that somebody is about to ask for.
type WouldBePasscode struct {
	To      string `json:"to"`
	Country string `json:"country,omitempty"`
	Address string `json:"address,omitempty"` // of the end user
}

// Suspicion is how suspicious a request for a passcode is, from 0 to 100, and why, the weightiest first.
type Suspicion struct {
	Suspicion int      `json:"suspicion"`
	Reasons   []Reason `json:"reasons"`
}

// Reason is why something is suspicious, and how much that weighs.
type Reason struct {
	Points int    `json:"points"`
	Say    string `json:"say"`
}

// PasscodeRule is what is done when a rule finds what looks like fraud.
type PasscodeRule struct {
	Rule  string `json:"rule"` // sequence, untouched, asking or rise
	Act   string `json:"act"`  // off, alarm, slow or block
	About string `json:"about,omitempty"`
	Set   bool   `json:"set,omitempty"` // it is not the usual one
}

// PasscodeRules are rules to be set.
type PasscodeRules struct {
	Items []PasscodeRule `json:"items"`
}

// PasscodeAct is what is to be done because of an alarm.
type PasscodeAct struct {
	Act string `json:"act"` // alarm, slow or block
}

// PasscodeAlarm is what a rule found, what it rests on, what is done because of it and what that saved.
type PasscodeAlarm struct {
	ID        string        `json:"id"`
	Rule      string        `json:"rule"`
	About     string        `json:"about"` // the rule, in words
	What      string        `json:"what"`  // it is about: range, stretch, address, network or country
	Value     string        `json:"value"`
	Act       string        `json:"act"`
	Standing  bool          `json:"standing"`
	RaisedAt  time.Time     `json:"raised_at"`
	Until     time.Time     `json:"until"`
	Say       string        `json:"say"` // what was found, in a sentence
	Numbers   int           `json:"numbers"`
	Of        int           `json:"of"`
	Used      int           `json:"used"`
	Usual     float64       `json:"usual"`
	Chance    float64       `json:"chance"` // that honest people look so; 0: it was not judged by that
	Since     time.Time     `json:"since"`
	Till      time.Time     `json:"till"`
	PerHour   float64       `json:"per_hour"`
	Sample    []AlarmSample `json:"sample"`
	Stopped   int64         `json:"stopped"` // passcodes that were not sent because of it
	Saved     []Money       `json:"saved"`   // what they would have cost, as far as there are prices
	LiftedAt  *time.Time    `json:"lifted_at"`
	LiftedBy  string        `json:"lifted_by"`
	LiftedWhy string        `json:"lifted_why"`
}

// AlarmSample is one of the numbers that an alarm rests on.
type AlarmSample struct {
	Passcode string    `json:"passcode"` // the last
	Number   string    `json:"number"`
	At       time.Time `json:"at"`
	Codes    int       `json:"codes"`
}

// PasscodeTyped is a code as somebody typed it, with the number and the purpose where no passcode is named.
type PasscodeTyped struct {
	To      string `json:"to,omitempty"`
	Country string `json:"country,omitempty"`
	Purpose string `json:"purpose,omitempty"`
	Code    string `json:"code"`
}

// PasscodeVerdict is what is said of it.
type PasscodeVerdict struct {
	Verdict   string `json:"verdict"` // right, wrong, ended, used or locked
	TriesLeft int    `json:"tries_left"`
	ID        string `json:"id,omitempty"` // of the passcode, where it is right
}

// PasscodeAgain asks for a passcode to be sent again.
type PasscodeAgain struct {
	Anyway bool   `json:"anyway,omitempty"` // although the last text was delivered
	By     string `json:"by,omitempty"`     // text or voice; a text if empty
}

// PasscodeFunnel is how passcodes fared that were issued within whole hours or days.
type PasscodeFunnel struct {
	Since  time.Time       `json:"since"`
	Until  time.Time       `json:"until"`
	By     string          `json:"by"`
	All    PasscodeFared   `json:"all"`
	Groups []PasscodeFared `json:"groups"` // those of which most were issued first; hours in their order
}

// PasscodeFared is how some of them fared.
type PasscodeFared struct {
	At         *time.Time `json:"at"`      // when the hour or day began; nil if it is not about one
	Gateway    string     `json:"gateway"` // empty if it is not about one
	Country    string     `json:"country"`
	Purpose    string     `json:"purpose"`
	Template   string     `json:"template"`
	Issued     int64      `json:"issued"`
	Again      int64      `json:"again"`     // sent once more
	Messages   int64      `json:"messages"`  // that bore them
	Accepted   int64      `json:"accepted"`  // of them
	Delivered  int64      `json:"delivered"` // of them
	Checked    int64      `json:"checked"`   // at least once
	Right      int64      `json:"right"`
	Conversion *float64   `json:"conversion"` // right of those that were issued; nil if none was
	// Took is how long each took: of texts from being sent, else from being issued.
	Took PasscodeTook `json:"took"`
}

// PasscodeTook is how long it took until passcodes came so far; nil if none did.
type PasscodeTook struct {
	Accepted  *Took `json:"accepted"`
	Delivered *Took `json:"delivered"`
	Checked   *Took `json:"checked"`
	Right     *Took `json:"right"`
}

// Took is how long half of them took at most, and nine in ten, in milliseconds.
type Took struct {
	P50Ms int64 `json:"p50_ms"`
	P90Ms int64 `json:"p90_ms"`
}

// PasscodeLimit is how many passcodes are sent at most.
type PasscodeLimit struct {
	By     string `json:"by"`     // number, address, network, site, range, stretch, purpose, country or key
	Window string `json:"window"` // minute, hour or day
	Most   *int   `json:"most"`   // nil: none holds
	Set    bool   `json:"set"`    // it is not the usual one
}

// PasscodeLimits are limits to be set.
type PasscodeLimits struct {
	Items []PasscodeLimit `json:"items"`
}

// NewPasscodeBlock is something that is to get no passcodes.
type NewPasscodeBlock struct {
	What  string `json:"what"` // number, range, stretch, country, address, network or site
	Value string `json:"value"`
	For   Span   `json:"for,omitempty"` // empty: for good
	Why   string `json:"why,omitempty"`
}

// PasscodeBlock is that something gets no passcodes.
type PasscodeBlock struct {
	ID        string     `json:"id"`
	What      string     `json:"what"`
	Value     string     `json:"value"`
	Since     time.Time  `json:"since"`
	Until     *time.Time `json:"until"` // nil: for good
	By        string     `json:"by"`
	Why       string     `json:"why"`
	LiftedAt  *time.Time `json:"lifted_at"`
	LiftedBy  string     `json:"lifted_by"`
	LiftedWhy string     `json:"lifted_why"`
}

// StatementSpan is a span of time of which a statement is wanted.
type StatementSpan struct {
	From  time.Time `json:"from"`
	Until time.Time `json:"until"`
}

// StatementSchedule is how far a gateway's statements were fetched.
type StatementSchedule struct {
	Gateway  string     `json:"gateway"`
	Every    Span       `json:"every"`
	Through  *time.Time `json:"through"` // until when it was fetched; nil: not yet
	DueAt    time.Time  `json:"due_at"`  // when it is fetched next
	FailedAt *time.Time `json:"failed_at"`
	Failure  string     `json:"failure"` // why it could not be fetched since then
}

// Accounts are what messages cost that went to gateways, or may have, by the day of UTC on which they were accepted.
type Accounts struct {
	Since  time.Time `json:"since"`
	Until  time.Time `json:"until"`
	By     []string  `json:"by"`
	All    Account   `json:"all"`
	Groups []Account `json:"groups"` // the latest first, then those with the most messages
}

// Account is what some of them cost.
type Account struct {
	At        *time.Time `json:"at"`      // when the month or day began; nil if it is not about one
	Gateway   string     `json:"gateway"` // empty if it is not about one
	Country   string     `json:"country"`
	Kind      string     `json:"kind"`
	Messages  int64      `json:"messages"`
	Estimated []Money    `json:"estimated"`
	Unpriced  int64      `json:"unpriced"` // messages of which no price is known
	Told      Charged    `json:"told"`     // by replies, receipts and answers to questions
	Billed    *Charged   `json:"billed"`   // by statements; nil: kinds are told apart, which they do not
	// Foreign is billed by lines of statements that are about no message.
	Foreign      []Money `json:"foreign,omitempty"`
	ForeignLines int64   `json:"foreign_lines"`
	// Avoidable is what of the estimate characters cost that could be replaced safely.
	Avoidable         []Money `json:"avoidable"`
	AvoidableMessages int64   `json:"avoidable_messages"`
}

// Charged is what gateways charge.
type Charged struct {
	Messages int64   `json:"messages"` // that were charged for
	Charged  []Money `json:"charged"`
	Compared int64   `json:"compared"` // those of them that have an estimate in the same currency
	Over     []Money `json:"over"`     // by how much these were charged above their estimate; below nothing if less
}

// Arrivals is how long messages took and how many arrived, within whole hours or days.
type Arrivals struct {
	Since  time.Time      `json:"since"`
	Until  time.Time      `json:"until"`
	Step   string         `json:"step"` // hour or day, of UTC
	By     string         `json:"by"`   // what is held side by side: gateway, country or kind
	All    ArrivalGroup   `json:"all"`
	Groups []ArrivalGroup `json:"groups"` // those with the most messages first
}

// ArrivalGroup is how messages fared that have something in common, in all and over time.
type ArrivalGroup struct {
	Gateway string `json:"gateway"`
	Country string `json:"country"`
	Kind    string `json:"kind"`
	Faring
	Histogram []ArrivalBar `json:"histogram"`
	Course    []Faring     `json:"course"`
}

// Faring is how messages fared: those that were accepted in a span of time, and how long those took
// that arrived in it.
type Faring struct {
	At           *time.Time `json:"at,omitempty"` // when the hour or day began
	Messages     int64      `json:"messages"`
	Delivered    int64      `json:"delivered"`
	Failed       int64      `json:"failed"`        // undeliverable, expired, rejected or unknown
	DeliveryRate *float64   `json:"delivery_rate"` // of those whose end is known; nil: of none is
	Arrived      int64      `json:"arrived"`       // of which it is known how long they took
	P50Ms        *int64     `json:"p50_ms"`        // half of them took so long at most; nil: of none is it known
	P90Ms        *int64     `json:"p90_ms"`
	P99Ms        *int64     `json:"p99_ms"`
}

// ArrivalBar is how many messages took from so long to so long.
type ArrivalBar struct {
	FromMs int64  `json:"from_ms"`
	ToMs   *int64 `json:"to_ms"` // nil: or longer
	N      int64  `json:"n"`
}

// Chase is a wish that gateways be asked about messages at once.
type Chase struct {
	Messages []string `json:"messages"`
	DryRun   bool     `json:"dry_run,omitempty"`
}

// Chased is about how many messages it is asked, and what that costs.
type Chased struct {
	Messages int              `json:"messages"`
	Requests int              `json:"requests"`
	Gateways []ChaseCost      `json:"gateways"`
	Refused  []MessageRefused `json:"refused"`
	DryRun   bool             `json:"dry_run"`
}

// ChaseCost is what asking a gateway costs.
type ChaseCost struct {
	Gateway   string `json:"gateway"`
	Messages  int    `json:"messages"`
	Requests  int    `json:"requests"`
	PerSecond int    `json:"per_second"` // that it allows, submissions among them
}

// Statement is a gateway's own list or bill of what it carried.
type Statement struct {
	ID           string           `json:"id"`
	Gateway      string           `json:"gateway"`
	Name         string           `json:"name"`       // of the file
	State        string           `json:"state"`      // reading, matching, applying, done, withdrawing or withdrawn
	Recognised   string           `json:"recognised"` // what the file was taken for
	Columns      []string         `json:"columns"`
	Mapping      StatementMapping `json:"mapping"`
	Lines        int64            `json:"lines"`
	From         *time.Time       `json:"from"` // the span of time that it is about
	Until        *time.Time       `json:"until"`
	CreatedAt    time.Time        `json:"created_at"`
	By           string           `json:"by"`
	FinishedAt   *time.Time       `json:"finished_at"`
	WithdrawnAt  *time.Time       `json:"withdrawn_at"`
	WithdrawnBy  string           `json:"withdrawn_by"`
	WithdrawnWhy string           `json:"withdrawn_why"`
	Heaps        *StatementHeaps  `json:"heaps"` // nil: not known yet
}

// StatementMapping is how a statement is read.
type StatementMapping struct {
	// Columns are the names of columns, by what they are for: id, reference, number, sender, at, status, segments,
	// charge, currency.
	Columns    map[string]string `json:"columns"`
	Zone       string            `json:"zone,omitempty"`        // of times without one (IANA); UTC if empty
	MonthFirst bool              `json:"month_first,omitempty"` // 11/15/2026 and not 15/11/2026
	Comma      bool              `json:"comma,omitempty"`       // a comma stands before the fraction of numbers
	Currency   string            `json:"currency,omitempty"`    // of charges without one
	Dialect    bool              `json:"dialect,omitempty"`     // lines are read as the dialect says, and not by columns
}

// StatementHeaps are the five heaps into which a statement falls, and its money.
type StatementHeaps struct {
	Agrees        int64   `json:"agrees"`
	State         int64   `json:"state"`  // the state differs
	Money         int64   `json:"money"`  // segments or charge differ
	Theirs        int64   `json:"theirs"` // lines of no message
	Ours          int64   `json:"ours"`   // messages of no line
	Tied          int64   `json:"tied"`   // of theirs: it could be several
	Unreadable    int64   `json:"unreadable"`
	Weak          int64   `json:"weak"` // matched by number and time
	OurSegments   int64   `json:"our_segments"`
	TheirSegments int64   `json:"their_segments"`
	Estimated     []Money `json:"estimated"` // of lines with a message
	Billed        []Money `json:"billed"`
	Unmatched     []Money `json:"unmatched"` // billed for lines without one
	Equation      string  `json:"equation"`
}

// StatementLine is a line of a statement, and what it was matched with.
type StatementLine struct {
	Statement    string     `json:"statement"`
	N            int        `json:"n"`
	GatewayRef   string     `json:"gateway_ref"`
	Reference    string     `json:"reference"`
	Number       string     `json:"number"`
	Sender       string     `json:"sender"`
	At           *time.Time `json:"at"`
	State        string     `json:"state"`
	Cause        string     `json:"cause"`
	Code         string     `json:"code"`
	Segments     int        `json:"segments"` // 0: not said
	Charge       *Money     `json:"charge"`   // nil: not said
	Wrong        string     `json:"wrong"`    // why it cannot be read
	Heap         string     `json:"heap"`
	How          string     `json:"how"`     // id, reference, number, none, tied or unreadable
	Message      string     `json:"message"` // empty: none
	OursState    string     `json:"ours_state"`
	OursSegments int        `json:"ours_segments"`
	OursPrice    *Money     `json:"ours_price"`
}

// StatementTaken is what came of taking a statement in.
type StatementTaken struct {
	Statement Statement       `json:"statement"`
	Again     bool            `json:"again"` // the same file was taken in before, and nothing was changed
	First     []StatementLine `json:"first"` // its first lines, as they are read
}

// StatementHint is how a statement is to be read. What is empty is recognised.
type StatementHint struct {
	Gateway     string
	File        string
	Encoding    string
	Delimiter   string
	Sheet       string
	Locale      string
	HeadRow     int
	Mapping     *StatementMapping
	From, Until time.Time
	DryRun      bool
}

// Why is a reason.
type Why struct {
	Why string `json:"why,omitempty"`
}
