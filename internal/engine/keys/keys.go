// Package keys makes API keys and knows whose they are.
//
// A key is "pigeon_", eight characters by which it is looked up, an underscore
// and 32 characters that are secret and stored only as a hash. They are random
// enough (160 bits) that a plain hash cannot be searched.
package keys

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base32"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/label"
	"calmpigeon.example/internal/core/smstext"
	"calmpigeon.example/internal/store"
)

// ErrRefused is returned for whatever is not a key in use.
var ErrRefused = errors.New("not a key in use")

// ErrLast is returned for the last key in use: without it nobody could make
// another.
var ErrLast = errors.New("it is the last key in use")

// known is how long a key that was found is believed without looking again: a
// revoked key works at most this much longer on other instances that cannot be
// told that it was; those that can [Keys.Forget].
const known = 5 * time.Second

// Keys makes and checks keys. It is safe for concurrent use.
type Keys struct {
	Store  *store.Store
	Now    func() time.Time
	Random io.Reader
	Log    *slog.Logger // of wrong keys; nil: nothing is logged

	failed failures

	mu       sync.Mutex
	seen     map[string]seen
	used     map[uuid.UUID]bool
	sessions map[string]seenSession // by hash
	visited  map[string]bool        // sessions that were used
}

type seen struct {
	key store.Key
	at  time.Time
}

var letters = base32.NewEncoding("abcdefghijkmnpqrstuvwxyz23456789").WithPadding(base32.NoPadding)

// Make makes a key, which is in use once its record is added. It is returned
// whole, and never again. cure is how far characters may be replaced in what is
// sent with it: off if empty, safe or strong. budget is what batches that are launched with it
// may spend a day; any amount if empty.
// labels are put on all that is sent with it.
func (k *Keys) Make(name, cure, budget string, labels map[string]string) (store.Key, string, error) {
	if n := utf8.RuneCountInString(name); n < 1 || n > 80 || !utf8.ValidString(name) || strings.ContainsFunc(name, unicode.IsControl) {
		return store.Key{}, "", fault.New("name", fmt.Sprintf("%d characters, or control characters in it", n), "1 to 80 characters")
	}
	level, err := smstext.ParseLevel(cure)
	if err != nil {
		return store.Key{}, "", fault.New("cure", fmt.Sprintf("%q is no level", cure), "off, safe or strong")
	}
	var sums batch.Sums
	if budget != "" {
		if sums, err = batch.ParseBudget(budget); err != nil {
			return store.Key{}, "", fault.New("budget_day", fault.Of(err)[0].Wrong, batch.BudgetAccepted)
		}
	}
	set, err := label.New(labels)
	if err != nil {
		return store.Key{}, "", err
	}
	random := make([]byte, 25)
	if _, err := io.ReadFull(k.Random, random); err != nil {
		return store.Key{}, "", fmt.Errorf("making a key: %w", err)
	}
	handle, secret := letters.EncodeToString(random[:5]), letters.EncodeToString(random[5:])
	hash := sha256.Sum256([]byte(secret))
	record := store.Key{ID: store.NewID(), Name: name, Handle: handle, Hash: hash[:], CreatedAt: k.Now(), Cure: string(level),
		BudgetDay: sums, Labels: set}
	return record, "pigeon_" + handle + "_" + secret, nil
}

// Add brings a key into use that no other key made.
func (k *Keys) Add(ctx context.Context, record store.Key) error { return k.Store.AddKey(ctx, record) }

// AddFor brings a key into use that another key made. The limits of the other hold for it: it sends passcodes to no
// country to which the other does not, and what its batches spend counts against the budget of the other too. It is
// returned as it is kept.
func (k *Keys) AddFor(ctx context.Context, maker, record store.Key) (store.Key, error) {
	record.MadeBy = &maker.ID
	if only := maker.PasscodeCountries; len(only) > 0 {
		if len(record.PasscodeCountries) == 0 {
			record.PasscodeCountries = slices.Clone(only)
		}
		for _, country := range record.PasscodeCountries {
			if !slices.Contains(only, country) {
				return record, fault.New("passcode_countries", "the key that makes it may send no passcodes to "+country,
					strings.Join(only, ", "))
			}
		}
	}
	return record, k.Store.AddKey(ctx, record)
}

// Check returns the key that was presented from an address, or [ErrRefused]. Where too many from this address were
// wrong it does not look, and returns a [TooManyError].
func (k *Keys) Check(ctx context.Context, from, presented string) (store.Key, error) {
	body, ok := strings.CutPrefix(presented, "pigeon_")
	handle, secret, two := strings.Cut(body, "_")
	if !ok || !two || len(handle) != 8 || store.Keepable(handle) != handle {
		handle = ""
	}
	return k.failed.check(k.Log, from, handle, k.Now(), func() (store.Key, error) {
		if handle == "" {
			return store.Key{}, ErrRefused
		}
		return k.check(ctx, handle, secret)
	})
}

func (k *Keys) check(ctx context.Context, handle, secret string) (store.Key, error) {
	record, err := k.find(ctx, handle)
	if errors.Is(err, store.ErrNotFound) {
		return store.Key{}, ErrRefused
	}
	if err != nil {
		return store.Key{}, err
	}
	hash := sha256.Sum256([]byte(secret))
	if !hmac.Equal(hash[:], record.Hash) || record.RevokedAt != nil {
		return store.Key{}, ErrRefused
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.used == nil {
		k.used = map[uuid.UUID]bool{}
	}
	k.used[record.ID] = true
	return record, nil
}

func (k *Keys) find(ctx context.Context, handle string) (store.Key, error) {
	now := k.Now()
	k.mu.Lock()
	s, ok := k.seen[handle]
	k.mu.Unlock()
	if ok && now.Sub(s.at) < known {
		return s.key, nil
	}
	record, err := k.Store.KeyByHandle(ctx, handle)
	if err != nil {
		return record, err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.seen == nil {
		k.seen = map[string]seen{}
	}
	k.seen[handle] = seen{record, now}
	return record, nil
}

// Revoke ends a key's use, on this instance at once and on others within a second.
// The last one stays: [ErrLast].
func (k *Keys) Revoke(ctx context.Context, id uuid.UUID) error {
	last, err := k.Store.RevokeKey(ctx, id, k.Now())
	if last {
		return ErrLast
	}
	k.Forget()
	return err
}

// Forget lets keys and sessions be looked up anew: one of them may have ended.
func (k *Keys) Forget() {
	k.mu.Lock()
	defer k.mu.Unlock()
	clear(k.seen)
	clear(k.sessions)
}

// Flush notes which keys and sessions were used since the last time.
func (k *Keys) Flush(ctx context.Context) error {
	k.failed.flush(k.Log, k.Now())
	k.mu.Lock()
	ids := slices.Collect(maps.Keys(k.used))
	var hashes [][]byte
	for hash := range k.visited {
		hashes = append(hashes, []byte(hash))
	}
	clear(k.used)
	clear(k.visited)
	k.mu.Unlock()
	var errs []error
	if len(ids) > 0 {
		errs = append(errs, k.Store.TouchKeys(ctx, ids, k.Now()))
	}
	if len(hashes) > 0 {
		errs = append(errs, k.Store.TouchSessions(ctx, hashes, k.Now()))
	}
	return errors.Join(errs...)
}
