// Package statement reads a gateway's own list or bill of what it carried: which column is for what,
// how its numbers, dates and words are written, and what each line says.
//
// A mapping is proposed from the names of the columns and from what stands in the first lines, and can
// be put right. What is read is claimed, never guessed: a cell that cannot be read makes its line one
// that says so.
package statement

import (
	"fmt"
	"maps"
	"math/big"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"golang.org/x/text/currency"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/fault"
)

// Role is what a column is for.
type Role string

// Roles of columns.
const (
	ID        Role = "id"        // the gateway's own of the message
	Reference Role = "reference" // ours
	Number    Role = "number"    // of the recipient
	Sender    Role = "sender"
	At        Role = "at"       // when it was taken
	Status    Role = "status"   // a code or a word
	Segments  Role = "segments" // counted
	Charge    Role = "charge"   // taken
	Currency  Role = "currency" // of the charge
)

// Roles are all of them, in the order in which they are looked for.
var Roles = []Role{ID, Reference, Number, At, Status, Segments, Charge, Currency, Sender}

// Mapping is how a file is read.
type Mapping struct {
	// Columns are the heads of columns, by what they are for.
	Columns map[Role]string `json:"columns"`
	// Zone is where times without one are (IANA); UTC if empty.
	Zone string `json:"zone,omitempty"`
	// MonthFirst: 11/15/2026 and not 15/11/2026.
	MonthFirst bool `json:"month_first,omitempty"`
	// Comma: a comma stands before the fraction of numbers, not a point.
	Comma bool `json:"comma,omitempty"`
	// Currency is that of charges without one (ISO 4217).
	Currency string `json:"currency,omitempty"`
	// Dialect: lines are read as the dialect of the gateway says, and not by columns.
	Dialect bool `json:"dialect,omitempty"`
}

// Check says what is wrong with a mapping for columns of these names.
func (m Mapping) Check(head []string) error {
	var faults fault.Faults
	for _, role := range slices.Sorted(maps.Keys(m.Columns)) {
		if !slices.Contains(Roles, role) {
			faults.Add("mapping.columns", fmt.Sprintf("%q is nothing that a column can be for", role), fault.Words(Roles))
		} else if name := m.Columns[role]; !slices.Contains(head, name) {
			faults.Add("mapping.columns."+string(role), fmt.Sprintf("there is no column %q", name), strings.Join(head, ", "))
		}
	}
	if _, err := m.zone(); err != nil {
		faults.Add("mapping.zone", fmt.Sprintf("%q is not a time zone", m.Zone), "a name of the IANA database, such as Europe/Athens")
	}
	if m.Currency != "" {
		if unit, err := currency.ParseISO(m.Currency); err != nil || unit.String() != m.Currency {
			faults.Add("mapping.currency", fmt.Sprintf("%q is not a currency", m.Currency), "a code such as EUR (ISO 4217)")
		}
	}
	if !m.Dialect && m.Columns[ID] == "" && m.Columns[Reference] == "" && (m.Columns[Number] == "" || m.Columns[At] == "") {
		faults.Add("mapping.columns", "nothing says of which message a line is",
			"a column for id or for reference, or one for number and one for at")
	}
	if faults != nil {
		return faults
	}
	return nil
}

func (m Mapping) zone() (*time.Location, error) {
	if m.Zone == "" {
		return time.UTC, nil
	}
	return time.LoadLocation(m.Zone)
}

// Codes says what a gateway's code means.
type Codes func(code string) (state delivery.State, cause delivery.Cause, known bool)

// Line is what a line of a statement says.
type Line struct {
	GatewayRef, Reference string
	Number, Sender        string // as the gateway writes them
	At                    time.Time
	State                 delivery.State
	Cause                 delivery.Cause
	Code                  string
	Segments              int    // 0: not said
	Charge                *int64 // in millionths; nil: not said
	Currency              string
	Wrong                 string // why it cannot be read; empty if it can
}

// Reader reads lines as a mapping says.
type Reader struct {
	mapping Mapping
	at      map[Role]int
	zone    *time.Location
	codes   Codes
}

