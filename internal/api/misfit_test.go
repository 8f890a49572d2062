package api

import (
	"strings"
	"testing"

	"calmpigeon.example/internal/core/vary"
	"github.com/gin-gonic/gin"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/fault"
)

// All that keeps a body from being what is expected is told, by where it is.
func TestMisfits(t *testing.T) {
	t.Parallel()
	said := func(err error) string {
		var all []string
		for _, f := range fault.Of(err) {
			all = append(all, f.Field+": "+f.Wrong+"; "+f.Accepted)
		}
		return strings.Join(all, "\n")
	}
	_, err := read[client.Draft](asked("POST", "/", "application/json",
		`{"to": 447700900123, "text": ["x"], "flash": "yes", "valid_for": true, "feilds": {}, "fields": 3, "kind": null}`))
	want := []string{
		"to: it is the number 447700900123; a string",
		"text: it is a list; a string",
		"valid_for: it is true or false; seconds, or numbers with units",
		"fields: it is the number 3; an object",
		"flash: it is a string; true or false",
		"feilds: there is no such field; to, text, sender",
	}
	for _, one := range want {
		if !strings.Contains(said(err), one) {
			t.Errorf("%v\nlacks %s", said(err), one)
		}
	}
	if n := len(fault.Of(err)); n != len(want) {
		t.Errorf("%d are told, want %d", n, len(want))
	}
	_, err = read[client.Routes](asked("POST", "/", "application/json",
		`{"items": [{"name": "a", "gateways": [{"gateway": "x"}, {"gateway": 1, "wait": 2}]}, 7]}`))
	if got := said(err); got != "items[0].gateways[1].gateway: it is the number 1; a string\n"+
		"items[0].gateways[1].wait: there is no such field; gateway, weight\nitems[1]: it is the number 7; an object" {
		t.Errorf("of a list:\n%s", got)
	}
	_, err = read[client.NewGateway](asked("POST", "/", "application/json", `{"secrets": {"key": 1, "other": "x"}, "ask_after": 30}`))
	if got := said(err); got != "secrets.key: it is the number 1; a string" {
		t.Errorf("of a map:\n%s", got)
	}
	if _, err = read[client.Routes](asked("POST", "/", "application/json", `{"items": [`+strings.Repeat("1,", 5000)+`1]}`)); len(
		fault.Of(err),
	) != 20 {
		t.Errorf("of very much, %d are told", len(fault.Of(err)))
	}
}

// Whatever a body is, it is read or refused with what is wrong.
func FuzzRead(f *testing.F) {
	seeds := []string{`{"to":"+447700900123","text":"x","fields":{"a":[1,{"b":null}]},"valid_for":300,"flash":true}`,
		`{"items":[{"name":"a","countries":["GB"],"gateways":[{"gateway":"x","weight":3}]}],"next":""}`,
		`{"secrets":{"key":"x"},"ask_after":"10s","per_second":1e3,"senders":["a"]}`}
	vary.Of(f, 5000, seeds, func(s string) { f.Add([]byte(s)) })
	f.Fuzz(func(t *testing.T, body []byte) {
		c := func() *gin.Context { return asked("POST", "/", "application/json", string(body)) }
		_, draft := read[client.Draft](c())
		_, routes := read[client.Routes](c())
		_, gateway := read[client.NewGateway](c())
		for _, err := range []error{draft, routes, gateway} {
			for _, one := range fault.Of(err) {
				if one.Wrong == "" || one.Accepted == "" {
					t.Fatalf("%q: %+v", body, one)
				}
			}
		}
	})
}
