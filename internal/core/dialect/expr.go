package dialect

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"math/big"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/jq"
)

// Expr is a jq expression in a dialect file.
type Expr struct {
	source  string
	program *jq.Program
	err     error
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
	program, err := jq.Compile(source)
	return Expr{source, program, err}
}

func (e Expr) set() bool { return e.source != "" }

// all runs the expression and returns every value it yields.
func (e Expr) all(m *jq.Meter, input any) ([]any, error) { return e.program.All(m, input) }

// one runs the expression and returns the first value; nil if it yields none.
func (e Expr) one(m *jq.Meter, input any) (any, error) { return e.program.One(m, input) }

// holds runs the expression as a condition: anything but false and null holds.
func (e Expr) holds(m *jq.Meter, input any) (bool, error) {
	value, err := e.one(m, input)
	return err == nil && value != nil && value != false, err
}

// Within is the dialect with all that its expressions use counted by one meter,
// for whoever tries a dialect out. It is for one goroutine.
func (d *Dialect) Within(m *jq.Meter) *Dialect {
	tried := *d
	tried.meter = m
	return &tried
}

// metered is what counts the expressions of one reading or one request, and how
// that ends.
func (d *Dialect) metered() (m *jq.Meter, done func()) {
	if d.meter != nil {
		return d.meter, func() {}
	}
	m = jq.NewMeter(context.Background(), jq.Usual)
	return m, m.Close
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
		if len(v) > digitsMost { // to reckon with it would take seconds
			return v.String()
		}
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

// The bounds of what is read from outside. What is beyond them is taken for not
// said: no count and no time is a reason to lose a claim.
const (
	digitsMost   = 64        // of a number
	wordMost     = 1000      // bytes of an id, a code or a note
	textMost     = 160 << 10 // bytes of an inbound text: 255 segments of the widest characters
	segmentsMost = delivery.PartsMost
	indexMost    = 1_000_000
)

var earliest, latest = time.Date(1990, 1, 1, 0, 0, 0, 0, time.UTC), time.Date(2100, 1, 1, 0, 0, 0, 0, time.UTC)

// moment reads a gateway's time: RFC 3339, or seconds, milliseconds,
// microseconds or nanoseconds since 1970. What cannot be read, or lies before
// 1990 or after 2100, is left out.
func moment(value any) time.Time {
	var t time.Time
	switch v := value.(type) {
	case string:
		t, _ = time.Parse(time.RFC3339Nano, v)
	case int:
		switch {
		case v > 1e17:
			t = time.Unix(0, int64(v))
		case v > 1e14:
			t = time.UnixMicro(int64(v))
		case v > 1e11:
			t = time.UnixMilli(int64(v))
		default:
			t = time.Unix(int64(v), 0)
		}
	case float64:
		for range 3 { // thousandths, millionths, billionths
			if v > 1e11 {
				v /= 1000
			}
		}
		if v > 0 && v < 1e11 {
			t = time.UnixMicro(int64(v * 1e6))
		}
	}
	if t.Before(earliest) || !t.Before(latest) {
		return time.Time{}
	}
	return t.UTC()
}

// count reads a number that counts something. One that is below nothing or past
// what there can be was not said.
func count(value any, most int) (int, error) {
	n, err := whole(value)
	if err != nil && isNumber(value) || n < 0 || n > most {
		return 0, nil
	}
	return n, err
}

// isNumber reports whether a value is a number, if only one that is too large or
// has a fraction.
func isNumber(value any) bool {
	switch v := value.(type) {
	case float64, *big.Int:
		return true
	case string:
		return v != "" && strings.Trim(v, "-+.0123456789") == ""
	}
	return false
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
	return bounded(s, wordMost)
}

// bounded is text that a database can keep, of at most so many bytes: it is cut
// between two characters, and says so.
func bounded(s string, most int) string {
	s = strings.ReplaceAll(strings.ToValidUTF8(s, "\uFFFD"), "\x00", "")
	if len(s) <= most {
		return s
	}
	for most > 0 && !utf8.RuneStart(s[most]) {
		most--
	}
	return s[:most] + "…"
}
