package notice

import (
	"fmt"
	"slices"

	"kestite/core/calendar"
	"kestite/core/definition"
	"kestite/core/span"
)

// What a notice tells.
type What string

// What notices tell.
const (
	Begun    What = "begun"    // that there is trouble: the first time to these receivers
	Again    What = "again"    // that it lasts, and nobody has acknowledged it
	Worse    What = "worse"    // that it is more severe than those who were told know
	Found    What = "cause"    // that it follows from another incident
	Clear    What = "clear"    // that it is over
	Reminder What = "reminder" // that it was acknowledged long ago
	Work     What = "work"     // that work is planned, changed or cancelled: of no incident
	Summary  What = "summary"  // that more began than messages were sent
	Test     What = "test"     // that somebody tries whether messages arrive
)

// Notice is something that is due to be told.
type Notice struct {
	What  What
	Round int
	Step  int // of Begun and Again, from 0
	Nth   int // of Again, from 1; of Reminder, from 1
	At    span.Instant
	Tell  []definition.Recipient // of Begun and Again; all others go to those who were told
	By    []string
	// Person is who is told a Reminder.
	Person   string
	Cause    int64  // of Found
	Severity string // of Worse
}

// Key tells a notice of an incident by a plan from all others.
func (n Notice) Key() string {
	switch n.What {
	case Begun, Again:
		return fmt.Sprintf("%d/step/%d/%d", n.Round, n.Step, n.Nth)
	case Worse:
		return fmt.Sprintf("%d/worse/%s", n.Round, n.Severity)
	case Found:
		return fmt.Sprintf("%d/cause/%d", n.Round, n.Cause)
	case Reminder:
		return fmt.Sprintf("%d/reminder/%d/%d", n.Round, n.At, n.Nth)
	}
	return fmt.Sprintf("%d/%s", n.Round, n.What)
}

// Plan is a notice plan with its hours resolved.
type Plan struct {
	ID string
	definition.NoticePlanSpec
	hours calendar.Hours
}

// NewPlan resolves a plan; one whose hours cannot be read tells at all times.
func NewPlan(id string, spec definition.NoticePlanSpec) Plan {
	hours, err := definition.ActiveHours(spec.Hours)
	if err != nil {
		hours = calendar.Hours{}
	}
	return Plan{id, spec, hours}
}

// Told is what was told of an incident by a plan already. The zero value is nothing.
type Told struct {
	made  map[string]bool
	last  map[[2]int]int       // of a round and a step: its latest repetition
	first map[int]span.Instant // of a round: when somebody was told first
}

// Add notes that a notice was made at an instant.
func (t *Told) Add(n Notice, at span.Instant) {
	if t.made == nil {
		t.made, t.last, t.first = map[string]bool{}, map[[2]int]int{}, map[int]span.Instant{}
	}
	t.made[n.Key()] = true
	if n.What != Begun && n.What != Again {
		return
	}
	step := [2]int{n.Round, n.Step}
	if last, has := t.last[step]; !has || n.Nth > last {
		t.last[step] = n.Nth
	}
	if first, has := t.first[n.Round]; !has || at < first {
		t.first[n.Round] = at
	}
}

// upTo is the latest repetition of a step that was told; -1 where none was.
func (t *Told) upTo(round, step int) int {
	if last, has := t.last[[2]int{round, step}]; has {
		return last
	}
	return -1
}

func (t *Told) has(n Notice) bool { return t.made[n.Key()] }

// Due is what is to be told now by a plan: what is due, was not told, and is not made
// needless by something later. The same call again, with what it returned among what was
// told, returns nothing.
func (l Life) Due(p Plan, told *Told, now span.Instant) []Notice {
	if l.To != nil {
		clear := Notice{What: Clear, Round: l.Round, At: l.To.Add(l.Calm)}
		if _, known := told.first[l.Round]; !known || p.NoAllClear || told.has(clear) || now < clear.At {
			return nil
		}
		return []Notice{clear}
	}
	var out []Notice
	if since, known := told.first[l.Round]; known {
		out = append(out, l.news(p, told, since, now)...)
	}
	running := l.running(p.NoticePlanSpec, now+1)
	open := l.open(p, running)
	for i, s := range p.Steps {
		if n, found := l.latest(s, running, open, told.upTo(l.Round, i), now); found {
			out = append(out, n.of(i, l.Round, s))
		}
	}
	return out
}

// latest is the latest repetition of a step after one that is due now.
func (l Life) latest(s definition.NoticeStep, running, open span.Set, after int, now span.Instant) (Notice, bool) {
	most := s.Bounded()
	if s.RepeatS > 0 {
		most = min(most, int(max(0, running.Length()-s.AfterS*span.Second)/(s.RepeatS*span.Second)))
	}
	for nth := most; nth > after; nth-- {
		if at, is := l.at(s, nth, running, open); is && at <= now {
			return Notice{Nth: nth, At: at}, true
		}
	}
	return Notice{}, false
}

