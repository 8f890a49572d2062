package sheet

import (
	"bufio"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"calmpigeon.example/internal/core/fault"
)

// The size of a sheet (its limits are those of all who write workbooks).
const (
	linesOfSheet   = 1 << 20
	columnsOfSheet = 1 << 14
)

// tokenMost is the longest piece of a part, in octets: a cell holds 32,767 characters at most.
const tokenMost = 1 << 20

var errToken = errors.New("a cell is longer than cells can be")

// octet is an [io.ByteReader] that keeps what was read of a piece, as it was written.
type octet struct {
	in  *bufio.Reader
	raw []byte
}

// ReadByte reads one.
func (o *octet) ReadByte() (byte, error) {
	if len(o.raw) >= tokenMost {
		return 0, errToken
	}
	b, err := o.in.ReadByte()
	if err == nil {
		o.raw = append(o.raw, b)
	}
	return b, err
}

// Read is there for the decoder, which does not use it.
func (o *octet) Read([]byte) (int, error) { return 0, io.ErrNoProgress }

// pieces goes through a part, piece by piece.
func pieces(part io.Reader) (*octet, *xml.Decoder) {
	in := &octet{in: bufio.NewReaderSize(part, 64<<10)}
	decoder := xml.NewDecoder(in)
	decoder.CharsetReader = func(string, io.Reader) (io.Reader, error) { return nil, io.ErrUnexpectedEOF }
	return in, decoder
}

// cellText collects the text of a cell or of a shared string: its pieces, without the phonetic runs
// that say how it is read aloud (ISO/IEC 29500-1, 18.4.6).
type cellText struct {
	value    []byte
	taking   bool
	phonetic int // runs that are open
}

// add takes one token. Of a text that is longer than a row may be it keeps only as much as tells that.
func (c *cellText) add(token xml.Token) {
	switch t := token.(type) {
	case xml.StartElement:
		switch t.Name.Local {
		case "v", "t":
			c.taking = c.phonetic == 0
		case "rPh":
			c.phonetic++
		}
	case xml.CharData:
		if c.taking && len(c.value) <= rowMost {
			c.value = append(c.value, t...)
		}
	case xml.EndElement:
		switch t.Name.Local {
		case "v", "t":
			c.taking = false
		case "rPh":
			c.phonetic--
		}
	}
}

// openXLSX reads a sheet of a workbook (ISO/IEC 29500). Cells come as people see them in it, but for whole numbers
// that have no format: they come as they are held, 447700900123 and not 4.477E+11. texts is a file for its shared
// strings.
func (l *List) openXLSX(book *Book, texts *os.File, hint Hint) error {
	l.Sheets = book.Sheets()
	sheet, err := book.sheet(hint.Sheet)
	if err != nil {
		return err
	}
	l.Sheet = sheet.name
	rows := &bookRows{texts: &sharedTexts{file: texts}, raw: hint.Held}
	if rows.styles, err = book.stylesFor(hint); err != nil {
		return err
	}
	l.Locale = rows.styles.locale.Tag
	if book.texts != nil {
		if err := rows.texts.read(book.texts); err != nil {
			return err
		}
	}
	part, err := unpack(sheet.part, sheetMost)
	if err != nil {
		return err
	}
	l.closers = append(l.closers, part.Close)
	rows.in, rows.decoder = pieces(part)
	l.next = func() (Row, error) {
		for {
			row, err := rows.next()
			switch {
			case err == io.EOF:
				return row, err
			case err != nil:
				return row, fault.Because(ErrList, "row %d: %w", max(rows.line, 1), err)
			case row.Wrong == "" && !slices.ContainsFunc(row.Cells, func(c string) bool { return strings.TrimSpace(c) != "" }):
				continue // sheets are full of rows that nobody has written in
			}
			return row, nil
		}
	}
	return l.begin(hint)
}

// bookRows are the rows of a sheet (ISO/IEC 29500-1, 18.3.1).
type bookRows struct {
	in      *octet
	decoder *xml.Decoder
	texts   *sharedTexts
	styles  *bookStyles
	raw     bool // cells come as they are held
	line    int  // of the row that is read

	kind  string // what the cell holds
	style int    // in which it is shown
	text  cellText
}

