package catalogue

import (
	"kestite/core/calendar"
	"kestite/core/definition"
	"kestite/core/span"
)

// counts is the start of the first period that a revision of an agreement accounts.
func counts(r Revision[definition.AgreementSpec]) span.Instant {
	if r.Counts != nil {
		return *r.Counts
	}
	return r.From
}

// Accounting is the revision by which a period of an agreement that starts at
// start is accounted: the latest made of those that count from then or earlier,
// and the first where none does. Each period has exactly one.
func (s *Snapshot) Accounting(agreement string, start span.Instant) Revision[definition.AgreementSpec] {
	revisions := s.Agreements[agreement].Revisions
	for n := len(revisions) - 1; n > 0; n-- {
		if counts(revisions[n]) <= start {
			return revisions[n]
		}
	}
	return revisions[0]
}

// PeriodAt is the period of an agreement that i lies in, in its own cycle and
// zone. Where an edit changes these, the last period before it ends, and the first
// after it begins, where the edit counts from.
func (s *Snapshot) PeriodAt(agreement string, i span.Instant) (calendar.Period, error) {
	r := s.Accounting(agreement, i)
	loc, err := calendar.Zone(r.Spec.Timezone)
	if err != nil {
		return calendar.Period{}, definition.Faultf("timezone", "%v", err)
	}
	p := r.Spec.Period.Cycle().At(i, loc)
	if r.Counts != nil && p.Span().From < *r.Counts {
		p.Start = calendar.WallAt(*r.Counts, loc)
	}
	for _, later := range s.Agreements[agreement].Revisions {
		if later.Counts != nil && later.Number > r.Number && i < *later.Counts && *later.Counts < p.Span().To {
			p.End = calendar.WallAt(*later.Counts, loc)
		}
	}
	return p, nil
}

// PeriodBefore is the period of an agreement before p.
func (s *Snapshot) PeriodBefore(agreement string, p calendar.Period) (calendar.Period, error) {
	return s.PeriodAt(agreement, p.Span().From-1)
}

// PeriodNamed is the period of an agreement that has a name, in the zone that its
// revision gives. The error is a *definition.Fault of the field period.
func (s *Snapshot) PeriodNamed(agreement, name string) (calendar.Period, error) {
	revisions := s.Agreements[agreement].Revisions
	var wrong error
	for n := len(revisions) - 1; n >= 0; n-- {
		loc, err := calendar.Zone(revisions[n].Spec.Timezone)
		if err != nil {
			continue // it accounts nothing
		}
		p, err := calendar.ParsePeriod(name, loc)
		if err != nil {
			return p, definition.Faultf("period", "%v", err)
		}
		own, err := s.PeriodAt(agreement, p.Span().From)
		if err == nil && own.Span() == p.Span() {
			return own, nil
		}
		if wrong == nil && err == nil {
			wrong = definition.Faultf("period", "%s is no period of this agreement; %s is (%s)", name, own.Name(), own.Words())
		}
	}
	if wrong == nil {
		wrong = definition.Faultf("timezone", "no revision of the agreement has a zone that can be read")
	}
	return calendar.Period{}, wrong
}

// Begins is when an agreement's promise starts by the revision that accounts a
// period: the day it names, or when it was entered.
func (s *Snapshot) Begins(agreement string, start span.Instant) (span.Instant, error) {
	spec := s.Accounting(agreement, start).Spec
	if spec.From == "" {
		return s.Agreements[agreement].Since(), nil
	}
	return dayOf(spec.From, spec.Timezone, 0)
}

// Promises says whether an agreement promises anything in a period: it began before
// the period's end, and did not end before its start.
func (s *Snapshot) Promises(agreement string, p calendar.Period) (bool, error) {
	when := p.Span()
	began, err := s.Begins(agreement, when.From)
	if err != nil || began >= when.To {
		return false, err
	}
	ends, err := s.ends(agreement, when.From)
	return err == nil && (ends == nil || *ends > when.From), err
}

// ends is when it ends: after the day it names, or when it was retired; nil
// while neither is known.
func (s *Snapshot) ends(agreement string, start span.Instant) (*span.Instant, error) {
	e := s.Agreements[agreement]
	var until *span.Instant
	if e.Retired {
		until = e.Current().Until
	}
	spec := s.Accounting(agreement, start).Spec
	if spec.Until == "" {
		return until, nil
	}
	end, err := dayOf(spec.Until, spec.Timezone, 1)
	if err != nil || until != nil && *until < end {
		return until, err
	}
	return &end, nil
}

// dayOf is the beginning of a date in a zone, so many days later.
func dayOf(date, zone string, later int) (span.Instant, error) {
	loc, err := calendar.Zone(zone)
	if err != nil {
		return 0, definition.Faultf("timezone", "%v", err)
	}
	day, err := calendar.ParseDate(date)
	return day.AddDays(later).Instant(loc, calendar.Shift), err
}

// counting is from when an edit of an agreement counts: from the next of its
// periods, or, as a correction, from the one named. published are the names of
// its periods that have a published report: those stay as they are, and so do all
// before one.
func (s *Snapshot) counting(step Step, at span.Instant, published []string) (span.Instant, error) {
	present, err := s.PeriodAt(step.ID, at)
	if err != nil { // whose zone cannot be read: from now on it can
		return at, nil
	}
	if step.Corrects == "" {
		return present.Span().To, nil
	}
	if step.Reason == "" {
		return 0, definition.Faultf("reason", "is missing; a correction changes an account that has begun, and says why")
	}
	p, err := s.PeriodNamed(step.ID, step.Corrects)
	if err != nil {
		return 0, definition.Instead("corrects", err)
	}
	from := p.Span().From
	if from > at {
		return 0, definition.Faultf("corrects",
			"%s has not begun; leave the correction away, and the edit counts from the next period", p.Words())
	}
	for _, name := range published {
		of, err := calendar.ParsePeriod(name, p.Location)
		if err == nil && of.Span().To > from {
			return 0, definition.Faultf("corrects", "%s has a published report or a frozen account, which stays as it is; correct from a later period",
				of.Words())
		}
	}
	return from, nil
}
