package batch

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/price"
)

// BudgetAccepted is what is accepted as a budget.
const BudgetAccepted = "amounts such as 30 EUR, or 30 EUR, 20 USD: one for each currency"

// ParseBudget reads what may be spent. What is in a currency that it does not name may not be
// spent at all.
func ParseBudget(s string) (Sums, error) {
	sums := Sums{}
	wrong := func(why string) error { return fault.New("budget", why, BudgetAccepted) }
	for part := range strings.SplitSeq(s, ",") {
		amount, currency, _ := strings.Cut(strings.TrimSpace(part), " ")
		m, err := price.ParseMoney(amount, strings.ToUpper(strings.TrimSpace(currency)))
		if err != nil {
			return nil, wrong(fmt.Sprintf("%q: %s", part, fault.Why(err)))
		}
		if _, twice := sums[m.Currency()]; twice {
			return nil, wrong(fmt.Sprintf("%s stands there twice", m.Currency()))
		}
		sums[m.Currency()] = m.Micros()
	}
	return sums, nil
}

// String writes amounts as ParseBudget reads them.
func (s Sums) String() string {
	words := make([]string, 0, len(s))
	for _, m := range s.Money() {
		words = append(words, m.String())
	}
	return strings.Join(words, ", ")
}

// Purse is a budget, and how much of it is spent.
type Purse struct {
	Name   string // as people are told of it
	Budget Sums
	Spent  Sums
}

// Takes reports whether a purse has room for an amount, and takes it if so. What costs nothing,
// or has no price that is known, always has.
func (p *Purse) Takes(m price.Money) bool {
	if m.Micros() == 0 {
		return true
	}
	if p.Spent == nil {
		p.Spent = Sums{}
	}
	if m.Micros() > p.Budget[m.Currency()]-p.Spent[m.Currency()] {
		return false
	}
	p.Spent[m.Currency()] += m.Micros()
	return true
}

// Gives gives an amount back that was taken.
func (p *Purse) Gives(m price.Money) {
	if m.Micros() != 0 {
		p.Spent[m.Currency()] -= m.Micros()
	}
}

// Above says by what a batch is more than one person may send; empty if it is not. It may be
// so many rows, and cost so much in each currency; zero and no amounts are no limit.
func (t *Totals) Above(rows int, cost Sums) string {
	if rows > 0 && t.Goes > rows {
		return fmt.Sprintf("%d messages are more than the %d that one person may send", t.Goes, rows)
	}
	for _, currency := range slices.Sorted(maps.Keys(cost)) {
		if most := cost[currency]; t.Micros[currency] > most {
			return fmt.Sprintf(
				"%s are more than the %s that one person may spend",
				price.Of(t.Micros[currency], currency),
				price.Of(most, currency),
			)
		}
	}
	return ""
}
