package planning_test

import (
	"testing"

	"kestite/core/definition"
	"kestite/core/planning"
)

func TestWhenAWindowIsInWords(t *testing.T) {
	for rule, want := range map[string]string{
		"":                                    "once, on 2026-03-02 at 18:30 for 9 h",
		"FREQ=DAILY":                          "every day at 18:30 for 9 h",
		"FREQ=WEEKLY;INTERVAL=2;BYDAY=TH":     "every 2 weeks on Thursday at 18:30 for 9 h",
		"FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR":    "every week on weekdays at 18:30 for 9 h",
		"FREQ=WEEKLY;BYDAY=SA,SU;WKST=MO":     "every week on Saturday and Sunday at 18:30 for 9 h",
		"FREQ=MONTHLY;BYDAY=1MO":              "every month on the first Monday at 18:30 for 9 h",
		"FREQ=MONTHLY;BYDAY=FR;BYSETPOS=-1":   "every month on the last Friday at 18:30 for 9 h",
		"FREQ=MONTHLY;BYMONTHDAY=15":          "every month on day 15 at 18:30 for 9 h",
		"FREQ=DAILY;UNTIL=20261231T235959":    "every day until 2026-12-31 at 18:30 for 9 h",
		"FREQ=DAILY;COUNT=5":                  "every day, 5 times, at 18:30 for 9 h",
		"FREQ=YEARLY;BYMONTH=4;BYDAY=SU":      "by the rule FREQ=YEARLY;BYMONTH=4;BYDAY=SU, from 2026-03-02 at 18:30 for 9 h",
		"FREQ=MONTHLY;BYDAY=MO;BYSETPOS=5":    "by the rule FREQ=MONTHLY;BYDAY=MO;BYSETPOS=5, from 2026-03-02 at 18:30 for 9 h",
		"FREQ=HOURLY;INTERVAL=6":              "by the rule FREQ=HOURLY;INTERVAL=6, from 2026-03-02 at 18:30 for 9 h",
		"FREQ=MONTHLY;BYMONTHDAY=-1":          "by the rule FREQ=MONTHLY;BYMONTHDAY=-1, from 2026-03-02 at 18:30 for 9 h",
		"FREQ=WEEKLY;BYDAY=":                  "every week at 18:30 for 9 h",
		"FREQ=WEEKLY;BYDAY=X":                 "by the rule FREQ=WEEKLY;BYDAY=X, from 2026-03-02 at 18:30 for 9 h",
		"FREQ=MONTHLY;BYDAY=MO,TU;BYSETPOS=1": "by the rule FREQ=MONTHLY;BYDAY=MO,TU;BYSETPOS=1, from 2026-03-02 at 18:30 for 9 h",
	} {
		w := definition.WindowSpec{Start: "2026-03-02T18:30:00", DurationS: 9 * 3600, RRule: rule}
		if got := planning.When(w); got != want {
			t.Errorf("%q: %s", rule, got)
		}
	}
}
