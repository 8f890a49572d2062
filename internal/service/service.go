// Package service runs the whole service: database, engine and HTTP.
package service

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"net/http/pprof"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"sync"
	"syscall"
	"time"

	"calmpigeon.example/console"
	"calmpigeon.example/internal/api"
	"calmpigeon.example/internal/buildinfo"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/sender"
	"calmpigeon.example/internal/engine"
	"calmpigeon.example/internal/engine/batches"
	"calmpigeon.example/internal/engine/intake"
	"calmpigeon.example/internal/engine/keys"
	"calmpigeon.example/internal/engine/recovery"
	"calmpigeon.example/internal/postgres"
	"calmpigeon.example/internal/store"
)

// Options are what may differ from one instance to another.
type Options struct {
	Listen      string        // host:port; port 0 takes a free one
	DatabaseURL string        // empty: a PostgreSQL of our own in Data
	Data        string        // the folder of what is kept outside the database
	PublicURL   string        // where gateways reach us; empty: where we listen
	PhoneURL    string        // of the practice phone; empty if there is none
	SealKey     string        // 32 bytes in base64; empty: kept in Data
	Lease       time.Duration // how long a keeper that died holds up its gateway
	KeepRaw     time.Duration // how long raw exchanges are kept
	// KeepMessages is how long messages are kept, in whole months; 0: for ever.
	KeepMessages time.Duration
	Clock        func() time.Time // nil: the database's
	StopWithin   time.Duration    // how long stopping may take; 0: as long as it takes
	ProfileAt    string           // where Go's profiles are answered; empty: nowhere
	Balance      time.Duration    // how often gateways are asked what is left
	Statements   time.Duration    // how long after the end of its span a gateway's statement is fetched
	StrayQuiet   time.Duration    // how long nothing may have been heard before strays are judged
	OnlyPublic   bool             // no gateway at a private address
	Quarantine   bool             // send nothing until somebody has led through recovery
	CheckSchema  bool             // migrate nothing: a schema that is older than this version's stops the start
	Log          *slog.Logger

	// What becomes of messages to kinds of lines: allow, warn or refuse; as
	// usual if empty.
	FixedLines, SpecialRate, Unassigned string

	// Batches are the limits of all batches.
	Batches batches.Limits

	// ShowFirstKey is given the key that is made when there is none, before it
	// is in use: whoever is killed in between is shown another at the next
	// start. What it returns as an error stops the start.
	ShowFirstKey func(key string) error
	// Opened is given the engine before requests are answered: for a program that runs the service within itself.
	Opened func(*engine.Engine)
}

// DefaultData is the data folder when none is given: one that the user of the
// database can reach, which root's home is not.
func DefaultData() string {
	if os.Geteuid() == 0 {
		return "/var/lib/calm-pigeon"
	}
	if home := os.Getenv("XDG_DATA_HOME"); home != "" {
		return filepath.Join(home, "calm-pigeon")
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return filepath.Join(os.TempDir(), "calm-pigeon")
	}
	return filepath.Join(home, ".local", "share", "calm-pigeon")
}

// memoryUsual is up to how much memory, in octets, garbage may pile up. Beyond it, it is collected more often; what is in
// use may be more.
const memoryUsual = 400 << 20

