package ingest

import (
	"context"
	"encoding/json"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/measure"
	"kestite/core/span"
	"kestite/core/verdict"
	"kestite/server/store/gen/db"
)

// openedLane is a lane's series while measurements join it.
type openedLane struct {
	id        int32
	check     string
	revisions verdict.Revisions
	series    verdict.Series
	out       []verdict.Stretch // the last stored stretch, then new ones
	before    *verdict.Stretch  // the last stored stretch as it was
	pending   int64
	wasStale  bool
	raw       span.Instant // of the latest raw measurement; span.End where that is not known
	changed   bool         // what live screens say may have changed
	broken    bool         // its machine cannot be read and has to be made again
}

func openLane(lane db.Lane, revisions verdict.Revisions) *openedLane {
	l := &openedLane{id: lane.ID, check: lane.CheckID, revisions: revisions, wasStale: lane.StaleNoted, raw: span.End}
	var m machine
	if err := json.Unmarshal(lane.Machine, &m); err != nil {
		l.broken = true
		return l
	}
	if m.Raw > 0 {
		l.raw = m.Raw
	} else if string(lane.Machine) == "{}" { // nothing was ever stored
		l.raw = span.Beginning
	}
	l.series, l.before, l.pending = m.Series, m.Tail, m.Series.PendingCount()
	if m.Tail != nil {
		l.out = append(l.out, *m.Tail)
	}
	return l
}

// severity is the state that an outcome is by itself.
func severity(outcome int16) verdict.State {
	switch measure.Outcome(outcome) {
	case measure.OK:
		return verdict.Up
	case measure.Degraded:
		return verdict.Degraded
	}
	return verdict.Down
}

// add lets one measurement join; errors are none.
func (l *openedLane) add(at span.Instant, outcome int16) {
	if measure.Outcome(outcome) == measure.Error {
		return
	}
	set, ok := l.revisions.Settings(at)
	if !ok {
		return
	}
	stretches := len(l.out)
	l.out = l.series.Add(l.out, at, severity(outcome), set)
	if len(l.out) != stretches || l.series.PendingCount() != l.pending || l.wasStale {
		l.changed = true
		l.pending, l.wasStale = l.series.PendingCount(), false
	}
}

// puts returns the stretches that are new or longer than stored.
func (l *openedLane) puts() []db.CopyStretchesParams {
	var puts []db.CopyStretchesParams
	for i, s := range l.out {
		if i == 0 && l.before != nil && s == *l.before {
			continue
		}
		puts = append(puts, row(l.id, s))
	}
	return puts
}

func row(lane int32, s verdict.Stretch) db.CopyStretchesParams {
	return db.CopyStretchesParams{
		Lane: lane, FirstAt: s.First.Time(), LastAt: s.Last.Time(),
		State: int16(s.State), Own: int16(s.Own), Count: s.Count,
	}
}

func stretch(r db.Stretch) verdict.Stretch {
	return verdict.Stretch{
		State: verdict.State(r.State), Own: verdict.State(r.Own),
		First: span.Of(r.FirstAt), Last: span.Of(r.LastAt), Count: r.Count,
	}
}

func (l *openedLane) save() (laneSave, error) {
	m := machine{Series: l.series}
	if l.raw != span.End && l.raw > 0 {
		m.Raw = l.raw
	}
	if n := len(l.out); n > 0 {
		m.Tail = &l.out[n-1]
	}
	text, err := json.Marshal(m)
	stale := time.Unix(0, 0)
	if l.series.Started {
		stale = l.series.LastAt.Add(l.series.Stale).Time()
	}
	return laneSave{l.id, text, stale}, err
}

// errTooLate is a measurement from before the raw measurements that judging
// again would need.
type errTooLate struct {
	check string
	upTo  span.Instant // later ones need no judging again
}

func (e *errTooLate) Error() string {
	return "the check " + e.check + " cannot be judged again from there: the raw measurements around it are no longer kept"
}

// rebuild judges again from the last place before the late rows at which the
// series' state follows from the stretches alone. The late rows are in the
// database already.
func (l *openedLane) rebuild(ctx context.Context, q *db.Queries, late []time.Time) error {
	l.changed = true
	upTo := span.End
	if l.series.Started {
		upTo = l.series.LastAt
	}
	restart, err := l.findRestart(ctx, q, late)
	if err != nil {
		return err
	}
	if restart.needs != nil {
		if has, err := q.HasRaw(ctx, db.HasRawParams{Lane: l.id, At: restart.needs.Time()}); err != nil {
			return err
		} else if !has {
			return &errTooLate{l.check, upTo}
		}
	}
	if err := q.DropStretchesFrom(ctx, db.DropStretchesFromParams{Lane: l.id, FirstAt: restart.dropFrom.Time()}); err != nil {
		return err
	}
	rows, err := q.OutcomesFrom(ctx, db.OutcomesFromParams{Lane: l.id, At: restart.readFrom.Time()})
	if err != nil {
		return err
	}
	l.series, l.out, l.before = restart.series, restart.out, nil
	for _, r := range rows {
		l.add(span.Of(r.At), r.Outcome)
	}
	return nil
}

