package e2e

import (
	"bytes"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/postgres/pgtest"
)

// tool runs one of PostgreSQL's programs.
func tool(t *testing.T, in []byte, name string, args ...string) []byte {
	t.Helper()
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/" + name)
	if len(found) == 0 {
		t.Fatalf("there is no %s beside the server", name)
	}
	cmd := exec.Command(found[len(found)-1], args...)
	cmd.Stdin = bytes.NewReader(in)
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	if err := cmd.Run(); err != nil {
		t.Fatalf("%s: %v\n%s", name, err, errOut.String())
	}
	return out.Bytes()
}

// dump takes a dump of a database, and load loads it into one that is empty.
func dump(t *testing.T, database string) []byte {
	return tool(t, nil, "pg_dump", "--no-owner", database)
}

func load(t *testing.T, dump []byte, database string) {
	tool(t, dump, "psql", "--quiet", "--set", "ON_ERROR_STOP=1", "--dbname", database)
}

// sql runs a statement on a database.
func sql(t *testing.T, database string, statements ...string) {
	t.Helper()
	c, err := pgx.Connect(t.Context(), database)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close(t.Context())
	for _, s := range statements {
		if _, err := c.Exec(t.Context(), s); err != nil {
			t.Fatalf("%s: %v", s, err)
		}
	}
}

// number asks a database for a number.
func number(t *testing.T, database, question string) (n int) {
	t.Helper()
	c, err := pgx.Connect(t.Context(), database)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close(t.Context())
	if err := c.QueryRow(t.Context(), question).Scan(&n); err != nil {
		t.Fatal(err)
	}
	return n
}

// empty makes a database anew, with nothing in it.
func empty(t *testing.T, database string) {
	t.Helper()
	u, err := url.Parse(database)
	if err != nil {
		t.Fatal(err)
	}
	name := pgx.Identifier{strings.TrimPrefix(u.Path, "/")}.Sanitize()
	u.Path = "/postgres"
	sql(t, u.String(), "DROP DATABASE "+name+" WITH (FORCE)", "CREATE DATABASE "+name)
}

// restored are the gateways of these tests: one that takes a reference once, one that can be asked by
// it, and one that can do neither.
var restored = []string{"harbourline", "waxseal", "sandbank"}

// queued builds a house with these gateways, at a text a second each, and accepts so many texts for
// each.
func queued(t *testing.T, each int) (*house, []string) {
	t.Helper()
	return queuedOn(t, pgtest.Database(t), each)
}

func queuedOn(t *testing.T, database string, each int) (*house, []string) {
	t.Helper()
	h := buildOn(t, database).with(restored...)
	slow := 1
	for _, name := range restored {
		must[client.Gateway](t)(h.Client.ChangeGateway(t.Context(), name, client.GatewayChange{PerSecond: &slow}))
	}
	var ids []string
	for i := range each {
		for g, name := range restored {
			m := h.send(client.Draft{To: fmt.Sprintf("+4477009001%d%d", g, i), Text: fmt.Sprintf("Berth %d", i), Gateway: name})
			ids = append(ids, m.ID)
		}
	}
	return h, ids
}

// flow lets the gateways go fast.
func (h *house) flow() {
	h.t.Helper()
	fast := 50
	for _, name := range restored {
		eventually(h.t, name+" is changed", func() bool { // just after a failover a connection may break
			_, err := h.Client.ChangeGateway(h.t.Context(), name, client.GatewayChange{PerSecond: &fast})
			return err == nil
		})
	}
}

// carried counts what gateways took, and phones got.
func (h *house) carried() (n int) {
	for _, name := range restored {
		n += len(h.Fleet.Gateway(name).Entries())
	}
	return n
}

// twice lists numbers that got a text more than once.
func (h *house) twice() (all []string) {
	for _, p := range h.Fleet.Phones.All("", 1000) {
		seen := map[string]bool{}
		for _, text := range p.Texts {
			if seen[text.Text] {
				all = append(all, p.Number+": "+text.Text)
			}
			seen[text.Text] = true
		}
	}
	return all
}

