package api_test

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"kestite/core/access"
	"kestite/core/calendar"
	"kestite/core/definition"
	"kestite/server/api"
	"kestite/server/servertest"
	"kestite/server/store/storetest"
)

// planned is a window on the service of a fixture that starts so long from now.
func (f *fixture) planned(in time.Duration, lasts int64, services ...string) definition.WindowSpec {
	if len(services) == 0 {
		services = []string{f.service}
	}
	return definition.WindowSpec{Name: "New displays", Services: services, Timezone: "UTC", DurationS: lasts,
		Start: calendar.WallOf(storetest.Now().UTC().Add(in).Truncate(time.Minute)).String()}
}

func (f *fixture) as(t *testing.T, role access.Role) *servertest.Client {
	return servertest.As(t, f.srv, f.url, role)
}

// What is planned is previewed, saved, shown, moved, skipped and ended, each time with
// what it does to the agreement, and by who may.
func TestPlanningWork(t *testing.T) {
	f := setUp(t)
	var agreement struct{ ID string }
	f.manager.Must(http.MethodPost, "/agreements", map[string]any{"spec": definition.AgreementSpec{Name: "Gold", Service: f.service, TargetPercent: "10", Timezone: "UTC",
		Maintenance: &definition.MaintenanceSpec{Mode: "forgive", NoticeS: 86_400}}}, &agreement)
	operator, viewer := f.as(t, access.Operator), f.as(t, access.Viewer)

	late := f.planned(2*time.Hour, 3600)
	var would api.WorkView
	operator.Must(http.MethodPost, "/windows/preview", api.WorkAsk{Spec: late}, &would)
	if len(would.Effects) != 1 || would.Effects[0].Mark != "notice broken" || would.Effects[0].DowntimeMS != 3_600_000 || would.Effects[0].GrantedMS != 0 ||
		!strings.Contains(would.Effects[0].Why[0], "24 h before is asked") {
		t.Errorf("announced too late, it does %+v", would.Effects)
	}
	if len(would.Occurrences) != 1 || would.Revision != 1 {
		t.Errorf("it would be %+v", would)
	}
	kept := f.planned(30*time.Hour, 3600)
	operator.Must(http.MethodPost, "/windows/preview", api.WorkAsk{Spec: kept}, &would)
	if len(would.Effects) != 1 || would.Effects[0].Mark != "granted" || would.Effects[0].Tone != "calm" || would.Effects[0].LeftAfterMS != would.Effects[0].LeftMS {
		t.Errorf("announced in time, it does %+v", would.Effects)
	}
	var windows struct{ Items []any }
	operator.Must(http.MethodGet, "/windows", nil, &windows)
	if len(windows.Items) != 0 {
		t.Fatalf("a preview made %v", windows.Items)
	}

	daily := kept
	daily.RRule = "FREQ=DAILY;COUNT=3"
	var made struct{ ID string }
	operator.Must(http.MethodPost, "/windows", map[string]any{"spec": daily}, &made)
	shown := func() (out []api.CalendarWork) {
		t.Helper()
		var c api.CalendarView
		viewer.Must(http.MethodGet, "/calendar?days=10", nil, &c)
		for _, l := range c.Lanes {
			if l.Service == f.service {
				out = append(out, l.Work...)
			}
		}
		return out
	}
	list := shown()
	if len(list) != 3 || list[0].GrantedMS != 3_600_000 || list[0].DowntimeMS != 0 || list[0].Words != "every day, 3 times, at "+kept.Start[11:16]+" for 1 h" {
		t.Fatalf("the calendar has %+v", list)
	}
	path, revision := "/windows/"+made.ID+"/occurrence", 1
	change := func(ask api.OccurrenceAsk) servertest.Answer {
		ask.Revision = revision
		return operator.Do(http.MethodPost, path, ask)
	}
	for what, x := range map[string]struct {
		ask  api.OccurrenceAsk
		says string
	}{
		"at no start of it":           {api.OccurrenceAsk{Does: "move", At: "2001-01-01T00:00:00", Start: kept.Start}, `body.at`},
		"at no time":                  {api.OccurrenceAsk{Does: "skip", At: "tomorrow"}, "at"},
		"moved nowhere":               {api.OccurrenceAsk{Does: "move", At: list[1].At}, "give it another start"},
		"moved to no time":            {api.OccurrenceAsk{Does: "move", At: list[1].At, Start: "noon"}, "start"},
		"made longer than a month":    {api.OccurrenceAsk{Does: "move", At: list[1].At, DurationS: 4_000_000}, "duration_s"},
		"ended before it runs":        {api.OccurrenceAsk{Does: "end", At: list[1].At}, "does not run now"},
		"with a byte that is no text": {api.OccurrenceAsk{Does: "skip", At: list[1].At, Reason: "a\x00b"}, "reason"},
	} {
		if a := change(x.ask); a.Status != http.StatusUnprocessableEntity || !strings.Contains(string(a.Body), x.says) {
			t.Errorf("%s: %s", what, a)
		}
	}
	if a := viewer.Do(http.MethodPost, path, api.OccurrenceAsk{Does: "skip", At: list[1].At, Revision: 1}); a.Status != http.StatusForbidden {
		t.Errorf("a viewer who skips work: %s", a)
	}
	if a := change(api.OccurrenceAsk{Does: "move", At: list[1].At, DurationS: 7200, Preview: true}); a.Status != http.StatusOK || shown()[1].Changed {
		t.Errorf("a preview of a move: %s", a)
	}
	if a := change(api.OccurrenceAsk{Does: "move", At: list[1].At, DurationS: 7200}); a.Status != http.StatusOK {
		t.Fatal(a)
	}
	if a := change(api.OccurrenceAsk{Does: "skip", At: list[2].At}); a.Status != http.StatusConflict {
		t.Errorf("on a revision that is over: %s", a)
	}
	revision = 2
	if a := change(api.OccurrenceAsk{Does: "skip", At: list[2].At}); a.Status != http.StatusOK {
		t.Fatal(a)
	}
	if now := shown(); len(now) != 2 || !now[1].Changed || now[1].To.Time().Sub(now[1].From.Time()) != 2*time.Hour || now[1].GrantedMS != 7_200_000 {
		t.Errorf("after a move and a skip: %+v", now)
	}
	revision = 3
	if a := change(api.OccurrenceAsk{Does: "restore", At: list[2].At}); a.Status != http.StatusOK {
		t.Fatal(a)
	}
	if now := shown(); len(now) != 3 {
		t.Errorf("put back: %+v", now)
	}

	// What runs is ended now; what of it was stays planned.
	running := f.planned(-time.Hour, 4*3600)
	running.RRule = "FREQ=DAILY"
	operator.Must(http.MethodPost, "/windows", map[string]any{"spec": running}, &made)
	path, revision = "/windows/"+made.ID+"/occurrence", 1
	for a := change(api.OccurrenceAsk{Does: "end", At: running.Start}); a.Status != http.StatusOK; a = change(api.OccurrenceAsk{Does: "end", At: running.Start}) {
		if !strings.Contains(string(a.Body), "does not run now") || t.Context().Err() != nil { // a window begins with a whole second
			t.Fatal(a)
		}
		time.Sleep(50 * time.Millisecond)
	}
	pieces := 0
	for _, w := range shown() {
		if w.Window == made.ID && w.At == running.Start {
			if pieces++; pieces > 1 {
				t.Error("what was edited while it ran is shown in pieces")
			}
			if left := w.To.Time().Sub(storetest.Now()); left > 3*time.Second {
				t.Errorf("ended now, it ends in %v", left)
			}
		}
	}
}