// Run runs the service until ctx ends and everything in flight is recorded.
// ready is called with the service's address once requests are answered.
func Run(ctx context.Context, o Options, ready func(url string)) error {
	if os.Getenv("GOGC") == "" {
		// The heap is small and full of what lives for milliseconds.
		debug.SetGCPercent(400)
	}
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(memoryUsual)
	}
	o.Log.Info("starting", "version", buildinfo.Version(), "listen", o.Listen, "data", o.Data)
	if err := free(o.Listen); err != nil {
		return err
	}
	unlock, err := lockFolder(o.Data)
	if err != nil {
		return err
	}
	defer unlock()
	files, err := emptied(o.Data)
	if err != nil {
		return err
	}
	seal, err := sealKey(o)
	if err != nil {
		return err
	}
	url := o.DatabaseURL
	if url == "" {
		o.Log.Info("starting a PostgreSQL of its own")
		server, err := postgres.Start(ctx, o.Data, postgres.Options{})
		if err != nil {
			return err
		}
		defer server.Stop()
		url = server.URL
		kept, let := context.WithCancel(context.Background())
		fatal, fail := context.WithCancelCause(ctx)
		ctx = fatal
		var keeping sync.WaitGroup
		keeping.Go(func() { fail(server.Keep(kept, o.Log)) })
		defer keeping.Wait()
		defer let()
	}
	if err := migrate(ctx, url, o.CheckSchema, o.Log); err != nil {
		return err
	}
	db, err := store.OpenMigrated(ctx, url, clock(o)())
	if err != nil {
		return err
	}
	defer db.Close()
	known, err := remembered(ctx, db, o.Data)
	if err != nil {
		return err
	}
	verdict, err := recovery.Recognise(ctx, db, known, o.Quarantine)
	if err != nil {
		return err
	}
	if verdict.Note {
		o.Log.Info("the database is noted as this service's, where it is now")
	}
	marks, err := remember(ctx, db, o.Data)
	if err != nil {
		return err
	}
	defer marks.close()

	listener, err := net.Listen("tcp", o.Listen)
	if err != nil {
		return fmt.Errorf("listening on %s: %w", o.Listen, err)
	}
	defer listener.Close()
	at := "http://" + listener.Addr().String()
	if o.PublicURL == "" {
		o.PublicURL = at
	}
	e, err := engine.New(
		ctx,
		db,
		engine.Config{
			PublicURL:    o.PublicURL,
			SealKey:      seal,
			Lease:        o.Lease,
			KeepRaw:      o.KeepRaw,
			KeepMessages: o.KeepMessages,
			Clock:        o.Clock,
			BalanceEvery: o.Balance,

			StatementAfter: o.Statements,
			StrayQuiet:     o.StrayQuiet,
			OnlyPublic:     o.OnlyPublic,
			Policy:         policy(o),
			Batches:        o.Batches,
			Files:          files,
		},
		o.Log,
	)
	if errors.Is(err, store.ErrOtherSeal) {
		return fmt.Errorf(
			"%w: start this instance with the --seal-key of the others, which the first one keeps as seal-key in its data folder",
			err,
		)
	}
	if err != nil {
		return err
	}
	if err := firstKey(ctx, e, o.ShowFirstKey); err != nil {
		return err
	}
	if o.Opened != nil {
		o.Opened(e)
	}
	if err := db.Beat(ctx); err != nil {
		return err
	}
	err = serve(ctx, e, listener, o, func() { ready(at) })
	last, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	if wrong := db.End(last); wrong != nil {
		o.Log.Warn("noting that this instance ends", "error", wrong)
	}
	if cause := context.Cause(ctx); cause != nil && !errors.Is(cause, context.Canceled) {
		return cause
	}
	return err
}

// migrate brings the schema up to date, or checks that it is.
func migrate(ctx context.Context, url string, check bool, log *slog.Logger) error {
	from, to, err := store.MigrateTo(ctx, url, true)
	switch {
	case err != nil:
		return err
	case from > to:
		return fmt.Errorf("the database has schema %d, and this version knows none after %d: start the newer version", from, to)
	case check && from < to:
		return fmt.Errorf(
			"the database has schema %d, and this version needs %d: run pigeon migrate, or start with --migrate=auto",
			from,
			to,
		)
	}
	if from == to {
		return nil
	}
	log.Info("migrating the database", "from", from, "to", to)
	_, _, err = store.MigrateTo(ctx, url, false)
	return err
}

// free checks that an address can be listened on: otherwise a database would be set up for nothing.
func free(address string) error {
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return fmt.Errorf("listening on %s: %w. Is another instance running? Give this one another port with --listen", address, err)
	}
	return listener.Close()
}

// Migrate brings the schema of a database up to date, and returns the version that it had, and
// the one that it has to have. With check it changes nothing.
func Migrate(ctx context.Context, databaseURL string, check bool) (from, to int64, err error) {
	return store.MigrateTo(ctx, databaseURL, check)
}

// clock is what tells the time before the database does.
func clock(o Options) func() time.Time {
	if o.Clock != nil {
		return o.Clock
	}
	return time.Now
}

// policy is what becomes of messages to kinds of lines.
func policy(o Options) intake.Policy {
	p := maps.Clone(intake.Usual)
	verdicts := map[string]sender.Verdict{"allow": sender.Allowed, "warn": sender.Careful, "refuse": sender.Refused}
	for line, word := range map[phone.Line]string{phone.Fixed: o.FixedLines, phone.SpecialRate: o.SpecialRate, phone.Unassigned: o.Unassigned} {
		if v, ok := verdicts[word]; ok {
			p[line] = v
		}
	}
	return p
}

