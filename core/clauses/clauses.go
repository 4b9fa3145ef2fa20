// Package clauses says what was promised in words: the sentences that a contract
// would have, one for each clause, and all of them.
package clauses

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"kestite/core/calendar"
	"kestite/core/definition"
	"kestite/core/span"
)

// Sentences say what was promised, each clause, as a contract would. named gives
// the name of a customer, service or check by its id.
func Sentences(a definition.AgreementSpec, named func(kind, id string) string) []string {
	whom := "Internal target"
	if a.Customer != "" {
		whom = "Promised to " + named("customer", a.Customer)
	}
	out := []string{fmt.Sprintf("%s: available %s %% of each %s (%s), %s.", whom, a.TargetPercent, cycleWords(a.Period), a.Timezone,
		hoursWords(a.ServiceHours, named))}
	if a.Contract != "" {
		out = append(out, "It is a part of the contract "+named("contract", a.Contract)+".")
	}
	if a.From != "" {
		out = append(out, "The promise begins with "+day(a.From)+".")
	}
	if a.Until != "" {
		out = append(out, "The promise ends with "+day(a.Until)+".")
	}
	if w := a.DegradedWeightPercent; w != "" && w != "0" {
		out = append(out, fmt.Sprintf("Degraded time counts as downtime to %s %%.", w))
	} else {
		out = append(out, "Degraded time counts as available.")
	}
	out = append(out, unmeasuredWords(a.Unmeasured))
	if a.Maintenance != nil {
		out = append(out, maintenanceWords(*a.Maintenance, unitWord(a.Period), named)...)
	}
	if a.MinOutageS > 0 {
		out = append(out, fmt.Sprintf("Outages shorter than %s are tolerated.", seconds(a.MinOutageS)))
	}
	if u := a.Upstream; u != nil && len(u.Excuse) > 0 {
		out = append(out, upstreamWords(*u, named))
	}
	if c := a.MinCoveragePercent; c != "" && c != "0" {
		out = append(out, fmt.Sprintf("Below a coverage of %s %% there is no verdict.", c))
	}
	if a.Fee != nil {
		out = append(out, fmt.Sprintf("The fee is %s %s a %s.", a.Fee.Amount, a.Fee.Currency, unitWord(a.Period)))
	}
	if len(a.Credits) > 0 {
		out = append(out, creditWords(a.Credits))
	}
	if l := a.Latency; l != nil {
		out = append(out, fmt.Sprintf("Beside that: %s %% of the answers to %s come within %s ms.", l.TargetPercent,
			named("check", l.Check), trimmed(l.LimitMS)))
	}
	return append(out, objectiveWords(a.Objectives, unitWord(a.Period))...)
}

// day writes a date as a sentence does; what is no date as it stands.
func day(date string) string {
	t, err := time.Parse(time.DateOnly, date)
	if err != nil {
		return date
	}
	return t.Format("2 January 2006")
}

// cycleWords say what is accounted at a time.
func cycleWords(c *definition.Cycle) string {
	if c == nil || c.Unit == calendar.Month && (c.Day == 0 || c.Day == 1) {
		return "calendar month"
	}
	from := ""
	switch {
	case c.Day == calendar.LastDay:
		from = "the last day"
	case c.Day > 1:
		from = fmt.Sprintf("day %d", c.Day)
	}
	switch {
	case c.Unit == calendar.Week:
		return "week from " + dayNames[cmp.Or(c.Weekday, "MO")] + " on"
	case c.Unit == calendar.Month:
		return "month from " + from + " on"
	case c.Month <= 1 && from == "":
		return "calendar " + string(c.Unit)
	}
	month := time.Month(max(1, c.Month)).String()
	if from != "" {
		month = from + " of " + month
	}
	if c.Unit == calendar.Year {
		return "year from " + month + " on"
	}
	return string(c.Unit) + ", counted from " + month
}

// unitWord is the unit of a cycle as a word.
func unitWord(c *definition.Cycle) string {
	if c == nil {
		return string(calendar.Month)
	}
	return string(c.Unit)
}

func seconds(s int64) string { return span.Words(s * span.Second) }

func trimmed(v float64) string {
	return strings.TrimSuffix(strings.TrimRight(fmt.Sprintf("%.3f", v), "0"), ".")
}

var dayNames = map[string]string{"MO": "Monday", "TU": "Tuesday", "WE": "Wednesday", "TH": "Thursday", "FR": "Friday",
	"SA": "Saturday", "SU": "Sunday"}

