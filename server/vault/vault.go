// Package vault keeps secrets: it encrypts them for the database with a key that
// lies outside of it.
package vault

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"strings"
)

// Vault seals and opens secrets with AES-256-GCM.
type Vault struct{ aead cipher.AEAD }

// ErrNoKey is a vault without a key.
var ErrNoKey = errors.New("the server has no key to encrypt secrets with; start it with --key-file FILE")

const keyBytes = 32

// Open takes the key from a file (base64, 32 bytes), and makes the file when it
// is missing. An empty name is a vault that refuses everything.
func Open(file string) (*Vault, error) {
	if file == "" {
		return &Vault{}, nil
	}
	text, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		text, err = create(file)
	}
	if err != nil {
		return nil, fmt.Errorf("the key of the secrets: %w", err)
	}
	key, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(text)))
	if err != nil || len(key) != keyBytes {
		return nil, fmt.Errorf("%s holds no key: it must be %d bytes in base64", file, keyBytes)
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCM(block)
	return &Vault{aead}, err
}

func create(file string) ([]byte, error) {
	key := make([]byte, keyBytes)
	rand.Read(key)
	text := []byte(base64.StdEncoding.EncodeToString(key) + "\n")
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, err
	}
	_, err = f.Write(text)
	return text, errors.Join(err, f.Close())
}

// Seal encrypts a secret; owner, which Open needs again, binds it to what it belongs to.
func (v *Vault) Seal(owner, secret string) ([]byte, error) {
	if v.aead == nil {
		return nil, ErrNoKey
	}
	nonce := make([]byte, v.aead.NonceSize(), v.aead.NonceSize()+len(secret)+v.aead.Overhead())
	rand.Read(nonce)
	return v.aead.Seal(nonce, nonce, []byte(secret), []byte(owner)), nil
}

// Open decrypts what Seal made for the same owner.
func (v *Vault) Open(owner string, sealed []byte) (string, error) {
	if v.aead == nil {
		return "", ErrNoKey
	}
	n := v.aead.NonceSize()
	if len(sealed) < n {
		return "", fmt.Errorf("the secret of %s is cut short", owner)
	}
	text, err := v.aead.Open(nil, sealed[:n], sealed[n:], []byte(owner))
	if err != nil {
		return "", fmt.Errorf("the secret of %s was not encrypted with this server's key", owner)
	}
	return string(text), nil
}
