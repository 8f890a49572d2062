package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"gorm.io/gorm/clause"

	"calmpigeon.example/internal/core/belong"
	"calmpigeon.example/internal/core/delivery"
)

// Stray is a claim that matches no message yet.
type Stray struct {
	ID         uuid.UUID
	GatewayID  uuid.UUID
	GatewayRef string
	Reference  string
	At         time.Time
	Claim      delivery.State
	Cause      delivery.Cause
	Part       int
	Parts      int
	Code       string
	Note       string
	GatewayAt  *time.Time
	ReceiptID  uuid.UUID
	LookAt     *time.Time
	Looks      int
	ToNumber   string // as the gateway writes it
	Billed     `gorm:"embedded"`
	Number     string // E.164; empty: not said, or it cannot be read
	Says       string // the text of its message, if the gateway, asked, told it
	JudgeAt    *time.Time
	Judged     int
	AskAt      *time.Time
	Asks       int
	Answer     Answer
	Reason     belong.Reason
	Rivals     int // submissions that it may belong to
	Fate       Fate
	FatedAt    *time.Time
	ByWhom     string
	Why        string
	Ground     *int64
	MessageID  *uuid.UUID
	Attempt    int
	NotOf      string // ids of messages, with spaces between
}

// Fate is what became of a stray.
type Fate string

// The fates of strays. Those that find their message by name are no strays any more.
const (
	Astray    Fate = ""          // it waits
	Weakly    Fate = "weak"      // it can only belong to one message
	Attached  Fate = "attached"  // a person says to which message it belongs
	Discarded Fate = "discarded" // a person says that it means nothing to us
)

// Answer is what a gateway that was asked about the id of a stray knew of it.
type Answer string

// The answers.
const (
	NotAsked Answer = ""
	Knows    Answer = "known"   // it knows the id
	Ignores  Answer = "absent"  // it does not
	Silent   Answer = "nothing" // it told nothing of use
)

// Of is the name under which claims of one message come: the gateway's id, else the number.
func (s *Stray) Of() string {
	if s.GatewayRef == "" {
		return "\x00" + s.Number
	}
	return s.GatewayRef
}

// On is the ground that its claims rest on; 0 if it has no message.
func (s *Stray) On() delivery.Ground { return groundKept(s.Ground) }

// Not are the messages that it does not belong to, by decision.
func (s *Stray) Not() []uuid.UUID {
	var not []uuid.UUID
	for _, word := range strings.Fields(s.NotOf) {
		if id, err := uuid.Parse(word); err == nil {
			not = append(not, id)
		}
	}
	return not
}

// AddStrays keeps claims whose message is not known yet.
func (s *Store) AddStrays(ctx context.Context, strays []Stray) error {
	if len(strays) == 0 {
		return nil
	}
	if err := s.gorm(ctx).CreateInBatches(&strays, 500).Error; err != nil {
		return fmt.Errorf("keeping %d strays: %w", len(strays), err)
	}
	return nil
}

// StraysMost is how many strays of one gateway may wait. Anybody who knows the address of its receipts can make more.
const StraysMost = 50_000

// trimMost is how many strays are removed in one transaction.
const trimMost = 5000

// TrimStrays removes strays of a gateway that wait, the oldest first, while there are more than [StraysMost], and counts
// what it removed. It reports whether there may be more to remove. The callbacks that they came from are kept.
func (s *Store) TrimStrays(ctx context.Context, gateway uuid.UUID, now time.Time) (more bool, err error) {
	var removed []uuid.UUID
	err = s.Transact(ctx, func(s *Store) error {
		removed, err = query(ctx, s.hot(), scanID, `DELETE FROM strays WHERE id IN (
			SELECT id FROM strays WHERE gateway_id = $1 AND fate = '' AND id <= (
				SELECT id FROM strays WHERE gateway_id = $1 AND fate = '' ORDER BY id DESC OFFSET $2 LIMIT 1)
			ORDER BY id LIMIT $3 FOR UPDATE SKIP LOCKED) RETURNING id`, gateway, StraysMost, trimMost)
		if err != nil || len(removed) == 0 {
			return err
		}
		var b pgx.Batch
		b.Queue(`INSERT INTO strays_removed AS r (gateway_id, n, since, last_at) VALUES ($1, $2, $3, $3)
			ON CONFLICT (gateway_id) DO UPDATE SET n = r.n + excluded.n, last_at = excluded.last_at`, gateway, len(removed), now)
		return s.send(ctx, &b)
	})
	if err != nil {
		return false, fmt.Errorf("removing the oldest strays: %w", err)
	}
	return len(removed) == trimMost, nil
}

