package accounting_test

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"kestite/agent/wire"
	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/server"
	"kestite/server/accounting"
	"kestite/server/defining"
	"kestite/server/store/storetest"
	"kestite/server/trail"
)

func TestMain(m *testing.M) { storetest.Main(m) }

var ctx = context.Background()

const location = "tolvik"

// harbour is a server with some services, the later ones depending on earlier ones, each
// with a check and an agreement, in force for three months.
func harbour(t *testing.T, services int, options ...func(*server.Options)) *server.Server {
	t.Helper()
	srv := storetest.Server(t, options...)
	steps := []catalogue.Step{{Does: catalogue.Make, Kind: catalogue.Location, ID: location, Spec: definition.LocationSpec{Name: "Tolvik"}}}
	add := func(kind, id string, spec catalogue.Spec) {
		steps = append(steps, catalogue.Step{Does: catalogue.Make, Kind: kind, ID: id, Spec: spec})
	}
	for i := range services {
		id := fmt.Sprintf("gate-%d", i)
		s := definition.ServiceSpec{Name: id, Kind: "business", Combine: "worst"}
		if i%3 == 2 {
			s.DependsOn = []definition.Dependency{{Services: []string{fmt.Sprintf("gate-%d", i-1)}, Need: 1}}
		}
		add(catalogue.Service, id, s)
		add(catalogue.Check, "check-"+id, definition.CheckSpec{
			Service: id, Name: id, Kind: "http", Target: "http://127.0.0.1/", IntervalS: 60, TimeoutMS: 1000, StaleAfterS: 150,
			Confirm: 2, Recover: 2, Quorum: "any", Role: "decides", Locations: []string{location},
		})
		add(catalogue.Agreement, "for-"+id, agreement(id, i))
	}
	ch := defining.Change{By: trail.By{Name: "test"}, At: storetest.Now().Add(-90 * 24 * time.Hour)}
	if _, err := srv.API.Definitions.Apply(ctx, ch, steps...); err != nil {
		t.Fatal(err)
	}
	return srv
}

func agreement(service string, i int) definition.AgreementSpec {
	out := definition.AgreementSpec{
		Name: "For " + service, Service: service, Timezone: []string{"UTC", "Europe/Oslo"}[i%2], TargetPercent: "99", DegradedWeightPercent: "50",
		MinCoveragePercent: "1", Unmeasured: "exclude",
	}
	if i%4 == 3 {
		out.Period = &definition.Cycle{Unit: "week"}
	}
	return out
}

// rows are what the board keeps and what it makes anew, as text by agreement.
func rows(t *testing.T, srv *server.Server, now span.Instant, band calendar.Period) (kept, anew map[string]string) {
	t.Helper()
	snap, err := srv.API.Definitions.Snapshot(ctx)
	if err != nil {
		t.Fatal(err)
	}
	ids := catalogue.Live(snap.Agreements)
	text := func(list []accounting.Row, err error) map[string]string {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		out := map[string]string{}
		for _, r := range list {
			body, err := json.Marshal(struct {
				Period   string
				Revision int
				Account  any
				Planned  any
				Outlook  any
				Fault    string
			}{r.Period.Name(), r.Revision, r.Account, r.Planned, r.Outlook, fmt.Sprint(r.Fault)})
			if err != nil {
				t.Fatal(err)
			}
			out[r.Agreement] = string(body)
		}
		return out
	}
	return text(srv.API.Board.Rows(ctx, snap, now, band, ids)), text(srv.API.Board.Now(ctx, snap, now, band, ids))
}

func same(t *testing.T, says string, srv *server.Server, now span.Instant, band calendar.Period) map[string]string {
	t.Helper()
	kept, anew := rows(t, srv, now, band)
	if len(kept) != len(anew) {
		t.Fatalf("%s: %d rows are kept, and %d made anew", says, len(kept), len(anew))
	}
	for id, want := range anew {
		if kept[id] != want {
			t.Fatalf("%s: %s\nis kept as   %s\nand would be %s", says, id, kept[id], want)
		}
	}
	return kept
}

