package report

import (
	"fmt"

	"kestite/core/account"
	"kestite/core/calendar"
	"kestite/core/definition"
	"kestite/core/span"
)

// Line is one row of a statement: what stands on the page and in the document.
type Line struct {
	Name string `json:"name"`
	Text string `json:"text"`
}

// Statement is the statement of time: exact rows that add up, and figures that
// recompute from them.
type Statement struct {
	Time    []Line   `json:"time" doc:"The classes; they add up to the agreed time, and with the time outside to the calendar time"`
	Figures []Line   `json:"figures"`
	Notes   []string `json:"notes" doc:"How the availability follows, and days that are shorter or longer"`
}

// StatementOf makes the statement of a report. Times are exact; what is shown of
// an outage is rounded up to the second.
func StatementOf(c Content) Statement {
	a, t := c.Account, c.Account.TotalMS
	exact := func(name string, ms int64) Line { return Line{name, span.Exact(ms)} }
	percent := func(name, p string) Line { return Line{name, p + " %"} }
	out := Statement{
		Time: []Line{
			exact("Calendar time of the period", t.Period), exact("Outside service hours", t.Outside), exact("Agreed time", t.Agreed),
			exact("Up", t.Up), exact("Degraded", t.Degraded), exact("Down", t.Down), exact("Tolerated", t.Tolerated),
			exact("Maintenance", t.Maintenance), exact("Upstream", t.Upstream), exact("Excused", t.Excused), exact("Unmeasured", t.Unmeasured),
		},
		Figures: []Line{
			percent("Availability", or(a.AvailabilityPercent)), percent("Target", c.Target), {"Verdict", string(a.Verdict)},
			exact("Base", a.BaseMS), exact("Downtime", a.DowntimeMS), exact("Allowance", a.AllowanceMS), exact("Allowance left", a.AllowanceLeftMS),
			{"Outages", fmt.Sprint(a.Outages.Count)}, {"Longest outage", span.WordsUp(a.Outages.LongestMS)}, percent("Coverage", a.CoveragePercent), percent("Credit", a.CreditPercent),
		},
		Notes: []string{"Availability is (base − downtime) / base, truncated to four decimals. " + downtimeNote(c)},
	}
	out.Figures = append(out.Figures, besides(a)...)
	out.Notes = append(out.Notes, clockNotes(a, c.Timezone)...)
	return out
}

// besides are the promises beside availability, each with how it fared.
func besides(a account.Account) []Line {
	met := func(m *bool) string {
		switch {
		case m == nil:
			return "not known"
		case *m:
			return "met"
		}
		return "missed"
	}
	var out []Line
	if l := a.Latency; l != nil {
		out = append(out, Line{"Answers in time", fmt.Sprintf("%s %% of %d (%s)", or(l.Percent), l.Measurements, met(l.Met))})
	}
	o := a.Objectives
	if o == nil {
		return out
	}
	if c := o.OutagesAtMost; c != nil {
		out = append(out, Line{"Number of outages", fmt.Sprintf("%d of at most %d (%s)", c.Value, c.Limit, met(c.Met))})
	}
	for _, l := range []struct {
		name string
		of   *account.LengthMet
	}{{"Longest of them", o.LongestOutage}, {"Mean time to restore", o.MTTR}} {
		if l.of != nil {
			out = append(out, Line{l.name, fmt.Sprintf("%s of at most %s (%s)", span.WordsUp(l.of.ValueMS),
				span.Words(l.of.Limit*span.Second), met(l.of.Met))})
		}
	}
	return out
}

// downtimeNote says what downtime is made of, with the weight of degraded time.
func downtimeNote(c Content) string {
	text := "Downtime is down"
	if w := c.DegradedWeight; w != "" && w != "0" {
		text += fmt.Sprintf(" + %s %% of degraded", w)
	}
	if c.Unmeasured == definition.UnmeasuredDown {
		text += " + unmeasured"
	}
	base := "; the base is agreed time − upstream − excused"
	if c.Maintenance == definition.MaintenanceExclude {
		base += " − maintenance"
	}
	if c.Unmeasured == definition.UnmeasuredExclude || c.Unmeasured == "" {
		base += " − unmeasured"
	}
	return text + base + "."
}

// clockNotes name the days of a period that are not 24 hours long.
func clockNotes(a account.Account, zone string) []string {
	loc, err := calendar.Zone(zone)
	if err != nil {
		return nil
	}
	var out []string
	for day := calendar.WallAt(a.From, loc); day.Instant(loc, calendar.Shift) < a.To; day = day.AddDays(1) {
		from, to := day.Instant(loc, calendar.Shift), day.AddDays(1).Instant(loc, calendar.Shift)
		if length := int64(to - from); length != span.Day {
			out = append(out, fmt.Sprintf("The clocks change on %s (%s): that day is %s long.", from.Time().In(loc).Format("2 January 2006"), zone, span.Words(length)))
		}
	}
	return out
}
