// Package trial tries a gateway out: it makes one request, or asks what costs
// nothing, and tells everything that can be seen of it.
package trial

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/core/jq"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/smstext"
	"calmpigeon.example/internal/engine/courier"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

// Step is one request of a trial, or one that could not be built.
type Step struct {
	What     string          // token, balance, query or submit
	Exchange *store.Exchange // nil: nothing was sent
	Read     any             // what was read of the answer, as a dialect's examples write it
	Note     string          // why nothing could be built or read
	Build    time.Duration   // how long each part took
	Carry    time.Duration
	Reading  time.Duration
	reading  dialect.Reading
}

// Result is what came of a trial.
type Result struct {
	Passed   bool
	Say      string   // in one sentence
	Mistakes []string // that it looks like, the likeliest first
	Steps    []Step
}

// Trial tries gateways out.
type Trial struct {
	Courier *courier.Courier
	Now     func() time.Time
}

// Call is a call of a dialect that can be tried.
type Call string

// The calls.
const (
	Submit  Call = "submit"
	Query   Call = "query"
	Balance Call = "balance"
	Token   Call = "token"
)

// nobody is what a query asks about that is only to see whether it is answered.
const nobody = "00000000-0000-7000-8000-000000000000"

// Test checks the credentials of a gateway without sending anything: with the
// call that the dialect has for it. Where they are refused it tries them
// swapped, which is the commonest mistake of all.
func (t *Trial) Test(ctx context.Context, g *roster.Gateway) Result {
	call := Call("")
	switch {
	case g.Dialect.Balance != nil:
		call = Balance
	case g.Dialect.Query != nil:
		call = Query
	case g.Dialect.Token != nil:
		call = Token
	default:
		return Result{Say: "This dialect describes no call that sends nothing. Try it with one text to yourself: pigeon dialect try."}
	}
	about := dialect.Message{ID: nobody, GatewayRef: nobody, To: phone.Stored("+447700900000"), Sender: "Test"}
	r := t.Try(ctx, g, call, about, false)
	switch {
	case r.Passed && r.Steps[len(r.Steps)-1].proves():
		r.Say = fmt.Sprintf("The credentials are accepted: %s is answered (%s).", g.Name, call)
		return r
	case r.Passed:
		r.Passed = false
		r.Say = fmt.Sprintf(
			"Whether the credentials are accepted cannot be told: it answered %d, but says nothing that only the gateway could know.",
			r.Steps[len(r.Steps)-1].Exchange.Status,
		)
		return r
	}
	if last := r.Steps[len(r.Steps)-1]; last.reading.Cause == delivery.CredentialsRefused {
		for _, swap := range g.Dialect.Swaps(g.Secrets) {
			other := *g
			other.Secrets = swap.Secrets
			if again := t.Try(ctx, &other, call, about, false); again.Passed {
				r.Mistakes = []string{
					fmt.Sprintf(
						"%s and %s are swapped: exchanged, the gateway accepts them. Set them anew: pigeon gateway set %s --secret %s=… --secret %s=…",
						swap.A,
						swap.B,
						g.Name,
						swap.A,
						swap.B,
					),
				}
				break
			}
		}
	}
	return r
}

// proves reports whether what was read could come only from the gateway, and only
// to somebody it knows: a balance, a token, or what it says of messages. (An
// answer that it knows no such message has been looked at before.)
func (s Step) proves() bool {
	r := s.reading
	return r.Balance != nil || r.Token != "" || r.Meaning == dialect.Absent ||
		slices.ContainsFunc(r.Items, func(i dialect.Item) bool { return i.Known() || i.Absent })
}

// Try makes one request to a gateway, and fetches a token before it if the
// dialect wants one; the token is used for this and forgotten. A dry run builds
// the request and sends nothing.
func (t *Trial) Try(ctx context.Context, g *roster.Gateway, call Call, m dialect.Message, dry bool) Result {
	var r Result
	meter := jq.NewMeter(ctx, jq.Usual)
	defer meter.Close()
	metered := *g
	metered.Dialect = g.Dialect.Within(meter)
	g = &metered
	means := dialect.Means{Secrets: g.Secrets, Base: g.Base(), Now: t.Now()}
	if g.Dialect.Token == nil && call == Token {
		return Result{Say: fmt.Sprintf("Dialect %s fetches no token.", g.Dialect.Name)}
	}
	if g.Dialect.Token != nil && call != Token {
		token := "‹fetched›" // #nosec G101 -- it stands for a token
		if !dry {
			if token = t.call(ctx, meter, g, Token, m, means, false, &r); token == "" {
				return r
			}
		}
		means.Secrets = map[string]string{"token": token}
		maps.Copy(means.Secrets, g.Secrets)
	}
	t.call(ctx, meter, g, call, m, means, dry, &r)
	return r
}

// call makes one request, adds what came of it to the result, and returns the
// token that it fetched, if it did.
func (t *Trial) call(
	ctx context.Context,
	meter *jq.Meter,
	g *roster.Gateway,
	call Call,
	m dialect.Message,
	means dialect.Means,
	dry bool,
	r *Result,
) (token string) {
	began := time.Now()
	request, read, err := t.build(g, call, m, means)
	step := Step{What: string(call), Build: time.Since(began)}
	if err != nil {
		step.Note = g.Mask(err.Error())
		r.Steps = append(r.Steps, step)
		r.Passed, r.Say = false, "The request cannot be built: "+step.Note
		return ""
	}
	if dry {
		exchange := courier.Shown(g, string(call), request, t.Now())
		step.Exchange = &exchange
		r.Steps = append(r.Steps, step)
		r.Passed, r.Say = true, "This is what would be sent. Nothing was."
		return ""
	}
	return t.carry(ctx, meter, g, request, read, step, r)
}

