package calendar

import (
	"fmt"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/teambition/rrule-go"

	"kestite/core/span"
)

func zone(t *testing.T, name string) *time.Location {
	t.Helper()
	loc, err := Zone(name)
	if err != nil {
		t.Fatal(err)
	}
	return loc
}

func wall(t *testing.T, s string) Wall {
	t.Helper()
	w, err := ParseWall(s)
	if err != nil {
		t.Fatal(err)
	}
	return w
}

func TestWallTimesAtClockChanges(t *testing.T) {
	for _, c := range []struct {
		zone, wall string
		gap        Gap
		want       string
	}{
		{"Europe/Oslo", "2026-03-29T01:59:59", Shift, "2026-03-29T00:59:59.000Z"},
		{"Europe/Oslo", "2026-03-29T02:30:00", Shift, "2026-03-29T01:30:00.000Z"}, // skipped: the offset before the gap
		{"Europe/Oslo", "2026-03-29T02:30:00", Change, "2026-03-29T01:00:00.000Z"},
		{"Europe/Oslo", "2026-03-29T03:00:00", Shift, "2026-03-29T01:00:00.000Z"},
		{"Europe/Oslo", "2026-10-25T02:30:00", Shift, "2026-10-25T00:30:00.000Z"}, // twice: the first
		{"Europe/Oslo", "2026-10-25T03:00:00", Shift, "2026-10-25T02:00:00.000Z"},
		{"America/New_York", "2026-03-08T02:15:00", Shift, "2026-03-08T07:15:00.000Z"},
		{"America/New_York", "2026-11-01T01:30:00", Shift, "2026-11-01T05:30:00.000Z"},
		{"Pacific/Apia", "2011-12-30T12:00:00", Shift, "2011-12-30T22:00:00.000Z"}, // a whole day is skipped
		{"Pacific/Apia", "2011-12-30T12:00:00", Change, "2011-12-30T10:00:00.000Z"},
		{"Australia/Lord_Howe", "2026-10-04T02:15:00", Shift, "2026-10-03T15:45:00.000Z"}, // half an hour
		{"UTC", "2026-06-01T12:00:00", Shift, "2026-06-01T12:00:00.000Z"},
	} {
		if got := wall(t, c.wall).Instant(zone(t, c.zone), c.gap); got.String() != c.want {
			t.Errorf("%s in %s (change %v) is %s, not %s", c.wall, c.zone, c.gap, got, c.want)
		}
	}
}

// Where the wall clock shows a reading at all, reading it back gives it again.
func TestWallInstantRoundTrip(t *testing.T) {
	for _, name := range []string{"Europe/Oslo", "America/St_Johns", "Australia/Lord_Howe", "Asia/Kathmandu", "Africa/Casablanca"} {
		loc := zone(t, name)
		start := span.Of(time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC))
		for i := start; i < start.Add(370*span.Day); i = i.Add(17 * span.Minute) {
			w := WallAt(i, loc)
			back := w.Instant(loc, Shift)
			if !WallAt(back, loc).Equal(w) || back > i {
				t.Fatalf("%s: %s reads %s, which is %s", name, i, w, back)
			}
		}
	}
}

