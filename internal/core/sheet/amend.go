package sheet

import (
	"archive/zip"
	"bufio"
	"bytes"
	"encoding/xml"
	"fmt"
	"io"
	"regexp"

	"calmpigeon.example/internal/core/fault"
)

// Amend copies a workbook and adds cells to the right of all that stands in one of its sheets;
// everything else stays as it is, to the octet: formats, widths, formulas, other sheets. What
// cannot be gone through is found out before anything is written, and wraps [ErrList]. beside
// gives the cells for a row of the sheet, 1 first; it is asked for each row that is there, in
// their order. The sheet is gone through as it flows (ISO/IEC 29500-1, 18.3).
func (b *Book) Amend(out io.Writer, name string, beside func(line int) ([]string, error)) error {
	sheet, err := b.sheet(name)
	if err != nil {
		return err
	}
	a := amending{beside: beside}
	if err := a.through(sheet.part, io.Discard); err != nil {
		return err
	}
	w := zip.NewWriter(out)
	for _, file := range b.archive.File {
		if file != sheet.part {
			err = w.Copy(file)
		} else {
			var into io.Writer
			if into, err = w.CreateHeader(&zip.FileHeader{Name: file.Name, Method: zip.Deflate, Modified: file.Modified}); err == nil {
				err = a.through(file, into)
			}
		}
		if err != nil {
			return fmt.Errorf("copying a workbook: %w", err)
		}
	}
	return w.Close()
}

// amending is a sheet that is gone through: first to see how wide it is, then to be written.
type amending struct {
	beside func(line int) ([]string, error)
	width  int // columns that are taken
	known  bool
}

// spans are what a row says of how far it goes: nothing needs it, and it would not be true.
var spans = regexp.MustCompile(` spans=("[^"]*"|'[^']*')`)

// figure is a cell that is kept as a number.
var figure = regexp.MustCompile(`^(0|[1-9][0-9]{0,11})(\.[0-9]{1,6})?$`)

// through goes through the sheet, and writes it once its width is known.
func (a *amending) through(part *zip.File, out io.Writer) error {
	file, err := unpack(part, sheetMost)
	if err != nil {
		return err
	}
	defer file.Close()
	in, decoder := pieces(file)
	w := bufio.NewWriterSize(out, 64<<10)
	offset, line, column, empty := int64(0), 0, 0, false
	for {
		token, err := decoder.RawToken()
		if err == io.EOF {
			break
		}
		if err != nil {
			return fault.Because(ErrList, "the sheet cannot be gone through: %w", err)
		}
		n := int(decoder.InputOffset() - offset)
		offset += int64(n)
		raw := in.raw[:n]
		switch t := token.(type) {
		case xml.StartElement:
			switch t.Name.Local {
			case "dimension": // it would not be true any more
				raw = nil
			case "row":
				line, column = rowNumber(t, line+1), 0
				raw = spans.ReplaceAll(raw, nil)
				if empty = bytes.HasSuffix(raw, []byte("/>")); empty {
					raw = append(bytes.TrimSuffix(bytes.Clone(raw), []byte("/>")), '>')
				}
			case "c":
				column++
				for _, attribute := range t.Attr {
					if attribute.Name.Local == "r" {
						if at, ok := columnOf(attribute.Value); ok {
							column = at
						}
					}
				}
				if !a.known {
					a.width = max(a.width, column)
				}
			}
		case xml.EndElement:
			switch t.Name.Local {
			case "dimension":
				raw = nil
			case "row":
				if a.known {
					if err := a.write(w, t.Name.Space, line); err != nil {
						return err
					}
				}
				if empty {
					raw = []byte("</" + qualified(t.Name.Space, "row") + ">")
				}
			}
		}
		if _, err := w.Write(raw); err != nil {
			return err
		}
		in.raw = append(in.raw[:0], in.raw[n:]...)
	}
	a.known = true
	return w.Flush()
}

func qualified(prefix, name string) string {
	if prefix == "" {
		return name
	}
	return prefix + ":" + name
}

// write adds the cells of a row.
func (a *amending) write(w *bufio.Writer, prefix string, line int) error {
	cells, err := a.beside(line)
	if err != nil {
		return err
	}
	for i, cell := range cells {
		if cell == "" {
			continue
		}
		column := a.width + 1 + i
		if column > columnsOfSheet {
			return fault.Because(ErrList, "the sheet has no room for more columns")
		}
		number := figure.MatchString(cell)
		if err := writeCell(w, prefix, column, line, cell, number); err != nil {
			return err
		}
	}
	return nil
}

// writeCell writes one cell, of a number or of text.
func writeCell(w *bufio.Writer, prefix string, column, line int, cell string, number bool) error {
	c, is, t, v := qualified(prefix, "c"), qualified(prefix, "is"), qualified(prefix, "t"), qualified(prefix, "v")
	if number {
		_, err := fmt.Fprintf(w, `<%[1]s r="%[2]s"><%[3]s>%[4]s</%[3]s></%[1]s>`, c, placeOf(column, line), v, cell)
		return err
	}
	fmt.Fprintf(w, `<%s r="%s" t="inlineStr"><%s><%s xml:space="preserve">`, c, placeOf(column, line), is, t)
	if err := xml.EscapeText(w, []byte(escape(cell))); err != nil {
		return err
	}
	_, err := fmt.Fprintf(w, "</%s></%s></%s>", t, is, c)
	return err
}
