package demo_test

import (
	"context"
	"encoding/json"
	"strings"
	"testing"
	"time"

	"kestite/core/account"
	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/core/verdict"
	"kestite/demo"
	"kestite/server"
	"kestite/server/store/storetest"
	"kestite/standin"
)

func TestMain(m *testing.M) { storetest.Main(m) }

var ctx = context.Background()

func loaded(t *testing.T, now time.Time) *server.Server {
	t.Helper()
	srv := storetest.Server(t, func(o *server.Options) { o.Now = func() time.Time { return now } })
	if err := demo.Load(ctx, srv, months, func(string) {}); err != nil {
		t.Fatal(err)
	}
	return srv
}

// months of history are enough to look at; the journeys in the browser load all of it.
const months = 8

// accounts returns the accounts of the present month and those before it.
func accounts(t *testing.T, srv *server.Server, now time.Time) map[string]*account.Account {
	t.Helper()
	loc, err := calendar.Zone(demo.Zone)
	if err != nil {
		t.Fatal(err)
	}
	snap, err := srv.API.Definitions.Snapshot(ctx)
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]*account.Account{}
	for n := range months + 1 {
		p := calendar.MonthAt(span.Of(now), loc).Next(-n)
		open, err := srv.API.Books.Open(ctx, snap, p, span.Of(now), nil, catalogue.Live(snap.Agreements))
		if err != nil {
			t.Fatal(err)
		}
		list, err := open.Evidence.All()
		if err != nil {
			t.Fatal(err)
		}
		for _, a := range list {
			out[p.Name()+" "+a.Agreement] = a
		}
	}
	return out
}

var now = time.Date(2026, 11, 25, 9, 30, 0, 0, time.UTC)

func TestScenario(t *testing.T) {
	srv := loaded(t, now)
	t.Run("the history is believable and the same every time", func(t *testing.T) { history(t, srv) })
	t.Run("the last days are raw", func(t *testing.T) { raw(t, srv) })
	t.Run("outages of a year ago can be explained", func(t *testing.T) { explained(t, srv) })
	t.Run("reports are published", func(t *testing.T) { reports(t, srv) })
	t.Run("what is printed adds up", func(t *testing.T) { statements(t, srv) })
	t.Run("every check has its stand-in", func(t *testing.T) { standIns(t, srv) })
}

// The history is the same every time, and what a year of operations looks like:
// mostly met, some missed; outages, slow times, maintenance, excused upstream
// trouble and an agent's silence all occur; nothing is down for weeks.
func history(t *testing.T, srv *server.Server) {
	first := accounts(t, srv, now)
	second := accounts(t, loaded(t, now), now)
	verdicts := map[account.Verdict]int{}
	var total account.Totals
	for key, a := range first {
		x, _ := json.Marshal(a)
		y, _ := json.Marshal(second[key])
		if string(x) != string(y) {
			t.Fatalf("%s differs between two loads:\n%s\n%s", key, x, y)
		}
		if a.Final {
			verdicts[a.Verdict]++
		}
		total.Down += a.TotalMS.Down
		total.Degraded += a.TotalMS.Degraded
		total.Maintenance += a.TotalMS.Maintenance
		total.Upstream += a.TotalMS.Upstream
		total.Unmeasured += a.TotalMS.Unmeasured
		total.Agreed += a.TotalMS.Agreed
		if a.Outages.LongestMS > 12*span.Hour {
			t.Errorf("%s has an outage of %s", key, span.Words(a.Outages.LongestMS))
		}
	}
	if n := len(first) * months / (months + 1); verdicts[account.Met] < n/2 || verdicts[account.Missed] == 0 ||
		verdicts[account.Met]+verdicts[account.Missed] != n {
		t.Errorf("verdicts of %d accounts: %v", n, verdicts)
	}
	for name, ms := range map[string]int64{"down": total.Down, "degraded": total.Degraded, "maintenance": total.Maintenance, "upstream": total.Upstream, "unmeasured": total.Unmeasured} {
		if ms == 0 || ms > total.Agreed/20 {
			t.Errorf("%s: %s of %s", name, span.Words(ms), span.Words(total.Agreed))
		}
	}
}

// Every failure that was confirmed begins with a measurement that says why, also that
// of a year ago.
func explained(t *testing.T, srv *server.Server) {
	snap, err := srv.API.Definitions.Snapshot(ctx)
	if err != nil {
		t.Fatal(err)
	}
	var confirmed []string
	for id, c := range snap.Checks {
		if spec := c.Current().Spec; spec.Confirm > 1 && spec.Rolling == nil { // not single ones that count by themselves
			confirmed = append(confirmed, id)
		}
	}
	var outages, silent int
	if err := srv.API.Store.Pool.QueryRow(ctx, `SELECT count(*), count(*) FILTER (WHERE NOT EXISTS (
		SELECT FROM measurement m WHERE m.lane = s.lane AND m.at = s.first_at AND m.outcome <> 0))
		FROM (SELECT *, lag(state) OVER (PARTITION BY lane ORDER BY first_at) AS before FROM stretch) s JOIN lane l ON l.id = s.lane AND l.check_id = ANY ($3)
		WHERE s.state = $1 AND s.before <> $1 AND s.first_at < $2`,
		int(verdict.Down), now.Add(-30*24*time.Hour), confirmed).Scan(&outages, &silent); err != nil {
		t.Fatal(err)
	}
	if outages < 100 || silent > 0 {
		t.Errorf("of %d outages before the last month %d have no measurement that says why", outages, silent)
	}
}

