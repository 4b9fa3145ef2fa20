package ingest_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"kestite/agent/wire"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/server"
	"kestite/server/defining"
	"kestite/server/ingest"
	"kestite/server/store"
	"kestite/server/store/gen/db"
	"kestite/server/store/storetest"
	"kestite/server/trail"
)

// ok is a good measurement so many seconds ago.
func ok(seconds int64) wire.Measurement {
	return wire.Measurement{Check: check, At: span.Of(storetest.Now()).Add(-seconds * span.Second), Outcome: measure.OK, Measures: map[string]float64{"total_ms": 10}}
}

func exec(t *testing.T, srv *server.Server, sql string, args ...any) {
	t.Helper()
	storetest.Exec(t, srv, sql, args...)
}

func scan[T any](t *testing.T, srv *server.Server, sql string, args ...any) (out T) {
	t.Helper()
	if err := srv.API.Store.Pool.QueryRow(ctx, sql, args...).Scan(&out); err != nil {
		t.Fatal(err)
	}
	return out
}

// Texts that a database has no place for are cleaned on the way in.
func TestTextsThatCannotBeKept(t *testing.T) {
	t.Parallel()
	srv := lane(t, 1, 1)
	list := []wire.Measurement{ok(9), ok(8), ok(7), ok(6), ok(5)}
	list[1].Detail = "certificate of \x00 quay"
	list[2].Detail = "\xff\xfe and \x1b[31m"
	list[3].Detail = strings.Repeat("ø", 5000)
	list[4].Findings = &measure.Findings{
		Remote: "\x00", Answers: []string{`a backslash \u0000 of its own`, "nul \x00 here"}, Chain: []measure.Link{{Subject: "CN=\x00.skerry.example"}},
	}
	if r := deliver(t, srv, list); r.Stored != 5 || len(r.Refused) > 0 {
		t.Fatalf("%+v", r)
	}
	if got := scan[string](t, srv, "SELECT detail FROM measurement WHERE detail LIKE 'certificate%'"); got != "certificate of \ufffd quay" {
		t.Errorf("%q", got)
	}
	if n := scan[int](t, srv, "SELECT max(length(detail)) FROM measurement"); n > measure.MostDetail {
		t.Errorf("a detail of %d characters was kept", n)
	}
	var f measure.Findings
	if err := json.Unmarshal(scan[json.RawMessage](t, srv, "SELECT body FROM findings"), &f); err != nil {
		t.Fatal(err)
	}
	want := measure.Findings{Remote: "\ufffd", Answers: []string{`a backslash \u0000 of its own`, "nul \ufffd here"}, Chain: []measure.Link{{Subject: "CN=\ufffd.skerry.example"}}}
	if !reflect.DeepEqual(f, want) {
		t.Errorf("%+v", f)
	}
}

// What is no number, or one that no measure can have, is left out and said;
// what is kept is exact to the thousandth.
func TestNumbersThatAreNone(t *testing.T) {
	t.Parallel()
	srv := lane(t, 1, 1)
	for i, v := range []float64{math.NaN(), math.Inf(1), math.Inf(-1), 1e39, 1e300, -1e16} {
		m := ok(int64(30 - i))
		m.Measures = map[string]float64{"total_ms": v, "dns_ms": 900.2}
		if r := deliver(t, srv, []wire.Measurement{m}); r.Stored != 1 {
			t.Fatalf("%v: %+v", v, r)
		}
		var values []int64
		var detail string
		if err := srv.API.Store.Pool.QueryRow(ctx, "SELECT thousandths, detail FROM measurement WHERE at = $1", m.At.Time()).Scan(&values, &detail); err != nil {
			t.Fatal(err)
		}
		if values[0] != measure.None || values[1] != 900_200 || !strings.Contains(detail, "total_ms left out") {
			t.Errorf("%v: %v %q", v, values, detail)
		}
	}
	if err := srv.Judge.Hours(ctx); err != nil {
		t.Fatal(err)
	}
}

