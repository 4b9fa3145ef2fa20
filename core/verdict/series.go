package verdict

import (
	"slices"

	"kestite/core/span"
)

// Settings are what a check's revision says about judging one measurement.
type Settings struct {
	Confirm, Recover int64
	StaleAfter       int64 // ms
	Apart            bool  // each failure is a stretch of its own, so that its instant is known
	// Revision is when the check's revision begins that says so, in ms: no stretch lies in two.
	Revision int64
}

// Stretch is a maximal run of measurements of one (check, location) with equal
// state and equal outcome and without a gap. Everything but the latency
// objective follows exactly from stretches and definitions.
type Stretch struct {
	State State        `json:"state"` // as judged; Unmeasured for failures that were never confirmed nor had a state before them
	Own   State        `json:"own"`   // the outcome's own severity: Up, Degraded or Down
	First span.Instant `json:"first_at"`
	Last  span.Instant `json:"last_at"`
	Count int64        `json:"count"`
}

// worse and better are the readings of §9. They need a state.
func (s Stretch) worse() State  { return max(s.State, s.Own) }
func (s Stretch) better() State { return min(s.State, s.Own) }

// Series is the confirmation machine of one (check, location) between two
// measurements. The zero Series has seen none. It is a plain value: store it,
// load it and go on.
type Series struct {
	State   State        `json:"state"`
	Started bool         `json:"started"`
	LastAt  span.Instant `json:"last_at"`
	Stale   int64        `json:"stale_ms"`
	// Pending are measurements whose state is not decided yet: failures while
	// State is not Down, or a recovery while it is.
	Pending []Pending `json:"pending,omitempty"`
	// Apart says that the next stretch does not continue the one before it.
	Apart bool `json:"apart"`
	// Revision is that of the last measurement's settings.
	Revision int64 `json:"revision,omitempty"`
}

// Pending is a run of measurements whose state is not decided yet.
type Pending struct {
	Stretch
	Alone bool `json:"alone,omitempty"` // stays a stretch of its own
	Anew  bool `json:"anew,omitempty"`  // does not continue the run before it
	doubt doubt
}

// doubt is what a rolling rule makes of failures, where it is known: they are
// kept in their place among what is pending, and count for nothing.
type doubt uint8

const (
	none     doubt = iota
	open           // doubted, and no measurement that is not has followed yet
	resolved       // doubted, with the state it has
)

// PendingCount is how many measurements wait for confirmation.
func (s *Series) PendingCount() int64 {
	var n int64
	for _, p := range s.Pending {
		if p.doubt == none {
			n += p.Count
		}
	}
	return n
}

// Add judges the next measurement and appends what is decided by it to out,
// extending out's last stretch where that goes on. at must be later than every
// instant added before. own is the outcome's severity: Up, Degraded or Down.
func (s *Series) Add(out []Stretch, at span.Instant, own State, set Settings) []Stretch {
	return s.addRun(out, Stretch{Own: own, First: at, Last: at, Count: 1}, set, false)
}

// addRun judges a run of measurements of one outcome, within one revision and
// without a gap, as Add does one after the other. doubted is a failure that the
// rolling rule does not believe (docs/accounting.md §3).
func (s *Series) addRun(out []Stretch, run Stretch, set Settings, doubted bool) []Stretch {
	anew := false
	switch {
	case !s.Started:
		s.Started, s.Apart = true, true
	case run.First > s.LastAt.Add(s.Stale):
		out = s.Forget(out)
	default:
		anew = set.Revision != s.Revision
	}
	s.LastAt, s.Stale, s.Revision = run.Last, set.StaleAfter, set.Revision
	own := run.Own
	run.State = Unmeasured
	one := Pending{Stretch: run, Alone: set.Apart && own == Down, Anew: anew}
	if doubted && s.State != Down {
		one.doubt = open
		s.pend(one)
		return out
	}
	s.resolve()
	switch failed := own == Down; {
	case failed && s.State != Down:
		s.pend(one)
		if s.PendingCount() >= set.Confirm {
			s.State = Down
			out = s.settle(out, func(Stretch) State { return Down })
		}
	case failed:
		out = s.settle(out, func(Stretch) State { return Down })
		one.State = Down
		out = s.emit(out, one)
	case s.State == Down:
		s.pend(one)
		if s.PendingCount() >= set.Recover {
			out = s.settle(out, func(p Stretch) State { return p.Own })
			s.State = own
		}
	default:
		if len(s.Pending) > 0 {
			was := s.State
			out = s.settle(out, func(Stretch) State { return was })
		}
		s.State = own
		one.State = own
		out = s.emit(out, one)
	}
	return out
}

// resolve gives doubted failures the state that holds, now that one follows
// which is not doubted.
func (s *Series) resolve() {
	for i := range s.Pending {
		if p := &s.Pending[i]; p.doubt == open {
			p.doubt, p.State = resolved, s.State
		}
	}
}

// Forget settles what is pending as a gap does, and leaves no state behind.
// Call it on a copy to see the stretches as if the data ended here.
func (s *Series) Forget(out []Stretch) []Stretch {
	out = s.settle(out, s.atEnd())
	s.State, s.Apart = Unmeasured, true
	return out
}

// AtEnd returns the stretches that what is pending becomes if no further measurement comes.
func (s *Series) AtEnd(out []Stretch) []Stretch {
	peek := *s
	return peek.settle(out, peek.atEnd())
}

func (s *Series) atEnd() func(Stretch) State {
	end := Unmeasured
	if s.State == Down {
		end = Down
	}
	return func(Stretch) State { return end }
}

// settle gives what is pending its state; what is doubted has its own, or none
// where that was never resolved.
func (s *Series) settle(out []Stretch, state func(Stretch) State) []Stretch {
	for _, p := range s.Pending {
		if p.doubt == none {
			p.State = state(p.Stretch)
		}
		out = s.emit(out, p)
	}
	s.Pending = s.Pending[:0]
	return out
}

func (s *Series) pend(one Pending) {
	if n := len(s.Pending); n > 0 && !one.Alone && !one.Anew && !s.Pending[n-1].Alone &&
		s.Pending[n-1].Own == one.Own && one.doubt == none && s.Pending[n-1].doubt == none {
		s.Pending[n-1].Last = one.Last
		s.Pending[n-1].Count += one.Count
		return
	}
	s.Pending = append(s.Pending, one)
}

func (s *Series) emit(out []Stretch, run Pending) []Stretch {
	if n := len(out); n > 0 && !s.Apart && !run.Alone && !run.Anew && out[n-1].State == run.State && out[n-1].Own == run.Own {
		out[n-1].Last = run.Last
		out[n-1].Count += run.Count
		return out
	}
	s.Apart = run.Alone
	return append(out, run.Stretch)
}

// Waiting returns the stretches as live screens show them: what is pending
// keeps the state before it until it is decided.
func (s *Series) Waiting(out []Stretch) []Stretch {
	peek := *s
	peek.Pending = slices.Clone(peek.Pending)
	peek.resolve()
	return peek.settle(out, func(Stretch) State { return peek.State })
}
