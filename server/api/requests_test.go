package api_test

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"kestite/core/access"
	"kestite/core/definition"
	"kestite/server/api"
	"kestite/server/servertest"
	"kestite/server/store"
	"kestite/server/store/storetest"
)

// asking lets planned work on the service of a fixture wait for a second person.
func (f *fixture) asking(t *testing.T) {
	t.Helper()
	path := "/services/" + f.service
	f.manager.Must(http.MethodPut, path, f.manager.Edit(path, map[string]any{"name": "Ticket sales", "kind": "business", "combine": "worst", "work_approval": true}), nil)
}

func (f *fixture) ask(t *testing.T, c *servertest.Client, ask api.WorkAsked) int64 {
	t.Helper()
	var asked api.Asked
	c.Must(http.MethodPost, "/work-requests", ask, &asked)
	return asked.Request
}

func decide(c *servertest.Client, id int64, does, note string) servertest.Answer {
	return c.Do(http.MethodPost, fmt.Sprintf("/work-requests/%d/decision", id), api.WorkDecision{Does: does, Note: note})
}

// What waits for a second person is no window, and announced by nobody, until somebody
// else approves it; then it counts as announced from there. Who asked is told.
func TestWorkThatASecondPersonApproves(t *testing.T) {
	f := setUp(t)
	f.asking(t)
	operator, approver, viewer := f.as(t, access.Operator), f.as(t, access.Approver), f.as(t, access.Viewer)
	spec := f.planned(30*time.Hour, 3600)
	var would api.WorkView
	operator.Must(http.MethodPost, "/windows/preview", api.WorkAsk{Spec: spec}, &would)
	if len(would.Asks) != 1 || would.Asks[0].Name != "Ticket sales" || len(would.Occurrences) != 1 {
		t.Errorf("a preview says that %+v ask, of %d occurrences", would.Asks, len(would.Occurrences))
	}
	for _, c := range []*servertest.Client{operator, f.manager} { // nobody is their own second person
		if a := c.Do(http.MethodPost, "/windows", map[string]any{"spec": spec}); a.Status != 422 || !strings.Contains(string(a.Body), "a second person") {
			t.Errorf("planned right away: %s", a)
		}
	}
	if a := viewer.Do(http.MethodPost, "/work-requests", api.WorkAsked{Spec: spec}); a.Status != 403 {
		t.Errorf("a viewer asks: %s", a)
	}
	id := f.ask(t, operator, api.WorkAsked{Spec: spec, Reason: "The desk is closed"})
	var c api.CalendarView
	viewer.Must(http.MethodGet, "/calendar", nil, &c)
	lane := slices.IndexFunc(c.Lanes, func(l api.CalendarLane) bool { return l.Service == f.service })
	if len(c.Requests) != 1 || c.Requests[0].First == nil || lane < 0 || len(c.Lanes[lane].Work) != 0 || len(c.Lanes[lane].Asked) != 1 {
		t.Errorf("the calendar has %+v and %+v", c.Requests, c.Lanes)
	}
	var standing api.Standing
	approver.Must(http.MethodGet, "/standing", nil, &standing)
	if !slices.ContainsFunc(standing.Needs, func(n api.NeedView) bool { return n.Kind == "request" && n.ID == fmt.Sprint(id) }) {
		t.Errorf("nothing on Standing waits for an approver: %+v", standing.Needs)
	}
	operator.Must(http.MethodGet, "/standing", nil, &standing)
	if slices.ContainsFunc(standing.Needs, func(n api.NeedView) bool { return n.Kind == "request" }) {
		t.Error("it waits for somebody who cannot decide")
	}
	f.delivered(t)
	if got := inbox(t, approver); !slices.Contains(got, "Approve planned work? New displays") {
		t.Errorf("an approver is told %q", got)
	}

	var seen api.RequestedWork
	approver.Must(http.MethodGet, fmt.Sprintf("/work-requests/%d", id), nil, &seen)
	if !seen.May || seen.Mine || seen.Work == nil || len(seen.Work.Occurrences) != 1 || seen.Reason != "The desk is closed" {
		t.Errorf("an approver sees %+v", seen)
	}
	operator.Must(http.MethodGet, fmt.Sprintf("/work-requests/%d", id), nil, &seen)
	if seen.May || !seen.Mine {
		t.Errorf("who asked sees %+v", seen)
	}
	for _, c := range []struct {
		as         *servertest.Client
		does, note string
		want       int
	}{{operator, "approve", "", 403}, {viewer, "approve", "", 403}, {viewer, "withdraw", "", 403}, {approver, "withdraw", "", 403}, {approver, "refuse", "", 422}, {approver, "burn", "", 422}} {
		if a := decide(c.as, id, c.does, c.note); a.Status != c.want {
			t.Errorf("%s: %s, want %d", c.does, a, c.want)
		}
	}
	before := storetest.Now()
	if a := decide(approver, id, "approve", "Tell the desk"); a.Status != 204 {
		t.Fatalf("approved: %s", a)
	}
	approver.Must(http.MethodGet, fmt.Sprintf("/work-requests/%d", id), nil, &seen)
	if seen.State != "approved" || seen.Window == "" || seen.Note != "Tell the desk" || seen.May {
		t.Errorf("approved, it is %+v", seen)
	}
	var history struct{ Items []api.RevisionView }
	f.manager.Must(http.MethodGet, "/windows/"+seen.Window+"/revisions", nil, &history)
	if r := history.Items[0]; !strings.Contains(r.Reason, "The desk is closed (asked for by") || r.From.Before(before.Truncate(time.Second)) {
		t.Errorf("its revision is %+v", r)
	}
	f.delivered(t)
	if got := inbox(t, operator); !slices.Contains(got, "Approved: New displays") {
		t.Errorf("who asked is told %q", got)
	}
	if a := decide(approver, id, "refuse", "No"); a.Status != 409 {
		t.Errorf("decided twice: %s", a)
	}

	// An edit that adds waits; one that takes away does not; a moved occurrence is asked for.
	kept := spec
	kept.DurationS = 1800
	operator.Must(http.MethodPut, "/windows/"+seen.Window, map[string]any{"revision": 1, "spec": kept}, nil)
	if a := operator.Do(http.MethodPut, "/windows/"+seen.Window, map[string]any{"revision": 2, "spec": spec}); a.Status != 422 {
		t.Errorf("made longer: %s", a)
	}
	move := api.OccurrenceAsk{Does: "move", At: spec.Start, Start: f.planned(50*time.Hour, 0).Start, Revision: 2}
	if a := operator.Do(http.MethodPost, "/windows/"+seen.Window+"/occurrence", move); a.Status != 422 {
		t.Errorf("moved: %s", a)
	}
	move.Ask = true
	operator.Must(http.MethodPost, "/windows/"+seen.Window+"/occurrence", move, nil)
	var open struct{ Items []api.OwnRequest }
	approver.Must(http.MethodGet, "/work-requests?open=true", nil, &open)
	if len(open.Items) != 1 || open.Items[0].Window != seen.Window || open.Items[0].Revision != 2 {
		t.Fatalf("asked for: %+v", open.Items)
	}
	// The window is edited meanwhile: what was asked for is about another one.
	kept.Name = "Newer displays"
	operator.Must(http.MethodPut, "/windows/"+seen.Window, map[string]any{"revision": 2, "spec": kept}, nil)
	seen = api.RequestedWork{}
	approver.Must(http.MethodGet, fmt.Sprintf("/work-requests/%d", open.Items[0].ID), nil, &seen)
	if !strings.Contains(seen.Fault, "was edited by") || seen.Work != nil {
		t.Errorf("asked for on another revision, it says %q", seen.Fault)
	}
	if a := decide(approver, open.Items[0].ID, "approve", ""); a.Status != 409 {
		t.Errorf("approved on another revision: %s", a)
	}
	if a := decide(operator, open.Items[0].ID, "withdraw", ""); a.Status != 204 {
		t.Errorf("withdrawn: %s", a)
	}
}

