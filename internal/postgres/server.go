// Package postgres runs a PostgreSQL server of our own: Debian's binaries, a
// data folder of its own, on loopback only, as a user who is not root.
package postgres

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Options are what may differ from a durable server.
type Options struct {
	// Volatile gives up durability for speed. For tests, whose database dies
	// with them.
	Volatile bool
	// Packaged makes the server as Debian's pg_createcluster does, with nothing set but where it
	// listens: what others bring along.
	Packaged bool
	// Port to listen on; 0 takes a free one.
	Port int
}

// Server is a running PostgreSQL.
type Server struct {
	// URL connects to its database "pigeon" as its owner.
	URL string

	folder string
	cmd    *exec.Cmd
	ended  chan error
	port   int
	role   string // the superuser
	word   string
	over   bool                                      // it ended and was not started again
	again  func(ctx context.Context, port int) error // starts it where it was
}

// ErrNotInstalled means that no PostgreSQL server is on this machine.
var ErrNotInstalled = errors.New("no PostgreSQL server found: install Debian's package postgresql, or set PIGEON_DATABASE_URL")

// binaries is the folder of the newest installed server. Debian keeps it off
// the PATH.
func binaries() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(found) == 0 {
		if path, err := exec.LookPath("postgres"); err == nil {
			return filepath.Dir(path), nil
		}
		return "", ErrNotInstalled
	}
	version := func(path string) int {
		n, _ := strconv.Atoi(strings.Split(path, "/")[4])
		return n
	}
	return filepath.Dir(slices.MaxFunc(found, func(a, b string) int { return version(a) - version(b) })), nil
}

// RunAs is the user the server runs as: postgres refuses root.
func RunAs() (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, fmt.Errorf("PostgreSQL refuses to run as root: %w", err)
	}
	uid, _ := strconv.ParseUint(u.Uid, 10, 32)
	gid, _ := strconv.ParseUint(u.Gid, 10, 32)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

// Start starts the server whose data is in folder, making it when it is not
// there yet. A server left over from a process that was killed is stopped
// first. The server ends when this process does, however it does.
func Start(ctx context.Context, folder string, o Options) (*Server, error) {
	bin, err := binaries()
	if err != nil {
		return nil, err
	}
	who, err := RunAs()
	if err != nil {
		return nil, err
	}
	if folder, err = filepath.Abs(folder); err != nil {
		return nil, err
	}
	s := &Server{folder: folder, ended: make(chan error, 1), role: "pigeon"}
	if o.Packaged { // it is called as its owner is
		owner, err := user.LookupId(ownerOf(who))
		if err != nil {
			return nil, err
		}
		s.role = owner.Username
	}
	data := filepath.Join(folder, "postgres")
	if err := s.prepare(ctx, bin, data, who, o.Packaged); err != nil {
		return nil, err
	}
	if err := stopLeftover(ctx, bin, data, who); err != nil {
		return nil, err
	}
	s.again = func(ctx context.Context, port int) error {
		o.Port = port
		return s.start(ctx, bin, data, who, o)
	}
	for try := 1; ; try++ {
		err := s.start(ctx, bin, data, who, o)
		if err == nil {
			break
		}
		if try == 3 || ctx.Err() != nil { // a port may be taken between choosing and using it
			return nil, err
		}
	}
	return s, nil
}

// prepare makes the data folder: complete under another name first, so that a
// folder that is there is whole.
func (s *Server) prepare(ctx context.Context, bin, data string, who *syscall.Credential, packaged bool) error {
	wordFile := filepath.Join(s.folder, "postgres-password")
	if _, err := os.Stat(filepath.Join(data, "PG_VERSION")); err == nil {
		word, err := os.ReadFile(wordFile)
		s.word = string(word)
		return err
	}
	if err := os.MkdirAll(s.folder, 0o755); err != nil { // #nosec G301 -- the database runs as another user
		return fmt.Errorf("making the data folder: %w", err)
	}
	random := make([]byte, 16)
	rand.Read(random)
	s.word = hex.EncodeToString(random)
	if err := os.WriteFile(wordFile, []byte(s.word), 0o600); err != nil {
		return fmt.Errorf("keeping the database's password: %w", err)
	}
	fresh := data + ".new"
	if err := os.RemoveAll(fresh); err != nil {
		return err
	}
	if err := os.Mkdir(fresh, 0o700); err != nil {
		return err
	}
	// initdb reads the word from a file, as the server's user.
	initFile := wordFile + ".init"
	if err := os.WriteFile(initFile, []byte(s.word+"\n"), 0o600); err != nil {
		return err
	}
	defer os.Remove(initFile)
	if who != nil {
		for _, path := range []string{fresh, initFile} {
			if err := os.Chown(path, int(who.Uid), int(who.Gid)); err != nil {
				return err
			}
		}
	}
	initdb := []string{"--username", s.role, "--encoding", "UTF8", "--locale", "C.UTF-8", "--auth", "scram-sha-256", "--pwfile", initFile}
	init := command(ctx, who, filepath.Join(bin, "initdb"), append([]string{"--pgdata", fresh}, initdb...)...)
	if packaged {
		init = s.createCluster(ctx, bin, fresh, who, initdb)
	}
	if out, err := init.CombinedOutput(); err != nil {
		return fmt.Errorf("%s in %s: %w\n%s", filepath.Base(init.Path), fresh, err, hint(out, s.folder))
	}
	return os.Rename(fresh, data)
}

