package store

import (
	"context"
	"errors"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/label"
	"calmpigeon.example/internal/core/passcode"
	"calmpigeon.example/internal/postgres/pgproxy"
	"calmpigeon.example/internal/postgres/pgtest"
)

// broken is a store behind a proxy, and another one that reads what is committed.
func broken(t *testing.T) (s, direct *Store, proxy *pgproxy.Proxy) {
	t.Helper()
	url := pgtest.Database(t)
	proxy, err := pgproxy.Start(url)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(proxy.Close)
	for to, at := range map[**Store]string{&s: proxy.URL, &direct: url} {
		if *to, err = Open(t.Context(), at, now()); err != nil {
			t.Fatal(err)
		}
		t.Cleanup((*to).Close)
	}
	return s, direct, proxy
}

func (s *Store) count(t *testing.T, sql string, args ...any) (n int) {
	t.Helper()
	if err := s.work.QueryRow(t.Context(), sql, args...).Scan(&n); err != nil {
		t.Fatal(err)
	}
	return n
}

// However COMMIT breaks, a transaction that Transact says is done is there once, and
// one that it says failed is not there.
func TestACommitThatBreaks(t *testing.T) {
	t.Parallel()
	s, direct, proxy := broken(t)
	g, _ := kept(t, direct)
	for name, fault := range map[string]pgproxy.Fault{
		"before the server has it":         {Do: pgproxy.CutBefore},
		"after it is done":                 {Do: pgproxy.LoseAnswer},
		"twice":                            {Do: pgproxy.LoseAnswer, Times: 2},
		"before and after":                 {Do: pgproxy.CutBefore, Times: 2},
		"the mark is lost":                 {At: "INSERT INTO commit_marks", Do: pgproxy.LoseAnswer},
		"the mark is not sent":             {At: "INSERT INTO commit_marks", Do: pgproxy.CutBefore},
		"the first statement":              {At: "BEGIN", Do: pgproxy.LoseAnswer},
		"while the outcome is looked up":   {At: "fence", Do: pgproxy.LoseAnswer, Times: 3},
		"what it wrote, before its answer": {At: "INSERT INTO standings", Do: pgproxy.LoseAnswer},
	} {
		t.Run(name, func(t *testing.T) {
			m := newMessage(g, 1)
			if fault.At != "BEGIN" {
				fault.Within = "INSERT INTO"
			}
			in := proxy.Inject(fault)
			defer proxy.Clear()
			also := &pgproxy.Injected{Hit: in.Hit}
			if fault.At == "fence" {
				also = proxy.Inject(pgproxy.Fault{Within: "INSERT INTO messages", Do: pgproxy.LoseAnswer})
			}
			_, err := s.Accept(t.Context(), []Acceptance{{Message: m, Begun: "x"}})
			for _, hit := range []chan struct{}{in.Hit, also.Hit} {
				select {
				case <-hit:
				default:
					t.Fatal("nothing broke")
				}
			}
			there := direct.count(t, "SELECT count(*) FROM messages WHERE id = $1", m.ID)
			counted := direct.count(t, "SELECT coalesce(sum(n), 0) FROM tally_deltas WHERE gateway_id = $1", g)
			if err != nil || there != 1 || counted == 0 {
				t.Errorf("error %v, there %d, counted %d; want it there once, and no error", err, there, counted)
			}
		})
	}
	all := direct.count(t, "SELECT count(*) FROM messages")
	if counted := direct.count(t, "SELECT sum(n) FROM tally_deltas"); counted != all {
		t.Errorf("%d messages, %d counted", all, counted)
	}
}

