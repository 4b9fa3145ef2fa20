// Package raw is the one reader of raw measurements. Who wants to know one, or what was
// measured in a time, asks here; how they are kept is seen nowhere else but where they
// are written (server/ingest) and dropped.
package raw

import (
	"context"
	"time"

	"kestite/core/measure"
	"kestite/core/span"
	"kestite/server/store/gen/db"
)

// Row is one raw measurement of a lane.
type Row struct {
	At      span.Instant
	Outcome measure.Outcome
	LateMS  int32 // how long after schedule it started
	DelayS  int32 // how long after it was made it was stored
	Detail  string
	Clock   *Clock // nil where nobody said

	thousandths []int64
	short       []float32
}

// Clock says how an instant was placed on the database's clock, in ms.
type Clock struct{ Ahead, Uncertain int32 }

// Values are the measures in the order of the kind, NaN where there is none.
func (r *Row) Values() []float64 { return values(r.thousandths, r.short) }

// Value is the one at an index of the kind's measures, NaN where there is none.
func (r *Row) Value(index int) float64 { return value(r.thousandths, r.short, index) }

func row(at time.Time, outcome int16, thousandths []int64, short []float32, late, delay int32, detail *string, ahead, uncertain *int32) Row {
	out := Row{At: span.Of(at), Outcome: measure.Outcome(outcome), LateMS: late, DelayS: delay, thousandths: thousandths, short: short}
	if detail != nil {
		out.Detail = *detail
	}
	if ahead != nil && uncertain != nil {
		out.Clock = &Clock{*ahead, *uncertain}
	}
	return out
}

// During are all of a lane from one instant on to before another, oldest first.
func During(ctx context.Context, q *db.Queries, lane int32, from, before span.Instant) ([]Row, error) {
	rows, err := q.MeasurementsOf(ctx, db.MeasurementsOfParams{Lane: lane, Since: from.Time(), Before: before.Time()})
	out := make([]Row, len(rows))
	for i, r := range rows {
		out[i] = row(r.At, r.Outcome, r.Thousandths, r.Measures, r.LateMs, r.DelayS, r.Detail, r.ClockMs, r.UncertainMs)
	}
	return out, err
}

// Latest are the last so many of a lane from one instant to another, both included,
// newest first.
func Latest(ctx context.Context, q *db.Queries, lane int32, from, to span.Instant, most int) ([]Row, error) {
	rows, err := q.LatestMeasurements(ctx, db.LatestMeasurementsParams{Lane: lane, Since: from.Time(), Until: to.Time(), Most: int32(most)})
	out := make([]Row, len(rows))
	for i, r := range rows {
		out[i] = row(r.At, r.Outcome, r.Thousandths, r.Measures, r.LateMs, r.DelayS, r.Detail, r.ClockMs, r.UncertainMs)
	}
	return out, err
}

// Last is when each of some lanes was measured last; those that never were are left out.
func Last(ctx context.Context, q *db.Queries, lanes []int32) (map[int32]span.Instant, error) {
	rows, err := q.LatestOfLanes(ctx, lanes)
	out := make(map[int32]span.Instant, len(rows))
	for _, r := range rows {
		out[r.Lane] = span.Of(r.At)
	}
	return out, err
}

// Outcome is what came of a measurement.
type Outcome struct {
	At span.Instant
	Of measure.Outcome
}

// Outcomes are those of a lane from an instant on, oldest first, errors left out.
func Outcomes(ctx context.Context, q *db.Queries, lane int32, from span.Instant) ([]Outcome, error) {
	rows, err := q.OutcomesFrom(ctx, db.OutcomesFromParams{Lane: lane, Since: from.Time()})
	out := make([]Outcome, len(rows))
	for i, r := range rows {
		out[i] = Outcome{span.Of(r.At), measure.Outcome(r.Outcome)}
	}
	return out, err
}

// Before is when a lane was measured last before an instant and not before another,
// errors left out; false where it was not.
func Before(ctx context.Context, q *db.Queries, lane int32, since, before span.Instant) (span.Instant, bool, error) {
	at, err := q.RawBefore(ctx, db.RawBeforeParams{Lane: lane, Since: since.Time(), Before: before.Time()})
	return span.Of(at), span.Of(at) >= since, err
}

// Instants are those at which a lane was measured from one to another, both included,
// errors left out, in no order.
func Instants(ctx context.Context, q *db.Queries, lane int32, from, to span.Instant) ([]span.Instant, error) {
	rows, err := q.InstantsBetween(ctx, db.InstantsBetweenParams{Lane: lane, Since: from.Time(), Until: to.Time()})
	out := make([]span.Instant, len(rows))
	for i, at := range rows {
		out[i] = span.Of(at)
	}
	return out, err
}

// At says whether a lane was measured at an instant.
func At(ctx context.Context, q *db.Queries, lane int32, at span.Instant) (bool, error) {
	return q.HasRaw(ctx, db.HasRawParams{Lane: lane, At: at.Time()})
}

// Any says whether a lane was measured from one instant on to before another.
func Any(ctx context.Context, q *db.Queries, lane int32, from, before span.Instant) (bool, error) {
	return q.HasRawBetween(ctx, db.HasRawBetweenParams{Lane: lane, Since: from.Time(), Before: before.Time()})
}
