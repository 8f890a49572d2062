package statements

import (
	"context"
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/sheet"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/roster/rostertest"
	"calmpigeon.example/internal/postgres/pgtest"
	"calmpigeon.example/internal/store"
)

func TestMain(m *testing.M) { pgtest.Main(m, store.Migrate) }

const plain = "dialect: plain\n" +
	"submit: {request: {post: /s, json: '{to}'}, reply: [{when: .status == 200, read: '{state: \"accepted\"}'}]}\n"

// office is where statements of a gateway are taken in.
type office struct {
	*Statements
	t     *testing.T
	g     *roster.Gateway
	ahead *atomic.Int64 // by so much the clock was put forward
}

func open(t *testing.T) *office {
	t.Helper()
	gateways, s := rostertest.Roster(t)
	k := rostertest.Kit(gateways, s)
	clock, ahead := k.Now, &atomic.Int64{}
	k.Now = func() time.Time { return clock().Add(time.Duration(ahead.Load())) }
	o := &office{New(k, &course.Course{Kit: k}, func(uuid.UUID) time.Duration { return 0 }), t,
		rostertest.Gateway(t, gateways, plain, roster.Settings{}), ahead}
	ctx, stop := context.WithCancel(context.Background())
	var running sync.WaitGroup
	running.Go(func() { o.Run(ctx) })
	t.Cleanup(func() {
		stop()
		running.Wait()
	})
	return o
}

// sent is a message to a number that the gateway took under a ref, and of which it told a state.
func (o *office) sent(number, ref string, state delivery.State) store.Message {
	o.t.Helper()
	m := rostertest.Message(o.g, o.Now())
	m.To = phone.Stored(number)
	if _, err := o.Store.Accept(o.t.Context(), []store.Acceptance{{Message: m}}); err != nil {
		o.t.Fatal(err)
	}
	for _, claim := range []struct {
		source delivery.Source
		state  delivery.State
	}{{delivery.Own, delivery.Sending}, {delivery.Reply, delivery.Accepted}, {delivery.Receipt, state}} {
		e := course.Own(m, o.Now(), claim.state, 1, "")
		if e.Source = claim.source; claim.source == delivery.Reply {
			e.GatewayRef = ref
		}
		if _, err := o.Course.Record(o.t.Context(), o.Store, []store.Evidence{e}, nil); err != nil {
			o.t.Fatal(err)
		}
	}
	return m
}

// take takes lines in, and waits until they are matched and what they say is evidence.
func (o *office) take(lines []string, from, until time.Time) store.Statement {
	o.t.Helper()
	file := "id;to;sent;status\n" + strings.Join(lines, "\n") + "\n"
	took, err := o.Take(
		o.t.Context(),
		Wants{Gateway: o.g, Name: "list", By: "ada", From: &from, Until: &until},
		strings.NewReader(file),
		sheet.Hint{},
	)
	if err != nil || took.Again {
		o.t.Fatal(took.Again, err)
	}
	return o.until(took.Statement.ID, store.Done)
}

func (o *office) until(id uuid.UUID, state store.StatementState) store.Statement {
	o.t.Helper()
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		one, err := o.Store.Statement(o.t.Context(), id)
		if err != nil {
			o.t.Fatal(err)
		}
		if one.State == state {
			return one
		}
		if time.Now().After(deadline) {
			o.t.Fatalf("it is %s, and never became %s", one.State, state)
		}
		o.Wake(true)
	}
}

