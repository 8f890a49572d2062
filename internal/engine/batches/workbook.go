package batches

import (
	"context"
	"errors"
	"io"
	"iter"
	"os"

	"calmpigeon.example/internal/core/sheet"
	"calmpigeon.example/internal/store"
)

// Workbook opens the workbook that a batch came as, for its result to be written beside its
// rows; nil if none is kept. Close it.
func (b *Batches) Workbook(ctx context.Context, one store.Batch) (*Workbook, error) {
	if one.Found.Format != string(sheet.XLSX) || one.Found.HeadLine == 0 {
		return nil, nil
	}
	file, err := b.Sheets.File()
	if err != nil {
		return nil, err
	}
	size, err := b.Store.CopyFile(ctx, one.ID, file)
	if err != nil || size == 0 {
		return nil, errors.Join(err, file.Close())
	}
	book, err := sheet.OpenBook(file, size)
	if err != nil { // it was read when it came; a plain sheet is better than none
		return nil, file.Close()
	}
	return &Workbook{file: file, book: book, one: one}, nil
}

// Workbook is a workbook as it came.
type Workbook struct {
	file *os.File
	book *sheet.Book
	one  store.Batch
}

// Close frees it.
func (w *Workbook) Close() error { return w.file.Close() }

// Write writes the workbook as it came, and what became of each row to the right of it.
func (w *Workbook) Write(out io.Writer, rows iter.Seq2[Row, error]) error {
	defer beFrugal()()
	next, stop := iter.Pull2(rows)
	defer stop()
	row, err, more := next()
	return w.book.Amend(out, w.one.Found.Sheet, func(line int) ([]any, error) {
		if line == w.one.Found.HeadLine {
			var head []any
			for _, name := range ourHead() {
				head = append(head, name)
			}
			return head, nil
		}
		for more && err == nil && row.Line < line {
			row, err, more = next()
		}
		if err != nil || !more || row.Line != line {
			return nil, err
		}
		return appendResult(nil, row), nil
	})
}

// ourHead are the names of our columns.
func ourHead() []string {
	head := make([]string, len(resultHead))
	for i, name := range resultHead {
		head[i] = ours + name
	}
	return head
}
