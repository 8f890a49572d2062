package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/label"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/core/schedule"
)

// Message is a message: its content, which is written once, and where it
// stands, which is what Fold made of its evidence and is written nowhere but in
// [Store.Append].
type Message struct {
	Content
	Standing
	schedule.Times
	// OptedOut is why a message that was claimed is not to go; nil: nothing is against it.
	OptedOut *OptOut
}

// Content is what never changes of a message.
type Content struct {
	ID         uuid.UUID
	KeyID      uuid.UUID
	To         phone.Number
	Sender     string
	Kind       pace.Kind
	Lane       int
	Text       string
	Encoding   string
	Units      int
	Segments   int
	Reference  string
	ValidUntil time.Time
	CreatedAt  time.Time
	Country    string
	Template   string
	// Registration is the id under which the country has registered the text.
	Registration string
	// Given is the text before characters were replaced; empty if none were.
	Given  string
	Fields map[string]any // of its template
	Flash  bool
	Route  string // the name of its route; empty if it has none
	Labels label.Set
	// HeldUntil is until when it was held when it was accepted; nil: it was not.
	HeldUntil *time.Time
	// Sealed is the text and the fields of a passcode that was claimed, sealed;
	// Text and Fields are what of them may be seen. Marks are keyed hashes of the
	// codes in them, [MarkSize] octets each.
	Sealed []byte
	Marks  string
	// ReportTo is where its events are told to the receiver ReportVia, in the place of that one's own address.
	ReportVia uuid.UUID
	ReportTo  string
}

// Standing is where a message stands.
type Standing struct {
	GatewayID  uuid.UUID
	State      delivery.State
	Cause      delivery.Cause
	Rivals     string // states joined by commas
	Attempt    int    // the submission that the state speaks of
	Attempts   int
	GatewayRef string
	ChangedAt  time.Time
	SettledAt  *time.Time
	Price      price.Money // no amount if it is not known
	// Avoidable is what of the price characters cost that could be replaced safely, in millionths.
	Avoidable int64
	// Repeats is how many facts said again what was known.
	Repeats int

	version int32 // of the row, counted up by each change
	cut     int32 // the combination of dimensions that it is counted in
	digest  delivery.Digest
	stale   bool // the digest is to be worked out from the evidence
}

// micros is a price as it is kept; nil if it is not known.
func (t *Standing) micros() *int64 {
	if t.Price == (price.Money{}) {
		return nil
	}
	n := t.Price.Micros()
	return &n
}

// contentColumns and standingColumns are read by scanMessage.
const (
	contentColumns = `m.id, m.key_id, m.to_number, m.sender, m.kind, m.lane, m.text, m.encoding, m.units, m.segments, m.reference,
		m.valid_until, m.created_at, m.country, m.template, m.registration, m.given, m.fields, m.flash, m.route, m.held_until,
		coalesce(m.report_to, '')`
	standingColumns = `s.gateway_id, s.state, s.cause, s.rivals, s.attempts, s.changed_at, s.settled_at, s.price_micros, s.currency,
		s.repeats, s.version, s.cut_id, s.digest, coalesce(s.avoidable_micros, 0)`
)

// raw is what is read of a message and has to be made something of.
type raw struct {
	fields, digest []byte
	micros         *int64
	currency       string
}

// number reads a number that was kept.
type number phone.Number

// ScanText makes it a [pgtype.TextScanner].
func (n *number) ScanText(t pgtype.Text) error {
	*n = number(phone.Stored(t.String))
	return nil
}

func (c *Content) into(r *raw) []any {
	return []any{&c.ID, &c.KeyID, (*number)(&c.To), &c.Sender, &c.Kind, &c.Lane, &c.Text, &c.Encoding, &c.Units, &c.Segments, &c.Reference,
		&c.ValidUntil, &c.CreatedAt, &c.Country, &c.Template, &c.Registration, &c.Given, &r.fields, &c.Flash, &c.Route,
		&c.HeldUntil, &c.ReportTo}
}

