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
			exact(label("line.period"), t.Period), exact(label("line.outside"), t.Outside), exact(label("line.agreed"), t.Agreed),
			exact(label("line.up"), t.Up), exact(label("line.degraded"), t.Degraded), exact(label("line.down"), t.Down), exact(label("line.tolerated"), t.Tolerated),
			exact(label("line.maintenance"), t.Maintenance), exact(label("line.upstream"), t.Upstream), exact(label("line.excused"), t.Excused), exact(label("line.unmeasured"), t.Unmeasured),
		},
		Figures: []Line{
			percent(label("line.availability"), or(a.AvailabilityPercent)), percent(label("line.target"), c.Target), {label("line.verdict"), string(a.Verdict)},
			exact(label("line.base"), a.BaseMS), exact(label("line.downtime"), a.DowntimeMS), exact(label("line.allowance"), a.AllowanceMS), exact(label("line.left"), a.AllowanceMS-a.DowntimeMS),
			{label("line.outages"), fmt.Sprint(a.Outages.Count)}, {label("line.longest"), span.WordsUp(a.Outages.LongestMS)}, percent(label("line.coverage"), a.CoveragePercent), percent(label("line.credit"), a.CreditPercent),
		},
		Notes: []string{label("note.availability") + " " + downtimeNote(c)},
	}
	out.Figures = append(out.Figures, besides(a)...)
	out.Notes = append(out.Notes, clockNotes(a, c.Timezone)...)
	return out
}

// metWord says how a promise fared; nil: it is not known.
func metWord(m *bool) string {
	switch {
	case m == nil:
		return label("objective.unknown")
	case *m:
		return label("objective.met")
	}
	return label("objective.missed")
}

// besides are the promises beside availability, each with how it fared.
func besides(a account.Account) []Line {
	var out []Line
	if l := a.Latency; l != nil {
		out = append(out, Line{label("line.answers"), label("line.answers.value", or(l.Percent), l.Measurements, metWord(l.Met))})
	}
	o := a.Objectives
	if o == nil {
		return out
	}
	if c := o.OutagesAtMost; c != nil {
		out = append(out, Line{label("line.number"), label("line.number.value", c.Value, c.Limit, metWord(c.Met))})
	}
	for _, l := range []struct {
		name string
		of   *account.LengthMet
	}{{label("line.longest_of"), o.LongestOutage}, {label("line.mttr"), o.MTTR}} {
		if l.of != nil {
			out = append(out, Line{l.name, label("line.length.value", lengthOf(l.of), span.Words(l.of.Limit*span.Second), metWord(l.of.Met))})
		}
	}
	return out
}

// downtimeNote says what downtime is made of, with the weight of degraded time.
func downtimeNote(c Content) string {
	text := label("note.downtime")
	if w := c.DegradedWeight; w != "" && w != "0" {
		text += label("note.downtime.degraded", w)
	}
	if c.Unmeasured == definition.UnmeasuredDown {
		text += label("note.downtime.unmeasured")
	}
	base := label("note.base")
	if c.Maintenance == definition.MaintenanceExclude {
		base += label("note.base.maintenance")
	}
	if c.Unmeasured == definition.UnmeasuredExclude || c.Unmeasured == "" {
		base += label("note.base.unmeasured")
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
			out = append(out, label("note.clocks", from.Time().In(loc).Format("2 January 2006"), zone, span.Words(length)))
		}
	}
	return out
}
