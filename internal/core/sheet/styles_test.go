package sheet

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/xuri/excelize/v2"
)

// booked is a workbook with a title above its head, and cells in formats that people use.
func booked(t *testing.T, epoch1904 bool, language string) []byte {
	t.Helper()
	file := excelize.NewFile()
	defer file.Close()
	if epoch1904 {
		file.SetWorkbookProps(&excelize.WorkbookPropsOptions{Date1904: &epoch1904})
	}
	if language != "" {
		file.SetDocProps(&excelize.DocProperties{Language: language})
	}
	file.SetCellStr("Sheet1", "A1", "Sunday crossings")
	file.SetSheetRow("Sheet1", "A3", &[]any{"Mobile", "Leaves", "Fare", "Discount", "Berth", "Pet", "Code"})
	file.SetSheetRow("Sheet1", "A4", &[]any{447700900123, 46359.375, 48.5, 0.125, 7, true, "0012"})
	for i, code := range []string{"0", "dd/mm/yyyy hh:mm", `#,##0.00\ "€"`, "0.0%", "000"} {
		style, err := file.NewStyle(&excelize.Style{CustomNumFmt: &code})
		if err != nil {
			t.Fatal(err)
		}
		at := placeOf(i+1, 4)
		file.SetCellStyle("Sheet1", at, at, style)
	}
	var packed bytes.Buffer
	if err := file.Write(&packed); err != nil {
		t.Fatal(err)
	}
	return packed.Bytes()
}

// Cells come as people see them, in the locale that is given, that of the workbook, or that of the country; and as they
// are held, besides.
func TestCellsAsPeopleSeeThem(t *testing.T) {
	t.Parallel()
	german := []string{"447700900123", "03.12.2026 09:00", "48,50 €", "12,5%", "007", "WAHR", "0012"}
	british := []string{"447700900123", "03/12/2026 09:00", "48.50 €", "12.5%", "007", "TRUE", "0012"}
	for name, tt := range map[string]struct {
		language string
		hint     Hint
		locale   string
		want     []string
	}{
		"nothing is known":         {"", Hint{}, "en", british},
		"the country":              {"", Hint{Country: "AT"}, "de", german},
		"the workbook's language":  {"de-DE", Hint{Country: "GB"}, "de", german},
		"the locale that is given": {"en-GB", Hint{Country: "GB", Locale: "de"}, "de", german},
	} {
		l, err := Open(bytes.NewReader(booked(t, false, tt.language)), tt.hint)
		if err != nil {
			t.Fatal(err)
		}
		rows, _ := all(t, l)
		l.Close()
		if l.Locale != tt.locale || len(rows) != 1 || !slices.Equal(rows[0], tt.want) {
			t.Errorf("%s: in %s %q, want %s %q", name, l.Locale, rows, tt.locale, tt.want)
		}
	}
	_, err := Open(bytes.NewReader(booked(t, false, "")), Hint{Locale: "tlh"})
	if err == nil || !strings.Contains(err.Error(), "accepted: ar, bg") {
		t.Errorf("a locale that is not known: %v", err)
	}
}

func TestCellsAsTheyAreHeld(t *testing.T) {
	t.Parallel()
	for _, epoch1904 := range []bool{false, true} {
		packed := booked(t, epoch1904, "de")
		want := "2026-12-03T09:00:00"
		if epoch1904 {
			want = "2030-12-04T09:00:00"
		}
		l, err := Open(bytes.NewReader(packed), Hint{})
		if err != nil {
			t.Fatal(err)
		}
		var row Row
		for one, err := range l.Rows() {
			if row = one; err != nil {
				t.Fatal(err)
			}
		}
		l.Close()
		if got := serial(time.Date(9999, 12, 31, 12, 0, 0, 0, time.UTC)); got != 2_958_465.5 {
			t.Errorf("the last day: %v", got)
		}
		if at, ok := row.HeldAt(1).Time(); !ok || at.Format(isoMoment) != want {
			t.Errorf("counted from 1904 %t: %+v", epoch1904, row.Held)
		}
		if amount, currency, ok := row.HeldAt(2).Amount(); !ok || amount != "48.5" || currency != "EUR" {
			t.Errorf("%q in %q of %+v", amount, currency, row.HeldAt(2))
		}
		if row.HeldAt(6) != (Held{}) || row.HeldAt(70) != (Held{}) {
			t.Errorf("text: %+v", row.Held)
		}
		raw, err := Open(bytes.NewReader(packed), Hint{Held: true})
		if err != nil {
			t.Fatal(err)
		}
		rows, _ := all(t, raw)
		raw.Close()
		if got := fmt.Sprint(rows[0][:5]); got != "[447700900123 "+want+" 48.5 0.125 7]" {
			t.Errorf("as they are held: %s", got)
		}
	}
	for value, want := range map[string]string{
		"2026-12-03": "2026-12-03 00:00:00", "09:00:00": "0000-01-01 09:00:00", "48.5": "",
		"447700900123": "", "": "", "20261203": "", "-1-2": "",
	} {
		at, ok := Held{Value: value}.Time()
		if got := at.Format(time.DateTime); ok != (want != "") || ok && got != want {
			t.Errorf("%q: %s, %t", value, got, ok)
		}
	}
}

// A head below a title is found, and said; a row that is named is the head.
func TestHeadFurtherDown(t *testing.T) {
	t.Parallel()
	csv := "Lanternholm Ferries\n\nas of,2026-12-01\nName,Mobile\nElin,07700 900123\n"
	for name, tt := range map[string]struct {
		list string
		hint Hint
		head string
		line int
		rows int
		said string
	}{
		"below a title":         {csv, Hint{}, "Name Mobile", 4, 1, "CSV with commas, in utf-8, its head in row 4"},
		"named":                 {csv, Hint{HeadLine: 3}, "as of 2026-12-01", 3, 2, "CSV with commas, in utf-8, its head in row 3"},
		"the first is the head": {"a,b\nMobile,Name\n", Hint{HeadLine: 1}, "a b", 1, 1, "CSV with commas, in utf-8"},
		"no row is one":         {"a,b\nc,d\n", Hint{}, "a b", 1, 1, "CSV with commas, in utf-8"},
		"data comes before it":  {"a,b\n07700900123,d\nMobile,Name\n", Hint{}, "a b", 1, 2, "CSV with commas, in utf-8"},
	} {
		l, err := Open(strings.NewReader(tt.list), tt.hint)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		rows, _ := all(t, l)
		if got := strings.Join(l.Head(), " "); got != tt.head || l.HeadLine != tt.line || len(rows) != tt.rows || l.Found.String() != tt.said {
			t.Errorf("%s: %q in row %d, %d rows, %s", name, got, l.HeadLine, len(rows), l.Found)
		}
	}
	if _, err := Open(strings.NewReader(csv), Hint{HeadLine: 40}); err == nil || !strings.Contains(err.Error(), "there is no row 40") {
		t.Errorf("a row that is not there: %v", err)
	}
	l, err := Open(bytes.NewReader(booked(t, false, "")), Hint{})
	if err != nil || l.HeadLine != 3 || l.Head()[0] != "Mobile" {
		t.Errorf("a workbook with a title: %+v, %v", l, err)
	}
}
