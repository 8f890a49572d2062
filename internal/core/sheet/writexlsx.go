package sheet

import (
	"archive/zip"
	"bufio"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"
)

// xlsxWriter writes a workbook (ISO/IEC 29500) as rows come. A sheet has only so many rows: what comes after them stands
// on the next one, under the same head. The head stays in sight, rows can be filtered by it, and columns are as wide as
// the first rows are.
type xlsxWriter struct {
	archive *zip.Writer
	most    int           // rows of a sheet
	sheet   *bufio.Writer // that is written
	n       int           // sheets
	at      int           // rows of this one
	head    []any
	first   [][]any // rows that wait until the widths of columns are known
	widths  []int   // in characters; nil: they are not known yet
	styles  styleTable
}

func newXLSX(out io.Writer, most int) *xlsxWriter {
	return &xlsxWriter{archive: zip.NewWriter(out), most: most, styles: styleTable{before: headStyle + 1}}
}

const (
	// widthRows is how many rows are looked at for the widths of columns.
	widthRows = 100
	// The least and the most that a column is wide, in characters.
	widthLeast, widthMost = 8, 60
	// headStyle is the style of the head; the styles of cells with a format follow.
	headStyle = 1
)

// Row writes a row, once the widths of columns are known.
func (x *xlsxWriter) Row(cells []any) error {
	if x.head == nil {
		x.head = slices.Clone(cells)
		return nil
	}
	if x.widths == nil {
		x.first = append(x.first, slices.Clone(cells))
		if len(x.first) < widthRows {
			return nil
		}
		return x.begin()
	}
	return x.row(cells)
}

// begin writes the rows that waited.
func (x *xlsxWriter) begin() error {
	x.widths = make([]int, len(x.head))
	for i := range x.widths {
		x.widths[i] = widthLeast
		for _, row := range append([][]any{x.head}, x.first...) {
			if i < len(row) {
				x.widths[i] = max(x.widths[i], min(utf8.RuneCountInString(word(row[i]))+2, widthMost))
			}
		}
	}
	if err := x.next(); err != nil {
		return err
	}
	for _, row := range x.first {
		if err := x.row(row); err != nil {
			return err
		}
	}
	x.first = nil
	return nil
}

func (x *xlsxWriter) row(cells []any) error {
	if x.at == x.most {
		if err := x.next(); err != nil {
			return err
		}
	}
	return x.put(cells, 0)
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
	fmt.Fprintf(x.sheet, xmlHead+`<worksheet xmlns="%s"><sheetViews><sheetView workbookViewId="0">`+
		`<pane ySplit="1" topLeftCell="A2" activePane="bottomLeft" state="frozen"/></sheetView></sheetViews><cols>`, mainSpace)
	for i, width := range x.widths {
		fmt.Fprintf(x.sheet, `<col min="%[1]d" max="%[1]d" width="%[2]d" customWidth="1"/>`, i+1, width)
	}
	x.sheet.WriteString("</cols><sheetData>")
	return x.put(x.head, headStyle)
}

func (x *xlsxWriter) endSheet() error {
	if x.sheet == nil {
		return nil
	}
	fmt.Fprintf(x.sheet, `</sheetData><autoFilter ref="A1:%s"/></worksheet>`, placeOf(max(len(x.head), 1), x.at))
	return x.sheet.Flush()
}

// cellMost is how long the text of a cell may be, in units of UTF-16.
const cellMost = 32_767

func (x *xlsxWriter) put(cells []any, style int) error {
	x.at++
	fmt.Fprintf(x.sheet, `<row r="%d">`, x.at)
	for i, cell := range cells {
		if err := writeCell(x.sheet, place{column: i + 1, line: x.at, style: style}, cell, &x.styles); err != nil {
			return err
		}
	}
	_, err := x.sheet.WriteString("</row>")
	return err
}

// styleSheet is the part that has the styles of cells (ISO/IEC 29500-1, 18.8).
func (x *xlsxWriter) styleSheet() string {
	formats, cells := x.styles.elements("", firstOwnFormat)
	if formats != "" {
		formats = "<numFmts>" + formats + "</numFmts>"
	}
	return fmt.Sprintf(`<styleSheet xmlns="%s">%s<fonts count="2"><font><sz val="11"/><name val="Calibri"/></font>`+
		`<font><b/><sz val="11"/><name val="Calibri"/></font></fonts><fills count="2"><fill><patternFill patternType="none"/></fill>`+
		`<fill><patternFill patternType="gray125"/></fill></fills><borders count="1"><border/></borders>`+
		`<cellStyleXfs count="1"><xf numFmtId="0" fontId="0" fillId="0" borderId="0"/></cellStyleXfs><cellXfs>`+
		`<xf numFmtId="0" fontId="0" fillId="0" borderId="0" xfId="0"/>`+
		`<xf numFmtId="0" fontId="1" fillId="0" borderId="0" xfId="0" applyFont="1"/>`+
		`%s</cellXfs></styleSheet>`, mainSpace, formats, cells)
}

func (x *xlsxWriter) Close() error {
	if x.head == nil {
		return errors.New("a workbook without a head")
	}
	if x.widths == nil {
		if err := x.begin(); err != nil {
			return err
		}
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
	fmt.Fprintf(&relations, `<Relationship Id="rId%d" Type="%s/styles" Target="styles.xml"/>`, x.n+1, relSpace)
	fmt.Fprintf(&types, `<Override PartName="/xl/styles.xml" ContentType="%sstyles+xml"/>`, mainType)
	for _, part := range []struct{ name, body string }{
		{"xl/styles.xml", x.styleSheet()},
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