// Two who decide at once decide once, and a window comes of it where one approved.
func TestTwoDecideAtOnce(t *testing.T) {
	f := setUp(t)
	f.asking(t)
	operator := f.as(t, access.Operator)
	deciders := []*servertest.Client{f.as(t, access.Approver), f.manager, f.as(t, access.Administrator)}
	for n := range 6 {
		spec := f.planned(time.Duration(30+n)*time.Hour, 600)
		spec.Name = fmt.Sprintf("Work %d", n)
		id := f.ask(t, operator, api.WorkAsked{Spec: spec})
		var all sync.WaitGroup
		status := make([]int, 6)
		for i := range status {
			does, note := "approve", ""
			if i%2 == 1 {
				does, note = "refuse", "Not then"
			}
			all.Go(func() { status[i] = decide(deciders[i%3], id, does, note).Status })
		}
		all.Wait()
		slices.Sort(status)
		if want := []int{204, 409, 409, 409, 409, 409}; !slices.Equal(status, want) {
			t.Errorf("six decisions: %v", status)
		}
		var r api.RequestedWork
		operator.Must(http.MethodGet, fmt.Sprintf("/work-requests/%d", id), nil, &r)
		var windows struct {
			Items []api.Defined[definition.WindowSpec]
		}
		operator.Must(http.MethodGet, "/windows", nil, &windows)
		is := slices.ContainsFunc(windows.Items, func(w api.Defined[definition.WindowSpec]) bool { return w.Spec.Name == spec.Name })
		if is != (r.State == "approved") {
			t.Errorf("it is %s, and planned: %v", r.State, is)
		}
	}
}