func TestHours(t *testing.T) {
	oslo := zone(t, "Europe/Oslo")
	row := func(from, to int64, days ...time.Weekday) HoursRow {
		r := HoursRow{From: from * span.Hour, To: to * span.Hour}
		for _, d := range days {
			r.Days[d] = true
		}
		return r
	}
	day := func(d string) span.Instant { return wall(t, d+"T00:00:00").Instant(oslo, Shift) }
	for name, c := range map[string]struct {
		hours Hours
		from  string
		to    string
		want  int64
	}{
		"always":                        {Hours{}, "2026-03-28", "2026-03-30", 47 * span.Hour},
		"no rows are no hours":          {Hours{Weekly: true, Location: oslo}, "2026-03-02", "2026-03-09", 0},
		"overlaps count once":           {Hours{Weekly: true, Location: oslo, Rows: []HoursRow{row(8, 12, time.Monday), row(10, 14, time.Monday)}}, "2026-03-02", "2026-03-09", 6 * span.Hour},
		"past midnight into the period": {Hours{Weekly: true, Location: oslo, Rows: []HoursRow{row(22, 6, time.Sunday)}}, "2026-03-02", "2026-03-03", 6 * span.Hour},
		"to 24:00":                      {Hours{Weekly: true, Location: oslo, Rows: []HoursRow{row(20, 24, time.Monday)}}, "2026-03-02", "2026-03-09", 4 * span.Hour},
		"from equal to is a whole day":  {Hours{Weekly: true, Location: oslo, Rows: []HoursRow{row(8, 8, time.Monday)}}, "2026-03-02", "2026-03-09", 24 * span.Hour},
		"a holiday starts none":         {Hours{Weekly: true, Location: oslo, Rows: []HoursRow{row(8, 12, time.Monday)}, Holidays: map[string]bool{"2026-03-02": true}}, "2026-03-02", "2026-03-09", 0},
		"within the gap":                {Hours{Weekly: true, Location: oslo, Rows: []HoursRow{{From: 2*span.Hour + 600_000, To: 2*span.Hour + 1_800_000, Days: row(0, 0, time.Sunday).Days}}}, "2026-03-29", "2026-03-30", 0},
	} {
		if got := c.hours.Within(span.Span{From: day(c.from), To: day(c.to)}).Length(); got != c.want {
			t.Errorf("%s: %d ms, not %d", name, got, c.want)
		}
	}
}

func starts(t *testing.T, zoneName, start, rule string, exdates ...string) []string {
	t.Helper()
	var out []Wall
	for _, e := range exdates {
		out = append(out, wall(t, e))
	}
	r, err := NewRecurrence(wall(t, start), zone(t, zoneName), rule, out)
	if err != nil {
		t.Fatalf("%s: %v", rule, err)
	}
	list, err := r.Starts(span.Beginning, span.Of(time.Date(2027, 1, 1, 0, 0, 0, 0, time.UTC)))
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, i := range list {
		got = append(got, i.String()[:16])
	}
	return got
}

func TestRecurrence(t *testing.T) {
	for _, c := range []struct {
		name, zone, start, rule string
		exdates                 []string
		want                    string
	}{
		{"once", "UTC", "2026-03-01T10:00:00", "", nil, "2026-03-01T10:00"},
		{"once and excluded", "UTC", "2026-03-01T10:00:00", "", []string{"2026-03-01T10:00:00"}, ""},
		{"skipped wall time is shifted", "Europe/Oslo", "2026-03-28T02:30:00", "FREQ=DAILY;COUNT=3", nil, "2026-03-28T01:30 2026-03-29T01:30 2026-03-30T00:30"},
		{"wall time that occurs twice is the first", "Europe/Oslo", "2026-10-24T02:30:00", "FREQ=DAILY;COUNT=3", nil, "2026-10-24T00:30 2026-10-25T00:30 2026-10-26T01:30"},
		{"COUNT counts what an exdate removes", "UTC", "2026-03-01T10:00:00", "FREQ=DAILY;COUNT=3", []string{"2026-03-02T10:00:00"}, "2026-03-01T10:00 2026-03-03T10:00"},
		{"UNTIL with Z compares instants", "Europe/Oslo", "2026-03-01T01:00:00", "FREQ=DAILY;UNTIL=20260302T000000Z", nil, "2026-03-01T00:00 2026-03-02T00:00"},
		{"UNTIL as a date includes the day", "Europe/Oslo", "2026-03-01T23:30:00", "FREQ=DAILY;UNTIL=20260302", nil, "2026-03-01T22:30 2026-03-02T22:30"},
		{"UNTIL in wall time", "Europe/Oslo", "2026-03-01T12:00:00", "FREQ=DAILY;UNTIL=20260302T120000", nil, "2026-03-01T11:00 2026-03-02T11:00"},
		{"a start that its rule does not produce", "UTC", "2026-03-03T10:00:00", "FREQ=WEEKLY;BYDAY=MO;COUNT=2", nil, "2026-03-09T10:00 2026-03-16T10:00"},
		{"weeks start on Monday", "UTC", "2026-03-01T10:00:00", "FREQ=WEEKLY;INTERVAL=2;BYDAY=SU,TU;COUNT=3", nil, "2026-03-01T10:00 2026-03-10T10:00 2026-03-15T10:00"},
		{"unless WKST says otherwise", "UTC", "2026-03-01T10:00:00", "FREQ=WEEKLY;INTERVAL=2;BYDAY=SU,TU;COUNT=3;WKST=SU", nil, "2026-03-01T10:00 2026-03-03T10:00 2026-03-15T10:00"},
		{"last Saturday", "UTC", "2026-01-31T23:00:00", "FREQ=MONTHLY;BYDAY=-1SA;COUNT=3", nil, "2026-01-31T23:00 2026-02-28T23:00 2026-03-28T23:00"},
		{"a start between two seconds", "UTC", "2026-03-02T10:00:00.250", "FREQ=DAILY;UNTIL=20260303T100000", nil, "2026-03-02T10:00"},
		{"hours of some days", "Europe/Oslo", "2026-03-28T00:00:00", "FREQ=HOURLY;INTERVAL=7;BYDAY=SU;COUNT=4", nil, "2026-03-29T02:00 2026-03-29T09:00 2026-03-29T16:00 2026-04-05T02:00"},
		{"parts that exclude each other", "UTC", "2026-03-01T00:00:00", "FREQ=SECONDLY;BYHOUR=3;BYMONTH=2;BYMONTHDAY=30", nil, ""},
		{"a grid that never meets its part", "UTC", "2026-03-01T00:00:00", "FREQ=MINUTELY;INTERVAL=2;BYMINUTE=1", nil, ""},
		{"a day named twice", "UTC", "2026-03-02T10:00:00", "FREQ=WEEKLY;BYDAY=MO,MO;BYHOUR=10,10;COUNT=2", nil, "2026-03-02T10:00 2026-03-09T10:00"},
		{"small letters", "UTC", "2026-03-02T10:00:00", "freq=weekly;byday=mo;count=1", nil, "2026-03-02T10:00"},
	} {
		if got := strings.Join(starts(t, c.zone, c.start, c.rule, c.exdates...), " "); got != c.want {
			t.Errorf("%s: %s, not %s", c.name, got, c.want)
		}
	}
}

