package definition

import (
	"strings"
	"testing"
	"time"

	"kestite/core/calendar"
	"kestite/core/span"
)

// Every example of RFC 5545 §3.8.5.3 that a window may have, in its zone; those that are
// finer than hourly are refused. The days are written as the RFC writes them: a month with
// days, a year where it changes. Beyond the last one nothing is asked of a rule without end.
func TestExamplesOfTheRFC(t *testing.T) {
	for _, c := range []struct {
		start, rule, want string
		endless           bool
	}{
		{"1997-09-02", "FREQ=DAILY;COUNT=10", "1997 Sep 2-11", false},
		{"1997-09-02", "FREQ=DAILY;UNTIL=19971224T000000Z", "1997 Sep 2-30 Oct 1-31 Nov 1-30 Dec 1-23", false},
		{"1997-09-02", "FREQ=DAILY;INTERVAL=2", "1997 Sep 2,4,6,8,10,12,14,16,18,20,22,24,26,28,30 Oct 2,4,6,8,10,12,14,16,18,20,22,24,26,28,30 Nov 1,3,5,7", true},
		{"1997-09-02", "FREQ=DAILY;INTERVAL=10;COUNT=5", "1997 Sep 2,12,22 Oct 2,12", false},
		{"1998-01-01", "FREQ=YEARLY;UNTIL=20000131T140000Z;BYMONTH=1;BYDAY=SU,MO,TU,WE,TH,FR,SA", "1998 Jan 1-31 1999 Jan 1-31 2000 Jan 1-31", false},
		{"1998-01-01", "FREQ=DAILY;UNTIL=20000131T140000Z;BYMONTH=1", "1998 Jan 1-31 1999 Jan 1-31 2000 Jan 1-31", false},
		{"1997-09-02", "FREQ=WEEKLY;COUNT=10", "1997 Sep 2,9,16,23,30 Oct 7,14,21,28 Nov 4", false},
		{"1997-09-02", "FREQ=WEEKLY;UNTIL=19971224T000000Z", "1997 Sep 2,9,16,23,30 Oct 7,14,21,28 Nov 4,11,18,25 Dec 2,9,16,23", false},
		{"1997-09-02", "FREQ=WEEKLY;INTERVAL=2;WKST=SU", "1997 Sep 2,16,30 Oct 14,28 Nov 11,25 Dec 9,23 1998 Jan 6,20 Feb 3,17", true},
		{"1997-09-02", "FREQ=WEEKLY;UNTIL=19971007T000000Z;WKST=SU;BYDAY=TU,TH", "1997 Sep 2,4,9,11,16,18,23,25,30 Oct 2", false},
		{"1997-09-02", "FREQ=WEEKLY;COUNT=10;WKST=SU;BYDAY=TU,TH", "1997 Sep 2,4,9,11,16,18,23,25,30 Oct 2", false},
		{"1997-09-01", "FREQ=WEEKLY;INTERVAL=2;UNTIL=19971224T000000Z;WKST=SU;BYDAY=MO,WE,FR",
			"1997 Sep 1,3,5,15,17,19,29 Oct 1,3,13,15,17,27,29,31 Nov 10,12,14,24,26,28 Dec 8,10,12,22", false},
		{"1997-09-02", "FREQ=WEEKLY;INTERVAL=2;COUNT=8;WKST=SU;BYDAY=TU,TH", "1997 Sep 2,4,16,18,30 Oct 2,14,16", false},
		{"1997-09-05", "FREQ=MONTHLY;COUNT=10;BYDAY=1FR", "1997 Sep 5 Oct 3 Nov 7 Dec 5 1998 Jan 2 Feb 6 Mar 6 Apr 3 May 1 Jun 5", false},
		{"1997-09-05", "FREQ=MONTHLY;UNTIL=19971224T000000Z;BYDAY=1FR", "1997 Sep 5 Oct 3 Nov 7 Dec 5", false},
		{"1997-09-07", "FREQ=MONTHLY;INTERVAL=2;COUNT=10;BYDAY=1SU,-1SU", "1997 Sep 7,28 Nov 2,30 1998 Jan 4,25 Mar 1,29 May 3,31", false},
		{"1997-09-22", "FREQ=MONTHLY;COUNT=6;BYDAY=-2MO", "1997 Sep 22 Oct 20 Nov 17 Dec 22 1998 Jan 19 Feb 16", false},
		{"1997-09-28", "FREQ=MONTHLY;BYMONTHDAY=-3", "1997 Sep 28 Oct 29 Nov 28 Dec 29 1998 Jan 29 Feb 26", true},
		{"1997-09-02", "FREQ=MONTHLY;COUNT=10;BYMONTHDAY=2,15", "1997 Sep 2,15 Oct 2,15 Nov 2,15 Dec 2,15 1998 Jan 2,15", false},
		{"1997-09-30", "FREQ=MONTHLY;COUNT=10;BYMONTHDAY=1,-1", "1997 Sep 30 Oct 1,31 Nov 1,30 Dec 1,31 1998 Jan 1,31 Feb 1", false},
		{"1997-09-10", "FREQ=MONTHLY;INTERVAL=18;COUNT=10;BYMONTHDAY=10,11,12,13,14,15", "1997 Sep 10-15 1999 Mar 10-13", false},
		{"1997-09-02", "FREQ=MONTHLY;INTERVAL=2;BYDAY=TU", "1997 Sep 2,9,16,23,30 Nov 4,11,18,25 1998 Jan 6,13,20,27 Mar 3,10,17,24,31", true},
		{"1997-06-10", "FREQ=YEARLY;COUNT=10;BYMONTH=6,7", "1997 Jun 10 Jul 10 1998 Jun 10 Jul 10 1999 Jun 10 Jul 10 2000 Jun 10 Jul 10 2001 Jun 10 Jul 10", false},
		{"1997-03-10", "FREQ=YEARLY;INTERVAL=2;COUNT=10;BYMONTH=1,2,3", "1997 Mar 10 1999 Jan 10 Feb 10 Mar 10 2001 Jan 10 Feb 10 Mar 10 2003 Jan 10 Feb 10 Mar 10", false},
		{"1997-01-01", "FREQ=YEARLY;INTERVAL=3;COUNT=10;BYYEARDAY=1,100,200", "1997 Jan 1 Apr 10 Jul 19 2000 Jan 1 Apr 9 Jul 18 2003 Jan 1 Apr 10 Jul 19 2006 Jan 1", false},
		{"1997-05-19", "FREQ=YEARLY;BYDAY=20MO", "1997 May 19 1998 May 18 1999 May 17", true},
		{"1997-05-12", "FREQ=YEARLY;BYWEEKNO=20;BYDAY=MO", "1997 May 12 1998 May 11 1999 May 17", true},
		{"1997-03-13", "FREQ=YEARLY;BYMONTH=3;BYDAY=TH", "1997 Mar 13,20,27 1998 Mar 5,12,19,26 1999 Mar 4,11,18,25", true},
		{"1997-06-05", "FREQ=YEARLY;BYDAY=TH;BYMONTH=6,7,8", "1997 Jun 5,12,19,26 Jul 3,10,17,24,31 Aug 7,14,21,28 1998 Jun 4,11,18,25 Jul 2,9,16,23,30 Aug 6,13,20,27", true},
		{"1997-09-02", "FREQ=MONTHLY;BYDAY=FR;BYMONTHDAY=13", "1998 Feb 13 Mar 13 Nov 13 1999 Aug 13 2000 Oct 13", true},
		{"1997-09-13", "FREQ=MONTHLY;BYDAY=SA;BYMONTHDAY=7,8,9,10,11,12,13", "1997 Sep 13 Oct 11 Nov 8 Dec 13 1998 Jan 10 Feb 7 Mar 7 Apr 11 May 9 Jun 13", true},
		{"1996-11-05", "FREQ=YEARLY;INTERVAL=4;BYMONTH=11;BYDAY=TU;BYMONTHDAY=2,3,4,5,6,7,8", "1996 Nov 5 2000 Nov 7 2004 Nov 2", true},
		{"1997-09-04", "FREQ=MONTHLY;COUNT=3;BYDAY=TU,WE,TH;BYSETPOS=3", "1997 Sep 4 Oct 7 Nov 6", false},
		{"1997-09-29", "FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-2", "1997 Sep 29 Oct 30 Nov 27 Dec 30 1998 Jan 29 Feb 26 Mar 30", true},
		{"1997-08-05", "FREQ=WEEKLY;INTERVAL=2;COUNT=4;BYDAY=TU,SU;WKST=MO", "1997 Aug 5,10,19,24", false},
		{"1997-08-05", "FREQ=WEEKLY;INTERVAL=2;COUNT=4;BYDAY=TU,SU;WKST=SU", "1997 Aug 5,17,19,31", false},
		{"2007-01-15", "FREQ=MONTHLY;BYMONTHDAY=15,30;COUNT=5", "2007 Jan 15,30 Feb 15 Mar 15,30", false},
	} {
		want := days(t, c.want)
		window := Window{ID: "w", Start: c.start + "T09:00:00", Timezone: "America/New_York", DurationS: 3600, RRule: c.rule}
		if strings.HasPrefix(c.want, "1998 Feb 13") {
			window.Exdates = []string{"1997-09-02T09:00:00"}
		}
		if got := starts(t, window, want[len(want)-1], c.endless); strings.Join(got, " ") != strings.Join(want, " ") {
			t.Errorf("%s from %s: %v\nwant %v", c.rule, c.start, got, want)
		}
	}
	for rule, want := range map[string][]string{ // on the clocks of the zone; the first as its erratum has it
		"FREQ=HOURLY;INTERVAL=3;UNTIL=19970902T210000Z":                      {"09:00", "12:00", "15:00"},
		"FREQ=DAILY;COUNT=24;BYHOUR=9,10,11,12,13,14,15,16;BYMINUTE=0,20,40": {"09:00", "09:20", "09:40", "10:00", "10:20", "10:40", "11:00", "11:20", "11:40", "12:00", "12:20", "12:40", "13:00", "13:20", "13:40", "14:00", "14:20", "14:40", "15:00", "15:20", "15:40", "16:00", "16:20", "16:40"},
	} {
		got := starts(t, Window{ID: "w", Start: "1997-09-02T09:00:00", Timezone: "America/New_York", DurationS: 60, RRule: rule}, "1997-09-02", true)
		for i, clock := range want {
			want[i] = strings.TrimSuffix("1997-09-02 "+clock, " 09:00")
		}
		if strings.Join(got, ", ") != strings.Join(want, ", ") {
			t.Errorf("%s: %v\nwant %v", rule, got, want)
		}
	}
	for _, rule := range []string{"FREQ=MINUTELY;INTERVAL=15;COUNT=6", "FREQ=MINUTELY;INTERVAL=90;COUNT=4", "FREQ=MINUTELY;INTERVAL=20;BYHOUR=9,10,11,12,13,14,15,16"} {
		if _, err := CompileWindow(Window{ID: "w", Start: "1997-09-02T09:00:00", Timezone: "America/New_York", DurationS: 60, RRule: rule}); err == nil {
			t.Errorf("%s is finer than hourly, and was taken", rule)
		}
	}
}

