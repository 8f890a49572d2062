package dialect

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"math/big"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/itchyny/gojq"
)

// An expression on a live reply may neither hang nor fill the memory: these
// are far above what any honest reply needs.
const (
	exprTime    = 250 * time.Millisecond
	exprResults = 10_000
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
	if err := unmarshal(&e.source); err != nil {
		return err
	}
	query, err := gojq.Parse(e.source)
	if err != nil {
		e.err = err
		return nil
	}
	e.code, e.err = gojq.Compile(query)
	return nil
}

func (e Expr) set() bool { return e.source != "" }

// all runs the expression and returns every value it yields.
func (e Expr) all(input any) ([]any, error) {
	ctx, cancel := context.WithTimeout(context.Background(), exprTime)
	defer cancel()
	var values []any
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
	}
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

// bodyValue makes one JSON value of a body: JSON and forms are objects, all
// else is a string.
func bodyValue(contentType string, body []byte) any {
	if strings.HasPrefix(contentType, "application/x-www-form-urlencoded") {
		if form, err := url.ParseQuery(string(body)); err == nil {
			return valuesObject(form)
		}
	}
	decoder := json.NewDecoder(bytes.NewReader(body))
	decoder.UseNumber()
	var value any
	if err := decoder.Decode(&value); err == nil {
		if _, err := decoder.Token(); err == io.EOF { // nothing may follow the value
			return plain(value)
		}
	}
	return strings.ToValidUTF8(string(body), "\uFFFD")
}

func valuesObject(values url.Values) map[string]any {
	object := map[string]any{}
	for name, all := range values {
		object[name] = strings.Join(all, ",")
	}
	return object
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

// word writes a value that stands for a word: ids and codes come as strings
// and as numbers.
func word(value any) (string, error) {
	switch v := value.(type) {
	case nil:
		return "", nil
	case string:
		return cleanText(v), nil
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

// cleanText drops what a database cannot keep and limits what a gateway may
// make us keep.
func cleanText(s string) string {
	s = strings.ReplaceAll(strings.ToValidUTF8(s, "\uFFFD"), "\x00", "")
	if len(s) > 1000 {
		s = strings.ToValidUTF8(s[:1000], "") + "…"
	}
	return s
}
