package server_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/agent/wire"
	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/core/verdict"
	"kestite/server"
	"kestite/server/defining"
	"kestite/server/ingest"
	"kestite/server/servertest"
	"kestite/server/store/gen/db"
	"kestite/server/store/storetest"
	"kestite/server/trail"
)

func TestMain(m *testing.M) { storetest.Main(m) }

var ctx = context.Background()

// fleet is a server with so many services, each with a check a minute from two
// locations and an agreement, in force for forty days.
func fleet(b *testing.B, services int) *server.Server {
	b.Helper()
	srv := storetest.Server(b)
	define(b, srv, services)
	return srv
}

func define(b *testing.B, srv *server.Server, services int) {
	b.Helper()
	ch := defining.Change{By: trail.By{Name: "bench"}, At: storetest.Now().Add(-40 * 24 * time.Hour)}
	var steps []catalogue.Step
	define := func(kind, id string, spec catalogue.Spec) {
		steps = append(steps, catalogue.Step{Does: catalogue.Make, Kind: kind, ID: id, Spec: spec})
	}
	for _, l := range places {
		define(catalogue.Location, l, definition.LocationSpec{Name: l})
	}
	for i := range services {
		service := fmt.Sprintf("service-%03d", i)
		define(catalogue.Service, service, definition.ServiceSpec{Name: service, Kind: "business", Combine: "worst"})
		define(catalogue.Check, "check-"+service, definition.CheckSpec{
			Service: service, Name: service, Kind: "http", Target: "http://127.0.0.1/", IntervalS: 60, TimeoutMS: 1000, StaleAfterS: 150,
			Confirm: 2, Recover: 2, Quorum: "majority", Role: "decides", Locations: places,
		})
		define(catalogue.Agreement, "agreement-"+service, definition.AgreementSpec{
			Name: service, Service: service, Timezone: "Europe/Oslo", TargetPercent: "99.9", DegradedWeightPercent: "0", MinCoveragePercent: "0", Unmeasured: "exclude",
		})
	}
	if _, err := srv.API.Definitions.Apply(ctx, ch, steps...); err != nil {
		b.Fatal(err)
	}
}

var places = []string{"tolvik", "eskerby"}

// rounds are measurements of all checks of a fleet at one location, so many times from a
// time on, step apart; every check fails now and then.
func rounds(services, n int, from time.Time, step time.Duration, badEvery int) []wire.Measurement {
	var out []wire.Measurement
	for m := range n {
		for i := range services {
			o := measure.OK
			if badEvery > 0 && (m+i*7)%badEvery < 3 {
				o = measure.Failed
			}
			out = append(out, wire.Measurement{
				Check: fmt.Sprintf("check-service-%03d", i), At: span.Of(from.Add(time.Duration(m)*step + time.Duration(i)*time.Millisecond)), Outcome: o,
				Measures: map[string]float64{"dns_ms": 0.4, "connect_ms": 1.5, "first_byte_ms": 30, "total_ms": 42.5, "status": 200, "size_bytes": 9120},
			})
		}
	}
	return out
}

