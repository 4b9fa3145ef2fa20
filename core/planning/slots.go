package planning

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"kestite/core/account"
	"kestite/core/calendar"
	"kestite/core/definition"
	"kestite/core/span"
	"kestite/core/topology"
)

// Step is how far the starts of slots lie apart, ms.
const Step = 15 * span.Minute

// Room is what an agreement leaves for work in one period.
type Room struct {
	*account.Room
	Named  bool  // the work names its service; otherwise that goes down by what it needs
	LeftMS int64 // of its allowance
}

// Question asks when work would cost least.
type Question struct {
	Services []string // that it is on
	LastsS   int64
	Within   span.Span // where it may lie; all of it is to come
	Now      span.Instant
	Zone     *time.Location // of the days of which one slot each is offered
	Rooms    []Room         // of every agreement that it touches, of each period in the time
	Others   []Work         // other work in the time
	Closed   []Embargo      // embargoes on the services
	Needs    map[string][]definition.Dependency
	Failures []span.Span // of the services, in the time past that counts as usual
}

// Embargo is a span in which nothing is to be planned.
type Embargo struct {
	ID string
	span.Span
}

// Slot is a time for work.
type Slot struct {
	span.Span
	DowntimeMS int64 // of all agreements together, if it is down throughout
	GrantedMS  int64
	ServiceMS  int64    // of the service hours of all agreements
	Outside    int      // agreements outside whose hours it lies
	Misses     []string // agreements that it would make impossible to meet
	Usual      int      // failures before that touched the same time of the week
	FromNight  int64    // how far its middle lies from three at night, ms
	Clash      *Clash
}

// order is which of two slots is the better: without a clash, with fewer agreements
// missed, costing less, with less of it in agreed hours, at a time of fewer failures,
// nearer to the middle of the night, sooner.
func (s Slot) order(o Slot) int {
	clashes := func(x Slot) int {
		if x.Clash != nil {
			return 1
		}
		return 0
	}
	return cmp.Or(cmp.Compare(clashes(s), clashes(o)), cmp.Compare(len(s.Misses), len(o.Misses)), cmp.Compare(s.DowntimeMS, o.DowntimeMS),
		cmp.Compare(s.ServiceMS, o.ServiceMS), cmp.Compare(s.Usual, o.Usual), cmp.Compare(s.FromNight, o.FromNight), cmp.Compare(s.From, o.From))
}

// Cheapest are the best slots, one a day, the best first, at most n. Their starts lie on
// quarters of an hour that clocks show once, or for the first time.
func Cheapest(q Question, n int) []Slot {
	length := q.LastsS * span.Second
	usual := failuresByWeek(q.Failures, q.Zone)
	g := graph{q.Needs, map[string][]topology.Effect{}} // what follows from what is worked out once
	best := map[string]Slot{}                           // by day
	first := span.Instant((int64(q.Within.From) + Step - 1) / Step * Step)
	for at := first; at.Add(length) <= q.Within.To; at = at.Add(Step) {
		if calendar.WallAt(at, q.Zone).Instant(q.Zone, calendar.Shift) != at {
			continue // a wall time that is there twice is its first: this one cannot be written down
		}
		s := q.slot(span.Span{From: at, To: at.Add(length)}, usual, g)
		day := calendar.WallAt(at, q.Zone).DateString()
		if have, is := best[day]; !is || s.order(have) < 0 {
			best[day] = s
		}
	}
	out := make([]Slot, 0, len(best))
	for _, s := range best {
		out = append(out, s)
	}
	slices.SortFunc(out, Slot.order)
	return out[:min(n, len(out))]
}

// At is what a slot at some time would cost.
func (q Question) At(from span.Instant) Slot {
	return q.slot(span.Span{From: from, To: from.Add(q.LastsS * span.Second)}, failuresByWeek(q.Failures, q.Zone), graph{q.Needs, map[string][]topology.Effect{}})
}

func (q Question) slot(at span.Span, usual *week, g graph) Slot {
	s := Slot{Span: at, Usual: usual.in(at), FromNight: fromNight(at, q.Zone)}
	lost := map[string]int64{}
	in := map[string]bool{} // agreements, by whether it lies in their hours
	for _, r := range q.Rooms {
		if at.Intersect(r.Rest).Empty() {
			continue
		}
		t := r.Takes(at, q.Now, r.Named)
		s.DowntimeMS, s.GrantedMS, s.ServiceMS = s.DowntimeMS+t.DowntimeMS, s.GrantedMS+t.GrantedMS, s.ServiceMS+t.ServiceMS
		in[r.Agreement.ID] = in[r.Agreement.ID] || t.ServiceMS > 0
		key := fmt.Sprint(r.Agreement.ID, " ", r.Period.From) // an allowance is a period's
		if lost[key] += t.DowntimeMS; lost[key] > 0 && r.LeftMS >= 0 && lost[key] > r.LeftMS {
			s.Misses = append(s.Misses, r.Agreement.ID)
		}
	}
	for _, is := range in {
		if !is {
			s.Outside++
		}
	}
	slices.Sort(s.Misses)
	s.Misses = slices.Compact(s.Misses)
	s.Clash = q.clash(at, g)
	return s
}

// fromNight is how far the middle of a span lies from three at night, ms.
func fromNight(s span.Span, zone *time.Location) int64 {
	middle := s.From.Add(s.Length() / 2).Time().In(zone)
	ms := int64((middle.Hour()*60 + middle.Minute()) * 60_000)
	apart := ms - 3*span.Hour
	if apart < 0 {
		apart = -apart
	}
	return min(apart, span.Day-apart)
}

// clash is what a slot would clash with first.
func (q Question) clash(at span.Span, g graph) *Clash {
	for _, e := range q.Closed {
		if both := e.Intersect(at); !both.Empty() {
			return &Clash{Span: both, Embargo: e.ID}
		}
	}
	near := []Work{{Window: "", Services: q.Services, Span: at}}
	for _, w := range q.Others {
		if !w.Intersect(at).Empty() {
			near = append(near, w)
		}
	}
	if len(near) == 1 {
		return nil
	}
	for _, c := range g.clashes(near) {
		if c.Windows[0] == "" {
			c.Windows = c.Windows[1:]
			return &c
		}
	}
	return nil
}

// week knows which failures touched each quarter of an hour of the week.
type week struct {
	zone     *time.Location
	quarters [7 * 24 * 4][]int
}

func failuresByWeek(failures []span.Span, zone *time.Location) *week {
	w := &week{zone: zone}
	for n, f := range failures {
		w.each(f, func(q int) {
			if have := w.quarters[q]; len(have) == 0 || have[len(have)-1] != n {
				w.quarters[q] = append(have, n)
			}
		})
	}
	return w
}

// each quarter of the week that a span touches, once at most for a span of a week.
func (w *week) each(s span.Span, do func(quarter int)) {
	to := min(s.To, s.From.Add(7*span.Day))
	for at := span.Instant(int64(s.From) / Step * Step); at < to; at = at.Add(Step) {
		t := at.Time().In(w.zone)
		do((int(t.Weekday())*24+t.Hour())*4 + t.Minute()/15)
	}
}

// in is how many failures touched the same time of the week as a span.
func (w *week) in(s span.Span) int {
	seen := map[int]bool{}
	w.each(s, func(q int) {
		for _, n := range w.quarters[q] {
			seen[n] = true
		}
	})
	return len(seen)
}
