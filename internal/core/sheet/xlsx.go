package sheet

import (
	"bufio"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math/big"
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

// openXLSX reads a sheet of a workbook (ISO/IEC 29500). Numbers come as they are held,
// not as they are shown: 447700900123 and not 4.477E+11. texts is a file for its shared strings.
func (l *List) openXLSX(book *Book, texts *os.File, hint Hint) error {
	l.Sheets = book.Sheets()
	sheet, err := book.sheet(hint.Sheet)
	if err != nil {
		return err
	}
	l.Sheet = sheet.name
	rows := &bookRows{texts: &sharedTexts{file: texts}}
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
			for i := range row.Cells {
				row.Cells[i] = written(row.Cells[i])
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
	line    int // of the row that is read

	kind string // what the cell holds
	text cellText
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
				b.kind, b.text.value = "", b.text.value[:0]
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
				cell, err := b.cell()
				if err != nil && row.Wrong == "" {
					row.Wrong = fmt.Sprintf("cell %s: %v", placeOf(column, b.line), err)
				}
				if size += len(cell); size > rowMost && row.Wrong == "" {
					row.Wrong = tooLong
				}
				if row.Wrong != "" {
					row.Cells = nil
				} else if cell != "" {
					for len(row.Cells) < column-1 {
						row.Cells = append(row.Cells, "")
					}
					row.Cells = append(row.Cells, cell)
				}
			case "row":
				if within {
					return row, nil
				}
			}
		}
	}
}

// cell is what the cell that was read holds.
func (b *bookRows) cell() (string, error) {
	value := string(b.text.value)
	switch b.kind {
	case "s":
		if value == "" {
			return "", nil
		}
		at, err := strconv.Atoi(strings.TrimSpace(value))
		if err != nil {
			return "", fmt.Errorf("%.20q is no number of a text", value)
		}
		return b.texts.text(at)
	case "str", "inlineStr":
		return unescaped(value), nil
	}
	return value, nil
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

// written is a number as people write it, where the file has it with an exponent. With
// so few digits that some may have been lost in a sheet before it stays as it is.
func written(cell string) string {
	const fewest = 8 // digits
	mantissa, _, exponent := strings.Cut(strings.ToLower(cell), "e")
	if !exponent || len(cell) > 40 || strings.Trim(cell, "0123456789.eE+-") != "" || len(strings.Trim(mantissa, ".+-")) <= fewest {
		return cell
	}
	number, ok := new(big.Float).SetPrec(200).SetString(cell)
	if !ok || !number.IsInt() || number.MantExp(nil) > 64 {
		return cell
	}
	return number.Text('f', 0)
}
