package store

import (
	"context"
	dbsql "database/sql"
	"fmt"
	"io/fs"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/postgres/pgtest"
)

// A database of the version before, with messages in every state, is migrated
// and goes on: each stands where it stood, is counted, waits or is asked about as
// before, and takes new evidence.
func TestDatabaseOfTheVersionBeforeGoesOn(t *testing.T) {
	t.Parallel()
	url := pgtest.Empty(t)
	config := must[*pgx.ConnConfig](t)(pgx.ParseConfig(url))
	old := stdlib.OpenDB(*config)
	defer old.Close()
	files := must[fs.FS](t)(fs.Sub(migrations, "migrations"))
	steps := must[*goose.Provider](t)(goose.NewProvider(goose.DialectPostgres, old, files))
	if _, err := steps.UpTo(t.Context(), 3); err != nil {
		t.Fatal(err)
	}
	exec := func(sql string, args ...any) {
		t.Helper()
		if _, err := old.ExecContext(t.Context(), sql, args...); err != nil {
			t.Fatalf("%s: %v", sql, err)
		}
	}
	at := now()
	for _, back := range []int{0, 1} {
		from := firstOfMonth(at).AddDate(0, -back, 0)
		for _, table := range []string{"messages", "evidence", "exchanges", "receipts"} {
			exec(fmt.Sprintf("CREATE TABLE %s_%s PARTITION OF %s FOR VALUES FROM ('%s') TO ('%s')", table, monthAt(from), table,
				Floor(from), Floor(from.AddDate(0, 1, 0))))
		}
	}
	gateway, other, key := uuid.New(), uuid.New(), uuid.New()
	exec(
		`INSERT INTO gateways (id, name, dialect, source, address, sealed_secrets, sealed_callback, per_second, in_flight, ask_after_ms,
			give_up_ms, timeout_ms, created_at)
		VALUES ($1, 'g', 'd', '', '', '', '', 1, 1, 1, 1, 1, now())`,
		gateway,
	)

	exchange := Floor(at)
	exchange[14], exchange[15] = 0x12, 0x34
	exec(
		`INSERT INTO exchanges (id, gateway_id, purpose, method, url, request_header, request_body, status, reply_header, reply_body,
			error, started_at, took_us)
		VALUES ($1, $2, 'submit', 'POST', 'http://g.example/', '{"accept":"*/*"}', $3, 200, '{}', $4, '', now(), 1234)`,
		exchange,
		gateway,
		[]byte(strings.Repeat("asked ", 100)),
		[]byte{0xFF, 0},
	)
	type fact struct {
		source  delivery.Source
		claim   delivery.State
		attempt int
		ref     string
		through uuid.UUID
	}
	sent := []fact{{delivery.Own, delivery.Queued, 0, "", gateway}, {delivery.Own, delivery.Sending, 1, "", gateway}}
	taken := append(sent[:2:2], fact{delivery.Reply, delivery.Accepted, 1, "", gateway})
	told := func(s delivery.State) []fact { return append(taken[:3:3], fact{delivery.Receipt, s, 1, "", gateway}) }
	stories := map[delivery.State][]fact{
		delivery.Held:          {{delivery.Own, delivery.Held, 0, "", gateway}},
		delivery.Queued:        append(sent[:2:2], fact{delivery.Reply, delivery.Queued, 1, "", gateway}),
		delivery.Sending:       sent,
		delivery.Doubtful:      append(sent[:2:2], fact{delivery.Own, delivery.Doubtful, 1, "", gateway}),
		delivery.Accepted:      taken,
		delivery.Enroute:       told(delivery.Enroute),
		delivery.Delivered:     append(told(delivery.Delivered), fact{delivery.Query, delivery.Undeliverable, 1, "", gateway}), // contested
		delivery.Undeliverable: told(delivery.Undeliverable),
		delivery.Expired:       {{delivery.Own, delivery.Queued, 0, "", gateway}, {delivery.Clock, delivery.Expired, 0, "", gateway}},
		delivery.Rejected: {
			{delivery.Own, delivery.Queued, 0, "", gateway},
			{delivery.Own, delivery.Sending, 1, "", gateway},
			{delivery.Reply, delivery.Queued, 1, "r-1", gateway},
			{delivery.Own, delivery.Sending, 2, "", other},
			{delivery.Reply, delivery.Rejected, 2, "r-2", other},
		},
		delivery.Cancelled: {{delivery.Own, delivery.Queued, 0, "", gateway}, {delivery.Operator, delivery.Cancelled, 0, "", gateway}},
		delivery.Unknown:   append(taken[:3:3], fact{delivery.Clock, delivery.Unknown, 1, "", gateway}),
	}
	ids := map[delivery.State]uuid.UUID{}
	outcomes := map[delivery.State]delivery.Outcome{}
	for i, state := range delivery.States {
		id := Floor(at.Add(-time.Duration(i) * 5 * 24 * time.Hour)) // some a month ago
		if monthOf(id) < monthAt(firstOfMonth(at).AddDate(0, -1, 0)) {
			id = Floor(at)
		}
		id[15] = byte(i + 1)
		ids[state] = id
		var facts []delivery.Evidence
		for n, f := range stories[state] {
			ref := f.ref
			if ref == "" && f.claim == delivery.Accepted {
				ref = fmt.Sprintf("ref-%s", state)
			}
			eid := Floor(timeOf(id).Add(time.Duration(n) * time.Millisecond))
			eid[14], eid[15] = byte(i), byte(n)
			exec(
				`INSERT INTO evidence (id, message_id, at, source, claim, attempt, gateway_id, gateway_ref) VALUES ($1, $2, $3, $4, $5, $6, $7, $8)`,
				eid,
				id,
				timeOf(eid),
				string(f.source),
				string(f.claim),
				f.attempt,
				f.through,
				ref,
			)
			facts = append(facts, delivery.Evidence{Source: f.source, Claim: f.claim, Attempt: f.attempt, GatewayRef: ref})
		}
		o := delivery.Fold(facts)
		outcomes[state] = o
		rivals := ""
		if o.Contested() {
			rivals = "delivered,undeliverable"
		}
		through := gateway
		if state == delivery.Rejected {
			through = other
		}
		var ask *time.Time
		if isOpen(state) && state != delivery.Sending {
			ask = &at
		}
		exec(
			`INSERT INTO messages (id, key_id, gateway_id, to_number, sender, kind, lane, text, encoding, units, segments, state, cause,
				rivals, attempts,
				gateway_ref, due_at, valid_until, ask_at, give_up_at, created_at, changed_at, country)
			VALUES ($1, $2, $3, '+447700900123', 'Lanternholm', 'bulk', 2, 'x', 'gsm7', 1, 1, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $9, 'GB')`,
			id,
			key,
			through,
			string(state),
			string(o.Cause),
			rivals,
			o.Attempts,
			o.GatewayRef,
			at,
			at.Add(time.Hour),
			ask,
			at.Add(time.Hour),
			timeOf(id),
		)
	}
	exec(
		`INSERT INTO receipts (id, gateway_id, received_at, method, query, header, body, genuine) VALUES ($1, $2, now(), 'GET', 'a=b', '{}',
			'', true)`,
		Floor(at),
		gateway,
	)
	old.Close()

	s := must[*Store](t)(Open(t.Context(), url, at))
	defer s.Close()
	for state, id := range ids {
		m := must[Message](t)(s.Message(t.Context(), id))
		if o := outcomes[state]; m.State != state || m.GatewayRef != o.GatewayRef || m.Attempts != o.Attempts ||
			(m.Rivals != "") != o.Contested() {
			t.Errorf("%s became %s, known as %q, after %d attempts", state, m.State, m.GatewayRef, m.Attempts)
		}
		var claims []delivery.State
		for _, e := range must[[]Evidence](t)(s.Timeline(t.Context(), id)) {
			claims = append(claims, e.Claim)
		}
		if want := stories[state]; len(claims) != len(want) || claims[len(claims)-1] != want[len(want)-1].claim {
			t.Errorf("the evidence of %s is %v", state, claims)
		}
	}
	tally := must[delivery.Tally](t)(s.Tally(t.Context(), Filter{Gateway: gateway}))
	if tally.Total != int64(len(ids)-1) || tally.ByState[delivery.Delivered] != 1 || tally.Contested != 1 {
		t.Errorf("%s, %d contested", tally, tally.Contested)
	}
	for name, f := range map[string]Filter{"a rare state": {States: []delivery.State{delivery.Doubtful}}, "contested": {Contested: true},
		"a common state": {States: []delivery.State{delivery.Accepted}}, "the gateway's id": {GatewayRef: "r-1"}} {
		if found := must[[]Message](t)(s.Find(t.Context(), f, uuid.Nil, 9)); len(found) != 1 {
			t.Errorf("by %s: %d found", name, len(found))
		}
	}
	claim := Stray{ID: NewID(), GatewayID: gateway, GatewayRef: "r-1"}
	m := must[map[uuid.UUID]Matched](t)(s.Match(t.Context(), []Stray{claim}, time.Time{}))[claim.ID]
	if m.MessageID != ids[delivery.Rejected] || m.Attempt != 1 || !m.Named {
		t.Errorf("an earlier submission is matched to %+v", m)
	}
	if orphans := must[[]Message](t)(s.Orphans(t.Context(), gateway, uuid.Nil, 9)); len(orphans) != 1 ||
		orphans[0].ID != ids[delivery.Sending] {
		t.Errorf("being sent: %+v", orphans)
	}
	silent := must[[]Message](t)(s.TakeSilent(t.Context(), gateway, at.Add(time.Minute), time.Minute, 9))
	if len(silent) != 3 {
		t.Errorf("%d are to be asked about, want the doubtful, the accepted and the one on its way", len(silent))
	}
	unread := must[[]Receipt](t)(s.UnreadReceipts(t.Context(), gateway, at.Add(time.Second), 9))
	if len(unread) != 1 {
		t.Fatalf("to be read: %+v", unread)
	}
	if came, _, _ := unread[0].AsItCame(); came != "a=b" {
		t.Errorf("to be read: %q", came)
	}
	raw, _, err := s.Exchanges(t.Context(), []Evidence{{ExchangeID: &exchange}})
	if x := raw[exchange]; err != nil || x.URL != "http://g.example/" || string(x.RequestBody) != strings.Repeat("asked ", 100) ||
		string(
			x.ReplyBody,
		) != "\xff\x00" || x.RequestHeader["accept"] != "*/*" || x.Status != 200 || x.TookUs != 1234 || x.GatewayID != gateway {
		t.Errorf("the exchange became %+v, %v", x, err)
	}
	// What was known is joined with what is new.
	e := Evidence{
		ID:        NewID(),
		MessageID: ids[delivery.Accepted],
		At:        at,
		Source:    delivery.Receipt,
		Claim:     delivery.Delivered,
		Attempt:   1,
		GatewayID: &gateway,
	}
	if _, err := s.Append(t.Context(), at, nil, []Evidence{e, e}, func(_, _ *Message, _ delivery.Outcome) {}); err != nil {
		t.Fatal(err)
	}
	if m := must[Message](t)(s.Message(t.Context(), ids[delivery.Accepted])); m.State != delivery.Delivered ||
		m.GatewayRef != "ref-accepted" ||
		m.Repeats != 1 {
		t.Errorf("%+v", m.Standing)
	}
	after := must[delivery.Tally](t)(s.Tally(t.Context(), Filter{Gateway: gateway}))
	if after.ByState[delivery.Delivered] != 2 || after.ByState[delivery.Accepted] != 0 {
		t.Errorf("%s", after)
	}
	if _, err := s.Compact(context.Background()); err != nil {
		t.Fatal(err)
	}
	if compacted := must[delivery.Tally](t)(s.Tally(t.Context(), Filter{Gateway: gateway})); compacted.String() != after.String() {
		t.Errorf("added up: %s, before: %s", compacted, after)
	}
}

