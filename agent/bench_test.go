package agent_test

import (
	"compress/gzip"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"sync"
	"testing"
	"time"

	"kestite/agent/wire"
	"kestite/core/definition"
	"kestite/core/span"
	"kestite/server/store/storetest"
)

// BenchmarkLateness runs an agent with 1,000 ping checks, 100 starts a second,
// for half a minute: how late do measurements start? Beside it, in the same
// run, goroutines that only sleep until the same number of instants.
func BenchmarkLateness(b *testing.B) {
	const checks, intervalS = 1000, 10
	b.Run("agent", func(b *testing.B) { scale(b, assignments(checks, intervalS).Checks, 30*time.Second) })
	b.Run("bare-sleep", func(b *testing.B) {
		for b.Loop() {
			late := make([]float64, 3*checks)
			var all sync.WaitGroup
			began := storetest.Now()
			for i := range late {
				at := began.Add(time.Duration(i) * 10 * time.Millisecond)
				all.Go(func() {
					time.Sleep(at.Sub(storetest.Now()))
					late[i] = float64(storetest.Now().Sub(at).Milliseconds())
				})
			}
			all.Wait()
			report(b, late)
		}
	})
}

// read decodes the gzipped JSON that agents send.
func read(r *http.Request, out any) {
	if z, err := gzip.NewReader(r.Body); err == nil {
		json.NewDecoder(z).Decode(out)
	}
}

func assignments(checks int, intervalS int64) wire.Assignments {
	out := wire.Assignments{Location: "tolvik", Mark: "1", Clock: span.Of(storetest.Now())}
	for i := range checks {
		out.Checks = append(out.Checks, wire.Check{
			ID: fmt.Sprintf("check-%04d", i), Kind: "ping", Target: fmt.Sprintf("127.9.%d.%d", i/250, 1+i%250), IntervalS: intervalS, TimeoutMS: 1000,
			Settings: definition.Settings{Ping: &definition.PingSettings{Packets: 3, SizeBytes: 56, SpacingMS: 50}},
		})
	}
	return out
}

func report(b *testing.B, late []float64) {
	b.Helper()
	if len(late) == 0 {
		b.Fatal("nothing was measured")
	}
	slices.Sort(late)
	b.ReportMetric(float64(len(late)), "starts")
	b.ReportMetric(late[len(late)/2], "late-p50-ms")
	b.ReportMetric(late[len(late)*99/100], "late-p99-ms")
	b.ReportMetric(late[len(late)-1], "late-max-ms")
}
