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
// from the stretches of its locations as Series made them: no stretch lies in
// two revisions, and a failure under a rolling rule is one by itself, so that
// the machine can run over them once more, now knowing which failures are
// believed. live says that what is not decided yet keeps the state before it, as
// live screens show it; an account leaves it as it is when the data end there.
// Without a rolling rule it returns lanes.
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
		out[location] = revisions.again(list, confirmed[location], live)
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

// believe finds the failures, by location and stretch, that lie in a window
// that holds enough of them. A window (t − w, t] ends at a failure, whose
// revision's rule counts.
func believe(list []failure, confirmed map[string][]bool) {
	from, done := 0, 0
	inside := map[string]int{}
	for i, f := range list {
		if i > 0 && f.rule.WindowS > list[i-1].rule.WindowS { // a longer window reaches back again
			from, done = 0, 0
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
		for _, g := range list[max(from, done) : i+1] {
			confirmed[g.location][g.index] = true
		}
		done = i + 1
	}
}

// believers are the failures of all locations, in the first window that holds enough
// of them, that let the rolling rule believe the last failure of a location at or
// before an instant.
func (r Revisions) believers(c definition.Check, location string, raw Source, at span.Instant) []Because {
	lanes := map[string][]Stretch{}
	for _, one := range r {
		for _, l := range one.Locations {
			lanes[l] = raw(c.ID, l)
		}
	}
	list := r.failures(lanes)
	which := -1
	for i, f := range list {
		if f.location == location && f.at <= at {
			which = i
		}
	}
	if which < 0 {
		return nil
	}
	for end := which; end < len(list); end++ {
		rule := list[end].rule
		first := slices.IndexFunc(list[:end+1], func(f failure) bool { return f.at > list[end].at.Add(-rule.WindowS*span.Second) })
		if first > which {
			continue // it is not in this window; a longer one may come
		}
		in := list[first : end+1]
		places := map[string]bool{}
		for _, f := range in {
			places[f.location] = true
		}
		if int64(len(in)) < rule.Runs || int64(len(places)) < rule.Locations {
			continue
		}
		out := make([]Because, len(in))
		for i, f := range in {
			out[i] = Because{f.location, f.at, f.at, 1, true, LetsBelieve}
		}
		return out
	}
	return nil
}

// again runs the machine over the stretches of one location.
func (r Revisions) again(list []Stretch, believed []bool, live bool) []Stretch {
	var s Series
	out := make([]Stretch, 0, len(list))
	for i, one := range list {
		c := r.Valid(one.First)
		if c == nil {
			continue
		}
		doubted := one.Own == Down && c.Rolling != nil && !believed[i]
		set := SettingsOf(*c)
		set.Apart = doubted // believed ones go on like any failure
		out = s.addRun(out, one, set, doubted)
	}
	if live {
		return s.Waiting(out)
	}
	return s.AtEnd(out)
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
