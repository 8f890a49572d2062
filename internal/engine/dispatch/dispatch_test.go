package dispatch

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/route"
	"calmpigeon.example/internal/engine/courier"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/gather"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/roster/rostertest"
	"calmpigeon.example/internal/postgres/pgtest"
	"calmpigeon.example/internal/store"
)

func TestMain(m *testing.M) { pgtest.Main(m, store.Migrate) }

// desk makes a dispatch over an empty database.
func desk(t *testing.T) *Dispatch {
	t.Helper()
	gateways, s := rostertest.Roster(t)
	k := rostertest.Kit(gateways, s)
	return &Dispatch{Kit: k, Courier: courier.New(k.Now, false), balances: map[uuid.UUID]balance{}, Course: &course.Course{Kit: k}}
}

// lister takes an array of messages and answers as it is told.
const lister = `dialect: lister
reference: carried
submit:
  most: 10
  request: {post: /s, json: '[.messages[] | {id, to, text: (if .text == "poison" then error("poison") else .text end)}]'}
  reply:
    - {when: .status == 429, limited: '.headers["retry-after"]'}
    - {when: .status == 402, refused: no_credit}
    - {when: .status == 422, refused: content_refused}
    - {when: .status == 200, read: '.body[]'}
`

func message(to, text string) store.Message {
	return store.Message{Content: store.Content{ID: store.NewID(), To: phone.Stored(to), Sender: "Lanternholm", Kind: "bulk", Lane: 2,
		Text: text, Encoding: "gsm7", Units: 1, Segments: 1, ValidUntil: time.Now().Add(time.Hour)}}
}

// goes submits a pack at once.
func goes(t *testing.T, d *Dispatch, g *roster.Gateway, pack ...store.Message) (result, lesson) {
	return d.submit(t.Context(), g, pack, d.passport(t.Context(), g), func() (courier.Leaving, string) { return courier.Leaving{}, "" })
}

// What comes of a request, for each of its messages by itself.
func TestSubmitKeepsEachItemsOutcome(t *testing.T) {
	t.Parallel()
	for name, tt := range map[string]struct {
		status int
		reply  string   // {0}, {1} and {2} are the messages' ids
		header string   // Retry-After
		texts  []string // of three messages
		want   []string // source claim cause, of each message
		lesson delivery.Cause
	}{
		"by reference, in another order": {200, `[{"reference":"{2}","state":"rejected","cause":"invalid_number"},{"reference":"{0}","state":"accepted","gateway_ref":"g0"},{"reference":"{1}","state":"enroute"}]`, "", nil,
			[]string{"reply accepted ", "reply enroute ", "reply rejected invalid_number"}, ""},
		"by place":            {200, `[{"index":0,"state":"accepted"},{"index":2,"state":"accepted"},{"index":1,"state":"rejected","cause":"barred"}]`, "", nil, []string{"reply accepted ", "reply rejected barred", "reply accepted "}, ""},
		"by number":           {200, `[{"to":"447700900102","state":"accepted"},{"to":"+447700900101","state":"accepted"},{"to":"00447700900100","state":"rejected"}]`, "", nil, []string{"reply rejected unspecified", "reply accepted ", "reply accepted "}, ""},
		"one item for all":    {200, `[{"state":"accepted","gateway_ref":"batch-1"}]`, "", nil, []string{"reply accepted ", "reply accepted ", "reply accepted "}, ""},
		"one refusal for all": {200, `[{"state":"rejected","cause":"invalid_number"}]`, "", nil, []string{"reply queued invalid_number", "reply queued invalid_number", "reply queued invalid_number"}, ""},
		"one is left out":     {200, `[{"index":0,"state":"accepted"},{"index":1,"state":"accepted"}]`, "", nil, []string{"reply accepted ", "reply accepted ", "own doubtful "}, ""},
		"items of others":     {200, `[{"reference":"elsewhere","state":"accepted"},{"index":9,"state":"accepted"}]`, "", nil, []string{"own doubtful ", "own doubtful ", "own doubtful "}, delivery.GatewayFault},
		"two without name":    {200, `[{"state":"accepted"},{"state":"accepted"}]`, "", nil, []string{"own doubtful ", "own doubtful ", "own doubtful "}, delivery.GatewayFault},
		"one not taken":       {200, `[{"index":0,"state":"accepted"},{"index":1,"not_taken":"limited"},{"index":2,"state":"accepted"}]`, "", nil, []string{"reply accepted ", "reply queued limited", "reply accepted "}, ""},
		"all not taken":       {200, `[{"index":0,"not_taken":"no_credit"},{"index":1,"not_taken":"no_credit"},{"index":2,"not_taken":"no_credit"}]`, "", nil, []string{"reply queued no_credit", "reply queued no_credit", "reply queued no_credit"}, delivery.NoCredit},
		"cannot be read":      {500, `oops`, "", nil, []string{"own doubtful ", "own doubtful ", "own doubtful "}, delivery.GatewayFault},
		"slower, please":      {429, ``, "3", nil, []string{"reply queued limited", "reply queued limited", "reply queued limited"}, delivery.Limited},
		"no credit":           {402, ``, "", nil, []string{"reply queued no_credit", "reply queued no_credit", "reply queued no_credit"}, delivery.NoCredit},
		"refused together, which may mean one of them": {422, ``, "", nil, []string{"reply queued content_refused", "reply queued content_refused", "reply queued content_refused"}, ""},
		"one cannot be put into it":                    {200, `[{"state":"accepted"}]`, "", []string{"a", "poison", "c"}, []string{"reply accepted ", "own rejected unfit", "reply accepted "}, ""},
		"none can":                                     {200, `[{"state":"accepted"}]`, "", []string{"poison", "poison", "poison"}, []string{"own rejected unfit", "own rejected unfit", "own rejected unfit"}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			d := desk(t)
			pack := []store.Message{message("+447700900100", "a"), message("+447700900101", "b"), message("+447700900102", "c")}
			for i, text := range tt.texts {
				pack[i].Text = text
			}
			server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				reply := tt.reply
				for i, m := range pack {
					reply = strings.ReplaceAll(reply, fmt.Sprintf("{%d}", i), m.ID.String())
				}
				if tt.header != "" {
					w.Header().Set("Retry-After", tt.header)
				}
				w.WriteHeader(tt.status)
				w.Write([]byte(reply))
			}))
			defer server.Close()
			g := rostertest.Gateway(t, d.Roster, lister, roster.Settings{Address: &server.URL})
			r, l := goes(t, d, g, pack...)
			for i, m := range pack {
				var got []string
				for _, e := range r.evidence {
					if e.MessageID == m.ID {
						got = append(got, fmt.Sprintf("%s %s %s", e.Source, e.Claim, e.Cause))
						if e.Claim == delivery.Doubtful && e.Note == "" {
							t.Errorf("message %d is doubtful, and it does not say why", i)
						}
					}
				}
				if !slices.Equal(got, []string{tt.want[i]}) {
					t.Errorf("message %d: %q, want %q", i, got, tt.want[i])
				}
			}
			if l.cause != tt.lesson {
				t.Errorf("it teaches %q, want %q", l.cause, tt.lesson)
			}
			if tt.header != "" && (l.wait == nil || *r.steps[pack[1].ID].Wait != 3*time.Second) {
				t.Errorf("asked to wait 3 s: %v, steps %v", l.wait, r.steps)
			}
		})
	}
}

