package incident

import (
	"cmp"
	"slices"

	"kestite/core/span"
	"kestite/core/verdict"
)

// Changed is an incident as it is after something happened to it.
type Changed struct {
	Incident
	Fresh  bool // it is a new one
	Events []Event
	end    *span.Instant // of its last run
}

// Line is what is known of the state of a subject.
type Line struct {
	States span.Timeline[verdict.State]
	Known  span.Instant // what was before is not looked at
	Good   bool         // it was up or degraded at some time before that
}

// run is a time of trouble. What cannot be measured in the middle of it is no end of it.
type run struct {
	from   span.Instant
	to     *span.Instant // nil while it lasts
	before bool          // it may have begun before what is known
	now    verdict.State // at its end
	worst  verdict.State
}

// Follow makes incidents agree with what is known of the state of their subject until now.
//
// incidents are those of the subject that are open, or have ended since the line is
// known, in any order. A run of trouble continues the one that it overlaps, or that
// ended no longer than the policy's time before it. A run that none has opens one, a
// past one too: then it is resolved at once. What was never good before is no trouble yet,
// but something that is being set up. An incident in whose time there is no trouble any
// more is unfounded, and stays.
//
// It returns those that changed; the same call with what it returned changes nothing.
func Follow(subject Subject, incidents []Incident, line Line, now span.Instant, p Policy) []Changed {
	list := make([]*Changed, len(incidents))
	for n, i := range incidents {
		list[n] = &Changed{Incident: i, end: i.EndedAt}
	}
	slices.SortFunc(list, func(a, b *Changed) int { return cmp.Or(cmp.Compare(a.BeganAt, b.BeganAt), cmp.Compare(a.ID, b.ID)) })
	of := map[*Changed][]run{}
	for _, r := range line.runs(now, p) {
		c := whose(list, r, p)
		if c == nil {
			c = &Changed{Fresh: true, Incident: Incident{Subject: subject, BeganAt: r.from, KnownAt: now, LatestAt: r.from, Times: 1,
				State: r.now, Worst: r.worst, Severity: p.Of(r.worst)}}
			c.add(Event{Kind: Opened, At: r.from, Text: r.worst.String(), Other: c.Severity})
			list = append(list, c)
		}
		c.end = r.to
		of[c] = append(of[c], r)
	}
	var out []Changed
	for _, c := range list {
		before := c.Incident
		if runs := of[c]; len(runs) > 0 {
			if slices.ContainsFunc(incidents, func(i Incident) bool { return i.ID == c.Cause }) { // it had seemed to be a part of that
				c.Cause = 0
				c.add(Event{Kind: Freed, At: now})
			}
			c.follow(runs, line.Known, now, p)
		} else if same := part(of, c, now); same != nil {
			c.join(same.Incident, now)
		} else {
			c.without(line, now)
		}
		if c.Fresh || len(c.Events) > 0 || c.State != before.State || c.Worst != before.Worst {
			out = append(out, *c)
		}
	}
	return out
}

// runs are the times of trouble in a line.
func (l Line) runs(now span.Instant, p Policy) []run {
	var out []run
	open, good := false, l.Good
	l.States.Runs(span.Span{From: l.Known, To: now + 1}, func(s span.Span, state verdict.State) {
		good = good || state == verdict.Up || state == verdict.Degraded
		bad := p.Of(state) != "" && good
		switch {
		case bad && !open:
			r := run{from: s.From, now: state, worst: state}
			if s.From == l.Known {
				if began := l.States.Since(l.Known); began > span.Beginning {
					r.from = began
				} else {
					r.before = true
				}
			}
			out = append(out, r)
		case bad:
			r := &out[len(out)-1]
			r.now, r.worst = state, max(r.worst, state)
		case open && state == verdict.Unmeasured:
			out[len(out)-1].now = state
		case open:
			out[len(out)-1].to, out[len(out)-1].now = &s.From, state
		}
		open = bad || open && state == verdict.Unmeasured
	})
	return out
}

// whose is the incident that a run belongs to: one that it overlaps, or that ended
// shortly before; nil where there is none.
func whose(list []*Changed, r run, p Policy) *Changed {
	var near *Changed
	for _, c := range list {
		switch {
		case r.to != nil && *r.to <= c.BeganAt:
		case c.end == nil, r.from < *c.end, r.from <= c.LatestAt, c.EndedAt != nil && r.from < *c.EndedAt:
			return c
		case c.Review == nil && !c.Unfounded && int64(r.from-*c.end) <= p.ReopenMS:
			near = c
		}
	}
	return near
}

