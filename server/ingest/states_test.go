package ingest_test

import (
	"math"
	"math/rand/v2"
	"slices"
	"strings"
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
	"kestite/server/store/gen/db"
	"kestite/server/store/storetest"
	"kestite/server/trail"
)

// The live state of a service, and since when it is so, are those of all that is
// known, however little of it the judge looks at.
func TestStatesAreThoseOfAllThatIsKnown(t *testing.T) {
	t.Parallel()
	srv := checked(t, definition.CheckSpec{Confirm: 2, Recover: 2, Locations: []string{location}})
	ch := defining.Change{By: trail.By{Name: "test"}, At: storetest.Now().Add(-5 * 24 * time.Hour)}
	services := []string{"tickets"}
	for _, d := range []struct {
		kind, id string
		spec     catalogue.Spec
	}{
		{catalogue.Service, "steady", definition.ServiceSpec{Name: "Steady", Kind: "business", Combine: "worst"}},
		{catalogue.Service, "rolling", definition.ServiceSpec{Name: "Rolling", Kind: "business", Combine: "worst"}},
		{catalogue.Service, "board", definition.ServiceSpec{Name: "Board", Kind: "business", Combine: "worst", DependsOn: []definition.Dependency{{Services: []string{"tickets", "steady"}, Need: 1}}}},
		{catalogue.Check, "steady", checkOf("steady", 1, nil)},
		{catalogue.Check, "rolling", checkOf("rolling", 1, &definition.Rolling{Runs: 3, Locations: 1, WindowS: 600})},
		{catalogue.Check, "board", checkOf("board", 2, nil)},
	} {
		if _, err := srv.API.Definitions.Create(ctx, d.kind, d.id, "", d.spec, ch); err != nil {
			t.Fatal(err)
		}
		if d.kind == catalogue.Service {
			services = append(services, d.id)
		}
	}
	// One of so many fails: alone it is not believed, and the state goes on over several stretches.
	oneFails := map[string]int{check: 2, "rolling": 2, "board": 8}
	r := rand.New(rand.NewPCG(26, 11))
	for round := range 20 {
		now := storetest.Now()
		var list []wire.Measurement
		for _, id := range []string{check, "steady", "rolling", "board"} {
			for range r.IntN(6) {
				// Mostly of the last minutes, some of the last day, and now and then none.
				back := r.Int64N(8 * span.Minute)
				if r.IntN(5) == 0 {
					back = r.Int64N(span.Day)
				}
				outcome := measure.OK
				if one := oneFails[id]; one > 0 && r.IntN(one) == 0 {
					outcome = measure.Failed
				}
				list = append(list, wire.Measurement{Check: id, At: span.Of(now).Add(-back), Outcome: outcome})
			}
		}
		deliver(t, srv, list)
		for range 25 { // looked at from many instants: what lies at the edge differs
			now = now.Add(time.Duration(r.IntN(8_000)) * time.Millisecond)
			compare(t, srv, services, now, round, span.Of(ch.At))
		}
	}
}

// compare judges services at an instant and holds that against all that is known.
func compare(t *testing.T, srv *server.Server, services []string, now time.Time, round int, defined span.Instant) {
	t.Helper()
	srv.Judge.Now = func() time.Time { return now }
	if err := srv.Judge.Services(ctx, services); err != nil {
		t.Fatal(err)
	}
	for id, line := range known(t, srv.API.Definitions, srv.API.Store.Queries, services, span.Of(now)) {
		var state int16
		var since time.Time
		err := srv.API.Store.Pool.QueryRow(ctx, "SELECT state, since_at FROM standing_state WHERE service = $1", id).Scan(&state, &since)
		if err != nil {
			t.Fatal(err)
		}
		began := max(line.Since(span.Of(now)), defined)
		if want := line.At(span.Of(now)); state != int16(want) || span.Of(since) != began {
			t.Fatalf("round %d: %s is %v since %v, and by all that is known %v since %v", round, id, verdict.State(state), span.Of(since), want, began)
		}
		// What was told of the last minutes, however often that was corrected, is what is known.
		told := verdict.Told(transitions(t, srv.API.Store.Queries, id))
		for back := int64(0); back < 5*span.Minute; back += 700 {
			if i := span.Of(now).Add(-back); i >= defined && told.At(i) != line.At(i) {
				t.Fatalf("round %d: of %s at %v %v was told, and by all that is known it was %v", round, id, i, told.At(i), line.At(i))
			}
		}
	}
}

