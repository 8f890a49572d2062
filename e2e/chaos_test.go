package e2e

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/http"
	"os"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/fleet"
	"calmpigeon.example/internal/postgres"
	"calmpigeon.example/internal/postgres/pgproxy"
	"calmpigeon.example/internal/store"
)

// world is two instances, their database behind a proxy, and a fleet, while texts are sent.
type world struct {
	t      *testing.T
	random *rand.Rand
	server *postgres.Server
	folder string
	proxy  *pgproxy.Proxy
	houses []*house

	clients [2]atomic.Pointer[client.Client]
	paused  sync.RWMutex // is held to keep texts back

	mu   sync.Mutex
	sent map[string]client.Draft // by id
	gone map[string]bool         // accepted after the copy that was restored
}

// chaosGateways are the gateways of the run, and chaosLimit is how many texts a second each takes.
var chaosGateways = []string{"harbourline", "waxseal", "sandbank", "commonquay", "longshore"}

const chaosLimit = 12

// fault is something that fails, and how often it is drawn.
type fault struct {
	name  string
	share int
	do    func(*world)
	long  bool // it takes a quarter of an hour until all is settled
}

var faults = []fault{
	{"an instance is killed", 12, func(w *world) { h := w.one(); h.kill(); w.restart(h) }, false},
	{"an instance is stopped", 12, func(w *world) { h := w.one(); h.stop(os.Interrupt); w.restart(h) }, false},
	{"an instance is frozen", 14, func(w *world) {
		h := w.one()
		h.cmd.Process.Signal(syscall.SIGSTOP)
		w.rest(100, 4000)
		h.cmd.Process.Signal(syscall.SIGCONT)
	}, false},
	{"a COMMIT is cut off", 14, func(w *world) { w.cut(pgproxy.CutBefore) }, false},
	{"the answer to a COMMIT is lost", 14, func(w *world) { w.cut(pgproxy.LoseAnswer) }, false},
	{"the answer to a COMMIT is late", 6, func(w *world) { w.cut(pgproxy.HoldBack) }, false},
	{"the answer to a COMMIT never comes", 3, func(w *world) { w.cut(pgproxy.Swallow) }, false},
	{"all connections to the database break", 6, func(w *world) { w.proxy.Break() }, false},
	{"a gateway misbehaves", 10, func(w *world) {
		hows := []string{
			"500", "slow", "429", "cut before taking", "cut after taking", "reply never comes", "unreadable reply", "receipt twice",
		}
		if err := w.fleet().Misbehave(fleet.Mood{
			Gateway: chaosGateways[w.random.IntN(len(chaosGateways))], How: hows[w.random.IntN(len(hows))], Share: 0.5, For: "1s",
		}); err != nil {
			w.t.Error(err)
		}
	}, false},
	{"all processors are busy", 6, func(w *world) { w.burn(2 * time.Second) }, false},
	{"the database server stops", 3, func(w *world) { w.restartServer(false) }, false},
	{"the database server crashes", 3, func(w *world) { w.restartServer(true) }, false},
	{"the schema becomes newer", 2, func(w *world) { w.upgrade() }, false},
	{"a dump is restored", 2, func(w *world) { w.restore() }, true},
}

// Faults of every kind, one after the other, under load. At the end no accepted text is lost, none went
// twice, none is stuck, all counts are right, and no gateway got more in any second than it allows.
// FAULTS says how many; make chaos takes 1,000.
func TestFaultsOfEveryKind(t *testing.T) {
	t.Parallel()
	many := 8
	if n, err := strconv.Atoi(os.Getenv("FAULTS")); err == nil {
		many = n
	}
	seed := uint64(time.Now().UnixNano())
	if n, err := strconv.ParseUint(os.Getenv("SEED"), 10, 64); err == nil {
		seed = n
	}
	t.Logf("SEED=%d", seed)
	w := newWorld(t, seed)
	done := make(chan struct{})
	var loading sync.WaitGroup
	for s := range 4 {
		loading.Go(func() { w.load(done, seed, s) })
	}
	var drawn []fault
	for _, f := range faults {
		if f.long && many < 100 {
			continue
		}
		drawn = append(drawn, slices.Repeat([]fault{f}, f.share)...)
	}
	counts := map[string]int{}
	began := time.Now()
	for n := range many {
		w.rest(50, 500)
		f := drawn[w.random.IntN(len(drawn))]
		counts[f.name]++
		f.do(w)
		if t.Failed() {
			t.Fatalf("after fault %d: %s", n+1, f.name)
		}
		if n%100 == 99 {
			t.Logf("%d faults in %v, %d texts", n+1, time.Since(began).Round(time.Second), w.accepted())
		}
	}
	close(done)
	loading.Wait()
	w.fleet().Behave()
	w.proxy.Clear()
	for _, name := range slices.Sorted(maps.Keys(counts)) {
		t.Logf("%4d times %s", counts[name], name)
	}
	w.ledger(many)
}