// Both members of a pair at work clash, also where one window is only previewed; an
// embargo wants a reason; an edit says nothing of it again.
func TestClashesAndEmbargoes(t *testing.T) {
	f := setUp(t)
	service := func(name string, needs ...definition.Dependency) string {
		var made struct{ ID string }
		f.manager.Must(http.MethodPost, "/services", map[string]any{"spec": definition.ServiceSpec{Name: name, Kind: "business", DependsOn: needs}}, &made)
		return made.ID
	}
	east, west := service("East"), service("West")
	board := service("Board", definition.Dependency{Services: []string{east, west}, Need: 1})
	f.manager.Must(http.MethodPost, "/windows", map[string]any{"spec": f.planned(30*time.Hour, 7200, east)}, nil)
	var would api.WorkView
	f.manager.Must(http.MethodPost, "/windows/preview", api.WorkAsk{Spec: f.planned(31*time.Hour, 7200, west)}, &would)
	if len(would.Clashes) != 1 || would.Clashes[0].Service != board || !strings.Contains(would.Clashes[0].Words, "take Board down: it needs more of East and West") {
		t.Errorf("clashes: %+v", would.Clashes)
	}
	f.manager.Must(http.MethodPost, "/windows/preview", api.WorkAsk{Spec: f.planned(31*time.Hour, 7200, east, west)}, &would)
	if len(would.Clashes) != 0 || len(would.Also) != 1 || would.Also[0].ID != board {
		t.Errorf("one window on both: clashes %+v, also down %+v", would.Clashes, would.Also)
	}

	from := storetest.Now().UTC().Add(48 * time.Hour)
	embargo := definition.EmbargoSpec{Name: "Winter timetable", Timezone: "UTC", From: calendar.WallOf(from.Truncate(time.Minute)).String(),
		To: calendar.WallOf(from.Add(48 * time.Hour).Truncate(time.Minute)).String()}
	f.manager.Must(http.MethodPost, "/embargoes", map[string]any{"spec": embargo}, nil)
	inside := f.planned(60*time.Hour, 3600)
	f.manager.Must(http.MethodPost, "/windows/preview", api.WorkAsk{Spec: inside}, &would)
	if len(would.Clashes) != 1 || !strings.Contains(would.Clashes[0].Words, "lies in the embargo Winter timetable") {
		t.Errorf("in an embargo: %+v", would.Clashes)
	}
	if a := f.manager.Do(http.MethodPost, "/windows", map[string]any{"spec": inside}); a.Status != http.StatusUnprocessableEntity || !strings.Contains(string(a.Body), "say why it has to be then") {
		t.Errorf("without a reason: %s", a)
	}
	f.manager.Must(http.MethodPost, "/windows", map[string]any{"spec": inside, "reason": "The supplier cannot wait"}, nil)
	var c api.CalendarView
	f.manager.Must(http.MethodGet, "/calendar", nil, &c)
	if len(c.Embargoes) != 1 || len(c.Clashes) != 1 {
		t.Errorf("the calendar has %d embargoes and %d clashes", len(c.Embargoes), len(c.Clashes))
	}
	if a := f.as(t, access.Operator).Do(http.MethodPost, "/embargoes", map[string]any{"spec": embargo}); a.Status != http.StatusForbidden {
		t.Errorf("an operator who makes an embargo: %s", a)
	}
}

