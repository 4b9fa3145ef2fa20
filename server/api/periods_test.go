package api_test

import (
	"encoding/json"
	"net/http"
	"net/url"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"kestite/core/access"
	"kestite/core/account"
	"kestite/core/calendar"
	"kestite/core/span"
	"kestite/server/api"
	"kestite/server/servertest"
	"kestite/server/store/storetest"
)

// names are the names of an agreement's periods, the next one first.
func (f *fixture) calendar(t *testing.T, id string) []api.PeriodName {
	t.Helper()
	var list struct{ Items []api.PeriodName }
	f.manager.Must(http.MethodGet, "/agreements/"+id+"/calendar?last=4", nil, &list)
	return list.Items
}

// An edit of an agreement counts from the next period; a correction from the one
// that it names, unless that, or one after it, has a published report.
func TestEachPeriodHasOneRevision(t *testing.T) {
	f := setUp(t)
	target := func(s string) map[string]any {
		return agreement(f.service, func(m map[string]any) { m["target_percent"], m["from"] = s, "2020-01-01" })
	}
	id := f.manager.Create("/agreements", target("99.0"))
	path := "/agreements/" + id
	edit := func(revision int, target map[string]any, corrects, reason string) servertest.Answer {
		body := map[string]any{"revision": revision, "spec": target, "reason": reason}
		if corrects != "" {
			body["corrects"] = corrects
		}
		return f.manager.Do(http.MethodPut, path, body)
	}
	if a := edit(1, target("99.5"), "", ""); a.Status != http.StatusNoContent && a.Status != http.StatusOK {
		t.Fatal(a)
	}
	names := f.calendar(t, id)
	if len(names) != 5 || names[0].Revision != 2 || names[1].Revision != 1 || names[1].Over || !names[2].Over || names[0].From != names[1].To {
		t.Fatalf("%+v", names)
	}
	present, last := names[1].Name, names[2].Name
	var standing api.Standing
	f.manager.Must(http.MethodGet, "/standing", nil, &standing)
	if a := standing.Accounts[0]; a.Target != "99.0" || a.Revision != 1 || a.Period.Name != present || a.Period.Words != names[1].Words {
		t.Errorf("Standing says %+v", a)
	}
	if _, fields := edit(2, target("99.9"), present, "").Problem(); !strings.Contains(fields["body.reason"], "is missing") {
		t.Errorf("a correction without a reason: %v", fields)
	}
	if a := edit(0, target("99.9"), "", ""); a.Status != http.StatusUnprocessableEntity {
		t.Errorf("an edit that bypasses what others did: %s", a)
	}
	// What is published stays.
	var draft struct{ ID string }
	f.manager.Must(http.MethodPost, "/reports", map[string]any{"agreement": id, "period": last}, &draft)
	f.manager.Publish("/reports/" + draft.ID)
	if _, fields := edit(2, target("99.9"), last, "typed wrongly").Problem(); !strings.Contains(fields["body.corrects"],
		"has a published report") {
		t.Errorf("a correction of what is published: %v", fields)
	}
	if a := edit(2, target("99.9"), present, "typed wrongly"); a.Status >= 300 {
		t.Fatal(a)
	}
	names = f.calendar(t, id)
	if names[0].Revision != 3 || names[1].Revision != 3 || names[2].Revision != 1 || !names[2].Published || names[1].Published {
		t.Errorf("after the correction %+v", names)
	}
	var periods struct{ Items []api.PeriodAccount }
	f.manager.Must(http.MethodGet, path+"/periods?last=2", nil, &periods)
	if periods.Items[0].Revision != 3 || periods.Items[1].Revision != 1 {
		t.Errorf("the accounts are by %d and %d", periods.Items[0].Revision, periods.Items[1].Revision)
	}
	var revisions struct{ Items []api.RevisionView }
	f.manager.Must(http.MethodGet, path+"/revisions", nil, &revisions)
	if r := revisions.Items; r[0].Counts == nil || span.Of(*r[0].Counts) != names[1].From || r[2].Counts != nil || r[0].Reason != "typed wrongly" {
		t.Errorf("revisions %+v", r)
	}
	if a := f.manager.Do(http.MethodPost, "/reports", map[string]any{"agreement": id,
		"period": "2020-Q1"}); !strings.Contains(string(a.Body), "is no period of this agreement") {
		t.Errorf("a report of what is no period: %s", a)
	}
}

