package store

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/statement"
)

// Statement is a gateway's own list or bill of what it carried.
type Statement struct {
	ID           uuid.UUID
	GatewayID    uuid.UUID
	Name         string // of the file
	Digest       []byte // SHA-256 of the file
	State        StatementState
	Found        string
	Head         []string          `gorm:"serializer:json"`
	Mapping      statement.Mapping `gorm:"serializer:json"`
	Lines        int64
	FromAt       *time.Time // the span of time that it is about
	UntilAt      *time.Time
	CreatedAt    time.Time `gorm:"autoCreateTime:false"`
	ByWhom       string
	ReadUntil    *time.Time
	DoneN        int64
	FinishedAt   *time.Time
	WithdrawnAt  *time.Time
	WithdrawnBy  string
	WithdrawnWhy string
	Totals       *Heaps `gorm:"serializer:json"` // nil: not known yet
	// AgainAt is when lines that name a message that nobody knew are looked for again, AgainN how often they were, and
	// AgainFrom behind which line it goes on.
	AgainAt   *time.Time
	AgainN    int
	AgainFrom int
}

// StatementState is how far a statement is.
type StatementState string

// The states of statements.
const (
	Reading     StatementState = "reading"
	Matching    StatementState = "matching"
	Applying    StatementState = "applying" // what it says becomes evidence
	Done        StatementState = "done"
	Withdrawing StatementState = "withdrawing"
	Withdrawn   StatementState = "withdrawn"
)

// Heap is one of the parts into which a statement falls. Messages of which it has no line are the fifth.
type Heap string

// The heaps.
const (
	Agrees       Heap = "agrees"
	StateDiffers Heap = "state"
	MoneyDiffers Heap = "money"
	OnlyTheirs   Heap = "theirs"
	OnlyOurs     Heap = "ours"
)

// HeapsInOrder lists them all.
var HeapsInOrder = []Heap{Agrees, StateDiffers, MoneyDiffers, OnlyTheirs, OnlyOurs}

// How is how a line was matched, or why not.
type How string

// How lines are matched.
const (
	ByID        How = "id"
	ByReference How = "reference"
	ByNumber    How = "number" // and time, and sender: weakly
	StillOpen   How = "open"   // to be matched by its number
	NoMessage   How = "none"
	Tied        How = "tied" // it could be several, or several lines are about the same message
	Unreadable  How = "unreadable"
)

// Heaps are how a statement falls apart: lines, or messages, and money by currency.
type Heaps struct {
	Lines map[Heap]int64 `json:"lines"`
	Tied  int64          `json:"tied"`
	Bad   int64          `json:"bad"` // lines that cannot be read
	Weak  int64          `json:"weak"`
	// Segments of matched lines, as we counted and as they did.
	OurSegments, TheirSegments int64
	// Estimated and Billed are sums of matched lines in millionths, by currency; Unmatched is billed for lines of no message.
	Estimated map[string]int64 `json:"estimated"`
	Billed    map[string]int64 `json:"billed"`
	Unmatched map[string]int64 `json:"unmatched"`
}

// StatementLine is a line of a statement, and what it was matched with.
type StatementLine struct {
	StatementID    uuid.UUID
	N              int
	GatewayRef     string
	Reference      string
	Number         string
	Sender         string
	At             *time.Time
	State          delivery.State
	Cause          delivery.Cause
	Code           string
	Segments       int
	ChargeMicros   *int64
	ChargeCurrency string
	Wrong          string
	Heap           Heap
	How            How
	MessageID      *uuid.UUID
	Attempt        int
	OursState      delivery.State
	OursSegments   int
	OursMicros     *int64
	OursCurrency   string
	Country        string // of the message, or of the number
}

const lineColumns = `statement_id, n, gateway_ref, reference, number, sender, at, state, cause, code, segments, charge_micros,
	charge_currency,
	wrong, heap, how, message_id, attempt, ours_state, ours_segments, ours_micros, ours_currency, country`

// NewStatement begins a statement.
func (s *Store) NewStatement(ctx context.Context, one Statement) error {
	if err := s.gorm(ctx).Create(&one).Error; err != nil {
		return fmt.Errorf("keeping a statement: %w", err)
	}
	return nil
}

