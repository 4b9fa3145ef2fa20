package incident_test

import (
	"errors"
	"strings"
	"testing"

	"kestite/core/definition"
	"kestite/core/incident"
	"kestite/core/span"
	"kestite/core/verdict"
)

func at(i span.Instant) *span.Instant { return &i }

func TestWhatPeopleMayNotDo(t *testing.T) {
	now := 100 * minute
	open := incident.Incident{ID: 1, Subject: gates, State: verdict.Down, BeganAt: 90 * minute}
	over := open
	over.ResolvedAt, over.EndedAt, over.State = at(95*minute), at(95*minute), verdict.Up
	hers := open
	hers.Acknowledged = &incident.Acknowledgement{By: "astrid", At: 91 * minute}
	reviewed := over
	reviewed.Review = &incident.Review{By: "astrid", At: 96 * minute, Class: "power", Cause: "A fuse."}
	for name, c := range map[string]struct {
		do   func() (incident.Changed, error)
		path string // of the fault; "": a conflict
	}{
		"acknowledge what is over":     {func() (incident.Changed, error) { return over.Acknowledge("runa", now, nil, false) }, ""},
		"acknowledge another's":        {func() (incident.Changed, error) { return hers.Acknowledge("runa", now, nil, false) }, ""},
		"until a time that has passed": {func() (incident.Changed, error) { return open.Acknowledge("runa", now, at(now), false) }, "until"},
		"until the end of the world": {func() (incident.Changed, error) { return open.Acknowledge("runa", now, at(span.End), false) },
			"until"},
		"release what nobody has": {func() (incident.Changed, error) { return open.Release("runa", now) }, ""},
		"an empty note":           {func() (incident.Changed, error) { return open.Note("runa", now, " \n", false) }, "text"},
		"a note of bytes":         {func() (incident.Changed, error) { return open.Note("runa", now, "a\xff", false) }, "text"},
		"a note with a NUL":       {func() (incident.Changed, error) { return open.Note("runa", now, "a\x00b", false) }, "text"},
		"a book": {func() (incident.Changed, error) { return open.Note("runa", now, strings.Repeat("ø", 5001), false) },
			"text"},
		"a severity that is none":      {func() (incident.Changed, error) { return open.Rate("runa", now, "none") }, "severity"},
		"resolve without a reason":     {func() (incident.Changed, error) { return open.Resolve("runa", now, "") }, "note"},
		"resolve twice":                {func() (incident.Changed, error) { return over.Resolve("runa", now, "x") }, ""},
		"open what was over by itself": {func() (incident.Changed, error) { return over.Open("runa", now) }, ""},
		"review what lasts":            {func() (incident.Changed, error) { return open.Record("runa", now, "power", "A fuse.", "", nil) }, ""},
		"review over another's": {func() (incident.Changed, error) { return reviewed.Record("runa", now, "power", "A fuse.", "", nil) },
			""},
		"review over what is not there": {func() (incident.Changed, error) { return over.Record("runa", now, "power", "A fuse.", "", at(1)) },
			""},
		"a class that is none": {func() (incident.Changed, error) { return over.Record("runa", now, "magic", "A fuse.", "", nil) },
			"class"},
		"a review without a cause": {func() (incident.Changed, error) { return over.Record("runa", now, "power", "", "", nil) }, "cause"},
		"a link that runs": {func() (incident.Changed, error) { return open.Link("runa", now, "javascript:alert(1)", "") },
			"address"},
		"a link without a host": {func() (incident.Changed, error) { return open.Link("runa", now, "https://", "") }, "address"},
		"under itself":          {func() (incident.Changed, error) { return open.Under("runa", now, open) }, "cause"},
		"apart from nothing":    {func() (incident.Changed, error) { return open.Apart("runa", now) }, ""},
	} {
		_, err := c.do()
		var fault *definition.Fault
		var conflict *incident.Conflict
		switch {
		case c.path == "" && !errors.As(err, &conflict):
			t.Errorf("%s: %v, not a conflict", name, err)
		case c.path != "" && (!errors.As(err, &fault) || fault.Path != c.path):
			t.Errorf("%s: %v, not a fault of %s", name, err, c.path)
		}
	}
}

