package notice

import (
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"kestite/core/definition"
	"kestite/core/incident"
	"kestite/core/span"
	"kestite/core/verdict"
)

func TestTexts(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	if err != nil {
		t.Fatal(err)
	}
	i := incident.Incident{ID: 12, Subject: incident.Subject{About: incident.Service, ID: "gates"}, BeganAt: start, KnownAt: start,
		State: verdict.Down, Worst: verdict.Down}
	end := start.Add(12 * minute)
	over := i
	over.EndedAt, over.State = &end, verdict.Up
	wrong := over
	wrong.Unfounded = true
	place := i
	place.Subject, place.State = incident.Subject{About: incident.Location, ID: "eskerby"}, verdict.Down
	promise := i
	promise.Subject = incident.Subject{About: incident.Agreement, ID: "gates"}
	for _, c := range []struct {
		what What
		i    incident.Incident
		want string
	}{
		{Begun, promise, "[critical] Allowance of Boarding gates low since 04:10 Europe/Oslo"},
		{Begun, i, "[critical] Boarding gates down since 04:10 Europe/Oslo"},
		{Again, i, "[critical] Still: Boarding gates down since 04:10 Europe/Oslo"},
		{Worse, i, "[critical] More severe: Boarding gates down since 04:10 Europe/Oslo"},
		{Reminder, i, "[critical] Acknowledged and not over: Boarding gates down since 04:10 Europe/Oslo"},
		{Found, i, "Cause known: Boarding gates"},
		{Clear, over, "Over: Boarding gates, since 04:22 Europe/Oslo"},
		{Clear, wrong, "Not so: Boarding gates"},
		{Begun, place, "[critical] Boarding gates silent since 04:10 Europe/Oslo"},
	} {
		s := Said{What: c.what, Incident: c.i, Name: "Boarding gates", Severity: "critical", Link: "https://kestite.example/incidents/12",
			Now: start.Add(20 * minute), Zone: oslo}
		if got := s.Subject(); got != c.want {
			t.Errorf("%s: %q, want %q", c.what, got, c.want)
		}
	}
	s := Said{What: Begun, Incident: i, Name: strings.Repeat("Gå ombord ", 80), Severity: "major", Headline: "It is down.", Zone: oslo,
		Detail: []string{"Needed by 3."}, Link: "https://kestite.example/incidents/12", Ack: "https://kestite.example/a/x", DueAt: start, Now: start.Add(90 * minute)}
	if short := s.Short(); utf8.RuneCountInString(short) > MostShort || !strings.HasSuffix(short, s.Ack) {
		t.Errorf("a text message of %d characters: %s", utf8.RuneCountInString(short), short)
	}
	if want := "It is down.\nNeeded by 3.\nThis message is late: it was due at 04:10 Europe/Oslo, 1 h 30 min ago.\n\nhttps://kestite.example/incidents/12\nAcknowledge it: https://kestite.example/a/x"; s.Text() != want {
		t.Errorf("%s\nwant %s", s.Text(), want)
	}
	s.Now = s.Now.Add(span.Day)
	if !strings.Contains(s.Subject(), "since 2 Nov 04:10 Europe/Oslo") {
		t.Errorf("a day later: %s", s.Subject())
	}
	for _, p := range definition.Placeholders {
		if _, has := s.Values()[p]; !has {
			t.Errorf("nothing stands for {%s}", p)
		}
	}
}

// A Sunday night at which the one on duty is active on weekdays only.
func TestRehearsal(t *testing.T) {
	office := &definition.WeeklyPlan{Timezone: "Europe/Oslo", Weekly: []definition.WeeklyRow{{Days: []string{"MO", "TU", "WE", "TH", "FR"}, From: "08:00", To: "16:00"}}}
	mail := func(id string, active *definition.WeeklyPlan) Person {
		return Person{ID: id, Name: id, Methods: []Method{{ID: id + "-mail", Kind: definition.Mail, Address: id + "@skerry.example", Verified: true, Active: active}}}
	}
	d := Directory{People: map[string]Person{"a": mail("a", office), "astrid": mail("astrid", office)},
		Pools: map[string]definition.PoolSpec{"gates": weekly("a")}}
	plans := []Plan{NewPlan("duty", twoSteps)}
	sunday := instant("2026-11-08T02:10:00Z")
	lines := Rehearse(plans, d, definition.Major, sunday, 30*minute, false)
	if len(lines) != 3 || lines[0].To.Pool != "gates" || lines[0].At != sunday.Add(2*minute) || lines[2].Nth != 1 {
		t.Errorf("a Sunday is rehearsed as %+v", lines)
	}
	if first, is := Reached(lines); !is || first != instant("2026-11-09T07:00:00Z") {
		t.Errorf("somebody is reached %v, at %s; want Monday at 08:00", is, first)
	}
	closed := twoSteps
	closed.Hours = office
	if lines := Rehearse([]Plan{NewPlan("office", closed)}, d, definition.Major, sunday, 30*minute, false); len(lines) != 1 ||
		lines[0].At != instant("2026-11-09T07:00:00Z") {
		t.Errorf("a plan that is closed on Sundays is rehearsed as %+v", lines)
	}
	week := span.Span{From: instant("2026-11-02T00:00:00Z"), To: instant("2026-11-09T00:00:00Z")}
	unheard := Unheard(plans, d, definition.Major, week)
	// Heard from 06:00 UTC, an hour before the office opens, to 15:00, on five days.
	if got, want := unheard.Length(), 7*span.Day-5*9*span.Hour; got != want {
		t.Errorf("nobody is reached for %s, want %s: %v", span.Words(got), span.Words(want), unheard)
	}
	d.People["astrid"] = mail("astrid", nil)
	if unheard := Unheard(plans, d, definition.Major, week); len(unheard) > 0 {
		t.Errorf("with one who is always active nobody is reached in %v", unheard)
	}
}
