package ingest

import (
	"context"
	"errors"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/measure"
	"kestite/core/span"
	"kestite/core/verdict"
	"kestite/server/lanes"
	"kestite/server/store/gen/db"
	"kestite/server/store/raw"
)

// openedLane is a lane's series while measurements join it.
type openedLane struct {
	id        int32
	check     string
	revisions verdict.Revisions
	series    verdict.Series
	out       []verdict.Stretch // the last one that is judged, then what follows; the last is the open one
	before    *verdict.Stretch  // the open stretch as it was
	dropped   bool              // stretches that had ended are taken back
	pending   int64
	wasStale  bool
	raw       span.Instant // of the latest raw measurement; span.End where that is not known
	changed   bool         // what live screens say may have changed
	broken    bool         // its machine cannot be read and has to be made again
}

func openLane(lane db.Lane, revisions verdict.Revisions) *openedLane {
	l := &openedLane{id: lane.ID, check: lane.CheckID, revisions: revisions, wasStale: lane.StaleNoted, raw: span.End}
	m, err := lanes.Of(lane)
	if err != nil {
		l.broken = true
		return l
	}
	if m.Raw > 0 {
		l.raw = m.Raw
	} else if lanes.Empty(lane) {
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

// ended returns the stretches that ended, but for those known to be stored.
func (l *openedLane) ended() []db.CopyStretchesParams {
	var out []db.CopyStretchesParams
	for i := 0; i < len(l.out)-1; i++ {
		out = append(out, row(l.id, l.out[i]))
	}
	return out
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

// save adds what is kept of the lane to what is saved; ended says whether stretches of it did.
func (l *openedLane) save(p *db.SaveLanesParams, ended bool) {
	kept := lanes.Kept{Series: l.series}
	if l.raw != span.End && l.raw > 0 {
		kept.Raw = l.raw
	}
	if n := len(l.out); n > 0 {
		kept.Tail = &l.out[n-1]
	}
	stale := time.Unix(0, 0)
	if l.series.Started {
		stale = l.series.LastAt.Add(l.series.Stale).Time()
	}
	grown := int32(0)
	if ended || l.dropped {
		grown = 1
	}
	p.Ids, p.Machines, p.Stale = append(p.Ids, l.id), append(p.Machines, kept.Bytes()), append(p.Stale, stale)
	p.Ended = append(p.Ended, grown)
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
		if has, err := raw.At(ctx, q, l.id, *restart.needs); err != nil {
			return err
		} else if !has {
			return &errTooLate{l.check, upTo}
		}
	}
	if err := q.DropStretchesFrom(ctx, db.DropStretchesFromParams{Lane: l.id, FirstAt: restart.dropFrom.Time()}); err != nil {
		return err
	}
	rows, err := raw.Outcomes(ctx, q, l.id, restart.readFrom)
	if err != nil {
		return err
	}
	l.series, l.out, l.dropped = restart.series, restart.out, true
	for _, r := range rows {
		l.add(r.At, int16(r.Of))
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
		rows, more, err := l.stretchesBefore(ctx, q, late[0], limit)
		if err != nil {
			return restart{}, err
		}
		for i, s := range rows {
			if s.State == s.Own && s.State != verdict.Down {
				calm, found, err := l.insideCalm(ctx, q, s, late)
				if err != nil || found {
					return calm, err
				}
			}
			if i+1 == len(rows) {
				break
			}
			p := rows[i+1]
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
		if !more {
			whole := restart{}
			if n := len(rows); n > 0 {
				whole.needs = &rows[n-1].First
			} else if first, err := q.FirstStretch(ctx, l.id); err == nil { // all there is lies after the late rows
				at := span.Of(first)
				whole.needs = &at
			} else if !errors.Is(err, pgx.ErrNoRows) {
				return restart{}, err
			} else if l.before != nil {
				whole.needs = &l.before.First
			}
			return whole, nil
		}
	}
}

// stretchesBefore returns the last stretches that begin at or before an instant, newest
// first and the open one among them; more says whether there may be others.
func (l *openedLane) stretchesBefore(ctx context.Context, q *db.Queries, at time.Time, limit int32) (list []verdict.Stretch,
	more bool, err error) {
	open := l.before
	if open != nil && open.First <= span.Of(at) {
		list = append(list, *open)
	}
	rows, err := q.StretchesBefore(ctx, db.StretchesBeforeParams{Lane: l.id, FirstAt: at, Limit: limit})
	if err != nil {
		return nil, false, err
	}
	for _, r := range rows {
		if s := stretch(db.Stretch(r)); open == nil || s.First < open.First {
			list = append(list, s)
		}
	}
	return list, len(rows) == int(limit), nil
}

// insideCalm looks for the last measurement of a calm stretch before the late
// rows that has enough of its kind before it.
func (l *openedLane) insideCalm(ctx context.Context, q *db.Queries, s verdict.Stretch, late []time.Time) (restart, bool, error) {
	var need int64 = 1
	for _, r := range l.revisions {
		need = max(need, r.Recover)
	}
	last, was, err := raw.Before(ctx, q, l.id, s.First, span.Of(late[0]))
	if err != nil || !was || last > s.Last {
		return restart{}, false, err
	}
	after, err := raw.Instants(ctx, q, l.id, last+1, s.Last)
	if err != nil {
		return restart{}, false, err
	}
	cut := s
	cut.Last = last
	cut.Count -= int64(len(after))
	for _, at := range after {
		if slices.ContainsFunc(late, at.Time().Equal) {
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
	l := openedLane{id: lane, series: series, out: stretches}
	ended := l.ended()
	if _, err := q.CopyStretches(ctx, ended); err != nil {
		return err
	}
	var save db.SaveLanesParams
	l.save(&save, len(ended) > 0)
	return q.SaveLanes(ctx, save)
}
