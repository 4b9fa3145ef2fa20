package ingest

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/measure"
	"kestite/core/span"
	"kestite/server/store"
	"kestite/server/store/gen/db"
	"kestite/server/store/raw"
)

// batch is what one transaction stores, in columns.
type batch struct {
	*delivery
	days   map[time.Time]bool
	stored int
	slow   bool // nothing is taken for new

	rows     []int    // index of each row in the delivery
	checks   []string // of each row
	ats      []time.Time
	outcomes []int16
	values   []int64 // in thousandths
	starts   []int32
	lengths  []int32
	lates    []int32
	delays   []int32
	details  []string
	clocks   []int32 // ms that the own clock of who measured was ahead
	wrongs   []int32 // ms that at may be wrong
}

// untold is in place of what nobody said.
const untold = math.MinInt32

// narrowed is v, or the bound that it is beyond.
func narrowed(v int64) int32 { return int32(min(max(v, untold+1), math.MaxInt32)) }

// newBatch is an empty batch with room for so many measurements.
func newBatch(d *delivery, n int) *batch {
	const measures = 7 // about as many as a measurement has
	return &batch{
		delivery: d, days: map[time.Time]bool{}, rows: make([]int, 0, n), checks: make([]string, 0, n), ats: make([]time.Time, 0, n),
		outcomes: make([]int16, 0, n), values: make([]int64, 0, measures*n), starts: make([]int32, 0, n), lengths: make([]int32, 0, n),
		lates: make([]int32, 0, n), delays: make([]int32, 0, n), details: make([]string, 0, n), clocks: make([]int32, 0, n),
		wrongs: make([]int32, 0, n),
	}
}

func (b *batch) indexes() []int { return slices.Clone(b.rows) }

// add adds the columns of one measurement. Values that are no numbers a measure
// may have are left out, and its detail says so.
func (b *batch) add(i int) {
	m := &b.list[i]
	kind, _ := measure.KindNamed(b.snap.Checks[m.Check].Current().Spec.Kind)
	start := len(b.values)
	detail := m.Detail
	if len(m.Measures) > 0 {
		for _, d := range kind.Measures {
			v, has := m.Measures[d.Name]
			t := int64(measure.None)
			if has {
				t = measure.Thousandths(v)
			}
			if has && t == measure.None {
				detail = strings.TrimPrefix(fmt.Sprintf("%s; %s left out: %s is no value that can be kept", detail, d.Name, strconv.FormatFloat(v, 'g', -1, 64)), "; ")
			}
			b.values = append(b.values, t)
		}
	}
	at := m.At.Time()
	b.days[at.Truncate(24*time.Hour)] = true
	b.rows = append(b.rows, i)
	b.checks = append(b.checks, m.Check)
	b.ats = append(b.ats, at)
	b.outcomes = append(b.outcomes, int16(m.Outcome))
	b.starts = append(b.starts, int32(start))
	b.lengths = append(b.lengths, int32(len(b.values)-start))
	b.lates = append(b.lates, narrowed(max(m.LateMS, 0)))
	b.delays = append(b.delays, narrowed(max(int64(b.now-m.At)/span.Second, 0)))
	b.details = append(b.details, measure.Clean(detail, measure.MostDetail))
	off, wrong := int32(untold), int32(untold)
	if m.Clock != nil {
		off, wrong = narrowed(m.Clock.Offset), narrowed(max(m.Clock.Uncertain, 0))
	}
	b.clocks, b.wrongs = append(b.clocks, off), append(b.wrongs, wrong)
}

// point identifies a row.
type point struct {
	lane int32
	at   int64
}

func (b *batch) store(ctx context.Context, tx pgx.Tx, q *db.Queries) error {
	b.stored = 0
	lanes, byCheck, err := b.lanes(ctx, q)
	if err != nil {
		return err
	}
	opened := make(map[string]*openedLane, len(lanes))
	for check, lane := range byCheck {
		opened[check] = openLane(*lane, b.settings[check])
	}
	fresh, err := b.insert(ctx, tx, q, opened)
	if err != nil {
		return err
	}
	rows := map[int32][]int{} // rows to judge, by lane
	var found db.PutFindingsParams
	for i, is := range fresh {
		if !is {
			continue
		}
		lane := opened[b.checks[i]].id
		rows[lane] = append(rows[lane], i)
		b.stored++
		if body := storable(b.list[b.rows[i]].Findings); body != "" {
			found.Lanes, found.Ats, found.Bodies = append(found.Lanes, lane), append(found.Ats, b.ats[i]), append(found.Bodies, body)
		}
	}
	if len(found.Lanes) > 0 {
		if err := q.PutFindings(ctx, found); err != nil {
			return fmt.Errorf("findings: %w", err)
		}
	}
	return b.judge(ctx, tx, q, lanes, opened, rows)
}

