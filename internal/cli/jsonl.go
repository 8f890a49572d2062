package cli

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	"calmpigeon.example/internal/core/charset"
	"github.com/spf13/cobra"
)

// lineMost is the longest line that is read.
const lineMost = 4 << 20

// question is a line of JSON Lines: a string, or an object with a text and a
// country of its own.
type question struct {
	Text    string `json:"text"`
	Country string `json:"country"`
}

func (q *question) UnmarshalJSON(data []byte) error {
	if len(data) > 0 && data[0] == '"' {
		return json.Unmarshal(data, &q.Text)
	}
	type plain question
	return json.Unmarshal(data, (*plain)(q))
}

// jsonl answers each line with one line, in the same order. A line that is no
// JSON is answered with its problem, and the command ends with an error after
// the last.
func jsonl(cmd *cobra.Command, answer func(question) any) error {
	lines := bufio.NewScanner(cmd.InOrStdin())
	lines.Buffer(make([]byte, 64<<10), lineMost)
	out := bufio.NewWriterSize(cmd.OutOrStdout(), 64<<10)
	encoder := json.NewEncoder(out)
	encoder.SetEscapeHTML(false)
	n, bad := 0, 0
	for lines.Scan() {
		n++
		var q question
		var said any
		if err := charset.Check(lines.Bytes()); err != nil {
			bad++
			said = map[string]any{"line": n, "problem": err.Error()}
		} else if err := json.Unmarshal(lines.Bytes(), &q); err != nil {
			bad++
			said = map[string]any{"line": n, "problem": "not a JSON string or object: " + err.Error()}
		} else {
			said = answer(q)
		}
		if err := encoder.Encode(said); err != nil {
			return err
		}
	}
	if err := out.Flush(); err != nil {
		return err
	}
	if err := lines.Err(); err != nil {
		if errors.Is(err, bufio.ErrTooLong) {
			return fmt.Errorf("line %d is longer than %d bytes", n+1, lineMost)
		}
		return fmt.Errorf("reading line %d: %w", n+1, err)
	}
	if bad > 0 {
		return fmt.Errorf("%d of %d lines are not JSON", bad, n)
	}
	return nil
}

// given is an argument, or standard input where it is a dash, read as it is said to
// be written.
func given(cmd *cobra.Command, arg, encoding string) (string, error) {
	if arg != "-" {
		if err := charset.Check([]byte(arg)); err != nil {
			return "", usagef("the text: %v", err)
		}
		return arg, nil
	}
	read, err := io.ReadAll(io.LimitReader(cmd.InOrStdin(), 1<<20))
	if err != nil {
		return "", fmt.Errorf("reading standard input: %w", err)
	}
	text, err := charset.Decode(read, encoding)
	if err != nil {
		return "", usagef("standard input: %v. Say what it is written in with --encoding: %s", err, strings.Join(charset.Names, ", "))
	}
	return strings.TrimRight(text, "\r\n"), nil
}
