package sheet

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/xuri/excelize/v2"
)

func TestNoCellIsAFormula(t *testing.T) {
	t.Parallel()
	for given, want := range map[string]string{
		"=1+1": "'=1+1", "+447700900123": "+447700900123", "+44 7700 900123": "+44 7700 900123", "+cmd|' /C calc'!A0": "'+cmd|' /C calc'!A0",
		"-12.50": "-12.50", "-2+3+cmd": "'-2+3+cmd", "@SUM(A1)": "'@SUM(A1)", "\t=1": "\t'=1", "Berth 3": "Berth 3", "": "", "a=b": "a=b",
		"＝1+1": "'＝1+1", ";=1+1": ";'=1+1", "x;=1+1": "x;'=1+1", "x, =1": "x, '=1", "x\n@SUM(A1)": "x\n'@SUM(A1)", " =1": " '=1",
		"'=1": "''=1", "+447700900123, +447700900144": "+447700900123, +447700900144", "-1,5": "-1,5", "|＋cmd": "|'＋cmd",
	} {
		if got := Defused(given); got != want {
			t.Errorf("%q: got %q, want %q", given, got, want)
		}
	}
	// Whatever a cell is, it comes back as it was, and nothing in it begins as a formula does.
	noise := rand.New(rand.NewPCG(5, 6))
	for range 50_000 {
		given := ""
		for range noise.IntN(8) {
			given += []string{"=", "+", "-", "@", "＝", "'", ";", ",", "|", "\t", "\n", " ", "1", "a", "("}[noise.IntN(15)]
		}
		got := Defused(given)
		if undefused(got) != given {
			t.Fatalf("%q is defused as %q, and that comes back as %q", given, got, undefused(got))
		}
		for _, piece := range strings.FieldsFunc(got, func(r rune) bool { return strings.ContainsRune(";,|\t\n", r) }) {
			if piece = strings.TrimSpace(piece); piece != "" && strings.ContainsRune("=@＝", []rune(piece)[0]) {
				t.Fatalf("%q is defused as %q", given, got)
			}
		}
	}
}

// What is written in any format is read again as it was; numbers and switches are such where a format has them.
func TestWhatIsWrittenIsReadAgain(t *testing.T) {
	t.Parallel()
	head := []any{"id", "to", "text", "n", "weak", "gone"}
	rows := [][]any{
		{"a-1", "+447700900123", "Zoë, \"berth\"\n3 <b>", json.Number("1500000"), true, nil},
		{"a-2", "", "=1+1", json.Number("0.25"), false, nil},
	}
	for _, format := range Formats {
		var out bytes.Buffer
		w, err := NewWriter(&out, format)
		if err != nil {
			t.Fatal(err)
		}
		for _, row := range append([][]any{head}, rows...) {
			if err := w.Row(row); err != nil {
				t.Fatal(err)
			}
		}
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
		if format == JSONLines {
			want := `{"id":"a-1","to":"+447700900123","text":"Zoë, \"berth\"\n3 <b>","n":1500000,"weak":true,"gone":null}`
			if got, _, _ := strings.Cut(out.String(), "\n"); got != want {
				t.Errorf("%s", got)
			}
			continue
		}
		list, err := Open(bytes.NewReader(out.Bytes()), Hint{})
		if err != nil || list.Found.Format != format || strings.Join(list.Head(), " ") != "id to text n weak gone" {
			t.Errorf("%s: %+v, %v", format, list.Found, err)
			continue
		}
		n := 0
		for row, err := range list.Rows() {
			if err != nil {
				t.Fatal(err)
			}
			want := rows[n]
			formula := map[bool]string{true: "'=1+1", false: word(want[2])}[n == 1 && format == CSV]
			if row.Cells[0] != want[0] || row.Cells[1] != want[1] || row.Cells[2] != formula || row.Cells[3] != word(want[3]) ||
				!strings.EqualFold(row.Cells[4], word(want[4])) && row.Cells[4] != fmt.Sprint(map[any]int{true: 1, false: 0}[want[4]]) {
				t.Errorf("%s: %q", format, row.Cells)
			}
			n++
		}
		if n != len(rows) {
			t.Errorf("%s has %d rows", format, n)
		}
		list.Close()
	}
	if _, err := NewWriter(nil, Pasted); err == nil {
		t.Error("pasted text was written")
	}
}