// insert stores the raw rows and says of each whether it is new. What is later than
// all that its lane has seen is new for certain, and goes in by COPY, which asks for no
// conflicts; the others are looked at one by one.
func (b *batch) insert(ctx context.Context, tx pgx.Tx, q *db.Queries, opened map[string]*openedLane) ([]bool, error) {
	order := make([]int, len(b.rows)) // rows in order of time
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(i, j int) int { return b.ats[i].Compare(b.ats[j]) })
	fresh := make([]bool, len(b.rows))
	var sure, doubtful []int
	seen := make(map[point]bool, len(b.rows))
	for _, i := range order {
		l := opened[b.checks[i]]
		at := span.Of(b.ats[i])
		p := point{l.id, int64(at)}
		switch {
		case seen[p]: // a second row for the same instant in one batch is a duplicate
			continue
		case !b.slow && at > l.raw:
			sure = append(sure, i)
			fresh[i] = true
		default:
			doubtful = append(doubtful, i)
		}
		seen[p] = true
	}
	if len(sure) > 0 {
		stream := newCopyStream(len(sure), len(b.values))
		for _, i := range sure {
			b.raw(stream, i, opened[b.checks[i]].id)
		}
		if err := b.in.Store.Copy(ctx, tx, copyRaw, stream.end()); err != nil {
			return nil, err
		}
	}
	if len(doubtful) > 0 {
		if err := b.look(ctx, q, opened, doubtful, fresh); err != nil {
			return nil, err
		}
	}
	for _, i := range order {
		if l := opened[b.checks[i]]; l.raw != span.End {
			l.raw = max(l.raw, span.Of(b.ats[i]))
		}
	}
	return fresh, b.lookUpLatest(ctx, q, opened)
}

// raw adds a row in the order of copyRaw's columns.
func (b *batch) raw(s *copyStream, i int, lane int32) {
	s.row(9)
	s.int4(lane)
	s.timestamptz(b.ats[i])
	s.int2(b.outcomes[i])
	s.int8s(b.values[b.starts[i] : b.starts[i]+b.lengths[i]])
	s.int4(b.lates[i])
	s.int4(b.delays[i])
	s.text(b.details[i])
	s.said(b.clocks[i])
	s.said(b.wrongs[i])
}

// look stores those of some rows that are not there already.
func (b *batch) look(ctx context.Context, q *db.Queries, opened map[string]*openedLane, rows []int, fresh []bool) error {
	p := db.InsertMeasurementsParams{Values: b.values}
	of := make(map[point]int, len(rows))
	for _, i := range rows {
		lane := opened[b.checks[i]].id
		of[point{lane, b.ats[i].UnixMilli()}] = i
		p.Lanes, p.Ats, p.Outcomes = append(p.Lanes, lane), append(p.Ats, b.ats[i]), append(p.Outcomes, b.outcomes[i])
		p.Starts, p.Lengths = append(p.Starts, b.starts[i]), append(p.Lengths, b.lengths[i])
		p.Lates, p.Delays, p.Details = append(p.Lates, b.lates[i]), append(p.Delays, b.delays[i]), append(p.Details, b.details[i])
		p.Clocks, p.Uncertains = append(p.Clocks, b.clocks[i]), append(p.Uncertains, b.wrongs[i])
	}
	inserted, err := q.InsertMeasurements(ctx, p)
	if err != nil {
		return err
	}
	for _, r := range inserted {
		fresh[of[point{r.Lane, r.At.UnixMilli()}]] = true
	}
	return nil
}

// lookUpLatest finds out which the latest raw measurement is of those lanes of which
// that was not noted: the rows of this batch are stored by now.
func (b *batch) lookUpLatest(ctx context.Context, q *db.Queries, opened map[string]*openedLane) error {
	var unknown []int32
	for _, l := range opened {
		if l.raw == span.End {
			unknown = append(unknown, l.id)
		}
	}
	if len(unknown) == 0 {
		return nil
	}
	latest, err := raw.Last(ctx, q, unknown)
	if err != nil {
		return err
	}
	for _, l := range opened {
		if at, has := latest[l.id]; has && l.raw == span.End {
			l.raw = at
		}
	}
	return nil
}

// storable is findings as JSON that PostgreSQL takes: it has no place for the
// character U+0000. It is empty where there are none, or too many to keep.
func storable(f *measure.Findings) string {
	if f.Empty() {
		return ""
	}
	body, err := json.Marshal(f)
	if err != nil || len(body) > measure.MostFindings {
		return ""
	}
	return WithoutNUL(string(body))
}

// WithoutNUL replaces the escape \u0000 in JSON, but not a backslash that is
// escaped itself and followed by u0000.
func WithoutNUL(body string) string {
	const nul = `\u0000`
	if !strings.Contains(body, nul) {
		return body
	}
	var out strings.Builder
	for {
		i := strings.IndexByte(body, '\\')
		if i < 0 || i+2 > len(body) {
			out.WriteString(body)
			return out.String()
		}
		out.WriteString(body[:i])
		if strings.HasPrefix(body[i:], nul) {
			out.WriteString(`\ufffd`)
			body = body[i+len(nul):]
			continue
		}
		out.WriteString(body[i : i+2])
		body = body[i+2:]
	}
}

