// Package sheet reads lists of recipients as people keep them: sheets as CSV or XLSX,
// JSON Lines, or text pasted from wherever. What a list is written in, and what
// stands in which column, is recognised and said, so that it can be put right.
//
//	list, err := sheet.Open(file, sheet.Hint{})
//	// list.Found.String() == "CSV with semicolons, in windows-1252"
//	for row, err := range list.Rows() { … }
//
// A list is read as it streams: what is held in memory is one row, and the 64 KiB at
// the beginning by which it is recognised. A workbook and its shared strings go to files.
// No row is passed over: one whose cells cannot be told apart, or that is too long, comes
// with the reason.
package sheet

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"slices"
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

// tooLong says of a row that it is longer than rowMost.
var tooLong = fmt.Sprintf("it has more than %d octets", rowMost)

var errLong = errors.New(tooLong)

// ErrList is wrapped by the errors of reading a list.
var ErrList = errors.New("not a list of recipients")

// Fault is an error of reading a list as a fault of the request that brought it; any other error
// stays as it is.
func Fault(err error) error {
	if errors.Is(err, ErrList) {
		return fault.New("list", fault.Why(err), "CSV, XLSX, JSON Lines, or numbers one a line, that can be read to its end")
	}
	return err
}

// Hint is what is known of a list beforehand. Its zero value is nothing.
type Hint struct {
	Format    Format
	Encoding  string // a name of [charset.Names]
	Delimiter rune
	Sheet     string // of XLSX, its name; the first if empty
	Head      *bool  // whether the first row names the columns
	HeadLine  int    // the row that names them, 1 first; what stands above it is passed over; 0: it is recognised
	Locale    string // in whose conventions a workbook shows its cells; empty: that of the workbook
	Country   string // whose conventions those are where the workbook names none
	Held      bool   // the cells of a workbook come as they are held, and not as they are shown
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
	Below     bool // other rows stand above it
	// Locale is that in whose conventions the cells of a workbook are shown, such as de or en-US.
	Locale string
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
	if f.Locale != "" {
		said += ", shown as in " + f.Locale
	}
	switch {
	case !f.Head:
		said += ", without a head"
	case f.Below:
		said += fmt.Sprintf(", its head in row %d", f.HeadLine)
	}
	return said
}

// Row is one row of a list.
type Row struct {
	N     int      // 1 is the first after the head
	Line  int      // at which it begins, 1 first; in XLSX its row
	Cells []string // one for each column
	Held  []Held   // what a workbook holds, in the same places; may be shorter than Cells
	Wrong string   // why its cells cannot be told apart; empty if they can
}

// List is a list that is being read.
type List struct {
	Found
	head []string
	held []Row // that were read already
	err  error // that ended reading them
	next func() (Row, error)

	ours    bool // see [List.Ours]
	closers []func() error
	// Packed is a workbook as it came, until the list is closed; nil: it is none.
	Packed *io.SectionReader
	// Mended is how many octets were no UTF-8 and were read as windows-1252, until now.
	Mended int
}

// Open opens a list for whoever reads one at a time; see [Opener].
func Open(in io.Reader, hint Hint) (*List, error) {
	return NewOpener("").Open(context.Background(), in, hint)
}

// openText opens a list that is text.
func (l *List) openText(in io.Reader, begin []byte, hint Hint) error {
	if len(bytes.TrimSpace(begin)) == 0 {
		return fault.Because(ErrList, "it is empty")
	}
	text := l.decoded(in, begin, hint)
	switch l.Format {
	case JSONLines:
		return l.openJSON(text)
	case Pasted:
		l.openPasted(text)
		return nil
	default:
		l.Format = CSV
		return l.openCSV(text, hint)
	}
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

// Ours tells that a list in CSV is one that a [Writer] wrote: its cells come as they were before they
// were defused.
func (l *List) Ours() {
	if l.Format != CSV {
		return
	}
	l.ours = true
	for i := range l.head {
		l.head[i] = undefused(l.head[i])
	}
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
			for i := range row.Cells {
				if l.ours {
					row.Cells[i] = undefused(row.Cells[i])
				}
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

// put puts a cell into a row that has none behind it.
func (r *Row) put(at int, cell string, held Held) {
	for len(r.Cells) < at {
		r.Cells = append(r.Cells, "")
	}
	r.Cells = append(r.Cells, cell)
	if held == (Held{}) {
		return
	}
	for len(r.Held) < at {
		r.Held = append(r.Held, Held{})
	}
	r.Held = append(r.Held, held)
}

// HeldAt is what a workbook holds in a cell; the zero value if that is text.
func (r *Row) HeldAt(at int) Held {
	if at < 0 || at >= len(r.Held) {
		return Held{}
	}
	return r.Held[at]
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
	r.Cells, r.Held = r.Cells[:cells], r.Held[:min(len(r.Held), cells)]
	for len(r.Cells) < columns {
		r.Cells = append(r.Cells, "")
	}
}

// Close frees what a list holds. It may be closed again.
func (l *List) Close() error {
	var err error
	for _, one := range slices.Backward(l.closers) {
		err = errors.Join(err, one())
	}
	l.closers = nil
	return err
}

// headWithin is how many rows are looked at for a head.
const headWithin = 20

// begin finds the row that names the columns: the one that is given, else the first row, unless it is data or one of
// those below it names a column of numbers, such as below a title.
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
	if hint.HeadLine > 0 {
		for first.Line < hint.HeadLine {
			if first, err = l.next(); err == io.EOF {
				return fault.Because(ErrList, "there is no row %d", hint.HeadLine)
			} else if err != nil {
				return err
			}
			l.Below = true
		}
		if first.Line != hint.HeadLine || first.Wrong != "" {
			return fault.Because(ErrList, "row %d names no columns", hint.HeadLine)
		}
		return l.headed(first)
	}
	l.held = []Row{first}
	if hint.Head != nil && *hint.Head {
		l.held = nil
		return l.headed(first)
	}
	if hint.Head == nil && !looksLikeData(first.Cells) {
		at := l.headAmong()
		first = l.held[at]
		l.held, l.Below = l.held[at+1:], at > 0
		return l.headed(first)
	}
	if err := tooWide(first); err != nil {
		return err
	}
	l.HeadLine = 0
	l.head = named(make([]string, len(first.Cells)))
	return nil
}

// headAmong reads on until a row names a column of numbers, and returns where that is among those that are held; the
// first if none does.
func (l *List) headAmong() int {
	for at := 0; at < headWithin; at++ {
		if at == len(l.held) {
			row, err := l.next()
			if err != nil {
				l.err = err
				break
			}
			l.held = append(l.held, row)
		}
		row := l.held[at]
		if at > 0 && looksLikeData(slices.DeleteFunc(slices.Clone(row.Cells), isTime)) { // a title may have its date
			break
		}
		if row.Wrong == "" && slices.ContainsFunc(row.Cells, func(c string) bool { called, _ := calls(c, To); return called != none }) {
			return at
		}
	}
	return 0
}

// headed takes a row for the head.
func (l *List) headed(row Row) error {
	if err := tooWide(row); err != nil {
		return err
	}
	l.HeadLine, l.Found.Head, l.head = row.Line, true, named(row.Cells)
	return nil
}

func tooWide(row Row) error {
	if len(row.Cells) > columnsMost {
		return fault.Because(ErrList, "it has %d columns, at most %d", len(row.Cells), columnsMost)
	}
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
