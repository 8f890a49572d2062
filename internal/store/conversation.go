package store

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// answersWithin is how long after a message what somebody writes to its sender is taken for an answer to it.
const answersWithin = 14 * 24 * time.Hour

// FindAnswered finds the message that each inbound message answers: the last one that went to the writer from the
// sender to whom was written, within two weeks.
func (s *Store) FindAnswered(ctx context.Context, inbound []Inbound, now time.Time) error {
	byID := map[uuid.UUID]*Inbound{}
	var asked []Inbound
	for i := range inbound {
		if m := &inbound[i]; m.FromE164 != "" && m.MessageID == nil {
			byID[m.ID] = m
			asked = append(asked, *m)
		}
	}
	since := now.Add(-answersWithin)
	for _, month := range s.months.all() { // the newest first
		if len(asked) == 0 || month < monthAt(since) {
			break
		}
		type link struct{ inbound, message uuid.UUID }
		found, err := query(ctx, s.hot(), func(rows pgx.Rows) (l link, err error) { err = rows.Scan(&l.inbound, &l.message); return l, err },
			month.in(`SELECT n.id, one.id FROM unnest($1::uuid[], $2::text[], $3::text[]) AS n (id, writer, sender),
				LATERAL (SELECT m.id FROM messages_%M m WHERE m.to_number = n.writer AND m.sender = n.sender AND m.id >= $4 AND m.id < n.id
					ORDER BY m.id DESC LIMIT 1) AS one`),
			ids(asked, func(m *Inbound) uuid.UUID { return m.ID }), words(asked, func(m *Inbound) string { return m.FromE164 }),
			words(asked, func(m *Inbound) string { return m.ToSender }), Floor(since))
		if err != nil {
			s.missing(err)
			return fmt.Errorf("looking for what is answered: %w", err)
		}
		for _, l := range found {
			byID[l.inbound].MessageID = &l.message
		}
		asked = slices.DeleteFunc(asked, func(m Inbound) bool { return byID[m.ID].MessageID != nil })
	}
	return nil
}

// Conversation is what was said with a number, as far as it wrote.
type Conversation struct {
	Last    Inbound // what it wrote last
	Count   int     // how often it wrote
	Waiting bool    // it wrote last, and nobody said that it wants no answer
}

// ConversationFilter chooses conversations.
type ConversationFilter struct {
	Number  string // E.164
	Text    string // that was written, in part
	Waiting bool
}

const inboundColumns = `i.id, i.gateway_id, i.receipt_id, i.gateway_ref, i.from_number, i.to_number, i.text, i.at, i.received_at,
	i.from_e164, i.to_sender, i.message_id, i.done_at, i.done_by`

func (m *Inbound) into() []any {
	return []any{&m.ID, &m.GatewayID, &m.ReceiptID, &m.GatewayRef, &m.FromNumber, &m.ToNumber, &m.Text, &m.At, &m.ReceivedAt,
		&m.FromE164, &m.ToSender, &m.MessageID, &m.DoneAt, &m.DoneBy}
}

// since is whether a message went to a writer after what it wrote, in any month.
func (s *Store) since() string {
	var parts []string
	for _, m := range s.months.all() {
		parts = append(parts, m.in("EXISTS (SELECT FROM messages_%M m WHERE m.to_number = i.from_e164 AND m.id > i.id)"))
	}
	if parts == nil {
		return "false"
	}
	return strings.Join(parts, " OR ")
}

// Conversations lists numbers that wrote, by what they wrote last, the newest first, from the one after a cursor on.
func (s *Store) Conversations(ctx context.Context, f ConversationFilter, after uuid.UUID, most int) ([]Conversation, error) {
	where, args := "i.from_e164 <> ''", []any{most}
	add := func(condition string, v any) {
		args = append(args, v)
		where += fmt.Sprintf(" AND "+condition, len(args))
	}
	if f.Number != "" {
		add("i.from_e164 = $%d", f.Number)
	}
	if f.Text != "" {
		add("EXISTS (SELECT FROM inbound t WHERE t.from_e164 = i.from_e164 AND t.text ILIKE $%d)", "%"+likeable(f.Text)+"%")
	}
	if after != uuid.Nil {
		add("i.id < $%d", after)
	}
	waiting := "i.done_at IS NULL AND NOT (" + s.since() + ")"
	if f.Waiting {
		where += " AND " + waiting
	}
	all, err := query(ctx, s.reading(), func(rows pgx.Rows) (c Conversation, err error) {
		err = rows.Scan(append(c.Last.into(), &c.Count, &c.Waiting)...)
		return c, err
	}, `SELECT `+inboundColumns+`, (SELECT count(*)::int FROM inbound n WHERE n.from_e164 = i.from_e164), `+waiting+`
		FROM inbound i WHERE `+where+` AND NOT EXISTS (SELECT FROM inbound later WHERE later.from_e164 = i.from_e164 AND later.id > i.id)
		ORDER BY i.id DESC LIMIT $1`, args...)
	if err != nil {
		return nil, fmt.Errorf("reading conversations: %w", err)
	}
	return all, nil
}

// likeable is text of which LIKE takes nothing for a pattern.
func likeable(text string) string {
	return strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(text)
}

// InboundOf lists what a number wrote, the newest first, before a cursor (nil: from the newest on).
func (s *Store) InboundOf(ctx context.Context, number string, before uuid.UUID, most int) ([]Inbound, error) {
	if before == uuid.Nil {
		before = uuid.Max
	}
	all, err := query(ctx, s.reading(), func(rows pgx.Rows) (m Inbound, err error) { err = rows.Scan(m.into()...); return m, err },
		"SELECT "+inboundColumns+" FROM inbound i WHERE i.from_e164 = $1 AND i.id < $2 ORDER BY i.id DESC LIMIT $3", number, before, most)
	if err != nil {
		return nil, fmt.Errorf("reading what a number wrote: %w", err)
	}
	return all, nil
}

// SetDone notes that what a number wrote until now wants no answer, or takes that back. It returns of how many.
func (s *Store) SetDone(ctx context.Context, number, by string, now time.Time, done bool) (int, error) {
	sql := "UPDATE inbound SET done_at = $2, done_by = $3 WHERE from_e164 = $1 AND done_at IS NULL RETURNING 1"
	args := []any{number, now, by}
	if !done {
		sql, args = "UPDATE inbound SET done_at = NULL, done_by = '' WHERE from_e164 = $1 AND done_at IS NOT NULL RETURNING 1", []any{number}
	}
	changed, err := query(ctx, s.hot(), scanNumber, sql, args...)
	if err != nil {
		return 0, fmt.Errorf("noting that what was written wants no answer: %w", err)
	}
	return len(changed), nil
}
