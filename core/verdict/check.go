package verdict

import (
	"slices"

	"kestite/core/definition"
	"kestite/core/span"
)

// Revisions are a check's revisions in time order, disjoint.
type Revisions []definition.Check

// Valid returns the revision at i, nil when there is none.
func (r Revisions) Valid(i span.Instant) *definition.Check {
	for n := range r {
		if definition.Begins(r[n].From) <= i && i < definition.Ends(r[n].Until) {
			return &r[n]
		}
	}
	return nil
}

// Knows says whether any revision names the location.
func (r Revisions) Knows(location string) bool {
	for _, c := range r {
		if slices.Contains(c.Locations, location) {
			return true
		}
	}
	return false
}

// Settings returns how a measurement at i is judged; false when no revision covers i.
func (r Revisions) Settings(i span.Instant) (Settings, bool) {
	c := r.Valid(i)
	if c == nil {
		return Settings{}, false
	}
	return SettingsOf(*c), true
}

// SettingsOf returns the judging settings of one revision. A rolling rule
// judges in a second step (Roll): for it every failure is kept by itself.
func SettingsOf(c definition.Check) Settings {
	set := Settings{
		Confirm: c.Confirm, Recover: c.Recover, StaleAfter: c.StaleAfterS * span.Second, Revision: int64(definition.Begins(c.From)),
	}
	if c.Rolling != nil {
		set.Confirm, set.Recover, set.Apart = 1, 1, true
	}
	return set
}

// Location returns what one location said over time in the three views, from
// its stretches in order.
func Location(stretches []Stretch, revisions Revisions) span.Timeline[Views] {
	line := make(span.Timeline[Views], 0, 3*len(stretches)+1)
	line = line.Append(span.Beginning, Same(Unmeasured))
	for i, s := range stretches {
		if s.State == Unmeasured {
			line = line.Append(s.First, Same(Unmeasured))
			continue
		}
		if s.First < s.Last {
			line = line.Append(s.First, Views{s.State, s.worse(), s.better()})
		}
		edge := Views{s.State, s.worse(), s.better()}
		next := span.End
		if i+1 < len(stretches) {
			n := stretches[i+1]
			next = n.First
			if n.State != Unmeasured {
				edge[Low] = max(edge[Low], n.worse())
				edge[High] = min(edge[High], n.better())
			}
		}
		line = line.Append(s.Last, edge)
		set, _ := revisions.Settings(s.Last)
		if stale := s.Last.Add(set.StaleAfter); stale < next {
			line = line.Append(stale, Same(Unmeasured))
		}
	}
	return line
}

// Quorum is the state of a check with n locations of which the k-th worst
// speaks, where states are those of the locations (docs/accounting.md §4).
func Quorum(states []State, k int) State {
	var count [absent]int
	for _, s := range states {
		count[s]++
	}
	silent := count[Unmeasured]
	if len(states)-silent < k {
		if count[Degraded]+count[Down]+silent < k {
			return Up
		}
		return Unmeasured
	}
	switch {
	case count[Down] >= k:
		return Down
	case count[Down]+count[Degraded] >= k:
		return Degraded
	}
	return Up
}

// Check returns the state of a check over time from its locations' timelines;
// absent where no revision is valid or the revision only informs.
func Check(revisions Revisions, location func(string) span.Timeline[Views]) span.Timeline[Views] {
	line := span.Constant(Same(absent))
	for _, r := range revisions {
		valid := span.Span{From: definition.Begins(r.From), To: definition.Ends(r.Until)}
		if r.Role != definition.Decides {
			continue
		}
		states := Judged(r, location)
		states.Runs(valid, func(s span.Span, v Views) { line = line.Append(s.From, v) })
		if valid.To < span.End {
			line = line.Append(valid.To, Same(absent))
		}
	}
	return line
}

// Judged returns the state that one revision's quorum makes of its locations,
// whatever its role, and beyond its own validity too.
func Judged(r definition.Check, location func(string) span.Timeline[Views]) span.Timeline[Views] {
	var lines []span.Timeline[Views]
	for _, l := range r.Assigned() {
		lines = append(lines, location(l))
	}
	k := r.Quorum.K(len(lines))
	states := make([]State, len(lines))
	return span.Merge(lines, func(views []Views) (out Views) {
		for view := range out {
			for i, v := range views {
				states[i] = v[view]
			}
			out[view] = Quorum(states, k)
		}
		return out
	})
}
