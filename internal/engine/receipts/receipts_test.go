package receipts

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"calmpigeon.example/internal/core/vary"

	"github.com/jackc/pgx/v5"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/intake"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/roster/rostertest"
	"calmpigeon.example/internal/engine/strays"
	"calmpigeon.example/internal/postgres/pgproxy"
	"calmpigeon.example/internal/postgres/pgtest"
	"calmpigeon.example/internal/store"
)

func TestMain(m *testing.M) { pgtest.Main(m, store.Migrate) }

const pushing = `dialect: pushing
secrets: [pin]
submit: {request: {post: /s, json: '{to}'}, reply: [{when: .status == 200, read: '{state: "accepted"}'}]}
receipt:
  read: >-
    (.body | if type == "object" then . else {} end) as $b
    | {gateway_ref: (.query.id // $b.id), state: "delivered", at: $b.at,
        part: $b.part, parts: $b.parts, segments: $b.segments, code: $b.code, to: $b.to}
    + if $b.state then {state: $b.state} else {} end
inbound:
  when: (.body | type) == "object" and .body.back != null
  read: ".body.back | {from, to, text, id}"
`

// quiet is how long strays wait in tests before they are judged.
const quiet = 100 * time.Millisecond

// quay is a gateway that pushes receipts, and where they are taken in.
type quay struct {
	*Receipts
	t   testing.TB
	url string // of the database
	s   *store.Store
	g   *roster.Gateway
}

func harbour(t testing.TB) *quay {
	t.Helper()
	url := pgtest.Database(t)
	return harbourThrough(t, url, url)
}

// harbourThrough is one that reaches the database at url through another address.
func harbourThrough(t testing.TB, url, through string) *quay {
	t.Helper()
	q := &quay{t: t, url: url}
	gateways, s := rostertest.On(t, through)
	q.s, q.g = s, rostertest.Gateway(t, gateways, pushing, roster.Settings{Secrets: map[string]string{"pin": "200617"}})
	k := rostertest.Kit(gateways, s)
	c := &course.Course{Kit: k}
	q.Receipts = New(k, c, intake.New(k, intake.Usual), strays.New(k, c, &strays.Clocks{Store: s}, quiet))
	ctx, stop := context.WithCancel(context.Background())
	var running sync.WaitGroup
	running.Go(func() { q.Run(ctx) })
	running.Go(func() { q.Strays.Run(ctx) })
	running.Go(func() { // as the engine does
		for tick := time.NewTicker(50 * time.Millisecond); ctx.Err() == nil; {
			if sight, err := s.Look(ctx, now(), now().Add(-Leftover)); err == nil {
				q.Wake(sight.Unread, sight.Strays)
				q.Strays.Wake(sight.ToJudge)
			}
			select {
			case <-ctx.Done():
			case <-tick.C:
			}
		}
	})
	t.Cleanup(func() {
		stop()
		running.Wait()
	})
	return q
}

func now() time.Time { return time.Now().UTC().Truncate(time.Microsecond) }

// sent is a message that was handed to the gateway; with a ref, which it took
// under that.
func (q *quay) sent(ref string) store.Message { return q.sentTo("+447700900123", ref) }

// sentTo is the same of one to a number.
func (q *quay) sentTo(number, ref string) store.Message {
	q.t.Helper()
	m := rostertest.Message(q.g, now())
	m.To = phone.Stored(number)
	if _, err := q.s.Accept(q.t.Context(), []store.Acceptance{{Message: m}}); err != nil {
		q.t.Fatal(err)
	}
	q.say(m, delivery.Own, delivery.Sending, "")
	if ref != "" {
		q.say(m, delivery.Reply, delivery.Accepted, ref)
	}
	return m
}

func (q *quay) say(m store.Message, source delivery.Source, claim delivery.State, ref string) {
	q.t.Helper()
	e := course.Own(m, now(), claim, 1, "")
	e.Source, e.GatewayRef = source, ref
	if _, err := q.Course.Record(q.t.Context(), q.s, []store.Evidence{e}, nil); err != nil {
		q.t.Fatal(err)
	}
}

func (q *quay) push(query, body string) error { return q.pushAs("application/json", query, body) }

func (q *quay) pushAs(kind, query, body string) error {
	g, err := q.Of(q.g.Name, q.g.Callback)
	if err != nil {
		return err
	}
	_, err = q.Take(q.t.Context(), g, dialect.Incoming{Method: "POST", Query: query, Header: map[string]string{"content-type": kind},
		Body: []byte(body)})
	return err
}

