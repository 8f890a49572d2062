package statements

import (
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/belong"
	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/core/sheet"
	"calmpigeon.example/internal/core/statement"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/guard"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

// ErrState is returned for what cannot be done with a statement as it is.
var ErrState = errors.New("not now")

// Wants is how a statement is to be taken in.
type Wants struct {
	Gateway *roster.Gateway
	Name    string // of the file
	By      string
	Mapping *statement.Mapping // nil: as it was the last time for the same columns, or as is proposed
	From    *time.Time         // the span of time that it is about; nil: from its first line, and until its last
	Until   *time.Time
	DryRun  bool // only say how it would be read
	// Fetched: it is what the gateway answered, about From until Until. Of another span it is another statement, also
	// where it says the same; it may be empty; and one of which nothing can be read is none.
	Fetched bool
}

// Took is what came of it.
type Took struct {
	Statement store.Statement
	Again     bool             // the same file was taken in before
	First     []statement.Line // as they are read
	Columns   []string

	mine uuid.UUID // of what was read in vain
}

// reader reads lines, by columns or as the dialect says.
type reader struct {
	g      *roster.Gateway
	head   []string
	byCell *statement.Reader // nil: as the dialect says
}

func (r *reader) read(cells []string) []statement.Line {
	if r.byCell != nil {
		return []statement.Line{r.byCell.Read(cells)}
	}
	items, err := r.g.Dialect.StatementLine(r.head, cells)
	if err != nil {
		return []statement.Line{{Wrong: store.Keepable(err.Error())}}
	}
	lines := make([]statement.Line, len(items))
	for i, item := range items {
		lines[i] = lineOf(item, r.g.Currency)
	}
	return lines
}

// lineOf is a line as a dialect read it.
func lineOf(item dialect.Item, otherwise string) statement.Line {
	l := statement.Line{
		GatewayRef: item.GatewayRef,
		Reference:  item.Reference,
		Number:     item.To,
		At:         item.At,
		State:      item.State,
		Cause:      item.Cause,
		Code:       item.Code,
		Segments:   item.Segments,
	}
	if item.Charge != nil {
		l.Charge, l.Currency = &item.Charge.Micros, cmp.Or(price.CurrencyOf(item.Charge.Currency), otherwise)
	}
	return l
}

// mapping finds out how a file is read.
func (s *Statements) mapping(ctx context.Context, w Wants, list *sheet.List) (statement.Mapping, *reader, error) {
	r := &reader{g: w.Gateway, head: list.Head()}
	codes := func(code string) (delivery.State, delivery.Cause, bool) {
		c, known := w.Gateway.Dialect.Codes[code]
		return c.State, c.Cause, known && c.State != ""
	}
	m := w.Mapping
	if m == nil {
		before, err := s.Store.Statements(ctx, w.Gateway.ID, uuid.Nil, 20)
		if err != nil {
			return statement.Mapping{}, nil, err
		}
		for _, one := range before {
			if slices.Equal(one.Head, r.head) && one.WithdrawnAt == nil {
				m = &one.Mapping
				break
			}
		}
	}
	if m == nil && s.asDialect(w.Gateway, list) {
		m = &statement.Mapping{Dialect: true, Columns: map[statement.Role]string{}}
	}
	if m == nil {
		proposed := statement.Propose(r.head, list.First(), codes)
		m = &proposed
	}
	if m.Currency == "" {
		m.Currency = w.Gateway.Currency
	}
	if m.Dialect {
		if w.Gateway.Dialect.Statement == nil {
			return *m, nil, fault.New("mapping.dialect", "the dialect of the gateway does not say how a statement is read", "columns")
		}
		return *m, r, nil
	}
	var err error
	r.byCell, err = statement.NewReader(r.head, *m, codes)
	return *m, r, err
}

// asDialect reports whether the first lines can be read as the dialect says.
func (s *Statements) asDialect(g *roster.Gateway, list *sheet.List) bool {
	first := list.First()
	if g.Dialect.Statement == nil || len(first) == 0 {
		return false
	}
	for _, cells := range first[:min(len(first), 5)] {
		if items, err := g.Dialect.StatementLine(list.Head(), cells); err != nil || len(items) == 0 {
			return false
		}
	}
	return true
}

// Take reads a statement as it streams, and keeps it; matching goes on by itself. The same file again changes
// nothing.
func (s *Statements) Take(ctx context.Context, w Wants, in io.Reader, hint sheet.Hint) (t Took, err error) {
	sum := sha256.New()
	if w.Fetched {
		fmt.Fprintf(sum, "%s %s\n", w.From.UTC().Format(time.RFC3339Nano), w.Until.UTC().Format(time.RFC3339Nano))
	}
	hint.Held = true // amounts and times are to be read, by us
	list, err := s.Sheets.Open(ctx, io.TeeReader(in, sum), hint)
	if errors.Is(err, sheet.ErrList) {
		return t, fault.New("file", fault.Why(err), "CSV, XLSX or JSON Lines, with a head")
	}
	if err != nil {
		return t, err
	}
	defer list.Close()
	mapping, r, err := s.mapping(ctx, w, list)
	if err != nil {
		return t, err
	}
	t.Columns = list.Head()
	for _, cells := range list.First()[:min(len(list.First()), 5)] {
		t.First = append(t.First, r.read(cells)...)
	}
	now := s.Now()
	until := now.Add(readWithin)
	t.Statement = store.Statement{ID: store.IDAt(now), GatewayID: w.Gateway.ID, Name: w.Name, Digest: []byte{}, State: store.Reading,
		Found: list.Found.String(), Head: list.Head(), Mapping: mapping, CreatedAt: now, ByWhom: w.By, ReadUntil: &until}
	if w.DryRun {
		_, err := io.Copy(io.Discard, in) // whoever sends it wants to send it all
		return t, err
	}
	if err := s.Store.NewStatement(ctx, t.Statement); err != nil {
		return t, err
	}
	defer func() {
		if err != nil || t.Again { // nothing of it is kept
			err = errors.Join(err, s.Store.DropStatement(context.WithoutCancel(ctx), cmp.Or(t.mine, t.Statement.ID)))
		}
	}()
	if err := s.readAll(ctx, &t.Statement, w, list, r); err != nil {
		return t, err
	}
	if _, err := io.Copy(io.Discard, io.TeeReader(in, sum)); err != nil { // what a workbook has after its last sheet
		return t, err
	}
	one := &t.Statement
	one.Digest = sum.Sum(nil)
	if w.From != nil {
		one.FromAt = w.From
	}
	if w.Until != nil {
		one.UntilAt = w.Until
	}
	one.State = store.Matching
	_, err = s.Store.ChangeStatement(ctx, *one, store.Reading, "state", "digest", "lines", "from_at", "until_at")
	if errors.Is(err, store.ErrExists) { // the database sees to it, also of two at once
		same, err := s.Store.SameFile(ctx, w.Gateway.ID, one.Digest)
		if same != nil {
			t.mine, t.Statement, t.Again = one.ID, *same, true
		}
		return t, err
	}
	s.work.Now()
	return t, err
}

// readAll reads all lines and keeps them, matched by name. Reading and matching go on at the same time.
func (s *Statements) readAll(ctx context.Context, one *store.Statement, w Wants, list *sheet.List, r *reader) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	sets := make(chan []store.StatementLine, 1)
	failed := make(chan error, 1)
	defer func() { // nobody reads the file any more when it is closed
		stop()
		for range sets {
		}
	}()
	read := func() error {
		set := make([]store.StatementLine, 0, setMost)
		n := 0
		for row, err := range list.Rows() {
			if err != nil {
				return err
			}
			lines := []statement.Line{{Wrong: row.Wrong}}
			if row.Wrong == "" {
				lines = r.read(row.Cells)
			}
			for _, l := range lines {
				n++
				set = append(set, kept(one.ID, n, l, w.Gateway))
			}
			if len(set) >= setMost {
				select {
				case sets <- set:
				case <-ctx.Done():
					return nil
				}
				set = make([]store.StatementLine, 0, setMost)
			}
		}
		if len(set) > 0 {
			select {
			case sets <- set:
			case <-ctx.Done():
			}
		}
		return nil
	}
	go func() {
		defer close(sets)
		if err := guard.Try(read); err != nil {
			failed <- err
		}
	}()
	var unreadable int64
	why := ""
	for set := range sets {
		for _, l := range set {
			if l.Wrong != "" {
				unreadable++
				why = cmp.Or(why, l.Wrong)
			}
		}
		if err := s.keep(ctx, one, set); err != nil {
			return err
		}
	}
	select {
	case err := <-failed:
		if errors.Is(err, sheet.ErrList) {
			err = fault.New("file", fault.Why(err), "a file that can be read to its end")
		}
		return err
	default:
	}
	if one.Lines == 0 && !w.Fetched {
		return fault.New("file", "it has no lines", "a head, and a line for each message")
	}
	if w.Fetched && one.Lines > 0 && unreadable == one.Lines {
		return fault.New(
			"file",
			fmt.Sprintf("none of its %d lines can be read, the first for: %s", one.Lines, why),
			"lines as the dialect says",
		)
	}
	return ctx.Err()
}

