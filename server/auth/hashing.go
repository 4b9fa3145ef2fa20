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

// Work is what making an argon2id hash costs whoever makes it. Each hash says what
// it cost, so that one made with other work is checked by its own.
type Work struct {
	Passes  uint32
	Memory  uint32 // KiB
	Threads uint8
}

// Usual is the work of RFC 9106 §4, the second recommended option, with the memory
// halved for machines that run the demo beside everything else.
var Usual = Work{Passes: 3, Memory: 32 * 1024, Threads: 2}

// work is that of new hashes.
var work = Usual

// SetWork changes the work of new hashes; tests that sign in hundreds of people, and
// check nothing of hashing, take little. It is called before anything is hashed.
func SetWork(w Work) { work = w }

const (
	argonKey  = 32
	argonSalt = 16
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
		key = argon2.IDKey([]byte(password), salt, work.Passes, work.Memory, work.Threads, argonKey)
	})
	if err != nil {
		return "", err
	}
	b64 := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, work.Memory, work.Passes, work.Threads,
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