// BenchmarkIngest delivers batches of 100, 1,000 and 10,000 measurements of 100
// checks through the agents' HTTP endpoint, judged and committed; with 100, each row is
// of another lane. In the same run the same rows go by one COPY per batch into a table
// of the same make without anything else. WAL is without full-page images.
func BenchmarkIngest(b *testing.B) {
	const checks = 100
	const step = time.Millisecond // so that all lie in the present, as most do
	syncing(b)
	// What is of an hour that is over is late, and costs more: no row is of the hour before.
	present := func() time.Time {
		const room = 50 * time.Second
		for storetest.Now().Truncate(time.Hour).After(storetest.Now().Add(-room)) {
			time.Sleep(time.Second)
		}
		return storetest.Now().Add(-room).Truncate(time.Millisecond)
	}
	for _, size := range []int{100, 1000, 10_000} {
		b.Run(fmt.Sprintf("endpoint/batch=%d", size), func(b *testing.B) {
			srv := fleet(b, checks)
			url := servertest.Serve(b, srv)
			token := servertest.Agent(b, srv, places[0])
			from := present()
			deliver := func() {
				body := servertest.Packed(b, wire.Batch{Measurements: rounds(checks, size/checks, from, step, 500)})
				from = from.Add(time.Duration(size/checks) * step)
				b.StartTimer()
				a := servertest.DeliverPacked(b, url, token, body)
				b.StopTimer()
				var r wire.Receipt
				if err := json.Unmarshal(a.Body, &r); err != nil || r.Stored != size {
					b.Fatalf("%v %.300s", err, a)
				}
			}
			deliver() // which makes the lanes
			wal := written(b, srv)
			sent := 0
			b.StartTimer()
			for b.Loop() {
				b.StopTimer()
				deliver()
				sent += size
				b.StartTimer()
			}
			b.ReportMetric(float64(sent)/b.Elapsed().Seconds(), "rows/s")
			b.ReportMetric(float64(wal())/float64(sent), "wal-B/row")
		})
		b.Run(fmt.Sprintf("bare-copy/batch=%d", size), func(b *testing.B) {
			srv := fleet(b, 1)
			storetest.Exec(b, srv, "CREATE TABLE bare (LIKE measurement INCLUDING ALL); GRANT ALL ON bare TO PUBLIC")
			from := present()
			wal := written(b, srv)
			sent := 0
			for b.Loop() {
				b.StopTimer()
				var rows [][]any
				for i, m := range rounds(checks, size/checks, from, step, 500) {
					rows = append(rows, []any{int32(i % checks), m.At.Time(), int16(m.Outcome),
						[]int64{42_500, 400, 1_500, measure.None, 30_000, 200_000, 9_120_000}, int32(0), int32(0), nil})
				}
				from = from.Add(time.Duration(size/checks) * step)
				b.StartTimer()
				columns := []string{"lane", "at", "outcome", "thousandths", "late_ms", "delay_s", "detail"}
				if _, err := srv.API.Store.Pool.CopyFrom(ctx, pgx.Identifier{"bare"}, columns, pgx.CopyFromRows(rows)); err != nil {
					b.Fatal(err)
				}
				sent += size
			}
			b.ReportMetric(float64(sent)/b.Elapsed().Seconds(), "rows/s")
			b.ReportMetric(float64(wal())/float64(sent), "wal-B/row")
		})
	}
}

// syncing lets the database wait for the disk at each commit, as it does where it is not
// for tests.
func syncing(b *testing.B) {
	b.Helper()
	srv := storetest.Server(b)
	all := storetest.Superuser(b, srv)
	set := func(to string) {
		if _, err := all.Exec(ctx, "ALTER SYSTEM SET synchronous_commit = "+to); err != nil {
			b.Fatal(err)
		}
		if _, err := all.Exec(ctx, "ALTER SYSTEM SET fsync = "+to); err != nil {
			b.Fatal(err)
		}
		if _, err := all.Exec(ctx, "SELECT pg_reload_conf()"); err != nil {
			b.Fatal(err)
		}
	}
	set("on")
	b.Cleanup(func() { set("off") })
}