func deliver(t *testing.T, srv *server.Server, list []wire.Measurement) {
	t.Helper()
	receipt, err := srv.API.Ingest.Batch(ctx, location, "", list)
	if err != nil || len(receipt.Refused) > 0 {
		t.Fatal(receipt, err)
	}
}

// Whatever arrives, in whatever order: what is kept is what would be made anew, for a
// period that runs and for those that are over.
func TestKeptAccountsAreThoseMadeAnew(t *testing.T) {
	t.Parallel()
	const services = 8
	srv := harbour(t, services, storetest.At(t, storetest.MidMonth())) // there is much of a month, and of the one before
	r := rand.New(rand.NewPCG(11, 12))
	present := span.Of(srv.API.Store.Now())
	month := calendar.MonthAt(present, time.UTC)
	bands := []calendar.Period{month, month.Next(-1), calendar.Cycle{Unit: calendar.Week}.At(present, time.UTC).Next(-1)}
	var waiting [][]wire.Measurement
	for s := range services {
		at := max(month.Span().From.Add(-3*span.Day), present.Add(-29*span.Day)) // over the end of a month, mostly
		outcome := measure.OK
		for range 12 {
			at = at.Add(r.Int64N(int64(present-month.Span().From)/14 + 1))
			var list []wire.Measurement
			for range 5 + r.IntN(40) {
				at = min(at.Add(60_000+r.Int64N(5)), present-1000)
				if r.IntN(5) == 0 {
					outcome = []measure.Outcome{measure.OK, measure.OK, measure.Degraded, measure.Failed, measure.Error}[r.IntN(5)]
				}
				list = append(list, wire.Measurement{Check: fmt.Sprintf("check-gate-%d", s), At: at, Outcome: outcome})
			}
			waiting = append(waiting, list)
		}
	}
	r.Shuffle(len(waiting), func(i, j int) { waiting[i], waiting[j] = waiting[j], waiting[i] })
	now, changed := present, 0
	var last map[string]string
	for n, list := range waiting {
		deliver(t, srv, list)
		if n%12 == 5 { // time goes on
			now = now.Add(20 * span.Second)
		}
		for i, band := range bands {
			got := same(t, fmt.Sprintf("after %d deliveries, band %s", n+1, band.Name()), srv, now, band)
			if i == 1 {
				for id := range got {
					if last[id] != got[id] {
						changed++
					}
				}
				last = got
			}
		}
	}
	if changed < services*3 {
		t.Errorf("the accounts of a period that is over changed %d times only: little was tried", changed)
	}
}

// What is kept of a service that is up may be a little old; of one that is in trouble, or
// falls silent, it is not, and after the time allowed all is as made anew.
func TestKeptAccountsAreNotOld(t *testing.T) {
	t.Parallel()
	srv := harbour(t, 3)
	now := span.Of(storetest.Now())
	month := calendar.MonthAt(now, time.UTC)
	var up, down []wire.Measurement
	for at := now.Add(-40 * span.Minute); at < now; at = at.Add(span.Minute) {
		up = append(up, wire.Measurement{Check: "check-gate-0", At: at, Outcome: measure.OK})
		down = append(down, wire.Measurement{Check: "check-gate-1", At: at, Outcome: measure.Failed})
	}
	deliver(t, srv, up)
	deliver(t, srv, down)
	same(t, "at first", srv, now, month)
	kept, anew := rows(t, srv, now.Add(5*span.Second), month)
	if kept["for-gate-0"] == anew["for-gate-0"] {
		t.Error("the account of a service that is up is made anew each time: nothing is kept")
	}
	for _, id := range []string{"for-gate-1", "for-gate-2"} { // down, and silent
		if kept[id] != anew[id] {
			t.Errorf("%s is kept as\n%s\nand is\n%s", id, kept[id], anew[id])
		}
	}
	for _, later := range []int64{15 * span.Second, span.Minute, 10 * span.Minute} { // silent by then
		same(t, "later", srv, now.Add(later), month)
	}
	same(t, "with a clock set back", srv, now, month)
}

