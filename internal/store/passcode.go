package store

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"calmpigeon.example/internal/core/fraud"
	"calmpigeon.example/internal/core/passcode"
)

// Passcode is a one-time password: who it is for, and what became of it. Its id is that of its first message.
type Passcode struct {
	ID        uuid.UUID
	KeyID     uuid.UUID
	Number    string // E.164
	Country   string
	Purpose   string
	Form      passcode.Form
	Hash      []byte // of the code, keyed
	Sealed    []byte // what it takes to send it again; empty once it is over
	CreatedAt time.Time
	EndsAt    time.Time
	Tries     int // wrong ones
	TriesMost int
	UsedAt    *time.Time
	CheckedAt *time.Time
	EndedAt   *time.Time // by hand
	Sends     int
	SendsMost int
	AgainAt   time.Time // not before may it be sent again
	MessageID uuid.UUID // the last that bears it
	Gateway   uuid.UUID // through which that went first
	Address   netip.Addr
	Reference string
	Template  string
	Language  string

	Newer bool // there is a newer one of the same number and purpose
}

// Standing is the passcode as the core judges it.
func (p *Passcode) Standing() passcode.Standing {
	return passcode.Standing{
		EndsAt:    p.EndsAt,
		Ended:     p.EndedAt != nil || p.Newer,
		Used:      p.UsedAt != nil,
		Tries:     p.Tries,
		TriesMost: p.TriesMost,
	}
}

// passcodeColumns are read by scanPasscode.
const passcodeColumns = `p.id, p.key_id, p.number, p.country, p.purpose, p.letters, p.length, p.hash, p.sealed, p.created_at, p.ends_at,
	p.tries,
	p.tries_most, p.used_at, p.checked_at, p.ended_at, p.sends, p.sends_most, p.again_at, p.message_id, p.gateway_id,
	p.address, p.reference, p.template,
	p.language,
	EXISTS (SELECT FROM passcode_current c WHERE c.number = p.number AND c.purpose = p.purpose AND c.id > p.id)` // #nosec G101 -- SQL

func scanPasscode(rows pgx.Rows) (p Passcode, err error) {
	var at *netip.Addr
	err = rows.Scan(
		&p.ID,
		&p.KeyID,
		&p.Number,
		&p.Country,
		&p.Purpose,
		&p.Form.Letters,
		&p.Form.Length,
		&p.Hash,
		&p.Sealed,
		&p.CreatedAt,
		&p.EndsAt,
		&p.Tries,
		&p.TriesMost,
		&p.UsedAt,
		&p.CheckedAt,
		&p.EndedAt,
		&p.Sends,
		&p.SendsMost,
		&p.AgainAt,
		&p.MessageID,
		&p.Gateway,
		&at,
		&p.Reference,
		&p.Template,
		&p.Language,
		&p.Newer,
	)
	if at != nil {
		p.Address = *at
	}
	return p, err
}

// Counted is a counter of one of something, with the numbers that were asked for.
type Counted struct {
	By      passcode.By
	Value   string
	Counter passcode.Counter
	Ledger  fraud.Ledger
	JudgeAt time.Time // from when on there is something to judge; zero: there is not
}

// compare orders counters as they are locked: two sets that meet wait, and never for each other.
func (c Counted) compare(o Counted) int {
	if by := strings.Compare(string(c.By), string(o.By)); by != 0 {
		return by
	}
	return strings.Compare(c.Value, o.Value)
}

// HoldCounters locks counters, each of which is named once, and reads them, in one round trip. Call it within
// [Store.Transact].
func (s *Store) HoldCounters(ctx context.Context, set []Counted, now time.Time) ([]Counted, error) {
	if len(set) == 0 {
		return nil, nil
	}
	slices.SortFunc(set, Counted.compare)
	by, values := words(set, func(c *Counted) passcode.By { return c.By }), words(set, func(c *Counted) string { return c.Value })
	// One that is there already may be tidied away before it is locked; then it is added anew.
	for range holdTries {
		held, err := s.holdCounters(ctx, by, values, now)
		if err != nil || len(held) == len(set) {
			return held, err
		}
	}
	return nil, fmt.Errorf("counting passcodes: counters were tidied away %d times while they were locked", holdTries)
}

