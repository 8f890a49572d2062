package dialect

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/textproto"
	"net/url"
	"slices"
	"strings"
	"time"

	"calmpigeon.example/internal/core/jq"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/smstext"
)

// Message is what a submission or a query is about.
type Message struct {
	ID           string // our reference
	To           phone.Number
	Country      string
	Sender       string
	Text         string
	Kind         string
	Encoding     string
	Segments     int
	Flash        bool
	Template     string
	Registration string // the id under which the text is registered
	Fields       map[string]any
	ReceiptURL   string
	ValidFor     int // seconds
	GatewayRef   string
}

// Request is an HTTP request as it goes out, but for the gateway's address.
type Request struct {
	Method string
	Path   string // with the query string
	Header map[string]string
	Body   []byte
	// Hidden are values in the request that are as secret as those they are
	// made of, and what to show in their place.
	Hidden map[string]string
}

// Means are what a request needs besides the messages.
type Means struct {
	Secrets map[string]string // with a fetched token under "token"
	Base    string            // the path of the gateway's address, which signatures cover
	Now     time.Time
}

func (f NumberForm) write(n phone.Number) string {
	switch f {
	case Digits:
		return n.Digits()
	case Zeros:
		return "00" + n.Digits()
	case National:
		return n.National()
	case TelURI:
		return "tel:" + n.String()
	}
	return n.String()
}

// sender writes a sender that is a number as the gateway wants numbers; of one
// in national form that would be another number abroad.
func (f NumberForm) sender(s string) string {
	if !strings.HasPrefix(s, "+") || f == National {
		return s
	}
	return f.write(phone.Stored(s))
}

func (d *Dialect) object(m Message) map[string]any {
	fields := m.Fields
	if fields == nil {
		fields = map[string]any{}
	}
	object := map[string]any{
		"id": m.ID, "to": d.Number.write(m.To), "sender": d.Number.sender(m.Sender), "text": m.Text, "kind": m.Kind,
		"encoding": m.Encoding, "segments": m.Segments, "flash": m.Flash, "receipt_url": m.ReceiptURL,
		"valid_for": m.ValidFor, "gateway_ref": m.GatewayRef, "country": m.Country, "template": m.Template,
		"registration": m.Registration, "fields": plain(maps.Clone(fields)),
	}
	if d.uses.hex {
		object["text_hex"], _ = smstext.EncodeHex(smstext.UTF16BE, m.Text)
	}
	if d.uses.national {
		object["national"] = m.To.National()
	}
	return object
}

// sources are all expressions of a request, to see what they use.
func (r *RequestRule) sources() string {
	all := r.Get.source + " " + r.Post.source
	for _, e := range []Expr{r.Query, r.Headers, r.Form, r.JSON, r.XML, r.Text} {
		all += " " + e.source
	}
	return all
}

// input is what the expressions of a request about messages see.
func (d *Dialect) input(messages []Message, means Means) map[string]any {
	all := make([]any, len(messages))
	shortest := messages[0].ValidFor
	for i, m := range messages {
		all[i] = d.object(m)
		shortest = min(shortest, m.ValidFor)
	}
	input := maps.Clone(all[0].(map[string]any))
	input["messages"], input["valid_for"] = all, shortest
	return means.into(input)
}

func (m Means) into(input map[string]any) map[string]any {
	secrets := make(map[string]any, len(m.Secrets))
	for name, secret := range m.Secrets {
		secrets[name] = secret
	}
	input["secrets"], input["time"] = secrets, int(m.Now.Unix())
	return input
}

// SubmitRequest builds the request that hands messages to the gateway: at least
// one, and at most [Dialect.Submit].Most that have in common what it says.
func (d *Dialect) SubmitRequest(messages []Message, means Means) (Request, error) {
	r, err := d.request(&d.Submit.Request, d.input(messages, means), means)
	for _, m := range messages {
		if m.Kind == string(pace.OTP) && r.Hidden != nil {
			m.hide(r.Hidden)
		}
	}
	return r, err
}

