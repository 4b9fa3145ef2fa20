package auth

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"strings"
)

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