// Raw measurements of the last three days are there at their true interval.
func raw(t *testing.T, srv *server.Server) {
	snap, err := srv.API.Definitions.Snapshot(ctx)
	if err != nil {
		t.Fatal(err)
	}
	rows, err := srv.API.Store.Pool.Query(ctx,
		"SELECT check_id, count(*), min(at), max(at) FROM measurement JOIN lane ON lane.id = lane WHERE at >= $1 GROUP BY lane.id",
		now.Add(-3*24*time.Hour))
	if err != nil {
		t.Fatal(err)
	}
	var last time.Time
	lanes := 0
	for rows.Next() {
		var check string
		var count int64
		var first, latest time.Time
		if err := rows.Scan(&check, &count, &first, &latest); err != nil {
			t.Fatal(err)
		}
		lanes++
		most := 3 * 86_400 / snap.Checks[check].Current().Spec.IntervalS
		if days := latest.Sub(first).Hours() / 24; days < 2.9 || days > 3.1 || count < most*95/100 || count > most+1 {
			t.Errorf("%s: %d measurements of %d in %.2f days", check, count, most, days)
		}
		if latest.After(last) {
			last = latest
		}
	}
	want := 0
	for _, c := range snap.Checks {
		if c.Current().Spec.Pair == nil { // those between locations begin without history
			want += len(c.Current().Spec.Locations)
		}
	}
	if rows.Err() != nil || lanes != want {
		t.Errorf("%d lanes of %d checks, %v", lanes, len(snap.Checks), rows.Err())
	}
	if age := now.Sub(last); age > time.Minute || age < 0 {
		t.Errorf("the last measurement is %s old", age)
	}
}

func reports(t *testing.T, srv *server.Server) {
	list, err := srv.API.Store.ReportList(ctx)
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range list {
		if r.State != "published" {
			t.Errorf("%s of %s is %s", r.Agreement, r.Period, r.State)
		}
	}
	if len(list) < 9 {
		t.Errorf("%d reports", len(list))
	}
}

// Every check of the demo measures a stand-in, and every stand-in is measured.
func standIns(t *testing.T, srv *server.Server) {
	authority, err := standin.NewAuthority(now)
	if err != nil {
		t.Fatal(err)
	}
	world, err := demo.World(authority, func() time.Time { return now }, nil)
	if err != nil {
		t.Fatal(err)
	}
	where := map[string]bool{}
	for _, w := range world.Webs {
		where[w.URL()] = false
	}
	for _, h := range world.Hosts {
		where[h.Addr] = false
	}
	ports := map[string]string{} // where a port or a certificate is measured
	for _, w := range world.Webs {
		ports[w.Addr] = w.URL()
	}
	snap, err := srv.API.Definitions.Snapshot(ctx)
	if err != nil {
		t.Fatal(err)
	}
	for _, n := range world.Names {
		where[n.Addr] = false
	}
	for _, d := range world.Devices {
		if i := d.Info(); i.Kind == "reporter" {
			if c := snap.Checks[i.ID]; c == nil || c.Current().Spec.Kind != "report-in" {
				t.Errorf("%s reports in to no check", i.ID)
			}
		} else {
			where[i.Where] = false
		}
	}
	kinds := map[string]bool{}
	for id, c := range snap.Checks {
		kinds[c.Current().Spec.Kind] = true
		if definition.Inward(c.Current().Spec.Kind) || c.Current().Spec.Pair != nil {
			continue
		}
		target := strings.TrimSuffix(c.Current().Spec.Target, "figures")
		if d := c.Current().Spec.DNS; d != nil {
			target = d.Resolver
		}
		if url, port := ports[target]; port {
			target = url
		}
		if _, known := where[target]; !known {
			t.Errorf("check %s measures %s, which is no stand-in", id, target)
		}
		where[target] = true
	}
	told := func(address string) {
		for target := range where {
			if strings.HasPrefix(address, target) {
				where[target] = true
			}
		}
	}
	for _, e := range snap.Relays {
		told(e.Current().Spec.Address)
	}
	for _, e := range snap.Contacts {
		told(e.Current().Spec.Address)
	}
	for _, k := range measure.Kinds {
		if !kinds[k.Name] {
			t.Errorf("the demo shows no %s check", k.Name)
		}
	}
	for target, measured := range where {
		if !measured {
			t.Errorf("nothing measures %s, and nothing is told there", target)
		}
	}
}
