package jq

import (
	_ "embed"
	"fmt"
	"slices"
	"strings"

	"github.com/itchyny/gojq"
)

//go:embed prelude.jq
var preludeSource string

// prelude are functions that are written in jq, so that what they make is
// counted like what an expression makes itself.
var prelude = parsePrelude()

func parsePrelude() []*gojq.FuncDef {
	query, err := gojq.Parse(preludeSource + " .")
	if err != nil {
		panic(err) // the file is part of the program
	}
	return query.FuncDefs
}

// meterName is the variable that hands the meter to what counts. No expression
// can name it: names that begin with an underscore are refused.
const meterName = "$__meter"

// plain are functions that make nothing that grows, or that work on whatever
// their arguments yield. Their arguments are measured like anything else.
var plain = words(`empty/0 error/0 error/1 select/1 first/0 first/1 last/0 last/1 limit/2 skip/2 nth/1 nth/2 isempty/1
	any/0 any/1 any/2 all/0 all/1 all/2 not/0 in/1 has/1 IN/1 IN/2 recurse/0 path/1 paths/0 getpath/1 length/0 utf8bytelength/0
	type/0 arrays/0 objects/0 iterables/0 booleans/0 numbers/0 strings/0 nulls/0 values/0 scalars/0 startswith/1 endswith/1
	range/1 range/2 range/3 toboolean/0 min/0 max/0 floor/0 round/0 ceil/0 trunc/0 fabs/0 abs/0 sqrt/0 isnan/0 isinfinite/0 isnormal/0 pow/2`)

// outside are functions that reach out of the input.
var outside = words(`env/0 input/0 inputs/0 debug/0 debug/1 now/0 localtime/0 strflocaltime/1 halt/0 halt_error/0 halt_error/1
	input_filename/0 stderr/0 modulemeta/0 builtins/0 get_search_list/0`)

func words(list string) map[string]bool {
	set := map[string]bool{}
	for _, word := range strings.Fields(list) {
		set[word] = true
	}
	return set
}

// measurer writes an expression so that all that grows is counted before.
type measurer struct {
	scopes  []map[string]bool // functions that the expression defines, and their closures
	open    []string          // those in whose body we are
	own     bool              // in the prelude, which may use what expressions may not
	needs   map[int]*gojq.FuncDef
	bound   int
	mistake error
}

// measure parses an expression and makes it count what it makes.
func measure(source string) (*gojq.Query, error) {
	query, err := gojq.Parse(source)
	if err != nil {
		return nil, err
	}
	m := &measurer{needs: map[int]*gojq.FuncDef{}}
	query = m.query(query)
	if m.mistake != nil {
		return nil, m.mistake
	}
	var needed []*gojq.FuncDef
	for i := range prelude {
		if def := m.needs[i]; def != nil {
			needed = append(needed, def)
		}
	}
	return &gojq.Query{FuncDefs: needed, Term: group(query)}, nil
}

func (m *measurer) fail(format string, args ...any) {
	if m.mistake == nil {
		m.mistake = fmt.Errorf(format, args...)
	}
}

func (m *measurer) query(q *gojq.Query) *gojq.Query {
	if q == nil {
		return nil
	}
	if q.Meta != nil || len(q.Imports) > 0 {
		m.fail("modules are not available")
	}
	if len(q.FuncDefs) > 0 {
		m.scopes = append(m.scopes, map[string]bool{})
		defer func() { m.scopes = m.scopes[:len(m.scopes)-1] }()
		for _, def := range q.FuncDefs {
			m.define(def)
		}
	}
	q.Term, q.Left, q.Right = m.term(q.Term), m.query(q.Left), m.query(q.Right)
	for _, p := range q.Patterns {
		m.pattern(p)
	}
	switch q.Op {
	case gojq.OpAdd, gojq.OpSub, gojq.OpMul, gojq.OpDiv:
		pair := call("_operands", text(q.Op.String()), q.Left, q.Right)
		out := pipe(pair, &gojq.Query{Op: q.Op, Left: index(0), Right: index(1)})
		out.FuncDefs = q.FuncDefs
		return out
	case gojq.OpAssign, gojq.OpModify, gojq.OpUpdateAdd, gojq.OpUpdateSub, gojq.OpUpdateMul, gojq.OpUpdateDiv, gojq.OpUpdateMod,
		gojq.OpUpdateAlt:
		m.fail("assignment (%s) is not available; make a new object, such as {a: .b}", q.Op)
	}
	return q
}

// define measures a function and makes it known to what follows.
func (m *measurer) define(def *gojq.FuncDef) {
	name := signature(def.Name, len(def.Args))
	for _, given := range append([]string{def.Name}, def.Args...) {
		m.reserved(given)
	}
	m.scopes[len(m.scopes)-1][name] = true
	closures := map[string]bool{}
	for _, arg := range def.Args {
		closures[signature(strings.TrimPrefix(arg, "$"), 0)] = true
	}
	m.scopes, m.open = append(m.scopes, closures), append(m.open, name)
	def.Body = m.query(def.Body)
	m.scopes, m.open = m.scopes[:len(m.scopes)-1], m.open[:len(m.open)-1]
}