func TestRefusedAloneIsMeant(t *testing.T) {
	t.Parallel()
	d := desk(t)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(422) }))
	defer server.Close()
	g := rostertest.Gateway(t, d.Roster, lister, roster.Settings{Address: &server.URL})
	r, _ := goes(t, d, g, message("+447700900100", "a"))
	if e := r.evidence[0]; e.Claim != delivery.Rejected || e.Cause != delivery.ContentRefused {
		t.Errorf("%+v", e)
	}
}

func TestPack(t *testing.T) {
	call := &dialect.Call{Most: 3, Same: []string{"text", "sender"}}
	var all []store.Message
	for i, text := range []string{"a", "b", "a", "a", "b", "a", "a"} {
		all = append(all, message(fmt.Sprintf("+4477009001%02d", i), text))
	}
	all = append(all, message("+447700900104", "b")) // whose number stands in a pack of the same text already
	lens := func(requests, room int, messages []store.Message) (sizes []int, placed int) {
		p := newPacker(call, requests, room)
		for _, m := range messages {
			if p.place(m) {
				placed++
			}
		}
		for _, one := range p.packs {
			sizes = append(sizes, len(one.messages))
			for _, m := range one.messages {
				if m.Text != one.messages[0].Text {
					t.Errorf("a pack holds %q and %q", m.Text, one.messages[0].Text)
				}
			}
		}
		if len(p.messages()) != placed {
			t.Errorf("%d of %d that were placed are there", len(p.messages()), placed)
		}
		return sizes, placed
	}
	for name, tt := range map[string]struct {
		requests, room int
		sizes          []int
	}{
		"as many as there is room for": {9, 99, []int{3, 2, 2, 1}},
		"two requests":                 {2, 99, []int{3, 2}},
		"one request":                  {1, 99, []int{3}},
		"four messages":                {9, 4, []int{3, 1}},
		"none":                         {0, 0, nil},
	} {
		if sizes, _ := lens(tt.requests, tt.room, all); !slices.Equal(sizes, tt.sizes) {
			t.Errorf("%s: packs of %v, want %v", name, sizes, tt.sizes)
		}
	}
	// A failed company is broken up: 500, 62, 7, 1.
	call.Most, call.Same = 500, nil
	for attempts, want := range []int{500, 62, 7, 1, 1} {
		many := make([]store.Message, 500)
		for i := range many {
			many[i] = message(fmt.Sprintf("+44770090%04d", i), "x")
			many[i].Attempts = attempts
		}
		if sizes, _ := lens(1, 500, many); sizes[0] != want {
			t.Errorf("after %d attempts a request carries %d, want %d", attempts, sizes[0], want)
		}
	}
}

