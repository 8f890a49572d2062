package sheet

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"

	"calmpigeon.example/internal/core/fault"
)

// lookAhead is how many objects are looked at for what columns there are.
const lookAhead = 100

// openJSON reads JSON Lines: an object or a number as a string a line; also one list
// of them. Columns are what the first objects have, in their order.
func (l *List) openJSON(text io.Reader) error {
	l.Found.Head = true
	in := bufio.NewReaderSize(text, peekMost)
	values := lines(in)
	if begin, _ := in.Peek(peekMost); bytes.HasPrefix(bytes.TrimSpace(begin), []byte("[")) {
		var err error
		if values, err = items(in); err != nil {
			return err
		}
	}
	read := func() (names, cells []string, row Row, err error) {
		raw, row, err := values()
		if err != nil || row.Wrong != "" {
			return nil, nil, row, err
		}
		names, cells, row.Wrong = members(raw)
		return names, cells, row, nil
	}
	type held struct {
		names, values []string
		row           Row
	}
	var ahead []held
	for len(ahead) < lookAhead {
		names, values, row, err := read()
		if err == io.EOF {
			break
		}
		if err != nil {
			if len(ahead) == 0 {
				return err
			}
			failed := err // it is told in its place
			read = func() ([]string, []string, Row, error) { return nil, nil, Row{}, failed }
			break
		}
		ahead = append(ahead, held{names, values, row})
		for _, name := range names {
			if !slices.Contains(l.head, name) && len(l.head) < columnsMost {
				l.head = append(l.head, name)
			}
		}
	}
	if len(ahead) == 0 || len(l.head) == 0 {
		return fault.Because(ErrList, "there is no object in it")
	}
	l.next = func() (Row, error) {
		var one held
		if len(ahead) > 0 {
			one, ahead = ahead[0], ahead[1:]
		} else {
			var err error
			if one.names, one.values, one.row, err = read(); err != nil {
				return Row{}, err
			}
		}
		row := one.row
		row.Cells = make([]string, len(l.head))
		for i, name := range one.names {
			at := slices.Index(l.head, name)
			if at < 0 {
				row.Wrong = fmt.Sprintf("it has a field %q, which none of the first %d has", name, lookAhead)
				continue
			}
			row.Cells[at] = one.values[i]
		}
		return row, nil
	}
	return nil
}

// lines yields the values of JSON Lines, one a line; empty lines are none.
func lines(in *bufio.Reader) func() (json.RawMessage, Row, error) {
	at := 0
	return func() (json.RawMessage, Row, error) {
		for {
			line, long, err := boundedLine(in)
			if err != nil {
				return nil, Row{}, err
			}
			at++
			row := Row{Line: at}
			switch {
			case long:
				row.Wrong = tooLong
			case len(bytes.TrimSpace(line)) == 0:
				continue
			case !json.Valid(line):
				row.Wrong = "it is no JSON"
			}
			return line, row, nil
		}
	}
}

// boundedLine reads a line; of one that is too long nothing is kept.
func boundedLine(in *bufio.Reader) (line []byte, long bool, err error) {
	for {
		piece, err := in.ReadSlice('\n')
		if !long {
			line = append(line, piece...)
		}
		if len(line) > rowMost {
			line, long = nil, true
		}
		switch {
		case err == nil, err == io.EOF && (len(line) > 0 || long):
			return line, long, nil
		case !errors.Is(err, bufio.ErrBufferFull):
			return nil, false, err
		}
	}
}

// items yields the values of one list.
func items(in *bufio.Reader) (func() (json.RawMessage, Row, error), error) {
	allowed := &allowance{in: in, left: rowMost}
	decoder := json.NewDecoder(allowed)
	if _, err := decoder.Token(); err != nil {
		return nil, fault.Because(ErrList, "%w", err)
	}
	n, over := 0, false
	return func() (json.RawMessage, Row, error) {
		if over {
			return nil, Row{}, io.EOF
		}
		n++
		allowed.left = rowMost + 1
		if !decoder.More() {
			if _, err := decoder.Token(); err != nil {
				return nil, Row{}, fault.Because(ErrList, "item %d: %w", n, err)
			}
			over = true
			return nil, Row{}, io.EOF
		}
		row := Row{Line: n}
		var raw json.RawMessage
		if err := decoder.Decode(&raw); err != nil {
			return nil, row, fault.Because(ErrList, "item %d: %w", n, err)
		}
		if len(raw) > rowMost {
			row.Wrong = tooLong
		}
		return raw, row, nil
	}, nil
}

// allowance lets so many octets be read until more are allowed. What reads values from it holds no
// longer one.
type allowance struct {
	in   io.Reader
	left int
}

// Read reads what is left of the allowance.
func (a *allowance) Read(p []byte) (int, error) {
	if a.left == 0 {
		return 0, errLong
	}
	n, err := a.in.Read(p[:min(len(p), a.left)])
	a.left -= n
	return n, err
}

// members are the names and values of an object, in their order. A string alone is a
// number to send to.
func members(raw json.RawMessage) (names, values []string, wrong string) {
	decoder := json.NewDecoder(bytes.NewReader(raw))
	decoder.UseNumber()
	token, err := decoder.Token()
	if err != nil {
		return nil, nil, err.Error()
	}
	switch first := token.(type) {
	case string:
		return []string{"to"}, []string{first}, ""
	case json.Number:
		return []string{"to"}, []string{first.String()}, ""
	case json.Delim:
		if first != '{' {
			return nil, nil, "it is a list, and not an object"
		}
	default:
		return nil, nil, "it is no object"
	}
	for decoder.More() {
		name, err := decoder.Token()
		if err != nil {
			return names, values, err.Error()
		}
		var value json.RawMessage
		if err := decoder.Decode(&value); err != nil {
			return names, values, err.Error()
		}
		names = append(names, name.(string))
		values = append(values, plain(value))
	}
	return names, values, ""
}

// plain is a value as a cell: a string as it is, everything else as it is written.
func plain(value json.RawMessage) string {
	var s string
	switch {
	case json.Unmarshal(value, &s) == nil:
		return s
	case string(value) == "null":
		return ""
	}
	return string(value)
}
