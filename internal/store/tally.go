package store

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/label"
)

// Messages are counted as they change: the transaction that changes a state
// writes by how much which count changes, as deltas that nobody waits for, and
// later they are added up. A count is the sum of both.

// cutting is a combination of dimensions by which messages are counted. There
// are few, and they never change, so they are remembered.
type cutting struct {
	key                             uuid.UUID
	sender, country, kind, template string
	labels                          label.Set
}

type cuts struct {
	mu     sync.RWMutex
	known  map[cutting]int32
	labels map[int32]label.Set
	sets   map[keyed]bool
	used   map[uuid.UUID]*setsOf
}

// keep remembers combinations.
func (c *cuts) keep(all []numberedCut) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.known == nil {
		c.known, c.labels, c.sets = map[cutting]int32{}, map[int32]label.Set{}, map[keyed]bool{}
	}
	for _, n := range all {
		c.known[n.cutting], c.labels[n.id], c.sets[keyed{n.key, n.labels}] = n.id, n.labels, true
	}
}

// forget forgets all combinations: the database may not have them.
func (c *cuts) forget() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.known, c.labels, c.sets, c.used = nil, nil, nil, nil
}

// cut gives each message of a set the combination that it is counted in.
func (s *Store) cut(ctx context.Context, set []Acceptance) error {
	sets := make([]keyed, len(set))
	for i := range set {
		sets[i] = keyed{set[i].Message.KeyID, set[i].Message.Labels}
	}
	told, err := s.tellApart(ctx, sets)
	if err != nil {
		return err
	}
	for i := range set {
		if !told[i] {
			set[i].Message.Labels = label.Other
		}
	}
	// Other transactions must not use what this one adds before it is committed.
	ours := map[cutting]int32{}
	var fresh []cutting
	give := func() bool {
		fresh = fresh[:0]
		s.cuts.mu.RLock()
		defer s.cuts.mu.RUnlock()
		for i := range set {
			m := &set[i].Message
			c := cutting{m.KeyID, m.Sender, m.Country, string(m.Kind), m.Template, m.Labels}
			known, ok := s.cuts.known[c]
			if !ok {
				known, ok = ours[c]
			}
			if !ok && !slices.Contains(fresh, c) {
				fresh = append(fresh, c)
			}
			m.cut = known
		}
		return len(fresh) == 0
	}
	if give() {
		return nil
	}
	slices.SortFunc(fresh, func(a, b cutting) int { return strings.Compare(fmt.Sprint(a), fmt.Sprint(b)) })
	args := []any{ids(fresh, func(c *cutting) uuid.UUID { return c.key }), words(fresh, func(c *cutting) string { return c.sender }),
		words(fresh, func(c *cutting) string { return c.country }), words(fresh, func(c *cutting) string { return c.kind }),
		words(fresh, func(c *cutting) string { return c.template }), words(fresh, func(c *cutting) label.Set { return c.labels })}
	var b pgx.Batch
	b.Queue(`INSERT INTO cuts (key_id, sender, country, kind, template, labels)
		SELECT * FROM unnest($1::uuid[], $2::text[], $3::text[], $4::text[], $5::text[], $6::text[]) ON CONFLICT DO NOTHING`, args...)
	if err := s.send(ctx, &b); err != nil {
		return fmt.Errorf("noting what is counted: %w", err)
	}
	known, err := s.readCuts(
		ctx,
		`FROM unnest($1::uuid[], $2::text[], $3::text[], $4::text[], $5::text[], $6::text[])
			AS n (key_id, sender, country, kind, template, labels)
		JOIN cuts c USING (key_id, sender, country, kind, template, labels)`,
		args...)
	if err != nil {
		return err
	}
	for _, n := range known {
		ours[n.cutting] = n.id
	}
	s.afterCommit(func() { s.cuts.keep(known) })
	if !give() {
		return fmt.Errorf("what is counted was not kept: %v", fresh)
	}
	return nil
}

type numberedCut struct {
	cutting
	id int32
}

