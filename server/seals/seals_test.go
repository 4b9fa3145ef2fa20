package seals_test

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"net/http"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"kestite/agent/wire"
	"kestite/core/access"
	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/core/seal"
	"kestite/core/span"
	"kestite/demo"
	"kestite/server"
	"kestite/server/api"
	"kestite/server/defining"
	"kestite/server/seals"
	"kestite/server/servertest"
	"kestite/server/store/storetest"
	"kestite/server/trail"
)

func TestMain(m *testing.M) { storetest.Main(m) }

var (
	ctx = context.Background()
	by  = trail.By{Name: "Mikkel Brand"}
)

// archive is a published report as it is downloaded and read again.
func archive(t *testing.T, srv *server.Server, id string) *seal.Archive {
	t.Helper()
	r, err := srv.API.Store.Report(ctx, id)
	if err != nil {
		t.Fatal(err)
	}
	made, err := srv.API.Desk.Keys.Archive(ctx, r)
	if err != nil {
		t.Fatal(err)
	}
	var buf bytes.Buffer
	if err := made.Write(&buf); err != nil {
		t.Fatal(err)
	}
	a, err := seal.Read(bytes.NewReader(buf.Bytes()), int64(buf.Len()))
	if err != nil {
		t.Fatal(err)
	}
	return a
}

func keysOf(t *testing.T, srv *server.Server) map[string]ed25519.PublicKey {
	t.Helper()
	list, err := srv.API.Desk.Keys.List(ctx)
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]ed25519.PublicKey{}
	for _, k := range list {
		out[k.ID] = k.Public
	}
	return out
}

func publish(t *testing.T, srv *server.Server, agreement, period string, now time.Time) (string, error) {
	t.Helper()
	id, err := srv.API.Desk.Draft(ctx, agreement, period, "", by, now)
	if err != nil {
		t.Fatal(err)
	}
	return id, srv.API.Desk.Publish(ctx, id, "", by, now)
}

// Published from two servers at once, the reports of each customer have numbers without a
// gap and follow from one another; what each says follows from its archive. A key that is
// rotated or lost leaves what it signed good.
func TestReportsAreChainedAndSigned(t *testing.T) {
	t.Parallel()
	one := storetest.Server(t)
	now := storetest.Now()
	if err := demo.Load(ctx, one, 5, func(string) {}); err != nil {
		t.Fatal(err)
	}
	two := storetest.Server(t, storetest.On(one))
	servers := []*server.Server{one, two}
	last := now.AddDate(0, 0, -now.Day())
	for _, month := range []string{last.AddDate(0, 0, -last.Day()).Format("2006-01"), last.Format("2006-01")} {
		var all sync.WaitGroup
		for i, agreement := range []string{"tickets-passenger", "sailing-board", "gates-port-authority", "departure", "messages", "card-acquirer"} {
			id, err := servers[0].API.Desk.Draft(ctx, agreement, month, "", by, now)
			if err != nil {
				t.Fatal(err)
			}
			all.Go(func() {
				if err := servers[i%2].API.Desk.Publish(ctx, id, "", by, now); err != nil {
					t.Error(err)
				}
			})
		}
		all.Wait()
	}
	var ids []string // the demo's own too
	reports, err := one.API.Store.ReportList(ctx)
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range reports {
		if r.State == "published" {
			ids = append(ids, r.ID)
		}
	}
	keys := keysOf(t, one)
	if len(keys) != 1 {
		t.Fatalf("%d keys were made", len(keys))
	}
	chains := map[string][]*seal.Archive{}
	ledger := map[int64]seal.Link{} // entries, by what comes before them
	for _, id := range ids {
		a := archive(t, one, id)
		chains[a.Manifest.Customer] = append(chains[a.Manifest.Customer], a)
		if err := a.SignedBy(keys); err != nil {
			t.Error(err)
		}
		if differs, _, err := a.Recompute(); err != nil || len(differs) > 0 {
			t.Errorf("%s: %v %v", a.Manifest.Agreement, differs, err)
		}
		entry := seal.Entry(a.Manifest.Ledger, a.Encoded)
		if _, twice := ledger[entry.Number]; twice {
			t.Errorf("two have the number %d in the ledger", entry.Number)
		}
		ledger[entry.Number] = entry
	}
	for _, id := range ids {
		if before := archive(t, one, id).Manifest.Ledger; before != nil && ledger[before.Number] != *before {
			t.Errorf("the ledger breaks after %d", before.Number)
		}
	}
	for customer, list := range chains {
		if wrong, missing := seal.Chain(list); len(wrong)+len(missing) > 0 || len(list) < 2 {
			t.Errorf("%q: %d reports, %v %v", customer, len(list), wrong, missing)
		}
	}
	if len(ledger) != len(ids) || len(ids) < 12 || len(chains) != 4 {
		t.Errorf("%d in the ledger, %d chains", len(ledger), len(chains))
	}

	// A new key signs; what the old one signed stays good.
	fresh, err := one.API.Desk.Keys.Make(ctx, true, by)
	if err != nil {
		t.Fatal(err)
	}
	month := last.Format("2006-01")
	id, err := publish(t, two, "messages", month, now)
	if err != nil {
		t.Fatal(err)
	}
	if a := archive(t, one, id); a.Manifest.Key != fresh || a.SignedBy(keysOf(t, one)) != nil || a.Manifest.Number != int64(len(chains[""]))+1 || a.Manifest.Report < 2 {
		t.Errorf("%+v", a.Manifest)
	}
	// A server with another key file cannot sign, and publishes nothing.
	other := storetest.Server(t, storetest.On(one), func(o *server.Options) { o.KeyFile = filepath.Join(t.TempDir(), "key") })
	id, err = publish(t, other, "messages", month, now)
	if !errors.Is(err, seals.ErrClosed) {
		t.Errorf("with another key file: %v", err)
	}
	if r, err := one.API.Store.Report(ctx, id); err != nil || r.State != "draft" || r.Serial != nil {
		t.Errorf("%s %v %v", r.State, r.Serial, err)
	}
	// It makes a key of its own, and goes on with the chain.
	if _, err := other.API.Desk.Keys.Make(ctx, false, by); err != nil {
		t.Fatal(err)
	}
	if err := other.API.Desk.Publish(ctx, id, "", by, now); err != nil {
		t.Fatal(err)
	}
	if a := archive(t, one, id); a.SignedBy(keysOf(t, one)) != nil || a.Manifest.Number != int64(len(chains[""]))+2 {
		t.Errorf("%+v", a.Manifest)
	}
	for _, sql := range []string{"UPDATE blob SET content = ''", "DELETE FROM blob", "DELETE FROM report_file", "UPDATE report_file SET name = 'x'", "DELETE FROM frozen_period WHERE true RETURNING 1"} {
		if _, err := one.API.Store.Pool.Exec(ctx, sql); err == nil && sql[7:13] != "FROM f" {
			t.Errorf("%s was done", sql)
		}
	}
}