// BenchmarkSteady lets two agents deliver 5,000 measurements a second to a whole server,
// each row of a delivery another lane of 10,000, one of 500 bad; for half a minute, or as
// long as KESTITE_STEADY says. What grows by more than the measurements would show:
// wishes to be judged, jobs, and the sizes of tables, half-way and at the end.
func BenchmarkSteady(b *testing.B) {
	const services, size, pause = 5000, 250, 100 * time.Millisecond
	lasting := 30 * time.Second
	if text := os.Getenv("KESTITE_STEADY"); text != "" {
		var err error
		if lasting, err = time.ParseDuration(text); err != nil {
			b.Fatal(err)
		}
	}
	syncing(b)
	srv := storetest.Started(b)
	define(b, srv, services)
	tokens := []string{servertest.Agent(b, srv, places[0]), servertest.Agent(b, srv, places[1])}
	for b.Loop() {
		var all sync.WaitGroup
		took := make([][]time.Duration, len(places))
		began := storetest.Now()
		for a := range places {
			all.Go(func() {
				for n := 0; storetest.Now().Sub(began) < lasting; n++ {
					if wait := began.Add(time.Duration(n) * pause).Sub(storetest.Now()); wait > 0 {
						time.Sleep(wait)
					}
					now := span.Of(storetest.Now())
					list := make([]wire.Measurement, size)
					for i := range list {
						lane, o := (n*size+i)%services, measure.OK
						if (n*size+i)%500 == lane%500 && (n*size/services)%500 == lane%500 {
							o = measure.Failed
						}
						list[i] = wire.Measurement{Check: fmt.Sprintf("check-service-%03d", lane), At: now, Outcome: o, Clock: &wire.Clock{Offset: 3, Uncertain: 1},
							Measures: map[string]float64{"dns_ms": 0.4, "connect_ms": 1.5, "first_byte_ms": 30, "total_ms": 42.5, "status": 200, "size_bytes": 9120}}
					}
					body := servertest.Packed(b, wire.Batch{Measurements: list})
					sent := storetest.Now()
					var got wire.Receipt
					answer := servertest.DeliverPacked(b, srv.URL, tokens[a], body)
					if err := json.Unmarshal(answer.Body, &got); err != nil || got.Stored != size {
						b.Errorf("%s: %v, %s", places[a], err, answer)
						return
					}
					took[a] = append(took[a], storetest.Now().Sub(sent))
				}
			})
		}
		all.Go(func() {
			for _, part := range []time.Duration{lasting / 2, lasting} {
				time.Sleep(began.Add(part).Sub(storetest.Now()))
				b.Logf("after %s: %s", part, standing(b, srv))
			}
		})
		all.Wait()
		list := slices.Concat(took...)
		b.ReportMetric(float64(len(list)*size)/storetest.Now().Sub(began).Seconds(), "rows/s")
		b.ReportMetric(at(list, 0.5), "batch-p50-ms")
		b.ReportMetric(at(list, 0.99), "batch-p99-ms")
		b.ReportMetric(at(list, 1), "batch-longest-ms")
	}
}

// standing is what waits in a database, and how large its tables are, indexes included.
func standing(b *testing.B, srv *server.Server) string {
	b.Helper()
	var text string
	err := srv.API.Store.Pool.QueryRow(ctx, `SELECT format('%s wishes to be judged, %s jobs waiting, %s measurements; lane %s, stretch %s, hour %s, hour_due %s',
		(SELECT count(*) FROM judge_due), (SELECT count(*) FROM river_job WHERE state IN ('available', 'running', 'retryable')), (SELECT count(*) FROM measurement),
		pg_size_pretty(pg_total_relation_size('lane')), pg_size_pretty(pg_total_relation_size('stretch')), pg_size_pretty(pg_total_relation_size('hour')),
		pg_size_pretty(pg_total_relation_size('hour_due')))`).Scan(&text)
	if err != nil {
		b.Error(err)
	}
	return text
}

// written notes where the write-ahead log stands, and then says how many bytes of
// records were added since, full-page images not counted.
func written(b *testing.B, srv *server.Server) func() int64 {
	b.Helper()
	all := storetest.Superuser(b, srv)
	here := func() (at string) { // with all of it on disk
		b.Helper()
		if _, err := all.Exec(ctx, "CREATE EXTENSION IF NOT EXISTS pg_walinspect; SELECT pg_switch_wal()"); err != nil {
			b.Fatal(err)
		}
		if err := all.QueryRow(ctx, "SELECT pg_current_wal_flush_lsn()::text").Scan(&at); err != nil {
			b.Fatal(err)
		}
		return at
	}
	from := here()
	return func() (n int64) {
		b.Helper()
		err := all.QueryRow(ctx, "SELECT coalesce(sum(record_size), 0)::bigint FROM pg_get_wal_stats($1::pg_lsn, $2::pg_lsn)", from,
			here()).Scan(&n)
		if err != nil {
			b.Fatal(err)
		}
		return n
	}
}

// seed judges 25 days of measurements a minute and the hour to come, with an outage of
// three minutes a day, by the rules of the core and stores what follows.
func seed(b *testing.B, srv *server.Server, check, place string, shift int) {
	b.Helper()
	set := verdict.Settings{Confirm: 2, Recover: 2, StaleAfter: 150_000}
	at := span.Of(storetest.Now()).Add(-25 * span.Day)
	var s verdict.Series
	var out []verdict.Stretch
	for m := range 25*1440 + 60 {
		own := verdict.Up
		if (m+shift*7)%1440 < 3 {
			own = verdict.Down
		}
		out = s.Add(out, at.Add(int64(m)*span.Minute), own, set)
	}
	store := srv.API.Store
	if err := store.EnsureLanes(ctx, db.EnsureLanesParams{Column1: []string{check}, Column2: []string{place}}); err != nil {
		b.Fatal(err)
	}
	lanes, err := store.LanesOfChecks(ctx, []string{check})
	if err != nil {
		b.Fatal(err)
	}
	err = store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		return ingest.Seed(ctx, tx, q, lanes[len(lanes)-1].ID, s, out)
	})
	if err != nil {
		b.Fatal(err)
	}
}

