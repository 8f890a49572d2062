package sheet

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"

	"github.com/xuri/excelize/v2"
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
		return &csvWriter{csv.NewWriter(out)}, nil
	case XLSX:
		return newXLSX(out, excelize.TotalRows), nil
	case JSONLines:
		return &jsonWriter{out: out}, nil
	}
	return nil, fmt.Errorf("%q cannot be written", format)
}

type csvWriter struct{ w *csv.Writer }

func (c *csvWriter) Row(cells []any) error {
	words := make([]string, len(cells))
	for i, cell := range cells {
		words[i] = Defused(word(cell))
	}
	return c.w.Write(words)
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

var numeric = regexp.MustCompile(`^[+-]?[0-9][0-9 .,()-]*$`)

// Defused is a cell that no spreadsheet takes for a formula: one that would be is preceded by an apostrophe. Numbers
// stay as they are.
func Defused(cell string) string {
	if cell != "" && strings.ContainsRune("=+-@\t\r", rune(cell[0])) && !numeric.MatchString(cell) {
		return "'" + cell
	}
	return cell
}

// xlsxWriter writes a workbook. A sheet has only so many rows: what comes after them stands on the next one, under the
// same head.
type xlsxWriter struct {
	out   io.Writer
	most  int // rows of a sheet
	file  *excelize.File
	sheet *excelize.StreamWriter
	n     int // sheets
	at    int // rows of this one
	head  []any
}

func newXLSX(out io.Writer, most int) *xlsxWriter {
	return &xlsxWriter{out: out, most: most, file: excelize.NewFile()}
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

// next begins a sheet.
func (x *xlsxWriter) next() (err error) {
	if x.sheet != nil {
		if err := x.sheet.Flush(); err != nil {
			return err
		}
	}
	x.n, x.at = x.n+1, 0
	name := fmt.Sprintf("Sheet%d", x.n)
	if x.n > 1 {
		if _, err := x.file.NewSheet(name); err != nil {
			return err
		}
	}
	if x.sheet, err = x.file.NewStreamWriter(name); err != nil {
		return err
	}
	return x.put(x.head)
}

func (x *xlsxWriter) put(cells []any) error {
	x.at++
	place, err := excelize.CoordinatesToCellName(1, x.at)
	if err != nil {
		return err
	}
	values := make([]any, len(cells))
	for i, cell := range cells {
		switch c := cell.(type) {
		case json.Number:
			if f, err := c.Float64(); err == nil {
				values[i] = f
			}
		case string:
			if c != "" {
				values[i] = c
			}
		default:
			values[i] = cell
		}
	}
	return x.sheet.SetRow(place, values)
}

func (x *xlsxWriter) Close() error {
	defer x.file.Close()
	if x.sheet == nil {
		return errors.New("a workbook without a head")
	}
	if err := x.sheet.Flush(); err != nil {
		return err
	}
	_, err := x.file.WriteTo(x.out)
	return err
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
