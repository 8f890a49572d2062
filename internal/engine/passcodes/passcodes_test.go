package passcodes

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/passcode"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/intake"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/roster/rostertest"
	"calmpigeon.example/internal/postgres/pgtest"
	"calmpigeon.example/internal/store"
)

func TestMain(m *testing.M) { pgtest.Main(m, store.Migrate) }

// uncalled is the dialect of a gateway that nobody calls.
const uncalled = "dialect: %s\n" +
	"submit: {request: {post: /s, json: '{to}'}, reply: [{when: .status == 200, read: '{state: \"accepted\"}'}]}\n"

// counterDesk is where passcodes are sent and checked, with a clock of its own and two gateways that nobody calls.
type counterDesk struct {
	*Passcodes
	t     *testing.T
	key   store.Key
	ahead atomic.Int64
}

func open(t *testing.T) *counterDesk {
	t.Helper()
	return openOn(t, pgtest.Database(t))
}

func openOn(t *testing.T, url string) *counterDesk {
	t.Helper()
	gateways, s := rostertest.On(t, url)
	for _, name := range []string{"first", "second"} {
		rostertest.Gateway(t, gateways, fmt.Sprintf(uncalled, name), roster.Settings{})
	}
	if _, err := gateways.PutSender(t.Context(), store.Sender{ID: "Lanternholm"}, false, time.Now()); err != nil {
		t.Fatal(err)
	}
	d := &counterDesk{t: t, key: store.Key{ID: uuid.New(), Cure: "off", Practice: true}}
	k := rostertest.Kit(gateways, s)
	began := k.Now()
	k.Now = func() time.Time { return began.Add(time.Duration(d.ahead.Load())) } // it stands unless it is put forward
	d.Passcodes = New(k, intake.New(k, intake.Usual), rand.Reader)
	ctx, stop := context.WithCancel(context.Background())
	var running sync.WaitGroup
	running.Go(func() { d.issue.Run(ctx) }) // what it watches is looked at when a test says so
	t.Cleanup(func() {
		stop()
		running.Wait()
	})
	return d
}

func (d *counterDesk) forward(by time.Duration) { d.ahead.Add(int64(by)) }

func (d *counterDesk) issued(number string) Issued {
	d.t.Helper()
	one, err := d.Issue(d.t.Context(), d.key, Wants{To: number, Purpose: "sign-in", Reveal: true}, "")
	if err != nil {
		d.t.Fatal(err)
	}
	return one
}

func (d *counterDesk) verdict(id uuid.UUID, typed string) Checked {
	d.t.Helper()
	c, err := d.Check(d.t.Context(), id, typed)
	if err != nil {
		d.t.Fatal(err)
	}
	return c
}

// becomes records what is known of a message.
func (d *counterDesk) becomes(id uuid.UUID, claims ...delivery.State) {
	d.t.Helper()
	for _, claim := range claims {
		m, err := d.Store.Message(d.t.Context(), id)
		if err != nil {
			d.t.Fatal(err)
		}
		e := course.Own(m, d.Now(), claim, 1, "")
		if claim != delivery.Sending {
			e.Source = delivery.Receipt
		}
		plan := func(_, _ *store.Message, _ delivery.Outcome) {}
		if _, err := d.Store.Append(d.t.Context(), d.Now(), nil, []store.Evidence{e}, plan); err != nil {
			d.t.Fatal(err)
		}
	}
}

