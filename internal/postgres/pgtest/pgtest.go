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

	"calmpigeon.example/internal/postgres"
)

var (
	server *postgres.Server
	count  atomic.Int64
)

// Main runs a package's tests with a server. Call it from TestMain; before is
// what else has to be made ready, and may be nil.
func Main(m *testing.M, before func(folder string) error) {
	os.Exit(run(m, before))
}

func run(m *testing.M, before func(folder string) error) int {
	folder, err := os.MkdirTemp("", "pigeon-test-")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(folder)
	if err := os.Chmod(folder, 0o755); err != nil { // #nosec G302 -- the server runs as another user
		panic(err)
	}
	if server, err = postgres.Start(context.Background(), folder, postgres.Options{Volatile: true}); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer server.Stop()
	if before != nil {
		if err := before(folder); err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
	}
	return m.Run()
}

// Database makes an empty database for one test and returns its URL.
func Database(t testing.TB) string {
	t.Helper()
	name := fmt.Sprintf("t%d_%s", count.Add(1), strings.ToLower(strings.Map(letters, t.Name())))
	url, err := server.NewDatabase(t.Context(), name[:min(len(name), 60)])
	if err != nil {
		t.Fatal(err)
	}
	return url
}

func letters(r rune) rune {
	if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' {
		return r
	}
	return '_'
}