// becomes waits until a message is in a state.
func (q *quay) becomes(m store.Message, want delivery.State) store.Message {
	q.t.Helper()
	return q.until(m, string(want), func(got store.Message) bool { return got.State == want })
}

// until waits until something holds of a message.
func (q *quay) until(m store.Message, what string, holds func(store.Message) bool) store.Message {
	q.t.Helper()
	deadline := time.Now().Add(20 * time.Second)
	for {
		got, err := q.s.Message(q.t.Context(), m.ID)
		if err != nil {
			q.t.Fatal(err)
		}
		if holds(got) {
			return got
		}
		if time.Now().After(deadline) {
			q.t.Fatalf("it is %s, %+v, and never became %s", got.State, got.Known(), what)
		}
		time.Sleep(10 * time.Millisecond)
	}
}

// Whatever number or time stands in a receipt, it is settled, and so is the next.
func TestStrangeValuesAreSettled(t *testing.T) {
	t.Parallel()
	q := harbour(t)
	for i, values := range []string{
		`"at": 1763192400123456`, `"at": 1763192400123456789`, `"at": -9e300`, `"at": "0001-01-01T00:00:00Z"`, `"at": 99999999999999999999999999`,
		`"part": 2147483648, "parts": 4294967296`, `"part": -7, "parts": -9223372036854775808`, `"segments": 1e30`,
		`"segments": ` + strings.Repeat("9", 1<<19), `"code": ` + strings.Repeat("7", 1<<19), `"code": "\u0000\ud800"`,
	} {
		ref := fmt.Sprintf("g-%d", i)
		m := q.sent(ref)
		if err := q.push("", fmt.Sprintf(`{"id": %q, %s}`, ref, values)); err != nil {
			t.Fatalf("%.60s: %v", values, err)
		}
		t.Logf("%.40s", values)
		if got := q.becomes(m, delivery.Delivered); got.ID != m.ID {
			t.Errorf("%.60s", values)
		}
	}
}

// What the database will not have is marked with the reason, kept, and holds
// nothing up.
func TestCulpritStandsAlone(t *testing.T) {
	t.Parallel()
	q := harbour(t)
	db, err := pgx.Connect(t.Context(), q.url)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(context.Background())
	if _, err := db.Exec(t.Context(), `CREATE FUNCTION refuse() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
			IF NEW.code = 'POISON' THEN RAISE EXCEPTION 'no such code' USING ERRCODE = '22023'; END IF; RETURN NEW; END $$;
		CREATE TRIGGER refuse BEFORE INSERT ON evidence FOR EACH ROW EXECUTE FUNCTION refuse()`); err != nil {
		t.Fatal(err)
	}
	var all []store.Message
	var pushing sync.WaitGroup
	for i := range 60 {
		ref := fmt.Sprintf("g-%d", i)
		all = append(all, q.sent(ref))
	}
	for i := range all {
		code := "fine"
		if i == 41 {
			code = "POISON"
		}
		pushing.Go(func() {
			if err := q.push("", fmt.Sprintf(`{"id": "g-%d", "code": %q}`, i, code)); err != nil {
				t.Errorf("receipt %d is answered %v", i, err)
			}
		})
	}
	pushing.Wait()
	for i, m := range all {
		if i != 41 {
			q.becomes(m, delivery.Delivered)
		}
	}
	var problems []string
	rows, err := db.Query(t.Context(), "SELECT problem FROM receipts WHERE problem <> ''")
	if err == nil {
		problems, err = pgx.CollectRows(rows, pgx.RowTo[string])
	}
	if err != nil || len(problems) != 1 || !strings.Contains(problems[0], "no such code") {
		t.Errorf("problems %q, %v", problems, err)
	}
	if left, err := q.s.Look(t.Context(), now(), now().Add(time.Hour)); err != nil || len(left.Unread) > 0 {
		t.Errorf("still to be read: %v, %v", left.Unread, err)
	}
}

