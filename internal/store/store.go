// Package store keeps the records in PostgreSQL: GORM models, numbered SQL
// migrations and writes in sets.
package store

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"
	"gorm.io/driver/postgres"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Errors that callers tell apart.
var (
	ErrNotFound = errors.New("not found")
	ErrExists   = errors.New("exists already")
	ErrReadOnly = errors.New("the database takes nothing to write")
	ErrChanged  = errors.New("somebody else has changed it meanwhile")
)

// Store reads and writes the records. It is safe for concurrent use.
//
// GORM is the door: models, queries, transactions. The statements that touch
// many messages run on its connections with slices as parameters, several a
// round trip.
type Store struct {
	tx *transaction // that the store is bound to; nil outside of one
	*common
}

// common is what all stores over one database share.
type common struct {
	work   *pgxpool.Pool // messages on their way
	leases *gorm.DB      // who keeps what: never behind anything else
	pools  []*pgxpool.Pool
	begin  *gorm.DB // over work
	db     *gorm.DB // what people look at and set
	months months
	cuts   cuts
	slots  slots
	closed chan struct{}
	// address is how the database is reached.
	address string

	listening atomic.Pointer[Listening]
}

// Limits of what is asked of the database, so that neither a host that has
// vanished nor a server that stands still holds anything up for ever.
const (
	connectWithin   = 5 * time.Second
	statementWithin = 20 * time.Second
	lockWithin      = 10 * time.Second
	// idleWithin is how long a transaction may wait for its client: an instance that is frozen
	// amid one holds nothing for longer than its leases last.
	idleWithin = 4 * time.Second
	// deadWithin is how long a connection whose other end does not answer is kept.
	deadWithin  = 20 * time.Second
	leaseWithin = 3 * time.Second
	closeWithin = 5 * time.Second
)

// The most connections of an instance: for messages on their way, for what people look at and set,
// and for leases.
const (
	workMost   = 12
	readMost   = 12
	leasesMost = 3
)

// The settings of connections. Plans must not depend on statistics, which are
// not there yet in a month that has just begun: what finds messages finds them
// by an index, whatever the planner believes of the size of a table. The switches
// make plans look dear enough to be compiled, so compiling is off too.
var (
	byIndex = map[string]string{"enable_seqscan": "off", "enable_hashjoin": "off", "enable_mergejoin": "off", "jit": "off"}
	once    = map[string]string{"plan_cache_mode": "force_generic_plan", "enable_bitmapscan": "off"}
	anew    = map[string]string{"plan_cache_mode": "force_custom_plan", "join_collapse_limit": "1", "from_collapse_limit": "1"}
)

// pool opens connections with settings of their own.
func (s *Store) pool(url string, most int32, within time.Duration, settings ...map[string]string) (*pgxpool.Pool, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, err
	}
	config.MaxConns = most
	s.address = addressOf(config.ConnConfig)
	config.MaxConnIdleTime = 5 * time.Minute
	config.ConnConfig.ConnectTimeout = connectWithin
	config.ConnConfig.RuntimeParams["application_name"] = "calm-pigeon"
	ms := func(d time.Duration) string { return strconv.FormatInt(d.Milliseconds(), 10) }
	all := map[string]string{
		"statement_timeout": ms(within), "lock_timeout": ms(min(within, lockWithin)),
		"idle_in_transaction_session_timeout": ms(idleWithin), "client_connection_check_interval": "5000",
		"tcp_keepalives_idle": "10", "tcp_keepalives_interval": "5", "tcp_keepalives_count": "3", "tcp_user_timeout": ms(deadWithin),
	}
	for _, set := range settings {
		maps.Copy(all, set)
	}
	var set strings.Builder
	for _, name := range slices.Sorted(maps.Keys(all)) {
		fmt.Fprintf(&set, "SET %s = '%s';", name, all[name])
	}
	config.AfterConnect = func(ctx context.Context, c *pgx.Conn) error {
		// Not as startup parameters: a connection pooler refuses those, or keeps them back.
		if _, err := c.PgConn().Exec(ctx, set.String()).ReadAll(); err != nil {
			return fmt.Errorf("setting up a connection to the database: %w", err)
		}
		return s.recognise(ctx, c)
	}
	return pgxpool.NewWithConfig(context.Background(), config)
}

// door opens GORM over a pool.
func door(p *pgxpool.Pool) (*gorm.DB, error) {
	return gorm.Open(postgres.New(postgres.Config{Conn: stdlib.OpenDBFromPool(p)}), &gorm.Config{
		Logger:                 logger.Discard,
		SkipDefaultTransaction: true,
		// A part that fails fails the whole; savepoints would be round trips for
		// nothing.
		DisableNestedTransaction: true,
		PrepareStmt:              false, // pgx keeps its own statement cache
		TranslateError:           true,
	})
}

