package server

import (
	"crypto/tls"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"time"
)

// keyPair is a certificate with its key in two files. They are looked at again
// with the first handshake of each minute: one that was renewed is used without a
// restart. It is safe for concurrent use.
type keyPair struct {
	cert, key string
	log       *slog.Logger

	mu      sync.Mutex
	present *tls.Certificate
	looked  time.Time
	stamp   [2]time.Time
}

// lookAgain is how long a certificate is used before its files are looked at.
const lookAgain = time.Minute

func (k *keyPair) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if time.Since(k.looked) > lookAgain {
		if err := k.load(); err != nil {
			// The one there is goes on; half a renewal is over soon.
			k.log.Error("the certificate cannot be renewed", "error", err)
		}
	}
	return k.present, nil
}

// read loads the certificate for the first time.
func (k *keyPair) read() error {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.load()
}

func (k *keyPair) load() error {
	k.looked = time.Now()
	var stamp [2]time.Time
	for i, file := range []string{k.cert, k.key} {
		info, err := os.Stat(file)
		if err != nil {
			return fmt.Errorf("the server's certificate: %w", err)
		}
		stamp[i] = info.ModTime()
	}
	if k.present != nil && stamp == k.stamp {
		return nil
	}
	pair, err := tls.LoadX509KeyPair(k.cert, k.key)
	if err != nil {
		return fmt.Errorf("the server's certificate %s with the key %s: %w", k.cert, k.key, err)
	}
	k.present, k.stamp = &pair, stamp
	k.log.Info("certificate read", "file", k.cert, "until", pair.Leaf.NotAfter)
	return nil
}
