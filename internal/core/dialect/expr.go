package dialect

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"math/big"
	"strconv"
	"strings"
	"time"

	"github.com/itchyny/gojq"
)

// An expression on a live reply may neither hang nor fill the memory: these
// are far above what any honest reply needs. The time is by the clock, and a
// machine may be busy with other things.
const (
	exprTime    = 2 * time.Second
	exprResults = 10_000
	exprSize    = 8 << 20 // octets of all strings and keys, and 16 for each value
)

// Expr is a jq expression in a dialect file.
type Expr struct {
	source string
	code   *gojq.Code
	err    error
}

// UnmarshalYAML reads and compiles the expression. A mistake in it is kept for
// the check of the file, which knows the line.
func (e *Expr) UnmarshalYAML(unmarshal func(any) error) error {
	var source string
	if err := unmarshal(&source); err != nil {
		return err
	}
	*e = compile(source)
	return nil
}

func compile(source string) Expr {
	e := Expr{source: source}
	query, err := gojq.Parse(source)
	if err != nil {
		e.err = err
		return e
	}
	e.code, e.err = gojq.Compile(query)
	return e
}

func (e Expr) set() bool { return e.source != "" }

// all runs the expression and returns every value it yields.
func (e Expr) all(input any) ([]any, error) {
	ctx, cancel := context.WithTimeout(context.Background(), exprTime)
	defer cancel()
	var values []any
	left := exprSize
	run := e.code.RunWithContext(ctx, input)
	for {
		value, more := run.Next()
		if !more {
			return values, nil
		}
		if err, failed := value.(error); failed {
			if errors.Is(err, context.DeadlineExceeded) {
				err = fmt.Errorf("took longer than %v", exprTime)
			}
			return nil, fmt.Errorf("jq %s: %w", e.source, err)
		}
		if values = append(values, value); len(values) > exprResults {
			return nil, fmt.Errorf("jq %s: more than %d results", e.source, exprResults)
		}
		if left -= size(value, left); left < 0 {
			return nil, fmt.Errorf("jq %s: its results are larger than %d octets", e.source, exprSize)
		}
	}
}

// size is about how much memory a value takes, counted up to a little more than
// most.
func size(value any, most int) int {
	n := 16
	switch v := value.(type) {
	case string:
		n += len(v)
	case *big.Int:
		n += v.BitLen() / 8
	case []any:
		for _, item := range v {
			if n += size(item, most-n); n > most {
				break
			}
		}
	case map[string]any:
		for key, item := range v {
			if n += len(key) + size(item, most-n); n > most {
				break
			}
		}
	}
	return n
}

// one runs the expression and returns the first value; nil if it yields none.
func (e Expr) one(input any) (any, error) {
	values, err := e.all(input)
	if err != nil || len(values) == 0 {
		return nil, err
	}
	return values[0], nil
}

// holds runs the expression as a condition: anything but false and null holds.
func (e Expr) holds(input any) (bool, error) {
	value, err := e.one(input)
	return err == nil && value != nil && value != false, err
}

// plain turns what Go decodes into what jq computes with. Whole numbers stay
// whole: gateways give ids that no float can hold.
func plain(value any) any {
	switch v := value.(type) {
	case map[string]any:
		for key, item := range v {
			v[key] = plain(item)
		}
	case []any:
		for i, item := range v {
			v[i] = plain(item)
		}
	case json.Number:
		if n, err := strconv.Atoi(v.String()); err == nil {
			return n
		}
		if n, ok := new(big.Int).SetString(v.String(), 10); ok {
			return n
		}
		f, _ := v.Float64()
		return f
	case int64:
		return int(v)
	case uint64:
		return int(v)
	}
	return value
}

// flat writes a value as it stands in a query string, a form or a header: null
// and what is missing are left out.
func flat(value any) (words []string, err error) {
	if list, ok := value.([]any); ok {
		for _, item := range list {
			some, err := flat(item)
			if err != nil {
				return nil, err
			}
			words = append(words, some...)
		}
		return words, nil
	}
	if value == nil {
		return nil, nil
	}
	w, err := scalar(value)
	return []string{w}, err
}

// word writes a value that stands for a word: ids and codes come as strings
// and as numbers.
func word(value any) (string, error) {
	if value == nil {
		return "", nil
	}
	w, err := scalar(value)
	return cleanText(w), err
}

func scalar(value any) (string, error) {
	switch v := value.(type) {
	case string:
		return v, nil
	case int:
		return strconv.Itoa(v), nil
	case *big.Int:
		return v.String(), nil
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64), nil
	case bool:
		return strconv.FormatBool(v), nil
	}
	return "", fmt.Errorf("%T where a word or number was expected", value)
}

func whole(value any) (int, error) {
	switch v := value.(type) {
	case nil:
		return 0, nil
	case int:
		return v, nil
	case float64:
		if v == math.Trunc(v) && math.Abs(v) < 1<<31 {
			return int(v), nil
		}
	case string:
		if n, err := strconv.Atoi(v); err == nil {
			return n, nil
		}
	}
	return 0, fmt.Errorf("%v where a whole number was expected", value)
}

// moment reads a gateway's time: RFC 3339 or seconds or milliseconds since
// 1970. What cannot be read is left out; a time is no reason to lose a claim.
func moment(value any) time.Time {
	switch v := value.(type) {
	case string:
		if t, err := time.Parse(time.RFC3339Nano, v); err == nil {
			return t.UTC()
		}
	case int:
		if v > 1e11 {
			return time.UnixMilli(int64(v)).UTC()
		}
		return time.Unix(int64(v), 0).UTC()
	case float64:
		return time.UnixMicro(int64(v * 1e6)).UTC()
	}
	return time.Time{}
}

// amount reads an amount of money in millionths: gateways write it as a number
// or as a string, and a balance can be below nothing.
func amount(value any) (micros int64, err error) {
	w, err := scalar(value)
	if err != nil || len(w) == 0 || len(w) > 24 || strings.Trim(w, "-+.0123456789") != "" {
		return 0, fmt.Errorf("%v where an amount was expected", value)
	}
	r, ok := new(big.Rat).SetString(w)
	if !ok {
		return 0, fmt.Errorf("%v where an amount was expected", value)
	}
	r.Mul(r, big.NewRat(1_000_000, 1))
	whole := new(big.Int).Quo(r.Num(), r.Denom()) // a fraction of a millionth is nothing
	if !whole.IsInt64() {
		return 0, fmt.Errorf("%v is more than can be counted", value)
	}
	return whole.Int64(), nil
}

// cleanText drops what a database cannot keep and limits what a gateway may
// make us keep.
func cleanText(s string) string {
	s = strings.ReplaceAll(strings.ToValidUTF8(s, "\uFFFD"), "\x00", "")
	if len(s) > 1000 {
		s = strings.ToValidUTF8(s[:1000], "") + "…"
	}
	return s
}