// pass lets n be claimed and arrive.
func (q *quota) pass(now time.Time, n int) {
	q.claim(n)
	q.arrive(now, n)
}

func TestQuota(t *testing.T) {
	now := time.Date(2026, 11, 15, 7, 40, 0, 0, time.UTC)
	q := quota{perMinute: 5, perDay: 8}
	if n, wait := q.free(now, 10, 0); n != 5 || wait != 0 {
		t.Errorf("at first %d are free, wait %v", n, wait)
	}
	q.pass(now, 3)
	q.pass(now.Add(500*time.Millisecond), 2)
	if n, wait := q.free(now.Add(30*time.Second), 10, 0); n != 0 || wait != 31*time.Second {
		t.Errorf("in the same minute %d are free after %v", n, wait)
	}
	if n, _ := q.free(now.Add(62*time.Second), 10, 0); n != 3 {
		t.Errorf("a minute later %d are free, want the 3 that are left of the day", n)
	}
	q.pass(now.Add(62*time.Second), 3)
	if n, wait := q.free(now.Add(5*time.Minute), 10, 0); n != 0 || wait < 23*time.Hour {
		t.Errorf("the day is used up, and %d are free after %v", n, wait)
	}
	if n, _ := q.free(now.Add(24*time.Hour+2*time.Second), 10, 0); n != 5 {
		t.Errorf("a day later %d are free", n)
	}
}

// However late what was claimed arrives, in no minute do more arrive than are allowed: here by their own
// times, at random, with keepers that end and others that know only what is written down.
func TestQuotaCountsArrivals(t *testing.T) {
	t.Parallel()
	const perMinute, late = 20, 9 * time.Second
	seed := uint64(time.Now().UnixNano())
	random := rand.New(rand.NewPCG(seed, 1))
	now := time.Date(2026, 11, 15, 7, 40, 30, 0, time.UTC)
	type flight struct {
		n  int
		at time.Time // when it arrives; zero: it does not go
	}
	q := quota{perMinute: perMinute}
	var written []store.Slot
	var flying []flight
	var arrivals []time.Time
	claimed := 0
	for range 20_000 {
		now = now.Add(time.Duration(random.IntN(300)) * time.Millisecond)
		flying = slices.DeleteFunc(flying, func(f flight) bool {
			switch {
			case f.at.IsZero():
				q.forgo(f.n)
			case f.at.After(now):
				return false
			default:
				q.arrive(now, f.n)
				for range f.n {
					arrivals = append(arrivals, f.at)
				}
			}
			return true
		})
		if len(flying) == 0 && random.IntN(200) == 0 { // another keeper
			slots := slices.Clone(written)
			q = quota{perMinute: perMinute}
			q.inherit(slots, late, now)
		}
		if n, _ := q.free(now, 1+random.IntN(perMinute), 0); n > 0 {
			written = append(written, q.slot(now, n))
			q.claim(n)
			claimed += n
			f := flight{n: n}
			if random.IntN(10) > 0 {
				f.at = now.Add(time.Duration(random.Int64N(int64(late))))
			}
			flying = append(flying, f)
		}
	}
	slices.SortFunc(arrivals, time.Time.Compare)
	for i := perMinute; i < len(arrivals); i++ {
		if span := arrivals[i].Sub(arrivals[i-perMinute]); span < minute {
			t.Fatalf("seed %d: %d arrived within %v", seed, perMinute+1, span)
		}
	}
	if least := 20_000 * 150 / 60_000 * perMinute * 7 / 10; len(arrivals) < least {
		t.Errorf("%d of %d arrived, want %d at least", len(arrivals), claimed, least)
	}
}

// A slot keeps the width that it was noted with, whatever the limits become.
func TestQuotaSlotsKeepTheirWidth(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 15, 7, 40, 30, 0, time.UTC)
	q := quota{perDay: 100}
	q.pass(now, 4) // in a slot of a minute
	q.perMinute = 5
	q.pass(now.Add(time.Second), 1) // in one of a second
	if n, wait := q.free(now.Add(31*time.Second), 9, 0); n != 0 || wait != time.Minute-time.Second {
		t.Errorf("%d are free after %v; those of the slot of a minute may have gone at its end", n, wait)
	}
	k, g := alone(t, 10, 5)
	at := k.d.Now()
	for width, n := range map[time.Duration]int{time.Minute: 3, time.Second: 2} {
		if err := k.d.Store.NoteWent(t.Context(), g.ID, store.Slot{Slot: at.Truncate(time.Minute).Add(width - time.Minute), N: n, Width: width}); err != nil {
			t.Fatal(err)
		}
	}
	slots, err := k.d.Store.Went(t.Context(), g.ID, at.Add(-time.Hour))
	if err != nil || len(slots) != 2 || slots[0].Width != time.Second || slots[1].Width != time.Minute {
		t.Errorf("%+v, %v", slots, err)
	}
}

