package keys

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"time"

	"calmpigeon.example/internal/store"
)

// SessionUnused is how long a session lasts that is not used.
const SessionUnused = 24 * time.Hour

// Begin signs somebody in with a key, and returns the token of the session, which
// is kept nowhere.
func (k *Keys) Begin(ctx context.Context, key store.Key) (token string, err error) {
	secret := make([]byte, 32)
	if _, err := io.ReadFull(k.Random, secret); err != nil {
		return "", fmt.Errorf("making a session: %w", err)
	}
	now := k.Now()
	hash := sha256.Sum256(secret)
	err = k.Store.AddSession(ctx, store.Session{Hash: hash[:], KeyID: key.ID, BeganAt: now, UsedAt: now})
	return base64.RawURLEncoding.EncodeToString(secret), err
}

// End signs out: the session ends, on this instance at once and on others within
// a second.
func (k *Keys) End(ctx context.Context, token string) error {
	hash, ok := hashOf(token)
	if !ok {
		return nil
	}
	err := k.Store.EndSession(ctx, hash, k.Now())
	k.Forget()
	return err
}

func hashOf(token string) ([]byte, bool) {
	secret, err := base64.RawURLEncoding.DecodeString(token)
	if err != nil || len(secret) != 32 {
		return nil, false
	}
	hash := sha256.Sum256(secret)
	return hash[:], true
}

// CheckSession returns the key with which a session was begun, or [ErrRefused]: it
// has ended, was not used for a day, or its key is revoked. Addresses are slowed as in [Keys.Check].
func (k *Keys) CheckSession(ctx context.Context, from, token string) (store.Key, error) {
	hash, ok := hashOf(token)
	return k.failed.check(k.Log, from, string(hash), k.Now(), func() (store.Key, error) {
		if !ok {
			return store.Key{}, ErrRefused
		}
		return k.checkSession(ctx, hash)
	})
}

func (k *Keys) checkSession(ctx context.Context, hash []byte) (store.Key, error) {
	now := k.Now()
	k.mu.Lock()
	s, ok := k.sessions[string(hash)]
	k.mu.Unlock()
	if !ok || now.Sub(s.at) >= known {
		var err error
		s.at = now
		s.session, s.key, err = k.Store.Session(ctx, hash)
		if errors.Is(err, store.ErrNotFound) {
			return store.Key{}, ErrRefused
		}
		if err != nil {
			return store.Key{}, err
		}
	}
	if s.session.EndedAt != nil || s.key.RevokedAt != nil || now.Sub(s.session.UsedAt) > SessionUnused {
		return store.Key{}, ErrRefused
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.sessions == nil {
		k.sessions, k.visited = map[string]seenSession{}, map[string]bool{}
	}
	k.sessions[string(hash)], k.visited[string(hash)] = s, true
	return s.key, nil
}

type seenSession struct {
	seen
	session store.Session
}
