package demo

import (
	"hash/fnv"
	"math/rand/v2"
	"sort"
	"time"

	"kestite/core/calendar"
	"kestite/core/definition"
	"kestite/core/span"
)

// effect is what an event does to measurements.
type effect uint8

const (
	fails  effect = iota + 1
	slow          // answers in 1.1 to 2 s
	silent        // nothing is measured
	shaky         // every few measurements one fails, never two in a row
)

// event is something that happens to a lane.
type event struct {
	span.Span
	effect effect
}

func seeded(words ...string) *rand.Rand {
	h := fnv.New64a()
	for _, w := range words {
		h.Write([]byte(w))
		h.Write([]byte{0})
	}
	return rand.New(rand.NewPCG(h.Sum64(), 0x6b657374))
}

// script decides what happened to services and locations between from and to;
// the same for the same months.
type script struct {
	from, to span.Instant
	loc      *time.Location
	services map[string][]event // on all lanes of a service
	places   map[string][]event // on all lanes of a location
}

func newScript(from, to span.Instant, loc *time.Location) *script {
	s := &script{from: from, to: to, loc: loc, services: map[string][]event{}, places: map[string][]event{}}
	present := calendar.MonthAt(to, loc)
	for m := calendar.MonthAt(from, loc); m.Span().From < to; m = m.Next(1) {
		if m.Name() == present.Name() {
			s.present(m)
		} else {
			s.past(m)
		}
		s.agents(m)
	}
	s.maintenance()
	return s
}

func (s *script) add(service string, at span.Instant, length int64, e effect) {
	s.services[service] = append(s.services[service], event{span.Span{From: at, To: at.Add(length)}, e})
}

// past scripts a finished month: a few outages, now and then a bad one.
func (s *script) past(m calendar.Period) {
	when := m.Span()
	for _, sub := range subjects {
		if sub.id == "departure" {
			continue
		}
		r := seeded(sub.id, m.Name())
		for range r.IntN(4) {
			minutes := 2 + r.IntN(9)
			if r.IntN(9) == 0 {
				minutes += 25 + r.IntN(50)
			}
			s.add(sub.id, moment(r, when), int64(minutes)*span.Minute, fails)
		}
		if r.IntN(5) == 0 {
			s.add(sub.id, moment(r, when), int64(20+r.IntN(90))*span.Minute, slow)
		}
	}
	// Bad nights, which cost credits, of the gates and of the card acquirer; and a short outage
	// of the gates last month, so that there is one to explain on any day.
	for _, bad := range []struct {
		ago     int
		service string
		minutes int64
	}{{4, "boarding-gates", 95}, {1, "boarding-gates", 6}, {3, "boarding-gates", 260}, {3, "card-acquirer", 75}, {2, "card-acquirer", 110}} {
		if m.Name() == calendar.MonthAt(s.to, s.loc).Next(-bad.ago).Name() {
			s.add(bad.service, when.From.Add(int64(8+bad.ago)*span.Day+3*span.Hour), bad.minutes*span.Minute, fails)
		}
	}
	// One slow week: freight booking, the third month of the scenario.
	if m.Name() == calendar.MonthAt(s.from, s.loc).Next(2).Name() {
		for d := range int64(7) {
			s.add("freight-booking", when.From.Add((9+d)*span.Day+9*span.Hour), 5*span.Hour, slow)
		}
	}
}

