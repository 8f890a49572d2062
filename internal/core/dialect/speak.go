package dialect

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/url"
	"strings"

	"calmpigeon.example/internal/core/phone"
)

// Message is what a submission or a query is about.
type Message struct {
	ID         string // our reference
	To         phone.Number
	Sender     string
	Text       string
	Kind       string
	Encoding   string
	Segments   int
	ReceiptURL string
	ValidFor   int // seconds
	GatewayRef string
}

// Request is an HTTP request as it goes out, but for the gateway's address.
type Request struct {
	Method string
	Path   string
	Header map[string]string
	Body   []byte
}

func (f NumberForm) write(n phone.Number) string {
	switch f {
	case Digits:
		return n.Digits()
	case Zeros:
		return "00" + n.Digits()
	}
	return n.String()
}

func (d *Dialect) input(m Message) map[string]any {
	return map[string]any{
		"id": m.ID, "to": d.Number.write(m.To), "sender": m.Sender, "text": m.Text, "kind": m.Kind,
		"encoding": m.Encoding, "segments": m.Segments, "receipt_url": m.ReceiptURL,
		"valid_for": m.ValidFor, "gateway_ref": m.GatewayRef,
	}
}

// SubmitRequest builds the request that hands the message to the gateway.
func (d *Dialect) SubmitRequest(m Message, secrets map[string]string) (Request, error) {
	return d.request(d.Submit.Request, m, secrets)
}

// CanAsk reports whether a query can be made with what is known of the message.
func (d *Dialect) CanAsk(gatewayRef string) bool {
	return d.Query != nil &&
		(gatewayRef != "" || !strings.Contains(d.Query.Request.Get+d.Query.Request.Post+d.Query.Request.JSON.source, "gateway_ref"))
}

// QueryRequest builds the request that asks what became of the message.
func (d *Dialect) QueryRequest(m Message, secrets map[string]string) (Request, error) {
	return d.request(d.Query.Request, m, secrets)
}

func (d *Dialect) request(rule RequestRule, m Message, secrets map[string]string) (Request, error) {
	input := d.input(m)
	r := Request{Method: "GET", Path: rule.Get, Header: map[string]string{"Accept": "application/json"}}
	if rule.Post != "" {
		r.Method, r.Path = "POST", rule.Post
	}
	for name, value := range input {
		if hole := "{" + name + "}"; strings.Contains(r.Path, hole) {
			r.Path = strings.ReplaceAll(r.Path, hole, url.PathEscape(fmt.Sprint(value)))
		}
	}
	if rule.Bearer != "" {
		r.Header["Authorization"] = "Bearer " + secrets[rule.Bearer]
	}
	if rule.JSON.set() {
		value, err := rule.JSON.one(input)
		if err != nil {
			return Request{}, fmt.Errorf("dialect %s: building the body: %w", d.Name, err)
		}
		var body bytes.Buffer
		encoder := json.NewEncoder(&body)
		encoder.SetEscapeHTML(false)
		if err := encoder.Encode(value); err != nil {
			return Request{}, fmt.Errorf("dialect %s: building the body: %w", d.Name, err)
		}
		r.Body = bytes.TrimRight(body.Bytes(), "\n")
		r.Header["Content-Type"] = "application/json"
	}
	return r, nil
}
