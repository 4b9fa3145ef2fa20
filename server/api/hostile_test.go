package api_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"math"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"kestite/agent/wire"
	"kestite/core/access"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/server"
	"kestite/server/api"
	"kestite/server/auth"
	"kestite/server/servertest"
	"kestite/server/store/storetest"
)

func (f *fixture) exec(t *testing.T, sql string, args ...any) {
	t.Helper()
	storetest.Exec(t, f.srv, sql, args...)
}

// An answer that cannot be written is a whole 500 and in the log, never half an answer.
func TestAnswersAreWhole(t *testing.T) {
	f := setUp(t)
	log := new(servertest.Log)
	f.srv.API.Log = slog.New(slog.NewTextHandler(log, nil))
	f.exec(t, "UPDATE agent SET lateness_ms = 'Infinity'")
	a := f.manager.Do(http.MethodGet, "/agents", nil)
	if detail, _ := a.Problem(); a.Status != 500 || !strings.Contains(detail, "log says more") || strings.Contains(string(a.Body), "marshaling") {
		t.Errorf("%s", a)
	}
	if !strings.Contains(log.String(), "request failed") || !strings.Contains(log.String(), "unsupported value") {
		t.Errorf("the log says %q", log)
	}
	f.exec(t, "UPDATE agent SET lateness_ms = 1")
	f.manager.Must(http.MethodGet, "/agents", nil, nil)
}

// Answers are packed, and one that the browser has is not sent again.
func TestAnswersArePackedAndMarked(t *testing.T) {
	f := setUp(t)
	ask := func(mark string) *http.Response {
		t.Helper()
		req, _ := http.NewRequest(http.MethodGet, f.url+"/api/v1/kinds", nil)
		req.Header.Set("Accept-Encoding", "gzip") // by hand, so that it is not undone
		req.Header.Set("If-None-Match", mark)
		resp, err := f.manager.HTTP.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { resp.Body.Close() })
		return resp
	}
	first := ask("")
	if first.Header.Get("Content-Encoding") != "gzip" || !strings.HasPrefix(first.Header.Get("ETag"), `W/"`) || first.Header.Get("Cache-Control") != "private, no-cache" {
		t.Fatalf("%d %v", first.StatusCode, first.Header)
	}
	z, err := gzip.NewReader(first.Body)
	if err != nil {
		t.Fatal(err)
	}
	if text, err := io.ReadAll(z); err != nil || !json.Valid(text) || !strings.Contains(string(text), "rtt_mean_ms") {
		t.Errorf("%v %s", err, text)
	}
	if again := ask(first.Header.Get("ETag")); again.StatusCode != http.StatusNotModified {
		t.Errorf("asked again: %d", again.StatusCode)
	}
	if other := ask(`W/"another"`); other.StatusCode != http.StatusOK {
		t.Errorf("with another mark: %d", other.StatusCode)
	}
	if a := f.manager.Do(http.MethodPost, "/services", map[string]any{"spec": map[string]any{}}); a.Header.Get("ETag") != "" || a.Header.Get("Cache-Control") != "no-store" {
		t.Errorf("a refusal: %v", a.Header)
	}
}

// Forty browsers that ask how everything stands get it, and agents are served meanwhile.
func TestManyReadersAtOnce(t *testing.T) {
	f := setUp(t)
	f.manager.Create("/agreements", agreement(f.service, nil))
	var all sync.WaitGroup
	for range 40 {
		all.Go(func() {
			for _, path := range []string{"/standing", "/services/strips", "/services/" + f.service + "/span"} {
				if a := f.manager.Do(http.MethodGet, path, nil); a.Status != 200 || !json.Valid(a.Body) {
					t.Errorf("%s: %s", path, a)
				}
			}
		})
	}
	for n := range 20 {
		all.Go(func() {
			body := fmt.Sprintf(`{"measurements":[{"check":%q,"at":%q,"outcome":"ok"}]}`, f.check, span.Of(storetest.Now()).Add(int64(n)))
			if a := servertest.AsAgent(t, f.url, f.tolvik, wire.PathBatches, body); a.Status != 200 {
				t.Errorf("an agent: %s", a)
			}
		})
	}
	all.Wait()
	if a := servertest.Anonymous(t, f.url).Do(http.MethodGet, "/standing", nil); a.Status != 401 {
		t.Errorf("a stranger got a shared answer: %s", a)
	}
}

