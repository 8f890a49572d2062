// Package intake checks what is asked to be sent and commits it.
package intake

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/label"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/route"
	"calmpigeon.example/internal/core/smstext"
	"calmpigeon.example/internal/core/span"
	"calmpigeon.example/internal/engine/gather"
	"calmpigeon.example/internal/engine/kit"
	"calmpigeon.example/internal/store"
)

// Errors of [Intake.Accept] besides [fault.Faults].
var (
	ErrNoGateway = errors.New("there is no gateway yet")
	ErrReused    = errors.New("the Idempotency-Key was used with another request")
)

// The limits of what is accepted.
const (
	wordMost = 200 // characters of a reference or an Idempotency-Key
	// ValidMost is the longest validity.
	ValidMost = 7 * 24 * time.Hour
)

// acceptLimits bound what is committed as one set.
var acceptLimits = gather.Limits{Rows: 500, Bytes: 4 << 20, Linger: 4 * time.Millisecond}

// bulk is how large an acceptance is.
func bulk(a store.Acceptance) (rows, bytes int) {
	return 1, len(a.Message.Text) + len(a.Message.Given) + len(a.Begun) + 64*len(a.Message.Fields)
}

// Intake accepts messages.
type Intake struct {
	kit.Kit
	Policy Policy
	// Fared is how the last passcodes through a gateway to a country fared; nil: it is not known.
	Fared  func(gateway, country string) route.Fared
	accept *gather.Gather[store.Acceptance, *store.Idempotency]
}

// New makes it ready to accept once it runs.
func New(k kit.Kit, policy Policy) *Intake {
	return &Intake{Kit: k, Policy: policy, accept: gather.New(acceptLimits, bulk, k.Store.Accept)}
}

// Run commits what is brought until ctx ends.
func (in *Intake) Run(ctx context.Context) { in.accept.Run(ctx) }

// Accept checks a draft and commits its message. With a token, a repetition of
// the same request gives the message that was accepted first, and again is
// true. Warnings are what speaks against it without stopping it. What is wrong with the draft comes as [fault.Faults].
func (in *Intake) Accept(
	ctx context.Context,
	key store.Key,
	d Draft,
	token string,
) (m store.Message, warnings []Warning, again bool, err error) {
	d.KeyID, d.KeyLabels = key.ID, key.Labels
	p, faults, err := in.PlanAsSet(ctx, d, smstext.Level(key.Cure), Whole)
	fit := true
	if err == nil {
		fit, err = in.Store.LabelsFit(ctx, key.ID, p.Labels)
	}
	if err == nil && !fit {
		p.Labels = label.Other
		p.Warnings = append(p.Warnings, Warning{"labels", fmt.Sprintf(
			"this key has %d sets of labels in use, so the message is counted as %s: labels tell applications apart, references messages",
			label.SetsMost, label.Other)})
	}
	if n := utf8.RuneCountInString(token); n > wordMost || !utf8.ValidString(token) || strings.ContainsRune(token, 0) {
		faults.Add(
			"Idempotency-Key",
			fmt.Sprintf("%d characters, or characters that cannot be kept", n),
			fmt.Sprintf("at most %d characters of UTF-8", wordMost),
		)
	}
	if err == nil && len(faults) > 0 {
		err = faults
	}
	if err != nil {
		if token == "" {
			return m, nil, false, err
		}
		// What was accepted once is answered as it was then, also when it
		// would be refused today: its sender may have gone out of use.
		prior, unknown := in.Store.Token(ctx, key.ID, token)
		if unknown != nil {
			return m, nil, false, err
		}
		m, again, err = in.repeat(ctx, d, prior)
		return m, nil, again, err
	}
	m = in.Message(p, d)
	m.KeyID = key.ID
	sealed, err := in.Roster.Seal(&m.Content)
	if err != nil {
		return m, nil, false, err
	}
	a := store.Acceptance{Message: m, Begun: Begun(p), Sealed: sealed}
	if token != "" {
		fingerprint := in.Roster.Fingerprint(d.fingerprint())
		a.Token = &store.Idempotency{KeyID: key.ID, Token: token, Fingerprint: fingerprint, MessageID: m.ID, CreatedAt: m.CreatedAt}
	}
	prior, err := in.accept.Do(ctx, a)
	if err != nil {
		return m, nil, false, fmt.Errorf("accepting: %w", err)
	}
	if prior != nil {
		m, again, err = in.repeat(ctx, d, *prior)
		return m, nil, again, err
	}
	in.Hub.Changed(m.ID)
	if m.State == delivery.Queued {
		in.Bells.Ring(m.GatewayID, p.Kind == pace.OTP)
	}
	return m, p.Warnings, false, nil
}

