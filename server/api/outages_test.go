package api_test

import (
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"kestite/agent/wire"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/server/api"
	"kestite/server/servertest"
	"kestite/server/store/storetest"
)

// An outage is told with its beginning and end, what the checks said as it began, and
// what it counts as; a short span shows each measurement.
func TestOutagesOfAServiceAreTold(t *testing.T) {
	f := setUp(t)
	f.manager.Create("/agreements", agreement(f.service, nil))
	began := span.Of(storetest.Now())
	at := began.Add(5) // after the definitions
	deliver := func(outcome measure.Outcome, detail string, ms float64) {
		t.Helper()
		for range 2 { // as many as it takes to believe it
			for _, l := range []string{"tolvik", "eskerby"} {
				list := []wire.Measurement{{Check: f.check, At: at, Outcome: outcome, Detail: detail, Measures: map[string]float64{"total_ms": ms}}}
				if r, err := f.srv.API.Ingest.Batch(t.Context(), l, "", list); err != nil || r.Stored != 1 {
					t.Fatal(r, err)
				}
			}
			at = at.Add(2)
		}
	}
	deliver(measure.OK, "", 40)
	down := at
	deliver(measure.Failed, "connection refused", 3)
	up := at
	deliver(measure.OK, "", 60)
	for span.Of(storetest.Now()) < at {
		time.Sleep(time.Millisecond)
	}
	ask := func(band string) (out api.ServiceSpan) {
		t.Helper()
		f.manager.Must(http.MethodGet, "/services/"+f.service+"/span?span="+url.QueryEscape(band), nil, &out)
		return out
	}
	instants := func(from, to span.Instant) string { return from.String() + "/" + to.String() }
	short := ask(instants(began.Add(-10*span.Minute), began.Add(10*span.Minute)))
	if len(short.Outages) != 1 || short.Earlier != 0 {
		t.Fatalf("%+v", short.Outages)
	}
	o := short.Outages[0]
	if o.From != down || o.To != up || o.MS != int64(up-down) || o.Lasts || o.State != "down" {
		t.Errorf("%+v, not from %v to %v", o, down, up)
	}
	if len(o.Reasons) != 1 || !strings.HasSuffix(o.Reasons[0], " from Eskerby, Tolvik: connection refused") {
		t.Errorf("why: %q", o.Reasons)
	}
	if len(o.Counts) != 1 || o.Counts[0].Name != "Passenger division" || len(o.Counts[0].Classes) != 1 ||
		o.Counts[0].Classes[0] != (api.ClassTime{Class: "down", MS: o.MS}) {
		t.Errorf("what it counts as: %+v", o.Counts)
	}
	lane := short.Checks[0].Lanes[0]
	if lane.StepMS != 0 || len(lane.Points) != 6 || lane.Points[2].Failed != 1 || *lane.Points[0].Mean != 40 || lane.Points[2].At != down {
		t.Errorf("each measurement by itself: step %d, %+v", lane.StepMS, lane.Points)
	}
	if month := ask(""); len(month.Outages) != 1 {
		t.Errorf("in the month: %+v", month.Outages)
	}
	days := ask(instants(began.Add(-2*span.Day), began.Add(span.Day)))
	if len(days.Outages) != 1 || days.Checks[0].Lanes[0].StepMS != span.Hour {
		t.Errorf("in three days: %+v, steps of %d ms", days.Outages, days.Checks[0].Lanes[0].StepMS)
	}
	// A span that begins within the outage tells when it began; one before it, nothing.
	if within := ask(instants(down.Add(1), down.Add(11*span.Minute))); len(within.Outages) != 1 || within.Outages[0].From != down {
		t.Errorf("from within: %+v", within.Outages)
	}
	if before := ask(instants(began.Add(-span.Hour), began.Add(-span.Minute))); len(before.Outages) != 0 || before.Outages == nil {
		t.Errorf("before it: %+v", before.Outages)
	}
}

// Many measurements of a short span are summed up, none is left out.
func TestManyMeasurementsAreSummedUp(t *testing.T) {
	f := setUp(t)
	const n = 1000
	from := span.Of(storetest.Now()).Add(5) // after the definitions
	var list []wire.Measurement
	for i := range n {
		m := wire.Measurement{Check: f.check, At: from.Add(int64(i)), Outcome: measure.OK,
			Measures: map[string]float64{"total_ms": float64(i%100 + 1)}}
		if i%10 == 0 {
			m.Outcome, m.Measures = measure.Failed, nil
		}
		list = append(list, m)
	}
	if r, err := f.srv.API.Ingest.Batch(t.Context(), "tolvik", "", list); err != nil || r.Stored != n {
		t.Fatal(r.Stored, err)
	}
	for span.Of(storetest.Now()) < from.Add(n) {
		time.Sleep(time.Millisecond)
	}
	var out api.ServiceSpan
	band := from.Add(-span.Minute).String() + "/" + from.Add(20*span.Minute).String()
	f.manager.Must(http.MethodGet, "/services/"+f.service+"/span?span="+url.QueryEscape(band), nil, &out)
	var lane api.LaneView
	for _, l := range out.Checks[0].Lanes {
		if l.Location == "tolvik" {
			lane = l
		}
	}
	count, failed := int32(0), int32(0)
	for i, p := range lane.Points {
		count, failed = count+p.Count, failed+p.Failed
		if i > 0 && p.At < lane.Points[i-1].At.Add(lane.StepMS) || p.Mean == nil || *p.P95 < float64(*p.Mean) {
			t.Errorf("point %d: %+v", i, p)
		}
	}
	if lane.StepMS == 0 || len(lane.Points) > 600 || count != n || failed != n/10 {
		t.Errorf("%d points of %d ms sum up %d measurements, %d failed", len(lane.Points), lane.StepMS, count, failed)
	}
}

