package ingest_test

import (
	"context"
	"encoding/json"
	"math/rand/v2"
	"reflect"
	"slices"
	"testing"
	"time"

	"kestite/agent/wire"
	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/core/verdict"
	"kestite/server"
	"kestite/server/defining"
	"kestite/server/history"
	"kestite/server/lanes"
	"kestite/server/store"
	"kestite/server/store/gen/db"
	"kestite/server/store/storetest"
	"kestite/server/trail"
)

func TestMain(m *testing.M) { storetest.Main(m) }

const check, location = "page", "tolvik"

var ctx = context.Background()

// lane is a server with one check, in force for the last five days.
func lane(t testing.TB, confirm, recover int64) *server.Server {
	t.Helper()
	return checked(t, definition.CheckSpec{Confirm: confirm, Recover: recover, Locations: []string{location}})
}

// checked is a server with a check like spec.
func checked(t testing.TB, spec definition.CheckSpec) *server.Server {
	t.Helper()
	spec.Service, spec.Name, spec.Kind, spec.Target = "tickets", "Page", "http", "http://127.0.0.1/"
	spec.IntervalS, spec.TimeoutMS, spec.StaleAfterS, spec.Quorum, spec.Role = 60, 1000, 150, "any", "decides"
	srv := storetest.Server(t)
	ch := defining.Change{By: trail.By{Name: "test"}, At: storetest.Now().Add(-5 * 24 * time.Hour)}
	for _, d := range []struct {
		kind, id string
		spec     catalogue.Spec
	}{
		{catalogue.Location, location, definition.LocationSpec{Name: "Tolvik"}},
		{catalogue.Location, "eskerby", definition.LocationSpec{Name: "Eskerby"}},
		{catalogue.Service, "tickets", definition.ServiceSpec{Name: "Tickets", Kind: "business", Combine: "worst"}},
		{catalogue.Check, check, spec},
	} {
		if _, err := srv.API.Definitions.Create(ctx, d.kind, d.id, "", d.spec, ch); err != nil {
			t.Fatal(err)
		}
	}
	return srv
}

func deliver(t testing.TB, srv *server.Server, list []wire.Measurement) wire.Receipt {
	t.Helper()
	receipt, err := srv.API.Ingest.Batch(ctx, location, "", list)
	if err != nil {
		t.Fatal(err)
	}
	return receipt
}

// random makes a day of measurements with gaps, failures and errors.
func random(r *rand.Rand, n int) []wire.Measurement {
	at := span.Of(storetest.Now().Add(-30 * time.Hour)).Add(int64(r.IntN(60_000)))
	outcome := measure.OK
	var out []wire.Measurement
	for range n {
		at = at.Add(60_000 + int64(r.IntN(5)))
		if r.IntN(25) == 0 {
			at = at.Add(int64(r.IntN(600_000)))
		}
		if r.IntN(4) == 0 {
			outcome = []measure.Outcome{measure.OK, measure.OK, measure.OK, measure.Degraded, measure.Failed, measure.Error}[r.IntN(6)]
		}
		out = append(out, wire.Measurement{Check: check, At: at, Outcome: outcome, Measures: map[string]float64{"total_ms": 10}})
	}
	return out
}

// stored returns all stretches as an account would see them.
func stored(t testing.TB, srv *server.Server) history.Stretches {
	t.Helper()
	all := span.Span{From: span.Of(storetest.Now().Add(-5 * 24 * time.Hour)), To: span.Of(storetest.Now())}
	snap, err := srv.API.Definitions.Snapshot(ctx)
	if err != nil {
		t.Fatal(err)
	}
	month := calendar.Period{Location: time.UTC, Start: calendar.WallAt(all.From, time.UTC), End: calendar.WallAt(all.To.Add(span.Minute), time.UTC)}
	bundle, err := snap.Bundle(month, nil, []string{"tickets"}, nil, false)
	if err != nil {
		t.Fatal(err)
	}
	list, err := history.Load(ctx, srv.API.Store.Queries, nil, bundle, all, history.Accounted)
	if err != nil {
		t.Fatal(err)
	}
	remembered, err := history.Load(ctx, srv.API.Store.Queries, srv.API.Books.Memory, bundle, all, history.Accounted)
	if err != nil {
		t.Fatal(err)
	}
	for key, want := range list.Stretches {
		if got := remembered.Stretches[key]; len(got)+len(want) > 0 && !reflect.DeepEqual(got, want) {
			t.Fatalf("what is remembered of %v is\n%v, and stored is\n%v", key, got, want)
		}
	}
	return list.Stretches
}

func settings(confirm, recover int64) verdict.Settings {
	return verdict.Settings{Confirm: confirm, Recover: recover, StaleAfter: 150_000}
}

