// Package pgtest gives tests a real PostgreSQL: one server for each test
// binary, one database for each test.
package pgtest

import (
	"context"
	"fmt"
	"os"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/jackc/pgx/v5"

	"calmpigeon.example/internal/postgres"
)

// template is the database that all others begin as.
const template = "template"

var (
	server *postgres.Server
	count  atomic.Int64
)

// Main runs a package's tests with a server. Call it from TestMain. What schema
// makes of a database is there in each test's own from the beginning: to copy it
// costs a fifth of making it again. before are what else has to be made ready;
// what they return is called when the tests are through.
func Main(m *testing.M, schema func(ctx context.Context, url string) error, before ...func(folder string) (after func(), err error)) {
	os.Exit(run(m, schema, before))
}

func run(m *testing.M, schema func(context.Context, string) error, before []func(string) (func(), error)) int {
	folder, err := os.MkdirTemp("", "pigeon-test-")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(folder)
	if err := os.Chmod(folder, 0o755); err != nil { // #nosec G302 -- the server runs as another user
		panic(err)
	}
	ctx := context.Background()
	if server, err = postgres.Start(ctx, folder, postgres.Options{Volatile: true}); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer server.Stop()
	url, err := server.NewDatabase(ctx, template, "")
	if err == nil {
		err = schema(ctx, url)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "making the schema:", err)
		return 1
	}
	for _, ready := range before {
		after, err := ready(folder)
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		defer after()
	}
	return m.Run()
}

// Database makes a database with the schema, but with nothing in it, for one test
// and returns its URL.
func Database(t testing.TB) string {
	t.Helper()
	return database(t, template)
}

// Empty makes a database without a schema, as whoever starts for the first time
// has it.
func Empty(t testing.TB) string {
	t.Helper()
	return database(t, "")
}

func database(t testing.TB, as string) string {
	t.Helper()
	name := fmt.Sprintf("t%d_%s", count.Add(1), strings.ToLower(strings.Map(letters, t.Name())))
	url, err := server.NewDatabase(t.Context(), name[:min(len(name), 60)], as)
	if err != nil {
		t.Fatal(err)
	}
	return url
}

// Errors are the errors that the server has logged about a database of a test.
func Errors(t testing.TB, databaseURL string) []string {
	t.Helper()
	config, err := pgx.ParseConfig(databaseURL)
	if err != nil {
		t.Fatal(err)
	}
	errs, err := server.Errors(config.Database)
	if err != nil {
		t.Fatal(err)
	}
	return errs
}

func letters(r rune) rune {
	if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' {
		return r
	}
	return '_'
}
