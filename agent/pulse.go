package agent

import (
	"context"
	"fmt"
	"sync"
	"time"
)

// pulse is a timer of the agent's own that should go off every beat: where it comes late,
// so did all else here, and what was measured meanwhile says more of the agent than of
// its targets.
type pulse struct {
	count func() time.Duration // time as nobody can set it, sleep included

	mu   sync.Mutex
	last time.Duration // when it last went off
	late []stall       // the times it came late, the latest last
}

// stall is a time in which nothing of the agent ran.
type stall struct{ from, to time.Duration }

const (
	beat = 50 * time.Millisecond
	// starvedFor is how late an own timer may be beside a measurement that takes long;
	// one with a short timeout bears half of that.
	starvedFor = time.Second
	mostStalls = 1000
)

// starvation is how late the agent's own timers may be during a measurement.
func starvation(timeoutMS int64) time.Duration {
	return min(starvedFor, time.Duration(timeoutMS)*time.Millisecond/2)
}

func newPulse(count func() time.Duration) *pulse { return &pulse{count: count, last: count()} }

// run goes on until ctx ends.
func (p *pulse) run(ctx context.Context) {
	tick := time.NewTicker(beat)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			p.beat()
		}
	}
}

// beat notes that the timer went off now.
func (p *pulse) beat() {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := p.count()
	if now-p.last > 2*beat {
		if p.late = append(p.late, stall{p.last + beat, now}); len(p.late) > mostStalls {
			p.late = p.late[1:]
		}
	}
	p.last = now
}

// starved says why a measurement that began at a count and has just ended says nothing of
// its target; empty where it does.
func (p *pulse) starved(began time.Duration, timeoutMS int64) string {
	p.mu.Lock()
	defer p.mu.Unlock()
	bound, worst := starvation(timeoutMS), time.Duration(0)
	// The timer may be later than the measurement that it is late for.
	for _, s := range append(p.late[:len(p.late):len(p.late)], stall{p.last + beat, p.count()}) {
		worst = max(worst, s.to-max(s.from, began))
	}
	if worst <= bound {
		return ""
	}
	return fmt.Sprintf("the agent itself was starved: its own timers were %.1f s late while it measured (%.1f s are borne)", worst.Seconds(), bound.Seconds())
}