func alone(t *testing.T, perSecond, inFlight int) (*keeper, *roster.Gateway) {
	t.Helper()
	d := desk(t)
	g := rostertest.Gateway(
		t,
		d.Roster,
		strings.Replace(lister, "most: 10", "most: 1", 1),
		roster.Settings{PerSecond: &perSecond, InFlight: &inFlight},
	)
	return newKeeper(d, g), g
}

// A gateway that keeps failing rests, is probed with one message, and is used
// fully again once that succeeds.
func TestGatewayRestsAndIsProbed(t *testing.T) {
	t.Parallel()
	k, g := alone(t, 100, 8)
	fault := lesson{cause: delivery.GatewayFault}
	for range faultsBeforeRest - 1 {
		k.learn(fault)
	}
	if n, _ := k.free(g); n.requests != 8 {
		t.Errorf("after a few faults %d may go, want 8", n.requests)
	}
	h, changed := k.learn(fault)
	if n, wait := k.free(g); n.requests != 0 || wait <= 0 || wait > time.Second || !changed || h.RestSince == nil ||
		h.RestCause != delivery.GatewayFault {
		t.Errorf("it rests, and %d may go after %v: %+v", n.requests, wait, h)
	}
	k.restUntil = time.Now().Add(-time.Millisecond) // the rest is over
	if n, _ := k.free(g); n.requests != 1 {
		t.Errorf("it is probed with %d", n.requests)
	}
	k.busy.Add(1)
	if n, _ := k.free(g); n.requests != 0 {
		t.Errorf("while the probe is out %d more may go", n.requests)
	}
	k.busy.Add(-1)
	k.learn(fault)
	if rest := time.Until(k.restUntil); rest <= time.Second {
		t.Errorf("after a failed probe it rests for %v, want longer than before", rest)
	}
	k.restUntil = time.Now().Add(-time.Millisecond)
	h, changed = k.learn(lesson{})
	if n, _ := k.free(g); n.requests != 8 || !changed || h.RestSince != nil {
		t.Errorf("after a good probe %d may go, want 8: %+v", n.requests, h)
	}
	if h, changed = k.learn(lesson{cause: delivery.NoCredit}); !changed || h.RestCause != delivery.NoCredit ||
		time.Until(k.restUntil) < 4*time.Second {
		t.Errorf("without credit: %+v", h)
	}
}

// One message at which a gateway fails, again and again, does not make it rest for
// all others; several do, and so does a gateway that cannot be reached.
func TestOneMessageMakesNoGatewayRest(t *testing.T) {
	t.Parallel()
	k, g := alone(t, 100, 8)
	failing := func(n int) lesson {
		at := make([]store.Message, n)
		for i := range at {
			at[i].ID = uuid.Must(uuid.NewV7())
		}
		return lesson{cause: delivery.GatewayFault, at: at}
	}
	one, pack := failing(1), failing(3)
	for range 4 * faultsBeforeRest {
		for _, l := range []lesson{one, pack} {
			if h, changed := k.learn(l); changed {
				t.Fatalf("it rests for a message or two: %+v", h)
			}
		}
	}
	if n, _ := k.free(g); n.requests != 8 {
		t.Errorf("%d may go, want 8", n.requests)
	}
	for range faultsBeforeRest - 3 {
		k.learn(failing(1))
	}
	if _, changed := k.learn(failing(2)); !changed {
		t.Errorf("it does not rest though it failed at %d different ones in a row", faultsBeforeRest)
	}
	k.learn(lesson{}) // it works
	for range 4 * faultsBeforeRest {
		if _, changed := k.learn(one); changed {
			t.Error("what it failed at before it worked counts")
		}
	}
	for range faultsBeforeRest - 1 {
		k.learn(lesson{cause: delivery.GatewayFault})
	}
	if n, _ := k.free(g); n.requests != 0 {
		t.Errorf("it cannot be reached, and %d may go", n.requests)
	}
}

func TestRateReplySlowsDown(t *testing.T) {
	t.Parallel()
	k, g := alone(t, 100, 200)
	asked := 400 * time.Millisecond
	if _, changed := k.learn(lesson{cause: delivery.Limited, wait: &asked}); changed {
		t.Error("a short wait is told to everybody")
	}
	if n, wait := k.free(g); n.requests != 0 || wait > asked {
		t.Errorf("asked to wait %v, %d may go after %v", asked, n.requests, wait)
	}
	k.restUntil = time.Time{}
	if n, _ := k.free(g); n.requests < 50 || n.requests > 60 {
		t.Errorf("asked to go slower, %d of 100 a second may go", n.requests)
	}
	k.ease = pace.Ease{}
	if n, _ := k.free(g); n.requests != 100 {
		t.Errorf("at full pace %d may go", n.requests)
	}
}