// Rows of earlier versions that hold no numbers, and the summaries made of them, are mended.
func TestOldRowsAreHealed(t *testing.T) {
	t.Parallel()
	srv := lane(t, 1, 1)
	deliver(t, srv, []wire.Measurement{ok(3 * 3600), ok(3*3600 - 60)})
	if err := srv.Judge.Hours(ctx); err != nil {
		t.Fatal(err)
	}
	exec(t, srv, "UPDATE measurement SET thousandths = NULL, measures = ARRAY['Infinity'::real, 5, 'NaN'::real] WHERE at = (SELECT min(at) FROM measurement)")
	exec(t, srv, "UPDATE measurement SET thousandths = NULL, measures = ARRAY[12::real] WHERE at = (SELECT max(at) FROM measurement)")
	exec(t, srv, "UPDATE hour SET low = 12, mean = 'Infinity', high = 'NaN'")
	exec(t, srv, "INSERT INTO hour SELECT lane, hour_at - interval '200 days', 7, 0, 0, 0, '-Infinity', 1e30, 1, sketch FROM hour LIMIT 1")
	for {
		done, err := srv.Judge.Heal(ctx)
		if err != nil {
			t.Fatal(err)
		}
		if done {
			break
		}
	}
	if got := scan[[]float32](t, srv, "SELECT measures FROM measurement ORDER BY at LIMIT 1"); !math.IsNaN(float64(got[0])) || got[1] != 5 {
		t.Errorf("the row holds %v", got)
	}
	rows, err := srv.API.Store.Hours(ctx, db.HoursParams{Column1: []int32{scan[int32](t, srv, "SELECT id FROM lane")}, HourAt: time.Unix(0, 0), HourAt_2: storetest.Now()})
	if err != nil || len(rows) < 2 {
		t.Fatal(rows, err)
	}
	if rows[0].Count != 7 || rows[0].Mean != nil || rows[0].High != nil {
		t.Errorf("a summary whose measurements are gone: %+v", rows[0])
	}
	for _, h := range rows[1:] {
		if h.High != nil && (*h.High != 12 || *h.Mean != 12) {
			t.Errorf("a summary made again: %v %v", *h.Mean, *h.High)
		}
	}
	if done, err := srv.Judge.Heal(ctx); !done || err != nil {
		t.Error("it is not done with", err)
	}
}

// A row that the database refuses, for whatever reason, is found and refused
// with it, and the others are stored; where there are many, the agent is asked
// for smaller deliveries.
func TestOneRowThatCannotBeStored(t *testing.T) {
	t.Parallel()
	srv := lane(t, 1, 1)
	exec(t, srv, `CREATE FUNCTION poison() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
		IF NEW.late_ms = 4242 THEN RAISE EXCEPTION 'poison' USING ERRCODE = '22000'; END IF; RETURN NEW; END $$`)
	exec(t, srv, "CREATE TRIGGER poison BEFORE INSERT ON measurement FOR EACH ROW EXECUTE FUNCTION poison()")
	var list []wire.Measurement
	for i := range int64(500) {
		m := ok(5000 - i)
		if i == 137 || i == 138 || i == 499 {
			m.LateMS = 4242
		}
		list = append(list, m)
	}
	r := deliver(t, srv, list)
	if r.Stored != 497 || len(r.Refused) != 3 {
		t.Fatalf("%+v", r)
	}
	for i, want := range []int{137, 138, 499} {
		if got := r.Refused[i]; got.Index != want || !got.Unstorable || !strings.Contains(got.Reason, "poison") {
			t.Errorf("%+v", got)
		}
	}
	good := slices.Concat(list[:137], list[139:499])
	if got, want := stored(t, srv).Source(check, location), judged(good, verdictSettings); !reflect.DeepEqual(got, want) {
		t.Errorf("stretches %v, not %v", got, want)
	}
	for i := range list {
		list[i].At, list[i].LateMS = list[i].At.Add(1), 4242
	}
	if _, err := srv.API.Ingest.Batch(ctx, location, "", list); !errors.Is(err, ingest.ErrUnstorable) {
		t.Errorf("nothing but poison: %v", err)
	}
}