// next reads the next row. Cells that hold nothing come where others follow.
func (b *bookRows) next() (row Row, err error) {
	within, column, size := false, 0, 0
	for {
		token, err := b.decoder.RawToken()
		b.in.raw = b.in.raw[:0]
		switch {
		case err == io.EOF && within:
			return row, io.ErrUnexpectedEOF
		case err != nil:
			return row, err
		}
		b.text.add(token)
		switch t := token.(type) {
		case xml.StartElement:
			switch t.Name.Local {
			case "row":
				line := rowNumber(t, b.line+1)
				if within || line <= b.line || line > linesOfSheet {
					return row, fmt.Errorf("row %d does not follow it", line)
				}
				b.line, within = line, true
				row.Line = line
			case "c":
				column++
				b.kind, b.style, b.text.value = "", 0, b.text.value[:0]
				for _, attribute := range t.Attr {
					switch attribute.Name.Local {
					case "r":
						if at, ok := columnOf(attribute.Value); ok {
							if at < column {
								return row, fmt.Errorf("cell %.20s does not follow the one before it", attribute.Value)
							}
							column = at
						}
					case "t":
						b.kind = attribute.Value
					case "s":
						if n, err := strconv.Atoi(attribute.Value); err == nil {
							b.style = n
						}
					}
				}
				if column > columnsOfSheet {
					return row, fmt.Errorf("it has more than %d cells", columnsOfSheet)
				}
			}
		case xml.EndElement:
			switch t.Name.Local {
			case "c":
				if !within {
					continue
				}
				cell, held, err := b.cell()
				if err != nil && row.Wrong == "" {
					row.Wrong = fmt.Sprintf("cell %s: %v", placeOf(column, b.line), err)
				}
				if size += len(cell); size > rowMost && row.Wrong == "" {
					row.Wrong = tooLong
				}
				if row.Wrong != "" {
					row.Cells, row.Held = nil, nil
				} else if cell != "" {
					row.put(column-1, cell, held)
				}
			case "row":
				if within {
					return row, nil
				}
			}
		}
	}
}

// cell is the cell that was read, as it is shown and as it is held.
func (b *bookRows) cell() (shown string, held Held, err error) {
	value := string(b.text.value)
	switch b.kind {
	case "s":
		if value == "" {
			return "", held, nil
		}
		at, err := strconv.Atoi(strings.TrimSpace(value))
		if err != nil {
			return "", held, fmt.Errorf("%.20q is no number of a text", value)
		}
		shown, err = b.texts.text(at)
		return b.styles.text(shown, b.style), held, err
	case "str", "inlineStr":
		return b.styles.text(unescaped(value), b.style), held, nil
	case "b":
		return b.styles.locale.Truth(strings.TrimSpace(value) == "1"), held, nil
	case "e":
		return value, held, nil
	case "d":
		at, ok := ParseTime(value)
		if !ok {
			return "", held, fmt.Errorf("%.30q is no date", value)
		}
		value = strconv.FormatFloat(serial(at), 'f', -1, 64)
	}
	if value == "" {
		return "", held, nil
	}
	if shown, held = b.styles.show(value, b.style); b.raw && held != (Held{}) {
		shown = held.Value
	}
	return shown, held, nil
}

// rowNumber is the number that a row says it has.
func rowNumber(row xml.StartElement, otherwise int) int {
	for _, attribute := range row.Attr {
		if attribute.Name.Local == "r" {
			if n, err := strconv.Atoi(attribute.Value); err == nil && n > 0 {
				return n
			}
		}
	}
	return otherwise
}

// columnOf is the column of a cell's name, 1 first: 28 of AB7.
func columnOf(name string) (column int, ok bool) {
	i := 0
	for ; i < len(name) && i < 4; i++ {
		c := name[i] | 0x20
		if c < 'a' || c > 'z' {
			break
		}
		column = column*26 + int(c-'a') + 1
	}
	return column, i > 0 && i < len(name) && name[i] >= '0' && name[i] <= '9'
}

// placeOf is the name of a cell.
func placeOf(column, line int) string {
	var letters []byte
	for ; column > 0; column = (column - 1) / 26 {
		letters = append(letters, byte('A'+(column-1)%26))
	}
	slices.Reverse(letters)
	return string(letters) + strconv.Itoa(line)
}

// escaped is how a character is written that XML has no place for (ISO/IEC 29500-1, 22.9.2.19).
var escaped = regexp.MustCompile(`_x[0-9A-Fa-f]{4}_`)

func unescaped(text string) string {
	if !strings.Contains(text, "_x") {
		return text
	}
	return escaped.ReplaceAllStringFunc(text, func(e string) string {
		n, err := strconv.ParseUint(e[2:6], 16, 16)
		if err != nil || !utf8.ValidRune(rune(n)) { // half of a surrogate pair
			return e
		}
		return string(rune(n))
	})
}

// escape writes text so that it is read as it is.
func escape(text string) string {
	if !strings.Contains(text, "_x") {
		return text
	}
	return escaped.ReplaceAllStringFunc(text, func(e string) string { return "_x005F" + e })
}
