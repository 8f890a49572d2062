package keys

import (
	"bytes"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"testing"
	"time"

	"calmpigeon.example/internal/store"
)

// Wrong keys from one address are looked up more and more slowly. Others are not held up by it, nor is a key from the same
// address that was in use before.
func TestWrongKeysAreSlowed(t *testing.T) {
	t.Parallel()
	k, clock := keysOf(t)
	var out bytes.Buffer
	k.Log = slog.New(slog.NewTextHandler(&out, nil))
	_, good := added(t, k, "good")
	_, unused := added(t, k, "unused")
	token := ""
	check := func(from, key string) error { _, err := k.Check(t.Context(), from, key); return err }
	if err := check("192.0.2.7", good); err != nil {
		t.Fatal(err)
	}
	if key, err := k.Check(t.Context(), "192.0.2.7", good); err != nil {
		t.Fatal(err)
	} else if token, err = k.Begin(t.Context(), key); err != nil {
		t.Fatal(err)
	}
	if _, err := k.CheckSession(t.Context(), "192.0.2.7", token); err != nil {
		t.Fatal(err)
	}
	wrong := func(i int) string { return fmt.Sprintf("pigeon_%08d_%032d", i, i) }
	for i := range failuresFree {
		if err := check("192.0.2.7", wrong(i)); !errors.Is(err, ErrRefused) {
			t.Fatalf("wrong key %d: %v", i, err)
		}
	}
	var many *TooManyError
	slowed := func(what string, err error) {
		t.Helper()
		if !errors.As(err, &many) || many.After <= 0 || many.After > failureEvery {
			t.Errorf("%s: %v", what, err)
		}
	}
	slowed("one more", check("192.0.2.7", wrong(99)))
	slowed("one that was not used before", check("192.0.2.7", unused))
	slowed("a known one with another secret", check("192.0.2.7", good[:len(good)-3]+"xxx"))
	slowed("no key at all", check("192.0.2.7", "x"))
	_, err := k.CheckSession(t.Context(), "192.0.2.7", strings.Repeat("x", 43))
	slowed("a session", err)
	for what, err := range map[string]error{
		"a key that was in use, from there": check("192.0.2.7", good),
		"one that was not, from elsewhere":  check("192.0.2.8", unused),
	} {
		if err != nil {
			t.Errorf("%s: %v", what, err)
		}
	}
	if _, err := k.CheckSession(t.Context(), "192.0.2.7", token); err != nil {
		t.Errorf("a session that was in use, from there: %v", err)
	}
	*clock = clock.Add(failureEvery + time.Second)
	if err := check("192.0.2.7", wrong(100)); !errors.Is(err, ErrRefused) {
		t.Errorf("after a while: %v", err)
	}
	slowed("and the next", check("192.0.2.7", wrong(101)))
	if n := strings.Count(out.String(), "wrong API keys"); n != 1 {
		t.Errorf("it is told %d times within a minute: %s", n, &out)
	}
	*clock = clock.Add(tellEvery)
	if err := k.Flush(t.Context()); err != nil {
		t.Fatal(err)
	}
	if told := out.String(); strings.Count(told, "wrong API keys") != 2 || !strings.Contains(told, "most_from=192.0.2.7") ||
		strings.Contains(told, "pigeon_") {
		t.Errorf("told: %s", told)
	}
}

// However many addresses there are, so many are kept apart.
func TestFailuresOfManyAddresses(t *testing.T) {
	t.Parallel()
	f, now := &failures{}, time.Now()
	for i := range 3 * addressesMost {
		f.check(nil, fmt.Sprint(i), "", now, func() (store.Key, error) { return store.Key{}, ErrRefused })
	}
	if len(f.count) > addressesMost+1 || len(f.wrong) > addressesMost+1 {
		t.Errorf("%d are kept, %d are to be told", len(f.count), len(f.wrong))
	}
	if _, err := f.check(nil, "another", "", now, func() (store.Key, error) { return store.Key{}, nil }); err == nil {
		t.Error("one of the others is not slowed with them")
	}
	if _, err := f.check(nil, "another", "", now.Add(time.Hour), func() (store.Key, error) { return store.Key{}, nil }); err != nil {
		t.Errorf("an hour later: %v", err)
	}
	for i := range knownMost + 5 {
		f.remember(fmt.Sprint(i))
	}
	if len(f.good) > knownMost {
		t.Errorf("%d are remembered", len(f.good))
	}
}
