package agent

import (
	"context"
	"errors"
	"net/http"
	"time"

	"kestite/agent/store"
	"kestite/agent/wire"
	"kestite/core/measure"
)

// Bounds of a delivery: how many measurements, and how many bytes as JSON. The
// count shrinks while servers take too long for it.
const (
	mostDelivered      = wire.MaxBatch / 2
	leastDelivered     = 50
	mostDeliveredBytes = 4 << 20
)

// doubt is how often a single measurement must have failed where others were
// taken before it counts as the one that no server can take.
const doubt = 3

// piece is a run of measurements that are delivered together.
type piece struct {
	rows []store.Kept
	// failed is how often a server broke at it, and passed whether another piece
	// was taken since the last time.
	failed int
	passed bool
}

func (p *piece) keys() []uint64 {
	out := make([]uint64, len(p.rows))
	for i, r := range p.rows {
		out[i] = r.Key
	}
	return out
}

func (p *piece) halves() []*piece {
	half := len(p.rows) / 2
	return []*piece{{rows: p.rows[:half]}, {rows: p.rows[half:]}}
}

// fate is what an answer means for a piece.
type fate int

const (
	taken    fate = iota
	atFault       // the piece is: smaller ones will tell what in it
	doubtful      // the server broke, by this piece or by itself
	unheard       // nothing is known: it is kept, and sent again
	slow          // no answer in time: it is sent again in smaller pieces
)

// fateOf reads an answer.
func fateOf(err error) fate {
	var answer *AnswerError
	switch {
	case err == nil:
		return taken
	case errors.Is(err, context.DeadlineExceeded):
		return slow
	case !errors.As(err, &answer):
		return unheard
	}
	switch answer.Status {
	case http.StatusBadRequest, http.StatusRequestEntityTooLarge, http.StatusUnprocessableEntity:
		return atFault
	case http.StatusServiceUnavailable:
		return unheard
	}
	if answer.Status >= 500 {
		return doubtful
	}
	return unheard
}

// mostParked is how many pieces wait for another to be taken. While that many do,
// pieces further on are tried, so that even many that no server can take at the
// head of the store do not hide the good ones behind them.
const mostParked = 8

// courier decides what is delivered next. A piece at fault is halved until the
// measurement is found that no server can take; one that a server broke at is
// halved only where another was taken since, so that a server in trouble never
// makes good measurements look bad.
type courier struct {
	next   []*piece // to be sent before anything else
	parked []*piece // a server broke at them, and they wait for another to be taken
	size   int      // how many measurements make a piece
	beyond uint64   // up to where pieces were tried behind those parked
	turn   bool     // whether a parked piece is tried next, or one further on
}

// after is the greatest key among what was taken out of the store already.
func (c *courier) after() (key uint64) {
	for _, list := range [][]*piece{c.parked, c.next} {
		for _, p := range list {
			key = max(key, p.rows[len(p.rows)-1].Key)
		}
	}
	return key
}

// settle does with a piece what its fate says, and returns the measurement to be
// set aside, if there is one.
func (c *courier) settle(p *piece, f fate) *store.Kept {
	switch f {
	case taken:
		c.size = min(2*c.size, mostDelivered)
		for _, waiting := range c.parked {
			waiting.passed = true
		}
		c.next, c.parked, c.beyond = append(c.parked, c.next...), nil, 0
	case atFault:
		if len(p.rows) == 1 {
			return &p.rows[0]
		}
		c.next = append(p.halves(), c.next...)
	case doubtful:
		return c.doubt(p)
	case slow: // not doubted: pieces get smaller down to a size, and none is set aside for it
		c.size = max(leastDelivered, c.size/2)
		if len(p.rows) > leastDelivered {
			c.next = append(p.halves(), c.next...)
			break
		}
		c.next = append([]*piece{p}, c.next...)
	case unheard:
		c.next = append([]*piece{p}, c.next...)
	}
	return nil
}

// doubt does with a piece that a server broke at what settle says.
func (c *courier) doubt(p *piece) *store.Kept {
	passed := p.passed
	if p.passed = false; passed || p.failed == 0 {
		p.failed++
	}
	switch {
	case len(p.rows) == 1 && p.failed >= doubt:
		return &p.rows[0]
	case len(p.rows) > 1 && passed:
		c.next = append(p.halves(), c.next...)
	case len(c.parked) < mostParked:
		c.parked = append(c.parked, p)
	default: // it stays in the store, and comes again
		c.beyond = p.rows[len(p.rows)-1].Key
	}
	return nil
}