// Lines that are missing, foreign, said twice, told by number or by id, of numbers that are written to again and again:
// the heaps are the same for every order of lines, lines and messages are their sums, one message has one line at
// most, and what the statement said is as if it had never been said once it is withdrawn.
func TestHeapsOfGeneratedStatements(t *testing.T) {
	t.Parallel()
	for seed := range uint64(6) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			o := open(t)
			r := rand.New(rand.NewPCG(seed, 13))
			from := o.Now().Add(-time.Minute)
			var lines []string
			messages := 10 + r.IntN(10)
			states := map[uuid.UUID]store.Message{}
			for i := range messages {
				ref, number := fmt.Sprintf("g-%d", i), fmt.Sprintf("+4477009001%02d", r.IntN(6))
				state := []delivery.State{delivery.Delivered, delivery.Undeliverable}[r.IntN(2)]
				m := o.sent(number, ref, state)
				now, err := o.Store.Message(t.Context(), m.ID)
				if err != nil {
					t.Fatal(err)
				}
				states[m.ID] = now
				said := string(state)
				if r.IntN(4) == 0 {
					said = "expired"
				}
				at := m.CreatedAt.Add(time.Duration(r.IntN(3)-1) * time.Second).Format("2006-01-02 15:04:05")
				if r.IntN(3) == 0 {
					ref = ""
				}
				line := fmt.Sprintf("%s;%s;%s;%s", ref, number[1:], at, said)
				switch r.IntN(8) {
				case 0: // missing
				case 1: // said twice
					lines = append(lines, line, line)
				case 2: // and one of somebody else
					lines = append(lines, line, fmt.Sprintf("x-%d;447700900999;%s;delivered", i, at))
				default:
					lines = append(lines, line)
				}
			}
			lines = append(lines, "g-1;;yesterday;delivered") // cannot be read
			until := o.Now().Add(time.Minute)
			var first *store.Heaps
			for range 3 {
				r.Shuffle(len(lines), func(i, j int) { lines[i], lines[j] = lines[j], lines[i] })
				one := o.take(append(slices.Clone(lines), fmt.Sprintf(";;;%d", r.Uint32())), from, until) // another file each time
				h := one.Totals
				both := h.Lines[store.Agrees] + h.Lines[store.StateDiffers] + h.Lines[store.MoneyDiffers]
				if both+h.Lines[store.OnlyTheirs] != int64(len(lines)+1) || both+h.Lines[store.OnlyOurs] != int64(messages) {
					t.Errorf("%d lines and %d messages are %+v", len(lines)+1, messages, h)
				}
				if first == nil {
					first = h
				} else if !reflect.DeepEqual(first, h) {
					t.Errorf("in another order\n%+v\nis %+v", first, h)
				}
				all, err := o.Store.LinesOf(t.Context(), one.ID, "", "", 0, 1000)
				if err != nil {
					t.Fatal(err)
				}
				has := map[uuid.UUID]bool{}
				for _, l := range all {
					if l.MessageID == nil {
						continue
					}
					if has[*l.MessageID] {
						t.Errorf("a message has two lines: %+v", l)
					}
					has[*l.MessageID] = true
					m, err := o.Store.Message(t.Context(), *l.MessageID)
					if err != nil {
						t.Fatal(err)
					}
					named := l.How != store.ByNumber && l.Heap == store.StateDiffers
					if (m.Rivals != "") != named {
						t.Errorf("line %+v makes its message %s, %q", l, m.State, m.Rivals)
					}
				}
				if _, err := o.Withdraw(t.Context(), one.ID, "ada", ""); err != nil {
					t.Fatal(err)
				}
				o.until(one.ID, store.Withdrawn)
				for id, before := range states {
					if m, err := o.Store.Message(t.Context(), id); err != nil || m.State != before.State || m.Rivals != before.Rivals {
						t.Errorf("withdrawn, %s is %s, %q, %v", before.State, m.State, m.Rivals, err)
					}
				}
			}
		})
	}
}