// createCluster is the command of Debian that makes a server's data and its configuration.
func (s *Server) createCluster(ctx context.Context, bin, data string, who *syscall.Credential, initdb []string) *exec.Cmd {
	version := filepath.Base(filepath.Dir(bin))
	args := append(
		[]string{"--user", ownerOf(who), "--datadir", data, "--start-conf", "manual", "--logfile", filepath.Join(s.folder, "cluster.log"),
			version, "packaged", "--"},
		initdb[2:]...)
	create := command(ctx, nil, "pg_createcluster", args...)
	create.Env = append(os.Environ(), "PG_CLUSTER_CONF_ROOT="+s.configured())
	return create
}

// ownerOf is the number of the user who owns the server's data.
func ownerOf(who *syscall.Credential) string {
	if who == nil {
		return strconv.Itoa(os.Geteuid())
	}
	return strconv.Itoa(int(who.Uid))
}

// configured is where Debian's programs put the configuration of a packaged server.
func (s *Server) configured() string { return filepath.Join(s.folder, "configuration") }

func hint(out []byte, folder string) []byte {
	if bytes.Contains(out, []byte("Permission denied")) {
		return append(out, "The user postgres must be able to reach "+folder+"; set PIGEON_DATA to a folder that it can reach.\n"...)
	}
	return out
}

func command(ctx context.Context, who *syscall.Credential, name string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, name, args...) // #nosec G204 -- the programs of the database server, by fixed names
	cmd.Dir = "/"
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: who}
	return cmd
}

func stopLeftover(ctx context.Context, bin, data string, who *syscall.Credential) error {
	if _, err := os.Stat(filepath.Join(data, "postmaster.pid")); err != nil {
		return nil
	}
	if err := command(ctx, who, filepath.Join(bin, "pg_ctl"), "status", "--pgdata", data).Run(); err != nil {
		return nil // a stale file; the server clears it away
	}
	if out, err := command(ctx, who, filepath.Join(bin, "pg_ctl"), "stop", "--pgdata", data, "--mode", "fast", "--wait").CombinedOutput(); err != nil {
		return fmt.Errorf("stopping the server left over in %s: %w\n%s", data, err, out)
	}
	return nil
}