func TestKeeperHoldsOnlyWhileTheLeaseSurelyLasts(t *testing.T) {
	t.Parallel()
	k, _ := alone(t, 1, 1)
	k.d.Lease = time.Hour
	if k.holds() {
		t.Error("it holds a lease that it never took")
	}
	k.until.Store(int64(time.Since(k.began) + time.Hour))
	if !k.holds() {
		t.Error("it does not hold a lease of an hour")
	}
	k.until.Store(int64(time.Since(k.began)))
	if k.holds() {
		t.Error("it holds a lease that is over")
	}
}

// What is known not to have been taken goes through the next gateway of its
// route; what may have been taken stays.
func TestElsewhere(t *testing.T) {
	t.Parallel()
	d := desk(t)
	first := rostertest.Gateway(t, d.Roster, lister, roster.Settings{}) // nobody answers there
	second := rostertest.Gateway(t, d.Roster, strings.Replace(lister, "dialect: lister", "dialect: second", 1), roster.Settings{})
	routes := []route.Route{{Name: "all", Gateways: []route.Leg{{Gateway: "lister"}, {Gateway: "second"}}}}
	if err := d.Roster.PutRoutes(t.Context(), routes, "test", d.Now()); err != nil {
		t.Fatal(err)
	}
	if _, err := d.Roster.PutSender(t.Context(), store.Sender{ID: "Lanternholm"}, false, d.Now()); err != nil {
		t.Fatal(err)
	}
	for name, tt := range map[string]struct {
		doubted bool
		kind    pace.Kind
		want    *roster.Gateway
	}{
		"known not to have been taken": {false, "bulk", second},
		"in doubt before":              {true, "bulk", first},
		"a passcode in doubt before":   {true, "otp", second},
	} {
		m := message("+447700900123", "x")
		m.GatewayID, m.Route, m.Kind, m.Lane, m.State = first.ID, "all", tt.kind, pace.Kind(tt.kind).Lane(), delivery.Queued
		now := d.Now()
		m.DueAt, m.CreatedAt, m.ChangedAt = now, now, now
		if _, err := d.Store.Accept(t.Context(), []store.Acceptance{{Message: m}}); err != nil {
			t.Fatal(err)
		}
		if tt.doubted {
			doubt := []store.Evidence{course.Own(m, now, delivery.Doubtful, 1, ""), course.Own(m, now, delivery.Queued, 1, "goes again")}
			if _, err := d.Course.Record(t.Context(), d.Store, doubt, nil); err != nil {
				t.Fatal(err)
			}
			m.Attempts = 1
		}
		r, l := goes(t, d, first, m)
		if l.cause != delivery.GatewayFault {
			t.Errorf("%s: nobody answers, and it teaches %q", name, l.cause)
		}
		if _, err := d.record(t.Context(), []result{r}); err != nil {
			t.Fatal(err)
		}
		after, err := d.Store.Message(t.Context(), m.ID)
		if err != nil || after.State != delivery.Queued || after.GatewayID != tt.want.ID {
			t.Errorf("%s: %s through %v, want %s; %v", name, after.State, after.GatewayID, tt.want.Name, err)
		}
	}
}

// An outcome that the database will not have leaves its messages in doubt, and
// not in flight for ever; the outcomes beside it are recorded.
func TestOutcomeThatCannotBeKeptIsDoubt(t *testing.T) {
	t.Parallel()
	d := desk(t)
	g := rostertest.Gateway(t, d.Roster, lister, roster.Settings{})
	d.results = gather.New(resultLimits, bulk, d.record)
	ctx, stop := context.WithCancel(context.Background())
	var recording sync.WaitGroup
	recording.Go(func() { d.results.Run(ctx) })
	defer recording.Wait()
	defer stop()
	var settling sync.WaitGroup
	var all []store.Message
	for i := range 20 {
		m := message(fmt.Sprintf("+4477009001%02d", i), "x")
		now := d.Now()
		m.GatewayID, m.State, m.DueAt, m.CreatedAt, m.ChangedAt = g.ID, delivery.Queued, now, now, now
		if _, err := d.Store.Accept(t.Context(), []store.Acceptance{{Message: m}}); err != nil {
			t.Fatal(err)
		}
		begun := []store.Evidence{course.Own(m, now, delivery.Sending, 1, "")}
		if _, err := d.Course.Record(t.Context(), d.Store, begun, nil); err != nil {
			t.Fatal(err)
		}
		all = append(all, m)
		e := course.Own(m, now, delivery.Accepted, 1, "")
		e.Source = delivery.Reply
		if i == 7 {
			e.Note = "a character that PostgreSQL keeps none of: \x00"
		}
		settling.Go(func() { d.settle(result{evidence: []store.Evidence{e}, steps: course.Steps{}}) })
	}
	settling.Wait()
	for i, m := range all {
		want := delivery.Accepted
		if i == 7 {
			want = delivery.Doubtful
		}
		if got, err := d.Store.Message(t.Context(), m.ID); err != nil || got.State != want {
			t.Errorf("message %d is %s, %v; want %s", i, got.State, err, want)
		}
	}
}

