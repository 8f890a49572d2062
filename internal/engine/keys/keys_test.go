package keys

import (
	"crypto/rand"
	"errors"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/postgres/pgtest"
	"calmpigeon.example/internal/store"
)

func TestMain(m *testing.M) { pgtest.Main(m, store.Migrate) }

// keysOf are the keys of an empty database, with a clock that is set by hand.
func keysOf(t *testing.T) (*Keys, *time.Time) {
	t.Helper()
	s, err := store.Open(t.Context(), pgtest.Database(t), time.Now())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	clock := time.Now().UTC().Truncate(time.Microsecond)
	return &Keys{Store: s, Now: func() time.Time { return clock }, Random: rand.Reader}, &clock
}

// added makes a key and brings it into use.
func added(t *testing.T, k *Keys, name string) (store.Key, string) {
	t.Helper()
	record, key, err := k.Make(name, "", "", nil)
	if err == nil {
		err = k.Add(t.Context(), record)
	}
	if err != nil {
		t.Fatal(err)
	}
	return record, key
}

func TestKeys(t *testing.T) {
	t.Parallel()
	k, clock := keysOf(t)
	s := k.Store
	record, key, err := k.Make("night shift", "", "30 EUR", map[string]string{"app": "desk"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := k.Check(t.Context(), "", key); !errors.Is(err, ErrRefused) {
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
		if _, err := k.Check(t.Context(), "", presented); !errors.Is(err, ErrRefused) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if got, err := k.Check(t.Context(), "", key); err != nil || got.ID != record.ID {
		t.Errorf("the key itself: %+v, %v", got, err)
	}
	if err := k.Flush(t.Context()); err != nil {
		t.Fatal(err)
	}
	if all, err := s.Keys(t.Context()); err != nil || len(all) != 1 || all[0].LastUsedAt == nil || !all[0].LastUsedAt.Equal(*clock) {
		t.Errorf("keys %+v, %v", all, err)
	}

	if err := k.Revoke(t.Context(), record.ID); !errors.Is(err, ErrLast) {
		t.Errorf("the last one was revoked: %v", err)
	}
	added(t, k, "day shift")

	// Another instance revokes it: it works here for as long as it is known.
	other := &Keys{Store: s, Now: k.Now, Random: rand.Reader}
	if err := other.Revoke(t.Context(), record.ID); err != nil {
		t.Fatal(err)
	}
	if _, err := other.Check(t.Context(), "", key); !errors.Is(err, ErrRefused) {
		t.Errorf("where it was revoked: %v", err)
	}
	*clock = clock.Add(known)
	if _, err := k.Check(t.Context(), "", key); !errors.Is(err, ErrRefused) {
		t.Errorf("elsewhere, %v later: %v", known, err)
	}
	if err := k.Revoke(t.Context(), store.NewID()); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("revoking none: %v", err)
	}
	for _, name := range []string{"", strings.Repeat("n", 81), "a\nb", "\xff"} {
		if _, _, err := k.Make(name, "", "", nil); fault.Of(err) == nil {
			t.Errorf("the name %q: %v", name, err)
		}
	}
}

// Of two keys that are revoked at once one stays.
func TestOneKeyIsAlwaysLeft(t *testing.T) {
	t.Parallel()
	k, _ := keysOf(t)
	var all []store.Key
	for _, name := range []string{"one", "two", "three"} {
		record, _ := added(t, k, name)
		all = append(all, record)
	}
	var revoking sync.WaitGroup
	var last atomic.Int32
	for _, record := range all {
		revoking.Go(func() {
			if err := k.Revoke(t.Context(), record.ID); errors.Is(err, ErrLast) {
				last.Add(1)
			} else if err != nil {
				t.Error(err)
			}
		})
	}
	revoking.Wait()
	if last.Load() != 1 {
		t.Errorf("%d were refused as the last", last.Load())
	}
}

// A session is not the key, and ends when it is ended, with its key, and when it
// is not used for a day.
func TestSessionsEnd(t *testing.T) {
	t.Parallel()
	k, clock := keysOf(t)
	s := k.Store
	var made []store.Key
	for _, name := range []string{"console", "other"} {
		record, _ := added(t, k, name)
		made = append(made, record)
	}
	for name, tt := range map[string]struct {
		end  func(token string) error
		want error
	}{
		"in use": {func(string) error { return nil }, nil},
		"used every twenty hours": {func(token string) error {
			return errors.Join(used(t, k, clock, token, 20*time.Hour), used(t, k, clock, token, 20*time.Hour))
		}, nil},
		"not used for a day": {func(string) error { *clock = clock.Add(SessionUnused + time.Second); return nil }, ErrRefused},
		"signed out":         {func(token string) error { return k.End(t.Context(), token) }, ErrRefused},
		"signed out elsewhere, told": {func(token string) error {
			err := (&Keys{Store: s, Now: k.Now, Random: rand.Reader}).End(t.Context(), token)
			k.Forget()
			return err
		}, ErrRefused},
	} {
		token, err := k.Begin(t.Context(), made[0])
		if err != nil {
			t.Fatal(err)
		}
		if got, err := k.CheckSession(t.Context(), "", token); err != nil || got.ID != made[0].ID {
			t.Errorf("%s: at its beginning %+v, %v", name, got, err)
		}
		if _, err := k.Check(t.Context(), "", token); !errors.Is(err, ErrRefused) {
			t.Errorf("%s: its token is taken for a key: %v", name, err)
		}
		if err := tt.end(token); err != nil {
			t.Fatal(err)
		}
		if _, err := k.CheckSession(t.Context(), "", token); !errors.Is(err, tt.want) {
			t.Errorf("%s: %v, want %v", name, err, tt.want)
		}
	}
	token, err := k.Begin(t.Context(), made[0])
	if err != nil {
		t.Fatal(err)
	}
	if err := k.Revoke(t.Context(), made[0].ID); err != nil {
		t.Fatal(err)
	}
	if _, err := k.CheckSession(t.Context(), "", token); !errors.Is(err, ErrRefused) {
		t.Errorf("after its key was revoked: %v", err)
	}
	for _, token := range []string{"", "x", strings.Repeat("A", 43)} {
		if _, err := k.CheckSession(t.Context(), "", token); !errors.Is(err, ErrRefused) {
			t.Errorf("%q: %v", token, err)
		}
	}
}

// used lets time pass and the session be used.
func used(t *testing.T, k *Keys, clock *time.Time, token string, after time.Duration) error {
	*clock = clock.Add(after)
	_, err := k.CheckSession(t.Context(), "", token)
	return errors.Join(err, k.Flush(t.Context()))
}

// The limits of a key hold for the keys that it makes.
func TestLimitsHoldForWhatAKeyMakes(t *testing.T) {
	t.Parallel()
	k, _ := keysOf(t)
	maker, _ := added(t, k, "maker")
	maker.PasscodeCountries = []string{"GB", "FR"}
	make := func(countries ...string) (store.Key, error) {
		record, _, err := k.Make("child", "", "", nil)
		if err != nil {
			t.Fatal(err)
		}
		record.PasscodeCountries = countries
		return k.AddFor(t.Context(), maker, record)
	}
	if child, err := make(); err != nil || !slices.Equal(child.PasscodeCountries, maker.PasscodeCountries) {
		t.Errorf("without countries: %v, %v", child.PasscodeCountries, err)
	}
	if _, err := make("DE"); fault.Of(err) == nil {
		t.Errorf("another country: %v", err)
	}
	child, err := make("FR")
	if err != nil || !slices.Equal(child.PasscodeCountries, []string{"FR"}) {
		t.Errorf("one of them: %v, %v", child.PasscodeCountries, err)
	}
	chain, err := k.Store.Makers(t.Context(), child.ID)
	if err != nil || len(chain) != 2 || chain[0].ID != child.ID || chain[1].ID != maker.ID {
		t.Errorf("it was made by %+v, %v", chain, err)
	}
}