// chargeMost is the highest charge for one message, in millionths: the sum of a file can be counted.
const chargeMost = 1_000_000 * price.Micro

// kept is a line as it is kept, before it is matched.
func kept(id uuid.UUID, n int, l statement.Line, g *roster.Gateway) store.StatementLine {
	k := store.StatementLine{StatementID: id, N: n, GatewayRef: store.Keepable(l.GatewayRef), Reference: store.Keepable(l.Reference),
		Sender: store.Keepable(l.Sender), State: l.State, Cause: l.Cause, Code: store.Keepable(l.Code), Segments: l.Segments,
		ChargeMicros: l.Charge, ChargeCurrency: l.Currency, Wrong: l.Wrong, Heap: store.OnlyTheirs, How: store.NoMessage}
	if l.Number != "" {
		k.Number, k.Country = g.NumberIn(l.Number)
	}
	if !l.At.IsZero() {
		k.At = &l.At
	}
	if k.GatewayRef == "" && k.Reference == "" && k.Number == "" { // a sum below the lines, or no list at all
		k.Wrong = cmp.Or(k.Wrong, "it names no message: neither an id, a reference nor a number stands in it")
	}
	switch {
	case l.Charge == nil:
		k.ChargeCurrency = ""
	case *l.Charge > chargeMost || *l.Charge < -chargeMost:
		k.ChargeMicros, k.ChargeCurrency = nil, ""
		k.Wrong = cmp.Or(k.Wrong, "charge: more than a million for one message")
	}
	return k
}

