package notice

import (
	"slices"

	"kestite/core/definition"
	"kestite/core/incident"
	"kestite/core/span"
)

// Line is one thing that would be told.
type Line struct {
	Plan string
	Notice
	To   definition.Recipient
	Ways []Way
}

// Rehearse says who would be told what and when, if an incident of a severity began at an
// instant and nobody did anything, for a while of ms. Of a plan that tells nobody within
// that, because of its hours, it says who is told first within a week.
func Rehearse(plans []Plan, d Directory, severity string, at span.Instant, ms int64, settles bool) []Line {
	l := LifeOf(incident.Incident{KnownAt: at, BeganAt: at, Severity: severity}, nil, settles)
	var out []Line
	for _, p := range plans {
		due := l.Schedule(p, at-1, at.Add(ms))
		if len(due) == 0 {
			due = l.Schedule(p, at-1, at.Add(7*span.Day))
			due = due[:min(len(due), 1)]
		}
		for _, n := range due {
			at := n.At
			if n.Digest != nil {
				at = *n.Digest
			}
			for _, r := range n.Tell {
				out = append(out, Line{p.ID, n, r, d.Reach(r, p.Steps[n.Step].In, at)})
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Line) int { return int(a.At - b.At) })
	return out
}

// Reached is when the first of the lines comes to somebody who need not look; false where
// none does.
func Reached(lines []Line) (first span.Instant, is bool) {
	for _, l := range lines {
		for _, w := range l.Ways {
			if w.Why == "" && w.Kind != definition.Inbox && w.Kind != definition.Syslog && (!is || w.At < first) {
				first, is = w.At, true
			}
		}
	}
	return first, is
}

// Unheard are the times, to the hour, in which an incident of a severity that begins would
// come to nobody within an hour of the last step that its plans have.
func Unheard(plans []Plan, d Directory, severity string, within span.Span) span.Set {
	var out []span.Span
	last := int64(0)
	for _, p := range plans {
		for _, s := range p.Steps {
			last = max(last, s.AfterS*span.Second)
		}
	}
	for at := within.From; at < within.To; at = at.Add(span.Hour) {
		lines := Rehearse(plans, d, severity, at, last+span.Hour, false)
		if first, is := Reached(lines); !is || first > at.Add(last+span.Hour) {
			out = append(out, span.Span{From: at, To: min(at.Add(span.Hour), within.To)})
		}
	}
	return span.Union(out...)
}
