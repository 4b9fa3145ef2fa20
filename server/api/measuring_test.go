package api_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"net/http"
	"strings"
	"testing"
	"time"

	"kestite/agent/wire"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/server/api"
	"kestite/server/servertest"
	"kestite/server/store/raw"
	"kestite/server/store/storetest"
)

// assigned are the checks that a location's agent gets.
func (f *fixture) assigned(t *testing.T, token string) wire.Assignments {
	t.Helper()
	var out wire.Assignments
	a := servertest.AsAgent(t, f.url, token, wire.PathAssignments, `{}`)
	if err := json.Unmarshal(a.Body, &out); err != nil || a.Status != http.StatusOK {
		t.Fatalf("assignments: %s", a)
	}
	return out
}

// A secret goes to the agents that need it, and nowhere else.
func TestSecretsAreNeverReadBack(t *testing.T) {
	f := setUp(t)
	id := f.manager.Create("/credentials", map[string]any{"name": "Desk", "kind": "bearer", "origins": []string{"http://127.0.0.1:9"}})
	f.manager.Must(http.MethodPut, "/checks/"+f.check, map[string]any{"revision": f.manager.Revision("/checks/" + f.check),
		"spec": servertest.Check(f.service, []string{"tolvik"}, func(c map[string]any) {
			c["http"] = map[string]any{"credential": id}
		})}, nil)
	if got := f.assigned(t, f.tolvik).Checks[0]; got.Secret != nil {
		t.Errorf("a secret before one was entered: %+v", got.Secret)
	}
	before := f.assigned(t, f.tolvik).Mark
	f.manager.Must(http.MethodPut, "/credentials/"+id+"/secret", map[string]any{"secret": "stockfish"}, nil)
	got := f.assigned(t, f.tolvik)
	if s := got.Checks[0].Secret; s == nil || s.Value != "stockfish" || s.Kind != "bearer" {
		t.Errorf("the agent gets %+v", s)
	}
	if got.Mark == before {
		t.Error("agents are not told of a new secret")
	}
	for _, path := range []string{"/credentials", "/credentials/secrets", "/checks", "/credentials/" + id + "/revisions", "/trail"} {
		if a := f.manager.Do(http.MethodGet, path, nil); a.Status == http.StatusOK && strings.Contains(string(a.Body), "stockfish") {
			t.Errorf("GET %s gives the secret away", path)
		}
	}
	var sealed string
	if err := f.srv.API.Store.Pool.QueryRow(context.Background(), "SELECT encode(sealed, 'escape') FROM secret").Scan(&sealed); err != nil || strings.Contains(sealed, "stockfish") {
		t.Errorf("in the database: %q, %v", sealed, err)
	}
	if a := f.manager.Do(http.MethodDelete, "/credentials/"+id, nil); a.Status != http.StatusUnprocessableEntity || !strings.Contains(string(a.Body), "signs in with it") {
		t.Errorf("retiring a credential in use: %s", a)
	}
	if a := f.manager.Do(http.MethodPut, "/credentials/"+id+"/secret", map[string]any{"secret": "two\nlines"}); a.Status != http.StatusUnprocessableEntity || strings.Contains(string(a.Body), "two") {
		t.Errorf("a secret of two lines: %s", a)
	}
	if a := f.manager.Do(http.MethodPost, "/checks", map[string]any{"spec": servertest.Check(f.service, []string{"tolvik"}, func(c map[string]any) {
		c["http"] = map[string]any{"headers": []map[string]any{{"name": "Authorization", "value": "Bearer stockfish"}}}
	})}); a.Status != http.StatusUnprocessableEntity || !strings.Contains(string(a.Body), "make a credential") {
		t.Errorf("a secret in a header: %s", a)
	}
}

