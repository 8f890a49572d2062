package sheet

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
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