// quarantined waits until the service is in quarantine and has made doubtful what may have gone.
func (h *house) quarantined() client.Recovery {
	h.t.Helper()
	var r client.Recovery
	eventually(h.t, "it is in quarantine", func() bool {
		var err error // just after a failover a connection may break
		r, err = h.Client.Recovery(h.t.Context())
		return err == nil && r.Quarantine && r.Prepared
	})
	return r
}

// A dump that was taken while texts were queued is restored after they have gone, into the same
// database: none goes a second time. A gateway that can be asked settles its messages, one that honours
// references takes its messages again without harm, and those of the others wait for a decision.
func TestARestoredDumpSendsNothingTwice(t *testing.T) {
	t.Parallel()
	const each = 8
	h, ids := queued(t, each)
	copied := dump(t, h.database)
	h.flow()
	eventually(t, "all have gone", func() bool { return h.carried() == len(ids) })
	h.kill()
	empty(t, h.database)
	load(t, copied, h.database)
	h.restart()

	r := h.quarantined()
	if r.Reason != "copied" || len(r.Doubtful) != 3 {
		t.Fatalf("%+v", r)
	}
	means := map[string]string{}
	for _, d := range r.Doubtful {
		means[d.Gateway] = d.Means
	}
	if fmt.Sprint(means) != "map[harbourline:honours_reference sandbank:not_at_all waxseal:by_reference]" {
		t.Errorf("%v", means)
	}
	if _, body := h.request("GET", "/healthz", ""); !strings.Contains(body, "quarantine") {
		t.Errorf("/healthz: %s", body)
	}
	if answer, body := h.request("POST", "/v1/messages", `{"to":"+447700900190","text":"x"}`); answer.StatusCode != http.StatusServiceUnavailable ||
		!strings.Contains(body, "pigeon recover") {
		t.Errorf("a text to be sent: %d %s", answer.StatusCode, body)
	}
	code, out, errOut := h.pigeon("", "recover")
	for _, said := range []string{"In quarantine since", "loaded from a dump", "The database knows nothing after", "cannot be asked: decide", "Next: pigeon recover ask"} {
		if code != 0 || !strings.Contains(out, said) && !(said == "loaded from a dump" && strings.Contains(out, "OID")) {
			t.Errorf("pigeon recover does not say %q: %d\n%s%s", said, code, out, errOut)
		}
	}
	if code, out, errOut := h.pigeon("", "recover", "ask", "--wait", "40s"); code != 0 || strings.Contains(out, "waxseal") {
		t.Errorf("asked: %d\n%s%s", code, out, errOut)
	}
	if n := h.carried(); n != len(ids) {
		t.Fatalf("in quarantine gateways took %d more", n-len(ids))
	}
	if code, _, errOut := h.pigeon("no\n", "recover", "lift"); code == 0 || !strings.Contains(errOut, "not lifted") {
		t.Errorf("no: %d %s", code, errOut)
	}
	if code, out, errOut := h.pigeon("", "recover", "lift", "--yes"); code != 0 || !strings.Contains(out, "No quarantine") {
		t.Fatalf("lifted: %d\n%s%s", code, out, errOut)
	}
	h.flow()
	states := map[string]map[string]int{}
	eventually(t, "all that is known or goes again has an end", func() bool {
		states = map[string]map[string]int{}
		for _, id := range ids {
			m := must[client.Message](t)(h.Client.Message(t.Context(), id, false))
			if states[m.Gateway] == nil {
				states[m.Gateway] = map[string]int{}
			}
			states[m.Gateway][m.State]++
		}
		return states["harbourline"]["delivered"] == each && states["waxseal"]["delivered"] == each
	})
	for _, e := range must[client.Message](t)(h.Client.Message(t.Context(), ids[len(ids)-1], false)).Evidence {
		if e.Claim == "sending" && r.Since != nil && !e.At.Before(*r.Since) {
			t.Errorf("what may have gone since the copy is said to have begun at %s, in the quarantine", e.At)
		}
	}
	if s := states["sandbank"]; s["doubtful"] == 0 || s["queued"]+s["sending"]+s["cancelled"] > 0 {
		t.Errorf("without evidence: %v", states["sandbank"])
	}
	if n, twice := h.carried(), h.twice(); n != len(ids) || twice != nil {
		t.Errorf("gateways took %d of %d; twice: %v", n, len(ids), twice)
	}
	h.stop(os.Interrupt)
	h.restart()
	if r := must[client.Recovery](t)(h.Client.Recovery(t.Context())); r.Quarantine {
		t.Errorf("after a restart it is in quarantine again: %s", r.Why)
	}
	if m := h.send(client.Draft{To: "+447700900199", Text: "After all", Gateway: "harbourline"}); h.settled(m.ID).State != "delivered" {
		t.Error("it does not send after all")
	}
}

