package dialect

import (
	"fmt"
	"strings"
	"testing"
	"time"
	"unicode/utf8"
)

const writing = `dialect: writing
submit: {request: {post: /s, json: '{to}'}, reply: [{when: .status == 200, read: '{state: "accepted"}'}]}
inbound: {read: '.body | {from, to, text, id, at}'}
`

// A letter of many segments arrives whole, and what is longer than any text is
// cut between two characters.
func TestInboundTextsAreNotCut(t *testing.T) {
	t.Parallel()
	d, err := Load("writing.yaml", []byte(writing))
	if err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string]string{
		"long":       strings.Repeat("Η διαδρομή των 07:40 ", 200),
		"an emoji":   strings.Repeat("x", 998) + "⛴" + strings.Repeat("y", 500),
		"far beyond": strings.Repeat("⛴", textMost),
	} {
		got, err := d.ReadInbound(Incoming{Method: "POST", Header: map[string]string{"content-type": "application/json"},
			Body: fmt.Appendf(nil, `{"from": "447700900123", "to": "x", "id": "i-1", "text": %q}`, text)})
		if err != nil || len(got) != 1 {
			t.Fatalf("%s: %v, %v", name, got, err)
		}
		switch read := got[0].Text; {
		case len(text) <= textMost && read != text:
			t.Errorf("%s: %d bytes became %d", name, len(text), len(read))
		case len(read) > textMost+3 || !utf8.ValidString(read):
			t.Errorf("%s: %d bytes are kept, valid: %v", name, len(read), utf8.ValidString(read))
		}
	}
}

// Times come in seconds and in every fraction of them; what lies outside of 1990
// to 2100 was not said.
func TestMomentIsBounded(t *testing.T) {
	t.Parallel()
	want := time.Date(2026, 11, 15, 7, 40, 0, 0, time.UTC)
	for _, value := range []any{
		int(want.Unix()), int(want.UnixMilli()), int(want.UnixMicro()), int(want.UnixNano()),
		float64(want.Unix()), "2026-11-15T08:40:00+01:00",
	} {
		if got := moment(value); !got.Equal(want) {
			t.Errorf("%v reads as %v", value, got)
		}
	}
	for _, value := range []any{
		0, -1, 1 << 62, 4e300, -4e300, "1989-12-31T23:59:59Z", "2100-01-01T00:00:00Z", "0001-01-01T00:00:00Z", nil, true,
	} {
		if got := moment(value); !got.IsZero() {
			t.Errorf("%v reads as %v", value, got)
		}
	}
}
