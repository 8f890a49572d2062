package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/postgres/pgtest"
)

func TestMain(m *testing.M) { pgtest.Main(m, Migrate) }

func now() time.Time { return time.Now().UTC().Truncate(time.Microsecond) }

func fresh(t testing.TB) *Store {
	t.Helper()
	s, err := Open(t.Context(), pgtest.Database(t), now())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s
}

// kept makes a gateway that the holder keeps.
func kept(t testing.TB, s *Store) (gateway, holder uuid.UUID) {
	t.Helper()
	g := Gateway{
		ID:             NewID(),
		Name:           fmt.Sprintf("g-%s", uuid.NewString()),
		CreatedAt:      now(),
		SealedSecrets:  []byte{},
		SealedCallback: []byte{},
	}
	if err := s.AddGateway(t.Context(), g); err != nil {
		t.Fatal(err)
	}
	holder = uuid.New()
	if lease := must[Lease](t)(s.TakeLease(t.Context(), g.ID, holder, time.Hour)); !lease.Held {
		t.Fatalf("%+v", lease)
	}
	return g.ID, holder
}

func newMessage(gateway uuid.UUID, lane int) Message {
	at := now()
	var m Message
	m.Content = Content{ID: NewID(), To: phone.Stored("+447700900123"), Sender: "Lanternholm", Kind: "transactional", Lane: lane,
		Text: "Berth 3", Encoding: "gsm7", Units: 7, Segments: 1, ValidUntil: at.Add(time.Hour), CreatedAt: at}
	m.GatewayID, m.State, m.ChangedAt, m.DueAt = gateway, delivery.Queued, at, at
	return m
}

func accept(t testing.TB, s *Store, messages ...Message) {
	t.Helper()
	var set []Acceptance
	for _, m := range messages {
		set = append(set, Acceptance{Message: m, Begun: "through harbourline"})
	}
	if _, err := s.Accept(t.Context(), set); err != nil {
		t.Fatal(err)
	}
}

// submit records that a message was submitted and taken.
func submit(t testing.TB, s *Store, m Message, attempt int, ref string) {
	t.Helper()
	for _, e := range []Evidence{
		{Source: delivery.Own, Claim: delivery.Sending},
		{Source: delivery.Reply, Claim: delivery.Accepted, GatewayRef: ref},
	} {
		e.ID, e.MessageID, e.At, e.Attempt, e.GatewayID = NewID(), m.ID, now(), attempt, &m.GatewayID
		if _, err := s.Append(t.Context(), now(), nil, []Evidence{e}, func(_, _ *Message, _ delivery.Outcome) {}); err != nil {
			t.Fatal(err)
		}
	}
}

func must[T any](t testing.TB) func(T, error) T {
	return func(v T, err error) T {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
}

func TestSeveralInstancesMigrateAtOnce(t *testing.T) {
	t.Parallel()
	url := pgtest.Empty(t)
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			s, err := Open(t.Context(), url, now())
			if err != nil {
				t.Error(err)
				return
			}
			s.Close()
		})
	}
	all.Wait()
}

// The same token, many times at once and with others in between: one message,
// and everybody learns which.
func TestTokensMakeRepetitionHarmless(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	key := uuid.New()
	var mu sync.Mutex
	winners := map[uuid.UUID]bool{}
	var all sync.WaitGroup
	for range 12 {
		all.Go(func() {
			var set []Acceptance
			for n := range 3 { // twice within the set, too
				m := newMessage(uuid.New(), 1)
				token := "crossing-0740"
				if n == 1 {
					token = m.ID.String()
				}
				set = append(
					set,
					Acceptance{
						Message: m,
						Token:   &Idempotency{KeyID: key, Token: token, Fingerprint: []byte("x"), MessageID: m.ID, CreatedAt: m.CreatedAt},
					},
				)
			}
			prior, err := s.Accept(t.Context(), set)
			if err != nil {
				t.Error(err)
				return
			}
			if prior[1] != nil {
				t.Errorf("a new token was known: %+v", prior[1])
			}
			mu.Lock()
			defer mu.Unlock()
			for _, n := range []int{0, 2} {
				won := set[n].Message.ID
				if prior[n] != nil {
					won = prior[n].MessageID
				}
				winners[won] = true
			}
		})
	}
	all.Wait()
	tally := must[delivery.Tally](t)(s.Tally(t.Context(), Filter{}))
	if len(winners) != 1 || tally.Total != 13 {
		t.Errorf("%d messages won the token, %d messages in all; want 1 and 13", len(winners), tally.Total)
	}
}

