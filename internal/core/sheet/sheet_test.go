package sheet

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"calmpigeon.example/internal/core/vary"
)

func all(t *testing.T, l *List) (rows [][]string, wrong []string) {
	t.Helper()
	for row, err := range l.Rows() {
		if err != nil {
			t.Fatal(err)
		}
		rows = append(rows, row.Cells)
		if row.Wrong != "" {
			wrong = append(wrong, fmt.Sprintf("%d: %s", row.Line, row.Wrong))
		}
	}
	return rows, wrong
}

func encoded(t *testing.T, encode func([]byte) ([]byte, error), s string) string {
	t.Helper()
	b, err := encode([]byte(s))
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

// Whatever a list is written in is recognised and said, and its rows are the same.
func TestListsAreRecognised(t *testing.T) {
	t.Parallel()
	const plain = "Name;Telefon;Größe\r\nJürgen;+49 151 0000001;\"a \"\"b\"\"; c\"\r\n;;\r\nAnn;+447700900123;1,5\r\n"
	little := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().Bytes
	big := unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM).NewEncoder().Bytes
	long := strings.Repeat("Ann;+447700900123;1\r\n", 6000)
	for name, tt := range map[string]struct{ source, found string }{
		"UTF-8":                    {plain, "CSV with semicolons, in utf-8"},
		"UTF-8 with its mark":      {"\ufeff" + plain, "CSV with semicolons, in utf-8"},
		"windows-1252":             {encoded(t, charmap.Windows1252.NewEncoder().Bytes, plain), "CSV with semicolons, in windows-1252"},
		"UTF-16":                   {encoded(t, little, plain), "CSV with semicolons, in utf-16"},
		"UTF-16 without its mark":  {encoded(t, big, plain), "CSV with semicolons, in utf-16"},
		"with what separates said": {"sep=;\r\n" + plain, "CSV with semicolons, in utf-8"},
		"with lone CRs":            {strings.ReplaceAll(plain, "\r\n", "\r"), "CSV with semicolons, in utf-8"},
		"an end without a line":    {strings.TrimSuffix(plain, "\r\n"), "CSV with semicolons, in utf-8"},
	} {
		l, err := Open(strings.NewReader(tt.source), Hint{})
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		rows, wrong := all(t, l)
		if l.Found.String() != tt.found || !slices.Equal(l.Head(), []string{"Name", "Telefon", "Größe"}) || len(wrong) > 0 {
			t.Errorf("%s: %s, %v, %v", name, l.Found, l.Head(), wrong)
		}
		if got := fmt.Sprintf("%q", rows); got != `[["Jürgen" "+49 151 0000001" "a \"b\"; c"] ["" "" ""] ["Ann" "+447700900123" "1,5"]]` {
			t.Errorf("%s: %s", name, got)
		}
	}
	// What is no UTF-8 far behind the beginning is read all the same, and counted.
	l, err := Open(strings.NewReader("Name;Telefon;x\r\n"+long+"J\xfcrgen;+447700900123;1\r\n"), Hint{})
	if err != nil {
		t.Fatal(err)
	}
	rows, _ := all(t, l)
	if len(rows) != 6001 || rows[6000][0] != "Jürgen" || l.Mended != 1 {
		t.Errorf("%d rows, the last %q, %d mended", len(rows), rows[len(rows)-1], l.Mended)
	}
}

