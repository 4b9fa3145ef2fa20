package planner

import (
	"sync"

	"kestite/core/catalogue"
	"kestite/core/planning"
	"kestite/core/span"
)

// told is how long before a check pauses its agents are told, ms: long enough to hear of
// it, and short, since who does not hear that work was cancelled pauses all the same.
const told = span.Minute

// Pauses tells which checks pause now. The zero value is ready; it is safe for concurrent
// use.
type Pauses struct {
	mu    sync.Mutex
	mark  string
	until span.Instant // to which what is known reaches
	known []planning.Pause
}

// again is for how long what is known of pauses holds while no definition changes, ms.
const again = span.Minute

// Quiet are the times, under way or about to begin, in which checks do not measure, by check.
func (p *Pauses) Quiet(snap *catalogue.Snapshot, now span.Instant) map[string][]span.Span {
	var out map[string][]span.Span
	for _, x := range p.Now(snap, now) {
		if x.Refused != "" || x.Quiet.To <= now || x.Quiet.From > now.Add(told) {
			continue
		}
		if out == nil {
			out = map[string][]span.Span{}
		}
		out[x.Check] = append(out[x.Check], x.Quiet)
	}
	return out
}

// Now are the pauses of work that runs, or is about to.
func (p *Pauses) Now(snap *catalogue.Snapshot, now span.Instant) []planning.Pause {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.mark != snap.Mark || now >= p.until || now < p.until.Add(-again) {
		p.known, p.mark, p.until = planning.Pauses(snap, span.Span{From: now, To: now.Add(told + again)}, now), snap.Mark, now.Add(again)
	}
	return p.known
}
