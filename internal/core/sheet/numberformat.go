package sheet

import (
	"math"
	"strconv"
	"strings"
	"time"

	"calmpigeon.example/internal/core/locale"
)

// numberFormat is how a workbook shows numbers, dates and times (ISO/IEC 29500-1, 18.8.31). It has one
// to four sections: for positive numbers, for negative ones, for zero, and for text.
type numberFormat struct {
	code     string
	sections []formatSection
}

// formatSection is one section of a format.
type formatSection struct {
	pieces    []formatPiece
	kind      sectionKind
	condition string // such as <; empty: there is none
	bound     float64
	locale    *locale.Locale // that it names for itself; nil: that of the workbook
}

type sectionKind int

const (
	showsNumber sectionKind = iota
	showsGeneral
	showsMoment
	showsText
)

// formatPiece is a literal, or what a run of letters stands for.
type formatPiece struct {
	what byte // literal: ', digit: 0 # ?, point: ., exponent: E, bar of a fraction: /, text: @, parts of a moment: their letter
	text string
}

const literal = '\''

// formatMost is the longest code of a format that is read, in octets. Programs write at most 255 characters.
const formatMost = 1024

// parseFormat reads the code of a format. A code that is not understood shows numbers as they are.
func parseFormat(code string) *numberFormat {
	f := &numberFormat{code: code}
	if len(code) > formatMost {
		f.sections = []formatSection{{kind: showsGeneral}}
		return f
	}
	for rest, more := code, true; more && len(f.sections) < 4; {
		var s formatSection
		s, rest, more = parseSection(rest)
		f.sections = append(f.sections, s)
	}
	return f
}

// parseSection reads one section, and returns what follows it.
func parseSection(code string) (s formatSection, rest string, more bool) {
	add := func(what byte, text string) { s.pieces = append(s.pieces, formatPiece{what, text}) }
	for i := 0; i < len(code); {
		c := code[i]
		switch {
		case c == ';':
			s.settle()
			return s, code[i+1:], true
		case c == '"':
			end := strings.IndexByte(code[i+1:], '"')
			if end < 0 {
				end = len(code) - i - 1
			}
			add(literal, code[i+1:i+1+end])
			i = min(i+end+2, len(code))
		case c == '\\' || c == '!':
			n := runeLength(code[i+1:])
			add(literal, code[i+1:i+1+n])
			i += 1 + n
		case c == '_': // room as wide as the character
			add(literal, " ")
			i += 1 + runeLength(code[i+1:])
		case c == '*': // fills the cell
			i += 1 + runeLength(code[i+1:])
		case c == '[':
			end := strings.IndexByte(code[i:], ']')
			if end < 0 {
				i = len(code)
				break
			}
			s.bracket(code[i+1:i+end], add)
			i += end + 1
		case c == '@':
			add('@', "@")
			i++
		case hasPrefixFold(code[i:], "General") || hasPrefixFold(code[i:], "Standard"):
			s.kind = showsGeneral
			add('G', "")
			i += len("General") + int(c&1) // Standard begins with an odd letter, and has one more
		case hasPrefixFold(code[i:], "AM/PM"):
			add('A', "AM/PM")
			i += len("AM/PM")
		case hasPrefixFold(code[i:], "A/P"):
			add('A', "A/P")
			i += len("A/P")
		case (c == 'E' || c == 'e') && i+1 < len(code) && (code[i+1] == '+' || code[i+1] == '-'):
			add('E', code[i+1:i+2])
			i += 2
		case strings.IndexByte("ymdhsegbYMDHSEGB", c) >= 0:
			n := 1
			for i+n < len(code) && code[i+n]|0x20 == c|0x20 {
				n++
			}
			add(c|0x20, strings.ToLower(code[i:i+n]))
			i += n
		case strings.IndexByte("0#?", c) >= 0:
			add(c, "")
			i++
		case c == '.' || c == ',' || c == '%' || c == '/' || c == ':':
			add(c, string(c))
			i++
		default:
			n := runeLength(code[i:])
			add(literal, code[i:i+n])
			i += n
		}
	}
	s.settle()
	return s, "", false
}

