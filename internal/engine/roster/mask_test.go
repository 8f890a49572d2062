package roster

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"net/url"
	"strings"
	"testing"

	"calmpigeon.example/internal/store"
)

// However a secret is written, nothing of it is left.
func TestMaskKnowsHowSecretsAreWritten(t *testing.T) {
	t.Parallel()
	const secret, user = `qu/ay<side>&"7+é`, "ferries"
	g := &Gateway{
		Gateway: store.Gateway{Name: "quayside"},
		Secrets: map[string]string{"key": secret, "user": user, "pin": "44", "longer": secret + "-more",
			"quoted": `"in quotes"`},
		Callback: "the-callback",
	}
	quoted, _ := json.Marshal(secret)
	for name, tt := range map[string]struct{ text, want string }{
		"plain":                     {"a " + secret + " b", "a ‹key› b"},
		"in a query string":         {"k=" + url.QueryEscape(secret) + "&x", "k=‹key›&x"},
		"with small letters":        {"k=" + strings.ToLower(url.QueryEscape(secret)), "k=‹key›"},
		"in a path":                 {"/" + url.PathEscape(secret) + "/x", "/‹key›/x"},
		"in JSON":                   {"{" + string(quoted) + "}", `{"‹key›"}`},
		"in base64":                 {"x " + base64.StdEncoding.EncodeToString([]byte(secret)) + " y", "x ‹key› y"},
		"in base64 of addresses":    {"x " + base64.RawURLEncoding.EncodeToString([]byte(secret)) + " y", "x ‹key› y"},
		"with another, as Basic":    {"Basic " + base64.StdEncoding.EncodeToString([]byte(user+":"+secret)), "Basic ‹user:key›"},
		"in hexadecimal":            {"0x" + hex.EncodeToString([]byte(secret)), "0x‹key›"},
		"twice":                     {secret + secret, "‹key›‹key›"},
		"as part of another":        {secret + "-more", "‹longer›"},
		"a short one, which is not": {"+447700900123", "+447700900123"},
		"the callback's":            {"/receipts/quayside/the-callback", "/receipts/quayside/‹callback›"},
		"what is hidden besides":    {"Bearer tok-en-1 and " + user, "Bearer ‹token› and ‹user›"},
		"one with quotes, in JSON":  {`{"k":"\"in quotes\""}`, `{"k":"‹quoted›"}`},
		"nothing":                   {"Berth 3", "Berth 3"},
		"one byte":                  {"q", "q"},
	} {
		if got := g.Masking(map[string]string{"tok-en-1": "token"})(tt.text); got != tt.want {
			t.Errorf("%s: %q\ngot  %q\nwant %q", name, tt.text, got, tt.want)
		}
	}
	if got := g.Mask("Bearer tok-en-1 " + secret); got != "Bearer tok-en-1 ‹key›" {
		t.Errorf("without it: %q", got)
	}
}

func BenchmarkMask(b *testing.B) {
	g := &Gateway{
		Secrets:  map[string]string{"api_key": "a-key-of-thirty-two-characters-1", "receipt_secret": "a-key-of-thirty-two-characters-2"},
		Callback: "cccccccccccccccccccc",
	}
	g.mask = g.masked()
	text := strings.Repeat(`{"from":"Lanternholm","to":"+447700900123","text":"All Sunday crossings are cancelled."}`, 5)
	for b.Loop() {
		g.Mask(text)
	}
}
