// Package ingest takes batches of measurements from agents: in one transaction
// the raw rows, the state of each series, the stretches that changed, and the
// job that judges the services concerned.
package ingest

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/agent/wire"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/core/verdict"
	"kestite/server/catalogue"
	"kestite/server/share"
	"kestite/server/store"
	"kestite/server/store/gen/db"
)

// Ingest stores batches.
type Ingest struct {
	Store     *store.Store
	Catalogue *catalogue.Catalogue
	// Judge enqueues the judging of services in the transaction.
	Judge func(ctx context.Context, tx pgx.Tx, services []string) error
	Now   func() time.Time
}

// mostAge is how old a measurement may be that is still taken, in ms.
const mostAge = wire.MostAge

// mostAhead is how far ahead of the server's clock a measurement may be.
const mostAhead = wire.MaxClockOffset

// machine is what lane.machine holds: the series and its last stretch, which
// the next measurement may extend.
type machine struct {
	Series verdict.Series   `json:"series"`
	Tail   *verdict.Stretch `json:"tail,omitempty"`
}

// Batch stores measurements from a location's agent; agent is empty where they
// are the server's own. A measurement stored before is a duplicate, and so is
// one of a check that another agent held at the time; one that cannot be placed is refused with a reason;
// both leave the rest unharmed. A crash anywhere leaves all or nothing.
func (in *Ingest) Batch(ctx context.Context, location, agent string, list []wire.Measurement) (wire.Receipt, error) {
	snap, err := in.Catalogue.Snapshot(ctx)
	if err != nil {
		return wire.Receipt{}, err
	}
	held, err := in.past(ctx, location, agent, list)
	if err != nil {
		return wire.Receipt{}, err
	}
	unjudgeable := map[string]bool{}
	for {
		b := newBatch(snap, location, in.Now())
		for i := range list {
			if unjudgeable[list[i].Check] {
				b.refuse(i, "%v", &errTooLate{list[i].Check})
				continue
			}
			if agent != "" && !held.Held(agent, list[i].Check, list[i].At.Time()) {
				b.receipt.Duplicates++
				continue
			}
			b.take(i, &list[i])
		}
		if len(b.ats) == 0 {
			return b.receipt, nil
		}
		if err := in.Store.EnsurePartitions(ctx, b.days); err != nil {
			return wire.Receipt{}, err
		}
		err := in.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error { return b.store(ctx, tx, q, in) })
		var late *errTooLate
		if errors.As(err, &late) && !unjudgeable[late.check] {
			unjudgeable[late.check] = true
			continue
		}
		if err != nil {
			return wire.Receipt{}, fmt.Errorf("store %d measurements of %s: %w", len(b.ats), location, err)
		}
		return b.receipt, nil
	}
}

// past is who held what while the measurements of a list were made.
func (in *Ingest) past(ctx context.Context, location, agent string, list []wire.Measurement) (share.Past, error) {
	if agent == "" || len(list) == 0 {
		return share.Past{}, nil
	}
	first := list[0].At
	for _, m := range list {
		first = min(first, m.At)
	}
	return share.Since(ctx, in.Store.Queries, location, first.Time())
}

// batch is one delivery on its way into the database, in columns.
type batch struct {
	snap     *catalogue.Snapshot
	location string
	now      span.Instant
	receipt  wire.Receipt
	days     map[time.Time]bool

	checks   []string // of each row
	ats      []time.Time
	outcomes []int16
	values   []float32
	starts   []int32
	lengths  []int32
	lates    []int32
	delays   []int32
	details  []string
	findings []*measure.Findings
	settings map[string]verdict.Revisions
}

func newBatch(snap *catalogue.Snapshot, location string, now time.Time) *batch {
	return &batch{snap: snap, location: location, now: span.Of(now), days: map[time.Time]bool{}, settings: map[string]verdict.Revisions{}}
}

func (b *batch) refuse(i int, format string, args ...any) {
	b.receipt.Refused = append(b.receipt.Refused, wire.Refusal{Index: i, Reason: fmt.Sprintf(format, args...)})
}