// part is the incident whose trouble turned out to be that of c too; nil where there is none.
func part(of map[*Changed][]run, c *Changed, now span.Instant) *Changed {
	lasted := c.Lasted(now)
	for other, runs := range of {
		for _, r := range runs {
			if r.from < lasted.To && (r.to == nil || *r.to > lasted.From) {
				return other
			}
		}
	}
	return nil
}

// join puts an incident under the one that it turned out to be a part of.
func (c *Changed) join(other Incident, now span.Instant) {
	to := other.ID
	if other.Cause != 0 {
		to = other.Cause
	}
	if c.Cause == to || to == c.ID || to == 0 {
		return
	}
	c.Cause = to
	c.add(Event{Kind: Followed, At: now, Cause: to})
	if c.EndedAt == nil {
		c.EndedAt = &now
	}
	if c.ResolvedAt == nil {
		c.ResolvedAt = &now
	}
}

func (c *Changed) add(e Event) { c.Events = append(c.Events, e) }

// follow makes an incident agree with its runs.
func (c *Changed) follow(runs []run, known, now span.Instant, p Policy) {
	if c.Unfounded {
		c.Unfounded = false
		c.add(Event{Kind: Founded, At: now})
	}
	first, last := runs[0], runs[len(runs)-1]
	if !first.before && (first.from < c.BeganAt || first.from > c.BeganAt && known <= c.BeganAt) {
		if c.LatestAt == c.BeganAt {
			c.LatestAt = first.from
		}
		c.BeganAt = first.from
		c.add(Event{Kind: Moved, At: now, To: &first.from})
	}
	for n, r := range runs {
		c.Worst = max(c.Worst, r.worst)
		if again := n > 0 || c.EndedAt != nil && r.from >= *c.EndedAt; !again || r.from <= c.LatestAt {
			continue
		}
		c.Times++
		c.LatestAt = r.from
		c.reopen(r.from, r.worst)
	}
	if of := p.Of(last.worst); c.SeverityBy == "" && worse(of, c.Severity) {
		c.Severity = of
		c.add(Event{Kind: Raised, At: now, Text: of})
	}
	switch {
	case last.to != nil:
	case c.ResolvedAt != nil && c.ResolvedBy == "": // it seemed to be over
		c.reopen(now, last.now)
	case c.ResolvedBy != "" && worse(p.Of(last.now), p.Of(c.State)): // worse than when a person let it rest
		c.reopen(now, last.now)
	}
	c.State = last.now
	c.ended(last.to, now)
}

func (c *Changed) reopen(at span.Instant, s verdict.State) {
	c.ResolvedAt, c.ResolvedBy, c.EndedAt = nil, "", nil
	c.add(Event{Kind: Reopened, At: at, Text: s.String()})
}

// ended notes when the trouble ended, if it has.
func (c *Changed) ended(at *span.Instant, now span.Instant) {
	switch {
	case at == nil:
		c.EndedAt = nil
	case c.ResolvedAt == nil:
		c.EndedAt, c.ResolvedAt = at, &now
		c.add(Event{Kind: ResolvedByItself, At: *at, Text: c.State.String()})
	case c.EndedAt == nil || *c.EndedAt != *at:
		c.EndedAt = at
		c.add(Event{Kind: Ended, At: *at, Text: c.State.String()})
	}
}

// without is an incident in whose time no trouble is left, as far as that is known.
func (c *Changed) without(line Line, now span.Instant) {
	if c.BeganAt < line.Known || c.Unfounded {
		return
	}
	trouble := line.States.Where(span.Span{From: c.BeganAt, To: c.Lasted(now).To + 1}, func(s verdict.State) bool {
		return s == verdict.Down || s == verdict.Degraded
	})
	switch {
	case len(trouble) == 0:
		c.Unfounded, c.State = true, verdict.Up
		c.add(Event{Kind: NoTrouble, At: now})
		if c.EndedAt == nil {
			c.EndedAt = &c.BeganAt
		}
	case c.ResolvedAt == nil: // there is, and it is not to open an incident any more
		c.EndedAt = &now
		c.add(Event{Kind: ResolvedByItself, At: now, Text: "policy"})
	}
	if c.ResolvedAt == nil {
		c.ResolvedAt = &now
	}
}