// BenchmarkStanding asks for the home screen of services with 25 days of history, an
// outage a day each: the first time, with nothing remembered, and again; for the hundred
// after those shown; and for the strips of a hundred services. In the same run it only
// reads the stretches from the database.
func BenchmarkStanding(b *testing.B) {
	for _, services := range []int{200, 1000, 3000} {
		srv := fleet(b, services)
		url := servertest.Serve(b, srv)
		ids := ""
		for i := range services {
			for _, place := range places {
				seed(b, srv, fmt.Sprintf("check-service-%03d", i), place, i)
			}
			if i < 100 {
				ids += fmt.Sprintf("&ids=service-%03d", i)
			}
		}
		c := servertest.As(b, srv, url, access.Viewer)
		began := storetest.Now()
		size := get(b, c, url+"/api/v1/standing")
		first := storetest.Now().Sub(began)
		manager := servertest.As(b, srv, url, access.Manager)
		began = storetest.Now()
		get(b, manager, url+"/api/v1/closes")
		firstCloses := storetest.Now().Sub(began)
		b.Run(fmt.Sprintf("%d/closes", services), func(b *testing.B) {
			var took []time.Duration
			for b.Loop() {
				began := storetest.Now()
				get(b, manager, url+"/api/v1/closes")
				took = append(took, storetest.Now().Sub(began))
			}
			b.ReportMetric(at(took, 0.95), "p95-ms")
			b.ReportMetric(float64(firstCloses)/1e6, "first-ms")
		})
		for name, path := range map[string]string{"standing": "/standing", "100-more": "/standing?from=100", "strips": "/services/strips?" + ids} {
			b.Run(fmt.Sprintf("%d/%s", services, name), func(b *testing.B) {
				var took []time.Duration
				for b.Loop() {
					began := storetest.Now()
					get(b, c, url+"/api/v1"+path)
					took = append(took, storetest.Now().Sub(began))
				}
				b.ReportMetric(at(took, 0.95), "p95-ms")
				if name == "standing" {
					b.ReportMetric(float64(first)/1e6, "first-ms")
					b.ReportMetric(float64(size)/1000, "kB")
				}
			})
		}
		b.Run(fmt.Sprintf("%d/bare-read", services), func(b *testing.B) {
			var took []time.Duration
			for b.Loop() {
				began := storetest.Now()
				rows, err := srv.API.Store.Pool.Query(ctx, "SELECT lane, first_at, last_at, state, own, count FROM stretch ORDER BY lane, first_at")
				if err != nil {
					b.Fatal(err)
				}
				var all bytes.Buffer
				for rows.Next() {
					for _, v := range rows.RawValues() {
						all.Write(v)
					}
				}
				if rows.Err() != nil || all.Len() == 0 {
					b.Fatal(rows.Err(), all.Len())
				}
				took = append(took, storetest.Now().Sub(began))
			}
			b.ReportMetric(at(took, 0.95), "p95-ms")
		})
	}
}

// at is a quantile of times, in ms.
func at(took []time.Duration, q float64) float64 {
	slices.Sort(took)
	return float64(took[int(float64(len(took)-1)*q)]) / 1e6
}

// get asks for a page as a browser does, and returns how many bytes came over the wire.
func get(b *testing.B, c *servertest.Client, url string) int64 {
	b.Helper()
	ask, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		b.Fatal(err)
	}
	ask.Header.Set("Accept-Encoding", "gzip")
	resp, err := c.HTTP.Do(ask)
	if err != nil {
		b.Fatal(err)
	}
	defer resp.Body.Close()
	n, err := io.Copy(io.Discard, resp.Body)
	if err != nil || resp.StatusCode != http.StatusOK || n < 1000 {
		b.Fatalf("%v %d %d", err, resp.StatusCode, n)
	}
	return n
}

