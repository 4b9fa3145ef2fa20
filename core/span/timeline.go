package span

import "sort"

// Step is one change of a timeline: the value from At on.
type Step[V comparable] struct {
	At    Instant
	Value V
}

// Timeline is a value at every instant: the first step is at Beginning, steps
// are in strictly ascending order and neighbours differ. Build one with
// Constant and Append, or with Merge.
type Timeline[V comparable] []Step[V]

// Constant is the timeline that always has value v.
func Constant[V comparable](v V) Timeline[V] { return Timeline[V]{{Beginning, v}} }

// Append sets the value from at on. at must not lie before the last step; a
// step at the same instant replaces it.
func (t Timeline[V]) Append(at Instant, v V) Timeline[V] {
	n := len(t)
	if n > 0 && t[n-1].At == at {
		t = t[:n-1]
		n--
	}
	if n > 0 && t[n-1].Value == v {
		return t
	}
	return append(t, Step[V]{at, v})
}

// At returns the value at i.
func (t Timeline[V]) At(i Instant) V {
	n := sort.Search(len(t), func(n int) bool { return t[n].At > i })
	return t[n-1].Value
}

// Since returns the instant from which the value at i has held without a break.
func (t Timeline[V]) Since(i Instant) Instant {
	n := sort.Search(len(t), func(n int) bool { return t[n].At > i })
	return t[n-1].At
}

// Runs calls f for every maximal run of equal value inside within, in order.
func (t Timeline[V]) Runs(within Span, f func(Span, V)) {
	first := sort.Search(len(t), func(n int) bool { return t[n].At > within.From }) - 1
	for n := max(first, 0); n < len(t) && t[n].At < within.To; n++ {
		s := Span{t[n].At, End}
		if n+1 < len(t) {
			s.To = t[n+1].At
		}
		if s = s.Intersect(within); !s.Empty() {
			f(s, t[n].Value)
		}
	}
}

// Where returns the time inside within at which keep holds.
func (t Timeline[V]) Where(within Span, keep func(V) bool) Set {
	var set Set
	t.Runs(within, func(s Span, v V) {
		if !keep(v) {
			return
		}
		if n := len(set); n > 0 && set[n-1].To == s.From {
			set[n-1].To = s.To
			return
		}
		set = append(set, s)
	})
	return set
}

// Overlay returns t with value v wherever set is and keep holds for the value underneath.
func (t Timeline[V]) Overlay(set Set, v V, keep func(V) bool) Timeline[V] {
	if len(set) == 0 {
		return t
	}
	out := make(Timeline[V], 0, len(t)+2*len(set))
	n := 0
	put := func(at Instant) {
		under := t[n].Value
		if len(set) > 0 && set[0].Contains(at) && keep(under) {
			under = v
		}
		out = out.Append(at, under)
	}
	at := Beginning
	for {
		for len(set) > 0 && set[0].To <= at {
			set = set[1:]
		}
		for n+1 < len(t) && t[n+1].At <= at {
			n++
		}
		put(at)
		next := End
		if n+1 < len(t) {
			next = t[n+1].At
		}
		if len(set) > 0 {
			edge := set[0].From
			if edge <= at {
				edge = set[0].To
			}
			next = min(next, edge)
		}
		if next >= End {
			return out
		}
		at = next
	}
}

// Merge combines many timelines into one: at every instant the value is f of
// their values there, in the order given. f must not keep the slice. Merging
// none gives the constant f(nil).
func Merge[V, W comparable](lines []Timeline[V], f func([]V) W) Timeline[W] {
	heads := make([]int, len(lines))
	values := make([]V, len(lines))
	size := 1
	for i, l := range lines {
		values[i] = l[0].Value
		size += len(l) - 1
	}
	out := make(Timeline[W], 0, size)
	at := Beginning
	for {
		out = out.Append(at, f(values))
		next := End
		for i, l := range lines {
			if h := heads[i] + 1; h < len(l) && l[h].At < next {
				next = l[h].At
			}
		}
		if next == End {
			return out
		}
		at = next
		for i, l := range lines {
			if h := heads[i] + 1; h < len(l) && l[h].At == at {
				heads[i] = h
				values[i] = l[h].Value
			}
		}
	}
}

// Map applies f to every value of t.
func Map[V, W comparable](t Timeline[V], f func(V) W) Timeline[W] {
	out := make(Timeline[W], 0, len(t))
	for _, s := range t {
		out = out.Append(s.At, f(s.Value))
	}
	return out
}
