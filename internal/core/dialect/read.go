package dialect

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/jq"
)

// Reply is an HTTP answer as it came in. Header names are in small letters.
type Reply struct {
	Status int
	Header map[string]string
	Body   []byte
}

// Meaning is what a reply as a whole says.
type Meaning int

// What a reply can mean.
const (
	Unreadable Meaning = iota // no rule holds or a rule failed: doubt, never success
	Read                      // there are items
	NotTaken                  // known not to have been taken
	Absent                    // the gateway knows no such message
)

// Reading is what was understood of a reply or of something pushed.
type Reading struct {
	Meaning Meaning
	Items   []Item
	// Cause and RetryAfter belong to NotTaken; RetryAfter is 0 if not said.
	Cause      delivery.Cause
	RetryAfter time.Duration
	// Balance is what is left on the account, if it was said.
	Balance *Amount
	// Token and ExpiresIn are what was fetched; ExpiresIn is 0 if not said.
	Token     string
	ExpiresIn time.Duration
	// Note says why a reply is unreadable.
	Note string
}

// Masked is the reading with its texts masked: what a gateway says in its own
// words may repeat a secret.
func (r Reading) Masked(mask func(string) string) Reading {
	r.Note = mask(r.Note)
	for i := range r.Items {
		r.Items[i].Code, r.Items[i].Note = mask(r.Items[i].Code), mask(r.Items[i].Note)
	}
	return r
}

// Amount is an amount of money as a gateway writes it, in millionths. Currency
// is empty if it does not say.
type Amount struct {
	Micros   int64
	Currency string
}

// Item is what is said about one message.
type Item struct {
	Reference   string // ours, as it came back
	GatewayRef  string
	To          string         // the number as the gateway writes it
	Index       int            // its place in the request, counted from 1; 0: not said
	State       delivery.State // empty: nothing is claimed
	NotTaken    delivery.Cause // it was not taken, for this cause, and may go again
	Absent      bool           // the gateway knows no such message
	Cause       delivery.Cause
	Code, Note  string
	Segments    int
	Part, Parts int
	Charge      *Amount
	At          time.Time
	Text        string // of the message, as far as it is said
}

// Known reports whether the gateway knows the message that it speaks of.
func (i Item) Known() bool { return i.State != "" && !i.Absent }

// ReadSubmit reads the reply to a submission. now is needed for a Retry-After
// that is a date.
func (d *Dialect) ReadSubmit(reply Reply, now time.Time) Reading {
	return d.readReply(d.Submit.Reply, reply, now)
}

// ReadQuery reads the answer to a status query.
func (d *Dialect) ReadQuery(reply Reply, now time.Time) Reading {
	r := d.readReply(d.Query.Reply, reply, now)
	for _, item := range r.Items {
		if item.NotTaken != "" {
			return unreadable("code %s says that a message was not taken, which only the reply to a submission can", item.Code)
		}
	}
	return r
}

// ReadBalance reads what is left on the account.
func (d *Dialect) ReadBalance(reply Reply, now time.Time) Reading {
	return d.readReply(d.Balance.Reply, reply, now)
}

// ReadToken reads a fetched token.
func (d *Dialect) ReadToken(reply Reply, now time.Time) Reading {
	return d.readReply(d.Token.Reply, reply, now)
}

func unreadable(format string, args ...any) Reading {
	return Reading{Note: cleanText(fmt.Sprintf(format, args...))}
}

func (d *Dialect) readReply(rules []ReplyRule, reply Reply, now time.Time) Reading {
	m, done := d.metered()
	defer done()
	input := map[string]any{
		"status": reply.Status, "headers": headerObject(reply.Header),
		"body": bodyValue(reply.Header["content-type"], reply.Body), "raw": cleanText(string(reply.Body)),
	}
	for _, rule := range rules {
		holds, err := rule.When.holds(m, input)
		if err != nil {
			return unreadable("%v", err)
		}
		if !holds {
			continue
		}
		r, err := d.follow(m, rule, input, now)
		if err != nil {
			return unreadable("status %d: %v", reply.Status, err)
		}
		return r
	}
	return unreadable("status %d: no rule of dialect %s holds for this reply", reply.Status, d.Name)
}

// follow reads a reply as the rule that holds for it says.
func (d *Dialect) follow(m *jq.Meter, rule ReplyRule, input any, now time.Time) (Reading, error) {
	r := Reading{Meaning: Read}
	if rule.Balance.set() {
		value, err := rule.Balance.one(m, input)
		if err == nil && value != nil {
			r.Balance, err = money(value)
		}
		// A balance that cannot be read is no reason to doubt what was said
		// about messages; of a question for the balance it is all there is.
		if err != nil && !rule.Read.set() {
			return r, fmt.Errorf("balance: %w", err)
		}
	}
	switch {
	case rule.Absent:
		r.Meaning = Absent
	case rule.Refused != "":
		r.Meaning, r.Cause = NotTaken, rule.Refused
	case rule.Limited.set():
		wait, err := rule.Limited.one(m, input)
		if err != nil {
			return r, err
		}
		r.Meaning, r.Cause, r.RetryAfter = NotTaken, delivery.Limited, retryAfter(wait, now)
	case rule.Token.set():
		return r, rule.token(m, &r, input)
	case rule.Read.set():
		items, err := d.items(m, rule.Read, input)
		if err != nil {
			return r, err
		}
		if len(items) == 0 {
			return r, errors.New("the rule that holds read nothing")
		}
		r.Items = items
	case r.Balance == nil:
		return r, errors.New("the rule that holds read no balance")
	}
	return r, nil
}

