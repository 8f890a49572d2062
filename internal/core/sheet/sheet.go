// Package sheet reads lists of recipients as people keep them: sheets as CSV or XLSX,
// JSON Lines, or text pasted from wherever. What a list is written in, and what
// stands in which column, is recognised and said, so that it can be put right.
//
//	list, err := sheet.Open(file, sheet.Hint{})
//	// list.Found.String() == "CSV with semicolons, in windows-1252"
//	for row, err := range list.Rows() { … }
//
// A list is read as it streams: what is held in memory is one row, and the 64 KiB at
// the beginning by which it is recognised. Only of XLSX the packed file is held, and
// what is large in it goes to a temporary file. No row is passed over: one whose cells
// cannot be told apart comes with the reason.
package sheet

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"iter"
	"strings"
	"unicode"
	"unicode/utf8"

	"calmpigeon.example/internal/core/fault"
)

// Format is what a list is written as.
type Format string

// Formats of lists.
const (
	CSV       Format = "CSV"
	XLSX      Format = "XLSX"
	JSONLines Format = "JSON Lines"
	Pasted    Format = "pasted text"
)

// The bounds of a list.
const (
	peekMost    = 64 << 10  // octets by which it is recognised
	rowMost     = 256 << 10 // octets of a row
	columnsMost = 200
)

// ErrList is wrapped by the errors of reading a list.
var ErrList = errors.New("not a list of recipients")

// Hint is what is known of a list beforehand. Its zero value is nothing.
type Hint struct {
	Format    Format
	Encoding  string // a name of [charset.Names]
	Delimiter rune
	Sheet     string // of XLSX, its name; the first if empty
	Head      *bool  // whether the first row names the columns
}

// Found is what was recognised.
type Found struct {
	Format    Format
	Encoding  string // of text
	Mark      bool   // it begins with a byte order mark
	Delimiter rune   // of CSV
	Sheet     string // of XLSX
	Sheets    []string
	Head      bool // the first row names the columns
	HeadLine  int  // where that row is, 1 first; 0 if there is none
}

// String says it in words.
func (f Found) String() string {
	said := string(f.Format)
	switch f.Format {
	case CSV:
		said += " with " + delimiterWords[f.Delimiter]
	case XLSX:
		said += ", the sheet " + f.Sheet
		if n := len(f.Sheets); n > 1 {
			said += fmt.Sprintf(" of %d", n)
		}
	}
	if f.Encoding != "" {
		said += ", in " + f.Encoding
	}
	if !f.Head {
		said += ", without a head"
	}
	return said
}

// Row is one row of a list.
type Row struct {
	N     int      // 1 is the first after the head
	Line  int      // at which it begins, 1 first; in XLSX its row
	Cells []string // one for each column
	Wrong string   // why its cells cannot be told apart; empty if they can
}

// List is a list that is being read.
type List struct {
	Found
	head  []string
	held  []Row // that were read already
	err   error // that ended reading them
	next  func() (Row, error)
	close func() error
	// Mended is how many octets were no UTF-8 and were read as windows-1252, until now.
	Mended int
}

// Open recognises a list and its head. Errors wrap [ErrList].
func Open(in io.Reader, hint Hint) (*List, error) {
	ahead := bufio.NewReaderSize(in, peekMost)
	begin, err := ahead.Peek(peekMost)
	if err != nil && err != io.EOF && !errors.Is(err, bufio.ErrBufferFull) {
		return nil, fmt.Errorf("reading a list: %w", err)
	}
	err = nil
	l := &List{}
	l.Format = hint.Format
	if l.Format == "" {
		l.Format = formatOf(begin)
	}
	switch {
	case l.Format == XLSX:
		err = l.openXLSX(ahead, hint)
	case len(bytes.TrimSpace(begin)) == 0:
		return nil, fault.Because(ErrList, "it is empty")
	default:
		text := l.decoded(ahead, begin, hint)
		switch l.Format {
		case JSONLines:
			err = l.openJSON(text)
		case Pasted:
			l.openPasted(text)
		default:
			l.Format = CSV
			err = l.openCSV(text, hint)
		}
	}
	if err != nil {
		return nil, err
	}
	return l, nil
}

// formatOf recognises a format by how a list begins.
func formatOf(begin []byte) Format {
	if bytes.HasPrefix(begin, []byte("PK\x03\x04")) {
		return XLSX
	}
	text := bytes.TrimLeftFunc(bytes.TrimPrefix(begin, []byte("\ufeff")), unicode.IsSpace)
	if bytes.HasPrefix(text, []byte("{")) || bytes.HasPrefix(text, []byte("[{")) || bytes.HasPrefix(text, []byte("[\"")) {
		return JSONLines
	}
	return CSV
}