// pick is the next piece to send; nil where there is none.
func (c *courier) pick(load func(after uint64, n int) ([]store.Kept, error)) (*piece, error) {
	if len(c.next) > 0 {
		p := c.next[0]
		c.next = c.next[1:]
		return p, nil
	}
	c.turn = !c.turn
	if len(c.parked) < mostParked || c.turn {
		n := c.size
		if len(c.parked) > 0 {
			n = min(n, leastDelivered) // enough to tell whether anything passes
		}
		rows, err := load(max(c.beyond, c.after()), n)
		if err != nil {
			return nil, err
		}
		if len(rows) > 0 {
			return &piece{rows: rows}, nil
		}
		c.beyond = 0
	}
	if len(c.parked) > 0 { // nothing else to find the fault by
		p := c.parked[0]
		c.parked = c.parked[1:]
		return p, nil
	}
	return nil, nil
}

// deliver hands measurements over, oldest first, and forgets them when a server
// has them.
func (a *Agent) deliver(ctx context.Context) {
	const gather = 200 * time.Millisecond
	c := &courier{size: mostDelivered}
	pause := time.Second
	for ctx.Err() == nil {
		p, err := c.pick(func(after uint64, n int) ([]store.Kept, error) { return a.Store.Oldest(after, n, mostDeliveredBytes) })
		if err != nil {
			a.Log.Error("the store cannot be read", "error", err)
			sleep(ctx, 5*time.Second)
			continue
		}
		if p == nil {
			select {
			case <-ctx.Done():
			case <-a.fresh:
				sleep(ctx, gather)
			}
			continue
		}
		if err := a.settle(p); err != nil {
			a.Log.Warn("measurements wait until it is known when they were made", "waiting", a.Store.Backlog(), "error", err)
			c.next = append([]*piece{p}, c.next...)
			sleep(ctx, time.Second)
			continue
		}
		if len(p.rows) == 0 {
			continue
		}
		receipt, err := a.Client.Deliver(ctx, batchOf(p))
		if ctx.Err() != nil {
			return
		}
		f := fateOf(err)
		if f == taken {
			pause = time.Second
			a.delivered(ctx, p, receipt)
		}
		if bad := c.settle(p, f); bad != nil {
			a.setAside(map[uint64]string{bad.Key: err.Error()})
			continue
		}
		if f == taken || f == atFault {
			continue
		}
		a.Log.Warn("delivery failed; the measurements are kept", "waiting", a.Store.Backlog(), "error", err, "again_in", pause.String())
		sleep(ctx, pause)
		pause = min(2*pause, 15*time.Second)
	}
}

// settle places the measurements of a piece for good, on disk too, before they are
// delivered first; those of which nobody can tell when they were made are set aside.
func (a *Agent) settle(p *piece) error {
	var settled []store.Kept
	never := map[uint64]string{}
	rows := make([]store.Kept, 0, len(p.rows))
	for _, k := range p.rows {
		if k.Taken != nil {
			at, placed, err := a.time.settle(k)
			var lost *errNever
			switch {
			case errors.As(err, &lost):
				never[k.Key] = err.Error()
				continue
			case err != nil:
				return err
			}
			if at != k.At {
				at = a.unused(k.Check, at)
			}
			k.At, k.Clock, k.Taken = at, placed, nil
			settled = append(settled, k)
		}
		rows = append(rows, k)
	}
	if len(settled) > 0 {
		if err := a.Store.Settle(settled); err != nil {
			return err
		}
	}
	a.setAside(never)
	p.rows = rows
	return nil
}

func batchOf(p *piece) wire.Batch {
	list := make([]wire.Measurement, len(p.rows))
	for i, r := range p.rows {
		list[i] = r.Measurement
	}
	return wire.Batch{Measurements: list}
}

// delivered forgets what a server has, and sets aside what it could not keep.
func (a *Agent) delivered(ctx context.Context, p *piece, receipt wire.Receipt) {
	aside := map[uint64]string{}
	for _, r := range receipt.Refused {
		if r.Index < 0 || r.Index >= len(p.rows) {
			continue
		}
		row := p.rows[r.Index]
		a.Log.Error("the server refused a measurement for good", "check", row.Check, "at", row.At.String(), "reason", r.Reason)
		if r.Unstorable {
			aside[row.Key] = r.Reason
		}
	}
	a.setAside(aside)
	if err := a.Store.Forget(p.keys()...); err != nil {
		a.Log.Error("delivered measurements stay in the store and are sent again", "error", err)
		sleep(ctx, 5*time.Second)
	}
}

// setAside puts measurements into quarantine, where a person can see them.
func (a *Agent) setAside(reasons map[uint64]string) {
	if len(reasons) == 0 {
		return
	}
	for key, why := range reasons {
		reasons[key] = measure.Clean(why, 300)
	}
	dropped, err := a.Store.SetAside(reasons)
	if err != nil {
		a.Log.Error("measurements that no server can take stay in the way", "error", err)
		return
	}
	a.Log.Error("measurements that no server can take were set aside", "count", len(reasons))
	if dropped > 0 {
		a.lose(dropped)
	}
}
