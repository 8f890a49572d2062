// Package locale knows how languages write numbers, dates and times (Unicode CLDR).
package locale

import (
	"slices"
	"strings"
	"time"
	"unicode"

	"github.com/go-playground/locales"
	"github.com/go-playground/locales/ar"
	"github.com/go-playground/locales/bg"
	"github.com/go-playground/locales/cs"
	"github.com/go-playground/locales/da"
	"github.com/go-playground/locales/de"
	"github.com/go-playground/locales/el"
	"github.com/go-playground/locales/en"
	"github.com/go-playground/locales/en_GB"
	"github.com/go-playground/locales/es"
	"github.com/go-playground/locales/et"
	"github.com/go-playground/locales/fi"
	"github.com/go-playground/locales/fr"
	"github.com/go-playground/locales/he"
	"github.com/go-playground/locales/hi"
	"github.com/go-playground/locales/hr"
	"github.com/go-playground/locales/hu"
	"github.com/go-playground/locales/id"
	"github.com/go-playground/locales/is"
	"github.com/go-playground/locales/it"
	"github.com/go-playground/locales/ja"
	"github.com/go-playground/locales/ko"
	"github.com/go-playground/locales/lt"
	"github.com/go-playground/locales/lv"
	"github.com/go-playground/locales/nb"
	"github.com/go-playground/locales/nl"
	"github.com/go-playground/locales/pl"
	"github.com/go-playground/locales/pt"
	"github.com/go-playground/locales/pt_PT"
	"github.com/go-playground/locales/ro"
	"github.com/go-playground/locales/ru"
	"github.com/go-playground/locales/sk"
	"github.com/go-playground/locales/sl"
	"github.com/go-playground/locales/sv"
	"github.com/go-playground/locales/th"
	"github.com/go-playground/locales/tr"
	"github.com/go-playground/locales/uk"
	"github.com/go-playground/locales/vi"
	"github.com/go-playground/locales/zh"
	"golang.org/x/text/currency"
	"golang.org/x/text/language"
)

// known are the languages whose conventions are known. English is British here, as dates are read in most of the
// world; en-US is American.
var known = map[string]locales.Translator{
	"ar": ar.New(), "bg": bg.New(), "cs": cs.New(), "da": da.New(), "de": de.New(), "el": el.New(), "en": en_GB.New(), "en-US": en.New(),
	"es": es.New(), "et": et.New(), "fi": fi.New(), "fr": fr.New(), "he": he.New(), "hi": hi.New(), "hr": hr.New(), "hu": hu.New(),
	"id": id.New(), "is": is.New(), "it": it.New(), "ja": ja.New(), "ko": ko.New(), "lt": lt.New(), "lv": lv.New(), "nb": nb.New(),
	"nl": nl.New(), "pl": pl.New(), "pt": pt_PT.New(), "pt-BR": pt.New(), "ro": ro.New(), "ru": ru.New(), "sk": sk.New(), "sl": sl.New(),
	"sv": sv.New(), "th": th.New(), "tr": tr.New(), "uk": uk.New(), "vi": vi.New(), "zh": zh.New(),
}

// Locale is a language whose conventions are known. [Of] makes one. It is immutable.
type Locale struct {
	Tag     string // such as de or en-US
	Decimal string // what stands before decimals
	Group   string // what stands between thousands; may be empty
	// DateSeparator is what stands between the figures of a date.
	DateSeparator string

	speaker locales.Translator
	short   string // a layout of package time
}

var all = func() map[string]*Locale {
	made := make(map[string]*Locale, len(known))
	for tag, speaker := range known {
		made[tag] = newLocale(tag, speaker)
	}
	return made
}()

// newLocale finds out the conventions that a translator keeps to itself.
func newLocale(tag string, speaker locales.Translator) *Locale {
	l := &Locale{Tag: tag, speaker: speaker}
	// 1234567.5 as it is written: digits, what stands between thousands, and what stands before the decimal.
	written := []rune(plain(speaker.FmtNumber(1234567.5, 1)))
	l.Decimal = string(written[len(written)-2])
	if i := slices.IndexFunc(written, func(r rune) bool { return !unicode.IsDigit(r) }); i < len(written)-2 {
		l.Group = string(written[i])
	}
	// The second of January 2006, whose numbers are those of the layout.
	l.short = plain(speaker.FmtDateShort(time.Date(2006, 1, 2, 0, 0, 0, 0, time.UTC)))
	if !strings.Contains(l.short, "2006") {
		l.short = strings.Replace(l.short, "06", "2006", 1)
	}
	if i := strings.IndexFunc(l.short, func(r rune) bool { return r < '0' || r > '9' }); i >= 0 {
		l.DateSeparator = l.short[i : i+1]
	}
	return l
}

// Of is the locale of a language; that of its base if it is known only by that, English if it is not known.
func Of(tag string) *Locale {
	if l, ok := Find(tag); ok {
		return l
	}
	return all["en"]
}

// Find finds the locale of a language.
func Find(tag string) (*Locale, bool) {
	if l, ok := all[tag]; ok {
		return l, true
	}
	parsed, err := language.Parse(tag)
	if err != nil {
		return nil, false
	}
	if l, ok := all[parsed.String()]; ok {
		return l, true
	}
	base, _ := parsed.Base()
	l, ok := all[base.String()]
	return l, ok
}

