package dialect

import (
	"cmp"
	"errors"
	"fmt"
	"net/textproto"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/document"
	"calmpigeon.example/internal/core/jq"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/smstext"
)

const (
	// requestMost is the largest number of messages of one request.
	requestMost = 10_000
	// examplesMost is how many examples a file can have.
	examplesMost = 200
	// tokenName is the name under which a fetched token can be used.
	tokenName = "token"
)

// sharable is what the messages of a request can have in common.
var sharable = []string{"sender", "text", "kind", "encoding", "country", "template", "flash"}

// Load reads and checks a dialect. Every mistake is reported, each with name,
// line, the place in the file and what was expected; name is what the source
// is called in those reports.
func Load(name string, source []byte) (*Dialect, error) {
	file, err := document.Parse(source)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	d := &Dialect{
		Number: E164, Reference: NoRef,
		Takes:   Takes{Senders: Any, Texts: Any},
		Timeout: Duration(10 * time.Second),
		Limits:  Limits{PerSecond: 10, InFlight: 4, Counting: Messages},
		Silence: Silence{AskAfter: Duration(time.Minute), GiveUpAfter: Duration(48 * time.Hour)},
	}
	if err := document.DecodeParsed(file, d); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	c := &checker{file: file, d: d}
	c.dialect()
	if len(c.mistakes) > 0 {
		slices.SortFunc(c.mistakes, func(a, b mistake) int {
			return cmp.Or(cmp.Compare(a.line, b.line), strings.Compare(a.say, b.say))
		})
		errs := make([]error, len(c.mistakes))
		for i, m := range c.mistakes {
			errs[i] = fmt.Errorf("%s:%d: %s", name, m.line, m.say)
		}
		return nil, errors.Join(errs...)
	}
	submit, query := d.Submit.Request.sources(), ""
	if d.Query != nil {
		query = d.Query.Request.sources()
	}
	d.uses = uses{
		hex:      strings.Contains(submit, "text_hex"),
		national: strings.Contains(submit+query, "national"),
		ref:      strings.Contains(query, "gateway_ref"),
		ours:     ofOurs.MatchString(query),
	}
	return d, nil
}

// ofOurs finds what a query says of a message beside the gateway's own id: .to, or {to}, but not {to: .gateway_ref}.
var ofOurs = regexp.MustCompile(`\.(id|to|sender|national|country|kind)\b|[{,]\s*(id|to|sender|national|country|kind)\s*[,}]`)

// checker collects every mistake of a dialect file.
type checker struct {
	file     *ast.File
	d        *Dialect
	mistakes []mistake
}

type mistake struct {
	line int
	say  string
}

// fail reports a mistake at a place, such as "submit.reply[1].read".
func (c *checker) fail(place, format string, args ...any) {
	c.mistakes = append(c.mistakes, mistake{c.line(place), place + ": " + fmt.Sprintf(format, args...)})
}

// line finds where a place stands in the file; of one that is missing, the
// line of what it is missing from.
func (c *checker) line(place string) int {
	for place != "" {
		if path, err := yaml.PathString("$." + place); err == nil {
			if node, err := path.FilterFile(c.file); err == nil && node != nil {
				return node.GetToken().Position.Line
			}
		}
		cut := strings.LastIndexAny(place, ".[")
		if cut < 0 {
			break
		}
		place = place[:cut]
	}
	return 1
}