// Open connects to the database, brings its schema up to date and makes the
// partitions of the months around now. Several instances may open one database
// at the same time.
func Open(ctx context.Context, url string, now time.Time) (*Store, error) {
	if err := Migrate(ctx, url); err != nil {
		return nil, err
	}
	return OpenMigrated(ctx, url, now)
}

// OpenMigrated is [Open] for a database whose schema is up to date.
func OpenMigrated(ctx context.Context, url string, now time.Time) (*Store, error) {
	s := &Store{common: &common{closed: make(chan struct{})}}
	var err error
	open := func(most int32, within time.Duration, settings ...map[string]string) *gorm.DB {
		if err != nil {
			return nil
		}
		var p *pgxpool.Pool
		if p, err = s.pool(url, most, within, settings...); err != nil {
			return nil
		}
		s.pools = append(s.pools, p)
		var db *gorm.DB
		db, err = door(p)
		return db
	}
	s.begin = open(workMost, statementWithin, byIndex, once)
	s.db = open(readMost, statementWithin, byIndex, anew)
	s.leases = open(leasesMost, leaseWithin)
	if err == nil {
		s.work = s.pools[0]
		err = s.enrol(ctx)
	}
	if err == nil {
		err = s.EnsurePartitions(ctx, now)
	}
	if err != nil {
		s.Close()
		return nil, fmt.Errorf("opening the database: %w", err)
	}
	return s, nil
}

// Migrate brings the schema up to date, however long that takes.
func Migrate(ctx context.Context, url string) error {
	_, _, err := MigrateTo(ctx, url, false)
	return err
}

// MigrateTo brings the schema up to date, and returns the version that it had, and the one
// that it has to have. With check it changes nothing.
func MigrateTo(ctx context.Context, url string, check bool) (from, to int64, err error) {
	config, err := pgx.ParseConfig(url)
	if err != nil {
		return 0, 0, fmt.Errorf("reading the address of the database: %w", err)
	}
	config.ConnectTimeout = connectWithin
	if err := checkPooler(ctx, config); err != nil {
		return 0, 0, fmt.Errorf("connecting to the database: %w", err)
	}
	db := stdlib.OpenDB(*config)
	defer db.Close()
	locker, err := lock.NewPostgresSessionLocker()
	if err != nil {
		return 0, 0, err
	}
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return 0, 0, err
	}
	steps, err := goose.NewProvider(goose.DialectPostgres, db, files, goose.WithSessionLocker(locker))
	if err != nil {
		return 0, 0, fmt.Errorf("reading migrations: %w", err)
	}
	if from, to, err = steps.GetVersions(ctx); err != nil {
		return 0, 0, fmt.Errorf("reading the version of the schema: %w", err)
	}
	if check {
		return from, to, nil
	}
	if _, err := steps.Up(ctx); err != nil {
		return from, to, fmt.Errorf("migrating the database: %w", err)
	}
	return from, to, nil
}

// SchemaVersion is the version of the schema that this program knows.
var SchemaVersion = func() int64 {
	files, err := fs.Glob(migrations, "migrations/*.sql")
	if err != nil || len(files) == 0 {
		panic("no migrations")
	}
	number, _, _ := strings.Cut(path.Base(files[len(files)-1]), "_")
	version, err := strconv.ParseInt(number, 10, 64)
	if err != nil {
		panic(err)
	}
	return version
}()

// Close ends all connections. It waits for those in use, though not for a
// database that answers no more.
func (s *Store) Close() {
	close(s.closed)
	closed := make(chan struct{})
	go func() {
		defer close(closed)
		for _, p := range s.pools {
			p.Close()
		}
	}()
	select {
	case <-closed:
	case <-time.After(closeWithin):
	}
}

// Ping reports whether the database answers and can be written to.
func (s *Store) Ping(ctx context.Context) error {
	var readOnly bool
	if err := s.leases.WithContext(ctx).Raw("SELECT pg_is_in_recovery() OR " +
		"current_setting('default_transaction_read_only')::boolean").Scan(&readOnly).Error; err != nil {
		return err
	}
	if readOnly {
		return ErrReadOnly
	}
	return nil
}

// reader reads rows.
type reader interface {
	Query(context.Context, string, ...any) (pgx.Rows, error)
}

// hot is for statements about messages on their way.
func (s *Store) hot() reader {
	if s.tx != nil {
		return s.tx
	}
	return s.work
}

// reading is for what people look at: it may take long, and holds up no message
// on its way.
func (s *Store) reading() reader {
	if s.tx != nil {
		return s.tx
	}
	return s.pools[1]
}