// restart is a place to judge again from.
type restart struct {
	series   verdict.Series
	out      []verdict.Stretch // the stretch before it, to be extended
	dropFrom span.Instant      // stretches that begin here or later are made again
	readFrom span.Instant      // from raw measurements at or after this
	needs    *span.Instant     // a raw measurement that must still be there
}

// findRestart looks for a place at or before from where nothing is pending: the
// very start, a gap, the end of a confirmed outage, or a measurement inside a
// calm stretch that is too far in for a recovery to be pending.
func (l *openedLane) findRestart(ctx context.Context, q *db.Queries, late []time.Time) (restart, error) {
	const step = 64
	for limit := int32(step); ; limit *= 4 {
		rows, err := q.StretchesBefore(ctx, db.StretchesBeforeParams{Lane: l.id, FirstAt: late[0], Limit: limit})
		if err != nil {
			return restart{}, err
		}
		for i, r := range rows {
			s := stretch(db.Stretch(r))
			if s.State == s.Own && s.State != verdict.Down {
				calm, found, err := l.insideCalm(ctx, q, s, late)
				if err != nil || found {
					return calm, err
				}
			}
			if i+1 == len(rows) {
				break
			}
			p := stretch(db.Stretch(rows[i+1]))
			set, _ := l.revisions.Settings(p.Last)
			if s.First > p.Last.Add(set.StaleAfter) { // a gap forgets
				series := verdict.Series{Started: true, Apart: true, LastAt: p.Last, Stale: set.StaleAfter, Revision: set.Revision}
				return restart{series: series, dropFrom: s.First, readFrom: p.Last + 1, needs: &s.First}, nil
			}
			if p.State == verdict.Down && p.Own == verdict.Down {
				series := verdict.Series{Started: true, State: verdict.Down, LastAt: p.Last, Stale: set.StaleAfter, Apart: set.Apart, Revision: set.Revision}
				return restart{series: series, out: []verdict.Stretch{p}, dropFrom: s.First, readFrom: p.Last + 1, needs: &s.First}, nil
			}
		}
		if len(rows) < int(limit) {
			whole := restart{}
			if n := len(rows); n > 0 {
				first := span.Of(rows[n-1].FirstAt)
				whole.needs = &first
			} else if l.before != nil || l.broken { // all there is lies after the late rows
				first, err := q.FirstStretch(ctx, l.id)
				if err == nil {
					at := span.Of(first)
					whole.needs = &at
				}
			}
			return whole, nil
		}
	}
}

// insideCalm looks for the last measurement of a calm stretch before the late
// rows that has enough of its kind before it.
func (l *openedLane) insideCalm(ctx context.Context, q *db.Queries, s verdict.Stretch, late []time.Time) (restart, bool, error) {
	var need int64 = 1
	for _, r := range l.revisions {
		need = max(need, r.Recover)
	}
	before, err := q.RawBefore(ctx, db.RawBeforeParams{Lane: l.id, Since: s.First.Time(), Before: late[0]})
	if err != nil {
		return restart{}, false, err
	}
	last := span.Of(before)
	if last < s.First || last > s.Last {
		return restart{}, false, nil
	}
	after, err := q.InstantsBetween(ctx, db.InstantsBetweenParams{Lane: l.id, Since: last.Time().Add(time.Millisecond), Until: s.Last.Time()})
	if err != nil {
		return restart{}, false, err
	}
	cut := s
	cut.Last = last
	cut.Count -= int64(len(after))
	for _, at := range after {
		if slices.ContainsFunc(late, at.Equal) {
			cut.Count++
		}
	}
	if cut.Count < need {
		return restart{}, false, nil
	}
	set, _ := l.revisions.Settings(last)
	series := verdict.Series{Started: true, State: s.State, LastAt: last, Stale: set.StaleAfter, Revision: set.Revision}
	return restart{series: series, out: []verdict.Stretch{cut}, dropFrom: s.First + 1, readFrom: last + 1}, true, nil
}

// Seed stores a series and its stretches, judged elsewhere by the same rules,
// for a lane that has none.
func Seed(ctx context.Context, tx pgx.Tx, q *db.Queries, lane int32, series verdict.Series, stretches []verdict.Stretch) error {
	rows := make([]db.CopyStretchesParams, len(stretches))
	for i, s := range stretches {
		rows[i] = row(lane, s)
	}
	if _, err := q.CopyStretches(ctx, rows); err != nil {
		return err
	}
	l := openedLane{id: lane, series: series, out: stretches}
	save, err := l.save()
	if err != nil {
		return err
	}
	return saveLanes(ctx, tx, []laneSave{save})
}