// A transaction whose COMMIT is still on its way when its outcome is looked up does not
// commit afterwards.
func TestAFenceHoldsBackALateCommit(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	g, _ := kept(t, s)
	late, err := s.work.Begin(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer late.Rollback(context.Background())
	if _, err := late.Exec(t.Context(), "UPDATE gateways SET paused_why = 'late' WHERE id = $1", g); err != nil {
		t.Fatal(err)
	}
	slot := <-s.slots.free
	committed, err := s.askOutcome(slot)
	if err != nil || committed {
		t.Fatalf("committed %v, %v", committed, err)
	}
	if _, err := late.Exec(t.Context(), addMark, s.slots.instance(), slot.number, slot.mark+1); err == nil {
		t.Error("the late transaction could add its mark")
	}
}

// Where the database cannot be asked what became of a transaction it is said that it is not
// known, and it is told as soon as it is.
func TestAnOutcomeIsToldLater(t *testing.T) {
	t.Parallel()
	s, direct, proxy := broken(t)
	g, _ := kept(t, direct)
	var away sync.Mutex
	still := true
	out := func() bool { away.Lock(); defer away.Unlock(); return still }
	proxy.Inject(pgproxy.Fault{Within: "INSERT INTO messages", Do: pgproxy.LoseAnswer})
	proxy.Inject(pgproxy.Fault{At: "fence", Do: pgproxy.CutBefore, Times: -1, When: out})
	m := newMessage(g, 1)
	_, err := s.Accept(t.Context(), []Acceptance{{Message: m, Begun: "x"}})
	var unknown *UnknownOutcome
	if !errors.As(err, &unknown) {
		t.Fatalf("%v", err)
	}
	away.Lock()
	still = false
	away.Unlock()
	if committed, err := unknown.Wait(t.Context()); err != nil || !committed {
		t.Errorf("committed %v, %v", committed, err)
	}
}

// A database that lacks what was committed is noticed by the next transaction, which is not
// committed.
func TestARewoundDatabaseIsNoticed(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	g, _ := kept(t, s)
	accept(t, s, newMessage(g, 1))
	if _, err := s.work.Exec(t.Context(), "DELETE FROM commit_marks"); err != nil {
		t.Fatal(err)
	}
	m := newMessage(g, 1)
	_, err := s.Accept(t.Context(), []Acceptance{{Message: m}})
	if !errors.Is(err, ErrRewound) || !s.Rewound() {
		t.Errorf("%v, rewound %v", err, s.Rewound())
	}
	if n := s.count(t, "SELECT count(*) FROM messages WHERE id = $1", m.ID); n != 0 {
		t.Error("it is committed")
	}
}

// After recovery an instance goes on as another one. If that fails it stays what it was, and can try again.
func TestAnInstanceEnrolsAgain(t *testing.T) {
	t.Parallel()
	s, direct, proxy := broken(t)
	g, _ := kept(t, direct)
	accept(t, s, newMessage(g, 1))
	was := s.Instance()
	writes := func() error {
		_, err := s.Accept(t.Context(), []Acceptance{{Message: newMessage(g, 1)}})
		return err
	}
	over, cancel := context.WithCancel(t.Context())
	cancel()
	if err := s.EnrolAgain(over); err == nil {
		t.Error("it enrols after the end")
	}
	proxy.Inject(pgproxy.Fault{At: "INSERT INTO instances", Do: pgproxy.CutBefore, Times: -1})
	if err := s.EnrolAgain(t.Context()); err == nil || s.Instance() != was {
		t.Errorf("%v, %s was %s", err, s.Instance(), was)
	}
	proxy.Clear()
	for range 2 * slotsOf { // each slot still fits
		if err := writes(); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := direct.work.Exec(t.Context(), "DELETE FROM commit_marks WHERE instance_id = $1", was); err != nil {
		t.Fatal(err)
	}
	if err := writes(); !errors.Is(err, ErrRewound) || Refused(err) { // what is refused is dropped
		t.Errorf("without its marks: %v", err)
	}
	if err := s.EnrolAgain(t.Context()); err != nil || s.Instance() == was || s.Rewound() {
		t.Fatalf("%v, rewound %v", err, s.Rewound())
	}
	for range 2 * slotsOf {
		if err := writes(); err != nil {
			t.Fatal(err)
		}
	}
}

// Marks that are no longer needed are removed, and those that are stay.
func TestMarksStayFew(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	g, _ := kept(t, s)
	for range slotsOf - 1 { // one slot does all
		<-s.slots.free
	}
	before := s.count(t, "SELECT count(*) FROM commit_marks")
	const many = 700
	for range many {
		if err := s.Transact(t.Context(), func(s *Store) error {
			return s.gorm(t.Context()).Exec("UPDATE gateways SET paused_why = paused_why WHERE id = ?", g).Error
		}); err != nil {
			t.Fatal(err)
		}
	}
	if n := s.count(t, "SELECT count(*) FROM commit_marks") - before; n > 300 {
		t.Errorf("%d marks after %d transactions", n, many)
	}
	sum := 0
	for i := range s.slots.marks {
		sum += int(s.slots.marks[i].Load())
	}
	if in := s.count(t, "SELECT sum(last) FROM (SELECT max(mark) AS last FROM commit_marks WHERE instance_id = $1 GROUP BY slot) l", s.Instance()); in != sum {
		t.Errorf("marks are %d in the database and %d in memory", in, sum)
	}
}

// A transaction that only reads adds no mark.
func TestReadingAddsNoMark(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	before := s.count(t, "SELECT count(*) FROM commit_marks")
	if err := s.Transact(t.Context(), func(s *Store) error { _, err := s.SettingsCount(t.Context(), 0); return err }); err != nil {
		t.Fatal(err)
	}
	if after := s.count(t, "SELECT count(*) FROM commit_marks"); after != before {
		t.Errorf("%d marks more", after-before)
	}
}

// A combination of dimensions that a transaction added and took back is not used by the next
// one: what is counted is found by each of its dimensions.
func TestCombinationsOfWhatWasTakenBack(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	g, _ := kept(t, s)
	m, taken := newMessage(g, 1), errors.New("taken back")
	m.KeyID, m.Sender, m.Labels = uuid.New(), "Lantern", label.Set("boat=a")
	err := s.Transact(t.Context(), func(s *Store) error {
		if _, err := s.Accept(t.Context(), []Acceptance{{Message: m}}); err != nil {
			return err
		}
		return taken
	})
	if !errors.Is(err, taken) {
		t.Fatal(err)
	}
	m.ID = NewID()
	accept(t, s, m)
	for name, f := range map[string]Filter{"all": {}, "its sender": {Sender: m.Sender}, "its key": {Key: m.KeyID}, "its labels": {Labels: []string{"boat=a"}}} {
		tally, err := s.Tally(t.Context(), f)
		if err != nil || tally.ByState[delivery.Queued] != 1 {
			t.Errorf("%s: %+v, %v", name, tally, err)
		}
	}
}

// Deltas are added up in a time that grows with their number, also by a plan that was made
// while there were none.
func TestDeltasAreFoundByPlace(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	for _, sql := range []string{compactTallies, compactBatches, compactArrivals, compactMoney, compactSteps} {
		rows, err := s.work.Query(t.Context(), "EXPLAIN "+sql, compactMost)
		if err != nil {
			t.Fatal(err)
		}
		var plan strings.Builder
		for rows.Next() {
			var line string
			if err := rows.Scan(&line); err != nil {
				t.Fatal(err)
			}
			plan.WriteString(line + "\n")
		}
		if !strings.Contains(plan.String(), "Tid Scan") {
			t.Errorf("not by place:\n%s", plan.String())
		}
	}
}

// A counter that is being tidied away while it is locked is added anew: none is missing, and
// each stands in its own place.
func TestCountersThatAreTidiedAway(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	set := func() []Counted {
		return []Counted{
			{By: passcode.Number, Value: "+447700900123"},
			{By: passcode.Country, Value: "GB"},
			{By: passcode.Purpose, Value: "sign-in"},
		}
	}
	hold := func() (held []Counted, err error) {
		return held, s.Transact(t.Context(), func(s *Store) error {
			held, err = s.HoldCounters(t.Context(), set(), now())
			return err
		})
	}
	must[[]Counted](t)(hold())
	tidying, err := s.work.Begin(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer tidying.Rollback(context.Background())
	// It waits here when it has passed the counter of the country, which is there.
	if _, err := tidying.Exec(t.Context(), "DELETE FROM passcode_counts WHERE by_what = 'number'"); err != nil {
		t.Fatal(err)
	}
	holding := make(chan []Counted)
	go func() {
		held, err := hold()
		if err != nil {
			t.Error(err)
		}
		holding <- held
	}()
	const waiting = `SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND wait_event_type = 'Lock'`
	for s.count(t, waiting) == 0 {
		time.Sleep(5 * time.Millisecond)
	}
	if _, err := s.work.Exec(t.Context(), "DELETE FROM passcode_counts WHERE by_what = 'country'"); err != nil {
		t.Fatal(err)
	}
	if err := tidying.Commit(t.Context()); err != nil {
		t.Fatal(err)
	}
	held := <-holding
	if len(held) != 3 || held[0].Value != "GB" || held[1].Value != "+447700900123" || held[2].Value != "sign-in" {
		t.Errorf("held %+v", held)
	}
}
