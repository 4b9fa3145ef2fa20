package notice

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

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
	Step  int    // of Begun and Again, from 0
	Mark  string // of the step: see definition.NoticePlanSpec.Marks; empty: it has but its number
	Nth   int    // of Again, from 1; of Reminder, from 1
	At    span.Instant
	// Digest is when the digest is sent that tells it; nil: it is told at once.
	Digest *span.Instant
	Tell   []definition.Recipient // of Begun and Again; all others go to those who were told
	By     []string
	// Person is who is told a Reminder.
	Person   string
	Cause    int64  // of Found
	Severity string // of Worse
}

// Key tells a notice of an incident by a plan from all others.
func (n Notice) Key() string {
	switch n.What {
	case Begun, Again:
		return fmt.Sprintf("%d/step/%s/%d", n.Round, n.mark(), n.Nth)
	case Worse:
		return fmt.Sprintf("%d/worse/%s", n.Round, n.Severity)
	case Found:
		return fmt.Sprintf("%d/cause/%d", n.Round, n.Cause)
	case Reminder:
		return fmt.Sprintf("%d/reminder/%d/%d", n.Round, n.At, n.Nth)
	}
	return fmt.Sprintf("%d/%s", n.Round, n.What)
}

// MarkIn is the mark of the step in a key of Begun or Again.
func MarkIn(key string) string {
	parts := strings.Split(key, "/")
	if len(parts) != 4 {
		return ""
	}
	return parts[2]
}

// mark is what tells its step from others.
func (n Notice) mark() string {
	if n.Mark == "" {
		return strconv.Itoa(n.Step)
	}
	return n.Mark
}

// Plan is a notice plan with its hours resolved.
type Plan struct {
	ID string
	definition.NoticePlanSpec
	hours     calendar.Hours
	digest    *definition.CompiledDigest
	marks     []string
	outsideOf []calendar.Hours // it tells outside of one of these only; none: that is no matter
	agreed    []calendar.Hours // service hours of the agreements of the service
}

// inAgreed are the times within a span in which the plan may tell by the service hours of
// what an incident concerns.
func (p Plan) inAgreed(all span.Span) span.Set {
	var hours []span.Span
	for _, h := range p.agreed {
		hours = append(hours, h.Within(all)...)
	}
	if p.Agreed == "outside" {
		return span.Union(all).Without(span.Union(hours...))
	}
	return span.Union(hours...)
}

// NewPlan resolves a plan; one whose hours cannot be read tells at all times.
func NewPlan(id string, spec definition.NoticePlanSpec) Plan {
	hours, err := definition.ActiveHours(spec.Hours)
	if err != nil {
		hours = calendar.Hours{}
	}
	p := Plan{ID: id, NoticePlanSpec: spec, hours: hours, marks: spec.Marks()}
	if spec.Digest != nil && (spec.Outside == definition.OutsideDigest || spec.Hours == nil) {
		if digest, err := spec.Digest.Compile(); err == nil {
			p.digest = &digest
		}
	}
	return p
}

// Digested is when the digest is sent that tells what is due at an instant; nil: it is
// told at once.
func (p Plan) Digested(at span.Instant) *span.Instant {
	if p.digest == nil || p.hours.Weekly && p.hours.Within(span.Span{From: at, To: at + 1}).Contains(at) {
		return nil
	}
	return p.NextDigest(at)
}

// NextDigest is when the next digest of a plan is sent after an instant; nil: it has none.
func (p Plan) NextDigest(after span.Instant) *span.Instant {
	if p.digest == nil {
		return nil
	}
	next := p.digest.Next(after)
	return &next
}

// Told is what was told of an incident by a plan already. The zero value is nothing.
type Told struct {
	made  map[string]bool
	last  map[stepOf]int       // its latest repetition
	first map[int]span.Instant // of a round: when somebody was told first
}

// stepOf is a step in a round.
type stepOf struct {
	round int
	mark  string
}

// Add notes that a notice was made at an instant.
func (t *Told) Add(n Notice, at span.Instant) {
	if t.made == nil {
		t.made, t.last, t.first = map[string]bool{}, map[stepOf]int{}, map[int]span.Instant{}
	}
	t.made[n.Key()] = true
	if n.What != Begun && n.What != Again {
		return
	}
	step := stepOf{n.Round, n.mark()}
	if last, has := t.last[step]; !has || n.Nth > last {
		t.last[step] = n.Nth
	}
	if first, has := t.first[n.Round]; !has || at < first {
		t.first[n.Round] = at
	}
}

