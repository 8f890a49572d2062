package store

import (
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
)

// Sealer encrypts secrets at rest with AES-256-GCM. What a secret belongs to
// is sealed with it, so that it cannot be moved to another record.
type Sealer struct {
	aead cipher.AEAD
	mac  []byte // the key of hashes, made of the sealing key
}

// NewSealer takes a key of 32 bytes.
func NewSealer(key []byte) (*Sealer, error) {
	if len(key) != 32 {
		return nil, fmt.Errorf("sealing key: %d bytes, expected 32", len(key))
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCM(block)
	h := hmac.New(sha256.New, key)
	h.Write([]byte("fingerprints"))
	return &Sealer{aead, h.Sum(nil)}, err
}

// MAC is a hash that is keyed with the sealing key (RFC 2104, with SHA-256): of
// what is short or easily guessed a plain one tells as much as itself.
func (s *Sealer) MAC(message []byte) []byte {
	h := hmac.New(sha256.New, s.mac)
	h.Write(message)
	return h.Sum(nil)
}

// Seal encrypts plain for its owner.
func (s *Sealer) Seal(plain []byte, owner string) []byte {
	nonce := make([]byte, s.aead.NonceSize())
	rand.Read(nonce)
	return s.aead.Seal(nonce, nonce, plain, []byte(owner))
}

// Open decrypts what Seal made for the same owner.
func (s *Sealer) Open(sealed []byte, owner string) ([]byte, error) {
	n := s.aead.NonceSize()
	if len(sealed) < n {
		return nil, fmt.Errorf("opening a secret of %s: too short", owner)
	}
	plain, err := s.aead.Open(nil, sealed[:n], sealed[n:], []byte(owner))
	if err != nil {
		return nil, fmt.Errorf("opening a secret of %s: another sealing key, or altered: %w", owner, err)
	}
	return plain, nil
}

// ErrOtherSeal is returned where the secrets in a database are sealed with another
// key.
var ErrOtherSeal = errors.New("the secrets in this database are sealed with another key")

// Probe checks that what others sealed in the database can be opened. The first
// one leaves something for the next to try.
func (s *Store) Probe(ctx context.Context, sealer *Sealer) error {
	const owner = "probe"
	var probe struct{ Sealed []byte }
	if err := s.gorm(ctx).Raw("SELECT sealed FROM seal_probe").Scan(&probe).Error; err != nil {
		return fmt.Errorf("looking for what was sealed: %w", err)
	}
	if probe.Sealed == nil { // of the time before there was one
		gateways, err := s.Gateways(ctx, FromTheStart)
		if err != nil {
			return err
		}
		for _, g := range gateways {
			if _, err := sealer.Open(g.SealedCallback, g.ID.String()); err != nil {
				return ErrOtherSeal
			}
		}
		err = s.gorm(ctx).
			Exec("INSERT INTO seal_probe (one, sealed) VALUES (true, ?) ON CONFLICT DO NOTHING", sealer.Seal([]byte("calm"), owner)).
			Error
		if err != nil {
			return fmt.Errorf("leaving something sealed: %w", err)
		}
		return s.Probe(ctx, sealer) // two may have come at once
	}
	if _, err := sealer.Open(probe.Sealed, owner); err != nil {
		return ErrOtherSeal
	}
	return nil
}
