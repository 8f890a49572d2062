// Package recipients keeps lists of recipients, with groups and fields, to be written to again.
package recipients

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/sheet"
	"calmpigeon.example/internal/store"
)

// Lists keeps them.
type Lists struct {
	Store  *store.Store
	Sheets *sheet.Opener
	Now    func() time.Time
}

// The bounds of lists.
const (
	nameMost    = 100 // characters, of a list
	groupMost   = 60  // characters, of a group
	groupsMost  = 20  // of a recipient
	columnsMost = 200
	// RowsMost is how many recipients a list has at most.
	RowsMost = batch.RowsMost
	// portion is how many rows are kept at once.
	portion      = 1000
	portionBytes = 4 << 20
	// leftMost is how many rows are told that were left out.
	leftMost = 100
)

// Wants are how a list is to be kept.
type Wants struct {
	Name    string
	By      string   // the name of a key
	Country string   // where numbers without a country code are dialled
	Groups  []string // that all of them are put in
	Number  string   // the column that holds numbers; empty: the one that is recognised
	Replace bool     // what was on the list before goes, once all of this is there
	DryRun  bool     // make every check and keep nothing
}

// Left is a row that was left out.
type Left struct {
	Line int
	Why  string
}

// Saved is what came of a list.
type Saved struct {
	List    store.RecipientList
	Said    string // what it is written in
	Columns []batch.Column
	Rows    int // that came
	Added   int
	Changed int
	Same    int    // were there already, as they are, or came twice
	Out     int    // left out
	Left    []Left // the first of them
}

var errDry = errors.New("nothing is to be kept")

// Save puts the rows of a sheet on a list, which is made if there is none. A number stands once
// on a list: what comes of one that is there takes the place of what stood in those columns.
// Rows whose number cannot be read are left out, and told. What was kept before an error stays,
// unless it was to replace a list; the same may be saved again.
func (l *Lists) Save(ctx context.Context, w Wants, in io.Reader, hint sheet.Hint) (Saved, error) {
	if err := w.check(); err != nil {
		return Saved{}, err
	}
	hint.Country = w.Country
	list, err := l.Sheets.Open(ctx, in, hint)
	if err != nil {
		return Saved{}, sheet.Fault(err)
	}
	defer list.Close()
	now := l.Now()
	s := &saving{Lists: l, Wants: w, Saved: Saved{Said: list.Found.String()}, seen: map[string]int{},
		list: store.RecipientList{ID: store.IDAt(now), Name: w.Name, ByWhom: w.By, CreatedAt: now, ChangedAt: now}}
	if w.Replace && !w.DryRun {
		s.list.Staged, s.list.Name = true, w.Name+"\u0001"+s.list.ID.String()
	}
	if err := s.recognise(list.Columns(w.Country)); err != nil {
		return s.Saved, err
	}
	for row, err := range list.Rows() {
		if err == nil {
			err = ctx.Err()
		}
		if err == nil {
			err = s.row(ctx, row)
		}
		if err != nil {
			return s.Saved, s.end(context.WithoutCancel(ctx), sheet.Fault(err))
		}
	}
	return s.Saved, s.end(ctx, nil)
}

// end keeps what is left, unless it was to replace a list and there is an error: then nothing of
// it is kept.
func (s *saving) end(ctx context.Context, err error) error {
	if err == nil || !s.list.Staged {
		err = errors.Join(err, s.flush(ctx))
	}
	if !s.list.Staged {
		return err
	}
	if err == nil && s.List.ID != s.list.ID {
		err = fault.New("list", "none of its rows has a number", "rows with numbers; to have none, remove the list")
	}
	if err == nil {
		s.List.Name = s.Name
		return s.Store.PutInPlace(ctx, s.list.ID, s.Name)
	}
	return errors.Join(err, s.Store.DropList(context.WithoutCancel(ctx), s.list.ID))
}