// digits are those of a line's number.
func digits(l store.StatementLine) string { return strings.TrimPrefix(l.Number, "+") }

// keep matches lines by name and keeps them, in one transaction with how far the statement is.
func (s *Statements) keep(ctx context.Context, one *store.Statement, set []store.StatementLine) error {
	claims := make([]store.Stray, 0, len(set))
	at := make(map[uuid.UUID]int, len(set))
	for i, l := range set {
		if l.Wrong == "" && (l.GatewayRef != "" || l.Reference != "") {
			id := store.NewID()
			at[id] = i
			claims = append(claims, store.Stray{ID: id, GatewayID: one.GatewayID, GatewayRef: l.GatewayRef, Reference: l.Reference,
				ToNumber: digits(l)})
		}
	}
	next := *one
	err := s.Store.Transact(ctx, func(tx *store.Store) error {
		lines := slices.Clone(set)
		matched, err := tx.Match(ctx, claims, time.Time{})
		if err != nil {
			return err
		}
		for id, m := range matched {
			l := &lines[at[id]]
			l.MessageID, l.Attempt, l.How = &m.MessageID, m.Attempt, store.ByReference
			if m.Named {
				l.How = store.ByID
			}
		}
		for i := range lines {
			switch l := &lines[i]; {
			case l.Wrong != "":
				l.How = store.Unreadable
			case l.MessageID == nil && l.Number != "" && l.At != nil:
				l.How = store.StillOpen
			}
		}
		if err := compare(ctx, tx, lines); err != nil {
			return err
		}
		if err := tx.AddLines(ctx, lines); err != nil {
			return err
		}
		next = *one
		next.Lines += int64(len(lines))
		for _, l := range lines {
			if l.At == nil {
				continue
			}
			if next.FromAt == nil || l.At.Before(*next.FromAt) {
				next.FromAt = l.At
			}
			if next.UntilAt == nil || l.At.After(*next.UntilAt) {
				next.UntilAt = l.At
			}
		}
		until := s.Now().Add(readWithin)
		next.ReadUntil = &until
		mine, err := tx.ChangeStatement(ctx, next, store.Reading, "lines", "read_until", "from_at", "until_at")
		if err == nil && !mine {
			err = fmt.Errorf("statement %s: %w: it took too long, and was given up", one.ID, ErrState)
		}
		return err
	})
	if err == nil {
		*one = next
	}
	return err
}

