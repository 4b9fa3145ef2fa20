package definition

import (
	"cmp"

	"kestite/core/calendar"
)

// MostWorkingDay is the last working day of a month that a schedule can name.
const MostWorkingDay = 20

// ReportSchedule says when the reports of a customer are drafted: on a working day of each
// month, or by a rule.
type ReportSchedule struct {
	WorkingDay   int      `json:"working_day,omitempty" minimum:"0" maximum:"20" doc:"The nth day of each month from Monday to Friday that is no holiday; 0: by the rule"`
	RRule        string   `json:"rrule,omitempty" maxLength:"500" doc:"RFC 5545, such as FREQ=MONTHLY;BYDAY=-1FR; empty: by the working day"`
	Publish      bool     `json:"publish,omitempty" doc:"They are published at once, where a standing approval is in force, the verdict is there and nothing was adjusted; otherwise they are drafted"`
	At           string   `json:"at" maxLength:"5" doc:"Time of the day, 08:00"`
	Timezone     string   `json:"timezone" minLength:"1" maxLength:"60"`
	HolidayLists []string `json:"holiday_lists,omitempty" maxItems:"20" doc:"Ids of lists whose days are no working days; by a rule what falls on one comes on the next day that is none"`
}

// Validate of a schedule.
func (s *ReportSchedule) Validate() error {
	if s == nil {
		return nil
	}
	if _, err := calendar.Zone(s.Timezone); err != nil {
		return fault("timezone", "%v", err)
	}
	if _, err := calendar.ParseClock(s.At, false); err != nil {
		return fault("at", "%v", err)
	}
	if (s.WorkingDay == 0) == (s.RRule == "") {
		return fault("working_day", "give a working day of the month or a rule, and not both")
	}
	if s.WorkingDay < 0 || s.WorkingDay > MostWorkingDay {
		return fault("working_day", "%d is not allowed; it lies between 1 and %d", s.WorkingDay, MostWorkingDay)
	}
	if s.RRule == "" {
		return nil
	}
	r, err := s.Recurrence()
	if err != nil {
		return fault("rrule", "%v", err)
	}
	if r.MostStartsADay() > 1 {
		return fault("rrule", "reports are drafted once a day at most")
	}
	return nil
}

// Recurrence is the rule of a schedule that has one.
func (s *ReportSchedule) Recurrence() (calendar.Recurrence, error) {
	loc, err := calendar.Zone(s.Timezone)
	if err != nil {
		return calendar.Recurrence{}, err
	}
	first, err := calendar.ParseDate("2020-01-01")
	if err != nil {
		return calendar.Recurrence{}, err
	}
	at, err := calendar.ParseClock(cmp.Or(s.At, "00:00"), false)
	if err != nil {
		return calendar.Recurrence{}, err
	}
	return calendar.NewRecurrence(first.At(at), loc, s.RRule, nil)
}
