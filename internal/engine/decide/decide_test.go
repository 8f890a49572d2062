package decide

import (
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/roster/rostertest"
	"calmpigeon.example/internal/postgres/pgtest"
	"calmpigeon.example/internal/store"
)

func TestMain(m *testing.M) { pgtest.Main(m, store.Migrate) }

const plain = "dialect: plain\n" +
	"submit: {request: {post: /s, json: '{to}'}, reply: [{when: .status == 200, read: '{state: \"accepted\"}'}]}\n"

// claim is what somebody says about the first submission.
type claim struct {
	source delivery.Source
	state  delivery.State
}

var (
	sending       = claim{delivery.Own, delivery.Sending}
	doubt         = claim{delivery.Own, delivery.Doubtful}
	taken         = claim{delivery.Reply, delivery.Accepted}
	closed        = claim{delivery.Clock, delivery.Unknown}
	delivered     = claim{delivery.Receipt, delivery.Delivered}
	undeliverable = claim{delivery.Receipt, delivery.Undeliverable}
)

// table is where decisions are made, about messages of which something was said.
type table struct {
	*Decide
	t *testing.T
	g *roster.Gateway
}

func desk(t *testing.T) *table {
	t.Helper()
	gateways, s := rostertest.Roster(t)
	k := rostertest.Kit(gateways, s)
	return &table{&Decide{k, &course.Course{Kit: k}}, t, rostertest.Gateway(t, gateways, plain, roster.Settings{})}
}

func (d *table) message(kind pace.Kind, validFor time.Duration, claims ...claim) uuid.UUID {
	d.t.Helper()
	now := d.Now()
	m := rostertest.Message(d.g, now)
	m.Kind, m.Lane, m.ValidUntil = kind, kind.Lane(), now.Add(validFor)
	if _, err := d.Store.Accept(d.t.Context(), []store.Acceptance{{Message: m}}); err != nil {
		d.t.Fatal(err)
	}
	for _, c := range claims {
		e := course.Own(m, d.Now(), c.state, 1, "")
		e.Source = c.source
		if _, err := d.Course.Record(d.t.Context(), d.Store, []store.Evidence{e}, nil); err != nil {
			d.t.Fatal(err)
		}
	}
	return m.ID
}

func (d *table) decide(id uuid.UUID, v Verdict) string {
	d.t.Helper()
	n, refused, err := d.Decide.Decide(d.t.Context(), []uuid.UUID{id}, v, "ada", "she asked", false)
	if err != nil || n+len(refused) != 1 {
		d.t.Fatal(n, refused, err)
	}
	if n == 1 {
		return ""
	}
	return refused[0].Why
}

func (d *table) is(id uuid.UUID, want delivery.State) store.Message {
	d.t.Helper()
	m, err := d.Store.Message(d.t.Context(), id)
	if err != nil || m.State != want {
		d.t.Fatalf("it is %s, %v; want %s", m.State, err, want)
	}
	return m
}