// Slots are offered that cost least; bad questions are refused.
func TestCheapestSlots(t *testing.T) {
	f := setUp(t)
	var agreement struct{ ID string }
	f.manager.Must(http.MethodPost, "/agreements", map[string]any{"spec": definition.AgreementSpec{Name: "Office", Service: f.service, TargetPercent: "99.9", Timezone: "UTC",
		ServiceHours: &definition.HoursSpec{WeeklyPlan: definition.WeeklyPlan{Timezone: "UTC", Holidays: []string{}, Weekly: []definition.WeeklyRow{{Days: []string{"MO", "TU", "WE", "TH", "FR"}, From: "06:00", To: "18:00"}}}}}}, &agreement)
	var slots api.SlotsView
	f.manager.Must(http.MethodGet, "/windows/slots?lasts_s=3600&services="+f.service, nil, &slots)
	if slots.Agreements != 1 || len(slots.Items) != 5 {
		t.Fatalf("%+v", slots)
	}
	for _, s := range slots.Items {
		from := s.From.Time()
		if s.DowntimeMS != 0 || s.ServiceMS != 0 || from.Weekday() != time.Saturday && from.Weekday() != time.Sunday && from.Hour() >= 6 && from.Hour() < 18 ||
			strings.Join(s.Why, " ") != "outside the hours of its agreement" {
			t.Errorf("%s is offered: %+v", from.Format("Mon 15:04"), s)
		}
	}
	for query, says := range map[string]string{
		"lasts_s=3600&services=nothing":                        "names no service in force",
		"lasts_s=1&services=" + f.service:                      "lasts_s",
		"lasts_s=9000000&services=" + f.service:                "lasts_s",
		"services=" + f.service:                                "lasts_s",
		"lasts_s=3600&days=400&services=" + f.service:          "days",
		"lasts_s=3600&services=" + f.service + "&services=%FF": "",
	} {
		if a := f.manager.Do(http.MethodGet, "/windows/slots?"+query, nil); a.Status/100 != 4 || !strings.Contains(string(a.Body), says) {
			t.Errorf("%s: %s", query, a)
		}
	}
	for _, query := range []string{"from=soon", "from=9999-12-31", "from=0001-01-01", "days=0", "days=900", "from=2026-02-30", "count=0"} {
		if a := f.manager.Do(http.MethodGet, "/calendar?"+query, nil); a.Status != http.StatusUnprocessableEntity {
			t.Errorf("%s: %s", query, a)
		}
	}
}

