package pgtest

import (
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"calmpigeon.example/internal/postgres"
)

// Pooler runs Debian's PgBouncer before a database until the test ends, and returns the URL by which
// the database is reached through it. Mode is its pool_mode; at most so many sessions of the server are
// open at a time.
func Pooler(t testing.TB, databaseURL, mode string, sessions int) string {
	t.Helper()
	binary, err := exec.LookPath("pgbouncer")
	if err != nil {
		binary = "/usr/sbin/pgbouncer" // not on everybody's PATH
	}
	if _, err := os.Stat(binary); err != nil {
		t.Skip("PgBouncer is not installed; make test installs it")
	}
	direct, err := url.Parse(databaseURL)
	if err != nil {
		t.Fatal(err)
	}
	word, _ := direct.User.Password()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	address := l.Addr().(*net.TCPAddr)
	l.Close()
	folder := t.TempDir()
	config := filepath.Join(folder, "pooler.ini")
	text := fmt.Sprintf(`[databases]
* = host=127.0.0.1 port=%s user=%s password=%s
[pgbouncer]
listen_addr = 127.0.0.1
listen_port = %d
unix_socket_dir =
auth_type = any
pool_mode = %s
default_pool_size = %d
`, direct.Port(), direct.User.Username(), word, address.Port, mode, sessions)
	who, err := postgres.RunAs()
	if err == nil {
		err = os.WriteFile(config, []byte(text), 0o600)
	}
	if err == nil && who != nil { // like the server, it refuses root
		for path := folder; err == nil && path != os.TempDir() && path != "/"; path = filepath.Dir(path) {
			err = os.Chmod(path, 0o755) // #nosec G302 -- the pooler runs as another user
		}
		if err == nil {
			err = os.Chown(config, int(who.Uid), int(who.Gid))
		}
	}
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(binary, config) // #nosec G204 -- Debian's program
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: who, Pdeathsig: syscall.SIGKILL}
	log, err := os.Create(filepath.Join(folder, "pooler.log"))
	if err != nil {
		t.Fatal(err)
	}
	cmd.Stdout, cmd.Stderr = log, log
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		cmd.Process.Kill()
		cmd.Wait()
		log.Close()
	})
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		if c, err := net.Dial("tcp", address.String()); err == nil {
			c.Close()
			break
		}
		if time.Now().After(deadline) {
			said, _ := os.ReadFile(log.Name())
			t.Fatalf("PgBouncer does not come up:\n%s", said)
		}
	}
	pooled := *direct
	pooled.Host = address.String()
	return pooled.String()
}