// RemovedStrays is how many strays of a gateway were removed because too many waited.
type RemovedStrays struct {
	GatewayID     uuid.UUID
	N             int64
	Since, LastAt time.Time
}

// RemovedStrays lists the gateways of which strays were removed after a moment.
func (s *Store) RemovedStrays(ctx context.Context, after time.Time) ([]RemovedStrays, error) {
	all, err := query(ctx, s.reading(), func(rows pgx.Rows) (r RemovedStrays, err error) {
		err = rows.Scan(&r.GatewayID, &r.N, &r.Since, &r.LastAt)
		return r, err
	}, "SELECT gateway_id, n, since, last_at FROM strays_removed WHERE last_at > $1 ORDER BY gateway_id", after)
	if err != nil {
		return nil, fmt.Errorf("counting strays that were removed: %w", err)
	}
	return all, nil
}

// ForgetRemovedStrays forgets the counts of gateways of which none was removed after a moment.
func (s *Store) ForgetRemovedStrays(ctx context.Context, before time.Time) error {
	if err := s.gorm(ctx).Exec("DELETE FROM strays_removed WHERE last_at < ?", before).Error; err != nil {
		return fmt.Errorf("forgetting strays that were removed: %w", err)
	}
	return nil
}

// TakeStrays locks strays whose message is to be looked for. Call it within
// [Store.Transact].
func (s *Store) TakeStrays(ctx context.Context, now time.Time, most int) ([]Stray, error) {
	var strays []Stray
	err := s.gorm(ctx).Clauses(clause.Locking{Strength: "UPDATE", Options: "SKIP LOCKED"}).
		Where("look_at <= ?", now).Order("look_at").Limit(most).Find(&strays).Error
	return strays, err
}

// queueCallStrays makes the strays that speak of messages which have just become
// known due at once. One that somebody is looking at just now is passed over:
// it will be looked at again.
func queueCallStrays(b *pgx.Batch, now time.Time, refs []gatewayRef) {
	if len(refs) == 0 {
		return
	}
	b.Queue(`UPDATE strays SET look_at = $1 WHERE id IN (
		SELECT t.id FROM unnest($2::text[], $3::uuid[]) AS n (ref, gateway_id)
		JOIN strays t ON t.gateway_ref = n.ref AND t.gateway_id = n.gateway_id FOR UPDATE OF t SKIP LOCKED)`, now,
		words(refs, func(r *gatewayRef) string { return r.ref }), ids(refs, func(r *gatewayRef) uuid.UUID { return r.gateway }))
}

// StrayAsks is how often a gateway is asked about a stray.
const StrayAsks = 4

// free makes a stray one that waits again.
const free = `fate = '', fated_at = NULL, by_whom = '', why = '', ground = NULL, message_id = NULL, attempt = 0, reason = '', rivals = 0`

// unasked tells which strays a gateway is still to be asked about: it named no message by anything but its own id, and did
// not say that it knows none by it.
var unasked = fmt.Sprintf(`gateway_ref <> '' AND number = '' AND reference = '' AND answer <> 'absent' AND asks < %d`, StrayAsks)

// queueFreeStrays makes strays wait again whose matches were withdrawn.
func queueFreeStrays(b *pgx.Batch, now time.Time, grounds []int64) {
	if len(grounds) > 0 {
		b.Queue("UPDATE strays SET "+free+", judge_at = $1, ask_at = CASE WHEN "+unasked+" THEN $1::timestamptz END WHERE ground = ANY($2)",
			now, grounds)
	}
}

