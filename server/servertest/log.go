package servertest

import (
	"strings"
	"sync"
)

// Log keeps what is logged. It is safe for concurrent use.
type Log struct {
	mu   sync.Mutex
	text strings.Builder
}

func (l *Log) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.Write(p)
}

func (l *Log) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.String()
}
