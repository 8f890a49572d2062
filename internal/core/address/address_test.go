package address

import (
	"net/netip"
	"strings"
	"testing"

	"calmpigeon.example/internal/core/vary"
)

func TestParse(t *testing.T) {
	t.Parallel()
	for given, want := range map[string]string{
		"https://sms.example.net/api":       "https://sms.example.net/api",
		"https://sms.example.net/api/":      "https://sms.example.net/api",
		"http://127.0.0.1:7411/harbourline": "http://127.0.0.1:7411/harbourline",
		"https://user:pw@sms.example.net":   "",
		"https://user@sms.example.net":      "",
		"https://sms.example.net/#top":      "",
		"https://sms.example.net#":          "",
		"https://sms.example.net/?a=b":      "",
		"https://sms.example.net?":          "",
		"ftp://sms.example.net":             "",
		"sms.example.net":                   "",
		"https://":                          "",
		"https://:80":                       "",
		"https:sms.example.net":             "",
		"":                                  "",
		"https://sms.example.net/\x00":      "",
	} {
		if got, err := Parse(given); got != want || (err == nil) != (want != "") {
			t.Errorf("%q: got %q, %v, want %q", given, got, err, want)
		}
	}
}

func TestPrivate(t *testing.T) {
	t.Parallel()
	for ip, want := range map[string]bool{
		"127.0.0.1": true, "127.9.9.9": true, "::1": true, "10.1.2.3": true, "172.16.0.1": true, "172.32.0.1": false, "192.168.1.1": true,
		"169.254.169.254": true, "fe80::1": true, "fe80::1%eth0": true, "fd00::1": true, "0.0.0.0": true, "::": true, "100.64.0.1": true,
		"100.128.0.1": false, "::ffff:127.0.0.1": true, "::ffff:8.8.8.8": false, "64:ff9b::7f00:1": true, "64:ff9b::808:808": false,
		"224.0.0.1": true, "ff02::1": true, "255.255.255.255": true, "240.0.0.1": true, "0.1.2.3": true, "198.18.0.1": true,
		"8.8.8.8": false, "2001:4860:4860::8888": false, "192.0.0.1": true, "192.0.0.9": false, "192.0.2.7": true, "203.0.113.9": true,
		"64:ff9b:1::a00:1": true, "2002:7f00:1::": true, "2002:a00:1::1": true, "2001::1": true, "2001:0:a00:1::": true, "fec0::1": true,
		"::127.0.0.1": true, "::10.0.0.1": true, "::ffff:0:10.0.0.1": true, "2001:db8::1": true, "3fff::1": true, "5f00::1": true,
		"2001:20::1": false, "2600::1": false, "100::1": true, "64:ff9b::a00:1": true, "192.88.99.1": true, "1.1.1.1": false,
	} {
		if got := Private(netip.MustParseAddr(ip)); got != want {
			t.Errorf("%s: got %v, want %v", ip, got, want)
		}
	}
}

// Whatever an address is, it is refused, or its canonical form is one that stays.
func FuzzParse(f *testing.F) {
	vary.Of(
		f,
		5000,
		[]string{"https://sms.example.net:8443/api/v1", "http://[::1]:80/a?b=c#d", "http://user:pw@10.0.0.1/"},
		func(s string) { f.Add(s) },
	)
	f.Fuzz(func(t *testing.T, s string) {
		parsed, err := Parse(s)
		if err != nil {
			return
		}
		if again, err := Parse(parsed); err != nil || again != parsed || strings.ContainsAny(parsed, "#?\x00\n ") {
			t.Fatalf("%q is read as %q, and that as %q, %v", s, parsed, again, err)
		}
	})
}