// transitions are those of a service, in the order in which they were appended.
func transitions(t *testing.T, q *db.Queries, service string) []verdict.Transition {
	t.Helper()
	rows, err := q.Transitions(ctx, db.TransitionsParams{Service: service, Before: math.MaxInt64, Most: 1_000_000})
	if err != nil {
		t.Fatal(err)
	}
	slices.Reverse(rows)
	out := make([]verdict.Transition, len(rows))
	for i, r := range rows {
		out[i] = verdict.Transition{At: span.Of(r.At), From: verdict.State(r.FromState), To: verdict.State(r.ToState), Corrects: r.Corrects}
	}
	return out
}

// A failure that is confirmed is told once, with the check that made it so; what was
// told is never changed, but what came late corrects it.
func TestTransitionsAreAppended(t *testing.T) {
	t.Parallel()
	srv := lane(t, 2, 1)
	start := span.Of(storetest.Now()).Add(-20 * span.Minute)
	at := func(minute int64, o measure.Outcome) wire.Measurement {
		return wire.Measurement{Check: check, At: start.Add(minute * span.Minute), Outcome: o}
	}
	judge := func(minute int64, list ...wire.Measurement) []verdict.Transition {
		t.Helper()
		deliver(t, srv, list)
		srv.Judge.Now = func() time.Time { return start.Add(minute*span.Minute + 10_000).Time() }
		if err := srv.Judge.Services(ctx, []string{"tickets"}); err != nil {
			t.Fatal(err)
		}
		return transitions(t, srv.API.Store.Queries, "tickets")
	}
	tell := func(minute int64, from, to verdict.State, corrects bool) verdict.Transition {
		return verdict.Transition{At: start.Add(minute * span.Minute), From: from, To: to, Corrects: corrects}
	}
	want := []verdict.Transition{tell(0, verdict.Unmeasured, verdict.Up, false)}
	for minute, step := range [][]wire.Measurement{
		{at(0, measure.OK)}, {at(1, measure.OK)}, {at(2, measure.Failed)}, {at(3, measure.Failed)}, {at(4, measure.OK)},
	} {
		switch minute {
		case 3: // confirmed: down since the first that failed
			want = append(want, tell(2, verdict.Up, verdict.Down, false))
		case 4:
			want = append(want, tell(4, verdict.Down, verdict.Up, false))
		}
		if got := judge(int64(minute), step...); !slices.Equal(got, want) {
			t.Fatalf("minute %d: %+v\nwant %+v", minute, got, want)
		}
	}
	// A measurement that comes late shows that it recovered in between.
	late := at(2, measure.OK)
	late.At = late.At.Add(30_000)
	want = append(want, tell(2, verdict.Up, verdict.Up, true))
	if got := judge(5, at(5, measure.OK), late); !slices.Equal(got, want) {
		t.Errorf("%+v\nwant %+v", got, want)
	}
	rows, err := srv.API.Store.Transitions(ctx, db.TransitionsParams{Service: "tickets", Before: math.MaxInt64, Most: 10})
	if err != nil || !strings.Contains(string(rows[len(rows)-2].Because), `"checks": ["page"]`) {
		t.Errorf("the outage is because of %s, %v", rows[len(rows)-2].Because, err)
	}
	for _, sql := range []string{"UPDATE transition SET to_state = 1", "DELETE FROM transition"} {
		if _, err := srv.API.Store.Pool.Exec(ctx, sql); err == nil || !strings.Contains(err.Error(), "kept as it is") {
			t.Errorf("%s: %v", sql, err)
		}
	}
}

func checkOf(service string, confirm int64, rolling *definition.Rolling) definition.CheckSpec {
	return definition.CheckSpec{
		Service: service, Name: service, Kind: "http", Target: "http://127.0.0.1/", IntervalS: 60, TimeoutMS: 1000, StaleAfterS: 150, Quorum: "any",
		Role: "decides", Confirm: confirm, Recover: confirm, Rolling: rolling, Locations: []string{location},
	}
}

// known are the states of services over the last five days, by everything.
func known(t *testing.T, c *defining.Definitions, q *db.Queries, services []string,
	now span.Instant) map[string]span.Timeline[verdict.State] {
	t.Helper()
	snap, err := c.Snapshot(ctx)
	if err != nil {
		t.Fatal(err)
	}
	from := now.Add(-5 * span.Day)
	bundle, err := snap.Bundle(calendar.Period{
		Location: time.UTC, Start: calendar.WallAt(from, time.UTC), End: calendar.WallAt(now.Add(span.Minute), time.UTC),
	}, nil, services, nil, false)
	if err != nil {
		t.Fatal(err)
	}
	all, err := history.Load(ctx, q, nil, bundle, span.Span{From: from, To: now}, history.Live)
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]span.Timeline[verdict.State]{}
	for id, line := range verdict.Services(bundle, all.Source) {
		out[id] = span.Map(line, func(v verdict.Views) verdict.State { return v[verdict.Nominal] })
	}
	return out
}