func (w *Wants) check() error {
	var faults fault.Faults
	w.Name = strings.TrimSpace(w.Name)
	dots := strings.Trim(w.Name, ".") == "" // as a part of an address they lead elsewhere
	if n := utf8.RuneCountInString(w.Name); n > nameMost || !plain(w.Name) || strings.ContainsAny(w.Name, "/") || dots {
		faults.Add("name", fmt.Sprintf("%q", w.Name), fmt.Sprintf("1 to %d characters, without slashes", nameMost))
	}
	if err := groups("group", w.Groups); err != nil {
		faults = append(faults, fault.Of(err)...)
	}
	if w.Country != "" && !phone.IsCountry(strings.ToUpper(w.Country)) {
		faults.Add(
			"country",
			fmt.Sprintf("%q is not the code of a country%s", w.Country, phone.Meant(w.Country)),
			"two letters, such as GB",
		)
	}
	if faults != nil {
		return faults
	}
	return nil
}

// plain reports whether a word can be kept and shown.
func plain(s string) bool {
	return utf8.ValidString(s) && !strings.ContainsFunc(s, func(r rune) bool { return r < ' ' || r == 0x7f })
}

// groups checks groups that somebody is put in.
func groups(field string, all []string) error {
	for _, g := range all {
		if n := utf8.RuneCountInString(g); n == 0 || n > groupMost || !plain(g) {
			return fault.New(field, fmt.Sprintf("%q is no name of a group", g), fmt.Sprintf("1 to %d characters", groupMost))
		}
	}
	if len(all) > groupsMost {
		return fault.New(field, fmt.Sprintf("%d groups", len(all)), fmt.Sprintf("at most %d", groupsMost))
	}
	return nil
}

// saving is a sheet on its way into a list.
type saving struct {
	*Lists
	Wants
	Saved
	list    store.RecipientList // as it is made, if there is none
	number  int                 // the columns
	country int
	group   int
	set     []store.Recipient
	bytes   int            // what stands in the fields of the set
	seen    map[string]int // numbers in the set, and where
}

// recognise takes up what columns are for.
func (s *saving) recognise(columns []sheet.Column) error {
	s.number, s.country, s.group = -1, -1, -1
	var heads []string
	for i, c := range columns {
		heads = append(heads, c.Head)
		switch {
		case s.Number != "" && c.Head == s.Number, s.Number == "" && c.Role == sheet.To:
			s.number = i
		case c.Role == sheet.Country:
			s.country = i
		case s.group < 0 && sheet.HoldsGroups(c.Head):
			s.group = i
			continue
		}
		role, why := c.Role, c.Why
		if i == s.number {
			if role = sheet.To; why == "" {
				why = "you said so"
			}
		} else if role == sheet.To {
			role, why = "", ""
		}
		s.Columns = append(s.Columns, batch.Column{Head: store.Keepable(c.Head), Role: role, Field: c.Field, Why: why})
	}
	if s.number < 0 {
		return fault.New("number", "no column holds numbers", "one of its columns: "+strings.Join(heads, ", "))
	}
	return nil
}

// row takes one row up.
func (s *saving) row(ctx context.Context, row sheet.Row) error {
	s.Rows++
	wrong := row.Wrong
	cell := func(at int) string {
		if at < 0 || at >= len(row.Cells) {
			return ""
		}
		return strings.TrimSpace(row.Cells[at])
	}
	country := s.Country
	if own := cell(s.country); own != "" {
		country = own
	}
	var reading phone.Reading
	if wrong == "" {
		var err error
		if reading, err = phone.Read(cell(s.number), country); err != nil {
			wrong = fault.Why(err)
		}
	}
	in := slices.Concat(s.Groups, sheet.ReadGroups(cell(s.group)))
	if wrong == "" {
		if err := groups("groups", in); err != nil {
			wrong = fmt.Sprintf("%s, accepted is %s", fault.Of(err)[0].Wrong, fault.Of(err)[0].Accepted)
		}
	}
	if wrong != "" {
		if s.Out++; len(s.Left) < leftMost {
			s.Left = append(s.Left, Left{row.Line, wrong})
		}
		return nil
	}
	r := store.Recipient{Number: reading.Number.String(), Fields: map[string]string{}, Groups: in}
	at := 0
	for i := range row.Cells {
		if i == s.group {
			continue
		}
		if value := cell(i); value != "" && at < len(s.Columns) {
			r.Fields[s.Columns[at].Head] = store.Keepable(value)
			s.bytes += len(value)
		}
		at++
	}
	r.Fields[s.Columns[s.numberAt()].Head] = r.Number
	if twice, ok := s.seen[r.Number]; ok { // what comes later counts
		before := &s.set[twice]
		for head, value := range r.Fields {
			before.Fields[head] = value
		}
		before.Groups = append(before.Groups, r.Groups...)
		s.Same++
		return nil
	}
	s.seen[r.Number] = len(s.set)
	if s.set = append(s.set, r); len(s.set) < portion && s.bytes < portionBytes {
		return nil
	}
	return s.flush(ctx)
}

