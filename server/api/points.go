package api

import (
	"context"
	"slices"
	"time"

	"kestite/core/measure"
	"kestite/core/span"
	"kestite/server/judge"
	"kestite/server/lanes"
	"kestite/server/store/gen/db"
	"kestite/server/store/raw"
)

// PointView sums up a time of the leading measure, in its unit: an hour, or in short
// bands less.
type PointView struct {
	At     span.Instant `json:"at" doc:"When it begins"`
	Count  int32        `json:"count"`
	Failed int32        `json:"failed"`
	Mean   *float32     `json:"mean"`
	P95    *float64     `json:"p95"`
}

func (s *Server) laneDetail(ctx context.Context, v *LaneView, lane db.Lane, kind measure.Kind, when span.Span) error {
	kept, err := lanes.Of(lane)
	if err != nil {
		return err
	}
	v.Waiting = kept.Series.PendingCount()
	if v.Last, err = s.sample(ctx, lane.ID, kind, when.To); err != nil {
		return err
	}
	if when.Length() <= shortSpan {
		v.Points, v.StepMS, err = s.shortPoints(ctx, lane.ID, kind, when)
		return err
	}
	v.StepMS = span.Hour
	hours, err := s.Store.Hours(ctx, db.HoursParams{Column1: []int32{lane.ID}, HourAt: when.From.Time(), HourAt_2: when.To.Time()})
	if err != nil {
		return err
	}
	for _, h := range hours {
		view := PointView{At: span.Of(h.HourAt), Count: h.Count, Failed: h.Failed, Mean: sound(h.Mean)}
		var sketch measure.Sketch
		if sketch.UnmarshalBinary(h.Sketch) == nil {
			view.P95 = p95(sketch)
		}
		v.Points = append(v.Points, view)
	}
	running, err := s.runningHours(ctx, lane.ID, kind, v.Points, when)
	if err != nil {
		return err
	}
	v.Points = append(v.Points, running...)
	return nil
}

// shortSpan is how long a band is at most whose curves are made of measurements.
const shortSpan = 12 * span.Hour

// mostPoints is how many points a curve has at most.
const mostPoints = 600

// shortPoints are the measurements of a lane in a short time, summed up where they are many.
func (s *Server) shortPoints(ctx context.Context, lane int32, kind measure.Kind, when span.Span) (points []PointView, stepMS int64,
	err error) {
	rows, err := raw.During(ctx, s.Store.Queries, lane, when.From, when.To)
	if err != nil {
		return nil, 0, err
	}
	if len(rows) > mostPoints {
		stepMS = (when.Length()/mostPoints/span.Second + 1) * span.Second
	}
	points = []PointView{}
	for len(rows) > 0 {
		n, at := 1, rows[0].At
		if stepMS > 0 {
			at = when.From.Add(int64(at-when.From) / stepMS * stepMS)
			for n < len(rows) && rows[n].At < at.Add(stepMS) {
				n++
			}
		}
		points = append(points, pointOf(at, rows[:n], kind.Leading))
		rows = rows[n:]
	}
	return points, stepMS, nil
}

// pointOf sums up some measurements.
func pointOf(at span.Instant, rows []raw.Row, leading int) PointView {
	out := PointView{At: at, Count: int32(len(rows))}
	var values []float64
	for i := range rows {
		if rows[i].Outcome == measure.Failed || rows[i].Outcome == measure.Error {
			out.Failed++
		}
		if v := rows[i].Value(leading); measure.Usable(v) {
			values = append(values, v)
		}
	}
	if len(values) == 0 {
		return out
	}
	slices.Sort(values)
	sum := 0.0
	for _, v := range values {
		sum += v
	}
	mean := float32(sum / float64(len(values)))
	high := values[(len(values)*95+99)/100-1]
	out.Mean, out.P95 = sound(&mean), &high
	return out
}

// sound is a stored value; nil where it is no number that a measure may have.
func sound(v *float32) *float32 {
	if v == nil || !measure.Usable(float64(*v)) {
		return nil
	}
	return v
}

func p95(s measure.Sketch) *float64 {
	if s.Count() == 0 {
		return nil
	}
	v := s.Quantile(0.95)
	if !measure.Usable(v) {
		return nil
	}
	return &v
}

// runningHours sums up the hours that no summary is made of yet: the running
// one, and the one before it while late measurements are awaited.
func (s *Server) runningHours(ctx context.Context, lane int32, kind measure.Kind, made []PointView, when span.Span) ([]PointView, error) {
	var out []PointView
	running := span.Of(s.Now().Truncate(time.Hour))
	for _, at := range []span.Instant{running.Add(-span.Hour), running} {
		isMade := slices.ContainsFunc(made, func(h PointView) bool { return h.At == at })
		if isMade || !when.Contains(at) {
			continue
		}
		h, err := judge.HourOf(ctx, s.Store.Queries, lane, at.Time(), kind.Leading)
		if err != nil {
			return nil, err
		}
		if h.Count > 0 {
			row := h.Row(lane, at.Time())
			out = append(out, PointView{At: at, Count: h.Count, Failed: h.Failed, Mean: row.Mean, P95: p95(h.Sketch)})
		}
	}
	return out, nil
}
