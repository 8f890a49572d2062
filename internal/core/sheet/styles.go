package sheet

import (
	"bytes"
	"encoding/xml"
	"io"
	"math"
	"strconv"
	"strings"
	"time"

	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/locale"
)

// The bounds of the styles of a workbook.
const (
	stylesMost  = 16 << 20 // octets, unpacked
	stylesCount = 1 << 17  // cell formats; programs allow 65,490
)

// bookStyles are how the cells of a workbook are shown.
type bookStyles struct {
	formats   []*numberFormat // by the style of a cell
	locale    *locale.Locale
	epoch1904 bool
}

// builtIn are the formats that every program knows by number and no workbook spells out (ISO/IEC 29500-1, 18.8.30).
// Those in the form of a country are in [builtInOf].
var builtIn = map[int]string{
	0: "General", 1: "0", 2: "0.00", 3: "#,##0", 4: "#,##0.00", 9: "0%", 10: "0.00%", 11: "0.00E+00", 12: "# ?/?", 13: "# ??/??",
	18: "h:mm AM/PM", 19: "h:mm:ss AM/PM",
	41: "#,##0;-#,##0;\"-\"", 43: "#,##0.00;-#,##0.00;\"-\"??",
	45: "mm:ss", 46: "[h]:mm:ss", 47: "mm:ss.0", 48: "##0.0E+0", 49: "@",
}

// builtInOf is a format that every program knows by number, as the country of a locale has it.
func builtInOf(id int, in *locale.Locale) string {
	if code, ok := builtIn[id]; ok {
		return code
	}
	accounts := func(number string) string { // negative amounts stand in brackets where accounts are kept in dollars
		if in.Tag == "en-US" {
			return number + "_);(" + number + ")"
		}
		return number + ";-" + number
	}
	amount := func(number string) string {
		sign, before := in.Currency()
		if before {
			return `"` + sign + `"` + number
		}
		return number + ` "` + sign + `"`
	}
	hour, day, between := "hh", "dd", "-" // of times of day, and of days with the name of their month
	switch in.Tag {
	case "en-US":
		hour, day = "h", "d"
	case "de":
		day, between = `dd\.`, " "
	}
	switch {
	case id == 15:
		return day + between + "mmm" + between + "yy"
	case id == 16:
		return day + between + "mmm"
	case id == 17:
		return "mmm" + between + "yy"
	case id == 20:
		return hour + ":mm"
	case id == 21:
		return hour + ":mm:ss"
	case id == 37 || id == 38:
		return accounts("#,##0")
	case id == 39 || id == 40:
		return accounts("#,##0.00")
	case id == 5 || id == 6:
		return amount("#,##0") + ";-" + amount("#,##0")
	case id == 7 || id == 8:
		return amount("#,##0.00") + ";-" + amount("#,##0.00")
	case id == 42:
		return amount("#,##0") + ";-" + amount("#,##0") + ";" + amount(`"-"`)
	case id == 44:
		return amount("#,##0.00") + ";-" + amount("#,##0.00") + ";" + amount(`"-"??`)
	case id == 22:
		return shortDate(in) + " " + hour + ":mm"
	case id == 14, id >= 27 && id <= 31, id == 36, id >= 50 && id <= 54, id == 57 || id == 58:
		return shortDate(in)
	case id >= 32 && id <= 35, id == 55 || id == 56:
		return "h:mm"
	}
	return builtIn[0]
}

// shortDate is the code of a date in figures. What stands between them is no letter of a code, but for what the
// locale has there itself.
func shortDate(in *locale.Locale) string {
	layout := in.ShortDate(time.Date(2006, 1, 2, 0, 0, 0, 0, time.UTC))
	return strings.NewReplacer("2006", "yyyy", "01", "mm", "02", "dd", "1", "m", "2", "d", ".", `\.`, "/", `\/`).Replace(layout)
}