func runeLength(s string) int {
	for i := range s {
		if i > 0 {
			return i
		}
	}
	return len(s)
}

func hasPrefixFold(s, prefix string) bool {
	return len(s) >= len(prefix) && strings.EqualFold(s[:len(prefix)], prefix)
}

// bracket reads what stands in brackets: a currency with its language, a condition, a time that goes on
// beyond its hours, or a colour.
func (s *formatSection) bracket(in string, add func(byte, string)) {
	switch {
	case strings.HasPrefix(in, "$"):
		sign, tongue, _ := strings.Cut(in[1:], "-")
		if sign != "" {
			add(literal, sign)
		}
		if id, err := strconv.ParseUint(tongue, 16, 32); err == nil {
			switch id {
			case 0xF800:
				add('D', "")
			case 0xF400:
				add('T', "")
			}
			s.locale, _ = locale.OfLanguageID(int(id & 0xFFFF))
		} else if tongue != "" {
			s.locale, _ = locale.Find(tongue)
		}
	case strings.Trim(in, "hH") == "" && in != "", strings.Trim(in, "mM") == "" && in != "", strings.Trim(in, "sS") == "" && in != "":
		add('[', strings.ToLower(in))
	case strings.IndexByte("<>=", firstOf(in)) >= 0:
		n := len(in) - len(strings.TrimLeft(in, "<>="))
		if bound, err := strconv.ParseFloat(in[n:], 64); err == nil {
			s.condition, s.bound = in[:n], bound
		}
	}
}

func firstOf(s string) byte {
	if s == "" {
		return 0
	}
	return s[0]
}

// settle decides what a section shows, and which m are minutes: those after hours or before seconds.
func (s *formatSection) settle() {
	moment, number := false, false
	last := -1 // the part of a moment before
	for i, p := range s.pieces {
		switch p.what {
		case 'y', 'm', 'd', 'h', 's', '[', 'A', 'D', 'T', 'b', 'e':
			moment = true
			switch {
			case p.what == 'm' && last >= 0 && (s.pieces[last].what == 'h' || strings.HasPrefix(s.pieces[last].text, "h")) && len(p.text) < 3:
				s.pieces[i].what = 'n'
			case (p.what == 's' || p.what == '[' && p.text[0] == 's') && last >= 0 && s.pieces[last].what == 'm' && len(s.pieces[last].text) < 3:
				s.pieces[last].what = 'n'
			}
			if p.what != 'A' {
				last = i
			}
		case '0', '#', '?':
			number = true
		}
	}
	switch {
	case moment:
		s.kind = showsMoment
	case s.kind == showsGeneral || number:
	default:
		for _, p := range s.pieces {
			if p.what == '@' {
				s.kind = showsText
			}
		}
	}
}

// isMoment reports whether a number is shown as a date or a time.
func (f *numberFormat) isMoment(n float64) bool {
	s, _ := f.section(n)
	return s != nil && s.kind == showsMoment
}

// section is the one that shows a number, and whether it does so without its sign; nil if none does.
func (f *numberFormat) section(n float64) (s *formatSection, unsigned bool) {
	numbers := f.sections
	if len(numbers) == 4 {
		numbers = numbers[:3]
	}
	if last := len(numbers) - 1; last > 0 && numbers[last].kind == showsText && numbers[last].condition == "" {
		numbers = numbers[:last]
	}
	conditional := false
	for i := range numbers {
		conditional = conditional || numbers[i].condition != ""
	}
	if conditional {
		for i := range numbers {
			s := &numbers[i]
			switch {
			case s.condition != "" && holdsTrue(n, s.condition, s.bound):
				return s, s.condition[0] == '<' && s.bound <= 0
			case s.condition == "" && i == 1 && len(numbers) == 3 && n < 0:
				return s, true
			case s.condition == "" && i == len(numbers)-1:
				return s, false
			}
		}
		return nil, false
	}
	switch {
	case n < 0 && len(numbers) > 1:
		return &numbers[1], true
	case n == 0 && len(numbers) > 2:
		return &numbers[2], false
	}
	return &numbers[0], false
}

