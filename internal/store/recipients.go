package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"gorm.io/gorm"

	"calmpigeon.example/internal/core/batch"
)

// RecipientList is a list of recipients that is kept.
type RecipientList struct {
	ID        uuid.UUID
	Name      string
	Columns   []batch.Column `gorm:"serializer:json"` // the number's first
	Rows      int
	Staged    bool // it is to take the place of another, and is not whole yet
	ByWhom    string
	CreatedAt time.Time `gorm:"autoCreateTime:false"`
	ChangedAt time.Time `gorm:"autoUpdateTime:false"`
}

// Recipient is somebody on a list.
type Recipient struct {
	N      int64             // its place
	Number string            // E.164
	Fields map[string]string // what stands in its columns, by their names
	Groups []string          // in alphabetical order
}

// RecipientLists are all lists, in the order of their names.
func (s *Store) RecipientLists(ctx context.Context) (all []RecipientList, err error) {
	if err = s.gorm(ctx).Where("NOT staged").Order("name").Find(&all).Error; err != nil {
		return nil, fmt.Errorf("reading lists of recipients: %w", err)
	}
	return all, nil
}

// RecipientList is the list of a name.
func (s *Store) RecipientList(ctx context.Context, name string) (l RecipientList, err error) {
	return l, found(s.gorm(ctx).Where("name = ? AND NOT staged", name).First(&l).Error)
}

// ChangeList locks a list, which is made if there is none, lets change write to it, and keeps
// what it makes of it.
func (s *Store) ChangeList(
	ctx context.Context,
	fresh RecipientList,
	change func(*Store, *RecipientList) error,
) (l RecipientList, err error) {
	err = s.Transact(ctx, func(s *Store) error {
		l = RecipientList{}
		made := s.gorm(ctx).Exec(`INSERT INTO recipient_lists (id, name, staged, by_whom, created_at, changed_at)
			VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT (name) DO NOTHING`,
			fresh.ID, fresh.Name, fresh.Staged, fresh.ByWhom, fresh.CreatedAt, fresh.ChangedAt)
		if made.Error != nil {
			return made.Error
		}
		locked := s.gorm(ctx).Raw("SELECT * FROM recipient_lists WHERE name = ? FOR UPDATE", fresh.Name).First(&l)
		if err := found(locked.Error); err != nil {
			return err
		}
		if err := change(s, &l); err != nil {
			return err
		}
		l.ChangedAt = fresh.ChangedAt
		return s.gorm(ctx).Session(&gorm.Session{}).Model(&l).Select("columns", "rows", "changed_at").Updates(&l).Error
	})
	return l, err
}

// PutInPlace lets a list that was staged take the place and the name of another, or of none.
func (s *Store) PutInPlace(ctx context.Context, staged uuid.UUID, name string) error {
	return s.Transact(ctx, func(s *Store) error {
		// One after the other: each is deleted by the next, and none is in its way.
		if err := s.gorm(ctx).Exec("SELECT pg_advisory_xact_lock(hashtext('pigeon list ' || ?))", name).Error; err != nil {
			return err
		}
		if err := s.gorm(ctx).Exec("DELETE FROM recipient_lists WHERE name = ?", name).Error; err != nil {
			return err
		}
		return changed(s.gorm(ctx).Exec("UPDATE recipient_lists SET name = ?, staged = false WHERE id = ?", name, staged))
	})
}

// DropList forgets the list of an id, if there is one.
func (s *Store) DropList(ctx context.Context, id uuid.UUID) error {
	return s.gorm(ctx).Exec("DELETE FROM recipient_lists WHERE id = ?", id).Error
}

// DropStaged forgets lists that were staged before a moment and never became whole.
func (s *Store) DropStaged(ctx context.Context, before time.Time) error {
	return s.gorm(ctx).Exec("DELETE FROM recipient_lists WHERE staged AND changed_at < ?", before).Error
}

// RemoveList forgets a list.
func (s *Store) RemoveList(ctx context.Context, name string) error {
	return changed(s.gorm(ctx).Exec("DELETE FROM recipient_lists WHERE name = ? AND NOT staged", name))
}

// ErrGroups is returned for a recipient who would be in too many groups.
var ErrGroups = errors.New("somebody would be in more than 100 groups")