func (t *Trial) build(
	g *roster.Gateway,
	call Call,
	m dialect.Message,
	means dialect.Means,
) (dialect.Request, func(dialect.Reply, time.Time) dialect.Reading, error) {
	d := g.Dialect
	missing := func() (dialect.Request, func(dialect.Reply, time.Time) dialect.Reading, error) {
		return dialect.Request{}, nil, fmt.Errorf("dialect %s does not describe it: %s", d.Name, call)
	}
	if m.Text != "" {
		if w, err := d.Segments.Options().Weigh(m.Text); err == nil {
			m.Encoding, m.Segments = string(w.Encoding), w.Segments
		} else {
			m.Encoding = string(smstext.UCS2)
		}
	}
	one := []dialect.Message{m}
	switch {
	case call == Submit:
		request, err := d.SubmitRequest(one, means)
		return request, d.ReadSubmit, err
	case call == Query && d.Query != nil:
		request, err := d.QueryRequest(one, means)
		return request, d.ReadQuery, err
	case call == Token:
		request, err := d.TokenRequest(means)
		return request, d.ReadToken, err
	case call == Balance && d.Balance != nil:
		request, err := d.BalanceRequest(means)
		return request, d.ReadBalance, err
	}
	return missing()
}

// carry makes the request, reads the answer and says what came of it.
func (t *Trial) carry(
	ctx context.Context,
	meter *jq.Meter,
	g *roster.Gateway,
	request dialect.Request,
	read func(dialect.Reply, time.Time) dialect.Reading,
	step Step,
	r *Result,
) (token string) {
	began := time.Now()
	resume := meter.Rest()
	reply, fate, exchange := t.Courier.Carry(ctx, g, step.What, request)
	resume()
	step.Carry = time.Since(began)
	step.Exchange = &exchange
	attempt := dialect.Attempt{Address: g.Address, Request: request, Secrets: g.Secrets, Reply: reply, Error: exchange.Error, Now: t.Now()}
	if fate == courier.Answered {
		began = time.Now()
		step.reading = read(reply, t.Now())
		step.Reading = time.Since(began)
		attempt.Reading = step.reading
		if token = step.reading.Token; token != "" {
			courier.Hide(&exchange, g, token, "token")
			step.reading.Token = "‹token›"
		}
		value, err := step.reading.Value()
		if step.Read = value; err != nil {
			step.Note = g.Mask(err.Error())
		}
		if step.reading.Meaning == dialect.Unreadable {
			step.Note = g.Mask(step.reading.Note)
		}
	} else {
		attempt.Reply = dialect.Reply{}
		step.Note = exchange.Error
	}
	r.Steps = append(r.Steps, step)
	r.Passed, r.Say = outcome(step, fate)
	if step.reading.Meaning == dialect.Absent && !g.Dialect.Recognises(reply) {
		r.Passed, r.Say = false, fmt.Sprintf(
			"It answered %d, as any web server does that knows nothing of messages: whether the address and the credentials "+
				"are right cannot be told from that.",
			step.Exchange.Status,
		)
	}
	for _, mistake := range g.Dialect.Diagnose(attempt) {
		r.Mistakes = append(r.Mistakes, g.Masking(request.Hidden)(mistake))
	}
	return token
}

func outcome(step Step, fate courier.Fate) (passed bool, say string) {
	if fate != courier.Answered {
		return false, "There is no answer: " + step.Note + "."
	}
	status := step.Exchange.Status
	switch step.reading.Meaning {
	case dialect.Unreadable:
		return false, fmt.Sprintf("It answered %d, and the dialect cannot read that: %s", status, step.Note)
	case dialect.NotTaken:
		return false, fmt.Sprintf("It answered %d: not taken (%s). %s", status, step.reading.Cause, step.reading.Cause.Advice().Text)
	case dialect.Absent:
		return true, fmt.Sprintf("It answered %d: it knows no such message, as it should.", status)
	}
	for _, item := range step.reading.Items {
		switch {
		case item.NotTaken != "":
			return false, fmt.Sprintf("It answered %d: not taken (%s). %s", status, item.NotTaken, item.NotTaken.Advice().Text)
		case item.Cause != "":
			return false, fmt.Sprintf("It answered %d: %s (%s). %s", status, item.State, item.Cause, item.Cause.Advice().Text)
		case item.State == "" && !item.Absent && step.What == string(Submit):
			return false, fmt.Sprintf("It answered %d, but claims nothing of the message: it would be in doubt.", status)
		}
	}
	return true, fmt.Sprintf("It answered %d, and that is read without fault.", status)
}

// Gateway makes a gateway to be tried, which is kept nowhere.
func Gateway(d *dialect.Dialect, address string, secrets map[string]string) (*roster.Gateway, error) {
	for _, name := range d.Secrets {
		if secrets[name] == "" {
			return nil, errors.New("secret " + name + " is missing")
		}
	}
	return &roster.Gateway{
		Gateway: store.Gateway{ID: store.NewID(), Name: d.Name, Address: address, TimeoutMs: time.Duration(d.Timeout).Milliseconds()},
		Dialect: d,
		Secrets: secrets,
	}, nil
}