func (s *Store) readCuts(ctx context.Context, from string, args ...any) ([]numberedCut, error) {
	read, err := query(ctx, s.hot(), func(rows pgx.Rows) (c numberedCut, err error) {
		err = rows.Scan(&c.id, &c.key, &c.sender, &c.country, &c.kind, &c.template, &c.labels)
		return c, err
	}, "SELECT c.id, c.key_id, c.sender, c.country, c.kind, c.template, c.labels "+from, args...)
	if err != nil {
		return nil, fmt.Errorf("reading what is counted: %w", err)
	}
	return read, nil
}

// label gives messages that were read the labels that they were counted with.
func (s *Store) label(ctx context.Context, messages []Message) error {
	ours := map[int32]label.Set{}
	var unknown []int32
	give := func() {
		s.cuts.mu.RLock()
		defer s.cuts.mu.RUnlock()
		for i := range messages {
			labels, ok := s.cuts.labels[messages[i].cut]
			if !ok {
				labels, ok = ours[messages[i].cut]
			}
			if messages[i].Labels = labels; !ok && !slices.Contains(unknown, messages[i].cut) {
				unknown = append(unknown, messages[i].cut)
			}
		}
	}
	if give(); unknown == nil {
		return nil
	}
	known, err := s.readCuts(ctx, "FROM cuts c WHERE c.id = ANY($1)", unknown)
	if err != nil {
		return err
	}
	for _, n := range known {
		ours[n.id] = n.labels
	}
	s.afterCommit(func() { s.cuts.keep(known) })
	give()
	return nil
}

const (
	// labelsUsed is how long a set of labels counts that nobody uses any more.
	labelsUsed = 30 * 24 * time.Hour
	// labelsCounted is how long the number of sets that a key has in use is remembered.
	labelsCounted = time.Minute
)

// keyed is a set of labels of a key.
type keyed struct {
	key    uuid.UUID
	labels label.Set
}

// setsOf is how many sets of labels a key had in use at a moment, and which it got since.
type setsOf struct {
	n     int
	at    time.Time
	since map[label.Set]bool
}

// tellApart reports which sets of labels are told apart, in the order in which they are given: those that
// their key has had, and new ones until it has [label.SetsMost] in use.
func (s *Store) tellApart(ctx context.Context, sets []keyed) ([]bool, error) {
	told := make([]bool, len(sets))
	var unknown []keyed
	s.cuts.mu.RLock()
	for i, one := range sets {
		told[i] = one.labels == "" || one.labels == label.Other || s.cuts.sets[one]
		if !told[i] && !slices.Contains(unknown, one) {
			unknown = append(unknown, one)
		}
	}
	s.cuts.mu.RUnlock()
	if unknown == nil {
		return told, nil
	}
	known, err := query(ctx, s.hot(), func(rows pgx.Rows) (one keyed, err error) {
		err = rows.Scan(&one.key, &one.labels)
		return one, err
	}, `SELECT n.key_id, n.labels FROM unnest($1::uuid[], $2::text[]) AS n (key_id, labels)
		WHERE EXISTS (SELECT FROM cuts c WHERE c.key_id = n.key_id AND c.labels = n.labels)`,
		ids(unknown, func(k *keyed) uuid.UUID { return k.key }), words(unknown, func(k *keyed) label.Set { return k.labels }))
	if err != nil {
		return nil, fmt.Errorf("looking for labels: %w", err)
	}
	there := make(map[keyed]bool, len(unknown))
	for _, one := range known {
		there[one] = true
	}
	for _, one := range unknown {
		if !there[one] {
			if there[one], err = s.mayAdd(ctx, one); err != nil {
				return nil, err
			}
		}
	}
	for i, one := range sets {
		told[i] = told[i] || there[one]
	}
	return told, nil
}