// A decision for a kind and a gateway takes effect when the quarantine is lifted, and not before.
func TestDecidedInQuarantine(t *testing.T) {
	t.Parallel()
	const each = 4
	h, ids := queued(t, each)
	h.stop(os.Interrupt)
	before := h.carried()
	h.flags = append(h.flags, "--quarantine")
	h.restart()
	h.flags = h.flags[:len(h.flags)-1]
	r := h.quarantined()
	waiting := 0
	for _, d := range r.Doubtful {
		waiting += int(d.N)
	}
	if r.Reason != "by_hand" || waiting == 0 || waiting > len(ids)-before {
		t.Fatalf("%d wait of %d: %+v", waiting, len(ids), r)
	}
	for _, wrong := range [][]string{{"decide", "perhaps"}, {"decide", "send"}, {"decide", "hold", "--gateway", "nobody"}, {"decide", "hold", "--kind", "post"}, {"decide", "hold", "--older", "soon"}} {
		if code, _, errOut := h.pigeon("", append([]string{"recover"}, wrong...)...); code == 0 || errOut == "" {
			t.Errorf("%v: %d %s", wrong, code, errOut)
		}
	}
	if code, out, _ := h.pigeon("", "recover", "decide", "cancel", "--kind", "bulk", "--gateway", "sandbank", "--dry-run"); code != 0 ||
		!strings.Contains(out, "dry run") {
		t.Errorf("%d %s", code, out)
	}
	for gateway, choice := range map[string]string{"sandbank": "cancel", "waxseal": "send", "harbourline": "hold"} {
		kind := r.Doubtful[0].Kind
		if code, out, errOut := h.pigeon("", "recover", "decide", choice, "--kind", kind, "--gateway", gateway); code != 0 {
			t.Errorf("%s: %d\n%s%s", gateway, code, out, errOut)
		}
	}
	if code, _, errOut := h.pigeon("", "recover", "lift", "--yes"); code != 0 {
		t.Fatal(errOut)
	}
	h.flow()
	eventually(t, "what was decided is done", func() bool {
		states := map[string]int{}
		for _, id := range ids {
			m := must[client.Message](t)(h.Client.Message(t.Context(), id, false))
			if m.Gateway == "waxseal" || m.Gateway == "harbourline" {
				states["others "+m.State]++
			} else {
				states[m.State]++
			}
		}
		return states["others delivered"] == 2*each && states["cancelled"]+states["delivered"] == each && states["cancelled"] > 0
	})
	if twice := h.twice(); twice != nil {
		t.Errorf("twice: %v", twice)
	}
}

