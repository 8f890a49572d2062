package dialect

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"iter"
	"strings"
)

// ReadStatement reads a gateway's list of what it carried, as CSV with a head
// (RFC 4180), a line at a time: however long it is, one line is held. A line
// that cannot be read comes as an error that names it, and reading goes on; an
// error of the file itself ends it. Empty lines of it speak of nothing and are
// passed over, as are those of which the expression yields nothing.
func (d *Dialect) ReadStatement(in io.Reader) iter.Seq2[Item, error] {
	return func(yield func(Item, error) bool) {
		if d.Statement == nil {
			yield(Item{}, fmt.Errorf("dialect %s does not say how a statement is read", d.Name))
			return
		}
		lines := csv.NewReader(in)
		lines.Comma = []rune(d.Statement.Separator)[0]
		lines.FieldsPerRecord = -1
		head, err := lines.Read()
		if err != nil {
			yield(Item{}, fmt.Errorf("reading the statement's head: %w", err))
			return
		}
		for i := range head {
			head[i] = strings.TrimSpace(strings.TrimPrefix(strings.ToValidUTF8(head[i], "\uFFFD"), "\uFEFF"))
		}
		for {
			fields, err := lines.Read()
			if errors.Is(err, io.EOF) {
				return
			}
			if err != nil {
				yield(Item{}, fmt.Errorf("reading the statement: %w", err))
				return
			}
			line, _ := lines.FieldPos(0)
			items, err := d.StatementLine(head, fields)
			if err != nil && !yield(Item{}, fmt.Errorf("line %d: %w", line, err)) {
				return
			}
			for _, item := range items {
				if !yield(item, nil) {
					return
				}
			}
		}
	}
}

// StatementLine reads one line of a statement, as the dialect says.
func (d *Dialect) StatementLine(head, fields []string) ([]Item, error) {
	if len(fields) != len(head) {
		return nil, fmt.Errorf("%d columns, where the head has %d", len(fields), len(head))
	}
	row := make(map[string]any, len(head))
	for i, name := range head {
		row[name] = strings.ToValidUTF8(fields[i], "\uFFFD")
	}
	m, done := d.metered()
	defer done()
	items, err := d.items(m, d.Statement.Read, row)
	if err != nil {
		return nil, err
	}
	for _, item := range items {
		if item.Reference == "" && item.GatewayRef == "" && item.To == "" {
			return nil, errors.New("it does not say of which message it speaks")
		}
		if item.NotTaken != "" {
			return nil, fmt.Errorf("code %s says that a message was not taken, which only the reply to a submission can", item.Code)
		}
	}
	return items, nil
}
