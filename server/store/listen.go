package store

import (
	"context"
	"encoding/json"
	"log/slog"
	"sync"
	"time"

	"kestite/server/store/gen/db"
)

// Channel is the PostgreSQL notification channel of live changes.
const Channel = "kestite_live"

// Change is something that changed, told to every server and from there to
// browsers.
type Change struct {
	// Kind is "measurement", "state", "definition", "agent", "report" or "trial".
	Kind string   `json:"kind"`
	IDs  []string `json:"ids,omitempty"`
}

// Notify tells every server of c, when the transaction of q (or at once) commits.
func Notify(ctx context.Context, q db.DBTX, c Change) error {
	const roomy = 7000 // the payload limit of NOTIFY is 8000 bytes
	text, err := json.Marshal(c)
	if err != nil {
		return err
	}
	if len(text) > roomy {
		text, _ = json.Marshal(Change{Kind: c.Kind})
	}
	_, err = q.Exec(ctx, "SELECT pg_notify($1, $2)", Channel, string(text))
	return err
}

// Feed hands the changes of the database to any number of listeners.
type Feed struct {
	mu        sync.Mutex
	listeners map[chan Change]bool
}

// NewFeed returns a feed without listeners; Run fills it.
func NewFeed() *Feed { return &Feed{listeners: map[chan Change]bool{}} }

// Run listens until ctx ends, and reconnects when the database goes away.
func (f *Feed) Run(ctx context.Context, s *Store, log *slog.Logger) {
	for ctx.Err() == nil {
		err := f.listen(ctx, s)
		if ctx.Err() != nil {
			return
		}
		log.Warn("live changes interrupted", "error", err)
		select {
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
		// Whatever was missed meanwhile: everything may have changed.
		f.send(Change{Kind: "all"})
	}
}

func (f *Feed) listen(ctx context.Context, s *Store) error {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer func() {
		conn.Conn().Close(context.WithoutCancel(ctx))
		conn.Release()
	}()
	if _, err := conn.Exec(ctx, "LISTEN "+Channel); err != nil {
		return err
	}
	for {
		n, err := conn.Conn().WaitForNotification(ctx)
		if err != nil {
			return err
		}
		var c Change
		if json.Unmarshal([]byte(n.Payload), &c) == nil {
			f.send(c)
		}
	}
}

func (f *Feed) send(c Change) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for l := range f.listeners {
		select {
		case l <- c:
		default: // a listener that does not keep up is told that all may have changed
			select {
			case <-l:
			default:
			}
			select {
			case l <- Change{Kind: "all"}:
			default:
			}
		}
	}
}

// Listen returns a channel of changes and what ends it.
func (f *Feed) Listen() (<-chan Change, func()) {
	l := make(chan Change, 64)
	f.mu.Lock()
	f.listeners[l] = true
	f.mu.Unlock()
	return l, func() {
		f.mu.Lock()
		delete(f.listeners, l)
		f.mu.Unlock()
	}
}