func TestDecisions(t *testing.T) {
	t.Parallel()
	d := desk(t)
	for name, tt := range map[string]struct {
		claims  []claim
		verdict Verdict
		want    delivery.State
		refused string
	}{
		"in doubt, it arrived":           {[]claim{sending, doubt}, Delivered, delivery.Delivered, ""},
		"in doubt, it never went":        {[]claim{sending, doubt}, NotSent, delivery.Cancelled, ""},
		"in doubt, it goes again":        {[]claim{sending, doubt}, SendAgain, delivery.Queued, ""},
		"in doubt, it is left":           {[]claim{sending, doubt}, Leave, delivery.Unknown, ""},
		"unknown, it arrived":            {[]claim{sending, taken, closed}, Delivered, delivery.Delivered, ""},
		"unknown, it goes again":         {[]claim{sending, taken, closed}, SendAgain, delivery.Queued, ""},
		"unknown, it is left":            {[]claim{sending, taken, closed}, Leave, delivery.Unknown, ""},
		"contested, it failed":           {[]claim{sending, taken, undeliverable, delivered}, Failed, delivery.Undeliverable, ""},
		"contested, it is left":          {[]claim{sending, taken, undeliverable, delivered}, Leave, delivery.Delivered, ""},
		"it failed, and goes again":      {[]claim{sending, taken, undeliverable}, SendAgain, delivery.Queued, ""},
		"it arrived, and is to go again": {[]claim{sending, taken, delivered}, SendAgain, delivery.Delivered, "handset has it"},
		"never tried":                    {nil, Delivered, delivery.Queued, "nothing about it"},
		"being sent":                     {[]claim{sending}, NotSent, delivery.Sending, "nothing about it"},
		"nothing to take back":           {[]claim{sending, doubt}, TakeBack, delivery.Doubtful, "nothing was decided"},
	} {
		id := d.message(pace.Bulk, time.Hour, tt.claims...)
		before, err := d.Store.Message(t.Context(), id)
		if err != nil {
			t.Fatal(err)
		}
		why := d.decide(id, tt.verdict)
		if (why == "") != (tt.refused == "") || !strings.Contains(why, tt.refused) {
			t.Errorf("%s: refused with %q, want %q", name, why, tt.refused)
			continue
		}
		m := d.is(id, tt.want)
		if why != "" {
			continue
		}
		if known := m.Known(); !known.Decided || m.Rivals != "" || known.MayHaveGone {
			t.Errorf("%s: decided, it is %+v", name, known)
		}
		if why := d.decide(id, TakeBack); why != "" {
			t.Errorf("%s: it cannot be taken back: %s", name, why)
		}
		if m := d.is(id, before.State); m.Known().Decided || m.Rivals != before.Rivals {
			t.Errorf("%s: taken back, it is %+v", name, m.Known())
		}
	}
}

// What a decision did not know of makes a message contested; a later decision does not.
func TestDecisionsAndWhatComesLater(t *testing.T) {
	t.Parallel()
	d := desk(t)
	id := d.message(pace.Transactional, time.Hour, sending, doubt)
	d.decide(id, NotSent)
	d.decide(id, Delivered)
	if m := d.is(id, delivery.Delivered); m.Rivals != "" {
		t.Errorf("two decisions contest each other: %s", m.Rivals)
	}
	e := course.Own(d.is(id, delivery.Delivered), d.Now(), delivery.Undeliverable, 1, "")
	e.Source = delivery.Receipt
	if _, err := d.Course.Record(t.Context(), d.Store, []store.Evidence{e}, nil); err != nil {
		t.Fatal(err)
	}
	if m := d.is(id, delivery.Delivered); m.Rivals != "delivered,undeliverable" {
		t.Errorf("a receipt of which the decision did not know: rivals %q", m.Rivals)
	}
	d.decide(id, Failed)
	if m := d.is(id, delivery.Undeliverable); m.Rivals != "" {
		t.Errorf("decided again, rivals %q", m.Rivals)
	}
}

func TestSendingAgainHasBounds(t *testing.T) {
	t.Parallel()
	d := desk(t)
	if why := d.decide(d.message(pace.OTP, time.Hour, sending, doubt), SendAgain); !strings.Contains(why, "passcode") {
		t.Errorf("a passcode: %q", why)
	}
	if why := d.decide(d.message(pace.Bulk, -time.Second, sending, taken, closed), SendAgain); !strings.Contains(why, "validity") {
		t.Errorf("too late: %q", why)
	}
}

// Many at once: those about which nothing can be decided are told, and the rest is. Trying it changes nothing.
func TestManyAtOnce(t *testing.T) {
	t.Parallel()
	d := desk(t)
	var all []uuid.UUID
	for range 20 {
		all = append(all, d.message(pace.Bulk, time.Hour, sending, doubt))
	}
	queued, absent := d.message(pace.Bulk, time.Hour), store.NewID()
	all = append(all, queued, absent, all[0])
	for _, try := range []bool{true, false} {
		n, refused, err := d.Decide.Decide(t.Context(), all, Delivered, "ada", "", try)
		if err != nil || n != 20 || len(refused) != 2 {
			t.Fatalf("try %v: %d decided, refused %v, %v", try, n, refused, err)
		}
		want := delivery.Delivered
		if try {
			want = delivery.Doubtful
		}
		for _, id := range all[:20] {
			d.is(id, want)
		}
	}
}