// The kept state of a lane that cannot be read is made again from what is stored.
func TestBrokenStateOfALane(t *testing.T) {
	t.Parallel()
	srv := lane(t, 2, 2)
	list := random(rand.New(rand.NewPCG(7, 7)), 200)
	deliver(t, srv, list[:150])
	exec(t, srv, `UPDATE lane SET machine = '{"series": "nonsense"}'`)
	if err := srv.Judge.Services(ctx, []string{"tickets"}); err != nil {
		t.Fatalf("the service cannot be judged, and that is an error for all: %v", err)
	}
	if fault := scan[string](t, srv, "SELECT fault FROM standing_state"); !strings.Contains(fault, "cannot be read") {
		t.Errorf("the state says %q", fault)
	}
	deliver(t, srv, list[150:])
	set := verdictSettings
	set.Confirm, set.Recover = 2, 2
	if got, want := stored(t, srv).Source(check, location), judged(list, set); !reflect.DeepEqual(got, want) {
		t.Errorf("stretches\n%v, not\n%v", got, want)
	}
	if err := srv.Judge.Services(ctx, []string{"tickets"}); err != nil {
		t.Fatal(err)
	}
	if fault := scan[string](t, srv, "SELECT fault FROM standing_state"); fault != "" {
		t.Errorf("mended, the state says %q", fault)
	}
}

// A partition that went away, or was never made, is made when it is needed, and
// while somebody reads: the reader ends only after the batch has been stored.
func TestNewDayWhileSomebodyReads(t *testing.T) {
	t.Parallel()
	srv := lane(t, 1, 1)
	port := definition.CheckSpec{
		Service: "tickets", Name: "Port", Kind: "tcp", Target: "127.0.0.1:9", IntervalS: 60, TimeoutMS: 1000, StaleAfterS: 150, Confirm: 1, Recover: 1,
		Quorum: "any", Role: "informs", Locations: []string{location},
	}
	if _, err := srv.API.Definitions.Create(ctx, catalogue.Check, "port", "", port,
		defining.Change{By: trail.By{Name: "test"}, At: storetest.Now().Add(-5 * 24 * time.Hour)}); err != nil {
		t.Fatal(err)
	}
	deliver(t, srv, []wire.Measurement{ok(60)})
	today := "measurement_" + storetest.Now().UTC().Format("20060102")
	exec(t, srv, "DROP TABLE "+today) // behind the server's back
	if r := deliver(t, srv, []wire.Measurement{ok(30)}); r.Stored != 1 {
		t.Errorf("after its partition went: %+v", r)
	}
	within, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	reader, err := srv.API.Store.PoolOf(store.Jobs).Begin(within)
	if err != nil {
		t.Fatal(err)
	}
	defer reader.Rollback(ctx)
	if _, err := reader.Exec(within, "SELECT count(*) FROM measurement"); err != nil {
		t.Fatal(err)
	}
	// A day that has no partition; of another check, since this one's measurements went with theirs.
	list := []wire.Measurement{ok(3 * 86400), ok(20)}
	list[0].Check, list[0].Measures = "port", nil
	if r, err := srv.API.Ingest.Batch(within, location, "", list); err != nil || r.Stored != 2 {
		t.Fatalf("while somebody reads: %+v %v", r, err)
	}
	// What is too late to be judged is refused, and what is not is stored.
	if r := deliver(t, srv, []wire.Measurement{ok(7200), ok(10)}); r.Stored != 1 || len(r.Refused) != 1 || r.Refused[0].Index != 0 {
		t.Errorf("one of two is too late: %+v", r)
	}
	if err := srv.API.Store.EnsurePartitionsAhead(within, storetest.Now().AddDate(0, 0, 30)); err != nil {
		t.Fatalf("partitions ahead: %v", err)
	}
	if !scan[bool](t, srv, "SELECT to_regclass($1) IS NOT NULL", "findings_"+storetest.Now().UTC().AddDate(0, 0, 37).Format("20060102")) {
		t.Error("the partitions ahead are not there")
	}
}

