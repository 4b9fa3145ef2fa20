package catalogue_test

import (
	"slices"
	"testing"

	"kestite/core/catalogue"
	"kestite/core/definition"
)

func restDays(dates ...string) definition.HolidayListSpec {
	out := definition.HolidayListSpec{Name: "Rest days"}
	for _, d := range dates {
		out.Days = append(out.Days, definition.Holiday{Date: d})
	}
	return out
}

// The days of lists are holidays of every agreement that has them; a list changes what is
// to come, and no account of a day that has begun.
func TestHolidaysOfLists(t *testing.T) {
	h := contracted(t)
	list := func(does catalogue.Deed, dates ...string) catalogue.Step {
		return catalogue.Step{Does: does, Kind: catalogue.HolidayList, ID: "rest", Spec: restDays(dates...)}
	}
	h.do("02T00:00", list(catalogue.Make, "2026-03-20", "2026-03-05"))
	h.do("10T00:00", list(catalogue.Rewrite, "2026-03-20", "2026-03-06")) // nobody uses it yet
	spec := promise("99.5")
	office := definition.WeeklyPlan{Timezone: "Europe/Oslo", Weekly: []definition.WeeklyRow{{Days: []string{"FR"}, From: "08:00",
		To: "16:00"}}, Holidays: []string{"2026-03-27"}}
	spec.ServiceHours = &definition.HoursSpec{WeeklyPlan: office, HolidayLists: []string{"rest"}}
	spec.Maintenance = &definition.MaintenanceSpec{Mode: definition.MaintenanceExclude, Within: &definition.HoursSpec{WeeklyPlan: office,
		HolidayLists: []string{"rest", "rest"}}}
	h.do("10T00:00", catalogue.Step{Kind: catalogue.Agreement, ID: "office", Spec: spec})

	days := func() []string {
		t.Helper()
		a := h.bundle("2026-03", "office").Bundle.Agreements[0]
		if within := a.Maintenance.Within.Plan.Holidays; !slices.Equal(within, a.ServiceHours.Plan.Holidays) {
			t.Errorf("work is not agreed on %v, and the hours are without %v", within, a.ServiceHours.Plan.Holidays)
		}
		return a.ServiceHours.Plan.Holidays
	}
	if got := days(); !slices.Equal(got, []string{"2026-03-06", "2026-03-20", "2026-03-27"}) {
		t.Errorf("its holidays are %v", got)
	}
	if kept := h.snap.Agreements["office"].Current().Spec.ServiceHours; !slices.Equal(kept.Holidays, []string{"2026-03-27"}) ||
		len(kept.HolidayLists) != 1 {
		t.Errorf("what people wrote became %+v", kept)
	}

	// At 11:00 UTC on the 10th the 11th has begun in the east of the world.
	h.refused("10T11:00", "days", "2026-03-06 has begun", list(catalogue.Rewrite, "2026-03-20"))
	h.refused("10T11:00", "days[2].date", "2026-03-11 has begun", list(catalogue.Rewrite, "2026-03-20", "2026-03-06", "2026-03-11"))
	h.refused("10T11:00", "service_hours.holiday_lists[0]", "names no holiday-list", func() catalogue.Step {
		other := spec
		other.ServiceHours = &definition.HoursSpec{WeeklyPlan: office, HolidayLists: []string{"none"}}
		return catalogue.Step{Kind: catalogue.Agreement, ID: "other", Spec: other}
	}())
	h.refused("10T11:00", "id", "Gold has its days without hours", catalogue.Step{Does: catalogue.Retire, Kind: catalogue.HolidayList,
		ID: "rest"})
	h.do("10T11:00", list(catalogue.Rewrite, "2026-03-06", "2026-03-12", "2026-03-13"))
	if got := days(); !slices.Equal(got, []string{"2026-03-06", "2026-03-12", "2026-03-13", "2026-03-27"}) {
		t.Errorf("after the edit its holidays are %v", got)
	}

	// An agreement that has let go of a list keeps it from nothing but changing the past.
	h.do("12T00:00", catalogue.Step{Does: catalogue.Retire, Kind: catalogue.Agreement, ID: "office"})
	h.refused("13T11:00", "days", "2026-03-06 has begun", list(catalogue.Rewrite, "2026-03-12", "2026-03-13"))
	h.do("14T00:00", catalogue.Step{Does: catalogue.Retire, Kind: catalogue.HolidayList, ID: "rest"})
	if got := days(); !slices.Contains(got, "2026-03-06") {
		t.Errorf("with the list retired its holidays are %v", got)
	}
}