// OfCountry is the locale of the language that most people of a country read, by its alpha-2 code (ISO 3166-1).
func OfCountry(country string) (*Locale, bool) {
	region, err := language.ParseRegion(country)
	if err != nil {
		return nil, false
	}
	tag, err := language.Compose(language.Und, region)
	if err != nil {
		return nil, false
	}
	base, certain := tag.Base()
	if certain == language.No {
		return nil, false
	}
	return Find(base.String() + "-" + region.String())
}

// Tags lists the languages that are known, sorted.
func Tags() []string {
	tags := make([]string, 0, len(all))
	for tag := range all {
		tags = append(tags, tag)
	}
	slices.Sort(tags)
	return tags
}

// Number writes a number with so many decimals.
func (l *Locale) Number(n float64, decimals int) string {
	return plain(l.speaker.FmtNumber(n, uint64(max(decimals, 0)))) // #nosec G115 -- not negative
}

// MediumDate writes a day with the name of its month.
func (l *Locale) MediumDate(t time.Time) string { return plain(l.speaker.FmtDateMedium(t)) }

// ShortTime writes a time of day with hours and minutes.
func (l *Locale) ShortTime(t time.Time) string { return plain(l.speaker.FmtTimeShort(t)) }

// ShortDate writes a day in figures, with all four of its year.
func (l *Locale) ShortDate(t time.Time) string { return t.Format(l.short) }

// MonthFirst reports whether days in figures are written with the month before the day.
func (l *Locale) MonthFirst() bool {
	return strings.Index(l.short, "1") < strings.Index(l.short, "2") && l.short[0] != '2'
}

// LongDate writes a day with its weekday.
func (l *Locale) LongDate(t time.Time) string { return plain(l.speaker.FmtDateFull(t)) }

// Month is the name of a month.
func (l *Locale) Month(m time.Month) string { return l.speaker.MonthWide(m) }

// ShortMonth is the name of a month as tables have it.
func (l *Locale) ShortMonth(m time.Month) string { return l.shortened(l.speaker.MonthAbbreviated(m)) }

// Weekday is the name of a weekday.
func (l *Locale) Weekday(d time.Weekday) string { return l.speaker.WeekdayWide(d) }

// ShortWeekday is the name of a weekday as tables have it.
func (l *Locale) ShortWeekday(d time.Weekday) string {
	return l.shortened(l.speaker.WeekdayAbbreviated(d))
}

// shortened is a short name as tables have it: only French ones keep their full stop, and English and German ones have
// three letters at most.
func (l *Locale) shortened(name string) string {
	if l.Tag == "fr" {
		return name
	}
	name = strings.TrimSuffix(name, ".")
	if runes := []rune(name); len(runes) > 3 && (l.Tag == "de" || strings.HasPrefix(l.Tag, "en")) {
		return string(runes[:3])
	}
	return name
}

// truths are how spreadsheets show true and false, where not in English.
var truths = map[string][2]string{
	"bg": {"ИСТИНА", "НЕВЯРНО"}, "cs": {"PRAVDA", "NEPRAVDA"}, "da": {"SAND", "FALSK"}, "de": {"WAHR", "FALSCH"},
	"es": {"VERDADERO", "FALSO"},
	"et": {"TÕENE", "VÄÄR"}, "fi": {"TOSI", "EPÄTOSI"}, "fr": {"VRAI", "FAUX"}, "hu": {"IGAZ", "HAMIS"}, "it": {"VERO", "FALSO"},
	"nb": {"SANN", "USANN"}, "nl": {"WAAR", "ONWAAR"}, "pl": {"PRAWDA", "FAŁSZ"}, "pt": {"VERDADEIRO", "FALSO"},
	"pt-BR": {"VERDADEIRO", "FALSO"}, "ru": {"ИСТИНА", "ЛОЖЬ"}, "sk": {"PRAVDA", "NEPRAVDA"}, "sv": {"SANT", "FALSKT"},
	"tr": {"DOĞRU", "YANLIŞ"}, "uk": {"ІСТИНА", "ХИБНІСТЬ"},
}

// Truth is how a spreadsheet shows true or false.
func (l *Locale) Truth(is bool) string {
	words, ok := truths[l.Tag]
	if !ok {
		words = [2]string{"TRUE", "FALSE"}
	}
	if is {
		return words[0]
	}
	return words[1]
}

// Currency is the sign of the currency of the country in which most speakers live, and whether it stands before
// amounts.
func (l *Locale) Currency() (sign string, before bool) {
	region, _ := language.Make(map[string]string{"en": "en-GB", "pt": "pt-PT"}[l.Tag]).Region()
	if region.String() == "ZZ" {
		region, _ = language.Make(l.Tag).Region()
	}
	unit, _ := currency.FromRegion(region)
	sign = map[string]string{"EUR": "€", "GBP": "£", "USD": "$", "JPY": "¥"}[unit.String()]
	if sign == "" {
		sign = unit.String()
	}
	return sign, strings.HasPrefix(l.Tag, "en") || l.Tag == "ja" || l.Tag == "zh"
}

// plain takes out what only typesetting wants: no-break spaces and marks of direction would make a text UCS-2 for
// nothing.
func plain(s string) string { return typesetting.Replace(s) }

var typesetting = strings.NewReplacer(
	"\u00a0", " ", "\u202f", " ", "\u2009", " ", "\u2212", "-", "\u200e", "", "\u200f", "", "\u061c", "")