// reserved refuses the names of what counts, and the environment.
func (m *measurer) reserved(name string) {
	if !m.own && (strings.HasPrefix(strings.TrimPrefix(name, "$"), "_") || name == "$ENV") {
		m.fail("%s: names that begin with an underscore, and the environment, are not available", name)
	}
}

// key refuses a key of an object that is the name of such a variable.
func (m *measurer) key(name string) {
	if strings.HasPrefix(name, "$") {
		m.reserved(name)
	}
}

func (m *measurer) pattern(p *gojq.Pattern) {
	m.reserved(p.Name)
	for _, item := range p.Array {
		m.pattern(item)
	}
	for _, item := range p.Object {
		m.key(item.Key)
		m.str(item.KeyString)
		item.KeyQuery = m.query(item.KeyQuery)
		if item.Val != nil {
			m.pattern(item.Val)
		}
	}
}

func (m *measurer) str(s *gojq.String) {
	if s == nil {
		return
	}
	for i, q := range s.Queries {
		if t := q.Term; t != nil && t.Type == gojq.TermTypeString && t.Str.Queries == nil && len(t.SuffixList) == 0 {
			continue // what stands between the holes
		}
		s.Queries[i] = pipe(m.query(q), call("_spend", text("text/0")))
	}
}

func (m *measurer) index(i *gojq.Index) {
	if i != nil {
		m.str(i.Str)
		i.Start, i.End = m.query(i.Start), m.query(i.End)
	}
}

func (m *measurer) term(t *gojq.Term) *gojq.Term {
	if t == nil {
		return nil
	}
	for _, s := range t.SuffixList {
		m.index(s.Index)
	}
	m.index(t.Index)
	suffixes := t.SuffixList
	made := func(q *gojq.Query) *gojq.Term {
		out := group(q)
		out.SuffixList = suffixes
		return out
	}
	bare := func() *gojq.Query { // without what follows
		c := *t
		c.SuffixList = nil
		return &gojq.Query{Term: &c}
	}
	switch t.Type {
	case gojq.TermTypeFunc:
		return made(m.function(t.Func))
	case gojq.TermTypeObject:
		for _, kv := range t.Object.KeyVals {
			m.key(kv.Key)
			m.str(kv.KeyString)
			kv.KeyQuery, kv.Val = m.query(kv.KeyQuery), m.query(kv.Val)
		}
		return made(pipe(bare(), call("_keep")))
	case gojq.TermTypeArray:
		if t.Array.Query != nil {
			t.Array.Query = pipe(m.query(t.Array.Query), call("_keep"))
		}
	case gojq.TermTypeNumber:
		if len(t.Number) > digitsMost {
			m.fail("a number of %d digits; at most %d are accepted", len(t.Number), digitsMost)
		}
	case gojq.TermTypeUnary:
		t.Unary.Term = m.term(t.Unary.Term)
	case gojq.TermTypeFormat:
		m.str(t.Str)
		if t.Str == nil {
			return made(pipe(call("_spend", text("text/0")), bare()))
		}
	case gojq.TermTypeString:
		m.str(t.Str)
	case gojq.TermTypeIf:
		t.If.Cond, t.If.Then, t.If.Else = m.query(t.If.Cond), m.query(t.If.Then), m.query(t.If.Else)
		for _, e := range t.If.Elif {
			e.Cond, e.Then = m.query(e.Cond), m.query(e.Then)
		}
	case gojq.TermTypeTry:
		t.Try.Body, t.Try.Catch = m.query(t.Try.Body), m.query(t.Try.Catch)
	case gojq.TermTypeReduce:
		r := t.Reduce
		r.Query, r.Start, r.Update = m.query(r.Query), m.query(r.Start), m.query(r.Update)
		for _, p := range r.Patterns {
			m.pattern(p)
		}
	case gojq.TermTypeForeach:
		f := t.Foreach
		f.Query, f.Start, f.Update, f.Extract = m.query(f.Query), m.query(f.Start), m.query(f.Update), m.query(f.Extract)
		for _, p := range f.Patterns {
			m.pattern(p)
		}
	case gojq.TermTypeLabel:
		t.Label.Body = m.query(t.Label.Body)
	case gojq.TermTypeQuery:
		t.Query = m.query(t.Query)
	}
	return t
}

