package batch

import (
	"math/rand/v2"
	"testing"

	"calmpigeon.example/internal/core/price"
)

func TestBudgets(t *testing.T) {
	t.Parallel()
	for given, want := range map[string]string{
		"30 EUR": "30.00 EUR", "30.5 eur, 20 USD": "30.50 EUR, 20.00 USD", " 0 EUR ": "0.00 EUR",
		"": "", "30": "", "EUR": "", "30 EUR, 5 EUR": "", "-3 EUR": "", "30 EUR,": "", "1e3 EUR": "",
	} {
		got, err := ParseBudget(given)
		if (err != nil) != (want == "") || err == nil && got.String() != want {
			t.Errorf("%q: %q, %v; want %q", given, got, err, want)
		}
	}
}

// Whatever comes in whatever order, no purse holds more than its budget, and what it refuses
// would have been too much.
func TestPursesAreNeverOverrun(t *testing.T) {
	t.Parallel()
	for seed := range uint64(200) {
		rnd := rand.New(rand.NewPCG(seed, 3))
		p := Purse{Budget: Sums{"EUR": rnd.Int64N(1_000_000), "USD": rnd.Int64N(1000)}}
		spent := Sums{}
		for range 200 {
			m := price.Of(rnd.Int64N(50_000), []string{"EUR", "USD", "GBP"}[rnd.IntN(3)])
			fits := spent[m.Currency()]+m.Micros() <= p.Budget[m.Currency()]
			if m.Micros() == 0 {
				fits = true
			}
			if p.Takes(m) != fits {
				t.Fatalf("seed %d: %s of %v, spent %v: want %v", seed, m, p.Budget, spent, fits)
			}
			if fits {
				spent[m.Currency()] += m.Micros()
			}
		}
	}
	if (&Purse{}).Takes(price.Of(1, "EUR")) || !(&Purse{}).Takes(price.Money{}) {
		t.Error("a purse of nothing takes what costs nothing, and that alone")
	}
}

func TestWhatNeedsASecondPerson(t *testing.T) {
	t.Parallel()
	totals := &Totals{Goes: 100, Micros: Sums{"EUR": 5_000_000}}
	for _, c := range []struct {
		rows int
		cost Sums
		want string
	}{
		{0, nil, ""},
		{100, Sums{"EUR": 5_000_000, "USD": 0}, ""},
		{99, nil, "100 messages are more than the 99 that one person may send"},
		{0, Sums{"EUR": 4_999_999}, "5.00 EUR are more than the 4.999999 EUR that one person may spend"},
	} {
		if got := totals.Above(c.rows, c.cost); got != c.want {
			t.Errorf("%d, %v: %q, want %q", c.rows, c.cost, got, c.want)
		}
	}
}