// Without a key file reports are chained, and say that they are not signed.
func TestWithoutAKeyFile(t *testing.T) {
	t.Parallel()
	srv := storetest.Server(t, func(o *server.Options) { o.KeyFile = "" })
	now := storetest.Now()
	measured(t, srv, now)
	id, err := publish(t, srv, "pier", week(t, now), now)
	if err != nil {
		t.Fatal(err)
	}
	if a := archive(t, srv, id); a.Manifest.Key != "" || a.Signature != nil || a.SignedBy(nil) == nil || a.Manifest.Number != 1 {
		t.Errorf("%+v", a.Manifest)
	}
}

func week(t *testing.T, now time.Time) string { return weekOf(t, now).Name() }

// weekOf is the week before this one.
func weekOf(t *testing.T, now time.Time) calendar.Period {
	t.Helper()
	loc, err := calendar.Zone("UTC")
	if err != nil {
		t.Fatal(err)
	}
	return calendar.Cycle{Unit: calendar.Week}.At(span.Of(now).Add(-7*span.Day), loc)
}

// measured defines a service three weeks ago, with a check that has measured once a
// minute since, and failed for ten minutes in the middle of last week.
func measured(t *testing.T, srv *server.Server, now time.Time) string {
	t.Helper()
	began := now.AddDate(0, 0, -15)
	steps := []catalogue.Step{
		{Does: catalogue.Make, Kind: catalogue.Location, ID: "tolvik", Spec: definition.LocationSpec{Name: "Tolvik"}},
		{Does: catalogue.Make, Kind: catalogue.Service, ID: "pier", Spec: definition.ServiceSpec{Name: "Pier", Kind: definition.Business, Combine: definition.Worst}},
		{Does: catalogue.Make, Kind: catalogue.Check, ID: "pier-http", Spec: definition.CheckSpec{Service: "pier", Name: "Pier", Kind: measure.HTTP.Name, Target: "http://127.0.0.1/", Role: definition.Decides,
			IntervalS: 60, TimeoutMS: 1000, StaleAfterS: 150, Confirm: 2, Recover: 1, Locations: []string{"tolvik"}}},
		{Does: catalogue.Make, Kind: catalogue.Agreement, ID: "pier", Spec: definition.AgreementSpec{Name: "Pier", Service: "pier", Timezone: "UTC", TargetPercent: "99.9", DegradedWeightPercent: "0",
			MinCoveragePercent: "0", Unmeasured: definition.UnmeasuredExclude, Period: &definition.Cycle{Unit: calendar.Week}, From: began.UTC().Format("2006-01-02"),
			Latency: &definition.Latency{Check: "pier-http", LimitMS: 20, TargetPercent: "90"}}},
	}
	if _, err := srv.API.Definitions.Apply(ctx, defining.Change{By: by, At: began}, steps...); err != nil {
		t.Fatal(err)
	}
	url := servertest.Serve(t, srv)
	token := servertest.Agent(t, srv, "tolvik")
	middle := weekOf(t, now).Span().From.Add(3 * span.Day)
	var list []wire.Measurement
	send := func() {
		if a := servertest.DeliverPacked(t, url, token, servertest.Packed(t, wire.Batch{Measurements: list})); a.Status != http.StatusOK || bytes.Contains(a.Body, []byte("reason")) {
			t.Fatal(a)
		}
		list = nil
	}
	for at, i := span.Of(began).Add(span.Minute), 0; at < span.Of(now); at, i = at.Add(span.Minute), i+1 {
		m := wire.Measurement{Check: "pier-http", At: at, Outcome: measure.OK, Measures: map[string]float64{"total_ms": 10 + float64(i%13) + 0.123}}
		if at >= middle && at < middle.Add(10*span.Minute) {
			m.Outcome, m.Measures = measure.Failed, nil
		}
		if list = append(list, m); len(list) == 2000 {
			send()
		}
	}
	send()
	return url
}

