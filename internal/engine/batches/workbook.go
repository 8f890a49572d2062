package batches

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"io"
	"iter"
	"os"

	"calmpigeon.example/internal/core/sheet"
	"calmpigeon.example/internal/store"
)

// workbookMost is the largest workbook that is kept as it came, in octets.
const workbookMost = 128 << 20

// spool keeps what flows by, if it is a workbook, in a temporary file that nobody else sees.
type spool struct {
	file  *os.File
	size  int64
	begun bool
	fault error // why it is not kept
}

var errNoWorkbook = errors.New("it is no workbook, or too large to be kept")

// Write never fails: what cannot be kept flows on.
func (s *spool) Write(p []byte) (int, error) {
	if s.fault != nil || len(p) == 0 {
		return len(p), nil
	}
	if !s.begun {
		if s.begun = true; !bytes.HasPrefix(p, []byte("PK")) {
			s.fault = errNoWorkbook
			return len(p), nil
		}
		if s.file, s.fault = os.CreateTemp("", "pigeon-list-*"); s.fault == nil {
			os.Remove(s.file.Name())
		}
	}
	if s.size += int64(len(p)); s.size > workbookMost && s.fault == nil {
		s.fault = errNoWorkbook
	}
	if s.fault == nil {
		_, s.fault = s.file.Write(p)
	}
	return len(p), nil
}

// keep keeps the workbook with its batch.
func (s *spool) keep(ctx context.Context, to *store.Store, one store.Batch) error {
	if s.fault != nil || s.file == nil {
		return nil
	}
	if _, err := s.file.Seek(0, io.SeekStart); err != nil {
		return err
	}
	return to.PutFile(ctx, one.ID, s.file)
}

func (s *spool) close() {
	if s.file != nil {
		s.file.Close()
	}
}

// Workbook opens the workbook that a batch came as, for its result to be written beside its
// rows; nil if none is kept. Close it.
func (b *Batches) Workbook(ctx context.Context, one store.Batch) (*Workbook, error) {
	if one.Found.Format != string(sheet.XLSX) || one.Found.HeadLine == 0 {
		return nil, nil
	}
	file, err := os.CreateTemp("", "pigeon-result-*")
	if err != nil {
		return nil, err
	}
	os.Remove(file.Name())
	size, err := b.Store.CopyFile(ctx, one.ID, file)
	if err != nil || size == 0 {
		return nil, errors.Join(err, file.Close())
	}
	book, err := zip.NewReader(file, size)
	if err != nil { // it was read when it came; a plain sheet is better than none
		return nil, file.Close()
	}
	return &Workbook{file: file, book: book, one: one}, nil
}

// Workbook is a workbook as it came.
type Workbook struct {
	file *os.File
	book *zip.Reader
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
	return sheet.Amend(out, w.book, w.one.Found.Sheet, func(line int) ([]string, error) {
		if line == w.one.Found.HeadLine {
			return ourHead(), nil
		}
		for more && err == nil && row.Line < line {
			row, err, more = next()
		}
		if err != nil || !more || row.Line != line {
			return nil, err
		}
		return resultCells(row), nil
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
