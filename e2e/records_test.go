package e2e

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/postgres"
	"calmpigeon.example/internal/postgres/pgtest"
	"calmpigeon.example/internal/service"
)

// pushing takes one text a request, and is told of by receipts.
const pushing = `
dialect: pushing
limits: {per_second: 5000, in_flight: 64}
submit:
  request: {post: /send, json: "{to, text, ref: .id, report: .receipt_url}"}
  reply:
    - when: .status == 200
      read: "{gateway_ref: .body.id, state: \"accepted\"}"
receipt:
  read: "{gateway_ref: .body.id, state: \"delivered\"}"
`

// pusher is a gateway that says at once that everything was delivered.
func pusher(t testing.TB) *httptest.Server {
	var n atomic.Int64
	var reporting sync.WaitGroup
	gate := make(chan struct{}, 16)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		_, report, _ := strings.Cut(string(body), `"report":"`)
		report, _, _ = strings.Cut(report, `"`)
		said := fmt.Sprintf(`{"id":"p-%d"}`, n.Add(1))
		reporting.Go(func() {
			gate <- struct{}{}
			defer func() { <-gate }()
			if response, err := http.Post(report, "application/json", strings.NewReader(said)); err == nil {
				response.Body.Close()
			}
		})
		io.WriteString(w, said)
	}))
	t.Cleanup(func() {
		reporting.Wait()
		server.Close()
	})
	return server
}

// On the first day, in empty tables of a month, nothing that holds messages is
// read from one end to the other: no plan depends on statistics that are not
// there yet.
func TestFirstDayReadsNothingSequentially(t *testing.T) {
	t.Parallel()
	h := build(t)
	must[client.Gateway](
		t,
	)(
		h.Client.AddGateway(t.Context(), client.NewGateway{Source: pushing, Address: pusher(t).URL, AskAfter: "1h", GiveUpAfter: "2h"}),
	)
	const lives = 1000
	var sending sync.WaitGroup
	var next atomic.Int64
	for range 16 {
		sending.Go(func() {
			for i := next.Add(1); i <= lives; i = next.Add(1) {
				d := client.Draft{To: fmt.Sprintf("+447700%06d", 900000+i%1000), Text: "Berth 3", Kind: "bulk"}
				if _, err := h.Client.Send(t.Context(), d); err != nil {
					t.Error(err)
				}
			}
		})
	}
	sending.Wait()
	within(t, 2*time.Minute, "all are delivered", func() bool {
		return must[client.Tally](t)(h.Client.Tally(t.Context(), client.Filter{})).States["delivered"] == lives
	})
	must[client.List[client.Message]](
		t,
	)(
		h.Client.Find(t.Context(), client.Filter{States: []string{"delivered"}, Sender: "Lanternholm"}, "", 50),
	)
	must[client.List[client.Message]](t)(h.Client.Find(t.Context(), client.Filter{To: "+447700900123"}, "", 50))
	must[client.List[client.Message]](t)(h.Client.Find(t.Context(), client.Filter{States: []string{"undeliverable", "doubtful"}}, "", 50))
	h.kill() // its sessions end, and tell what they counted
	db := must[*pgx.Conn](t)(pgx.Connect(t.Context(), h.database))
	defer db.Close(t.Context())
	type use struct {
		Table     string
		Scans     int64
		Rows      int64
		Inserted  int64
		HotUpdate float64
	}
	var uses []use
	eventually(t, "the counts are there", func() bool {
		rows, err := db.Query(
			t.Context(),
			`SELECT relname, seq_scan, seq_tup_read, n_tup_ins, coalesce(n_tup_hot_upd::float8 / nullif(n_tup_upd, 0), 1)
			FROM pg_stat_user_tables WHERE n_tup_ins >= $1`,
			lives,
		)
		if err != nil {
			t.Fatal(err)
		}
		uses = must[[]use](t)(pgx.CollectRows(rows, pgx.RowToStructByPos[use]))
		return slices.ContainsFunc(uses, func(u use) bool { return strings.HasPrefix(u.Table, "standings_") })
	})
	for _, u := range uses {
		// To make an index reads an empty table once.
		if u.Rows > 0 {
			t.Errorf("%s: %d rows read in %d sequential scans", u.Table, u.Rows, u.Scans)
		}
		// An index on what changes would leave none; how many more there are is the
		// host's to say: what is still being looked at is not cleared away.
		if strings.HasPrefix(u.Table, "standings_") && u.HotUpdate < 0.5 {
			t.Errorf("%s: %.0f%% of the updates stayed on their page", u.Table, 100*u.HotUpdate)
		}
	}
}

