package evidence

import (
	"cmp"
	"slices"

	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/core/verdict"
)

// Line is a row of measurements.csv and where it stands.
type Line struct {
	Line    int64           `json:"line"`
	At      span.Instant    `json:"at"`
	Outcome measure.Outcome `json:"outcome"`
	// Role is what the row has to do with the instant asked about.
	Role string `json:"role"`
}

// Roles of a Line, beside those of a verdict.Because.
const (
	Begins = "begins the run"    // the first ones of the run of equal measurements that speaks
	Holds  = "holds"             // the last one at or before the instant
	Next   = "the next after it" // what comes next, for the bounds and for what was pending
	first  = 3                   // so many of the first
)

// Asked names a lane, the stretch of it that speaks at an instant (none when
// From is after To), and the instant.
type Asked struct {
	Check, Location string
	Stretch         span.Span // [first, last], both included
	At              span.Instant
	Because         []verdict.Because // measurements of this lane to be named as well
}

// FindLines reads measurements.csv once more and returns the rows that decided
// each of the lanes asked about, by their index in asked, in order of time.
func FindLines(bundle *definition.Compiled, name string, open Open, asked []Asked) ([][]Line, error) {
	c := &collector{bundle: bundle, name: name, lanes: map[string]*lane{}}
	byLane := map[[2]string][]int{}
	for i, a := range asked {
		key := [2]string{a.Check, a.Location}
		byLane[key] = append(byLane[key], i)
	}
	found := make([]decisive, len(asked))
	err := c.pass(open, nil, func(l *lane, s sample) error {
		for _, i := range byLane[[2]string{l.check, l.location}] {
			if bundle.AsOf == nil || s.at < *bundle.AsOf {
				found[i].take(asked[i], s)
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	out := make([][]Line, len(asked))
	for i := range found {
		out[i] = found[i].lines(asked[i])
	}
	return out, nil
}

// decisive keeps the few rows that matter of one lane, whatever their order.
type decisive struct {
	begins      []sample
	holds, next sample
	held, later bool
	because     [][]sample // by the asked's
}

func (d *decisive) take(a Asked, s sample) {
	if d.because == nil {
		d.because = make([][]sample, len(a.Because))
	}
	for i, b := range a.Because {
		if s.at >= b.From && s.at <= b.To && (s.outcome == measure.Failed) == b.Failed {
			d.because[i] = earliest(d.because[i], s, int(b.Count))
		}
	}
	switch {
	case s.at > a.At:
		if !d.later || s.at < d.next.at {
			d.next, d.later = s, true
		}
		return
	case !d.held || s.at > d.holds.at:
		d.holds, d.held = s, true
	}
	if s.at < a.Stretch.From || s.at > a.Stretch.To {
		return
	}
	d.begins = earliest(d.begins, s, first)
}

// earliest joins a sample to a list of the n earliest, in order.
func earliest(list []sample, s sample, n int) []sample {
	at, known := slices.BinarySearchFunc(list, s, func(x, y sample) int { return cmp.Compare(x.at, y.at) })
	if known || at >= n {
		return list
	}
	list = slices.Insert(list, at, s)
	return list[:min(n, len(list))]
}

func (d *decisive) lines(a Asked) []Line {
	out := d.spoken()
	for i, list := range d.because {
		for _, s := range list {
			if !slices.ContainsFunc(out, func(l Line) bool { return l.At == s.at }) {
				out = append(out, Line{s.line, s.at, s.outcome, a.Because[i].Role})
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Line) int { return cmp.Compare(a.At, b.At) })
	return out
}

func (d *decisive) spoken() []Line {
	out := []Line{}
	for _, s := range d.begins {
		if !d.held || s.at < d.holds.at {
			out = append(out, Line{s.line, s.at, s.outcome, Begins})
		}
	}
	if d.held {
		out = append(out, Line{d.holds.line, d.holds.at, d.holds.outcome, Holds})
	}
	if d.later {
		out = append(out, Line{d.next.line, d.next.at, d.next.outcome, Next})
	}
	return out
}
