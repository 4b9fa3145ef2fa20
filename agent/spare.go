package agent

import (
	"context"
	"errors"
	"time"

	"kestite/agent/store"
	"kestite/agent/wire"
)

// mostSpare is how many measurements are held in memory while the disk takes none;
// beyond it the oldest are lost.
const mostSpare = 10_000

// lastTry is how long a process that ends tries to deliver what it holds.
const lastTry = 3 * time.Second

// spare is where measurements stay that the disk did not take: delivered from there while
// a server answers, put on disk once it takes them, and lost with the process.
type spare struct {
	rows []store.Kept
	// gone is how many had to go from the beginning since the start.
	gone int
	// unsaved is how many losses the disk did not take either.
	unsaved int
}

// hold keeps a measurement in memory that the disk does not take.
func (a *Agent) hold(m wire.Measurement, taken *store.Taken) {
	a.mu.Lock()
	a.spare.rows = append(a.spare.rows, store.Loose(m, taken))
	gone := max(0, len(a.spare.rows)-mostSpare)
	a.spare.rows, a.spare.gone = a.spare.rows[gone:], a.spare.gone+gone
	a.mu.Unlock()
	if gone > 0 {
		a.lose(gone)
	}
}

// rescue does something about what is held in memory until ctx ends.
func (a *Agent) rescue(ctx context.Context) {
	for ctx.Err() == nil {
		sleep(ctx, time.Second)
		a.mu.Lock()
		rows, gone := a.spare.rows[:min(len(a.spare.rows), mostDelivered)], a.spare.gone
		a.mu.Unlock()
		if len(rows) == 0 || ctx.Err() != nil {
			continue
		}
		done := a.store(rows)
		if done == 0 {
			done = a.hand(ctx, rows)
		}
		a.mu.Lock()
		done -= a.spare.gone - gone // hold had to let go of these meanwhile
		a.spare.rows = a.spare.rows[min(max(0, done), len(a.spare.rows)):]
		a.mu.Unlock()
	}
	a.mu.Lock()
	rows := a.spare.rows
	a.spare.rows = nil
	a.mu.Unlock()
	if len(rows) == 0 {
		return
	}
	last, cancel := context.WithTimeout(context.WithoutCancel(ctx), lastTry)
	defer cancel()
	if left := len(rows) - a.hand(last, rows[:min(len(rows), mostDelivered)]); left > 0 {
		a.lose(left)
	}
}

// store puts rows on disk, and returns how many it took.
func (a *Agent) store(rows []store.Kept) int {
	for i, r := range rows {
		dropped, err := a.Store.Add(r.Measurement, r.Taken)
		if err != nil {
			return i
		}
		if dropped > 0 {
			a.lose(dropped)
		}
	}
	a.disk("")
	a.Log.Info("the disk takes measurements again", "held_in_memory", len(rows))
	select {
	case a.fresh <- struct{}{}:
	default:
	}
	return len(rows)
}

// hand delivers rows from memory, and returns how many need not be held any more: what a
// server has, what none takes, and that of which nobody can tell when it was.
func (a *Agent) hand(ctx context.Context, rows []store.Kept) int {
	var batch wire.Batch
	lost := 0
	for _, k := range rows {
		if k.Taken == nil {
			batch.Measurements = append(batch.Measurements, k.Measurement)
			continue
		}
		at, placed, err := a.time.settle(k)
		var never *errNever
		switch {
		case errors.As(err, &never):
			lost++
			continue
		case err != nil:
			return 0
		}
		if at != k.At {
			at = a.unused(k.Check, at)
		}
		k.At, k.Clock = at, placed
		batch.Measurements = append(batch.Measurements, k.Measurement)
	}
	if len(batch.Measurements) > 0 {
		receipt, err := a.Client.Deliver(ctx, batch)
		switch fateOf(err) {
		case taken:
			for _, r := range receipt.Refused {
				a.Log.Error("the server refused a measurement for good", "reason", r.Reason)
				if r.Unstorable {
					lost++
				}
			}
		case atFault:
			if len(rows) > 1 {
				return a.hand(ctx, rows[:len(rows)/2])
			}
			a.Log.Error("a measurement that no server can take is lost: the disk takes none to be set aside", "error", err)
			lost++
		default:
			return 0
		}
	}
	if lost > 0 {
		a.lose(lost)
	}
	return len(rows)
}
