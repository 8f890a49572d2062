package sheet

import (
	"archive/zip"
	"bufio"
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"path"
	"regexp"
	"strconv"
	"strings"

	"github.com/xuri/excelize/v2"

	"calmpigeon.example/internal/core/fault"
)

// Amend copies a workbook and adds cells to the right of all that stands in one of its sheets;
// everything else stays as it is, to the octet: formats, widths, formulas, other sheets. What
// cannot be gone through is found out before anything is written, and wraps [ErrList]. beside
// gives the cells for a row of the sheet, 1 first; it is asked for each row that is there, in
// their order. The sheet is gone through as it flows (ISO/IEC 29500-1, 18.3).
func Amend(out io.Writer, book *zip.Reader, sheet string, beside func(line int) ([]string, error)) error {
	part, err := sheetPart(book, sheet)
	if err != nil {
		return err
	}
	a := amending{beside: beside}
	if err := a.through(part, io.Discard); err != nil {
		return err
	}
	w := zip.NewWriter(out)
	for _, file := range book.File {
		if file != part {
			err = w.Copy(file)
		} else {
			var into io.Writer
			if into, err = w.CreateHeader(&zip.FileHeader{Name: file.Name, Method: zip.Deflate, Modified: file.Modified}); err == nil {
				err = a.through(part, into)
			}
		}
		if err != nil {
			return fmt.Errorf("copying a workbook: %w", err)
		}
	}
	return w.Close()
}

// sheetPart finds the part of a workbook that a sheet is in.
func sheetPart(book *zip.Reader, sheet string) (*zip.File, error) {
	type relations struct {
		All []struct {
			ID     string `xml:"Id,attr"`
			Type   string `xml:"Type,attr"`
			Target string `xml:"Target,attr"`
		} `xml:"Relationship"`
	}
	read := func(name string, into any) error {
		file, err := book.Open(strings.TrimPrefix(name, "/"))
		if err != nil {
			return fault.Because(ErrList, "the workbook has no part %s", name)
		}
		defer file.Close()
		if err := xml.NewDecoder(io.LimitReader(file, inMemory)).Decode(into); err != nil {
			return fault.Because(ErrList, "part %s of the workbook: %w", name, err)
		}
		return nil
	}
	target := func(from, to string) string {
		if strings.HasPrefix(to, "/") {
			return strings.TrimPrefix(to, "/")
		}
		return path.Join(path.Dir(from), to)
	}
	var top relations
	if err := read("_rels/.rels", &top); err != nil {
		return nil, err
	}
	at := "xl/workbook.xml"
	for _, r := range top.All {
		if strings.HasSuffix(r.Type, "/officeDocument") {
			at = target("", r.Target)
		}
	}
	var workbook struct {
		Sheets []struct {
			Name string     `xml:"name,attr"`
			All  []xml.Attr `xml:",any,attr"`
		} `xml:"sheets>sheet"`
	}
	var parts relations
	if err := read(at, &workbook); err != nil {
		return nil, err
	}
	if err := read(path.Join(path.Dir(at), "_rels", path.Base(at)+".rels"), &parts); err != nil {
		return nil, err
	}
	for _, s := range workbook.Sheets {
		for _, attribute := range s.All {
			for _, r := range parts.All {
				if s.Name != sheet || attribute.Name.Local != "id" || r.ID != attribute.Value {
					continue
				}
				for _, file := range book.File {
					if file.Name == target(at, r.Target) {
						return file, nil
					}
				}
			}
		}
	}
	return nil, fault.Because(ErrList, "the workbook has no sheet %q", sheet)
}

// amending is a sheet that is gone through: first to see how wide it is, then to be written.
type amending struct {
	beside func(line int) ([]string, error)
	width  int // columns that are taken
	known  bool
}

// tokenMost is the longest piece of a sheet, in octets: a cell holds 32,767 characters at most.
const tokenMost = 1 << 20

// octet is an [io.ByteReader] that keeps what was read, as it was written.
type octet struct {
	in  *bufio.Reader
	raw []byte
}

var errToken = errors.New("a cell is longer than cells can be")

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

// spans are what a row says of how far it goes: nothing needs it, and it would not be true.
var spans = regexp.MustCompile(` spans=("[^"]*"|'[^']*')`)

// figure is a cell that is kept as a number.
var figure = regexp.MustCompile(`^(0|[1-9][0-9]{0,11})(\.[0-9]{1,6})?$`)

// through goes through the sheet, and writes it once its width is known.
func (a *amending) through(part *zip.File, out io.Writer) error {
	file, err := part.Open()
	if err != nil {
		return err
	}
	defer file.Close()
	in := &octet{in: bufio.NewReaderSize(file, 64<<10)}
	w := bufio.NewWriterSize(out, 64<<10)
	decoder := xml.NewDecoder(in)
	decoder.CharsetReader = func(string, io.Reader) (io.Reader, error) { return nil, io.ErrUnexpectedEOF }
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
				line, column = a.number(t, "r", line+1), 0
				raw = spans.ReplaceAll(raw, nil)
				if empty = bytes.HasSuffix(raw, []byte("/>")); empty {
					raw = append(bytes.TrimSuffix(bytes.Clone(raw), []byte("/>")), '>')
				}
			case "c":
				column++
				for _, attribute := range t.Attr {
					if attribute.Name.Local == "r" {
						if at, _, err := excelize.CellNameToCoordinates(attribute.Value); err == nil {
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

// number is an attribute that is a number.
func (a *amending) number(t xml.StartElement, name string, otherwise int) int {
	for _, attribute := range t.Attr {
		if attribute.Name.Local == name {
			if n, err := strconv.Atoi(attribute.Value); err == nil && n > 0 && n <= excelize.TotalRows {
				return n
			}
		}
	}
	return otherwise
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
	c, is, t, v := qualified(prefix, "c"), qualified(prefix, "is"), qualified(prefix, "t"), qualified(prefix, "v")
	for i, cell := range cells {
		if cell == "" {
			continue
		}
		place, err := excelize.CoordinatesToCellName(a.width+1+i, line)
		if err != nil {
			return fault.Because(ErrList, "the sheet has no room for more columns")
		}
		if figure.MatchString(cell) {
			fmt.Fprintf(w, `<%[1]s r="%[2]s"><%[3]s>%[4]s</%[3]s></%[1]s>`, c, place, v, cell)
			continue
		}
		fmt.Fprintf(w, `<%s r="%s" t="inlineStr"><%s><%s xml:space="preserve">`, c, place, is, t)
		if err := xml.EscapeText(w, []byte(cell)); err != nil {
			return err
		}
		fmt.Fprintf(w, "</%s></%s></%s>", t, is, c)
	}
	return nil
}
