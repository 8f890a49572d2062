package events

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"calmpigeon.example/internal/core/webhook"
	"calmpigeon.example/internal/engine/attention"
	"calmpigeon.example/internal/store"
)

// Need is what is told of something that wants somebody. Its names are those of the API.
type Need struct {
	What     attention.What `json:"what"`
	Wrong    bool           `json:"wrong"`
	Count    int64          `json:"count"`
	Gateway  string         `json:"gateway,omitempty"`
	Batch    string         `json:"batch,omitempty"`
	Receiver string         `json:"receiver,omitempty"`
	Since    time.Time      `json:"since"` // we have known of it
	Until    *time.Time     `json:"until,omitempty"`
	Title    string         `json:"title"`
	Why      string         `json:"why,omitempty"`
	Cost     string         `json:"cost,omitempty"`
	Do       string         `json:"do,omitempty"`
	Command  string         `json:"command,omitempty"`
	Link     string         `json:"link,omitempty"`
}

// keyOf tells what wants somebody from all else, however much of it there is.
func keyOf(n attention.Need) string {
	key, _ := json.Marshal([]string{string(n.What), n.Gateway, n.Batch, n.Receiver}) // words: it cannot fail
	return string(key)
}

// attend tells of what wants somebody, and what does so no more, since the last time.
func (e *Events) attend(ctx context.Context) error {
	if !e.wants(webhook.Raised, webhook.Settled) {
		return nil
	}
	needs, err := e.Needs(ctx)
	if err != nil {
		return err
	}
	now := e.Now()
	return e.Store.Transact(ctx, func(s *store.Store) error {
		was, err := s.AttentionTold(ctx)
		if err != nil {
			return err
		}
		var happened []store.Event
		var raised []store.Attended
		still := map[string]bool{}
		say := func(t webhook.Type, one store.Attended, n Need) error {
			data, err := json.Marshal(n)
			if err != nil {
				return fmt.Errorf("telling of %s: %w", n.Title, err)
			}
			happened = append(happened, store.Event{Type: t, Subject: one.ID, Data: data})
			return nil
		}
		for _, n := range needs {
			key := keyOf(n)
			if still[key] {
				continue
			}
			still[key] = true
			if slices.ContainsFunc(was, func(a store.Attended) bool { return a.Key == key }) {
				continue
			}
			one := store.Attended{Key: key, ID: store.IDAt(now), Since: now}
			told := Need{
				What:     n.What,
				Wrong:    n.Wrong,
				Count:    n.Count,
				Gateway:  n.Gateway,
				Batch:    n.Batch,
				Receiver: n.Receiver,
				Since:    now,
				Title:    n.Title,
				Why:      n.Why,
				Cost:     n.Cost,
				Do:       n.Do,
				Command:  n.Command,
				Link:     n.Link,
			}
			if one.What, err = json.Marshal(told); err != nil {
				return fmt.Errorf("telling of %s: %w", n.Title, err)
			}
			raised = append(raised, one)
			if err := say(webhook.Raised, one, told); err != nil {
				return err
			}
		}
		var settled []string
		for _, one := range was {
			if still[one.Key] {
				continue
			}
			settled = append(settled, one.Key)
			var n Need
			if err := json.Unmarshal(one.What, &n); err != nil {
				continue // it is forgotten
			}
			n.Until = &now
			if err := say(webhook.Settled, one, n); err != nil {
				return err
			}
		}
		if raised == nil && settled == nil {
			return nil
		}
		if err := s.NoteAttention(ctx, raised, settled); err != nil {
			return err
		}
		return s.Happen(ctx, now, happened)
	})
}