func newWorld(t *testing.T, seed uint64) *world {
	w := &world{t: t, random: rand.New(rand.NewPCG(seed, 1)), sent: map[string]client.Draft{}, gone: map[string]bool{}}
	w.folder, w.server = ownServer(t)
	t.Cleanup(func() { w.server.Stop() })
	w.proxy = must[*pgproxy.Proxy](t)(pgproxy.Start(w.server.URL))
	t.Cleanup(w.proxy.Close)
	h := buildOn(t, w.proxy.URL, func(h *house) { h.lease = "1s" }).with(chaosGateways...)
	limit := chaosLimit
	for _, name := range chaosGateways {
		must[client.Gateway](t)(h.Client.ChangeGateway(t.Context(), name, client.GatewayChange{PerSecond: &limit}))
	}
	other := h.beside()
	other.Fleet = h.Fleet
	w.houses = []*house{h, other}
	w.clients[0].Store(h.Client)
	w.clients[1].Store(other.Client)
	return w
}

func (w *world) fleet() *fleet.Fleet { return w.houses[0].Fleet }

func (w *world) one() *house { return w.houses[w.random.IntN(2)] }

// rest waits for between so many milliseconds.
func (w *world) rest(least, most int) {
	time.Sleep(time.Duration(least+w.random.IntN(most-least)) * time.Millisecond)
}

func (w *world) accepted() int {
	w.mu.Lock()
	defer w.mu.Unlock()
	return len(w.sent)
}

// restart starts an instance where it was. The faults of the proxy are over by then.
func (w *world) restart(h *house) {
	w.proxy.Clear()
	h.restart()
	for i := range w.houses {
		w.clients[i].Store(w.houses[i].Client)
	}
}

// load sends texts until done, each until it is accepted, now at one instance and now at the other.
func (w *world) load(done chan struct{}, seed uint64, sender int) {
	r := rand.New(rand.NewPCG(seed, uint64(100+sender)))
	endings := []int{1, 2, 3, 4, 5, 23, 44, 80, 81, 82, 83, 84, 87, 88, 90, 91, 92, 93, 94, 95, 96}
	for i := 0; ; i++ {
		select {
		case <-done:
			return
		case <-time.After(time.Duration(r.IntN(120)) * time.Millisecond):
		}
		w.paused.RLock()
		d := client.Draft{
			To:      fmt.Sprintf("+44770090%02d%02d", sender, endings[r.IntN(len(endings))]),
			Text:    fmt.Sprintf("Text %d of sender %d", i, sender),
			Gateway: chaosGateways[r.IntN(len(chaosGateways))],
		}
		for try := 0; ; try++ {
			ctx, cancel := context.WithTimeout(w.t.Context(), 5*time.Second)
			m, err := w.clients[(sender+try)%2].Load().SendOnce(ctx, d, fmt.Sprintf("%d-%d", sender, i))
			cancel()
			if err == nil {
				w.mu.Lock()
				w.sent[m.ID] = d
				w.mu.Unlock()
				break
			}
			if problem, is := err.(*client.Problem); is && problem.Status < 500 || try > 2000 {
				w.t.Errorf("sender %d, text %d: %v", sender, i, err)
				break
			}
			time.Sleep(30 * time.Millisecond)
		}
		w.paused.RUnlock()
	}
}

