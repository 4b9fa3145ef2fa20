package seal

import (
	"crypto/ed25519"
	"crypto/x509"
	"encoding/pem"
	"errors"
)

// PEM writes a public key (RFC 8410).
func PEM(public ed25519.PublicKey) (string, error) {
	der, err := x509.MarshalPKIXPublicKey(public)
	return string(pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der})), err
}

// ParsePEM reads the public keys of a text, by id.
func ParsePEM(text []byte) (map[string]ed25519.PublicKey, error) {
	out := map[string]ed25519.PublicKey{}
	for {
		block, rest := pem.Decode(text)
		if block == nil {
			break
		}
		text = rest
		key, err := x509.ParsePKIXPublicKey(block.Bytes)
		public, is := key.(ed25519.PublicKey)
		if err != nil || !is {
			return nil, errors.New("it holds a key that is no Ed25519 public key")
		}
		out[KeyID(public)] = public
	}
	if len(out) == 0 {
		return nil, errors.New("it holds no public key; one begins with -----BEGIN PUBLIC KEY-----")
	}
	return out, nil
}