// styles reads how cells are shown. They are shown in the conventions of the locale that is given; if none is, in
// those of the language of the workbook, or of the one that its formats name most often; otherwise is for a workbook
// that names none.
func (b *Book) styles(given, otherwise *locale.Locale) (*bookStyles, error) {
	s := &bookStyles{epoch1904: b.epoch1904, locale: given}
	is, err := b.readStyles()
	if err != nil {
		return nil, err
	}
	if s.locale == nil && b.language != "" {
		s.locale, _ = locale.Find(b.language)
	}
	if s.locale == nil {
		s.locale = localeOf(is.codes)
	}
	if s.locale == nil {
		s.locale = otherwise
	}
	read := map[int]*numberFormat{}
	for _, id := range is.cells {
		if read[id] == nil {
			code, ok := is.codes[id]
			if !ok {
				code = builtInOf(id, s.locale)
			}
			read[id] = parseFormat(code)
		}
		s.formats = append(s.formats, read[id])
	}
	return s, nil
}

// stylesFor reads the styles of a workbook, as is known beforehand of its locale.
func (b *Book) stylesFor(hint Hint) (*bookStyles, error) {
	var given *locale.Locale
	if hint.Locale != "" {
		var ok bool
		if given, ok = locale.Find(hint.Locale); !ok {
			return nil, fault.Because(ErrList, "locale %.40q: it is not known; accepted: %s", hint.Locale, strings.Join(locale.Tags(), ", "))
		}
	}
	otherwise, ok := locale.OfCountry(hint.Country)
	if !ok {
		otherwise = locale.Of("en")
	}
	return b.styles(given, otherwise)
}

// text is a text that a cell of a style holds, as it is shown.
func (s *bookStyles) text(value string, style int) string {
	if style < 0 || style >= len(s.formats) {
		return value
	}
	return s.formats[style].text(value)
}

// localeOf is the locale that most of the formats of a workbook name; nil if none does.
func localeOf(codes map[int]string) *locale.Locale {
	count := map[*locale.Locale]int{}
	var most *locale.Locale
	for _, code := range codes {
		for _, section := range parseFormat(code).sections {
			l := section.locale
			if l == nil {
				continue
			}
			if count[l]++; most == nil || count[l] > count[most] || count[l] == count[most] && l.Tag < most.Tag {
				most = l
			}
		}
	}
	return most
}

// styleSheet is what the styles of a workbook say of formats (ISO/IEC 29500-1, 18.8).
type styleSheet struct {
	codes  map[int]string // of formats, by their number
	cells  []int          // the number of the format of each style of cells
	listed bool           // it has a list of formats, even if that is empty
}

// readStyles reads the styles of a workbook; nothing if it has none.
func (b *Book) readStyles() (is styleSheet, err error) {
	if b.stylesPart == nil {
		return is, nil
	}
	in, err := unpack(b.stylesPart, stylesMost)
	if err != nil {
		return is, err
	}
	defer in.Close()
	is.codes = map[int]string{}
	raw, decoder := pieces(in)
	within := false // the styles of cells, and not those that are named
	for {
		token, err := decoder.RawToken()
		closed := bytes.HasSuffix(raw.raw, []byte("/>"))
		raw.raw = raw.raw[:0]
		if err == io.EOF {
			return is, nil
		}
		if err != nil {
			return is, fault.Because(ErrList, "the styles of the workbook: %w", err)
		}
		switch t := token.(type) {
		case xml.EndElement:
			within = within && t.Name.Local != "cellXfs"
		case xml.StartElement:
			id, code := 0, ""
			for _, attribute := range t.Attr {
				switch attribute.Name.Local {
				case "numFmtId":
					id, _ = strconv.Atoi(attribute.Value)
				case "formatCode":
					code = attribute.Value
				}
			}
			switch t.Name.Local {
			case "numFmts":
				is.listed = !closed
			case "cellXfs":
				within = true
			case "numFmt":
				if id >= 0 && id < stylesCount && len(is.codes) < stylesCount {
					is.codes[id] = code
				}
			case "xf":
				if within {
					is.cells = append(is.cells, id)
				}
			}
			if len(is.cells) > stylesCount {
				return is, fault.Because(ErrList, "the workbook has more than %d styles of cells", stylesCount)
			}
		}
	}
}

