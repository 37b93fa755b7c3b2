// Package secret seals texts with a key (docs/service.md, "Secrets"): AES-256 in GCM (NIST SP 800-38D) with a random nonce before each,
// bound to the secret's name. The key is in a file of the service's own, or comes from where the operator says. Callers begin with [Open], or with
// [NewKeys] where the key may change.
package secret

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// ErrOtherKey is returned where a text was sealed with another key, or was changed since.
var ErrOtherKey = errors.New("it was sealed with another key")

// Box seals and opens texts. Safe for concurrent use.
type Box struct{ aead cipher.AEAD }

// Open reads the key from a file, and makes one where there is none: 32 random bytes that only the
// file's owner may read.
func Open(path string) (*Box, error) {
	key, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		key, err = create(path)
	}
	if err != nil {
		return nil, fmt.Errorf("the key of secrets: %w", err)
	}
	if len(key) != 32 {
		return nil, fmt.Errorf("the key of secrets in %s has %d bytes and not 32; put the right file back, or remove it and store the secrets again", path, len(key))
	}
	if st, err := os.Stat(path); err == nil && st.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("others may read the key of secrets in %s; run: chmod 600 %s", path, path)
	}
	return boxOf(key)
}

func boxOf(key []byte) (*Box, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCM(block)
	return &Box{aead}, err
}

func create(path string) ([]byte, error) {
	key := make([]byte, 32)
	rand.Read(key) // it never fails
	part, err := os.CreateTemp(filepath.Dir(path), ".key-")
	if err != nil {
		return nil, err
	}
	_, err = part.Write(key)
	err = errors.Join(err, part.Chmod(0o600), part.Sync(), part.Close())
	if err == nil {
		err = os.Link(part.Name(), path) // one that came meanwhile is not replaced
	}
	return key, errors.Join(err, os.Remove(part.Name()))
}

// Seal seals a text under a name.
func (b *Box) Seal(name, text string) []byte {
	nonce := make([]byte, b.aead.NonceSize())
	rand.Read(nonce) // it never fails
	return b.aead.Seal(nonce, nonce, []byte(text), []byte(name))
}

// Open opens what was sealed under a name; ErrOtherKey where that is not so.
func (b *Box) Open(name string, sealed []byte) (string, error) {
	n := b.aead.NonceSize()
	if len(sealed) < n {
		return "", ErrOtherKey
	}
	text, err := b.aead.Open(nil, sealed[:n], sealed[n:], []byte(name))
	if err != nil {
		return "", ErrOtherKey
	}
	return string(text), nil
}