// However much bulk flows, a passcode finds a request, a place in the second and
// one in the quota; and where no passcodes go, nothing is kept for them.
func TestRoomIsKeptForPasscodes(t *testing.T) {
	t.Parallel()
	k, g := alone(t, 100, 4)
	if n, _ := k.free(g); n.kept != 0 {
		t.Errorf("before any passcode %d requests are kept", n.kept)
	}
	k.codes = time.Now()
	sent, codes := 0, 0
	start := time.Now()
	for time.Since(start) < 1500*time.Millisecond {
		n, _ := k.free(g)
		if n.others > 0 {
			k.promise(n.others)
			if !k.takes(n.others) {
				t.Fatal("what may go does not fit into the window")
			}
			sent += n.others
		}
		if n.messages > 0 && n.others == 0 {
			codes++
		}
		time.Sleep(time.Millisecond)
	}
	if sent < 110 || sent > 150 {
		t.Errorf("%d others went in 1.5 s at 100 a second", sent)
	}
	if codes < 100 {
		t.Errorf("only %d times there was room for a passcode alone", codes)
	}
	k.busy.Store(3)
	if n, _ := k.free(g); n.others != 0 || n.requests != 1 {
		t.Errorf("with one request left %d others may go: %+v", n.others, n)
	}
	k.busy.Store(0)
	k.quota.perDay = 100
	k.quota.pass(k.d.Now(), 98)
	if n, _ := k.free(g); n.others != 0 || n.messages != 2 {
		t.Errorf("of the last two of the day others may have %d: %+v", n.others, n)
	}
}

// takes puts n into the window as soon as they fit, if that is about now.
func (k *keeper) takes(n int) bool {
	if k.window.Free(time.Now().Add(ahead), n) < n {
		return false
	}
	k.until.Store(int64(time.Since(k.began) + time.Hour))
	arrived, not := k.leave(n)
	if not == "" {
		arrived()
	}
	return not == ""
}

// What may move behind a thousand messages that may not is found as well.
func TestRerouteLooksAtAllThatWait(t *testing.T) {
	t.Parallel()
	d := desk(t)
	first := rostertest.Gateway(t, d.Roster, lister, roster.Settings{})
	second := rostertest.Gateway(t, d.Roster, strings.Replace(lister, "dialect: lister", "dialect: second", 1), roster.Settings{})
	now := d.Now()
	all := []route.Route{{Name: "all", Gateways: []route.Leg{{Gateway: "lister"}, {Gateway: "second"}}}}
	if err := d.Roster.PutRoutes(t.Context(), all, "test", now); err != nil {
		t.Fatal(err)
	}
	if _, err := d.Roster.PutSender(t.Context(), store.Sender{ID: "Lanternholm"}, false, now); err != nil {
		t.Fatal(err)
	}
	var set []store.Acceptance
	var last store.Message
	for i := range 2500 {
		m := message("+447700900123", "x")
		m.GatewayID, m.State, m.DueAt, m.CreatedAt, m.ChangedAt = first.ID, delivery.Queued, now.Add(time.Duration(i)), now, now
		if i == 2499 {
			m.Route = "all"
		}
		set, last = append(set, store.Acceptance{Message: m}), m
	}
	if _, err := d.Store.Accept(t.Context(), set); err != nil {
		t.Fatal(err)
	}
	if _, err := d.Roster.PauseGateway(t.Context(), first, "somebody", "", now); err != nil {
		t.Fatal(err)
	}
	k := newKeeper(d, first)
	k.elsewhere(t.Context(), d.Roster.ByID(first.ID))
	if m, err := d.Store.Message(t.Context(), last.ID); err != nil || m.GatewayID != second.ID {
		t.Errorf("it waits for %v, %v", m.GatewayID, err)
	}
}