// FreeWithdrawn makes strays wait again whose grounds are withdrawn, and be judged at a moment.
func (s *Store) FreeWithdrawn(ctx context.Context, judgeAt time.Time, grounds []int64) error {
	var b pgx.Batch
	queueFreeStrays(&b, judgeAt, grounds)
	return s.send(ctx, &b)
}

// DropStrays removes strays that found their message.
func (s *Store) DropStrays(ctx context.Context, ids []uuid.UUID) error {
	if len(ids) == 0 {
		return nil
	}
	return s.gorm(ctx).Where("id = ANY(?::uuid[])", list(ids)).Delete(&Stray{}).Error
}

// PostponeStrays sets when strays that found nothing are looked at again; past
// the end of waiting they stay, and nobody looks any more.
func (s *Store) PostponeStrays(ctx context.Context, now time.Time, ids []uuid.UUID, most time.Duration, end time.Time) error {
	if len(ids) == 0 {
		return nil
	}
	return s.gorm(ctx).Exec(`UPDATE strays SET looks = looks + 1,
			look_at = CASE WHEN at < ? OR fate <> '' THEN NULL
				ELSE ?::timestamptz + least(interval '250 milliseconds' * power(2, least(looks, 20)), make_interval(secs => ?)) END
		WHERE id = ANY(?::uuid[])`, end, now, most.Seconds(), list(ids)).Error
}

// Akin finds, of strays, those whose name another stray bears that has a message: theirs is the same.
func (s *Store) Akin(ctx context.Context, strays []Stray) (map[uuid.UUID]Stray, error) {
	named := make([]Stray, 0, len(strays))
	for _, t := range strays {
		if t.GatewayRef != "" && t.Fate == Astray {
			named = append(named, t)
		}
	}
	if len(named) == 0 {
		return nil, nil
	}
	type pair struct {
		id uuid.UUID
		Stray
	}
	found, err := query(ctx, s.hot(), func(rows pgx.Rows) (p pair, err error) {
		err = rows.Scan(&p.id, &p.Fate, &p.Ground, &p.MessageID, &p.Attempt, &p.ByWhom, &p.Why)
		return p, err
	}, `SELECT DISTINCT ON (n.id) n.id, t.fate, t.ground, t.message_id, t.attempt, t.by_whom, t.why
		FROM unnest($1::uuid[], $2::text[], $3::uuid[]) AS n (id, ref, gateway_id)
		JOIN strays t ON t.gateway_ref = n.ref AND t.gateway_id = n.gateway_id
		WHERE t.ground IS NOT NULL AND t.id <> n.id ORDER BY n.id, t.fate, t.id`,
		ids(named, func(t *Stray) uuid.UUID { return t.ID }), words(named, func(t *Stray) string { return t.GatewayRef }),
		ids(named, func(t *Stray) uuid.UUID { return t.GatewayID }))
	if err != nil {
		return nil, fmt.Errorf("looking for strays of the same name: %w", err)
	}
	akin := make(map[uuid.UUID]Stray, len(found))
	for _, p := range found {
		akin[p.id] = p.Stray
	}
	return akin, nil
}

// FateStrays writes what became of strays: their fate, message, ground, and by whom. Nobody looks
// or asks for them any more; by their name they are called all the same.
func (s *Store) FateStrays(ctx context.Context, now time.Time, strays []Stray) error {
	if len(strays) == 0 {
		return nil
	}
	_, err := query(ctx, s.hot(), scanID, `UPDATE strays t SET fate = n.fate, fated_at = $8, ground = n.ground, message_id = n.message_id,
			attempt = n.attempt, by_whom = n.by_whom, why = n.why, look_at = NULL, judge_at = NULL, ask_at = NULL
		FROM unnest($1::uuid[], $2::text[], $3::bigint[], $4::uuid[], $5::int[], $6::text[], $7::text[])
			AS n (id, fate, ground, message_id, attempt, by_whom, why)
		WHERE t.id = n.id RETURNING t.id`,
		ids(strays, func(t *Stray) uuid.UUID { return t.ID }), words(strays, func(t *Stray) Fate { return t.Fate }),
		column(strays, func(t *Stray) *int64 { return t.Ground }), maybeIDs(strays, func(t *Stray) *uuid.UUID { return t.MessageID }),
		numbers(strays, func(t *Stray) int { return t.Attempt }), words(strays, func(t *Stray) string { return t.ByWhom }),
		words(strays, func(t *Stray) string { return t.Why }), now)
	if err != nil {
		return fmt.Errorf("writing what became of strays: %w", err)
	}
	return nil
}