// A secret's value that stands in what is pushed, by chance or not, is read as it
// came, and masked where it is kept; so is what proves a callback. A gateway's own
// words that repeat a secret are masked, too.
func TestSecretsAreMaskedWhereKeptAndNotWhereRead(t *testing.T) {
	t.Parallel()
	for name, unread := range map[string]bool{"read at once": false, "read later": true} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			q := harbour(t)
			in := dialect.Incoming{
				Method: "POST",
				Header: map[string]string{"content-type": "application/json", "authorization": "Basic cXVheTpwdw==",
					"x-note": "of 200617"},
				Body: []byte(`{"id":"g-2006179-5","code":"wrong pin 200617"}`),
			}
			if unread { // it is heavy
				in.Body = append(in.Body[:len(in.Body)-1], []byte(`,"more":"`+strings.Repeat("x", heavy)+`"}`)...)
			}
			m := q.sent("g-2006179-5")
			if _, err := q.Take(t.Context(), q.g, in); err != nil {
				t.Fatal(err)
			}
			q.becomes(m, delivery.Delivered)
			timeline, err := q.s.Timeline(t.Context(), m.ID)
			if err != nil {
				t.Fatal(err)
			}
			if last := timeline[len(timeline)-1]; last.Code != "wrong pin ‹pin›" || strings.Contains(last.Note, "200617") {
				t.Errorf("its words: %q, %q", last.Code, last.Note)
			}
			_, kept, err := q.s.Exchanges(t.Context(), timeline)
			if err != nil || len(kept) != 1 {
				t.Fatalf("%v, %v", kept, err)
			}
			for _, r := range kept {
				if r.Header["authorization"] != "‹proof›" || r.Header["x-note"] != "of ‹pin›" ||
					!strings.HasPrefix(string(r.Body), `{"id":"g-‹pin›9-5","code":"wrong pin ‹pin›"`) {
					t.Errorf("kept as %v, %.80s", r.Header, r.Body)
				}
			}
		})
	}
}

// What is forged keeps none of what was to prove it.
func TestForgedProofIsMasked(t *testing.T) {
	t.Parallel()
	q := harbour(t)
	source := strings.Replace(pushing, "  read: >-", "  genuine: {hmac_sha256: pin, header: X-Signature}\n  read: >-", 1)
	g, err := q.Roster.ChangeGateway(t.Context(), q.g, roster.Settings{Source: &source, Secrets: map[string]string{"pin": "200617"}})
	if err != nil {
		t.Fatal(err)
	}
	in := dialect.Incoming{
		Method: "POST",
		Query:  "pin=200617",
		Header: map[string]string{"x-signature": "abcdef", "content-type": "application/json"},
	}
	if _, err := q.Take(t.Context(), g, in); !errors.Is(err, ErrForged) {
		t.Fatalf("it is taken: %v", err)
	}
	db, err := pgx.Connect(t.Context(), q.url)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(context.Background())
	var header, query string
	if err := db.QueryRow(t.Context(), "SELECT header::text, query FROM receipts").Scan(&header, &query); err != nil ||
		strings.Contains(header, "abcdef") || query != "pin=‹pin›" {
		t.Errorf("kept as %s, %s, %v", header, query, err)
	}
}

// A receipt that comes before the reply finds its message as soon as that is
// known, whether at once or much later; until then it is kept.
func TestReceiptBeforeTheReply(t *testing.T) {
	t.Parallel()
	for name, wait := range map[string]time.Duration{"a moment": 50 * time.Millisecond, "longer": hasty + 300*time.Millisecond} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			q := harbour(t)
			m := q.sent("")
			if err := q.push("id=early", ""); err != nil {
				t.Fatal(err)
			}
			time.Sleep(wait) // the reply is on its way
			q.say(m, delivery.Reply, delivery.Accepted, "early")
			q.becomes(m, delivery.Delivered)
		})
	}
}

// What whoever took it could not read is read by whoever comes next.
func TestLeftoverIsRead(t *testing.T) {
	t.Parallel()
	q := harbour(t)
	m := q.sent("g-left")
	id := store.Floor(now().Add(-time.Minute))
	id[15] = 1
	if err := q.s.StoreReceipts(t.Context(), []store.Receipt{{ID: id, GatewayID: q.g.ID, ReceivedAt: now(), Method: "GET",
		Query: "id=‹pin›", Came: &store.Came{Query: "id=g-left"}, Genuine: true, Unread: true}}); err != nil {
		t.Fatal(err)
	}
	q.becomes(m, delivery.Delivered)
}

// The same said ten thousand times is counted, and is not evidence ten thousand
// times.
func TestRepeatsAreCounted(t *testing.T) {
	t.Parallel()
	q := harbour(t)
	m := q.sent("g-again")
	const times = 2000
	var pushing sync.WaitGroup
	for range 20 {
		pushing.Go(func() {
			for range times / 20 {
				if err := q.push("id=g-again", ""); err != nil {
					t.Error(err)
				}
			}
		})
	}
	pushing.Wait()
	got := q.becomes(m, delivery.Delivered)
	timeline, err := q.s.Timeline(t.Context(), m.ID)
	if err != nil || len(timeline) > 5 || got.Repeats != times-1 {
		t.Errorf("%d pieces of evidence, %d repeats, %v", len(timeline), got.Repeats, err)
	}
}