// Status queries keep to the pace of the gateway, and to a tenth of it while more
// waits to be sent than may go; while it rests there are none.
func TestQueriesKeepToThePace(t *testing.T) {
	t.Parallel()
	k, g := alone(t, 50, 8)
	k.d.kept = map[uuid.UUID]*keeper{g.ID: k}
	k.d.Lease = time.Hour
	if k.d.Keeps(g.ID) {
		t.Error("who holds no lease keeps it")
	}
	k.until.Store(int64(time.Since(k.began) + time.Hour))
	asked := func(span time.Duration) (n int) {
		ctx, cancel := context.WithTimeout(t.Context(), span)
		defer cancel()
		for {
			told, ok := k.d.LeaveQuery(ctx, g.ID)
			if !ok {
				return n
			}
			n++
			told("", 0)
		}
	}
	if n := asked(900 * time.Millisecond); n > 50 || n < 40 {
		t.Errorf("%d queries in 0.9 s at 50 a second", n)
	}
	time.Sleep(span)
	k.hungry.Store(true)
	if n := asked(900 * time.Millisecond); n < 3 || n > 8 {
		t.Errorf("beside what waits to be sent %d queries in 0.9 s at 50 a second", n)
	}
	told, ok := k.d.LeaveQuery(t.Context(), g.ID)
	if !ok {
		t.Fatal("none may go")
	}
	told(delivery.Limited, 20*time.Second)
	if _, ok := k.d.LeaveQuery(t.Context(), g.ID); ok {
		t.Error("a query goes to a gateway that has asked for a rest")
	}
}

// What has to be fetched is fetched before anything is claimed, and the look at
// the lease comes last: who has lost it meanwhile lets nothing go.
func TestTokenComesFirstAndTheLeaseLast(t *testing.T) {
	t.Parallel()
	asked, grant := make(chan struct{}, 1), make(chan struct{})
	var arrived atomic.Int32
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		io.Copy(io.Discard, r.Body)
		w.Header().Set("Content-Type", "application/json")
		if r.URL.Path != "/token" {
			arrived.Add(1)
			return
		}
		asked <- struct{}{}
		<-grant
		fmt.Fprint(w, `{"access_token":"t","expires_in":3600}`)
	}))
	t.Cleanup(server.Close)
	d := desk(t)
	g := rostertest.Gateway(t, d.Roster, `dialect: tokened
secrets: [api_key]
token:
  request: {post: /token, form: '{grant_type: "client_credentials"}'}
  reply: [{when: .status == 200, token: '{token: .body.access_token, expires_in: .body.expires_in}'}]
submit: {request: {post: /s, bearer: token, json: '{to}'}, reply: [{when: .status == 200, read: '{state: "accepted"}'}]}
`, roster.Settings{Address: &server.URL, Secrets: map[string]string{"api_key": "k"}})
	d.holder, d.Lease = uuid.New(), time.Minute
	d.results = gather.New(resultLimits, bulk, d.record)
	ctx, stop := context.WithCancel(context.Background())
	var running sync.WaitGroup
	defer running.Wait()
	defer stop()
	running.Go(func() { d.results.Run(ctx) })
	k := newKeeper(d, g)
	if lease, err := k.takeLease(t.Context()); err != nil || !lease.Held {
		t.Fatalf("%+v, %v", lease, err)
	}
	m := message("+447700900123", "x")
	now := d.Now()
	m.GatewayID, m.State, m.DueAt, m.CreatedAt, m.ChangedAt = g.ID, delivery.Queued, now, now, now
	if _, err := d.Store.Accept(t.Context(), []store.Acceptance{{Message: m}}); err != nil {
		t.Fatal(err)
	}
	is := func() store.Message {
		t.Helper()
		got, err := d.Store.Message(t.Context(), m.ID)
		if err != nil {
			t.Fatal(err)
		}
		return got
	}
	type claim struct {
		claimed
		pass passport
		err  error
	}
	came := make(chan claim)
	running.Go(func() {
		var c claim
		c.claimed, c.pass, _, c.err = k.claimNext(t.Context(), g, false)
		came <- c
	})
	<-asked
	if got := is(); got.State != delivery.Queued {
		t.Errorf("while the token is fetched it is %s", got.State)
	}
	close(grant)
	c := <-came
	if c.err != nil || len(c.packs) != 1 || is().State != delivery.Sending {
		t.Fatalf("claimed %+v, %v", c.packs, c.err)
	}
	k.until.Store(0) // the lease is lost
	k.promise(1)
	k.send(g, c.packs[0], c.pass)
	if got := is(); got.State != delivery.Queued || arrived.Load() != 0 {
		t.Errorf("it is %s, and %d requests arrived", got.State, arrived.Load())
	}
	if k.booths != 0 || k.busy.Load() != 0 {
		t.Errorf("%d places are promised, %d requests in flight", k.booths, k.busy.Load())
	}
}

