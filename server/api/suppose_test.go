package api_test

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"kestite/agent/wire"
	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/server/api"
	"kestite/server/servertest"
	"kestite/server/store/storetest"
)

// What is supposed is refused where it names nothing, or is too far ahead; what lies in
// the past begins now; and nothing of it is done.
func TestSuppositions(t *testing.T) {
	f := setUp(t)
	for query, says := range map[string]string{
		"services=nothing":                                     "names no service in force",
		"services=" + f.service + "&from=soon":                 "from",
		"services=" + f.service + "&from=2126-01-01T00:00:00Z": "400 days",
		"services=" + f.service + "&lasts_s=1":                 "lasts_s",
		"lasts_s=3600":                                         "services",
	} {
		if a := f.manager.Do(http.MethodGet, "/supposition?"+query, nil); a.Status != http.StatusUnprocessableEntity || !strings.Contains(string(a.Body), says) {
			t.Errorf("%s: %s", query, a)
		}
	}
	var s api.Supposition
	f.manager.Must(http.MethodGet, "/supposition?services="+f.service+"&from=2001-01-01T00:00:00Z&lasts_s=7200", nil, &s)
	if s.From.Time().Before(storetest.Now().Add(-time.Minute)) || s.To.Time().Sub(s.From.Time()) != 2*time.Hour {
		t.Errorf("what is supposed of the past is from %s to %s", s.From, s.To)
	}
	if len(s.Effects) != 1 || !s.Effects[0].First || s.Words == "" {
		t.Errorf("it does %+v: %s", s.Effects, s.Words)
	}
	var open struct{ Items []any }
	f.manager.Must(http.MethodGet, "/incidents?open=true", nil, &open)
	if len(open.Items) != 0 {
		t.Errorf("%d incidents were opened", len(open.Items))
	}
}

// A failure that lasts over the end of periods is accounted in each, and what it costs
// together is all of it; one that begins in a later period is accounted there.
func TestASuppositionOverPeriods(t *testing.T) {
	f := setUp(t)
	f.manager.Must(http.MethodPost, "/agreements", map[string]any{"spec": definition.AgreementSpec{Name: "Gold", Service: f.service, TargetPercent: "99", Timezone: "UTC",
		Credits: []definition.Credit{{BelowPercent: "99", CreditPercent: "5"}}}}, nil)
	var s api.Supposition
	f.manager.Must(http.MethodGet, fmt.Sprintf("/supposition?services=%s&lasts_s=%d", f.service, 31*86400), nil, &s)
	if len(s.Costs) < 2 || len(s.Costs) > 3 {
		t.Fatalf("31 days touch %d periods", len(s.Costs))
	}
	var sum int64
	names := map[string]bool{}
	for _, c := range s.Costs {
		sum += c.DowntimeMS
		names[c.Period.Name] = true
		if c.Agreement == "" || c.Fault != "" || (c.DowntimeMS > 0) != (c.LeftAfterMS < c.LeftMS) {
			t.Errorf("%+v", c)
		}
	}
	// What passes until the account is made is no time to come.
	if sum > 31*86400*1000 || sum < 31*86400*1000-5000 || len(names) != len(s.Costs) {
		t.Errorf("of %d ms %d are downtime, in the periods %v", 31*86400*1000, sum, names)
	}
	later := storetest.Now().UTC().AddDate(0, 0, 70).Truncate(time.Second)
	f.manager.Must(http.MethodGet, "/supposition?services="+f.service+"&lasts_s=3600&from="+later.Format("2006-01-02T15:04:05Z"), nil, &s)
	if len(s.Costs) == 0 || s.Costs[0].Period.From.Time().After(later) || s.Costs[0].Period.To.Time().Before(later) || s.Costs[0].DowntimeMS > 3_600_000 {
		t.Errorf("in ten weeks it costs %+v", s.Costs)
	}
}

// Where a failure begins now, what is down already counts as down: the second of a pair
// takes more with it than the first.
func TestASuppositionOnWhatIsDown(t *testing.T) {
	f := setUp(t)
	east := f.manager.Create("/services", map[string]any{"name": "East", "kind": "supplier", "combine": "worst"})
	west := f.manager.Create("/services", map[string]any{"name": "West", "kind": "supplier", "combine": "worst"})
	quay := f.manager.Create("/services", map[string]any{"name": "Quay", "kind": "supporting", "combine": "worst",
		"depends_on": []definition.Dependency{{Services: []string{east, west}, Need: 1}}})
	check := f.manager.Create("/checks", servertest.Check(east, []string{"tolvik"}, func(s map[string]any) { s["confirm"] = 1 }))
	suppose := func(query string) (s api.Supposition) {
		t.Helper()
		f.manager.Must(http.MethodGet, "/supposition?services="+west+query, nil, &s)
		return s
	}
	if s := suppose(""); !strings.Contains(s.Words, "takes nothing else down and leaves 1 service with less to spare") {
		t.Errorf("the first of a pair: %s", s.Words)
	}
	time.Sleep(10 * time.Millisecond) // after the definitions
	if r, err := f.srv.API.Ingest.Batch(t.Context(), "tolvik", "", []wire.Measurement{{Check: check, At: span.Of(storetest.Now()), Outcome: measure.Failed}}); err != nil || r.Stored != 1 {
		t.Fatal(r, err)
	}
	if err := f.srv.Judge.Services(t.Context(), []string{east}); err != nil {
		t.Fatal(err)
	}
	s := suppose("")
	if !strings.Contains(s.Words, "takes 1 other service down") || !slices.ContainsFunc(s.Effects, func(e api.EffectView) bool { return e.Service == east && e.Already }) ||
		!slices.ContainsFunc(s.Effects, func(e api.EffectView) bool { return e.Service == quay && e.Down && !e.Already }) {
		t.Errorf("the second of a pair: %s %+v", s.Words, s.Effects)
	}
	tomorrow := "&from=" + storetest.Now().UTC().Add(24*time.Hour).Format("2006-01-02T15:04:05Z")
	if s := suppose(tomorrow); !strings.Contains(s.Words, "takes nothing else down") {
		t.Errorf("tomorrow: %s", s.Words)
	}
}
