package dialect

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"time"

	"calmpigeon.example/internal/core/jq"
)

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
	m := jq.NewMeter(context.Background(), jq.Usual)
	defer m.Close()
	if g.HMACSHA256 != "" && !g.signed(m, in, secrets) {
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
		pair, err := g.Same.all(m, Means{Secrets: secrets}.into(input))
		if err != nil || len(pair) != 2 {
			return false
		}
		one, err1 := scalar(pair[0])
		other, err2 := scalar(pair[1])
		return err1 == nil && err2 == nil && one != "" && hmac.Equal([]byte(one), []byte(other))
	}
	return true
}

// ProvedBy reports whether a header, named in small letters, bears what proves
// that a callback comes from the gateway.
func (rule *PushRule) ProvedBy(header string) bool {
	return header == "authorization" || rule != nil && rule.Genuine != nil && strings.EqualFold(header, rule.Genuine.Header)
}

func (g *Genuine) signed(m *jq.Meter, in Incoming, secrets map[string]string) bool {
	over := in.Body
	if g.Over.set() {
		input, err := in.value()
		if err != nil {
			return false
		}
		input["raw"] = string(in.Body) // all of it: a signature is over all
		value, err := g.Over.one(m, input)
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
	m, done := d.metered()
	defer done()
	if ok, err := d.Inbound.speaks(m, input); ok && err == nil && d.Inbound.When.set() {
		return d.Inbound
	}
	if ok, err := d.Receipt.speaks(m, input); !ok && err == nil {
		return d.Inbound
	}
	return d.Receipt
}

// speaks reports whether what was pushed is what the rule is for.
func (rule *PushRule) speaks(m *jq.Meter, input any) (bool, error) {
	if !rule.When.set() {
		return true, nil
	}
	return rule.When.holds(m, input)
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
	m, done := d.metered()
	defer done()
	if ok, err := d.Receipt.speaks(m, input); err != nil || !ok {
		return unreadable("it is no receipt by what dialect %s says %s", d.Name, orNothing(err))
	}
	items, err := d.items(m, d.Receipt.Read, input)
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
	m, done := d.metered()
	defer done()
	if ok, err := d.Inbound.speaks(m, input); err != nil || !ok {
		return nil, fmt.Errorf("it is no inbound message by what dialect %s says %s", d.Name, orNothing(err))
	}
	values, err := d.Inbound.Read.all(m, input)
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
		for name, to := range map[string]*string{"from": &a.From, "to": &a.To, "id": &a.ID} {
			if *to, err = word(object[name]); err != nil {
				return nil, fmt.Errorf("%s: %w", name, err)
			}
		}
		if object["text"] != nil {
			if a.Text, err = scalar(object["text"]); err != nil {
				return nil, fmt.Errorf("text: %w", err)
			}
			a.Text = bounded(a.Text, textMost)
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
