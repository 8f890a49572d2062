package e2e

import (
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/postgres"
	"calmpigeon.example/internal/postgres/pgproxy"
)

// pair is a service whose database is reached through a proxy, and a copy of the database's cluster.
type pair struct {
	*house
	ids     []string
	folder  string // of the server
	server  *postgres.Server
	copied  string // the folder of the copy
	standby *postgres.Server
	proxy   *pgproxy.Proxy
}

// ownServer starts a server of the test's own, which keeps what it commits.
func ownServer(t *testing.T) (folder string, server *postgres.Server) {
	t.Helper()
	folder = reachable(t)
	server = must[*postgres.Server](t)(postgres.Start(t.Context(), folder, postgres.Options{}))
	t.Cleanup(func() { server.Stop() })
	return folder, server
}

// reachable makes a folder that the server's user can reach.
func reachable(t *testing.T) string {
	t.Helper()
	folder, err := os.MkdirTemp("", "pigeon-server-")
	if err == nil {
		err = os.Chmod(folder, 0o755)
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(folder) })
	return folder
}

// backUp takes a base backup of a server into a folder from which one can be started. With follow it is one
// of a standby.
func backUp(t *testing.T, folder, url string, follow bool) (copied string) {
	t.Helper()
	copied = reachable(t)
	data := filepath.Join(copied, "postgres")
	args := []string{"--pgdata", data, "--dbname", url, "--checkpoint", "fast", "--wal-method", "stream"}
	if follow {
		args = append(args, "--write-recovery-conf")
	}
	tool(t, nil, "pg_basebackup", args...)
	word, err := os.ReadFile(filepath.Join(folder, "postgres-password"))
	if err == nil {
		err = os.WriteFile(filepath.Join(copied, "postgres-password"), word, 0o600)
	}
	if who, wrong := postgres.RunAs(); err == nil && wrong == nil && who != nil {
		err = filepath.WalkDir(data, func(path string, _ fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			return os.Lchown(path, int(who.Uid), int(who.Gid))
		})
	}
	if err != nil {
		t.Fatal(err)
	}
	return copied
}

// crash ends a server at once.
func crash(t *testing.T, folder string, server *postgres.Server) {
	t.Helper()
	told, err := os.ReadFile(filepath.Join(folder, "postgres", "postmaster.pid"))
	pid, wrong := strconv.Atoi(strings.TrimSpace(strings.SplitN(string(told), "\n", 2)[0]))
	if err != nil || wrong != nil {
		t.Fatal(err, wrong)
	}
	syscall.Kill(pid, syscall.SIGQUIT)
	server.Stop()
}

// replicated builds a service whose database has a standby, with so many texts for each gateway queued at
// one a second.
func replicated(t *testing.T, each int, synchronous bool) *pair {
	t.Helper()
	folder, server := ownServer(t)
	copied := backUp(t, folder, server.URL, true)
	standby := must[*postgres.Server](t)(postgres.Start(t.Context(), copied, postgres.Options{}))
	t.Cleanup(func() { standby.Stop() })
	if synchronous {
		sql(t, server.URL, "ALTER SYSTEM SET synchronous_standby_names = '*'", "SELECT pg_reload_conf()")
	}
	proxy := must[*pgproxy.Proxy](t)(pgproxy.Start(server.URL))
	t.Cleanup(proxy.Close)
	h, ids := queuedOn(t, proxy.URL, each)
	return &pair{house: h, ids: ids, folder: folder, server: server, copied: copied, standby: standby, proxy: proxy}
}

// failOver ends the server and leads to the standby, which takes its place.
func (p *pair) failOver() {
	p.t.Helper()
	crash(p.t.(*testing.T), p.folder, p.server)
	sql(p.t.(*testing.T), p.standby.URL, "SELECT pg_promote()")
	if err := p.proxy.Redirect(p.standby.URL); err != nil {
		p.t.Fatal(err)
	}
}

// arrive waits until every text is delivered, none of them twice.
func (p *pair) arrive() {
	p.t.Helper()
	p.flow()
	eventually(p.t, "all are delivered", func() bool {
		tally, err := p.Client.Tally(p.t.Context(), client.Filter{})
		return err == nil && tally.States["delivered"] == int64(len(p.ids))
	})
	if n, twice := p.carried(), p.twice(); n != len(p.ids) || twice != nil {
		p.t.Errorf("gateways took %d of %d; twice: %v", n, len(p.ids), twice)
	}
}

