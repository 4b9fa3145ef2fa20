package verdict

import "kestite/core/span"

// Settings are what a check's revision says about judging one measurement.
type Settings struct {
	Confirm, Recover int64
	StaleAfter       int64 // ms
	Apart            bool  // each failure is a stretch of its own, so that its instant is known
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
}

// Pending is a run of measurements whose state is not decided yet.
type Pending struct {
	Stretch
	Alone bool `json:"alone,omitempty"` // stays a stretch of its own
}

// PendingCount is how many measurements wait for confirmation.
func (s *Series) PendingCount() int64 {
	var n int64
	for _, p := range s.Pending {
		n += p.Count
	}
	return n
}

// Add judges the next measurement and appends what is decided by it to out,
// extending out's last stretch where that goes on. at must be later than every
// instant added before. own is the outcome's severity: Up, Degraded or Down.
func (s *Series) Add(out []Stretch, at span.Instant, own State, set Settings) []Stretch {
	if !s.Started {
		s.Started, s.Apart = true, true
	} else if at > s.LastAt.Add(s.Stale) {
		out = s.Forget(out)
	}
	s.LastAt, s.Stale = at, set.StaleAfter
	one := Pending{Stretch{Own: own, First: at, Last: at, Count: 1}, set.Apart && own == Down}
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

func (s *Series) settle(out []Stretch, state func(Stretch) State) []Stretch {
	for _, p := range s.Pending {
		p.State = state(p.Stretch)
		out = s.emit(out, p)
	}
	s.Pending = s.Pending[:0]
	return out
}

func (s *Series) pend(one Pending) {
	if n := len(s.Pending); n > 0 && !one.Alone && !s.Pending[n-1].Alone && s.Pending[n-1].Own == one.Own {
		s.Pending[n-1].Last = one.Last
		s.Pending[n-1].Count++
		return
	}
	s.Pending = append(s.Pending, one)
}

func (s *Series) emit(out []Stretch, run Pending) []Stretch {
	if n := len(out); n > 0 && !s.Apart && !run.Alone && out[n-1].State == run.State && out[n-1].Own == run.Own {
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
	return peek.settle(out, func(Stretch) State { return peek.State })
}