// The server keeps partitions of a week ahead from its start.
func TestPartitionsAreMadeAhead(t *testing.T) {
	t.Parallel()
	srv := lane(t, 1, 1)
	for n := range store.DaysAhead + 1 {
		name := "measurement_" + storetest.Now().UTC().AddDate(0, 0, n).Format("20060102")
		if !scan[bool](t, srv, "SELECT EXISTS (SELECT 1 FROM pg_inherits WHERE inhrelid = to_regclass($1))", name) {
			t.Errorf("%s is not there", name)
		}
	}
	// What was attached has the key that keeps doubles out.
	if n := scan[int](t, srv, "SELECT count(*) FROM pg_index WHERE indrelid = $1::regclass AND indisprimary", "measurement_"+storetest.Now().UTC().AddDate(0, 0, 3).Format("20060102")); n != 1 {
		t.Error("a partition made ahead has no primary key")
	}
}

// The running hour is not summed up by the job, and a summing-up under way holds
// nobody up who stores in the running hour.
func TestHoursHoldNobodyUp(t *testing.T) {
	t.Parallel()
	srv := lane(t, 1, 1)
	deliver(t, srv, []wire.Measurement{ok(2 * 3600), ok(1)})
	within, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	tx, err := srv.API.Store.PoolOf(store.Jobs).Begin(within)
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Rollback(ctx)
	due, err := srv.API.Store.WithTx(tx).TakeHoursDue(within, db.TakeHoursDueParams{Before: storetest.Now().Add(-62 * time.Minute), Most: 100})
	if err != nil || len(due) != 1 {
		t.Fatalf("due are %v, %v; the hour that is over is", due, err)
	}
	if _, err := srv.API.Ingest.Batch(within, location, "", []wire.Measurement{ok(0)}); err != nil {
		t.Fatalf("storing waits for the summing-up: %v", err)
	}
	tx.Rollback(ctx)
	if err := srv.Judge.Hours(ctx); err != nil {
		t.Fatal(err)
	}
	running := storetest.Now().UTC().Truncate(time.Hour)
	if n := scan[int](t, srv, "SELECT count(*) FROM hour WHERE hour_at = $1", running); n != 0 {
		t.Error("the running hour was summed up")
	}
	if n := scan[int](t, srv, "SELECT count(*) FROM hour_due WHERE hour_at = $1", running); n != 1 {
		t.Error("the running hour is not marked for when it is over")
	}
}

