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
// everything else stays as it is, to the octet: formats, widths, formulas, other sheets; styles that the new
// cells need are added to those that there are. What
// cannot be gone through is found out before anything is written, and wraps [ErrList]. beside
// gives the cells for a row of the sheet, 1 first; it is asked for each row that is there, in
// their order. The sheet is gone through as it flows (ISO/IEC 29500-1, 18.3).
func (b *Book) Amend(out io.Writer, name string, beside func(line int) ([]any, error)) error {
	sheet, err := b.sheet(name)
	if err != nil {
		return err
	}
	a := amending{beside: beside}
	var styles styleSheet
	if b.stylesPart != nil {
		if styles, err = b.readStyles(); err != nil {
			return err
		}
		a.styles = &styleTable{before: len(styles.cells)}
	}
	if err := a.through(sheet.part, io.Discard); err != nil {
		return err
	}
	w := zip.NewWriter(out)
	for _, file := range b.archive.File {
		switch file {
		case b.stylesPart: // comes last, when it is known what was added
		case sheet.part:
			var into io.Writer
			if into, err = again(w, file); err == nil {
				err = a.through(file, into)
			}
		default:
			err = w.Copy(file)
		}
		if err != nil {
			return fmt.Errorf("copying a workbook: %w", err)
		}
	}
	if b.stylesPart != nil {
		into, err := again(w, b.stylesPart)
		if err == nil {
			err = a.styles.addTo(b.stylesPart, styles, into)
		}
		if err != nil {
			return fmt.Errorf("copying the styles of a workbook: %w", err)
		}
	}
	return w.Close()
}

// again begins a part that takes the place of one that there was.
func again(w *zip.Writer, was *zip.File) (io.Writer, error) {
	return w.CreateHeader(&zip.FileHeader{Name: was.Name, Method: zip.Deflate, Modified: was.Modified})
}

// amending is a sheet that is gone through: first to see how wide it is, then to be written.
type amending struct {
	beside func(line int) ([]any, error)
	styles *styleTable // nil: the workbook has no styles
	width  int         // columns that are taken
	known  bool
}

// spans are what a row says of how far it goes: nothing needs it, and it would not be true.
var spans = regexp.MustCompile(` spans=("[^"]*"|'[^']*')`)

// through goes through the sheet, and writes it once its width is known.
func (a *amending) through(part *zip.File, out io.Writer) error {
	file, err := unpack(part, sheetMost)
	if err != nil {
		return err
	}
	defer file.Close()
	w := bufio.NewWriterSize(out, 64<<10)
	line, column, empty := 0, 0, false
	err = rewrite(file, w, "the sheet cannot be gone through", func(token xml.Token, raw []byte) ([]byte, error) {
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
						return nil, err
					}
				}
				if empty {
					raw = []byte("</" + qualified(t.Name.Space, "row") + ">")
				}
			}
		}
		return raw, nil
	})
	if err != nil {
		return err
	}
	a.known = true
	return w.Flush()
}

// rewrite copies a part piece by piece. each gives what takes the place of a piece, and may write before it.
func rewrite(part io.Reader, w *bufio.Writer, wrong string, each func(token xml.Token, raw []byte) ([]byte, error)) error {
	in, decoder := pieces(part)
	offset := int64(0)
	for {
		token, err := decoder.RawToken()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return fault.Because(ErrList, "%s: %w", wrong, err)
		}
		n := int(decoder.InputOffset() - offset)
		offset += int64(n)
		raw, err := each(token, in.raw[:n])
		if err != nil {
			return err
		}
		if _, err := w.Write(raw); err != nil {
			return err
		}
		in.raw = append(in.raw[:0], in.raw[n:]...)
	}
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
		at := place{prefix: prefix, column: a.width + 1 + i, line: line}
		if at.column > columnsOfSheet {
			return fault.Because(ErrList, "the sheet has no room for more columns")
		}
		if err := writeCell(w, at, cell, a.styles); err != nil {
			return err
		}
	}
	return nil
}