// One window that cannot be told costs its own line, and no other's.
func TestAWindowThatCannotBeTold(t *testing.T) {
	f := setUp(t)
	f.manager.Must(http.MethodPost, "/windows", map[string]any{"spec": f.planned(30*time.Hour, 3600)}, nil)
	var broken struct{ ID string }
	other := f.planned(40*time.Hour, 3600)
	other.Name = "Broken"
	f.manager.Must(http.MethodPost, "/windows", map[string]any{"spec": other}, &broken)
	if _, err := f.srv.API.Store.Exec(t.Context(), `UPDATE revision SET body = body || '{"rrule": "FREQ=SECONDLY"}' WHERE kind = 'window' AND id = $1`, broken.ID); err != nil {
		t.Fatal(err)
	}
	f.manager.Create("/agreements", definition.AgreementSpec{Name: "Gold", Service: f.service, TargetPercent: "99", Timezone: "UTC"})
	quay := f.manager.Create("/services", map[string]any{"name": "Quay", "kind": "supporting"})
	f.manager.Create("/agreements", definition.AgreementSpec{Name: "Quay", Service: quay, TargetPercent: "99", Timezone: "UTC"})
	var would api.WorkView
	f.manager.Must(http.MethodPost, "/windows/preview", api.WorkAsk{Spec: f.planned(50*time.Hour, 3600, f.service, quay)}, &would)
	if len(would.Effects) != 2 || would.Effects[0].Fault == "" == (would.Effects[1].Fault == "") {
		t.Errorf("what one window spoils: %+v", would.Effects)
	}
	f.manager.Must(http.MethodGet, "/windows/slots?lasts_s=3600&services="+f.service+"&services="+quay, nil, nil)
	var c api.CalendarView
	f.manager.Must(http.MethodGet, "/calendar", nil, &c)
	c.Lanes = slices.DeleteFunc(c.Lanes, func(l api.CalendarLane) bool { return l.Service == quay })
	if len(c.Faults) != 1 || c.Faults[0].Window != broken.ID || c.Faults[0].Fault == "" || len(c.Lanes) != 1 || len(c.Lanes[0].Work) != 1 {
		t.Errorf("faults %+v, lanes %+v", c.Faults, c.Lanes)
	}
}

// More work than a calendar can show is refused, and fewer days are shown.
func TestACalendarOfTooMuch(t *testing.T) {
	f := setUp(t)
	var steps []map[string]any
	for n := range 16 {
		w := f.planned(time.Hour, 60)
		w.Name, w.RRule = fmt.Sprint("Hourly ", n), "FREQ=HOURLY"
		steps = append(steps, map[string]any{"does": "make", "kind": "window", "spec": w})
	}
	f.manager.Must(http.MethodPost, "/changes", map[string]any{"steps": steps}, nil)
	if a := f.manager.Do(http.MethodGet, "/calendar?days=62", nil); a.Status != http.StatusUnprocessableEntity || !strings.Contains(string(a.Body), "take fewer days") {
		t.Errorf("%.300s", a)
	}
	var c api.CalendarView
	f.manager.Must(http.MethodGet, "/calendar?days=2", nil, &c) // in the last hour of a day all of it begins tomorrow
	if len(c.Lanes) != 1 || len(c.Lanes[0].Work) < 16 {
		t.Errorf("two days have %d lanes", len(c.Lanes))
	}
}