// cut lets the next COMMITs fail in some way.
func (w *world) cut(how pgproxy.Action) {
	late := time.Duration(w.random.IntN(3000)) * time.Millisecond
	in := w.proxy.Inject(pgproxy.Fault{Do: how, Times: 1 + w.random.IntN(3), Skip: w.random.IntN(20), Delay: late})
	select {
	case <-in.Hit:
	case <-time.After(2 * time.Second):
	}
	if how == pgproxy.Swallow {
		w.rest(500, 3000)
		w.proxy.Break()
	}
	w.proxy.Clear()
}

// burn takes every processor for a while.
func (w *world) burn(span time.Duration) {
	var all sync.WaitGroup
	end := time.Now().Add(span)
	for range 2 * runtime.NumCPU() {
		all.Go(func() {
			for time.Now().Before(end) {
			}
		})
	}
	all.Wait()
}

func (w *world) restartServer(crashes bool) {
	port := w.server.Port()
	if crashes {
		crash(w.t, w.folder, w.server)
	} else {
		w.server.Stop()
	}
	w.rest(10, 1500)
	w.server = must[*postgres.Server](w.t)(postgres.Start(w.t.Context(), w.folder, postgres.Options{Port: port}))
}

// upgrade lets both instances meet a schema that is newer than they are, and starts them again on one that
// they know.
func (w *world) upgrade() {
	sql(w.t, w.server.URL, "INSERT INTO goose_db_version (version_id, is_applied) VALUES (9999, true)")
	for _, h := range w.houses {
		eventually(w.t, "an instance gives up", func() bool {
			answer, err := http.Get(h.URL + "/healthz")
			if err != nil {
				return false
			}
			answer.Body.Close()
			return answer.StatusCode == http.StatusServiceUnavailable
		})
	}
	sql(w.t, w.server.URL, "DELETE FROM goose_db_version WHERE version_id = 9999")
	for _, h := range w.houses {
		h.stop(os.Interrupt)
		w.restart(h)
	}
}

// restore takes a dump, lets texts go on, and puts the dump in the place of the database. Then it recovers:
// gateways are asked, and what they cannot tell is cancelled.
func (w *world) restore() {
	w.paused.Lock()
	defer func() { w.paused.Unlock() }()
	copied := dump(w.t, w.server.URL)
	w.mu.Lock()
	before := maps.Clone(w.sent)
	w.mu.Unlock()
	w.paused.Unlock()
	w.rest(500, 2500)
	w.paused.Lock()
	for _, h := range w.houses {
		h.kill()
	}
	w.mu.Lock()
	for id := range w.sent {
		if _, copied := before[id]; !copied {
			w.gone[id] = true
		}
	}
	w.mu.Unlock()
	empty(w.t, w.server.URL)
	load(w.t, copied, w.server.URL)
	for _, h := range w.houses {
		w.restart(h)
	}
	h := w.one()
	h.quarantined()
	for _, args := range [][]string{{"ask", "--wait", "20s"}, {"decide", "cancel", "--kind", "transactional"}, {"lift", "--yes"}} {
		if code, out, errOut := h.pigeon("", append([]string{"recover"}, args...)...); code != 0 && args[0] != "ask" {
			w.t.Fatalf("recover %v: %d\n%s%s", args, code, out, errOut)
		}
	}
}