// Work whose time has passed while it waited, or lies in a new embargo, cannot be
// approved as things are, and says why; nothing else is held up by it.
func TestWorkThatWaitedTooLong(t *testing.T) {
	f := setUp(t)
	f.asking(t)
	operator, approver := f.as(t, access.Operator), f.as(t, access.Approver)
	id := f.ask(t, operator, api.WorkAsked{Spec: f.planned(30*time.Hour, 600)})
	other := f.ask(t, operator, api.WorkAsked{Spec: f.planned(80*time.Hour, 600)})
	past := f.planned(-2*time.Hour, 600)
	if a := operator.Do(http.MethodPost, "/work-requests", api.WorkAsked{Spec: past}); a.Status != 422 || !strings.Contains(string(a.Body), "would be over by now") {
		t.Errorf("asked for what has passed: %s", a)
	}
	if _, err := f.srv.API.Store.Exec(t.Context(), `UPDATE work_request SET spec = jsonb_set(spec, '{start}', to_jsonb($1::text)) WHERE id = $2`, past.Start, id); err != nil {
		t.Fatal(err)
	}
	var r api.RequestedWork
	approver.Must(http.MethodGet, fmt.Sprintf("/work-requests/%d", id), nil, &r)
	if !strings.Contains(r.Fault, "would be over by now") {
		t.Errorf("it says %q", r.Fault)
	}
	if a := decide(approver, id, "approve", ""); a.Status != 409 || !strings.Contains(string(a.Body), "would be over by now") {
		t.Errorf("approved: %s", a)
	}
	var c api.CalendarView
	approver.Must(http.MethodGet, "/calendar", nil, &c)
	if len(c.Requests) != 2 {
		t.Errorf("the calendar has %d requests", len(c.Requests))
	}
	if a := decide(approver, other, "approve", ""); a.Status != 204 {
		t.Errorf("another one: %s", a)
	}
	// One that cannot be read is told, and holds nothing up.
	if _, err := f.srv.API.Store.Exec(t.Context(), `UPDATE work_request SET spec = '{"start": 7}' WHERE id = $1`, id); err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{"/calendar", "/standing", "/work-requests"} {
		if a := approver.Do(http.MethodGet, path, nil); a.Status != 200 {
			t.Errorf("%s beside a poisonous request: %s", path, a)
		}
	}
	if a := decide(operator, id, "withdraw", ""); a.Status != 204 {
		t.Errorf("a poisonous request is withdrawn: %s", a)
	}
}

func (f *fixture) delivered(t *testing.T) {
	t.Helper()
	if err := f.srv.API.Notices.Deliver(store.For(context.Background(), store.Jobs)); err != nil {
		t.Fatal(err)
	}
}

// inbox are the subjects of what lies in somebody's.
func inbox(t *testing.T, c *servertest.Client) []string {
	t.Helper()
	var view api.InboxView
	c.Must(http.MethodGet, "/me/inbox", nil, &view)
	var out []string
	for _, i := range view.Items {
		out = append(out, i.Subject)
	}
	return out
}
