package dialect

import (
	"maps"

	"calmpigeon.example/internal/core/jq"
)

// What the expressions of a file see: see the package's comment.
var (
	replyShape = fields("status", "headers", "body", "raw")
	pushShape  = fields("method", "query", "headers", "body", "raw")
)

// fields is an object of which only the names are known.
func fields(names ...string) *jq.Shape {
	s := &jq.Shape{Fields: map[string]*jq.Shape{}}
	for _, name := range names {
		s.Fields[name] = nil
	}
	return s
}

// with is an object with more fields.
func with(s *jq.Shape, names ...string) *jq.Shape {
	return &jq.Shape{Fields: joined(s.Fields, fields(names...).Fields)}
}

func joined(one, other map[string]*jq.Shape) map[string]*jq.Shape {
	all := maps.Clone(one)
	maps.Copy(all, other)
	return all
}

// means is what every request sees.
func (d *Dialect) means() *jq.Shape {
	secrets := fields(d.Secrets...)
	if d.Token != nil {
		secrets.Fields[tokenName] = nil
	}
	return &jq.Shape{Fields: map[string]*jq.Shape{"secrets": secrets, "time": nil}}
}

// requestShape is what a request about messages sees.
func (d *Dialect) requestShape() *jq.Shape {
	message := fields("id", "to", "sender", "text", "text_hex", "kind", "encoding", "segments", "flash", "receipt_url", "valid_for",
		"country", "national", "template", "registration", "fields", "gateway_ref")
	all := joined(message.Fields, d.means().Fields)
	all["messages"] = &jq.Shape{Items: message}
	return &jq.Shape{Fields: all}
}