// hoursWords are service hours in full.
func hoursWords(p *definition.HoursSpec, named func(kind, id string) string) string {
	if p == nil {
		return "at all hours"
	}
	var rows []string
	for _, r := range p.Weekly {
		var days []string
		for _, d := range r.Days {
			days = append(days, dayNames[d])
		}
		rows = append(rows, fmt.Sprintf("on %s from %s to %s", listed(days), r.From, r.To))
	}
	text := strings.Join(rows, ", ")
	if len(rows) == 0 {
		text = "never"
	}
	text += " (" + p.Timezone + ")"
	var except []string
	for _, list := range p.HolidayLists {
		except = append(except, "the days of "+named("holiday-list", list))
	}
	if except = append(except, p.Holidays...); len(except) > 0 {
		text += ", except on " + listed(except)
	}
	return text
}

func listed(list []string) string {
	if len(list) < 2 {
		return strings.Join(list, "")
	}
	return strings.Join(list[:len(list)-1], ", ") + " and " + list[len(list)-1]
}

func unmeasuredWords(how string) string {
	switch how {
	case definition.UnmeasuredDown:
		return "Time that was not measured counts as downtime."
	case definition.UnmeasuredUp:
		return "Time that was not measured stays in the base and is no downtime."
	}
	return "Time that was not measured is taken out of the base."
}

// maintenanceWords are what is granted of work.
func maintenanceWords(m definition.MaintenanceSpec, each string, named func(kind, id string) string) []string {
	what := map[string]string{
		definition.MaintenanceExclude: "%s is taken out of the base", definition.MaintenanceForgive: "Downtime during %s is forgiven",
	}[m.Mode]
	if what == "" {
		return nil
	}
	say := func(work string, notice int64, most *int64, within string) string {
		text := fmt.Sprintf(what, work)
		if notice > 0 {
			text += ", if announced " + seconds(notice) + " before"
		}
		if within != "" {
			text += ", if it lies " + within
		}
		if most != nil {
			text += ", up to " + seconds(*most) + " a " + each
		}
		return strings.ToUpper(text[:1]) + text[1:] + "."
	}
	within := ""
	if m.Within != nil {
		within = hoursWords(m.Within, named)
	}
	out := []string{say("announced maintenance", m.NoticeS, m.CapS, within)}
	if e := m.Emergency; e != nil {
		out = append(out, say("emergency work", e.NoticeS, e.CapS, ""))
	}
	return out
}

func upstreamWords(u definition.Upstream, named func(kind, id string) string) string {
	var names []string
	for _, id := range u.Excuse {
		names = append(names, named("service", id))
	}
	text := "Downtime while " + listed(names) + " is down"
	if len(names) > 1 {
		text = "Downtime while one of " + listed(names) + " is down"
	}
	if u.LeadS > 0 {
		text += ", or within " + seconds(u.LeadS) + " before"
	}
	if u.LingerS > 0 {
		text += ", or within " + seconds(u.LingerS) + " after"
	}
	return text + ", does not count."
}

// Terms say what limits credits under a contract.
func Terms(t definition.CreditTerms) []string {
	var out []string
	if t.PeriodPercent != "" {
		out = append(out, fmt.Sprintf("The credits of a period are at most %s %% of the fees of the contract for it.", t.PeriodPercent))
	}
	if t.YearAmount != "" {
		from := "1 January"
		if day, err := time.Parse(definition.MonthDay, t.YearStarts); err == nil {
			from = day.Format("2 January")
		}
		out = append(out, fmt.Sprintf("The credits of a contract year, from %s on, are at most %s %s.", from, t.YearAmount, t.Currency))
	}
	if t.ClaimDays > 0 {
		out = append(out, fmt.Sprintf("A credit is claimed within %d days of its report.", t.ClaimDays))
	}
	return out
}

func creditWords(bands []definition.Credit) string {
	var list []string
	for _, c := range slices.Clone(bands) {
		list = append(list, fmt.Sprintf("%s %% below %s %%", c.CreditPercent, c.BelowPercent))
	}
	return "Where it is missed, the credit is " + listed(list) + "."
}

func objectiveWords(o *definition.Objectives, each string) []string {
	if !o.Any() {
		return nil
	}
	var list []string
	if o.OutagesAtMost != nil {
		list = append(list, fmt.Sprintf("at most %d outages a %s", *o.OutagesAtMost, each))
	}
	if o.LongestOutageS != nil {
		list = append(list, "none longer than "+seconds(*o.LongestOutageS))
	}
	if o.MTTRS != nil {
		list = append(list, "restored within "+seconds(*o.MTTRS)+" on average")
	}
	return []string{"Beside that, and without effect on the verdict: " + listed(list) + "."}
}
