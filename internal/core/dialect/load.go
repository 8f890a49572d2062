package dialect

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/smstext"
)

// Load reads and checks a dialect. Every mistake is reported, each with name,
// line, the place in the file and what was expected; name is what the source
// is called in those reports.
func Load(name string, source []byte) (*Dialect, error) {
	file, err := parser.ParseBytes(source, 0)
	if err != nil {
		return nil, fmt.Errorf("%s: %s", name, yaml.FormatError(err, false, false))
	}
	d := &Dialect{
		Number: E164, Reference: NoRef,
		Timeout: Duration(10 * time.Second),
		Limits:  Limits{PerSecond: 10, InFlight: 4},
		Silence: Silence{AskAfter: Duration(time.Minute), GiveUpAfter: Duration(48 * time.Hour)},
	}
	if err := yaml.UnmarshalWithOptions(source, d, yaml.Strict()); err != nil {
		return nil, fmt.Errorf("%s: %s", name, strings.TrimSpace(yaml.FormatError(err, false, true)))
	}
	c := &checker{name: name, file: file, d: d}
	c.dialect()
	if len(c.errs) > 0 {
		return nil, errors.Join(c.errs...)
	}
	return d, nil
}

// checker collects every mistake of a dialect file.
type checker struct {
	name string
	file *ast.File
	d    *Dialect
	errs []error
}

// fail reports a mistake at a place, such as "submit.reply[1].read".
func (c *checker) fail(place, format string, args ...any) {
	c.errs = append(c.errs, fmt.Errorf("%s:%d: %s: %s", c.name, c.line(place), place, fmt.Sprintf(format, args...)))
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
	if !slices.Contains([]NumberForm{E164, Digits, Zeros}, d.Number) {
		c.fail("number", "%q: expected e164, digits or 00", d.Number)
	}
	if !slices.Contains([]Reference{Honoured, Carried, NoRef}, d.Reference) {
		c.fail("reference", "%q: expected honoured, carried or none", d.Reference)
	}
	if d.Limits.PerSecond < 1 {
		c.fail("limits.per_second", "%d: expected at least 1", d.Limits.PerSecond)
	}
	if d.Limits.InFlight < 1 || d.Limits.InFlight > 1000 {
		c.fail("limits.in_flight", "%d: expected 1 to 1000", d.Limits.InFlight)
	}
	if bits := d.Segments.ReferenceBits; bits != 0 && bits != 8 && bits != 16 {
		c.fail("segments.reference_bits", "%d: expected 8 or 16", bits)
	}
	for i, language := range d.Segments.ShiftTables {
		if !slices.Contains(smstext.Languages, language) {
			c.fail(fmt.Sprintf("segments.shift_tables[%d]", i), "%q: expected some of %v", language, smstext.Languages)
		}
	}
	c.call("submit", &d.Submit)
	if d.Query != nil {
		c.call("query", d.Query)
	}
	if d.Receipt != nil {
		c.receipt(d.Receipt)
	}
	for code, meaning := range d.Codes {
		place := "codes." + code
		if _, err := delivery.ParseGatewayState(string(meaning.State)); err != nil {
			c.fail(place, "%v", err)
		}
		if meaning.Cause != "" {
			c.cause(place+".cause", meaning.Cause)
		}
	}
}

func (c *checker) call(place string, call *Call) {
	r := call.Request
	if (r.Get == "") == (r.Post == "") {
		c.fail(place+".request", "expected either get or post with a path")
	}
	if path := r.Get + r.Post; path != "" && !strings.HasPrefix(path, "/") {
		c.fail(place+".request", "path %q: expected it to start with /", path)
	}
	if r.Bearer != "" {
		c.secret(place+".request.bearer", r.Bearer)
	}
	if r.Get != "" && r.JSON.set() {
		c.fail(place+".request.json", "a GET has no body; expected post")
	}
	c.expr(place+".request.json", r.JSON)
	if len(call.Reply) == 0 {
		c.fail(place+".reply", "expected at least one rule")
	}
	for i, rule := range call.Reply {
		at := fmt.Sprintf("%s.reply[%d]", place, i)
		c.expr(at+".when", rule.When)
		c.expr(at+".read", rule.Read)
		c.expr(at+".limited", rule.Limited)
		if !rule.When.set() {
			c.fail(at+".when", "expected a condition in jq")
		}
		said := 0
		for _, set := range []bool{rule.Read.set(), rule.Limited.set(), rule.Refused != "", rule.Absent} {
			if set {
				said++
			}
		}
		if said != 1 {
			c.fail(at, "expected exactly one of read, limited, refused, absent; found %d", said)
		}
		if rule.Refused != "" {
			c.cause(at+".refused", rule.Refused)
		}
	}
}

func (c *checker) receipt(r *ReceiptRule) {
	c.expr("receipt.read", r.Read)
	if !r.Read.set() {
		c.fail("receipt.read", "expected an expression in jq")
	}
	if g := r.Genuine; g != nil {
		c.secret("receipt.genuine.hmac_sha256", g.HMACSHA256)
		if g.Header == "" {
			c.fail("receipt.genuine.header", "expected the name of the header that bears the signature")
		}
	}
	if r.Answer.Status == 0 {
		r.Answer.Status = 204
	}
	if r.Answer.Status < 200 || r.Answer.Status > 299 {
		c.fail("receipt.answer.status", "%d: expected 200 to 299", r.Answer.Status)
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

func (c *checker) expr(place string, e Expr) {
	if e.err != nil {
		c.fail(place, "expected an expression in jq: %v", e.err)
	}
}
