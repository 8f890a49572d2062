package batch

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/core/sheet"
)

func TestPace(t *testing.T) {
	t.Parallel()
	for given, want := range map[string]struct {
		n    int
		span time.Duration
	}{
		"500/s":   {500, time.Second},
		"7":       {7, time.Second},
		"30/min":  {1, 2 * time.Second},
		" 90/min": {2, 4 * time.Second / 3},
		"10000/h": {3, 1080 * time.Millisecond},
		"1/h":     {1, time.Hour},
	} {
		p, err := ParsePace(given)
		n, span := p.Window()
		if err != nil || n != want.n || span.Round(time.Millisecond) != want.span.Round(time.Millisecond) {
			t.Errorf("%q is %d in %v, want %d in %v; %v", given, n, span, want.n, want.span, err)
		}
		if again, err := ParsePace(p.String()); err != nil || again != p {
			t.Errorf("%q is written %q, which is read as %v, %v", given, p, again, err)
		}
	}
	for _, given := range []string{"", "0", "-1/s", "1.5/s", "10/day", "fast", "20000/s", "9999999999999999999/s"} {
		if p, err := ParsePace(given); err == nil || p != (Pace{}) {
			t.Errorf("%q is taken for %v", given, p)
		}
	}
	if n, span := (Pace{}).Window(); n != 0 || span != 0 {
		t.Errorf("no pace is %d in %v", n, span)
	}
}

// words are such as stand in sheets.
var words = []string{"", "Anna", "07:40", "Ώρα", "🚢", "\"", ";", strings.Repeat("long ", 50), "\n", "+447700900123"}

func word(r *rand.Rand) string { return words[r.IntN(len(words))] }

func TestPacksHoldWhatWasPutIn(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(1, 2))
	for range 200 {
		rows := make([]sheet.Row, r.IntN(20))
		checks := make([]Check, len(rows))
		for i := range rows {
			rows[i] = sheet.Row{N: 1001 + i, Line: r.IntN(1 << 30), Wrong: word(r), Cells: []string{}}
			for range r.IntN(6) {
				rows[i].Cells = append(rows[i].Cells, word(r))
			}
			for at := range r.IntN(len(rows[i].Cells) + 1) { // some hold what they show, some something else, some text
				held := [3]sheet.Held{{}, {Value: rows[i].Cells[at], Format: "General"}, {Value: word(r), Format: word(r)}}
				rows[i].Held = append(rows[i].Held, held[r.IntN(3)])
			}
			checks[i] = Check{Reason: Reasons[r.IntN(len(Reasons))], Say: word(r), Country: word(r), Sender: word(r), Gateway: word(r),
				Kind: word(r), Template: word(r), Language: word(r), UCS2: r.IntN(2) == 0, Units: r.IntN(2000), Segments: r.IntN(256),
				Cured: r.IntN(2) == 0, Warned: r.IntN(2) == 0}
			if r.IntN(2) == 0 {
				checks[i].To = fmt.Sprintf("+%d", 1+r.Int64N(999_999_999_999_999))
				checks[i].Price = price.Of(1+r.Int64N(1e12), "EUR")
			}
		}
		read, err := ReadRows(AppendRows(nil, rows), 1001)
		if err != nil || !reflect.DeepEqual(read, rows) {
			t.Fatalf("rows %v\nread %v, %v", rows, read, err)
		}
		for i := range rows {
			rows[i].Held = nil
		}
		if read, err = ReadRows(asBefore(rows), 1001); err != nil || !reflect.DeepEqual(read, rows) {
			t.Fatalf("rows %v\nas they were kept before, read %v, %v", rows, read, err)
		}
		packed := AppendChecks(nil, checks)
		found, err := ReadChecks(packed)
		if err != nil || !reflect.DeepEqual(found, checks) {
			t.Fatalf("checks %+v\nread   %+v, %v", checks, found, err)
		}
		if len(packed) > 1 {
			if _, err := ReadChecks(packed[:len(packed)-1]); err == nil {
				t.Error("a pack without its end is read")
			}
		}
	}
}

// asBefore writes rows as they were kept before there was anything of what workbooks hold.
func asBefore(rows []sheet.Row) []byte {
	w := writer{b: []byte{cellsForm}}
	w.number(uint64(len(rows)))
	for _, r := range rows {
		w.number(uint64(r.Line))
		w.word(r.Wrong)
		w.number(uint64(len(r.Cells)))
		for _, c := range r.Cells {
			w.word(c)
		}
	}
	return w.b
}

