package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/fleet/arrival"
	"calmpigeon.example/internal/postgres"

	"github.com/jackc/pgx/v5/pgxpool"
)

// single takes one text a request, and says what becomes of it at once.
const single = `
dialect: single
limits: {per_second: 100000, in_flight: 200}
submit:
  request: {post: /send, json: "{to, text, from: .sender, ref: .id, report: .receipt_url}"}
  reply:
    - when: .status == 200
      read: "{gateway_ref: .body.id, state: \"accepted\"}"
receipt:
  read: "{gateway_ref: .body.id, state: .body.state}"
`

// array takes 500, and tells in hundreds.
const array = `
dialect: array
reference: carried
limits: {per_second: 100000, in_flight: 8}
submit:
  most: 500
  request: {post: /send, json: "{report: .receipt_url, texts: [.messages[] | {to, text, ref: .id}]}"}
  reply:
    - when: .status == 200
      read: ".body[] | {reference: .ref, gateway_ref: .id, state: \"accepted\"}"
receipt:
  read: ".body[] | {gateway_ref: .id, state: .state}"
`

// theGateway is a bare HTTP server that a gateway's bench needs: no ledger, no
// account, nothing but answers and receipts.
type theGateway struct {
	client  *http.Client
	reports chan report
	n       atomic.Int64
	silent  bool                            // without receipts
	door    func(body []byte, at time.Time) // at is when the request arrived, by the kernel's clock
}

type report struct{ url, body string }

func newGateway() *theGateway {
	g := &theGateway{client: carrier(), reports: make(chan report, 1<<20)}
	for range 32 {
		go func() {
			for r := range g.reports {
				for try := 0; try < 50 && post(g.client, r.url, "", r.body) != nil; try++ {
					time.Sleep(20 * time.Millisecond)
				}
			}
		}()
	}
	return g
}

func (g *theGateway) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	if r.URL.Path == "/token" {
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprintf(w, `{"access_token":"t-%d","expires_in":3}`, g.n.Add(1))
		return
	}
	if g.door != nil {
		g.door(body, arrival.Of(r))
	}
	var in struct {
		Report string
		Texts  []struct{ Ref string }
	}
	json.Unmarshal(body, &in)
	w.Header().Set("Content-Type", "application/json")
	if in.Texts == nil {
		id := fmt.Sprintf("f-%08d", g.n.Add(1))
		fmt.Fprintf(w, `{"id":%q}`, id)
		if !g.silent {
			g.reports <- report{in.Report, fmt.Sprintf(`{"id":%q,"state":"delivered"}`, id)}
		}
		return
	}
	var out bytes.Buffer
	var told []string
	tell := func() {
		if len(told) > 0 && !g.silent {
			g.reports <- report{in.Report, "[" + strings.Join(told, ",") + "]"}
		}
		told = nil
	}
	for i, t := range in.Texts {
		id := fmt.Sprintf("a-%08d", g.n.Add(1))
		if i > 0 {
			out.WriteByte(',')
		}
		fmt.Fprintf(&out, `{"ref":%q,"id":%q}`, t.Ref, id)
		if told = append(told, fmt.Sprintf(`{"id":%q,"state":"delivered"}`, id)); len(told) == 100 {
			tell()
		}
	}
	tell()
	fmt.Fprintf(w, "[%s]", out.Bytes())
}

// text is what is sent.
func text(i int, kind string) string {
	return fmt.Sprintf(
		`{"to":"+447700%06d","text":"Crossing %d now leaves from berth 3, please be there ten minutes early.","kind":%q,"sender":"Lanternholm"}`,
		900000+i%1000,
		i,
		kind,
	)
}

// secrets are those that a dialect asks for.
func secrets(source string) map[string]string {
	if !strings.Contains(source, "secrets:") {
		return nil
	}
	return map[string]string{"client_id": "bench", "client_secret": "of the bench"}
}

func (h *house) gateway(ctx context.Context, source string, g http.Handler) error {
	address, err := h.serve(g)
	if err != nil {
		return err
	}
	_, err = h.Client.AddGateway(ctx, client.NewGateway{Source: source, Address: address, AskAfter: "1h", GiveUpAfter: "2h",
		Secrets: secrets(source)})
	return err
}

