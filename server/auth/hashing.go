package auth

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"runtime"
	"strings"
	"sync/atomic"

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

// Hashing a password takes 32 MiB and a core for a while: at most as many are
// hashed at once as there are cores, and few wait for their turn.
var (
	hashing = make(chan struct{}, runtime.NumCPU())
	queued  atomic.Int64
)

// mostQueued is how many may wait for each that is hashed.
const mostQueued = 16

// ErrBusy is a password that cannot be hashed now.
var ErrBusy = errors.New("too many people sign in at once; try again in some seconds")

// inTurn does something that hashes. The error is ErrBusy where too many wait.
func inTurn(ctx context.Context, do func()) error {
	if queued.Add(1) > int64(cap(hashing)*(1+mostQueued)) {
		queued.Add(-1)
		return ErrBusy
	}
	defer queued.Add(-1)
	select {
	case hashing <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	defer func() { <-hashing }()
	do()
	return nil
}

// HashPassword returns the argon2id hash of a password as a PHC string. Whether
// the password is a good one, Acceptable says.
func HashPassword(ctx context.Context, password string) (string, error) {
	salt := make([]byte, argonSalt)
	rand.Read(salt)
	var key []byte
	err := inTurn(ctx, func() {
		key = argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonThreads, argonKey)
	})
	if err != nil {
		return "", err
	}
	b64 := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads,
		b64.EncodeToString(salt), b64.EncodeToString(key)), nil
}

// CheckPassword says whether password is the one that hash was made of.
func CheckPassword(ctx context.Context, hash, password string) (bool, error) {
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
	var got []byte
	err = inTurn(ctx, func() { got = argon2.IDKey([]byte(password), salt, time, memory, threads, uint32(len(key))) })
	return err == nil && subtle.ConstantTimeCompare(got, key) == 1, err
}