// The archive of what was really measured holds all measurements, and every figure, the
// share of response times too, follows from them; it is one download.
func TestTheArchiveHoldsAllMeasurements(t *testing.T) {
	t.Parallel()
	srv := storetest.Server(t)
	now := storetest.Now()
	url := measured(t, srv, now)
	id, err := publish(t, srv, "pier", week(t, now), now)
	if err != nil {
		t.Fatal(err)
	}
	manager := servertest.As(t, srv, url, access.Manager)
	got := manager.Do(http.MethodGet, "/reports/"+id+"/document?format=evidence", nil)
	if got.Status != http.StatusOK {
		t.Fatal(got)
	}
	a, err := seal.Read(bytes.NewReader(got.Body), int64(len(got.Body)))
	if err != nil {
		t.Fatal(err)
	}
	differs, made, err := a.Recompute()
	if err != nil || len(differs) > 0 || made != seal.ByMeasurements || a.Manifest.Evidence != seal.ByMeasurements {
		t.Errorf("%v, by %s, %v", differs, made, err)
	}
	if !bytes.Contains(a.Files[seal.AccountName], []byte(`"within":`)) || !bytes.Contains(a.Files[seal.AccountName], []byte(`"down": 600000`)) {
		t.Errorf("%s", a.Files[seal.AccountName])
	}
	// The response times that the report states follow from the measurements too.
	kept := a.Files[seal.ReportName]
	for old, changed := range map[string]string{`"p95_us":`: `"p95_us":1`, `"p50_us":`: `"p50_us":1`, `"longest_us":`: `"longest_us":1`} {
		a.Files[seal.ReportName] = bytes.Replace(kept, []byte(old), []byte(changed), 1)
		if differs, _, err := a.Recompute(); err != nil || len(differs) != 1 || !strings.Contains(differs[0], "responses[0]") {
			t.Errorf("%s: %q, %v", changed, differs, err)
		}
	}
	a.Files[seal.ReportName] = kept
	var page api.ReportPage
	manager.Must(http.MethodGet, "/reports/"+id, nil, &page)
	if page.Seal == nil || page.Seal.Code != a.Manifest.Link(a.Encoded).Code() || page.Seal.Number != 1 {
		t.Errorf("%+v", page.Seal)
	}
	var keys struct{ Items []api.SigningKey }
	manager.Must(http.MethodGet, "/signing-keys", nil, &keys)
	if public, err := seal.ParsePEM([]byte(keys.Items[0].PublicKey)); err != nil || a.SignedBy(public) != nil {
		t.Error(err, a.SignedBy(public))
	}
	// A measurement that comes late leaves what is published as it is.
	before := fmt.Sprintf("%x", got.Body)
	if again := manager.Do(http.MethodGet, "/reports/"+id+"/document?format=evidence", nil); fmt.Sprintf("%x", again.Body) != before {
		t.Error("downloaded again it is another")
	}
	draft, err := srv.API.Desk.Draft(ctx, "pier", week(t, now), "", by, now)
	if err != nil {
		t.Fatal(err)
	}
	if a := manager.Do(http.MethodGet, "/reports/"+draft+"/document?format=evidence", nil); a.Status != http.StatusConflict {
		t.Errorf("the archive of a draft: %s", a)
	}
}