// hide lets nothing be kept of what a passcode says, however it is written.
func (m Message) hide(hidden map[string]string) {
	hidden[m.Text] = "text"
	if h, err := smstext.EncodeHex(smstext.UTF16BE, m.Text); err == nil {
		hidden[strings.ToLower(h)], hidden[strings.ToUpper(h)] = "text", "text"
	}
	if latin, err := smstext.Encode(smstext.Latin1, m.Text); err == nil {
		hidden[url.QueryEscape(string(latin))] = "text"
	}
	for name, value := range m.Fields {
		if w, err := scalar(plain(value)); err == nil {
			hidden[w] = name
		}
	}
}

// CanAsk reports whether a query can be made with what is known of the message.
func (d *Dialect) CanAsk(gatewayRef string) bool {
	return d.Query != nil && (gatewayRef != "" || !d.uses.ref)
}

// CanAskByRef reports whether a query can be made by the gateway's own id alone.
func (d *Dialect) CanAskByRef() bool { return d.Query != nil && d.uses.ref && !d.uses.ours }

// QueryRequest builds the request that asks what became of messages.
func (d *Dialect) QueryRequest(messages []Message, means Means) (Request, error) {
	return d.request(&d.Query.Request, d.input(messages, means), means)
}

// TokenRequest builds the request that fetches a token.
func (d *Dialect) TokenRequest(means Means) (Request, error) {
	return d.request(&d.Token.Request, means.into(map[string]any{}), means)
}

// BalanceRequest builds the request that asks what is left on the account.
func (d *Dialect) BalanceRequest(means Means) (Request, error) {
	return d.request(&d.Balance.Request, means.into(map[string]any{}), means)
}

// CanFetchStatement reports whether the dialect says how a statement is fetched.
func (d *Dialect) CanFetchStatement() bool { return d.Statement != nil && d.Statement.Request != nil }

// StatementRequest builds the request that fetches what the gateway carried in
// a span of time.
func (d *Dialect) StatementRequest(from, until time.Time, means Means) (Request, error) {
	if !d.CanFetchStatement() {
		return Request{}, fmt.Errorf("dialect %s does not say how a statement is fetched", d.Name)
	}
	return d.request(
		d.Statement.Request,
		means.into(map[string]any{"from": from.UTC().Format(time.RFC3339), "until": until.UTC().Format(time.RFC3339)}),
		means,
	)
}

func (d *Dialect) request(rule *RequestRule, input map[string]any, means Means) (Request, error) {
	m, done := d.metered()
	defer done()
	r, path := Request{
		Method: "GET",
		Header: map[string]string{"Accept": "application/json, application/xml;q=0.9, */*;q=0.5"},
		Hidden: map[string]string{},
	}, rule.Get
	if rule.Post.set() {
		r.Method, path = "POST", rule.Post
	}
	fail := func(what string, err error) (Request, error) {
		return Request{}, fmt.Errorf("dialect %s: building %s: %w", d.Name, what, err)
	}
	var err error
	if r.Path, err = path.fill(m, input); err != nil {
		return fail("the path", err)
	}
	if err := r.addQuery(m, rule.Query, rule.Charset, input); err != nil {
		return fail("the query string", err)
	}
	if err := r.body(m, rule, input); err != nil {
		return fail("the body", err)
	}
	if err := r.addHeaders(m, rule.Headers, input); err != nil {
		return fail("the headers", err)
	}
	switch {
	case rule.Bearer != "":
		r.Header["Authorization"] = "Bearer " + means.Secrets[rule.Bearer]
	case rule.Basic != nil:
		pair := base64.StdEncoding.EncodeToString([]byte(means.Secrets[rule.Basic.User] + ":" + means.Secrets[rule.Basic.Password]))
		r.Header["Authorization"] = "Basic " + pair
		r.Hidden[pair] = rule.Basic.User + ":" + rule.Basic.Password
	}
	if token := means.Secrets[tokenName]; d.Token != nil && token != "" {
		r.Hidden[token] = tokenName
	}
	if rule.Sign != nil {
		if err := r.sign(m, rule.Sign, rule.Charset, input, means); err != nil {
			return fail("the signature", err)
		}
	}
	return r, nil
}