// A migration waits for the transactions of an instance of an earlier version before it copies anything,
// so their rows are there afterwards.
func TestAMigrationCopiesWhatIsBeingWritten(t *testing.T) {
	t.Parallel()
	url := pgtest.Empty(t)
	config := must[*pgx.ConnConfig](t)(pgx.ParseConfig(url))
	old := stdlib.OpenDB(*config)
	defer old.Close()
	files := must[fs.FS](t)(fs.Sub(migrations, "migrations"))
	steps := must[*goose.Provider](t)(goose.NewProvider(goose.DialectPostgres, old, files))
	begun := func(sql string, args ...any) (commit func()) {
		t.Helper()
		tx := must[*dbsql.Tx](t)(old.BeginTx(t.Context(), nil))
		if _, err := tx.ExecContext(t.Context(), sql, args...); err != nil {
			t.Fatal(err)
		}
		return func() {
			if err := tx.Commit(); err != nil {
				t.Error(err)
			}
		}
	}
	// to migrates, and lets what was begun be committed once the migration waits for it.
	to := func(version int64, commit func()) {
		t.Helper()
		done := make(chan error, 1)
		go func() { _, err := steps.UpTo(t.Context(), version); done <- err }()
		deadline := time.Now().Add(20 * time.Second)
		for waits := 0; waits == 0; {
			if time.Now().After(deadline) {
				commit()
				t.Fatalf("version %d locks nothing before it copies", version)
			}
			select {
			case err := <-done:
				t.Fatalf("version %d did not wait for what was being written: %v", version, err)
			case <-time.After(5 * time.Millisecond):
			}
			if err := old.QueryRowContext(t.Context(), `SELECT count(*) FROM pg_stat_activity
				WHERE datname = current_database() AND wait_event_type = 'Lock' AND wait_event = 'relation' AND query LIKE 'LOCK TABLE%'`).Scan(&waits); err != nil {
				t.Fatal(err)
			}
		}
		commit()
		if err := <-done; err != nil {
			t.Fatal(err)
		}
	}
	count := func(sql string) (n int) {
		t.Helper()
		if err := old.QueryRowContext(t.Context(), sql).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	if _, err := steps.UpTo(t.Context(), 3); err != nil {
		t.Fatal(err)
	}
	from := firstOfMonth(now())
	for _, table := range []string{"messages", "evidence", "exchanges", "receipts"} {
		if _, err := old.ExecContext(t.Context(), fmt.Sprintf("CREATE TABLE %s_%s PARTITION OF %s FOR VALUES FROM ('%s') TO ('%s')", table,
			monthAt(from), table, Floor(from), Floor(from.AddDate(0, 1, 0)))); err != nil {
			t.Fatal(err)
		}
	}
	to(
		4,
		begun(
			`INSERT INTO messages (id, key_id, gateway_id, to_number, sender, kind, lane, text, encoding, units, segments, reference,
			state, cause,
			rivals, attempts, gateway_ref, due_at, valid_until, created_at, changed_at, currency)
		VALUES ($1, $2, $2, '+447700900123', 'L', 'transactional', 1, 'x', 'gsm7', 1, 1, '', 'queued', '', '', 0, '', now(), now(), now(), now(), '')`,
			NewID(),
			uuid.New(),
		),
	)
	if n := count("SELECT count(*) FROM standings JOIN to_send USING (id)"); n != 1 {
		t.Errorf("%d of 1 message waits to be sent", n)
	}
	to(
		5,
		begun(`INSERT INTO exchanges (id, gateway_id, purpose, method, url, request_header, request_body, status, reply_header, reply_body,
			error, started_at, took_us)
		VALUES ($1, $2, 'submit', 'POST', '', '{}', '', 200, '{}', '', '', now(), 1)`, NewID(), uuid.New()),
	)
	if n := count("SELECT count(*) FROM exchange_packs"); n != 1 {
		t.Errorf("%d of 1 exchange is packed", n)
	}
	if _, err := steps.UpTo(t.Context(), 23); err != nil {
		t.Fatal(err)
	}
	to(24, begun("INSERT INTO marks (mark, id) VALUES ('unknown', $1)", NewID()))
	if n := count("SELECT count(*) FROM marks WHERE mark = 'undecided'"); n != 1 {
		t.Errorf("%d of 1 message is undecided", n)
	}
}