func (c *checker) dialect() {
	d := c.d
	if strings.Trim(d.Name, "abcdefghijklmnopqrstuvwxyz0123456789-") != "" || d.Name == "" {
		c.fail("dialect", "%q: expected a name of small letters, digits and hyphens", d.Name)
	}
	oneOf(c, "number", d.Number, numberForms...)
	oneOf(c, "reference", d.Reference, Honoured, Carried, NoRef)
	for i, name := range d.Secrets {
		if name == tokenName && d.Token != nil {
			c.fail(fmt.Sprintf("secrets[%d]", i), "%q is what the fetched token is called; expected another name", name)
		}
	}
	c.takes()
	c.limits()
	if bits := d.Segments.ReferenceBits; bits != 0 && bits != 8 && bits != 16 {
		c.fail("segments.reference_bits", "%d: expected 8 or 16", bits)
	}
	for i, language := range d.Segments.ShiftTables {
		oneOf(c, fmt.Sprintf("segments.shift_tables[%d]", i), language, smstext.Languages...)
	}
	c.call("submit", &d.Submit, read|limited|refused)
	c.call("query", d.Query, read|limited|refused|absent)
	c.call("balance", d.Balance, limited|refused)
	c.call("token", d.Token, token|limited|refused)
	c.push("receipt", d.Receipt)
	c.push("inbound", d.Inbound)
	if d.Receipt != nil && d.Inbound != nil && !d.Receipt.When.set() && !d.Inbound.When.set() {
		c.fail(
			"inbound.when",
			"receipts and inbound messages come to the same address; expected a condition that tells them apart, here or at receipt",
		)
	}
	c.statement(d.Statement)
	for code, meaning := range d.Codes {
		c.code("codes."+code, meaning)
	}
	if len(d.Examples) > examplesMost {
		c.fail("examples", "%d of them; at most %d are accepted", len(d.Examples), examplesMost)
	}
	for i, example := range d.Examples {
		c.example(fmt.Sprintf("examples[%d]", i), example)
	}
}

// oneOf reports a word that is none of the accepted.
func oneOf[T ~string](c *checker, place string, given T, accepted ...T) {
	if !slices.Contains(accepted, given) {
		words := make([]string, len(accepted))
		for i, a := range accepted {
			words[i] = string(a)
		}
		last := len(words) - 1
		c.fail(place, "%q: expected %s", given, strings.TrimPrefix(strings.Join(words[:last], ", ")+" or "+words[last], " or "))
	}
}

func (c *checker) takes() {
	t := c.d.Takes
	for i, kind := range t.Kinds {
		if _, err := pace.ParseKind(string(kind)); err != nil {
			c.fail(fmt.Sprintf("takes.kinds[%d]", i), "%q: expected otp, transactional or bulk", kind)
		}
	}
	for i, country := range t.Countries {
		if !phone.IsCountry(country) {
			c.fail(
				fmt.Sprintf("takes.countries[%d]", i),
				"%q: expected the code of a country in capitals (ISO 3166-1), such as GB",
				country,
			)
		}
	}
	oneOf(c, "takes.senders", t.Senders, Any, Leased)
	oneOf(c, "takes.texts", t.Texts, Any, Registered)
	if t.Flash && !strings.Contains(c.d.Submit.Request.sources(), "flash") {
		c.fail("takes.flash", "expected the submission to use .flash")
	}
}

func (c *checker) limits() {
	l := c.d.Limits
	if l.PerSecond < 1 {
		c.fail("limits.per_second", "%d: expected at least 1", l.PerSecond)
	}
	if l.PerMinute < 0 {
		c.fail("limits.per_minute", "%d: expected at least 1, or nothing", l.PerMinute)
	}
	if l.PerDay < 0 {
		c.fail("limits.per_day", "%d: expected at least 1, or nothing", l.PerDay)
	}
	if l.InFlight < 1 || l.InFlight > 1000 {
		c.fail("limits.in_flight", "%d: expected 1 to 1000", l.InFlight)
	}
	oneOf(c, "limits.counting", l.Counting, Messages, Requests)
}

// meanings are what the replies to a call can mean.
type meanings int

const (
	read meanings = 1 << iota
	limited
	refused
	absent
	token
)

func (m meanings) String() string {
	var words []string
	for i, word := range []string{"read", "limited", "refused", "absent", "token"} {
		if m&(1<<i) != 0 {
			words = append(words, word)
		}
	}
	return strings.Join(words, ", ")
}