// ledger holds what the database says against what gateways took.
func (w *world) ledger(faults int) {
	t := w.t
	t.Helper()
	c, err := pgx.Connect(t.Context(), w.server.URL)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close(t.Context())
	final := []string{}
	for _, s := range delivery.States {
		if s.Final() {
			final = append(final, string(s))
		}
	}
	stuck := -1
	deadline := time.Now().Add(4 * time.Minute)
	if len(w.gone) > 0 { // nothing is given up until a quarter of an hour after a quarantine
		deadline = deadline.Add(16 * time.Minute)
	}
	for stuck != 0 && time.Now().Before(deadline) {
		time.Sleep(200 * time.Millisecond)
		if err := c.QueryRow(t.Context(), "SELECT count(*) FROM standings WHERE state <> ALL ($1)", final).Scan(&stuck); err != nil {
			t.Fatal(err)
		}
	}
	states := map[string]string{}
	rows, err := c.Query(t.Context(), "SELECT id::text, state FROM standings")
	if err != nil {
		t.Fatal(err)
	}
	for rows.Next() {
		var id, state string
		if err := rows.Scan(&id, &state); err != nil {
			t.Fatal(err)
		}
		states[id] = state
	}
	if err := rows.Err(); err != nil {
		t.Fatal(err)
	}
	taken, foreign, exceeded := map[string]int{}, 0, 0
	texts := map[string]string{}
	for id, d := range w.sent {
		texts[d.To+" "+d.Text] = id
	}
	for _, name := range chaosGateways {
		g := w.fleet().Gateway(name)
		for _, e := range g.Entries() {
			taken[e.To+" "+e.Text]++
			if texts[e.To+" "+e.Text] == "" {
				foreign++
			}
		}
		most := g.BusiestSecond()
		if most > chaosLimit {
			exceeded++
			t.Errorf("%s got %d in a second, allowed are %d", name, most, chaosLimit)
		}
		t.Logf("%s got %d at most in any second of %d that are allowed", name, most, chaosLimit)
	}
	lost, doubled, tally := 0, 0, map[string]int{}
	for id, d := range w.sent {
		state, known := states[id]
		n := taken[d.To+" "+d.Text]
		tally[cmp.Or(state, "gone with the copy")]++
		if n > 1 {
			doubled++
			t.Errorf("%s (%s) went %d times: %s", id, state, n, w.story(id))
		}
		if w.gone[id] {
			continue
		}
		if !known || n == 0 && slices.Contains([]string{"accepted", "enroute", "delivered"}, state) {
			lost++
			t.Errorf("%s (%q) is lost, the gateway has it %d times", id, state, n)
		}
	}
	if stuck > 0 {
		rows, _ := c.Query(t.Context(), "SELECT id::text FROM standings WHERE state <> ALL ($1) LIMIT 5", final)
		ids, _ := pgx.CollectRows(rows, pgx.RowTo[string])
		for _, id := range ids {
			t.Errorf("stuck: %s", w.story(id))
		}
	}
	wrong := w.miscounted()
	t.Logf("%d faults, %d texts %v: lost %d, doubled %d, stuck %d, miscounted %d, windows exceeded %d; nobody's %d",
		faults, len(w.sent), tally, lost, doubled, stuck, len(wrong), exceeded, foreign)
	if stuck > 0 || foreign > 0 || len(wrong) > 0 {
		t.Errorf("miscounted: %v", wrong)
	}
}

// story is what is known of a message.
func (w *world) story(id string) string {
	m, err := w.houses[0].Client.Message(w.t.Context(), id, false)
	if err != nil {
		return err.Error()
	}
	var all []string
	for _, e := range m.Evidence {
		all = append(all, fmt.Sprintf("%s %s %s %d %s", e.At.Format("15:04:05.000"), e.Source, e.Claim, e.Attempt, e.Note))
	}
	return fmt.Sprintf("%s through %s, %s:\n  %s", id, m.Gateway, m.State, strings.Join(all, "\n  "))
}

// miscounted holds all kept counts against what they count.
func (w *world) miscounted() (wrong []string) {
	t := w.t
	t.Helper()
	for _, h := range w.houses {
		h.stop(os.Interrupt)
	}
	s := must[*store.Store](t)(store.Open(t.Context(), w.server.URL, time.Now()))
	defer s.Close()
	for hour := range 4 {
		found, _, err := s.Prove(t.Context(), time.Now().Add(-time.Duration(hour)*time.Hour))
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range found {
			wrong = append(wrong, fmt.Sprintf("%+v", d))
		}
	}
	for _, prove := range []func(context.Context, time.Time) ([]store.Miscount, error){s.ProveMoney, s.ProveDay} {
		for day := range 2 {
			for _, m := range must[[]store.Miscount](t)(prove(t.Context(), time.Now().AddDate(0, 0, -day))) {
				wrong = append(wrong, fmt.Sprintf("%+v", m))
			}
		}
	}
	_, batches, err := s.ProveBatch(t.Context(), uuid.Nil)
	if err != nil || len(batches) > 0 {
		t.Errorf("%v, %v", batches, err)
	}
	for _, h := range w.houses { // so that they can be stopped as usual
		h.restart()
	}
	return wrong
}
