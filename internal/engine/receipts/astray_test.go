package receipts

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"calmpigeon.example/internal/core/belong"
	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/engine/strays"
	"calmpigeon.example/internal/store"
)

// doubtful is a message to a number whose reply never came.
func (q *quay) doubtful(number string) store.Message {
	q.t.Helper()
	m := q.sentTo(number, "")
	q.say(m, delivery.Own, delivery.Doubtful, "")
	return m
}

// report pushes a receipt that bears an id nobody told, and a number.
func (q *quay) report(id, number, state string) {
	q.t.Helper()
	if err := q.push("", fmt.Sprintf(`{"id": %q, "to": %q, "state": %q}`, id, strings.TrimPrefix(number, "+"), state)); err != nil {
		q.t.Fatal(err)
	}
}

// astray waits until as many strays as are wanted have been found to be so.
func (q *quay) astray(want int, is func(store.Stray) bool) []store.Stray {
	q.t.Helper()
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		all, err := q.s.Strays(q.t.Context(), store.StrayFilter{}, uuid.Nil, 1000)
		if err != nil {
			q.t.Fatal(err)
		}
		var such []store.Stray
		for _, t := range all {
			if is(t) {
				such = append(such, t)
			}
		}
		if len(such) == want {
			return such
		}
		if time.Now().After(deadline) {
			q.t.Fatalf("%d of %d strays are so, want %d: %+v", len(such), len(all), want, all)
		}
	}
}

// named lets the gateway be heard under an id that it gave.
func (q *quay) named() {
	q.t.Helper()
	m := q.sentTo("+447700900999", "known")
	if err := q.push("id=known", ""); err != nil {
		q.t.Fatal(err)
	}
	q.becomes(m, delivery.Delivered)
}

const one, other = "+447700900111", "+447700900122"

// A stray that can only belong to one message in doubt settles the doubt, weakly; what is better known takes
// its place.
func TestStrayBelongsToTheOnlyOneInDoubt(t *testing.T) {
	t.Parallel()
	for name, better := range map[string]func(*quay, store.Message){
		"the gateway reports by name": func(q *quay, m store.Message) {
			q.say(m, delivery.Reply, delivery.Accepted, "g-1")
			q.push("", `{"id": "g-1", "state": "undeliverable"}`)
		},
		"a query says that it failed": func(q *quay, m store.Message) { q.say(m, delivery.Query, delivery.Undeliverable, "") },
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			q := harbour(t)
			q.named()
			m, bystander := q.doubtful(one), q.doubtful(other)
			q.report("s-1", one, "enroute")
			q.report("s-1", one, "delivered")
			weak := q.becomes(m, delivery.Delivered)
			if !weak.Known().Weak || !weak.Known().MayHaveGone || weak.GatewayRef != "" {
				t.Errorf("it is known so: %+v", weak.Known())
			}
			q.astray(2, func(t store.Stray) bool { return t.Fate == store.Weakly && *t.MessageID == m.ID })
			q.report("s-1", one, "delivered") // once more, which tells nothing new
			q.astray(3, func(t store.Stray) bool { return t.Fate == store.Weakly })
			better(q, m)
			if firm := q.becomes(m, delivery.Undeliverable); firm.Known().Weak || firm.Rivals != "" {
				t.Errorf("better is known, and it is %+v, rivals %q", firm.Known(), firm.Rivals)
			}
			q.astray(3, func(t store.Stray) bool { return t.Fate == store.Astray && t.Reason == belong.UnknownID })
			if left := q.becomes(bystander, delivery.Doubtful); left.Known().Weak {
				t.Error("a bystander was taken for it")
			}
		})
	}
}

// Where there is more than one way, nothing is said; once another way is known, it is.
func TestStrayWithSeveralWaysWaits(t *testing.T) {
	t.Parallel()
	q := harbour(t)
	q.named()
	first, second := q.doubtful(one), q.doubtful(one)
	q.report("s-1", one, "delivered")
	q.astray(1, func(t store.Stray) bool { return t.Reason == belong.InDoubt && t.Rivals == 2 })
	for _, m := range []store.Message{first, second} {
		q.becomes(m, delivery.Doubtful)
	}
	q.say(second, delivery.Query, delivery.Undeliverable, "q-2")
	q.becomes(first, delivery.Delivered)
	q.becomes(second, delivery.Undeliverable)

	// A second stray to the number shows that one of them is about something else.
	q.report("s-2", one, "delivered")
	q.becomes(first, delivery.Doubtful)
	q.astray(2, func(t store.Stray) bool { return t.Fate == store.Astray && t.Reason == belong.Crowded })
}

