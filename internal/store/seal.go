package store

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"fmt"
)

// Sealer encrypts secrets at rest with AES-256-GCM. What a secret belongs to
// is sealed with it, so that it cannot be moved to another record.
type Sealer struct{ aead cipher.AEAD }

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
	return &Sealer{aead}, err
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
