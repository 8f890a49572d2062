package sheet

import (
	"archive/zip"
	"bufio"
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"runtime"
	"strings"
	"testing"

	"calmpigeon.example/internal/core/vary"
)

// endless is a word n times over, between a beginning and an end.
func endless(begin, word string, n int, end string) io.Reader {
	return io.MultiReader(strings.NewReader(begin), &repeated{word: word, left: len(word) * n}, strings.NewReader(end))
}

type repeated struct {
	word     string
	at, left int
}

// Read gives the word again and again.
func (r *repeated) Read(p []byte) (int, error) {
	p = p[:min(len(p), r.left)]
	if len(p) == 0 {
		return 0, io.EOF
	}
	n := copy(p, r.word[r.at:])
	for n < len(p) && n >= len(r.word) {
		n += copy(p[n:], p[:n/len(r.word)*len(r.word)])
	}
	r.at, r.left = (r.at+n)%len(r.word), r.left-n
	return n, nil
}

// workbook packs parts; each is read from what makes it.
func workbook(t testing.TB, parts map[string]io.Reader) []byte {
	t.Helper()
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	whole := map[string]io.Reader{
		"_rels/.rels": strings.NewReader(
			`<Relationships><Relationship Id="a" Type="x/officeDocument" Target="xl/workbook.xml"/></Relationships>`),
		"xl/workbook.xml": strings.NewReader(
			`<workbook xmlns:r="r"><sheets><sheet name="List" sheetId="1" r:id="s"/></sheets></workbook>`),
		"xl/_rels/workbook.xml.rels": strings.NewReader(`<Relationships><Relationship Id="s" Type="x/worksheet" Target="sheet.xml"/>` +
			`<Relationship Id="t" Type="x/sharedStrings" Target="texts.xml"/></Relationships>`),
		"xl/sheet.xml": strings.NewReader(`<worksheet><sheetData><row><c t="inlineStr"><is><t>to</t></is></c></row>` +
			`<row><c t="s"><v>0</v></c></row></sheetData></worksheet>`),
		"xl/texts.xml": strings.NewReader(`<sst><si><t>+447700900123</t></si></sst>`),
	}
	for name, part := range parts {
		whole[name] = part
	}
	for name, part := range whole {
		if part == nil {
			continue
		}
		into, err := w.Create(name)
		if err == nil {
			_, err = io.CopyBuffer(struct{ io.Writer }{into}, struct{ io.Reader }{part}, make([]byte, 1<<17))
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

// Reading a row, a cell, a text or a part takes bounded memory, however long it is. The reader gives the rows
// beside it where it can tell them apart.
func TestWhatIsTooLongTakesLittle(t *testing.T) { // by itself: it looks at what the process allocates
	const long = 16 << 20
	book := func(name string, part io.Reader) io.Reader {
		return bytes.NewReader(workbook(t, map[string]io.Reader{name: part}))
	}
	const rows = `<worksheet><sheetData><row><c t="inlineStr"><is><t>to</t></is></c></row><row><c><v>1</v></c></row>`
	noise := rand.NewChaCha8([32]byte{1})
	const fine = ""
	for name, tt := range map[string]struct {
		source io.Reader
		rows   []string // what is wrong with each
		ends   string   // why it cannot be read further
	}{
		"a cell":           {endless("to\n1\n", "a", long, "\n2\n"), []string{fine, tooLong, fine}, ""},
		"a cell in quotes": {endless("to\n1\n\"", "a\n", long/2, "\"\n2\n"), []string{fine, tooLong, fine}, ""},
		"quotes in quotes": {endless("to\n1\n\"", `""`, long/2, "\"\n2\n3\n"), []string{fine, tooLong, fine, fine}, ""},
		"cells":            {endless("to\n1\n", "a,", long/2, "\n2\n"), []string{fine, tooLong, fine}, ""},
		"a quote that is not over": {endless("to\n1\n\"", "a,b\n", long/4, ""), []string{fine, tooLong},
			"line 3: a quote that begins there does not end"},
		"a quote in the way": {endless("to\n1\n\"", "a,b\n", long/4, "\"x\n"), []string{fine, tooLong},
			"line 3: a quote that begins there does not end"},
		"a line of JSON":      {endless("{\"to\":\"1\"}\n{\"to\":\"", "a", long, "\"}\n{\"to\":\"2\"}\n"), []string{fine, tooLong, fine}, ""},
		"an item of JSON":     {endless("[{\"to\":\"1\"},{\"to\":\"", "a", long, "\"}]"), []string{fine}, "item 2: " + tooLong},
		"white space in JSON": {endless("[{\"to\":\"1\"}", " ", long, "]"), []string{fine}, "item 2: " + tooLong},
		"a cell of a workbook": {
			book("xl/sheet.xml", endless(rows+`<row><c><v>`, "a", 8<<20, "</v></c></row></sheetData></worksheet>")),
			[]string{fine}, "row 3: " + errToken.Error(),
		},
		"a cell in pieces": {
			book("xl/sheet.xml", endless(rows+`<row><c><v>`, "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa<!-- -->", 300_000,
				"</v></c></row><row><c><v>2</v></c></row></sheetData></worksheet>")),
			[]string{fine, tooLong, fine}, "",
		},
		"cells of a workbook": {
			book("xl/sheet.xml", endless(rows+`<row>`, "<c/>", 1<<20, "</row></sheetData></worksheet>")),
			[]string{fine}, "row 3: it has more than 16384 cells",
		},
		"rows of a workbook": {
			book("xl/sheet.xml", endless(rows, "<row/>", 2<<20, "</sheetData></worksheet>")),
			[]string{fine}, "row 1048576: row 1048577 does not follow it",
		},
		"a part that nobody needs": {book("xl/media/image.png", io.LimitReader(noise, long)), []string{fine}, ""},
		"and one that is packed":   {book("docProps/app.xml", endless("", "a", 16*long, "")), []string{fine}, ""},
		"a text": {
			book("xl/texts.xml", endless("<sst><si><t>", "a", 8<<20, "</t></si></sst>")), nil,
			"the texts of the workbook: " + errToken.Error(),
		},
		"texts": {
			book("xl/texts.xml", endless("<sst>", "<si/>", 9<<20, "</sst>")), nil,
			"part xl/texts.xml of the workbook unpacks to more than a workbook of its size may have",
		},
		"a part about parts": {
			book("xl/_rels/workbook.xml.rels", endless("<Relationships>", "<a/>", 2<<20, "</Relationships>")), nil,
			"part xl/_rels/workbook.xml.rels of the workbook unpacks to more than a workbook of its size may have",
		},
		"a sheet that is a bomb": {
			book("xl/sheet.xml", endless(rows, " ", 16*long, "</sheetData></worksheet>")), nil,
			"part xl/sheet.xml of the workbook unpacks to more than a workbook of its size may have",
		},
	} {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		l, err := Open(tt.source, Hint{})
		var got []string
		if err == nil {
			for row, wrong := range l.Rows() {
				if err = wrong; err != nil {
					break
				}
				got = append(got, row.Wrong)
			}
			l.Close()
		}
		runtime.ReadMemStats(&after)
		if fmt.Sprint(got) != fmt.Sprint(tt.rows) {
			t.Errorf("%s: %.300q, want %q", name, got, tt.rows)
		}
		if tt.ends == "" && err != nil || tt.ends != "" && (!errors.Is(err, ErrList) || !strings.HasPrefix(err.Error(), tt.ends)) {
			t.Errorf("%s: %v, want %s", name, err, tt.ends)
		}
		most := uint64(32 << 20)
		if strings.Contains(name, "texts") || strings.Contains(name, "rows") { // many small ones, which are gone again
			most = 1 << 30
		}
		if took := after.TotalAlloc - before.TotalAlloc; took > most {
			t.Errorf("%s: it took %d MiB", name, took>>20)
		}
	}
}

// A workbook with more texts than may be is refused before they fill the memory.
func TestTextsAreCounted(t *testing.T) {
	t.Parallel()
	for n, want := range map[int]string{0: "", 1: fmt.Sprintf("the workbook has more than %d texts", textsOfBook)} {
		book := opened(t, workbook(t, map[string]io.Reader{"xl/texts.xml": endless("<sst>", "<si/>", 10+n, "</sst>")}))
		file, err := NewOpener(t.TempDir()).File()
		if err != nil {
			t.Fatal(err)
		}
		defer file.Close()
		texts := &sharedTexts{file: file, ends: make([]uint32, textsOfBook-10)}
		if err := texts.read(book.texts); (err != nil) != (want != "") || err != nil && !strings.HasPrefix(err.Error(), want) {
			t.Errorf("%d too many: %v", n, err)
		}
	}
}

// An archive whose directory is long is refused before it is read.
func TestLongDirectories(t *testing.T) {
	t.Parallel()
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for i := range 60_000 {
		if _, err := w.CreateHeader(&zip.FileHeader{Name: fmt.Sprint("xl/", i)}); err != nil {
			t.Fatal(err)
		}
	}
	w.Close()
	if _, err := Open(&out, Hint{}); !errors.Is(err, ErrList) || !strings.Contains(err.Error(), "directory is too long") {
		t.Error(err)
	}
}

// No more workbooks are read at the same time than may be, the others wait, and no more of them
// than may. One that comes slowly keeps nobody.
func TestWorkbooksTakeTurns(t *testing.T) {
	t.Parallel()
	source := workbook(t, nil)
	o := NewOpener(t.TempDir())
	slow, end := io.Pipe()
	defer end.Close()
	go end.Write(source[:100])
	go o.Open(t.Context(), slow, Hint{Format: XLSX})
	var first []*List
	for range booksAtOnce {
		l, err := o.Open(t.Context(), bytes.NewReader(source), Hint{})
		if err != nil {
			t.Fatal(err)
		}
		first = append(first, l)
	}
	opened := make(chan error)
	ctx, stop := context.WithCancel(t.Context())
	for i := range booksWaiting {
		ctx := map[bool]context.Context{true: ctx, false: t.Context()}[i == 0]
		go func() {
			l, err := o.Open(ctx, bytes.NewReader(source), Hint{})
			if err == nil {
				for _, wrong := range l.Rows() {
					err = errors.Join(err, wrong)
				}
				l.Close()
				l.Close() // again: it frees nobody else's turn
			}
			opened <- err
		}()
	}
	for { // until all of them wait
		if reading, waiting := o.Books(); reading == booksAtOnce && waiting == booksWaiting {
			break
		}
		runtime.Gosched()
	}
	if _, err := o.Open(t.Context(), bytes.NewReader(source), Hint{}); !errors.Is(err, ErrBusy) {
		t.Errorf("one too many: %v", err)
	}
	stop()
	if err := <-opened; !errors.Is(err, context.Canceled) {
		t.Errorf("one whose reader has gone: %v", err)
	}
	for _, l := range first {
		l.Close()
	}
	for range booksWaiting - 1 {
		if err := <-opened; err != nil {
			t.Error(err)
		}
	}
	if reading, waiting := o.Books(); reading != 0 || waiting != 0 {
		t.Errorf("%d are read and %d wait", reading, waiting)
	}
}

// Reading a workbook ends when the context of its reader does.
func TestReadingEndsWithItsReader(t *testing.T) {
	t.Parallel()
	var rows strings.Builder
	rows.WriteString("<worksheet><sheetData>")
	noise := rand.New(rand.NewPCG(1, 2))
	for range 200_000 {
		fmt.Fprintf(&rows, "<row><c><v>%d</v></c></row>", noise.Uint64())
	}
	source := workbook(t, map[string]io.Reader{"xl/sheet.xml": strings.NewReader(rows.String() + "</sheetData></worksheet>")})
	ctx, stop := context.WithCancel(t.Context())
	l, err := NewOpener("").Open(ctx, bytes.NewReader(source), Hint{})
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	stop()
	for _, wrong := range l.Rows() {
		err = wrong
	}
	if !errors.Is(err, context.Canceled) {
		t.Error(err)
	}
}

// The limiter changes only records that are too long, and finds the ends of records where csv.Reader does.
func TestRowLimiter(t *testing.T) {
	t.Parallel()
	pieces := []string{"a", ",", ";", "\n", "\r\n", "\r", `"`, `""`, "ä", "→", " "}
	noise := rand.New(rand.NewPCG(3, 4))
	for range 1500 {
		var source strings.Builder
		for range 1 + noise.IntN(30) {
			if noise.IntN(40) == 0 {
				source.WriteString(strings.Repeat(pieces[noise.IntN(2)], rowMost/2+noise.IntN(rowMost)))
			}
			source.WriteString(pieces[noise.IntN(len(pieces))])
		}
		comma := []rune{',', ';', '→'}[noise.IntN(3)]
		plain := csv.NewReader(strings.NewReader(source.String()))
		bounded := newRowLimiter(bufferOf(source.String(), 16+noise.IntN(1<<12)), comma, 0)
		cut := csv.NewReader(bounded)
		plain.Comma, plain.FieldsPerRecord, cut.Comma, cut.FieldsPerRecord = comma, -1, comma, -1
		wasCut, wasWrong := false, false
		for n := 0; ; n++ {
			want, wantErr := plain.Read()
			got, err := cut.Read()
			var parse *csv.ParseError
			isCut, line := false, 0
			switch {
			case errors.As(err, &parse):
				line, isCut = bounded.lineOf(parse.StartLine)
			case err == nil:
				at, _ := cut.FieldPos(0)
				line, isCut = bounded.lineOf(at)
			case errors.Is(err, ErrList):
				if !wasCut || !wasWrong {
					t.Fatalf("%.200q: %v, and without a bound %v", source.String(), err, wantErr)
				}
			}
			if errors.Is(err, ErrList) || err == io.EOF && wantErr == io.EOF {
				break
			}
			wasCut, wasWrong = isCut, errors.As(wantErr, &parse)
			wantLine := 0
			if errors.As(wantErr, &parse) {
				wantLine = parse.StartLine
			} else if wantErr == nil {
				wantLine, _ = plain.FieldPos(0)
			}
			size := len(strings.Join(want, ","))
			if line != wantLine || !isCut && (fmt.Sprint(got) != fmt.Sprint(want) || (err == nil) != (wantErr == nil) || size > rowMost) {
				t.Fatalf("%.200q: record %d is %.200q at line %d (%v), and without a bound %.200q at line %d (%v)",
					source.String(), n, got, line, err, want, wantLine, wantErr)
			}
		}
	}
}

func bufferOf(s string, size int) *bufio.Reader {
	return bufio.NewReaderSize(strings.NewReader(s), size)
}

// Reading a workbook ends, whatever its parts are. Each row follows the one before, and has as many cells as there
// are columns or says why not.
func FuzzWorkbook(f *testing.F) {
	seeds := []string{
		`<worksheet><sheetData><row r="1"><c t="inlineStr"><is><t>to</t></is></c><c t="s"><v>0</v></c></row>` +
			`<row r="3"><c r="B3" t="s"><v>1</v></c></row></sheetData></worksheet>` + "\x00" +
			`<sst><si><t>a_x0041_</t><rPh><t>b</t></rPh></si><si><r><t>c</t></r><r><t>d</t></r></si></sst>`,
		`<x:worksheet><x:sheetData><x:row><x:c r="ZZ1"><x:v>1E+11</x:v></x:c><x:c t="b"><x:v>1</x:v></x:c></x:row>` +
			"</x:sheetData></x:worksheet>\x00<sst/>",
	}
	vary.Of(f, 2000, seeds, func(s string) { f.Add([]byte(s)) })
	f.Fuzz(func(t *testing.T, source []byte) {
		sheet, texts, _ := bytes.Cut(source, []byte{0})
		l, err := Open(bytes.NewReader(workbook(t, map[string]io.Reader{
			"xl/sheet.xml": bytes.NewReader(sheet), "xl/texts.xml": bytes.NewReader(texts)})), Hint{})
		if err != nil {
			if !errors.Is(err, ErrList) {
				t.Fatalf("%q: %v", source, err)
			}
			return
		}
		defer l.Close()
		line := l.HeadLine
		for row, err := range l.Rows() {
			if err != nil {
				if !errors.Is(err, ErrList) {
					t.Fatalf("%q: %v", source, err)
				}
				break
			}
			if row.Line <= line || row.Wrong == "" && len(row.Cells) != len(l.Head()) {
				t.Fatalf("%q: %+v after line %d of %v", source, row, line, l.Head())
			}
			line = row.Line
		}
	})
}