func (n Notice) of(step, round int, s definition.NoticeStep) Notice {
	n.What, n.Step, n.Round, n.Tell, n.By = Begun, step, round, s.Tell, s.By
	if n.Nth > 0 {
		n.What = Again
	}
	return n
}

// open are the times in which the clock runs and the plan tells.
func (l Life) open(p Plan, running span.Set) span.Set {
	if !p.hours.Weekly || len(running) == 0 {
		return running
	}
	return running.Intersect(p.hours.Within(span.Span{From: running[0].From, To: running[len(running)-1].To}))
}

// at is when the nth repetition of a step is due; false where the clock does not come
// that far.
func (l Life) at(s definition.NoticeStep, nth int, running, open span.Set) (span.Instant, bool) {
	left := (s.AfterS + int64(nth)*s.RepeatS) * span.Second
	due, is := span.Instant(0), false
	for _, r := range running {
		if left < r.Length() {
			due, is = r.From.Add(left), true
			break
		}
		left -= r.Length()
	}
	if !is {
		return 0, false
	}
	due = max(due, l.Settled)
	for _, o := range open {
		if due < o.To {
			return max(due, o.From), true
		}
	}
	return 0, false
}

// news are what those are told who have known of it since an instant.
func (l Life) news(p Plan, told *Told, since, now span.Instant) []Notice {
	var out []Notice
	highest := l.Severity.At(l.From)
	for _, piece := range l.Severity {
		if piece.At <= l.From || piece.At > now || !worse(piece.Value, highest) {
			continue
		}
		highest = piece.Value
		n := Notice{What: Worse, Round: l.Round, At: piece.At, Severity: piece.Value}
		if piece.At > since && !told.has(n) && !worse(l.Severity.At(now), piece.Value) {
			out = append(out, n)
		}
	}
	for _, c := range l.Causes {
		if n := (Notice{What: Found, Round: l.Round, At: c.At, Cause: c.ID}); c.At > since && c.At <= now && !told.has(n) {
			out = append(out, n)
		}
	}
	if l.Acked != nil && p.RemindS > 0 {
		every := p.RemindS * span.Second
		if nth := int64(now-l.Acked.At) / every; nth > 0 {
			n := Notice{What: Reminder, Round: l.Round, Nth: int(nth), At: l.Acked.At, Person: l.Acked.Person}
			if !told.has(n) && slices.ContainsFunc(l.Held, func(h Hold) bool { return h.Why == IsAcked && h.Contains(now) }) {
				out = append(out, n)
			}
		}
	}
	return out
}

func worse(a, b string) bool {
	return slices.Index(definition.Severities, a) > slices.Index(definition.Severities, b)
}

// Schedule is all that a plan would tell after an instant and up to another one, if
// nothing happens to the incident that is not known now.
func (l Life) Schedule(p Plan, after, until span.Instant) []Notice {
	var out []Notice
	running := l.running(p.NoticePlanSpec, until+1)
	open := l.open(p, running)
	for i, s := range p.Steps {
		last := span.Instant(-1)
		for nth := range s.Bounded() + 1 {
			at, is := l.at(s, nth, running, open)
			if !is {
				break
			}
			n := Notice{Nth: nth, At: at}.of(i, l.Round, s)
			if at == last { // several wait for the same hour: the latest stands for all
				out[len(out)-1] = n
				continue
			}
			last = at
			if at > after && at <= until {
				out = append(out, n)
			} else {
				last = -1
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Notice) int { return int(a.At - b.At) })
	return out
}

// Silence says why a plan tells nobody at an instant, and until when that is known to
// last; "" where it does, or will by its steps.
func (l Life) Silence(p Plan, now span.Instant) (why string, until *span.Instant) {
	if l.To != nil {
		return "It is over.", nil
	}
	for _, h := range l.Held {
		if !h.Contains(now) {
			continue
		}
		var to *span.Instant
		if h.To != never {
			to = &h.To
		}
		switch h.Why {
		case IsAcked:
			return "Somebody has acknowledged it.", to
		case IsHeld:
			return "Notices of it are held.", to
		case IsPlanned:
			return "It began in planned work, which is not over.", to
		case IsUnder:
			return "It follows from another incident, of which people are told.", nil
		}
	}
	if len(p.Severities) > 0 && !slices.Contains(p.Severities, l.Severity.At(now)) {
		return "The plan is not for this severity.", nil
	}
	if p.hours.Weekly && !p.hours.Within(span.Span{From: now, To: now + 1}).Contains(now) {
		next := p.hours.Within(span.Span{From: now, To: now.Add(14 * span.Day)})
		if len(next) > 0 {
			return "It is outside the hours of the plan.", &next[0].From
		}
		return "It is outside the hours of the plan.", nil
	}
	return "", nil
}
