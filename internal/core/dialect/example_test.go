package dialect_test

import (
	"fmt"
	"time"

	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/core/phone"
)

// A dialect says how one gateway speaks: what a request looks like, and what its
// answers mean.
func ExampleLoad() {
	d, err := dialect.Load("quayside.yaml", []byte(`dialect: quayside
secrets: [api_key]
submit:
  request: {post: /texts, bearer: api_key, json: '{number: .to, body: .text}'}
  reply:
    - {when: .status == 200 and .body.ok, read: '{gateway_ref: .body.id, state: "accepted"}'}
    - {when: .status == 200, refused: content_refused}
`))
	if err != nil {
		fmt.Println(err)
		return
	}
	number, _ := phone.Parse("+447700900123")
	means := dialect.Means{Secrets: map[string]string{"api_key": "k-1"}}
	request, err := d.SubmitRequest([]dialect.Message{{To: number, Text: "Berth 3"}}, means)
	fmt.Println(request.Method, request.Path, string(request.Body), err)

	now := time.Date(2026, 11, 15, 12, 0, 0, 0, time.UTC)
	json := map[string]string{"content-type": "application/json"}
	taken := d.ReadSubmit(dialect.Reply{Status: 200, Header: json, Body: []byte(`{"ok":true,"id":"q-1"}`)}, now)
	fmt.Println(taken.Items[0].State, taken.Items[0].GatewayRef)
	// A failure hidden inside a 200 is one all the same.
	refused := d.ReadSubmit(dialect.Reply{Status: 200, Header: json, Body: []byte(`{"ok":false}`)}, now)
	fmt.Println(refused.Meaning == dialect.NotTaken, refused.Cause)
	// Output:
	// POST /texts {"body":"Berth 3","number":"+447700900123"} <nil>
	// accepted q-1
	// true content_refused
}
