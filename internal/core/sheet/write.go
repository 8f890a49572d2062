package sheet

import (
	"archive/zip"
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// Writer writes rows one after the other, and holds no more of them than one. Cells are words, numbers ([json.Number]),
// switches or nil.
type Writer interface {
	// Row writes a row; the first one is the head.
	Row(cells []any) error
	// Close writes what is left. Without it what was written is not whole.
	Close() error
}

// Formats are those that can be written.
var Formats = []Format{CSV, XLSX, JSONLines}

// NewWriter writes in a format. Of JSON Lines each row but the head becomes an object, in the order of the head.
func NewWriter(out io.Writer, format Format) (Writer, error) {
	switch format {
	case CSV:
		return NewCSV(out, ','), nil
	case XLSX:
		return newXLSX(out, linesOfSheet), nil
	case JSONLines:
		return &jsonWriter{out: out}, nil
	}
	return nil, fmt.Errorf("%q cannot be written", format)
}

type csvWriter struct {
	w     *csv.Writer
	words []string // of the row that is written
}

// NewCSV writes CSV (RFC 4180) with something else than commas between cells.
func NewCSV(out io.Writer, comma rune) Writer {
	w := csv.NewWriter(out)
	w.Comma = comma
	return &csvWriter{w: w}
}

func (c *csvWriter) Row(cells []any) error {
	c.words = c.words[:0]
	for _, cell := range cells {
		c.words = append(c.words, Defused(word(cell)))
	}
	return c.w.Write(c.words)
}

func (c *csvWriter) Close() error {
	c.w.Flush()
	return c.w.Error()
}

// word is a cell as a word.
func word(cell any) string {
	switch c := cell.(type) {
	case nil:
		return ""
	case string:
		return c
	}
	return fmt.Sprint(cell)
}

// formula is how a formula begins: at the beginning of a cell, or behind what stands between cells
// where somebody else reads the file. Apostrophes before it were there already.
var formula = regexp.MustCompile(`((?:^|[;,|\t\r\n])\s*)('*[=+\-@＝＋－＠][^;,|\t\r\n]*)`)

// numeric reports whether text is a number, as people write amounts and telephone numbers.
func numeric(text string) bool {
	digits := strings.TrimLeft(text, "+-")
	if len(text)-len(digits) > 1 || digits == "" || digits[0] < '0' || digits[0] > '9' {
		return false
	}
	for i := range len(digits) {
		if c := digits[i]; (c < '0' || c > '9') && c != ' ' && c != '.' && c != '(' && c != ')' && c != '-' {
			return false
		}
	}
	return true
}

// begins reports whether a formula may begin in a cell. Most cells hold none, and this costs far less than [formula].
func begins(cell string) bool {
	first := true // in a cell, also where somebody else reads the file
	for i := 0; i < len(cell); i++ {
		switch c := cell[i]; {
		case c == ';' || c == ',' || c == '|' || c == '\t' || c == '\r' || c == '\n':
			first = true
		case !first:
		case c == '=' || c == '+' || c == '-' || c == '@' || c >= 0x80 && strings.ContainsRune("＝＋－＠", runeAt(cell, i)):
			return true
		case c != ' ' && c != '\f' && c != '\'': // these may stand before it
			first = false
		}
	}
	return false
}

func runeAt(s string, i int) rune {
	r, _ := utf8.DecodeRuneInString(s[i:])
	return r
}

// Defused is a cell that no spreadsheet takes for a formula: what would be one is preceded by an apostrophe. Numbers
// stay as they are.
func Defused(cell string) string {
	if numeric(cell) || !begins(cell) {
		return cell
	}
	return formula.ReplaceAllStringFunc(cell, func(found string) string {
		parts := formula.FindStringSubmatch(found)
		if numeric(strings.TrimSpace(parts[2])) {
			return found
		}
		return parts[1] + "'" + parts[2]
	})
}

// defused is what [Defused] makes of the beginning of a formula.
var defused = regexp.MustCompile(`((?:^|[;,|\t\r\n])\s*)'('*[=+\-@＝＋－＠])`)

// undefused undoes [Defused].
func undefused(cell string) string {
	if !strings.Contains(cell, "'") || !begins(cell) {
		return cell
	}
	return defused.ReplaceAllString(cell, "$1$2")
}

// xlsxWriter writes a workbook (ISO/IEC 29500) as rows come. A sheet has only so many rows: what comes after them stands
// on the next one, under the same head.
type xlsxWriter struct {
	archive *zip.Writer
	most    int           // rows of a sheet
	sheet   *bufio.Writer // that is written
	n       int           // sheets
	at      int           // rows of this one
	head    []any
}

func newXLSX(out io.Writer, most int) *xlsxWriter {
	return &xlsxWriter{archive: zip.NewWriter(out), most: most}
}

func (x *xlsxWriter) Row(cells []any) error {
	if x.head == nil {
		x.head = cells
		return x.next()
	}
	if x.at == x.most {
		if err := x.next(); err != nil {
			return err
		}
	}
	return x.put(cells)
}

const (
	xmlHead   = `<?xml version="1.0" encoding="UTF-8" standalone="yes"?>` + "\n"
	mainSpace = `http://schemas.openxmlformats.org/spreadsheetml/2006/main`
	relSpace  = `http://schemas.openxmlformats.org/officeDocument/2006/relationships`
	packSpace = `http://schemas.openxmlformats.org/package/2006/`
	mainType  = `application/vnd.openxmlformats-officedocument.spreadsheetml.`
)

// next begins a sheet.
func (x *xlsxWriter) next() error {
	if err := x.endSheet(); err != nil {
		return err
	}
	x.n, x.at = x.n+1, 0
	part, err := x.archive.Create(fmt.Sprintf("xl/worksheets/sheet%d.xml", x.n))
	if err != nil {
		return err
	}
	x.sheet = bufio.NewWriterSize(part, 64<<10)
	fmt.Fprintf(x.sheet, xmlHead+`<worksheet xmlns="%s"><sheetData>`, mainSpace)
	return x.put(x.head)
}

func (x *xlsxWriter) endSheet() error {
	if x.sheet == nil {
		return nil
	}
	x.sheet.WriteString("</sheetData></worksheet>")
	return x.sheet.Flush()
}

// cellMost is how long the text of a cell may be, in units of UTF-16.
const cellMost = 32_767

func (x *xlsxWriter) put(cells []any) error {
	x.at++
	fmt.Fprintf(x.sheet, `<row r="%d">`, x.at)
	for i, cell := range cells {
		said := word(cell)
		if said == "" {
			continue
		}
		var err error
		switch cell.(type) {
		case json.Number, int, int64, float64:
			err = writeCell(x.sheet, "", i+1, x.at, said, true)
		case bool:
			held := "0"
			if said == "true" {
				held = "1"
			}
			_, err = fmt.Fprintf(x.sheet, `<c r="%s" t="b"><v>%s</v></c>`, placeOf(i+1, x.at), held)
		default:
			err = writeCell(x.sheet, "", i+1, x.at, shortened(said), false)
		}
		if err != nil {
			return err
		}
	}
	_, err := x.sheet.WriteString("</row>")
	return err
}

// shortened is as much of a text as a cell may hold.
func shortened(text string) string {
	if len(text) <= cellMost {
		return text
	}
	units := 0
	for i, r := range text {
		if units += utf16.RuneLen(r); units > cellMost {
			return text[:i]
		}
	}
	return text
}

func (x *xlsxWriter) Close() error {
	if x.sheet == nil {
		return errors.New("a workbook without a head")
	}
	if err := x.endSheet(); err != nil {
		return err
	}
	var types, sheets, relations strings.Builder
	for i := 1; i <= x.n; i++ {
		fmt.Fprintf(&types, `<Override PartName="/xl/worksheets/sheet%d.xml" ContentType="%sworksheet+xml"/>`, i, mainType)
		fmt.Fprintf(&sheets, `<sheet name="Sheet%[1]d" sheetId="%[1]d" r:id="rId%[1]d"/>`, i)
		fmt.Fprintf(&relations, `<Relationship Id="rId%[1]d" Type="%[2]s/worksheet" Target="worksheets/sheet%[1]d.xml"/>`, i, relSpace)
	}
	for _, part := range []struct{ name, body string }{
		{"xl/workbook.xml", fmt.Sprintf(
			`<workbook xmlns="%s" xmlns:r="%s"><sheets>%s</sheets></workbook>`, mainSpace, relSpace, sheets.String())},
		{"xl/_rels/workbook.xml.rels", fmt.Sprintf(
			`<Relationships xmlns="%srelationships">%s</Relationships>`, packSpace, relations.String())},
		{"_rels/.rels", fmt.Sprintf(`<Relationships xmlns="%srelationships">`+
			`<Relationship Id="rId1" Type="%s/officeDocument" Target="xl/workbook.xml"/></Relationships>`, packSpace, relSpace)},
		{"[Content_Types].xml", fmt.Sprintf(`<Types xmlns="%scontent-types">`+
			`<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>`+
			`<Override PartName="/xl/workbook.xml" ContentType="%ssheet.main+xml"/>%s</Types>`, packSpace, mainType, types.String())},
	} {
		w, err := x.archive.Create(part.name)
		if err == nil {
			_, err = io.WriteString(w, xmlHead+part.body)
		}
		if err != nil {
			return err
		}
	}
	return x.archive.Close()
}

type jsonWriter struct {
	out  io.Writer
	head [][]byte // names, as JSON has them
	line bytes.Buffer
}

func (j *jsonWriter) Row(cells []any) error {
	if j.head == nil {
		j.head = make([][]byte, len(cells))
		for i, cell := range cells {
			name, err := json.Marshal(word(cell))
			if err != nil {
				return err
			}
			j.head[i] = name
		}
		return nil
	}
	j.line.Reset()
	encoder := json.NewEncoder(&j.line)
	encoder.SetEscapeHTML(false)
	for i, cell := range cells {
		j.line.WriteByte("{,"[min(i, 1)])
		j.line.Write(j.head[i])
		j.line.WriteByte(':')
		if err := encoder.Encode(cell); err != nil {
			return err
		}
		j.line.Truncate(j.line.Len() - 1) // the end of the line that the encoder writes
	}
	j.line.WriteString("}\n")
	_, err := j.out.Write(j.line.Bytes())
	return err
}

func (j *jsonWriter) Close() error { return nil }
