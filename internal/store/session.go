package store

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
)

// Session is somebody who is signed in to the console with a key.
type Session struct {
	Hash    []byte `gorm:"primaryKey"` // of its token, SHA-256
	KeyID   uuid.UUID
	BeganAt time.Time
	UsedAt  time.Time
	EndedAt *time.Time
}

// AddSession begins a session.
func (s *Store) AddSession(ctx context.Context, n Session) error {
	return create(s.gorm(ctx), &n, "session")
}

// Session returns the session with a token's hash, and its key.
func (s *Store) Session(ctx context.Context, hash []byte) (Session, Key, error) {
	var session Session
	if err := s.gorm(ctx).Where("hash = ?", hash).First(&session).Error; err != nil {
		return session, Key{}, found(err)
	}
	var k Key
	err := s.gorm(ctx).Where("id = ?", session.KeyID).First(&k).Error
	return session, k, found(err)
}

// EndSession ends a session; one that has ended stays so.
func (s *Store) EndSession(ctx context.Context, hash []byte, now time.Time) error {
	err := s.gorm(ctx).Exec("UPDATE sessions SET ended_at = ? WHERE hash = ? AND ended_at IS NULL", now, hash).Error
	if err != nil {
		return fmt.Errorf("ending a session: %w", err)
	}
	return nil
}

// TouchSessions notes when sessions were last used.
func (s *Store) TouchSessions(ctx context.Context, hashes [][]byte, now time.Time) error {
	return s.gorm(ctx).Exec("UPDATE sessions SET used_at = ? WHERE hash IN ?", now, hashes).Error
}

// DropSessions forgets sessions that were not used since.
func (s *Store) DropSessions(ctx context.Context, since time.Time) error {
	return s.gorm(ctx).Exec("DELETE FROM sessions WHERE used_at < ?", since).Error
}