// Statement is one statement.
func (s *Store) Statement(ctx context.Context, id uuid.UUID) (one Statement, err error) {
	return one, found(s.gorm(ctx).Where("id = ?", id).First(&one).Error)
}

// Statements lists statements, the newest first, from the one after the cursor; of a gateway, if it is given.
func (s *Store) Statements(ctx context.Context, gateway, after uuid.UUID, most int) (all []Statement, err error) {
	db := s.gorm(ctx).Where("state <> ?", Reading)
	if gateway != uuid.Nil {
		db = db.Where("gateway_id = ?", gateway)
	}
	if after != uuid.Nil {
		db = db.Where("id < ?", after)
	}
	return all, db.Order("id DESC").Limit(most).Find(&all).Error
}

// StatementsSince lists those that were matched since a moment and hold, the newest first.
func (s *Store) StatementsSince(ctx context.Context, since time.Time) (all []Statement, err error) {
	const most = 1000
	return all, s.gorm(ctx).Where("state = ? AND finished_at > ?", Done, since).Order("id DESC").Limit(most).Find(&all).Error
}

// SameFile is the statement that was made of the same file, unless it was withdrawn; nil if there is none.
func (s *Store) SameFile(ctx context.Context, gateway uuid.UUID, digest []byte) (*Statement, error) {
	var same []Statement
	err := s.gorm(ctx).Where("gateway_id = ? AND digest = ? AND state IN ('matching', 'applying', 'done')", gateway, digest).
		Order("id").Limit(1).Find(&same).Error
	if err != nil || len(same) == 0 {
		return nil, err
	}
	return &same[0], nil
}

// ChangeStatement writes columns of a statement, if it is in a state; false if it is not any more. [ErrExists] is that
// there is one of the same file.
func (s *Store) ChangeStatement(ctx context.Context, one Statement, in StatementState, columns ...string) (bool, error) {
	result := s.gorm(ctx).Model(&Statement{}).Where("id = ? AND state = ?", one.ID, in).Select(columns).Updates(one)
	if errors.Is(result.Error, gorm.ErrDuplicatedKey) {
		return false, ErrExists
	}
	return result.RowsAffected == 1, result.Error
}

// DropStatement forgets a statement with all of its lines.
func (s *Store) DropStatement(ctx context.Context, id uuid.UUID) error {
	return s.Transact(ctx, func(s *Store) error {
		if err := s.AtLarge(ctx); err != nil {
			return err
		}
		for _, sql := range []string{"DELETE FROM statement_lines WHERE statement_id = ?", "DELETE FROM statement_ours WHERE statement_id = ?",
			"DELETE FROM statements WHERE id = ?"} {
			if err := s.gorm(ctx).Exec(sql, id).Error; err != nil {
				return fmt.Errorf("forgetting a statement: %w", err)
			}
		}
		return nil
	})
}

// OldStatements are those that were taken in before a moment.
func (s *Store) OldStatements(ctx context.Context, before time.Time) (old []uuid.UUID, err error) {
	return old, s.gorm(ctx).Model(&Statement{}).Where("id < ?", Floor(before)).Limit(1000).Pluck("id", &old).Error
}

// LostStatements are those whose reading broke off.
func (s *Store) LostStatements(ctx context.Context, now time.Time) (lost []uuid.UUID, err error) {
	return lost, s.gorm(ctx).Model(&Statement{}).Where("state = ? AND read_until < ?", Reading, now).Limit(10).Pluck("id", &lost).Error
}

// HoldStatement locks a statement on which there is work to be done; nil if there is none that nobody works on.
// Call it within [Store.Transact].
func (s *Store) HoldStatement(ctx context.Context, now time.Time) (*Statement, error) {
	var held []Statement
	err := s.gorm(ctx).Raw(`SELECT * FROM statements WHERE state IN ('matching', 'applying', 'withdrawing') OR state = 'done' AND again_at <= ?
		ORDER BY state = 'done', id LIMIT 1 FOR UPDATE SKIP LOCKED`, now).Scan(&held).Error
	if err != nil || len(held) == 0 {
		return nil, err
	}
	return &held[0], nil
}