// The database server that the service started itself is started again when it
// ends, and the service goes on.
func TestDatabaseOfOurOwnIsStartedAgain(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline() // for its gateways; the service of this test has a database of its own
	folder := must[string](t)(os.MkdirTemp("", "pigeon-own-"))
	t.Cleanup(func() { os.RemoveAll(folder) })
	if err := os.Chmod(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	own := &house{t: t, data: folder, Fleet: h.Fleet, FleetURL: h.FleetURL}
	own.start("127.0.0.1:0")
	t.Cleanup(func() { own.stop(os.Interrupt) })
	must[client.Sender](t)(own.Client.AddSender(t.Context(), client.NewSender{Sender: "Lanternholm"}))
	own.withHarbourline()
	own.settled(own.send(client.Draft{To: "+447700900101", Text: "x"}).ID)
	for _, signal := range []syscall.Signal{syscall.SIGINT, syscall.SIGKILL} {
		pid := strings.TrimSpace(
			strings.Split(string(must[[]byte](t)(os.ReadFile(filepath.Join(folder, "postgres", "postmaster.pid")))), "\n")[0],
		)
		server := must[int](t)(strconv.Atoi(pid))
		if err := syscall.Kill(server, signal); err != nil {
			t.Fatal(err)
		}
		eventually(t, "the server is gone", func() bool { return syscall.Kill(server, 0) != nil })
		id := ""
		eventually(t, "it takes messages again", func() bool {
			m, err := own.Client.Send(t.Context(), client.Draft{To: "+447700900102", Text: "x"})
			id = m.ID
			return err == nil
		})
		eventually(t, "and they arrive", func() bool {
			m, err := own.Client.Message(t.Context(), id, false)
			return err == nil && m.State == "delivered"
		})
	}
	if said := own.said(); !strings.Contains(said, "it is started again") {
		t.Errorf("nobody was told: %s", said)
	}
}

// A database that answers nothing holds nobody up: the health check says so
// within a second, and once it goes on everything does.
func TestFrozenDatabase(t *testing.T) {
	t.Parallel()
	folder := must[string](t)(os.MkdirTemp("", "pigeon-frozen-"))
	t.Cleanup(func() { os.RemoveAll(folder) })
	if err := os.Chmod(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	server := must[*postgres.Server](t)(postgres.Start(t.Context(), folder, postgres.Options{}))
	t.Cleanup(server.Stop)
	h := buildOn(t, server.URL).withHarbourline()
	h.settled(h.send(client.Draft{To: "+447700900101", Text: "x"}).ID)
	signal := func(s syscall.Signal) {
		syscall.Kill(processesOf(t, folder)[0], s) // the parent first: it makes no more while the others are looked for
		for _, pid := range processesOf(t, folder) {
			syscall.Kill(pid, s)
		}
	}
	signal(syscall.SIGSTOP)
	t.Cleanup(func() { signal(syscall.SIGCONT) })
	for range 3 {
		asked := time.Now()
		response, _ := h.request("GET", "/healthz", "")
		if took := time.Since(asked); response.StatusCode != http.StatusServiceUnavailable || took > 3*time.Second {
			t.Errorf("frozen, it is %s after %v", response.Status, took)
		}
	}
	signal(syscall.SIGCONT)
	eventually(t, "it is well again", func() bool {
		response, _ := h.request("GET", "/healthz", "")
		return response.StatusCode == http.StatusOK
	})
	if m := h.settled(h.send(client.Draft{To: "+447700900102", Text: "x"}).ID); m.State != "delivered" {
		t.Errorf("afterwards a message became %s", m.State)
	}
}

// processesOf lists the processes of the server whose data is in a folder.
func processesOf(t *testing.T, folder string) []int {
	t.Helper()
	raw := must[[]byte](t)(os.ReadFile(filepath.Join(folder, "postgres", "postmaster.pid")))
	parent := must[int](t)(strconv.Atoi(strings.TrimSpace(strings.Split(string(raw), "\n")[0])))
	all := []int{parent}
	stats, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, path := range stats {
		raw, err := os.ReadFile(path)
		if err != nil {
			continue
		}
		fields := strings.Fields(string(raw[strings.LastIndexByte(string(raw), ')')+1:]))
		if fields[1] == strconv.Itoa(parent) {
			pid, _ := strconv.Atoi(strings.Split(path, "/")[2])
			all = append(all, pid)
		}
	}
	return all
}

// A record that a newer check refuses is left alone, and said with the reason
// wherever its like is looked at.
func TestBadRecordIsShown(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	db := must[*pgx.Conn](t)(pgx.Connect(t.Context(), h.database))
	defer db.Close(context.Background())
	for _, sql := range []string{
		`INSERT INTO templates (name, template, created_at, changed_at) VALUES ('odd', '{"name": "odd"}', now(), now())`,
		"UPDATE gateways SET source = 'dialect: harbourline', version = version + 1",
	} {
		if _, err := db.Exec(t.Context(), sql); err != nil {
			t.Fatal(err)
		}
	}
	eventually(t, "both are found", func() bool { return len(must[[]client.Flaw](t)(h.Client.Flaws(t.Context()))) == 2 })
	for what, name := range map[string]string{"gateway": "harbourline", "template": "odd"} {
		code, _, said := h.pigeon("", what, "list")
		if want := fmt.Sprintf("The %s %s cannot be used as it stands: ", what, name); code != 0 || !strings.Contains(said, want) {
			t.Errorf("%s list ends with %d and says %q, want %q", what, code, said, want)
		}
	}
	// What was loaded before goes on as it was.
	if m := h.settled(h.send(client.Draft{To: "+447700900101", Text: "x"}).ID); m.State != "delivered" {
		t.Errorf("a message became %s", m.State)
	}
}

// Stopping does not wait for a gateway that never answers: it has a deadline, and
// a second signal ends it at once. What is in flight is doubtful at the next start.
func TestStoppingDoesNotWaitForEver(t *testing.T) {
	t.Parallel()
	arrived, free := make(chan struct{}, 8), make(chan struct{})
	gateway := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		io.Copy(io.Discard, r.Body)
		arrived <- struct{}{}
		<-free
	}))
	t.Cleanup(func() {
		close(free)
		gateway.CloseClientConnections()
		gateway.Close()
	})
	h := build(t)
	hangs := client.NewGateway{Source: pushing, Address: gateway.URL, Timeout: "2m", AskAfter: "1h", GiveUpAfter: "2h"}
	must[client.Gateway](t)(h.Client.AddGateway(t.Context(), hangs))
	slow := client.NewGateway{Name: "slow", Source: pushing, Address: gateway.URL, Timeout: "8760h"}
	if _, err := h.Client.AddGateway(t.Context(), slow); err == nil {
		t.Error("a timeout of a year was taken")
	}
	for _, tt := range []struct {
		within string
		twice  bool
	}{{"2s", false}, {"10m", true}} {
		h.stop(os.Interrupt)
		h.flags = []string{"--stop-within", tt.within}
		h.start(h.listen())
		m := h.send(client.Draft{To: "+447700900101", Text: "x"})
		<-arrived
		before := strings.Count(h.said(), "stopping")
		h.cmd.Process.Signal(os.Interrupt)
		eventually(t, "it is stopping", func() bool { return strings.Count(h.said(), "stopping") > before })
		ended := make(chan struct{})
		go func() {
			h.cmd.Wait()
			close(ended)
		}()
		if tt.twice {
			h.cmd.Process.Signal(os.Interrupt)
		}
		select {
		case <-ended:
		case <-time.After(time.Minute): // the gateway would hang for two
			h.cmd.Process.Kill()
			t.Fatalf("it does not end within %s, asked twice: %v", tt.within, tt.twice)
		}
		h.start(h.listen())
		h.await(m.ID, "it is in doubt", func(m client.Message) bool { return m.State == "doubtful" })
	}
}