// take checks one measurement and adds it to the columns.
func (b *batch) take(i int, m *wire.Measurement) {
	entry := b.snap.Checks[m.Check]
	if entry == nil {
		b.refuse(i, "there is no check %q", m.Check)
		return
	}
	revisions, seen := b.settings[m.Check]
	if !seen {
		revisions = b.snap.CheckRevisions(m.Check)
		b.settings[m.Check] = revisions
	}
	kind, ok := measure.KindNamed(entry.Current().Spec.Kind)
	switch {
	case !ok:
		b.refuse(i, "the kind of check %q is not known", m.Check)
		return
	case !revisions.Knows(b.location):
		b.refuse(i, "the check %q never measured from %s", m.Check, b.location)
		return
	case revisions.Valid(m.At) == nil:
		b.refuse(i, "the check %q was not in force at %s", m.Check, m.At)
		return
	case m.At > b.now.Add(mostAhead):
		b.refuse(i, "%s is in the future; the server's clock reads %s", m.At, b.now)
		return
	case m.At < b.now.Add(-mostAge):
		b.refuse(i, "%s is older than %d days; measurements are taken no later than that", m.At, mostAge/span.Day)
		return
	}
	for name := range m.Measures {
		if kind.Index(name) < 0 {
			b.refuse(i, "%q is no measure of %s", name, kind.Name)
			return
		}
	}
	start := len(b.values)
	if len(m.Measures) > 0 {
		for _, d := range kind.Measures {
			v, has := m.Measures[d.Name]
			if !has {
				v = math.NaN()
			}
			b.values = append(b.values, float32(v))
		}
	}
	at := m.At.Time()
	b.days[at.Truncate(24*time.Hour)] = true
	b.checks = append(b.checks, m.Check)
	b.ats = append(b.ats, at)
	b.outcomes = append(b.outcomes, int16(m.Outcome))
	b.starts = append(b.starts, int32(start))
	b.lengths = append(b.lengths, int32(len(b.values)-start))
	b.lates = append(b.lates, int32(min(max(m.LateMS, 0), math.MaxInt32)))
	b.delays = append(b.delays, int32(min(max(int64(b.now-m.At)/span.Second, 0), math.MaxInt32)))
	b.details = append(b.details, m.Detail)
	b.findings = append(b.findings, m.Findings)
}

// point identifies a row.
type point struct {
	lane int32
	at   int64
}

func (b *batch) store(ctx context.Context, tx pgx.Tx, q *db.Queries, in *Ingest) error {
	lanes, byCheck, err := b.lanes(ctx, q)
	if err != nil {
		return err
	}
	laneOf := make([]int32, len(b.checks))
	for i, c := range b.checks {
		laneOf[i] = byCheck[c].ID
	}
	inserted, err := q.InsertMeasurements(ctx, db.InsertMeasurementsParams{
		Values: b.values, Lanes: laneOf, Ats: b.ats, Outcomes: b.outcomes,
		Starts: b.starts, Lengths: b.lengths, Lates: b.lates, Delays: b.delays, Details: b.details,
	})
	if err != nil {
		return err
	}
	fresh := make(map[point]bool, len(inserted))
	for _, r := range inserted {
		fresh[point{r.Lane, r.At.UnixMilli()}] = true
	}
	rows := map[int32][]int{} // rows to judge, by lane
	var found db.PutFindingsParams
	for i, lane := range laneOf {
		p := point{lane, b.ats[i].UnixMilli()}
		if !fresh[p] {
			continue
		}
		delete(fresh, p) // a second row for the same instant in one batch is a duplicate
		rows[lane] = append(rows[lane], i)
		b.receipt.Stored++
		if b.findings[i].Empty() {
			continue
		}
		body, err := json.Marshal(b.findings[i])
		if err != nil {
			return err
		}
		if len(body) <= wire.MostFindings {
			found.Lanes, found.Ats, found.Bodies = append(found.Lanes, lane), append(found.Ats, b.ats[i]), append(found.Bodies, storable(body))
		}
	}
	if len(found.Lanes) > 0 {
		if err := q.PutFindings(ctx, found); err != nil {
			return fmt.Errorf("findings: %w", err)
		}
	}
	b.receipt.Duplicates += len(b.ats) - b.receipt.Stored
	return b.judge(ctx, tx, q, in, lanes, rows)
}

// storable is JSON as PostgreSQL takes it: it has no place for the character U+0000.
func storable(body []byte) string {
	return strings.ReplaceAll(string(body), `\u0000`, `\ufffd`)
}

// lanes makes the lanes that are missing and locks all concerned, in order of id.
func (b *batch) lanes(ctx context.Context, q *db.Queries) ([]db.Lane, map[string]*db.Lane, error) {
	checks := slices.Clone(b.checks)
	slices.Sort(checks)
	checks = slices.Compact(checks)
	lanes, err := q.LanesForUpdate(ctx, db.LanesForUpdateParams{Location: b.location, Column2: checks})
	if err != nil {
		return nil, nil, err
	}
	if len(lanes) < len(checks) {
		locations := slices.Repeat([]string{b.location}, len(checks))
		if err := q.EnsureLanes(ctx, db.EnsureLanesParams{Column1: checks, Column2: locations}); err != nil {
			return nil, nil, err
		}
		if lanes, err = q.LanesForUpdate(ctx, db.LanesForUpdateParams{Location: b.location, Column2: checks}); err != nil {
			return nil, nil, err
		}
	}
	byCheck := make(map[string]*db.Lane, len(lanes))
	for i := range lanes {
		byCheck[lanes[i].CheckID] = &lanes[i]
	}
	return lanes, byCheck, nil
}