// What comes late about a period that is over, in order and with nothing ended by it, and
// a correction of what was promised, change what is kept.
func TestKeptAccountsFollowWhatComesLate(t *testing.T) {
	t.Parallel()
	srv := harbour(t, 4)
	const check, of = "check-gate-3", "for-gate-3" // by weeks
	now := span.Of(storetest.Now())
	oslo, err := calendar.Zone("Europe/Oslo")
	if err != nil {
		t.Fatal(err)
	}
	week := calendar.Cycle{Unit: calendar.Week}.At(now, oslo).Next(-2)
	end := week.Span().To
	deliverUp := func(from, to span.Instant) {
		var list []wire.Measurement
		for at := from; at < to; at = at.Add(span.Minute) {
			list = append(list, wire.Measurement{Check: check, At: at, Outcome: measure.OK})
		}
		deliver(t, srv, list)
	}
	deliverUp(end.Add(-3*span.Hour), end.Add(-2*span.Hour))
	before := same(t, "an hour", srv, now, week)
	deliverUp(end.Add(-2*span.Hour), end.Add(span.Hour))
	after := same(t, "three hours", srv, now, week)
	if before[of] == after[of] {
		t.Error("two hours more change nothing")
	}
	corrected := agreement("gate-3", 3)
	corrected.TargetPercent = "12.5"
	step := catalogue.Step{
		Does: catalogue.Rewrite, Kind: catalogue.Agreement, ID: of, Spec: corrected, Reason: "Misread.", Corrects: week.Name(),
	}
	if _, err := srv.API.Definitions.Apply(ctx, defining.Change{By: trail.By{Name: "test"}}, step); err != nil {
		t.Fatal(err)
	}
	if got := same(t, "corrected", srv, now, week); got[of] == after[of] {
		t.Error("the correction changes nothing")
	}
}

// A lane that cannot be read costs its own agreements' rows, now and once they are kept.
func TestFaultCostsItsOwnRow(t *testing.T) {
	t.Parallel()
	srv := harbour(t, 6)
	now := span.Of(storetest.Now())
	month := calendar.MonthAt(now, time.UTC)
	for s := range 6 {
		deliver(t, srv, []wire.Measurement{{Check: fmt.Sprintf("check-gate-%d", s), At: now.Add(-span.Minute), Outcome: measure.OK}})
	}
	same(t, "sound", srv, now, month)
	storetest.Exec(t, srv, "UPDATE lane SET machine = '{' WHERE check_id = 'check-gate-1'") // gate-2 depends on it
	snap, err := srv.API.Definitions.Snapshot(ctx)
	if err != nil {
		t.Fatal(err)
	}
	for round := range 3 {
		at := now.Add(int64(round) * 20 * span.Second)
		list, err := srv.API.Board.Rows(ctx, snap, at, month, catalogue.Live(snap.Agreements))
		if err != nil {
			t.Fatal(err)
		}
		var faulty []string
		for _, r := range list {
			if r.Fault != nil {
				faulty = append(faulty, r.Agreement)
			}
		}
		if slices.Sort(faulty); len(list) != 6 || !slices.Equal(faulty, []string{"for-gate-1", "for-gate-2"}) {
			t.Errorf("round %d: of %d rows these are faulty: %v", round, len(list), faulty)
		}
	}
	deliver(t, srv, []wire.Measurement{{Check: "check-gate-1", At: now, Outcome: measure.OK}}) // makes it again
	kept := same(t, "mended", srv, now.Add(30*span.Second), month)
	for id, text := range kept {
		if len(text) < 200 {
			t.Errorf("%s is still %s", id, text)
		}
	}
}
