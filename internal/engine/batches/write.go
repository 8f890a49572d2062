package batches

import (
	"errors"
	"io"
	"iter"
	"strconv"
	"time"

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

// resultCells are what became of a row.
func resultCells(r Row) []string {
	cells := []string{string(r.State), string(r.Cause), "", "", "", "", "", "", string(r.Check.Reason), "", strconv.Itoa(r.N)}
	if r.Cause != "" {
		cells[2] = r.Cause.Advice().Text
	}
	if r.Settled != nil {
		cells[3] = r.Settled.UTC().Format(time.RFC3339)
	}
	if r.Check.Segments > 0 && r.Check.Goes() {
		cells[4] = strconv.Itoa(r.Check.Segments)
		if r.Price != (price.Money{}) {
			cells[5], cells[6] = r.Price.Amount(), r.Price.Currency()
		}
	}
	if r.Message != uuid.Nil {
		cells[7] = r.Message.String()
	}
	if r.Checked && !r.Check.Goes() {
		cells[9] = r.Check.Say
	}
	return cells
}

// own are a row's own cells, one for each column.
func own(r Row, columns int) []string {
	cells := make([]string, columns, columns+len(resultHead))
	copy(cells, r.Cells)
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
	if err := w.Row(appendCells(nil, head)); err != nil {
		return err
	}
	var cells []any
	for r, err := range rows {
		if err != nil {
			return err
		}
		cells = appendCells(appendCells(cells[:0], own(r, columns)), resultCells(r))
		if err := w.Row(cells); err != nil {
			return err
		}
	}
	return w.Close()
}

func appendCells(cells []any, words []string) []any {
	for _, w := range words {
		cells = append(cells, w)
	}
	return cells
}