// claimants are the submissions to which lines may belong that name no message: those of which there is no line yet.
func (s *Statements) claimants(
	ctx context.Context, tx *store.Store, one store.Statement, sent []store.Claimant,
) (claimants []belong.Claimant, kept []store.Claimant, err error) {
	all := make([]uuid.UUID, len(sent))
	for i, c := range sent {
		all[i] = c.MessageID
	}
	taken, err := tx.TakenBy(ctx, one.ID, all)
	if err != nil {
		return nil, nil, err
	}
	seen := map[uuid.UUID]bool{}
	for _, c := range sent {
		if !taken[c.MessageID] && !seen[c.MessageID] && !c.Sending {
			seen[c.MessageID] = true
			claimants = append(claimants, belong.Claimant{Number: c.To.String(), Sender: c.Sender, Began: c.Began})
			kept = append(kept, c)
		}
	}
	return claimants, kept, nil
}

// EvidenceOf is what a line says about its message. It can be withdrawn with the statement. A line that names no
// message is weak.
func EvidenceOf(l store.StatementLine, one store.Statement, now time.Time) store.Evidence {
	e := store.Evidence{ID: store.IDAt(now), MessageID: *l.MessageID, At: now, Source: delivery.Statement, Claim: l.State, Cause: l.Cause,
		Attempt: l.Attempt, GatewayID: &one.GatewayID, GatewayRef: l.GatewayRef, Code: l.Code, GatewayAt: l.At,
		Note:   fmt.Sprintf("line %d of %s", l.N, one.Name),
		Billed: store.Billed{Segments: l.Segments, ChargeMicros: l.ChargeMicros, ChargeCurrency: l.ChargeCurrency},
		Ground: store.GroundOf(one.ID), Weak: l.How == store.ByNumber}
	return e
}

// Withdraw takes all back that a statement said.
func (s *Statements) Withdraw(ctx context.Context, id uuid.UUID, by, why string) (store.Statement, error) {
	one, err := s.Store.Statement(ctx, id)
	if err != nil {
		return one, err
	}
	now := s.Now()
	was := one.State
	one.State, one.WithdrawnAt, one.WithdrawnBy, one.WithdrawnWhy, one.DoneN = store.Withdrawing, &now, by, why, 0
	switch was {
	case store.Matching, store.Applying, store.Done:
	default:
		return one, fmt.Errorf("statement %s is %s: %w", id, was, ErrState)
	}
	mine, err := s.Store.ChangeStatement(ctx, one, was, "state", "withdrawn_at", "withdrawn_by", "withdrawn_why", "done_n")
	if err == nil && !mine {
		err = fmt.Errorf("statement %s has moved on meanwhile: %w", id, ErrState)
	}
	s.work.Now()
	return one, err
}

// takeBack withdraws the next lines.
func (s *Statements) takeBack(ctx context.Context, tx *store.Store, one store.Statement) ([]store.Message, error) {
	lines, err := tx.LinesToApply(ctx, one.ID, one.DoneN, applyMost)
	if err != nil {
		return nil, err
	}
	if len(lines) == 0 {
		one.State = store.Withdrawn
		if _, err := tx.ChangeStatement(ctx, one, store.Withdrawing, "state"); err != nil {
			return nil, err
		}
		return nil, tx.UnsumBilled(ctx, one)
	}
	now := s.Now()
	note := fmt.Sprintf("%s was withdrawn by %s: %s", one.Name, one.WithdrawnBy, cmp.Or(one.WithdrawnWhy, "no reason given"))
	evidence := make([]store.Evidence, len(lines))
	for i, l := range lines {
		evidence[i] = course.Withdrawn(*l.MessageID, one.GatewayID, store.GroundOf(one.ID), now, delivery.Operator, note)
		one.DoneN = int64(l.N)
	}
	if _, err := tx.ChangeStatement(ctx, one, store.Withdrawing, "done_n"); err != nil {
		return nil, err
	}
	return s.Course.Record(ctx, tx, evidence, nil)
}
