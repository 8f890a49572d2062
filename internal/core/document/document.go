// Package document reads YAML and JSON that come from outside. Both are bounded
// before anything is decoded: in size, in how deep they are nested, in the
// digits of a number, and in what aliases expand to.
package document

import (
	"errors"
	"fmt"
	"io"
	"reflect"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// The bounds.
const (
	SizeMost   = 256 << 10 // octets of a YAML file
	NestedMost = 64        // how deep YAML, JSON and XML may be nested
	DigitsMost = 100       // of a number: to compute with more takes seconds
	nodesMost  = 50_000    // of a YAML file, aliases expanded
	marksMost  = 2_000     // anchors, aliases and tags of a YAML file
)

// Parse reads a YAML file of one document into its syntax tree, in which places
// can be looked up.
func Parse(source []byte) (*ast.File, error) {
	if len(source) > SizeMost {
		return nil, fmt.Errorf("it has %d octets; at most %d are accepted", len(source), SizeMost)
	}
	if err := checkTokens(string(source)); err != nil {
		return nil, err
	}
	file, err := parser.ParseBytes(source, 0)
	if err != nil {
		return nil, errors.New(strings.TrimSpace(yaml.FormatError(err, false, true)))
	}
	if len(file.Docs) > 1 {
		return nil, errors.New("it has several documents; expected one")
	}
	return file, expansion(file)
}

// Decode reads a YAML file into a value. A key that the value has no field for
// is a mistake.
func Decode(source []byte, into any, options ...yaml.DecodeOption) error {
	file, err := Parse(source)
	if err != nil {
		return err
	}
	return DecodeParsed(file, into, options...)
}

// Encode writes a value as YAML that is read back as it was. The library writes some texts, such as "? who", without
// the quotes that it wants to read them; a value that has one is written as JSON, which is YAML, too.
func Encode(value any, options ...yaml.EncodeOption) ([]byte, error) {
	written, err := yaml.MarshalWithOptions(value, options...)
	if err != nil {
		return nil, err
	}
	quoted, err := yaml.MarshalWithOptions(value, yaml.JSON())
	if err != nil {
		return nil, err
	}
	var is, was any
	if err := yaml.Unmarshal(quoted, &was); err != nil {
		return nil, fmt.Errorf("what was written as YAML cannot be read: %w", err)
	}
	if err := yaml.Unmarshal(written, &is); err != nil || !reflect.DeepEqual(is, was) {
		return quoted, nil
	}
	return written, nil
}

// DecodeParsed reads a file that was parsed into a value.
func DecodeParsed(file *ast.File, into any, options ...yaml.DecodeOption) (err error) {
	defer func() {
		// The decoder falls over a tag with nothing behind it where a list is expected, and
		// there may be more of that kind.
		if wrong := recover(); wrong != nil {
			err = errors.New("it cannot be read: somewhere there is a tag, such as !word, with nothing behind it")
		}
	}()
	if len(file.Docs) == 0 || file.Docs[0].Body == nil {
		return errors.New("it is empty")
	}
	err = yaml.NewDecoder(strings.NewReader(""), append(options, yaml.Strict())...).DecodeFromNode(file.Docs[0].Body, into)
	if err == nil || err == io.EOF {
		return nil
	}
	return errors.New(strings.TrimSpace(yaml.FormatError(err, false, true)))
}

// checkTokens refuses what is nested too deep before a parser goes down into it.
func checkTokens(source string) error {
	flow, marks := 0, 0
	var open []int // the columns of the blocks that are open
	tooDeep := func(t *token.Token) error {
		return fmt.Errorf("line %d: nested more than %d deep", t.Position.Line, NestedMost)
	}
	// These are looked at first, by themselves: of many the lexer takes seconds.
	if err := checkMarks(source); err != nil {
		return err
	}
	for _, t := range lexer.Tokenize(source) {
		column := t.Position.Column
		switch t.Type {
		case token.AnchorType, token.TagType, token.AliasType:
			if marks++; marks > NestedMost {
				return tooDeep(t)
			}
			continue
		case token.SequenceStartType, token.MappingStartType:
			flow++
		case token.SequenceEndType, token.MappingEndType:
			flow--
		case token.MappingValueType:
			if t.Prev == nil {
				break
			}
			column = t.Prev.Position.Column
			fallthrough
		case token.SequenceEntryType, token.MappingKeyType:
			if flow > 0 {
				break
			}
			for len(open) > 0 && open[len(open)-1] >= column {
				open = open[:len(open)-1]
			}
			open = append(open, column)
		}
		marks = 0
		if flow+len(open) > NestedMost {
			return tooDeep(t)
		}
	}
	return nil
}

// checkMarks counts brackets, anchors, aliases and tags wherever they stand, also
// within texts, where they come in pairs or seldom.
func checkMarks(source string) error {
	depth, marks, line := 0, 0, 1
	before := ' '
	for _, c := range source {
		switch c {
		case '\n':
			line++
		case '[', '{':
			if depth++; depth > 4*NestedMost {
				return fmt.Errorf("line %d: nested more than %d deep", line, NestedMost)
			}
		case ']', '}':
			depth = max(depth-1, 0)
		case '&', '*', '!':
			if strings.ContainsRune(" \t\n[{,", before) {
				marks++
			}
		}
		if marks > marksMost {
			return fmt.Errorf("line %d: more than %d anchors, aliases and tags", line, marksMost)
		}
		before = c
	}
	return nil
}

// expansion refuses a file whose aliases expand to too much.
func expansion(file *ast.File) error {
	e := &expander{anchors: map[string]int{}}
	for _, doc := range file.Docs {
		if doc.Body != nil {
			ast.Walk(e, doc.Body)
		}
	}
	if e.nodes > nodesMost {
		return fmt.Errorf("it has more than %d values, aliases expanded", nodesMost)
	}
	return e.err
}

// expander counts nodes in the order in which they stand: an alias is as many as
// its anchor, which stands before it, came to.
type expander struct {
	nodes   int
	anchors map[string]int
	err     error
}

// Visit counts a node.
func (e *expander) Visit(n ast.Node) ast.Visitor {
	if n == nil || e.nodes > nodesMost || e.err != nil {
		return nil
	}
	e.nodes++
	switch n := n.(type) {
	case *ast.AnchorNode:
		name, before := n.Name.String(), e.nodes
		ast.Walk(e, n.Value)
		e.anchors[name] = e.nodes - before
		return nil
	case *ast.AliasNode:
		expanded, known := e.anchors[n.Value.String()]
		if !known {
			e.err = fmt.Errorf("line %d: the alias *%s stands within its anchor, or has none", n.Start.Position.Line, n.Value)
		}
		e.nodes += expanded
		return nil
	}
	return e
}

// CheckJSON refuses JSON that is nested deeper, or has numbers with more digits,
// than may be computed with. Whether it is JSON is for its reader to see.
func CheckJSON(body []byte) error {
	depth, digits := extent(body)
	if digits > DigitsMost {
		return fmt.Errorf("a number of more than %d digits", DigitsMost)
	}
	return checkDepth(depth)
}

// CheckNesting refuses JSON that is nested too deep, whatever its numbers.
func CheckNesting(body []byte) error {
	depth, _ := extent(body)
	return checkDepth(depth)
}

func checkDepth(depth int) error {
	if depth > NestedMost {
		return fmt.Errorf("nested more than %d deep", NestedMost)
	}
	return nil
}

// extent is how deep JSON is nested, and how many digits its longest number has
// in one piece.
func extent(body []byte) (deepest, longest int) {
	depth, digits, quoted := 0, 0, false
	for i := 0; i < len(body); i++ {
		c := body[i]
		if quoted {
			switch c {
			case '\\':
				i++
			case '"':
				quoted = false
			}
			continue
		}
		if c >= '0' && c <= '9' {
			digits++
			longest = max(longest, digits)
			continue
		}
		digits = 0
		switch c {
		case '"':
			quoted = true
		case '[', '{':
			depth++
			deepest = max(deepest, depth)
		case ']', '}':
			depth--
		}
	}
	return deepest, longest
}