// What does not fit on one sheet goes on on the next, under the same head.
func TestLongWorkbooksHaveSheets(t *testing.T) {
	t.Parallel()
	var out bytes.Buffer
	w := newXLSX(&out, 4)
	for n := range 8 {
		if err := w.Row([]any{fmt.Sprintf("row %d", n)}); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{"Sheet1": "row 1 row 2 row 3", "Sheet2": "row 4 row 5 row 6", "Sheet3": "row 7"} {
		list, err := Open(bytes.NewReader(out.Bytes()), Hint{Sheet: name})
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for row, err := range list.Rows() {
			if err != nil {
				t.Fatal(err)
			}
			got = append(got, row.Cells[0])
		}
		if list.Head()[0] != "row 0" || strings.Join(got, " ") != want {
			t.Errorf("%s: %q under %q", name, got, list.Head())
		}
		list.Close()
	}
}

// A workbook that we write has amounts and times that programs count with, a head that stays in sight, and cells of a
// workbook as it held them; read again, they are the same.
func TestWorkbooksHaveTypes(t *testing.T) {
	t.Parallel()
	date := Shown{"03.12.2026 09:00", Held{"2026-12-03T09:00:00", "dd/mm/yyyy hh:mm"}}
	fare := Shown{"1.048,50 €", Held{"1048.5", `#,##0.00\ [$€-407]`}}
	clock := Shown{"9:00", Held{"09:00:00", "h:mm"}}
	var out bytes.Buffer
	w, err := NewWriter(&out, XLSX)
	if err != nil {
		t.Fatal(err)
	}
	long := strings.Repeat("x", 300)
	head := []any{"to", "date", "fare", "clock", "cost", "settled"}
	settled := time.Date(2026, 12, 1, 8, 0, 6, 0, time.FixedZone("", 3600))
	first := []any{long, date, fare, clock, Amount{"0.0742", "EUR"}, settled}
	for _, row := range [][]any{head, first, {"+447700900123", Shown{Text: "soon"}, Amount{`<x/>`, `]"&`}}} {
		if err := w.Row(row); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	file, err := excelize.OpenReader(bytes.NewReader(out.Bytes()))
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	for place, want := range map[string]string{"B2": "46359.375", "C2": "1048.5", "D2": "0.375", "E2": "0.0742", "F2": "46357.2917361111"} {
		got, err := file.GetCellValue("Sheet1", place, excelize.Options{RawCellValue: true})
		kind, _ := file.GetCellType("Sheet1", place)
		if !strings.HasPrefix(got, want) || err != nil || kind != excelize.CellTypeUnset && kind != excelize.CellTypeNumber {
			t.Errorf("%s holds %q of type %v, %v; want %q", place, got, kind, err, want)
		}
	}
	panes, err := file.GetPanes("Sheet1")
	wide, _ := file.GetColWidth("Sheet1", "A")
	narrow, _ := file.GetColWidth("Sheet1", "F")
	if err != nil || !panes.Freeze || panes.YSplit != 1 || wide != widthMost || narrow < 20 ||
		!bytes.Contains(sheetOf(t, out.Bytes()), []byte(`<autoFilter ref="A1:F3"/>`)) {
		t.Errorf("%+v, %v; columns %v and %v wide", panes, err, wide, narrow)
	}
	list, err := Open(bytes.NewReader(out.Bytes()), Hint{Locale: "de"})
	if err != nil {
		t.Fatal(err)
	}
	defer list.Close()
	var read []Row
	for row, err := range list.Rows() {
		if err != nil {
			t.Fatal(err)
		}
		read = append(read, row)
	}
	for i, want := range []Shown{date, fare, clock, {"0,0742 EUR", Held{"0.0742", `#,##0.00####\ [$EUR]`}},
		{"2026-12-01 07:00:06", Held{"2026-12-01T07:00:06", momentFormat}}} {
		if got := (Shown{read[0].Cells[i+1], read[0].HeldAt(i + 1)}); got != want {
			t.Errorf("%s: %+v, want %+v", head[i+1], got, want)
		}
	}
	if read[1].Cells[2] != `<x/> ]"&` || read[1].Cells[1] != "soon" || read[1].HeldAt(1) != (Held{}) {
		t.Errorf("text: %+v", read[1])
	}
}

// sheetOf is the first sheet of a workbook.
func sheetOf(t *testing.T, packed []byte) []byte {
	t.Helper()
	for _, file := range reader(t, packed).File {
		if strings.HasSuffix(file.Name, "sheet1.xml") {
			in, err := file.Open()
			if err != nil {
				t.Fatal(err)
			}
			defer in.Close()
			body, err := io.ReadAll(in)
			if err != nil {
				t.Fatal(err)
			}
			return body
		}
	}
	return nil
}
