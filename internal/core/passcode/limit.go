package passcode

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/octets"
)

// By is what passcodes are counted by.
type By string

// What they are counted by.
const (
	Number  By = "number"
	Address By = "address" // of the end user
	Network By = "network" // of that address: its first 24 bits, of IPv6 56
	Site    By = "site"    // of that address, if it is one of IPv6: its first 48 bits (RFC 6177)
	Key     By = "key"
	Purpose By = "purpose"
	Country By = "country"
	Range   By = "range"   // numbers that differ in their last three digits only
	Stretch By = "stretch" // numbers that differ in their last five digits only
)

// Bys are all of them, the narrowest first.
var Bys = []By{Number, Address, Network, Site, Range, Stretch, Purpose, Country, Key}

// Window is in what time they are counted: in every minute, hour or day, wherever it begins.
type Window int

// The windows.
const (
	Minute Window = iota
	Hour
	Day
)

// Windows are all of them.
var Windows = []Window{Minute, Hour, Day}

// window is how long one is, and in what steps it is counted: what lies in a step counts as long as any of it lies in
// the window, so that no window ever holds more than the limit.
var window = [...]struct {
	word  string
	long  time.Duration
	step  time.Duration
	steps int
}{
	Minute: {"minute", time.Minute, 5 * time.Second, 13},
	Hour:   {"hour", time.Hour, 5 * time.Minute, 13},
	Day:    {"day", 24 * time.Hour, time.Hour, 25},
}

func (w Window) String() string { return window[w].word }

// ParseWindow reads minute, hour or day.
func ParseWindow(word string) (Window, error) {
	for _, w := range Windows {
		if w.String() == word {
			return w, nil
		}
	}
	return 0, fault.Because(ErrLimit, "%q: accepted are minute, hour and day", word)
}

// ErrLimit is wrapped by errors of limits that cannot be.
var ErrLimit = errors.New("not a limit")

// Limit is how many passcodes are sent at most, in any such window, for the same of something.
type Limit struct {
	By     By
	Window Window
	Most   int
}

// String is the limit in words.
func (l Limit) String() string {
	article := "a"
	if l.Window == Hour {
		article = "an"
	}
	return fmt.Sprintf("%d %s %s for each %s", l.Most, article, l.Window, l.By)
}

// Usual are the limits where none are set.
var Usual = []Limit{
	{Number, Hour, 5}, {Number, Day, 10},
	{Address, Minute, 5}, {Address, Hour, 20}, {Address, Day, 60},
	{Network, Hour, 200},
	{Site, Hour, 600},
	{Range, Hour, 30},
}

// MostCounted is the highest limit.
const MostCounted = 1_000_000

// Check says what is wrong with a limit.
func (l Limit) Check() error {
	switch {
	case !slices.Contains(Bys, l.By):
		return fault.Because(ErrLimit, "by %q: accepted are %s", l.By, fault.Words(Bys))
	case l.Window < Minute || l.Window > Day:
		return fault.Because(ErrLimit, "accepted are minute, hour and day")
	case l.Most < 0 || l.Most > MostCounted:
		return fault.Because(ErrLimit, "%d: accepted is 0 to %d", l.Most, MostCounted)
	}
	return nil
}

// AddressOf is an address as it is counted: of IPv6 the network of 64 bits that one host has to itself (RFC 4291,
// 2.5.4), or it could ask from another address each time.
func AddressOf(a netip.Addr) string {
	if a = a.Unmap().WithZone(""); a.Is4() {
		return a.String()
	}
	p, err := a.Prefix(64)
	if err != nil {
		return a.String()
	}
	return p.String()
}

// NetworkOf is the network that an address is in.
func NetworkOf(a netip.Addr) netip.Prefix {
	bits := 56
	if a = a.Unmap(); a.Is4() {
		bits = 24
	}
	p, err := a.WithZone("").Prefix(bits)
	if err != nil {
		return netip.Prefix{}
	}
	return p
}

// SiteOf is the site that an address of IPv6 is in; the zero prefix for one of IPv4.
func SiteOf(a netip.Addr) netip.Prefix {
	if a = a.Unmap(); a.Is4() {
		return netip.Prefix{}
	}
	p, err := a.WithZone("").Prefix(48)
	if err != nil {
		return netip.Prefix{}
	}
	return p
}

// rangeDigits and stretchDigits are how many last digits the numbers of a range, and of a stretch, may differ in.
const rangeDigits, stretchDigits = 3, 5

// RangeOf are the numbers that differ from one, in E.164, in their last three digits only.
func RangeOf(e164 string) string { return alike(e164, rangeDigits) }

// StretchOf are the numbers that differ from one in their last five digits only.
func StretchOf(e164 string) string { return alike(e164, stretchDigits) }

func alike(e164 string, digits int) string {
	return e164[:max(len(e164)-digits, 0)] + strings.Repeat("x", min(digits, len(e164)))
}

// Counter counts what was sent for one of something, step by step. The zero value counted nothing.
type Counter struct {
	rings [len(window)]ring
}

