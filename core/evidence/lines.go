package evidence

import (
	"cmp"
	"slices"

	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/core/span"
)

// Line is a row of measurements.csv and where it stands.
type Line struct {
	Line    int64           `json:"line"`
	At      span.Instant    `json:"at"`
	Outcome measure.Outcome `json:"outcome"`
	// Role is what the row has to do with the instant asked about.
	Role string `json:"role"`
}

// Roles of a Line.
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
		out[i] = found[i].lines()
	}
	return out, nil
}

// decisive keeps the few rows that matter of one lane, whatever their order.
type decisive struct {
	begins      []sample
	holds, next sample
	held, later bool
}

func (d *decisive) take(a Asked, s sample) {
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
	at, known := slices.BinarySearchFunc(d.begins, s, func(x, y sample) int { return cmp.Compare(x.at, y.at) })
	if known || at >= first {
		return
	}
	d.begins = slices.Insert(d.begins, at, s)
	d.begins = d.begins[:min(first, len(d.begins))]
}

func (d *decisive) lines() []Line {
	var out []Line
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