// cost begins to count what processor time is spent, and returns what says it
// for each of n.
func (h *house) cost(n int) func() string {
	service, database, own := processor(h)
	return func() string {
		service2, database2, own2 := processor(h)
		each := func(a, b time.Duration) float64 { return float64((b - a).Microseconds()) / float64(n) }
		return fmt.Sprintf(
			"service %.0f µs, database %.0f µs, bench %.0f µs",
			each(service, service2),
			each(database, database2),
			each(own, own2),
		)
	}
}

// profileAt is where the service answers profiles.
const profileAt = "127.0.0.1:7419"

// profiled keeps a processor profile of the service while do runs.
func (h *house) profiled(s settings, do func() error) error {
	if s.profile == "" {
		return do()
	}
	done := make(chan error, 1)
	go func() {
		response, err := http.Get("http://" + profileAt + "/debug/pprof/profile?seconds=8")
		if err != nil {
			done <- err
			return
		}
		defer response.Body.Close()
		file, err := os.Create(s.profile)
		if err == nil {
			_, err = io.Copy(file, response.Body)
			file.Close()
		}
		done <- err
	}()
	err := do()
	if wrong := <-done; err == nil {
		err = wrong
	}
	return err
}

func lifeSingle(ctx context.Context, s settings) ([]Figure, error) {
	n := s.count(30_000)
	h, err := open(ctx, s, single, newGateway())
	if err != nil {
		return nil, err
	}
	defer h.Close()
	empty, err := h.size(ctx, "true")
	if err != nil {
		return nil, err
	}
	exchanges := bareExchanges()
	before, err := h.number(ctx, "SELECT pg_current_wal_lsn() - '0/0'::pg_lsn")
	if err != nil {
		return nil, err
	}
	var rate float64
	cost := h.cost(n)
	err = h.profiled(s, func() error {
		began := time.Now()
		if err := h.flood(n); err != nil {
			return err
		}
		err := h.reached(ctx, "delivered", n)
		rate = float64(n) / time.Since(began).Seconds()
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("%w\n%s", err, h.said())
	}
	spent := cost()
	after, err := h.number(ctx, "SELECT pg_current_wal_lsn() - '0/0'::pg_lsn")
	if err != nil {
		return nil, err
	}
	whole, err := h.size(ctx, "true")
	if err != nil {
		return nil, err
	}
	raw, err := h.size(ctx, "relname LIKE 'exchange_packs%' OR relname LIKE 'receipts%'")
	if err != nil {
		return nil, err
	}
	rows, err := bareRows(ctx)
	if err != nil {
		return nil, err
	}
	bound := 1 / (3/exchanges + 1/rows)
	return []Figure{
		{Name: "life_single", Value: rate, Unit: "lives/s", Bound: bound, Ratio: rate / bound, Asked: "3,000/s and 0.35",
			Note: fmt.Sprintf("h = %.0f/s, d = %.0f/s; processor a life: %s", exchanges, rows, spent)},
		{Name: "wal_per_life", Value: (after - before) / float64(n), Unit: "B", Asked: "3 kB at most"},
		{Name: "disk_per_life", Value: (whole - raw - empty) / float64(n), Unit: "B", Asked: "2 kB at most", Note: "without raw exchanges"},
		{Name: "raw_per_life", Value: raw / float64(n), Unit: "B", Asked: "1 kB at most", Note: "exchanges and callbacks"},
	}, nil
}

// size is what tables and their indexes take on disk.
func (h *house) size(ctx context.Context, which string) (float64, error) {
	return h.number(
		ctx,
		"SELECT coalesce(sum(pg_total_relation_size(oid)), 0)::float8 FROM pg_class "+
			"WHERE relkind = 'r' AND relnamespace = 'public'::regnamespace AND ("+which+")",
	)
}

func lifeList(ctx context.Context, s settings) ([]Figure, error) {
	return fromQueue(ctx, s, "life_list", "array", array, s.count(60_000), "8,000/s")
}

// queueSingle is life_single without the accepting: what the rest of a life
// allows.
func queueSingle(ctx context.Context, s settings) ([]Figure, error) {
	return fromQueue(ctx, s, "queue_single", "single", single, s.count(30_000), "")
}

func fromQueue(ctx context.Context, s settings, figure, name, dialect string, n int, asked string) ([]Figure, error) {
	h, err := open(ctx, s, dialect, newGateway())
	if err != nil {
		return nil, err
	}
	defer h.Close()
	if _, err := h.Client.PauseGateway(ctx, name, "to fill the queue"); err != nil {
		return nil, err
	}
	if err := h.flood(n); err != nil {
		return nil, err
	}
	var rate float64
	cost := h.cost(n)
	err = h.profiled(s, func() error {
		began := time.Now()
		if _, err := h.Client.ResumeGateway(ctx, name); err != nil {
			return err
		}
		err := h.reached(ctx, "delivered", n)
		rate = float64(n) / time.Since(began).Seconds()
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("%w\n%s", err, h.said())
	}
	spent := cost()
	rows, err := bareRows(ctx)
	return []Figure{{Name: figure, Value: rate, Unit: "lives/s", Bound: rows, Ratio: rate / rows, Asked: asked,
		Note: "processor a life: " + spent}}, err
}

// bareExchanges is how many HTTP exchanges a second client and server make in
// one process, with bodies as those of a text.
func bareExchanges() float64 {
	listening := make(chan string, 1)
	server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		io.Copy(io.Discard, r.Body)
		io.WriteString(w, `{"id":"f-00000001"}`)
	})}
	h := &house{}
	at, err := h.serve(server.Handler)
	if err != nil {
		return 0
	}
	listening <- at
	defer h.Close()
	c := carrier()
	const n = 60_000
	began := time.Now()
	many(n, 64, func(i int) error { return post(c, at, "", text(i, "bulk")) })
	return n / time.Since(began).Seconds()
}