// holdTries is how often counters are locked that are tidied away meanwhile.
const holdTries = 5

func (s *Store) holdCounters(ctx context.Context, by, values []string, now time.Time) ([]Counted, error) {
	var b pgx.Batch
	b.Queue(`INSERT INTO passcode_counts (by_what, value, counter, at) SELECT by_what, value, '', $3
		FROM unnest($1::text[], $2::text[]) AS n (by_what, value) ON CONFLICT DO NOTHING`, by, values, now)
	if err := s.send(ctx, &b); err != nil {
		return nil, fmt.Errorf("counting passcodes: %w", err)
	}
	held, err := query(ctx, s.hot(), func(rows pgx.Rows) (c Counted, err error) {
		var kept, asked []byte
		var at *time.Time
		if err = rows.Scan(&c.By, &c.Value, &kept, &asked, &at); err != nil {
			return c, err
		}
		if c.Counter.UnmarshalBinary(kept) != nil {
			c.Counter = passcode.Counter{} // what cannot be read counts nothing, and is written anew
		}
		if c.Ledger.UnmarshalBinary(asked) != nil {
			c.Ledger = fraud.Ledger{}
		}
		if at != nil {
			c.JudgeAt = *at
		}
		return c, nil
	}, `SELECT c.by_what, c.value, c.counter, c.asked, c.judge_at FROM unnest($1::text[], $2::text[]) WITH ORDINALITY AS n (by_what, value, i)
		JOIN passcode_counts c USING (by_what, value) ORDER BY n.i FOR UPDATE OF c`, by, values)
	if err != nil {
		return nil, fmt.Errorf("reading how many passcodes were sent: %w", err)
	}
	return held, nil
}

// PutCounters writes counters that are held.
func (s *Store) PutCounters(ctx context.Context, set []Counted, now time.Time) error {
	if len(set) == 0 {
		return nil
	}
	kept, asked := make([][]byte, len(set)), make([][]byte, len(set))
	for i := range set {
		kept[i], _ = set[i].Counter.AppendBinary(nil)
		asked[i], _ = set[i].Ledger.AppendBinary([]byte{})
	}
	var b pgx.Batch
	b.Queue(`UPDATE passcode_counts c SET counter = n.counter, asked = n.asked, judge_at = n.judge_at, at = $6
		FROM unnest($1::text[], $2::text[], $3::bytea[], $4::bytea[], $5::timestamptz[]) AS n (by_what, value, counter, asked, judge_at)
		WHERE c.by_what = n.by_what AND c.value = n.value`,
		words(set, func(c *Counted) passcode.By { return c.By }), words(set, func(c *Counted) string { return c.Value }), kept, asked,
		column(set, func(c *Counted) *time.Time { return orNone(c.JudgeAt) }), now)
	if err := s.send(ctx, &b); err != nil {
		return fmt.Errorf("writing how many passcodes were sent: %w", err)
	}
	return nil
}

