package people

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"

	"tinbell/internal/record"
)

// Safe encrypts secrets before they are stored (AES-256-GCM).
type Safe struct {
	path string // empty: the key is given from elsewhere
	lost bool   // the key is gone: nothing is locked or unlocked

	mu   sync.RWMutex
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
	return safeOf(path, key)
}

func safeOf(path string, key []byte) (*Safe, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, fmt.Errorf("key for stored secrets in %s: %w", path, err)
	}
	seal, err := cipher.NewGCM(block)
	if err != nil {
		return nil, err
	}
	return &Safe{path: path, seal: seal, key: key}, nil
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

// Lost tells whether the key is gone.
func (s *Safe) Lost() bool { return s.lost }

// next is where a key is written that is to take the place of another.
func next(path string) string { return path + ".next" }

// Draft makes another key beside the one in use, which Become puts in its place.
func (s *Safe) Draft() (*Safe, error) {
	switch {
	case s.lost:
		return nil, ErrNoKey
	case s.path == "":
		return nil, record.Conflict{What: "the key is given by a variable or a command, not by a file: start with the file, change it, and put it where the variable or command has it"}
	}
	at := next(s.path)
	if err := os.Remove(at); err != nil && !errors.Is(err, os.ErrNotExist) { // of a change that came to nothing
		return nil, err
	}
	key, err := newKey(at)
	if err != nil {
		return nil, fmt.Errorf("another key for stored secrets: %w", err)
	}
	return safeOf(at, key)
}

// Become takes a draft's key for its own, in memory and in its file.
func (s *Safe) Become(draft *Safe) error {
	if err := os.Rename(draft.path, s.path); err != nil {
		return fmt.Errorf("key for stored secrets: %w", err)
	}
	s.take(draft)
	return nil
}

func (s *Safe) take(from *Safe) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.seal, s.key = from.seal, from.key
}

// Recover takes a draft that was left beside the key, if it is the one of a fingerprint: a
// change of keys was cut off after all secrets had been written.
func (s *Safe) Recover(fingerprint []byte) bool {
	key, err := os.ReadFile(next(s.path))
	if err != nil {
		return false
	}
	draft, err := safeOf(next(s.path), key)
	return err == nil && bytes.Equal(draft.Fingerprint(), fingerprint) && s.Become(draft) == nil
}

// Lock encrypts a secret.
func (s *Safe) Lock(secret string) []byte {
	s.mu.RLock()
	defer s.mu.RUnlock()
	nonce := make([]byte, s.seal.NonceSize())
	rand.Read(nonce)
	return s.seal.Seal(nonce, nonce, []byte(secret), nil)
}

// Unlock decrypts what Lock gave. Where it does not fit, another process may have changed
// the key: its file is read again.
func (s *Safe) Unlock(locked []byte) (string, error) {
	if s.lost {
		return "", ErrNoKey
	}
	secret, err := s.open(locked)
	if err == nil {
		return secret, nil
	}
	key, wrong := os.ReadFile(s.path)
	if s.path == "" || wrong != nil {
		return "", err
	}
	again, wrong := safeOf(s.path, key)
	if wrong != nil || bytes.Equal(again.Fingerprint(), s.Fingerprint()) {
		return "", err
	}
	if secret, wrong = again.open(locked); wrong != nil {
		return "", err
	}
	s.take(again)
	return secret, nil
}

func (s *Safe) open(locked []byte) (string, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
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
	s.mu.RLock()
	defer s.mu.RUnlock()
	key, err := hkdf.Key(sha256.New, s.key, nil, purpose, 32)
	if err != nil {
		panic(err) // 32 bytes are never too many
	}
	return key
}