// bareRows is how many lives a second PostgreSQL keeps when nothing but rows of
// the same content are written, in sets of 300 over four connections: a row with
// the text, and three facts about it.
func bareRows(ctx context.Context) (float64, error) {
	folder, err := os.MkdirTemp("", "pigeon-bench-")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(folder)
	os.Chmod(folder, 0o755)
	server, err := postgres.Start(ctx, filepath.Join(folder, "bare"), postgres.Options{})
	if err != nil {
		return 0, err
	}
	defer server.Stop()
	db, err := pgxpool.New(ctx, server.URL)
	if err != nil {
		return 0, err
	}
	defer db.Close()
	for _, sql := range []string{
		"CREATE TABLE texts (id uuid PRIMARY KEY, to_number text, sender text, kind text, body text, created_at timestamptz)",
		"CREATE TABLE facts (id uuid, text_id uuid, at timestamptz, source text, claim text, ref text, PRIMARY KEY (text_id, id))",
	} {
		if _, err := db.Exec(ctx, sql); err != nil {
			return 0, err
		}
	}
	const n, set = 90_000, 300
	began := time.Now()
	var all sync.WaitGroup
	var failed atomic.Value
	for range 4 {
		all.Go(func() {
			for range n / set / 4 {
				if err := bareSet(ctx, db, set); err != nil {
					failed.Store(err)
				}
			}
		})
	}
	all.Wait()
	err, _ = failed.Load().(error)
	return n / time.Since(began).Seconds(), err
}

func bareSet(ctx context.Context, db *pgxpool.Pool, set int) error {
	now := time.Now()
	var id, factID, textID [][16]byte
	var words []string
	var at []time.Time
	for range set {
		one := uuid.Must(uuid.NewV7())
		id = append(id, one)
		words = append(words, "Crossing 1234 now leaves from berth 3, please be there ten minutes early.")
		at = append(at, now)
		for range 3 {
			factID = append(factID, uuid.Must(uuid.NewV7()))
			textID = append(textID, one)
		}
	}
	tx, err := db.Begin(ctx)
	if err != nil {
		return err
	}
	defer tx.Rollback(ctx)
	if _, err := tx.Exec(ctx, `INSERT INTO texts (id, to_number, sender, kind, body, created_at)
		SELECT i, '+447700900123', 'Lanternholm', 'bulk', b, a FROM unnest($1::uuid[], $2::text[], $3::timestamptz[]) AS n (i, b,
			a)`, id, words, at); err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, `INSERT INTO facts (id, text_id, at, source, claim, ref)
		SELECT i, t, now(), 'receipt', 'delivered', 'f-00000001' FROM unnest($1::uuid[], $2::uuid[]) AS n (i, t)`, factID, textID); err != nil {
		return err
	}
	return tx.Commit(ctx)
}