// Whatever the band shows, each agreement is accounted over its own period, the one
// that holds the band's end; and reports are of its periods.
func TestBandsAndPeriods(t *testing.T) {
	f := setUp(t)
	make := func(name, zone string, period map[string]any) {
		f.manager.Create("/agreements", agreement(f.service, func(m map[string]any) {
			m["name"], m["timezone"], m["from"] = name, zone, "2020-01-01"
			if period != nil {
				m["period"] = period
			}
		}))
	}
	make("Months", "Europe/Oslo", nil)
	make("Tokyo", "Asia/Tokyo", nil)
	make("Quarters", "Europe/Oslo", map[string]any{"unit": "quarter"})
	make("From 15th", "Europe/Oslo", map[string]any{"unit": "month", "day": 15})
	make("Weeks", "Europe/Oslo", map[string]any{"unit": "week"})
	for band, want := range map[string]map[string]string{
		"2025-10": {"Months": "2025-10", "Tokyo": "2025-10", "Quarters": "2025-Q4",
			"From 15th": "2025-10-15/2025-11-15", "Weeks": "2025-W44"},
		"2025-Q2": {"Months": "2025-06", "Tokyo": "2025-06", "Quarters": "2025-Q2",
			"From 15th": "2025-06-15/2025-07-15", "Weeks": "2025-W27"},
		"2025": {"Months": "2025-12", "Tokyo": "2025-12", "Quarters": "2025-Q4",
			"From 15th": "2025-12-15/2026-01-15", "Weeks": "2026-W01"},
		"2025-03-03/2025-03-05": {"Months": "2025-03", "Tokyo": "2025-03", "Quarters": "2025-Q1",
			"From 15th": "2025-02-15/2025-03-15", "Weeks": "2025-W10"},
	} {
		var standing api.Standing
		f.manager.Must(http.MethodGet, "/standing?span="+strings.ReplaceAll(band, "/", "%2F"), nil, &standing)
		if standing.Span.Name != band {
			t.Errorf("%s is shown as %s", band, standing.Span.Name)
		}
		for _, a := range standing.Accounts {
			if a.Period.Name != want[a.Name] || a.Fault != "" || a.Figures.TotalMS.Period != int64(a.Period.To-a.Period.From) {
				t.Errorf("band %s, %s: %+v", band, a.Name, a.Period)
			}
		}
		f.manager.Must(http.MethodGet, "/services/"+f.service+"/span?span="+strings.ReplaceAll(band, "/", "%2F"), nil, nil)
	}
	var present api.Standing
	f.manager.Must(http.MethodGet, "/standing", nil, &present)
	if present.Span.Unit != calendar.Month || len(present.Span.Units) != 5 || present.Span.Units[1].Name != present.Span.Name {
		t.Errorf("the present band: %+v", present.Span)
	}
	for _, step := range []string{present.Span.Before, present.Span.Units[0].Name, present.Span.Units[4].Name} {
		f.manager.Must(http.MethodGet, "/standing?span="+step, nil, nil)
	}
	for _, wrong := range []string{"2025-13", "May", present.Span.After, "2020-01-01/2025-01-01", "0001-01-01/9999-12-31"} {
		a := f.manager.Do(http.MethodGet, "/standing?span="+strings.ReplaceAll(wrong, "/", "%2F"), nil)
		if _, fields := a.Problem(); a.Status != http.StatusUnprocessableEntity || fields["query.span"] == "" {
			t.Errorf("the band %s: %s", wrong, a)
		}
	}
	// A report is of a period of the agreement, and is called by it.
	quarter := calendar.Cycle{Unit: calendar.Quarter}
	loc, err := calendar.Zone("Europe/Oslo")
	if err != nil {
		t.Fatal(err)
	}
	over := quarter.Before(quarter.At(span.Of(storetest.Now()), loc))
	var draft struct{ ID string }
	f.manager.Must(http.MethodPost, "/reports", map[string]any{"agreement": "quarters", "period": over.Name()}, &draft)
	f.manager.Publish("/reports/" + draft.ID)
	document := f.manager.Do(http.MethodGet, "/reports/"+draft.ID+"/document?format=pdf", nil)
	if text := servertest.PDFText(t, document.Body); !strings.Contains(text, over.Words()) || !strings.Contains(text,
		"each calendar quarter") {
		t.Errorf("the document does not speak of %s:\n%s", over.Words(), text)
	}
}

