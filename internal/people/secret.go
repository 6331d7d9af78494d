package people

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"path/filepath"
)

// Safe encrypts secrets before they are stored (AES-256-GCM).
type Safe struct {
	seal cipher.AEAD
	key  []byte
}

// OpenSafe reads the key at path, or makes one there; of several that make one at once all
// have the same.
func OpenSafe(path string) (*Safe, error) {
	key, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		key, err = newKey(path)
	}
	if err != nil {
		return nil, fmt.Errorf("key for stored secrets: %w", err)
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, fmt.Errorf("key for stored secrets in %s: %w", path, err)
	}
	seal, err := cipher.NewGCM(block)
	if err != nil {
		return nil, err
	}
	return &Safe{seal, key}, nil
}

// newKey writes a key beside its place and links it there: whoever comes first has made it,
// and nobody reads half of one.
func newKey(path string) ([]byte, error) {
	draft, err := os.CreateTemp(filepath.Dir(path), ".key-*") // which only its owner reads
	if err != nil {
		return nil, err
	}
	defer os.Remove(draft.Name())
	key := make([]byte, 32)
	rand.Read(key)
	_, err = draft.Write(key)
	if err = errors.Join(err, draft.Sync(), draft.Close()); err != nil {
		return nil, err
	}
	if err := os.Link(draft.Name(), path); err != nil && !errors.Is(err, os.ErrExist) {
		return nil, err
	}
	return os.ReadFile(path)
}

// Fingerprint tells keys apart and nothing of them.
func (s *Safe) Fingerprint() []byte { return s.Key("fingerprint") }

// Lock encrypts a secret.
func (s *Safe) Lock(secret string) []byte {
	nonce := make([]byte, s.seal.NonceSize())
	rand.Read(nonce)
	return s.seal.Seal(nonce, nonce, []byte(secret), nil)
}

// Unlock decrypts what Lock gave.
func (s *Safe) Unlock(locked []byte) (string, error) {
	n := s.seal.NonceSize()
	if len(locked) < n {
		return "", errors.New("stored secret is damaged")
	}
	secret, err := s.seal.Open(nil, locked[:n], locked[n:], nil)
	if err != nil {
		return "", errors.New("stored secret does not fit this key: was the data directory's key file replaced?")
	}
	return string(secret), nil
}

// Key derives a key for a purpose of its own (HKDF, RFC 5869).
func (s *Safe) Key(purpose string) []byte {
	key, err := hkdf.Key(sha256.New, s.key, nil, purpose, 32)
	if err != nil {
		panic(err) // 32 bytes are never too many
	}
	return key
}
