package store

import (
	"context"
	"fmt"
	"strings"

	"github.com/google/uuid"
)

const (
	// alikeFewest is of how many digits a piece of an id is at least.
	alikeFewest = 6
	// alikeLatest bounds among how many messages of a month the end of an id is
	// looked for: no index knows ends, and people copy those of what they just saw.
	alikeLatest = 100_000
)

// digitsOf are the hexadecimal digits of a piece of an id; false if it is none.
func digitsOf(piece string) (string, bool) {
	digits := strings.ToLower(strings.ReplaceAll(piece, "-", ""))
	return digits, len(digits) >= alikeFewest && len(digits) <= 32 && strings.Trim(digits, "0123456789abcdef") == ""
}

// Alike finds messages whose ids begin with a piece of one, or else end with it, at
// most so many. Ends are looked for among the latest messages of this month and the
// last. A piece that is none finds nothing.
func (s *Store) Alike(ctx context.Context, piece string, most int) ([]uuid.UUID, error) {
	digits, ok := digitsOf(piece)
	if !ok {
		return nil, nil
	}
	rest := 32 - len(digits)
	from, to := uuid.MustParse(digits+strings.Repeat("0", rest)), uuid.MustParse(digits+strings.Repeat("f", rest))
	var found []uuid.UUID
	for _, m := range s.months.all() {
		if m > monthOf(to) || m < monthOf(from) {
			continue
		}
		some, err := query(ctx, s.reading(), scanID, m.in("SELECT id FROM messages_%M WHERE id >= $1 AND id <= $2 ORDER BY id LIMIT $3"),
			from, to, most-len(found))
		if err != nil {
			s.missing(err)
			return nil, fmt.Errorf("looking for ids: %w", err)
		}
		if found = append(found, some...); len(found) >= most {
			return found, nil
		}
	}
	if len(found) > 0 {
		return found, nil
	}
	months := s.months.all()
	for _, m := range months[:min(ahead+2, len(months))] { // those that are ahead are empty
		some, err := query(ctx, s.reading(), scanID, m.in("SELECT id FROM (SELECT id FROM messages_%M ORDER BY id DESC LIMIT $1) latest "+
			"WHERE right(replace(id::text, '-', ''), $2) = $3 LIMIT $4"), alikeLatest, len(digits), digits, most-len(found))
		if err != nil {
			s.missing(err)
			return nil, fmt.Errorf("looking for ids: %w", err)
		}
		if found = append(found, some...); len(found) >= most {
			break
		}
	}
	return found, nil
}

// EndsAlike reports whether an id begins or ends with a piece of one.
func EndsAlike(id uuid.UUID, piece string) bool {
	digits, ok := digitsOf(piece)
	whole := strings.ReplaceAll(id.String(), "-", "")
	return ok && (strings.HasPrefix(whole, digits) || strings.HasSuffix(whole, digits))
}
