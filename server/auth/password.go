// Package auth knows who is asking: passwords, sessions and roles.
package auth

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/crypto/argon2"
)

// Argon2id parameters (RFC 9106 §4, the second recommended option, with the
// memory halved for machines that run the demo beside everything else).
const (
	argonTime    = 3
	argonMemory  = 32 * 1024 // KiB
	argonThreads = 2
	argonKey     = 32
	argonSalt    = 16
)

// MinPassword is the least length of a password, in characters.
const MinPassword = 10

// HashPassword returns the argon2id hash of a password as a PHC string.
func HashPassword(password string) (string, error) {
	if len([]rune(password)) < MinPassword {
		return "", fmt.Errorf("a password has at least %d characters", MinPassword)
	}
	salt := make([]byte, argonSalt)
	rand.Read(salt)
	key := argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonThreads, argonKey)
	b64 := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads,
		b64.EncodeToString(salt), b64.EncodeToString(key)), nil
}

// CheckPassword says whether password is the one that hash was made of.
func CheckPassword(hash, password string) (bool, error) {
	parts := strings.Split(hash, "$")
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false, errors.New("the stored password hash is not argon2id")
	}
	var memory, time uint32
	var threads uint8
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &memory, &time, &threads); err != nil {
		return false, fmt.Errorf("the stored password hash: %w", err)
	}
	salt, err := base64.RawStdEncoding.DecodeString(parts[4])
	if err != nil {
		return false, err
	}
	key, err := base64.RawStdEncoding.DecodeString(parts[5])
	if err != nil {
		return false, err
	}
	got := argon2.IDKey([]byte(password), salt, time, memory, threads, uint32(len(key)))
	return subtle.ConstantTimeCompare(got, key) == 1, nil
}

// NewToken returns a random token to give away and its hash to keep.
func NewToken(prefix string) (token string, hash []byte) {
	raw := make([]byte, 24)
	rand.Read(raw)
	token = prefix + base64.RawURLEncoding.EncodeToString(raw)
	return token, HashToken(token)
}

// HashToken returns what is kept of a token. Tokens are random, so a plain hash does.
func HashToken(token string) []byte {
	sum := sha256.Sum256([]byte(strings.TrimSpace(token)))
	return sum[:]
}
