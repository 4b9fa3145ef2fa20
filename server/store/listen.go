package store

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"time"

	"kestite/server/store/gen/db"
)

// Channel is the PostgreSQL notification channel of live changes.
const Channel = "kestite_live"

// Change is something that changed, told to every server and from there to
// browsers.
type Change struct {
	// Kind is "measurement" or "state" (of services), "definition", "agent" or
	// "release" (of locations), "roster", "report", "trial", "trial-done", or "all".
	Kind string `json:"kind"`
	// IDs say what changed; empty: anything of the kind may have.
	IDs []string `json:"ids,omitempty"`
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

// judging is the channel on which servers tell each other that a service waits
// to be judged.
const judging = "kestite_judging"

// AskJudging asks for services to be judged, when the transaction of q (or at once) commits.
func AskJudging(ctx context.Context, q db.DBTX, services map[string]bool) error {
	if len(services) == 0 {
		return nil
	}
	if err := db.New(q).AskJudging(ctx, slices.Sorted(maps.Keys(services))); err != nil {
		return fmt.Errorf("ask for judging: %w", err)
	}
	_, err := q.Exec(ctx, "SELECT pg_notify($1, '')", judging)
	return err
}

// Feed hands the changes of the database to any number of listeners.
type Feed struct {
	// Judging yields when a service waits to be judged.
	Judging chan struct{}

	mu        sync.Mutex
	listeners map[chan Change]bool
}

// NewFeed returns a feed without listeners; Run fills it.
func NewFeed() *Feed {
	return &Feed{Judging: make(chan struct{}, 1), listeners: map[chan Change]bool{}}
}

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
	conn, err := s.PoolOf(Jobs).Acquire(ctx)
	if err != nil {
		return err
	}
	defer func() {
		conn.Conn().Close(context.WithoutCancel(ctx))
		conn.Release()
	}()
	for _, channel := range []string{Channel, judging} {
		if _, err := conn.Exec(ctx, "LISTEN "+channel); err != nil {
			return err
		}
	}
	for {
		n, err := conn.Conn().WaitForNotification(ctx)
		if err != nil {
			return err
		}
		if n.Channel == judging {
			select {
			case f.Judging <- struct{}{}:
			default:
			}
			continue
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
