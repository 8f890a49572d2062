package batch

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"time"

	"calmpigeon.example/internal/core/price"
)

// Totals are what all rows of a list come to. Rows = Goes + the sum of Left, always.
type Totals struct {
	Rows     int            `json:"rows"`
	Goes     int            `json:"goes"`
	Left     map[Reason]int `json:"left"` // out, by reason
	Segments int            `json:"segments"`
	Warned   int            `json:"warned"`
	Cured    int            `json:"cured"`
	Changed  int            `json:"changed"` // numbers that were written otherwise
	Unpriced int            `json:"unpriced"`
	Micros   Sums           `json:"cost"` // by currency, in millionths

	ByCountry  map[string]Part `json:"by_country"`
	ByGateway  map[string]Part `json:"by_gateway"`
	BySender   map[string]Part `json:"by_sender"`
	ByEncoding map[string]Part `json:"by_encoding"`
	BySegments map[int]int     `json:"by_segments"`

	// Alike are the rows that go, by what decides when they may.
	Alike []Alike `json:"alike,omitempty"`
	alike map[Alike]int
	round time.Duration

	// Characters are those for which texts do not fit into the GSM alphabet, and in how
	// many texts each stands.
	Characters map[string]int `json:"characters"`
	// Curable is what replacing characters as far as can be would save.
	Curable Saving `json:"curable"`

	// Dearest and Longest are rows worth a look, Random are some as they come.
	Dearest []Shown `json:"dearest"`
	Longest []Shown `json:"longest"`
	Random  []Shown `json:"random"`
}

// Sums are amounts by currency, in millionths.
type Sums map[string]int64

// Part is what the rows of one kind come to.
type Part struct {
	Rows     int  `json:"rows"`
	Segments int  `json:"segments"`
	Micros   Sums `json:"cost"`
}

// Saving is what texts that were written otherwise would save.
type Saving struct {
	Rows     int  `json:"rows"`
	Segments int  `json:"segments"`
	Micros   Sums `json:"cost"`
}

// Alike are rows that go the same way, and may go at the same times.
type Alike struct {
	Gateway string    `json:"gateway"`
	Sender  string    `json:"sender"`
	Country string    `json:"country,omitempty"` // only where it has quiet hours
	Zones   string    `json:"zones,omitempty"`   // in which it may be quiet, by spaces
	At      time.Time `json:"at,omitzero"`       // not before
	Rows    int       `json:"rows"`
}

// Hours tells rows apart that may go at different hours, as [Check.Hours] does.
func (a Alike) Hours() string { return hours(a.Country, a.Zones) }

// alikeMost is how many kinds of rows are told apart at most. With more, their times are
// rounded up, to a day in the end.
const alikeMost = 500

// Shown is a row that is shown.
type Shown struct {
	Row      int    `json:"row"`
	To       string `json:"to"`
	Text     string `json:"text"`
	Segments int    `json:"segments"`
	Micros   int64  `json:"micros"`
	Currency string `json:"currency"`
	lot      uint64
}

const (
	shownMost      = 5   // rows of each kind that are shown
	charactersMost = 100 // that are counted
)

// Row is all that is counted of a row.
type Row struct {
	Check
	N          int
	Text       string   // as it would be sent; empty if it is not known
	Characters []string // that make it UCS-2, each once
	Saves      int      // segments, were its characters replaced
	At         time.Time
}

// NewTotals are those of no rows.
func NewTotals() *Totals {
	return &Totals{
		Left: map[Reason]int{}, Micros: Sums{}, ByCountry: map[string]Part{}, ByGateway: map[string]Part{}, BySender: map[string]Part{},
		ByEncoding: map[string]Part{}, BySegments: map[int]int{}, Characters: map[string]int{}, Curable: Saving{Micros: Sums{}},
		alike: map[Alike]int{},
	}
}