// The same code goes again after pauses that grow, through the other gateway where one was silent, three times; not where
// it was delivered, unless it is meant; and of many who ask at once one sends it.
func TestAgain(t *testing.T) {
	t.Parallel()
	d := open(t)
	p := d.issued("+447700900123")
	again := func(anyway bool) (Sent, error) { return d.Again(t.Context(), d.key, p.ID, Resend{Anyway: anyway}) }
	refused := func(after string, err, want error) {
		t.Helper()
		if !errors.Is(err, want) {
			t.Errorf("%s: %v, want %v", after, err, want)
		}
	}
	d.forward(30*time.Second - time.Microsecond)
	var soon *TooSoon
	if _, err := again(false); !errors.As(err, &soon) || !soon.At.Equal(p.AgainAt) {
		t.Errorf("before its pause is over: %v", err)
	}
	d.forward(time.Microsecond)
	var sent, early atomic.Int32
	var second Sent
	var many sync.WaitGroup
	for range 10 {
		many.Go(func() {
			s, err := again(false)
			switch {
			case err == nil:
				sent.Add(1)
				second = s
			case errors.As(err, new(*TooSoon)):
				early.Add(1)
			default:
				t.Error(err)
			}
		})
	}
	many.Wait()
	if sent.Load() != 1 || early.Load() != 9 || second.Gateway != "second" || second.Sends != 2 ||
		!second.AgainAt.Equal(d.Now().Add(time.Minute)) {
		t.Fatalf("%d of ten sent it, %d were too soon: %+v", sent.Load(), early.Load(), second)
	}
	d.becomes(second.MessageID, delivery.Sending, delivery.Accepted, delivery.Delivered)
	d.forward(time.Minute)
	_, err := again(false)
	refused("delivered", err, ErrDelivered)
	third, err := again(true)
	if err != nil || third.Sends != 3 || third.Gateway != "first" {
		t.Fatalf("%+v, %v", third, err)
	}
	d.forward(2 * time.Minute)
	last, err := again(false)
	if err != nil || last.Sends != 4 || last.Gateway != "second" || len(last.Sealed) > 0 {
		t.Fatalf("%+v, %v", last, err)
	}
	d.forward(time.Minute)
	_, err = again(true)
	refused("four times", err, ErrOften)
	if n, err := d.Store.Tally(t.Context(), store.Filter{To: "+447700900123"}); err != nil || n.Total != 4 {
		t.Errorf("%d messages went, %v", n.Total, err)
	}
	if c := d.verdict(p.ID, p.Code); c.Verdict != passcode.Right {
		t.Errorf("the code that went four times is %s", c.Verdict)
	}
	_, err = again(true)
	refused("used", err, ErrOver)
}

// At its end a code is right no more, and what it takes to send it goes.
func TestTheEndOfACode(t *testing.T) {
	t.Parallel()
	d := open(t)
	p, q := d.issued("+447700900123"), d.issued("+447700900124")
	d.forward(passcode.LifeUsual - time.Microsecond)
	if c := d.verdict(p.ID, p.Code); c.Verdict != passcode.Right {
		t.Errorf("at the last moment it is %s", c.Verdict)
	}
	d.forward(time.Microsecond)
	if c := d.verdict(q.ID, q.Code); c.Verdict != passcode.Ended {
		t.Errorf("at its end it is %s", c.Verdict)
	}
	if _, err := d.Again(t.Context(), d.key, q.ID, Resend{Anyway: true}); !errors.Is(err, ErrOver) {
		t.Errorf("at its end it is sent again: %v", err)
	}
	for _, sealed := range []bool{true, false} {
		one, err := d.Store.Passcode(t.Context(), q.ID)
		if err != nil || (len(one.Sealed) > 0) != sealed {
			t.Errorf("what it takes to send it again is there: %v, %v", len(one.Sealed) > 0, err)
		}
		d.forward(time.Second)
		if err := d.Store.TidyPasscodes(t.Context(), d.Now()); err != nil {
			t.Fatal(err)
		}
	}
	d.forward(3 * time.Hour)
	if err := d.Store.TidyCounters(t.Context(), d.Now(), passcode.LifeMost); err != nil {
		t.Fatal(err)
	}
	if c, err := d.CheckCurrent(t.Context(), "+447700900124", "", "sign-in", q.Code); err != nil || c.Verdict != passcode.Wrong ||
		c.ID != uuid.Nil {
		t.Errorf("hours later it is %+v, %v", c, err)
	}
}

// A set that is written together keeps to the limits among its own, and one that is refused spoils nothing for the others.
func TestLimitsWithinASet(t *testing.T) {
	t.Parallel()
	d := open(t)
	var many sync.WaitGroup
	var sent, full atomic.Int32
	for range 30 { // five an hour to a number
		many.Go(func() {
			_, err := d.Issue(t.Context(), d.key, Wants{To: "+447700900123", Purpose: "sign-in"}, "")
			var f *passcode.Full
			switch {
			case err == nil:
				sent.Add(1)
			case errors.As(err, &f) && f.By == passcode.Number && f.Window == passcode.Hour:
				full.Add(1)
			default:
				t.Error(err)
			}
		})
	}
	for i := range 10 {
		many.Go(func() {
			if _, err := d.Issue(t.Context(), d.key, Wants{To: fmt.Sprintf("+33639980%d01", i), Purpose: "sign-in"}, ""); err != nil {
				t.Error(err)
			}
		})
	}
	many.Wait()
	if sent.Load() != 5 || full.Load() != 25 {
		t.Errorf("%d were sent, %d refused", sent.Load(), full.Load())
	}
	if n, err := d.Store.Tally(t.Context(), store.Filter{}); err != nil || n.Total != 15 {
		t.Errorf("%d messages, %v", n.Total, err)
	}
	d.forward(66 * time.Minute) // an hour and a step
	if _, err := d.Issue(t.Context(), d.key, Wants{To: "+447700900123", Purpose: "sign-in"}, ""); err != nil {
		t.Errorf("an hour later: %v", err)
	}
}