// call reports in.
func call(t *testing.T, url, body string) (int, string) {
	t.Helper()
	resp, err := http.Post(url, "application/json", strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	text, _ := io.ReadAll(resp.Body)
	return resp.StatusCode, string(text)
}

// latest is the newest measurement of a check's only lane.
func (f *fixture) latest(t *testing.T, check string) (measure.Outcome, string, []float64, int) {
	t.Helper()
	ctx := context.Background()
	lanes, err := f.srv.API.Store.LanesOfChecks(ctx, []string{check})
	if err != nil || len(lanes) != 1 {
		t.Fatal(lanes, err)
	}
	rows, err := raw.Latest(ctx, f.srv.API.Store.Queries, lanes[0].ID, 0, span.Of(storetest.Now().AddDate(100, 0, 0)), 1000)
	if err != nil || len(rows) == 0 {
		t.Fatal(rows, err)
	}
	return rows[0].Outcome, rows[0].Detail, rows[0].Values(), len(rows)
}

func TestReportIn(t *testing.T) {
	f := setUp(t)
	now := storetest.Now()
	clock := func() time.Time { return now }
	in := f.srv.API.Inward
	in.Now, in.Ingest.Now = clock, clock
	ctx := context.Background()
	check := f.manager.Create("/checks", map[string]any{
		"service": f.service, "name": "Nightly copy", "kind": "report-in", "target": "", "interval_s": 60, "timeout_ms": 10_000, "stale_after_s": 200,
		"confirm": 1, "recover": 1, "locations": []string{"server"}, "limits": []map[string]any{{"measure": "value_1", "degraded_below": 1}},
		"report_in": map[string]any{"numbers": []string{"files"}},
	})
	if len(f.assigned(t, f.tolvik).Checks) != 1 {
		t.Error("an agent got the report-in check")
	}
	var made struct{ Path string }
	f.manager.Must(http.MethodPost, "/checks/"+check+"/report-in", nil, &made)
	url := f.url + made.Path
	if err := in.Due(ctx); err != nil {
		t.Fatal(err)
	}
	step := func(d time.Duration) { // while some server is there
		t.Helper()
		for ; d > 0; d -= 10 * time.Second {
			now = now.Add(min(d, 10*time.Second))
			if _, err := in.Store.There(ctx, now); err != nil {
				t.Fatal(err)
			}
		}
	}
	for _, c := range []struct {
		query, body string
		want        measure.Outcome
		detail      string
	}{
		{"", "", measure.OK, ""},
		{"?files=12", "", measure.OK, ""},
		{"?files=0", "", measure.Degraded, "First number 0"},
		{"", `{"outcome":"failed","detail":"disk full","numbers":{"files":3}}`, measure.Failed, "disk full"},
		{"?outcome=degraded&detail=slow", "", measure.Degraded, "slow"},
	} {
		step(time.Second)
		if status, text := call(t, url+c.query, c.body); status != http.StatusOK {
			t.Fatalf("reporting %s%s: %d %s", c.query, c.body, status, text)
		}
		if o, detail, values, _ := f.latest(t, check); o != c.want || !strings.Contains(detail, c.detail) || c.query == "?files=12" && (values[1] != 12 || values[0] < 0.9) {
			t.Errorf("reporting %s%s: %v %q %v", c.query, c.body, o, detail, values)
		}
	}
	for _, bad := range []struct{ url, body, want string }{
		{url, "{", "the report cannot be read"},
		{url + "?files=many", "", "is no number"},
		{url + "?files=NaN", "", "is no number that can be kept"},
		{url + "?files=-Inf", "", "is no number that can be kept"},
		{url + "?files=1e39", "", "is no number that can be kept"},
		{url, `{"numbers":{"files":1e300}}`, "is no number that can be kept"},
		{url, `{"numbers":{"files":1e400}}`, "the report cannot be read"},
		{url + "?boxes=4", "", "has no number"},
		{url, `{"outcome":"great"}`, "it is ok, degraded or failed"},
		{url + "x", "", "no check to report in to"},
	} {
		step(time.Second)
		if status, text := call(t, bad.url, bad.body); status < 400 || !strings.Contains(text, bad.want) {
			t.Errorf("%s %s: %d %s; want %q", bad.url, bad.body, status, text, bad.want)
		}
	}
	_, _, _, taken := f.latest(t, check)
	if taken != 5 {
		t.Errorf("%d measurements of five good reports", taken)
	}
	// Silence beyond interval and grace is a failure, at its own instant, once.
	step(59 * time.Second)
	due := func() {
		t.Helper()
		for range 3 {
			if err := in.Due(ctx); err != nil {
				t.Fatal(err)
			}
		}
	}
	due()
	if _, _, _, n := f.latest(t, check); n != taken {
		t.Error("a failure within the grace")
	}
	step(15 * time.Second)
	due()
	if o, detail, _, n := f.latest(t, check); o != measure.Failed || !strings.Contains(detail, "no report within 60 s and 10 s of grace") || n != taken+1 {
		t.Errorf("after silence: %v %q, %d rows", o, detail, n)
	}
	step(60 * time.Second)
	due()
	if _, _, _, n := f.latest(t, check); n != taken+2 {
		t.Errorf("after an interval more of silence: %d rows", n)
	}
	if status, _ := call(t, url, ""); status != http.StatusOK {
		t.Error("the report after silence was refused")
	}
	if o, _, _, _ := f.latest(t, check); o != measure.OK {
		t.Errorf("the report after silence is %v", o)
	}
	f.manager.Must(http.MethodPost, "/checks/"+check+"/report-in", nil, &made)
	if status, _ := call(t, url, ""); status != http.StatusNotFound {
		t.Error("the old address still works after a new one was made")
	}
}

func TestDerived(t *testing.T) {
	f := setUp(t)
	now := storetest.Now().Truncate(time.Minute).Add(time.Minute)
	clock := func() time.Time { return now }
	in := f.srv.API.Inward
	in.Now, in.Ingest.Now = clock, clock
	ctx := context.Background()
	other := f.manager.Create("/checks", servertest.Check(f.service, []string{"tolvik"}, func(c map[string]any) { c["name"] = "Other" }))
	derived := func(name, operation string) string {
		return f.manager.Create("/checks", map[string]any{
			"service": f.service, "name": name, "kind": "derived", "target": "", "interval_s": 60, "timeout_ms": 1000, "stale_after_s": 200, "confirm": 1, "recover": 1,
			"locations": []string{"server"}, "limits": []map[string]any{{"measure": "value", "degraded_above": 400}},
			"derived": map[string]any{"operation": operation, "sources": []map[string]any{{"check": f.check, "measure": "total_ms"}, {"check": other, "measure": "total_ms"}}},
		})
	}
	ids := map[string]string{}
	for _, op := range []string{"sum", "difference", "mean", "min", "max", "share"} {
		ids[op] = derived(op, op)
	}
	put := func(check, location string, total float64) {
		t.Helper()
		r, err := in.Ingest.Batch(ctx, location, "", []wire.Measurement{{Check: check, At: span.Of(now), Outcome: measure.OK, Measures: map[string]float64{"total_ms": total}}})
		if err != nil || r.Stored != 1 {
			t.Fatalf("%+v %v", r, err)
		}
	}
	due := func() {
		t.Helper()
		if err := in.Due(ctx); err != nil {
			t.Fatal(err)
		}
	}
	now = now.Add(time.Minute)
	due()
	if o, detail, _, _ := f.latest(t, ids["sum"]); o != measure.Error || !strings.Contains(detail, "no value of total_ms") {
		t.Errorf("of nothing: %v %q", o, detail)
	}
	put(f.check, "tolvik", 100)
	put(f.check, "eskerby", 300) // 200 on the mean
	put(other, "tolvik", 250)
	now = now.Add(time.Minute)
	due()
	due() // the same instant once more is nothing new
	for op, want := range map[string]float64{"sum": 450, "difference": -50, "mean": 225, "min": 200, "max": 250, "share": 80} {
		o, detail, values, n := f.latest(t, ids[op])
		if n != 2 || values[0] != want || (op == "sum") != (o == measure.Degraded) {
			t.Errorf("%s: %v %v %q, %d rows; want %v", op, o, values, detail, n, want)
		}
	}
	now = now.Add(4 * time.Minute) // stale
	due()
	if o, _, _, _ := f.latest(t, ids["sum"]); o != measure.Error {
		t.Errorf("of stale values: %v", o)
	}
	for want, change := range map[string]func(map[string]any){
		"names no check":    func(s map[string]any) { s["check"] = "nobody" },
		"is no measure of":  func(s map[string]any) { s["measure"] = "days_left" },
		"is derived itself": func(s map[string]any) { s["check"], s["measure"] = ids["sum"], "value" },
		"not measured from": func(s map[string]any) { s["location"] = "nowhere" },
	} {
		source := map[string]any{"check": f.check, "measure": "total_ms"}
		change(source)
		a := f.manager.Do(http.MethodPost, "/checks", map[string]any{"spec": map[string]any{
			"service": f.service, "name": "bad", "kind": "derived", "target": "", "interval_s": 60, "timeout_ms": 1000, "stale_after_s": 200, "confirm": 1, "recover": 1,
			"locations": []string{"server"}, "derived": map[string]any{"operation": "sum", "sources": []any{source}},
		}})
		if _, fields := a.Problem(); !strings.Contains(fmt.Sprint(fields), want) {
			t.Errorf("want %q: %s", want, a)
		}
	}
}

// What an agent saw is kept, labelled with whose network each hop lies in, and shown with the moment.
func TestFindingsAreKeptAndLabelled(t *testing.T) {
	f := setUp(t)
	f.manager.Create("/networks", map[string]any{"name": "Sound Cable", "prefixes": []string{"198.18.0.0/16"}})
	f.manager.Create("/networks", map[string]any{"name": "Own line", "ours": true, "prefixes": []string{"198.18.4.0/24", "198.18.5.1"}})
	at := span.Of(storetest.Now().Truncate(time.Millisecond))
	trace := &measure.Trace{Method: "icmp", Target: "198.18.4.2", Reached: true, Hops: []measure.Hop{
		{TTL: 1, Addrs: []string{"10.9.9.9"}, Sent: 3, Answered: 3}, {TTL: 2, Addrs: []string{"198.18.7.1"}, Sent: 3, Answered: 3}, {TTL: 3, Addrs: []string{"198.18.4.2"}, Sent: 3, Answered: 3},
	}}
	body, err := json.Marshal(wire.Batch{Measurements: []wire.Measurement{{Check: f.check, At: at, Outcome: measure.OK, Findings: &measure.Findings{Trace: trace, Response: &measure.Response{Body: "a\x00b"}}}}})
	if err != nil {
		t.Fatal(err)
	}
	if a := servertest.AsAgent(t, f.url, f.tolvik, wire.PathBatches, string(body)); !strings.Contains(string(a.Body), `"stored":1`) {
		t.Fatalf("delivering: %s", a)
	}
	var moment struct {
		Samples map[string]struct{ Findings *measure.Findings }
	}
	f.manager.Must(http.MethodGet, "/services/"+f.service+"/moment?at="+at.String(), nil, &moment)
	got := moment.Samples[f.check+" tolvik"].Findings
	if got == nil || got.Trace == nil {
		t.Fatalf("no findings: %+v", moment)
	}
	for i, want := range []string{"", "Sound Cable", "Own line"} {
		if n := got.Trace.Hops[i].Networks; len(n) != 1 || n[0] != want {
			t.Errorf("hop %d lies in %q, want %q", i+1, n, want)
		}
	}
	if got.Response.Body != "a\uFFFDb" {
		t.Errorf("the body came back as %q", got.Response.Body)
	}
	if a := f.manager.Do(http.MethodPost, "/networks", map[string]any{"spec": map[string]any{"name": "Bad", "prefixes": []string{"198.18.0.0/40"}}}); a.Status != http.StatusUnprocessableEntity || !strings.Contains(string(a.Body), "no range of addresses") {
		t.Errorf("an impossible range: %s", a)
	}
}

func TestKits(t *testing.T) {
	f := setUp(t)
	check := servertest.Check("", nil, func(c map[string]any) { c["name"], c["target"] = "Page of {host}", "https://{host}/" })
	delete(check, "service")
	delete(check, "locations")
	check["service"], check["locations"] = "any", []string{"any"}
	kit := f.manager.Create("/kits", map[string]any{"name": "Web", "parameters": []map[string]any{{"name": "host", "default": "kit.invalid"}}, "checks": []any{check}})
	use := func(body map[string]any) servertest.Answer {
		return f.manager.Do(http.MethodPost, "/kits/"+kit+"/use", body)
	}
	if a := use(map[string]any{"service": f.service, "locations": []string{"tolvik"}, "values": map[string]string{"host": "tickets.skerry.example"}}); a.Status != http.StatusOK {
		t.Fatalf("%s", a)
	}
	found := false
	for _, c := range f.assigned(t, f.tolvik).Checks {
		found = found || c.Target == "https://tickets.skerry.example/"
	}
	if !found {
		t.Error("the agent did not get the kit's check")
	}
	for want, body := range map[string]map[string]any{
		"names no service":           {"service": "nothing", "locations": []string{"tolvik"}},
		"names no location":          {"service": f.service, "locations": []string{"nowhere"}},
		"at least one is needed":     {"service": f.service, "locations": []string{}},
		"has no parameter \"berth\"": {"service": f.service, "locations": []string{"tolvik"}, "values": map[string]string{"berth": "4"}},
		"is no web address":          {"service": f.service, "locations": []string{"tolvik"}, "values": map[string]string{"host": "no host"}},
	} {
		a := use(body)
		if _, fields := a.Problem(); a.Status != http.StatusUnprocessableEntity || !strings.Contains(fmt.Sprint(fields), want) {
			t.Errorf("want %q: %s", want, a)
		}
	}
}

// A measurement by an agent that did not hold the check is a duplicate.
func TestOnlyTheHolderCounts(t *testing.T) {
	f := setUp(t)
	second := servertest.Agent(t, f.srv, "tolvik")
	a, b := f.assigned(t, f.tolvik), f.assigned(t, second) // both call: a roster of two
	a = f.assigned(t, f.tolvik)
	if len(a.Checks)+len(b.Checks) != 1 {
		t.Fatalf("of one check the agents hold %d and %d", len(a.Checks), len(b.Checks))
	}
	holder, other := f.tolvik, second
	if len(b.Checks) == 1 {
		holder, other = second, f.tolvik
	}
	batch := func(at time.Time) string {
		return fmt.Sprintf(`{"measurements":[{"check":%q,"at":%q,"outcome":"ok"}]}`, f.check, span.Of(at))
	}
	now := storetest.Now().Add(time.Second)
	if a := servertest.AsAgent(t, f.url, other, wire.PathBatches, batch(now)); !strings.Contains(string(a.Body), `"stored":0,"duplicates":1`) {
		t.Errorf("of the other agent: %s", a)
	}
	if a := servertest.AsAgent(t, f.url, holder, wire.PathBatches, batch(now)); !strings.Contains(string(a.Body), `"stored":1`) {
		t.Errorf("of the holder: %s", a)
	}
	if a := servertest.AsAgent(t, f.url, other, wire.PathBatches, batch(now.Add(-31*24*time.Hour))); !strings.Contains(string(a.Body), "refused") {
		t.Errorf("31 days late: %s", a)
	}
}

// A path says since when it goes the way it goes, and which way it went before.
func TestSinceWhenARouteIsWhatItIs(t *testing.T) {
	f := setUp(t)
	path := f.manager.Create("/checks", servertest.Check(f.service, []string{"tolvik"}, func(m map[string]any) {
		m["name"], m["kind"], m["target"] = "Way", "path", "198.18.4.20"
	}))
	f.exec(t, "UPDATE revision SET valid_from = valid_from - interval '1 hour'") // it was measured before
	at := span.Of(f.srv.API.Now()).Add(-10 * span.Minute)
	var list []wire.Measurement
	for i, route := range []float64{0xabc, 0xabc, 0xdef123, math.NaN(), 0xdef123} {
		m := wire.Measurement{Check: path, At: at.Add(int64(i) * span.Minute), Outcome: measure.OK,
			Measures: map[string]float64{"rtt_mean_ms": 4}}
		if !math.IsNaN(route) {
			m.Measures["route"] = route
		}
		if i == 2 {
			m.Detail = "slow; " + measure.RouteChanged + "hop 3 was 198.18.8.1 and is 198.18.9.1"
		}
		list = append(list, m)
	}
	if a := servertest.DeliverPacked(t, f.url, f.tolvik, servertest.Packed(t, wire.Batch{Measurements: list})); a.Status != http.StatusOK {
		t.Fatal(a)
	}
	ask := func(minute int64) *api.SampleRoute {
		t.Helper()
		var moment api.Moment
		f.manager.Must(http.MethodGet, "/services/"+f.service+"/moment?at="+at.Add(minute*span.Minute+span.Second).String(), nil, &moment)
		s := moment.Samples[path+" tolvik"]
		if s == nil {
			t.Fatalf("no sample after %d minutes: %+v", minute, moment.Samples)
		}
		return s.Route
	}
	if r := ask(4); r == nil || r.Route != "def123" || r.Before != "000abc" || r.Since != at.Add(2*span.Minute) ||
		r.Change != "hop 3 was 198.18.8.1 and is 198.18.9.1" {
		t.Errorf("on the detour: %+v", r)
	}
	if r := ask(1); r == nil || r.Route != "000abc" || r.Before != "" || r.Since != at {
		t.Errorf("before it: %+v", r)
	}
}
