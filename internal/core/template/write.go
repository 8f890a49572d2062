package template

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

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
	"golang.org/x/text/language"

	"calmpigeon.example/internal/core/price"
)

// spoken are the languages whose numbers, dates and money are known. English
// is British here, as dates are read in most of the world; en-US is American.
var spoken = map[string]locales.Translator{
	"ar": ar.New(), "bg": bg.New(), "cs": cs.New(), "da": da.New(), "de": de.New(), "el": el.New(), "en": en_GB.New(), "en-US": en.New(),
	"es": es.New(), "et": et.New(), "fi": fi.New(), "fr": fr.New(), "he": he.New(), "hi": hi.New(), "hr": hr.New(), "hu": hu.New(),
	"id": id.New(), "is": is.New(), "it": it.New(), "ja": ja.New(), "ko": ko.New(), "lt": lt.New(), "lv": lv.New(), "nb": nb.New(),
	"nl": nl.New(), "pl": pl.New(), "pt": pt_PT.New(), "pt-BR": pt.New(), "ro": ro.New(), "ru": ru.New(), "sk": sk.New(), "sl": sl.New(),
	"sv": sv.New(), "th": th.New(), "tr": tr.New(), "uk": uk.New(), "vi": vi.New(), "zh": zh.New(),
}

// speaker is how a language writes numbers and dates; English if it is none of
// those that are known.
func speaker(tag string) locales.Translator {
	if s, ok := spoken[tag]; ok {
		return s
	}
	if parsed, err := language.Parse(tag); err == nil {
		base, _ := parsed.Base()
		if s, ok := spoken[base.String()]; ok {
			return s
		}
	}
	return spoken["en"]
}

// plain is a value as it came, as a string.
func plain(value any) (string, error) {
	switch v := value.(type) {
	case nil:
		return "", nil
	case string:
		return v, nil
	case json.Number:
		return v.String(), nil
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64), nil
	case int:
		return strconv.Itoa(v), nil
	case bool:
		return strconv.FormatBool(v), nil
	case map[string]any:
		return "", errors.New("it is an object")
	case []any:
		return "", errors.New("it is a list")
	}
	return "", fmt.Errorf("it is a %T", value)
}

// write writes a value for a language, or says what is accepted.
func (as As) write(lang, value string) (written, accepted string) {
	s := speaker(lang)
	switch as {
	case AsNumber:
		number, err := strconv.ParseFloat(value, 64)
		if err != nil || math.Abs(number) > 1e15 {
			return "", "a number such as 1234.5, with a point"
		}
		_, part, _ := strings.Cut(value, ".")
		return simple(s.FmtNumber(number, uint64(len(part)))), ""
	case AsMoney:
		amount, code, _ := strings.Cut(strings.TrimSpace(value), " ")
		money, err := price.ParseMoney(amount, code)
		if err != nil || money.Micros() > 1e15 {
			return "", "an amount and a currency, such as 48.50 EUR"
		}
		_, part, _ := strings.Cut(money.Amount(), ".")
		// The code and not the sign: signs stand before or after it, cost two
		// septets or force UCS-2, and $ is the sign of many.
		return simple(s.FmtNumber(float64(money.Micros())/price.Micro, uint64(len(part)))) + " " + code, ""
	case AsDate:
		for _, layout := range []string{time.DateOnly, time.RFC3339} {
			if t, err := time.Parse(layout, value); err == nil {
				return simple(s.FmtDateMedium(t)), ""
			}
		}
		return "", "a day such as 2026-11-15, or a time such as 2026-11-15T07:40:00+01:00"
	case AsTime:
		for _, layout := range []string{"15:04", time.RFC3339} {
			if t, err := time.Parse(layout, value); err == nil {
				return simple(s.FmtTimeShort(t)), ""
			}
		}
		return "", "a time of day such as 07:40, or a time such as 2026-11-15T07:40:00+01:00"
	}
	return value, ""
}

// simple takes out what only typesetting wants: no-break spaces and marks of
// direction would make the text UCS-2 for nothing.
func simple(s string) string {
	return strings.NewReplacer("\u00a0", " ", "\u202f", " ", "\u2009", " ", "\u2212", "-", "\u200e", "", "\u200f", "", "\u061c", "").
		Replace(s)
}