func (t *Standing) into(r *raw) []any {
	return []any{&t.GatewayID, &t.State, &t.Cause, &t.Rivals, &t.Attempts, &t.ChangedAt, &t.SettledAt, &r.micros, &r.currency,
		&t.Repeats, &t.version, &t.cut, &r.digest, &t.Avoidable}
}

// read takes what has to be made something of.
func (t *Standing) read(r *raw) {
	if r.micros != nil {
		t.Price = price.Of(*r.micros, r.currency)
	}
	if r.digest == nil || t.digest.UnmarshalBinary(r.digest) != nil {
		t.stale = true
		return
	}
	known := t.digest.Outcome()
	t.Attempt, t.GatewayRef = known.Attempt, known.GatewayRef
}

func scanMessage(rows pgx.Rows) (Message, error) {
	var m Message
	var r raw
	if err := rows.Scan(append(m.Content.into(&r), m.Standing.into(&r)...)...); err != nil {
		return m, err
	}
	m.Standing.read(&r)
	if r.fields != nil {
		if err := json.Unmarshal(r.fields, &m.Fields); err != nil {
			return m, fmt.Errorf("the fields of message %s: %w", m.ID, err)
		}
	}
	return m, nil
}

// Reprice gives a message the price that it has through another gateway. The same share of it is avoidable.
func (m *Message) Reprice(p price.Money) {
	if was := m.Price.Micros(); m.Avoidable > 0 && was > 0 {
		m.Avoidable = int64(float64(m.Avoidable) / float64(was) * float64(p.Micros()))
	}
	m.Price = p
}

// Told is what the gateway of a message that was read with its standing told that it costs.
func (m *Message) Told() delivery.Charge { return m.digest.Charge(m.Attempt) }

// Known is what is known of a message that was read with its standing.
func (m *Message) Known() delivery.Outcome { return m.digest.Outcome() }

// Tried are the submissions of a message that was read with its standing about which a person can decide.
func (m *Message) Tried() []delivery.Tried { return m.digest.Tried() }

// Decisions are the grounds of the decisions that stand, in the order in which they were made.
func (m *Message) Decisions() []delivery.Ground { return m.digest.Decisions() }

// refresh works out what is known of messages whose digest an earlier version
// did not keep.
func (s *Store) refresh(ctx context.Context, messages []Message) error {
	var stale []uuid.UUID
	for i := range messages {
		if messages[i].stale {
			stale = append(stale, messages[i].ID)
		}
	}
	if stale == nil {
		return nil
	}
	digests, err := s.fold(ctx, stale)
	if err != nil {
		return err
	}
	for i := range messages {
		if m := &messages[i]; m.stale {
			m.digest, m.stale = digests[m.ID], false
			known := m.digest.Outcome()
			m.Attempt, m.GatewayRef = known.Attempt, known.GatewayRef
		}
	}
	return nil
}

// read reads messages in one go for each month. tail is appended to the
// statement, with parameters from $2 on.
func (s *Store) read(ctx context.Context, ids []uuid.UUID, tail string, args ...any) ([]Message, error) {
	var all []Message
	divided := byMonth(s, ids, itself)
	for _, m := range slices.Sorted(keysOf(divided)) {
		some, err := query(ctx, s.hot(), scanMessage, m.in("SELECT "+contentColumns+", "+standingColumns+
			" FROM standings_%M s JOIN messages_%M m ON m.id = s.id WHERE s.id = ANY($1) "+tail), append([]any{uuids(divided[m])}, args...)...)
		if err != nil {
			s.missing(err)
			return nil, fmt.Errorf("reading messages: %w", err)
		}
		all = append(all, some...)
	}
	return all, s.refresh(ctx, all)
}

func keysOf[V any](m map[month]V) func(func(month) bool) {
	return func(yield func(month) bool) {
		for k := range m {
			if !yield(k) {
				return
			}
		}
	}
}

// Contents reads what never changes of messages.
func (s *Store) Contents(ctx context.Context, ids []uuid.UUID) (map[uuid.UUID]Content, error) {
	if len(ids) == 0 {
		return nil, nil
	}
	messages, err := s.read(ctx, ids, "")
	if err == nil {
		err = s.label(ctx, messages)
	}
	contents := make(map[uuid.UUID]Content, len(messages))
	for _, m := range messages {
		contents[m.ID] = m.Content
	}
	return contents, err
}