// AddLines adds lines to a statement.
func (s *Store) AddLines(ctx context.Context, lines []StatementLine) error {
	if len(lines) == 0 {
		return nil
	}
	var b pgx.Batch
	b.Queue("INSERT INTO statement_lines ("+lineColumns+`) SELECT * FROM unnest($1::uuid[], $2::int[], $3::text[], $4::text[], $5::text[],
			$6::text[], $7::timestamptz[], $8::text[], $9::text[], $10::text[], $11::int[], $12::bigint[], $13::text[], $14::text[], $15::text[],
			$16::text[], $17::uuid[], $18::int[], $19::text[], $20::int[], $21::bigint[], $22::text[], $23::text[])`, lineValues(lines)...)
	if err := s.send(ctx, &b); err != nil {
		return fmt.Errorf("keeping %d lines of a statement: %w", len(lines), err)
	}
	return nil
}

func lineValues(lines []StatementLine) []any {
	return []any{
		ids(lines, func(l *StatementLine) uuid.UUID { return l.StatementID }), numbers(lines, func(l *StatementLine) int { return l.N }),
		words(
			lines,
			func(l *StatementLine) string { return l.GatewayRef },
		), words(lines, func(l *StatementLine) string { return l.Reference }),
		words(lines, func(l *StatementLine) string { return l.Number }), words(lines, func(l *StatementLine) string { return l.Sender }),
		column(
			lines,
			func(l *StatementLine) *time.Time { return l.At },
		), words(lines, func(l *StatementLine) delivery.State { return l.State }),
		words(
			lines,
			func(l *StatementLine) delivery.Cause { return l.Cause },
		), words(lines, func(l *StatementLine) string { return l.Code }),
		numbers(
			lines,
			func(l *StatementLine) int { return l.Segments },
		), column(lines, func(l *StatementLine) *int64 { return l.ChargeMicros }),
		words(
			lines,
			func(l *StatementLine) string { return l.ChargeCurrency },
		), words(lines, func(l *StatementLine) string { return l.Wrong }),
		words(lines, func(l *StatementLine) Heap { return l.Heap }), words(lines, func(l *StatementLine) How { return l.How }),
		maybeIDs(
			lines,
			func(l *StatementLine) *uuid.UUID { return l.MessageID },
		), numbers(lines, func(l *StatementLine) int { return l.Attempt }),
		words(
			lines,
			func(l *StatementLine) delivery.State { return l.OursState },
		), numbers(lines, func(l *StatementLine) int { return l.OursSegments }),
		column(
			lines,
			func(l *StatementLine) *int64 { return l.OursMicros },
		), words(lines, func(l *StatementLine) string { return l.OursCurrency }),
		words(lines, func(l *StatementLine) string { return l.Country }),
	}
}

// Compared is what a line of a statement is compared with.
type Compared struct {
	State    delivery.State
	Segments int
	Micros   *int64 // as estimated; nil: not known
	Currency string
	Country  string
}

// Compare reads what lines about messages are compared with.
func (s *Store) Compare(ctx context.Context, messages []uuid.UUID) (map[uuid.UUID]Compared, error) {
	type pair struct {
		id uuid.UUID
		Compared
	}
	all := make(map[uuid.UUID]Compared, len(messages))
	for m, some := range byMonth(s, messages, itself) {
		read, err := query(ctx, s.hot(), func(rows pgx.Rows) (p pair, err error) {
			err = rows.Scan(&p.id, &p.State, &p.Segments, &p.Micros, &p.Currency, &p.Country)
			return p, err
		}, m.in(`SELECT s.id, s.state, m.segments, s.price_micros, s.currency, m.country FROM standings_%M s JOIN messages_%M m USING (id)
			WHERE s.id = ANY($1)`), uuids(some))
		if err != nil {
			s.missing(err)
			return nil, fmt.Errorf("reading what a statement is compared with: %w", err)
		}
		for _, p := range read {
			all[p.id] = p.Compared
		}
	}
	return all, nil
}

func scanLine(rows pgx.Rows) (l StatementLine, err error) {
	err = rows.Scan(
		&l.StatementID,
		&l.N,
		&l.GatewayRef,
		&l.Reference,
		&l.Number,
		&l.Sender,
		&l.At,
		&l.State,
		&l.Cause,
		&l.Code,
		&l.Segments,
		&l.ChargeMicros,
		&l.ChargeCurrency,
		&l.Wrong,
		&l.Heap,
		&l.How,
		&l.MessageID,
		&l.Attempt,
		&l.OursState,
		&l.OursSegments,
		&l.OursMicros,
		&l.OursCurrency,
		&l.Country,
	)
	return l, err
}