// Batches are half through when a dump is taken, which is restored after all rows have gone. No row goes
// twice: rows that were no messages yet are doubtful, like the messages, and go through the same recovery.
func TestBatchesAfterARestoredDump(t *testing.T) {
	t.Parallel()
	const rows = 40
	h, _ := queued(t, 0)
	var all []string
	for g, name := range restored {
		list := "mobile,name\n"
		for i := range rows {
			list += fmt.Sprintf("+44770090%02d%02d,n%d\n", 10+g, i, i)
		}
		one := h.batched([]byte(list), client.BatchWants{Text: "Hello {name}", Gateway: name})
		must[client.Batch](t)(h.Client.LaunchBatch(t.Context(), one.ID, client.Launch{Pace: "5/s"}))
		all = append(all, one.ID)
	}
	slow := 5
	for _, name := range restored {
		must[client.Gateway](t)(h.Client.ChangeGateway(t.Context(), name, client.GatewayChange{PerSecond: &slow}))
	}
	eventually(t, "some have gone", func() bool { return h.carried() > 10 })
	copied := dump(t, h.database)
	h.flow()
	for _, id := range all {
		must[client.Batch](t)(h.Client.PaceBatch(t.Context(), id, ""))
	}
	eventually(t, "all have gone", func() bool { return h.carried() == 3*rows })
	h.kill()
	empty(t, h.database)
	load(t, copied, h.database)
	h.restart()

	r := h.quarantined()
	doubtful := int64(0)
	for _, d := range r.Doubtful {
		doubtful += d.N
	}
	if doubtful < rows {
		t.Errorf("%d rows and messages are doubtful: %+v", doubtful, r.Doubtful)
	}
	if code, out, errOut := h.pigeon("", "recover", "ask", "--wait", "40s"); code != 0 {
		t.Errorf("asked: %d\n%s%s", code, out, errOut)
	}
	if code, out, errOut := h.pigeon("", "recover", "lift", "--yes"); code != 0 {
		t.Fatalf("lifted: %d\n%s%s", code, out, errOut)
	}
	h.flow()
	for _, id := range all {
		eventually(t, "a batch goes on, unless asking settled all of it", func() bool {
			if one := must[client.Batch](t)(h.Client.Batch(t.Context(), id)); one.State != "paused" {
				return true
			}
			_, err := h.Client.ResumeBatch(t.Context(), id)
			return err == nil
		})
	}
	for g, name := range restored {
		one := h.batchWhen(all[g], "the batch through "+name+" stands still", func(b client.Batch) bool {
			states := b.Tally.States
			return name == "sandbank" && states["queued"]+states["sending"]+states["held"] == 0 || states["delivered"] == rows
		})
		// Nobody can say what became of those through sandbank, also of those whose receipts came after the copy.
		if s := one.Tally.States; name == "sandbank" && s["delivered"]+s["doubtful"]+s["accepted"]+s["unknown"] != rows {
			t.Errorf("%s: %s", name, one.Tally.Equation)
		}
	}
	if n, twice := h.carried(), h.twice(); n != 3*rows || twice != nil {
		t.Errorf("gateways took %d of %d; twice: %v", n, 3*rows, twice)
	}
}

// A clone that is started beside the original sends nothing, whatever it holds as queued.
func TestACloneSendsNothing(t *testing.T) {
	t.Parallel()
	h, ids := queued(t, 6)
	copied := dump(t, h.database)
	clone := &house{t: t, database: pgtest.Empty(t), data: t.TempDir(), Key: h.Key, FleetURL: h.FleetURL, Fleet: h.Fleet}
	load(t, copied, clone.database)
	clone.start("127.0.0.1:0")
	t.Cleanup(clone.end)
	clone.quarantined()
	h.flow()
	eventually(t, "the original sends all", func() bool { return h.carried() == len(ids) })
	if twice := h.twice(); twice != nil {
		t.Errorf("twice: %v", twice)
	}
	if tally := must[client.Tally](t)(clone.Client.Tally(t.Context(), client.Filter{})); tally.States["doubtful"] == 0 ||
		tally.States["queued"] > 0 {
		t.Errorf("the clone: %s", tally.Equation)
	}
}