// serve answers requests and moves messages. At the end requests come first,
// then the engine: nothing is accepted that nobody would record.
func serve(ctx context.Context, e *engine.Engine, listener net.Listener, o Options, ready func()) error {
	closing := make(chan struct{})
	divided := connectionLimitsOf(connectionsMost())
	limited := newLimitedListener(listener, divided, o.Log)
	server := &http.Server{
		Handler:           api.New(e, console.Files(), o.PhoneURL, api.Shares{Requests: divided.key, Streams: divided.streams}, closing, o.Log),
		ReadHeaderTimeout: 10 * time.Second,
		ReadTimeout:       15 * time.Second, // those that are read whole may take longer afterwards
		IdleTimeout:       2 * time.Minute,
		MaxHeaderBytes:    64 << 10,
		ErrorLog:          slog.NewLogLogger(o.Log.Handler(), slog.LevelDebug),
		ConnState:         limited.state,
		ConnContext:       limited.context,
	}
	if o.ProfileAt != "" {
		profiles := &http.Server{Addr: o.ProfileAt, Handler: http.HandlerFunc(profile), ReadHeaderTimeout: 10 * time.Second}
		go func() {
			if err := profiles.ListenAndServe(); !errors.Is(err, http.ErrServerClosed) {
				o.Log.Error("answering profiles", "error", err)
			}
		}()
		defer profiles.Close()
	}
	moving, stop := context.WithCancel(context.Background())
	defer stop()
	var parts sync.WaitGroup
	parts.Go(func() { e.Run(moving) })
	over, cut := context.WithCancel(context.Background())
	defer cut()
	failed := make(chan error, 1)
	go func() { failed <- server.Serve(limited) }()
	ready()

	var err error
	select {
	case <-ctx.Done():
		close(closing)
		within := cmp.Or(o.StopWithin, time.Hour)
		o.Log.Info("stopping: what is in flight is waited for and recorded; a second signal ends it at once", "within", within)
		deadline := time.AfterFunc(within, cut)
		defer deadline.Stop()
		last, cancel := context.WithTimeout(context.Background(), within/2)
		err = server.Shutdown(last)
		cancel()
	case err = <-failed:
	}
	stop()
	ended := make(chan struct{})
	go func() {
		parts.Wait()
		close(ended)
	}()
	select {
	case <-ended:
	case <-over.Done():
		o.Log.Warn("stopped before everything in flight was recorded; what was is doubtful at the next start", "after", o.StopWithin)
	}
	return err
}

// connectionsMost is how many connections are open at the same time: as many as
// there are descriptors, but for those that the service needs itself, so that
// whoever opens very many cannot keep it from its database and its gateways.
func connectionsMost() int {
	const most, ours = 10_000, 256
	var files syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &files); err != nil {
		return most
	}
	return max(min(most, int(min(files.Cur, most+ours))-ours), 64)
}

// profile answers Go's profiles of the running service.
func profile(w http.ResponseWriter, r *http.Request) {
	switch r.URL.Path {
	case "/debug/pprof/profile":
		pprof.Profile(w, r)
	case "/debug/pprof/trace":
		pprof.Trace(w, r)
	default:
		pprof.Index(w, r)
	}
}

func firstKey(ctx context.Context, e *engine.Engine, show func(key string) error) error {
	all, err := e.Store.Keys(ctx)
	if err != nil || len(all) > 0 {
		return err
	}
	record, key, err := e.Keys.Make("first", "", "", nil)
	if err != nil {
		return err
	}
	if err := show(key); err != nil {
		return err
	}
	return e.Keys.Add(ctx, record)
}

// NewKey makes an API key in a database, for whoever has none that is in use.
func NewKey(ctx context.Context, databaseURL, name, cure, budget string, labels map[string]string) (string, error) {
	db, err := store.Open(ctx, databaseURL, time.Now())
	if err != nil {
		return "", err
	}
	defer db.Close()
	all := &keys.Keys{Store: db, Now: time.Now, Random: rand.Reader}
	record, key, err := all.Make(name, cure, budget, labels)
	if err != nil {
		return "", err
	}
	return key, all.Add(ctx, record)
}

// emptied makes the folder of files that are needed for a while, without what was left in it.
func emptied(data string) (string, error) {
	files := filepath.Join(data, "files")
	if err := os.RemoveAll(files); err != nil {
		return "", fmt.Errorf("emptying the folder of files: %w", err)
	}
	return files, os.MkdirAll(files, 0o700)
}

// lockFolder makes the data folder and keeps a second instance out of it.
func lockFolder(folder string) (unlock func(), err error) {
	if err := os.MkdirAll(folder, 0o755); err != nil { // #nosec G301 -- the database runs as another user
		return nil, fmt.Errorf("making the data folder: %w", err)
	}
	lock, err := os.OpenFile(filepath.Join(folder, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("locking the data folder: %w", err)
	}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		lock.Close()
		return nil, fmt.Errorf(
			"the data folder %s is in use by another Calm Pigeon; stop it, or give this one a folder of its own with --data",
			folder,
		)
	}
	return func() { lock.Close() }, nil
}

// sealKey is the key that seals secrets: given, or kept beside the database so
// that a copy of the database alone gives nothing away.
func sealKey(o Options) ([]byte, error) {
	given := o.SealKey
	file := filepath.Join(o.Data, "seal-key")
	if given == "" {
		kept, err := os.ReadFile(file)
		if errors.Is(err, fs.ErrNotExist) {
			fresh := make([]byte, 32)
			rand.Read(fresh)
			kept = []byte(base64.StdEncoding.EncodeToString(fresh))
			err = os.WriteFile(file, kept, 0o600)
		}
		if err != nil {
			return nil, fmt.Errorf("keeping the sealing key: %w", err)
		}
		given = string(kept)
	}
	key, err := base64.StdEncoding.DecodeString(strings.TrimSpace(given))
	if err != nil || len(key) != 32 {
		return nil, errors.New("seal_key: expected 32 bytes in base64; make one with: openssl rand -base64 32")
	}
	return key, nil
}
