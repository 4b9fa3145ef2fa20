package chaos

import (
	"context"
	"fmt"
	"math"
	"net/url"
	"os"
	"reflect"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/agent/store"
	"kestite/agent/wire"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/core/verdict"
	"kestite/server/judge"
	"kestite/server/lanes"
	serverstore "kestite/server/store"
	"kestite/server/store/gen/db"
	"kestite/server/store/raw"
)

// left is what waits in an agent's store.
func left(dir string) ([]wire.Measurement, error) {
	kept, err := store.Open(dir, store.Max)
	if err != nil {
		return nil, err
	}
	defer kept.Close()
	rows, err := kept.Oldest(0, wire.MaxBatch, 1<<30)
	if err != nil {
		return nil, err
	}
	if n, latest := kept.Aside(3); n > 0 {
		return nil, fmt.Errorf("%d measurements were set aside: %+v", n, latest)
	}
	var out []wire.Measurement
	for _, r := range rows {
		out = append(out, r.Measurement)
	}
	return out, nil
}

func tokenOf(f *fleet, n int) string {
	text, _ := os.ReadFile(fmt.Sprintf("%s/location-%d.token", f.dir, n))
	return strings.TrimSpace(string(text))
}

// examine compares what is stored with what was promised, and what was computed
// with what follows from what is stored.
func (s *sender) examine() {
	ctx := serverstore.For(s.f.t.Context(), serverstore.Jobs)
	lanes, err := s.f.inside.API.Store.Lanes(ctx)
	if err != nil {
		s.f.t.Fatal(err)
	}
	s.nothingLost(ctx, lanes)
	if err := s.f.inside.Judge.Hours(ctx); err != nil {
		s.f.t.Fatal(err)
	}
	for _, l := range lanes {
		s.recomputed(ctx, l)
	}
	s.statesFollow(ctx)
	s.everythingTold(ctx)
	s.nothingGrows(ctx)
}

