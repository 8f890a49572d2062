package sheet

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/xuri/excelize/v2"
)

// book makes a workbook with formats, a formula, another sheet, gaps and rows without cells.
func book(t *testing.T) []byte {
	t.Helper()
	file := excelize.NewFile()
	defer file.Close()
	bold, err := file.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true}, NumFmt: 14})
	if err != nil {
		t.Fatal(err)
	}
	for place, value := range map[string]any{"A2": "Mobile", "B2": "Name", "A3": 447700900123, "B3": "Jörg & <Ann>", "C3": 45000,
		"A5": "+447700900124", "B5": "x", "D5": " "} {
		if err := file.SetCellValue("Sheet1", place, value); err != nil {
			t.Fatal(err)
		}
	}
	for _, do := range []error{
		file.SetCellStyle("Sheet1", "A2", "C3", bold), file.SetCellFormula("Sheet1", "C5", "1+2"), file.SetColWidth("Sheet1", "A", "A", 31),
		file.SetRowHeight("Sheet1", 7, 40),
	} {
		if do != nil {
			t.Fatal(do)
		}
	}
	if _, err := file.NewSheet("Other"); err != nil {
		t.Fatal(err)
	}
	file.SetCellValue("Other", "A1", "stays")
	var out bytes.Buffer
	if err := file.Write(&out); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