// Held is what a workbook holds in a cell that is shown in some format. Its zero value is of a cell that holds text.
type Held struct {
	// Value is a number with a point, or a local date and time (ISO 8601): 2026-12-03T09:00:00, 2026-12-03 or 09:00:00.
	Value string
	// Format is the code of the format in which it is shown (ISO/IEC 29500-1, 18.8.31).
	Format string
}

// Time is the local time that a cell holds; of a time of day alone, in the year 0.
func (h Held) Time() (time.Time, bool) {
	if len(h.Value) < len("09:00:00") || !strings.ContainsAny(h.Value[2:], "-:") {
		return time.Time{}, false
	}
	for _, layout := range []string{isoMoment, time.DateOnly, time.TimeOnly} {
		if t, err := time.Parse(layout, h.Value); err == nil {
			return t, true
		}
	}
	return time.Time{}, false
}

// Amount is the amount that a cell holds, and the code of its currency (ISO 4217) where its format names it.
func (h Held) Amount() (amount, currency string, ok bool) {
	if h.Value == "" || strings.Trim(h.Value, "0123456789.-") != "" || strings.LastIndexByte(h.Value, '-') > 0 {
		return "", "", false
	}
	for sign, code := range map[string]string{"€": "EUR", "£": "GBP", "¥": "JPY"} {
		if strings.Contains(h.Format, sign) {
			return h.Value, code, true
		}
	}
	for _, section := range parseFormat(h.Format).sections {
		for _, p := range section.pieces {
			word := strings.TrimSpace(p.text)
			if p.what == literal && len(word) == 3 && word == strings.ToUpper(word) && strings.Trim(word, "ABCDEFGHIJKLMNOPQRSTUVWXYZ") == "" {
				return h.Value, word, true
			}
		}
	}
	return h.Value, "", true
}

const isoMoment = "2006-01-02T15:04:05"

// show is the number that a cell of a style holds, as it is shown and as it is held. What is no number is shown as it
// is, and so is one that has so few digits before its exponent that some may have been lost before.
func (s *bookStyles) show(value string, style int) (string, Held) {
	format := plainFormat
	if style >= 0 && style < len(s.formats) {
		format = s.formats[style]
	}
	isPlain := format == plainFormat || format.code == plainFormat.code
	if isPlain && len(value) < 300 && strings.Trim(value, "0123456789") == "" {
		return value, Held{value, format.code}
	}
	n, err := strconv.ParseFloat(strings.TrimSpace(value), 64)
	if err != nil || math.IsInf(n, 0) || math.IsNaN(n) || isPlain && lossy(value) {
		return value, Held{}
	}
	held := Held{value, format.code}
	if format.isMoment(n) {
		if at, ok := momentOf(n, s.epoch1904); ok {
			held.Value = iso(at.Round(time.Second), n)
		}
	}
	return format.show(n, s.locale, s.epoch1904), held
}

// lossy reports whether a number has an exponent, and few digits before it.
func lossy(value string) bool {
	const fewest = 8
	mantissa, _, exponent := strings.Cut(strings.ToLower(value), "e")
	return exponent && len(strings.Trim(mantissa, "+-.")) <= fewest
}

var plainFormat = parseFormat(builtIn[0])

// iso writes a moment: without a time of day if it has none, and without a day if it is only a time of day.
func iso(at time.Time, n float64) string {
	switch {
	case n < 1:
		return at.Format(time.TimeOnly)
	case n == math.Trunc(n):
		return at.Format(time.DateOnly)
	}
	return at.Format(isoMoment)
}

// serial is the number by which a workbook holds a local time that [Held] has.
func serial(at time.Time) float64 {
	if at.Year() == 0 {
		return float64(at.Hour()*3600+at.Minute()*60+at.Second()) / (24 * 60 * 60)
	}
	begin := time.Date(1899, 12, 30, 0, 0, 0, 0, time.UTC)
	return float64(at.Unix()-begin.Unix()) / (24 * 60 * 60)
}