// Evidence in random sets from many writers: in the end every row is what Fold
// makes of its evidence, and nothing deadlocks or is lost.
func TestRowsAgreeWithEvidence(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	var messages []Message
	for range 20 {
		messages = append(messages, newMessage(uuid.New(), 1))
	}
	accept(t, s, messages...)
	var all sync.WaitGroup
	for writer := range 6 {
		all.Go(func() {
			r := rand.New(rand.NewPCG(uint64(writer), 5))
			for range 25 {
				var set []Evidence
				for range 1 + r.IntN(12) {
					m := messages[r.IntN(len(messages))]
					set = append(set, Evidence{ID: NewID(), MessageID: m.ID, At: now(), Attempt: r.IntN(3),
						Source: []delivery.Source{delivery.Reply, delivery.Receipt, delivery.Query}[r.IntN(3)],
						Claim:  delivery.States[r.IntN(len(delivery.States))], GatewayRef: []string{"", "a", "b"}[r.IntN(3)]})
				}
				set = append(
					set,
					Evidence{ID: NewID(), MessageID: NewID(), At: now(), Source: delivery.Receipt, Claim: delivery.Delivered},
				) // of no message
				if _, err := s.Append(context.Background(), now(), nil, set, func(_, _ *Message, _ delivery.Outcome) {}); err != nil {
					t.Error(err)
				}
			}
		})
	}
	all.Wait()
	for _, m := range messages {
		row := must[Message](t)(s.Message(t.Context(), m.ID))
		var facts []delivery.Evidence
		for _, e := range must[[]Evidence](t)(s.Timeline(t.Context(), m.ID)) {
			facts = append(facts, e.Fact())
		}
		want := delivery.Fold(facts)
		if row.State != want.State || row.Cause != want.Cause || row.Attempts != want.Attempts || row.GatewayRef != want.GatewayRef ||
			(row.Rivals != "") != want.Contested() {
			t.Errorf("row %+v, evidence amounts to %+v", row, want)
		}
	}
}

func TestClaimTakesUrgentFirstAndNeverTwice(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	gateway, holder := kept(t, s)
	var messages []Message
	for i := range 60 {
		m := newMessage(gateway, 2-i%3)
		m.DueAt = m.DueAt.Add(-time.Duration(60-i) * time.Second)
		messages = append(messages, m)
	}
	late, waiting := newMessage(gateway, 0), newMessage(gateway, 0)
	late.ValidUntil, waiting.DueAt = now().Add(-time.Second), now().Add(time.Minute)
	accept(t, s, append(messages, late, waiting)...)

	var mu sync.Mutex
	var order []Message
	seen := map[uuid.UUID]bool{}
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			for {
				var claimed []Message
				err := s.Transact(context.Background(), func(s *Store) error {
					var err error
					if claimed, _, err = s.Claim(context.Background(), gateway, holder, now(), anyTime, 7, 7, true); err != nil {
						return err
					}
					var evidence []Evidence
					for _, m := range claimed {
						evidence = append(evidence,
							Evidence{ID: NewID(), MessageID: m.ID, At: now(), Source: delivery.Own, Claim: delivery.Sending, Attempt: 1})
					}
					_, err = s.Append(context.Background(), now(), claimed, evidence, func(_, _ *Message, _ delivery.Outcome) {})
					return err
				})
				if err != nil {
					t.Error(err)
				}
				if err != nil || len(claimed) == 0 {
					return
				}
				mu.Lock()
				for _, m := range claimed {
					if seen[m.ID] {
						t.Errorf("message %s was claimed twice", m.ID)
					}
					seen[m.ID] = true
				}
				order = append(order, claimed...)
				mu.Unlock()
			}
		})
	}
	all.Wait()
	if len(order) != 60 || seen[late.ID] || seen[waiting.ID] {
		t.Fatalf("claimed %d messages, late %v, waiting %v", len(order), seen[late.ID], seen[waiting.ID])
	}
	due, any, err := s.NextDue(t.Context(), gateway)
	if err != nil || !any || !due.Equal(late.DueAt) && !due.Equal(waiting.DueAt) {
		t.Errorf("next due %v %v %v", due, any, err)
	}
}

