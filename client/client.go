// Package client speaks to a Calm Pigeon service over its HTTP API.
//
//	c := client.New("http://127.0.0.1:7410", os.Getenv("PIGEON_KEY"))
//	m, err := c.Send(ctx, client.Draft{To: "+447700900123", Text: "Crossing 0740 now leaves from berth 3"})
//
// What the service refuses comes back as a [*Problem].
package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Client speaks to one service. It is safe for concurrent use.
type Client struct {
	base string
	key  string
	http *http.Client

	// seen are the versions of what was read, by what it is (/v1/routes); nil: they
	// are not remembered.
	seen *versions
}

type versions struct {
	mu sync.Mutex
	of map[string]string
}

// Careful is the client as one that remembers which version of what is set it has
// read, and has its next change of that refused where somebody else has changed it
// meanwhile (status 412).
func (c *Client) Careful() *Client {
	careful := *c
	careful.seen = &versions{of: map[string]string{}}
	return &careful
}

// kindOf is what a path is about, such as /v1/routes.
func kindOf(path string) string {
	path, _, _ = strings.Cut(path, "?")
	if parts := strings.SplitN(path, "/", 4); len(parts) > 2 {
		return parts[2]
	}
	return path
}

// read remembers a version, and take gives it for one change.
func (v *versions) read(path, version string) {
	if v != nil && version != "" {
		v.mu.Lock()
		defer v.mu.Unlock()
		v.of[kindOf(path)] = version
	}
}