// judged are the stretches of measurements in order.
func judged(list []wire.Measurement, set verdict.Settings) []verdict.Stretch {
	severity := map[measure.Outcome]verdict.State{measure.OK: verdict.Up, measure.Degraded: verdict.Degraded, measure.Failed: verdict.Down}
	var s verdict.Series
	var out []verdict.Stretch
	for _, m := range list {
		if m.Outcome != measure.Error {
			out = s.Add(out, m.At, severity[m.Outcome], set)
		}
	}
	return s.AtEnd(out)
}

// However a day is cut into batches, repeated and delayed, the stretches are
// those of the measurements in order.
func TestAnyOrderOfDeliveryGivesTheSameStretches(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(21, 22))
	for round := range 12 {
		confirm, recover := int64(1+r.IntN(3)), int64(1+r.IntN(3))
		srv := lane(t, confirm, recover)
		list := random(r, 250)
		var batches [][]wire.Measurement
		for rest := list; len(rest) > 0; {
			n := min(len(rest), 1+r.IntN(40))
			batches = append(batches, rest[:n])
			rest = rest[n:]
		}
		// Some batches come late, some twice.
		for range 6 {
			i, j := r.IntN(len(batches)), r.IntN(len(batches))
			batches[i], batches[j] = batches[j], batches[i]
			batches = append(batches, batches[r.IntN(len(batches))])
		}
		total := 0
		for _, b := range batches {
			receipt := deliver(t, srv, b)
			total += receipt.Stored
			if receipt.Stored+receipt.Duplicates != len(b) || len(receipt.Refused) > 0 {
				t.Fatalf("receipt %+v for %d", receipt, len(b))
			}
			stored(t, srv) // is what is remembered, after each
		}
		if total != len(list) {
			t.Fatalf("stored %d of %d", total, len(list))
		}
		if got, want := stored(t, srv).Source(check, location), judged(list, verdict.Settings{Confirm: confirm, Recover: recover, StaleAfter: 150_000}); !reflect.DeepEqual(got, want) {
			t.Fatalf("round %d, confirm %d, recover %d:\ngot  %v\nwant %v", round, confirm, recover, got, want)
		}
	}
}

// A rolling rule looks at two locations at once: whatever arrives first, the
// account is that of all measurements in order.
func TestRollingRuleOverLocationsInAnyOrder(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(5, 9))
	places := []string{location, "eskerby"}
	spec := definition.CheckSpec{Confirm: 3, Recover: 3, Locations: places, Rolling: &definition.Rolling{Runs: 3, Locations: 2, WindowS: 240}}
	for round := range 4 {
		srv := checked(t, spec)
		spec := spec
		spec.StaleAfterS = 150
		revisions := verdict.Revisions{spec.Revision(check)}
		lanes := map[string][]verdict.Stretch{}
		type part struct {
			location string
			list     []wire.Measurement
		}
		var parts []part
		for _, l := range places {
			list := random(r, 200)
			lanes[l] = judged(list, verdict.SettingsOf(revisions[0]))
			for rest := list; len(rest) > 0; {
				n := min(len(rest), 1+r.IntN(30))
				parts = append(parts, part{l, rest[:n]})
				rest = rest[n:]
			}
		}
		r.Shuffle(len(parts), func(i, j int) { parts[i], parts[j] = parts[j], parts[i] })
		for _, p := range parts {
			if receipt, err := srv.API.Ingest.Batch(ctx, p.location, "", p.list); err != nil || receipt.Stored != len(p.list) {
				t.Fatal(receipt, err)
			}
		}
		got := stored(t, srv)
		believed := 0
		for l, want := range verdict.Roll(revisions, lanes, false) {
			if list := got.Source(check, l); !reflect.DeepEqual(list, want) {
				t.Fatalf("round %d, %s:\ngot  %v\nwant %v", round, l, list, want)
			}
			for _, s := range want {
				if s.State == verdict.Down {
					believed++
				}
			}
		}
		if believed == 0 {
			t.Fatalf("round %d: nothing was believed", round)
		}
	}
}

// A late measurement is refused, and nothing is lost, where the raw
// measurements that judging again would need are gone.
func TestLateBeyondRawIsRefusedAndHarmsNothing(t *testing.T) {
	t.Parallel()
	srv := lane(t, 2, 1)
	list := random(rand.New(rand.NewPCG(3, 3)), 200)
	missing := list[100]
	deliver(t, srv, append(append([]wire.Measurement(nil), list[:100]...), list[101:]...))
	before := stored(t, srv)
	if len(before.Source(check, location)) < 10 {
		t.Fatalf("only %v is stored", before)
	}
	if _, err := srv.API.Store.Pool.Exec(ctx, "DELETE FROM measurement WHERE at < $1", missing.At.Time().Add(time.Hour)); err != nil {
		t.Fatal(err)
	}
	missing.Outcome = measure.Failed
	receipt := deliver(t, srv, []wire.Measurement{missing})
	if len(receipt.Refused) != 1 || receipt.Stored != 0 {
		t.Fatalf("receipt %+v", receipt)
	}
	if got := stored(t, srv); !reflect.DeepEqual(got, before) {
		t.Errorf("the stretches changed:\n%v\n%v", got, before)
	}
}

