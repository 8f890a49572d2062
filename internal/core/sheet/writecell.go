package sheet

import (
	"archive/zip"
	"bufio"
	"bytes"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"
	"time"
	"unicode/utf16"
)

// writeCell writes a cell as what it is: a number, a time, an amount, a switch or text; nothing if it is empty. Styles that
// it needs are added to those that are given; nil: the workbook has none, and times are written as text.
func writeCell(w *bufio.Writer, at place, cell any, styles *styleTable) error {
	said := word(cell)
	if said == "" {
		return nil
	}
	switch c := cell.(type) {
	case json.Number, int, int64, float64:
		return writeNumber(w, at, said)
	case time.Time:
		if styles != nil {
			at.style = styles.of(momentFormat)
			return writeNumber(w, at, days(c.UTC()))
		}
	case Amount:
		if !amountForm.MatchString(c.Number) || !currencyForm.MatchString(c.Currency) { // somebody's own words
			return writeText(w, at, shortened(strings.TrimSpace(c.Number+" "+c.Currency)))
		}
		if styles != nil {
			at.style = styles.of(`#,##0.00####\ [$` + c.Currency + `]`)
		}
		return writeNumber(w, at, said)
	case bool:
		at.open(w, "b")
		held := map[bool]string{true: "1", false: "0"}[c]
		_, err := fmt.Fprintf(w, "<%[2]s>%[3]s</%[2]s></%[1]s>", qualified(at.prefix, "c"), qualified(at.prefix, "v"), held)
		return err
	case Shown:
		number := c.Held.Value
		if moment, ok := c.Held.Time(); ok {
			number = days(moment)
		}
		if number != "" && styles != nil {
			at.style = styles.of(c.Held.Format)
			return writeNumber(w, at, number)
		}
	}
	return writeText(w, at, shortened(said))
}

var (
	amountForm   = regexp.MustCompile(`^-?[0-9]{1,15}(\.[0-9]{1,9})?$`)
	currencyForm = regexp.MustCompile(`^[A-Z]{3}$`)
)

// momentFormat is the format of times that we write.
const momentFormat = `yyyy\-mm\-dd\ hh:mm:ss`

// place is where a cell is written, and in which style; 0: in none.
type place struct {
	prefix              string // of the names of elements; empty: none
	column, line, style int
}

// open writes the beginning of a cell.
func (p place) open(w *bufio.Writer, kind string) {
	fmt.Fprintf(w, `<%s r="%s"`, qualified(p.prefix, "c"), placeOf(p.column, p.line))
	if p.style > 0 {
		fmt.Fprintf(w, ` s="%d"`, p.style)
	}
	if kind != "" {
		fmt.Fprintf(w, ` t="%s"`, kind)
	}
	w.WriteByte('>')
}

// writeNumber writes a cell that holds a number.
func writeNumber(w *bufio.Writer, at place, number string) error {
	at.open(w, "")
	_, err := fmt.Fprintf(w, `<%[2]s>%[3]s</%[2]s></%[1]s>`, qualified(at.prefix, "c"), qualified(at.prefix, "v"), number)
	return err
}

// writeText writes a cell that holds text.
func writeText(w *bufio.Writer, at place, text string) error {
	is, t := qualified(at.prefix, "is"), qualified(at.prefix, "t")
	at.open(w, "inlineStr")
	fmt.Fprintf(w, `<%s><%s xml:space="preserve">`, is, t)
	if err := xml.EscapeText(w, []byte(escape(text))); err != nil {
		return err
	}
	_, err := fmt.Fprintf(w, "</%s></%s></%s>", t, is, qualified(at.prefix, "c"))
	return err
}

// days is a local time as a workbook holds it.
func days(at time.Time) string { return strconv.FormatFloat(serial(at), 'f', -1, 64) }

// shortened is as much of a text as a cell may hold.
func shortened(text string) string {
	if len(text) <= cellMost {
		return text
	}
	units := 0
	for i, r := range text {
		if units += utf16.RuneLen(r); units > cellMost {
			return text[:i]
		}
	}
	return text
}

// styleTable are the styles of cells that are added to a workbook, each for the code of a format.
type styleTable struct {
	before int // styles that there are
	ids    map[string]int
	codes  []string // in the order of their styles
}

const (
	// addedMost is how many formats are added at most; cells in others have none.
	addedMost = 4000
	// firstOwnFormat is the number of the first format that programs do not know by number.
	firstOwnFormat = 164
)

// of is the style of cells with a format; 0, which has none, for those that are shown as they are.
func (s *styleTable) of(code string) int {
	if code == "" || code == plainFormat.code {
		return 0
	}
	id, ok := s.ids[code]
	if !ok {
		if len(s.codes) == addedMost {
			return 0
		}
		if s.ids == nil {
			s.ids = map[string]int{}
		}
		id = s.before + len(s.codes)
		s.codes, s.ids[code] = append(s.codes, code), id
	}
	return id
}

// elements are the formats and the styles that are added; the first format has the number first.
func (s *styleTable) elements(prefix string, first int) (formats, cells string) {
	var codes, styles strings.Builder
	for i, code := range s.codes {
		fmt.Fprintf(&codes, `<%s numFmtId="%d" formatCode="`, qualified(prefix, "numFmt"), first+i)
		_ = xml.EscapeText(&codes, []byte(code)) // a builder takes everything
		codes.WriteString(`"/>`)
		fmt.Fprintf(&styles, `<%s numFmtId="%d" fontId="0" fillId="0" borderId="0" xfId="0" applyNumberFormat="1"/>`,
			qualified(prefix, "xf"), first+i)
	}
	return codes.String(), styles.String()
}

// counts are what a list says of how long it is: nothing needs it, and it would not be true.
var counts = regexp.MustCompile(` count=("[^"]*"|'[^']*')`)

// addTo writes the part of a workbook that has its styles, and adds those of the table.
func (s *styleTable) addTo(part *zip.File, is styleSheet, out io.Writer) error {
	file, err := unpack(part, stylesMost)
	if err != nil {
		return err
	}
	defer file.Close()
	first := firstOwnFormat
	for id := range is.codes {
		first = max(first, id+1)
	}
	w := bufio.NewWriterSize(out, 64<<10)
	var formats, cells string
	err = rewrite(file, w, "the styles of the workbook", func(token xml.Token, raw []byte) ([]byte, error) {
		switch t := token.(type) {
		case xml.StartElement:
			switch t.Name.Local {
			case "styleSheet":
				formats, cells = s.elements(t.Name.Space, first)
				if list := qualified(t.Name.Space, "numFmts"); !is.listed && formats != "" {
					raw = append(bytes.Clone(raw), "<"+list+">"+formats+"</"+list+">"...)
				}
			case "numFmts", "cellXfs":
				if raw = counts.ReplaceAll(raw, nil); bytes.HasSuffix(raw, []byte("/>")) { // a list of nothing
					raw = nil
				}
			}
		case xml.EndElement:
			added := ""
			switch {
			case t.Name.Local == "numFmts" && is.listed:
				added = formats
			case t.Name.Local == "cellXfs":
				added = cells
			}
			if _, err := w.WriteString(added); err != nil {
				return nil, err
			}
		}
		return raw, nil
	})
	if err != nil {
		return err
	}
	return w.Flush()
}