// OpenLines lists lines that are to be matched by their number, those of a number together.
func (s *Store) OpenLines(ctx context.Context, id uuid.UUID, most int) ([]StatementLine, error) {
	lines, err := query(ctx, s.hot(), scanLine, "SELECT "+lineColumns+" FROM statement_lines WHERE statement_id = $1 AND how = 'open' "+
		"ORDER BY number, n LIMIT $2", id, most)
	if err != nil {
		return nil, fmt.Errorf("reading lines of a statement: %w", err)
	}
	return lines, nil
}

// NamelessLines lists lines that name a message by an id that nobody knew, behind one.
func (s *Store) NamelessLines(ctx context.Context, id uuid.UUID, after, most int) ([]StatementLine, error) {
	lines, err := query(ctx, s.hot(), scanLine, "SELECT "+lineColumns+` FROM statement_lines WHERE statement_id = $1 AND heap = 'theirs'
		AND how = 'none' AND gateway_ref <> '' AND n > $2 ORDER BY n LIMIT $3`, id, after, most)
	if err != nil {
		return nil, fmt.Errorf("reading lines of a statement: %w", err)
	}
	return lines, nil
}

// NotOurs forgets that a statement has no line of submissions: it has one now.
func (s *Store) NotOurs(ctx context.Context, lines []StatementLine) error {
	var b pgx.Batch
	b.Queue(`DELETE FROM statement_ours o USING unnest($2::uuid[], $3::int[]) AS n (message_id, attempt)
		WHERE o.statement_id = $1 AND o.message_id = n.message_id AND o.attempt = n.attempt`, lines[0].StatementID,
		maybeIDs(lines, func(l *StatementLine) *uuid.UUID { return l.MessageID }),
		numbers(lines, func(l *StatementLine) int { return l.Attempt }))
	if err := s.send(ctx, &b); err != nil {
		return fmt.Errorf("forgetting messages without a line: %w", err)
	}
	return nil
}

// MatchedLines writes what lines were matched with.
func (s *Store) MatchedLines(ctx context.Context, lines []StatementLine) error {
	if len(lines) == 0 {
		return nil
	}
	var b pgx.Batch
	b.Queue(
		`UPDATE statement_lines l SET heap = n.heap, how = n.how, message_id = n.message_id, attempt = n.attempt, ours_state = n.ours_state,
			ours_segments = n.ours_segments, ours_micros = n.ours_micros, ours_currency = n.ours_currency, country = n.country
		FROM unnest($2::int[], $3::text[], $4::text[], $5::uuid[], $6::int[], $7::text[], $8::int[], $9::bigint[], $10::text[], $11::text[])
			AS n (n, heap, how, message_id, attempt, ours_state, ours_segments, ours_micros, ours_currency, country)
		WHERE l.statement_id = $1 AND l.n = n.n`,
		lines[0].StatementID,
		numbers(lines, func(l *StatementLine) int { return l.N }),
		words(lines, func(l *StatementLine) Heap { return l.Heap }),
		words(lines, func(l *StatementLine) How { return l.How }),
		maybeIDs(
			lines,
			func(l *StatementLine) *uuid.UUID { return l.MessageID },
		),
		numbers(lines, func(l *StatementLine) int { return l.Attempt }),
		words(
			lines,
			func(l *StatementLine) delivery.State { return l.OursState },
		),
		numbers(lines, func(l *StatementLine) int { return l.OursSegments }),
		column(
			lines,
			func(l *StatementLine) *int64 { return l.OursMicros },
		),
		words(lines, func(l *StatementLine) string { return l.OursCurrency }),
		words(lines, func(l *StatementLine) string { return l.Country }),
	)
	if err := s.send(ctx, &b); err != nil {
		return fmt.Errorf("writing what lines were matched with: %w", err)
	}
	return nil
}

