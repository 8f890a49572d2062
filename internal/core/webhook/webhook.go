// Package webhook signs what an application is told as Standard Webhooks 1.0 says, and knows which events there are
// and when one that was not taken is told again.
//
// The signed content is the id of the message, a dot, the time in seconds since 1970, a dot, and the body
// ("webhook-id", "webhook-timestamp", "webhook-signature"); the signature is its HMAC-SHA-256 (RFC 2104), in base64
// (RFC 4648 §4), after "v1,". Several signatures, one for each secret, have spaces between.
package webhook

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"
)

const (
	secretSize  = 32 // octets of one that we make
	secretLeast = 24 // and of one that is given: 192 bits
	secretMost  = 64
	prefix      = "whsec_"
	// Tolerance is how far a time may lie from ours, either way.
	Tolerance = 5 * time.Minute
)

// The names of the headers.
const (
	IDHeader        = "webhook-id"
	TimeHeader      = "webhook-timestamp"
	SignatureHeader = "webhook-signature"
)

// Secret is what a receiver and we alone know. Its zero value signs nothing.
type Secret struct{ key string }

// NewSecret makes a secret.
func NewSecret(random io.Reader) (Secret, error) {
	key := make([]byte, secretSize)
	if _, err := io.ReadFull(random, key); err != nil {
		return Secret{}, fmt.Errorf("making a secret: %w", err)
	}
	return Secret{string(key)}, nil
}

// SecretAccepted says in one phrase what [ParseSecret] takes.
const SecretAccepted = "whsec_ and 24 to 64 octets in base64" // #nosec G101 -- what a secret looks like, and none

// ParseSecret reads a secret as it is written: whsec_ and base64.
func ParseSecret(s string) (Secret, error) {
	body, ok := strings.CutPrefix(s, prefix)
	if !ok {
		return Secret{}, errors.New("it does not begin with " + prefix)
	}
	key, err := base64.StdEncoding.DecodeString(body)
	if err != nil {
		return Secret{}, errors.New("what follows " + prefix + " is not base64")
	}
	if len(key) < secretLeast || len(key) > secretMost {
		return Secret{}, fmt.Errorf("it has %d octets", len(key))
	}
	return Secret{string(key)}, nil
}

// Reveal writes it whole.
func (s Secret) Reveal() string { return prefix + base64.StdEncoding.EncodeToString([]byte(s.key)) }

// String hides it.
func (s Secret) String() string { return "whsec_…" }

// Sign is the signature of one message with one secret.
func (s Secret) Sign(id string, at time.Time, body []byte) string {
	h := hmac.New(sha256.New, []byte(s.key))
	io.WriteString(h, id+"."+strconv.FormatInt(at.Unix(), 10)+".")
	h.Write(body)
	return "v1," + base64.StdEncoding.EncodeToString(h.Sum(nil))
}

// Header is what goes with a message that is signed with some secrets, by the names of headers.
func Header(secrets []Secret, id string, at time.Time, body []byte) map[string]string {
	signed := make([]string, len(secrets))
	for i, s := range secrets {
		signed[i] = s.Sign(id, at, body)
	}
	return map[string]string{IDHeader: id, TimeHeader: strconv.FormatInt(at.Unix(), 10), SignatureHeader: strings.Join(signed, " ")}
}

// tryFirst, tryTimes and tryLongest make the pauses between tries: 5 s, 20 s, 80 s, 5 min, 21 min, and then an hour and a half.
const (
	tryFirst   = 5 * time.Second
	tryTimes   = 4
	tryLongest = 90 * time.Minute
	tryVary    = 0.2
	// TryFor is for how long an event is told that is not taken.
	TryFor = 24 * time.Hour
)

// Pause is how long to wait after an event was not taken so many times (1 or more). luck, from 0 up to 1, varies it by
// a fifth, so that what failed at once is not told again at once.
func Pause(tries int, luck float64) time.Duration {
	pause := tryFirst
	for range min(max(tries, 1)-1, 20) {
		pause = min(pause*tryTimes, tryLongest)
	}
	return time.Duration(float64(pause) * (1 - tryVary/2 + tryVary*luck))
}
