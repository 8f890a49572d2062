package dialect

import (
	"encoding/json"
	"fmt"
	"reflect"
	"time"
)

// Played is what came of one recorded example.
type Played struct {
	Kind   string // reply, answer or receipt
	Status int    // 0 of a receipt
	// Want is what the example says that it gives, Got what it gave.
	Want, Got any
	// Wrong is why it did not pass; empty if it did.
	Wrong string
}

// Play reads every recorded example of the file, in order.
func (d *Dialect) Play() []Played {
	all := make([]Played, len(d.Examples))
	for i, example := range d.Examples {
		p := &all[i]
		switch {
		case example.Reply != nil:
			p.Kind, p.Status = "reply", example.Reply.Status
		case example.Answer != nil:
			p.Kind, p.Status = "answer", example.Answer.Status
		case example.Receipt != nil:
			p.Kind = "receipt"
		}
		var err error
		if p.Got, err = d.playOne(example); err == nil {
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

func (d *Dialect) playOne(example Example) (any, error) {
	recorded := func(r *ExampleReply) (Reply, error) {
		body, isText := r.Body.(string)
		if isText || r.Body == nil {
			return Reply{Status: r.Status, Header: r.Headers, Body: []byte(body)}, nil
		}
		encoded, err := json.Marshal(r.Body)
		return Reply{Status: r.Status, Header: r.Headers, Body: encoded}, err
	}
	var reading Reading
	switch {
	case example.Reply != nil:
		reply, err := recorded(example.Reply)
		if err != nil {
			return nil, err
		}
		reading = d.ReadSubmit(reply, time.Time{})
	case example.Answer != nil && d.Query != nil:
		reply, err := recorded(example.Answer)
		if err != nil {
			return nil, err
		}
		reading = d.ReadQuery(reply, time.Time{})
	case example.Receipt != nil:
		reply, err := recorded(example.Receipt)
		if err != nil {
			return nil, err
		}
		reading = d.ReadReceipt(Incoming{Method: "POST", Header: reply.Header, Body: reply.Body})
	default:
		return nil, fmt.Errorf("expected a reply, an answer or a receipt")
	}
	return jsonValue(reading.object())
}

// object writes a reading as an example's gives does.
func (r Reading) object() map[string]any {
	switch r.Meaning {
	case Unreadable:
		return map[string]any{"unreadable": true}
	case Absent:
		return map[string]any{"absent": true}
	case NotTaken:
		object := map[string]any{"not_taken": r.Cause}
		if r.RetryAfter > 0 {
			object["retry_after"] = r.RetryAfter.Seconds()
		}
		return object
	}
	item := r.Items[0]
	object := map[string]any{}
	for name, value := range map[string]any{
		"reference": item.Reference, "gateway_ref": item.GatewayRef, "state": item.State, "cause": item.Cause,
		"code": item.Code, "note": item.Note, "segments": item.Segments, "part": item.Part, "parts": item.Parts,
	} {
		if !reflect.ValueOf(value).IsZero() {
			object[name] = value
		}
	}
	return object
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