// AddPasscodes keeps new passcodes. Each is the newest of its number and purpose from then on.
func (s *Store) AddPasscodes(ctx context.Context, set []Passcode) error {
	if len(set) == 0 {
		return nil
	}
	var b pgx.Batch
	b.Queue(
		`INSERT INTO passcodes (id, key_id, number, country, purpose, letters, length, hash, sealed, created_at, ends_at, tries_most, sends_most,
			again_at, message_id, gateway_id, address, reference, template, language)
		SELECT * FROM unnest($1::uuid[], $2::uuid[], $3::text[], $4::text[], $5::text[], $6::boolean[], $7::int[], $8::bytea[], $9::bytea[],
			$10::timestamptz[], $11::timestamptz[], $12::int[], $13::int[], $14::timestamptz[], $15::uuid[], $16::uuid[], $17::inet[],
			$18::text[], $19::text[], $20::text[])`,
		ids(set, func(p *Passcode) uuid.UUID { return p.ID }),
		ids(set, func(p *Passcode) uuid.UUID { return p.KeyID }),
		words(set, func(p *Passcode) string { return p.Number }),
		words(set, func(p *Passcode) string { return p.Country }),
		words(set, func(p *Passcode) string { return p.Purpose }),
		column(set, func(p *Passcode) bool { return p.Form.Letters }),
		numbers(set, func(p *Passcode) int { return p.Form.Length }),
		column(set, func(p *Passcode) []byte { return p.Hash }),
		column(set, func(p *Passcode) []byte { return p.Sealed }),
		column(set, func(p *Passcode) time.Time { return p.CreatedAt }),
		column(set, func(p *Passcode) time.Time { return p.EndsAt }),
		numbers(set, func(p *Passcode) int { return p.TriesMost }),
		numbers(set, func(p *Passcode) int { return p.SendsMost }),
		column(set, func(p *Passcode) time.Time { return p.AgainAt }),
		ids(set, func(p *Passcode) uuid.UUID { return p.MessageID }),
		ids(set, func(p *Passcode) uuid.UUID { return p.Gateway }),
		column(
			set,
			func(p *Passcode) *netip.Addr { return orNone(p.Address) },
		),
		words(set, func(p *Passcode) string { return p.Reference }),
		words(set, func(p *Passcode) string { return p.Template }),
		words(set, func(p *Passcode) string { return p.Language }),
	)
	b.Queue(`INSERT INTO passcode_current AS c (number, purpose, id)
		SELECT DISTINCT ON (number, purpose) number, purpose, id FROM unnest($1::text[], $2::text[], $3::uuid[]) AS n (number, purpose, id)
		ORDER BY number, purpose, id DESC
		ON CONFLICT (number, purpose) DO UPDATE SET id = excluded.id WHERE c.id < excluded.id`,
		words(set, func(p *Passcode) string { return p.Number }), words(set, func(p *Passcode) string { return p.Purpose }),
		ids(set, func(p *Passcode) uuid.UUID { return p.ID }))
	if err := s.send(ctx, &b); err != nil {
		return fmt.Errorf("keeping %d passcodes: %w", len(set), err)
	}
	return nil
}

// Passcode is one passcode.
func (s *Store) Passcode(ctx context.Context, id uuid.UUID) (Passcode, error) {
	return s.onePasscode(ctx, "SELECT "+passcodeColumns+" FROM passcodes p WHERE p.id = $1 "+s.locking("FOR UPDATE OF p"), id)
}

// HoldPasscode locks and reads a passcode. Call it within [Store.Transact].
func (s *Store) HoldPasscode(ctx context.Context, id uuid.UUID) (Passcode, error) {
	return s.onePasscode(ctx, "SELECT "+passcodeColumns+" FROM passcodes p WHERE p.id = $1 FOR UPDATE OF p", id)
}

// HoldCurrent does so with the newest of a number and a purpose.
func (s *Store) HoldCurrent(ctx context.Context, number, purpose string) (Passcode, error) {
	return s.onePasscode(ctx, "SELECT "+passcodeColumns+` FROM passcodes p
		WHERE p.id = (SELECT id FROM passcode_current WHERE number = $1 AND purpose = $2) FOR UPDATE OF p`, number, purpose)
}

func (s *Store) onePasscode(ctx context.Context, sql string, args ...any) (Passcode, error) {
	found, err := query(ctx, s.hot(), scanPasscode, sql, args...)
	if err != nil {
		return Passcode{}, fmt.Errorf("reading a passcode: %w", err)
	}
	if len(found) == 0 {
		return Passcode{}, ErrNotFound
	}
	return found[0], nil
}