func TestRecurrenceRefuses(t *testing.T) {
	for _, rule := range []string{"FREQ=SOMETIMES", "BYDAY=MO", "FREQ=DAILY;COUNT=0", "FREQ=DAILY;INTERVAL=0", "FREQ=DAILY;COUNT=2;UNTIL=20260401", "FREQ=DAILY;FREQ=DAILY", "FREQ=DAILY;UNTIL=soon", "FREQ", "FREQ=DAILY;WHAT=1", ";", "FREQ=YEARLY;BYEASTER=0",
		"FREQ=DAILY;BYSETPOS=1", "FREQ=MONTHLY;BYWEEKNO=3", "FREQ=DAILY;BYYEARDAY=3", "FREQ=WEEKLY;BYMONTHDAY=3", "FREQ=WEEKLY;BYDAY=2MO", "FREQ=YEARLY;BYWEEKNO=3;BYDAY=2MO"} {
		if _, err := NewRecurrence(wall(t, "2026-03-01T00:00:00"), time.UTC, rule, nil); err == nil {
			t.Errorf("%s was taken", rule)
		}
	}
	r, err := NewRecurrence(wall(t, "2020-01-01T00:00:00"), time.UTC, "FREQ=SECONDLY", nil)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.Starts(0, span.Of(time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC))); err == nil {
		t.Error("six years of seconds were expanded")
	}
}

