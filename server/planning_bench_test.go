package server_test

import (
	"fmt"
	"net/http"
	"testing"
	"time"

	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/server/defining"
	"kestite/server/servertest"
	"kestite/server/store/storetest"
	"kestite/server/trail"
)

// BenchmarkPlanning asks for the calendar of two weeks, for what work on ten services
// would do, for the cheapest times of one, and for the picture of what needs what: of 1,000
// services in groups of ten, of which each tenth needs nine of the others before it, with an
// agreement of each and 200 weekly windows. In the same run the list of windows alone, as
// they are defined: what the way to the server and back takes.
func BenchmarkPlanning(b *testing.B) {
	const services, windows = 1000, 200
	srv := storetest.Server(b)
	define(b, srv, services)
	ch := defining.Change{By: trail.By{Name: "bench"}, At: storetest.Now().Add(-39 * 24 * time.Hour)}
	var steps []catalogue.Step
	for i := range services / 10 {
		id := fmt.Sprintf("service-%03d", i*10+9)
		spec := definition.ServiceSpec{Name: id, Kind: "business", Combine: "worst"}
		var members []string
		for n := range 9 {
			members = append(members, fmt.Sprintf("service-%03d", i*10+n))
		}
		spec.DependsOn = []definition.Dependency{{Services: members, Need: 8}}
		steps = append(steps, catalogue.Step{Does: catalogue.Rewrite, Kind: catalogue.Service, ID: id, Expected: 1, Spec: spec})
	}
	day := storetest.Now().AddDate(0, 0, -38)
	for i := range windows {
		id := fmt.Sprintf("window-%03d", i)
		steps = append(steps, catalogue.Step{Does: catalogue.Make, Kind: catalogue.Window, ID: id, Spec: definition.WindowSpec{Name: id, Services: []string{fmt.Sprintf("service-%03d", i*5)},
			Start: day.AddDate(0, 0, i%7).Format("2006-01-02") + fmt.Sprintf("T%02d:%02d:00", i%24, i%4*15), Timezone: "Europe/Oslo", DurationS: 5400, RRule: "FREQ=WEEKLY"}})
	}
	if _, err := srv.API.Definitions.Apply(ctx, ch, steps...); err != nil {
		b.Fatal(err)
	}
	url := servertest.Serve(b, srv)
	operator := servertest.As(b, srv, url, access.Operator)
	var ten []string
	for n := range 10 {
		ten = append(ten, fmt.Sprintf("service-%03d", n*30))
	}
	preview := map[string]any{"spec": definition.WindowSpec{Name: "Work", Services: ten, Start: storetest.Now().AddDate(0, 0, 3).Format("2006-01-02") + "T02:00:00", Timezone: "Europe/Oslo", DurationS: 5400}}
	for _, q := range []struct {
		name, method, path string
		body               any
	}{
		{"windows", http.MethodGet, "/windows", nil},
		{"calendar", http.MethodGet, "/calendar?days=14", nil},
		{"preview", http.MethodPost, "/windows/preview", preview},
		{"slots", http.MethodGet, "/windows/slots?services=service-000&lasts_s=5400", nil},
		{"dependencies", http.MethodGet, "/dependencies", nil},
	} {
		b.Run(q.name, func(b *testing.B) {
			var took []time.Duration
			for b.Loop() {
				began := storetest.Now()
				if a := operator.Do(q.method, q.path, q.body); a.Status != http.StatusOK {
					b.Fatal(a)
				}
				took = append(took, storetest.Now().Sub(began))
			}
			b.ReportMetric(at(took, 0.5), "p50-ms")
			b.ReportMetric(at(took, 0.95), "p95-ms")
		})
	}
}