// Receipts without a number belong by their time alone, where the gateway reports under the ids it gave.
func TestStrayWithoutANumber(t *testing.T) {
	t.Parallel()
	q := harbour(t)
	early := q.doubtful(one)
	if err := q.push("id=s-1", ""); err != nil {
		t.Fatal(err)
	}
	q.astray(1, func(t store.Stray) bool { return t.Judged > 0 && t.Fate == store.Astray })
	q.named()
	q.becomes(early, delivery.Delivered)
	late := q.doubtful(other)
	if err := q.push("id=s-2", ""); err != nil {
		t.Fatal(err)
	}
	q.becomes(late, delivery.Delivered)
}

// A gateway whose ids change between reply and receipt is told by the number.
func TestIDsThatChange(t *testing.T) {
	t.Parallel()
	q := harbour(t)
	m := q.sentTo(one, "before")
	q.report("after", one, "delivered")
	if got := q.becomes(m, delivery.Delivered); !got.Known().Weak || got.GatewayRef != "before" {
		t.Errorf("%+v", got.Known())
	}
}

// A gateway that reports under the ids that it gave is taken to do so always: what it gave an id to is neither meant
// by a stray nor in its way.
func TestWhatHasANameIsNotMeant(t *testing.T) {
	t.Parallel()
	q := harbour(t)
	q.named()
	named := q.sentTo(one, "g-1")
	q.report("s-1", one, "delivered")
	q.astray(1, func(t store.Stray) bool { return t.Reason == belong.UnknownID && t.Rivals == 0 })
	q.becomes(named, delivery.Accepted)
	doubtful := q.doubtful(one)
	q.report("s-2", one, "delivered")
	q.becomes(doubtful, delivery.Delivered)
	q.becomes(named, delivery.Accepted)
}

// A person attaches, discards and takes back; each is evidence, and none of it is lost.
func TestStraysByHand(t *testing.T) {
	t.Parallel()
	q := harbour(t)
	q.named()
	first, second := q.doubtful(one), q.doubtful(one)
	q.report("s-1", one, "delivered")
	stray := q.astray(1, func(t store.Stray) bool { return t.Rivals == 2 })[0]
	ids := []uuid.UUID{stray.ID}
	candidates, err := q.Strays.Candidates(t.Context(), stray)
	if err != nil || len(candidates) < 2 || !candidates[0].Fits || !candidates[1].Fits || candidates[0].MessageID != second.ID {
		t.Fatalf("candidates %+v, %v", candidates, err)
	}
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	must(q.Strays.Attach(t.Context(), ids, first.ID, "ada", "the ferry's list says so"))
	if got := q.becomes(first, delivery.Delivered); got.Known().Weak || got.Known().MayHaveGone {
		t.Errorf("attached by hand, it is %+v", got.Known())
	}
	if err := q.Strays.Attach(t.Context(), ids, second.ID, "ada", ""); !errors.Is(err, strays.ErrTaken) {
		t.Errorf("attached twice: %v", err)
	}
	q.report("s-1", one, "enroute") // more of the same id follows it
	q.astray(2, func(t store.Stray) bool { return t.Fate == store.Attached && *t.MessageID == first.ID })
	must(q.Strays.Restore(t.Context(), ids, "ada", "the list was of another day"))
	q.becomes(first, delivery.Doubtful)
	// It does not belong to the first, by decision: so it belongs to the second.
	q.becomes(second, delivery.Delivered)
	weak := q.astray(2, func(t store.Stray) bool { return t.Fate == store.Weakly })
	must(q.Strays.Discard(t.Context(), []uuid.UUID{weak[0].ID, weak[1].ID}, "ada", "another account"))
	q.becomes(second, delivery.Doubtful)
	if err := q.Strays.Attach(t.Context(), []uuid.UUID{store.NewID()}, first.ID, "ada", ""); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("one that is not there: %v", err)
	}
	must(q.Strays.Restore(t.Context(), ids, "ada", ""))
	if err := q.Strays.Restore(t.Context(), ids, "ada", ""); !errors.Is(err, strays.ErrNothingToUndo) {
		t.Errorf("taken back twice: %v", err)
	}
	// Discarded, or weak again by now, one whose id becomes known finds its message.
	q.say(second, delivery.Reply, delivery.Accepted, "s-1")
	q.until(second, "delivered, by name", func(m store.Message) bool { return m.State == delivery.Delivered && !m.Known().Weak })
	timeline, err := q.s.Timeline(t.Context(), first.ID)
	must(err)
	told := ""
	for _, e := range timeline {
		told += string(e.Source) + " " + e.Note + "\n"
	}
	for _, want := range []string{"attached by ada: the ferry's list says so", "operator taken back by ada: the list was of another day"} {
		if !strings.Contains(told, want) {
			t.Errorf("the ledger does not say %q:\n%s", want, told)
		}
	}
}

