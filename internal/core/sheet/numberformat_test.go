package sheet

import (
	"fmt"
	"math"
	"strings"
	"testing"

	"calmpigeon.example/internal/core/locale"
)

// Cells are shown as spreadsheet programs show them. `make sheets` holds the same against one.
func TestNumberFormats(t *testing.T) {
	t.Parallel()
	const moment = 46359.375 // 2026-12-03, 09:00
	for _, tt := range []struct {
		code string
		n    float64
		in   string
		want string
	}{
		{"General", 48.5, "en", "48.5"},
		{"General", 48.5, "de", "48,5"},
		{"General", 0.1 + 0.2, "en", "0.3"},
		{"General", 447700900123, "en", "447700900123"},
		{"General", -12, "de", "-12"},
		{"General", 1.0 / 3, "en", "0.333333333"},
		{"General", 123456.789012, "en", "123456.789"},
		{"0", 2.5, "en", "3"},
		{"0", -0.5, "en", "-1"},
		{"0", -0.4, "en", "0"},
		{"0.00", 2.675, "en", "2.68"},
		{"0.00", 48.5, "de", "48,50"},
		{"#,##0.00", 1234567.891, "en", "1,234,567.89"},
		{"#,##0.00", 1234567.891, "de", "1.234.567,89"},
		{"#,##0.00", 1234567.891, "fr", "1 234 567,89"},
		{"#,##0", 999, "en", "999"},
		{"#,##0", 999.5, "en", "1,000"},
		{"#", 0, "en", ""},
		{"0.##", 5, "en", "5."},
		{"0.0#", 5.25, "en", "5.25"},
		{"0.0#", 5.2, "en", "5.2"},
		{"00000", 42, "en", "00042"},
		{"0000000000", 7700900123, "en", "7700900123"},
		{"00000000000", 7700900123, "en", "07700900123"},
		{"+##############", 447700900123, "en", "+447700900123"},
		{"00000 000000", 7700900123, "en", "07700 900123"},
		{"000-00-0000", 123456789, "en", "123-45-6789"},
		{"0,", 1234567, "en", "1235"},
		{"0.0,,", 1234567, "en", "1.2"},
		{`#,##0.00 "€"`, 48.5, "de", "48,50 €"},
		{`#,##0.00\ [$€-407]`, 48.5, "de", "48,50 €"},
		{`[$£-809]#,##0.00`, 48.5, "en", "£48.50"},
		{`[$$-409]#,##0.00;[RED]-[$$-409]#,##0.00`, -48.5, "en-US", "-$48.50"},
		{`_-* #,##0.00\ "€"_-;\-* #,##0.00\ "€"_-;_-* "-"??\ "€"_-;_-@_-`, 1048.5, "de", "1.048,50 €"},
		{`_-* #,##0.00\ "€"_-;\-* #,##0.00\ "€"_-;_-* "-"??\ "€"_-;_-@_-`, 0, "de", "-   €"},
		{`_-* #,##0.00\ "€"_-;\-* #,##0.00\ "€"_-;_-* "-"??\ "€"_-;_-@_-`, -3, "de", "-3,00 €"},
		{"#,##0.00;(#,##0.00)", -7, "en", "(7.00)"},
		{"0%", 0.125, "en", "13%"},
		{"0.00%", 0.125, "de", "12,50%"},
		{"0.00E+00", 12345.678, "en", "1.23E+04"},
		{"##0.0E+0", 12345.678, "en", "12.3E+3"},
		{"0.00E+00", 0.00012, "en", "1.20E-04"},
		{"0.00E-00", 99999, "en", "1.00E05"},
		{"# ?/?", 1.25, "en", "1 1/4"},
		{"# ??/??", 0.3125, "en", "5/16"},
		{"# ?/8", 1.5, "en", "1 4/8"},
		{"?/?", 1.5, "en", "3/2"},
		{"0;;", -5, "en", ""},
		{`[<100]0" small";0" large"`, 5, "en", "5 small"},
		{`[<100]0" small";0" large"`, 500, "en", "500 large"},
		{`[<=9999999]000\-0000;\(000\)\ 000\-0000`, 2025550117, "en-US", "(202) 555-0117"},
		{`0" kg"`, 12, "en", "12 kg"},
		{`General" kg"`, 12.5, "de", "12,5 kg"},
		{`"Gate "0`, 7, "en", "Gate 7"},
		{"dd/mm/yyyy", moment, "en", "03/12/2026"},
		{`dd\.mm\.yyyy`, moment, "de", "03.12.2026"},
		{"dd/mm/yyyy hh:mm", moment, "en", "03/12/2026 09:00"},
		{"dd/mm/yyyy", moment, "de", "03.12.2026"},
		{`dd\/mm\/yyyy`, moment, "de", "03/12/2026"},
		{"[h]:mm", 1234567.891, "en", "29629629:23"},
		{"d-mmm-yy", moment, "en", "3-Dec-26"},
		{"d. mmmm yyyy", moment, "de", "3. Dezember 2026"},
		{"[$-407]d. mmmm yyyy", moment, "en", "3. Dezember 2026"},
		{"[$-de-DE]dddd", moment, "en", "Donnerstag"},
		{"[$-409]dddd, mmmm dd, yyyy", moment, "de", "Thursday, December 03, 2026"},
		{"ddd d mmm", moment, "fr", "jeu. 3 déc."},
		{"h:mm AM/PM", moment, "en", "9:00 AM"},
		{"hh:mm:ss", 0.7715393518, "en", "18:31:01"},
		{"h:mm", 0.9999999, "en", "0:00"},
		{"[h]:mm", 1.5, "en", "36:00"},
		{"[mm]:ss", 0.0625, "en", "90:00"},
		{"mm:ss.0", 0.0000266204, "en", "00:02.3"},
		{"yyyy-mm-dd", 59, "en", "1900-02-28"},
		{"yyyy", -1, "en", "-1"},
		{`dd" of "mmmm`, moment, "en", "03 of December"},
		{"hh\"h\"mm", moment, "fr", "09h00"},
	} {
		if got := parseFormat(tt.code).show(tt.n, locale.Of(tt.in), false); got != tt.want {
			t.Errorf("%q, %v in %s: %q, want %q", tt.code, tt.n, tt.in, got, tt.want)
		}
	}
	for _, tt := range []struct{ code, value, want string }{
		{"@", "Ely", "Ely"},
		{`0;-0;0;"Mr "@`, "Ely", "Mr Ely"},
		{"0.00", "Ely", "Ely"},
		{`@" pier"`, "Ely", "Ely pier"},
	} {
		if got := parseFormat(tt.code).text(tt.value); got != tt.want {
			t.Errorf("%q, %q: %q, want %q", tt.code, tt.value, got, tt.want)
		}
	}
	if got := parseFormat("yyyy-mm-dd").show(0, locale.Of("en"), true); got != "1904-01-01" {
		t.Errorf("counted from 1904: %s", got)
	}
}

