package store

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"kestite/agent/ticks"
	"kestite/core/clock"
	"kestite/server/store/gen/db"
)

// Clock is the database's clock as this server knows it: the one by which all
// servers and agents place what happens, whatever their own clocks show.
type Clock struct {
	queries *db.Queries
	shows   func() time.Time // another clock in its place; nil for none

	mu     sync.Mutex
	filter clock.Filter
}

const (
	asksClock = 10 * time.Second
	// clockPatience is how long the database may take to say what time it is.
	clockPatience = 5 * time.Second
)

// newClock asks the database for the time.
func newClock(ctx context.Context, q *db.Queries) (*Clock, error) {
	c := &Clock{queries: q}
	var err error
	for range 3 { // the first answer comes over connections that have yet to be made
		_, err = c.ask(ctx)
	}
	if _, ok := c.filter.Best(0); !ok {
		return nil, fmt.Errorf("ask the database for the time: %w", err)
	}
	return c, nil
}

// Show lets all who ask this store for the time be told that of another clock. Set it
// before the store is used. What the database fills in by itself goes on by its own.
func (s *Store) Show(now func() time.Time) { s.Clock = &Clock{shows: now} }

// ask asks once; set says whether the database's clock was set since.
func (c *Clock) ask(ctx context.Context) (set bool, err error) {
	ctx, cancel := context.WithTimeout(For(ctx, Jobs), clockPatience)
	defer cancel()
	x := clock.Exchange{Sent: ticks.Count()}
	if x.Received, err = c.queries.ClockTime(ctx); err != nil {
		return false, err
	}
	x.Answered, x.Arrived = x.Received, ticks.Count()
	r, err := x.Reading()
	if err != nil {
		return false, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.filter.Add(r), nil
}

// Follow asks again and again until ctx ends. While the database is away, the
// clock goes on as it was.
func (c *Clock) Follow(ctx context.Context, log *slog.Logger) {
	if c.shows != nil {
		return
	}
	tick := time.NewTicker(asksClock)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		switch set, err := c.ask(ctx); {
		case err != nil && ctx.Err() == nil:
			log.Debug("the database does not say what time it is", "error", err)
		case set:
			log.Warn("the database's clock was set", "now", c.Now())
		}
	}
}

// Now is what the database's clock shows.
func (c *Clock) Now() time.Time {
	now, _ := c.Read()
	return now
}

// Read is what the database's clock shows, and how far that may be wrong.
func (c *Clock) Read() (time.Time, time.Duration) {
	if c.shows != nil {
		return c.shows(), 0
	}
	at := ticks.Count()
	c.mu.Lock()
	defer c.mu.Unlock()
	r, _ := c.filter.Best(at)
	return r.At(at).UTC(), r.ErrorAt(at)
}