// everythingTold: of each incident that lasted somebody was told, or it is said why not;
// what was sent arrived, and nothing arrived twice but what is marked so.
func (s *sender) everythingTold(ctx context.Context) {
	t, q := s.f.t, s.f.inside.API.Store
	count := func(query string) (n int) {
		if err := q.QueryRow(ctx, query).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	s.until("all that is due to be told", func() bool { return count("SELECT count(*) FROM delivery WHERE state = 'queued'") == 0 })
	if n := count("SELECT count(*) FROM delivery WHERE state NOT IN ('sent', 'suppressed') OR state = 'suppressed' AND why = ''"); n > 0 {
		t.Errorf("%d deliveries were neither sent nor suppressed with a reason", n)
	}
	// One that lasted was open for half a minute without a break, and followed no other one:
	// what late measurements open is often over in the same moment.
	const lasted = ` FROM incident i WHERE EXISTS (SELECT 1 FROM incident_event o WHERE o.incident = i.id AND o.kind IN ('opened', 'reopened')
		AND o.written_at < now() - interval '30 seconds' AND NOT EXISTS (SELECT 1 FROM incident_event e WHERE e.incident = i.id AND e.id > o.id
			AND e.kind IN ('over', 'resolved', 'unfounded', 'followed') AND e.written_at < o.written_at + interval '30 seconds'))`
	untold := count("SELECT count(*)" + lasted + " AND cause IS NULL AND NOT EXISTS (SELECT 1 FROM notice n WHERE n.incident = i.id)")
	all := count("SELECT count(*)" + lasted)
	if untold > 0 {
		t.Errorf("of %d of %d incidents that lasted nobody was told", untold, all)
	}
	rows, err := q.Query(ctx, "SELECT id, maybe_twice FROM delivery WHERE state = 'sent'")
	if err != nil {
		t.Fatal(err)
	}
	taken, marked, sent := s.f.desk.taken(), 0, 0
	for rows.Next() {
		var id int64
		var twice bool
		if err := rows.Scan(&id, &twice); err != nil {
			t.Fatal(err)
		}
		key := fmt.Sprintf("kestite-delivery-%d", id)
		sent++
		if twice {
			marked++
		}
		if n := taken[key]; n == 0 || n > 1 && !twice {
			t.Errorf("%s was taken %d times, and marked as maybe twice: %v", key, n, twice)
		}
		delete(taken, key)
	}
	if err := rows.Err(); err != nil {
		t.Fatal(err)
	}
	for key := range taken { // sent by a server that died; it was needless when the next one looked
		var state string
		if err := q.QueryRow(ctx, "SELECT state FROM delivery WHERE 'kestite-delivery-' || id = $1 AND maybe_twice", key).Scan(&state); err != nil {
			t.Errorf("%s arrived, and nobody knows of it: %v", key, err)
		}
	}
	t.Logf("%d incidents lasted, %d messages sent, %d of them marked as maybe twice", all, sent, marked)
	if all == 0 || sent == 0 {
		t.Error("no incident lasted: nothing was proven of telling")
	}
}

// nothingLost: every measurement that was acknowledged is there, and every one
// that an agent made of the target, once.
func (s *sender) nothingLost(ctx context.Context, lanes []db.Lane) {
	t := s.f.t
	counted := s.f.target.counted()
	evidence, err := s.evidence(ctx)
	if err != nil {
		t.Fatal(err)
	}
	var have, lost, real int
	for _, l := range lanes {
		rows, err := everything(ctx, s.f.inside.API.Store, l.ID)
		if err != nil {
			t.Fatal(err)
		}
		have += len(rows)
		if strings.HasPrefix(l.CheckID, "real-") {
			answered := 0
			for _, r := range rows {
				if r.Outcome != measure.Error && r.Value(measure.HTTP.Index("status")) > 0 {
					answered++
				}
			}
			real += answered
			// One may have been under way when the agent ended; evidence of incidents is no measurement of the check.
			beside := evidence["/"+l.CheckID]
			if made := counted["/"+l.CheckID]; answered > made || answered < made-1-beside {
				t.Errorf("%s was measured %d times, %d of them as evidence at most, and %d are stored", l.CheckID, made, beside, answered)
			}
			continue
		}
		at := map[span.Instant]bool{}
		for _, r := range rows {
			at[r.At] = true
		}
		for p := range s.acknowledged {
			if p.check == l.CheckID && p.location == l.Location && !at[p.at] {
				lost++
			}
		}
	}
	if real == 0 {
		t.Error("agents measured nothing")
	}
	if lost > 0 {
		t.Errorf("%d measurements that were acknowledged are not there", lost)
	}
	t.Logf("%d measurements acknowledged to the hostile sender, %d made by agents, %d stored in all", len(s.acknowledged), real, have)
}

// evidence is how many measurements agents took to make as evidence of incidents, by the
// path of their target.
func (s *sender) evidence(ctx context.Context) (map[string]int, error) {
	rows, err := s.f.inside.API.Store.Query(ctx, "SELECT spec ->> 'target' FROM trial WHERE incident IS NOT NULL AND taken_at IS NOT NULL")
	if err != nil {
		return nil, err
	}
	targets, err := pgx.CollectRows(rows, pgx.RowTo[string])
	out := map[string]int{}
	for _, target := range targets {
		if u, err := url.Parse(target); err == nil {
			out[u.Path]++
		}
	}
	return out, err
}

// everything is all raw measurements of a lane.
func everything(ctx context.Context, s *serverstore.Store, lane int32) ([]raw.Row, error) {
	return raw.During(ctx, s.Queries, lane, span.Of(time.Now().AddDate(0, 0, -40)), span.Of(time.Now().AddDate(0, 0, 1)))
}

// recomputed: stretches and hours of a lane are those that follow from its rows.
func (s *sender) recomputed(ctx context.Context, l db.Lane) {
	t, q := s.f.t, s.f.inside.API.Store
	rows, err := everything(ctx, q, l.ID)
	if err != nil {
		t.Fatal(err)
	}
	snap, err := s.f.inside.API.Definitions.Snapshot(ctx)
	if err != nil {
		t.Fatal(err)
	}
	set := verdict.SettingsOf(snap.CheckRevisions(l.CheckID)[0])
	severity := map[measure.Outcome]verdict.State{measure.OK: verdict.Up, measure.Degraded: verdict.Degraded, measure.Failed: verdict.Down}
	var series verdict.Series
	var want []verdict.Stretch
	hours := map[time.Time]*judge.Hour{}
	for _, r := range rows {
		o := r.Outcome
		at := r.At.Time().Truncate(time.Hour)
		if hours[at] == nil {
			hours[at] = new(judge.Hour)
		}
		hours[at].Add(o, r.Value(measure.HTTP.Leading))
		if o != measure.Error {
			want = series.Add(want, r.At, severity[o], set)
		}
	}
	got, err := lanes.All(ctx, q.Queries, l.ID)
	if err != nil {
		t.Fatal(err)
	}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("%s at %s has %d stretches, and %d follow from its %d measurements", l.CheckID, l.Location, len(got), len(want), len(rows))
	}
	summed, err := q.Hours(ctx, db.HoursParams{Column1: []int32{l.ID}, HourAt: time.Unix(0, 0), HourAt_2: time.Now()})
	if err != nil {
		t.Fatal(err)
	}
	over := time.Now().Add(-time.Hour - 3*time.Minute)
	for _, h := range summed {
		w := hours[h.HourAt.UTC()]
		if w == nil || h.Count != w.Count || h.Failed != w.Failed || h.Degraded != w.Degraded || h.Error != w.Error ||
			h.Mean != nil && math.Abs(float64(*h.Mean)-w.Mean) > w.Mean*1e-5 {
			t.Errorf("%s at %s: the summary of %s is %+v, and %+v follows", l.CheckID, l.Location, h.HourAt, h, w)
		}
		delete(hours, h.HourAt.UTC())
	}
	for at := range hours {
		if at.Before(over) {
			t.Errorf("%s at %s: there is no summary of %s", l.CheckID, l.Location, at)
		}
	}
}

