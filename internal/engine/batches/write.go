package batches

import (
	"errors"
	"io"
	"iter"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/charset"
	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/core/sheet"
	"calmpigeon.example/internal/store"
)

// ours is how the columns begin that a result sheet has after a person's own, so that it can
// come back as a list.
const ours = "pigeon "

var resultHead = []string{"state", "cause", "advice", "final at", "segments", "cost", "currency", "message", "left out", "why", rowHead}

// WriteResult writes rows of a batch as a sheet: a person's own columns in their own order,
// and what became of each row beside them. CSV is written as the list came.
func WriteResult(out io.Writer, one store.Batch, format string, rows iter.Seq2[Row, error]) error {
	defer beFrugal()()
	var head []string
	for _, c := range one.Found.Columns {
		head = append(head, c.Head)
	}
	head = append(head, ourHead()...)
	if format == "xlsx" {
		return writeXLSX(out, head, len(one.Found.Columns), rows)
	}
	return writeCSV(out, one, head, rows)
}

// appendResult adds what became of a row to its cells.
func appendResult(cells []any, r Row) []any {
	var advice, why string
	var settled, segments, cost, currency, message any
	if r.Cause != "" {
		advice = r.Cause.Advice().Text
	}
	if r.Settled != nil {
		settled = *r.Settled
	}
	if r.Check.Segments > 0 && r.Check.Goes() {
		segments = r.Check.Segments
		if r.Price != (price.Money{}) {
			cost, currency = sheet.Amount{Number: r.Price.Amount(), Currency: r.Price.Currency()}, r.Price.Currency()
		}
	}
	if r.Message != uuid.Nil {
		message = r.Message.String()
	}
	if r.Checked && !r.Check.Goes() {
		why = r.Check.Say
	}
	return append(cells, string(r.State), string(r.Cause), advice, settled, segments, cost, currency, message, string(r.Check.Reason), why, r.N)
}

// appendOwn adds a row's own cells, one for each column.
func appendOwn(cells []any, r Row, columns int) []any {
	row := sheetRow(&r)
	for i := range columns {
		switch {
		case i >= len(r.Cells):
			cells = append(cells, nil)
		case i < len(r.Held):
			cells = append(cells, sheet.Shown{Text: r.Cells[i], Held: row.HeldAt(i)})
		default:
			cells = append(cells, r.Cells[i])
		}
	}
	return cells
}

func writeCSV(out io.Writer, one store.Batch, head []string, rows iter.Seq2[Row, error]) error {
	// Of a list that was no CSV nobody has said how to write one: with a mark, by which
	// spreadsheet programs know UTF-8.
	unsaid := one.Found.Format != string(sheet.CSV) && one.Found.Format != ""
	if one.Found.Mark && one.Found.Encoding == "utf-8" || unsaid {
		if _, err := io.WriteString(out, "\ufeff"); err != nil {
			return err
		}
	}
	encoding := one.Found.Encoding
	if unsaid {
		encoding = "utf-8"
	}
	written := charset.Writer(out, encoding)
	comma := ','
	if given := []rune(one.Found.Comma); len(given) == 1 {
		comma = given[0]
	}
	return errors.Join(writeRows(sheet.NewCSV(written, comma), head, len(one.Found.Columns), rows), written.Close())
}

func writeXLSX(out io.Writer, head []string, columns int, rows iter.Seq2[Row, error]) error {
	w, err := sheet.NewWriter(out, sheet.XLSX)
	if err != nil {
		return err
	}
	return writeRows(w, head, columns, rows)
}

func writeRows(w sheet.Writer, head []string, columns int, rows iter.Seq2[Row, error]) error {
	cells := make([]any, 0, len(head))
	for _, name := range head {
		cells = append(cells, name)
	}
	if err := w.Row(cells); err != nil {
		return err
	}
	for r, err := range rows {
		if err != nil {
			return err
		}
		cells = appendResult(appendOwn(cells[:0], r, columns), r)
		if err := w.Row(cells); err != nil {
			return err
		}
	}
	return w.Close()
}