// A clause that changes within a period ends one agreement and begins another: both
// are accounted for their own part of it, and the ended one is gone after that.
func TestOneAgreementAfterAnother(t *testing.T) {
	f := setUp(t)
	loc, err := calendar.Zone("Europe/Oslo")
	if err != nil {
		t.Fatal(err)
	}
	month := calendar.MonthAt(span.Of(storetest.Now()), loc).Next(-2)
	middle := month.Start.AddDays(14)
	f.manager.Create("/agreements", agreement(f.service, func(m map[string]any) {
		m["name"], m["from"], m["until"] = "Before", "2020-01-01", middle.AddDays(-1).DateString()
	}))
	f.manager.Create("/agreements", agreement(f.service, func(m map[string]any) {
		m["name"], m["from"], m["target_percent"] = "After", middle.DateString(), "99.5"
	}))
	standing := func(band string) map[string]int64 {
		t.Helper()
		var s api.Standing
		f.manager.Must(http.MethodGet, "/standing?span="+band, nil, &s)
		out := map[string]int64{}
		for _, a := range s.Accounts {
			out[a.Name] = a.Figures.TotalMS.Agreed
		}
		return out
	}
	both := standing(month.Name())
	if both["Before"]+both["After"] != month.Span().Length() || both["Before"] != int64(middle.Instant(loc,
		calendar.Shift)-month.Span().From) {
		t.Errorf("side by side %v of %d ms", both, month.Span().Length())
	}
	if later := standing(month.Next(1).Name()); len(later) != 1 || later["After"] == 0 {
		t.Errorf("a month later: %v", later)
	}
	a := f.manager.Do(http.MethodPost, "/reports", map[string]any{"agreement": "before", "period": month.Next(1).Name()})
	if _, fields := a.Problem(); !strings.Contains(fields["body.period"], "promises nothing") {
		t.Errorf("a report after its end: %s", a)
	}
	var present api.Standing
	f.manager.Must(http.MethodGet, "/standing", nil, &present)
	for _, n := range present.Needs {
		if n.Kind == "report" && n.Subject == "Before" {
			t.Errorf("due after its end: %+v", n)
		}
	}
}