// FreeStrays makes strays wait again, as ones that do not belong to the messages they had.
func (s *Store) FreeStrays(ctx context.Context, now time.Time, strays []uuid.UUID) error {
	return s.gorm(ctx).Exec("UPDATE strays SET not_of = trim(not_of || ' ' || coalesce(message_id::text, '')), "+free+
		", judge_at = ?, look_at = ?, ask_at = CASE WHEN "+unasked+" THEN ?::timestamptz END WHERE id = ANY(?::uuid[])",
		now, now, now, list(strays)).Error
}

// JudgedStrays writes what was found of strays that have no message, and when they are judged again.
func (s *Store) JudgedStrays(ctx context.Context, strays []Stray) error {
	if len(strays) == 0 {
		return nil
	}
	_, err := query(
		ctx,
		s.hot(),
		scanID,
		`UPDATE strays t SET judged = n.judged, judge_at = n.judge_at, number = n.number, reason = n.reason,
			rivals = n.rivals
		FROM unnest($1::uuid[], $2::int[], $3::timestamptz[], $4::text[], $5::text[], $6::int[])
			AS n (id, judged, judge_at, number, reason, rivals)
		WHERE t.id = n.id RETURNING t.id`,
		ids(strays, func(t *Stray) uuid.UUID { return t.ID }),
		numbers(strays, func(t *Stray) int { return t.Judged }),
		column(strays, func(t *Stray) *time.Time { return t.JudgeAt }),
		words(strays, func(t *Stray) string { return t.Number }),
		words(strays, func(t *Stray) belong.Reason { return t.Reason }),
		numbers(strays, func(t *Stray) int { return t.Rivals }),
	)
	if err != nil {
		return fmt.Errorf("writing what was found of strays: %w", err)
	}
	return nil
}

// TakeAsked takes strays of a gateway whose ids it is to be asked about, and postpones each by a
// lease, so that nobody else asks meanwhile.
func (s *Store) TakeAsked(ctx context.Context, gateway uuid.UUID, now time.Time, lease time.Duration, most int) ([]Stray, error) {
	var strays []Stray
	err := s.gorm(ctx).Raw(`UPDATE strays SET ask_at = ? WHERE id IN (
			SELECT id FROM strays WHERE gateway_id = ? AND ask_at <= ? ORDER BY ask_at LIMIT ? FOR UPDATE SKIP LOCKED)
		RETURNING *`, now.Add(lease), gateway, now, most).Scan(&strays).Error
	if err != nil {
		return nil, fmt.Errorf("taking strays to ask about: %w", err)
	}
	return strays, nil
}

// AskLater sets when a gateway is asked about strays that were taken to be asked about and were not.
func (s *Store) AskLater(ctx context.Context, strays []Stray, at time.Time) error {
	err := s.gorm(ctx).Exec("UPDATE strays SET ask_at = ? WHERE id = ANY(?::uuid[]) AND ask_at IS NOT NULL", at,
		list(ids(strays, func(t *Stray) uuid.UUID { return t.ID }))).Error
	if err != nil {
		return fmt.Errorf("asking about strays later: %w", err)
	}
	return nil
}