// statesFollow: the live states are those that judging all anew gives.
func (s *sender) statesFollow(ctx context.Context) {
	t, q := s.f.t, s.f.inside.API.Store
	// Silence is noted within seconds; after it nothing changes any more.
	time.Sleep(3*interval*time.Second + 5*time.Second)
	s.until("silence to be judged", func() bool {
		waiting, err := s.f.inside.Judge.Waiting(ctx)
		return err == nil && len(waiting) == 0
	})
	before, err := q.States(ctx)
	if err != nil {
		t.Fatal(err)
	}
	snap, err := s.f.inside.API.Definitions.Snapshot(ctx)
	if err != nil {
		t.Fatal(err)
	}
	var ids []string
	for id := range snap.Services {
		ids = append(ids, id)
	}
	if err := s.f.inside.Judge.Services(ctx, ids); err != nil {
		t.Fatal(err)
	}
	after, err := q.States(ctx)
	if err != nil {
		t.Fatal(err)
	}
	now := map[string]db.StandingState{}
	for _, a := range after {
		now[a.Service] = a
	}
	wrong := 0
	for _, b := range before {
		a := now[b.Service]
		if a.State != b.State || a.Fault != b.Fault || a.Waiting != b.Waiting || a.SinceAt.Sub(b.SinceAt).Abs() > time.Second {
			wrong++
			if wrong < 5 {
				t.Errorf("%s: kept is %+v, and judged anew it is %+v", b.Service, b, a)
			}
		}
	}
	if len(before) == 0 || wrong > 0 {
		t.Errorf("%d of %d states are not what judging all anew gives", wrong, len(before))
	}
}

// nothingGrows: no queue holds what is done with, and no table only grows.
func (s *sender) nothingGrows(ctx context.Context) {
	t := s.f.t
	for query, most := range map[string]int{
		"SELECT count(*) FROM judge_due":                                              0,
		"SELECT count(*) FROM hour_due WHERE hour_at < now() - interval '70 minutes'": 0,
		"SELECT count(*) FROM river_job":                                              2000,
		"SELECT count(*) FROM river_job WHERE state IN ('available', 'retryable') AND scheduled_at < now() - interval '5 minutes'":   0,
		"SELECT count(*) FROM pg_stat_activity WHERE state LIKE 'idle in transaction%' AND xact_start < now() - interval '1 minute'": 0,
		"SELECT count(*) FROM attempts":   100,
		"SELECT count(*) FROM attendance": 1,
	} {
		var n int
		if err := s.f.inside.API.Store.QueryRow(ctx, query).Scan(&n); err != nil || n > most {
			t.Errorf("%s: %d, at most %d are right (%v)", query, n, most, err)
		}
	}
}