// lanes makes the lanes that are missing and locks all concerned, in order of id.
func (b *batch) lanes(ctx context.Context, q *db.Queries) ([]db.Lane, map[string]*db.Lane, error) {
	checks := slices.Clone(b.checks)
	slices.Sort(checks)
	checks = slices.Compact(checks)
	lanes, err := b.known(ctx, q, checks)
	if err != nil {
		return nil, nil, err
	}
	if len(lanes) < len(checks) {
		if lanes, err = q.LanesForUpdate(ctx, db.LanesForUpdateParams{Location: b.location, Column2: checks}); err != nil {
			return nil, nil, err
		}
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
		b.in.lanes.Store(at{lanes[i].CheckID, b.location}, lanes[i].ID)
	}
	return lanes, byCheck, nil
}

// known locks the lanes of checks by their ids, where all of these are known; fewer
// come back where one is not there any more.
func (b *batch) known(ctx context.Context, q *db.Queries, checks []string) ([]db.Lane, error) {
	ids := make([]int32, len(checks))
	for i, check := range checks {
		id, has := b.in.lanes.Load(at{check, b.location})
		if !has {
			return nil, nil
		}
		ids[i] = id.(int32)
	}
	return q.KnownLanesForUpdate(ctx, ids)
}

// judge lets each lane's new rows join its series and saves what changed.
func (b *batch) judge(ctx context.Context, tx pgx.Tx, q *db.Queries, lanes []db.Lane, opened map[string]*openedLane,
	rows map[int32][]int) error {
	var puts []db.CopyStretchesParams
	var saves db.SaveLanesParams
	var hourLanes []int32
	var hours []time.Time
	changed := map[string]bool{}
	touched := map[string]bool{}
	for _, lane := range lanes {
		list := rows[lane.ID]
		if len(list) == 0 {
			continue
		}
		slices.SortFunc(list, func(a, c int) int { return b.ats[a].Compare(b.ats[c]) })
		service := b.snap.Checks[lane.CheckID].Current().Spec.Service
		touched[service] = true
		l := opened[lane.CheckID]
		for _, hour := range b.hoursDue(l, list) {
			hourLanes, hours = append(hourLanes, lane.ID), append(hours, hour)
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
		ended := l.ended()
		puts = append(puts, ended...)
		l.save(&saves, len(ended) > 0)
		if l.changed {
			changed[service] = true
		}
	}
	if len(touched) == 0 {
		return nil
	}
	return store.Together(ctx, tx, func(e db.DBTX, q *db.Queries) error {
		if len(hours) > 0 {
			if err := q.MarkHoursDue(ctx, db.MarkHoursDueParams{Column1: hourLanes, Column2: hours}); err != nil {
				return err
			}
		}
		if err := putStretches(ctx, q, puts); err != nil {
			return err
		}
		if err := q.SaveLanes(ctx, saves); err != nil {
			return err
		}
		if err := store.AskJudging(ctx, e, changed); err != nil {
			return err
		}
		return store.Notify(ctx, e, store.Event{Kind: store.OnMeasurement, IDs: slices.Sorted(maps.Keys(touched))})
	})
}

// hoursDue are the hours of rows, in time order, whose summaries must be made
// (again). The running hour was noted by its first measurement, and its row
// stays until it is over.
func (b *batch) hoursDue(l *openedLane, list []int) []time.Time {
	running := b.now.Time().Truncate(time.Hour)
	last := time.Time{}
	if l.series.Started {
		last = l.series.LastAt.Time()
	}
	var out []time.Time
	for _, r := range list {
		hour := b.ats[r].Truncate(time.Hour)
		noted := hour.Equal(running) && last.Truncate(time.Hour).Equal(running) && b.ats[r].After(last)
		if !noted && !slices.ContainsFunc(out, hour.Equal) {
			out = append(out, hour)
		}
	}
	return out
}

// late says whether a row belongs before what the series has seen.
func (b *batch) late(l *openedLane, list []int) bool {
	if l.broken {
		return len(b.instants(list)) > 0
	}
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

// putStretches writes stretches, in place of those of the same beginnings, in one statement.
func putStretches(ctx context.Context, q *db.Queries, puts []db.CopyStretchesParams) error {
	if len(puts) == 0 {
		return nil
	}
	var p db.PutStretchesParams
	for _, s := range puts {
		p.Lanes, p.Firsts, p.Lasts = append(p.Lanes, s.Lane), append(p.Firsts, s.FirstAt), append(p.Lasts, s.LastAt)
		p.States, p.Owns, p.Counts = append(p.States, s.State), append(p.Owns, s.Own), append(p.Counts, s.Count)
	}
	return q.PutStretches(ctx, p)
}
