package webhook

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"strings"
	"testing"
	"time"

	"calmpigeon.example/internal/core/fault"
)

// The signature is worked out here anew, as the specification says it in words.
func TestSignature(t *testing.T) {
	t.Parallel()
	key := strings.Repeat("k", 24)
	secret, err := ParseSecret("whsec_" + base64.StdEncoding.EncodeToString([]byte(key)))
	if err != nil {
		t.Fatal(err)
	}
	at, body := time.Unix(1674087231, 999), []byte(`{"a": "é"}`)
	h := hmac.New(sha256.New, []byte(key))
	fmt.Fprintf(h, "msg_1.1674087231.%s", body)
	want := "v1," + base64.StdEncoding.EncodeToString(h.Sum(nil))
	other, err := NewSecret(strings.NewReader(strings.Repeat("x", 32)))
	if err != nil {
		t.Fatal(err)
	}
	got := Header([]Secret{secret, other}, "msg_1", at, body)
	signatures := strings.Fields(got[SignatureHeader])
	if got[IDHeader] != "msg_1" || got[TimeHeader] != "1674087231" || len(signatures) != 2 || signatures[0] != want ||
		signatures[1] == want {
		t.Errorf("%v, want %s", got, want)
	}
	if again, err := ParseSecret(other.Reveal()); err != nil || again != other || strings.Contains(fmt.Sprint(other), "eHh4") {
		t.Errorf("%v, %v", again, err)
	}
	if _, err := NewSecret(strings.NewReader("short")); err == nil {
		t.Error("a secret of five octets was made")
	}
}

func TestParseSecret(t *testing.T) {
	t.Parallel()
	of := func(n int) string { return "whsec_" + base64.StdEncoding.EncodeToString(make([]byte, n)) }
	for given, want := range map[string]string{
		of(24): "", of(32): "", of(64): "", of(23): "it has 23 octets", of(65): "it has 65 octets",
		"secret": "it does not begin with whsec_", "whsec_": "it has 0 octets", "whsec_*": "what follows whsec_ is not base64",
		"": "it does not begin with whsec_",
	} {
		got := ""
		if _, err := ParseSecret(given); err != nil {
			got = err.Error()
		}
		if got != want {
			t.Errorf("%q: %q, want %q", given, got, want)
		}
	}
}

// Pauses grow, vary by a fifth, and there are a score of them in a day: soon after one another at first, so that what
// is short is short, and seldom later.
func TestPauses(t *testing.T) {
	t.Parallel()
	var sum, last time.Duration
	tries := 0
	for ; sum < TryFor; tries++ {
		low, high := Pause(tries+1, 0), Pause(tries+1, 0.999)
		if low < last || high > low*10/8 || low > 90*time.Minute {
			t.Fatalf("after %d tries %v to %v, before it %v", tries+1, low, high, last)
		}
		last, sum = low, sum+(low+high)/2
	}
	if tries < 15 || tries > 30 || Pause(1, 0.5) != 5*time.Second || Pause(1<<30, 0.5) != 90*time.Minute || Pause(0, 0.5) != 5*time.Second {
		t.Errorf("%d tries in a day", tries)
	}
}

func TestTypes(t *testing.T) {
	t.Parallel()
	seen := map[Type]bool{}
	for _, one := range Types {
		if seen[one] || one.Text() == "" || one == Test || strings.HasSuffix(string(one), ".") {
			t.Errorf("%q: %q", one, one.Text())
		}
		seen[one] = true
	}
	if !seen["message.delivered"] || seen["message.sending"] || !seen["batch.finished"] || seen["batch.open"] || !seen[Reply] {
		t.Errorf("%v", Types)
	}
	got, err := ParseTypes([]string{"message.delivered", " batch.* ", "message.delivered"})
	if err != nil || strings.Join(got, " ") != "message.delivered batch.*" {
		t.Errorf("%q, %v", got, err)
	}
	for _, wrong := range []string{"", "*", "message", "message.", "message.read", "test", "message.delivered,batch.*"} {
		if _, err := ParseTypes([]string{"reply.received", wrong}); len(fault.Of(err)) != 1 || fault.Of(err)[0].Field != "types[1]" {
			t.Errorf("%q: %v", wrong, err)
		}
	}
	if Type("message.delivered").Family() != "message.*" || Type("odd").Family() != "odd.*" {
		t.Error("families")
	}
}
