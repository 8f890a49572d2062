// Package intake checks what is asked to be sent and commits it.
package intake

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/sender"
	"calmpigeon.example/internal/core/smstext"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/fault"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

// Draft is a message as it is asked for. Empty fields take their defaults.
type Draft struct {
	To, Text, Sender, Kind, Reference, Gateway string
	ValidFor                                   *int // seconds
}

// Errors of [Intake.Accept] besides [fault.Faults].
var (
	ErrNoGateway = errors.New("there is no gateway yet")
	ErrReused    = errors.New("the Idempotency-Key was used with another request")
)

// The limits of what is accepted.
const (
	wordMost  = 200           // characters of a reference or an Idempotency-Key
	validMost = 7 * 24 * 3600 // seconds
)

// Intake accepts messages.
type Intake struct {
	Course *course.Course
	accept *store.Gather[store.Acceptance, *store.Idempotency]
}

// New makes it ready to accept once it runs.
func New(c *course.Course) *Intake {
	return &Intake{Course: c, accept: store.NewGather(300, c.Store.Accept)}
}

// Run commits what is brought until ctx ends.
func (in *Intake) Run(ctx context.Context) { in.accept.Run(ctx) }

// Accept checks a draft and commits its message. With a token, a repetition of
// the same request gives the message that was accepted first, and again is
// true. What is wrong with the draft comes as [fault.Faults].
func (in *Intake) Accept(ctx context.Context, key uuid.UUID, d Draft, token string) (m store.Message, again bool, err error) {
	m, err = in.check(d, token)
	if err != nil {
		if token == "" {
			return m, false, err
		}
		// What was accepted once is answered as it was then, also when it
		// would be refused today: its sender may have gone out of use.
		prior, unknown := in.Course.Store.Token(ctx, key, token)
		if unknown != nil {
			return m, false, err
		}
		return in.repeat(ctx, d, prior)
	}
	m.KeyID = key
	evidence := course.Own(m, m.CreatedAt, delivery.Queued, 0, "")
	evidence.Parts = m.Segments
	a := store.Acceptance{Message: m, Evidence: evidence}
	if token != "" {
		a.Token = &store.Idempotency{KeyID: key, Token: token, Fingerprint: d.fingerprint(), MessageID: m.ID, CreatedAt: m.CreatedAt}
	}
	prior, err := in.accept.Do(ctx, a)
	if err != nil {
		return m, false, fmt.Errorf("accepting: %w", err)
	}
	if prior != nil {
		return in.repeat(ctx, d, *prior)
	}
	in.Course.Hub.Changed(m.ID)
	in.Course.Due.Now()
	return m, false, nil
}

// repeat gives the message that a token stands for, if it stands for the same
// request.
func (in *Intake) repeat(ctx context.Context, d Draft, prior store.Idempotency) (m store.Message, again bool, err error) {
	if !bytes.Equal(prior.Fingerprint, d.fingerprint()) {
		return m, false, ErrReused
	}
	m, err = in.Course.Store.Message(ctx, prior.MessageID)
	return m, true, err
}

// check looks at a draft and writes nothing.
func (in *Intake) check(d Draft, token string) (store.Message, error) {
	var faults fault.Faults

	number, err := phone.Parse(d.To)
	if err != nil {
		faults.Add("to", fault.Plainly(err, phone.ErrInvalid), phone.Accepted)
	}
	weight, err := smstext.Weigh(d.Text)
	if err != nil {
		faults.Add("text", err.Error(), fmt.Sprintf("1 to %d segments of text: up to %d GSM characters, or %d others", smstext.MaxSegments, 153*smstext.MaxSegments, 67*smstext.MaxSegments))
	}
	kind := pace.Transactional
	if d.Kind != "" {
		if kind, err = pace.ParseKind(d.Kind); err != nil {
			faults.Add("kind", fmt.Sprintf("%q is not a kind", d.Kind), "otp, transactional or bulk")
		}
	}
	valid := kind.Validity()
	if d.ValidFor != nil {
		if *d.ValidFor < 1 || *d.ValidFor > validMost {
			faults.Add("valid_for", fmt.Sprintf("%d is out of range", *d.ValidFor), fmt.Sprintf("1 to %d seconds", validMost))
		}
		valid = time.Duration(*d.ValidFor) * time.Second
	}
	for _, field := range []struct{ name, value string }{{"reference", d.Reference}, {"Idempotency-Key", token}} {
		if n := utf8.RuneCountInString(field.value); n > wordMost || !utf8.ValidString(field.value) || strings.ContainsRune(field.value, 0) {
			faults.Add(field.name, fmt.Sprintf("%d characters, or characters that cannot be kept", n), fmt.Sprintf("at most %d characters of UTF-8", wordMost))
		}
	}
	from := in.sender(d.Sender, &faults)
	gateway, err := in.gateway(d.Gateway, &faults)
	if err != nil {
		return store.Message{}, err
	}
	if len(faults) > 0 {
		return store.Message{}, faults
	}
	now := in.Course.Now()
	return store.Message{
		ID: store.NewID(), GatewayID: gateway.ID, ToNumber: number.String(), Sender: from, Kind: string(kind), Lane: kind.Lane(),
		Text: d.Text, Encoding: string(weight.Encoding), Units: weight.Units, Segments: weight.Segments, Reference: d.Reference,
		State: delivery.Queued, DueAt: now, ValidUntil: now.Add(valid), CreatedAt: now, ChangedAt: now,
	}, nil
}

func (in *Intake) sender(given string, faults *fault.Faults) string {
	var names []string
	for _, s := range in.Course.Roster.Senders() {
		if s.ID == given || given == "" && s.IsDefault {
			return s.ID
		}
		names = append(names, s.ID)
	}
	accepted := "one of the senders in use: " + strings.Join(names, ", ")
	if len(names) == 0 {
		accepted = "a sender in use; there is none yet, add one with: pigeon sender add"
	}
	if given == "" {
		faults.Add("sender", "none is given and there is no default", accepted)
		return ""
	}
	if _, err := sender.Parse(given); err != nil {
		faults.Add("sender", fault.Plainly(err, sender.ErrInvalid), accepted)
		return ""
	}
	faults.Add("sender", fmt.Sprintf("%q is not in use here", given), accepted)
	return ""
}

func (in *Intake) gateway(given string, faults *fault.Faults) (*roster.Gateway, error) {
	all := in.Course.Roster.All()
	if len(all) == 0 {
		return nil, ErrNoGateway
	}
	if given == "" {
		return all[0], nil
	}
	var names []string
	for _, g := range all {
		if g.Name == given {
			return g, nil
		}
		names = append(names, g.Name)
	}
	faults.Add("gateway", fmt.Sprintf("%q is not a gateway here", given), "one of "+strings.Join(names, ", "))
	return nil, nil
}

// fingerprint tells requests apart that carry the same token.
func (d Draft) fingerprint() []byte {
	h := sha256.New()
	for _, s := range []string{d.To, d.Text, d.Sender, d.Kind, d.Reference, d.Gateway} {
		fmt.Fprintf(h, "%d:%s", len(s), s)
	}
	if d.ValidFor != nil {
		fmt.Fprintf(h, "%d", *d.ValidFor)
	}
	return h.Sum(nil)
}