// How far a clock is wrong is learned from the receipts, and what they say is held against it.
func TestClockOfAGateway(t *testing.T) {
	t.Parallel()
	q := harbour(t)
	ahead := 10 * time.Minute
	for i := range 25 {
		ref := fmt.Sprintf("g-%d", i)
		m := q.sent(ref)
		at := now().Add(ahead).Format(time.RFC3339)
		switch i {
		case 3: // before it went
			at = now().Add(ahead).Add(-time.Hour).Format(time.RFC3339)
		case 4: // one that is simply wrong
			at = "2099-01-01T00:00:00Z"
		}
		if err := q.push("", fmt.Sprintf(`{"id": %q, "at": %q}`, ref, at)); err != nil {
			t.Fatal(err)
		}
		q.becomes(m, delivery.Delivered)
	}
	clocks := q.Strays.Clocks
	if err := clocks.Flush(t.Context(), now()); err != nil {
		t.Fatal(err)
	}
	skew, known := clocks.Skew(q.g.ID)
	if day := clocks.Day(q.g.ID); !known || skew < ahead-2*time.Second || skew > ahead || day.N != 25 || day.Early != 1 {
		t.Errorf("skew %v, %v; %+v", skew, known, day)
	}
}

// Anybody who knows the address of a gateway's receipts can make any number of strays. At most StraysMost wait: the service
// removes the oldest and counts them. It keeps strays about which somebody decided.
func TestStraysAreBounded(t *testing.T) {
	t.Parallel()
	q := harbour(t)
	db, err := pgx.Connect(t.Context(), q.url)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(context.Background())
	const over = 7000
	// Their ids are in the order in which they came.
	_, err = db.Exec(t.Context(), `INSERT INTO strays
				(id, gateway_id, gateway_ref, reference, at, claim, cause, part, parts, code, note, receipt_id, fate)
			SELECT ('0190' || lpad(to_hex(i), 28, '0'))::uuid, $2, i::text, '', now() - interval '1 hour', 'delivered', '', 0, 0, '', '',
				gen_random_uuid(), ''
			FROM generate_series(1, $1::int) AS i`, store.StraysMost+over, q.g.ID)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec(t.Context(), "UPDATE strays SET fate = 'discarded' WHERE gateway_ref = '1'"); err != nil {
		t.Fatal(err)
	}
	q.report("unheard-of", one, "delivered")
	count := func(sql string) (n int) {
		t.Helper()
		if err := db.QueryRow(t.Context(), sql).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	for deadline := time.Now().Add(20 * time.Second); count("SELECT count(*) FROM strays WHERE fate = ''") != store.StraysMost; {
		if time.Now().After(deadline) {
			t.Fatalf("%d wait", count("SELECT count(*) FROM strays WHERE fate = ''"))
		}
		time.Sleep(20 * time.Millisecond)
	}
	if n := count("SELECT count(*) FROM strays WHERE gateway_ref = 'unheard-of' OR gateway_ref = '1'"); n != 2 {
		t.Errorf("%d of the newest and the one that was decided about", n)
	}
	if n := count("SELECT min(gateway_ref::int) FROM strays WHERE fate = '' AND gateway_ref <> 'unheard-of'"); n != over+2 {
		t.Errorf("the oldest that waits is %d", n)
	}
	removed, err := q.s.RemovedStrays(t.Context(), time.Now().Add(-time.Hour))
	if err != nil || len(removed) != 1 || removed[0].GatewayID != q.g.ID || removed[0].N != over {
		t.Errorf("%+v, %v", removed, err)
	}
}