func TestAcknowledgementsLapse(t *testing.T) {
	open := incident.Incident{ID: 1, Subject: gates, State: verdict.Down}
	c, err := open.Acknowledge("astrid", 10*minute, at(20*minute), false)
	if err != nil {
		t.Fatal(err)
	}
	if p := c.Phase(19 * minute); p != incident.Acknowledged {
		t.Errorf("before it lapses: %s", p)
	}
	if p := c.Phase(20 * minute); p != incident.Open {
		t.Errorf("after it lapsed: %s", p)
	}
	if _, err := c.Acknowledge("runa", 21*minute, nil, false); err != nil {
		t.Errorf("nobody is on it any more: %v", err)
	}
	if taken, err := c.Acknowledge("runa", 12*minute, nil, true); err != nil || taken.Acknowledged.By != "runa" {
		t.Errorf("taken over: %+v, %v", taken, err)
	}
}

func TestAChosenSeverityStays(t *testing.T) {
	list := kept(nil, incident.Follow(gates, nil, line(step{10, verdict.Degraded}), 11*minute, ordinary))
	c, err := list[0].Rate("astrid", 12*minute, "major")
	if err != nil {
		t.Fatal(err)
	}
	list = kept(list, []incident.Changed{c})
	list = kept(list, incident.Follow(gates, list, line(step{10, verdict.Degraded}, step{13, verdict.Down}), 14*minute, ordinary))
	if list[0].Severity != "major" || list[0].State != verdict.Down {
		t.Errorf("%+v", list[0])
	}
}

func TestHeadlines(t *testing.T) {
	base := incident.Incident{Subject: gates, BeganAt: 10 * minute, Times: 1, State: verdict.Down, Worst: verdict.Down}
	with := func(change func(*incident.Incident)) incident.Incident {
		i := base
		change(&i)
		return i
	}
	for _, c := range []struct {
		i      incident.Incident
		follow []string
		want   string
	}{
		{base, nil, "Gates has been down for 14 min."},
		{base, []string{"Check-in"}, "Gates has been down for 14 min. Check-in follows from it."},
		{base, []string{"A", "B"}, "Gates has been down for 14 min. A and B follow from it."},
		{base, []string{"A", "B", "C", "D", "E"}, "Gates has been down for 14 min. A, B and 3 more follow from it."},
		{with(func(i *incident.Incident) { i.Times = 3 }), nil, "Gates has been down for 14 min, with breaks: it began 3 times."},
		{with(func(i *incident.Incident) { i.State = verdict.Unmeasured }), nil, "Gates was down; it cannot be measured now."},
		{with(func(i *incident.Incident) { i.State, i.EndedAt = verdict.Up, at(12*minute) }), nil, "Gates was down for 2 min."},
		{with(func(i *incident.Incident) { i.Unfounded = true }), nil, "Gates seemed to be in trouble; it was not."},
		{with(func(i *incident.Incident) { i.About = incident.Location }), nil, "Nothing has come from Gates for 14 min."},
	} {
		if got := c.i.Headline("Gates", c.follow, 24*minute); got != c.want {
			t.Errorf("%q, not %q", got, c.want)
		}
	}
}

func TestWhenAnAllowanceEnds(t *testing.T) {
	hours := span.Set{{From: 0, To: 60 * minute}, {From: 120 * minute, To: 180 * minute}}
	for _, c := range []struct {
		from span.Instant
		left int64
		want span.Instant
		is   bool
	}{
		{30 * minute, 10 * span.Minute, 40 * minute, true},
		{30 * minute, 30 * span.Minute, 60 * minute, true},
		{30 * minute, 40 * span.Minute, 130 * minute, true},
		{70 * minute, 5 * span.Minute, 125 * minute, true},
		{30 * minute, 0, 30 * minute, true},
		{30 * minute, 91 * span.Minute, 0, false},
	} {
		if got, is := incident.Exhausted(hours, c.from, c.left); got != c.want || is != c.is {
			t.Errorf("from %s, %d left: %s, %v", c.from, c.left, got, is)
		}
	}
}