// function measures a call.
func (m *measurer) function(f *gojq.Func) *gojq.Query {
	for i, arg := range f.Args {
		f.Args[i] = m.query(arg)
	}
	same := &gojq.Query{Term: &gojq.Term{Type: gojq.TermTypeFunc, Func: f}}
	name := signature(f.Name, len(f.Args))
	if strings.HasPrefix(f.Name, "$") {
		m.reserved(f.Name)
		return same
	}
	if slices.Contains(m.open, name) {
		m.fail("%s calls itself, which is not available", name)
		return same
	}
	for _, scope := range m.scopes {
		if scope[name] {
			return same
		}
	}
	hidden := strings.HasPrefix(f.Name, "_") && !m.own
	if plain[name] && !hidden {
		return same
	}
	if f.Name == "strftime" && len(f.Args) == 1 && !plainFormat(f.Args[0]) {
		m.fail("strftime: expected a format that is written out, without widths")
		return same
	}
	if _, counted := costs[name]; counted && !hidden {
		return m.counted(f, name)
	}
	for i := len(prelude) - 1; i >= 0 && !hidden; i-- {
		if signature(prelude[i].Name, len(prelude[i].Args)) == name {
			m.need(i)
			return same
		}
	}
	switch {
	case outside[name]:
		m.fail("%s is not available: an expression sees nothing but its input", name)
	default:
		m.fail("there is no function %s here", name)
	}
	return same
}

// need takes a function of the prelude in, and what it needs itself.
func (m *measurer) need(i int) {
	if m.needs[i] != nil {
		return
	}
	def := clonePrelude(i)
	m.needs[i] = def
	inner := &measurer{own: true, needs: m.needs, scopes: []map[string]bool{{}}}
	inner.define(def)
	if inner.mistake != nil {
		m.fail("%s: %w", def.Name, inner.mistake)
	}
}

// clonePrelude is a copy, because measuring writes into what it measures.
func clonePrelude(i int) *gojq.FuncDef {
	query, err := gojq.Parse(prelude[i].String() + " .")
	if err != nil {
		panic(err) // it has been parsed before
	}
	return query.FuncDefs[0]
}

// counted is a call before which is counted what it makes:
// arguments as variables | _spend | the call.
func (m *measurer) counted(f *gojq.Func, name string) *gojq.Query {
	given := []*gojq.Query{text(name)}
	names := make([]string, len(f.Args))
	for i := range f.Args {
		m.bound++
		names[i] = fmt.Sprintf("$__%d", m.bound)
		given = append(given, variable(names[i]))
	}
	native := &gojq.Func{Name: f.Name}
	for _, n := range names {
		native.Args = append(native.Args, variable(n))
	}
	out := pipe(call("_spend", given...), &gojq.Query{Term: &gojq.Term{Type: gojq.TermTypeFunc, Func: native}})
	if name == "del/1" || name == "paths/1" { // its argument is a path and no value
		return pipe(call("_spend", text(name)), &gojq.Query{Term: &gojq.Term{Type: gojq.TermTypeFunc, Func: f}})
	}
	for i := len(names) - 1; i >= 0; i-- {
		out = &gojq.Query{Op: gojq.OpPipe, Left: &gojq.Query{Term: group(f.Args[i])},
			Patterns: []*gojq.Pattern{{Name: names[i]}}, Right: out}
	}
	return out
}

// plainFormat reports whether a format of times is a literal without widths: a
// width says how long the result is.
func plainFormat(q *gojq.Query) bool {
	return q.Term != nil && q.Term.Type == gojq.TermTypeString && q.Term.Str.Queries == nil &&
		!strings.ContainsAny(q.Term.Str.Str, "0123456789")
}

func signature(name string, args int) string { return fmt.Sprintf("%s/%d", name, args) }

func group(q *gojq.Query) *gojq.Term { return &gojq.Term{Type: gojq.TermTypeQuery, Query: q} }

func pipe(left, right *gojq.Query) *gojq.Query {
	return &gojq.Query{Term: group(&gojq.Query{Op: gojq.OpPipe, Left: &gojq.Query{Term: group(left)}, Right: right})}
}

func text(s string) *gojq.Query {
	return &gojq.Query{Term: &gojq.Term{Type: gojq.TermTypeString, Str: &gojq.String{Str: s}}}
}

func variable(name string) *gojq.Query {
	return &gojq.Query{Term: &gojq.Term{Type: gojq.TermTypeFunc, Func: &gojq.Func{Name: name}}}
}

func index(i int) *gojq.Query {
	return &gojq.Query{Term: &gojq.Term{Type: gojq.TermTypeIndex,
		Index: &gojq.Index{Start: &gojq.Query{Term: &gojq.Term{Type: gojq.TermTypeNumber, Number: fmt.Sprint(i)}}}}}
}

// call is a call of a function that counts, which gets the meter.
func call(name string, args ...*gojq.Query) *gojq.Query {
	return &gojq.Query{Term: &gojq.Term{Type: gojq.TermTypeFunc,
		Func: &gojq.Func{Name: name, Args: append([]*gojq.Query{variable(meterName)}, args...)}}}
}
