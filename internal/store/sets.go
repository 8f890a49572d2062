package store

import (
	"fmt"
	"strings"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgtype"
)

// Sets travel as typed arrays, one for each column, which unnest makes rows of
// again: a statement is the same whatever the size of the set, and PostgreSQL
// parses nothing but numbers and words.

// column is one column of a set of records.
func column[T, V any](records []T, of func(*T) V) []V {
	values := make([]V, len(records))
	for i := range records {
		values[i] = of(&records[i])
	}
	return values
}

// sum is how many were counted that are alike.
type sum[K comparable] struct {
	of K
	n  int
}

// sums are counts as records, but for those that come to nothing.
func sums[K comparable](counts map[K]int) []sum[K] {
	var all []sum[K]
	for of, n := range counts {
		if n != 0 {
			all = append(all, sum[K]{of, n})
		}
	}
	return all
}

// words is a column of anything that is a word.
func words[T any, V ~string](records []T, of func(*T) V) []string {
	values := make([]string, len(records))
	for i := range records {
		values[i] = string(of(&records[i]))
	}
	return values
}

// numbers is a column of integers as PostgreSQL keeps most.
func numbers[T any](records []T, of func(*T) int) []int32 {
	values := make([]int32, len(records))
	for i := range records {
		values[i] = int32(of(&records[i]))
	}
	return values
}

// ids is a column of UUIDs.
func ids[T any](records []T, of func(*T) uuid.UUID) uuids {
	values := make(uuids, len(records))
	for i := range records {
		values[i] = of(&records[i])
	}
	return values
}

// maybeIDs is a column of UUIDs, some of which may not be there.
func maybeIDs[T any](records []T, of func(*T) *uuid.UUID) []pgtype.UUID {
	values := make([]pgtype.UUID, len(records))
	for i := range records {
		if id := of(&records[i]); id != nil {
			values[i] = pgtype.UUID{Bytes: *id, Valid: true}
		}
	}
	return values
}

// uuids is an array of UUIDs that pgx takes as it is.
type uuids []uuid.UUID

// Dimensions, Index and IndexType make it a pgtype.ArrayGetter.
func (u uuids) Dimensions() []pgtype.ArrayDimension {
	if u == nil {
		return nil
	}
	return []pgtype.ArrayDimension{{Length: int32(len(u)), LowerBound: 1}}
}

// Index is one element.
func (u uuids) Index(i int) any { return pgtype.UUID{Bytes: u[i], Valid: true} }

// IndexType is the type of an element.
func (u uuids) IndexType() any { return pgtype.UUID{} }

// list writes ids as one parameter for statements that GORM makes.
func list(ids []uuid.UUID) string {
	words := make([]string, len(ids))
	for i, id := range ids {
		words[i] = id.String()
	}
	return "{" + strings.Join(words, ",") + "}"
}

// Keepable is text that PostgreSQL keeps: valid UTF-8 without U+0000.
func Keepable(s string) string {
	return strings.ReplaceAll(strings.ToValidUTF8(s, "\uFFFD"), "\x00", "\uFFFD")
}

// orNone is nil for a zero value.
// conditions are what rows have to meet, and the arguments of a statement that asks for them.
type conditions struct {
	where string
	args  []any
}

// meet adds that a column is to be a value, where one is chosen.
func (c *conditions) meet(column string, v any, chosen bool) {
	if chosen {
		c.args = append(c.args, v)
		c.where += fmt.Sprintf(" AND %s = $%d", column, len(c.args))
	}
}

func orNone[T comparable](v T) *T {
	if v == *new(T) {
		return nil
	}
	return &v
}