// PutRecipients puts recipients on a list, each number once, and returns how many are new and
// how many were there and are otherwise now: what stands in a column takes the place of what
// stood there, and groups are added. Call it within [Store.ChangeList].
func (s *Store) PutRecipients(ctx context.Context, list uuid.UUID, set []Recipient) (added, altered int, err error) {
	if len(set) == 0 {
		return 0, 0, nil
	}
	fields, groups := make([]string, len(set)), make([]string, len(set))
	for i, r := range set {
		f, err := json.Marshal(r.Fields)
		if err != nil {
			return 0, 0, err
		}
		g, err := json.Marshal(append([]string{}, r.Groups...))
		if err != nil {
			return 0, 0, err
		}
		fields[i], groups[i] = string(f), string(g)
	}
	fresh, err := query(ctx, s.hot(), func(rows pgx.Rows) (fresh bool, err error) { err = rows.Scan(&fresh); return fresh, err },
		`INSERT INTO recipients AS r (list_id, number, fields, groups)
			SELECT $1, n.number, n.fields::jsonb, ARRAY(SELECT DISTINCT g FROM jsonb_array_elements_text(n.groups::jsonb) AS g ORDER BY g)
			FROM unnest($2::text[], $3::text[], $4::text[]) WITH ORDINALITY AS n (number, fields, groups, nr) ORDER BY n.nr
		ON CONFLICT (list_id, number) DO UPDATE SET fields = r.fields || excluded.fields,
			groups = ARRAY(SELECT DISTINCT g FROM unnest(r.groups || excluded.groups) AS g ORDER BY g)
			WHERE r.fields || excluded.fields <> r.fields OR NOT r.groups @> excluded.groups
		RETURNING xmax = 0`, list, words(set, func(r *Recipient) string { return r.Number }), fields, groups)
	if pg := (*pgconn.PgError)(nil); errors.As(err, &pg) && pg.ConstraintName == "few_groups" {
		return 0, 0, ErrGroups
	}
	if err != nil {
		return 0, 0, fmt.Errorf("keeping %d recipients: %w", len(set), err)
	}
	for _, is := range fresh {
		if is {
			added++
		} else {
			altered++
		}
	}
	return added, altered, nil
}

// DropRecipients takes numbers off a list, or out of a group of it where one is given, and
// returns how many it had. Call it within [Store.ChangeList].
func (s *Store) DropRecipients(ctx context.Context, list uuid.UUID, numbers []string, group string) (int, error) {
	sql, args := "DELETE FROM recipients WHERE list_id = $1 AND number = ANY($2) RETURNING number", []any{list, numbers}
	if group != "" {
		sql = `UPDATE recipients SET groups = array_remove(groups, $3)
			WHERE list_id = $1 AND number = ANY($2) AND $3 = ANY(groups) RETURNING number`
		args = append(args, group)
	}
	had, err := query(ctx, s.hot(), scanPhone, sql, args...)
	if err != nil {
		return 0, fmt.Errorf("taking recipients off a list: %w", err)
	}
	return len(had), nil
}

// Of says which recipients of a list are meant.
type Of struct {
	Groups  []string // those in any of them; none: all
	Without []string // and in none of these
	Number  string   // this one alone
}

// Recipients are those of a list after a place, in their order, at most so many.
func (s *Store) Recipients(ctx context.Context, list uuid.UUID, of Of, after int64, most int) ([]Recipient, error) {
	all, err := query(ctx, s.reading(), func(rows pgx.Rows) (r Recipient, err error) {
		var fields []byte
		if err = rows.Scan(&r.N, &r.Number, &fields, &r.Groups); err == nil {
			err = json.Unmarshal(fields, &r.Fields)
		}
		return r, err
	}, `SELECT n, number, fields, groups FROM recipients WHERE list_id = $1 AND n > $2 AND ($3::text[] IS NULL OR groups && $3)
			AND NOT groups && $4 AND ($5 = '' OR number = $5) ORDER BY n LIMIT $6`,
		list, after, of.Groups, append([]string{}, of.Without...),
		of.Number, most)
	if err != nil {
		return nil, fmt.Errorf("reading recipients: %w", err)
	}
	return all, nil
}

// GroupCount is how many recipients of a list are in a group.
type GroupCount struct {
	Name string
	Rows int
}

// Groups are those of a list, in alphabetical order.
func (s *Store) Groups(ctx context.Context, list uuid.UUID) (groups []GroupCount, err error) {
	groups, err = query(ctx, s.reading(), func(rows pgx.Rows) (g GroupCount, err error) {
		err = rows.Scan(&g.Name, &g.Rows)
		return g, err
	}, "SELECT g, count(*)::int FROM recipients, unnest(groups) AS g WHERE list_id = $1 GROUP BY g ORDER BY g", list)
	if err != nil {
		return nil, fmt.Errorf("reading groups of recipients: %w", err)
	}
	return groups, nil
}