func TestHourlySummariesAreMadeOfRawMeasurements(t *testing.T) {
	t.Parallel()
	srv := lane(t, 1, 1)
	start := span.Of(storetest.Now().Add(-3 * time.Hour).Truncate(time.Hour))
	var list []wire.Measurement
	for i := range 50 {
		m := wire.Measurement{Check: check, At: start.Add(int64(i) * 60_000), Outcome: measure.OK, Measures: map[string]float64{"total_ms": float64(10 + i)}}
		switch i {
		case 7:
			m.Outcome, m.Measures = measure.Failed, nil
		case 8:
			m.Outcome, m.Measures = measure.Error, nil
		}
		list = append(list, m)
	}
	deliver(t, srv, list[:30])
	for range 2 { // the second time with what came meanwhile
		if err := srv.Judge.Hours(ctx); err != nil {
			t.Fatal(err)
		}
		deliver(t, srv, list)
	}
	lanes, err := srv.API.Store.LanesOfChecks(ctx, []string{check})
	if err != nil || len(lanes) != 1 {
		t.Fatal(lanes, err)
	}
	hours, err := srv.API.Store.Hours(ctx, db.HoursParams{Column1: []int32{lanes[0].ID}, HourAt: start.Time(), HourAt_2: start.Time().Add(time.Hour)})
	if err != nil || len(hours) != 1 {
		t.Fatal(hours, err)
	}
	h := hours[0]
	if h.Count != 49 || h.Failed != 1 || h.Error != 1 || *h.Low != 10 || *h.High != 59 {
		t.Errorf("hour %+v low %v high %v", h, *h.Low, *h.High)
	}
	var s measure.Sketch
	if err := s.UnmarshalBinary(h.Sketch); err != nil || s.Count() != 48 {
		t.Errorf("sketch of %d, %v", s.Count(), err)
	}
	if m := s.Quantile(0.5); m < 33 || m > 37 {
		t.Errorf("median %v", m)
	}
}

// The live state follows measurements, waits for confirmation, and notices silence.
func TestLiveStateOfAService(t *testing.T) {
	t.Parallel()
	now := storetest.Now().Add(-10 * time.Minute)
	srv := lane(t, 2, 1)
	srv.Judge.Now = func() time.Time { return now }
	began := storetest.Now().Add(-5 * 24 * time.Hour)
	if snap, err := srv.API.Definitions.Snapshot(ctx); err != nil || !snap.Services["tickets"].Revisions[0].From.Time().Before(began.Add(time.Minute)) {
		t.Fatal("the service began later than this test takes it to have", err)
	}
	since := func() time.Duration {
		t.Helper()
		rows, err := srv.API.Store.States(ctx)
		if err != nil || len(rows) != 1 {
			t.Fatal(rows, err)
		}
		return now.Sub(rows[0].SinceAt)
	}
	state := func() (verdict.State, int32) {
		t.Helper()
		if err := srv.Judge.Services(ctx, []string{"tickets"}); err != nil {
			t.Fatal(err)
		}
		rows, err := srv.API.Store.States(ctx)
		if err != nil || len(rows) != 1 {
			t.Fatal(rows, err)
		}
		return verdict.State(rows[0].State), rows[0].Waiting
	}
	at := span.Of(now)
	say := func(o measure.Outcome) {
		t.Helper()
		at = at.Add(span.Minute)
		now = at.Time().Add(time.Second)
		deliver(t, srv, []wire.Measurement{{Check: check, At: at, Outcome: o}})
	}
	if s, _ := state(); s != verdict.Unmeasured {
		t.Errorf("before the first measurement it is %s", s)
	}
	if d := since(); d < 4*24*time.Hour || d > 6*24*time.Hour {
		t.Errorf("it is unmeasured for %s; it was described five days ago", d)
	}
	say(measure.OK)
	if s, _ := state(); s != verdict.Up {
		t.Errorf("after a good one it is %s", s)
	}
	if d := since(); d > time.Minute {
		t.Errorf("it is up for %s, and was measured a second ago", d)
	}
	say(measure.Failed)
	if s, waiting := state(); s != verdict.Up || waiting != 1 {
		t.Errorf("after one failure it is %s with %d waiting", s, waiting)
	}
	say(measure.Failed)
	if s, waiting := state(); s != verdict.Down || waiting != 0 {
		t.Errorf("after two it is %s with %d waiting", s, waiting)
	}
	say(measure.OK)
	if s, _ := state(); s != verdict.Up {
		t.Errorf("recovered it is %s", s)
	}
	now = at.Time().Add(151 * time.Second)
	if s, _ := state(); s != verdict.Unmeasured {
		t.Errorf("after silence it is %s", s)
	}
}