// Ids that are none, bytes that are no text and the character U+0000 are 404 or
// 422 on every route, and never an error of ours.
func TestNamesThatAreNone(t *testing.T) {
	f := setUp(t)
	admin := servertest.As(t, f.srv, f.url, access.Administrator)
	log := new(servertest.Log)
	f.srv.API.Log = slog.New(slog.NewTextHandler(log, nil))
	for op := range operations(t) {
		method, path, _ := strings.Cut(op, " ")
		path = strings.TrimPrefix(path, "/api/v1")
		for _, id := range []string{"x", "%00", "a%00b", "%ff%fe", "00000000-0000-0000-0000-00000000000g", "..", strings.Repeat("y", 3000)} {
			if !strings.Contains(path, "{id}") {
				continue
			}
			if a := admin.Do(method, strings.ReplaceAll(path, "{id}", id), map[string]any{"spec": map[string]any{}, "revision": 1}); a.Status >= 500 || a.Status < 400 {
				t.Errorf("%s with %.40s: %d %.200s", op, id, a.Status, a.Body)
			}
		}
		for _, query := range []string{"?span=%00", "?ids=%ff", "?at=%00", "?limit=NaN"} {
			if a := admin.Do(http.MethodGet, path+query, nil); a.Status >= 500 {
				t.Errorf("%s%s: %s", path, query, a)
			}
		}
	}
	for path, body := range map[string]string{
		"body.spec.name":    `{"spec":{"name":"Quay\u0000","kind":"business"}}`,
		"body.spec.tags[1]": `{"spec":{"name":"Quay","kind":"business","tags":["a","b\u0000"]}}`,
		"body":              "{\"spec\":{\"name\":\"Quay\xff\",\"kind\":\"business\"}}",
	} {
		req, _ := http.NewRequest(http.MethodPost, f.url+"/api/v1/services", strings.NewReader(body))
		req.Header.Set("Content-Type", "application/json")
		resp, err := f.manager.HTTP.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		text, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		if _, fields := (servertest.Answer{Body: text}).Problem(); resp.StatusCode != 422 || fields[path] == "" {
			t.Errorf("%s: %d %s", path, resp.StatusCode, text)
		}
	}
	if strings.Contains(log.String(), "level=ERROR") {
		t.Errorf("the log: %s", log)
	}
	if a := f.manager.Do(http.MethodPost, "/services", map[string]any{"spec": map[string]any{"name": `Quay \u0000 street`, "kind": "business"}}); a.Status != 200 && a.Status != 201 {
		t.Errorf("a backslash of its own: %s", a)
	}
}

// No list and no text of a request is without an upper length.
func TestRequestsAreBounded(t *testing.T) {
	f := setUp(t)
	long, many := strings.Repeat("x", 20_000), make([]string, 6000)
	for i := range many {
		many[i] = f.service
	}
	window := func(change func(map[string]any)) map[string]any {
		spec := map[string]any{"name": "Work", "services": []string{f.service}, "start": "2026-03-02T01:00:00", "timezone": "Europe/Oslo", "duration_s": 3600}
		change(spec)
		return map[string]any{"spec": spec}
	}
	for name, c := range map[string]struct {
		path string
		body any
	}{
		"services of a window":  {"/windows", window(func(s map[string]any) { s["services"] = many })},
		"exdates of a window":   {"/windows", window(func(s map[string]any) { s["rrule"], s["exdates"] = "FREQ=DAILY", many })},
		"a rule":                {"/windows", window(func(s map[string]any) { s["rrule"] = long })},
		"tags of a service":     {"/services", map[string]any{"spec": map[string]any{"name": "Quay", "kind": "business", "tags": many[:51]}}},
		"a tag":                 {"/services", map[string]any{"spec": map[string]any{"name": "Quay", "kind": "business", "tags": []string{long}}}},
		"locations of a check":  {"/checks", map[string]any{"spec": servertest.Check(f.service, many, nil)}},
		"locations to try from": {"/proposals", map[string]any{"address": "127.0.0.1", "locations": many[:51]}},
		"a reason":              {"/services", map[string]any{"reason": long, "spec": map[string]any{"name": "Quay", "kind": "business"}}},
		"a remark":              {"/reports", map[string]any{"agreement": "a", "period": "2026-01", "remark": long}},
	} {
		if a := f.manager.Do(http.MethodPost, c.path, c.body); a.Status != 422 {
			t.Errorf("%s: %d %.200s", name, a.Status, a.Body)
		}
	}
	for says, change := range map[string]func(map[string]any){
		"can start 86400 times a day": func(s map[string]any) { s["rrule"] = "FREQ=SECONDLY" },
		"can start 1440 times a day":  func(s map[string]any) { s["rrule"] = "FREQ=MINUTELY;INTERVAL=1000" },
		"can start 48 times a day":    func(s map[string]any) { s["rrule"] = "FREQ=HOURLY;BYMINUTE=0,30;BYSETPOS=1" },
		"it is at most 2678400":       func(s map[string]any) { s["duration_s"] = 32 * 86400 },
	} {
		a := f.manager.Do(http.MethodPost, "/windows", window(change))
		if _, fields := a.Problem(); a.Status != 422 || !strings.Contains(fmt.Sprint(fields), says) {
			t.Errorf("want %q: %s", says, a)
		}
	}
	f.manager.Must(http.MethodPost, "/windows", window(func(s map[string]any) { s["rrule"] = "FREQ=HOURLY;INTERVAL=2" }), nil)
}