// Whatever is pushed is kept, is read or marked, and holds up nothing behind it.
// A person who asks not to be written to and changes their mind is written to: their replies keep their
// order, also while the database is slow to take the first and many others write.
func TestWishesKeepTheirOrder(t *testing.T) {
	t.Parallel()
	url := pgtest.Database(t)
	proxy, err := pgproxy.Start(url)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(proxy.Close)
	q := harbourThrough(t, url, proxy.URL)
	held := proxy.Inject(pgproxy.Fault{At: "INSERT INTO opt_outs", Do: pgproxy.HoldBack, Delay: time.Second})
	var replies sync.WaitGroup
	reply := func(from, text string) {
		replies.Go(func() {
			back := fmt.Sprintf(`{"back": {"from": %q, "to": "447700900001", "text": %q, "id": %q}}`, from, text, from+text)
			if err := q.push("", back); err != nil {
				t.Error(err)
			}
		})
	}
	reply("+447700900123", "STOP")
	<-held.Hit
	for i := range 2 * settleMost {
		reply(fmt.Sprintf("+4477009%05d", 10000+i), "yes")
	}
	reply("+447700900123", "START")
	replies.Wait()
	if out, err := q.s.OptedOut(t.Context(), []string{"+447700900123"}); err != nil || len(out) > 0 {
		t.Errorf("%v, %v", out, err)
	}
}

// Two sets that speak of the same messages are written at once, and every receipt counts: none is lost, and
// none makes the server log an error.
func TestReceiptsOfTheSameMessagesAtOnce(t *testing.T) {
	t.Parallel()
	q := harbour(t)
	const messages, times = 60, 8
	sent := make([]store.Message, messages)
	for i := range sent {
		sent[i] = q.sent(fmt.Sprintf("r-%d", i))
	}
	var pushes sync.WaitGroup
	for n := range messages * times {
		i := n % messages
		if n/messages%2 == 1 { // the other way round
			i = messages - 1 - i
		}
		pushes.Go(func() {
			if err := q.push("", fmt.Sprintf(`{"id": "r-%d"}`, i)); err != nil {
				t.Error(err)
			}
		})
	}
	pushes.Wait()
	for _, m := range sent {
		q.until(m, "delivered, and told 7 times more", func(got store.Message) bool {
			return got.State == delivery.Delivered && got.Repeats == times-1
		})
	}
	if wrong := pgtest.Errors(t, q.url); len(wrong) > 0 {
		t.Errorf("the server logged %d errors: %s", len(wrong), wrong[0])
	}
}

func FuzzWhatIsReadIsKept(f *testing.F) {
	shared := harbour(f)
	var bodies, kinds []string
	for _, seed := range []struct{ query, kind, body string }{
		{"id=g-1", "", ""},
		{"id=%ff%00", "text/plain", "\xff\x00"},
		{"", "application/json", `{"id":"g-2","at":"2026-11-15T12:00:00Z","part":1,"parts":2,"segments":3,"code":"7"}`},
		{"", "application/json", `{"id":[1,2],"at":1e308,"part":"x","code":{"a":null}}`},
		{"", "application/json", `{"id":"\ud800","code":"\u0000","segments":-1}`},
		{"", "application/json", strings.Repeat(`{"id":`, 5000)},
		{"a=1&a=2;b", "application/x-www-form-urlencoded", "id=g-3&code=%zz"},
		{"", "application/xml", "<a><id>g-4</id>"},
	} {
		f.Add(seed.query, seed.kind, []byte(seed.body))
		bodies = append(bodies, seed.body)
		kinds = append(kinds, seed.kind)
	}
	at := 0
	vary.Of(f, 150, bodies, func(s string) {
		at++
		f.Add("id="+url.QueryEscape(s[:min(len(s), 50)]), kinds[at%len(kinds)], []byte(s))
	})
	n := 0
	f.Fuzz(func(t *testing.T, query, kind string, body []byte) {
		if len(query) > 64<<10 || len(kind) > 8<<10 || len(body) > 1<<20 {
			t.Skip("longer than what is taken from a request")
		}
		q := *shared
		q.t = t
		if err := q.pushAs(strings.ToValidUTF8(strings.ReplaceAll(kind, "\x00", ""), ""), query, string(body)); err != nil {
			t.Fatalf("it is answered %v", err)
		}
		n++
		ref := fmt.Sprintf("after-%d", n)
		m := q.sent(ref)
		if err := q.push("id="+ref, ""); err != nil {
			t.Fatalf("the next is answered %v", err)
		}
		q.becomes(m, delivery.Delivered)
	})
}
