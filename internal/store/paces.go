package store

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"
)

// SenderAges locks the paces of senders and returns how long ago, by the
// database's clock, the messages of the last span went, the oldest first. It
// holds for all gateways and instances. Call it within [Store.Transact]; the
// locks last until it ends.
func (s *Store) SenderAges(ctx context.Context, senders []string, span time.Duration) (map[string][]time.Duration, error) {
	db := s.db.WithContext(ctx)
	names, err := json.Marshal(senders)
	if err != nil {
		return nil, err
	}
	const chosen = "(SELECT jsonb_array_elements_text(?::jsonb))"
	if err := db.Exec("INSERT INTO sender_paces (sender_id) SELECT id FROM senders WHERE id IN "+chosen+" ORDER BY id ON CONFLICT DO NOTHING", string(names)).Error; err != nil {
		return nil, fmt.Errorf("pacing senders: %w", err)
	}
	var found []struct {
		SenderID string
		Ages     string
	}
	// Always in the same order, so that two keepers never wait for each other.
	err = db.Raw(`SELECT sender_id, to_json(ARRAY(SELECT extract(epoch FROM clock_timestamp() - at) FROM unnest(recent) AS at
			WHERE at > clock_timestamp() - make_interval(secs => ?) ORDER BY at)) AS ages
		FROM sender_paces WHERE sender_id IN `+chosen+` ORDER BY sender_id FOR UPDATE`, span.Seconds(), string(names)).Scan(&found).Error
	if err != nil {
		return nil, fmt.Errorf("pacing senders: %w", err)
	}
	ages := make(map[string][]time.Duration, len(found))
	for _, f := range found {
		var seconds []float64
		if err := json.Unmarshal([]byte(f.Ages), &seconds); err != nil {
			return nil, fmt.Errorf("pacing senders: %w", err)
		}
		ages[f.SenderID] = []time.Duration{}
		for _, age := range seconds {
			ages[f.SenderID] = append(ages[f.SenderID], time.Duration(age*float64(time.Second)))
		}
		// The clock runs on while they are read.
		slices.SortFunc(ages[f.SenderID], func(a, b time.Duration) int { return cmp.Compare(b, a) })
	}
	return ages, nil
}

// Noted is the moment, by the database's clock, at which the messages of a
// sender were noted as going.
type Noted struct {
	Sender string    `json:"sender"`
	At     time.Time `json:"at"`
}

// SendersSent notes that so many messages of senders are about to go. What is
// older than the span is forgotten.
func (s *Store) SendersSent(ctx context.Context, sent map[string]int, span time.Duration) ([]Noted, error) {
	type count struct {
		Sender string `json:"sender"`
		N      int    `json:"n"`
	}
	var counts []count
	for sender, n := range sent {
		if n > 0 {
			counts = append(counts, count{sender, n})
		}
	}
	if len(counts) == 0 {
		return nil, nil
	}
	var noted []Noted
	err := s.db.WithContext(ctx).Raw(`UPDATE sender_paces p SET recent = ARRAY(SELECT at FROM unnest(recent) AS at WHERE at > clock_timestamp() - make_interval(secs => ?) ORDER BY at)
			|| array_fill(clock_timestamp(), ARRAY[sent.n])
		FROM jsonb_to_recordset(?::jsonb) AS sent (sender text, n integer) WHERE p.sender_id = sent.sender
		RETURNING p.sender_id AS sender, recent[cardinality(recent)] AS at`, span.Seconds(), rows(counts)).Scan(&noted).Error
	if err != nil {
		return nil, fmt.Errorf("pacing senders: %w", err)
	}
	return noted, nil
}

// SendersWent notes that messages went only now: what was noted as about to go
// may have waited for its commit and for its turn.
func (s *Store) SendersWent(ctx context.Context, noted []Noted) error {
	err := s.db.WithContext(ctx).Exec(`UPDATE sender_paces p SET recent = array_replace(recent, noted.at, clock_timestamp())
		FROM jsonb_to_recordset(?::jsonb) AS noted (sender text, at timestamptz) WHERE p.sender_id = noted.sender`, rows(noted)).Error
	if err != nil {
		return fmt.Errorf("pacing senders: %w", err)
	}
	return nil
}