func holdsTrue(n float64, condition string, bound float64) bool {
	switch condition {
	case "<":
		return n < bound
	case "<=":
		return n <= bound
	case ">":
		return n > bound
	case ">=":
		return n >= bound
	case "=":
		return n == bound
	case "<>":
		return n != bound
	}
	return false
}

// show is a number as it is shown.
func (f *numberFormat) show(n float64, in *locale.Locale, epoch1904 bool) string {
	s, unsigned := f.section(n)
	if s == nil {
		return general(n, in)
	}
	sign := ""
	if n < 0 && !unsigned {
		sign = "-"
	}
	var shown string
	switch s.kind {
	case showsMoment:
		at, ok := momentOf(n, epoch1904)
		if !ok {
			return general(n, in)
		}
		return strings.TrimSpace(s.moment(at, n, in))
	case showsGeneral, showsText:
		shown = sign + s.around(general(math.Abs(n), in))
	default:
		if math.Abs(n) >= 1e15 {
			return general(n, in)
		}
		shown = s.number(math.Abs(n), in)
		if sign != "" && !(strings.ContainsAny(shown, "123456789") || shown == "") { // it was rounded to nothing
			sign = ""
		}
		shown = sign + shown
	}
	return strings.TrimSpace(shown)
}

// text is a text as it is shown.
func (f *numberFormat) text(value string) string {
	for i := range f.sections {
		if s := &f.sections[i]; s.kind == showsText && (i == 3 || i == len(f.sections)-1) {
			return strings.TrimSpace(s.around(value))
		}
	}
	return value
}

// around writes a value and the literals that stand around it.
func (s *formatSection) around(value string) string {
	var out strings.Builder
	for _, p := range s.pieces {
		switch p.what {
		case 'G', '@':
			out.WriteString(value)
		default:
			out.WriteString(p.text)
		}
	}
	return out.String()
}

// decimal is a number that is not negative, as decimal digits: 0.digits times ten to the power of point.
type decimal struct {
	digits string
	point  int
}

// decimalOf are the fifteen digits of a number that programs keep.
func decimalOf(n float64) decimal {
	const significant = 15
	written := strconv.FormatFloat(n, 'e', significant-1, 64)
	mantissa, exponent, _ := strings.Cut(written, "e")
	power, err := strconv.Atoi(exponent)
	if err != nil {
		return decimal{}
	}
	digits := strings.TrimRight(strings.Replace(mantissa, ".", "", 1), "0")
	if digits == "" {
		return decimal{}
	}
	return decimal{digits, power + 1}
}

// fixed are the digits before and after the point, rounded to so many decimals, half up.
func (d decimal) fixed(decimals int) (whole, part string) {
	keep := d.point + decimals
	digits := d.digits
	switch {
	case digits == "" || keep < 0:
		digits = ""
	case keep < len(digits):
		up := digits[keep] >= '5'
		kept := []byte("0" + digits[:keep])
		for i := len(kept) - 1; up; i-- {
			if up = kept[i] == '9'; up {
				kept[i] = '0'
			} else {
				kept[i]++
			}
		}
		digits = string(kept)
	default:
		digits += strings.Repeat("0", keep-len(digits))
	}
	if len(digits) < decimals {
		digits = strings.Repeat("0", decimals-len(digits)) + digits
	}
	at := len(digits) - decimals
	return strings.TrimLeft(digits[:at], "0"), digits[at:]
}