// buffers is how much the server keeps in memory of its own: an eighth of the
// machine's, 128 MB to 2 GB.
func buffers() string {
	mb := 0
	raw, _ := os.ReadFile("/proc/meminfo")
	for line := range strings.Lines(string(raw)) {
		var kb int
		if n, _ := fmt.Sscanf(line, "MemTotal: %d kB", &kb); n == 1 {
			mb = kb / 1024 / 8
		}
	}
	return strconv.Itoa(min(max(mb, 128), 2048)) + "MB"
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

func (s *Server) start(ctx context.Context, bin, data string, who *syscall.Credential, o Options) error {
	port := o.Port
	if port == 0 {
		var err error
		if port, err = freePort(); err != nil {
			return err
		}
	}
	args := []string{"-D", data, "-c", "listen_addresses=127.0.0.1", "-c", "port=" + strconv.Itoa(port),
		"-c", "unix_socket_directories=", "-c", "logging_collector=off", "-c", "log_destination=stderr",
		"-c", "log_line_prefix=%m [%p] %d ",
		"-c", "max_connections=200", "-c", "shared_buffers=" + buffers(), "-c", "wal_compression=on", "-c", "jit=off"}
	if o.Packaged {
		settings, err := filepath.Glob(filepath.Join(s.configured(), "*", "packaged", "postgresql.conf"))
		if err != nil || len(settings) == 0 {
			return fmt.Errorf("pg_createcluster left no postgresql.conf in %s", s.configured())
		}
		args = []string{"-D", data, "-c", "config_file=" + settings[0], "-c", "data_directory=" + data, "-c", "port=" + strconv.Itoa(port),
			"-c", "unix_socket_directories=", "-c", "ssl=off"} // its key is for members of a group only
	}
	if o.Volatile {
		args = append(args, "-c", "fsync=off", "-c", "synchronous_commit=off", "-c", "full_page_writes=off")
	}
	log, err := os.OpenFile(filepath.Join(s.folder, "postgres.log"), os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	// The process outlives ctx: it is stopped by Stop.
	s.cmd = command(context.WithoutCancel(ctx), who, filepath.Join(bin, "postgres"), args...)
	s.cmd.Stdout, s.cmd.Stderr = log, log
	// A group of its own, so that Ctrl-C on the terminal does not take the
	// database away before its users; and a signal when we die.
	s.cmd.SysProcAttr.Setpgid = true
	s.cmd.SysProcAttr.Pdeathsig = syscall.SIGINT
	started := make(chan error, 1)
	ended := make(chan error, 1)
	go func() {
		// The death signal comes when the starting thread ends, so this one
		// must stay.
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		if err := s.cmd.Start(); err != nil {
			started <- err
			return
		}
		started <- nil
		ended <- s.cmd.Wait()
	}()
	if err := <-started; err != nil {
		return fmt.Errorf("starting PostgreSQL: %w", err)
	}
	s.ended, s.port = ended, port
	s.URL = s.url("pigeon")
	if err := s.await(ctx); err != nil {
		s.Stop()
		said, _ := os.ReadFile(log.Name())
		return fmt.Errorf("PostgreSQL did not come up: %w\n%s", err, hint(said, s.folder))
	}
	return nil
}

func (s *Server) url(database string) string {
	return fmt.Sprintf("postgres://%s:%s@127.0.0.1:%d/%s?sslmode=disable", s.role, s.word, s.port, database)
}

// await waits until the server answers, and makes our database.
func (s *Server) await(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	tick := time.NewTicker(20 * time.Millisecond)
	defer tick.Stop()
	for {
		conn, err := pgx.Connect(ctx, s.url("postgres"))
		if err == nil {
			defer conn.Close(ctx)
			var there bool
			if err := conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_database WHERE datname = 'pigeon')").Scan(&there); err != nil ||
				there {
				return err
			}
			_, err = conn.Exec(ctx, "CREATE DATABASE pigeon")
			return err
		}
		select {
		case err := <-s.ended:
			s.ended <- err
			return fmt.Errorf("it ended: %w", err)
		case <-ctx.Done():
			return err
		case <-tick.C:
		}
	}
}

// NewDatabase makes a further database and returns its URL. Tests use one each.
// It begins as a copy of another one, to which nobody may be connected; as an
// empty one if none is named.
func (s *Server) NewDatabase(ctx context.Context, name, as string) (string, error) {
	conn, err := pgx.Connect(ctx, s.url("postgres"))
	if err != nil {
		return "", err
	}
	defer conn.Close(ctx)
	create := "CREATE DATABASE " + pgx.Identifier{name}.Sanitize()
	if as != "" {
		create += " TEMPLATE " + pgx.Identifier{as}.Sanitize()
	}
	_, err = conn.Exec(ctx, create)
	return s.url(name), err
}

// Pauses before the server is started again, and after how many tries in vain it
// is given up.
const (
	restartFirst = 500 * time.Millisecond
	restartMost  = 30 * time.Second
	restartTries = 8
)

// Keep starts the server again whenever it ends, where it was, until ctx ends. It
// returns an error if it cannot be started any more. Call Stop only after Keep
// has returned.
func (s *Server) Keep(ctx context.Context, log *slog.Logger) error {
	for {
		select {
		case <-ctx.Done():
			return nil
		case err := <-s.ended:
			log.Error("the database server has ended; it is started again", "error", err)
		}
		pause := restartFirst
		for try := 1; ; try++ {
			select {
			case <-ctx.Done():
				s.over = true
				return nil
			case <-time.After(pause):
			}
			err := s.again(ctx, s.port)
			if err == nil {
				log.Info("the database server is there again")
				break
			}
			log.Error("the database server cannot be started", "try", try, "error", err)
			if try == restartTries {
				s.over = true
				return fmt.Errorf("the database server has ended and cannot be started again: %w", err)
			}
			pause = min(2*pause, restartMost)
		}
	}
}

// Errors are the lines of the server's log that tell of errors in one of its databases.
func (s *Server) Errors(database string) ([]string, error) {
	log, err := os.ReadFile(filepath.Join(s.folder, "postgres.log"))
	if err != nil {
		return nil, err
	}
	var errs []string
	for line := range strings.Lines(string(log)) {
		if strings.Contains(line, " "+database+" ERROR:") {
			errs = append(errs, strings.TrimSpace(line))
		}
	}
	return errs, nil
}

// Port is where it listens.
func (s *Server) Port() int { return s.port }

// Stop ends the server and waits until it has written everything down. It may have ended already.
func (s *Server) Stop() {
	if s.over {
		return
	}
	s.over = true
	s.cmd.Process.Signal(syscall.SIGINT) // fast: ends sessions, keeps data
	select {
	case <-s.ended:
	case <-time.After(30 * time.Second):
		s.cmd.Process.Kill()
		<-s.ended
	}
}