// NewReader makes one for columns of these names. The mapping has been checked.
func NewReader(head []string, m Mapping, codes Codes) (*Reader, error) {
	if err := m.Check(head); err != nil {
		return nil, err
	}
	r := &Reader{mapping: m, at: map[Role]int{}, codes: codes}
	r.zone, _ = m.zone() // checked
	for role, name := range m.Columns {
		r.at[role] = slices.Index(head, name)
	}
	return r, nil
}

func (r *Reader) cell(cells []string, role Role) string {
	i, ok := r.at[role]
	if !ok || i >= len(cells) {
		return ""
	}
	return strings.TrimSpace(cells[i])
}

// wordMost is the longest id, code or number that is kept, in octets.
const wordMost = 200

// Read reads a line.
func (r *Reader) Read(cells []string) Line {
	l := Line{
		GatewayRef: r.cell(cells, ID), Reference: r.cell(cells, Reference), Number: r.cell(cells, Number), Sender: r.cell(cells, Sender),
		Code: r.cell(cells, Status), Currency: r.mapping.Currency,
	}
	wrong := func(role Role, given, accepted string) {
		if l.Wrong == "" {
			l.Wrong = fmt.Sprintf("%s %.60q: accepted is %s", role, given, accepted)
		}
	}
	for _, word := range []*string{&l.GatewayRef, &l.Reference, &l.Number, &l.Sender, &l.Code} {
		*word = strings.ToValidUTF8(strings.ReplaceAll(*word, "\x00", ""), "\uFFFD")
		if len(*word) > wordMost {
			l.Wrong = fmt.Sprintf("%.30q… is longer than %d octets", *word, wordMost)
			*word = ""
		}
	}
	if given := r.cell(cells, At); given != "" {
		var ok bool
		if l.At, ok = ParseTime(given, r.zone, r.mapping.MonthFirst); !ok {
			wrong(At, given, "a date and a time")
		}
	}
	if given := r.cell(cells, Segments); given != "" {
		n, err := strconv.Atoi(strings.TrimSuffix(given, ".0"))
		if err != nil || n < 0 || n > delivery.PartsMost {
			wrong(Segments, given, "a whole number up to 255")
		}
		l.Segments = max(min(n, delivery.PartsMost), 0)
	}
	if given := r.cell(cells, Currency); given != "" {
		l.Currency = strings.ToUpper(given)
		if unit, err := currency.ParseISO(l.Currency); err != nil || unit.String() != l.Currency {
			wrong(Currency, given, "a code such as EUR")
			l.Currency = ""
		}
	}
	if given := r.cell(cells, Charge); given != "" {
		micros, ok := ParseAmount(given, r.mapping.Comma)
		if !ok {
			wrong(Charge, given, "an amount of money")
		} else {
			l.Charge = &micros
		}
	}
	if l.Code != "" {
		var known bool
		if l.State, l.Cause, known = r.codes(l.Code); !known {
			l.State, known = Word(l.Code)
		}
		if !known {
			wrong(Status, l.Code, "a code of the dialect, or a word such as delivered or failed")
		}
	}
	if l.GatewayRef == "" && l.Reference == "" && (l.Number == "" || l.At.IsZero()) && l.Wrong == "" {
		l.Wrong = "nothing says of which message it is"
	}
	return l
}

// words are what statements call states, in small letters: those of SMPP (message_state, §5.2.28 of v3.4, in
// textual receipts), and what people write.
var words = map[string]delivery.State{
	"delivrd": delivery.Delivered, "delivered": delivery.Delivered, "success": delivery.Delivered, "ok": delivery.Delivered,
	"undeliv": delivery.Undeliverable, "undeliverable": delivery.Undeliverable, "undelivered": delivery.Undeliverable,
	"failed": delivery.Undeliverable, "not delivered": delivery.Undeliverable, "failure": delivery.Undeliverable,
	"expired": delivery.Expired, "rejectd": delivery.Rejected, "rejected": delivery.Rejected, "deleted": delivery.Cancelled,
	"cancelled": delivery.Cancelled, "canceled": delivery.Cancelled, "unknown": delivery.Unknown, "acceptd": delivery.Accepted,
	"accepted": delivery.Accepted, "sent": delivery.Accepted, "submitted": delivery.Accepted, "queued": delivery.Accepted,
	"enroute": delivery.Enroute, "en route": delivery.Enroute, "pending": delivery.Enroute, "in transit": delivery.Enroute,
}