// AnsweredStrays writes what a gateway, asked, told of strays, and when it is asked again.
func (s *Store) AnsweredStrays(ctx context.Context, now time.Time, strays []Stray) error {
	if len(strays) == 0 {
		return nil
	}
	_, err := query(ctx, s.hot(), scanID, `UPDATE strays t SET asks = n.asks, ask_at = n.ask_at, answer = n.answer, reference = n.reference,
			to_number = n.to_number, number = n.number, says = n.says, gateway_at = n.gateway_at,
			judge_at = CASE WHEN fate = '' THEN $10::timestamptz END, look_at = CASE WHEN fate = '' THEN $10::timestamptz END
		FROM unnest($1::uuid[], $2::int[], $3::timestamptz[], $4::text[], $5::text[], $6::text[], $7::text[], $8::text[], $9::timestamptz[])
			AS n (id, asks, ask_at, answer, reference, to_number, number, says, gateway_at)
		WHERE t.id = n.id RETURNING t.id`,
		ids(strays, func(t *Stray) uuid.UUID { return t.ID }), numbers(strays, func(t *Stray) int { return t.Asks }),
		column(strays, func(t *Stray) *time.Time { return t.AskAt }), words(strays, func(t *Stray) Answer { return t.Answer }),
		words(strays, func(t *Stray) string { return t.Reference }), words(strays, func(t *Stray) string { return t.ToNumber }),
		words(strays, func(t *Stray) string { return t.Number }), words(strays, func(t *Stray) string { return t.Says }),
		column(strays, func(t *Stray) *time.Time { return t.GatewayAt }), now)
	if err != nil {
		return fmt.Errorf("writing what was told of strays: %w", err)
	}
	return nil
}

// StrayFilter chooses strays. Zero fields choose all.
type StrayFilter struct {
	Fates      []Fate // nil: all
	Gateway    uuid.UUID
	GatewayRef string
	Number     string
	Reason     belong.Reason
	Message    uuid.UUID
}

func (f StrayFilter) where() (string, []any) {
	conditions, args := []string{"true"}, []any{}
	add := func(condition string, value any) {
		conditions, args = append(conditions, condition), append(args, value)
	}
	if f.Fates != nil {
		add("fate IN ?", words(f.Fates, func(f *Fate) Fate { return *f }))
	}
	if f.Gateway != uuid.Nil {
		add("gateway_id = ?", f.Gateway)
	}
	if f.Message != uuid.Nil {
		add("message_id = ?", f.Message)
	}
	for condition, value := range map[string]string{"gateway_ref = ?": f.GatewayRef, "number = ?": f.Number, "reason = ?": string(f.Reason)} {
		if value != "" {
			add(condition, value)
		}
	}
	return strings.Join(conditions, " AND "), args
}

// Strays lists strays, the newest first, from the one after the cursor; the nil cursor starts at the
// newest.
func (s *Store) Strays(ctx context.Context, f StrayFilter, after uuid.UUID, most int) ([]Stray, error) {
	where, args := f.where()
	db := s.gorm(ctx).Where(where, args...)
	if after != uuid.Nil {
		db = db.Where("id < ?", after)
	}
	var strays []Stray
	if err := db.Order("id DESC").Limit(most).Find(&strays).Error; err != nil {
		return nil, fmt.Errorf("listing strays: %w", err)
	}
	return strays, nil
}

// Stray is one stray.
func (s *Store) Stray(ctx context.Context, id uuid.UUID) (t Stray, err error) {
	return t, found(s.gorm(ctx).Where("id = ?", id).First(&t).Error)
}

// StrayCount is how many strays of a gateway share a fate and a reason.
type StrayCount struct {
	GatewayID uuid.UUID
	Fate      Fate
	Reason    belong.Reason
	N         int64
}

// CountStrays counts the chosen strays by gateway, fate and reason.
func (s *Store) CountStrays(ctx context.Context, f StrayFilter) ([]StrayCount, error) {
	where, args := f.where()
	var counts []StrayCount
	err := s.gorm(ctx).Model(&Stray{}).Where(where, args...).Select("gateway_id, fate, reason, count(*) AS n").
		Group("gateway_id, fate, reason").Order("fate, n DESC, gateway_id, reason").Find(&counts).Error
	if err != nil {
		return nil, fmt.Errorf("counting strays: %w", err)
	}
	return counts, nil
}

// HoldStrays locks strays, in the order of ids. Call it within [Store.Transact].
func (s *Store) HoldStrays(ctx context.Context, ids []uuid.UUID) ([]Stray, error) {
	var strays []Stray
	err := s.gorm(ctx).Clauses(clause.Locking{Strength: "UPDATE"}).Where("id = ANY(?::uuid[])", list(ids)).Order("id").Find(&strays).Error
	if err != nil {
		return nil, fmt.Errorf("locking strays: %w", err)
	}
	return strays, nil
}