// A statement that the database will not have is withdrawn with the reason, and the next one goes on.
func TestAStatementThatCannotBeMatchedHoldsUpNoOther(t *testing.T) {
	t.Parallel()
	o := open(t)
	m := o.sent("+447700900101", "g-1", delivery.Delivered)
	now := o.Now()
	bad := store.Statement{
		ID:        store.IDAt(now),
		GatewayID: o.g.ID,
		Name:      "bad",
		Digest:    []byte{1},
		State:     store.Matching,
		Head:      []string{"id"},
		CreatedAt: now,
		FromAt:    &now,
		UntilAt:   &now,
	}
	if err := o.Store.NewStatement(t.Context(), bad); err != nil {
		t.Fatal(err)
	}
	most := int64(1) << 62 // the sum of these cannot be counted
	for n := range 3 {
		if err := o.Store.AddLines(t.Context(), []store.StatementLine{{StatementID: bad.ID, N: n + 1, ChargeMicros: &most, Heap: store.OnlyTheirs,
			How: store.NoMessage}}); err != nil {
			t.Fatal(err)
		}
	}
	good := o.take(
		[]string{"g-1;447700900101;" + m.CreatedAt.Format("2006-01-02 15:04:05") + ";delivered"},
		now.Add(-time.Minute),
		now.Add(time.Minute),
	)
	if good.Totals.Lines[store.Agrees] != 1 {
		t.Errorf("%+v", good.Totals)
	}
	if one := o.until(bad.ID, store.Withdrawn); !strings.Contains(one.WithdrawnWhy, "could not be matched") {
		t.Errorf("%+v", one)
	}
}

// A line that names a message by an id that nobody knew finds it once a receipt has told the id, by itself, and says
// what it says; one of which nothing ever becomes known is looked for less and less, and then not any more.
func TestLinesAreLookedForAgain(t *testing.T) {
	t.Parallel()
	o := open(t)
	m := rostertest.Message(o.g, o.Now())
	if _, err := o.Store.Accept(t.Context(), []store.Acceptance{{Message: m}}); err != nil {
		t.Fatal(err)
	}
	say := func(source delivery.Source, claim delivery.State, ref string) {
		t.Helper()
		e := course.Own(m, o.Now(), claim, 1, "")
		e.Source, e.GatewayRef = source, ref
		if _, err := o.Course.Record(t.Context(), o.Store, []store.Evidence{e}, nil); err != nil {
			t.Fatal(err)
		}
	}
	say(delivery.Own, delivery.Sending, "")
	say(delivery.Own, delivery.Doubtful, "") // its answer was lost
	from := o.Now().Add(-time.Hour)
	one := o.take([]string{"g-late;;;expired", "g-never;;;delivered"}, from, from.Add(2*time.Hour))
	if one.Totals.Lines[store.OnlyTheirs] != 2 || one.AgainAt == nil {
		t.Fatalf("%+v", one)
	}
	say(delivery.Receipt, delivery.Enroute, "g-late")
	looked := func(n int) store.Statement {
		t.Helper()
		var now store.Statement
		for deadline := time.Now().Add(20 * time.Second); now.AgainN < n; time.Sleep(10 * time.Millisecond) {
			var err error
			if now, err = o.Store.Statement(t.Context(), one.ID); err != nil || time.Now().After(deadline) {
				t.Fatalf("it was looked for %d times, %v", now.AgainN, err)
			}
			o.Wake(true)
		}
		return now
	}
	o.ahead.Add(int64(2 * time.Minute))
	now := looked(1)
	if got := now.Totals.Lines; got[store.OnlyTheirs] != 1 || got[store.StateDiffers] != 1 {
		t.Errorf("the heaps are %v", got)
	}
	after, err := o.Store.Message(t.Context(), m.ID)
	if err != nil || after.State != delivery.Expired {
		t.Errorf("%s, %v", after.State, err)
	}
	for n := 2; n <= len(againPauses); n++ {
		if now.AgainAt == nil {
			t.Fatalf("after %d times it is not looked for any more", n-1)
		}
		o.ahead.Add(int64(now.AgainAt.Sub(o.Now()) + time.Second))
		now = looked(n)
	}
	if now.AgainAt != nil || now.State != store.Done {
		t.Errorf("%+v", now)
	}
	if _, err := o.Withdraw(t.Context(), one.ID, "ada", "wrong"); err != nil {
		t.Fatal(err)
	}
	o.until(one.ID, store.Withdrawn)
	if after, err = o.Store.Message(t.Context(), m.ID); err != nil || after.State != delivery.Enroute {
		t.Errorf("%s, %v", after.State, err)
	}
}
