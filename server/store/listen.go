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

// EventKind is what an event is about.
type EventKind string

// The kinds of event. IDs are those of what is named here.
const (
	OnMeasurement  EventKind = "measurement"   // of services
	OnState        EventKind = "state"         // of services
	OnDefinition   EventKind = "definition"    // kind and id, "check ticket-sales-http"
	OnAgent        EventKind = "agent"         // of locations
	OnRelease      EventKind = "release"       // of locations whose agents are to deliver what they set aside
	OnRoster       EventKind = "roster"        // of locations
	OnReport       EventKind = "report"        // reports
	OnCredit       EventKind = "credit"        // agreements whose credits changed
	OnIncident     EventKind = "incident"      // incidents, by number
	OnTrial        EventKind = "trial"         // none: some are to be made
	OnTrialDone    EventKind = "trial-done"    // trials
	OnSessionEnded EventKind = "session-ended" // sessions, for servers alone
	OnAll          EventKind = "all"           // none: some were missed
)

// Event says that something changed, to every server and from there to browsers.
type Event struct {
	Kind EventKind `json:"kind" enum:"measurement,state,definition,agent,release,roster,report,credit,incident,trial,trial-done,all"`
	IDs  []string  `json:"ids,omitempty" doc:"What changed, by id; absent: anything of the kind may have"`
}

// Notify tells every server of c, when the transaction of q (or at once) commits.
func Notify(ctx context.Context, q db.DBTX, c Event) error {
	const roomy = 7000 // the payload limit of NOTIFY is 8000 bytes
	text, err := json.Marshal(c)
	if err != nil {
		return err
	}
	if len(text) > roomy {
		text, _ = json.Marshal(Event{Kind: c.Kind})
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
	listeners map[chan Event]bool
}

// NewFeed returns a feed without listeners; Run fills it.
func NewFeed() *Feed {
	return &Feed{Judging: make(chan struct{}, 1), listeners: map[chan Event]bool{}}
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
		f.send(Event{Kind: OnAll})
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
		var c Event
		if json.Unmarshal([]byte(n.Payload), &c) == nil {
			f.send(c)
		}
	}
}

func (f *Feed) send(c Event) {
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
			case l <- Event{Kind: OnAll}:
			default:
			}
		}
	}
}

// Listen returns a channel of changes and what ends it.
func (f *Feed) Listen() (<-chan Event, func()) {
	l := make(chan Event, 64)
	f.mu.Lock()
	f.listeners[l] = true
	f.mu.Unlock()
	return l, func() {
		f.mu.Lock()
		delete(f.listeners, l)
		f.mu.Unlock()
	}
}
