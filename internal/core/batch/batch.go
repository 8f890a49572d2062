// Package batch is what a batch of messages is made of: its rows as they are kept, what
// rehearsing found of each, what all of them come to, and in which order they go.
//
// A batch is a list of rows. Rehearsed, each of them goes, or is left out for a [Reason];
// rows in = rows to send + rows left out, whatever happens. Launched, the rows that go
// are divided into feeds, of which each is let out by itself.
package batch

import (
	"slices"
	"time"

	"calmpigeon.example/internal/core/label"
	"calmpigeon.example/internal/core/sheet"
)

// State is where a batch stands.
type State string

// The states, in the order of a batch's life.
const (
	Open      State = "open"      // takes rows
	Checking  State = "checking"  // is being rehearsed
	Rehearsed State = "rehearsed" // can be launched
	Running   State = "running"   // its rows go, or wait for their time
	Paused    State = "paused"    // until a person lets it go on
	Held      State = "held"      // it stopped by itself, or its scouts are out; why says it
	Finished  State = "finished"  // every row has come to an end
	Cancelled State = "cancelled" // what was not out yet does not go
)

// States lists them.
var States = []State{Open, Checking, Rehearsed, Running, Paused, Held, Finished, Cancelled}

// Launched reports whether rows may have gone.
func (s State) Launched() bool {
	return s == Running || s == Paused || s == Held || s == Finished || s == Cancelled
}

// Active reports whether rows may still have to go.
func (s State) Active() bool { return s == Running || s == Paused || s == Held }

// The bounds of a batch.
const (
	PackRows = 1000    // rows that are kept together
	RowsMost = 4 << 20 // of a batch; a message's id leaves 24 bits to the row
)

// Wants is what a batch sends, the same for all rows that do not say otherwise.
type Wants struct {
	Text     string `json:"text,omitempty"` // with fields in braces
	Template string `json:"template,omitempty"`
	// Wording is the template as it was when the batch was rehearsed: what goes is what was
	// looked at, also where the template has been changed since.
	Wording  string `json:"wording,omitempty"`
	Sender   string `json:"sender,omitempty"`
	Kind     string `json:"kind,omitempty"`
	Gateway  string `json:"gateway,omitempty"`
	ValidFor string `json:"valid_for,omitempty"`
	Country  string `json:"country,omitempty"`  // in which numbers are dialled that have no country code
	Language string `json:"language,omitempty"` // of rows that name none
	Cure     string `json:"cure,omitempty"`
	KeyCure  string `json:"key_cure,omitempty"` // of the key that made it, where Cure is empty
	// Labels are those of the batch, KeyLabels those of the key that made it, AllLabels both.
	Labels    map[string]string `json:"labels,omitempty"`
	KeyLabels label.Set         `json:"key_labels,omitempty"`
	AllLabels label.Set         `json:"all_labels,omitempty"`
	Flash     bool              `json:"flash,omitempty"`
	Long      bool              `json:"long,omitempty"`
	// AtAnyHour sends in quiet hours, too.
	AtAnyHour bool `json:"at_any_hour,omitempty"`
	// SendAt is when each message goes: without a zone, by the clock of whom it is for.
	// OwnTimes takes it from the column for times, where a row has one.
	SendAt   string `json:"send_at,omitempty"`
	OwnTimes bool   `json:"own_times,omitempty"`
	// FixedLines and Repeats let rows go that are left out else: to fixed lines, and to
	// numbers that stand in the list before.
	FixedLines bool `json:"fixed_lines,omitempty"`
	Repeats    bool `json:"repeats,omitempty"`
}

// Found is what was recognised of a list.
type Found struct {
	File     string   `json:"file,omitempty"`
	Said     string   `json:"said,omitempty"` // what it is written in
	Format   string   `json:"format,omitempty"`
	Encoding string   `json:"encoding,omitempty"`
	Mark     bool     `json:"mark,omitempty"`  // it begins with a byte order mark
	Comma    string   `json:"comma,omitempty"` // what stands between the cells of CSV
	NoHead   bool     `json:"no_head,omitempty"`
	Sheet    string   `json:"sheet,omitempty"`     // of a workbook
	HeadLine int      `json:"head_line,omitempty"` // where its head is, 1 first
	Locale   string   `json:"locale,omitempty"`    // in whose conventions the cells of a workbook are shown
	Columns  []Column `json:"columns,omitempty"`
}

// Column is a column of the list, in its place.
type Column struct {
	Head  string     `json:"head"`
	Role  sheet.Role `json:"role"` // empty: a field alone
	Field string     `json:"field"`
	Why   string     `json:"why,omitempty"`
}

// Launch is how a batch is sent.
type Launch struct {
	StartsAt time.Time `json:"starts_at,omitzero"` // zero: at once
	Until    time.Time `json:"until,omitzero"`     // what is left then expires; zero: no such time
	Pace     Pace      `json:"pace,omitzero"`
	Evenly   time.Time `json:"evenly,omitzero"`  // the pace is such that it lasts until then
	Scouts   int       `json:"scouts,omitempty"` // how many rows go ahead; 0: all go
	Seed     uint64    `json:"seed,omitempty"`   // by which they are chosen
	// ScoutsWait is when the rest follows by itself; Guard when the batch stops by itself.
	ScoutsWait ScoutsWait `json:"scouts_wait,omitzero"`
	Guard      Guard      `json:"guard,omitzero"`
	By         string     `json:"by"`
	// Foreseen is when it was to end, as was forecast when it was launched; zero: never.
	Foreseen time.Time `json:"foreseen,omitzero"`

	KeyID     string `json:"key_id,omitempty"`     // of the key that launched it
	KeyBudget Sums   `json:"key_budget,omitempty"` // what may be spent a day on batches of that key
	// MakerBudgets are the same of the keys that made that key, the first of them first. They hold too.
	MakerBudgets []KeyBudget `json:"maker_budgets,omitempty"`
	Budget       Sums        `json:"budget,omitempty"` // what may be spent on it; none: any amount
	// Approval is why a second person has to let it go; empty if none has to, or one did.
	Approval string `json:"approval,omitempty"`
	Stopped  Stop   `json:"stopped,omitempty"` // what stopped it, while it is held
	// StoppedOn is the day whose budget was reached.
	StoppedOn time.Time `json:"stopped_on,omitzero"`
	// Hours are the hours of rows, see [Check.Hours], that are let out by themselves.
	Hours []string `json:"hours,omitempty"`
}

// KeyBudget is what may be spent a day on the batches of a key and of the keys that it made.
type KeyBudget struct {
	KeyID  string `json:"key_id"`
	Budget Sums   `json:"budget"`
}

// HoursOf are the hours by which a row is let out: its own, or none, if there are too many.
func (l *Launch) HoursOf(own string) string {
	if own == "" || slices.Contains(l.Hours, own) {
		return own
	}
	return ""
}

// Stop is what stopped a batch.
type Stop string

// What stops a batch.
const (
	ByScouts Stop = "scouts"
	ByGuard  Stop = "guard"
	ByBudget Stop = "budget" // of its own
	ByDay    Stop = "day"    // the budget of a day; the next day it goes on
)
