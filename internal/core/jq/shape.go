package jq

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/itchyny/gojq"
)

// Shape is what is known of a value that expressions see. Of nil nothing is.
type Shape struct {
	Fields map[string]*Shape // all that an object has
	Items  *Shape            // what an array holds
}

// Unknown are the fields that an expression reads and that its input never has,
// as sentences. Where it cannot be told what an expression looks at, nothing is
// said.
func (p *Program) Unknown(input *Shape) []string {
	r := &reader{}
	r.query(p.query, input)
	return r.unknown
}

// Keys are the keys of the object that an expression makes, as far as they are
// written out.
func (p *Program) Keys() (keys []string) {
	q := p.query
	for q.Op == gojq.OpPipe || q.Op == gojq.OpAdd {
		q = q.Right
	}
	if q.Term == nil || q.Term.Object == nil {
		return nil
	}
	for _, kv := range q.Term.Object.KeyVals {
		if kv.Key != "" {
			keys = append(keys, kv.Key)
		} else if kv.KeyString != nil && kv.KeyString.Queries == nil {
			keys = append(keys, kv.KeyString.Str)
		}
	}
	return keys
}

type reader struct{ unknown []string }

func (r *reader) field(s *Shape, name string) *Shape {
	if s == nil || s.Fields == nil {
		return nil
	}
	known, ok := s.Fields[name]
	if !ok {
		say := fmt.Sprintf("there is no .%s; expected one of %s", name, strings.Join(slices.Sorted(maps.Keys(s.Fields)), ", "))
		if !slices.Contains(r.unknown, say) {
			r.unknown = append(r.unknown, say)
		}
	}
	return known
}

func items(s *Shape) *Shape {
	if s == nil {
		return nil
	}
	return s.Items
}

// query is what a query makes of a value of a shape.
func (r *reader) query(q *gojq.Query, in *Shape) *Shape {
	if q == nil {
		return nil
	}
	for _, def := range q.FuncDefs {
		r.query(def.Body, nil)
	}
	if q.Term != nil {
		return r.term(q.Term, in)
	}
	left := r.query(q.Left, in)
	if q.Op == gojq.OpPipe && len(q.Patterns) == 0 {
		return r.query(q.Right, left)
	}
	right := r.query(q.Right, in)
	switch {
	case q.Op == gojq.OpPipe:
		return right
	case (q.Op == gojq.OpComma || q.Op == gojq.OpAlt) && left == right:
		return left
	}
	return nil
}

func (r *reader) term(t *gojq.Term, in *Shape) *Shape {
	out := r.bare(t, in)
	for _, s := range t.SuffixList {
		switch {
		case s.Iter:
			out = items(out)
		case s.Index != nil:
			out = r.index(s.Index, out, in)
		}
	}
	return out
}

// index is what an index finds in a value; what stands within brackets sees the
// input of the whole term.
func (r *reader) index(i *gojq.Index, of, in *Shape) *Shape {
	switch {
	case i.Name != "":
		return r.field(of, i.Name)
	case i.Str != nil && i.Str.Queries == nil:
		return r.field(of, i.Str.Str)
	case i.Str != nil:
		r.text(i.Str, in)
		return nil
	}
	r.query(i.Start, in)
	r.query(i.End, in)
	if i.IsSlice {
		return of
	}
	if t := i.Start.Term; t != nil && t.Type == gojq.TermTypeString && t.Str.Queries == nil {
		return r.field(of, t.Str.Str)
	}
	return items(of)
}

func (r *reader) text(s *gojq.String, in *Shape) {
	if s != nil {
		for _, q := range s.Queries {
			r.query(q, in)
		}
	}
}

func (r *reader) bare(t *gojq.Term, in *Shape) *Shape {
	switch t.Type {
	case gojq.TermTypeIdentity:
		return in
	case gojq.TermTypeIndex:
		return r.index(t.Index, in, in)
	case gojq.TermTypeFunc:
		return r.function(t.Func, in)
	case gojq.TermTypeObject:
		for _, kv := range t.Object.KeyVals {
			if kv.Val == nil && kv.Key != "" && !strings.HasPrefix(kv.Key, "$") {
				r.field(in, kv.Key)
			}
			r.text(kv.KeyString, in)
			r.query(kv.KeyQuery, in)
			r.query(kv.Val, in)
		}
	case gojq.TermTypeArray:
		return &Shape{Items: r.query(t.Array.Query, in)}
	case gojq.TermTypeUnary:
		r.term(t.Unary.Term, in)
	case gojq.TermTypeFormat, gojq.TermTypeString:
		r.text(t.Str, in)
	case gojq.TermTypeIf:
		r.query(t.If.Cond, in)
		then, other := r.query(t.If.Then, in), in
		for _, e := range t.If.Elif {
			r.query(e.Cond, in)
			if r.query(e.Then, in) != then {
				then = nil
			}
		}
		if t.If.Else != nil {
			other = r.query(t.If.Else, in)
		}
		if then == other {
			return then
		}
	case gojq.TermTypeTry:
		r.query(t.Try.Catch, nil)
		return r.query(t.Try.Body, in)
	case gojq.TermTypeReduce:
		r.query(t.Reduce.Query, in)
		r.query(t.Reduce.Start, in)
		r.query(t.Reduce.Update, nil)
	case gojq.TermTypeForeach:
		r.query(t.Foreach.Query, in)
		r.query(t.Foreach.Start, in)
		r.query(t.Foreach.Update, nil)
		r.query(t.Foreach.Extract, nil)
	case gojq.TermTypeLabel:
		return r.query(t.Label.Body, in)
	case gojq.TermTypeQuery:
		return r.query(t.Query, in)
	}
	return nil
}

// function is what a call makes of its input.
func (r *reader) function(f *gojq.Func, in *Shape) *Shape {
	arg := func(i int, in *Shape) *Shape { return r.query(f.Args[i], in) }
	switch signature(f.Name, len(f.Args)) {
	case "select/1":
		arg(0, in)
		return in
	case "first/0", "last/0":
		return items(in)
	case "first/1":
		return arg(0, in)
	case "limit/2", "skip/2":
		arg(0, in)
		return arg(1, in)
	case "any/2", "all/2":
		arg(1, arg(0, in))
	case "map/1":
		return &Shape{Items: arg(0, items(in))}
	case "sort_by/1", "unique_by/1":
		arg(0, items(in))
		return in
	case "any/1", "all/1", "add/1", "group_by/1", "min_by/1", "max_by/1", "map_values/1":
		arg(0, items(in))
	default:
		sees := in
		if _, counted := costs[signature(f.Name, len(f.Args))]; !counted && !plain[signature(f.Name, len(f.Args))] {
			sees = nil // a function of the file's own, or of the prelude: who knows on what it runs its argument
		}
		for i := range f.Args {
			arg(i, sees)
		}
	}
	return nil
}
