package jq

import (
	"fmt"
	"math/big"
	"regexp/syntax"
	"strings"
	"unicode/utf8"

	"calmpigeon.example/internal/core/document"
)

// cost is what a function may use at most, worked out from what it is given: the
// octets of what it makes, and steps of work. Whatever cannot be said cheaply is
// said too high.
type cost func(m *Meter, in any, args []any) (octets, steps int, err error)

// times is the cost of a function that makes at most so many octets for each
// that it is given.
func times(factor int) cost {
	return func(m *Meter, in any, args []any) (int, int, error) {
		n := factor * size(in, m.memory, 0)
		for _, arg := range args {
			n += factor * size(arg, m.memory, 0)
		}
		return n, n / 16, nil
	}
}

// costs are the functions before which is counted.
var costs = map[string]cost{
	"text/0": times(6), // a control character is \u0000 in JSON, a quote &quot; in HTML
	"keys/0": times(1), "reverse/0": times(1), "flatten/0": times(1), "flatten/1": times(1), "transpose/0": transposed,
	"add/0": times(1), "del/1": times(1), "paths/1": times(1), "_captures/0": times(2),
	"sort/0": sorted, "unique/0": sorted, "_sort_by/1": sorted, "_group_by/1": sorted, "_unique_by/1": sorted, "_min_by/1": sorted,
	"_max_by/1":  sorted,
	"tostring/0": times(6), "tojson/0": times(6), "fromjson/0": parsed, "tonumber/0": digits,
	"ltrimstr/1": times(1), "rtrimstr/1": times(1), "trimstr/1": times(1), "ltrim/0": times(1), "rtrim/0": times(1), "trim/0": times(1),
	"ascii_downcase/0": times(1), "ascii_upcase/0": times(1), "explode/0": times(32), "implode/0": times(1),
	"split/1": divided, "join/1": joined, "contains/1": crossed, "inside/1": crossed,
	"indices/1": crossed, "index/1": crossed, "rindex/1": crossed, "_match/3": matched,
	"gmtime/0": times(8), "mktime/0": times(1), "strptime/1": times(8), "strftime/1": times(16),
}

func transposed(m *Meter, in any, _ []any) (int, int, error) {
	rows, _ := in.([]any)
	longest := 0
	for _, row := range rows {
		if r, ok := row.([]any); ok {
			longest = max(longest, len(r))
		}
	}
	return 32 * (longest + 1) * (len(rows) + 1), len(rows), nil
}

// sorted compares each with some twenty others.
func sorted(m *Meter, in any, args []any) (int, int, error) {
	n, _, err := times(2)(m, in, args)
	return n, n / 4, err
}

func divided(m *Meter, in any, args []any) (int, int, error) {
	s, ok := in.(string)
	by, ok2 := args[0].(string)
	if !ok || !ok2 {
		return 0, 0, nil // it is a mistake, and gojq says so
	}
	parts := utf8.RuneCountInString(s)
	if by != "" {
		parts = strings.Count(s, by) + 1
	}
	return 32*parts + len(s), len(s), nil
}

func joined(m *Meter, in any, args []any) (int, int, error) {
	items, _ := in.([]any)
	by, _ := args[0].(string)
	n, steps, err := times(1)(m, in, nil)
	return n + len(items)*len(by), steps, err
}

// crossed compares everything with everything.
func crossed(m *Meter, in any, args []any) (int, int, error) {
	one, other := size(in, m.memory, 0), size(args[0], m.memory, 0)
	if s, ok := in.(string); ok { // an index for each place, found by looking once
		by, _ := args[0].(string)
		return 64 * (strings.Count(s, by) + 1), one + other, nil
	}
	return one, one / 32 * (other / 32), nil
}

