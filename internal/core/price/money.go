// Package price knows what texts cost: money, the price lists of gateways, and
// estimates made with them. A price that is not known is unknown, never zero.
package price

import (
	"cmp"
	"errors"
	"fmt"
	"math"
	"math/bits"
	"slices"
	"strings"

	"golang.org/x/text/currency"

	"calmpigeon.example/internal/core/fault"
)

// ErrMoney is wrapped by the errors of money.
var ErrMoney = errors.New("not an amount of money")

// Money is an amount in a currency of ISO 4217, in millionths of its unit: a
// text costs fractions of a cent. It is immutable and comparable; its zero
// value is no amount. It costs three words.
type Money struct {
	micros   int64
	currency string
}

// Micro is how many parts the unit of a currency has here.
const Micro = 1_000_000

// Of makes an amount of millionths of a currency's unit. It does not check
// the currency; [ParseMoney] does.
func Of(micros int64, currency string) Money { return Money{micros, currency} }

// ParseMoney reads an amount such as 0.0742 in a currency such as EUR. At most
// six places follow the point; a negative amount is none. Errors wrap
// [ErrMoney].
func ParseMoney(amount, code string) (Money, error) {
	unit, err := currency.ParseISO(code)
	if err != nil || unit.String() != code {
		return Money{}, fault.Because(ErrMoney, "%q is not a currency", code)
	}
	whole, part, point := strings.Cut(amount, ".")
	digits := whole + part
	if strings.Trim(digits, "0123456789") != "" || whole == "" || point && part == "" {
		return Money{}, fault.Because(ErrMoney, "%q", amount)
	}
	if len(part) > 6 {
		return Money{}, fault.Because(ErrMoney, "%q has %d places, at most 6", amount, len(part))
	}
	var micros uint64
	for _, d := range digits + strings.Repeat("0", 6-len(part)) {
		high, low := bits.Mul64(micros, 10)
		micros = low + uint64(d-'0')
		if high > 0 || micros > math.MaxInt64 {
			return Money{}, fault.Because(ErrMoney, "%q is too much", amount)
		}
	}
	return Money{int64(micros), code}, nil
}

// Micros is the amount in millionths of the currency's unit.
func (m Money) Micros() int64 { return m.micros }

// Currency is the code by ISO 4217; empty for the zero value.
func (m Money) Currency() string { return m.currency }

// CurrencyOf is the currency of ISO 4217 that a word names, in capitals; empty if it names none.
func CurrencyOf(word string) string {
	unit, err := currency.ParseISO(strings.TrimSpace(word))
	if err != nil {
		return ""
	}
	return unit.String()
}

// Times is the amount n times; false if that is more than can be counted.
func (m Money) Times(n int) (Money, bool) {
	high, low := bits.Mul64(uint64(m.micros), uint64(n))
	return Money{int64(low), m.currency}, high == 0 && low <= math.MaxInt64 && n >= 0
}

// Minus is the difference to a smaller amount of the same currency.
func (m Money) Minus(less Money) Money { return Money{m.micros - less.micros, m.currency} }

// Amount is the number without the currency: as many places as the currency
// has, and more where there are fractions of them.
func (m Money) Amount() string {
	places := 2
	if unit, err := currency.ParseISO(m.currency); err == nil {
		places, _ = currency.Standard.Rounding(unit)
	}
	sign, micros := "", uint64(m.micros) // #nosec G115 -- what is below nothing is turned round
	if m.micros < 0 {
		sign, micros = "-", -micros
	}
	part := fmt.Sprintf("%06d", micros%Micro)
	part = part[:max(places, len(strings.TrimRight(part, "0")))]
	if part == "" {
		return fmt.Sprint(sign, micros/Micro)
	}
	return fmt.Sprintf("%s%d.%s", sign, micros/Micro, part)
}

// String is the amount for people, such as 0.0742 EUR.
func (m Money) String() string {
	if m.currency == "" {
		return ""
	}
	return m.Amount() + " " + m.currency
}

// Estimate is what a set of messages costs. Currencies are never mixed, and
// what is unknown is counted.
type Estimate struct {
	Priced  int
	Unknown int
	sums    map[string]Money
}

// Add counts a message; known is false if its price is unknown. A sum that
// cannot be counted any more makes the message unknown.
func (e *Estimate) Add(m Money, known bool) {
	sum := e.sums[m.currency]
	if !known || sum.micros > math.MaxInt64-m.micros {
		e.Unknown++
		return
	}
	if e.sums == nil {
		e.sums = map[string]Money{}
	}
	e.Priced++
	e.sums[m.currency] = Money{sum.micros + m.micros, m.currency}
}

// Sums lists the sum of each currency, in order of their codes.
func (e *Estimate) Sums() []Money {
	sums := make([]Money, 0, len(e.sums))
	for _, m := range e.sums {
		sums = append(sums, m)
	}
	slices.SortFunc(sums, func(a, b Money) int { return cmp.Compare(a.currency, b.currency) })
	return sums
}

// String is the estimate for people, such as "12.40 EUR, and 3 of unknown
// price".
func (e *Estimate) String() string {
	var parts []string
	for _, m := range e.Sums() {
		parts = append(parts, m.String())
	}
	said := strings.Join(parts, " and ")
	switch {
	case e.Unknown == 0 && said == "":
		return "nothing to price"
	case e.Unknown == 0:
		return said
	case said == "":
		return "unknown"
	}
	return fmt.Sprintf("%s, and %d of unknown price", said, e.Unknown)
}
