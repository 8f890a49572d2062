package delivery

import (
	"fmt"

	"calmpigeon.example/internal/core/fault"
)

// Cause says why a message failed or waits. The list is short and fixed:
// gateways have thousands of codes, people have few things they can do.
type Cause string

// The causes.
const (
	InvalidNumber      Cause = "invalid_number"
	Absent             Cause = "absent"
	Barred             Cause = "barred"
	SenderRefused      Cause = "sender_refused"
	ContentRefused     Cause = "content_refused"
	OptedOut           Cause = "opted_out"
	NoCredit           Cause = "no_credit"
	Limited            Cause = "limited"
	CredentialsRefused Cause = "credentials_refused"
	GatewayFault       Cause = "gateway_fault"
	TooLate            Cause = "too_late"
	Unfit              Cause = "unfit"
	Unspecified        Cause = "unspecified"
)

// Mover is whose move it is after a failure.
type Mover string

// Who can do something about a failure.
const (
	Us          Mover = "us"           // Calm Pigeon tries again by itself
	User        Mover = "user"         // who runs Calm Pigeon
	Recipient   Mover = "recipient"    // who was to read the text
	AtGateway   Mover = "gateway"      // the provider behind the gateway
	NobodyKnows Mover = "nobody_knows" // the gateway did not say
)

// Advice is what can be done about a cause.
type Advice struct {
	Cause Cause `json:"cause"`
	// Again tells whether sending the same text again later can help.
	Again bool `json:"again"`
	// Move is whose move it is.
	Move Mover `json:"move"`
	// Text is one plain sentence that can be shown to an end user.
	Text string `json:"text"`
}

var advice = []Advice{
	{InvalidNumber, false, Recipient, "This number does not exist. Ask for it again."},
	{Absent, true, Recipient, "The phone was switched off or out of reach. Try again later."},
	{Barred, false, Recipient, "This phone does not take such messages. Use another way to reach its owner."},
	{SenderRefused, false, User, "The network does not let this sender through. Choose another sender or have this one registered."},
	{ContentRefused, false, User, "The network refused the wording. Change the text or have it registered."},
	{OptedOut, false, Recipient, "The recipient asked not to be written to. Do not send again."},
	{NoCredit, true, User, "The account at the gateway has run out. Top it up; messages then go on by themselves."},
	{Limited, true, Us, "The gateway asked for a slower pace. It will be tried again."},
	{CredentialsRefused, true, User, "The gateway did not accept the key. Check which kind of key it asks for and set it again."},
	{GatewayFault, true, Us, "The gateway had a fault of its own. It will be tried again."},
	{TooLate, false, User, "The time in which this text was of use was over before it could go."},
	{Unfit, false, User, "The gateway has no way to carry such a text. Send it through another gateway, or change the dialect file."},
	{Unspecified, true, NobodyKnows, "The gateway gave no reason. Look at its raw answer, or ask it with the reference shown."},
}

// Advice returns what can be done about the cause; for a cause outside the
// list it is that of Unspecified.
func (c Cause) Advice() Advice {
	for _, a := range advice {
		if a.Cause == c {
			return a
		}
	}
	return advice[len(advice)-1]
}

// ParseCause reads a cause's word. The error names every word it accepts.
func ParseCause(s string) (Cause, error) {
	var known []Cause
	for _, a := range advice {
		if string(a.Cause) == s {
			return a.Cause, nil
		}
		known = append(known, a.Cause)
	}
	return "", fmt.Errorf("cause %q: not a cause; accepted are %s", s, fault.Words(known))
}