// judge lets each lane's new rows join its series and saves what changed.
func (b *batch) judge(ctx context.Context, tx pgx.Tx, q *db.Queries, in *Ingest, lanes []db.Lane, rows map[int32][]int) error {
	var puts []db.PutStretchParams
	var saves []laneSave
	var hourLanes []int32
	var hours []time.Time
	changed := map[string]bool{}
	touched := []string{}
	for _, lane := range lanes {
		list := rows[lane.ID]
		if len(list) == 0 {
			continue
		}
		slices.SortFunc(list, func(a, c int) int { return b.ats[a].Compare(b.ats[c]) })
		touched = append(touched, lane.CheckID+" "+b.location)
		for i, r := range list {
			hour := b.ats[r].Truncate(time.Hour)
			if i == 0 || !hour.Equal(hours[len(hours)-1]) {
				hourLanes, hours = append(hourLanes, lane.ID), append(hours, hour)
			}
		}
		l, err := openLane(lane, b.settings[lane.CheckID])
		if err != nil {
			return err
		}
		if b.late(l, list) {
			if err := l.rebuild(ctx, q, b.instants(list)); err != nil {
				return err
			}
		} else {
			for _, r := range list {
				l.add(span.Of(b.ats[r]), b.outcomes[r])
			}
		}
		puts = append(puts, l.puts()...)
		save, err := l.save()
		if err != nil {
			return err
		}
		saves = append(saves, save)
		if l.changed {
			changed[b.snap.Checks[lane.CheckID].Current().Spec.Service] = true
		}
	}
	if err := q.MarkHoursDue(ctx, db.MarkHoursDueParams{Column1: hourLanes, Column2: hours}); err != nil {
		return err
	}
	if err := putStretches(ctx, q, puts); err != nil {
		return err
	}
	if err := saveLanes(ctx, tx, saves); err != nil {
		return err
	}
	if len(changed) > 0 && in.Judge != nil {
		services := make([]string, 0, len(changed))
		for s := range changed {
			services = append(services, s)
		}
		slices.Sort(services)
		if err := in.Judge(ctx, tx, services); err != nil {
			return err
		}
	}
	if len(touched) == 0 {
		return nil
	}
	return store.Notify(ctx, tx, store.Change{Kind: "measurement", IDs: touched})
}

// late says whether a row belongs before what the series has seen.
func (b *batch) late(l *openedLane, list []int) bool {
	for _, r := range list {
		if measure.Outcome(b.outcomes[r]) != measure.Error {
			return l.series.Started && span.Of(b.ats[r]) <= l.series.LastAt
		}
	}
	return false
}

// instants returns when the rows of list that are no errors were measured.
func (b *batch) instants(list []int) []time.Time {
	var out []time.Time
	for _, r := range list {
		if measure.Outcome(b.outcomes[r]) != measure.Error {
			out = append(out, b.ats[r])
		}
	}
	return out
}

func putStretches(ctx context.Context, q *db.Queries, puts []db.PutStretchParams) error {
	if len(puts) == 0 {
		return nil
	}
	var failed error
	q.PutStretch(ctx, puts).Exec(func(_ int, err error) {
		if err != nil && failed == nil {
			failed = err
		}
	})
	return failed
}

type laneSave struct {
	id      int32
	machine json.RawMessage
	stale   time.Time
}

// saveLanes writes all machines in one statement.
func saveLanes(ctx context.Context, tx pgx.Tx, saves []laneSave) error {
	ids := make([]int32, len(saves))
	machines := make([]string, len(saves))
	stale := make([]time.Time, len(saves))
	for i, s := range saves {
		ids[i], machines[i], stale[i] = s.id, string(s.machine), s.stale
	}
	_, err := tx.Exec(ctx, `UPDATE lane SET machine = u.machine::jsonb, stale_at = u.stale_at, stale_noted = false
		FROM (SELECT unnest($1::int[]) AS id, unnest($2::text[]) AS machine, unnest($3::timestamptz[]) AS stale_at) u
		WHERE lane.id = u.id`, ids, machines, stale)
	return err
}
