package e2e

import (
	"bytes"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"

	"calmpigeon.example/client"
)

// Texts have the cells of a workbook as people see them in it, templates write them for the language of each text, and
// rows that are left out come back with their types and formats.
func TestCellsReachPeopleAsTheySeeThem(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	file := excelize.NewFile()
	defer file.Close()
	for place, value := range map[string]any{
		"A1": "Sonntag", "A3": "Mobil", "B3": "Abfahrt", "C3": "Preis", "D3": "Language",
		"A4": 447700900123, "B4": 46359.375, "C4": 1048.5, "D4": "fr", "A5": "nobody", "B5": 46360.375, "C5": 48.5,
	} {
		if err := file.SetCellValue("Sheet1", place, value); err != nil {
			t.Fatal(err)
		}
	}
	for column, code := range map[string]string{"B": `dd\.mm\.yyyy hh:mm`, "C": `#,##0.00\ [$€-407]`} {
		style := must[int](t)(file.NewStyle(&excelize.Style{CustomNumFmt: &code}))
		if err := file.SetCellStyle("Sheet1", column+"4", column+"5", style); err != nil {
			t.Fatal(err)
		}
	}
	var packed bytes.Buffer
	if err := file.Write(&packed); err != nil {
		t.Fatal(err)
	}
	upload := func(w client.BatchWants) client.Batch {
		one := must[client.Batch](t)(h.Client.NewBatch(t.Context(), w))
		hint := client.ListHint{File: "sonntag.xlsx"}
		must[client.BatchAppended](t)(h.Client.AppendRows(t.Context(), one.ID, bytes.NewReader(packed.Bytes()), hint))
		return h.rehearsed(one.ID)
	}
	one := upload(client.BatchWants{Text: "Abfahrt {Abfahrt}, {Preis}", Country: "GB", AtAnyHour: true})
	if want := "Abfahrt 03.12.2026 09:00, 1.048,50 €"; one.Totals.Goes != 1 || one.Totals.Random[0].Text != want ||
		one.Recognised != "XLSX, the sheet Sheet1, shown as in de, its head in row 3" {
		t.Errorf("%s: %+v, want %q", one.Recognised, one.Totals.Random, want)
	}
	var sheet bytes.Buffer
	if err := h.Client.BatchResult(t.Context(), one.ID, "xlsx", true, &sheet); err != nil {
		t.Fatal(err)
	}
	left := must[*excelize.File](t)(excelize.OpenReader(bytes.NewReader(sheet.Bytes())))
	defer left.Close()
	for place, want := range map[string]string{"A2": "nobody", "B2": "04.12.2026 09:00", "C2": "48.50 €"} {
		if got := must[string](t)(left.GetCellValue("Sheet1", place)); got != want {
			t.Errorf("left out, %s is shown as %q, want %q", place, got, want)
		}
	}
	if raw := must[string](t)(left.GetCellValue("Sheet1", "C2", excelize.Options{RawCellValue: true})); raw != "48.5" {
		t.Errorf("left out, the amount is %q", raw)
	}
	source := "name: fare\nlanguage: en\ntexts:\n  en: \"{abfahrt}, {preis}\"\n  fr: \"{abfahrt}, {preis}\"\n" +
		"fields:\n  abfahrt: {as: date}\n  preis: {as: money}\n"
	must[client.Template](t)(h.Client.PutTemplate(t.Context(), "fare", client.TemplateFile{Source: source}))
	one = upload(client.BatchWants{Template: "fare", Country: "GB", AtAnyHour: true})
	if one.Totals.Goes != 1 || !strings.HasPrefix(one.Totals.Random[0].Text, "3 déc. 2026, 1 048,50") ||
		!strings.HasSuffix(one.Totals.Random[0].Text, " EUR") {
		t.Errorf("by a template: %+v, %+v", one.Totals.Random, one.Totals.Left)
	}
}