// upTo is the latest repetition of a step that was told; -1 where none was. What was told
// before steps had marks goes by their number.
func (t *Told) upTo(round, step int, mark string) int {
	for _, m := range []string{mark, strconv.Itoa(step)} {
		if last, has := t.last[stepOf{round, m}]; has {
			return last
		}
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
	c := l.clock(p, now+1)
	for i, s := range p.Steps {
		if n, found := l.latest(s, c, told.upTo(l.Round, i, p.marks[i]), now); found {
			out = append(out, n.of(p, i, l.Round))
		}
	}
	return out
}

// latest is the latest repetition of a step after one that is due now.
func (l Life) latest(s definition.NoticeStep, c clock, after int, now span.Instant) (Notice, bool) {
	most := s.Bounded()
	if s.RepeatS > 0 {
		most = min(most, int(max(0, c.running.Length()-s.AfterS*span.Second)/(s.RepeatS*span.Second)))
	}
	for nth := most; nth > after; nth-- {
		if at, is := l.at(s, nth, c); is && at <= now {
			return Notice{Nth: nth, At: at}, true
		}
	}
	return Notice{}, false
}

func (n Notice) of(p Plan, step, round int) Notice {
	s := p.Steps[step]
	n.What, n.Step, n.Round, n.Tell, n.By, n.Mark = Begun, step, round, s.Tell, s.By, p.marks[step]
	if n.Nth > 0 {
		n.What = Again
	} else {
		n.Digest = p.Digested(n.At)
	}
	return n
}

// clock is when a plan's clock runs for an incident, and when it tells a step for the
// first time, and again.
type clock struct{ running, first, again span.Set }

func (l Life) clock(p Plan, until span.Instant) clock {
	c := clock{running: l.running(p.NoticePlanSpec, until)}
	if len(c.running) > 0 && p.Agreed != "" {
		c.running = c.running.Intersect(p.inAgreed(span.Span{From: c.running[0].From, To: c.running[len(c.running)-1].To}))
	}
	c.first = c.running
	if len(c.running) == 0 {
		return c
	}
	all := span.Span{From: c.running[0].From, To: c.running[len(c.running)-1].To}
	if len(p.outsideOf) > 0 {
		var outside []span.Span
		for _, h := range p.outsideOf {
			outside = append(outside, span.Union(all).Without(h.Within(all))...)
		}
		c.first = c.first.Intersect(span.Union(outside...))
	}
	c.again = c.first
	switch {
	case p.hours.Weekly:
		c.again = c.first.Intersect(p.hours.Within(all))
		if p.digest == nil {
			c.first = c.again
		}
	case p.digest != nil:
		c.again = nil // all of it stands in digests, and there it stands but once
	}
	return c
}

// at is when the nth repetition of a step is due; false where the clock does not come
// that far.
func (l Life) at(s definition.NoticeStep, nth int, c clock) (span.Instant, bool) {
	open := c.first
	if nth > 0 {
		open = c.again
	}
	left := (s.AfterS + int64(nth)*s.RepeatS) * span.Second
	due, is := span.Instant(0), false
	for _, r := range c.running {
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
	c := l.clock(p, until+1)
	for i, s := range p.Steps {
		last := span.Instant(-1)
		for nth := range s.Bounded() + 1 {
			at, is := l.at(s, nth, c)
			if !is {
				break
			}
			n := Notice{Nth: nth, At: at}.of(p, i, l.Round)
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
	if p.Agreed != "" && !p.inAgreed(span.Span{From: now, To: now + 1}).Contains(now) {
		why = "The plan is for service hours, and it is outside them."
		if p.Agreed == "outside" {
			why = "The plan is for what is outside service hours."
		}
		if next := p.inAgreed(span.Span{From: now, To: now.Add(14 * span.Day)}); len(next) > 0 {
			return why, &next[0].From
		}
		return why, nil
	}
	if p.hours.Weekly && !p.hours.Within(span.Span{From: now, To: now + 1}).Contains(now) {
		if digest := p.Digested(now); digest != nil {
			return "It is outside the hours of the plan: what is due stands in the next digest.", digest
		}
		why = "It is outside the hours of the plan."
		if p.Outside == definition.OutsidePlan {
			why = "It is outside the hours of the plan: another one tells."
		}
		if next := p.hours.Within(span.Span{From: now, To: now.Add(14 * span.Day)}); len(next) > 0 {
			return why, &next[0].From
		}
		return why, nil
	}
	if len(p.outsideOf) > 0 && len(l.clock(p, now+1).first.Cut(span.Span{From: now, To: now + 1})) == 0 {
		return "Another plan tells at this hour.", nil
	}
	return "", nil
}