// ring are the counts of the last steps.
type ring struct {
	last   int64 // number of the newest step, from 1970 on
	counts []uint32
}

func (r *ring) at(w Window, now time.Time) int64 {
	return max(now.Unix()/int64(window[w].step/time.Second), r.last) // a clock that goes back counts on
}

// turn forgets what is too old to count.
func (r *ring) turn(w Window, now time.Time) {
	to := r.at(w, now)
	if r.counts == nil || to-r.last >= int64(window[w].steps) {
		r.counts = make([]uint32, window[w].steps)
	} else {
		for n := r.last + 1; n <= to; n++ {
			r.counts[n%int64(window[w].steps)] = 0
		}
	}
	r.last = to
}

// Add counts one that is sent.
func (c *Counter) Add(now time.Time) {
	for _, w := range Windows {
		r := &c.rings[w]
		r.turn(w, now)
		r.counts[r.last%int64(window[w].steps)]++
	}
}

// Count is how many were sent within a window that ends now.
func (c *Counter) Count(w Window, now time.Time) int {
	n, r := 0, &c.rings[w]
	to := r.at(w, now)
	for i, count := range r.counts {
		if r.stepOf(w, i) > to-int64(window[w].steps) {
			n += int(count)
		}
	}
	return n
}

// stepOf is the number of the step that is counted at a place.
func (r *ring) stepOf(w Window, place int) int64 {
	steps := int64(window[w].steps)
	return r.last - (r.last-int64(place))%steps
}

// Until is when fewer than a number of them count.
func (c *Counter) Until(w Window, most int, now time.Time) time.Time {
	r := &c.rings[w]
	n := c.Count(w, now)
	type sent struct {
		step  int64
		count int
	}
	var all []sent
	for i, count := range r.counts {
		if count > 0 {
			all = append(all, sent{r.stepOf(w, i), int(count)})
		}
	}
	slices.SortFunc(all, func(a, b sent) int { return cmp.Compare(a.step, b.step) })
	for _, s := range all {
		if s.step <= r.at(w, now)-int64(window[w].steps) {
			continue
		}
		if n -= s.count; n < most {
			return time.Unix((s.step+int64(window[w].steps))*int64(window[w].step/time.Second), 0).UTC()
		}
	}
	return now.Add(window[w].long) // nothing at all is allowed
}

// Full is a limit that is reached.
type Full struct {
	Limit
	Until time.Time // when one more may be sent
}

func (f *Full) Error() string {
	return fmt.Sprintf("%s, and as many were sent; one more from %s on", f.Limit, f.Until.Format(time.RFC3339))
}

// Subject is something that passcodes are counted by, with what was counted and what holds.
type Subject struct {
	By      By
	Counter *Counter
	Limits  []Limit // those by it
}

// Admit counts one more passcode by all of its subjects, if every limit leaves room for it; else it counts nothing, and
// returns the limit that holds longest; of limits by the same that hold equally long, the lowest.
func Admit(now time.Time, subjects []Subject) *Full {
	var full *Full
	for _, s := range subjects {
		for _, l := range s.Limits {
			if s.Counter.Count(l.Window, now) < l.Most {
				continue
			}
			until := s.Counter.Until(l.Window, l.Most, now)
			if full == nil || until.After(full.Until) || until.Equal(full.Until) && l.By == full.By && l.Most < full.Most {
				full = &Full{l, until}
			}
		}
	}
	if full == nil {
		for _, s := range subjects {
			s.Counter.Add(now)
		}
	}
	return full
}

// AppendBinary writes a counter as it is kept: of each window the newest step, and the counts that are not zero.
func (c *Counter) AppendBinary(b []byte) ([]byte, error) {
	for _, w := range Windows {
		r := &c.rings[w]
		b = binary.AppendUvarint(b, uint64(max(r.last, 0)))
		n := 0
		for _, count := range r.counts {
			if count > 0 {
				n++
			}
		}
		b = append(b, byte(n))
		for i, count := range r.counts {
			if count > 0 {
				b = append(b, byte(i))
				b = binary.AppendUvarint(b, uint64(count))
			}
		}
	}
	return b, nil
}

// ErrCounter is returned for octets that are no counter.
var ErrCounter = errors.New("not a counter that can be read")

// UnmarshalBinary reads what AppendBinary wrote; of no octets it is a counter that counted nothing.
func (c *Counter) UnmarshalBinary(b []byte) error {
	*c = Counter{}
	if len(b) == 0 {
		return nil
	}
	var out Counter
	read := octets.NewReader(b)
	for _, w := range Windows {
		r := &out.rings[w]
		r.last = int64(read.Number(1 << 40))
		n := int(read.Octet())
		if n > window[w].steps {
			return ErrCounter
		}
		r.counts = make([]uint32, window[w].steps)
		for range n {
			place := int(read.Octet())
			if place >= len(r.counts) {
				return ErrCounter
			}
			r.counts[place] = uint32(read.Number(1 << 31)) // #nosec G115 -- it is bounded
		}
	}
	if !read.Whole() {
		return ErrCounter
	}
	*c = out
	return nil
}