// An hour is not summed up between a late row's being stored and its being seen.
func TestHourIsNotTakenBeforeItsRowsAreSeen(t *testing.T) {
	t.Parallel()
	srv := lane(t, 1, 1)
	deliver(t, srv, []wire.Measurement{ok(2 * 3600)})
	take := func() int {
		t.Helper()
		var due []db.HourDue
		err := srv.API.Store.Tx(ctx, func(_ pgx.Tx, q *db.Queries) (err error) {
			due, err = q.TakeHoursDue(ctx, db.TakeHoursDueParams{Before: storetest.Now().Add(-62 * time.Minute), Most: 100})
			return errors.Join(err, errors.New("undo"))
		})
		if err == nil {
			t.Fatal("it was not undone")
		}
		return len(due)
	}
	if n := take(); n != 1 {
		t.Fatalf("%d hours are due", n)
	}
	hour := storetest.Now().Add(-2 * time.Hour).UTC().Truncate(time.Hour)
	err := srv.API.Store.Tx(ctx, func(_ pgx.Tx, q *db.Queries) error { // another delivery, which is not committed yet
		if err := q.MarkHoursDue(ctx, db.MarkHoursDueParams{Column1: []int32{scan[int32](t, srv, "SELECT id FROM lane")}, Column2: []time.Time{hour}}); err != nil {
			return err
		}
		if n := take(); n != 0 {
			t.Errorf("%d hours are taken whose rows cannot be seen yet", n)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if n := take(); n != 1 {
		t.Errorf("%d hours are due afterwards", n)
	}
}

var verdictSettings = settings(1, 1)

// fleet is a server with so many services, each with a check, all measured once
// and silent since.
func silentFleet(t *testing.T, n int) *server.Server {
	t.Helper()
	srv := lane(t, 1, 1)
	ch := defining.Change{By: trail.By{Name: "test"}, At: storetest.Now().Add(-5 * 24 * time.Hour)}
	var steps []catalogue.Step
	for i := range n {
		service := "s" + string(rune('a'+i/26/26%26)) + string(rune('a'+i/26%26)) + string(rune('a'+i%26))
		steps = append(steps,
			catalogue.Step{Does: catalogue.Make, Kind: catalogue.Service, ID: service, Spec: definition.ServiceSpec{Name: service, Kind: "business", Combine: "worst"}},
		)
	}
	if _, err := srv.API.Definitions.Apply(ctx, ch, steps...); err != nil {
		t.Fatal(err)
	}
	steps = nil
	var list []wire.Measurement
	for i := range n {
		service := "s" + string(rune('a'+i/26/26%26)) + string(rune('a'+i/26%26)) + string(rune('a'+i%26))
		steps = append(steps, catalogue.Step{Does: catalogue.Make, Kind: catalogue.Check, ID: "c-" + service, Spec: definition.CheckSpec{
			Service: service, Name: "Page", Kind: "http", Target: "http://127.0.0.1/", IntervalS: 60, TimeoutMS: 1000, StaleAfterS: 150, Confirm: 1, Recover: 1,
			Quorum: "any", Role: "decides", Locations: []string{location},
		}})
		m := ok(3600)
		m.Check = "c-" + service
		list = append(list, m)
	}
	if _, err := srv.API.Definitions.Apply(ctx, ch, steps...); err != nil {
		t.Fatal(err)
	}
	deliver(t, srv, list)
	return srv
}

// Mass silence is noted in pieces, in the order that storing locks in, leaving
// out what somebody is at; nothing deadlocks with storing, and all is judged in
// the end.
func TestMassSilenceBesideStoring(t *testing.T) {
	t.Parallel()
	const services = 450
	srv := silentFleet(t, services)
	exec(t, srv, "DELETE FROM judge_due")
	// Somebody holds a lane: it is left for the next time, and holds nobody up.
	tx, err := srv.API.Store.Pool.Begin(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := tx.Exec(ctx, "SELECT 1 FROM lane WHERE check_id = 'c-saaa' FOR UPDATE"); err != nil {
		t.Fatal(err)
	}
	if err := srv.Judge.Stale(ctx); err != nil {
		t.Fatal(err)
	}
	waiting, err := srv.Judge.Waiting(ctx)
	if err != nil || len(waiting) != services-1 {
		t.Errorf("%d services wait to be judged, %v", len(waiting), err)
	}
	tx.Rollback(ctx)
	if err := srv.Judge.Stale(ctx); err != nil {
		t.Fatal(err)
	}
	// Agents catch up while silence is noted over and over.
	var all sync.WaitGroup
	failed := make(chan error, 1000)
	snap, err := srv.API.Definitions.Snapshot(ctx)
	if err != nil {
		t.Fatal(err)
	}
	checks := catalogue.Live(snap.Checks)
	for worker := range 4 {
		all.Go(func() {
			r := rand.New(rand.NewPCG(uint64(worker), 1))
			for round := range 15 {
				var list []wire.Measurement
				for range 120 {
					m := ok(int64(3000 - round*10 - worker))
					m.Check = checks[r.IntN(len(checks))]
					list = append(list, m)
				}
				if _, err := srv.API.Ingest.Batch(ctx, location, "", list); err != nil {
					failed <- err
				}
			}
		})
	}
	all.Go(func() {
		for range 40 {
			if err := srv.Judge.Stale(ctx); err != nil {
				failed <- err
			}
		}
	})
	all.Wait()
	close(failed)
	for err := range failed {
		var pg *pgconn.PgError
		if errors.As(err, &pg) {
			t.Fatalf("%s: %v", pg.Code, err)
		}
		t.Fatal(err)
	}
	if err := srv.Judge.Stale(ctx); err != nil {
		t.Fatal(err)
	}
	for more := true; more; {
		if more, err = srv.Judge.Due(ctx); err != nil {
			t.Fatal(err)
		}
	}
	if n := scan[int](t, srv, "SELECT count(*) FROM standing_state WHERE state = 0"); n < services {
		t.Errorf("%d of %d silent services are unmeasured", n, services)
	}
	if n := scan[int](t, srv, "SELECT count(*) FROM judge_due"); n != 0 {
		t.Errorf("%d wishes are left", n)
	}
}

// Wishes for one service are met together, and asking never waits for judging.
func TestJudgingIsAskedForWithoutWaiting(t *testing.T) {
	t.Parallel()
	srv := lane(t, 1, 1)
	deliver(t, srv, []wire.Measurement{ok(10)})
	within, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	err := srv.API.Store.Tx(within, func(tx pgx.Tx, q *db.Queries) error {
		due, err := q.TakeJudging(within, 10)
		if err != nil || len(due) == 0 {
			t.Fatalf("due: %v %v", due, err)
		}
		if err := q.LockJudging(within, []string{"tickets"}); err != nil {
			return err
		}
		for i := range int64(5) { // each changes the state, while it is being judged
			m := ok(9 - i)
			m.Outcome = []measure.Outcome{measure.Failed, measure.OK}[i%2]
			if _, err := srv.API.Ingest.Batch(store.For(within, store.Agents), location, "", []wire.Measurement{m}); err != nil {
				t.Fatalf("asking waits for judging: %v", err)
			}
		}
		return q.DropJudging(within, []int64{due[0].ID})
	})
	if err != nil {
		t.Fatal(err)
	}
	if n := scan[int](t, srv, "SELECT count(*) FROM judge_due"); n < 5 {
		t.Errorf("%d wishes wait", n)
	}
	if _, err := srv.Judge.Due(within); err != nil {
		t.Fatal(err)
	}
	if n := scan[int](t, srv, "SELECT count(*) FROM judge_due"); n != 0 {
		t.Errorf("%d wishes are left after one judging", n)
	}
	if s := scan[int16](t, srv, "SELECT state FROM standing_state WHERE service = 'tickets'"); s != 3 {
		t.Errorf("the service is in state %d, not down", s)
	}
}

// A service that is being judged for long holds up no other: its wish waits for the
// next time. Many are judged in several short transactions.
func TestJudgingOfOneHoldsUpNoOther(t *testing.T) {
	t.Parallel()
	srv := silentFleet(t, 50)
	exec(t, srv, "DELETE FROM judge_due")
	exec(t, srv, "INSERT INTO judge_due (service) VALUES ('tickets')")
	exec(t, srv, "INSERT INTO judge_due (service) SELECT id FROM definition WHERE kind = 'service' AND id <> 'tickets' ORDER BY id")
	within, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	if err := srv.API.Store.Tx(within, func(tx pgx.Tx, q *db.Queries) error {
		if err := q.LockJudging(within, []string{"tickets"}); err != nil {
			return err
		}
		rounds := 0
		for more := true; more; rounds++ {
			var err error
			if more, err = srv.Judge.Due(store.For(within, store.Jobs)); err != nil {
				t.Fatal(err)
			}
			if left := scan[int](t, srv, "SELECT count(*) FROM judge_due"); left == 1 {
				break
			}
		}
		if rounds < 2 {
			t.Errorf("all in %d transactions", rounds+1)
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	if who := scan[string](t, srv, "SELECT string_agg(service, ' ') FROM judge_due"); who != "tickets" {
		t.Errorf("waiting: %s", who)
	}
	if _, err := srv.Judge.Due(within); err != nil {
		t.Fatal(err)
	}
	if n := scan[int](t, srv, "SELECT count(*) FROM judge_due"); n != 0 {
		t.Errorf("%d wishes are left when nobody is at it any more", n)
	}
}

// A service that cannot be judged says why, and the others are judged.
func TestOneServiceThatCannotBeJudged(t *testing.T) {
	t.Parallel()
	srv := silentFleet(t, 3)
	circle := `UPDATE revision SET body = body || jsonb_build_object('depends_on', jsonb_build_array(jsonb_build_object('services', jsonb_build_array($2::text)))) WHERE kind = 'service' AND id = $1`
	exec(t, srv, circle, "saaa", "saab")
	exec(t, srv, circle, "saab", "saaa")
	if err := srv.Judge.Services(ctx, []string{"saaa", "saab", "saac", "tickets"}); err != nil {
		t.Fatal(err)
	}
	for id, broken := range map[string]bool{"saaa": true, "saab": true, "saac": false, "tickets": false} {
		fault := scan[string](t, srv, "SELECT fault FROM standing_state WHERE service = $1", id)
		if broken != strings.Contains(fault, "circle") || broken != (fault != "") {
			t.Errorf("%s: %q", id, fault)
		}
	}
	exec(t, srv, "UPDATE revision SET body = body - 'depends_on' WHERE kind = 'service'")
	if err := srv.Judge.Services(ctx, []string{"saaa"}); err != nil {
		t.Fatal(err)
	}
	if fault := scan[string](t, srv, "SELECT fault FROM standing_state WHERE service = 'saaa'"); fault != "" {
		t.Errorf("mended: %q", fault)
	}
}

// Transactions that do nothing are ended, so that a server that stands still in
// one holds nobody for long; each kind of work has its own bounds.
func TestBoundsOfWork(t *testing.T) {
	t.Parallel()
	srv := lane(t, 1, 1)
	seen := map[string]bool{}
	for _, w := range []store.Work{store.People, store.Agents, store.Jobs} {
		for _, setting := range []string{"idle_in_transaction_session_timeout", "lock_timeout", "statement_timeout", "tcp_user_timeout"} {
			var value string
			if err := srv.API.Store.QueryRow(store.For(ctx, w), "SELECT current_setting($1)", setting).Scan(&value); err != nil || value == "0" {
				t.Errorf("%v: %s is %s, %v", w, setting, value, err)
			}
		}
		var name string
		if err := srv.API.Store.QueryRow(store.For(ctx, w), "SELECT current_setting('application_name')").Scan(&name); err != nil || seen[name] {
			t.Errorf("%q, %v", name, err)
		}
		seen[name] = true
	}
}

// What is from the future, or known too vaguely, is not counted and not lost: the
// agent is told to set it aside. How a counted one was placed is kept with it.
func TestMeasurementsOfWhichNobodyKnowsWhen(t *testing.T) {
	t.Parallel()
	srv := lane(t, 1, 1)
	snap, err := srv.API.Definitions.Snapshot(ctx)
	if err != nil {
		t.Fatal(err)
	}
	after := snap.Checks[check].Current().Spec.StaleAfterS * 1000
	list := []wire.Measurement{ok(9), ok(8), ok(7), ok(6), ok(-120)}
	list[0].Clock = &wire.Clock{Offset: -1500, Uncertain: 2400}
	list[1].Clock = &wire.Clock{Offset: -60 * 365 * 86_400_000, Uncertain: after}
	list[2].Clock = &wire.Clock{Uncertain: after + 1}
	r := deliver(t, srv, list)
	if r.Stored != 3 || len(r.Refused) != 2 {
		t.Fatalf("%+v", r)
	}
	for i, says := range []string{"is uncertain by", "in the future"} {
		if !r.Refused[i].Unstorable || !strings.Contains(r.Refused[i].Reason, says) {
			t.Errorf("%+v", r.Refused[i])
		}
	}
	got := scan[string](t, srv, "SELECT string_agg(format('%s/%s', clock_ms, uncertain_ms), ' ' ORDER BY at) FROM measurement")
	if want := fmt.Sprintf("-1500/2400 %d/%d /", math.MinInt32+1, after); got != want {
		t.Errorf("kept %q, want %q", got, want)
	}
}
