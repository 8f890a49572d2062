package dialect

import (
	"encoding/json"
	"fmt"
	"reflect"
	"time"
)

// Play reads every recorded example of the file and reports the first that
// gives something else than it says. It returns how many there are.
func (d *Dialect) Play() (int, error) {
	for i, example := range d.Examples {
		got, err := d.playOne(example)
		if err != nil {
			return len(d.Examples), fmt.Errorf("dialect %s: example %d: %w", d.Name, i+1, err)
		}
		want, err := jsonValue(example.Gives)
		if err != nil {
			return len(d.Examples), fmt.Errorf("dialect %s: example %d: %w", d.Name, i+1, err)
		}
		if !reflect.DeepEqual(got, want) {
			return len(d.Examples), fmt.Errorf("dialect %s: example %d gives %v, expected %v", d.Name, i+1, got, want)
		}
	}
	return len(d.Examples), nil
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