// Head are the names of the columns, each another.
func (l *List) Head() []string { return l.head }

// Rows yields the rows. What makes reading stop comes as the error of the last.
func (l *List) Rows() iter.Seq2[Row, error] {
	return func(yield func(Row, error) bool) {
		n := 0
		for {
			row, err := l.row()
			if err == io.EOF {
				return
			}
			if err != nil {
				yield(Row{}, err)
				return
			}
			n++
			row.N = n
			if row.Wrong == "" {
				row.fit(len(l.head))
			}
			if !yield(row, nil) {
				return
			}
		}
	}
}

func (l *List) row() (Row, error) {
	if len(l.held) > 0 {
		row := l.held[0]
		l.held = l.held[1:]
		return row, nil
	}
	if l.err != nil {
		return Row{}, l.err
	}
	return l.next()
}

// Columns says what columns are for, by their names and the first rows, which are still
// to come; see [Recognise].
func (l *List) Columns(country string) []Column { return Recognise(l.head, l.First(), country) }

// First are the cells of the first rows, which are still to come.
func (l *List) First() [][]string {
	const most = 50 // rows
	for len(l.held) < most && l.err == nil {
		row, err := l.next()
		if err != nil {
			l.err = err
			break
		}
		l.held = append(l.held, row)
	}
	var first [][]string
	for _, row := range l.held {
		if row.Wrong == "" {
			first = append(first, row.Cells)
		}
	}
	return first
}

// fit gives a row as many cells as there are columns. Cells that are empty may be
// missing, or be too many.
func (r *Row) fit(columns int) {
	cells := len(r.Cells)
	for cells > columns && strings.TrimSpace(r.Cells[cells-1]) == "" {
		cells--
	}
	if cells > columns {
		r.Wrong = fmt.Sprintf("it has %d cells, and there are %d columns", cells, columns)
		return
	}
	r.Cells = r.Cells[:cells]
	for len(r.Cells) < columns {
		r.Cells = append(r.Cells, "")
	}
}

// Close frees what a list holds.
func (l *List) Close() error {
	if l.close == nil {
		return nil
	}
	return l.close()
}

// begin reads the first row and takes it for the head, if it looks like one.
func (l *List) begin(hint Hint) error {
	first, err := l.next()
	if err == io.EOF {
		return fault.Because(ErrList, "it is empty")
	}
	if err != nil {
		return err
	}
	if first.Wrong != "" {
		return fault.Because(ErrList, "line %d: %s", first.Line, first.Wrong)
	}
	if len(first.Cells) > columnsMost {
		return fault.Because(ErrList, "it has %d columns, at most %d", len(first.Cells), columnsMost)
	}
	l.HeadLine = first.Line
	l.Found.Head = !looksLikeData(first.Cells)
	if hint.Head != nil {
		l.Found.Head = *hint.Head
	}
	if l.Found.Head {
		l.head = named(first.Cells)
		return nil
	}
	l.HeadLine, l.held = 0, []Row{first}
	l.head = named(make([]string, len(first.Cells)))
	return nil
}

// looksLikeData reports whether a row is no head: it holds a number or an address.
func looksLikeData(cells []string) bool {
	for _, cell := range cells {
		if digits(cell) >= 6 || strings.Contains(cell, "@") {
			return true
		}
	}
	return false
}

// digits counts the digits of a cell that is a number; 0 if it is more than that.
func digits(cell string) int {
	n := 0
	for _, r := range cell {
		switch {
		case unicode.Is(unicode.Nd, r):
			n++
		case unicode.IsLetter(r) && r != 'e' && r != 'E':
			return 0
		}
	}
	return n
}

// named gives every column a name of its own.
func named(given []string) []string {
	names := make([]string, len(given))
	taken := map[string]bool{}
	for i, cell := range given {
		name := strings.Join(strings.Fields(cell), " ")
		if utf8.RuneCountInString(name) > 100 {
			name = string([]rune(name)[:100])
		}
		if name == "" {
			name = fmt.Sprintf("column %d", i+1)
		}
		for n := 2; taken[strings.ToLower(name)]; n++ {
			name = fmt.Sprintf("%s %d", strings.TrimSuffix(name, fmt.Sprintf(" %d", n-1)), n)
		}
		taken[strings.ToLower(name)] = true
		names[i] = name
	}
	return names
}