func postCommitted(ctx context.Context, s settings) ([]Figure, error) {
	n := s.count(30_000)
	h, err := open(ctx, s, single, newGateway())
	if err != nil {
		return nil, err
	}
	defer h.Close()
	if _, err := h.Client.PauseGateway(ctx, "single", "only accepting is measured"); err != nil {
		return nil, err
	}
	began := time.Now()
	if err := h.flood(n); err != nil {
		return nil, err
	}
	rate := float64(n) / time.Since(began).Seconds()
	if _, err := h.db.Exec(ctx, "CREATE TABLE commits (id uuid PRIMARY KEY, body text)"); err != nil {
		return nil, err
	}
	config := h.db.Config().Copy()
	config.MaxConns = 64
	db, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	commits := n / 3
	began = time.Now()
	if err := many(commits, 64, func(i int) error {
		_, err := db.Exec(ctx, "INSERT INTO commits (id, body) VALUES ($1, $2)", uuid.New().String(), text(i, "bulk"))
		return err
	}); err != nil {
		return nil, err
	}
	each := float64(commits) / time.Since(began).Seconds()
	return []Figure{
		{Name: "post_committed", Value: rate, Unit: "requests/s", Bound: each, Ratio: rate / each, Asked: "3 × one commit a request",
			Note: "64 clients; the bound is one commit a request"},
	}, nil
}

// reporters are how many connections a gateway reports over: each waits for its
// answer, so that fewer of them wait for one transaction together.
const reporters = 256

func receiptsTaken(ctx context.Context, s settings) ([]Figure, error) {
	n := s.count(40_000)
	h, err := build(ctx, s)
	if err != nil {
		return nil, err
	}
	defer h.Close()
	g := newGateway()
	g.silent = true
	var url atomic.Value
	g.door = func(body []byte, _ time.Time) {
		var in struct{ Report string }
		json.Unmarshal(body, &in)
		url.Store(in.Report)
	}
	if err := h.gateway(ctx, single, g); err != nil {
		return nil, err
	}
	if err := h.flood(n); err != nil {
		return nil, err
	}
	if err := h.reached(ctx, "accepted", n); err != nil {
		return nil, err
	}
	// Others go on being sent meanwhile.
	c := carrier()
	sending, stop := context.WithCancel(ctx)
	var other sync.WaitGroup
	other.Go(func() {
		for i := 0; sending.Err() == nil; i++ {
			post(c, h.URL+"/v1/messages", h.Key, text(i, "transactional"))
			time.Sleep(5 * time.Millisecond)
		}
	})
	at := url.Load().(string)
	var rate float64
	var last time.Time
	cost := h.cost(n)
	err = h.profiled(s, func() error {
		began := time.Now()
		err := many(n, reporters, func(i int) error {
			return post(g.client, at, "", fmt.Sprintf(`{"id":"f-%08d","state":"delivered"}`, i+1))
		})
		last = time.Now()
		rate = float64(n) / last.Sub(began).Seconds()
		return err
	})
	if err == nil {
		err = h.reached(ctx, "delivered", n)
	}
	stop()
	other.Wait()
	settled := time.Since(last)
	return []Figure{{Name: "receipts", Value: rate, Unit: "callbacks/s", Asked: "5,000/s, settled within 2 s",
		Note: fmt.Sprintf(
			"over %d connections; all settled %.2f s after the last; processor a callback: %s",
			reporters,
			settled.Seconds(),
			cost(),
		)}}, err
}
