package api_test

import (
	"net/http"
	"strings"
	"testing"
	"time"

	"kestite/core/access"
	"kestite/core/definition"
	"kestite/server/api"
	"kestite/server/servertest"
	"kestite/server/store/storetest"
)

// calendarOf is an event of somebody's calendar, in a calendar.
func calendarOf(lines ...string) string {
	return "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Desk//EN\r\n" + strings.Join(lines, "\r\n") + "\r\nEND:VCALENDAR\r\n"
}

func event(uid string, lines ...string) string {
	return "BEGIN:VEVENT\r\nUID:" + uid + "\r\nSUMMARY:" + uid + "\r\n" + strings.Join(lines, "\r\n") + "\r\nEND:VEVENT"
}

// What is planned goes out as a calendar and comes back without a change; somebody's
// calendar comes in, edits itself, and cancels; what cannot be taken harms no other.
func TestCalendarsOutAndIn(t *testing.T) {
	f := setUp(t)
	operator := f.as(t, access.Operator)
	daily := f.planned(30*time.Hour, 3600)
	daily.RRule = "FREQ=DAILY"
	operator.Must(http.MethodPost, "/windows", map[string]any{"spec": daily}, nil)
	out := operator.Do(http.MethodGet, "/windows.ics", nil)
	if out.Status != http.StatusOK || !strings.Contains(string(out.Body), "UID:new-displays@kestite") || !strings.Contains(string(out.Body), "BEGIN:VTIMEZONE") {
		t.Fatal(out)
	}
	imports := func(ask api.ImportAsk) api.ImportView {
		t.Helper()
		var v api.ImportView
		operator.Must(http.MethodPost, "/windows/import", ask, &v)
		return v
	}
	if v := imports(api.ImportAsk{Text: string(out.Body)}); len(v.Items) != 1 || v.Items[0].Does != "unchanged" {
		t.Errorf("what went out comes in as %+v", v)
	}
	start := storetest.Now().UTC().Add(72 * time.Hour).Format("20060102T150405Z")
	mine := calendarOf(event("a@desk", "DTSTART:"+start, "DURATION:PT2H", "SEQUENCE:1"), event("b@desk", "DTSTART:20010101T000000Z", "DURATION:PT1H"),
		event("c@desk", "DTSTART:"+start, "DURATION:P90D"), event("d@desk", "DTSTART:"+start))
	if v := imports(api.ImportAsk{Text: mine, Preview: true}); v.Items[0].Does != "refused" || !strings.Contains(v.Items[0].Why, "names no service") {
		t.Errorf("for no service: %+v", v.Items)
	}
	ask := api.ImportAsk{Text: mine, Services: []string{f.service}, Preview: true}
	v := imports(ask)
	var windows struct {
		Items []api.Defined[definition.WindowSpec]
	}
	operator.Must(http.MethodGet, "/windows", nil, &windows)
	if len(windows.Items) != 1 || v.Done {
		t.Fatalf("a preview did %+v", windows.Items)
	}
	ask.Preview = false
	v = imports(ask)
	if !v.Done || len(v.Items) != 3 || v.Items[0].Does != "make" || v.Items[1].Does != "refused" || !strings.Contains(v.Items[1].Why, "over by now") ||
		v.Items[2].Does != "refused" || !strings.Contains(v.Items[2].Why, "at most 2678400") || len(v.Left) != 1 {
		t.Fatalf("%+v", v)
	}
	made := v.Items[0].Window
	spec := func() definition.WindowSpec {
		operator.Must(http.MethodGet, "/windows", nil, &windows)
		for _, w := range windows.Items {
			if w.ID == made {
				return w.Spec
			}
		}
		t.Fatal("there is no window of it")
		return definition.WindowSpec{}
	}
	if s := spec(); s.DurationS != 7200 || s.Imported == nil || s.Imported.UID != "a@desk" || s.Services[0] != f.service {
		t.Errorf("it is %+v", s)
	}
	for _, x := range []struct{ text, does string }{
		{calendarOf(event("a@desk", "DTSTART:"+start, "DURATION:PT2H", "SEQUENCE:1")), "unchanged"},
		{calendarOf(event("a@desk", "DTSTART:"+start, "DURATION:PT9H", "SEQUENCE:0")), "older"},
		{calendarOf(event("a@desk", "DTSTART:"+start, "DURATION:PT3H", "SEQUENCE:2")), "edit"},
		{calendarOf(event("a@desk", "DTSTART:"+start, "DURATION:PT3H", "SEQUENCE:3", "STATUS:CANCELLED")), "cancel"},
		{calendarOf(event("a@desk", "DTSTART:"+start, "DURATION:PT3H", "SEQUENCE:3", "STATUS:CANCELLED")), "unchanged"},
		{calendarOf(event("a@desk", "DTSTART:"+start, "DURATION:PT4H", "SEQUENCE:4")), "edit"},
		{calendarOf(event("never@desk", "DTSTART:"+start, "DURATION:PT4H", "STATUS:CANCELLED")), "unchanged"},
	} {
		if v := imports(api.ImportAsk{Text: x.text}); v.Items[0].Does != x.does {
			t.Errorf("%s\n%+v, want %s", x.text, v.Items[0], x.does)
		}
	}
	if s := spec(); s.DurationS != 4*3600 {
		t.Errorf("in the end it lasts %d s", s.DurationS)
	}
	for what, x := range map[string]any{
		"no calendar":   api.ImportAsk{Text: "Monday at ten"},
		"nothing":       api.ImportAsk{},
		"half a line":   api.ImportAsk{Text: "0;0="},
		"of no service": api.ImportAsk{Text: mine, Services: []string{"nothing"}},
		"too much":      api.ImportAsk{Text: strings.Repeat("x", 1_000_001)},
	} {
		if a := operator.Do(http.MethodPost, "/windows/import", x); a.Status/100 != 4 {
			t.Errorf("%s: %s", what, a)
		}
	}
	if a := f.as(t, access.Viewer).Do(http.MethodPost, "/windows/import", ask); a.Status != http.StatusForbidden {
		t.Errorf("a viewer who imports: %s", a)
	}
}