func (r *Request) body(m *jq.Meter, rule *RequestRule, input map[string]any) error {
	switch {
	case rule.Form.set():
		value, err := rule.Form.one(m, input)
		if err != nil {
			return err
		}
		form, err := writeForm(value, rule.Charset)
		r.Body = []byte(form)
		r.Header["Content-Type"] = "application/x-www-form-urlencoded"
		if rule.Charset == Latin1 {
			r.Header["Content-Type"] += "; charset=iso-8859-1"
		}
		return err
	case rule.JSON.set():
		value, err := rule.JSON.one(m, input)
		if err != nil {
			return err
		}
		var body bytes.Buffer
		encoder := json.NewEncoder(&body)
		encoder.SetEscapeHTML(false)
		err = encoder.Encode(value)
		r.Body = bytes.TrimRight(body.Bytes(), "\n")
		r.Header["Content-Type"] = "application/json"
		return err
	case rule.XML.set():
		value, err := rule.XML.one(m, input)
		if err != nil {
			return err
		}
		r.Body, err = writeXML(value)
		r.Header["Content-Type"] = "application/xml; charset=utf-8"
		return err
	case rule.Text.set():
		value, err := rule.Text.one(m, input)
		if err != nil {
			return err
		}
		text, err := scalar(value)
		if err != nil {
			return err
		}
		r.Header["Content-Type"] = "text/plain; charset=" + map[Charset]string{UTF8: "utf-8", Latin1: "iso-8859-1"}[rule.Charset]
		r.Body, err = rule.Charset.encode(text)
		return err
	}
	return nil
}

func (c Charset) encode(text string) ([]byte, error) {
	if c == Latin1 {
		return smstext.Encode(smstext.Latin1, text)
	}
	return []byte(text), nil
}

func (r *Request) addQuery(m *jq.Meter, e Expr, charset Charset, input map[string]any) error {
	if !e.set() {
		return nil
	}
	value, err := e.one(m, input)
	if err != nil {
		return err
	}
	query, err := writeForm(value, charset)
	if err != nil || query == "" {
		return err
	}
	if strings.Contains(r.Path, "?") {
		r.Path += "&" + query
	} else {
		r.Path += "?" + query
	}
	return nil
}

// transports are headers that say how a request is carried. HTTP sets them; what a
// dialect set would not go over the wire, but stand in the record.
var transports = map[string]bool{"Host": true, "Content-Length": true, "Transfer-Encoding": true, "Connection": true, "Keep-Alive": true,
	"Te": true, "Trailer": true, "Upgrade": true, "Expect": true, "Proxy-Connection": true}

const notYours = "it says how the request is carried, which a dialect cannot"

func (r *Request) addHeaders(m *jq.Meter, e Expr, input map[string]any) error {
	if !e.set() {
		return nil
	}
	value, err := e.one(m, input)
	if err != nil {
		return err
	}
	object, ok := value.(map[string]any)
	if !ok {
		return fmt.Errorf("jq %s: expected an object", e.source)
	}
	for name, value := range object {
		words, err := flat(value)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		word := strings.Join(words, ", ")
		if strings.ContainsAny(name+word, "\r\n\x00") || name == "" {
			return fmt.Errorf("%q: a header cannot hold a line break", name)
		}
		name = textproto.CanonicalMIMEHeaderKey(name)
		if transports[name] {
			return fmt.Errorf("%s: %s", name, notYours)
		}
		if len(words) > 0 {
			r.Header[name] = word
		}
	}
	return nil
}

// writeForm writes the fields of an object, in the order of their names
// (application/x-www-form-urlencoded). A plus sign is %2B: unencoded it would
// arrive as a space.
func writeForm(value any, charset Charset) (string, error) {
	object, ok := value.(map[string]any)
	if !ok {
		return "", errors.New("expected an object of fields")
	}
	var out strings.Builder
	for _, name := range slices.Sorted(maps.Keys(object)) {
		words, err := flat(object[name])
		if err != nil {
			return "", fmt.Errorf("%s: %w", name, err)
		}
		for _, word := range words {
			encoded, err := charset.encode(word)
			if err != nil {
				return "", fmt.Errorf("%s: %w", name, err)
			}
			if out.Len() > 0 {
				out.WriteByte('&')
			}
			out.WriteString(url.QueryEscape(name) + "=" + url.QueryEscape(string(encoded)))
		}
	}
	return out.String(), nil
}