func reader(t *testing.T, b []byte) *zip.Reader {
	t.Helper()
	r, err := zip.NewReader(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func opened(t *testing.T, b []byte) *Book {
	t.Helper()
	book, err := OpenBook(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		t.Fatal(err)
	}
	return book
}

// tamper changes one part of a workbook.
func tamper(t *testing.T, source []byte, name string, change func([]byte) []byte) []byte {
	t.Helper()
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for _, f := range reader(t, source).File {
		part, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		body, err := io.ReadAll(part)
		if err != nil {
			t.Fatal(err)
		}
		if f.Name == name {
			body = change(body)
		}
		into, err := w.Create(f.Name)
		if err != nil {
			t.Fatal(err)
		}
		into.Write(body)
	}
	w.Close()
	return out.Bytes()
}

func TestAmend(t *testing.T) {
	t.Parallel()
	source := book(t)
	var asked []int
	when := time.Date(2026, 12, 3, 9, 0, 0, 0, time.UTC)
	var out bytes.Buffer
	err := opened(t, source).Amend(&out, "Sheet1", func(line int) ([]any, error) {
		asked = append(asked, line)
		return map[int][]any{2: {"state", "cost", "final at"}, 3: {"delivered", Amount{"0.0742", "EUR"}, when}, 5: {`<&"`, nil}}[line], nil
	})
	if err != nil {
		t.Fatal(err)
	}
	amended, err := excelize.OpenReader(bytes.NewReader(out.Bytes()))
	if err != nil {
		t.Fatal(err)
	}
	defer amended.Close()
	for place, want := range map[string]string{"A2": "Mobile", "A3": "447700900123", "B3": "Jörg & <Ann>", "E2": "state", "F2": "cost",
		"E3": "delivered", "F3": "0.0742", "E5": `<&"`, "F5": ""} {
		if got, err := amended.GetCellValue("Sheet1", place, excelize.Options{RawCellValue: true}); got != want || err != nil {
			t.Errorf("%s holds %q, %v; want %q", place, got, err, want)
		}
	}
	for place, want := range map[string]string{"F3": "0.0742 EUR", "G3": "2026-12-03 09:00:00"} {
		if got, err := amended.GetCellValue("Sheet1", place); got != want || err != nil {
			t.Errorf("%s is shown as %q, %v; want %q", place, got, err, want)
		}
	}
	style, _ := amended.GetCellStyle("Sheet1", "C3")
	formula, _ := amended.GetCellFormula("Sheet1", "C5")
	width, _ := amended.GetColWidth("Sheet1", "A")
	height, _ := amended.GetRowHeight("Sheet1", 7)
	if other, _ := amended.GetCellValue("Other", "A1"); style == 0 || formula != "1+2" || width != 31 || height != 40 || other != "stays" {
		t.Errorf("style %d, formula %q, width %v, height %v, other sheet %q", style, formula, width, height, other)
	}
	if got := fmt.Sprint(asked); !strings.HasPrefix(got, "[2 3") || !strings.Contains(got, " 5") {
		t.Errorf("asked for %v", asked)
	}
	// All other parts stay to the octet.
	before, after := reader(t, source), reader(t, out.Bytes())
	sums := map[string]uint32{}
	for _, file := range after.File {
		sums[file.Name] = file.CRC32
	}
	for _, file := range before.File {
		same := file.CRC32 == sums[file.Name]
		if same == (strings.HasSuffix(file.Name, "sheet1.xml") || strings.HasSuffix(file.Name, "styles.xml")) {
			t.Errorf("%s: the same %v", file.Name, same)
		}
	}
	if len(sums) != len(before.File) || len(after.File) != len(before.File) {
		t.Errorf("%d parts, there were %d", len(after.File), len(before.File))
	}
	endless := tamper(t, source, "xl/worksheets/sheet1.xml", func(b []byte) []byte {
		return bytes.Replace(b, []byte("<v>45000</v>"), append([]byte("<v>"), bytes.Repeat([]byte("9"), 2<<20)...), 1)
	})
	out.Reset()
	err = opened(t, endless).Amend(&out, "Sheet1", func(int) ([]any, error) { return []any{"x"}, nil })
	if !errors.Is(err, ErrList) || out.Len() > 0 {
		t.Errorf("a cell that never ends: %v, and %d octets were written", err, out.Len())
	}
	if err := opened(t, source).Amend(io.Discard, "Nothing", nil); err == nil || !strings.Contains(err.Error(), `no sheet "Nothing"`) {
		t.Errorf("no such sheet: %v", err)
	}
}

// A sheet may be written otherwise than most: with a prefix, without numbers of rows, with
// rows that close themselves.
func TestAmendOtherForms(t *testing.T) {
	t.Parallel()
	parts := [][2]string{
		{"_rels/.rels", `<Relationships xmlns="r">
			<Relationship Id="a" Type="x/officeDocument" Target="/xl/book.xml"/></Relationships>`},
		{"xl/book.xml", `<x:workbook xmlns:x="m" xmlns:q="q">
			<x:sheets><x:sheet name="A&amp;B" sheetId="1" q:id="z"/></x:sheets></x:workbook>`},
		{"xl/_rels/book.xml.rels", `<Relationships xmlns="r">
			<Relationship Id="z" Type="x/worksheet" Target="worksheets/one.xml"/></Relationships>`},
		{"xl/worksheets/one.xml", `<?xml version="1.0"?><x:worksheet xmlns:x="m"><x:dimension ref="A1:B2"/><x:sheetData>` +
			`<x:row spans="1:2"><x:c t="str"><x:v>&lt;</x:v></x:c><x:c/></x:row>` +
			`<x:row r='4' spans='1:1' /><!-- c --></x:sheetData></x:worksheet>`},
		{"xl/worksheets/broken.xml", `<broken`},
	}
	var source bytes.Buffer
	w := zip.NewWriter(&source)
	for _, p := range parts {
		part, err := w.Create(p[0])
		if err != nil {
			t.Fatal(err)
		}
		io.WriteString(part, p[1])
	}
	w.Close()
	var out bytes.Buffer
	err := opened(t, source.Bytes()).Amend(&out, "A&B", func(line int) ([]any, error) { return []any{fmt.Sprint("n", line)}, nil })
	if err != nil {
		t.Fatal(err)
	}
	file, err := reader(t, out.Bytes()).Open("xl/worksheets/one.xml")
	if err != nil {
		t.Fatal(err)
	}
	got, err := io.ReadAll(file)
	const want = `<?xml version="1.0"?><x:worksheet xmlns:x="m"><x:sheetData><x:row><x:c t="str"><x:v>&lt;</x:v></x:c><x:c/>` +
		`<x:c r="C1" t="inlineStr"><x:is><x:t xml:space="preserve">n1</x:t></x:is></x:c></x:row>` +
		`<x:row r='4' ><x:c r="C4" t="inlineStr"><x:is><x:t xml:space="preserve">n4</x:t></x:is></x:c></x:row>` +
		`<!-- c --></x:sheetData></x:worksheet>`
	if string(got) != want || err != nil {
		t.Errorf("got  %s\nwant %s", got, want)
	}
}
