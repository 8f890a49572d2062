package batch

// Numbers remembers which numbers there were, and in which row each stood first. It takes
// some twenty-four octets a number. The zero value is empty.
type Numbers struct {
	keys []uint64
	rows []uint32
	n    int
}

// First notes that a number, as digits, stands in a row, 1 first, and returns the row in
// which it stood first.
func (s *Numbers) First(number uint64, row int) int {
	if 3*s.n >= 2*len(s.keys) {
		s.grow()
	}
	at := s.find(number)
	if s.keys[at] == number {
		return int(s.rows[at])
	}
	s.keys[at], s.rows[at] = number, uint32(row) // #nosec G115 -- at most RowsMost
	s.n++
	return row
}

// find is the place of a number, or the free one for it.
func (s *Numbers) find(number uint64) int {
	mask := uint64(len(s.keys) - 1)
	at := mix(number) & mask
	for s.keys[at] != 0 && s.keys[at] != number {
		at = (at + 1) & mask
	}
	return int(at) // #nosec G115 -- below the length of a slice
}

func (s *Numbers) grow() {
	old := *s
	size := max(1024, 2*len(old.keys))
	s.keys, s.rows = make([]uint64, size), make([]uint32, size)
	for i, key := range old.keys {
		if key != 0 {
			at := s.find(key)
			s.keys[at], s.rows[at] = key, old.rows[i]
		}
	}
}

// mix spreads the bits of a number.
func mix(x uint64) uint64 {
	x ^= x >> 33
	x *= 0xff51afd7ed558ccd
	x ^= x >> 33
	x *= 0xc4ceb9fe1a85ec53
	return x ^ x>>33
}
