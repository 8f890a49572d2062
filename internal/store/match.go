package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"calmpigeon.example/internal/core/phone"
)

// gatewayRef is what a gateway calls a message.
type gatewayRef struct {
	ref     string
	gateway uuid.UUID
}

// Matched is the submission that a claim speaks of.
type Matched struct {
	MessageID uuid.UUID
	Attempt   int
	Began     time.Time // zero: it is being made
	Named     bool      // by the id that the gateway gave it
	Marks     string    // of a passcode; see [Content]
}

// named is a submission that the gateway may mean.
type named struct {
	gatewayRef
	Matched
}

func scanNamed(rows pgx.Rows) (n named, err error) {
	var marks []byte
	var began *time.Time
	err = rows.Scan(&n.MessageID, &n.Attempt, &n.gateway, &n.ref, &marks, &began)
	n.Marks, n.Named = string(marks), n.ref != ""
	if began != nil {
		n.Began = *began
	}
	return n, err
}

// Match finds which submissions claims speak of: by the gateway's own id and,
// where that stands for several, the number; else by our reference, which is a
// message's id, and the gateway through which it went last. What is left
// ambiguous matches none: it would be a guess. Submissions begun before since
// are not looked for by the gateway's id.
func (s *Store) Match(ctx context.Context, claims []Stray, since time.Time) (map[uuid.UUID]Matched, error) {
	var own []uuid.UUID
	var refs []gatewayRef
	for _, c := range claims {
		if id, err := uuid.Parse(c.Reference); err == nil {
			own = append(own, id)
		}
		if c.GatewayRef != "" {
			refs = append(refs, gatewayRef{c.GatewayRef, c.GatewayID})
		}
	}
	byRef, err := s.submittedAs(ctx, refs, since)
	if err != nil {
		return nil, err
	}
	last, err := s.lastThrough(ctx, own)
	if err != nil {
		return nil, err
	}
	numbers, err := s.numbersOf(ctx, byRef)
	if err != nil {
		return nil, err
	}
	matched := make(map[uuid.UUID]Matched, len(claims))
	for _, c := range claims {
		rivals := byRef[gatewayRef{c.GatewayRef, c.GatewayID}]
		reference, refErr := uuid.Parse(c.Reference)
		if refErr == nil {
			// Both named: of this message's submissions the one that bears the id.
			for _, r := range rivals {
				if r.MessageID == reference {
					matched[c.ID] = r
				}
			}
			if _, done := matched[c.ID]; done {
				continue
			}
			if one, ok := last[through{reference, c.GatewayID}]; ok {
				matched[c.ID] = one
				continue
			}
		}
		if len(rivals) > 1 && c.ToNumber != "" {
			var same []Matched
			for _, r := range rivals {
				if sameNumber(numbers[r.MessageID], c.ToNumber) {
					same = append(same, r)
				}
			}
			rivals = same
		}
		if one, ok := only(rivals); ok {
			matched[c.ID] = one
		}
	}
	return matched, nil
}

// only is the one submission there is, or the last of one message where all are
// of the same.
func only(rivals []Matched) (one Matched, ok bool) {
	for i, r := range rivals {
		if i > 0 && r.MessageID != one.MessageID {
			return one, false
		}
		if r.Attempt >= one.Attempt {
			one = r
		}
	}
	return one, len(rivals) > 0
}

// submittedAs finds submissions by what gateways call them.
func (s *Store) submittedAs(ctx context.Context, refs []gatewayRef, since time.Time) (map[gatewayRef][]Matched, error) {
	found := map[gatewayRef][]Matched{}
	if len(refs) == 0 {
		return found, nil
	}
	names := words(refs, func(r *gatewayRef) string { return r.ref })
	gateways := ids(refs, func(r *gatewayRef) uuid.UUID { return r.gateway })
	first := monthAt(since)
	var lists []string
	for _, m := range s.months.all() {
		if m < first && !since.IsZero() {
			break
		}
		lists = append(lists, m.in(`SELECT b.message_id, b.attempt, b.gateway_id, b.gateway_ref, t.marks, b.began_at
			FROM unnest($1::text[], $2::uuid[]) AS n (ref, gateway_id)
			JOIN submissions_%M b ON b.gateway_ref = n.ref AND b.gateway_id = n.gateway_id AND b.gateway_ref <> ''
			LEFT JOIN sealed_texts t ON t.id = b.message_id`))
	}
	if lists == nil {
		return found, nil
	}
	all, err := query(ctx, s.hot(), scanNamed, strings.Join(lists, " UNION ALL "), names, gateways)
	if err != nil {
		s.missing(err)
		return nil, fmt.Errorf("matching by the gateway's id: %w", err)
	}
	seen := map[named]bool{}
	for _, n := range all {
		if !seen[n] {
			seen[n] = true
			found[n.gatewayRef] = append(found[n.gatewayRef], n.Matched)
		}
	}
	return found, nil
}

type through struct{ message, gateway uuid.UUID }

// lastThrough is, for messages that are named by our reference, the last
// submission through each gateway, also one that is being made just now.
func (s *Store) lastThrough(ctx context.Context, messages []uuid.UUID) (map[through]Matched, error) {
	last := map[through]Matched{}
	for m, some := range byMonth(s, messages, itself) {
		found, err := query(
			ctx,
			s.hot(),
			scanNamed,
			m.in(`SELECT b.message_id, b.attempt, b.gateway_id, '', t.marks, b.began_at FROM submissions_%M b
				LEFT JOIN sealed_texts t ON t.id = b.message_id WHERE b.message_id = ANY($1)
			UNION ALL SELECT s.id, s.attempts, s.gateway_id, '', t.marks, NULL FROM standings_%M s
				LEFT JOIN sealed_texts t ON t.id = s.id WHERE s.id = ANY($1) AND s.state = 'sending'`),
			uuids(some),
		)
		if err != nil {
			s.missing(err)
			return nil, fmt.Errorf("matching by reference: %w", err)
		}
		for _, n := range found {
			at := through{n.MessageID, n.gateway}
			if n.Attempt >= last[at].Attempt {
				last[at] = n.Matched
			}
		}
	}
	return last, nil
}

// numbersOf reads the numbers of messages that share a gateway's id.
func (s *Store) numbersOf(ctx context.Context, byRef map[gatewayRef][]Matched) (map[uuid.UUID]phone.Number, error) {
	var shared []uuid.UUID
	for _, rivals := range byRef {
		if len(rivals) > 1 {
			for _, r := range rivals {
				shared = append(shared, r.MessageID)
			}
		}
	}
	numbers := map[uuid.UUID]phone.Number{}
	for m, some := range byMonth(s, shared, itself) {
		found, err := query(ctx, s.hot(), func(rows pgx.Rows) (c Content, err error) {
			err = rows.Scan(&c.ID, (*number)(&c.To))
			return c, err
		}, m.in("SELECT id, to_number FROM messages_%M WHERE id = ANY($1)"), uuids(some))
		if err != nil {
			return nil, fmt.Errorf("matching by number: %w", err)
		}
		for _, c := range found {
			numbers[c.ID] = c.To
		}
	}
	return numbers, nil
}

// sameNumber reports whether a gateway's writing of a number stands for ours:
// digits with or without what is written before them, or as they are dialled
// within the country.
func sameNumber(ours phone.Number, theirs string) bool {
	digits := onlyDigits(theirs)
	return strings.TrimPrefix(digits, "00") == ours.Digits() || digits == onlyDigits(ours.National())
}

func onlyDigits(s string) string {
	return strings.Map(func(r rune) rune {
		if r < '0' || r > '9' {
			return -1
		}
		return r
	}, s)
}
