package template

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"calmpigeon.example/internal/core/locale"
	"calmpigeon.example/internal/core/price"
)

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

// localMoment is how a workbook holds a moment; see [sheet.Held].
const localMoment = "2006-01-02T15:04:05"

// write writes a value for a language, or says what is accepted.
func (as As) write(lang, value string) (written, accepted string) {
	s := locale.Of(lang)
	switch as {
	case AsNumber:
		number, err := strconv.ParseFloat(value, 64)
		if err != nil || math.Abs(number) > 1e15 {
			return "", "a number such as 1234.5, with a point"
		}
		_, part, _ := strings.Cut(value, ".")
		return s.Number(number, len(part)), ""
	case AsMoney:
		amount, code, _ := strings.Cut(strings.TrimSpace(value), " ")
		money, err := price.ParseMoney(amount, code)
		if err != nil || money.Micros() > 1e15 {
			return "", "an amount and a currency, such as 48.50 EUR"
		}
		_, part, _ := strings.Cut(money.Amount(), ".")
		// The code and not the sign: signs stand before or after it, cost two
		// septets or force UCS-2, and $ is the sign of many.
		return s.Number(float64(money.Micros())/price.Micro, len(part)) + " " + code, ""
	case AsDate:
		for _, layout := range []string{time.DateOnly, time.RFC3339, localMoment} {
			if t, err := time.Parse(layout, value); err == nil {
				return s.MediumDate(t), ""
			}
		}
		return "", "a day such as 2026-11-15, or a time such as 2026-11-15T07:40:00+01:00"
	case AsTime:
		for _, layout := range []string{"15:04", time.RFC3339, localMoment, time.TimeOnly} {
			if t, err := time.Parse(layout, value); err == nil {
				return s.ShortTime(t), ""
			}
		}
		return "", "a time of day such as 07:40, or a time such as 2026-11-15T07:40:00+01:00"
	}
	return value, ""
}