// recovers leads through recovery as far as nobody has to decide, and shows that nothing goes twice.
func (p *pair) recovers(reason string) {
	t := p.t.(*testing.T)
	t.Helper()
	carried := p.carried()
	if r := p.quarantined(); r.Reason != reason {
		t.Errorf("%s: %s", r.Reason, r.Why)
	}
	if code, out, errOut := p.pigeon("", "recover", "ask", "--wait", "40s"); code != 0 {
		t.Errorf("asked: %d\n%s%s", code, out, errOut)
	}
	if n := p.carried(); n != carried {
		t.Errorf("in quarantine gateways took %d more", n-carried)
	}
	if code, out, errOut := p.pigeon("", "recover", "lift", "--yes"); code != 0 {
		t.Fatalf("lifted: %d\n%s%s", code, out, errOut)
	}
	p.flow()
	eventually(t, "what can be asked about, or takes a reference once, is delivered", func() bool {
		for _, gateway := range []string{"harbourline", "waxseal"} {
			tally := must[client.Tally](t)(p.Client.Tally(t.Context(), client.Filter{Gateway: gateway}))
			if tally.States["delivered"] != tally.Total || tally.Total == 0 {
				return false
			}
		}
		return true
	})
	if twice := p.twice(); twice != nil {
		t.Errorf("twice: %v", twice)
	}
}

// After a failover that loses nothing the service goes on by itself, whether it ran meanwhile or not.
func TestASynchronousFailover(t *testing.T) {
	t.Parallel()
	for name, runs := range map[string]bool{"while it runs": true, "while no instance runs": false} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := replicated(t, 5, true)
			eventually(t, "some have gone", func() bool { return p.carried() > 3 })
			if !runs {
				p.stop(os.Interrupt)
			}
			p.failOver()
			if !runs {
				p.restart()
			}
			eventually(t, "the service answers again", func() bool {
				answer, _ := p.request("GET", "/healthz", "")
				return answer.StatusCode == http.StatusOK
			})
			p.arrive()
			if r := must[client.Recovery](t)(p.Client.Recovery(t.Context())); r.Quarantine {
				t.Errorf("it is in quarantine: %s", r.Why)
			}
		})
	}
}

// A failover that loses transactions is noticed before another request leaves, by an instance that runs and
// by one that starts; without its data folder an instance cannot know, and asks.
func TestAnAsynchronousFailover(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		runs, forgets bool
		reason        string
	}{
		"while it runs":               {true, false, "rewound"},
		"while no instance runs":      {false, false, "rewound"},
		"and the data folder is gone": {false, true, "promoted"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := replicated(t, 5, false)
			eventually(t, "some have gone", func() bool { return p.carried() > 3 })
			sql(t, p.standby.URL, "ALTER SYSTEM SET primary_conninfo = ''", "SELECT pg_reload_conf()")
			eventually(t, "the standby follows no more", func() bool { return !p.followed() })
			p.flow()
			eventually(t, "all have gone", func() bool { return p.carried() == len(p.ids) })
			if !c.runs {
				p.stop(os.Interrupt)
			}
			if c.forgets {
				p.data = t.TempDir()
			}
			p.failOver()
			if !c.runs {
				p.restart()
			}
			p.recovers(c.reason)
		})
	}
}

// followed reports whether the standby gets what the server writes.
func (p *pair) followed() bool {
	return number(p.t.(*testing.T), p.server.URL, "SELECT count(*) FROM pg_stat_replication") > 0
}

// A base backup of an earlier moment in the place of the cluster is noticed: the address, the cluster and the
// timeline are the same.
func TestABaseBackupOfAnEarlierMoment(t *testing.T) {
	t.Parallel()
	folder, server := ownServer(t)
	h, ids := queuedOn(t, server.URL, 5)
	p := &pair{house: h, ids: ids, folder: folder, server: server}
	eventually(t, "some have gone", func() bool { return p.carried() > 3 })
	p.copied = backUp(t, folder, server.URL, false)
	p.flow()
	eventually(t, "all have gone", func() bool { return p.carried() == len(ids) })
	p.kill()
	port := server.Port()
	server.Stop()
	earlier := must[*postgres.Server](t)(postgres.Start(t.Context(), p.copied, postgres.Options{Port: port}))
	t.Cleanup(earlier.Stop)
	p.restart()
	p.recovers("rewound")
}
