package account

import (
	"slices"
	"strings"

	"kestite/core/definition"
	"kestite/core/span"
)

// Why an agreement does not grant planned work, or a part of it.
const (
	NotGranting  = "mode"      // it takes no account of maintenance
	NotEmergency = "emergency" // it grants no emergency work
	NotNamed     = "named"     // the window does not name the service, which goes down by what it needs
	LateNotice   = "notice"    // announced too late before its start
	NotWithin    = "within"    // outside the times agreed for it
	CapUsed      = "cap"       // no time of the cap is left
)

// Refusal is how much of planned work is not granted, ms, and why.
type Refusal struct {
	Why string
	MS  int64
}

// Late is an occurrence that was announced too late.
type Late struct {
	Start     span.Instant
	Announced span.Instant
}

// Work is what planned work to come does to an account that is not final. All times
// are in milliseconds.
type Work struct {
	// Type is the window's, planned or emergency.
	Type string
	// ServiceMS is how much of the work lies in service hours still to come.
	ServiceMS int64
	// GrantedMS is how much of that the agreement grants as maintenance.
	GrantedMS int64
	// Refused is the rest, by why.
	Refused []Refusal
	// DisplacedMS is granted time that other windows lose, because this one uses up the cap.
	DisplacedMS int64
	// Late is the first occurrence still running or to come that was announced too late; nil
	// where none was.
	Late *Late
	// CapUsedMS is how much of the cap for work of its type is used then, in the whole period.
	CapUsedMS int64
	// Supposed is how the account would stand if the service were down throughout the
	// work, and in what others lose by it.
	Supposed
}

// WindowOf is the id of the window that an entry of a bundle was written of.
func WindowOf(entry string) string {
	id, _, _ := strings.Cut(entry, "+")
	return id
}

// Work says what a window of the evidence does to an agreement: before is the account
// without it, down the times to come in which the service is down by it, whether the
// window names it or not. It returns nil where the account is final.
func (e *Evidence) Work(a definition.Agreement, before *Account, window string, down span.Set) (*Work, error) {
	after, err := e.Account(a)
	if err != nil {
		return nil, err
	}
	if after.Final || before.Final {
		return nil, nil
	}
	c := after.Clauses
	hours := c.Hours.Cut(c.rest())
	own, late, first, err := e.ownTime(a, window, c.Period)
	if err != nil {
		return nil, err
	}
	others := complement(own, c.Period)
	displaced := before.Clauses.Granted.Intersect(others).Without(c.Granted).Cut(c.rest())
	out := &Work{
		Type:        e.typeOf(window),
		ServiceMS:   down.Intersect(hours).Length(),
		GrantedMS:   down.Intersect(hours).Intersect(c.Granted).Length(),
		DisplacedMS: displaced.Length(),
		Late:        first,
		Supposed:    *after.Suppose(span.Union(append(slices.Clone(down), displaced...)...)),
	}
	if err := out.refusals(c, own, late, down.Intersect(hours).Without(c.Granted)); err != nil {
		return nil, err
	}
	if out.CapUsedMS, err = e.capUsed(a, c, out.Type); err != nil {
		return nil, err
	}
	return out, nil
}

// ownTime is the time that a window names the service of an agreement for, what of
// that was announced too late, and the first such occurrence.
func (e *Evidence) ownTime(a definition.Agreement, window string, period span.Span) (own, late span.Set, first *Late, err error) {
	var all, tooLate []span.Span
	for _, w := range e.bundle.Windows {
		if WindowOf(w.ID) != window || !slices.Contains(w.Services, a.Service) {
			continue
		}
		notice := a.Maintenance.NoticeS
		if m := a.Maintenance.Emergency; w.OfType() == definition.Emergency && m != nil {
			notice = m.NoticeS
		}
		length := w.DurationS * span.Second
		starts, err := w.Starts(period.From.Add(-length), period.To)
		if err != nil {
			return nil, nil, nil, &definition.Fault{Path: "windows." + w.ID + ".rrule", Message: err.Error()}
		}
		for _, s := range starts {
			o := span.Span{From: s, To: s.Add(length)}
			all = append(all, o)
			if w.AnnouncedAt <= s.Add(-notice*span.Second) {
				continue
			}
			tooLate = append(tooLate, o)
			if o.To > e.begins() && (first == nil || s < first.Start) {
				first = &Late{s, w.AnnouncedAt}
			}
		}
	}
	return span.Union(all...), span.Union(tooLate...), first, nil
}

// begins is when what is to come of the evidence's period begins.
func (e *Evidence) begins() span.Instant {
	if e.bundle.AsOf != nil {
		return *e.bundle.AsOf
	}
	return e.bundle.Span.To
}