// BenchmarkReaders lets forty browsers ask for the home screen of 1,000
// agreements at once, over and over, while an agent delivers 100 measurements
// every tenth of a second; beside them the agent alone.
func BenchmarkReaders(b *testing.B) {
	const services, readers = 1000, 40
	srv := fleet(b, services)
	url := servertest.Serve(b, srv)
	for i := range services {
		for _, place := range places {
			seed(b, srv, fmt.Sprintf("check-service-%03d", i), place, i)
		}
	}
	c := servertest.As(b, srv, url, access.Viewer)
	token := servertest.Agent(b, srv, places[0])
	from := storetest.Now().Add(-12 * time.Hour).Truncate(time.Minute)
	// deliver delivers until ctx ends and returns how long each took.
	deliver := func(ctx context.Context) []time.Duration {
		var took []time.Duration
		for n := 0; ctx.Err() == nil; n++ {
			list := rounds(100, 1, from, time.Minute, 0)
			for i := range list {
				list[i].Check = fmt.Sprintf("check-service-%03d", (n*100+i)%services)
			}
			if n%10 == 9 {
				from = from.Add(time.Minute)
			}
			text, err := json.Marshal(wire.Batch{Measurements: list})
			if err != nil {
				b.Error(err)
				return took
			}
			began := storetest.Now()
			if a := servertest.AsAgent(b, url, token, wire.PathBatches, string(text)); a.Status != http.StatusOK {
				b.Errorf("an agent: %.200s", a)
				return took
			}
			took = append(took, storetest.Now().Sub(began))
			time.Sleep(100 * time.Millisecond)
		}
		return took
	}
	b.Run("readers", func(b *testing.B) {
		agents, end := context.WithCancel(ctx)
		delivered := make(chan []time.Duration, 1)
		go func() { delivered <- deliver(agents) }()
		var mu sync.Mutex
		var took []time.Duration
		for b.Loop() {
			var all sync.WaitGroup
			for range readers {
				all.Go(func() {
					began := storetest.Now()
					resp, err := c.HTTP.Get(url + "/api/v1/standing")
					if err != nil {
						b.Error(err)
						return
					}
					defer resp.Body.Close()
					if _, err := io.Copy(io.Discard, resp.Body); err != nil || resp.StatusCode != http.StatusOK {
						b.Error(resp.StatusCode, err)
					}
					mu.Lock()
					defer mu.Unlock()
					took = append(took, storetest.Now().Sub(began))
				})
			}
			all.Wait()
		}
		end()
		b.ReportMetric(at(took, 0.95), "reader-p95-ms")
		b.ReportMetric(at(<-delivered, 0.99), "agent-p99-ms")
	})
	b.Run("agent-alone", func(b *testing.B) {
		var took []time.Duration
		for b.Loop() {
			agents, end := context.WithTimeout(ctx, 5*time.Second)
			took = append(took, deliver(agents)...)
			end()
		}
		b.ReportMetric(at(took, 0.99), "agent-p99-ms")
	})
}

// BenchmarkChange edits one service among 1,000 with their checks and agreements, and
// then asks a server for its definitions; beside it the reading of all of them.
func BenchmarkChange(b *testing.B) {
	srv := fleet(b, 1000)
	ch := defining.Change{By: trail.By{Name: "bench"}}
	other := defining.New(srv.API.Store)
	snapshot := func(d *defining.Definitions) {
		b.Helper()
		if _, err := d.Snapshot(ctx); err != nil {
			b.Fatal(err)
		}
	}
	b.Run("edit", func(b *testing.B) {
		n := 0
		for b.Loop() {
			n++
			spec := definition.ServiceSpec{Name: fmt.Sprintf("Name %d", n), Kind: "business", Combine: "worst"}
			if err := srv.API.Definitions.Edit(ctx, catalogue.Service, "service-007", 0, spec, ch); err != nil {
				b.Fatal(err)
			}
		}
	})
	b.Run("another-server", func(b *testing.B) {
		snapshot(other)
		for b.Loop() {
			b.StopTimer()
			storetest.Exec(b, srv, "UPDATE revision SET reason = 'touched' WHERE kind = 'service' AND id = 'service-008'")
			b.StartTimer()
			snapshot(other)
		}
	})
	b.Run("read-all", func(b *testing.B) {
		for b.Loop() {
			snapshot(defining.New(srv.API.Store))
		}
	})
}