func (v *versions) take(path string) string {
	if v == nil {
		return ""
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	version := v.of[kindOf(path)]
	delete(v.of, kindOf(path))
	return version
}

// New makes a client for the service at base.
func New(base, key string) *Client {
	return &Client{base: strings.TrimRight(base, "/"), key: key, http: &http.Client{}}
}

// Send hands a message over. When it returns without an error, the message is
// committed.
func (c *Client) Send(ctx context.Context, d Draft) (Message, error) {
	return c.SendOnce(ctx, d, "")
}

// SendOnce is Send with an idempotency key: repeating it with the same draft
// gives the first answer and sends nothing more.
func (c *Client) SendOnce(ctx context.Context, d Draft, idempotencyKey string) (Message, error) {
	var header http.Header
	if idempotencyKey != "" {
		header = http.Header{"Idempotency-Key": {idempotencyKey}}
	}
	var m Message
	return m, c.call(ctx, "POST", "/v1/messages", header, d, &m)
}

// listMost is how many messages one request hands over.
const listMost = 500

// SendList hands up to a thousand messages over in one request, each by itself. With an
// idempotency key, repeating it with the same list sends nothing more. That some, or
// all, were refused is no error: each outcome says so.
func (c *Client) SendList(ctx context.Context, drafts []Draft, idempotencyKey string) (Outcomes, error) {
	var header http.Header
	if idempotencyKey != "" {
		header = http.Header{"Idempotency-Key": {idempotencyKey}}
	}
	var o Outcomes
	err := c.call(ctx, "POST", "/v1/messages", header, map[string]any{"messages": drafts}, &o)
	var problem *Problem
	if errors.As(err, &problem) && problem.Items != nil {
		return Outcomes{Items: problem.Items, Refused: len(problem.Items)}, nil
	}
	return o, err
}

// SendAll hands any number of messages over as they come, some hundred a request, and
// yields what came of each, in their order; Index counts through. An error ends it;
// with an idempotency key it can be begun anew with the same messages, and sends nothing
// twice.
func (c *Client) SendAll(ctx context.Context, drafts iter.Seq[Draft], idempotencyKey string) iter.Seq2[Outcome, error] {
	return func(yield func(Outcome, error) bool) {
		done := 0
		var list []Draft
		flush := func() bool {
			key := idempotencyKey
			if key != "" {
				key = fmt.Sprintf("%s/%d", key, done)
			}
			o, err := c.SendList(ctx, list, key)
			if err != nil {
				yield(Outcome{}, err)
				return false
			}
			for _, one := range o.Items {
				one.Index += done
				if !yield(one, nil) {
					return false
				}
			}
			done += len(list)
			list = list[:0]
			return true
		}
		for d := range drafts {
			if list = append(list, d); len(list) == listMost && !flush() {
				return
			}
		}
		if len(list) > 0 {
			flush()
		}
	}
}

// Message returns a message with its evidence; with raw, also the raw
// exchanges behind it.
func (c *Client) Message(ctx context.Context, id string, raw bool) (Message, error) {
	var m Message
	return m, c.call(ctx, "GET", "/v1/messages/"+url.PathEscape(id)+"?raw="+strconv.FormatBool(raw), nil, nil, &m)
}

// Cancel withdraws a message that still waits to be sent.
func (c *Client) Cancel(ctx context.Context, id string) (Message, error) {
	var m Message
	return m, c.call(ctx, "POST", "/v1/messages/"+url.PathEscape(id)+"/cancel", nil, nil, &m)
}

// Stop keeps a message that may have gone from going again.
func (c *Client) Stop(ctx context.Context, id string) (Message, error) {
	var m Message
	return m, c.call(ctx, "POST", "/v1/messages/"+url.PathEscape(id)+"/stop", nil, nil, &m)
}

// Filter chooses messages. Zero fields choose all.
type Filter struct {
	To, Kind, Sender, Gateway, Reference, GatewayRef string
	Country, Template                                string
	Key                                              string // its id
	States                                           []string
	Labels                                           []string // name=value, or a name alone; all of them
	Contested, Weak                                  bool
	Since, Until                                     time.Time
}

// IsZero reports whether it chooses all.
func (f Filter) IsZero() bool { return len(f.values()) == 0 }

func (f Filter) values() url.Values {
	v := url.Values{}
	for name, value := range map[string]string{"to": f.To, "kind": f.Kind, "sender": f.Sender, "gateway": f.Gateway,
		"reference": f.Reference, "gateway_ref": f.GatewayRef, "country": f.Country, "template": f.Template, "key": f.Key,
		"state": strings.Join(f.States, ",")} {
		if value != "" {
			v.Set(name, value)
		}
	}
	if f.Weak {
		v.Set("weak", "true")
	}
	if f.Contested {
		v.Set("contested", "true")
	}
	for _, label := range f.Labels {
		v.Add("label", label)
	}
	for name, t := range map[string]time.Time{"since": f.Since, "until": f.Until} {
		if !t.IsZero() {
			v.Set(name, t.Format(time.RFC3339Nano))
		}
	}
	return v
}

// choose adds to a query what is given: values that are not empty, and a limit that is not 0.
func choose(q url.Values, values map[string]string, limit int) string {
	for name, value := range values {
		if value != "" {
			q.Set(name, value)
		}
	}
	if limit > 0 {
		q.Set("limit", strconv.Itoa(limit))
	}
	return "?" + q.Encode()
}

// Find lists messages, the newest first. An empty cursor starts at the newest;
// a limit of 0 is the service's own.
func (c *Client) Find(ctx context.Context, f Filter, cursor string, limit int) (List[Message], error) {
	var p List[Message]
	return p, c.call(ctx, "GET", "/v1/messages"+choose(f.values(), map[string]string{"cursor": cursor}, limit), nil, nil, &p)
}

// Tally counts the chosen messages.
func (c *Client) Tally(ctx context.Context, f Filter) (Tally, error) {
	var t Tally
	return t, c.call(ctx, "GET", "/v1/tally?"+f.values().Encode(), nil, nil, &t)
}

// Arrivals tells how long messages took and how many arrived. Chosen can be by gateway, country, kind and
// time; by is what is held side by side, gateway, country, kind or nothing, and step hour, day or what fits.
func (c *Client) Arrivals(ctx context.Context, f Filter, by, step string) (Arrivals, error) {
	q := f.values()
	for name, value := range map[string]string{"by": by, "step": step} {
		if value != "" {
			q.Set(name, value)
		}
	}
	var a Arrivals
	return a, c.call(ctx, "GET", "/v1/arrivals?"+q.Encode(), nil, nil, &a)
}

// Accounts tells what messages cost, side by side by month, day, gateway, country or kind. Chosen can be by gateway,
// country, kind and time.
func (c *Client) Accounts(ctx context.Context, f Filter, by ...string) (Accounts, error) {
	q := f.values()
	if len(by) > 0 {
		q.Set("by", strings.Join(by, ","))
	}
	var a Accounts
	return a, c.call(ctx, "GET", "/v1/money?"+q.Encode(), nil, nil, &a)
}

// SendAt changes until when a message is held; nil lets it go now.
func (c *Client) SendAt(ctx context.Context, id string, at *time.Time) (Message, error) {
	var m Message
	return m, c.call(ctx, "POST", "/v1/messages/"+url.PathEscape(id)+"/send-at", nil, SendAt{at}, &m)
}

// Follow calls seen with the message as it is and after each change, until its
// state is final, seen returns false, or ctx ends. A connection that breaks is
// made again.
func (c *Client) Follow(ctx context.Context, id string, seen func(Message) bool) error {
	for {
		done, err := c.follow(ctx, id, seen)
		var problem *Problem
		if done || ctx.Err() != nil || errors.As(err, &problem) && problem.Status < 500 {
			return errors.Join(err, ctx.Err())
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
	}
}

func (c *Client) follow(ctx context.Context, id string, seen func(Message) bool) (done bool, err error) {
	response, err := c.do(ctx, "GET", "/v1/messages/"+url.PathEscape(id)+"/follow", http.Header{"Accept": {"text/event-stream"}}, nil)
	if err != nil {
		return false, err
	}
	defer response.Body.Close()
	lines := bufio.NewScanner(response.Body)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		data, ok := strings.CutPrefix(lines.Text(), "data:")
		if !ok {
			continue
		}
		var m Message
		if err := json.Unmarshal([]byte(data), &m); err != nil {
			return false, fmt.Errorf("following %s: %w", id, err)
		}
		if !seen(m) || m.Final {
			return true, nil
		}
	}
	return false, lines.Err()
}

// Gateways lists the gateways in use.
func (c *Client) Gateways(ctx context.Context) ([]Gateway, error) {
	return list[Gateway](ctx, c, "/v1/gateways")
}

// Gateway returns one gateway by name.
func (c *Client) Gateway(ctx context.Context, name string) (Gateway, error) {
	var g Gateway
	return g, c.call(ctx, "GET", "/v1/gateways/"+url.PathEscape(name), nil, nil, &g)
}

// ChangeGateway changes what is set of a gateway.
func (c *Client) ChangeGateway(ctx context.Context, name string, n GatewayChange) (Gateway, error) {
	var g Gateway
	return g, c.call(ctx, "PATCH", "/v1/gateways/"+url.PathEscape(name), nil, n, &g)
}

// PauseGateway lets nothing more go through a gateway until it is resumed.
func (c *Client) PauseGateway(ctx context.Context, name, why string) (Gateway, error) {
	var g Gateway
	return g, c.call(ctx, "POST", "/v1/gateways/"+url.PathEscape(name)+"/pause", nil, Pause{why}, &g)
}

// ResumeGateway ends a pause.
func (c *Client) ResumeGateway(ctx context.Context, name string) (Gateway, error) {
	var g Gateway
	return g, c.call(ctx, "POST", "/v1/gateways/"+url.PathEscape(name)+"/resume", nil, nil, &g)
}

// RemoveGateway takes a gateway out of use.
func (c *Client) RemoveGateway(ctx context.Context, name string) error {
	return c.call(ctx, "DELETE", "/v1/gateways/"+url.PathEscape(name), nil, nil, nil)
}

// TestGateway checks the credentials of a gateway without sending anything.
func (c *Client) TestGateway(ctx context.Context, name string) (Trial, error) {
	var t Trial
	return t, c.call(ctx, "POST", "/v1/gateways/"+url.PathEscape(name)+"/test", nil, nil, &t)
}

// TryDialect makes one request in a dialect.
func (c *Client) TryDialect(ctx context.Context, r TryRequest) (Trial, error) {
	var t Trial
	return t, c.call(ctx, "POST", "/v1/dialects/try", nil, r, &t)
}

// ExportSetup writes everything that is set up, secrets as placeholders.
func (c *Client) ExportSetup(ctx context.Context) (SetupFile, error) {
	var f SetupFile
	return f, c.call(ctx, "GET", "/v1/setup", nil, nil, &f)
}

// ImportSetup takes a set-up in, all of it or nothing. With dryRun every check
// is made and nothing changed.
func (c *Client) ImportSetup(ctx context.Context, f SetupFile, dryRun bool) (SetupChange, error) {
	var s SetupChange
	return s, c.call(ctx, "PUT", "/v1/setup"+dry(dryRun), nil, f, &s)
}

// Routes returns all routes.
func (c *Client) Routes(ctx context.Context) (Routes, error) {
	var r Routes
	return r, c.call(ctx, "GET", "/v1/routes", nil, nil, &r)
}

// PutRoutes puts routes in the place of all that are there.
func (c *Client) PutRoutes(ctx context.Context, routes []Route) (Routes, error) {
	var r Routes
	return r, c.call(ctx, "PUT", "/v1/routes", nil, Routes{Items: append([]Route{}, routes...)}, &r)
}

// Inbound lists what people wrote, the newest first.
func (c *Client) Inbound(ctx context.Context, cursor string) (List[Inbound], error) {
	var p List[Inbound]
	return p, c.call(ctx, "GET", "/v1/inbound?cursor="+url.QueryEscape(cursor), nil, nil, &p)
}

// Flaws lists the records that cannot be used as they stand.
func (c *Client) Flaws(ctx context.Context) ([]Flaw, error) {
	var l List[Flaw]
	return l.Items, c.call(ctx, "GET", "/v1/flaws", nil, nil, &l)
}

// AddGateway adds a gateway.
func (c *Client) AddGateway(ctx context.Context, n NewGateway) (Gateway, error) {
	var g Gateway
	return g, c.call(ctx, "POST", "/v1/gateways", nil, n, &g)
}

// Senders lists the senders in use.
func (c *Client) Senders(ctx context.Context) ([]Sender, error) {
	return list[Sender](ctx, c, "/v1/senders")
}

// AddSender registers a sender.
func (c *Client) AddSender(ctx context.Context, n NewSender) (Sender, error) {
	var s Sender
	return s, c.call(ctx, "POST", "/v1/senders", nil, n, &s)
}

// PutSender changes a sender, or registers it.
func (c *Client) PutSender(ctx context.Context, n NewSender) (Sender, error) {
	var s Sender
	return s, c.call(ctx, "PUT", "/v1/senders/"+url.PathEscape(n.Sender), nil, n, &s)
}

// RemoveSender takes a sender out of use.
func (c *Client) RemoveSender(ctx context.Context, sender string) error {
	return c.call(ctx, "DELETE", "/v1/senders/"+url.PathEscape(sender), nil, nil, nil)
}

// Rehearse makes every check that sending makes, and sends nothing.
func (c *Client) Rehearse(ctx context.Context, d Draft) (Weighing, error) {
	d.DryRun = true
	var w Weighing
	return w, c.call(ctx, "POST", "/v1/messages", nil, d, &w)
}

// Weigh asks what a text costs and whether it may go.
func (c *Client) Weigh(ctx context.Context, r WeighRequest) (Weighing, error) {
	var w Weighing
	return w, c.call(ctx, "POST", "/v1/weigh", nil, r, &w)
}

// Numbers asks about numbers, at most a thousand at once.
func (c *Client) Numbers(ctx context.Context, r NumbersRequest) ([]Number, error) {
	var l List[Number]
	return l.Items, c.call(ctx, "POST", "/v1/numbers", nil, r, &l)
}

// Rules lists the rules of all countries of which something is known.
func (c *Client) Rules(ctx context.Context) ([]Rule, error) {
	return list[Rule](ctx, c, "/v1/rules")
}

// Rule returns the rule of a country.
func (c *Client) Rule(ctx context.Context, country string) (Rule, error) {
	var r Rule
	return r, c.call(ctx, "GET", "/v1/rules/"+url.PathEscape(country), nil, nil, &r)
}

// PutRule changes the rule of a country.
func (c *Client) PutRule(ctx context.Context, r Rule) (Rule, error) {
	var changed Rule
	return changed, c.call(ctx, "PUT", "/v1/rules/"+url.PathEscape(r.Country), nil, r, &changed)
}

// ResetRule puts the rule that ships back in force.
func (c *Client) ResetRule(ctx context.Context, country string) error {
	return c.call(ctx, "DELETE", "/v1/rules/"+url.PathEscape(country), nil, nil, nil)
}

// ExportRules returns all rules as a file.
func (c *Client) ExportRules(ctx context.Context) (RulesFile, error) {
	var f RulesFile
	return f, c.call(ctx, "GET", "/v1/rules/export", nil, nil, &f)
}

// ImportRules takes the rules of a file in, all or none. With dryRun it says
// what would change.
func (c *Client) ImportRules(ctx context.Context, f RulesFile, dryRun bool) (RulesChange, error) {
	var change RulesChange
	return change, c.call(ctx, "POST", "/v1/rules/import"+dry(dryRun), nil, f, &change)
}

// Templates lists all templates.
func (c *Client) Templates(ctx context.Context) ([]Template, error) {
	return list[Template](ctx, c, "/v1/templates")
}

// Template returns a template by name.
func (c *Client) Template(ctx context.Context, name string) (Template, error) {
	var t Template
	return t, c.call(ctx, "GET", "/v1/templates/"+url.PathEscape(name), nil, nil, &t)
}

// AddTemplate adds a template.
func (c *Client) AddTemplate(ctx context.Context, f TemplateFile) (Template, error) {
	var t Template
	return t, c.call(ctx, "POST", "/v1/templates", nil, f, &t)
}

// PutTemplate changes a template, or adds it.
func (c *Client) PutTemplate(ctx context.Context, name string, f TemplateFile) (Template, error) {
	var t Template
	return t, c.call(ctx, "PUT", "/v1/templates/"+url.PathEscape(name), nil, f, &t)
}

// WeighTemplate asks what a template weighs and costs over data.
func (c *Client) WeighTemplate(ctx context.Context, d TemplateData) (TemplateSpan, error) {
	var s TemplateSpan
	return s, c.call(ctx, "POST", "/v1/templates/weigh", nil, d, &s)
}

// RemoveTemplate forgets a template.
func (c *Client) RemoveTemplate(ctx context.Context, name string) error {
	return c.call(ctx, "DELETE", "/v1/templates/"+url.PathEscape(name), nil, nil, nil)
}

// Prices returns the price list of a gateway.
func (c *Client) Prices(ctx context.Context, gateway string) (PriceList, error) {
	var l PriceList
	return l, c.call(ctx, "GET", "/v1/gateways/"+url.PathEscape(gateway)+"/prices", nil, nil, &l)
}

// PutPrices takes a price list in, in the place of the gateway's last one. With
// dryRun it only checks it.
func (c *Client) PutPrices(ctx context.Context, gateway string, f PricesFile, dryRun bool) (PriceList, error) {
	var l PriceList
	return l, c.call(ctx, "PUT", "/v1/gateways/"+url.PathEscape(gateway)+"/prices"+dry(dryRun), nil, f, &l)
}

func dry(run bool) string {
	if run {
		return "?dry_run=true"
	}
	return ""
}

// ChangeFilter chooses changes. Empty fields choose all.
type ChangeFilter struct{ What, Name, By string }

// Changes lists changes of what is set, the newest first.
func (c *Client) Changes(ctx context.Context, f ChangeFilter, cursor string, limit int) (List[Change], error) {
	q := choose(url.Values{}, map[string]string{"what": f.What, "name": f.Name, "by": f.By, "cursor": cursor}, limit)
	var p List[Change]
	return p, c.call(ctx, "GET", "/v1/changes"+q, nil, nil, &p)
}

// OptOuts lists who does not want to be written to, the newest first: of a number, if
// it is given, and those that have ended, too, if all are wanted.
func (c *Client) OptOuts(ctx context.Context, number string, all bool, cursor string, limit int) (List[OptOut], error) {
	q := choose(url.Values{"all": {strconv.FormatBool(all)}}, map[string]string{"number": number, "cursor": cursor}, limit)
	var l List[OptOut]
	return l, c.call(ctx, "GET", "/v1/opt-outs"+q, nil, nil, &l)
}

// AddOptOuts puts up to a thousand numbers on the list, all or none.
func (c *Client) AddOptOuts(ctx context.Context, n NewOptOuts) (OptOutsAdded, error) {
	var added OptOutsAdded
	return added, c.call(ctx, "POST", "/v1/opt-outs", nil, n, &added)
}

// RemoveOptOut takes a number off the list: it may be written to again.
func (c *Client) RemoveOptOut(ctx context.Context, number, why string) error {
	return c.call(ctx, "DELETE", "/v1/opt-outs/"+url.PathEscape(number)+"?why="+url.QueryEscape(why), nil, nil, nil)
}

// Strays lists receipts that no message is known to match by name, the newest first.
func (c *Client) Strays(ctx context.Context, f StrayFilter, cursor string, limit int) (Strays, error) {
	q := choose(url.Values{}, map[string]string{"fate": strings.Join(f.Fates, ","), "gateway": f.Gateway, "gateway_ref": f.GatewayRef,
		"number": f.Number, "reason": f.Reason, "message": f.Message, "cursor": cursor}, limit)
	var p Strays
	return p, c.call(ctx, "GET", "/v1/strays"+q, nil, nil, &p)
}

// Stray is one stray, with the messages that are nearest to it and the raw receipt.
func (c *Client) Stray(ctx context.Context, id string) (Stray, error) {
	var t Stray
	return t, c.call(ctx, "GET", "/v1/strays/"+url.PathEscape(id), nil, nil, &t)
}

// AttachStrays says that strays belong to a message.
func (c *Client) AttachStrays(ctx context.Context, w StrayWish) (StraysDone, error) {
	return c.straysDo(ctx, "attach", w)
}

// DiscardStrays says that strays mean nothing to us.
func (c *Client) DiscardStrays(ctx context.Context, w StrayWish) (StraysDone, error) {
	return c.straysDo(ctx, "discard", w)
}

// RestoreStrays takes back what was done with strays: they wait again.
func (c *Client) RestoreStrays(ctx context.Context, w StrayWish) (StraysDone, error) {
	return c.straysDo(ctx, "restore", w)
}

func (c *Client) straysDo(ctx context.Context, what string, w StrayWish) (StraysDone, error) {
	var done StraysDone
	return done, c.call(ctx, "POST", "/v1/strays/"+what, nil, w, &done)
}

// Chase lets gateways be asked about up to a thousand messages at once, within their pace.
func (c *Client) Chase(ctx context.Context, w Chase) (Chased, error) {
	var done Chased
	return done, c.call(ctx, "POST", "/v1/chase", nil, w, &done)
}

// Attention is what wants a person, the most pressing first.
func (c *Client) Attention(ctx context.Context) (Attention, error) {
	var a Attention
	return a, c.call(ctx, "GET", "/v1/attention", nil, nil, &a)
}

// Decide decides about up to a thousand messages. Those about which nothing can be decided are told.
func (c *Client) Decide(ctx context.Context, d MessageDecision) (Decided, error) {
	var done Decided
	return done, c.call(ctx, "POST", "/v1/decisions", nil, d, &done)
}

// Keys lists all API keys.
func (c *Client) Keys(ctx context.Context) ([]Key, error) { return list[Key](ctx, c, "/v1/keys") }

// NewKey makes an API key; the answer is the only one that shows it.
func (c *Client) NewKey(ctx context.Context, n NewKey) (Key, error) {
	var k Key
	return k, c.call(ctx, "POST", "/v1/keys", nil, n, &k)
}

// RevokeKey ends a key's use.
func (c *Client) RevokeKey(ctx context.Context, id string) error {
	return c.call(ctx, "DELETE", "/v1/keys/"+url.PathEscape(id), nil, nil, nil)
}

func list[T any](ctx context.Context, c *Client, path string) ([]T, error) {
	var l List[T]
	return l.Items, c.call(ctx, "GET", path, nil, nil, &l)
}

func (c *Client) call(ctx context.Context, method, path string, header http.Header, body, answer any) error {
	response, err := c.do(ctx, method, path, header, body)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if answer == nil {
		return nil
	}
	if err := json.NewDecoder(response.Body).Decode(answer); err != nil {
		return fmt.Errorf("%s %s: reading the answer: %w", method, path, err)
	}
	io.Copy(io.Discard, response.Body) // to its end, so that the connection is used again
	return nil
}

// readTries is how often a request that only reads is made when the service
// cannot be reached: repeating it is safe (RFC 9110 §9.2.2).
const readTries = 3

// do makes a request and returns its answer if it is a good one. Whoever calls
// it closes the body.
func (c *Client) do(ctx context.Context, method, path string, header http.Header, body any) (*http.Response, error) {
	for try := 1; ; try++ {
		response, err := c.once(ctx, method, path, header, body)
		var problem *Problem
		if err == nil || errors.As(err, &problem) || method != http.MethodGet || try == readTries {
			return response, err
		}
		select {
		case <-ctx.Done():
			return nil, err
		case <-time.After(time.Duration(try) * 100 * time.Millisecond):
		}
	}
}

func (c *Client) once(ctx context.Context, method, path string, header http.Header, body any) (*http.Response, error) {
	reader, raw := body.(io.Reader) // a list as it comes
	if body != nil && !raw {
		encoded, err := json.Marshal(body)
		if err != nil {
			return nil, err
		}
		reader = bytes.NewReader(encoded)
	}
	request, err := http.NewRequestWithContext(ctx, method, c.base+path, reader)
	if err != nil {
		return nil, err
	}
	for name, values := range header {
		request.Header[name] = values
	}
	request.Header.Set("Authorization", "Bearer "+c.key)
	switch {
	case raw:
		request.Header.Set("Content-Type", "application/octet-stream")
	case body != nil:
		request.Header.Set("Content-Type", "application/json")
	}
	if method != http.MethodGet {
		if version := c.seen.take(path); version != "" {
			request.Header.Set("If-Match", version)
		}
	}
	response, err := c.http.Do(request)
	if err != nil {
		return nil, fmt.Errorf("no answer from %s: %w", c.base, err)
	}
	if response.StatusCode < 300 {
		if method == http.MethodGet {
			c.seen.read(path, response.Header.Get("ETag"))
		}
		return response, nil
	}
	defer response.Body.Close()
	problem := &Problem{Status: response.StatusCode, Title: http.StatusText(response.StatusCode)}
	said, _ := io.ReadAll(io.LimitReader(response.Body, 1<<20))
	if json.Unmarshal(said, problem) != nil || problem.Title == "" {
		return nil, &Problem{Status: response.StatusCode, Title: fmt.Sprintf("%s answered %s", c.base, response.Status)}
	}
	return nil, problem
}