func TestClaimWithinALaneIsByDueTime(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	gateway, holder := kept(t, s)
	base := now().Add(-time.Minute)
	want := []int{0, 0, 1, 1, 2, 2}
	for i, lane := range []int{2, 1, 0, 2, 0, 1} {
		m := newMessage(gateway, lane)
		m.DueAt = base.Add(time.Duration(i) * time.Second)
		accept(t, s, m)
	}
	var got []int
	var last time.Time
	none, kept, err := s.Claim(t.Context(), gateway, uuid.New(), now(), anyTime, 10, 10, true)
	if err != nil || len(none) > 0 || kept {
		t.Errorf("who does not keep the gateway claims %d messages, %v, %v", len(none), kept, err)
	}
	err = s.Transact(t.Context(), func(s *Store) error {
		claimed, _, err := s.Claim(t.Context(), gateway, holder, now(), anyTime, 10, 10, true)
		for i, m := range claimed {
			if i > 0 && m.Lane == got[i-1] && m.DueAt.Before(last) {
				t.Errorf("lane %d is out of order", m.Lane)
			}
			got, last = append(got, m.Lane), m.DueAt
		}
		return err
	})
	if err != nil || !reflect.DeepEqual(got, want) {
		t.Errorf("lanes %v, want %v (%v)", got, want, err)
	}
}

func TestLease(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	g := Gateway{ID: NewID(), Name: "harbourline", CreatedAt: now(), SealedSecrets: []byte{}, SealedCallback: []byte{}}
	if err := s.AddGateway(t.Context(), g); err != nil {
		t.Fatal(err)
	}
	again := g
	again.ID = NewID()
	if err := s.AddGateway(t.Context(), again); !errors.Is(
		err,
		ErrExists,
	) {
		t.Errorf("a second gateway of the name: %v", err)
	}
	take := func(who uuid.UUID, span time.Duration) Lease {
		l := must[Lease](t)(s.TakeLease(t.Context(), g.ID, who, span))
		if l.Idle < 0 {
			t.Errorf("idle for %v", l.Idle)
		}
		l.Idle = 0
		return l
	}
	a, b := uuid.New(), uuid.New()
	if got := take(a, time.Hour); got != (Lease{Held: true, Fresh: true, Clean: true}) {
		t.Errorf("the first lease: %+v", got)
	}
	if got := take(b, time.Hour); got.Held {
		t.Errorf("two hold it: %+v", got)
	}
	if got := take(a, time.Nanosecond); got != (Lease{Held: true}) {
		t.Errorf("prolonging: %+v", got)
	}
	if got := take(b, time.Hour); got != (Lease{Held: true, Fresh: true}) {
		t.Errorf("after it ran out: %+v", got)
	}
	held := func(who uuid.UUID) bool {
		kept := must[[]uuid.UUID](t)(s.RenewLeases(t.Context(), who, []uuid.UUID{g.ID, uuid.New()}, time.Hour))
		return len(kept) == 1 && kept[0] == g.ID
	}
	if held(a) || !held(b) {
		t.Errorf("held by a: %v, by b: %v", held(a), held(b))
	}
	if err := s.GiveLease(t.Context(), g.ID, b, 0); err != nil || held(b) {
		t.Errorf("given back: %v, held %v", err, held(b))
	}
	if got := take(a, time.Hour); got != (Lease{Held: true, Fresh: true, Clean: true}) {
		t.Errorf("after it was given back: %+v", got)
	}
}

func TestMatch(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	gateway, other := uuid.New(), uuid.New()
	a, b, c := newMessage(gateway, 1), newMessage(gateway, 1), newMessage(gateway, 1)
	accept(t, s, a, b, c)
	for m, ref := range map[*Message]string{&a: "g-1", &b: "g-2", &c: "g-2"} {
		submit(t, s, *m, 1, ref)
	}
	claim := func(gateway uuid.UUID, ref, reference string) Stray {
		return Stray{ID: NewID(), GatewayID: gateway, GatewayRef: ref, Reference: reference}
	}
	claims := []Stray{
		claim(gateway, "g-1", ""), claim(gateway, "", b.ID.String()), claim(gateway, "g-2", ""),
		claim(other, "g-1", ""), claim(other, "", a.ID.String()), claim(gateway, "g-9", "no uuid"), claim(gateway, "g-1", uuid.NewString()),
	}
	matched := must[map[uuid.UUID]Matched](t)(s.Match(t.Context(), claims, time.Time{}))
	want := []uuid.UUID{a.ID, b.ID, uuid.Nil /* two messages: a guess */, uuid.Nil, uuid.Nil /* of another gateway */, uuid.Nil, a.ID}
	for i, c := range claims {
		if got := matched[c.ID].MessageID; got != want[i] {
			t.Errorf("claim %d matches %v, want %v", i, got, want[i])
		}
	}
}