// gorm is GORM's way to the database, in the transaction that the store is bound
// to if it is.
func (s *Store) gorm(ctx context.Context) *gorm.DB {
	if s.tx == nil {
		return s.db.WithContext(ctx)
	}
	db := s.tx.db.WithContext(ctx)
	if err := s.tx.flush(ctx); err != nil {
		db.AddError(err)
	}
	return db
}

// send runs statements of which nothing is to be read: as one round trip and one
// transaction, or as part of the transaction that the store is bound to.
func (s *Store) send(ctx context.Context, b *pgx.Batch) error {
	if b.Len() == 0 {
		return nil
	}
	return s.Transact(ctx, func(s *Store) error {
		for _, q := range b.QueuedQueries { // each run sends queries of its own
			s.tx.writes.Queue(q.SQL, q.Arguments...).Fn = q.Fn
		}
		return nil
	})
}

// query reads the rows of a statement.
func query[T any](ctx context.Context, from reader, scan func(pgx.Rows) (T, error), sql string, args ...any) ([]T, error) {
	rows, err := from.Query(ctx, sql, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []T
	for rows.Next() {
		one, err := scan(rows)
		if err != nil {
			return nil, err
		}
		all = append(all, one)
	}
	return all, rows.Err()
}

// noTable is PostgreSQL's code for a table that is not there: a month that
// another instance has dropped.
const noTable = "42P01"

// Time is the database's.
func (s *Store) Time(ctx context.Context) (t time.Time, err error) {
	err = s.pools[2].QueryRow(ctx, "SELECT clock_timestamp()").Scan(&t)
	return t, err
}

// Refused reports whether the database refused what was asked of it, rather
// than being out of reach: asking again would not help.
func Refused(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && (pg.Code[:2] == "22" || pg.Code[:2] == "23" || pg.Code[:2] == "42") && pg.Code != noTable
}

// found turns GORM's missing record into ErrNotFound.
func found(err error) error {
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return ErrNotFound
	}
	return err
}

// create inserts one record; what names it must be new.
func create(db *gorm.DB, record any, what string) error {
	err := db.Create(record).Error
	if errors.Is(err, gorm.ErrDuplicatedKey) {
		return fmt.Errorf("%s: %w", what, ErrExists)
	}
	if err != nil {
		return fmt.Errorf("adding %s: %w", what, err)
	}
	return nil
}

func changed(result *gorm.DB) error {
	if result.Error == nil && result.RowsAffected == 0 {
		return ErrNotFound
	}
	return result.Error
}

// NewID makes a UUIDv7 (RFC 9562 §5.7). Records are cut and paged by it.
func NewID() uuid.UUID { return uuid.Must(uuid.NewV7()) }

// Ids are no secrets, and are made by the thousand.
func init() { uuid.EnableRandPool() }

// IDAt makes a UUIDv7 of a moment, to the fraction of a millisecond (RFC 9562
// §6.2, method 3). Those that are made of the same moment are in the order in
// which they were made.
func IDAt(t time.Time) uuid.UUID {
	id, floor := uuid.New(), Floor(t)
	copy(id[:6], floor[:6])
	fraction := uint16(t.UnixMicro() % 1000 * 4096 / 1000)
	turn := turns.Add(1) % (batchTurn << 16)
	id[6], id[7] = 0x70|byte(fraction>>8&0xF), byte(fraction)
	id[8], id[9], id[10] = 0x80|byte(turn>>16&0x3F), byte(turn>>8), byte(turn)
	return id
}

var turns atomic.Uint32

// The ids of a batch's messages differ from one another in their last 24 bits, which
// are the row; batchTurn, which no other id has in the place of its turn, tells them.
const batchTurn = 0x3F

// BatchAt makes the id of the first message of a batch.
func BatchAt(t time.Time) uuid.UUID {
	id := IDAt(t)
	id[8], id[13], id[14], id[15] = 0x80|batchTurn, 0, 0, 0
	return id
}

// InBatch is the id of the message of a row, 1 first.
func InBatch(first uuid.UUID, row int) uuid.UUID {
	first[13], first[14], first[15] = byte(row>>16), byte(row>>8), byte(row)
	return first
}

// BatchOf is the first message of the batch that a message may be of, and its row; false
// if it is of none.
func BatchOf(id uuid.UUID) (first uuid.UUID, row int, ok bool) {
	if id[8] != 0x80|batchTurn {
		return uuid.Nil, 0, false
	}
	row = int(id[13])<<16 | int(id[14])<<8 | int(id[15])
	return InBatch(id, 0), row, true
}

// Floor is the smallest UUIDv7 of a moment.
func Floor(t time.Time) uuid.UUID {
	ms := max(t.UnixMilli(), 0)
	var id uuid.UUID
	for i := range 6 {
		id[i] = byte(ms >> (40 - 8*i))
	}
	return id
}