// Add counts a row. seed chooses those that are shown by chance.
func (t *Totals) Add(r Row, seed uint64) {
	t.Rows++
	if !r.Goes() {
		t.Left[r.Reason]++
		return
	}
	t.Goes++
	t.count(r)
	t.Segments += r.Segments
	t.BySegments[r.Segments]++
	if r.Warned {
		t.Warned++
	}
	if r.Cured {
		t.Cured++
	}
	if r.Say != "" {
		t.Changed++
	}
	micros, currency := r.Price.Micros(), r.Price.Currency()
	if r.Price == (price.Money{}) {
		t.Unpriced++
	} else {
		t.Micros[currency] += micros
	}
	for _, part := range []struct {
		of   map[string]Part
		word string
	}{{t.ByCountry, r.Country}, {t.ByGateway, r.Gateway}, {t.BySender, r.Sender}, {t.ByEncoding, string(r.Encoding())}} {
		p := part.of[part.word]
		p.Rows, p.Segments = p.Rows+1, p.Segments+r.Segments
		if currency != "" {
			if p.Micros == nil {
				p.Micros = Sums{}
			}
			p.Micros[currency] += micros
		}
		part.of[part.word] = p
	}
	for _, c := range r.Characters {
		if _, known := t.Characters[c]; known || len(t.Characters) < charactersMost {
			t.Characters[c]++
		}
	}
	if r.Saves > 0 {
		t.Curable.Rows++
		t.Curable.Segments += r.Saves
		if currency != "" && r.Segments > 0 {
			t.Curable.Micros[currency] += micros / int64(r.Segments) * int64(r.Saves)
		}
	}
	one := Shown{r.N, r.To, r.Text, r.Segments, micros, currency, lot(seed, r.N)}
	t.Dearest = best(t.Dearest, one, func(a, b Shown) int { return cmp.Or(cmp.Compare(b.Micros, a.Micros), cmp.Compare(a.Row, b.Row)) })
	t.Longest = best(t.Longest, one, func(a, b Shown) int {
		return cmp.Or(cmp.Compare(b.Segments, a.Segments), cmp.Compare(len(b.Text), len(a.Text)), cmp.Compare(a.Row, b.Row))
	})
	t.Random = best(t.Random, one, func(a, b Shown) int { return cmp.Compare(a.lot, b.lot) })
}

// count counts a row by when it may go.
func (t *Totals) count(r Row) {
	a := Alike{Gateway: r.Gateway, Sender: r.Sender, Zones: r.Zones}
	if a.Zones != "" {
		a.Country = r.Country
	}
	if t.round == 0 {
		t.round = time.Second
	}
	a.At = roundedUp(r.At, t.round)
	t.alike[a]++
	for len(t.alike) > alikeMost && t.round < 24*time.Hour {
		t.round *= 10
		all := make(map[Alike]int, len(t.alike))
		for a, n := range t.alike {
			a.At = roundedUp(a.At, t.round)
			all[a] += n
		}
		t.alike = all
	}
}

func roundedUp(at time.Time, to time.Duration) time.Time {
	if at.IsZero() {
		return at
	}
	return at.Add(to - 1).Truncate(to).UTC()
}

// best keeps the first few in an order, without going through them for each one that is
// none of them.
func best(list []Shown, one Shown, order func(a, b Shown) int) []Shown {
	if len(list) == shownMost && order(one, list[shownMost-1]) >= 0 {
		return list
	}
	at, _ := slices.BinarySearchFunc(list, one, order)
	list = slices.Insert(list, at, one)
	return list[:min(len(list), shownMost)]
}

// LeftOut is how many rows are left out.
func (t *Totals) LeftOut() int {
	n := 0
	for _, left := range t.Left {
		n += left
	}
	return n
}

// Check reports an account that does not add up. Call it once all rows are counted.
func (t *Totals) Check() error {
	t.Alike = t.Alike[:0]
	alike := 0
	for a, n := range t.alike {
		a.Rows = n
		t.Alike, alike = append(t.Alike, a), alike+n
	}
	slices.SortFunc(t.Alike, func(a, b Alike) int {
		return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.Gateway, b.Gateway), cmp.Compare(a.Sender, b.Sender),
			cmp.Compare(a.Country, b.Country), cmp.Compare(a.Zones, b.Zones))
	})
	if alike != t.Goes {
		return fmt.Errorf("%d rows go, and by their times they are %d", t.Goes, alike)
	}
	sum := func(parts map[string]Part) (n int) {
		for _, p := range parts {
			n += p.Rows
		}
		return n
	}
	if t.Rows != t.Goes+t.LeftOut() {
		return fmt.Errorf("%d rows are not %d that go and %d that are left out", t.Rows, t.Goes, t.LeftOut())
	}
	for name, parts := range map[string]map[string]Part{
		"countries": t.ByCountry, "gateways": t.ByGateway, "senders": t.BySender, "encodings": t.ByEncoding,
	} {
		if sum(parts) != t.Goes {
			return fmt.Errorf("%d rows go, and by %s they are %d", t.Goes, name, sum(parts))
		}
	}
	return nil
}

// Money lists amounts by currency.
func (s Sums) Money() []price.Money {
	var all []price.Money
	for _, currency := range slices.Sorted(maps.Keys(s)) {
		all = append(all, price.Of(s[currency], currency))
	}
	return all
}