// Passcodes lists passcodes, the newest first, from the one after the cursor; of a number and a purpose, if these are
// given.
func (s *Store) Passcodes(ctx context.Context, number, purpose string, after uuid.UUID, most int) ([]Passcode, error) {
	of := conditions{"true", []any{most}}
	of.meet("p.number", number, number != "")
	of.meet("p.purpose", purpose, purpose != "")
	if after != uuid.Nil {
		of.args = append(of.args, after)
		of.where += fmt.Sprintf(" AND p.id < $%d", len(of.args))
	}
	found, err := query(
		ctx,
		s.reading(),
		scanPasscode,
		"SELECT "+passcodeColumns+" FROM passcodes p WHERE "+of.where+" ORDER BY p.id DESC LIMIT $1",
		of.args...)
	if err != nil {
		return nil, fmt.Errorf("reading passcodes: %w", err)
	}
	return found, nil
}

// PutPasscode writes what can change of a passcode that is held.
func (s *Store) PutPasscode(ctx context.Context, p Passcode) error {
	var b pgx.Batch
	b.Queue(
		`UPDATE passcodes SET sealed = $2, tries = $3, used_at = $4, checked_at = $5, ended_at = $6, sends = $7, again_at = $8,
			message_id = $9, gateway_id = $10
		WHERE id = $1`,
		p.ID,
		p.Sealed,
		p.Tries,
		p.UsedAt,
		p.CheckedAt,
		p.EndedAt,
		p.Sends,
		p.AgainAt,
		p.MessageID,
		p.Gateway,
	)
	if err := s.send(ctx, &b); err != nil {
		return fmt.Errorf("writing what became of a passcode: %w", err)
	}
	return nil
}

// TidyPasscodes takes what is sealed away from passcodes that are over.
func (s *Store) TidyPasscodes(ctx context.Context, now time.Time) error {
	if err := s.gorm(ctx).Exec("UPDATE passcodes SET sealed = '' WHERE sealed <> '' AND ends_at < ?", now).Error; err != nil {
		return fmt.Errorf("taking away what passcodes needed: %w", err)
	}
	return nil
}

// TidyCounters forgets counts that count no more, and which passcode was the newest where none lives any more. It goes
// through all of them.
func (s *Store) TidyCounters(ctx context.Context, now time.Time, life time.Duration) error {
	if err := s.gorm(ctx).Exec("DELETE FROM passcode_counts WHERE at < ?", now.Add(-26*time.Hour)).Error; err != nil {
		return fmt.Errorf("forgetting counts of passcodes: %w", err)
	}
	if err := s.gorm(ctx).Exec("DELETE FROM passcode_current WHERE id < ?", Floor(now.Add(-2*life))).Error; err != nil {
		return fmt.Errorf("forgetting the newest passcodes: %w", err)
	}
	return nil
}

// PasscodeLimit is a limit that is set, in the place of the usual one.
type PasscodeLimit struct {
	By        passcode.By `gorm:"column:by_what;primaryKey"`
	PerWindow string      `gorm:"primaryKey"`
	Most      *int        // nil: none holds
}

// PasscodeLimits lists the limits that are set.
func (s *Store) PasscodeLimits(ctx context.Context) (all []PasscodeLimit, err error) {
	return all, s.gorm(ctx).Order("by_what, per_window").Find(&all).Error
}

// PutPasscodeLimits puts limits in the place of all that were set before.
func (s *Store) PutPasscodeLimits(ctx context.Context, all []PasscodeLimit) error {
	return s.setting(ctx, "passcode_limit", "", func(s *Store) error {
		kept := make([]string, len(all))
		for i, l := range all {
			kept[i] = string(l.By) + " " + l.PerWindow
		}
		err := s.gorm(ctx).Exec("DELETE FROM passcode_limits WHERE NOT by_what || ' ' || per_window = ANY(string_to_array(?, ','))",
			strings.Join(kept, ",")).Error
		if err != nil {
			return fmt.Errorf("setting limits of passcodes: %w", err)
		}
		for _, l := range all {
			err := s.gorm(ctx).Exec(`INSERT INTO passcode_limits AS l (by_what, per_window, most) VALUES (?, ?, ?)
				ON CONFLICT (by_what, per_window) DO UPDATE SET most = excluded.most WHERE l.most IS DISTINCT FROM excluded.most`,
				l.By, l.PerWindow, l.Most).Error
			if err != nil {
				return fmt.Errorf("setting limits of passcodes: %w", err)
			}
		}
		return nil
	})
}

