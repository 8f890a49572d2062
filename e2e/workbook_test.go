package e2e

import (
	"archive/zip"
	"bytes"
	"fmt"
	"hash/crc32"
	"slices"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"

	"calmpigeon.example/client"
)

// workbook is a list as a person keeps it: a title above, formats, a formula, a row that is
// hidden, and another sheet.
func workbook(t *testing.T, n int) []byte {
	t.Helper()
	file := excelize.NewFile()
	defer file.Close()
	bold := must[int](
		t,
	)(
		file.NewStyle(
			&excelize.Style{Font: &excelize.Font{Bold: true}, Fill: excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{"#FFE9C7"}}},
		),
	)
	date := must[int](t)(file.NewStyle(&excelize.Style{NumFmt: 14}))
	set := func(place string, value any) {
		if err := file.SetCellValue("Sheet1", place, value); err != nil {
			t.Fatal(err)
		}
	}
	for i, head := range []string{"Mobile", "Name", "Booked", "Fare"} {
		set(fmt.Sprintf("%c1", 'A'+i), head)
	}
	for i := range n {
		set(fmt.Sprintf("A%d", i+2), 447700900000+i/80*100+i%80)
		set(fmt.Sprintf("B%d", i+2), fmt.Sprintf("Jörg %d", i))
		set(fmt.Sprintf("C%d", i+2), 45000+i)
		if err := file.SetCellFormula("Sheet1", fmt.Sprintf("D%d", i+2), fmt.Sprintf("C%d*0.001", i+2)); err != nil {
			t.Fatal(err)
		}
	}
	for _, err := range []error{
		file.SetCellStyle("Sheet1", "A1", "D1", bold), file.SetCellStyle("Sheet1", "C2", fmt.Sprintf("C%d", n+1), date),
		file.SetColWidth("Sheet1", "B", "B", 33), file.SetRowVisible("Sheet1", 4, false),
		file.SetPanes("Sheet1", &excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2", ActivePane: "bottomLeft"}),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
	must[int](t)(file.NewSheet("Notes"))
	file.SetCellValue("Notes", "A1", "not for passengers")
	var out bytes.Buffer
	if err := file.Write(&out); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

// A workbook comes back as it was, formats, formulas and other sheets and all, with what became
// of each row to the right; and that is a list again.
func TestBatchWorkbookKeepsItsFormats(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	const n = 30
	source := workbook(t, n)
	upload := func(list []byte, w client.BatchWants) client.Batch {
		one := must[client.Batch](t)(h.Client.NewBatch(t.Context(), w))
		for range 2 { // the same again changes nothing
			must[client.BatchAppended](
				t,
			)(
				h.Client.AppendRows(t.Context(), one.ID, bytes.NewReader(list), client.ListHint{File: "list.xlsx"}),
			)
		}
		return h.rehearsed(one.ID)
	}
	one := upload(source, client.BatchWants{Text: "Dear {Name}", Country: "GB"})
	if one.Totals.Goes != n {
		t.Fatalf("%+v", one.Totals)
	}
	must[client.Batch](t)(h.Client.LaunchBatch(t.Context(), one.ID, client.Launch{}))
	one = h.batchWhen(one.ID, "it has come to its end", finished)
	result := h.result(one.ID, "")
	book := must[*excelize.File](t)(excelize.OpenReader(bytes.NewReader(result)))
	defer book.Close()
	rows := must[[][]string](t)(book.GetRows("Sheet1", excelize.Options{RawCellValue: true}))
	if len(rows) != n+1 || rows[0][4] != "pigeon state" || rows[1][1] != "Jörg 0" {
		t.Fatalf("%d rows, %q", len(rows), rows[:2])
	}
	ids, delivered := map[string]bool{}, int64(0)
	for _, row := range rows[1:] {
		if row[4] == "delivered" {
			delivered++
		}
		ids[row[slices.Index(rows[0], "pigeon message")]] = true
	}
	if delivered != one.Tally.States["delivered"] || len(ids) != n {
		t.Errorf("%d delivered of %s, %d ids", delivered, one.Tally.Equation, len(ids))
	}
	width := must[float64](t)(book.GetColWidth("Sheet1", "B"))
	formula := must[string](t)(book.GetCellFormula("Sheet1", "D5"))
	shown := must[string](t)(book.GetCellValue("Sheet1", "C2"))
	visible := must[bool](t)(book.GetRowVisible("Sheet1", 4))
	if width != 33 || formula != "C5*0.001" || !strings.Contains(shown, "-") || visible ||
		must[int](t)(book.GetCellStyle("Sheet1", "A1")) == 0 {
		t.Errorf("width %v, formula %q, a date shown as %q, row 4 visible %v", width, formula, shown, visible)
	}
	parts := func(b []byte) map[string]uint32 {
		sums := map[string]uint32{}
		for _, f := range must[*zip.Reader](t)(zip.NewReader(bytes.NewReader(b), int64(len(b)))).File {
			sums[f.Name] = f.CRC32
		}
		return sums
	}
	before, after := parts(source), parts(result)
	for name, sum := range before {
		if same := after[name] == sum; same == (strings.HasSuffix(name, "/sheet1.xml") || strings.HasSuffix(name, "/styles.xml")) {
			t.Errorf("%s is as it was: %v", name, same)
		}
	}
	if len(after) != len(before) || crc32.ChecksumIEEE(result) == 0 {
		t.Errorf("%d parts, there were %d", len(after), len(before))
	}
	// Rows that are left out alone are a plain sheet, and a result is a list again.
	if again := upload(result, client.BatchWants{Text: "Dear {Name}, again", Country: "GB"}); again.Totals.Goes != n ||
		len(again.Columns) != 4 {
		t.Errorf("as a list again: %+v, %+v", again.Totals, again.Columns)
	}
	// With rows of elsewhere it is not that workbook any more.
	more := must[client.Batch](t)(h.Client.NewBatch(t.Context(), client.BatchWants{Text: "Dear {Name}", Country: "GB"}))
	must[client.BatchAppended](t)(h.Client.AppendRows(t.Context(), more.ID, bytes.NewReader(source), client.ListHint{File: "list.xlsx"}))
	must[client.BatchAppended](
		t,
	)(
		h.Client.AppendRows(
			t.Context(),
			more.ID,
			strings.NewReader("Mobile,Name\n+447700900777,Ann\n"),
			client.ListHint{File: "more.csv", At: -1},
		),
	)
	plain := must[*excelize.File](t)(excelize.OpenReader(bytes.NewReader(h.result(more.ID, "xlsx"))))
	defer plain.Close()
	if rows := must[[][]string](t)(plain.GetRows("Sheet1")); len(rows) != n+2 || rows[n+1][1] != "Ann" {
		t.Errorf("%d rows: %q", len(rows), rows[len(rows)-1])
	}
}
