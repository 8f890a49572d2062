package batch

import "slices"

// Scouts chooses rows that go ahead. Which ones depends on the seed alone; the zero value
// chooses none.
type Scouts struct {
	seed  uint64
	below uint64 // rows whose lot is less are chosen
	all   bool
}

// ChooseScouts chooses n of the rows that go, whose numbers come from rows.
func ChooseScouts(seed uint64, n int, rows func(yield func(row int) bool)) Scouts {
	var lots []uint64
	for row := range rows {
		lots = append(lots, lot(seed, row))
	}
	if n <= 0 || len(lots) == 0 {
		return Scouts{}
	}
	if n >= len(lots) {
		return Scouts{all: true}
	}
	slices.Sort(lots)
	return Scouts{seed: seed, below: lots[n]}
}

// Has reports whether a row is one of them.
func (s Scouts) Has(row int) bool { return s.all || s.below > 0 && lot(s.seed, row) < s.below }

// lot is what a row draws: no two rows draw the same.
func lot(seed uint64, row int) uint64 {
	return mix(uint64(row) ^ mix(seed|1)) // #nosec G115 -- rows are not negative
}