// starts are the days on which a window starts at nine, and otherwise the day and time;
// of a rule without end those up to a day.
func starts(t *testing.T, w Window, last string, endless bool) []string {
	t.Helper()
	compiled, err := CompileWindow(w)
	if err != nil {
		t.Fatalf("%s: %v", w.RRule, err)
	}
	zone, err := calendar.Zone(w.Timezone)
	if err != nil {
		t.Fatal(err)
	}
	end := span.Of(time.Date(2012, 1, 1, 0, 0, 0, 0, zone))
	if endless {
		day, err := time.ParseInLocation(time.DateOnly, last, zone)
		if err != nil {
			t.Fatal(err)
		}
		end = span.Of(day.AddDate(0, 0, 1))
	}
	list, err := compiled.Starts(span.Of(time.Date(1996, 1, 1, 0, 0, 0, 0, zone)), end)
	if err != nil {
		t.Fatalf("%s: %v", w.RRule, err)
	}
	var out []string
	for _, s := range list {
		out = append(out, strings.TrimSuffix(s.Time().In(zone).Format("2006-01-02 15:04"), " 09:00"))
	}
	return out
}

// days reads "1997 Sep 2,4 Oct 1-3".
func days(t *testing.T, text string) []string {
	t.Helper()
	var out []string
	year, month := "", ""
	for _, word := range strings.Fields(text) {
		switch {
		case len(word) == 4 && word[0] <= '2' && word[0] >= '1' && !strings.ContainsAny(word, ",-"):
			year = word
		case word[0] > '9':
			month = word
		default:
			for _, part := range strings.Split(word, ",") {
				from, to, ranged := strings.Cut(part, "-")
				if !ranged {
					to = from
				}
				day, err := time.Parse("2006 Jan 2", year+" "+month+" "+from)
				end, err2 := time.Parse("2006 Jan 2", year+" "+month+" "+to)
				if err != nil || err2 != nil {
					t.Fatalf("%q: %v, %v", text, err, err2)
				}
				for ; !day.After(end); day = day.AddDate(0, 0, 1) {
					out = append(out, day.Format(time.DateOnly))
				}
			}
		}
	}
	return out
}