// mayAdd reports whether a key may have one set of labels more, and counts it once.
func (s *Store) mayAdd(ctx context.Context, one keyed) (bool, error) {
	s.cuts.mu.RLock()
	counted := s.cuts.used[one.key]
	s.cuts.mu.RUnlock()
	if counted == nil || time.Since(counted.at) > labelsCounted {
		const all = "SELECT count(DISTINCT labels)::int FROM cuts c WHERE key_id = $1 AND labels NOT IN ('', $2)"
		n, err := query(ctx, s.hot(), scanNumber, all, one.key, string(label.Other))
		if err == nil && n[0] >= label.SetsMost { // some may be out of use
			n, err = query(ctx, s.hot(), scanNumber, all+` AND (c.id IN (SELECT cut_id FROM tally_deltas)
				OR c.id IN (SELECT cut_id FROM tallies WHERE grain = 'day' AND began_at >= clock_timestamp() - make_interval(secs => $3)))`,
				one.key, string(label.Other), labelsUsed.Seconds())
		}
		if err != nil {
			return false, fmt.Errorf("counting labels: %w", err)
		}
		counted = &setsOf{n[0], time.Now(), map[label.Set]bool{}}
	}
	s.cuts.mu.Lock()
	defer s.cuts.mu.Unlock()
	if s.cuts.used == nil {
		s.cuts.used = map[uuid.UUID]*setsOf{}
	}
	s.cuts.used[one.key] = counted
	if counted.n+len(counted.since) < label.SetsMost {
		counted.since[one.labels] = true
	}
	return counted.since[one.labels], nil
}

// LabelsFit reports whether a set of labels of a key is told apart. New ones are until the key has
// [label.SetsMost] in use.
func (s *Store) LabelsFit(ctx context.Context, key uuid.UUID, labels label.Set) (bool, error) {
	told, err := s.tellApart(ctx, []keyed{{key, labels}})
	return err == nil && told[0], err
}

// counted is one count: how many messages that were accepted in an hour are in
// a state.
type counted struct {
	hour      time.Time
	cut       int32
	gateway   uuid.UUID
	state     delivery.State
	contested bool
}

func countedAs(m *Message) counted {
	return counted{timeOf(m.ID).UTC().Truncate(time.Hour), m.cut, m.GatewayID, m.State, m.Rivals != ""}
}

// tallyDeltas is by how much counts change.
type tallyDeltas map[counted]int

func (t tallyDeltas) add(m *Message, n int) { t[countedAs(m)] += n }

// move counts a message where it is now, and no longer where it was.
func (t tallyDeltas) move(before, after *Message) {
	if countedAs(before) != countedAs(after) {
		t.add(before, -1)
		t.add(after, 1)
	}
}

func (t tallyDeltas) queue(b *pgx.Batch) {
	set := sums(t)
	if set == nil {
		return
	}
	b.Queue(`INSERT INTO tally_deltas (hour, cut_id, gateway_id, state, contested, n)
		SELECT * FROM unnest($1::timestamptz[], $2::int[], $3::uuid[], $4::text[], $5::boolean[], $6::int[])`,
		column(set, func(s *sum[counted]) time.Time { return s.of.hour }), column(set, func(s *sum[counted]) int32 { return s.of.cut }),
		ids(set, func(s *sum[counted]) uuid.UUID { return s.of.gateway }),
		words(set, func(s *sum[counted]) delivery.State { return s.of.state }),
		column(set, func(s *sum[counted]) bool { return s.of.contested }), numbers(set, func(s *sum[counted]) int { return s.n }))
}

// compactMost is how many deltas are added up at once.
const compactMost = 20_000

// Deltas are found by their place in the table, so that the plan depends on no
// statistics: one that is made while a table of deltas looks empty is quadratic later.
// Nobody changes deltas but who has the turn.

// compactTallies adds deltas up by hour and by day, as compactBatches those of batches, compactArrivals those of arrivals,
// compactMoney what messages cost, and compactSteps how passcodes fared.
const compactTallies = `WITH turn AS MATERIALIZED (SELECT pg_try_advisory_xact_lock(hashtext('pigeon tallies')) AS mine),
	gone AS (DELETE FROM tally_deltas WHERE ctid = ANY (ARRAY(SELECT ctid FROM tally_deltas WHERE (SELECT mine FROM turn) LIMIT $1))
		RETURNING hour, cut_id, gateway_id, state, contested, n),
	sums AS (SELECT g.grain, date_trunc(g.grain, d.hour, 'UTC') AS began_at, d.cut_id, d.gateway_id, d.state, d.contested, sum(d.n) AS n
		FROM gone d, (VALUES ('hour'), ('day')) AS g (grain) GROUP BY 1, 2, 3, 4, 5, 6 HAVING sum(d.n) <> 0),
	added AS (INSERT INTO tallies AS t (grain, began_at, cut_id, gateway_id, state, contested, n)
		SELECT grain, began_at, cut_id, gateway_id, state, contested, n FROM sums
		ON CONFLICT (grain, began_at, cut_id, gateway_id, state, contested) DO UPDATE SET n = t.n + excluded.n)
	SELECT count(*)::int FROM gone`