// repeat gives the message that a token stands for, if it stands for the same
// request.
func (in *Intake) repeat(ctx context.Context, d Draft, prior store.Idempotency) (m store.Message, again bool, err error) {
	plain := d.fingerprint()
	// Those of the version before were not keyed; they are gone after two days.
	if !bytes.Equal(prior.Fingerprint, in.Roster.Fingerprint(plain)) && !bytes.Equal(prior.Fingerprint, plain) {
		return m, false, ErrReused
	}
	m, err = in.Store.Message(ctx, prior.MessageID)
	return m, true, err
}

// Message is what a plan without faults comes to.
func (in *Intake) Message(p Plan, d Draft) store.Message {
	now := in.Now()
	var m store.Message
	m.Content = store.Content{
		ID: p.ID, To: p.Number.Number, Country: p.Country, Sender: p.Sender.ID.String(),
		Kind: p.Kind, Lane: p.Kind.Lane(), Text: p.Text, Given: p.Given,
		Encoding: string(p.Weight.Encoding), Units: p.Weight.Units, Segments: p.Weight.Segments,
		Reference: d.Reference, Template: p.Template, Registration: p.Registration,
		Fields: d.Fields, Flash: d.Flash, Route: p.Route, Labels: p.Labels, ValidUntil: now.Add(p.ValidFor), CreatedAt: now,
		ReportVia: p.ReportVia, ReportTo: d.ReportTo,
	}
	m.GatewayID, m.State, m.ChangedAt, m.DueAt = p.Gateway.ID, delivery.Queued, now, now
	if held := p.HeldUntil; held.After(now) {
		m.State, m.HeldUntil, m.DueAt, m.ValidUntil = delivery.Held, &held, time.Time{}, held.Add(p.ValidFor)
	}
	if p.Priced {
		m.Price, m.Avoidable = p.Price, p.Avoidable
	}
	return m
}

// Begun tells, as evidence, why a message takes its gateway, and of characters
// that were replaced.
func Begun(p Plan) string {
	through := fmt.Sprintf("through %s: %s", p.Gateway.Name, p.Why)
	if p.HeldWhy != "" {
		through = fmt.Sprintf("held until %s, %s. Through %s: %s", p.HeldUntil.Format(time.RFC3339), p.HeldWhy, p.Gateway.Name, p.Why)
	}
	if len(p.Replaced) == 0 {
		return through
	}
	said := make([]string, len(p.Replaced))
	for i, r := range p.Replaced {
		said[i] = fmt.Sprintf("%s by %s ×%d", legible(r.From), legible(r.To), r.Count)
	}
	return fmt.Sprintf("%s. Replaced (%s): %s", through, p.Level, strings.Join(said, ", "))
}

// legible is a character as one can read it in a note, also without a shape.
func legible(s string) string {
	switch {
	case s == "":
		return "nothing"
	case strings.TrimFunc(s, func(r rune) bool { return !unicode.IsGraphic(r) || unicode.IsSpace(r) }) == "":
		return fmt.Sprintf("%U", []rune(s)[0])
	}
	return s
}

// fingerprint tells requests apart that carry the same token.
func (d Draft) fingerprint() []byte {
	h := sha256.New()
	for _, s := range []string{d.To, d.Text, d.Sender, d.Kind, d.Reference, d.Gateway} {
		fmt.Fprintf(h, "%d:%s", len(s), s)
	}
	if d.ValidFor != "" { // however it is written
		validFor, _ := span.Parse(d.ValidFor)
		fmt.Fprintf(h, "%d", int(validFor.Seconds()))
	}
	if d.Country+d.Template+d.Language+d.Cure != "" || len(d.Fields) > 0 {
		fields, _ := json.Marshal(d.Fields) // it came as JSON
		fmt.Fprintf(h, "%q%q%q%q%s", d.Country, d.Template, d.Language, d.Cure, fields)
	}
	if d.SendAt != "" || d.AtAnyHour {
		fmt.Fprintf(h, "%q%t", d.SendAt, d.AtAnyHour)
	}
	if d.Flash {
		h.Write([]byte("flash"))
	}
	if d.ReportTo != "" {
		fmt.Fprintf(h, "report%q", d.ReportTo)
	}
	if len(d.Labels) > 0 {
		labels, _ := json.Marshal(d.Labels)
		h.Write(labels)
	}
	return h.Sum(nil)
}
