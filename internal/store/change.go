package store

import (
	"context"
	"fmt"
	"strings"
	"time"
)

// Change is one change of what is set.
type Change struct {
	ID     int64
	At     time.Time
	ByWhom string
	What   string // gateway, sender, default, rule, template, route, prices, key
	Name   string
	Action string         // added, changed, removed
	Before map[string]any `gorm:"serializer:json"` // what differs
	After  map[string]any `gorm:"serializer:json"`
}

type actorKey struct{}

type actor struct {
	by    string
	since *int64
}

// Acting says who changes what is set, and, if since is not nil, as of which
// change it was read: where it has changed since, it is not written ([Stale]).
func Acting(ctx context.Context, by string, since *int64) context.Context {
	return context.WithValue(ctx, actorKey{}, actor{by, since})
}

// Stale is the error of a change of something that somebody else has changed
// since it was read.
type Stale struct{ Changes []Change }

// Error says what has changed.
func (s *Stale) Error() string {
	said := make([]string, len(s.Changes))
	for i, c := range s.Changes {
		said[i] = fmt.Sprintf("%s %s was %s by %s at %s", c.What, c.Name, c.Action, c.ByWhom, c.At.UTC().Format(time.RFC3339))
	}
	return strings.Join(said, "; ")
}

// staleMost is how many changes are told of.
const staleMost = 5

// setting runs what changes something that is set, named or all of its kind. Such
// changes come one after the other, so that they are numbered in the order in
// which they can be seen.
func (s *Store) setting(ctx context.Context, what, name string, do func(*Store) error) error {
	who, _ := ctx.Value(actorKey{}).(actor)
	return s.Transact(ctx, func(s *Store) error {
		err := s.gorm(ctx).Exec("SELECT pg_advisory_xact_lock(hashtext('pigeon settings')), set_config('pigeon.by', ?, true)", who.by).Error
		if err != nil {
			return err
		}
		if who.since != nil {
			since := s.gorm(ctx).Where("what = ? AND id > ?", what, *who.since)
			if name != "" {
				since = since.Where("name = ?", name)
			}
			var changes []Change
			if err := since.Order("id DESC").Limit(staleMost).Find(&changes).Error; err != nil {
				return err
			}
			if len(changes) > 0 {
				return &Stale{changes}
			}
		}
		return do(s)
	})
}

// ChangeFilter chooses changes. Empty fields choose all.
type ChangeFilter struct{ What, Name, By string }

// FindChanges lists changes before one of them (0: from the last on), the newest
// first.
func (s *Store) FindChanges(ctx context.Context, f ChangeFilter, before int64, most int) ([]Change, error) {
	find := s.gorm(ctx)
	for column, given := range map[string]string{"what": f.What, "name": f.Name, "by_whom": f.By} {
		if given != "" {
			find = find.Where(column+" = ?", given)
		}
	}
	if before > 0 {
		find = find.Where("id < ?", before)
	}
	var changes []Change
	if err := find.Order("id DESC").Limit(most).Find(&changes).Error; err != nil {
		return nil, fmt.Errorf("reading changes: %w", err)
	}
	return changes, nil
}

// LastChange is the number of the last change; what is read after it is at least
// as new.
func (s *Store) LastChange(ctx context.Context) (last int64, err error) {
	err = s.gorm(ctx).Raw("SELECT coalesce(max(id), 0) FROM changes").Scan(&last).Error
	return last, err
}
