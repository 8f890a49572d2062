// Package jq runs expressions in jq that come from outside, so that none can
// harm the process it runs in.
//
// Every expression runs under a [Meter], which counts time, memory and work
// while values grow, over all expressions that share it, and ends them when it
// is used up. What cannot be counted is refused when the expression is compiled,
// and the refusal says so: functions that call themselves, assignments, what
// reaches outside of the input (env, input, now, debug, modules), and functions
// that this package does not know. Otherwise it is jq as gojq has it.
//
// What is made is counted as octets: 32 for each value, the bytes of strings, 64
// for each key of an object. Collecting values in an array, making an object,
// adding, multiplying, writing as text and whatever else makes something new
// counts; to look at something does not.
package jq

import (
	"errors"
	"fmt"
	"strings"

	"github.com/itchyny/gojq"

	"calmpigeon.example/internal/core/document"
)

const (
	sourceMost  = 16 << 10 // octets of an expression
	resultsMost = 10_000
	digitsMost  = document.DigitsMost
	patternMost = 500 // characters of a regular expression
)

// Program is a compiled expression. It is safe for concurrent use.
type Program struct {
	source string
	query  *gojq.Query // as it was written
	code   *gojq.Code
}

// Compile reads an expression. An error says what is wrong with it.
func Compile(source string) (*Program, error) {
	if len(source) > sourceMost {
		return nil, fmt.Errorf("it has %d octets; at most %d are accepted", len(source), sourceMost)
	}
	if err := shallow(source); err != nil {
		return nil, err
	}
	query, err := gojq.Parse(source)
	if err != nil {
		return nil, err
	}
	measured, err := measure(source)
	if err != nil {
		return nil, err
	}
	options := []gojq.CompilerOption{gojq.WithVariables([]string{meterName})}
	for _, f := range counting {
		options = append(options, gojq.WithFunction(f.name, f.args, f.args, f.run))
	}
	code, err := gojq.Compile(measured, options...)
	if err != nil {
		return nil, err
	}
	return &Program{source, query, code}, nil
}

// shallow refuses what is nested so deep that reading it would be dangerous.
func shallow(source string) error {
	depth := 0
	for _, c := range source {
		switch c {
		case '(', '[', '{':
			if depth++; depth > depthMost {
				return fmt.Errorf("it is nested more than %d deep", depthMost)
			}
		case ')', ']', '}':
			depth--
		}
	}
	for _, word := range []string{"if", "reduce", "try", "def", "label", "foreach", "-"} {
		if strings.Count(source, word) > depthMost {
			return fmt.Errorf("it has more than %d times %q", depthMost, word)
		}
	}
	return nil
}

// String is the expression as it was written.
func (p *Program) String() string { return p.source }

// All runs the expression and returns every value it yields.
func (p *Program) All(m *Meter, input any) ([]any, error) {
	var values []any
	err := p.run(m, input, func(value any) error {
		if values = append(values, value); len(values) > resultsMost {
			return fmt.Errorf("more than %d results: %w", resultsMost, ErrTooMuch)
		}
		return m.keep(value)
	})
	if err != nil {
		return nil, p.failed(err)
	}
	return values, nil
}

// errEnough ends a run whose first value is all that is wanted.
var errEnough = errors.New("enough")

// One runs the expression and returns the first value; nil if it yields none.
func (p *Program) One(m *Meter, input any) (first any, err error) {
	err = p.run(m, input, func(value any) error {
		if err := m.keep(value); err != nil {
			return err
		}
		first = value
		return errEnough
	})
	if err != nil && err != errEnough {
		return nil, p.failed(err)
	}
	return first, nil
}

func (p *Program) failed(err error) error {
	source := p.source
	if len(source) > 200 {
		source = strings.ToValidUTF8(source[:200], "") + "…"
	}
	return fmt.Errorf("jq %s: %w", source, err)
}

func (p *Program) run(m *Meter, input any, take func(any) error) error {
	if err := m.err(); err != nil {
		return err
	}
	run := p.code.RunWithContext(m.ctx, input, m)
	for {
		value, more := run.Next()
		if err := m.err(); err != nil { // also where the expression caught it
			return err
		}
		if !more {
			return nil
		}
		if err, failed := value.(error); failed {
			return err
		}
		if err := take(value); err != nil {
			return err
		}
	}
}