// A definition that cannot be computed, stored before it was refused, costs its
// own row and is named; all else is shown.
func TestOneDefinitionThatCannotBeComputed(t *testing.T) {
	f := setUp(t)
	other := f.manager.Create("/services", map[string]any{"name": "Freight", "kind": "business", "combine": "worst"})
	maintenance := func(s map[string]any) {
		s["maintenance"] = map[string]any{"mode": "exclude", "notice_s": 0, "cap_s": nil}
	}
	bad := f.manager.Create("/agreements", agreement(f.service, maintenance))
	good := f.manager.Create("/agreements", agreement(other, func(s map[string]any) { maintenance(s); s["name"] = "Freight" }))
	f.manager.Create("/windows", map[string]any{"name": "Work", "services": []string{f.service}, "start": "2026-03-02T01:00:00", "timezone": "Europe/Oslo", "duration_s": 60, "rrule": "FREQ=DAILY"})
	f.exec(t, `UPDATE revision SET body = body || '{"rrule": "FREQ=SECONDLY"}' WHERE kind = 'window'`)
	broken := f.manager.Create("/services", map[string]any{"name": "Roster", "kind": "business", "combine": "worst"})
	f.exec(t, `UPDATE revision SET body = '{"name": 7}' WHERE kind = 'service' AND id = $1`, broken)
	if err := f.srv.Judge.Services(context.Background(), []string{f.service, other, broken}); err != nil {
		t.Fatal(err)
	}
	var standing api.Standing
	f.manager.Must(http.MethodGet, "/standing", nil, &standing)
	faults := map[string]string{}
	for _, a := range standing.Accounts {
		faults[a.Agreement] = a.Fault
	}
	if len(faults) != 2 || faults[good] != "" || !strings.Contains(faults[bad], "can start 86400 times a day") {
		t.Errorf("accounts: %v", faults)
	}
	text := fmt.Sprint(standing.Needs)
	for _, says := range []string{"cannot be accounted", "cannot be read"} {
		if !strings.Contains(text, says) {
			t.Errorf("nothing %s: %s", says, text)
		}
	}
	f.manager.Must(http.MethodGet, "/services/"+f.service+"/span", nil, nil) // its states need no windows
	f.manager.Must(http.MethodGet, "/services/strips", nil, nil)
	f.manager.Must(http.MethodGet, "/services", nil, nil)
	if a := f.manager.Do(http.MethodGet, "/agreements/"+bad+"/periods", nil); a.Status != 422 {
		t.Errorf("its own page: %s", a)
	}
}

