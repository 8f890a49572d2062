package engine

import (
	"bytes"
	"crypto/rand"
	"errors"
	"log/slog"
	"testing"
	"time"

	"calmpigeon.example/internal/engine/keys"
	"calmpigeon.example/internal/postgres/pgtest"
	"calmpigeon.example/internal/store"
)

// A key that was revoked elsewhere works here no longer, though the roster has read meanwhile what was set.
func TestWhatIsRevokedElsewhereIsHeard(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	s, err := store.Open(ctx, pgtest.Database(t), time.Now())
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	e, err := New(ctx, s, Config{SealKey: bytes.Repeat([]byte("k"), 32)}, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	elsewhere := &keys.Keys{Store: s, Now: time.Now, Random: rand.Reader}
	added := func(name string) (store.Key, string) {
		record, key, err := elsewhere.Make(name, "", "", nil)
		if err == nil {
			err = elsewhere.Add(ctx, record)
		}
		if err != nil {
			t.Fatal(err)
		}
		return record, key
	}
	added("another")
	record, key := added("night shift")
	if err := e.look(ctx); err != nil {
		t.Fatal(err)
	}
	if _, err := e.Keys.Check(ctx, "", key); err != nil {
		t.Fatal(err)
	}
	if err := elsewhere.Revoke(ctx, record.ID); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(e.Roster.Reload(ctx), e.look(ctx)); err != nil {
		t.Fatal(err)
	}
	if _, err := e.Keys.Check(ctx, "", key); !errors.Is(err, keys.ErrRefused) {
		t.Errorf("it still works: %v", err)
	}
}