// A database that loses what was committed while the service runs, as an asynchronous failover does, is
// noticed before another request leaves. Receipts are taken, and after recovery it goes on.
func TestLostCommitsAreNoticedWhileRunning(t *testing.T) {
	t.Parallel()
	h, ids := queued(t, 10)
	eventually(t, "some have gone", func() bool { return h.carried() > 3 })
	sql(t, h.database, "DELETE FROM commit_marks")
	lost := h.carried()
	r := h.quarantined()
	if r.Reason != "rewound" {
		t.Errorf("%+v", r)
	}
	after := h.carried()
	if after > lost+len(restored) { // what was leaving just then
		t.Errorf("%d more went after it was lost", after-lost)
	}
	h.flow() // settings are taken
	time.Sleep(time.Second)
	if n := h.carried(); n != after {
		t.Errorf("%d went in quarantine", n-after)
	}
	for _, args := range [][]string{{"recover", "decide", "send", "--kind", r.Doubtful[0].Kind}, {"recover", "lift", "--yes"}} {
		if code, out, errOut := h.pigeon("", args...); code != 0 {
			t.Fatalf("%v: %d\n%s%s", args, code, out, errOut)
		}
	}
	eventually(t, "all arrive", func() bool {
		return must[client.Tally](t)(h.Client.Tally(t.Context(), client.Filter{})).States["delivered"] == int64(len(ids))
	})
	if twice := h.twice(); twice != nil {
		t.Errorf("twice: %v", twice)
	}
}

// An instance whose database was migrated by a newer version gives its gateways up, sends nothing,
// and says why; pigeon migrate and serve --migrate=check tell the same.
func TestAnInstanceMeetsANewerSchema(t *testing.T) {
	t.Parallel()
	h, _ := queued(t, 10)
	eventually(t, "some have gone", func() bool { return h.carried() > 2 })
	sql(t, h.database, "INSERT INTO goose_db_version (version_id, is_applied) VALUES (9999, true)")
	eventually(t, "it says that the schema is newer", func() bool {
		answer, body := h.request("GET", "/healthz", "")
		return answer.StatusCode == http.StatusServiceUnavailable && strings.Contains(body, "newer-schema")
	})
	c, err := pgx.Connect(t.Context(), h.database)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close(t.Context())
	within(t, 10*time.Second, "it gives its gateways up", func() bool {
		held := 0
		if err := c.QueryRow(t.Context(), "SELECT count(*) FROM keepers WHERE until > clock_timestamp()").Scan(&held); err != nil {
			t.Fatal(err)
		}
		return held == 0
	})
	n := h.carried()
	if answer, body := h.request("POST", "/v1/messages", `{"to":"+447700900190","text":"x"}`); answer.StatusCode != http.StatusServiceUnavailable {
		t.Errorf("a text to be sent: %d %s", answer.StatusCode, body)
	}
	if code, out, errOut := h.pigeon("", "migrate", "--check", "--database-url", h.database); code == 0 ||
		!strings.Contains(errOut, "9999") {
		t.Errorf("pigeon migrate: %d %s%s", code, out, errOut)
	}
	if after := h.carried(); after != n {
		t.Errorf("%d more went", after-n)
	}
	sql(
		t,
		h.database,
		`DELETE FROM goose_db_version WHERE version_id = 9999
			OR version_id = (SELECT max(version_id) FROM goose_db_version WHERE version_id < 9999)`,
	)
	if code, out, errOut := h.pigeon("", "migrate", "--check", "--database-url", h.database); code != 3 ||
		!strings.Contains(out, "Run: pigeon migrate") {
		t.Errorf("pigeon migrate --check: %d %s%s", code, out, errOut)
	}
	if code, _, errOut := h.pigeon("", "serve", "--migrate=check", "--listen", "127.0.0.1:0", "--data", t.TempDir(), "--database-url", h.database); code == 0 ||
		!strings.Contains(errOut, "pigeon migrate") {
		t.Errorf("serve --migrate=check: %d %s", code, errOut)
	}
}