// sign adds an HMAC with SHA-256 (RFC 2104) over what the dialect describes.
func (r *Request) sign(m *jq.Meter, rule *Sign, charset Charset, input map[string]any, means Means) error {
	path, query, _ := strings.Cut(r.Path, "?")
	body := sha256.Sum256(r.Body)
	seen := maps.Clone(input)
	maps.Copy(
		seen,
		map[string]any{
			"method":      r.Method,
			"path":        means.Base + path,
			"query":       query,
			"body":        string(r.Body),
			"body_sha256": hex.EncodeToString(body[:]),
		},
	)
	over, err := rule.Over.one(m, seen)
	if err != nil {
		return err
	}
	text, err := scalar(over)
	if err != nil {
		return err
	}
	mac := hmac.New(sha256.New, []byte(means.Secrets[rule.HMACSHA256]))
	mac.Write([]byte(text))
	seen["signature"] = digest(mac.Sum(nil), rule.As)
	if err := r.addHeaders(m, rule.Headers, seen); err != nil {
		return err
	}
	return r.addQuery(m, rule.Query, charset, seen)
}

func digest(sum []byte, as string) string {
	if as == "base64" {
		return base64.StdEncoding.EncodeToString(sum)
	}
	return hex.EncodeToString(sum)
}

// Path is a path with holes: {field}, or {an expression in jq}.
type Path struct {
	source string
	fixed  []string // between them are the holes
	holes  []Expr
	err    error
}

// UnmarshalYAML reads the path. A mistake in it is kept for the check of the
// file, which knows the line.
func (p *Path) UnmarshalYAML(unmarshal func(any) error) error {
	if err := unmarshal(&p.source); err != nil {
		return err
	}
	p.err = p.split()
	return nil
}

func (p *Path) split() error {
	if !strings.HasPrefix(p.source, "/") {
		return errors.New("expected it to start with /")
	}
	for rest := p.source; ; {
		fixed, after, open := strings.Cut(rest, "{")
		if strings.Contains(fixed, "}") {
			return errors.New("a closing brace stands without an opening one")
		}
		p.fixed = append(p.fixed, fixed)
		if !open {
			return nil
		}
		hole, more, closed := strings.Cut(after, "}")
		if !closed || hole == "" {
			return errors.New("expected {field} or {an expression in jq} with its closing brace")
		}
		if strings.Trim(hole, "abcdefghijklmnopqrstuvwxyz_") == "" {
			hole = "." + hole
		}
		e := compile(hole)
		if e.err != nil {
			return fmt.Errorf("{%s}: expected a field or an expression in jq: %w", hole, e.err)
		}
		p.holes = append(p.holes, e)
		rest = more
	}
}

func (p Path) set() bool { return p.source != "" }

// fill fills the holes.
func (p Path) fill(m *jq.Meter, input map[string]any) (string, error) {
	out := p.fixed[0]
	for i, hole := range p.holes {
		value, err := hole.one(m, input)
		if err != nil {
			return "", err
		}
		words, err := flat(value)
		if err != nil || len(words) != 1 || words[0] == "" {
			return "", fmt.Errorf("{%s} is empty", hole.source)
		}
		out += url.PathEscape(words[0]) + p.fixed[i+1]
	}
	return out, nil
}

// usual are headers that stand in every exchange and tell nothing.
var usual = map[string]bool{"user-agent": true, "date": true, "connection": true, "keep-alive": true, "content-length": true,
	"transfer-encoding": true, "accept-encoding": true, "vary": true}

// Telling are the headers that are worth keeping: those that do not stand in
// every exchange.
func Telling(header map[string]string) map[string]string {
	telling := make(map[string]string, len(header))
	for name, value := range header {
		if !usual[strings.ToLower(name)] {
			telling[name] = value
		}
	}
	return telling
}
