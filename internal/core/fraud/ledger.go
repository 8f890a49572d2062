// Package fraud judges from counts whether somebody makes others pay for passcodes: for numbers that nobody waits at, so
// that somebody on the way earns by each text.
//
// There are four rules. Each is a threshold on counts that are shown with it, as far as it can be the chance that honest
// people would look alike. A code that was used speaks for those who asked for it; a code speaks against them if its text
// is known to have arrived and it was not used, never if it may not have arrived.
package fraud

import (
	"encoding/binary"
	"errors"
	"slices"
	"strconv"
	"strings"
	"time"

	"calmpigeon.example/internal/core/octets"
)

// Fate is what became of the last code that was sent to a number.
type Fate byte

// The fates.
const (
	Open   Fate = iota // it is not known yet
	Used               // it, or one before it
	Unused             // it arrived, and was not
	Lost               // it may not have arrived, and says nothing
)

// Asked is a number that codes were asked for.
type Asked struct {
	ID     [16]byte // of the last passcode
	Number uint64   // E.164, without its plus sign
	At     time.Time
	Codes  int
	Fate   Fate
}

const (
	// Ripe is how long after it was sent a code counts as left unused: nearly all who use theirs do so sooner.
	Ripe = 2 * time.Minute
	// Late is after how long a code whose text is not known to have arrived says nothing.
	Late = 15 * time.Minute
	// AskedMost is how many numbers a ledger remembers.
	AskedMost = 40
	// remembered is how long.
	remembered = 24 * time.Hour
)

// Ledger are the numbers that were asked for last by, or within, one of something: a range, an address. The zero value
// is empty.
type Ledger struct{ Asked []Asked } // those that were asked for last, last

// NumberOf reads a number in E.164; zero if it is none.
func NumberOf(e164 string) uint64 {
	n, err := strconv.ParseUint(strings.TrimPrefix(e164, "+"), 10, 64)
	if err != nil || n >= 1e15 {
		return 0
	}
	return n
}

// Add notes that a code is sent to a number.
func (l *Ledger) Add(number uint64, id [16]byte, now time.Time) {
	one := Asked{ID: id, Number: number, At: now.UTC().Truncate(time.Second), Codes: 1}
	if i := slices.IndexFunc(l.Asked, func(a Asked) bool { return a.Number == number }); i >= 0 {
		before := l.Asked[i]
		if one.Codes = min(before.Codes+1, 1000); before.Fate == Used {
			one.Fate = Used
		}
		l.Asked = slices.Delete(l.Asked, i, i+1)
	}
	l.Asked = append(l.Asked, one)
	l.forget(now)
}

// Last is the passcode that was asked for last; zero if none was.
func (l *Ledger) Last() (id [16]byte) {
	if n := len(l.Asked); n > 0 {
		id = l.Asked[n-1].ID
	}
	return id
}

// forget drops what is too old, or too much.
func (l *Ledger) forget(now time.Time) {
	from := max(len(l.Asked)-AskedMost, 0)
	for from < len(l.Asked) && now.Sub(l.Asked[from].At) > remembered {
		from++
	}
	l.Asked = l.Asked[from:]
}

// Settle notes what became of those that were open, as far as it can be told: used says so of a passcode, arrived
// whether its text did, which can be unknown.
func (l *Ledger) Settle(now time.Time, used func(id [16]byte) bool, arrived func(id [16]byte) (yes, known bool)) {
	for i := range l.Asked {
		a := &l.Asked[i]
		if a.Fate == Used {
			continue
		}
		if used(a.ID) {
			a.Fate = Used
			continue
		}
		if a.Fate != Open || now.Sub(a.At) < Ripe {
			continue
		}
		switch yes, known := arrived(a.ID); {
		case yes:
			a.Fate = Unused
		case known, now.Sub(a.At) > Late:
			a.Fate = Lost
		}
	}
	l.forget(now)
}

// since are the numbers that were asked for within a span that ends now.
func (l *Ledger) since(now time.Time, span time.Duration) []Asked {
	i, _ := slices.BinarySearchFunc(l.Asked, now.Add(-span), func(a Asked, t time.Time) int { return a.At.Compare(t) })
	return l.Asked[i:]
}

// tell counts numbers by what became of their codes.
func tell(asked []Asked) (by [4]int) {
	for _, a := range asked {
		by[a.Fate]++
	}
	return by
}

// AppendBinary writes a ledger as it is kept.
func (l *Ledger) AppendBinary(b []byte) ([]byte, error) {
	if len(l.Asked) == 0 {
		return b, nil
	}
	b = append(b, byte(len(l.Asked)))
	for _, a := range l.Asked {
		b = append(b, a.ID[:]...)
		b = binary.AppendUvarint(b, a.Number)
		b = binary.AppendUvarint(b, uint64(max(a.At.Unix(), 0)))
		b = binary.AppendUvarint(b, uint64(max(a.Codes, 0)))
		b = append(b, byte(a.Fate))
	}
	return b, nil
}

// ErrLedger is returned for octets that are no ledger.
var ErrLedger = errors.New("not a ledger that can be read")

// UnmarshalBinary reads what AppendBinary wrote; no octets are an empty ledger.
func (l *Ledger) UnmarshalBinary(b []byte) error {
	*l = Ledger{}
	if len(b) == 0 {
		return nil
	}
	read := octets.NewReader(b)
	n := int(read.Octet())
	if n > AskedMost {
		return ErrLedger
	}
	asked := make([]Asked, n)
	for i := range asked {
		a := &asked[i]
		copy(a.ID[:], read.Take(len(a.ID)))
		a.Number = uint64(read.Number(1e15)) // #nosec G115 -- it is not negative
		a.At = time.Unix(int64(read.Number(1<<40)), 0).UTC()
		a.Codes = read.Number(1000)
		a.Fate = Fate(read.Octet())
		if a.Fate > Lost {
			return ErrLedger
		}
	}
	if !read.Whole() {
		return ErrLedger
	}
	l.Asked = asked
	return nil
}