// Every format that workbooks name by number alone shows something in every locale.
func TestBuiltInFormats(t *testing.T) {
	t.Parallel()
	for _, tag := range locale.Tags() {
		in := locale.Of(tag)
		for id := range 59 {
			f := parseFormat(builtInOf(id, in))
			for _, n := range []float64{46359.375, 0.375, 48.5} {
				if got := f.show(n, in, false); got == "" || strings.ContainsAny(got, `"\[]#?`) {
					t.Errorf("%d in %s, %v: %q", id, tag, n, got)
				}
			}
		}
	}
	for tag, want := range map[string]string{"en": "03/12/2026", "en-US": "12/3/2026", "de": "03.12.2026",
		"fr": "03/12/2026", "sv": "2026-12-03"} {
		in := locale.Of(tag)
		if got := parseFormat(builtInOf(14, in)).show(46359, in, false); got != want {
			t.Errorf("a date in %s: %q, want %q", tag, got, want)
		}
	}
}

// Whatever a workbook has as a format or a number, it is shown, and nothing breaks.
func FuzzNumberFormat(f *testing.F) {
	for _, code := range []string{"#,##0.00;[RED]-0%", "[h]:mm:ss.000", "# ??/16", "##0.0E+0", `[<1]"a"@;[$€-407]0,,`, "m/d/yy AM/PM"} {
		f.Add(code, 46359.375)
	}
	f.Fuzz(func(t *testing.T, code string, n float64) {
		if math.IsNaN(n) || math.IsInf(n, 0) {
			return
		}
		format := parseFormat(code)
		if shown := format.show(n, locale.Of("de"), false); len(shown) > 64*(len(code)+40) {
			t.Errorf("%q, %v: %d octets", code, n, len(shown))
		}
		format.text(fmt.Sprint(n))
		Held{fmt.Sprint(n), code}.Amount()
	})
}