// Compact adds deltas up. One instance does at a time; more is true if there
// are more to be added.
func (s *Store) Compact(ctx context.Context) (more bool, err error) {
	for _, sql := range []string{compactTallies, compactBatches, compactArrivals, compactMoney, compactSteps} {
		var n []int
		err = s.Transact(ctx, func(s *Store) error {
			n, err = query(ctx, s.hot(), scanNumber, sql, compactMost)
			return err
		})
		if err != nil {
			return false, fmt.Errorf("adding up tallies: %w", err)
		}
		more = more || len(n) == 1 && n[0] == compactMost
	}
	return more, nil
}

func scanNumber(rows pgx.Rows) (n int, err error) {
	err = rows.Scan(&n)
	return n, err
}

// single reports whether the filter chooses by what only single messages have,
// so that they are counted and no tally is looked up.
func (f Filter) single() bool { return f.To != "" || f.Reference != "" || f.GatewayRef != "" }

// Tally counts the chosen messages by state.
func (s *Store) Tally(ctx context.Context, f Filter) (delivery.Tally, error) {
	var tally delivery.Tally
	sql, args := "", []any(nil)
	if f.single() {
		f, err := s.labelled(ctx, f)
		if err != nil {
			return tally, err
		}
		from := "messages m"
		if f.GatewayRef != "" {
			from, args = "(SELECT DISTINCT message_id AS id FROM submissions WHERE gateway_ref = $1 AND gateway_ref <> '') k "+
				"JOIN messages m ON m.id = k.id", []any{
				f.GatewayRef,
			}
		}
		where, given := f.where(args)
		sql, args = "SELECT s.state, s.rivals <> '', count(*) FROM "+from+" JOIN standings s ON s.id = m.id WHERE "+where+" GROUP BY 1, 2", given
	} else {
		cutIDs, err := s.chosenCuts(ctx, f)
		if err != nil {
			return tally, err
		}
		sql, args = f.tallySQL(cutIDs, s.months.has)
	}
	counts, err := query(ctx, s.reading(), func(rows pgx.Rows) (c struct {
		state     delivery.State
		contested bool
		n         int64
	}, err error) {
		err = rows.Scan(&c.state, &c.contested, &c.n)
		return c, err
	}, sql, args...)
	if err != nil {
		return tally, fmt.Errorf("counting messages: %w", err)
	}
	for _, c := range counts {
		tally.Add(c.state, c.n)
		if c.contested {
			tally.Contested += c.n
		}
	}
	return tally, tally.Check()
}

// chosenCuts are the combinations of dimensions that the filter chooses; nil
// for all.
func (s *Store) chosenCuts(ctx context.Context, f Filter) ([]int32, error) {
	if f.Kind == "" && f.Sender == "" && f.Country == "" && f.Template == "" && f.Key == uuid.Nil && len(f.Labels) == 0 {
		return nil, nil
	}
	all, err := s.readCuts(ctx, "FROM cuts c")
	if err != nil {
		return nil, err
	}
	chosen := []int32{}
	for _, c := range all {
		if (f.Kind == "" || c.kind == f.Kind) && (f.Sender == "" || c.sender == f.Sender) && (f.Country == "" || c.country == f.Country) &&
			(f.Template == "" || c.template == f.Template) && (f.Key == uuid.Nil || c.key == f.Key) && hasAll(c.labels, f.Labels) {
			chosen = append(chosen, c.id)
		}
	}
	return chosen, nil
}

func hasAll(labels label.Set, wanted []string) bool {
	for _, w := range wanted {
		if !labels.Has(w) {
			return false
		}
	}
	return true
}

// labelled chooses by labels: by the combinations that have them.
func (s *Store) labelled(ctx context.Context, f Filter) (Filter, error) {
	if len(f.Labels) == 0 {
		return f, nil
	}
	var err error
	f.cuts, err = s.chosenCuts(ctx, Filter{Labels: f.Labels})
	return f, err
}