// Where the library ends, the expansion of sub-daily rules is the library's.
func TestSubDailyRulesAgreeWithTheLibrary(t *testing.T) {
	r := rand.New(rand.NewPCG(31, 32))
	list := func(n, from, to int) string {
		var out []string
		for range 1 + r.IntN(n) {
			out = append(out, strconv.Itoa(from+r.IntN(to-from+1)))
		}
		return strings.Join(out, ",")
	}
	compared := 0
	for range 3000 {
		rule := fmt.Sprintf("FREQ=%s;INTERVAL=%d", []string{"HOURLY", "MINUTELY", "SECONDLY"}[r.IntN(3)], 1+r.IntN(5)*r.IntN(40))
		for part, values := range map[string]string{"BYMINUTE": list(3, 0, 59), "BYSECOND": list(3, 0, 59), "BYHOUR": list(6, 0, 23), "BYMONTHDAY": list(4, -9, -1), "BYDAY": []string{"MO,TH", "SU"}[r.IntN(2)], "BYMONTH": "3,4", "COUNT": list(1, 1, 60)} {
			if r.IntN(3) == 0 {
				rule += ";" + part + "=" + values
			}
		}
		if strings.Contains(rule, "BY") && r.IntN(3) == 0 {
			rule += ";BYSETPOS=" + []string{"1", "-1", "2", "1,-1"}[r.IntN(4)]
		}
		start := wall(t, fmt.Sprintf("2026-03-%02dT%02d:%02d:%02d", 1+r.IntN(28), r.IntN(24), r.IntN(60), r.IntN(60)))
		rec, err := NewRecurrence(start, time.UTC, rule, nil)
		if err != nil {
			continue // BYSETPOS without a BY… part
		}
		to := start.utc.Add(map[rrule.Frequency]time.Duration{rrule.HOURLY: 20 * 24 * time.Hour, rrule.MINUTELY: 48 * time.Hour, rrule.SECONDLY: 2 * time.Hour}[rec.rule.Freq])
		got, err := rec.Starts(span.Beginning, span.Of(to))
		if err != nil {
			t.Fatalf("%s: %v", rule, err)
		}
		if len(got) == 0 {
			continue // the library might search to the year 9999
		}
		library, err := rrule.NewRRule(*rec.rule)
		if err != nil {
			t.Fatal(err)
		}
		next := library.Iterator()
		for i, g := range got {
			if want, ok := next(); !ok || span.Of(want) != g {
				t.Fatalf("%s from %s: start %d is %s, the library's %s", rule, start, i, g, want)
			}
		}
		compared++
	}
	if compared < 500 {
		t.Errorf("only %d rules were compared", compared)
	}
}

// Whatever the rule says, starts are in order, within what was asked, and the
// same when asked for in two halves.
func FuzzRecurrence(f *testing.F) {
	for _, seed := range []string{"FREQ=DAILY;COUNT=3", "FREQ=WEEKLY;BYDAY=MO,-1SU;UNTIL=20270101T000000Z", "FREQ=MONTHLY;BYSETPOS=-1;BYDAY=FR", "FREQ=HOURLY;INTERVAL=7", "FREQ=YEARLY;BYWEEKNO=53"} {
		f.Add(seed, int64(1772000000))
	}
	oslo, err := Zone("Europe/Oslo")
	if err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(t *testing.T, rule string, at int64) {
		start := WallOf(time.Unix(1_600_000_000+at%300_000_000, 0).UTC())
		r, err := NewRecurrence(start, oslo, rule, nil)
		if err != nil {
			return
		}
		from, to := start.Instant(oslo, Shift).Add(-span.Day), start.Instant(oslo, Shift).Add(40*span.Day)
		all, err := r.Starts(from, to)
		if err != nil {
			return
		}
		for i, s := range all {
			if s < from || s >= to || i > 0 && s <= all[i-1] {
				t.Fatalf("%s: %v", rule, all)
			}
		}
		middle := from.Add(20 * span.Day)
		first, err1 := r.Starts(from, middle)
		second, err2 := r.Starts(middle, to)
		if err1 != nil || err2 != nil || len(first)+len(second) != len(all) {
			t.Fatalf("%s: %d and %d of %d, %v, %v", rule, len(first), len(second), len(all), err1, err2)
		}
	})
}

// Every wall time has an instant, in whatever year, and clocks show it then; those at the
// turns of years, where time zones are worked out by rules, among them.
func TestWallTimesOfFarYears(t *testing.T) {
	done := make(chan string, 1)
	go func() {
		for _, name := range []string{"Europe/Oslo", "America/New_York", "Australia/Lord_Howe", "Pacific/Auckland", "UTC"} {
			loc, err := Zone(name)
			if err != nil {
				done <- err.Error()
				return
			}
			for year := 1900; year < 9999; year += 1 + year%7 {
				for _, day := range []Wall{Date(year, 1, 1), Date(year, 2, 28), Date(year, 7, 1), Date(year, 12, 31).At(23 * span.Hour)} {
					if got := WallAt(day.Instant(loc, Shift), loc); !got.Equal(day) {
						done <- fmt.Sprintf("%s in %s comes back as %s", day, name, got)
						return
					}
				}
			}
		}
		done <- ""
	}()
	select {
	case wrong := <-done:
		if wrong != "" {
			t.Error(wrong)
		}
	case <-time.After(time.Minute):
		t.Fatal("it does not come to an end")
	}
}