func (rule ReplyRule) token(m *jq.Meter, r *Reading, input any) error {
	value, err := rule.Token.one(m, input)
	if err != nil {
		return err
	}
	object, ok := value.(map[string]any)
	if !ok {
		return fmt.Errorf("jq %s: expected an object with token and expires_in", rule.Token.source)
	}
	if r.Token, err = scalar(object["token"]); err != nil || r.Token == "" || strings.ContainsAny(r.Token, "\r\n") {
		return fmt.Errorf("jq %s: expected an object with token and expires_in", rule.Token.source)
	}
	seconds, err := whole(object["expires_in"])
	r.ExpiresIn = time.Duration(min(max(seconds, 0), 365*24*3600)) * time.Second
	return err
}

// money reads an amount: a number, or {amount, currency}.
func money(value any) (*Amount, error) {
	a := &Amount{}
	var err error
	if object, ok := value.(map[string]any); ok {
		if a.Currency, err = word(object["currency"]); err != nil {
			return nil, err
		}
		value = object["amount"]
	}
	a.Micros, err = amount(value)
	return a, err
}

func (d *Dialect) items(m *jq.Meter, expr Expr, input any) ([]Item, error) {
	values, err := expr.all(m, input)
	if err != nil {
		return nil, err
	}
	items := make([]Item, 0, len(values))
	for _, value := range values {
		object, ok := value.(map[string]any)
		if !ok {
			return nil, fmt.Errorf("jq %s: %T where an object was expected", expr.source, value)
		}
		item, err := d.item(object)
		if err != nil {
			return nil, fmt.Errorf("jq %s: %w", expr.source, err)
		}
		items = append(items, item)
	}
	return items, nil
}

func (d *Dialect) item(object map[string]any) (Item, error) {
	var item Item
	var state, cause, notTaken string
	for name, value := range object {
		var err error
		switch name {
		case "reference":
			item.Reference, err = word(value)
		case "gateway_ref":
			item.GatewayRef, err = word(value)
		case "to":
			item.To, err = word(value)
		case "index":
			if value != nil {
				var n int
				if n, err = whole(value); n >= 0 && n < indexMost {
					item.Index = n + 1
				}
			}
		case "state":
			state, err = word(value)
		case "not_taken":
			notTaken, err = word(value)
		case "absent":
			item.Absent = value == true
		case "cause":
			cause, err = word(value)
		case "code":
			item.Code, err = word(value)
		case "note":
			item.Note, err = word(value)
		case "segments":
			item.Segments, err = count(value, segmentsMost)
		case "part":
			item.Part, err = count(value, segmentsMost)
		case "parts":
			item.Parts, err = count(value, segmentsMost)
		case "charge":
			if value != nil {
				item.Charge, err = money(value)
			}
		case "at":
			item.At = moment(value)
		case "text":
			item.Text, err = word(value)
		default:
			err = fmt.Errorf(
				"not known; accepted are reference, gateway_ref, to, index, state, cause, code, note, segments, part, parts, charge, " +
					"at, text, not_taken, absent",
			)
		}
		if err != nil {
			return Item{}, fmt.Errorf("%s: %w", name, err)
		}
	}
	if item.Code != "" {
		if meaning, known := d.Codes[item.Code]; known {
			item.State, item.Cause, item.NotTaken = meaning.State, meaning.Cause, meaning.NotTaken
		} else if state == "" && notTaken == "" && !item.Absent {
			item.Note = cleanText(strings.TrimSpace(fmt.Sprintf("code %s is not in dialect %s. %s", item.Code, d.Name, item.Note)))
		}
	}
	if state != "" {
		given, err := delivery.ParseGatewayState(state)
		if err != nil {
			return Item{}, err
		}
		if given != item.State && item.State != "" && cause == "" {
			item.Cause = "" // the table's cause belonged to the table's state
		}
		item.State, item.NotTaken = given, ""
	}
	var err error
	if cause != "" {
		if item.Cause, err = delivery.ParseCause(cause); err != nil {
			return Item{}, err
		}
	}
	if notTaken != "" {
		if item.NotTaken, err = delivery.ParseCause(notTaken); err != nil {
			return Item{}, err
		}
		item.State, item.Cause = "", ""
	}
	if failed := item.State == delivery.Undeliverable || item.State == delivery.Rejected; failed && item.Cause == "" {
		item.Cause = delivery.Unspecified
	}
	return item, nil
}

func headerObject(header map[string]string) map[string]any {
	object := make(map[string]any, len(header))
	for name, value := range header {
		object[name] = value
	}
	return object
}

// retryAfter reads seconds or an HTTP date (RFC 9110 §10.2.3). It is capped at
// an hour: a gateway's slip must not park messages for a year.
func retryAfter(value any, now time.Time) time.Duration {
	var wait time.Duration
	switch v := value.(type) {
	case int:
		wait = time.Duration(min(v, 3600)) * time.Second
	case float64:
		wait = time.Duration(min(v, 3600) * float64(time.Second))
	case string:
		if seconds, err := strconv.Atoi(strings.TrimSpace(v)); err == nil {
			wait = time.Duration(min(seconds, 3600)) * time.Second
		} else if at, err := time.Parse(time.RFC1123, v); err == nil {
			wait = at.Sub(now)
		}
	}
	return min(max(wait, 0), time.Hour)
}
