package e2e

import (
	"bytes"
	"encoding/csv"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"calmpigeon.example/client"
)

// What a spreadsheet program of our day writes is read, in whatever locale and encoding it
// writes it, and what comes back is read by it: its cells and ours.
func TestSheetsOfAnOfficeProgram(t *testing.T) {
	t.Parallel()
	office, err := exec.LookPath("soffice")
	if err != nil {
		t.Skip("there is no office program here to write sheets; make sheets installs one and runs this")
	}
	folder := t.TempDir()
	convert := func(from, filter, extension string, options ...string) string {
		t.Helper()
		to := filepath.Join(folder, strings.NewReplacer(":", "", ",", "_", " ", "").Replace(filter))
		own := "-env:UserInstallation=file://" + filepath.Join(folder, "profile")
		out, err := exec.Command(office, append(append([]string{own, "--headless"}, options...),
			"--convert-to", filter, "--outdir", to, from)...).
			CombinedOutput()
		if err != nil {
			t.Fatalf("%s: %v\n%s", filter, err, out)
		}
		return filepath.Join(to, strings.TrimSuffix(filepath.Base(from), filepath.Ext(from))+"."+extension)
	}
	const n = 30
	source := filepath.Join(folder, "list.xlsx")
	if err := os.WriteFile(source, workbook(t, n), 0o600); err != nil {
		t.Fatal(err)
	}
	h := build(t).withHarbourline()
	rehearse := func(file string) client.Batch {
		t.Helper()
		list := must[[]byte](t)(os.ReadFile(file))
		one := must[client.Batch](t)(h.Client.NewBatch(t.Context(), client.BatchWants{Text: "Dear {Name}, {Fare}", Country: "GB"}))
		must[client.BatchAppended](
			t,
		)(
			h.Client.AppendRows(t.Context(), one.ID, bytes.NewReader(list), client.ListHint{File: filepath.Base(file), At: -1}),
		)
		return h.rehearsed(one.ID)
	}
	// Separator, quote, encoding, first line, columns, language, quote all, as shown.
	for filter, recognised := range map[string]string{
		"csv:Text - txt - csv (StarCalc):44,34,76,1,,1033,false,false":  "CSV with commas, in utf-8",
		"csv:Text - txt - csv (StarCalc):59,34,76,1,,1031,true,false":   "CSV with semicolons, in utf-8",
		"csv:Text - txt - csv (StarCalc):9,34,1,1,,1036,false,false":    "CSV with tabs, in windows-1252",
		"csv:Text - txt - csv (StarCalc):59,34,1,1,,1053,false,true":    "CSV with semicolons, in windows-1252",
		"csv:Text - txt - csv (StarCalc):59,34,65535,1,,1045,true,true": "CSV with semicolons, in utf-16",
		"xlsx": "XLSX, the sheet Sheet1 of 2, shown as in en-US",
	} {
		extension, _, _ := strings.Cut(filter, ":")
		one := rehearse(convert(source, filter, extension))
		if one.Recognised != recognised || one.Totals.Goes != n {
			t.Errorf("%s: %q, %d of %d go: %+v", filter, one.Recognised, one.Totals.Goes, n, one.Totals.Left)
		}
		row := must[client.List[client.BatchRow]](t)(h.Client.BatchRows(t.Context(), one.ID, "", "", "", 1)).Items[0]
		if row.To != "+447700900000" || row.Cells["Name"] != "Jörg 0" {
			t.Errorf("%s: %+v", filter, row)
		}
	}
	one := rehearse(filepath.Join(folder, "xlsx", "list.xlsx")) // its formulas have been worked out
	must[client.Batch](t)(h.Client.LaunchBatch(t.Context(), one.ID, client.Launch{Again: true}))
	one = h.batchWhen(one.ID, "it has come to its end", finished)
	for _, format := range []string{"xlsx", "csv"} {
		result := filepath.Join(folder, "result-of-"+format+"."+format)
		if err := os.WriteFile(result, h.result(one.ID, format), 0o600); err != nil {
			t.Fatal(err)
		}
		// Without a person it takes no notice of marks, and has to be told what a CSV is written in.
		read := must[[]byte](t)(os.ReadFile(convert(result, "csv:Text - txt - csv (StarCalc):44,34,76,1,,1033,false,true", "csv",
			map[string][]string{"csv": {"--infilter=CSV:44,34,76,1"}}[format]...)))
		rows := must[[][]string](t)(csv.NewReader(bytes.NewReader(read)).ReadAll())
		delivered := int64(0)
		for _, row := range rows[1:] {
			if row[4] == "delivered" {
				delivered++
			}
		}
		if len(rows) != n+1 || rows[0][4] != "pigeon state" || rows[3][1] != "Jörg 2" || delivered != one.Tally.States["delivered"] {
			t.Errorf("%s: %d rows, %d delivered of %s: %q", format, len(rows), delivered, one.Tally.Equation, rows[:min(len(rows), 3)])
		}
	}
}
