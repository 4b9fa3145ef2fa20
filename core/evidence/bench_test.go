package evidence_test

import (
	"bytes"
	"fmt"
	"io"
	"runtime"
	"runtime/debug"
	"strconv"
	"strings"
	"testing"
	"time"

	"kestite/core/account"
	"kestite/core/definition"
	"kestite/core/evidence"
)

// month is a bundle of checks × locations for March 2026 with one agreement.
func month(t testing.TB, checks, locations int) *definition.Compiled {
	t.Helper()
	var list []string
	for c := range checks {
		var places []string
		for l := range locations {
			places = append(places, fmt.Sprintf(`"place-%d"`, l))
		}
		list = append(list, fmt.Sprintf(`{"id":"check-%d","kind":"http","interval_s":60,"stale_after_s":150,"confirm":2,"locations":[%s]}`, c, strings.Join(places, ",")))
	}
	b, err := evidence.DecodeBundle(strings.NewReader(`{"format":"kestite-evidence/1",
		"period":{"timezone":"Europe/Oslo","start":"2026-03-01T00:00:00","end":"2026-04-01T00:00:00"},
		"services":[{"id":"tickets","kind":"business","checks":[` + strings.Join(list, ",") + `]}],
		"agreements":[{"id":"gold","service":"tickets","target_percent":"99.9"}]}`))
	if err != nil {
		t.Fatal(err)
	}
	c, err := definition.Compile(b)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// rows are n measurements in the order of time, round the lanes.
func rows(checks, locations, n int) []byte {
	var out bytes.Buffer
	out.WriteString("check,location,at,outcome,total_ms\n")
	at := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	step := time.Minute / time.Duration(checks*locations)
	for i := range n {
		o := "ok"
		if i/(checks*locations)%9000 < 4 {
			o = "failed"
		}
		fmt.Fprintf(&out, "check-%d,place-%d,%s,%s,%d.%d\n", i%checks, i/checks%locations, at.Format("2006-01-02T15:04:05.000Z"), o, 30+i%50, i%10)
		at = at.Add(step)
	}
	return out.Bytes()
}

// BenchmarkCSVToAccount reads a million rows and makes the account; beside it,
// over the same bytes, a scan that only splits the lines at their commas and
// parses the timestamps with the standard library.
func BenchmarkCSVToAccount(b *testing.B) {
	const checks, locations, n = 5, 5, 1_000_000
	c, text := month(b, checks, locations), rows(checks, locations, n)
	b.Run("account", func(b *testing.B) {
		for b.Loop() {
			m, err := evidence.ReadMeasurements(c, "measurements.csv", func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(text)), nil }, nil)
			if err != nil {
				b.Fatal(err)
			}
			if list, err := account.NewEvidence(c, m.Stretches, m.Timing).All(); err != nil || m.Rows != n || list[0].Outages.Count == 0 {
				b.Fatal(err, m.Rows)
			}
		}
		b.ReportMetric(n*float64(b.N)/b.Elapsed().Seconds(), "rows/s")
	})
	b.Run("bare-scan", func(b *testing.B) {
		for b.Loop() {
			rest, count := text[bytes.IndexByte(text, '\n')+1:], 0
			for len(rest) > 0 {
				end := bytes.IndexByte(rest, '\n')
				line := rest[:end]
				rest = rest[end+1:]
				for column := 0; column < 3; column++ {
					comma := bytes.IndexByte(line, ',')
					if column == 2 {
						if _, err := time.Parse(time.RFC3339, string(line[:comma])); err != nil {
							b.Fatal(err)
						}
					}
					line = line[comma+1:]
				}
				count++
			}
			if count != n {
				b.Fatal(count)
			}
		}
		b.ReportMetric(n*float64(b.N)/b.Elapsed().Seconds(), "rows/s")
	})
}

// generator yields rows as they are read, so that tens of millions need no
// memory of the test's own: in the order of time or backwards.
type generator struct {
	lanes, n, i int64
	backwards   bool
	buf         bytes.Buffer
}

func (g *generator) Read(p []byte) (int, error) {
	for g.buf.Len() < len(p) && g.i < g.n {
		k := g.i
		if g.backwards {
			k = g.n - 1 - g.i
		}
		if g.i == 0 {
			g.buf.WriteString("check,location,at,outcome,total_ms\n")
		}
		lane, tick := k%g.lanes, k/g.lanes
		at := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC).Add(time.Duration(tick) * time.Second)
		o := ",ok,"
		if tick%90_000 < 200 {
			o = ",failed,"
		}
		line := append(g.buf.AvailableBuffer(), "check-0,place-"...)
		line = strconv.AppendInt(line, lane, 10)
		line = append(line, ',')
		line = at.AppendFormat(line, "2006-01-02T15:04:05Z")
		line = append(line, o...)
		line = strconv.AppendInt(line, 20+k%50, 10)
		g.buf.Write(append(line, '\n'))
		g.i++
	}
	return g.buf.Read(p)
}

func (g *generator) Close() error { return nil }

// BenchmarkFiftyMillionRows reads 50 million rows of 20 lanes with a latency
// objective under the memory limit that the account command sets itself, and
// reports the most memory that the process held.
func BenchmarkFiftyMillionRows(b *testing.B) {
	defer debug.SetMemoryLimit(debug.SetMemoryLimit(800 << 20))
	const lanes, n = 20, 50_000_000
	c := month(b, 1, lanes)
	c.Agreements[0].Latency = &definition.Latency{Check: "check-0", LimitMS: 60, TargetPercent: "90"}
	for _, backwards := range []bool{false, true} {
		b.Run(map[bool]string{false: "in-order", true: "backwards"}[backwards], func(b *testing.B) {
			debug.FreeOSMemory()
			stop, peak := make(chan struct{}), make(chan uint64)
			go func() {
				var most uint64
				for {
					select {
					case <-stop:
						peak <- most
						return
					case <-time.After(50 * time.Millisecond):
						var m runtime.MemStats
						runtime.ReadMemStats(&m)
						most = max(most, m.Sys-m.HeapReleased)
					}
				}
			}()
			for b.Loop() {
				open := func() (io.ReadCloser, error) { return &generator{lanes: lanes, n: n, backwards: backwards}, nil }
				m, err := evidence.ReadMeasurements(c, "measurements.csv", open, nil)
				if err != nil {
					b.Fatal(err)
				}
				list, err := account.NewEvidence(c, m.Stretches, m.Timing).All()
				if err != nil || m.Rows != n || list[0].Latency.Measurements == 0 {
					b.Fatal(err, m.Rows)
				}
			}
			close(stop)
			b.ReportMetric(float64(<-peak)/(1<<20), "peak-MiB")
			b.ReportMetric(n*float64(b.N)/b.Elapsed().Seconds(), "rows/s")
		})
	}
}