func TestStraysAreLookedAtLessAndLess(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	at := now()
	stray := Stray{ID: NewID(), GatewayID: uuid.New(), GatewayRef: "g-1", At: at, ReceiptID: NewID(), LookAt: &at}
	if err := s.AddStrays(t.Context(), []Stray{stray}); err != nil {
		t.Fatal(err)
	}
	clock, last := at, time.Duration(0)
	for range 20 {
		taken := must[[]Stray](t)(s.TakeStrays(t.Context(), clock, 10))
		if len(taken) != 1 {
			t.Fatalf("at %v: %d strays are due", clock.Sub(at), len(taken))
		}
		if err := s.PostponeStrays(t.Context(), clock, []uuid.UUID{stray.ID}, time.Minute, clock.Add(-time.Hour)); err != nil {
			t.Fatal(err)
		}
		var rows []Stray
		if err := s.db.Find(&rows).Error; err != nil {
			t.Fatal(err)
		}
		if rows[0].LookAt == nil { // an hour has passed
			if clock.Sub(at) < time.Hour {
				t.Errorf("given up after %v", clock.Sub(at))
			}
			return
		}
		pause := rows[0].LookAt.Sub(clock)
		if pause < last || pause > time.Minute {
			t.Errorf("pause %v after %v", pause, last)
		}
		clock, last = clock.Add(max(pause, 10*time.Minute)), pause
	}
	t.Error("it is looked at for ever")
}

func TestPagesAndFilters(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	gateway := uuid.New()
	var all []Message
	for i := range 25 {
		m := newMessage(gateway, 1)
		m.To = phone.Stored(fmt.Sprintf("+4477009001%02d", i%5))
		m.Reference = []string{"", "storm"}[i%2]
		all = append(all, m)
	}
	accept(t, s, all...)
	var got []Message
	var cursor uuid.UUID
	for {
		page := must[[]Message](t)(s.Find(t.Context(), Filter{Gateway: gateway}, cursor, 7))
		if len(page) == 0 {
			break
		}
		got, cursor = append(got, page...), page[len(page)-1].ID
	}
	if len(got) != 25 || got[0].ID != all[24].ID || got[24].ID != all[0].ID {
		t.Errorf("%d messages over all pages, from %v to %v", len(got), got[0].ID, got[len(got)-1].ID)
	}
	for name, tt := range map[string]struct {
		f    Filter
		want int64
	}{
		"by number": {Filter{To: "+447700900103"}, 5}, "by reference": {Filter{Reference: "storm"}, 12},
		"by state": {Filter{States: []delivery.State{delivery.Queued, delivery.Held}}, 25}, "by another state": {Filter{States: []delivery.State{delivery.Delivered}}, 0},
		"by time": {Filter{Since: all[0].CreatedAt.Add(-time.Second), Until: now().Add(time.Second)}, 25}, "too early": {Filter{Until: all[0].CreatedAt.Add(-time.Second)}, 0},
		"contested": {Filter{Contested: true}, 0}, "everything": {Filter{}, 25},
	} {
		if tally, err := s.Tally(t.Context(), tt.f); err != nil || tally.Total != tt.want {
			t.Errorf("%s: %v, %v; want %d", name, tally, err, tt.want)
		}
	}
}

func TestPartitionsCoverMonthsAhead(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	for _, at := range []time.Time{now().AddDate(0, 0, -20), now().AddDate(0, 2, 20)} {
		m := newMessage(uuid.New(), 1)
		m.ID = Floor(at)
		m.ID[15] = 1
		accept(t, s, m)
	}
	if err := s.EnsurePartitions(t.Context(), now().AddDate(0, 6, 0)); err != nil {
		t.Error(err)
	}
	m := newMessage(uuid.New(), 1)
	m.ID = Floor(now().AddDate(0, 8, 0))
	accept(t, s, m)
}