// general is a number as it is shown where no format is given: with eleven digits at most. Whole numbers keep all of
// theirs, where programs go over to exponents: they may be telephone numbers.
func general(n float64, in *locale.Locale) string {
	sign := ""
	if n < 0 {
		sign, n = "-", -n
	}
	if n == math.Trunc(n) && n < 1e18 {
		return sign + strconv.FormatFloat(n, 'f', 0, 64)
	}
	const room = 10
	d := decimalOf(n)
	if d.point > room || d.point < -3 {
		mantissa, power, _ := strings.Cut(strconv.FormatFloat(n, 'E', 5, 64), "E")
		return sign + strings.Replace(strings.TrimRight(strings.TrimRight(mantissa, "0"), "."), ".", in.Decimal, 1) + "E" + power
	}
	whole, part := d.fixed(min(room-max(d.point, 1), 9))
	if whole == "" {
		whole = "0"
	}
	if part = strings.TrimRight(part, "0"); part != "" {
		part = in.Decimal + part
	}
	return sign + whole + part
}

// number writes a number that is not negative.
func (s *formatSection) number(n float64, in *locale.Locale) string {
	d := decimalOf(n)
	first, last, point, exponent, bar := -1, -1, -1, -1, -1
	for i, p := range s.pieces {
		switch p.what {
		case '0', '#', '?':
			if first < 0 {
				first = i
			}
			last = i
		case '.':
			if point < 0 {
				point = i
			}
		case '%':
			if d.digits != "" {
				d.point += 2
			}
		case 'E':
			exponent = i
		case '/':
			bar = i
		}
	}
	if first < 0 {
		return s.around("")
	}
	if bar > first && exponent < 0 {
		return s.fraction(n, first, last, bar, in)
	}
	end := last // of the digits of the number itself
	if exponent >= 0 {
		end = exponent - 1
	}
	// Commas behind the digits divide by thousands, between digits before the point they set them apart.
	grouped := false
	if exponent < 0 {
		for i := last + 1; i < len(s.pieces) && s.pieces[i].what == ','; i++ {
			d.point -= 3
		}
		for i := first; i < last && (point < 0 || i < point); i++ {
			grouped = grouped || s.pieces[i].what == ','
		}
	}
	wholes, decimals := 0, 0
	for i := first; i <= end; i++ {
		switch s.pieces[i].what {
		case '0', '#', '?':
			if point >= 0 && i > point {
				decimals++
			} else {
				wholes++
			}
		}
	}
	power := 0
	if exponent >= 0 && d.digits != "" {
		step := max(wholes, 1)
		power = d.point - 1
		power -= ((power % step) + step) % step
		d.point -= power
		if whole, _ := d.fixed(decimals); len(whole) > step { // rounding added a digit
			power, d.point = power+step, d.point-step
		}
	}
	whole, part := d.fixed(decimals)
	return s.laid(whole, part, wholes, point, end, power, grouped, in)
}

// laid puts digits into their places. wholes is how many places stand before the point, which is at point; end is the
// last place that is not of the exponent.
func (s *formatSection) laid(whole, part string, wholes, point, end, power int, grouped bool, in *locale.Locale) string {
	var out strings.Builder
	digit := func(c byte, following int) {
		out.WriteByte(c)
		if grouped && following > 0 && following%3 == 0 {
			out.WriteString(in.Group)
		}
	}
	first := s.firstPlace()
	left := wholes // places before the point that are still to come
	for i, p := range s.pieces {
		switch p.what {
		case '0', '#', '?':
			switch {
			case i > end: // of the exponent, which is written
			case point >= 0 && i > point:
				if p.what == '0' || strings.Trim(part, "0") != "" {
					out.WriteByte(part[0])
				} else if p.what == '?' {
					out.WriteByte(' ')
				}
				part = part[1:]
			default:
				for left == wholes && len(whole) > wholes { // the first place takes all that there is no other for
					digit(whole[0], len(whole)-1)
					whole = whole[1:]
				}
				switch {
				case len(whole) == left:
					digit(whole[0], left-1)
					whole = whole[1:]
				case p.what == '0':
					digit('0', left-1)
				case p.what == '?':
					out.WriteByte(' ')
				}
				left--
			}
		case '.':
			if i != point {
				out.WriteString(p.text)
				continue
			}
			if wholes == 0 {
				out.WriteString(whole)
			}
			out.WriteString(in.Decimal)
		case ',':
			if i < first {
				out.WriteString(p.text)
			}
		case 'E':
			out.WriteString(exponent(power, p.text == "+", s.pieces[i+1:]))
		default:
			out.WriteString(p.text)
		}
	}
	return out.String()
}

