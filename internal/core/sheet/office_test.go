package sheet

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"

	"calmpigeon.example/internal/core/locale"
)

// Cells are shown as a spreadsheet program of our day shows them: every format that it knows by number, and many that
// people make themselves, in four locales.
func TestCellsOfAnOfficeProgram(t *testing.T) {
	t.Parallel()
	office, err := exec.LookPath("soffice")
	if err != nil {
		t.Skip("there is no office program here to show cells; make sheets installs one and runs this")
	}
	custom := []string{
		"0.0", "00000", "+##############", "00000 000000", "000-00-0000", `#,##0.00 "€"`, `#,##0.00\ [$€-407]`, `[$£-809]#,##0.00`,
		`[$CHF]\ #,##0.00`, "0.0%", "0.00E+00", "# ?/?", "# ?/8", `[<100]0" small";0" large"`, `0" kg"`, `General" kg"`, "yyyy-mm-dd",
		"dd/mm/yyyy hh:mm", `dd\.mm\.yyyy`, "d-mmm-yy", "d. mmmm yyyy", "[$-407]d. mmmm yyyy", "[$-409]dddd, mmmm dd, yyyy", "ddd d mmm",
		"hh:mm:ss", "[h]:mm", "h:mm AM/PM", "#,##0.00;(#,##0.00)", "0,", "#", "0.##", `"Gate "0`,
	}
	numbers := []float64{0, 48.5, -48.5, 0.125, 1234567.891, 46359, 46359.375, 46082.7715393518, 0.375, 7_700_900_123}
	file := excelize.NewFile()
	defer file.Close()
	var names []string
	row := func(name string, style excelize.Style) {
		id, err := file.NewStyle(&style)
		if err != nil {
			t.Fatal(err)
		}
		names = append(names, name)
		for i, n := range numbers {
			at := placeOf(i+1, len(names)+1)
			file.SetCellFloat("Sheet1", at, n, -1, 64)
			file.SetCellStyle("Sheet1", at, at, id)
		}
	}
	file.SetSheetRow("Sheet1", "A1", &[]any{"a", "b", "c", "d", "e", "f", "g", "h", "i", "j"})
	for _, id := range []int{0, 1, 2, 3, 4, 9, 10, 11, 12, 13, 14, 15, 16, 17, 18, 19, 20, 21, 22, 37, 38, 39, 40, 45, 46, 47, 48, 49} {
		row(fmt.Sprint(id), excelize.Style{NumFmt: id})
	}
	for _, code := range custom {
		row(code, excelize.Style{CustomNumFmt: &code})
	}
	file.SetColWidth("Sheet1", "A", "J", 60)
	folder := t.TempDir()
	source := filepath.Join(folder, "cells.xlsx")
	if err := file.SaveAs(source); err != nil {
		t.Fatal(err)
	}
	packed, err := os.ReadFile(source)
	if err != nil {
		t.Fatal(err)
	}
	for _, tag := range []string{"en-GB", "en-US", "de-DE", "fr-FR"} {
		profile := filepath.Join(folder, "profile-"+tag)
		if err := os.MkdirAll(filepath.Join(profile, "user"), 0o700); err != nil {
			t.Fatal(err)
		}
		settings := `<?xml version="1.0" encoding="UTF-8"?><oor:items xmlns:oor="http://openoffice.org/2001/registry">` +
			`<item oor:path="/org.openoffice.Setup/L10N"><prop oor:name="ooSetupSystemLocale" oor:op="fuse"><value>` + tag +
			`</value></prop></item></oor:items>`
		if err := os.WriteFile(filepath.Join(profile, "user", "registrymodifications.xcu"), []byte(settings), 0o600); err != nil {
			t.Fatal(err)
		}
		out, err := exec.Command(office, "-env:UserInstallation=file://"+profile, "--headless", "--convert-to",
			"csv:Text - txt - csv (StarCalc):44,34,76,1,,0,true,true", "--outdir", profile, source).CombinedOutput()
		if err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
		written, err := os.ReadFile(filepath.Join(profile, "cells.csv"))
		if err != nil {
			t.Fatal(err)
		}
		shown, err := csv.NewReader(bytes.NewReader(written)).ReadAll()
		if err != nil {
			t.Fatal(err)
		}
		l, err := Open(bytes.NewReader(packed), Hint{Locale: tag})
		if err != nil {
			t.Fatal(err)
		}
		rows, _ := all(t, l)
		for i, name := range names {
			for j, n := range numbers {
				ours, theirs := rows[i][j], strings.Join(strings.FieldsFunc(shown[i+1][j], func(r rune) bool {
					return strings.ContainsRune(" \u00a0\u202f", r)
				}), " ")
				if ours != theirs && !differently(tag, name, n, theirs) {
					t.Errorf("%s, %s, %v: %q, and the office program shows %q", tag, name, n, ours, theirs)
				}
			}
		}
		l.Close()
	}
}

// differently reports whether programs show a number differently, and we follow those that most people have.
func differently(tag, name string, n float64, theirs string) bool {
	code := name
	if id, err := strconv.Atoi(name); err == nil {
		code = builtInOf(id, locale.Of(tag))
	}
	english := strings.HasPrefix(tag, "en")
	switch {
	case strings.Contains(theirs, "#FMT"), parseFormat(code).isMoment(n) && (n < 61 || n > 3e6): // no date, or one that differs by a day
		return true
	case strings.HasPrefix(code, "General") || code == "@": // shown with as many digits as there is room for
		return len(theirs) > 11
	case strings.HasSuffix(code, "%") && (name == "9" || name == "10"): // with a space before the sign
		return !english
	case strings.HasSuffix(code, "AM/PM"): // in words
		return !english
	}
	return code == "0.##" // without the point
}