func TestTidyKeepsWhatIsYoung(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	old := Exchange{
		ID:            Floor(now().AddDate(0, 0, -20)),
		GatewayID:     uuid.New(),
		RequestHeader: map[string]string{},
		ReplyHeader:   map[string]string{},
		RequestBody:   []byte{},
		ReplyBody:     []byte{},
		StartedAt:     now(),
	}
	young := old
	young.ID = NewID()
	var citing []Evidence
	for _, x := range []Exchange{old, young} {
		packs := must[Packs](t)(PackExchanges([]Exchange{x}))
		if err := s.StoreExchanges(t.Context(), packs); err != nil {
			t.Fatal(err)
		}
		citing = append(citing, packs.Cite([]Evidence{{ExchangeID: &x.ID}})...)
	}
	if err := s.Tidy(t.Context(), now(), Keep{Exchanges: 10 * 24 * time.Hour, Idempotency: time.Hour}); err != nil {
		t.Fatal(err)
	}
	kept, _, err := s.Exchanges(t.Context(), citing)
	if _, there := kept[*citing[1].ExchangeID]; err != nil || len(kept) != 1 || !there {
		t.Errorf("kept %v, %v", kept, err)
	}
}

func TestSealer(t *testing.T) {
	s, err := NewSealer([]byte(strings.Repeat("k", 32)))
	if err != nil {
		t.Fatal(err)
	}
	sealed := s.Seal([]byte("practice-api-key"), "a")
	if plain, err := s.Open(sealed, "a"); err != nil || string(plain) != "practice-api-key" {
		t.Errorf("opened as %q, %v", plain, err)
	}
	if _, err := s.Open(sealed, "b"); err == nil {
		t.Error("opened for another owner")
	}
	sealed[len(sealed)-1] ^= 1
	if _, err := s.Open(sealed, "a"); err == nil {
		t.Error("opened although altered")
	}
	if _, err := NewSealer([]byte("short")); err == nil {
		t.Error("a short key was taken")
	}
}

// Ids of moments are in the order of the moments and, of one moment, in that in
// which they were made; and they are UUIDs of version 7.
func TestIDsAreInOrder(t *testing.T) {
	t.Parallel()
	at := time.Date(2026, 11, 30, 23, 59, 59, 999_000_000, time.UTC)
	var last uuid.UUID
	for i := range 5000 {
		when := at.Add(time.Duration(i/3) * time.Microsecond)
		id := IDAt(when)
		if strings.Compare(id.String(), last.String()) <= 0 && i%3 != 0 {
			t.Fatalf("%v after %v", id, last)
		}
		if id.Version() != 7 || id.Variant() != uuid.RFC4122 || timeOf(id).UnixMilli() != when.UnixMilli() {
			t.Fatalf("%v: version %v of %v", id, id.Version(), timeOf(id))
		}
		last = id
	}
	if monthOf(IDAt(at)) != "2026_11" || monthOf(IDAt(at.Add(time.Millisecond))) != "2026_12" {
		t.Error("the month turns at another moment")
	}
}