// present scripts the month so far, so that each promise stands as it should.
func (s *script) present(m calendar.Period) {
	when := m.Span()
	so := span.Span{From: when.From, To: s.to}
	for _, p := range promises {
		if p.used == 0 || so.Length() < span.Hour {
			continue
		}
		r := seeded(p.id, "present", m.Name())
		share, _ := p.spec.TargetPercent.Rat().Float64()
		allowance := (100 - share) / 100 * float64(when.Length())
		if h := p.spec.ServiceHours; h != nil {
			plan, err := definition.CompileHours(definition.ServiceHours{Plan: &h.WeeklyPlan})
			if err == nil {
				allowance = (100 - share) / 100 * float64(plan.Within(when).Length())
			}
		}
		down := min(allowance*p.used, 0.25*float64(so.Length()))
		recent := min(p.recent, 1) * down
		s.spread(p.spec.Service, r, so.From, so.To.Add(-min(6*span.Day, so.Length()/3)), down-recent)
		s.spread(p.spec.Service, r, so.To.Add(-min(6*span.Day, so.Length()/3)), so.To.Add(-so.Length()/40), recent)
	}
	if so.Length() > 3*span.Day {
		s.add("ticket-sales", so.From.Add(so.Length()*2/5), 35*span.Minute, slow)
		s.add("crew-roster", so.From.Add(so.Length()/3), 50*span.Minute, slow)
		// The acquirer's trouble takes ticket sales with it: excused.
		s.add("card-acquirer", so.From.Add(so.Length()/5), 14*span.Minute, fails)
		s.add("ticket-sales", so.From.Add(so.Length()/5+span.Minute), 12*span.Minute, fails)
	}
}

// spread puts downtime of about total ms into two or three outages within service hours.
func (s *script) spread(service string, r *rand.Rand, from, to span.Instant, total float64) {
	if total < float64(span.Minute) || to <= from {
		return
	}
	n := 1 + r.IntN(2)
	for range n {
		at := moment(r, span.Span{From: from, To: to})
		s.add(service, at, int64(total)/int64(n), fails)
	}
}

// moment picks an instant during the day, Monday to Friday, where the span has one.
func moment(r *rand.Rand, within span.Span) span.Instant {
	for range 20 {
		at := within.From.Add(int64(r.Float64() * float64(within.Length())))
		t := at.Time()
		if h := t.Hour(); h >= 7 && h < 18 && t.Weekday() != time.Saturday && t.Weekday() != time.Sunday {
			return at
		}
	}
	return within.From.Add(within.Length() / 2)
}

// agents scripts the locations: one falls silent for a night now and then, and
// both do for a while in the month before last.
func (s *script) agents(m calendar.Period) {
	when := m.Span()
	r := seeded("agents", m.Name())
	if r.IntN(2) == 0 || m.Name() == calendar.MonthAt(s.to, s.loc).Name() {
		at := when.From.Add(5*span.Day + 23*span.Hour)
		s.places["eskerby"] = append(s.places["eskerby"], event{span.Span{From: at, To: at.Add(int64(4+r.IntN(5)) * span.Hour)}, silent})
	}
	if m.Name() == calendar.MonthAt(s.to, s.loc).Next(-2).Name() {
		at := when.From.Add(16*span.Day + 10*span.Hour)
		for _, l := range locations {
			s.places[l.id] = append(s.places[l.id], event{span.Span{From: at, To: at.Add(40 * span.Minute)}, silent})
		}
	}
	shake := when.From.Add(int64(r.Float64() * float64(20*span.Day)))
	s.places["tolvik"] = append(s.places["tolvik"], event{span.Span{From: shake, To: shake.Add(2 * span.Hour)}, shaky})
}

// maintenance takes services down for most of each of their windows.
func (s *script) maintenance() {
	for _, w := range windows {
		spec := w.spec
		spec.Start = s.from.Time().In(s.loc).Format("2006-01-02") + w.firstAt
		compiled, err := definition.CompileWindow(definition.Window{Start: spec.Start, Timezone: spec.Timezone, DurationS: spec.DurationS, RRule: spec.RRule})
		if err != nil {
			continue
		}
		starts, err := compiled.Recurrence.Starts(s.from, s.to)
		if err != nil {
			continue
		}
		length := spec.DurationS * span.Second
		for _, at := range starts {
			if at.Add(length) < s.to {
				s.add(spec.Services[0], at.Add(length/10), length*6/10, fails)
			}
		}
	}
}

// lane returns the events of one check at one location, in order of time.
func (s *script) lane(service, location string) []event {
	out := append(append([]event(nil), s.services[service]...), s.places[location]...)
	sort.Slice(out, func(i, j int) bool { return out[i].From < out[j].From })
	return out
}