// Message returns one message.
func (s *Store) Message(ctx context.Context, id uuid.UUID) (Message, error) {
	found, err := s.read(ctx, []uuid.UUID{id}, "")
	if err == nil && len(found) == 0 {
		err = ErrNotFound
	}
	if err == nil {
		err = s.label(ctx, found)
	}
	if err != nil {
		return Message{}, err
	}
	return found[0], nil
}

// Hold locks one message until the transaction ends, and returns it. Call it
// within [Store.Transact].
func (s *Store) Hold(ctx context.Context, id uuid.UUID) (Message, error) {
	held, err := s.read(ctx, []uuid.UUID{id}, "FOR UPDATE OF s")
	if err == nil && len(held) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return Message{}, err
	}
	return held[0], nil
}

// Filter chooses messages. Zero fields choose all.
type Filter struct {
	To         string
	States     []delivery.State
	Kind       string
	Sender     string
	Country    string
	Template   string
	Key        uuid.UUID
	Gateway    uuid.UUID
	Reference  string
	GatewayRef string
	Contested  bool
	Weak       bool     // whose state rests on a weak match; not counted in tallies
	Labels     []string // name=value, or a name alone
	Since      time.Time
	Until      time.Time

	cuts []int32 // that have the labels
}

// where writes the choice as conditions on m, the content, and s, the standing.
// The parameters follow those that are given.
func (f Filter) where(args []any) (string, []any) {
	var conditions []string
	add := func(condition string, value any) {
		args = append(args, value)
		conditions = append(conditions, fmt.Sprintf(condition, len(args)))
	}
	for _, c := range []struct{ condition, value string }{
		{"m.to_number = $%d", f.To}, {"m.kind = $%d", f.Kind}, {"m.sender = $%d", f.Sender}, {"m.country = $%d", f.Country},
		{"m.template = $%d", f.Template}, {"m.reference = $%d", f.Reference},
	} {
		if c.value != "" {
			add(c.condition, c.value)
		}
	}
	if f.Key != uuid.Nil {
		add("m.key_id = $%d", f.Key)
	}
	if f.Gateway != uuid.Nil {
		add("s.gateway_id = $%d", f.Gateway)
	}
	if len(f.States) > 0 {
		add("s.state = ANY($%d)", words(f.States, func(s *delivery.State) delivery.State { return *s }))
	}
	if f.Contested {
		conditions = append(conditions, "s.rivals <> ''")
	}
	if f.cuts != nil {
		add("s.cut_id = ANY($%d)", f.cuts)
	}
	if !f.Since.IsZero() {
		add("m.id >= $%d", Floor(f.Since))
	}
	if !f.Until.IsZero() {
		add("m.id < $%d", Floor(f.Until))
	}
	if len(conditions) == 0 {
		return "true", args
	}
	return strings.Join(conditions, " AND "), args
}

// marked are the states that have marks: the rare ones, which people look for.
var marked = []delivery.State{delivery.Held, delivery.Doubtful, delivery.Undeliverable, delivery.Expired, delivery.Rejected,
	delivery.Cancelled, delivery.Unknown}

// contestedMark marks messages two endings of which were claimed.
const contestedMark = "contested"

// weakMark marks messages whose state rests on a weak match.
const weakMark = "weak"

// undecidedMark marks messages that want a person's decision: whose end nobody knows, or of which two are
// claimed, and about which nothing was decided.
const undecidedMark = "undecided"

func (m *Message) undecided() bool {
	return m.Rivals != "" || m.State == delivery.Unknown && !m.digest.Decided()
}

// marks are those by which the chosen messages can be found; nil if there are
// none.
func (f Filter) marks() []string {
	switch {
	case f.Contested:
		return []string{contestedMark}
	case f.Weak:
		return []string{weakMark}
	}
	var marks []string
	for _, state := range f.States {
		if !slices.Contains(marked, state) {
			return nil
		}
		marks = append(marks, string(state))
	}
	return marks
}