// Who has the token of a feed reads it, until it is ended or its owner may not sign in.
func TestCalendarFeeds(t *testing.T) {
	f := setUp(t)
	f.manager.Must(http.MethodPost, "/windows", map[string]any{"spec": f.planned(30*time.Hour, 3600)}, nil)
	viewer, stranger := f.as(t, access.Viewer), servertest.Anonymous(t, f.url)
	var all, none api.MadeFeed
	viewer.Must(http.MethodPost, "/calendar-feeds", api.NewFeed{Name: "Mine"}, &all)
	other := f.manager.Create("/services", map[string]any{"name": "Quay", "kind": "supporting"})
	viewer.Must(http.MethodPost, "/calendar-feeds", api.NewFeed{Name: "Of the quay", Services: []string{other}}, &none)
	reads := func(path string) servertest.Answer {
		return stranger.Do(http.MethodGet, strings.TrimPrefix(path, "/api/v1"), nil)
	}
	if a := reads(all.Path); a.Status != http.StatusOK || strings.Count(string(a.Body), "BEGIN:VEVENT") != 1 {
		t.Errorf("the feed of all: %s", a)
	}
	if a := reads(none.Path); a.Status != http.StatusOK || strings.Contains(string(a.Body), "BEGIN:VEVENT") || !strings.HasPrefix(string(a.Body), "BEGIN:VCALENDAR") {
		t.Errorf("the feed of another service: %s", a)
	}
	var list struct{ Items []api.FeedView }
	viewer.Must(http.MethodGet, "/calendar-feeds", nil, &list)
	if len(list.Items) != 2 || list.Items[0].UsedAt == nil || list.Items[1].Services[0].Name != "Quay" {
		t.Errorf("%+v", list.Items)
	}
	if a := f.manager.Do(http.MethodDelete, "/calendar-feeds/"+all.ID, nil); a.Status != http.StatusNotFound {
		t.Errorf("somebody else ends it: %s", a)
	}
	// What is cancelled stays in it as such.
	f.manager.Must(http.MethodDelete, "/windows/new-displays", nil, nil)
	if a := reads(all.Path); !strings.Contains(string(a.Body), "STATUS:CANCELLED") {
		t.Errorf("cancelled: %s", a)
	}
	viewer.Must(http.MethodDelete, "/calendar-feeds/"+all.ID, nil, nil)
	for what, path := range map[string]string{"ended": all.Path, "made up": "/api/v1/calendar.ics?token=kesc_0000000000000000", "none": "/api/v1/calendar.ics"} {
		if a := reads(path); a.Status/100 != 4 || strings.Contains(string(a.Body), "VCALENDAR") {
			t.Errorf("%s: %s", what, a)
		}
	}
	if _, err := f.srv.API.Store.Exec(t.Context(), `UPDATE person SET disabled_at = clock() WHERE role = 'viewer'`); err != nil {
		t.Fatal(err)
	}
	if a := reads(none.Path); a.Status != http.StatusNotFound {
		t.Errorf("of somebody who may not sign in: %s", a)
	}
	if a := f.manager.Do(http.MethodPost, "/calendar-feeds", api.NewFeed{Name: "x", Agreements: []string{"none"}}); a.Status != http.StatusUnprocessableEntity {
		t.Errorf("of no agreement: %s", a)
	}
}