// TakenBy are those of the submissions of which a statement has a line already.
func (s *Store) TakenBy(ctx context.Context, id uuid.UUID, messages []uuid.UUID) (map[uuid.UUID]bool, error) {
	found, err := query(ctx, s.hot(), scanID, "SELECT message_id FROM statement_lines WHERE message_id = ANY($1) AND statement_id = $2",
		uuids(messages), id)
	if err != nil {
		return nil, fmt.Errorf("looking for what has a line: %w", err)
	}
	taken := make(map[uuid.UUID]bool, len(found))
	for _, one := range found {
		taken[one] = true
	}
	return taken, nil
}

// AtLarge lets what follows in this transaction be planned for a million rows, and not for finding a few.
func (s *Store) AtLarge(ctx context.Context) error {
	for _, setting := range []string{"enable_seqscan = on", "enable_hashjoin = on", "enable_mergejoin = on", "work_mem = '64MB'",
		"plan_cache_mode = force_custom_plan", "statement_timeout = '10min'"} {
		if err := s.gorm(ctx).Exec("SET LOCAL " + setting).Error; err != nil {
			return err
		}
	}
	return nil
}

// SettleDoubles looks at lines that name the same message: the one that names it best has it, and the others may
// be matched by their number; where several name it as well none has it, for which of them is right cannot be told.
func (s *Store) SettleDoubles(ctx context.Context, id uuid.UUID) error {
	err := s.gorm(ctx).Exec(`WITH named AS (
			SELECT n, message_id, CASE how WHEN 'id' THEN 1 ELSE 2 END AS rank, count(*) OVER (PARTITION BY message_id) AS many
			FROM statement_lines WHERE statement_id = ? AND message_id IS NOT NULL),
		doubled AS (SELECT n, rank, min(rank) OVER of AS best, count(*) FILTER (WHERE rank = 1) OVER of AS firsts, many
			FROM named WHERE many > 1 WINDOW of AS (PARTITION BY message_id)),
		lost AS (SELECT n, rank = best AS tied FROM doubled WHERE rank > best OR (CASE best WHEN 1 THEN firsts ELSE many END) > 1)
		UPDATE statement_lines l SET heap = 'theirs', message_id = NULL, attempt = 0, ours_state = '', ours_segments = 0, ours_micros = NULL,
			ours_currency = '', how = CASE WHEN lost.tied THEN 'tied' WHEN l.number <> '' AND l.at IS NOT NULL THEN 'open' ELSE 'none' END
		FROM lost WHERE l.statement_id = ? AND l.n = lost.n`, id, id).Error
	if err != nil {
		return fmt.Errorf("looking for lines about the same message: %w", err)
	}
	return nil
}

// FindOurs notes the submissions through a gateway, begun within a span of time and taken, of which a statement
// has no line.
func (s *Store) FindOurs(ctx context.Context, id, gateway uuid.UUID, from, until time.Time) error {
	if err := s.gorm(ctx).Exec("DELETE FROM statement_ours WHERE statement_id = ?", id).Error; err != nil {
		return err
	}
	for _, m := range s.months.all() {
		if m > monthAt(until) || m < monthAt(from.Add(-longestWait)) {
			continue
		}
		err := s.gorm(ctx).Exec(m.in(`INSERT INTO statement_ours (statement_id, message_id, attempt)
			SELECT ?::uuid, b.message_id, b.attempt FROM submissions_%M b
			LEFT JOIN statement_lines l ON l.statement_id = ?::uuid AND l.message_id = b.message_id
			WHERE b.gateway_id = ? AND b.began_at >= ? AND b.began_at <= ? AND b.gateway_ref <> '' AND l.n IS NULL`),
			id, id, gateway, from, until).Error
		if err != nil {
			s.missing(err)
			return fmt.Errorf("looking for messages without a line: %w", err)
		}
	}
	return nil
}

// LinesOf lists lines of a heap, from the one after a number on.
func (s *Store) LinesOf(ctx context.Context, id uuid.UUID, heap Heap, how How, after, most int) ([]StatementLine, error) {
	where, args := "statement_id = $1 AND n > $2", []any{id, after, most}
	if heap != "" {
		args = append(args, heap)
		where += fmt.Sprintf(" AND heap = $%d", len(args))
	}
	if how != "" {
		args = append(args, how)
		where += fmt.Sprintf(" AND how = $%d", len(args))
	}
	lines, err := query(
		ctx,
		s.reading(),
		scanLine,
		"SELECT "+lineColumns+" FROM statement_lines WHERE "+where+" ORDER BY n LIMIT $3",
		args...)
	if err != nil {
		return nil, fmt.Errorf("reading lines of a statement: %w", err)
	}
	return lines, nil
}

