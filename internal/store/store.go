// Package store keeps the records in PostgreSQL: GORM models, numbered SQL
// migrations and writes in sets.
package store

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgconn"
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
	ErrChanged  = errors.New("somebody else has changed it meanwhile")
)

// Store reads and writes the records. It is safe for concurrent use.
type Store struct{ db *gorm.DB }

// Open connects to the database, brings its schema up to date and makes the
// partitions of the months around now. Several instances may open one database
// at the same time.
func Open(ctx context.Context, url string, now time.Time) (*Store, error) {
	db, err := gorm.Open(postgres.Open(url), &gorm.Config{
		Logger:                 logger.Discard,
		SkipDefaultTransaction: true,
		// A part that fails fails the whole; savepoints would be round trips for
		// nothing.
		DisableNestedTransaction: true,
		PrepareStmt:              false, // pgx keeps its own statement cache
		TranslateError:           true,
	})
	if err != nil {
		return nil, fmt.Errorf("connecting to the database: %w", err)
	}
	pool, err := db.DB()
	if err != nil {
		return nil, err
	}
	pool.SetMaxOpenConns(24)
	pool.SetMaxIdleConns(24)
	pool.SetConnMaxIdleTime(5 * time.Minute)

	locker, err := lock.NewPostgresSessionLocker()
	if err != nil {
		return nil, err
	}
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	steps, err := goose.NewProvider(goose.DialectPostgres, pool, files, goose.WithSessionLocker(locker))
	if err != nil {
		return nil, fmt.Errorf("reading migrations: %w", err)
	}
	if _, err := steps.Up(ctx); err != nil {
		return nil, fmt.Errorf("migrating the database: %w", err)
	}
	s := &Store{db}
	return s, s.EnsurePartitions(ctx, now)
}

// Close ends all connections.
func (s *Store) Close() error {
	pool, err := s.db.DB()
	if err != nil {
		return err
	}
	return pool.Close()
}

// Ping reports whether the database answers.
func (s *Store) Ping(ctx context.Context) error {
	pool, err := s.db.DB()
	if err != nil {
		return err
	}
	return pool.PingContext(ctx)
}

// Transact runs do in one transaction: all of it is committed, or nothing.
func (s *Store) Transact(ctx context.Context, do func(*Store) error) error {
	return s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error { return do(&Store{tx}) })
}

// Refused reports whether the database refused what was asked of it, rather
// than being out of reach: asking again would not help.
func Refused(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && (pg.Code[:2] == "22" || pg.Code[:2] == "23" || pg.Code[:2] == "42")
}

// found turns GORM's missing record into ErrNotFound.
func found(err error) error {
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return ErrNotFound
	}
	return err
}

// NewID makes a UUIDv7 (RFC 9562 §5.7). Records are cut and paged by it.
func NewID() uuid.UUID { return uuid.Must(uuid.NewV7()) }

// Floor is the smallest UUIDv7 of a moment.
func Floor(t time.Time) uuid.UUID {
	ms := max(t.UnixMilli(), 0)
	var id uuid.UUID
	for i := range 6 {
		id[i] = byte(ms >> (40 - 8*i))
	}
	return id
}
