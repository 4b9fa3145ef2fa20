package verdict

import (
	"cmp"
	"slices"

	"kestite/core/definition"
	"kestite/core/span"
)

// failure is one failed measurement that a rolling rule judges.
type failure struct {
	at       span.Instant
	location string
	index    int // of its stretch
	rule     *definition.Rolling
}

// Rolls says whether any of the revisions has a rolling rule.
func (r Revisions) Rolls() bool {
	return slices.ContainsFunc(r, func(c definition.Check) bool { return c.Rolling != nil })
}

// Roll judges a check's failures by its rolling rule (docs/accounting.md §3),
// from the stretches of its locations as Series made them. live says that those
// not decided yet keep the state before them, as live screens show it; an
// account leaves them unmeasured. Without a rolling rule it returns lanes.
func Roll(revisions Revisions, lanes map[string][]Stretch, live bool) map[string][]Stretch {
	if !revisions.Rolls() {
		return lanes
	}
	confirmed := make(map[string][]bool, len(lanes))
	for location, list := range lanes {
		confirmed[location] = make([]bool, len(list))
	}
	believe(revisions.failures(lanes), confirmed)
	out := make(map[string][]Stretch, len(lanes))
	for location, list := range lanes {
		out[location] = revisions.settle(list, confirmed[location], live)
	}
	return out
}

// failures are those that a rolling rule judges, in order of time.
func (r Revisions) failures(lanes map[string][]Stretch) []failure {
	var out []failure
	for location, list := range lanes {
		for i, s := range list {
			if s.Own != Down {
				continue
			}
			if c := r.Valid(s.First); c != nil && c.Rolling != nil && slices.Contains(c.Locations, location) {
				out = append(out, failure{s.First, location, i, c.Rolling})
			}
		}
	}
	slices.SortFunc(out, func(a, b failure) int {
		return cmp.Or(cmp.Compare(a.at, b.at), cmp.Compare(a.location, b.location))
	})
	return out
}

// believe marks the failures, by location and stretch, that lie in a window
// that holds enough of them. A window (t − w, t] ends at a failure, whose
// revision's rule counts.
func believe(list []failure, confirmed map[string][]bool) {
	from, marked := 0, 0
	inside := map[string]int{}
	for i, f := range list {
		if i > 0 && f.rule.WindowS > list[i-1].rule.WindowS { // a longer window reaches back again
			from, marked = 0, 0
			clear(inside)
			for _, g := range list[:i] {
				inside[g.location]++
			}
		}
		inside[f.location]++
		for ; list[from].at <= f.at.Add(-f.rule.WindowS*span.Second); from++ {
			if inside[list[from].location]--; inside[list[from].location] == 0 {
				delete(inside, list[from].location)
			}
		}
		if int64(i-from+1) < f.rule.Runs || int64(len(inside)) < f.rule.Locations {
			continue
		}
		for _, g := range list[max(from, marked) : i+1] {
			confirmed[g.location][g.index] = true
		}
		marked = i + 1
	}
}

// settle gives the failures of one location their states, and joins stretches
// that are alike.
func (r Revisions) settle(list []Stretch, confirmed []bool, live bool) []Stretch {
	var out []Stretch
	ruled := func(i int) bool {
		if list[i].Own != Down {
			return false
		}
		c := r.Valid(list[i].First)
		return c != nil && c.Rolling != nil
	}
	for i := 0; i < len(list); {
		if !ruled(i) {
			out = r.join(out, list[i])
			i++
			continue
		}
		// A run of failures without a gap.
		end, decided := i+1, confirmed[i]
		for end < len(list) && !r.gap(list[end-1], list[end]) && ruled(end) {
			decided = decided || confirmed[end]
			end++
		}
		if end == len(list) {
			decided = decided || live
		} else if !r.gap(list[end-1], list[end]) {
			decided = true
		}
		state := Unmeasured
		if n := len(out); n > 0 && !r.gap(out[n-1], list[i]) && (decided || out[n-1].State == Down) {
			state = out[n-1].State
		}
		for ; i < end; i++ {
			s := list[i]
			if confirmed[i] {
				state = Down
			}
			s.State = state
			out = r.join(out, s)
		}
	}
	return out
}

// gap says whether b comes too late to follow a.
func (r Revisions) gap(a, b Stretch) bool {
	set, _ := r.Settings(a.Last)
	return b.First > a.Last.Add(set.StaleAfter)
}

// join appends s, to the last stretch where that goes on; failures in doubt stay apart.
func (r Revisions) join(out []Stretch, s Stretch) []Stretch {
	doubted := s.Own == Down && s.State != Down
	if n := len(out); n > 0 && !doubted && out[n-1].State == s.State && out[n-1].Own == s.Own && !r.gap(out[n-1], s) {
		out[n-1].Last = s.Last
		out[n-1].Count += s.Count
		return out
	}
	return append(out, s)
}

// Doubted counts the failures since an instant that a rolling rule does not
// believe, of stretches as Roll returns them.
func Doubted(stretches []Stretch, since span.Instant) int64 {
	var n int64
	for i := len(stretches) - 1; i >= 0 && stretches[i].Last > since; i-- {
		if s := stretches[i]; s.Own == Down && s.State != Down {
			n += s.Count
		}
	}
	return n
}