// tallySQL adds up, in one statement and so at one moment: whole days and whole
// hours from the tallies, deltas that are not added up yet, and, where the span
// begins or ends within an hour, message by message what the nearest full hour is
// too late or too early by.
func (f Filter) tallySQL(cutIDs []int32, has func(month) bool) (string, []any) {
	if !f.Since.IsZero() && !f.Until.IsZero() && f.Until.Before(f.Since) {
		f.Until = f.Since
	}
	var args []any
	arg := func(v any) string {
		args = append(args, v)
		return fmt.Sprintf("$%d", len(args))
	}
	var chosen []string
	if cutIDs != nil {
		chosen = append(chosen, "cut_id = ANY("+arg(cutIDs)+")")
	}
	if f.Gateway != uuid.Nil {
		chosen = append(chosen, "gateway_id = "+arg(f.Gateway))
	}
	if len(f.States) > 0 {
		chosen = append(chosen, "state = ANY("+arg(words(f.States, func(s *delivery.State) delivery.State { return *s }))+")")
	}
	and := func(conditions ...string) string { return strings.Join(append(conditions, chosen...), " AND ") }
	contested := ""
	if f.Contested {
		contested = " AND contested"
	}
	var sums []string
	sum := func(table, when string) {
		sums = append(sums, "SELECT state, contested, n FROM "+table+" WHERE "+and(when)+contested)
	}
	span := func(column string, from, to time.Time) string {
		when := "true"
		if !from.IsZero() {
			when += " AND " + column + " >= " + arg(from)
		}
		if !to.IsZero() {
			when += " AND " + column + " < " + arg(to)
		}
		return when
	}
	piece := func(from, to time.Time, n string) {
		if !has(monthAt(from)) || !from.Before(to) { // it is within an hour, so within a month
			return
		}
		when, rivals := fmt.Sprintf("id >= %s AND id < %s", arg(Floor(from)), arg(Floor(to))), ""
		if f.Contested {
			rivals = " AND rivals <> ''"
		}
		sums = append(sums,
			"SELECT state, rivals <> '' AS contested, "+n+" AS n FROM standings_"+string(monthAt(from))+" WHERE "+and(when)+rivals)
	}
	hours, days := f.grains()
	sum("tally_deltas", span("hour", hours.from, hours.to))
	if !f.Contested {
		sums = append(sums, "SELECT state, false AS contested, n FROM batch_waiting WHERE "+
			and(span("accepted_at", f.Since.Truncate(time.Millisecond), f.Until.Truncate(time.Millisecond))))
	}
	if days == nil {
		sum("tallies", "grain = 'hour' AND "+span("began_at", hours.from, hours.to))
	} else {
		sum("tallies", "grain = 'day' AND "+span("began_at", days.from, days.to))
		if !hours.from.IsZero() {
			sum("tallies", "grain = 'hour' AND "+span("began_at", hours.from, days.from))
		}
		if !hours.to.IsZero() {
			sum("tallies", "grain = 'hour' AND "+span("began_at", days.to, hours.to))
		}
	}
	// What is missing at either end is added, and what is too much taken off.
	piece(f.Since, hours.from, "1")
	piece(hours.from, f.Since, "-1")
	piece(hours.to, f.Until, "1")
	piece(f.Until, hours.to, "-1")
	return "SELECT state, contested, sum(n)::bigint FROM (" + strings.Join(
		sums,
		" UNION ALL ",
	) + ") AS counts GROUP BY 1, 2 HAVING sum(n) <> 0", args
}

// stretch is a span of time; a bound that is zero is open.
type stretch struct{ from, to time.Time }

// grains are the whole hours nearest to the span of the filter, and the whole
// days within them; days is nil where there is none.
func (f Filter) grains() (hours stretch, days *stretch) {
	near := func(t time.Time) time.Time {
		if t.IsZero() {
			return t
		}
		return t.UTC().Round(time.Hour)
	}
	down := func(t time.Time) time.Time {
		if t.IsZero() {
			return t
		}
		return t.Truncate(24 * time.Hour)
	}
	up := func(t time.Time) time.Time {
		if t.IsZero() || t.Equal(down(t)) {
			return t
		}
		return down(t).Add(24 * time.Hour)
	}
	hours = stretch{near(f.Since), near(f.Until)}
	whole := stretch{up(hours.from), down(hours.to)}
	if whole.from.IsZero() || whole.to.IsZero() || whole.from.Before(whole.to) {
		return hours, &whole
	}
	return hours, nil
}