// OursOf lists messages of which a statement has no line, from the one after the cursor.
func (s *Store) OursOf(ctx context.Context, id, after uuid.UUID, most int) ([]Message, error) {
	found, err := query(ctx, s.reading(), scanID, "SELECT message_id FROM statement_ours WHERE statement_id = $1 AND message_id > $2 "+
		"GROUP BY 1 ORDER BY 1 LIMIT $3", id, after, most)
	if err != nil {
		return nil, fmt.Errorf("reading messages without a line: %w", err)
	}
	var all []Message
	for m, some := range byMonth(s, found, itself) {
		read, err := s.findIn(ctx, m, Filter{}, uuid.Nil, some, len(some))
		if err != nil {
			return nil, fmt.Errorf("reading messages without a line: %w", err)
		}
		all = append(all, read...)
	}
	slices.SortFunc(all, func(a, b Message) int { return slices.Compare(a.ID[:], b.ID[:]) })
	return all, s.refresh(ctx, all)
}

// CountHeaps counts how a statement falls apart.
func (s *Store) CountHeaps(ctx context.Context, id uuid.UUID) (Heaps, error) {
	h := Heaps{Lines: map[Heap]int64{}, Estimated: map[string]int64{}, Billed: map[string]int64{}, Unmatched: map[string]int64{}}
	type sum struct {
		heap              Heap
		how               How
		charged, priced   string
		n, segments, ours int64
		billed, estimated *int64
	}
	sums, err := query(ctx, s.reading(), func(rows pgx.Rows) (c sum, err error) {
		err = rows.Scan(&c.heap, &c.how, &c.charged, &c.priced, &c.n, &c.segments, &c.ours, &c.billed, &c.estimated)
		return c, err
	}, `SELECT heap, how, charge_currency, ours_currency, count(*), sum(segments)::bigint, sum(ours_segments)::bigint,
		sum(charge_micros)::bigint,
		sum(ours_micros)::bigint FROM statement_lines WHERE statement_id = $1 GROUP BY 1, 2, 3, 4`, id)
	if err != nil {
		return h, fmt.Errorf("counting heaps: %w", err)
	}
	for _, c := range sums {
		h.Lines[c.heap] += c.n
		switch c.how {
		case Tied:
			h.Tied += c.n
		case Unreadable:
			h.Bad += c.n
		case ByNumber:
			h.Weak += c.n
		}
		if c.heap == OnlyTheirs {
			if c.billed != nil {
				h.Unmatched[c.charged] += *c.billed
			}
			continue
		}
		h.TheirSegments += c.segments
		h.OurSegments += c.ours
		if c.billed != nil {
			h.Billed[c.charged] += *c.billed
		}
		if c.estimated != nil {
			h.Estimated[c.priced] += *c.estimated
		}
	}
	ours, err := query(ctx, s.reading(), func(rows pgx.Rows) (n int64, err error) { err = rows.Scan(&n); return n, err },
		"SELECT count(DISTINCT message_id) FROM statement_ours WHERE statement_id = $1", id)
	if err == nil {
		h.Lines[OnlyOurs] = ours[0]
	}
	return h, err
}

// LinesToApply lists lines whose state differs from ours, from the one after a number on.
func (s *Store) LinesToApply(ctx context.Context, id uuid.UUID, after int64, most int) ([]StatementLine, error) {
	return s.LinesOf(ctx, id, StateDiffers, "", int(after), most)
}

// LinesAbout lists the lines of statements that were not withdrawn about a message.
func (s *Store) LinesAbout(ctx context.Context, message uuid.UUID) ([]StatementLine, error) {
	lines, err := query(ctx, s.reading(), scanLine, "SELECT "+lineColumns+` FROM statement_lines l WHERE message_id = $1
		AND EXISTS (SELECT FROM statements t WHERE t.id = l.statement_id AND t.state NOT IN ('withdrawing', 'withdrawn'))
		ORDER BY statement_id, n`,
		message)
	if err != nil {
		return nil, fmt.Errorf("reading lines of statements: %w", err)
	}
	return lines, nil
}
