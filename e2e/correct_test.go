package e2e

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"

	"calmpigeon.example/client"
)

// Rows that were left out are taken as a sheet, corrected, and put back into their places; what
// goes as it is cannot be changed so, and of a sheet with a mistake nothing is taken.
func TestBatchCorrections(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	const good = 1100 // more than one pack
	one := h.batched(passengers(t, good), client.BatchWants{Text: cancelled, Country: "GB"})
	if one.Totals.Goes != good+1 {
		t.Fatalf("%+v", one.Totals)
	}
	leftOut := func(format string) []byte {
		var out bytes.Buffer
		if err := h.Client.BatchResult(t.Context(), one.ID, format, true, &out); err != nil {
			t.Fatal(err)
		}
		return out.Bytes()
	}
	correct := func(sheet []byte) (client.BatchCorrected, error) {
		return h.Client.CorrectRows(t.Context(), one.ID, bytes.NewReader(sheet), client.ListHint{})
	}
	sheet := leftOut("")
	lines := strings.Split(strings.TrimSpace(string(sheet)), "\n")
	head, rows := lines[0], lines[1:]
	if len(rows) != 6 || !strings.Contains(head, "pigeon row") {
		t.Fatalf("%s", sheet)
	}
	lost := slices.IndexFunc(rows, func(r string) bool { return strings.HasPrefix(r, "Lost;") })
	torn := slices.IndexFunc(rows, func(r string) bool { return strings.HasPrefix(r, "Torn;") })
	fixed := strings.Replace(rows[lost], "4.47701E+11", "+447700900795", 1)
	for what, list := range map[string][]string{
		`row 5 goes as it is`:   {head, strings.TrimSuffix(rows[lost], fmt.Sprint(";", good+2)) + ";5"},
		`stands there twice`:    {head, fixed, fixed},
		`"" is no row`:          {head, strings.TrimSuffix(rows[lost], fmt.Sprint(good+2))},
		`"99999" is no row`:     {head, fixed, strings.TrimSuffix(rows[lost], fmt.Sprint(good+2)) + "99999"},
		`no column "pigeon row`: {"Name;Handy", "Lost;+447700900795"},
		`no column of the`:      {head + ";Weather", fixed + ";wet"},
		`there are none`:        {head},
	} {
		if _, err := correct([]byte(strings.Join(list, "\n"))); err == nil || !strings.Contains(err.Error(), what) {
			t.Errorf("%s: %v", what, err)
		}
	}
	if now := must[client.Batch](t)(h.Client.Batch(t.Context(), one.ID)); now.State != "rehearsed" || now.Totals.Goes != good+1 {
		t.Fatalf("what was refused changed something: %s, %+v", now.State, now.Totals)
	}
	// In any order, and without a column that stays as it is.
	done := must[client.BatchCorrected](t)(correct([]byte(head + "\n" + rows[torn] + "\n" + fixed + "\n")))
	if done.Rows != 2 || done.Batch.State != "open" {
		t.Errorf("%+v", done)
	}
	one = h.rehearsed(one.ID)
	if one.Rows != good+7 || one.Totals.Goes != good+3 {
		t.Fatalf("%+v", one.Totals)
	}
	// The same as a workbook.
	book := must[*excelize.File](t)(excelize.OpenReader(bytes.NewReader(leftOut("xlsx"))))
	defer book.Close()
	cells := must[[][]string](t)(book.GetRows("Sheet1"))
	for i, row := range cells {
		if row[0] == "Nobody" {
			place, _ := excelize.CoordinatesToCellName(slices.Index(cells[0], "Handy")+1, i+1)
			if err := book.SetCellValue("Sheet1", place, "+447700900796"); err != nil {
				t.Fatal(err)
			}
		}
	}
	var saved bytes.Buffer
	if err := book.Write(&saved); err != nil {
		t.Fatal(err)
	}
	if done = must[client.BatchCorrected](t)(correct(saved.Bytes())); done.Rows != 4 {
		t.Errorf("%+v", done)
	}
	if one = h.rehearsed(one.ID); one.Totals.Goes != good+4 {
		t.Errorf("%+v", one.Totals)
	}
	row := must[client.List[client.BatchRow]](t)(h.Client.BatchRows(t.Context(), one.ID, "", "", fmt.Sprint(good+1), 1)).Items[0]
	if row.Row != good+2 || row.Cells["Name"] != "Lost" || row.To != "+447700900795" || row.Cells["Fähre"] != "08:00" {
		t.Errorf("%+v", row)
	}
	must[client.Batch](t)(h.Client.LaunchBatch(t.Context(), one.ID, client.Launch{Scouts: "1"}))
	if _, err := correct(sheet); err == nil || !strings.Contains(err.Error(), "before it is launched") {
		t.Errorf("launched: %v", err)
	}
}