func (e *Evidence) typeOf(window string) string {
	for _, w := range e.bundle.Windows {
		if WindowOf(w.ID) == window {
			return w.OfType()
		}
	}
	return definition.Planned
}

// refusals takes what is not granted apart by the first reason that applies.
func (w *Work) refusals(c *Clauses, own, late, rest span.Set) error {
	m := c.Agreement.Maintenance
	within, err := agreedFor(m, c.Period)
	if err != nil {
		return err
	}
	take := func(why string, set span.Set) {
		if ms := rest.Intersect(set).Length(); ms > 0 {
			w.Refused = append(w.Refused, Refusal{why, ms})
		}
		rest = rest.Without(set)
	}
	everything := span.Set{span.All}
	if m.Mode == definition.MaintenanceIgnore || m.Mode == "" {
		take(NotGranting, everything)
	}
	take(NotNamed, complement(own, span.All))
	if w.Type == definition.Emergency && m.Emergency == nil {
		take(NotEmergency, everything)
	}
	take(LateNotice, late)
	if w.Type != definition.Emergency {
		take(NotWithin, complement(within, span.All))
	}
	take(CapUsed, everything)
	return nil
}

func (e *Evidence) capUsed(a definition.Agreement, c *Clauses, kind string) (int64, error) {
	asks, err := asking(e.bundle, a, c.Hours, c.Period)
	if err != nil {
		return 0, err
	}
	planned := capped(asks.planned, a.Maintenance.CapS)
	if kind == definition.Emergency {
		return c.Granted.Without(planned).Length(), nil
	}
	return planned.Length(), nil
}

// Room is what room an agreement leaves for planned work in a period.
type Room struct {
	Agreement definition.Agreement
	Period    span.Span
	Rest      span.Span // what of the period is still to come
	Hours     span.Set
	Granted   span.Set
	within    span.Set
	asks      asked
}

// RoomOf is the room that an agreement leaves in the period of a bundle, with what
// windows of it use of that already; the error is a *definition.Fault.
func RoomOf(bundle *definition.Compiled, a definition.Agreement) (*Room, error) {
	hours, err := definition.CompileHours(a.ServiceHours)
	if err != nil {
		return nil, err
	}
	c, err := newClauses(&Evidence{bundle: bundle}, a, hours)
	if err != nil {
		return nil, err
	}
	r := &Room{Agreement: a, Period: c.Period, Rest: c.rest(), Hours: c.Hours, Granted: c.Granted}
	if r.within, err = agreedFor(a.Maintenance, c.Period); err != nil {
		return nil, err
	}
	r.asks, err = asking(bundle, a, c.Hours, c.Period)
	return r, err
}

// Taken is what some planned work would take of the room, ms.
type Taken struct {
	ServiceMS   int64 // of the work, what lies in service hours
	GrantedMS   int64 // of that, what would be granted
	DisplacedMS int64 // what others would lose of a cap
	DowntimeMS  int64 // if the service is down throughout, and in what others lose
}

// Takes says what planned work would take of the room that is announced at an instant:
// one that names the service, or that takes it down by what it needs.
func (r *Room) Takes(work span.Span, announced span.Instant, named bool) Taken {
	down := span.Set{work}.Cut(r.Rest)
	out := Taken{ServiceMS: down.Intersect(r.Hours).Length()}
	granted := r.Granted
	m := r.Agreement.Maintenance
	grants := m.Mode != definition.MaintenanceIgnore && m.Mode != ""
	if grants && named && announced <= work.From.Add(-m.NoticeS*span.Second) {
		asks := r.asks
		more := span.Set{work}.Cut(r.Period).Intersect(r.Hours).Intersect(r.within)
		asks.planned = span.Union(append(slices.Clone(asks.planned), more...)...)
		granted = asks.granted(m, r.Period)
	}
	others := complement(span.Set{work}, r.Period)
	if !named {
		others = span.Set{r.Period}
	}
	displaced := r.Granted.Intersect(others).Without(granted).Cut(r.Rest)
	out.DisplacedMS = displaced.Length()
	out.GrantedMS = down.Intersect(r.Hours).Intersect(granted).Length()
	counts := r.clauses().counting(span.Union(append(slices.Clone(down), displaced...)...), granted)
	out.DowntimeMS = counts.Length()
	return out
}

// Costs is the downtime of times in which the service is down, with what is granted as
// it is, ms.
func (r *Room) Costs(down span.Set) int64 { return r.clauses().counting(down, r.Granted).Length() }

func (r *Room) clauses() *Clauses {
	return &Clauses{Agreement: r.Agreement, Hours: r.Hours, Period: r.Period, Covered: span.Span{From: r.Period.From, To: r.Rest.From}}
}
