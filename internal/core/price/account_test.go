package price

import (
	"slices"
	"testing"
)

func TestChargesBesideEstimates(t *testing.T) {
	t.Parallel()
	type messages struct {
		n         int64
		charged   string
		micros    int64
		priced    string
		estimated int64
	}
	for name, tt := range map[string]struct {
		all    []messages
		over   []Money
		excess Money // none: of no note
	}{
		"as estimated":            {[]messages{{10, "EUR", 300, "EUR", 300}}, []Money{Of(0, "EUR")}, Money{}},
		"a tenth more":            {[]messages{{10, "EUR", 330, "EUR", 300}}, []Money{Of(30, "EUR")}, Of(30, "EUR")},
		"one percent is rounding": {[]messages{{10, "EUR", 10100, "EUR", 10000}}, []Money{Of(100, "EUR")}, Money{}},
		"a little more than one":  {[]messages{{10, "EUR", 10101, "EUR", 10000}}, []Money{Of(101, "EUR")}, Of(101, "EUR")},
		"less is no excess":       {[]messages{{10, "EUR", 200, "EUR", 300}}, []Money{Of(-100, "EUR")}, Money{}},
		"of nine messages":        {[]messages{{9, "EUR", 900, "EUR", 300}}, []Money{Of(600, "EUR")}, Money{}},
		"nine and one":            {[]messages{{9, "EUR", 900, "EUR", 300}, {1, "EUR", 1, "EUR", 1}}, []Money{Of(600, "EUR")}, Of(600, "EUR")},
		"another currency":        {[]messages{{10, "GBP", 900, "EUR", 300}}, nil, Money{}},
		"no estimate":             {[]messages{{10, "EUR", 900, "", 0}}, nil, Money{}},
		"no currency said":        {[]messages{{10, "", 900, "", 0}}, nil, Money{}},
		"free, and charged for":   {[]messages{{10, "EUR", 900, "EUR", 0}}, []Money{Of(900, "EUR")}, Of(900, "EUR")},
		"what one saves another does not": {
			[]messages{{10, "EUR", 200, "EUR", 300}, {10, "GBP", 400, "GBP", 300}}, []Money{Of(-100, "EUR"), Of(100, "GBP")}, Of(100, "GBP"),
		},
		"the larger share": {
			[]messages{{10, "EUR", 400, "EUR", 200}, {10, "GBP", 900, "GBP", 600}}, []Money{Of(200, "EUR"), Of(300, "GBP")}, Of(200, "EUR"),
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var c Charged
			var n int64
			for _, m := range tt.all {
				c.Add(m.n, m.charged, m.micros, m.priced, m.estimated)
				n += m.n
			}
			if c.N != n {
				t.Errorf("%d messages were charged for, want %d", c.N, n)
			}
			if got := c.Over().Money(); !slices.Equal(got, tt.over) {
				t.Errorf("over by %v, want %v", got, tt.over)
			}
			if e, is := c.Excess(); e.Over != tt.excess || is != (tt.excess != Money{}) {
				t.Errorf("an excess of %v, %v, want %v", e, is, tt.excess)
			}
		})
	}
}

func TestAmountsBelowNothing(t *testing.T) {
	t.Parallel()
	for want, m := range map[string]Money{
		"-0.05": Of(-50_000, "EUR"), "-0.0412": Of(-41_200, "EUR"), "-12.00": Of(-12_000_000, "EUR"),
		"0.00": Of(0, "EUR"), "-3": Of(-3_000_000, "JPY"),
	} {
		if got := m.Amount(); got != want {
			t.Errorf("%d millionths of %s are %s, want %s", m.Micros(), m.Currency(), got, want)
		}
	}
}