func (c *checker) call(place string, call *Call, can meanings) {
	if call == nil {
		return
	}
	many := place == "submit" || place == "query"
	if call.Most < 0 || call.Most > requestMost || call.Most > 1 && !many {
		c.fail(place+".most", "%d: expected 1 to %d, and only for submit and query", call.Most, requestMost)
	}
	call.Most = max(call.Most, 1)
	for i, field := range call.Same {
		oneOf(c, fmt.Sprintf("%s.same[%d]", place, i), field, sharable...)
	}
	sees := c.d.requestShape()
	if !many {
		sees = c.d.means()
	}
	c.request(place+".request", &call.Request, sees)
	if len(call.Reply) == 0 {
		c.fail(place+".reply", "expected at least one rule")
	}
	for i, rule := range call.Reply {
		at := fmt.Sprintf("%s.reply[%d]", place, i)
		c.must(at+".when", rule.When, replyShape, "a condition in jq")
		c.expr(at+".balance", rule.Balance, replyShape)
		var said meanings
		n := 0
		for meaning, set := range map[meanings]bool{read: rule.Read.set(), limited: rule.Limited.set(), refused: rule.Refused != "", absent: rule.Absent, token: rule.Token.set()} {
			if set {
				said |= meaning
				n++
			}
		}
		alone := n == 0 && place == "balance" && rule.Balance.set()
		if n != 1 && !alone || said&^can != 0 {
			c.fail(at, "expected exactly one of %v; found %d", can, n)
		}
		c.expr(at+".read", rule.Read, replyShape)
		c.expr(at+".limited", rule.Limited, replyShape)
		c.expr(at+".token", rule.Token, replyShape)
		if rule.Refused != "" {
			c.cause(at+".refused", rule.Refused)
		}
	}
}

func (c *checker) request(place string, r *RequestRule, sees *jq.Shape) {
	if r.Get.set() == r.Post.set() {
		c.fail(place, "expected either get or post with a path")
	}
	for name, path := range map[string]Path{"get": r.Get, "post": r.Post} {
		if path.err != nil {
			c.fail(place+"."+name, "path %q: %v", path.source, path.err)
			continue
		}
		for _, hole := range path.holes {
			c.expr(place+"."+name, hole, sees)
		}
	}
	bodies := 0
	for name, e := range map[string]Expr{"form": r.Form, "json": r.JSON, "xml": r.XML, "text": r.Text} {
		c.expr(place+"."+name, e, sees)
		if e.set() {
			bodies++
			if r.Get.set() {
				c.fail(place+"."+name, "a GET has no body; expected post")
			}
		}
	}
	if bodies > 1 {
		c.fail(place, "expected at most one of form, json, xml and text; found %d", bodies)
	}
	c.expr(place+".query", r.Query, sees)
	c.headers(place+".headers", r.Headers, sees)
	if r.Charset == "" {
		r.Charset = UTF8
	}
	oneOf(c, place+".charset", r.Charset, UTF8, Latin1)
	if r.Bearer != "" && !(r.Bearer == tokenName && c.d.Token != nil && place != "token.request") {
		c.secret(place+".bearer", r.Bearer)
	}
	c.basic(place+".basic", r.Basic)
	if s := r.Sign; s != nil {
		c.secret(place+".sign.hmac_sha256", s.HMACSHA256)
		signed := with(sees, "method", "path", "query", "body", "body_sha256")
		c.must(place+".sign.over", s.Over, signed, "what is signed, in jq")
		signed = with(signed, "signature")
		c.headers(place+".sign.headers", s.Headers, signed)
		c.expr(place+".sign.query", s.Query, signed)
		if !s.Headers.set() && !s.Query.set() {
			c.fail(place+".sign", "expected headers or query, to say where the signature goes")
		}
		c.digest(place+".sign.as", &s.As)
	}
}

// headers checks an expression of headers.
func (c *checker) headers(place string, e Expr, sees *jq.Shape) {
	c.expr(place, e, sees)
	if e.err != nil || !e.set() {
		return
	}
	for _, name := range e.program.Keys() {
		if transports[textproto.CanonicalMIMEHeaderKey(name)] {
			c.fail(place, "%s: %s", name, notYours)
		}
	}
}

func (c *checker) basic(place string, b *Basic) {
	if b != nil {
		c.secret(place+".user", b.User)
		c.secret(place+".password", b.Password)
	}
}

func (c *checker) digest(place string, as *string) {
	if *as == "" {
		*as = "hex"
	}
	oneOf(c, place, *as, "hex", "base64")
}