// numberAt is where the column of numbers stands among those that are kept.
func (s *saving) numberAt() int {
	return slices.IndexFunc(s.Columns, func(c batch.Column) bool { return c.Role == sheet.To })
}

// flush keeps a portion.
func (s *saving) flush(ctx context.Context) error {
	if len(s.set) == 0 {
		return nil
	}
	var added, changed int
	kept, err := s.Store.ChangeList(ctx, s.list, func(tx *store.Store, l *store.RecipientList) (err error) {
		if err := s.columns(l); err != nil {
			return err
		}
		to := l.Columns[slices.IndexFunc(l.Columns, func(c batch.Column) bool { return c.Role == sheet.To })].Head
		if from := s.Columns[s.numberAt()].Head; to != from { // the list calls it otherwise
			for i := range s.set {
				delete(s.set[i].Fields, from)
				s.set[i].Fields[to] = s.set[i].Number
			}
		}
		if added, changed, err = tx.PutRecipients(ctx, l.ID, s.set); err != nil {
			return err
		}
		if l.Rows += added; l.Rows > RowsMost {
			return fault.New("list", fmt.Sprintf("there would be more than %d recipients on it", RowsMost), "lists of at most so many")
		}
		if s.List = *l; s.DryRun {
			return errDry
		}
		return nil
	})
	if errors.Is(err, store.ErrGroups) {
		return fault.New("groups", err.Error(), "at most so many; take them out of some: pigeon recipients remove --group")
	}
	if err != nil && !errors.Is(err, errDry) {
		return err
	}
	if err == nil {
		s.List = kept
	}
	s.Added, s.Changed, s.Same = s.Added+added, s.Changed+changed, s.Same+len(s.set)-added-changed
	s.set, s.bytes = nil, 0
	clear(s.seen)
	return nil
}

// columns adds columns to those that a list has. A role that is taken stays where it is.
func (s *saving) columns(l *store.RecipientList) error {
	for _, c := range s.Columns {
		has := slices.ContainsFunc(l.Columns, func(k batch.Column) bool { return k.Head == c.Head })
		taken := c.Role != "" && slices.ContainsFunc(l.Columns, func(k batch.Column) bool { return k.Role == c.Role })
		switch {
		case has, taken && c.Role == sheet.To:
			continue
		case taken:
			c.Role, c.Why = "", ""
		}
		l.Columns = append(l.Columns, c)
	}
	if len(l.Columns) > columnsMost {
		return fault.New("list", fmt.Sprintf("the list would have %d columns", len(l.Columns)), fmt.Sprintf("at most %d", columnsMost))
	}
	return nil
}

// Remove takes numbers off a list, or out of a group where one is given, and returns how many
// it had.
func (l *Lists) Remove(ctx context.Context, name string, numbers []string, group string) (had int, err error) {
	is, err := l.Store.RecipientList(ctx, name)
	if err != nil {
		return 0, err
	}
	is.ChangedAt = l.Now()
	_, err = l.Store.ChangeList(ctx, is, func(tx *store.Store, is *store.RecipientList) (err error) {
		had, err = tx.DropRecipients(ctx, is.ID, numbers, group)
		if group == "" {
			is.Rows -= had
		}
		return err
	})
	return had, err
}