// A keeper goes on in its queue where it was, comes back to what could not go,
// and from time to time begins with the first again, so that nothing is
// overlooked.
func TestKeeperGoesOnWhereItWas(t *testing.T) {
	t.Parallel()
	k, g := alone(t, 10_000, 200)
	k.d.holder, k.d.Lease = uuid.New(), time.Minute
	if lease, err := k.takeLease(t.Context()); err != nil || !lease.Held {
		t.Fatalf("%+v, %v", lease, err)
	}
	start := k.d.Now().Add(-time.Hour)
	wait := func(n int, from time.Duration, kind pace.Kind) {
		t.Helper()
		var set []store.Acceptance
		for i := range n {
			m := message(fmt.Sprintf("+4477009%05d", i), "x")
			due := start.Add(from + time.Duration(i)*time.Second)
			m.Kind, m.Lane = kind, kind.Lane()
			m.GatewayID, m.State, m.DueAt, m.CreatedAt, m.ChangedAt = g.ID, delivery.Queued, due, due, due
			set = append(set, store.Acceptance{Message: m})
		}
		if _, err := k.d.Store.Accept(t.Context(), set); err != nil {
			t.Fatal(err)
		}
	}
	claim := func(n int) int {
		t.Helper()
		c, err := k.claim(t.Context(), g, leave{requests: n, messages: n, others: n}, false, &k.heads)
		if err != nil {
			t.Fatal(err)
		}
		return len(c.packs)
	}
	bulk, text := pace.Bulk.Lane(), pace.Transactional.Lane()
	wait(20, time.Minute, pace.Bulk)
	if n := claim(12); n != 12 || !k.heads.due[bulk].Equal(start.Add(time.Minute+11*time.Second)) {
		t.Errorf("%d went, and it is at %v", n, k.heads.due[bulk].Sub(start))
	}
	// What comes in far ahead of where it is waits until it begins anew; what is
	// more urgent does not.
	wait(3, 0, pace.Bulk)
	wait(2, 0, pace.Transactional)
	if n := claim(100); n != 8+2 || !k.heads.due[text].Equal(start.Add(time.Second)) {
		t.Errorf("%d went, want the eight that were left and two texts", n)
	}
	k.heads.wholly = time.Now().Add(-wholly)
	if n := claim(100); n != 3 {
		t.Errorf("%d went from the first on, want 3", n)
	}
	if n := claim(100); n != 0 || k.heads.due[bulk].IsZero() {
		t.Errorf("%d went, and nothing was left", n)
	}
}

type lines struct {
	Rows
	ready, queued int
}

func (l *lines) Ready(uuid.UUID) (int, int) { return l.ready, l.queued }

// Batches whose rows are drawn and those in the queue have as many turns as each other, and
// passcodes are not kept from theirs.
func TestTurnsOfBatches(t *testing.T) {
	t.Parallel()
	for _, tt := range []struct{ ready, queued, queues int }{{0, 5, 60}, {1, 0, 30}, {1, 1, 30}, {2, 1, 20}, {2, 4, 40}} {
		k := &keeper{d: &Dispatch{Rows: &lines{ready: tt.ready, queued: tt.queued}}}
		queues := 0
		drawn := map[int]int{}
		for range 60 {
			switch now := k.rows(&heads{}); {
			case now.queue:
				queues++
			default:
				drawn[now.turn%tt.ready]++
			}
		}
		if queues != tt.queues {
			t.Errorf("%d are drawn, %d in the queue: of 60 turns the queue has %d, want %d", tt.ready, tt.queued, queues, tt.queues)
		}
		for _, n := range drawn {
			if want := (60 - tt.queues) / tt.ready; n != want {
				t.Errorf("%d are drawn, %d in the queue: one has %d turns, want %d", tt.ready, tt.queued, n, want)
			}
		}
		if !k.rows(nil).queue {
			t.Error("who claims passcodes alone draws rows")
		}
	}
}

// What is of no use any more by the time its request is made does not go, and what is of use for less than a second is
// told to be of use for one.
func TestWhatIsTooLateDoesNotGo(t *testing.T) {
	t.Parallel()
	d := desk(t)
	now := d.Now()
	d.Now = func() time.Time { return now }
	asked := make(chan string, 2)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		asked <- string(body)
		w.Write([]byte(`[{"state":"accepted"}]`))
	}))
	defer server.Close()
	told := strings.Replace(lister, "{id, to,", "{id, valid_for, to,", 1)
	g := rostertest.Gateway(t, d.Roster, told, roster.Settings{Address: &server.URL})
	late, soon := message("+447700900100", "a"), message("+447700900101", "b")
	late.ValidUntil, soon.ValidUntil = now, now.Add(300*time.Millisecond)
	r, _ := goes(t, d, g, late, soon)
	if body := <-asked; strings.Contains(body, late.ID.String()) || !strings.Contains(body, `"valid_for":1`) {
		t.Errorf("the gateway is asked %s", body)
	}
	if len(r.evidence) != 2 || r.evidence[0].MessageID != late.ID || r.evidence[0].Claim != delivery.Queued ||
		r.steps[late.ID].Wait == nil || r.evidence[1].Claim != delivery.Accepted {
		t.Errorf("%+v", r.evidence)
	}
	if _, _ = goes(t, d, g, late); len(asked) > 0 {
		t.Errorf("alone it went: %s", <-asked)
	}
}
