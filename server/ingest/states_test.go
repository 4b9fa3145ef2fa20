package ingest_test

import (
	"math/rand/v2"
	"testing"
	"time"

	"kestite/agent/wire"
	"kestite/core/calendar"
	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/core/verdict"
	"kestite/server"
	"kestite/server/catalogue"
	"kestite/server/history"
	"kestite/server/store/gen/db"
	"kestite/server/trail"
)

// The live state of a service, and since when it is so, are those of all that is
// known, however little of it the judge looks at.
func TestStatesAreThoseOfAllThatIsKnown(t *testing.T) {
	srv := checked(t, definition.CheckSpec{Confirm: 2, Recover: 2, Locations: []string{location}})
	ch := catalogue.Change{By: trail.By{Name: "test"}, At: time.Now().Add(-5 * 24 * time.Hour)}
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
		if _, err := srv.API.Catalogue.Create(ctx, d.kind, d.id, "", d.spec, ch); err != nil {
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
		now := time.Now()
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
	for id, line := range known(t, srv.API.Catalogue, srv.API.Store.Queries, services, span.Of(now)) {
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
	}
}

func checkOf(service string, confirm int64, rolling *definition.Rolling) definition.CheckSpec {
	return definition.CheckSpec{
		Service: service, Name: service, Kind: "http", Target: "http://127.0.0.1/", IntervalS: 60, TimeoutMS: 1000, StaleAfterS: 150, Quorum: "any",
		Role: "decides", Confirm: confirm, Recover: confirm, Rolling: rolling, Locations: []string{location},
	}
}

// known are the states of services over the last five days, by everything.
func known(t *testing.T, c *catalogue.Catalogue, q *db.Queries, services []string, now span.Instant) map[string]span.Timeline[verdict.State] {
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
	all, err := history.Load(ctx, q, bundle, span.Span{From: from, To: now}, history.Live)
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]span.Timeline[verdict.State]{}
	for id, line := range verdict.Services(bundle, all.Source) {
		out[id] = span.Map(line, func(v verdict.Views) verdict.State { return v[verdict.Nominal] })
	}
	return out
}