func (c *checker) push(place string, r *PushRule) {
	if r == nil {
		return
	}
	c.must(place+".read", r.Read, pushShape, "an expression in jq")
	c.expr(place+".when", r.When, pushShape)
	if g := r.Genuine; g != nil {
		if g.HMACSHA256 == "" && g.Basic == nil && !g.Same.set() {
			c.fail(place+".genuine", "expected hmac_sha256, basic or same")
		}
		if g.HMACSHA256 != "" {
			c.secret(place+".genuine.hmac_sha256", g.HMACSHA256)
			if g.Header == "" {
				c.fail(place+".genuine.header", "expected the name of the header that bears the signature")
			}
		}
		c.expr(place+".genuine.over", g.Over, pushShape)
		c.expr(place+".genuine.same", g.Same, &jq.Shape{Fields: joined(pushShape.Fields, c.d.means().Fields)})
		c.digest(place+".genuine.as", &g.As)
		c.basic(place+".genuine.basic", g.Basic)
	}
	if r.Answer.Status == 0 {
		r.Answer.Status = 204
		if r.Answer.Body != "" {
			r.Answer.Status = 200
		}
	}
	if r.Answer.Status < 200 || r.Answer.Status > 299 {
		c.fail(place+".answer.status", "%d: expected 200 to 299", r.Answer.Status)
	}
	if r.Answer.Type == "" {
		r.Answer.Type = "text/plain; charset=utf-8"
	}
}

func (c *checker) statement(s *StatementRule) {
	if s == nil {
		return
	}
	c.must("statement.read", s.Read, nil, "an expression in jq")
	if s.Request != nil {
		c.request("statement.request", s.Request, with(c.d.means(), "from", "until"))
	}
	if s.Separator == "" {
		s.Separator = ","
	}
	if len([]rune(s.Separator)) != 1 || strings.ContainsAny(s.Separator, "\"\r\n\uFFFD") {
		c.fail("statement.separator", "%q: expected one character", s.Separator)
	}
}

func (c *checker) code(place string, meaning Code) {
	if meaning.NotTaken != "" {
		c.cause(place+".not_taken", meaning.NotTaken)
		if meaning.State != "" || meaning.Cause != "" {
			c.fail(place, "expected either not_taken or a state")
		}
		return
	}
	if _, err := delivery.ParseGatewayState(string(meaning.State)); err != nil {
		c.fail(place, "%v", err)
	}
	if meaning.Cause != "" {
		c.cause(place+".cause", meaning.Cause)
	}
}

func (c *checker) example(place string, e Example) {
	n := 0
	for _, set := range []bool{e.Reply != nil, e.Answer != nil, e.Receipt != nil, e.Inbound != nil, e.Token != nil, e.Balance != nil, e.Statement != nil} {
		if set {
			n++
		}
	}
	if n != 1 {
		c.fail(place, "expected exactly one of reply, answer, receipt, inbound, token, balance, statement; found %d", n)
	}
	for what, missing := range map[string]bool{"query": e.Answer != nil && c.d.Query == nil, "receipt": e.Receipt != nil && c.d.Receipt == nil,
		"inbound": e.Inbound != nil && c.d.Inbound == nil, "token": e.Token != nil && c.d.Token == nil,
		"balance": e.Balance != nil && c.d.Balance == nil, "statement": e.Statement != nil && c.d.Statement == nil} {
		if missing {
			c.fail(place, "it is recorded from something that the dialect does not describe: %s", what)
		}
	}
}

func (c *checker) secret(place, name string) {
	if !slices.Contains(c.d.Secrets, name) {
		c.fail(place, "%q: expected one of the names under secrets: %v", name, c.d.Secrets)
	}
}

func (c *checker) cause(place string, cause delivery.Cause) {
	if _, err := delivery.ParseCause(string(cause)); err != nil {
		c.fail(place, "%v", err)
	}
}

// expr reports an expression that cannot be compiled, or that looks for what its
// input never has.
func (c *checker) expr(place string, e Expr, sees *jq.Shape) {
	switch {
	case e.err != nil:
		c.fail(place, "expected an expression in jq: %v", e.err)
	case e.set():
		for _, unknown := range e.program.Unknown(sees) {
			c.fail(place, "%s", unknown)
		}
	}
}

// must reports an expression that is missing, or none.
func (c *checker) must(place string, e Expr, sees *jq.Shape, expected string) {
	c.expr(place, e, sees)
	if !e.set() {
		c.fail(place, "expected %s", expected)
	}
}