// A check that informs decides nothing, and is named among what needs somebody when it
// fails; so is a service that nothing measures. What is down because of another stands
// under that.
func TestNeedsNameAllThatIsWrong(t *testing.T) {
	f := setUp(t)
	informs := f.manager.Create("/checks", servertest.Check(f.service, []string{"tolvik", "eskerby"}, func(m map[string]any) {
		m["name"], m["role"] = "Front end", "informs"
	}))
	board := f.manager.Create("/services", map[string]any{"name": "Sailing board", "kind": "business", "combine": "worst",
		"depends_on": []any{map[string]any{"services": []string{f.service}}}})
	f.manager.Create("/services", map[string]any{"name": "Crew roster", "kind": "business", "combine": "worst"})
	at := span.Of(storetest.Now()).Add(5)
	deliver := func(check string, outcome measure.Outcome) {
		t.Helper()
		for range 2 {
			for _, l := range []string{"tolvik", "eskerby"} {
				if r, err := f.srv.API.Ingest.Batch(t.Context(), l, "", []wire.Measurement{{Check: check, At: at, Outcome: outcome}}); err != nil ||
					r.Stored != 1 {
					t.Fatal(r, err)
				}
			}
			at = at.Add(2)
		}
	}
	needs := func() (out []string) {
		t.Helper()
		for span.Of(storetest.Now()) < at {
			time.Sleep(time.Millisecond)
		}
		if err := f.srv.Judge.Services(t.Context(), []string{f.service, board, "crew-roster"}); err != nil {
			t.Fatal(err)
		}
		if err := f.srv.API.Incidents.Sweep(t.Context()); err != nil { // as a server does every 3 s
			t.Fatal(err)
		}
		var s api.Standing
		f.manager.Must(http.MethodGet, "/standing", nil, &s)
		for _, n := range s.Needs {
			if n.Kind != "agent" {
				out = append(out, strings.TrimSpace(n.Kind+": "+n.Subject+" "+n.Text+" "+strings.Join(n.With, ", ")))
			}
		}
		return out
	}
	deliver(f.check, measure.OK)
	deliver(informs, measure.OK)
	nothing := "unmeasured: Crew roster has no check, so nothing measures it"
	if got := needs(); !slices.Equal(got, []string{nothing}) {
		t.Errorf("while all is well: %q", got)
	}
	deliver(informs, measure.Failed)
	failing := "check: Front end of Ticket sales down at Eskerby and Tolvik; it informs only"
	if got := needs(); !slices.Equal(got, []string{failing, nothing}) {
		t.Errorf("an informing check fails: %q", got)
	}
	deliver(f.check, measure.Failed)
	if got := needs(); !slices.Equal(got, []string{"down: Ticket sales down Sailing board down", failing, nothing}) {
		t.Errorf("one cause: %q", got)
	}
}

// A list of checks says how each is now, by its quorum, and what it measured last.
func TestHowChecksAreNow(t *testing.T) {
	f := setUp(t)
	idle := f.manager.Create("/checks", servertest.Check(f.service, []string{"tolvik"}, func(m map[string]any) { m["name"] = "Idle" }))
	at := span.Of(storetest.Now()).Add(5)
	for i := range 2 {
		for l, outcome := range map[string]measure.Outcome{"tolvik": measure.OK, "eskerby": measure.Failed} {
			list := []wire.Measurement{{Check: f.check, At: at.Add(int64(i)), Outcome: outcome, Measures: map[string]float64{"total_ms": 42.5},
				Detail: "said " + l}}
			if r, err := f.srv.API.Ingest.Batch(t.Context(), l, "", list); err != nil || r.Stored != 1 {
				t.Fatal(r, err)
			}
		}
	}
	for span.Of(storetest.Now()) < at.Add(2) {
		time.Sleep(time.Millisecond)
	}
	var now struct{ Items []api.CheckNow }
	f.manager.Must(http.MethodGet, "/checks/now?ids="+f.check+"&ids="+idle+"&ids=nothing", nil, &now)
	if len(now.Items) != 2 || now.Items[1].State != "unmeasured" || len(now.Items[0].Lanes) != 2 {
		t.Fatalf("%+v", now.Items)
	}
	for _, l := range now.Items[0].Lanes {
		want := map[string]string{"tolvik": "up", "eskerby": "down"}[l.Location]
		if l.State != want || l.At == nil || l.Value == nil || *l.Value != 42.5 || l.Detail != "said "+l.Location {
			t.Errorf("%+v", l)
		}
	}
	var bad struct{ Items []api.CheckState }
	f.manager.Must(http.MethodGet, "/checks/states", nil, &bad)
	states := map[string]string{f.check: now.Items[0].State, idle: "unmeasured"}
	if states[f.check] == "up" {
		delete(states, f.check)
	}
	for _, c := range bad.Items {
		if states[c.Check] != c.State {
			t.Errorf("%+v is told, and %v", c, states)
		}
		delete(states, c.Check)
	}
	if len(states) > 0 {
		t.Errorf("nothing is told of %v", states)
	}
}

// A span within the hour that clocks show twice, and across it, is as any other.
func TestSpansWhereClocksAreSetBack(t *testing.T) {
	f := setUp(t)
	for _, of := range []string{"2026-10-25T00:48:12.814Z/2026-10-25T01:08:12.814Z", "2026-10-25T01:10:00.000Z/2026-10-25T01:40:00.000Z", "2026-10-24T22:30:00.000Z/2026-10-25T03:00:00.000Z"} {
		if a := f.manager.Do(http.MethodGet, "/services/"+f.service+"/span?span="+of, nil); a.Status != http.StatusOK {
			t.Errorf("%s: %s", of, a)
		}
	}
}