func FuzzPacks(f *testing.F) {
	f.Add(AppendRows(nil, []sheet.Row{{Line: 2, Cells: []string{"a", "b"}}}))
	f.Add(AppendRows(nil, []sheet.Row{{Line: 2, Cells: []string{"a", "3,5"}, Held: []sheet.Held{{}, {Value: "3.5", Format: "0.0"}}}}))
	f.Add(AppendChecks(nil, []Check{{To: "+447700900123", Say: "x", Price: price.Of(1, "EUR")}}))
	f.Fuzz(func(t *testing.T, packed []byte) {
		if rows, err := ReadRows(packed, 1); err == nil && len(rows) > PackRows {
			t.Errorf("%d rows", len(rows))
		}
		if checks, err := ReadChecks(packed); err == nil && len(checks) > PackRows {
			t.Errorf("%d checks", len(checks))
		}
	})
}

func TestNumbersStandWhereTheyStoodFirst(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(3, 4))
	var numbers Numbers
	first := map[uint64]int{}
	for row := 1; row <= 50_000; row++ {
		n := 447700000000 + r.Uint64N(20_000)
		if first[n] == 0 {
			first[n] = row
		}
		if got := numbers.First(n, row); got != first[n] {
			t.Fatalf("row %d: %d stood first in row %d, want %d", row, n, got, first[n])
		}
	}
}

func TestScouts(t *testing.T) {
	t.Parallel()
	going := func(yield func(int) bool) { // every third row is left out
		for row := 1; row <= 9000; row++ {
			if row%3 > 0 && !yield(row) {
				return
			}
		}
	}
	chosen := func(seed uint64, n int) (rows []int) {
		scouts := ChooseScouts(seed, n, going)
		for row := range going {
			if scouts.Has(row) {
				rows = append(rows, row)
			}
		}
		return rows
	}
	for _, n := range []int{0, 1, 50, 5999, 6000, 7000} {
		if got := chosen(7, n); len(got) != min(n, 6000) {
			t.Errorf("%d scouts, want %d", len(got), n)
		}
	}
	if !slices.Equal(chosen(7, 100), chosen(7, 100)) || slices.Equal(chosen(7, 100), chosen(8, 100)) {
		t.Error("who is chosen does not depend on the seed alone")
	}
	// They are spread over the list: in each tenth there are about a tenth.
	tenths := make([]int, 10)
	for _, row := range chosen(7, 1000) {
		tenths[(row-1)/900]++
	}
	for _, n := range tenths {
		if n < 60 || n > 140 {
			t.Errorf("by tenths of the list: %v", tenths)
			break
		}
	}
}

// Whatever rows there are, what goes and what is left out are all of them.
func TestTotalsAddUp(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(5, 6))
	totals := NewTotals()
	dearest := int64(0)
	for n := 1; n <= 3000; n++ {
		row := Row{N: n, Text: word(r), Check: Check{
			Country: []string{"GB", "GR"}[r.IntN(2)], Gateway: "g", Sender: "s", UCS2: r.IntN(2) == 0,
			Segments: 1 + r.IntN(4), Price: price.Of(r.Int64N(1e6), []string{"EUR", "GBP"}[r.IntN(2)])}}
		if r.IntN(3) == 0 {
			row.Reason = Reasons[r.IntN(len(Reasons))]
		} else {
			dearest = max(dearest, row.Price.Micros())
		}
		totals.Add(row, 9)
		if err := totals.Check(); err != nil {
			t.Fatal(err)
		}
	}
	if totals.Rows != 3000 || totals.Dearest[0].Micros != dearest || len(totals.Random) != shownMost {
		t.Errorf("%+v", totals)
	}
	euros := totals.ByCountry["GB"].Micros["EUR"] + totals.ByCountry["GR"].Micros["EUR"]
	if len(totals.Micros.Money()) != 2 || totals.Micros["EUR"] != euros {
		t.Errorf("costs %v", totals.Micros)
	}
	totals.ByCountry["GB"] = Part{}
	if totals.Check() == nil {
		t.Error("an account that does not add up passes")
	}
}