// Find lists messages, the newest first, from the one after the cursor; the
// nil cursor starts at the newest. It goes from one month to the one before and
// ends when it has enough; what is found by a short list, of rare states or of
// what a gateway calls them, is looked up there.
func (s *Store) Find(ctx context.Context, f Filter, after uuid.UUID, most int) ([]Message, error) {
	var found []Message
	f, err := s.labelled(ctx, f)
	if err != nil {
		return nil, err
	}
	for _, m := range s.months.all() {
		if len(found) >= most {
			break
		}
		if !f.Since.IsZero() && m < monthAt(f.Since) {
			break
		}
		if !f.Until.IsZero() && m > monthAt(f.Until) || after != uuid.Nil && m > monthOf(after) {
			continue
		}
		var some []Message
		if list := f.list(); list != "" {
			some, err = s.findListed(ctx, m, f, list, after, most-len(found))
		} else {
			some, err = s.findIn(ctx, m, f, after, nil, most-len(found))
		}
		if err != nil {
			s.missing(err)
			return nil, fmt.Errorf("finding messages: %w", err)
		}
		found = append(found, some...)
	}
	return found, errors.Join(s.label(ctx, found), s.refresh(ctx, found))
}

// findIn lists messages of a month; of some alone where they are given.
func (s *Store) findIn(ctx context.Context, m month, f Filter, after uuid.UUID, among []uuid.UUID, most int) ([]Message, error) {
	where, args := f.where(nil)
	if after != uuid.Nil {
		args = append(args, after)
		where += fmt.Sprintf(" AND m.id < $%d", len(args))
	}
	if among != nil {
		args = append(args, uuids(among))
		where += fmt.Sprintf(" AND m.id = ANY($%d)", len(args))
	}
	args = append(args, most)
	return query(
		ctx,
		s.reading(),
		scanMessage,
		m.in(fmt.Sprintf("SELECT %s, %s FROM messages_%%M m JOIN standings_%%M s ON s.id = m.id WHERE %s ORDER BY m.id DESC LIMIT $%d",
			contentColumns, standingColumns, where, len(args))),
		args...)
}

// list is the statement that lists the ids of a month, below $1 and at most $2,
// among which the chosen messages are; empty if there is no such list.
func (f Filter) list() string {
	if f.GatewayRef != "" {
		return "SELECT DISTINCT id FROM (SELECT message_id AS id FROM submissions_%M WHERE gateway_ref = $4 AND gateway_ref <> '' OFFSET 0) k " +
			"WHERE id < $1 AND id >= $3 ORDER BY id DESC LIMIT $2"
	}
	marks := f.marks()
	if marks == nil {
		return ""
	}
	lists := make([]string, len(marks))
	for i, mark := range marks { // from a fixed list, each in the order of ids
		lists[i] = "(SELECT id FROM marks WHERE mark = '" + mark + "' AND id < $1 AND id >= $3 ORDER BY id DESC LIMIT $2)"
	}
	return "SELECT id FROM (" + strings.Join(lists, " UNION ALL ") + ") k ORDER BY id DESC LIMIT $2"
}

// findListed lists messages of a month from among those of a list, piece by
// piece.
func (s *Store) findListed(ctx context.Context, m month, f Filter, list string, after uuid.UUID, most int) ([]Message, error) {
	from, err := time.Parse("2006_01", string(m))
	if err != nil {
		return nil, err
	}
	below, floor := Floor(from.AddDate(0, 1, 0)), Floor(from)
	if after != uuid.Nil && slices.Compare(after[:], below[:]) < 0 {
		below = after
	}
	var found []Message
	for piece := max(most, 50); len(found) < most; piece = min(4*piece, 5000) {
		args := []any{below, piece, floor}
		if f.GatewayRef != "" {
			args = append(args, f.GatewayRef)
		}
		listed, err := query(ctx, s.reading(), scanID, m.in(list), args...)
		if err != nil || len(listed) == 0 {
			return found, err
		}
		some, err := s.findIn(ctx, m, f, uuid.Nil, listed, most-len(found))
		if err != nil {
			return nil, err
		}
		found = append(found, some...)
		if len(listed) < piece {
			break
		}
		below = listed[len(listed)-1]
	}
	return found, nil
}
