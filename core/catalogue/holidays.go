package catalogue

import (
	"fmt"
	"slices"
	"time"

	"kestite/core/calendar"
	"kestite/core/definition"
	"kestite/core/span"
)

// Promise is what a spec promises, as accounts use it: the days of its holiday lists are
// among its own holidays. The error is a *definition.Fault of a list that is not there.
func (s *Snapshot) Promise(id string, spec definition.AgreementSpec) (definition.Agreement, error) {
	for _, r := range references(spec) {
		if r.Kind == HolidayList && s.HolidayLists[r.ID] == nil {
			return definition.Agreement{}, definition.Faultf(r.Path, "%q names no list of holidays", r.ID)
		}
	}
	days := func(list string) []string { return s.HolidayLists[list].Current().Spec.Dates() }
	spec.ServiceHours = spec.ServiceHours.Without(days)
	if spec.Maintenance != nil && spec.Maintenance.Within != nil {
		maintenance := *spec.Maintenance
		maintenance.Within = maintenance.Within.Without(days)
		spec.Maintenance = &maintenance
	}
	return spec.Agreement(id), nil
}

// HolidayDates are the days of some lists as 2006-01-02; a list that is not there has none.
func (s *Snapshot) HolidayDates(lists []string) []string {
	var out []string
	for _, id := range lists {
		if e := s.HolidayLists[id]; e != nil {
			out = append(out, e.Current().Spec.Dates()...)
		}
	}
	return out
}

// eastmost is how far the clocks that are ahead of all others are ahead of UTC, ms.
const eastmost = 14 * span.Hour

// keepsDays refuses an edit of a holiday list that changes a day that has begun
// somewhere, where agreements have used the list: the accounts of that day stay what
// they are. Days still to come are changed as people like.
func (s *Snapshot) keepsDays(id string, spec definition.HolidayListSpec, at span.Instant) error {
	e := s.HolidayLists[id]
	if e == nil || !s.usesDays(id) {
		return nil
	}
	begun := calendar.WallAt(at.Add(eastmost), time.UTC).DateString()
	before, after := e.Current().Spec.Dates(), spec.Dates()
	for i, d := range spec.Days {
		if d.Date <= begun && !slices.Contains(before, d.Date) {
			return definition.Faultf(fmt.Sprintf("days[%d].date", i),
				"%s has begun, and accounts have counted its hours; a list changes days to come alone. "+
					"Where an agreement should not have counted them, correct that", d.Date)
		}
	}
	for _, d := range before {
		if d <= begun && !slices.Contains(after, d) {
			return definition.Faultf("days", "%s has begun, and accounts have left it out; keep it in the list. Where an agreement should have "+
				"counted it, correct that", d)
		}
	}
	return nil
}

// usesDays says whether an agreement has ever used a holiday list.
func (s *Snapshot) usesDays(id string) bool {
	for _, a := range s.Agreements {
		for _, r := range a.Revisions {
			for _, ref := range references(r.Spec) {
				if ref.Kind == HolidayList && ref.ID == id {
					return true
				}
			}
		}
	}
	return false
}
