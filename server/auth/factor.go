package auth

import (
	"bytes"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base32"
	"image/png"
	"strings"
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/totp"

	"kestite/server/vault"
)

// Factor is the second factor: codes that a program on the person's telephone
// makes of a secret and the time (TOTP, RFC 6238: SHA-1, 6 digits, 30 s). The
// secret is in the database encrypted, with the key that lies outside of it.
type Factor struct{ Vault *vault.Vault }

// period is how long a code is shown, s; one before and one after are taken too.
const period = 30

var options = totp.ValidateOpts{Period: period, Digits: otp.DigitsSix, Algorithm: otp.AlgorithmSHA1}

// Proposal is a second factor to be confirmed with a first code.
type Proposal struct {
	Secret string // base32, to be typed
	URI    string // otpauth://…, to be opened
	QR     []byte // the same as a PNG, to be photographed
}

func owner(person string) string { return "second factor of " + person }

// Propose makes a secret for a person, and what is kept of it. The error is
// vault.ErrNoKey where the server has no key to encrypt it with.
func (f *Factor) Propose(person, email, organisation string) (p Proposal, sealed []byte, err error) {
	key, err := totp.Generate(totp.GenerateOpts{
		Issuer: strings.ReplaceAll("Kestite "+organisation, ":", ""), AccountName: email, Period: period, Digits: otp.DigitsSix,
		Algorithm: otp.AlgorithmSHA1,
	})
	if err != nil {
		return p, nil, err
	}
	const side = 232 // pixels: at least three a module
	picture, err := key.Image(side, side)
	if err != nil {
		return p, nil, err
	}
	var out bytes.Buffer
	if err := png.Encode(&out, picture); err != nil {
		return p, nil, err
	}
	sealed, err = f.Vault.Seal(owner(person), key.Secret())
	return Proposal{key.Secret(), key.URL(), out.Bytes()}, sealed, err
}

// Step says which time step a code belongs to, counted from 1970 on; 0 where it
// belongs to none that is now.
func (f *Factor) Step(person string, sealed []byte, code string, now time.Time) (int64, error) {
	code = strings.ReplaceAll(strings.TrimSpace(code), " ", "")
	if len(code) != options.Digits.Length() {
		return 0, nil
	}
	secret, err := f.Vault.Open(owner(person), sealed)
	if err != nil {
		return 0, err
	}
	for _, off := range []int64{0, -1, 1} {
		step := now.Unix()/period + off
		want, err := totp.GenerateCodeCustom(secret, time.Unix(step*period, 0), options)
		if err != nil {
			return 0, err
		}
		if subtle.ConstantTimeCompare([]byte(want), []byte(code)) == 1 {
			return step, nil
		}
	}
	return 0, nil
}

// recoveryCodes is how many there are at first.
const recoveryCodes = 10

// RecoveryCodes makes codes of 80 random bits that stand in for the second factor,
// each once, and what is kept of them.
func RecoveryCodes() (codes []string, hashes [][]byte) {
	for range recoveryCodes {
		raw := make([]byte, 10)
		rand.Read(raw)
		text := strings.ToLower(base32.StdEncoding.EncodeToString(raw))
		code := text[:4] + "-" + text[4:8] + "-" + text[8:12] + "-" + text[12:]
		codes, hashes = append(codes, code), append(hashes, recoveryHash(code))
	}
	return codes, hashes
}

func recoveryHash(code string) []byte {
	plain := strings.NewReplacer("-", "", " ", "").Replace(strings.ToLower(strings.TrimSpace(code)))
	sum := sha256.Sum256([]byte(plain))
	return sum[:]
}
