package e2e

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/postgres/pgproxy"
	"calmpigeon.example/internal/postgres/pgtest"
)

// Connections to the database are cut at random COMMITs, before they are done and after, under load. At
// the end no accepted message is missing, none went more often than its evidence allowed, none is left
// over, and everything adds up.
func TestCommitsAreCut(t *testing.T) {
	t.Parallel()
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	proxy, err := pgproxy.Start(pgtest.Database(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(proxy.Close)
	h := buildOn(t, proxy.URL).withHarbourline()
	var mu sync.Mutex
	random := rand.New(rand.NewPCG(seed, 1))
	now := func(one int) func() bool {
		return func() bool {
			mu.Lock()
			defer mu.Unlock()
			return random.IntN(one) == 0
		}
	}
	cut := proxy.Inject(pgproxy.Fault{Do: pgproxy.CutBefore, Times: -1, When: now(25)})
	lost := proxy.Inject(pgproxy.Fault{Do: pgproxy.LoseAnswer, Times: -1, When: now(20)})
	const senders, each = 6, 20
	sent := map[string]client.Draft{}
	var loading sync.WaitGroup
	for s := range senders {
		loading.Go(func() {
			for i := range each {
				d := client.Draft{To: fmt.Sprintf("+44770090%02d01", s), Text: fmt.Sprintf("Text %d of sender %d", i, s)}
				m, err := h.accepted(t.Context(), d, fmt.Sprintf("%d-%d", s, i))
				if err != nil {
					t.Errorf("sender %d, text %d: %v", s, i, err)
					return
				}
				mu.Lock()
				sent[m.ID] = d
				mu.Unlock()
			}
		})
	}
	loading.Wait()
	<-cut.Hit
	<-lost.Hit
	proxy.Clear()
	if len(sent) != senders*each {
		t.Fatalf("%d messages were accepted of %d", len(sent), senders*each)
	}
	within(t, 2*time.Minute, "every message has an end", func() bool {
		tally := must[client.Tally](t)(h.Client.Tally(t.Context(), client.Filter{}))
		return tally.States["queued"]+tally.States["sending"]+tally.States["doubtful"]+tally.States["accepted"]+tally.States["enroute"] == 0
	})
	h.audit(sent)
}

// keepersOf counts the gateways that each instance keeps.
func keepersOf(t *testing.T, c *pgx.Conn) (holders map[string]int) {
	t.Helper()
	rows, err := c.Query(t.Context(), `SELECT k.holder::text FROM keepers k JOIN gateways g ON g.id = k.gateway_id
		WHERE until > clock_timestamp() AND holder <> '00000000-0000-0000-0000-000000000000'`)
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	holders = map[string]int{}
	for rows.Next() {
		var holder string
		if err := rows.Scan(&holder); err != nil {
			t.Fatal(err)
		}
		holders[holder]++
	}
	return holders
}

// Gateways are spread when an instance joins, all of them flow when one is frozen, wherever it stands
// still, and nothing goes twice when it wakes.
func TestFrozenInstanceIsReplaced(t *testing.T) {
	t.Parallel()
	h := build(t).with("harbourline", "waxseal", "sandbank", "commonquay", "longshore")
	c, err := pgx.Connect(t.Context(), h.database)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close(t.Context())
	kept := func() (n, instances int) {
		for _, of := range keepersOf(t, c) {
			n, instances = n+of, instances+1
		}
		return n, instances
	}
	eventually(t, "one instance keeps all", func() bool { n, instances := kept(); return n == 5 && instances == 1 })
	other := h.beside()
	eventually(t, "both keep some, or chance gave all to one", func() bool {
		n, instances := kept()
		return n == 5 && instances >= 1
	})
	gateways := []string{"harbourline", "waxseal", "sandbank", "commonquay", "longshore"}
	for round := range 2 {
		if err := h.cmd.Process.Signal(syscall.SIGSTOP); err != nil {
			t.Fatal(err)
		}
		froze := time.Now()
		var ids []string
		for _, gateway := range gateways {
			m := must[client.Message](t)(other.Client.Send(t.Context(), client.Draft{
				To: fmt.Sprintf("+44770090%02d01", 20+round), Text: fmt.Sprintf("Round %d through %s", round, gateway), Gateway: gateway,
			}))
			ids = append(ids, m.ID)
		}
		eventually(t, "every gateway flows", func() bool {
			for _, id := range ids {
				if m := must[client.Message](t)(other.Client.Message(t.Context(), id, false)); m.State == "queued" || m.State == "sending" {
					return false
				}
			}
			return true
		})
		t.Logf("after a freeze every gateway flows in %v", time.Since(froze).Round(100*time.Millisecond))
		if err := h.cmd.Process.Signal(syscall.SIGCONT); err != nil {
			t.Fatal(err)
		}
		eventually(t, "all gateways are kept", func() bool { n, _ := kept(); return n == 5 })
	}
	if twice := h.twice(); twice != nil {
		t.Errorf("twice: %v", twice)
	}
}

// Two instances are restarted one after the other under load: no request fails but those that find nobody
// there, and nothing is in doubt.
func TestRollingRestarts(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	other := h.beside()
	houses := []*house{h, other}
	done := make(chan struct{})
	var loading sync.WaitGroup
	var mu sync.Mutex
	sent := map[string]client.Draft{}
	for s := range 4 {
		loading.Go(func() {
			for i := 0; ; i++ {
				select {
				case <-done:
					return
				case <-time.After(10 * time.Millisecond):
				}
				d := client.Draft{To: fmt.Sprintf("+44770090%02d01", 30+s), Text: fmt.Sprintf("Text %d of sender %d", i, s)}
				for try := 0; ; try++ {
					mu.Lock()
					to := houses[(s+try)%2].Client
					mu.Unlock()
					m, err := to.SendOnce(t.Context(), d, fmt.Sprintf("%d-%d", s, i))
					if err == nil {
						mu.Lock()
						sent[m.ID] = d
						mu.Unlock()
						break
					}
					if !errors.Is(err, syscall.ECONNREFUSED) || try > 200 { // it is not there just now
						t.Errorf("sender %d, text %d: %v", s, i, err)
						return
					}
					time.Sleep(20 * time.Millisecond)
				}
			}
		})
	}
	rounds := 2
	if os.Getenv("FAULTS") != "" { // there is time
		rounds = 10
	}
	for range rounds {
		for _, one := range houses {
			time.Sleep(time.Duration(300+rand.IntN(500)) * time.Millisecond)
			one.stop(os.Interrupt)
			mu.Lock()
			one.restart()
			mu.Unlock()
		}
	}
	close(done)
	loading.Wait()
	ever := 0
	c, err := pgx.Connect(t.Context(), h.database)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close(t.Context())
	if err := c.QueryRow(t.Context(), "SELECT count(*) FROM evidence WHERE claim = 'doubtful'").Scan(&ever); err != nil || ever > 0 {
		t.Errorf("of %d messages %d were in doubt, %v", len(sent), ever, err)
	}
	if twice := h.twice(); twice != nil {
		t.Errorf("twice: %v", twice)
	}
	errs := slices.DeleteFunc(pgtest.Errors(t, h.database), func(line string) bool {
		return strings.Contains(line, "canceling statement due to user request") // one that was stopped was reading
	})
	if len(errs) > 0 {
		t.Errorf("PostgreSQL logs %d errors, %q the first", len(errs), errs[0])
	}
}
