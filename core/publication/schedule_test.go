package publication

import (
	"testing"
	"time"

	"kestite/core/definition"
	"kestite/core/span"
)

func TestSchedules(t *testing.T) {
	loc, err := time.LoadLocation("Europe/Oslo")
	if err != nil {
		t.Fatal(err)
	}
	year := func(month, day int) span.Instant {
		return span.Of(time.Date(2026, time.Month(month), day, 0, 0, 0, 0, loc))
	}
	for words, of := range map[string]struct {
		s        definition.ReportSchedule
		holidays []string
		from, to span.Instant
		want     []string
	}{
		"on the third working day of each month at 08:00 (Europe/Oslo)": {
			definition.ReportSchedule{WorkingDay: 3, At: "08:00"}, []string{"2026-01-01", "2026-04-02", "2026-04-03", "2026-04-06", "2026-05-01"}, year(1, 1), year(6, 1),
			[]string{"2026-01-06T08:00:00+01:00", "2026-02-04T08:00:00+01:00", "2026-03-04T08:00:00+01:00", "2026-04-08T08:00:00+02:00", "2026-05-06T08:00:00+02:00"}},
		"on the first working day of each month at 02:30 (Europe/Oslo)": { // in no month is it on the night of the clock change
			definition.ReportSchedule{WorkingDay: 1, At: "02:30"}, nil, year(3, 1), year(4, 2),
			[]string{"2026-03-02T02:30:00+01:00", "2026-04-01T02:30:00+02:00"}},
		"on the first Monday of each month at 09:15 (Europe/Oslo)": {
			definition.ReportSchedule{RRule: "FREQ=MONTHLY;BYDAY=1MO", At: "09:15"}, []string{"2026-04-06"}, year(3, 1), year(5, 1),
			[]string{"2026-03-02T09:15:00+01:00", "2026-04-07T09:15:00+02:00"}},
		"on the last Friday of each month at 16:00 (Europe/Oslo)": {
			definition.ReportSchedule{RRule: "FREQ=MONTHLY;BYDAY=-1FR", At: "16:00"}, nil, year(10, 1), year(12, 1),
			[]string{"2026-10-30T16:00:00+01:00", "2026-11-27T16:00:00+01:00"}},
		"by the rule FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=29 at 00:00 (Europe/Oslo)": {
			definition.ReportSchedule{RRule: "FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=29", At: "00:00"}, nil, year(1, 1), year(12, 31), nil},
		"on working day 20 of each month at 08:00 (Europe/Oslo)": {
			definition.ReportSchedule{WorkingDay: 20, At: "08:00"}, nil, year(2, 1), year(3, 1), []string{"2026-02-27T08:00:00+01:00"}},
	} {
		of.s.Timezone = "Europe/Oslo"
		if err := of.s.Validate(); err != nil {
			t.Errorf("%s: %v", words, err)
		}
		if got := Words(of.s); got != words {
			t.Errorf("it says %q, not %q", got, words)
		}
		list, err := Due(of.s, of.holidays, of.from, of.to)
		if err != nil {
			t.Errorf("%s: %v", words, err)
		}
		var got []string
		for _, i := range list {
			got = append(got, i.Time().In(loc).Format(time.RFC3339))
		}
		if len(got) != len(of.want) {
			t.Errorf("%s: %v, want %v", words, got, of.want)
			continue
		}
		for n := range got {
			if got[n] != of.want[n] {
				t.Errorf("%s: %v, want %v", words, got, of.want)
			}
		}
		// Nothing is due twice, however the time is cut.
		for _, i := range list {
			before, err := Due(of.s, of.holidays, i-span.Instant(span.Hour), i)
			after, failed := Due(of.s, of.holidays, i, i.Add(span.Hour))
			if err != nil || failed != nil || len(before) != 1 || len(after) != 0 {
				t.Errorf("%s: around %s %v and %v, %v, %v", words, i, before, after, err, failed)
			}
		}
	}
}

func TestSchedulesThatCannotBe(t *testing.T) {
	for name, s := range map[string]definition.ReportSchedule{
		"neither": {At: "08:00"}, "both": {WorkingDay: 1, RRule: "FREQ=MONTHLY;BYDAY=1MO", At: "08:00"}, "no time": {WorkingDay: 1}, "a bad time": {WorkingDay: 1, At: "25:00"},
		"no such day": {WorkingDay: 21, At: "08:00"}, "below": {WorkingDay: -1, At: "08:00"}, "a bad rule": {RRule: "FREQ=MONTHLY;BYDAY=9XX", At: "08:00"}, "every hour": {RRule: "FREQ=HOURLY", At: "08:00"},
	} {
		s.Timezone = "Europe/Oslo"
		if s.Validate() == nil {
			t.Errorf("%s: it is taken", name)
		}
	}
	s := definition.ReportSchedule{WorkingDay: 1, At: "08:00", Timezone: "Europe/Nowhere"}
	if s.Validate() == nil {
		t.Error("a zone that is not there is taken")
	}
}