// PasscodeBlock is that something gets no passcodes, from when to when.
type PasscodeBlock struct {
	ID        uuid.UUID
	By        passcode.By `gorm:"column:by_what"`
	Value     string
	Since     time.Time
	UntilAt   *time.Time // nil: for good
	ByWhom    string
	Why       string
	LiftedAt  *time.Time
	LiftedBy  string
	LiftedWhy string
}

// PasscodeBlocks lists blocks, the newest first: those that stand at a moment, or all.
func (s *Store) PasscodeBlocks(ctx context.Context, standing bool, now time.Time, most int) (all []PasscodeBlock, err error) {
	db := s.gorm(ctx).Order("id DESC").Limit(most)
	if standing {
		db = db.Where("lifted_at IS NULL AND (until_at IS NULL OR until_at > ?)", now)
	}
	return all, db.Find(&all).Error
}

// StandingBlocks lists the blocks that stood when the last one was made: all that stand now are among them. After a
// count ([SettingsCount]) it lists those that were made or changed since, whether they stand or not.
func (s *Store) StandingBlocks(ctx context.Context, after int64) (all []PasscodeBlock, err error) {
	db := s.gorm(ctx).Where("as_of > ?", after)
	if after == FromTheStart {
		db = db.Where("lifted_at IS NULL AND (until_at IS NULL OR until_at > (SELECT max(since) FROM passcode_blocks))")
	}
	return all, db.Find(&all).Error
}

// AddPasscodeBlock keeps a block. It returns a [FullError] where too many stand.
func (s *Store) AddPasscodeBlock(ctx context.Context, b PasscodeBlock) error {
	return s.setting(ctx, "passcode_block", "", func(s *Store) error {
		var standing int64
		err := s.gorm(ctx).Model(&PasscodeBlock{}).Where("lifted_at IS NULL AND (until_at IS NULL OR until_at > ?)", b.Since).
			Count(&standing).Error
		if err != nil {
			return fmt.Errorf("counting blocks of passcodes: %w", err)
		}
		if standing >= StandingMost {
			return &FullError{"blocks that stand", strconv.Itoa(StandingMost), "Lift some, or block a range or a network in their place."}
		}
		return s.gorm(ctx).Create(&b).Error
	})
}

// TidyBlocks removes blocks that were over before a moment.
func (s *Store) TidyBlocks(ctx context.Context, before time.Time) error {
	err := s.gorm(ctx).Exec("DELETE FROM passcode_blocks WHERE least(lifted_at, until_at) < ?", before).Error
	if err != nil {
		return fmt.Errorf("removing blocks of passcodes that are over: %w", err)
	}
	return nil
}

// LiftPasscodeBlock ends a block that stands; it is returned as it is then.
func (s *Store) LiftPasscodeBlock(ctx context.Context, id uuid.UUID, now time.Time, by, why string) (b PasscodeBlock, err error) {
	err = s.setting(ctx, "passcode_block", "", func(s *Store) error {
		if err := found(s.gorm(ctx).Where("id = ?", id).First(&b).Error); err != nil || b.LiftedAt != nil {
			return err
		}
		b.LiftedAt, b.LiftedBy, b.LiftedWhy = &now, by, why
		return s.gorm(ctx).Model(&PasscodeBlock{}).Where("id = ?", id).Select("lifted_at", "lifted_by", "lifted_why").Updates(&b).Error
	})
	return b, err
}

// PrepareToAccept learns by what messages are counted, before the transaction in which they are accepted: what a
// transaction adds to it holds up whoever adds the same, until it ends.
func (s *Store) PrepareToAccept(ctx context.Context, set []Acceptance) error { return s.cut(ctx, set) }
