package sheet

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"sync/atomic"

	"calmpigeon.example/internal/core/fault"
)

// The bounds of workbooks that are read at the same time.
const (
	booksAtOnce  = 2
	booksWaiting = 32
)

// ErrBusy is returned where as many workbooks as may wait do so.
var ErrBusy = fmt.Errorf("%d workbooks wait to be read", booksWaiting)

// Opener opens lists. A workbook goes to a file first, as it is sent, and is read when it is its
// turn, so one that comes slowly holds up no others. It is safe for concurrent use.
type Opener struct {
	folder  string
	turns   chan struct{}
	waiting atomic.Int32
}

// NewOpener makes one that keeps its files in a folder, or where the system keeps such files if
// that is empty. They have no names, so they are gone with the process, however that ends.
func NewOpener(folder string) *Opener {
	return &Opener{folder: folder, turns: make(chan struct{}, booksAtOnce)}
}

// File makes a file without a name. Whoever has it closes it.
func (o *Opener) File() (*os.File, error) {
	file, err := os.CreateTemp(o.folder, "pigeon-*")
	if err != nil {
		return nil, err
	}
	if err := os.Remove(file.Name()); err != nil {
		file.Close()
		return nil, err
	}
	return file, nil
}

// Books is how many workbooks are read now, and how many wait for their turn.
func (o *Opener) Books() (reading, waiting int) { return len(o.turns), int(o.waiting.Load()) }

// Open recognises a list and its head. Errors of the list wrap [ErrList]; [ErrBusy] if it is a
// workbook and too many wait. Reading it ends when ctx does.
func (o *Opener) Open(ctx context.Context, in io.Reader, hint Hint) (*List, error) {
	ahead := bufio.NewReaderSize(in, peekMost)
	begin, err := ahead.Peek(peekMost)
	if err != nil && err != io.EOF && !errors.Is(err, bufio.ErrBufferFull) {
		return nil, fmt.Errorf("reading a list: %w", err)
	}
	l := &List{}
	if l.Format = hint.Format; l.Format == "" {
		l.Format = formatOf(begin)
	}
	if l.Format == XLSX {
		err = o.openBook(ctx, l, ahead, hint)
	} else {
		err = l.openText(ahead, begin, hint)
	}
	if err != nil {
		l.Close()
		return nil, err
	}
	return l, nil
}

// openBook takes a workbook in, waits for its turn, and reads it.
func (o *Opener) openBook(ctx context.Context, l *List, in io.Reader, hint Hint) error {
	file, err := o.File()
	if err != nil {
		return fmt.Errorf("keeping a workbook: %w", err)
	}
	l.closers = append(l.closers, file.Close)
	size, err := io.Copy(file, io.LimitReader(in, packedMost+1))
	if err != nil {
		return fmt.Errorf("reading a list: %w", err)
	}
	if size > packedMost {
		return fault.Because(ErrList, "the workbook is larger than %d octets", packedMost)
	}
	l.Packed = io.NewSectionReader(file, 0, size)
	if o.waiting.Add(1) > booksWaiting {
		o.waiting.Add(-1)
		return ErrBusy
	}
	select {
	case o.turns <- struct{}{}:
		o.waiting.Add(-1)
	case <-ctx.Done():
		o.waiting.Add(-1)
		return ctx.Err()
	}
	l.closers = append(l.closers, func() error { <-o.turns; return nil })
	book, err := OpenBook(ending{ctx, file}, size)
	if err != nil {
		return err
	}
	texts, err := o.File()
	if err != nil {
		return fmt.Errorf("keeping a workbook: %w", err)
	}
	l.closers = append(l.closers, texts.Close)
	return l.openXLSX(book, texts, hint)
}

// ending is a file that can be read until ctx ends.
type ending struct {
	ctx context.Context
	at  io.ReaderAt
}

// ReadAt reads, unless ctx has ended.
func (e ending) ReadAt(p []byte, off int64) (int, error) {
	if err := e.ctx.Err(); err != nil {
		return 0, err
	}
	return e.at.ReadAt(p, off)
}
