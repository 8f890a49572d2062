package dialect

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"calmpigeon.example/internal/core/delivery"
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

// Reading is what was understood of a reply or receipt.
type Reading struct {
	Meaning Meaning
	Items   []Item
	// Cause and RetryAfter belong to NotTaken; RetryAfter is 0 if not said.
	Cause      delivery.Cause
	RetryAfter time.Duration
	// Note says why a reply is unreadable.
	Note string
}

// Item is what is said about one message.
type Item struct {
	Reference   string // ours, as it came back
	GatewayRef  string
	State       delivery.State // empty: nothing is claimed
	Cause       delivery.Cause
	Code, Note  string
	Segments    int
	Part, Parts int
	At          time.Time
}

// ReadSubmit reads the reply to a submission. now is needed for a Retry-After
// that is a date.
func (d *Dialect) ReadSubmit(reply Reply, now time.Time) Reading {
	return d.readReply(d.Submit.Reply, reply, now)
}

// ReadQuery reads the answer to a status query.
func (d *Dialect) ReadQuery(reply Reply, now time.Time) Reading {
	return d.readReply(d.Query.Reply, reply, now)
}

func unreadable(format string, args ...any) Reading {
	return Reading{Note: cleanText(fmt.Sprintf(format, args...))}
}

func (d *Dialect) readReply(rules []ReplyRule, reply Reply, now time.Time) Reading {
	input := map[string]any{
		"status": reply.Status, "headers": headerObject(reply.Header),
		"body": bodyValue(reply.Header["content-type"], reply.Body), "raw": cleanText(string(reply.Body)),
	}
	for _, rule := range rules {
		holds, err := rule.When.holds(input)
		if err != nil {
			return unreadable("%v", err)
		}
		if !holds {
			continue
		}
		switch {
		case rule.Absent:
			return Reading{Meaning: Absent}
		case rule.Refused != "":
			return Reading{Meaning: NotTaken, Cause: rule.Refused}
		case rule.Limited.set():
			wait, err := rule.Limited.one(input)
			if err != nil {
				return unreadable("%v", err)
			}
			return Reading{Meaning: NotTaken, Cause: delivery.Limited, RetryAfter: retryAfter(wait, now)}
		}
		items, err := d.items(rule.Read, input)
		if err != nil {
			return unreadable("%v", err)
		}
		if len(items) == 0 {
			return unreadable("status %d: the rule that holds read nothing", reply.Status)
		}
		return Reading{Meaning: Read, Items: items}
	}
	return unreadable("status %d: no rule of dialect %s holds for this reply", reply.Status, d.Name)
}

// Incoming is a pushed request as it came in. Header names are in small
// letters.
type Incoming struct {
	Method string
	Query  string // raw
	Header map[string]string
	Body   []byte
}

// Genuine reports whether a receipt proves to come from the gateway. The
// comparison takes the same time whatever is wrong.
func (d *Dialect) Genuine(in Incoming, secrets map[string]string) bool {
	if d.Receipt == nil {
		return false
	}
	g := d.Receipt.Genuine
	if g == nil {
		return true
	}
	mac := hmac.New(sha256.New, []byte(secrets[g.HMACSHA256]))
	mac.Write(in.Body)
	given, _ := hex.DecodeString(in.Header[strings.ToLower(g.Header)])
	return hmac.Equal(mac.Sum(nil), given)
}

// ReadReceipt reads a pushed receipt, which may speak of many messages.
func (d *Dialect) ReadReceipt(in Incoming) Reading {
	if d.Receipt == nil {
		return unreadable("dialect %s has no receipts", d.Name)
	}
	query, err := url.ParseQuery(in.Query)
	if err != nil {
		return unreadable("query string: %v", err)
	}
	items, err := d.items(d.Receipt.Read, map[string]any{
		"method": in.Method, "query": valuesObject(query), "headers": headerObject(in.Header),
		"body": bodyValue(in.Header["content-type"], in.Body), "raw": cleanText(string(in.Body)),
	})
	if err != nil {
		return unreadable("%v", err)
	}
	if len(items) == 0 {
		return unreadable("the receipt speaks of no message")
	}
	for _, item := range items {
		if item.Reference == "" && item.GatewayRef == "" {
			return unreadable("the receipt does not say of which message it speaks")
		}
	}
	return Reading{Meaning: Read, Items: items}
}

func (d *Dialect) items(expr Expr, input any) ([]Item, error) {
	values, err := expr.all(input)
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
	var state, cause string
	for name, value := range object {
		var err error
		switch name {
		case "reference":
			item.Reference, err = word(value)
		case "gateway_ref":
			item.GatewayRef, err = word(value)
		case "state":
			state, err = word(value)
		case "cause":
			cause, err = word(value)
		case "code":
			item.Code, err = word(value)
		case "note":
			item.Note, err = word(value)
		case "segments":
			item.Segments, err = whole(value)
		case "part":
			item.Part, err = whole(value)
		case "parts":
			item.Parts, err = whole(value)
		case "at":
			item.At = moment(value)
		default:
			err = fmt.Errorf("not known; accepted are reference, gateway_ref, state, cause, code, note, segments, part, parts, at")
		}
		if err != nil {
			return Item{}, fmt.Errorf("%s: %w", name, err)
		}
	}
	if item.Code != "" {
		if meaning, known := d.Codes[item.Code]; known {
			item.State, item.Cause = meaning.State, meaning.Cause
		} else if state == "" {
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
		item.State = given
	}
	if cause != "" {
		given, err := delivery.ParseCause(cause)
		if err != nil {
			return Item{}, err
		}
		item.Cause = given
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