// matched looks at each character once for each state of the pattern, and makes
// an object for each match.
func matched(m *Meter, in any, args []any) (octets, steps int, err error) {
	s, ok := in.(string)
	pattern, ok2 := args[0].(string)
	if !ok || !ok2 {
		return 0, 0, nil
	}
	if n := utf8.RuneCountInString(pattern); n > patternMost {
		return 0, 0, fmt.Errorf("a pattern of %d characters; at most %d are accepted", n, patternMost)
	}
	states := len(pattern)
	if parsed, err := syntax.Parse(pattern, syntax.Perl); err == nil {
		if program, err := syntax.Compile(parsed.Simplify()); err == nil {
			states = len(program.Inst)
		}
		states *= 1 + parsed.MaxCap()/4
	}
	flags, _ := args[1].(string)
	switch {
	case args[2] == true:
		octets = 32
	case strings.Contains(flags, "g"):
		octets = 600 * (1 + strings.Count(pattern, "(")) * (1 + utf8.RuneCountInString(s))
	default:
		octets = 600*(1+strings.Count(pattern, "(")) + 4*len(s)
	}
	return octets, states * (len(s) + 1), nil
}

func digits(_ *Meter, in any, _ []any) (int, int, error) {
	if s, ok := in.(string); ok && len(s) > digitsMost {
		return 0, 0, fmt.Errorf("tonumber: a number of %d digits; at most %d are accepted", len(s), digitsMost)
	}
	return 32, 1, nil
}

// parsed is JSON within a string: it may be nested as deep as other values, and
// its numbers have as many digits.
func parsed(_ *Meter, in any, _ []any) (int, int, error) {
	s, ok := in.(string)
	if !ok {
		return 0, 0, nil
	}
	if err := document.CheckJSON([]byte(s)); err != nil {
		return 0, 0, err
	}
	return 32 * len(s), len(s), nil
}

// counting are the functions that count. The first argument is the meter.
var counting = []struct {
	name string
	args int
	run  func(any, []any) any
}{
	// _spend counts what the function that is named does, and lets pass.
	{"_spend", 2, spend}, {"_spend", 3, spend}, {"_spend", 4, spend}, {"_spend", 5, spend},
	// _keep counts a value that was made, and lets it pass.
	{"_keep", 1, func(in any, args []any) any {
		if err := args[0].(*Meter).keep(in); err != nil {
			return err
		}
		return in
	}},
	// _operands counts what an operator makes of two values, and gives both.
	{"_operands", 4, func(_ any, args []any) any {
		if err := operands(args[0].(*Meter), args[1].(string), args[2], args[3]); err != nil {
			return err
		}
		return args[2:4:4]
	}},
}

func spend(in any, args []any) any {
	m, name := args[0].(*Meter), args[1].(string)
	octets, steps, err := costs[name](m, in, args[2:])
	if err == nil {
		err = m.spend(octets)
	}
	if err == nil {
		err = m.work(steps)
	}
	if err != nil {
		return err
	}
	return in
}

func operands(m *Meter, op string, a, b any) error {
	switch x := a.(type) {
	case int, float64, nil:
		switch b.(type) {
		case int, float64, nil:
			return m.spend(0)
		}
	case string:
		y, both := b.(string)
		switch {
		case op == "+" && both:
			return m.spend(32 + len(x) + len(y))
		case op == "/" && both:
			octets, steps, _ := divided(m, x, []any{y})
			return firstOf(m.spend(octets), m.work(steps))
		case op == "*":
			return m.spend(repeated(x, b))
		}
	case *big.Int:
		if y, ok := b.(*big.Int); ok && op == "*" && x.BitLen()+y.BitLen() > 4*digitsMost {
			return fmt.Errorf("the product has more than %d digits", digitsMost)
		}
	case []any:
		if y, ok := b.([]any); ok && op == "-" {
			return firstOf(m.keep(x), m.work(len(x)*max(1, size(y, m.memory, 0)/32)))
		}
	}
	if s, ok := b.(string); ok && op == "*" {
		return m.spend(repeated(s, a))
	}
	return firstOf(m.keep(a), m.keep(b))
}

// repeated is how many octets a text takes that is repeated.
func repeated(s string, n any) int {
	times := 0.0
	switch n := n.(type) {
	case int:
		times = float64(n)
	case float64:
		times = n
	case *big.Int:
		times, _ = new(big.Float).SetInt(n).Float64()
	}
	if octets := times * float64(len(s)); octets < 1<<40 {
		return 32 + int(max(octets, 0))
	}
	return 1 << 40
}

func firstOf(errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}
