package dialect

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
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
}

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
		r, err := d.follow(rule, input, now)
		if err != nil {
			return unreadable("status %d: %v", reply.Status, err)
		}
		return r
	}
	return unreadable("status %d: no rule of dialect %s holds for this reply", reply.Status, d.Name)
}

// follow reads a reply as the rule that holds for it says.
func (d *Dialect) follow(rule ReplyRule, input any, now time.Time) (Reading, error) {
	r := Reading{Meaning: Read}
	if rule.Balance.set() {
		value, err := rule.Balance.one(input)
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
		wait, err := rule.Limited.one(input)
		if err != nil {
			return r, err
		}
		r.Meaning, r.Cause, r.RetryAfter = NotTaken, delivery.Limited, retryAfter(wait, now)
	case rule.Token.set():
		return r, rule.token(&r, input)
	case rule.Read.set():
		items, err := d.items(rule.Read, input)
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

func (rule ReplyRule) token(r *Reading, input any) error {
	value, err := rule.Token.one(input)
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

// Incoming is a pushed request as it came in. Header names are in small
// letters.
type Incoming struct {
	Method string
	Query  string // raw
	Header map[string]string
	Body   []byte
}

// value is what the expressions see.
func (in Incoming) value() (map[string]any, error) {
	query, err := url.ParseQuery(in.Query)
	if err != nil {
		return nil, fmt.Errorf("query string: %w", err)
	}
	return map[string]any{
		"method": in.Method, "query": valuesObject(query), "headers": headerObject(in.Header),
		"body": bodyValue(in.Header["content-type"], in.Body), "raw": cleanText(string(in.Body)),
	}, nil
}

// Proves reports whether what was pushed proves to come from the gateway. The
// comparison takes the same time whatever is wrong.
func (rule *PushRule) Proves(in Incoming, secrets map[string]string) bool {
	if rule == nil {
		return false
	}
	g := rule.Genuine
	if g == nil {
		return true
	}
	if g.HMACSHA256 != "" && !g.signed(in, secrets) {
		return false
	}
	if g.Basic != nil {
		given, _ := base64.StdEncoding.DecodeString(strings.TrimPrefix(in.Header["authorization"], "Basic "))
		if !hmac.Equal(given, []byte(secrets[g.Basic.User]+":"+secrets[g.Basic.Password])) {
			return false
		}
	}
	if g.Same.set() {
		input, err := in.value()
		if err != nil {
			return false
		}
		pair, err := g.Same.all(Means{Secrets: secrets}.into(input))
		if err != nil || len(pair) != 2 {
			return false
		}
		one, err1 := scalar(pair[0])
		other, err2 := scalar(pair[1])
		return err1 == nil && err2 == nil && one != "" && hmac.Equal([]byte(one), []byte(other))
	}
	return true
}

func (g *Genuine) signed(in Incoming, secrets map[string]string) bool {
	over := in.Body
	if g.Over.set() {
		input, err := in.value()
		if err != nil {
			return false
		}
		input["raw"] = string(in.Body) // all of it: a signature is over all
		value, err := g.Over.one(input)
		if err != nil {
			return false
		}
		text, err := scalar(value)
		if err != nil {
			return false
		}
		over = []byte(text)
	}
	mac := hmac.New(sha256.New, []byte(secrets[g.HMACSHA256]))
	mac.Write(over)
	header := in.Header[strings.ToLower(g.Header)]
	var given []byte
	if g.As == "base64" {
		given, _ = base64.StdEncoding.DecodeString(header)
	} else {
		given, _ = hex.DecodeString(header)
	}
	return hmac.Equal(mac.Sum(nil), given)
}

// Pushed is the rule for what was pushed: inbound messages and receipts may
// come to the same address. It is the receipt's where nothing else fits.
func (d *Dialect) Pushed(in Incoming) *PushRule {
	if d.Receipt == nil {
		return d.Inbound
	}
	if d.Inbound == nil {
		return d.Receipt
	}
	input, err := in.value()
	if err != nil {
		return d.Receipt
	}
	if ok, err := d.Inbound.speaks(input); ok && err == nil && d.Inbound.When.set() {
		return d.Inbound
	}
	if ok, err := d.Receipt.speaks(input); !ok && err == nil {
		return d.Inbound
	}
	return d.Receipt
}

// speaks reports whether what was pushed is what the rule is for.
func (rule *PushRule) speaks(input any) (bool, error) {
	if !rule.When.set() {
		return true, nil
	}
	return rule.When.holds(input)
}

// ReadReceipt reads a pushed receipt, which may speak of many messages.
func (d *Dialect) ReadReceipt(in Incoming) Reading {
	if d.Receipt == nil {
		return unreadable("dialect %s has no receipts", d.Name)
	}
	input, err := in.value()
	if err != nil {
		return unreadable("%v", err)
	}
	if ok, err := d.Receipt.speaks(input); err != nil || !ok {
		return unreadable("it is no receipt by what dialect %s says %s", d.Name, orNothing(err))
	}
	items, err := d.items(d.Receipt.Read, input)
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
		if item.NotTaken != "" {
			return unreadable("code %s says that a message was not taken, which only the reply to a submission can", item.Code)
		}
	}
	return Reading{Meaning: Read, Items: items}
}

func orNothing(err error) string {
	if err == nil {
		return ""
	}
	return "(" + err.Error() + ")"
}

// Arrival is an inbound message: somebody wrote to one of our senders.
type Arrival struct {
	From, To string // as the gateway writes them
	Text     string
	ID       string // the gateway's own
	At       time.Time
}

// ReadInbound reads pushed inbound messages.
func (d *Dialect) ReadInbound(in Incoming) ([]Arrival, error) {
	if d.Inbound == nil {
		return nil, fmt.Errorf("dialect %s has no inbound messages", d.Name)
	}
	input, err := in.value()
	if err != nil {
		return nil, err
	}
	if ok, err := d.Inbound.speaks(input); err != nil || !ok {
		return nil, fmt.Errorf("it is no inbound message by what dialect %s says %s", d.Name, orNothing(err))
	}
	values, err := d.Inbound.Read.all(input)
	if err != nil {
		return nil, err
	}
	arrivals := make([]Arrival, len(values))
	for i, value := range values {
		object, ok := value.(map[string]any)
		if !ok {
			return nil, fmt.Errorf("jq %s: %T where an object was expected", d.Inbound.Read.source, value)
		}
		a := &arrivals[i]
		a.At = moment(object["at"])
		for name, to := range map[string]*string{"from": &a.From, "to": &a.To, "text": &a.Text, "id": &a.ID} {
			if *to, err = word(object[name]); err != nil {
				return nil, fmt.Errorf("%s: %w", name, err)
			}
		}
		if a.From == "" {
			return nil, errors.New("the inbound message does not say who wrote it")
		}
	}
	if len(arrivals) == 0 {
		return nil, errors.New("there is no inbound message in it")
	}
	return arrivals, nil
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
				item.Index, err = whole(value)
				item.Index++
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
			item.Segments, err = whole(value)
		case "part":
			item.Part, err = whole(value)
		case "parts":
			item.Parts, err = whole(value)
		case "charge":
			if value != nil {
				item.Charge, err = money(value)
			}
		case "at":
			item.At = moment(value)
		default:
			err = fmt.Errorf("not known; accepted are reference, gateway_ref, to, index, state, cause, code, note, segments, part, parts, charge, at, not_taken, absent")
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

// Divide gives the items of a reply to the messages of the request, in their
// order: by our reference, by the gateway's id, by place, or by number, with
// whatever an item has, in this order. An item with none of them speaks of the
// only message there is, or, if it is the only item, of all. What speaks of no
// message of the request is left over.
func (d *Dialect) Divide(items []Item, messages []Message) (each [][]Item, over []Item) {
	each = make([][]Item, len(messages))
	byID, byRef, byNumber := map[string]int{}, map[string]int{}, map[string]int{}
	for i, m := range messages {
		byID[m.ID] = i
		if m.GatewayRef != "" {
			byRef[m.GatewayRef] = i
		}
		byNumber[bare(d.Number.write(m.To))] = i
		byNumber[m.To.Digits()] = i
	}
	for _, item := range items {
		at, known := -1, false
		find := func(table map[string]int, key string) {
			if i, ok := table[key]; ok && key != "" {
				at, known = i, true
			}
		}
		find(byID, item.Reference)
		if !known {
			find(byRef, item.GatewayRef)
		}
		if !known && item.Reference == "" && item.Index > 0 && item.Index <= len(messages) {
			at, known = item.Index-1, true
		}
		if !known && item.Reference == "" && item.Index == 0 {
			find(byNumber, bare(item.To))
		}
		nameless := item.Reference == "" && item.To == "" && item.Index == 0 && (item.GatewayRef == "" || len(byRef) == 0)
		switch {
		case known:
			each[at] = append(each[at], item)
		case nameless && len(messages) == 1:
			each[0] = append(each[0], item)
		case nameless && len(items) == 1:
			for i := range each {
				each[i] = append(each[i], item)
			}
		default:
			over = append(over, item)
		}
	}
	return each, over
}

// bare is a number without what gateways write around it.
func bare(number string) string {
	return strings.TrimPrefix(strings.TrimLeft(strings.TrimPrefix(strings.TrimSpace(number), "tel:"), "+ "), "00")
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