// A window's edits are kept with their instants, and tell the account what was
// announced when.
func TestAWindowLengthenedWhileItRuns(t *testing.T) {
	t.Parallel()
	srv := storetest.Server(t)
	f := &fixture{srv: srv, url: servertest.Serve(t, srv)}
	f.manager = servertest.As(t, srv, f.url, "manager")
	f.service = f.manager.Create("/services", map[string]any{"name": "Ticket sales", "kind": "business"})
	start := storetest.Now().UTC().Add(-30 * time.Minute).Truncate(time.Second)
	window := func(minutes int) map[string]any {
		return map[string]any{"name": "Release", "services": []string{f.service}, "start": start.Format("2006-01-02T15:04:05"),
			"timezone": "UTC", "duration_s": minutes * 60}
	}
	id := f.manager.Create("/windows", window(60)) // announced half an hour after its start
	f.manager.Must(http.MethodPut, "/windows/"+id, f.manager.Edit("/windows/"+id, window(90)), nil)
	snap, err := srv.API.Definitions.Snapshot(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	b, err := snap.Bundle(calendar.MonthAt(span.Of(start), time.UTC), nil, []string{f.service}, nil, true)
	if err != nil {
		t.Fatal(err)
	}
	made := snap.Windows[id].Revisions
	end := span.Of(start).Add(60 * span.Minute)
	type entry struct {
		from, to, since span.Instant
	}
	var got []entry
	for _, w := range b.Windows {
		starts, err := w.Starts(span.Beginning, span.End)
		if err != nil || len(starts) != 1 {
			t.Fatal(starts, err)
		}
		got = append(got, entry{starts[0], starts[0].Add(w.DurationS * span.Second), w.AnnouncedAt})
	}
	// What had passed before it was announced is no window; what was added later was announced then.
	want := []entry{{made[0].From, end, made[0].From}, {end, end.Add(30 * span.Minute), made[1].From}}
	if !slices.Equal(got, want) {
		t.Errorf("%v\nwant %v", got, want)
	}
	if int64(made[0].From)%span.Second != 0 || made[1].From <= made[0].From {
		t.Errorf("revisions %+v", made)
	}
}

// A draft is there for those alone who may make one, and says on every page that it
// is no more than that.
func TestDraftsAreForThoseWhoMakeThem(t *testing.T) {
	f := setUp(t)
	id := f.manager.Create("/agreements", agreement(f.service, func(m map[string]any) { m["from"] = "2020-01-01" }))
	var draft struct{ ID string }
	f.manager.Must(http.MethodPost, "/reports", map[string]any{"agreement": id, "period": f.calendar(t, id)[2].Name}, &draft)
	path := "/reports/" + draft.ID
	pdf := func() string {
		return servertest.PDFText(t, f.manager.Do(http.MethodGet, path+"/document?format=pdf", nil).Body)
	}
	text := pdf()
	if pages := strings.Count(text, "\f"); pages == 0 || strings.Count(text, "Draft. Not published") != pages || strings.Count(text,
		"draft, not published") != pages || !strings.Contains(text, "a draft of") {
		t.Errorf("the draft's document says\n%s", text)
	}
	viewer, operator := servertest.As(t, f.srv, f.url, "viewer"), servertest.As(t, f.srv, f.url, "operator")
	seen := func() (n int) {
		t.Helper()
		for _, who := range []*servertest.Client{viewer, operator} {
			var list struct{ Items []api.ReportView }
			who.Must(http.MethodGet, "/reports", nil, &list)
			n += len(list.Items)
			for _, at := range []string{"", "/document?format=pdf", "/document?format=json", "/document?format=csv",
				"/document?format=inputs"} {
				if who.Do(http.MethodGet, path+at, nil).Status == http.StatusOK {
					n++
				}
			}
		}
		return n
	}
	if n := seen(); n > 0 {
		t.Errorf("a draft is seen in %d places by who cannot make one", n)
	}
	f.manager.Publish(path)
	if n := seen(); n != 12 {
		t.Errorf("a published report is seen in %d places of 12", n)
	}
	if text := pdf(); strings.Contains(strings.ToLower(text), "draft") || !strings.Contains(text, "published") {
		t.Errorf("the published document says\n%s", text)
	}
}

// Clauses changed within a period: two accounts side by side that add up to the
// whole, under one contract; asked for twice with one key it is done once.
func TestTwoAccountsOfASplitPeriodAddUp(t *testing.T) {
	f := setUp(t)
	spec := func(target string) map[string]any {
		return agreement(f.service, func(m map[string]any) { m["target_percent"], m["from"] = target, "2020-01-01" })
	}
	id := f.manager.Create("/agreements", spec("99.0"))
	last := f.calendar(t, id)[2]
	day := last.Name + "-10"
	accountOf := func(id string) (out api.AccountView) {
		t.Helper()
		f.manager.Must(http.MethodGet, "/agreements/"+id+"/account?span="+last.Name, nil, &out)
		return out
	}
	whole := accountOf(id)
	if whole.Part != "" || whole.Contract != "" {
		t.Fatalf("before: %+v", whole.AccountRow)
	}
	ask := func(more map[string]any) servertest.Answer {
		body := map[string]any{"revision": 1, "from": day, "spec": spec("99.9"), "reason": "renegotiated", "key": "split"}
		for k, v := range more {
			body[k] = v
		}
		return f.manager.Do(http.MethodPost, "/agreements/"+id+"/split", body)
	}
	for path, more := range map[string]map[string]any{
		"body.reason":              {"reason": "", "key": "1"},
		"body.from":                {"from": last.Name + "-01", "key": "2"},
		"body.spec.target_percent": {"spec": spec("101"), "key": "3"},
		"body.spec.latency.check": {"spec": agreement(f.service, func(m map[string]any) {
			m["latency"] = map[string]any{"check": "nothing", "limit_ms": 100, "target_percent": "99"}
		}), "key": "4"},
	} {
		if _, fields := ask(more).Problem(); fields[path] == "" {
			t.Errorf("%v: %v", more, fields)
		}
	}
	var view api.ChangeView
	if a := ask(map[string]any{"preview": true}); a.Status >= 300 || json.Unmarshal(a.Body, &view) != nil || view.Done ||
		len(view.Accounts) != 2 {
		t.Fatalf("the preview: %s", a.Body)
	}
	for range 2 {
		if a := ask(nil); a.Status >= 300 || json.Unmarshal(a.Body, &view) != nil || !view.Done || len(view.IDs) != 3 {
			t.Fatalf("%s", a.Body)
		}
	}
	old, fresh := accountOf(id), accountOf(view.IDs[2])
	if old.Part != "until 9 "+last.From.Time().AddDate(0, 0, 2).Format("Jan") || !strings.HasPrefix(fresh.Part, "from 10 ") ||
		old.Target != "99.0" || fresh.Target != "99.9" || old.Contract != whole.Name || fresh.Contract != whole.Name {
		t.Errorf("%+v\n%+v", old.AccountRow, fresh.AccountRow)
	}
	if old.Figures.BaseMS+fresh.Figures.BaseMS != whole.Figures.BaseMS {
		t.Errorf("base %d + %d is not %d", old.Figures.BaseMS, fresh.Figures.BaseMS, whole.Figures.BaseMS)
	}
	parts, all := []account.Totals{old.Figures.TotalMS, fresh.Figures.TotalMS}, reflect.ValueOf(whole.Figures.TotalMS)
	for i := range all.NumField() {
		name := all.Type().Field(i).Name
		sum := int64(0)
		for _, p := range parts {
			sum += reflect.ValueOf(p).Field(i).Int()
		}
		if name != "Outside" && name != "Period" && sum != all.Field(i).Int() { // each calls the other’s part outside
			t.Errorf("%s: %d is not %d", name, sum, all.Field(i).Int())
		}
	}
	var standing api.Standing
	f.manager.Must(http.MethodGet, "/standing?span="+last.Name, nil, &standing)
	if len(standing.Accounts) != 2 {
		t.Errorf("Standing shows %d of them side by side", len(standing.Accounts))
	}
}

// A band may be two instants, told by the organisation's clocks; each agreement
// stands there with the period that its end lies in.
func TestBandsOfTwoInstants(t *testing.T) {
	f := setUp(t)
	f.manager.Create("/agreements", agreement(f.service, func(m map[string]any) { m["from"] = "2020-01-01" }))
	ask := func(band string) servertest.Answer {
		return f.manager.Do(http.MethodGet, "/standing?span="+url.QueryEscape(band), nil)
	}
	for band, want := range map[string]struct{ words, period string }{
		"2025-03-03T08:00:00Z/2025-03-03T09:30:00Z":         {"3 March 2025 09:00 to 10:30", "2025-03"},
		"2025-03-30T00:30:00Z/2025-03-30T01:30:00Z":         {"30 March 2025 01:30 to 03:30", "2025-03"}, // the clocks go forward
		"2025-10-26T00:30:00Z/2025-10-26T01:30:00.000Z":     {"26 October 2025 02:30 to 02:30", "2025-10"},
		"2025-03-31T21:00:00Z/2025-03-31T22:30:00Z":         {"31 March 2025 23:00 to 1 April 2025 00:30", "2025-04"},
		"2025-03-31T21:00:00Z/2025-03-31T22:00:00Z":         {"31 March 2025 23:00 to 1 April 2025 00:00", "2025-03"},
		"2025-03-03T08:00:00.000Z/2025-03-03T08:10:00.000Z": {"3 March 2025 09:00 to 09:10", "2025-03"},
		"2024-12-30T23:00:00Z/2025-01-02T23:00:00Z":         {"31 December 2024 00:00 to 3 January 2025 00:00", "2025-01"},
	} {
		var standing api.Standing
		a := ask(band)
		if a.Status != http.StatusOK || json.Unmarshal(a.Body, &standing) != nil {
			t.Errorf("%s: %s", band, a)
			continue
		}
		s := standing.Span
		long := int64(s.To - s.From)
		if s.Words != want.words || s.Unit != "" || s.Timezone != "Europe/Oslo" || standing.Accounts[0].Period.Name != want.period ||
			ask(s.Before).Status != http.StatusOK || ask(s.Name).Status != http.StatusOK || standing.Accounts[0].Strip == "" {
			t.Errorf("%s: %+v, %s", band, s, standing.Accounts[0].Period.Name)
		}
		var before api.Standing
		if a := ask(s.Before); json.Unmarshal(a.Body, &before) != nil || before.Span.To != s.From ||
			int64(before.Span.To-before.Span.From) != long {
			t.Errorf("%s comes after %+v", band, before.Span)
		}
	}
	for _, wrong := range []string{
		"2025-03-03T08:00:00Z/2025-03-03T08:09:59.999Z", "2025-03-03T08:00:00Z/2025-03-03T08:00:00Z", "2025-03-03T08:00:00Z/2025-03-03T07:00:00Z",
		"2025-03-03T08:00:00Z/", "2025-03-03T08:00:00Z/soon", "2020-01-01T00:00:00Z/2025-01-01T00:00:00Z",
		"2999-01-01T00:00:00Z/2999-01-02T00:00:00Z",
		"2025-03-03T08:00:00Z/2025-03-04", "0000-00-00T00:00:00Z/2025-01-01T00:00:00Z",
	} {
		if _, fields := ask(wrong).Problem(); fields["query.span"] == "" {
			t.Errorf("the band %s is taken: %v", wrong, fields)
		}
	}
}

// Nobody publishes what they have not read, and no remark is written over one that was
// never seen.
func TestNothingUnreadIsPublished(t *testing.T) {
	f := setUp(t)
	agreement := f.manager.Create("/agreements", agreement(f.service, func(s map[string]any) { s["from"] = "2026-01-01" }))
	var draft struct{ ID string }
	last := storetest.Now().UTC().AddDate(0, 0, -storetest.Now().UTC().Day()).Format("2006-01")
	f.manager.Must(http.MethodPost, "/reports", map[string]any{"agreement": agreement, "period": last, "remark": "A quiet month."}, &draft)
	path := "/reports/" + draft.ID
	seen := func() string {
		t.Helper()
		var page struct{ Seen string }
		f.manager.Must(http.MethodGet, path, nil, &page)
		return page.Seen
	}
	before := seen()
	if before == "" || before != seen() {
		t.Fatal("read twice it says something else")
	}
	other := servertest.As(t, f.srv, f.url, access.Administrator)
	other.Must(http.MethodPut, path, map[string]any{"remark": "A storm.", "was": "A quiet month."}, nil)
	for what, a := range map[string]servertest.Answer{
		"a remark on one that was not seen": f.manager.Do(http.MethodPut, path, map[string]any{"remark": "A very quiet month.",
			"was": "A quiet month."}),
		"publishing what was not read": f.manager.Do(http.MethodPost, path+"/publish", map[string]any{"seen": before}),
	} {
		if a.Status != http.StatusConflict {
			t.Errorf("%s: %d %s", what, a.Status, a.Body)
		}
	}
	for _, nothing := range []any{nil, map[string]any{}, map[string]any{"seen": ""}} {
		if a := f.manager.Do(http.MethodPost, path+"/publish", nothing); a.Status < 400 || a.Status >= 500 {
			t.Errorf("publishing without having read: %d %s", a.Status, a.Body)
		}
	}
	f.manager.Must(http.MethodPost, path+"/publish", map[string]any{"seen": seen()}, nil)
	var page api.ReportPage
	f.manager.Must(http.MethodGet, path, nil, &page)
	if page.State != "published" || page.Remark != "A storm." || page.Seen != "" {
		t.Errorf("%s %q %q", page.State, page.Remark, page.Seen)
	}
}
