package sheet

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"regexp"
	"strings"
	"time"
	"unicode/utf8"
)

// Writer writes rows one after the other, and holds no more of them than a few. Cells are words, numbers
// ([json.Number]), times ([time.Time]), amounts ([Amount]), cells of a workbook ([Shown]), switches or nil. Only a
// workbook has a form of its own for each; elsewhere a time is written as RFC 3339 has it.
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

// Amount is a number with a currency.
type Amount struct {
	Number   string // with a point
	Currency string // ISO 4217
}

// Shown is a cell that came from a list: as it was shown, and as a workbook held it.
type Shown struct {
	Text string
	Held Held
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
	case time.Time:
		return c.UTC().Format(time.RFC3339)
	case Amount:
		return c.Number
	case Shown:
		return c.Text
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
		switch cell.(type) {
		case time.Time, Amount, Shown:
			cell = word(cell)
		}
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