// What is held waits for a decision: it is not claimed and not due, and its time
// may run out all the same.
func TestHeldMessagesAreNotSent(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	gateway, holder := kept(t, s)
	m := newMessage(gateway, 1)
	accept(t, s, m)
	say := func(claim delivery.State) {
		t.Helper()
		e := Evidence{ID: NewID(), MessageID: m.ID, At: now(), Source: delivery.Operator, Claim: claim, Attempt: 1}
		if _, err := s.Append(t.Context(), now(), nil, []Evidence{e}, func(_, _ *Message, _ delivery.Outcome) {}); err != nil {
			t.Fatal(err)
		}
	}
	claimed := func() int {
		t.Helper()
		n := 0
		err := s.Transact(t.Context(), func(s *Store) error {
			found, _, err := s.Claim(t.Context(), gateway, holder, now().Add(time.Minute), anyTime, 9, 9, true)
			n = len(found)
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	say(delivery.Held)
	if claimed() != 0 {
		t.Error("held, it is claimed")
	}
	if late := must[[]Message](t)(s.TooLate(t.Context(), now().Add(2*time.Hour), 9)); len(late) != 0 {
		t.Errorf("%d that are held are too late to be sent", len(late))
	}
	for after, want := range map[time.Duration]int{0: 0, 2 * time.Hour: 1} {
		err := s.Transact(t.Context(), func(s *Store) error {
			due, err := s.Due(t.Context(), now().Add(after), 9)
			if len(due) != want {
				t.Errorf("after %v %d are due, want %d", after, len(due), want)
			}
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	say(delivery.Queued)
	if claimed() != 1 {
		t.Error("let go, it is not claimed")
	}
}

// A row speaks of the gateway of the submission that its state speaks of, also
// when that changes to and fro.
func TestRowSpeaksOfTheRightGateway(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	first, second := uuid.New(), uuid.New()
	m := newMessage(first, 0)
	accept(t, s, m)
	say := func(source delivery.Source, claim delivery.State, attempt int, gateway uuid.UUID, want uuid.UUID) {
		t.Helper()
		e := Evidence{ID: NewID(), MessageID: m.ID, At: now(), Source: source, Claim: claim, Attempt: attempt, GatewayID: &gateway}
		move := claim == delivery.Queued
		if _, err := s.Append(t.Context(), now(), nil, []Evidence{e}, func(_, m *Message, _ delivery.Outcome) {
			if move {
				m.GatewayID = second
			}
		}); err != nil {
			t.Fatal(err)
		}
		if got := must[Message](t)(s.Message(t.Context(), m.ID)); got.GatewayID != want {
			t.Errorf(
				"after %s %s of attempt %d it is %s of attempt %d, through the wrong gateway",
				source,
				claim,
				attempt,
				got.State,
				got.Attempt,
			)
		}
	}
	say(delivery.Own, delivery.Sending, 1, first, first)
	say(delivery.Own, delivery.Doubtful, 1, first, first)
	say(delivery.Own, delivery.Queued, 1, second, second)
	say(delivery.Own, delivery.Sending, 2, second, second)
	say(delivery.Reply, delivery.Rejected, 2, second, first) // the first is in doubt
	say(delivery.Query, delivery.Rejected, 1, first, second)
	say(delivery.Receipt, delivery.Delivered, 1, first, first)
}

// anyTime looks at a queue from the first on.
var anyTime [pace.Lanes]time.Time

// What others write between the reading of a message and its writing is not
// lost: the transaction is run again.
func TestWritingWhatOthersHaveWrittenMeanwhile(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	m := newMessage(uuid.New(), 1)
	accept(t, s, m)
	say := func(s *Store, seen []Message, claim delivery.State) ([]Message, error) {
		e := Evidence{ID: NewID(), MessageID: m.ID, At: now(), Source: delivery.Receipt, Claim: claim, Attempt: 1, GatewayID: &m.GatewayID}
		return s.Append(t.Context(), now(), seen, []Evidence{e}, func(_, _ *Message, _ delivery.Outcome) {})
	}
	if _, err := say(s, nil, delivery.Sending); err != nil {
		t.Fatal(err)
	}
	old := must[Message](t)(s.Message(t.Context(), m.ID))
	for name, seen := range map[string][]Message{"read in the transaction": nil, "seen before it": {old}} {
		t.Run(name, func(t *testing.T) {
			runs := 0
			err := s.Transact(t.Context(), func(tx *Store) error {
				if runs++; runs == 1 && seen == nil {
					if _, err := tx.Message(t.Context(), m.ID); err != nil { // the transaction has begun
						return err
					}
				}
				_, err := say(tx, seen, delivery.Delivered)
				if err == nil && runs == 1 {
					_, err = say(s, nil, delivery.Undeliverable) // another
				}
				return err
			})
			if err != nil || runs != 2 {
				t.Fatalf("after %d runs: %v", runs, err)
			}
			now := must[Message](t)(s.Message(t.Context(), m.ID))
			if now.State != delivery.Delivered || now.Rivals == "" {
				t.Errorf("it is %s, rivals %q: what one of two said is lost", now.State, now.Rivals)
			}
		})
	}
	if errs := pgtest.Errors(t, s.pools[0].Config().ConnString()); len(errs) > 0 {
		t.Errorf("it is expected, and yet PostgreSQL logs errors: %q", errs)
	}
}

// Exchanges come out of their packs as they went in, whatever their bodies are,
// and a pack is bounded.
func TestExchangesInPacks(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	bodies := [][]byte{{}, []byte(`{"text":"Fähre <4> & \u0000"}`), {0xFF, 0xFE, 0}, bytes.Repeat([]byte("long "), 50_000)}
	var exchanges []Exchange
	var evidence []Evidence
	for i := range 1200 {
		x := Exchange{ID: NewID(), GatewayID: uuid.New(), Purpose: "submit", Method: "POST", URL: "http://practice.example/send",
			RequestHeader: map[string]string{"content-type": "application/json"}, RequestBody: bodies[i%len(bodies)], Status: 200,
			ReplyHeader: map[string]string{}, ReplyBody: fmt.Appendf(nil, `{"id":"g-%d"}`, i), TookUs: 7,
			StartedAt: now().Truncate(time.Microsecond)}
		exchanges = append(exchanges, x)
		evidence = append(evidence, Evidence{ExchangeID: &x.ID})
	}
	packs := must[Packs](t)(PackExchanges(exchanges))
	for _, p := range packs.packs {
		all := must[[]Exchange](t)(unpack(p))
		size := 0
		for _, x := range all {
			size += len(x.RequestBody) + len(x.ReplyBody)
		}
		if size > packMost+len(bodies[3])+100 || len(all) > packCount {
			t.Errorf("a pack holds %d exchanges, %d bytes", len(all), size)
		}
	}
	if err := s.StoreExchanges(t.Context(), packs); err != nil {
		t.Fatal(err)
	}
	cited := packs.Cite(evidence)
	kept, _, err := s.Exchanges(t.Context(), cited)
	if err != nil || len(kept) != len(exchanges) {
		t.Fatalf("%d exchanges were kept, %v", len(kept), err)
	}
	for i, e := range cited {
		got, want := kept[*e.ExchangeID], exchanges[i]
		want.ID, want.StartedAt = got.ID, got.StartedAt
		if !reflect.DeepEqual(got, want) || !got.StartedAt.Equal(exchanges[i].StartedAt) {
			t.Fatalf("exchange %d came back as %+v", i, got)
		}
	}
}

// That a gateway took a message is told by its submission, word for word as the
// evidence would, and also when another id is told later.
func TestTakenIsToldByTheSubmission(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	m := newMessage(uuid.New(), 1)
	accept(t, s, m)
	say := func(e Evidence) {
		e.ID, e.MessageID, e.At, e.Attempt, e.GatewayID = NewID(), m.ID, now().Truncate(time.Microsecond), 1, &m.GatewayID
		if _, err := s.Append(t.Context(), now(), nil, []Evidence{e}, func(_, _ *Message, _ delivery.Outcome) {}); err != nil {
			t.Fatal(err)
		}
	}
	exchange := NewID()
	say(Evidence{Source: delivery.Own, Claim: delivery.Sending})
	say(Evidence{Source: delivery.Reply, Claim: delivery.Accepted, GatewayRef: "r-1", ExchangeID: &exchange})
	for _, ref := range []string{"r-1", "r-0", "r-2"} { // of two replies the smaller id stands
		say(Evidence{Source: delivery.Reply, Claim: delivery.Accepted, GatewayRef: ref})
	}
	// Two that come in one set say what each of them says.
	both := newMessage(m.GatewayID, 1)
	accept(t, s, both)
	set := []Evidence{
		{Source: delivery.Own, Claim: delivery.Sending},
		{Source: delivery.Reply, Claim: delivery.Accepted, GatewayRef: "r-9"},
		{Source: delivery.Reply, Claim: delivery.Accepted, GatewayRef: "r-8"},
	}
	for i := range set {
		e := &set[i]
		e.ID, e.MessageID, e.At, e.Attempt, e.GatewayID = NewID(), both.ID, now(), 1, &m.GatewayID
	}
	for _, some := range [][]Evidence{set[:1], set[1:]} {
		if _, err := s.Append(t.Context(), now(), nil, some, func(_, _ *Message, _ delivery.Outcome) {}); err != nil {
			t.Fatal(err)
		}
	}
	refs := map[string]bool{}
	for _, e := range must[[]Evidence](t)(s.Timeline(t.Context(), both.ID)) {
		refs[e.GatewayRef] = true
	}
	if !refs["r-8"] || !refs["r-9"] {
		t.Errorf("of two in one set told are %v", refs)
	}

	timeline := must[[]Evidence](t)(s.Timeline(t.Context(), m.ID))
	var told []string
	var facts []delivery.Evidence
	for _, e := range timeline {
		facts = append(facts, e.Fact())
		if e.Source == delivery.Reply {
			told = append(told, e.GatewayRef)
			if (e.ExchangeID != nil) != (len(told) == 1) {
				t.Errorf("%s was told in %v", e.GatewayRef, e.ExchangeID)
			}
		}
	}
	if !slices.Equal(told, []string{"r-1", "r-0", "r-2"}) {
		t.Errorf("told were %v", told)
	}
	now := must[Message](t)(s.Message(t.Context(), m.ID))
	if o := delivery.Fold(facts); o.GatewayRef != now.GatewayRef || o.State != now.State || now.Repeats != 1 {
		t.Errorf("the timeline says %s %q, the row %s %q, %d repeats", o.State, o.GatewayRef, now.State, now.GatewayRef, now.Repeats)
	}
	if n := must[map[gatewayRef][]Matched](t)(s.submittedAs(t.Context(), []gatewayRef{{now.GatewayRef, m.GatewayID}}, time.Time{})); len(
		n,
	) != 1 {
		t.Errorf("%d submissions are called %s", len(n), now.GatewayRef)
	}
}

// Neither a host that has vanished nor a statement that never ends holds
// anything up for ever: every connection says so to the server.
func TestConnectionsHaveLimits(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	for i, p := range s.pools {
		for _, name := range []string{"statement_timeout", "lock_timeout", "idle_in_transaction_session_timeout", "tcp_keepalives_idle",
			"client_connection_check_interval", "tcp_user_timeout"} {
			var value string
			if err := p.QueryRow(t.Context(), "SELECT setting FROM pg_settings WHERE name = $1", name).Scan(&value); err != nil {
				t.Fatal(err)
			}
			if ms, err := strconv.Atoi(value); err != nil || ms <= 0 || ms > 60_000 {
				t.Errorf("pool %d: %s is %q", i, name, value)
			}
		}
		if p.Config().ConnConfig.ConnectTimeout <= 0 {
			t.Errorf("pool %d waits for a connection for ever", i)
		}
	}
}

// However many slow questions are asked, messages go on and leases are renewed.
func TestSlowQuestionsStarveNobody(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	g := Gateway{ID: NewID(), Name: "g", SealedSecrets: []byte{}, SealedCallback: []byte{}, CreatedAt: now(), Version: 1}
	if err := s.AddGateway(t.Context(), g); err != nil {
		t.Fatal(err)
	}
	holder := uuid.New()
	must[Lease](t)(s.TakeLease(t.Context(), g.ID, holder, time.Minute))
	asking, stop := context.WithCancel(t.Context())
	var slow sync.WaitGroup
	defer slow.Wait()
	defer stop()
	most := 0
	for _, p := range s.pools {
		most += int(p.Config().MaxConns)
	}
	for range 2 * most {
		slow.Go(func() { s.db.WithContext(asking).Exec("SELECT pg_sleep(15)") })
	}
	var asked int64
	for waited := time.Now(); asked < 3 && time.Since(waited) < 10*time.Second; time.Sleep(10 * time.Millisecond) {
		s.work.QueryRow(t.Context(), `SELECT count(*) FROM pg_stat_activity
			WHERE datname = current_database() AND wait_event = 'PgSleep'`).Scan(&asked)
	}
	if asked < 3 {
		t.Fatalf("%d slow questions are being asked", asked)
	}
	soon, cancel := context.WithTimeout(t.Context(), 10*time.Second) // less than what they take
	defer cancel()
	if kept, err := s.RenewLeases(soon, holder, []uuid.UUID{g.ID}, time.Minute); err != nil || len(kept) != 1 {
		t.Errorf("renewed are %v, %v", kept, err)
	}
	if _, err := s.Accept(soon, []Acceptance{{Message: newMessage(g.ID, 1)}}); err != nil {
		t.Errorf("accepting: %v", err)
	}
	if err := s.Ping(soon); err != nil {
		t.Errorf("nothing can be written: %v", err)
	}
}