// Word reads a state's word, as statements write it.
func Word(s string) (delivery.State, bool) {
	between := func(r rune) bool { return unicode.IsSpace(r) || r == '_' || r == '-' }
	state, known := words[strings.ToLower(strings.Join(strings.FieldsFunc(s, between), " "))]
	return state, known
}

// ParseAmount reads an amount of money as people write it, in millionths: with a point or a comma before the
// fraction, and what groups thousands left out. A sign of a currency may stand before or after it.
func ParseAmount(s string, comma bool) (micros int64, ok bool) {
	s = strings.TrimFunc(s, func(r rune) bool { return unicode.IsSpace(r) || unicode.Is(unicode.Sc, r) || unicode.IsLetter(r) })
	point, group := ".", ","
	if comma {
		point, group = ",", "."
	}
	whole, part, _ := strings.Cut(s, point)
	for _, g := range []string{" ", "\u00a0", "\u202f", "'", "’"} {
		whole = strings.ReplaceAll(whole, g, group)
	}
	for i, three := range strings.Split(whole, group) {
		if i > 0 && len(three) != 3 {
			return 0, false
		}
	}
	whole = strings.ReplaceAll(whole, group, "")
	digits := strings.TrimLeft(whole, "+-") + part
	if len(digits) == 0 || len(digits) > 24 || strings.Trim(digits, "0123456789") != "" ||
		len(whole)-len(strings.TrimLeft(whole, "+-")) > 1 {
		return 0, false
	}
	s = whole + "." + part
	r, valid := new(big.Rat).SetString(s)
	if !valid {
		return 0, false
	}
	r.Mul(r, big.NewRat(1_000_000, 1))
	millionths := new(big.Int).Quo(r.Num(), r.Denom()) // a fraction of one is nothing
	return millionths.Int64(), millionths.IsInt64()
}

var (
	zoned = []string{time.RFC3339Nano, "2006-01-02 15:04:05Z07:00", "2006-01-02 15:04:05 -0700", "2006-01-02 15:04:05 MST", time.RFC1123Z,
		time.RFC1123}
	local = []string{
		"2006-01-02 15:04:05.999999",
		"2006-01-02 15:04:05",
		"2006-01-02 15:04",
		"2006-01-02T15:04:05.999999",
		"2006-01-02T15:04:05",
		"2006/01/02 15:04:05",
		"20060102150405",
		"2.1.2006 15:04:05",
		"2.1.2006 15:04",
	}
	dayFirst   = []string{"2/1/2006 15:04:05", "2/1/2006 15:04", "2-1-2006 15:04:05"}
	monthFirst = []string{"1/2/2006 15:04:05", "1/2/2006 15:04", "1/2/2006 3:04:05 PM", "1/2/2006 3:04 PM", "1-2-2006 15:04:05"}
)

// ParseTime reads a moment as statements write it: with a zone (RFC 3339 and its like), without one in the zone
// that is given, as seconds or milliseconds since 1970, or as the days of a workbook.
func ParseTime(s string, zone *time.Location, months bool) (time.Time, bool) {
	if len(s) > 40 {
		return time.Time{}, false
	}
	for _, layout := range zoned {
		if t, err := time.Parse(layout, s); err == nil {
			return sane(t)
		}
	}
	days := dayFirst
	if months {
		days = monthFirst
	}
	for _, layouts := range [][]string{local, days} {
		for _, layout := range layouts {
			if t, err := time.ParseInLocation(layout, s, zone); err == nil {
				return sane(t)
			}
		}
	}
	n, err := strconv.ParseFloat(s, 64)
	switch {
	case err != nil:
		return time.Time{}, false
	case n > 36_526 && n < 73_050 && strings.Contains(s, "."): // of 2000 to 2099 in a workbook, with a time of day
		at := time.Date(1899, 12, 30, 0, 0, 0, 0, zone).Add(time.Duration(n * 24 * float64(time.Hour)))
		return at.Round(time.Second).UTC(), true
	case n > 1e9 && n < 4.2e9:
		return time.UnixMilli(int64(n * 1000)).UTC(), true
	case n > 1e12 && n < 4.2e12:
		return time.UnixMilli(int64(n)).UTC(), true
	}
	return time.Time{}, false
}

func sane(t time.Time) (time.Time, bool) { return t.UTC(), t.Year() >= 2000 && t.Year() < 2100 }
