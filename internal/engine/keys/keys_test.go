package keys

import (
	"crypto/rand"
	"errors"
	"strings"
	"testing"
	"time"

	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/postgres/pgtest"
	"calmpigeon.example/internal/store"
)

func TestMain(m *testing.M) { pgtest.Main(m, nil) }

func TestKeys(t *testing.T) {
	t.Parallel()
	s, err := store.Open(t.Context(), pgtest.Database(t), time.Now())
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	clock := time.Now().UTC().Truncate(time.Microsecond)
	k := &Keys{Store: s, Now: func() time.Time { return clock }, Random: rand.Reader}
	record, key, err := k.Make("night shift", "")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := k.Check(t.Context(), key); !errors.Is(err, ErrRefused) {
		t.Errorf("before it is added: %v", err)
	}
	if err := k.Add(t.Context(), record); err != nil {
		t.Fatal(err)
	}
	if strings.Contains(string(record.Hash), key[16:]) || !strings.HasPrefix(key, "pigeon_"+record.Handle+"_") || len(key) != 7+8+1+32 {
		t.Errorf("the key %s is recorded as %+v", key, record)
	}
	for name, presented := range map[string]string{
		"nothing": "", "its handle alone": key[:15], "another secret": key[:16] + strings.Repeat("a", 32), "half of it": key[:20],
		"another prefix": strings.Replace(key, "pigeon", "dove", 1), "one letter more": key + "a", "an unknown handle": "pigeon_aaaaaaaa_" + key[16:],
	} {
		if _, err := k.Check(t.Context(), presented); !errors.Is(err, ErrRefused) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if got, err := k.Check(t.Context(), key); err != nil || got.ID != record.ID {
		t.Errorf("the key itself: %+v, %v", got, err)
	}
	if err := k.Flush(t.Context()); err != nil {
		t.Fatal(err)
	}
	if all, err := s.Keys(t.Context()); err != nil || len(all) != 1 || all[0].LastUsedAt == nil || !all[0].LastUsedAt.Equal(clock) {
		t.Errorf("keys %+v, %v", all, err)
	}

	// Another instance revokes it: it works here for as long as it is known.
	other := &Keys{Store: s, Now: k.Now, Random: rand.Reader}
	if err := other.Revoke(t.Context(), record.ID); err != nil {
		t.Fatal(err)
	}
	if _, err := other.Check(t.Context(), key); !errors.Is(err, ErrRefused) {
		t.Errorf("where it was revoked: %v", err)
	}
	clock = clock.Add(known)
	if _, err := k.Check(t.Context(), key); !errors.Is(err, ErrRefused) {
		t.Errorf("elsewhere, %v later: %v", known, err)
	}
	if err := k.Revoke(t.Context(), store.NewID()); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("revoking none: %v", err)
	}
	for _, name := range []string{"", strings.Repeat("n", 81), "a\nb", "\xff"} {
		if _, _, err := k.Make(name, ""); fault.Of(err) == nil {
			t.Errorf("the name %q: %v", name, err)
		}
	}
}
