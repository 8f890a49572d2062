package statements

import (
	"context"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/store"
)

// againPauses are after how long lines are looked for again that name a message by an id that nobody knew: the reply
// that bore it was lost, and a receipt or an answer may tell it yet.
var againPauses = []time.Duration{time.Minute, 10 * time.Minute, time.Hour, 6 * time.Hour, 24 * time.Hour, 3 * 24 * time.Hour}

// againAt is when it is looked again after n times; nil: not any more.
func againAt(n int, now time.Time) *time.Time {
	if n >= len(againPauses) {
		return nil
	}
	at := now.Add(againPauses[n])
	return &at
}

// again looks for the messages of the next lines whose id nobody knew.
func (s *Statements) again(ctx context.Context, tx *store.Store, one store.Statement) ([]store.Message, error) {
	lines, err := tx.NamelessLines(ctx, one.ID, one.AgainFrom, setMost)
	if err != nil {
		return nil, err
	}
	now := s.Now()
	found, err := s.named(ctx, tx, one, lines)
	if err != nil {
		return nil, err
	}
	columns := []string{"again_at", "again_n", "again_from"}
	if len(lines) < setMost {
		one.AgainN, one.AgainFrom = one.AgainN+1, 0
		one.AgainAt = againAt(one.AgainN, now)
	} else {
		one.AgainFrom = lines[len(lines)-1].N
	}
	var evidence []store.Evidence
	if found != nil {
		if err := tx.AtLarge(ctx); err != nil {
			return nil, err
		}
		if err := compare(ctx, tx, found); err != nil {
			return nil, err
		}
		if err := tx.MatchedLines(ctx, found); err != nil {
			return nil, err
		}
		if err := tx.NotOurs(ctx, found); err != nil {
			return nil, err
		}
		heaps, err := tx.CountHeaps(ctx, one.ID)
		if err != nil {
			return nil, err
		}
		one.Totals = &heaps
		columns = append(columns, "totals")
		if err := tx.SumBilled(ctx, one); err != nil {
			return nil, err
		}
		for _, l := range found {
			if l.Heap == store.StateDiffers {
				evidence = append(evidence, EvidenceOf(l, one, now))
			}
		}
	}
	if _, err := tx.ChangeStatement(ctx, one, store.Done, columns...); err != nil || evidence == nil {
		return nil, err
	}
	return s.Course.Record(ctx, tx, evidence, nil)
}

// named are those of the lines whose message is known by now, one for each, where the statement has no line of it yet.
func (s *Statements) named(
	ctx context.Context,
	tx *store.Store,
	one store.Statement,
	lines []store.StatementLine,
) ([]store.StatementLine, error) {
	claims := make([]store.Stray, len(lines))
	at := make(map[uuid.UUID]int, len(lines))
	for i, l := range lines {
		claims[i] = store.Stray{
			ID:         store.NewID(),
			GatewayID:  one.GatewayID,
			GatewayRef: l.GatewayRef,
			Reference:  l.Reference,
			ToNumber:   digits(l),
		}
		at[claims[i].ID] = i
	}
	matched, err := tx.Match(ctx, claims, time.Time{})
	if err != nil || len(matched) == 0 {
		return nil, err
	}
	messages := make([]uuid.UUID, 0, len(matched))
	several := map[uuid.UUID]int{}
	for _, m := range matched {
		messages = append(messages, m.MessageID)
		several[m.MessageID]++
	}
	taken, err := tx.TakenBy(ctx, one.ID, messages)
	if err != nil {
		return nil, err
	}
	var found []store.StatementLine
	for id, m := range matched {
		if taken[m.MessageID] || several[m.MessageID] > 1 || !m.Named {
			continue
		}
		l := lines[at[id]]
		l.MessageID, l.Attempt, l.How = &m.MessageID, m.Attempt, store.ByID
		found = append(found, l)
	}
	return found, nil
}
