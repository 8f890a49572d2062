package service

import (
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"calmpigeon.example/internal/core/identity"
	"calmpigeon.example/internal/engine/recovery"
	"calmpigeon.example/internal/postgres/pgtest"
	"calmpigeon.example/internal/store"
)

func TestMain(m *testing.M) { pgtest.Main(m, store.Migrate) }

// A start remembers, from the data folder alone, whether the database lacks what the last one had
// committed; and does not take a copy of the folder for the folder itself.
func TestADataFolderRemembers(t *testing.T) {
	t.Parallel()
	url, folder := pgtest.Database(t), t.TempDir()
	open := func() *store.Store {
		t.Helper()
		s, err := store.Open(t.Context(), url, time.Now())
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(s.Close)
		return s
	}
	is := func(folder string, want *identity.Memory) {
		t.Helper()
		got, err := remembered(t.Context(), open(), folder)
		if err != nil || (got == nil) != (want == nil) || got != nil && (got.Behind != want.Behind || got.Moved != want.Moved) {
			t.Errorf("%+v, %v; want %+v", got, err, want)
		}
	}
	is(folder, nil)
	s := open()
	if v, err := recovery.Recognise(t.Context(), s, nil, false); err != nil || v.Quarantine() || !v.Note {
		t.Fatalf("%+v, %v", v, err)
	}
	m, err := remember(t.Context(), s, folder)
	if err != nil {
		t.Fatal(err)
	}
	defer m.close()
	is(folder, &identity.Memory{})
	for _, name := range []string{"a", "b", "c", "d", "e"} {
		g := store.Gateway{ID: store.NewID(), Name: name, CreatedAt: time.Now(), SealedSecrets: []byte{}, SealedCallback: []byte{}}
		if err := s.AddGateway(t.Context(), g); err != nil {
			t.Fatal(err)
		}
	}
	is(folder, &identity.Memory{})
	other := t.TempDir()
	in, err := os.Open(filepath.Join(folder, marksFile))
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	out, err := os.Create(filepath.Join(other, marksFile))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := io.Copy(out, in); err != nil {
		t.Fatal(err)
	}
	out.Close()
	is(other, &identity.Memory{Moved: true})

	c, err := pgx.Connect(t.Context(), url)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close(t.Context())
	if _, err := c.Exec(t.Context(), "DELETE FROM commit_marks WHERE instance_id = $1 AND mark > 0", s.Instance()); err != nil {
		t.Fatal(err)
	}
	is(folder, &identity.Memory{Behind: 5})
	known, err := remembered(t.Context(), open(), folder)
	if err != nil {
		t.Fatal(err)
	}
	if v, err := recovery.Recognise(t.Context(), open(), known, false); err != nil || v.Reason != identity.Rewound {
		t.Errorf("%+v, %v", v, err)
	}
	if err := os.WriteFile(filepath.Join(other, marksFile), []byte("x"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := remembered(t.Context(), open(), other); err == nil || !strings.Contains(err.Error(), "--quarantine") {
		t.Errorf("a damaged file: %v", err)
	}
}