// exponent writes a power of ten with as many digits as there are places for it.
func exponent(power int, signed bool, places []formatPiece) string {
	digits, sign := strconv.Itoa(max(power, -power)), ""
	switch {
	case power < 0:
		sign = "-"
	case signed:
		sign = "+"
	}
	zeros := 0
	for _, p := range places {
		if p.what == '0' {
			zeros++
		}
	}
	return "E" + sign + strings.Repeat("0", max(zeros-len(digits), 0)) + digits
}

// firstPlace is where the first digit has its place.
func (s *formatSection) firstPlace() int {
	for i, p := range s.pieces {
		if p.what == '0' || p.what == '#' || p.what == '?' {
			return i
		}
	}
	return len(s.pieces)
}

// fraction writes a number as a whole one and a fraction.
func (s *formatSection) fraction(n float64, first, last, bar int, in *locale.Locale) string {
	isPlace := func(p formatPiece) bool { return p.what == '0' || p.what == '#' || p.what == '?' }
	// The numerator are the places just before the bar, whatever stands before them is of the whole number.
	numerator := bar
	for numerator > first && isPlace(s.pieces[numerator-1]) {
		numerator--
	}
	if numerator == bar {
		return general(n, in)
	}
	wholes := 0
	for i := first; i < numerator; i++ {
		if isPlace(s.pieces[i]) {
			wholes++
		}
	}
	most, given := 0, 0
	end := bar + 1
	var said strings.Builder
	for ; end < len(s.pieces); end++ {
		p := s.pieces[end]
		if isPlace(p) {
			most = most*10 + 9
			said.WriteByte('0')
		} else if p.what == literal && len(p.text) == 1 && p.text[0] >= '0' && p.text[0] <= '9' {
			said.WriteString(p.text)
		} else {
			break
		}
	}
	if fixed, err := strconv.Atoi(said.String()); err == nil && fixed > 0 && fixed < 1e6 {
		given = fixed
	}
	whole := 0.0
	if wholes > 0 {
		whole = math.Floor(n)
		n -= whole
	}
	top, bottom := nearest(n, min(most, 999), given)
	if wholes > 0 && top == bottom {
		whole, top = whole+1, 0
	}
	head := &formatSection{pieces: s.pieces[:numerator]}
	var out strings.Builder
	switch {
	case wholes > 0 && whole == 0 && top == 0:
		out.WriteString("0")
	case wholes > 0 && (whole > 0 || zeroAmong(head.pieces)):
		out.WriteString(head.number(whole, in))
	}
	if top == 0 && wholes > 0 {
		return strings.TrimRight(out.String(), " ")
	}
	out.WriteString(strconv.Itoa(top) + "/" + strconv.Itoa(bottom))
	for _, p := range s.pieces[end:] {
		out.WriteString(p.text)
	}
	return strings.TrimSpace(out.String())
}

func zeroAmong(pieces []formatPiece) bool {
	for _, p := range pieces {
		if p.what == '0' {
			return true
		}
	}
	return false
}

// nearest is the fraction nearest to a number, with a denominator of at most so much, or the one that is given.
func nearest(n float64, most, given int) (top, bottom int) {
	if given > 0 {
		return int(math.Round(n * float64(given))), given
	}
	if most <= 0 {
		return int(math.Round(n)), 1
	}
	bottom = 1
	best := math.Inf(1)
	for b := 1; b <= most; b++ {
		t := math.Round(n * float64(b))
		if off := math.Abs(n - t/float64(b)); off < best-1e-12 {
			best, top, bottom = off, int(t), b
		}
	}
	return top, bottom
}

