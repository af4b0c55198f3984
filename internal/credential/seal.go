package credential

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/ed25519"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// Seal encrypts secrets at rest with AES-256-GCM under a key that lies in a file of the
// service's data folder, not in the database with them.
type Seal struct {
	aead cipher.AEAD
	key  []byte
}

// ErrSealed is a secret that this key does not open.
var ErrSealed = errors.New("the secret was sealed with another key: the file secret.key of the data folder was replaced")

// OpenSeal reads the key of a data folder, and makes one where there is none.
func OpenSeal(folder string) (*Seal, error) {
	file := filepath.Join(folder, "secret.key")
	key, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		key = make([]byte, 32)
		_, _ = rand.Read(key) // never fails
		f, createErr := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if errors.Is(createErr, fs.ErrExist) { // another replica was faster
			return OpenSeal(folder)
		}
		if createErr != nil {
			return nil, fmt.Errorf("make the key of the secrets: %w", createErr)
		}
		_, err = f.Write(key)
		err = errors.Join(err, f.Sync(), f.Close())
	}
	if err != nil {
		return nil, fmt.Errorf("read the key of the secrets: %w", err)
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, fmt.Errorf("the key of the secrets in %s is damaged: %w", file, err)
	}
	aead, err := cipher.NewGCM(block)
	if err != nil {
		return nil, fmt.Errorf("use the key of the secrets: %w", err)
	}
	return &Seal{aead, key}, nil
}

// Derive gives a secret of its own for a purpose, the same at every start and for every
// replica of the service.
func (s *Seal) Derive(purpose string) []byte {
	h := hmac.New(sha256.New, s.key)
	h.Write([]byte("domicile " + purpose))
	return h.Sum(nil)
}

// Key gives an SSH key of its own for a purpose.
func (s *Seal) Key(purpose string) ed25519.PrivateKey {
	return ed25519.NewKeyFromSeed(s.Derive("key " + purpose))
}

// Close encrypts. purpose must be given again to open: a sealed text that is moved to
// another place in the records does not open there.
func (s *Seal) Close(purpose, secret string) []byte {
	nonce := make([]byte, s.aead.NonceSize())
	_, _ = rand.Read(nonce) // never fails
	return s.aead.Seal(nonce, nonce, []byte(secret), []byte(purpose))
}

// Open decrypts what Close made for the same purpose.
func (s *Seal) Open(purpose string, sealed []byte) (string, error) {
	n := s.aead.NonceSize()
	if len(sealed) < n {
		return "", ErrSealed
	}
	secret, err := s.aead.Open(nil, sealed[:n], sealed[n:], []byte(purpose))
	if err != nil {
		return "", ErrSealed
	}
	return string(secret), nil
}
