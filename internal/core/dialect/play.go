package dialect

import (
	"context"
	"encoding/json"
	"fmt"
	"reflect"
	"strings"
	"time"

	"calmpigeon.example/internal/core/jq"
)

// Played is what came of one recorded example.
type Played struct {
	Kind   string // reply, answer, receipt, inbound, token, balance or statement
	Status int    // 0 of what is pushed
	// Want is what the example says that it gives, Got what it gave.
	Want, Got any
	// Wrong is why it did not pass; empty if it did.
	Wrong string
}

// playing is what all examples of a file together may use.
var playing = jq.Limits{Time: 5 * time.Second, Memory: 2 * jq.Usual.Memory, Steps: 2 * jq.Usual.Steps}

// Play reads every recorded example of the file, in order. What is left when ctx
// ends did not pass.
func (d *Dialect) Play(ctx context.Context) []Played {
	m := jq.NewMeter(ctx, playing)
	defer m.Close()
	d = d.Within(m)
	all := make([]Played, len(d.Examples))
	for i, example := range d.Examples {
		p := &all[i]
		var recorded *Recorded
		p.Kind, recorded = example.recorded()
		p.Status = recorded.Status
		var err error
		if p.Got, err = d.playOne(p.Kind, recorded); err == nil {
			p.Want, err = jsonValue(example.Gives)
		}
		switch {
		case err != nil:
			p.Wrong = err.Error()
		case !reflect.DeepEqual(p.Got, p.Want):
			p.Wrong = "it gives something else"
		}
	}
	return all
}

func (e Example) recorded() (kind string, r *Recorded) {
	switch {
	case e.Reply != nil:
		return "reply", e.Reply
	case e.Answer != nil:
		return "answer", e.Answer
	case e.Receipt != nil:
		return "receipt", e.Receipt
	case e.Inbound != nil:
		return "inbound", e.Inbound
	case e.Token != nil:
		return "token", e.Token
	case e.Balance != nil:
		return "balance", e.Balance
	}
	return "statement", e.Statement
}

// text is the body as it came, and its type if that is plain from it.
func (r *Recorded) text() (body []byte, contentType string, err error) {
	if text, ok := r.Body.(string); ok || r.Body == nil {
		return []byte(text), "", nil
	}
	body, err = json.Marshal(r.Body)
	return body, "application/json", err
}

func (d *Dialect) playOne(kind string, r *Recorded) (any, error) {
	body, contentType, err := r.text()
	if err != nil {
		return nil, err
	}
	header := map[string]string{}
	if contentType != "" {
		header["content-type"] = contentType
	}
	for name, value := range r.Headers {
		header[strings.ToLower(name)] = value
	}
	reply := Reply{Status: r.Status, Header: header, Body: body}
	pushed := Incoming{Method: r.Method, Query: r.Query, Header: header, Body: body}
	switch kind {
	case "reply":
		return d.ReadSubmit(reply, time.Time{}).Value()
	case "answer":
		return d.ReadQuery(reply, time.Time{}).Value()
	case "receipt":
		return d.ReadReceipt(pushed).Value()
	case "token":
		return d.ReadToken(reply, time.Time{}).Value()
	case "balance":
		return d.ReadBalance(reply, time.Time{}).Value()
	case "inbound":
		arrivals, err := d.ReadInbound(pushed)
		if err != nil {
			return map[string]any{"unreadable": true}, nil
		}
		objects := make([]map[string]any, len(arrivals))
		for i, a := range arrivals {
			objects[i] = said(map[string]any{"from": a.From, "to": a.To, "text": a.Text, "id": a.ID})
		}
		return oneOrAll(objects)
	}
	var objects []map[string]any
	for item, err := range d.ReadStatement(strings.NewReader(string(body))) {
		if err != nil {
			return nil, err
		}
		objects = append(objects, item.object())
	}
	return oneOrAll(objects)
}

// Value writes a reading as an example's gives does.
func (r Reading) Value() (any, error) {
	switch r.Meaning {
	case Unreadable:
		return map[string]any{"unreadable": true}, nil
	case Absent:
		return map[string]any{"absent": true}, nil
	case NotTaken:
		return jsonValue(said(map[string]any{"not_taken": r.Cause, "retry_after": r.RetryAfter.Seconds(), "balance": r.Balance.value()}))
	}
	if len(r.Items) == 0 {
		return jsonValue(said(map[string]any{"token": r.Token, "expires_in": r.ExpiresIn.Seconds(), "balance": r.Balance.value()}))
	}
	objects := make([]map[string]any, len(r.Items))
	for i, item := range r.Items {
		objects[i] = item.object()
	}
	return oneOrAll(objects)
}

// value writes an amount as a number or, with a currency, as an object.
func (a *Amount) value() any {
	switch {
	case a == nil:
		return ""
	case a.Currency == "":
		return float64(a.Micros) / 1e6
	}
	return map[string]any{"amount": float64(a.Micros) / 1e6, "currency": a.Currency}
}

func (i Item) object() map[string]any {
	object := said(map[string]any{
		"reference": i.Reference, "gateway_ref": i.GatewayRef, "to": i.To, "state": i.State, "not_taken": i.NotTaken,
		"absent": i.Absent, "text": i.Text,
		"cause": i.Cause, "code": i.Code, "note": i.Note, "segments": i.Segments, "part": i.Part, "parts": i.Parts, "charge": i.Charge.value(),
	})
	if i.Index > 0 {
		object["index"] = i.Index - 1
	}
	return object
}

// said leaves out what was not said.
func said(object map[string]any) map[string]any {
	for name, value := range object {
		if reflect.ValueOf(value).IsZero() {
			delete(object, name)
		}
	}
	return object
}

func oneOrAll(objects []map[string]any) (any, error) {
	switch len(objects) {
	case 0:
		return nil, fmt.Errorf("nothing was read")
	case 1:
		return jsonValue(objects[0])
	}
	return jsonValue(objects)
}

// jsonValue passes a value through JSON, so that both sides of a comparison
// have the same types.
func jsonValue(value any) (any, error) {
	encoded, err := json.Marshal(value)
	if err != nil {
		return nil, err
	}
	var decoded any
	return decoded, json.Unmarshal(encoded, &decoded)
}
