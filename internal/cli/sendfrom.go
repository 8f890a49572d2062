package cli

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"maps"
	"os"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/charset"
	"calmpigeon.example/internal/core/sheet"
)

// sendFrom hands over what a file holds: a JSON list, or JSON Lines, of messages as the
// API takes them. What the options say holds for those that do not say otherwise.
func (a *app) sendFrom(cmd *cobra.Command, c *client.Client, common client.Draft, file, key string) error {
	in := io.Reader(cmd.InOrStdin())
	if file != "-" {
		opened, err := os.Open(file)
		if err != nil {
			return usagef("--from: %w", err)
		}
		defer opened.Close()
		in = opened
	}
	if key == "" {
		key = uuid.NewString() // so that our own repetition is harmless
	}
	written, err := a.outcomes(cmd)
	if err != nil {
		return err
	}
	source := &drafts{common: common}
	taken, refused := 0, 0
	told := func(at int, o client.Outcome) error {
		if o.Problem != nil {
			refused++
			fmt.Fprintf(cmd.ErrOrStderr(), "message %d: %v\n", at, o.Problem)
		} else {
			taken++
		}
		return written(at, o)
	}
	progress := time.Now()
	for o, err := range c.SendAll(cmd.Context(), source.all(in), key) {
		if err != nil {
			return fmt.Errorf("%w\n%d were taken until then. Repeat it with --idempotency-key %s: nothing is sent twice", err, taken, key)
		}
		if err := told(source.place(o.Index), o); err != nil {
			return err
		}
		if onTerminal(os.Stderr) && time.Since(progress) > time.Second {
			progress = time.Now()
			fmt.Fprintf(cmd.ErrOrStderr(), "%d taken, %d refused\n", taken, refused)
		}
	}
	for _, bad := range source.bad {
		problem := &client.Problem{Title: "This is no message", Errors: bad.errors}
		if err := told(bad.at, client.Outcome{Index: bad.at - 1, Problem: problem}); err != nil {
			return err
		}
	}
	if source.err != nil {
		return fmt.Errorf("%d were taken until then: %w", taken, source.err)
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "%s taken, %d refused\n", counted(taken, "message"), refused)
	if refused > 0 {
		return exit(exitRefused)
	}
	return nil
}

// outcomes writes outcomes as they come: a table of those that were taken is none, as
// they can be very many; CSV and JSON Lines have a line for each.
func (a *app) outcomes(cmd *cobra.Command) (func(at int, o client.Outcome) error, error) {
	out := cmd.OutOrStdout()
	switch a.config.GetString("output") {
	case "json":
		encoder := json.NewEncoder(out)
		encoder.SetEscapeHTML(false)
		return func(_ int, o client.Outcome) error { return encoder.Encode(o) }, nil
	case "csv":
		w := csv.NewWriter(out)
		err := w.Write([]string{"message", "id", "to", "state", "wrong"})
		return func(at int, o client.Outcome) error {
			cells := []string{fmt.Sprint(at), "", "", "", ""}
			if o.Message != nil {
				cells[1], cells[2], cells[3] = o.Message.ID, o.Message.To, o.Message.State
			} else {
				cells[4] = flat(o.Problem.Error())
			}
			for i := range cells {
				cells[i] = sheet.Defused(cells[i])
			}
			w.Write(cells)
			w.Flush()
			return w.Error()
		}, err
	}
	return func(at int, o client.Outcome) error {
		if o.Message != nil {
			fmt.Fprintf(out, "%s  %s %s  %s\n", o.Message.ID, shape(o.Message.State), o.Message.State, o.Message.To)
		}
		return nil
	}, nil
}

// drafts are messages as they are read. One that is none is passed over, and told
// afterwards.
type drafts struct {
	common client.Draft
	places []int // of those that were handed on and have no outcome yet
	first  int   // the index of the first of them
	bad    []badDraft
	err    error // that ended the reading
}

type badDraft struct {
	at     int
	errors []client.FieldError
}

// badMost is how many are told.
const badMost = 1000

// place is where in the file a message stood, 1 first.
func (d *drafts) place(index int) int {
	at := d.places[index-d.first]
	d.places, d.first = d.places[index-d.first+1:], index+1
	return at
}

func (d *drafts) all(in io.Reader) iter.Seq[client.Draft] {
	return func(yield func(client.Draft) bool) {
		n := 0
		for raw, err := range values(in) {
			if err != nil {
				d.err = err
				return
			}
			n++
			draft := d.common
			draft.Fields = maps.Clone(d.common.Fields)
			if err := strictly(raw, &draft); err != nil {
				if d.bad = append(d.bad, badDraft{n, []client.FieldError{*err}}); len(d.bad) == badMost {
					d.err = errors.New("too many of them are no messages")
					return
				}
				continue
			}
			d.places = append(d.places, n)
			if !yield(draft) {
				return
			}
		}
	}
}

// strictly decodes a message whose fields are all known.
func strictly(raw []byte, draft *client.Draft) *client.FieldError {
	if err := charset.Check(raw); err != nil {
		return &client.FieldError{Field: "text", Wrong: err.Error(), Accepted: "UTF-8"}
	}
	decoder := json.NewDecoder(bytes.NewReader(raw))
	decoder.DisallowUnknownFields()
	err := decoder.Decode(draft)
	var wrong *json.UnmarshalTypeError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &wrong):
		return &client.FieldError{Field: wrong.Field, Wrong: "it is a " + wrong.Value, Accepted: "what the API takes"}
	}
	if field, ok := strings.CutPrefix(err.Error(), `json: unknown field "`); ok {
		return &client.FieldError{Field: strings.TrimSuffix(field, `"`), Wrong: "there is no such field", Accepted: "fields of a message"}
	}
	return &client.FieldError{
		Field:    "message",
		Wrong:    "it is no JSON",
		Accepted: `an object such as {"to": "+447700900123", "text": "Berth 3"}`,
	}
}

// values yields the values of a JSON list, or of JSON Lines.
func values(in io.Reader) iter.Seq2[json.RawMessage, error] {
	return func(yield func(json.RawMessage, error) bool) {
		ahead := bufio.NewReaderSize(in, 64<<10)
		begin, _ := ahead.Peek(1 << 10)
		begin = bytes.TrimPrefix(begin, []byte("\ufeff"))
		if bytes.HasPrefix(bytes.TrimSpace(begin), []byte("[")) {
			decoder := json.NewDecoder(ahead)
			decoder.Token()
			for decoder.More() {
				var raw json.RawMessage
				err := decoder.Decode(&raw)
				if !yield(raw, err) || err != nil {
					return
				}
			}
			if _, err := decoder.Token(); err != nil {
				yield(nil, fmt.Errorf("the list does not end: %w", err))
			}
			return
		}
		lines := bufio.NewScanner(ahead)
		lines.Buffer(nil, lineMost)
		for lines.Scan() {
			line := bytes.TrimPrefix(lines.Bytes(), []byte("\ufeff"))
			if len(bytes.TrimSpace(line)) > 0 && !yield(bytes.Clone(line), nil) {
				return
			}
		}
		if err := lines.Err(); err != nil {
			yield(nil, err)
		}
	}
}