// momentOf is the local time that a number stands for: the days since the last day of 1899, or since the first of
// 1904. Numbers before the first of March 1900 are one day further on, since programs took 1900 for a leap year
// (ISO/IEC 29500-1, 18.17.4.1).
func momentOf(n float64, epoch1904 bool) (time.Time, bool) {
	if n < 0 || n >= 2_958_466 { // the year 10000
		return time.Time{}, false
	}
	begin := time.Date(1899, 12, 30, 0, 0, 0, 0, time.UTC)
	switch {
	case epoch1904:
		begin = time.Date(1904, 1, 1, 0, 0, 0, 0, time.UTC)
	case n >= 1 && n < 60:
		begin = begin.AddDate(0, 0, 1)
	}
	day := math.Floor(n)
	within := time.Duration(math.Round((n-day)*24*60*60*1000)) * time.Millisecond
	return begin.AddDate(0, 0, int(day)).Add(within), true
}

// moment writes a local time.
func (s *formatSection) moment(at time.Time, n float64, in *locale.Locale) string {
	if s.locale != nil {
		in = s.locale
	}
	half, fraction := false, 0
	for i, p := range s.pieces {
		half = half || p.what == 'A'
		if p.what == '.' && i > 0 && (s.pieces[i-1].what == 's' || s.pieces[i-1].what == '[') {
			for _, q := range s.pieces[i+1:] {
				if q.what != '0' {
					break
				}
				fraction++
			}
		}
	}
	fraction = min(fraction, 3)
	unit := time.Second
	for range fraction {
		unit /= 10
	}
	at = at.Round(unit)
	passed := int64(math.Round(n*24*60*60*float64(time.Second/unit))) * int64(1000/(time.Second/unit)) // in milliseconds
	var out strings.Builder
	for i, p := range s.pieces {
		switch p.what {
		case 'y', 'e':
			if len(p.text) <= 2 && p.what == 'y' {
				out.WriteString(at.Format("06"))
			} else {
				out.WriteString(at.Format("2006"))
			}
		case 'b':
			out.WriteString(strconv.Itoa(at.Year() + 543))
		case 'm':
			switch len(p.text) {
			case 1:
				out.WriteString(at.Format("1"))
			case 2:
				out.WriteString(at.Format("01"))
			case 3:
				out.WriteString(in.ShortMonth(at.Month()))
			case 4:
				out.WriteString(in.Month(at.Month()))
			default:
				out.WriteString(string([]rune(in.Month(at.Month()))[:1]))
			}
		case 'd':
			switch len(p.text) {
			case 1:
				out.WriteString(at.Format("2"))
			case 2:
				out.WriteString(at.Format("02"))
			case 3:
				out.WriteString(in.ShortWeekday(at.Weekday()))
			default:
				out.WriteString(in.Weekday(at.Weekday()))
			}
		case 'h':
			hour := at.Hour()
			if half {
				if hour %= 12; hour == 0 {
					hour = 12
				}
			}
			out.WriteString(padded(hour, len(p.text)))
		case 'n':
			out.WriteString(padded(at.Minute(), len(p.text)))
		case 's':
			out.WriteString(padded(at.Second(), len(p.text)))
		case '[':
			whole := map[byte]int64{'h': 3_600_000, 'm': 60_000, 's': 1000}[p.text[0]]
			out.WriteString(padded(int(passed/whole), len(p.text)))
		case 'A':
			written := at.Format("PM")
			if p.text == "A/P" {
				written = written[:1]
			}
			out.WriteString(written)
		case 'D':
			return in.LongDate(at)
		case 'T':
			return at.Format("15:04:05")
		case '/':
			out.WriteString(in.DateSeparator)
		case '.':
			if i > 0 && (s.pieces[i-1].what == 's' || s.pieces[i-1].what == '[') && fraction > 0 {
				out.WriteString(in.Decimal)
				continue
			}
			out.WriteString(p.text)
		case '0':
			if fraction > 0 && i > 0 && s.pieces[i-1].what == '.' {
				out.WriteString(at.Format(".000")[1 : 1+fraction])
			}
		case '@', 'g', '#', '?':
		default:
			out.WriteString(p.text)
		}
	}
	return out.String()
}

func padded(n, places int) string {
	written := strconv.Itoa(n)
	if places > 1 && len(written) < 2 {
		return "0" + written
	}
	return written
}
