package seals_test

import (
	"net/http"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"kestite/agent/wire"
	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/core/seal"
	"kestite/core/span"
	"kestite/server/defining"
	"kestite/server/report"
	"kestite/server/seals"
	"kestite/server/servertest"
	"kestite/server/store/storetest"
)

// peak is the most memory that this process has held so far, server and bench together, MiB.
func peak(b *testing.B) float64 {
	b.Helper()
	text, err := os.ReadFile("/proc/self/status")
	if err != nil {
		b.Fatal(err)
	}
	_, after, _ := strings.Cut(string(text), "VmHWM:")
	fields := strings.Fields(after)
	if len(fields) == 0 {
		b.Fatal("/proc/self/status has no VmHWM")
	}
	kib, err := strconv.ParseFloat(fields[0], 64)
	if err != nil {
		b.Fatal(err)
	}
	return kib / 1024
}

// BenchmarkPublish drafts and publishes reports with all their evidence: a month of a check
// every 30 seconds from three locations, 29 days of it measured. Against it stand bare
// reading of those rows and packing of the same bytes. The PDF is made by itself too.
func BenchmarkPublish(b *testing.B) {
	srv := storetest.Server(b)
	now := storetest.Now()
	began := now.AddDate(0, 0, -40)
	day := min(28, now.UTC().Day()) // the period ended when this day began
	places := []string{"tolvik", "eskerby", "norholm"}
	var steps []catalogue.Step
	for _, l := range places {
		steps = append(steps, catalogue.Step{Does: catalogue.Make, Kind: catalogue.Location, ID: l, Spec: definition.LocationSpec{Name: l}})
	}
	steps = append(steps,
		catalogue.Step{Does: catalogue.Make, Kind: catalogue.Service, ID: "pier", Spec: definition.ServiceSpec{Name: "Pier", Kind: definition.Business, Combine: definition.Worst}},
		catalogue.Step{Does: catalogue.Make, Kind: catalogue.Check, ID: "pier-http", Spec: definition.CheckSpec{Service: "pier", Name: "Pier", Kind: measure.HTTP.Name, Target: "http://127.0.0.1/", Role: definition.Decides,
			IntervalS: 30, TimeoutMS: 1000, StaleAfterS: 90, Confirm: 2, Recover: 1, Locations: places}},
		catalogue.Step{Does: catalogue.Make, Kind: catalogue.Agreement, ID: "pier", Spec: definition.AgreementSpec{Name: "Pier", Service: "pier", Timezone: "UTC", TargetPercent: "99.9", DegradedWeightPercent: "0",
			MinCoveragePercent: "0", Unmeasured: definition.UnmeasuredExclude, Period: &definition.Cycle{Unit: calendar.Month, Day: day}, From: began.UTC().Format(time.DateOnly)}})
	if _, err := srv.API.Definitions.Apply(ctx, defining.Change{By: by, At: began}, steps...); err != nil {
		b.Fatal(err)
	}
	url := servertest.Serve(b, srv)
	rows := 0
	for _, place := range places {
		token := servertest.Agent(b, srv, place)
		var list []wire.Measurement
		send := func() {
			if a := servertest.DeliverPacked(b, url, token, servertest.Packed(b, wire.Batch{Measurements: list})); a.Status != http.StatusOK {
				b.Fatal(a)
			}
			rows, list = rows+len(list), nil
		}
		for at, i := span.Of(now.AddDate(0, 0, -29)), 0; at < span.Of(now); at, i = at.Add(30*span.Second), i+1 {
			m := wire.Measurement{Check: "pier-http", At: at, Outcome: measure.OK, Measures: map[string]float64{"total_ms": 10 + float64(i%13) + 0.123}}
			if i%9000 < 12 {
				m.Outcome, m.Measures = measure.Failed, nil
			}
			if list = append(list, m); len(list) == 5000 {
				send()
			}
		}
		send()
	}
	snap, err := srv.API.Definitions.Snapshot(ctx)
	if err != nil {
		b.Fatal(err)
	}
	present, err := snap.PeriodAt("pier", span.Of(now))
	if err != nil {
		b.Fatal(err)
	}
	period, err := snap.PeriodBefore("pier", present)
	if err != nil {
		b.Fatal(err)
	}
	last := ""
	b.Run("report", func(b *testing.B) {
		for b.Loop() {
			if last, err = srv.API.Desk.Draft(ctx, "pier", period.Name(), "", by, now); err != nil {
				b.Fatal(err)
			}
			if err := srv.API.Desk.Publish(ctx, last, "", by, now); err != nil {
				b.Fatal(err)
			}
		}
		b.ReportMetric(float64(rows), "rows")
		b.ReportMetric(peak(b), "peak-MiB")
	})
	r, err := srv.API.Store.Report(ctx, last)
	if err != nil {
		b.Fatal(err)
	}
	a, err := srv.API.Desk.Keys.Archive(ctx, r)
	if err != nil {
		b.Fatal(err)
	}
	csv := a.Files[seal.MeasurementsName]
	if a.Manifest.Evidence != seal.ByMeasurements || len(csv) < rows*30 {
		b.Fatalf("the archive has %d bytes of %d measurements", len(csv), rows)
	}
	b.Run("bare", func(b *testing.B) {
		for b.Loop() {
			list, err := srv.API.Store.Pool.Query(ctx, "SELECT * FROM measurement WHERE at >= $1 AND at < $2", period.Span().From.Time(), period.Span().To.Time())
			if err != nil {
				b.Fatal(err)
			}
			n := 0
			for list.Next() {
				n += len(list.RawValues())
			}
			if list.Err() != nil || n == 0 {
				b.Fatal(n, list.Err())
			}
			if _, err := seals.Pack(csv); err != nil {
				b.Fatal(err)
			}
		}
	})
	c, _, err := srv.API.Desk.Content(ctx, r, now)
	if err != nil {
		b.Fatal(err)
	}
	for len(c.Outages) < 480 { // some twelve pages
		c.Outages = append(c.Outages, c.Outages...)
	}
	c.Outages = c.Outages[:480]
	b.Run("pdf", func(b *testing.B) {
		for b.Loop() {
			if _, err := report.PDF(c, now, "0123456789abcdef", nil); err != nil {
				b.Fatal(err)
			}
		}
	})
}
