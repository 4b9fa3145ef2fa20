package verdict

import (
	"kestite/core/span"
)

// Transition is a change of a service's state, as it is told: appended when judged,
// and never changed afterwards.
type Transition struct {
	At       span.Instant
	From, To State
	// Corrects says that what was told of the time from At on was otherwise: it is
	// forgotten, and this and what is told after it count. From and To are equal
	// where nothing changed then.
	Corrects bool
}

// Told is the line of states that transitions tell, in the order in which they were
// appended: unmeasured before the first of them.
func Told(list []Transition) span.Timeline[State] {
	out := span.Constant(Unmeasured)
	for _, t := range list {
		if t.Corrects {
			for n := len(out); n > 1 && out[n-1].At >= t.At; n-- {
				out = out[:n-1]
			}
		}
		if t.At >= out[len(out)-1].At {
			out = out.Append(t.At, t.To)
		}
	}
	return out
}

// Transitions are those to be appended to told so that it says what line says from
// known until now. Where that forgets some that were told, the first of them corrects.
// (One that is told late, as when a failure was confirmed, corrects nothing.)
func Transitions(told, line span.Timeline[State], known, now span.Instant) []Transition {
	at, differ := firstDifference(told, line, known, now)
	if !differ {
		return nil
	}
	before := told.At(at - 1)
	out := []Transition{{At: at, From: before, To: line.At(at), Corrects: told[len(told)-1].At >= at}}
	for n, s := range line {
		if s.At > at && s.At <= now {
			out = append(out, Transition{At: s.At, From: line[n-1].Value, To: s.Value})
		}
	}
	return out
}

// firstDifference is the first instant from known until now at which two lines differ.
func firstDifference(a, b span.Timeline[State], known, now span.Instant) (span.Instant, bool) {
	if a.At(known) != b.At(known) {
		return known, known <= now
	}
	for _, at := range edges(a, b) {
		if at > known && at <= now && a.At(at) != b.At(at) {
			return at, true
		}
	}
	return 0, false
}

// edges are the instants at which either line changes, in order.
func edges(a, b span.Timeline[State]) []span.Instant {
	var out []span.Instant
	i, j := 0, 0
	for i < len(a) || j < len(b) {
		if j == len(b) || i < len(a) && a[i].At <= b[j].At {
			out = append(out, a[i].At)
			i++
		} else {
			out = append(out, b[j].At)
			j++
		}
	}
	return out
}
