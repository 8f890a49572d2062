// Package address reads the addresses of gateways and of receivers of events, and tells which hosts are
// private.
package address

import (
	"fmt"
	"net/url"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Accepted says in one phrase what [Parse] takes.
const Accepted = "http or https, a host and perhaps a path, such as https://sms.example.net/api"

// most is how long an address is at most, in octets.
const most = 1000

// Parse reads the address of a gateway, and returns it without a slash at its
// end. Paths of requests are added to it, so it has no query string and no
// fragment; credentials are secrets of the gateway and do not stand in it.
func Parse(s string) (string, error) {
	if strings.Contains(s, "?") {
		return "", fmt.Errorf("it holds a query string (?)")
	}
	to, err := parse(s)
	return strings.TrimRight(to, "/"), err
}

// ReceiverAccepted says in one phrase what [ParseReceiver] takes.
const ReceiverAccepted = "http or https, a host and perhaps a path and a query string, such as https://app.example.net/hooks"

// ParseReceiver reads the address of a receiver of events, which is called as it is.
func ParseReceiver(s string) (string, error) { return parse(s) }

func parse(s string) (string, error) {
	u, err := url.Parse(s)
	switch {
	case len(s) > most:
		return "", fmt.Errorf("it has %d octets; at most %d are accepted", len(s), most)
	case !utf8.ValidString(s) || strings.ContainsFunc(s, func(r rune) bool { return unicode.IsSpace(r) || !unicode.IsGraphic(r) }):
		return "", fmt.Errorf("it holds a space, or something that nobody sees")
	case err != nil:
	case u.User != nil:
		return "", fmt.Errorf("it holds a user or a password")
	case strings.Contains(s, "#"):
		return "", fmt.Errorf("it holds a fragment (#)")
	case (u.Scheme == "http" || u.Scheme == "https") && u.Hostname() != "" && u.Opaque == "":
		return s, nil
	}
	return "", fmt.Errorf("%q is no address", s)
}