// Requests that the asker gave up are no errors in the log.
func TestGivenUpRequestsAreNoErrors(t *testing.T) {
	f := setUp(t)
	log := new(servertest.Log)
	f.srv.API.Log = slog.New(slog.NewTextHandler(log, nil))
	tx, err := f.srv.API.Store.Pool.Begin(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Rollback(context.Background())
	if _, err := tx.Exec(context.Background(), "LOCK standing_state IN ACCESS EXCLUSIVE MODE"); err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{"/states", "/standing"} {
		ctx, cancel := context.WithTimeout(context.Background(), 200*time.Millisecond)
		req, _ := http.NewRequestWithContext(ctx, http.MethodGet, f.url+"/api/v1"+path, nil)
		if _, err := f.manager.HTTP.Do(req); err == nil {
			t.Errorf("%s was answered", path)
		}
		cancel()
	}
	tx.Rollback(context.Background())
	f.manager.Must(http.MethodGet, "/standing", nil, nil)
	if strings.Contains(log.String(), "level=ERROR") {
		t.Errorf("the log: %s", log)
	}
}

// A server is ready where it can do its work; what keeps it from that stands in its log.
func TestReady(t *testing.T) {
	f := setUp(t)
	log := &servertest.Log{}
	f.srv.API.Log = slog.New(slog.NewTextHandler(log, nil))
	ready := func() string {
		t.Helper()
		resp, err := http.Get(f.url + "/readyz")
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		text, _ := io.ReadAll(resp.Body)
		return fmt.Sprint(resp.StatusCode, " ", string(text))
	}
	if got := ready(); got != "200 ready\n" {
		t.Fatal(got)
	}
	for says, c := range map[string][2]string{
		"no service was judged": {"UPDATE attendance SET judged_at = clock() - interval '5 minutes'", "UPDATE attendance SET judged_at = clock()"},
		"queue of background":   {"UPDATE attendance SET worked_at = clock() - interval '1 hour'", "UPDATE attendance SET worked_at = clock()"},
		"a later version":       {"INSERT INTO goose_db_version (version_id, is_applied) VALUES (9999, true)", "DELETE FROM goose_db_version WHERE version_id = 9999"},
	} {
		f.exec(t, c[0])
		if got := ready(); !strings.HasPrefix(got, "503") || strings.Contains(got, says) || !strings.Contains(log.String(), says) {
			t.Errorf("want %q in the log alone: %s; %s", says, got, log)
		}
		f.exec(t, c[1])
		if got := ready(); got != "200 ready\n" {
			t.Errorf("after %q: %s", says, got)
		}
	}
	// A database that is out of disk, as it says it to whoever writes.
	f.exec(t, "CREATE FUNCTION full_disk() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RAISE EXCEPTION 'could not extend file: No space left on device' USING ERRCODE = '53100'; END $$")
	f.exec(t, "CREATE TRIGGER full_disk BEFORE INSERT ON measurement FOR EACH ROW EXECUTE FUNCTION full_disk()")
	body := fmt.Sprintf(`{"measurements":[{"check":%q,"at":%q,"outcome":"ok"}]}`, f.check, span.Of(storetest.Now()))
	if a := servertest.AsAgent(t, f.url, f.tolvik, wire.PathBatches, body); a.Status != 500 {
		t.Errorf("storing on a full disk: %s", a)
	}
	if got := ready(); !strings.HasPrefix(got, "503") || !strings.Contains(log.String(), "No space left") {
		t.Errorf("with a full disk: %s; %s", got, log)
	}
}

// A schema of a later version is not touched, and an older program does not start on it.
func TestOlderProgramOnNewerSchema(t *testing.T) {
	f := setUp(t)
	f.exec(t, "INSERT INTO goose_db_version (version_id, is_applied) VALUES (9999, true)")
	o := server.Options{}
	storetest.On(f.srv)(&o)
	o.Log = slog.New(slog.DiscardHandler)
	if srv, err := server.Build(context.Background(), o); err == nil || !strings.Contains(err.Error(), "later version") {
		if err == nil {
			srv.Close()
		}
		t.Errorf("it started: %v", err)
	}
}

// Any number of servers may start at once on an empty database.
func TestServersStartTogether(t *testing.T) {
	t.Parallel()
	url := storetest.Empty(t)
	var all sync.WaitGroup
	for range 5 {
		all.Go(func() {
			srv, err := server.Build(context.Background(), server.Options{DatabaseURL: url, Log: slog.New(slog.DiscardHandler)})
			if err != nil {
				t.Error(err)
				return
			}
			srv.Close()
		})
	}
	all.Wait()
}

// The options say what the organisation is called until a person does; who makes
// the first account is shown what they said.
func TestNamingTheOrganisation(t *testing.T) {
	t.Parallel()
	url := storetest.Empty(t)
	build := func(name, zone string) *server.Server {
		t.Helper()
		srv, err := server.Build(context.Background(), server.Options{DatabaseURL: url, Organisation: name, Timezone: zone, Log: slog.New(slog.DiscardHandler)})
		if err != nil {
			t.Fatal(err)
		}
		return srv
	}
	org := func(srv *server.Server, name, zone string) {
		t.Helper()
		if got, err := srv.API.Store.Organisation(context.Background()); err != nil || got.Name != name || got.Timezone != zone {
			t.Errorf("it is %s in %s, %v; not %s in %s", got.Name, got.Timezone, err, name, zone)
		}
	}
	migrated := build("", "") // kestite migrate
	org(migrated, "My organisation", "UTC")
	migrated.Close()
	srv := build("Skerry Line", "Europe/Oslo")
	defer srv.Close()
	org(srv, "Skerry Line", "Europe/Oslo")
	at := servertest.Serve(t, srv)
	c := servertest.Anonymous(t, at)
	var first struct {
		Needed                 bool
		Organisation, Timezone string
	}
	c.Must(http.MethodGet, "/first-person", nil, &first)
	if !first.Needed || first.Organisation != "Skerry Line" || first.Timezone != "Europe/Oslo" {
		t.Errorf("%+v", first)
	}
	// Another server that is started at the same time prints a token of its own, and takes none away.
	beside := build("Other", "UTC")
	beside.Close()
	if beside.FirstToken == "" || beside.FirstToken == srv.FirstToken {
		t.Errorf("its token is %q", beside.FirstToken)
	}
	c.Must(http.MethodPost, "/first-person", map[string]any{
		"token": srv.FirstToken, "name": "Astrid Holm", "email": "astrid@skerry.example", "password": "long enough it is", "organisation": "Skerry Line Ferries", "timezone": "Europe/Oslo",
	}, nil)
	if n, err := srv.API.Store.UseFirstToken(context.Background(), auth.HashToken(beside.FirstToken)); err != nil || n != 0 {
		t.Errorf("the other token is good although there is somebody: %d %v", n, err)
	}
	build("Other", "UTC").Close()
	org(srv, "Skerry Line Ferries", "Europe/Oslo")
	for body, says := range map[string]string{`{"name":"Skerry","timezone":"Europe/Nowhere"}`: "body.timezone", `{"name":"  ","timezone":"UTC"}`: "body.name"} {
		var v map[string]any
		json.Unmarshal([]byte(body), &v)
		if _, fields := c.Do(http.MethodPut, "/organisation", v).Problem(); fields[says] == "" {
			t.Errorf("%s: %v", body, fields)
		}
	}
	c.Must(http.MethodPut, "/organisation", map[string]any{"name": "Skerry Line", "timezone": "Europe/Berlin"}, nil)
	org(srv, "Skerry Line", "Europe/Berlin")
	var standing api.Standing
	c.Must(http.MethodGet, "/standing", nil, &standing)
	if standing.Span.Timezone != "Europe/Berlin" {
		t.Errorf("the band is in %s", standing.Span.Timezone)
	}
}

// Two servers on one database decide as one: attempts to sign in, which process
// has an agent's token, and what limits over time remember.
func TestTwoServersDecideAsOne(t *testing.T) {
	f := setUp(t)
	second := servertest.Serve(t, storetest.Server(t, storetest.On(f.srv)))
	both := []string{f.url, second}
	for i := range 5 {
		a := servertest.Anonymous(t, both[i%2]).Do(http.MethodPost, "/session", map[string]any{"email": "manager@skerry.example", "password": "wrong password"})
		if a.Status != 401 {
			t.Errorf("attempt %d: %s", i, a)
		}
	}
	for _, url := range both {
		if a := servertest.Anonymous(t, url).Do(http.MethodPost, "/session", map[string]any{"email": "Manager@skerry.example ", "password": servertest.Password}); a.Status != 429 {
			t.Errorf("one attempt too many: %s", a)
		}
	}

	report := func(url, instance string, wait int) servertest.Answer {
		t.Helper()
		return servertest.AsAgent(t, url, f.tolvik, wire.PathAssignments, fmt.Sprintf(`{"instance":%q,"version":"t","known":"","wait_s":%d,"clock_offset_ms":0,"clock":%q,"backlog":0,"lateness_ms":0,"complaint":"a\u0000b","sockets":"raw","cut_off":""}`, instance, wait, span.Of(storetest.Now())))
	}
	if a := report(f.url, "one", 0); a.Status != 200 {
		t.Fatal(a)
	}
	if a := report(second, "one", 0); a.Status != 200 {
		t.Errorf("the same process at the other server: %s", a)
	}
	if a := report(second, "two", 0); a.Status != 409 {
		t.Errorf("another process at the other server: %s", a)
	}
	f.exec(t, "UPDATE agent SET instance_until = clock() - interval '1 second' WHERE instance = 'one'")
	if a := report(second, "two", 0); a.Status != 200 {
		t.Errorf("once the first counts as gone: %s", a)
	}

	check := f.manager.Create("/checks", map[string]any{
		"service": f.service, "name": "Nightly copy", "kind": "report-in", "target": "", "interval_s": 60, "timeout_ms": 10_000, "stale_after_s": 200,
		"confirm": 1, "recover": 1, "locations": []string{"server"}, "limits": []map[string]any{{"measure": "value_1", "failed_below": 1, "in_a_row": 3}},
		"report_in": map[string]any{"numbers": []string{"files"}},
	})
	var made struct{ Path string }
	f.manager.Must(http.MethodPost, "/checks/"+check+"/report-in", nil, &made)
	for i, want := range []measure.Outcome{measure.OK, measure.OK, measure.Failed, measure.Failed} {
		if status, text := call(t, both[i%2]+made.Path+"?files=0", ""); status != 200 {
			t.Fatal(status, text)
		}
		if o, detail, _, _ := f.latest(t, check); o != want {
			t.Errorf("report %d is %v (%s), not %v", i, o, detail, want)
		}
		for was := span.Of(storetest.Now()); span.Of(storetest.Now()) == was; { // the next instant
		}
	}
}

// A batch that is too large unpacked is answered 413, whatever its form.
func TestBatchesAreBounded(t *testing.T) {
	f := setUp(t)
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	io.WriteString(z, `{"measurements":[{"check":"x","at":"2026-03-02T01:00:00Z","outcome":"ok","detail":"`)
	chunk := bytes.Repeat([]byte("x"), 1<<20)
	for range wire.MaxBytes>>20 + 1 {
		z.Write(chunk)
	}
	io.WriteString(z, `"}]}`)
	z.Close()
	post := func(body []byte, encoding string) int {
		t.Helper()
		req, _ := http.NewRequest(http.MethodPost, f.url+wire.PathBatches, bytes.NewReader(body))
		req.Header.Set("Authorization", "Bearer "+f.tolvik)
		req.Header.Set("Content-Encoding", encoding)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		return resp.StatusCode
	}
	if got := post(packed.Bytes(), "gzip"); got != 413 {
		t.Errorf("too large unpacked: %d", got)
	}
	if got := post(bytes.Repeat([]byte(" "), 17<<20), ""); got != 413 {
		t.Errorf("too large as it is: %d", got)
	}
	if got := post([]byte("no gzip"), "gzip"); got != 400 {
		t.Errorf("no gzip: %d", got)
	}
	rows := make([]string, wire.MaxBatch+1)
	for i := range rows {
		rows[i] = `{"check":"x","at":"2026-03-02T01:00:00Z","outcome":"ok"}`
	}
	if got := post([]byte(`{"measurements":[`+strings.Join(rows, ",")+`]}`), ""); got != 413 {
		t.Errorf("too many: %d", got)
	}
}

// A packed batch with bad rows among good ones: the good ones come in, and each bad one
// is refused with its reason; what is no batch at all is told so.
func TestPackedBatchesWithPoison(t *testing.T) {
	f := setUp(t)
	at := span.Of(storetest.Now()).Add(20_000) // the check counts from now on
	row := func(ago int64, change func(*wire.Measurement)) wire.Measurement {
		m := wire.Measurement{Check: f.check, At: at.Add(-ago * 1000), Outcome: measure.OK, Measures: map[string]float64{"total_ms": 4.5}}
		change(&m)
		return m
	}
	list := []wire.Measurement{
		row(9, func(*wire.Measurement) {}),
		row(8, func(m *wire.Measurement) { m.Outcome = 200 }),
		row(7, func(m *wire.Measurement) { m.Measures["total_ms"] = math.Inf(1) }),
		row(6, func(m *wire.Measurement) { m.At = math.MinInt64 }),
		row(5, func(m *wire.Measurement) { m.Detail = "a \x00 and \xff" }),
		row(4, func(m *wire.Measurement) { m.Check = "\xff" }),
		row(3, func(m *wire.Measurement) { m.Measures = map[string]float64{"depth": 3} }),
		row(2, func(m *wire.Measurement) { m.At = at.Add(3_600_000) }),
		row(1, func(m *wire.Measurement) { m.Findings = &measure.Findings{Remote: "192.0.2.1"} }),
	}
	a := servertest.DeliverPacked(t, f.url, f.tolvik, servertest.Packed(t, wire.Batch{Measurements: list}))
	var got wire.Receipt
	if err := json.Unmarshal(a.Body, &got); err != nil || a.Status != 200 {
		t.Fatalf("%s %v", a, err)
	}
	want := map[int]string{1: "200 is no outcome", 3: "no instant", 5: "there is no check", 6: "no measure", 7: "in the future"}
	if got.Stored != 4 || len(got.Refused) != len(want) {
		t.Fatalf("%+v", got)
	}
	for _, r := range got.Refused {
		if !strings.Contains(r.Reason, want[r.Index]) || want[r.Index] == "" {
			t.Errorf("%d: %s, want %q", r.Index, r.Reason, want[r.Index])
		}
	}
	if !strings.Contains(a.Header.Get("Accept"), wire.TypePacked) {
		t.Error("the server does not say that it takes packed batches")
	}
	for name, body := range map[string][]byte{"nothing": nil, "noise": []byte("\xa1\x01"), "JSON": []byte(`{"measurements":[]}`), "a list": {0x80}} {
		var zipped bytes.Buffer
		z := gzip.NewWriter(&zipped)
		z.Write(body)
		z.Close()
		if a := servertest.DeliverPacked(t, f.url, f.tolvik, zipped.Bytes()); a.Status != 422 || !strings.Contains(string(a.Body), "Nothing of it was stored") {
			t.Errorf("%s: %s", name, a)
		}
	}
}

// What an agent set aside is shown with the check's name and the reason, and a
// person's word reaches the agent.
func TestQuarantineIsShownAndReleased(t *testing.T) {
	f := setUp(t)
	now := span.Of(storetest.Now())
	aside, err := json.Marshal([]wire.Aside{{Check: f.check, At: now, Reason: "it cannot be stored: poison"}})
	if err != nil {
		t.Fatal(err)
	}
	body := func(known string) string {
		return fmt.Sprintf(`{"instance":"one","version":"t","known":%q,"wait_s":0,"clock_offset_ms":0,"clock":%q,"backlog":1,"lateness_ms":0,"complaint":"","sockets":"raw","cut_off":"","set_aside":1,"aside":%s}`, known, now, aside)
	}
	if a := servertest.AsAgent(t, f.url, f.tolvik, wire.PathAssignments, body("")); a.Status != 200 {
		t.Fatal(a)
	}
	var agents struct{ Items []api.AgentView }
	f.manager.Must(http.MethodGet, "/agents", nil, &agents)
	var id string
	for _, a := range agents.Items {
		if a.SetAside == 1 && len(a.Aside) == 1 && a.Aside[0].Name == "Page" && strings.Contains(a.Aside[0].Reason, "poison") {
			id = a.ID
		}
	}
	if id == "" {
		t.Fatalf("%+v", agents.Items)
	}
	if err := f.srv.API.Incidents.Sweep(t.Context()); err != nil { // as a server does every 3 s
		t.Fatal(err)
	}
	var standing api.Standing
	f.manager.Must(http.MethodGet, "/standing", nil, &standing)
	if !strings.Contains(fmt.Sprint(standing.Needs), "set aside measurements") {
		t.Errorf("Standing says nothing of it: %v", standing.Needs)
	}
	f.manager.Must(http.MethodPost, "/agents/"+id+"/release", nil, nil)
	var out wire.Assignments
	if a := servertest.AsAgent(t, f.url, f.tolvik, wire.PathAssignments, body("")); json.Unmarshal(a.Body, &out) != nil || out.Release < now {
		t.Errorf("the agent is told %v", out.Release)
	}
	if lines := did(t, f.manager, ""); lines[0].Action != "release quarantine" || lines[0].Subject != "agent "+id {
		t.Errorf("the trail: %+v", lines)
	}
}