// Difference is where the kept counts of an hour do not agree with the messages: in one
// combination of all that they are counted by.
type Difference struct {
	Hour      time.Time
	Cut       int32
	Gateway   uuid.UUID
	State     delivery.State
	Contested bool
	Kept      int64
	Counted   int64
}

// differing is what is kept of an hour ($1), and what counting its messages ($2 to $3) gives, where these
// differ.
const differing = `SELECT cut_id, gateway_id, state, contested, sum(kept)::bigint AS kept, sum(counted)::bigint AS counted FROM (
		SELECT cut_id, gateway_id, state, contested, n AS kept, 0 AS counted FROM tallies WHERE grain = 'hour' AND began_at = $1
		UNION ALL SELECT cut_id, gateway_id, state, contested, n, 0 FROM tally_deltas WHERE hour = $1
		UNION ALL SELECT cut_id, gateway_id, state, rivals <> '', 0, 1 FROM standings WHERE id >= $2 AND id < $3) AS both_counts
	GROUP BY 1, 2, 3, 4 HAVING sum(kept) <> sum(counted)`

// Recount makes the counts of an hour what counting its messages gives. Messages whose combination is not
// there any more get it again from their content; their labels are lost.
func (s *Store) Recount(ctx context.Context, hour time.Time) error {
	hour = hour.UTC().Truncate(time.Hour)
	err := s.proving(ctx, func(tx pgx.Tx) error {
		from, to := Floor(hour), Floor(hour.Add(time.Hour))
		if _, err := tx.Exec(ctx, `INSERT INTO cuts (id, key_id, sender, country, kind, template, labels) OVERRIDING SYSTEM VALUE
			SELECT DISTINCT ON (t.cut_id) t.cut_id, m.key_id, m.sender, m.country, m.kind, m.template, 'lost=' || t.cut_id
			FROM standings t JOIN messages m ON m.id = t.id
			WHERE t.id >= $1 AND t.id < $2 AND NOT EXISTS (SELECT FROM cuts c WHERE c.id = t.cut_id) ORDER BY t.cut_id
			ON CONFLICT DO NOTHING`, from, to); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `INSERT INTO tally_deltas (hour, cut_id, gateway_id, state, contested, n)
			SELECT $1, cut_id, gateway_id, state, contested, (counted - kept)::int FROM (`+differing+`) AS d`, hour, from, to)
		return err
	})
	if err != nil {
		return fmt.Errorf("counting an hour anew: %w", err)
	}
	return nil
}

// Prove counts the messages that were accepted in an hour, holds that against
// what is kept, and returns where they differ, and, as far as they can be told,
// the messages whose row says something else than their evidence.
func (s *Store) Prove(ctx context.Context, hour time.Time) ([]Difference, []uuid.UUID, error) {
	hour = hour.UTC().Truncate(time.Hour)
	rows, err := query(ctx, s.reading(), func(rows pgx.Rows) (d Difference, err error) {
		d.Hour = hour
		err = rows.Scan(&d.Cut, &d.Gateway, &d.State, &d.Contested, &d.Kept, &d.Counted)
		return d, err
	}, differing, hour, Floor(hour), Floor(hour.Add(time.Hour)))
	if err != nil || len(rows) == 0 {
		return nil, nil, err
	}
	differences := rows
	states := words(rows, func(d *Difference) delivery.State { return d.State })
	suspects, err := query(
		ctx,
		s.reading(),
		func(rows pgx.Rows) (id uuid.UUID, err error) { err = rows.Scan(&id); return id, err },
		"SELECT id FROM standings WHERE id >= $1 AND id < $2 AND state = ANY($3) ORDER BY changed_at DESC LIMIT 1000",
		Floor(hour),
		Floor(hour.Add(time.Hour)),
		states,
	)
	if err != nil {
		return differences, nil, err
	}
	digests, err := s.fold(ctx, suspects)
	if err != nil {
		return differences, nil, err
	}
	messages, err := s.read(ctx, suspects, "")
	if err != nil {
		return differences, nil, err
	}
	var wrong []uuid.UUID
	for _, m := range messages {
		if d, ok := digests[m.ID]; ok && d.Outcome().State != m.State {
			wrong = append(wrong, m.ID)
		}
	}
	return differences, wrong, nil
}
