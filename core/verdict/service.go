package verdict

import (
	"kestite/core/definition"
	"kestite/core/span"
)

// Source returns the stretches of one (check, location), in order.
type Source func(check, location string) []Stretch

// Services returns the state over time of every service of a compiled bundle.
// A service is at each instant what its revision in force then says, and
// unmeasured while none is.
func Services(c *definition.Compiled, source Source) map[string]span.Timeline[Views] {
	checks := make(map[string]span.Timeline[Views], len(c.Checks))
	for id, list := range c.Checks {
		revisions := Revisions(list)
		checks[id] = Check(revisions, func(l string) span.Timeline[Views] { return Location(source(id, l), revisions) })
	}
	out := make(map[string]span.Timeline[Views], len(c.Services))
	for _, e := range c.Epochs {
		now := make(map[string]span.Timeline[Views], len(e.Order))
		for _, id := range e.Order {
			now[id] = within(e.Span, c.Services[id], checks, now)
		}
		if len(c.Epochs) == 1 {
			return now
		}
		for id, line := range now {
			known := out[id]
			line.Runs(e.Span, func(s span.Span, v Views) { known = known.Append(s.From, v) })
			out[id] = known
		}
	}
	return out
}

// within is the state of a service during an epoch, by the revisions in force in
// it; what it says outside of that epoch means nothing.
func within(epoch span.Span, revisions definition.Services, checks, known map[string]span.Timeline[Views]) span.Timeline[Views] {
	if len(revisions) == 1 && revisions[0].From == nil && revisions[0].Until == nil {
		return service(revisions, &revisions[0], checks, known)
	}
	out := span.Constant(Same(Unmeasured))
	for n := range revisions {
		r := &revisions[n]
		during := span.Span{From: definition.Begins(r.From), To: definition.Ends(r.Until)}.Intersect(epoch)
		if during.Empty() {
			continue
		}
		service(revisions, r, checks, known).Runs(during, func(s span.Span, v Views) { out = out.Append(s.From, v) })
		if during.To != span.End {
			out = out.Append(during.To, Same(Unmeasured))
		}
	}
	return out
}

// service is what one revision of a service makes of the states of the checks
// and of the services it depends on.
func service(revisions definition.Services, s *definition.Service, checks, known map[string]span.Timeline[Views]) span.Timeline[Views] {
	var lines []span.Timeline[Views]
	seen := map[string]bool{}
	for _, check := range revisions.Checks() {
		if !seen[check.ID] {
			seen[check.ID] = true
			lines = append(lines, checks[check.ID])
		}
	}
	own := len(lines)
	type group struct{ from, to, need int }
	var groups []group
	for _, g := range s.DependsOn {
		from := len(lines)
		for _, member := range g.Members() {
			lines = append(lines, known[member])
		}
		need := int(g.Need)
		if need == 0 {
			need = len(lines) - from
		}
		groups = append(groups, group{from, len(lines), need})
	}
	states := make([]State, len(lines))
	verdicts := make([]State, len(groups))
	return span.Merge(lines, func(views []Views) (out Views) {
		for view := range out {
			for i, v := range views {
				states[i] = v[view]
			}
			if state, any := Combine(states[:own], s.Combine); any {
				out[view] = state
				continue
			}
			for i, g := range groups {
				verdicts[i] = Group(states[g.from:g.to], g.need)
			}
			out[view], _ = Combine(verdicts, definition.Worst)
		}
		return out
	})
}

// Combine makes one state of several, worst or best; those absent do not count.
// It returns Unmeasured and false when there is none.
func Combine(states []State, rule string) (State, bool) {
	var count [absent + 1]int
	for _, s := range states {
		count[s]++
	}
	if count[absent] == len(states) {
		return Unmeasured, false
	}
	has := func(s State) bool { return count[s] > 0 }
	order := [...]State{Down, Unmeasured, Degraded, Up}
	if rule == definition.Best {
		order = [...]State{Up, Unmeasured, Degraded, Down}
	}
	for _, s := range order {
		if has(s) {
			return s, true
		}
	}
	return Unmeasured, false
}

// Group is the state of a dependency on need of the members (docs/accounting.md §5).
func Group(members []State, need int) State {
	var count [absent + 1]int
	for _, s := range members {
		count[s]++
	}
	u, d, x := count[Up], count[Degraded], count[Unmeasured]
	switch {
	case u >= need:
		return Up
	case u+x >= need:
		return Unmeasured
	case u+d >= need:
		return Degraded
	case u+d+x >= need:
		return Unmeasured
	}
	return Down
}