// Every row comes, and one whose cells cannot be told apart says why.
func TestNoRowIsPassedOver(t *testing.T) {
	t.Parallel()
	for name, tt := range map[string]struct {
		source string
		hint   Hint
		head   []string
		rows   string
		wrong  []string
	}{
		"tabs": {"to\tname\n+447700900123\tJo, Ann\n", Hint{}, []string{"to", "name"},
			`[["+447700900123" "Jo, Ann"]]`, nil},
		"commas within and one column": {"to\n+447700900123\n+447700900144\n", Hint{}, []string{"to"},
			`[["+447700900123"] ["+447700900144"]]`, nil},
		"no head": {"+447700900123,Jo\n+447700900144,Ann\n", Hint{}, []string{"column 1", "column 2"},
			`[["+447700900123" "Jo"] ["+447700900144" "Ann"]]`, nil},
		"cells missing, and empty ones too many": {"to,name\n+447700900123\n+447700900144,Ann,,\n", Hint{}, []string{"to", "name"},
			`[["+447700900123" ""] ["+447700900144" "Ann"]]`, nil},
		"a cell too many": {"to,name\n+447700900123,Jo,x\n+447700900144,Ann\n", Hint{}, []string{"to", "name"},
			`[["+447700900123" "Jo" "x"] ["+447700900144" "Ann"]]`, []string{"2: it has 3 cells, and there are 2 columns"}},
		"a quote within": {"to,name\n+447700900123,Jo \"x\" y\n+447700900144,Ann\n", Hint{}, []string{"to", "name"},
			`[[] ["+447700900144" "Ann"]]`, []string{"2: a quote stands where none may stand: one in a cell is written twice, in a cell in quotes"}},
		"names twice and none": {"to,,Name,name\n1,2,3,4\n", Hint{}, []string{"to", "column 2", "Name", "name 2"}, `[["1" "2" "3" "4"]]`, nil},
		"lines within":         {"to,text\n1,\"a\nb\"\n2,c\n", Hint{}, []string{"to", "text"}, `[["1" "a\nb"] ["2" "c"]]`, nil},
		"objects": {"{\"to\":\"+447700900123\",\"n\":1.50}\n{\"n\":null,\"extra\":[1]}\n", Hint{}, []string{"to", "n", "extra"},
			`[["+447700900123" "1.50" ""] ["" "" "[1]"]]`, nil},
		"a line that is none": {"{\"to\":\"1\"}\nnope\n\n[1]\n{\"to\":\"2\",\"x\":1}\n", Hint{}, []string{"to", "x"},
			`[["1" ""] ["" ""] ["" ""] ["2" "1"]]`, []string{"2: it is no JSON", "4: it is a list, and not an object"}},
		"a list of objects": {"[{\"to\":\"1\"},\n {\"to\":\"2\"}]", Hint{}, []string{"to"}, `[["1"] ["2"]]`, nil},
		"strings":           {"[\"+447700900123\", 447700900144]", Hint{}, []string{"to"}, `[["+447700900123"] ["447700900144"]]`, nil},
		"pasted": {"+447700900123, +447700900144;\n\n 07700 900101\n", Hint{Format: Pasted}, []string{"to"},
			`[["+447700900123"] ["+447700900144"] ["07700 900101"]]`, nil},
		"a head that is wanted": {"447700900123,447700900144\n1,2\n", Hint{Head: new(true)}, []string{"447700900123", "447700900144"},
			`[["1" "2"]]`, nil},
	} {
		l, err := Open(strings.NewReader(tt.source), tt.hint)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		rows, wrong := all(t, l)
		if got := fmt.Sprintf("%q", rows); !slices.Equal(l.Head(), tt.head) || got != tt.rows || !slices.Equal(wrong, tt.wrong) {
			t.Errorf("%s: %q %s %q", name, l.Head(), got, wrong)
		}
	}
	for name, source := range map[string]string{
		"nothing":             "",
		"white space":         " \r\n\t\n",
		"a quote without end": "to,name\n1,\"Jo\n2,Ann\n3,Bo\n",
		"no workbook":         "PK\x03\x04 and then nothing",
		"no object":           "{}\n",
		"a list cut":          "[{\"to\":\"1\"},{\"to\":",
		"too many columns":    strings.Repeat("a,", 300) + "\n",
	} {
		l, err := Open(strings.NewReader(source), Hint{})
		if err == nil {
			for _, failed := range l.Rows() {
				err = failed
			}
		}
		if !errors.Is(err, ErrList) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// Open refuses delimiters that CSV cannot have, as an error of the list.
func TestDelimiters(t *testing.T) {
	t.Parallel()
	for _, comma := range []rune{'"', '\r', '\n', '\ufffd', 0xd800, -1} {
		if _, err := Open(strings.NewReader("to,name\n1,2\n"), Hint{Delimiter: comma}); !errors.Is(err, ErrList) {
			t.Errorf("%q: %v", comma, err)
		}
	}
	if l, err := Open(strings.NewReader("to→name\n1→2\n"), Hint{Delimiter: '→'}); err != nil || len(l.Head()) != 2 {
		t.Errorf("%v, %v", l, err)
	}
}

// Whole numbers without a format come as they are held: they may be telephone numbers.
func TestWorkbooks(t *testing.T) {
	t.Parallel()
	file := excelize.NewFile()
	defer file.Close()
	file.SetSheetRow("Sheet1", "A1", &[]any{"Telefon", "Name", "Sent"})
	file.SetSheetRow("Sheet1", "A2", &[]any{447700900123, "Jürgen", 45978.319})
	file.SetSheetRow("Sheet1", "A4", &[]any{"07700 900144", "", true})
	file.SetCellFloat("Sheet1", "A5", 4.47700900101e11, -1, 64)
	file.SetCellStr("Sheet1", "A6", "4.47701E+11")
	if _, err := file.NewSheet("Other"); err != nil {
		t.Fatal(err)
	}
	file.SetSheetRow("Other", "A1", &[]any{"to"})
	file.SetSheetRow("Other", "A2", &[]any{"+447700900101"})
	var packed bytes.Buffer
	if err := file.Write(&packed); err != nil {
		t.Fatal(err)
	}
	l, err := Open(bytes.NewReader(packed.Bytes()), Hint{})
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	rows, _ := all(t, l)
	if got := fmt.Sprintf("%q", rows); l.Found.String() != "XLSX, the sheet Sheet1 of 2, shown as in en" ||
		got != `[["447700900123" "Jürgen" "45978.319"] ["07700 900144" "" "TRUE"] ["447700900101" "" ""] ["4.47701E+11" "" ""]]` {
		t.Errorf("%s: %s", l.Found, got)
	}
	other, err := Open(bytes.NewReader(packed.Bytes()), Hint{Sheet: "Other"})
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	if rows, _ := all(t, other); fmt.Sprint(rows) != "[[+447700900101]]" {
		t.Errorf("the other sheet: %q", rows)
	}
	if _, err := Open(bytes.NewReader(packed.Bytes()), Hint{Sheet: "Third"}); err == nil ||
		!strings.Contains(err.Error(), "there are Sheet1, Other") {
		t.Errorf("a sheet that there is not: %v", err)
	}
}

func TestColumnsAreRecognised(t *testing.T) {
	t.Parallel()
	for name, tt := range map[string]struct {
		head  []string
		first [][]string
		roles string
	}{
		"English": {[]string{"Customer No.", "First name", "Mobile", "Country", "Lang", "Berth"},
			[][]string{{"C-1", "Jo", "07700 900123", "GB", "en", "3"}}, "reference name to country language -"},
		"German": {[]string{"Kundennummer", "Vorname", "Handynummer", "Land", "Sprache", "Zeitpunkt"},
			[][]string{{"1", "Jo", "0151 0000001", "DE", "de", "15.11.2026 07:40"}}, "reference name to country language at"},
		"French": {[]string{"Nom", "Numéro de téléphone", "Pays", "Message"},
			[][]string{{"Jo", "06 39 98 00 12", "FR", "Bonjour"}}, "name to country text"},
		"Greek": {[]string{"Όνομα", "Κινητό", "Γλώσσα"},
			[][]string{{"Νίκος", "+306900000000", "el"}}, "name to language"},
		"Turkish": {[]string{"Ad Soyad", "Cep Telefonu", "Ülke"},
			[][]string{{"Ayşe", "+905000000000", "TR"}}, "name to country"},
		"Polish": {[]string{"Imię", "Numer telefonu", "Treść"},
			[][]string{{"Ola", "+48500000000", "Cześć"}}, "name to text"},
		"Hindi": {[]string{"नाम", "मोबाइल नंबर"},
			[][]string{{"आशा", "+919876543210"}}, "name to"},
		"by content":               {[]string{"a", "b", "c"}, [][]string{{"Jo", "+447700900123", "GB"}, {"Ann", "", "IE"}}, "- to country"},
		"a name that is misled":    {[]string{"Number", "Phone"}, [][]string{{"A", "+447700900123"}, {"B", "+447700900144"}}, "- to"},
		"two numbers":              {[]string{"Telephone (home)", "Mobile"}, [][]string{{"020 7946 0123", "07700 900123"}}, "- to"},
		"countries by name":        {[]string{"x", "to"}, [][]string{{"Germany", "+491510000001"}, {"Greece", "+306900000000"}}, "country to"},
		"an order is no telephone": {[]string{"order", "phone"}, [][]string{{"1234567890", "+447700900123"}}, "reference to"},
		"names like countries":     {[]string{"x", "to"}, [][]string{{"Jo", "+447700900123"}, {"Bo", "+447700900144"}, {"Al", ""}}, "- to"},
		"a name says what it is":   {[]string{"name", "to"}, [][]string{{"GB", "+447700900123"}}, "name to"},
		"nothing of it":            {[]string{"a", "b"}, nil, "- -"},
	} {
		var roles []string
		fields := map[string]bool{}
		for _, c := range Recognise(tt.head, tt.first, "GB") {
			role := string(c.Role)
			if role == "" {
				role = "-"
			}
			roles = append(roles, role)
			if c.Field == "" || fields[c.Field] || c.Role != "" && c.Why == "" {
				t.Errorf("%s: %+v", name, c)
			}
			fields[c.Field] = true
		}
		if got := strings.Join(roles, " "); got != tt.roles {
			t.Errorf("%s: %q is taken for %s, want %s", name, tt.head, got, tt.roles)
		}
	}
}

func TestFields(t *testing.T) {
	t.Parallel()
	taken := map[string]bool{}
	for i, want := range []string{"first_name", "first_name_2", "column_3", "column_4_2nd_line", "grosse"} {
		given := []string{"First name", "first-name", "नाम", "2nd line", "Größe"}[i]
		if got := fieldOf(given, i, taken); got != want && !(given == "Größe" && got == "groe") {
			t.Errorf("%q is %s, want %s", given, got, want)
		}
	}
}

func TestParseTime(t *testing.T) {
	t.Parallel()
	for given, want := range map[string]string{
		"2026-11-15 07:40": "2026-11-15 07:40:00", "15.11.2026 07:40": "2026-11-15 07:40:00", "15/11/2026": "2026-11-15 00:00:00",
		"45978.31944444444": "2025-11-17 07:40:00", "soon": "", "447700900123": "", "45978": "", "31/31/2026": "",
	} {
		at, ok := ParseTime(given)
		got := ""
		if ok {
			got = at.Format("2006-01-02 15:04:05")
		}
		if got != want {
			t.Errorf("%q is %q, want %q", given, got, want)
		}
	}
}

// Whatever a list is, reading it ends, and each of its rows has as many cells as there
// are columns or says why not.
func FuzzOpen(f *testing.F) {
	seeds := []string{
		"to,name\n+447700900123,Jo\n\"a\nb\",x\n",
		"sep=;\na;b\n1;\"2\"\n",
		"{\"to\":\"1\",\"n\":[1]}\n{\"to\":null}\n",
		"[{\"to\":\"1\"},\"2\"]",
		"\xff\xfea\x00;\x00b\x00\n\x00",
		"PK\x03\x04",
	}
	vary.Of(f, 5000, seeds, func(s string) { f.Add([]byte(s)) })
	f.Fuzz(func(t *testing.T, source []byte) {
		l, err := Open(bytes.NewReader(source), Hint{})
		if err != nil {
			if !errors.Is(err, ErrList) {
				t.Fatalf("%q: %v", source, err)
			}
			return
		}
		defer l.Close()
		n := 0
		var first [][]string
		for row, err := range l.Rows() {
			if err != nil {
				if !errors.Is(err, ErrList) {
					t.Fatalf("%q: %v", source, err)
				}
				break
			}
			if n++; row.N != n || row.Wrong == "" && len(row.Cells) != len(l.Head()) || n > len(source)+1 {
				t.Fatalf("%q: %+v of %v", source, row, l.Head())
			}
			first = append(first, row.Cells)
		}
		Recognise(l.Head(), first, "GB")
	})
}

var _ io.Reader = (*mending)(nil)

func BenchmarkCSV(b *testing.B) {
	var source strings.Builder
	source.WriteString("Telefon;Name;Berth\r\n")
	for i := range 100_000 {
		fmt.Fprintf(&source, "+447700%06d;Jürgen %d;%d\r\n", i, i, i%9)
	}
	b.ReportAllocs()
	for b.Loop() {
		l, err := Open(strings.NewReader(source.String()), Hint{})
		if err != nil {
			b.Fatal(err)
		}
		n := 0
		for _, err := range l.Rows() {
			if err != nil {
				b.Fatal(err)
			}
			n++
		}
		if n != 100_000 {
			b.Fatalf("%d rows", n)
		}
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/100_000, "ns/row")
}

func BenchmarkXLSX(b *testing.B) {
	const rows = 20_000
	file := excelize.NewFile()
	w, err := file.NewStreamWriter("Sheet1")
	if err != nil {
		b.Fatal(err)
	}
	for i := range rows {
		w.SetRow(fmt.Sprintf("A%d", i+1), []any{447700000000 + i, "Jürgen", i % 9})
	}
	w.Flush()
	var packed bytes.Buffer
	if err := file.Write(&packed); err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		l, err := Open(bytes.NewReader(packed.Bytes()), Hint{})
		if err != nil {
			b.Fatal(err)
		}
		n := 0
		for range l.Rows() {
			n++
		}
		if l.Close(); n != rows {
			b.Fatalf("%d rows", n)
		}
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/rows, "ns/row")
}
