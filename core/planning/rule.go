package planning

import (
	"fmt"
	"slices"
	"strings"

	"kestite/core/definition"
	"kestite/core/span"
)

var dayNames = map[string]string{"MO": "Monday", "TU": "Tuesday", "WE": "Wednesday", "TH": "Thursday", "FR": "Friday", "SA": "Saturday", "SU": "Sunday"}

var ordinals = map[string]string{"1": "first", "2": "second", "3": "third", "4": "fourth", "-1": "last"}

// When says when a window is, as people would: "every 2 weeks on Thursday at 02:00 for
// 45 min". A rule that has no such words is said as it is written.
func When(w definition.WindowSpec) string {
	day, clock, _ := strings.Cut(w.Start, "T")
	clock = strings.TrimSuffix(clock, ":00")
	lasts := " for " + span.Words(w.DurationS*span.Second)
	if w.RRule == "" {
		return "once, on " + day + " at " + clock + lasts
	}
	if every := everyWords(w.RRule); every != "" {
		return every + " at " + clock + lasts
	}
	return "by the rule " + w.RRule + ", from " + day + " at " + clock + lasts
}

// everyWords says how often a rule is; empty where it has no plain words.
func everyWords(rule string) string {
	parts := map[string]string{}
	for _, p := range strings.Split(strings.ToUpper(rule), ";") {
		name, value, _ := strings.Cut(p, "=")
		parts[name] = value
	}
	take := func(name string) string {
		v := parts[name]
		delete(parts, name)
		return v
	}
	unit := map[string]string{"DAILY": "day", "WEEKLY": "week", "MONTHLY": "month", "YEARLY": "year"}[take("FREQ")]
	if unit == "" {
		return ""
	}
	out := "every " + unit
	if n := take("INTERVAL"); n != "" && n != "1" {
		out = "every " + n + " " + unit + "s"
	}
	delete(parts, "WKST")
	if days := take("BYDAY"); days != "" {
		on := onDays(days, unit, take("BYSETPOS"))
		if on == "" {
			return ""
		}
		out += on
	} else if day := parts["BYMONTHDAY"]; day != "" && unit == "month" && !strings.ContainsAny(day, ",-") {
		out += " on day " + take("BYMONTHDAY")
	}
	switch until, count := take("UNTIL"), take("COUNT"); {
	case len(until) >= 8:
		out += fmt.Sprintf(" until %s-%s-%s", until[:4], until[4:6], until[6:8])
	case count != "":
		out += ", " + count + " times,"
	}
	if len(parts) > 0 {
		return ""
	}
	return out
}

// onDays says which days of a unit; empty where there are no plain words for it.
func onDays(days, unit, position string) string {
	list := strings.Split(days, ",")
	var names []string
	for _, d := range list {
		nth, day := strings.TrimPrefix(d[:max(0, len(d)-2)], "+"), d[max(0, len(d)-2):]
		name := dayNames[day]
		switch {
		case name == "":
			return ""
		case nth == "":
			names = append(names, name)
		case ordinals[nth] != "" && unit == "month" && position == "":
			names = append(names, "the "+ordinals[nth]+" "+name)
		default:
			return ""
		}
	}
	if position != "" {
		if unit != "month" || len(names) != 1 || ordinals[position] == "" {
			return ""
		}
		return " on the " + ordinals[position] + " " + names[0]
	}
	if unit == "week" && slices.Equal(list, []string{"MO", "TU", "WE", "TH", "FR"}) {
		return " on weekdays"
	}
	if len(names) > 1 {
		return " on " + strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
	}
	return " on " + names[0]
}