// Raw measurements beyond their time go with their day; what follows from them stays.
func TestRawMeasurementsAreKeptForAWhile(t *testing.T) {
	t.Parallel()
	srv := lane(t, 1, 1)
	deliver(t, srv, random(rand.New(rand.NewPCG(3, 4)), 50))
	before := stored(t, srv)
	old := storetest.Now().AddDate(0, 0, -store.RawDays-5)
	if err := srv.API.Store.EnsurePartitions(ctx, map[time.Time]bool{old: true, storetest.Now().AddDate(0, 0, -store.RawDays): true}); err != nil {
		t.Fatal(err)
	}
	dropped, err := srv.API.Store.DropPartitions(ctx, storetest.Now(), needsNone)
	day := old.UTC().Format("20060102")
	if want := []string{"findings_" + day, "measurement_" + day}; err != nil || !slices.Equal(dropped, want) {
		t.Errorf("dropped %v, %v, not %v alone", dropped, err, want)
	}
	// A year later everything delivered here is gone, and its stretches are not.
	if _, err := srv.API.Store.DropPartitions(ctx, storetest.Now().AddDate(0, 0, store.RawDays+30), needsNone); err != nil {
		t.Fatal(err)
	}
	var raw int
	if err := srv.API.Store.Pool.QueryRow(ctx, "SELECT count(*) FROM measurement").Scan(&raw); err != nil || raw != 0 {
		t.Errorf("%d raw measurements left, %v", raw, err)
	}
	if after := stored(t, srv); !reflect.DeepEqual(after, before) {
		t.Errorf("stretches changed:\n%v\n%v", before, after)
	}
}

func lanesOf(t *testing.T, srv *server.Server) []db.Lane {
	t.Helper()
	list, err := srv.API.Store.Lanes(ctx)
	if err != nil || len(list) == 0 {
		t.Fatal(len(list), err)
	}
	return list
}

// What is taken for new and is not, whatever the lane says of what it has seen, is a
// duplicate all the same, and nothing is refused for it.
func TestWhatIsNotNewIsADuplicate(t *testing.T) {
	t.Parallel()
	srv := lane(t, 2, 1)
	r := rand.New(rand.NewPCG(9, 10))
	list := random(r, 300)
	if got := deliver(t, srv, list[:200]); got.Stored != 200 || got.Duplicates+len(got.Refused) > 0 {
		t.Fatalf("%+v", got)
	}
	want := stored(t, srv)
	for says, change := range map[string]func(lanes.Kept) []byte{
		"as it is": lanes.Kept.Bytes,
		"not noted, as by earlier versions": func(k lanes.Kept) []byte {
			k.Raw = 0
			text, _ := json.Marshal(k)
			return text
		},
		"noted wrongly": func(k lanes.Kept) []byte {
			k.Raw = list[10].At
			return k.Bytes()
		},
	} {
		for _, l := range lanesOf(t, srv) {
			kept, err := lanes.Of(l)
			if err != nil {
				t.Fatal(err)
			}
			if _, err := srv.API.Store.Pool.Exec(ctx, "UPDATE lane SET machine = $2 WHERE id = $1", l.ID, change(kept)); err != nil {
				t.Fatal(err)
			}
		}
		if got := deliver(t, srv, list[:200]); got.Stored != 0 || got.Duplicates != 200 || len(got.Refused) > 0 {
			t.Errorf("%s: %+v", says, got)
		}
	}
	if got := stored(t, srv); !reflect.DeepEqual(got, want) {
		t.Errorf("the stretches are\n%v\nand were\n%v", got, want)
	}
	// Some there, some late, some new, some twice.
	mixed := append(slices.Clone(list[150:]), list[280:]...)
	r.Shuffle(len(mixed), func(i, j int) { mixed[i], mixed[j] = mixed[j], mixed[i] })
	if got := deliver(t, srv, mixed); got.Stored != 100 || got.Duplicates != 70 || len(got.Refused) > 0 {
		t.Errorf("%+v", got)
	}
	var raw, errors int
	err := srv.API.Store.Pool.QueryRow(ctx, "SELECT count(*), count(*) FILTER (WHERE outcome = 0) FROM measurement").Scan(&raw, &errors)
	if err != nil || raw != 300 || errors == 0 {
		t.Errorf("%d rows, %d of them errors, %v", raw, errors, err)
	}
}

// needsNone says of no day that its measurements are needed.
func needsNone(time.Time) bool { return false }