// When the month turns, under load, the new month's empty tables are read no
// other way: nothing is lost, slow or read from one end to the other.
func TestMonthTurnsUnderLoad(t *testing.T) {
	t.Parallel()
	now := time.Now().UTC()
	turn := time.Date(now.Year(), now.Month()+1, 1, 0, 0, 0, 0, time.UTC)
	// A minute before it, until all is set up: on a busy machine that takes seconds.
	var ahead atomic.Int64
	set := func(before time.Duration) { ahead.Store(int64(time.Until(turn.Add(-before)))) }
	clock := func() time.Time { return time.Now().Add(time.Duration(ahead.Load())) }
	set(time.Minute)
	database, data := pgtest.Database(t), t.TempDir()
	running, stop := context.WithCancel(context.Background())
	ready, ended := make(chan string, 1), make(chan error, 1)
	var key string
	go func() {
		ended <- service.Run(running, service.Options{
			Listen: "127.0.0.1:0", DatabaseURL: database, Data: data, Lease: 5 * time.Second, KeepRaw: 24 * time.Hour,
			SealKey: "cHJhY3RpY2UtcHJhY3RpY2UtcHJhY3RpY2UtcHJhY3Q=", Log: slog.New(slog.DiscardHandler),
			Clock:        clock,
			ShowFirstKey: func(k string) error { key = k; return nil },
		}, func(url string) { ready <- url })
	}()
	var url string
	select {
	case url = <-ready:
	case err := <-ended:
		t.Fatal(err)
	}
	c := client.New(url, key)
	must[client.Sender](t)(c.AddSender(t.Context(), client.NewSender{Sender: "Lanternholm"}))
	must[client.Gateway](t)(c.AddGateway(t.Context(), client.NewGateway{
		Source: pushing, Address: pusher(t).URL, AskAfter: "1h", GiveUpAfter: "2h"}))
	sent := 0
	var mu sync.Mutex
	var sending sync.WaitGroup
	set(2 * time.Second)
	for range 8 {
		sending.Go(func() {
			for clock().Before(turn.Add(2 * time.Second)) {
				if _, err := c.Send(t.Context(), client.Draft{To: "+447700900123", Text: "Berth 3", Kind: "bulk"}); err != nil {
					t.Error(err)
					return
				}
				mu.Lock()
				sent++
				mu.Unlock()
			}
		})
	}
	sending.Wait()
	within(t, 2*time.Minute, "all are delivered", func() bool {
		return must[client.Tally](t)(c.Tally(t.Context(), client.Filter{})).States["delivered"] == int64(sent)
	})
	before := must[client.Tally](t)(c.Tally(t.Context(), client.Filter{Until: turn}))
	after := must[client.Tally](t)(c.Tally(t.Context(), client.Filter{Since: turn}))
	if before.Total == 0 || after.Total == 0 || before.Total+after.Total != int64(sent) {
		t.Errorf("%d before the turn and %d after it, of %d", before.Total, after.Total, sent)
	}
	stop()
	if err := <-ended; err != nil {
		t.Error(err)
	}
	db := must[*pgx.Conn](t)(pgx.Connect(t.Context(), database))
	defer db.Close(t.Context())
	month := turn.Format("2006_01")
	eventually(t, "the counts are there", func() bool {
		var inserted int64
		err := db.QueryRow(t.Context(), "SELECT n_tup_ins FROM pg_stat_user_tables WHERE relname = $1", "standings_"+month).Scan(&inserted)
		return err == nil && inserted == after.Total
	})
	rows, err := db.Query(t.Context(), `SELECT relname FROM pg_stat_user_tables
		WHERE seq_tup_read > 0 AND relname ~ '^(messages|standings|submissions|evidence|exchanges|receipts|to_send|to_ask)'`)
	if err != nil {
		t.Fatal(err)
	}
	if read := must[[]string](t)(pgx.CollectRows(rows, pgx.RowTo[string])); len(read) > 0 {
		t.Errorf("read sequentially: %v", read)
	}
}
