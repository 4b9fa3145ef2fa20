package judge

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/catalogue"
	"kestite/core/closing"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/server/store/gen/db"
	"kestite/server/store/raw"
)

// Hour sums up one hour of a lane's measurements.
type Hour struct {
	Count, Degraded, Failed, Error int32
	Low, Mean, High                float64
	Sketch                         measure.Sketch
	Late, Unsure, WorstMS          int32 // see core/closing
	sum                            float64
	valued                         int
}

// Add counts one measurement; v is the kind's leading measure, NaN where there is none.
func (h *Hour) Add(o measure.Outcome, v float64) {
	switch o {
	case measure.Error:
		h.Error++
		return
	case measure.Degraded:
		h.Degraded++
	case measure.Failed:
		h.Failed++
	}
	h.Count++
	if !measure.Usable(v) || o == measure.Failed {
		return
	}
	if h.valued == 0 || v < h.Low {
		h.Low = v
	}
	if h.valued == 0 || v > h.High {
		h.High = v
	}
	h.valued++
	h.sum += v
	h.Mean = h.sum / float64(h.valued)
	h.Sketch.Add(v)
}

// Row returns the hour as stored.
func (h *Hour) Row(lane int32, at time.Time) db.PutHourParams {
	sketch, _ := h.Sketch.MarshalBinary()
	row := db.PutHourParams{Lane: lane, HourAt: at, Count: h.Count, Degraded: h.Degraded, Failed: h.Failed, Error: h.Error, Sketch: sketch}
	if sketch == nil {
		row.Sketch = []byte{}
	}
	if h.valued > 0 {
		low, mean, high := float32(h.Low), float32(h.Mean), float32(h.High)
		row.Low, row.Mean, row.High = &low, &mean, &high
	}
	return row
}

// settling is how long after its end an hour is summed up: servers' clocks differ,
// and most that is late is so by seconds.
const settling = 2 * time.Minute

// Hours makes the summaries of hours that are over and due, from raw
// measurements: in small pieces, so that nobody who stores waits for long.
func (j *Judge) Hours(ctx context.Context) error {
	const piece = 50
	snap, err := j.Definitions.Snapshot(ctx)
	if err != nil {
		return err
	}
	leading, err := j.leading(ctx, snap)
	if err != nil {
		return err
	}
	before := j.Now().Add(-time.Hour - settling)
	for {
		taken := 0
		err = j.Store.Tx(ctx, func(_ pgx.Tx, q *db.Queries) error {
			due, err := q.TakeHoursDue(ctx, db.TakeHoursDueParams{Before: before, Most: piece})
			if err != nil {
				return err
			}
			taken = len(due)
			slices.SortFunc(due, func(a, b db.HourDue) int {
				return cmp.Or(cmp.Compare(a.Lane, b.Lane), a.HourAt.Compare(b.HourAt))
			})
			for _, d := range due {
				h, err := HourOf(ctx, q, d.Lane, d.HourAt, leading[d.Lane])
				if err != nil {
					return err
				}
				if err := put(ctx, q, h, d.Lane, d.HourAt); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil || taken < piece {
			return err
		}
	}
}

// leading is the index of the measure that summaries follow, by lane.
func (j *Judge) leading(ctx context.Context, snap *catalogue.Snapshot) (map[int32]int, error) {
	lanes, err := j.Store.Lanes(ctx)
	if err != nil {
		return nil, err
	}
	out := make(map[int32]int, len(lanes))
	for _, l := range lanes {
		out[l.ID] = 0
		if e := snap.Checks[l.CheckID]; e != nil {
			kind, _ := measure.KindNamed(e.Current().Spec.Kind)
			out[l.ID] = kind.Leading
		}
	}
	return out, nil
}

// HourOf sums up an hour of a lane from its raw measurements; leading is the
// index of the measure that summaries follow.
func HourOf(ctx context.Context, q *db.Queries, lane int32, at time.Time, leading int) (*Hour, error) {
	rows, err := raw.During(ctx, q, lane, span.Of(at), span.Of(at.Add(time.Hour)))
	if err != nil {
		return nil, err
	}
	h := new(Hour)
	for _, r := range rows {
		h.Add(r.Outcome, r.Value(leading))
		if int64(r.DelayS)*span.Second > closing.LateMS {
			h.Late++
		}
		if r.Clock != nil && int64(r.Clock.Uncertain) > closing.UnsureMS {
			h.Unsure++
			h.WorstMS = max(h.WorstMS, r.Clock.Uncertain)
		}
	}
	return h, nil
}

// Heal takes out of what earlier versions stored the numbers that are none: a
// few lanes at a time, a transaction each, and says whether it is done. A
// summary whose raw measurements are gone keeps its counts and loses its values.
func (j *Judge) Heal(ctx context.Context) (done bool, err error) {
	const name, piece = "numbers", 20
	state, err := j.Store.Healing(ctx, name)
	if err != nil || state.DoneAt != nil {
		return err == nil, err
	}
	snap, err := j.Definitions.Snapshot(ctx)
	if err != nil {
		return false, err
	}
	leading, err := j.leading(ctx, snap)
	if err != nil {
		return false, err
	}
	reached, _ := strconv.Atoi(state.Reached)
	lanes := slices.Sorted(maps.Keys(leading))
	lanes = slices.DeleteFunc(lanes, func(l int32) bool { return int(l) <= reached })
	for _, lane := range lanes[:min(piece, len(lanes))] {
		if err := j.Store.Tx(ctx, func(_ pgx.Tx, q *db.Queries) error { return heal(ctx, q, lane, leading[lane]) }); err != nil {
			return false, fmt.Errorf("heal lane %d: %w", lane, err)
		}
		reached = int(lane)
	}
	var at *time.Time
	if len(lanes) <= piece {
		now := j.Now()
		at = &now
	}
	return at != nil, j.Store.HealingReached(ctx, db.HealingReachedParams{Name: name, Reached: strconv.Itoa(reached), DoneAt: at})
}

func heal(ctx context.Context, q *db.Queries, lane int32, leading int) error {
	if _, err := q.HealMeasurements(ctx, lane); err != nil {
		return err
	}
	hours, err := q.UnsoundHours(ctx, lane)
	if err != nil {
		return err
	}
	for _, at := range hours {
		there, err := raw.Any(ctx, q, lane, span.Of(at), span.Of(at.Add(time.Hour)))
		if err != nil {
			return err
		}
		if !there {
			if err := q.ClearHour(ctx, db.ClearHourParams{Lane: lane, HourAt: at}); err != nil {
				return err
			}
			continue
		}
		h, err := HourOf(ctx, q, lane, at, leading)
		if err != nil {
			return err
		}
		if err := put(ctx, q, h, lane, at); err != nil {
			return err
		}
	}
	return nil
}

// put keeps an hour, and what of it is doubtful.
func put(ctx context.Context, q *db.Queries, h *Hour, lane int32, at time.Time) error {
	if err := q.PutHour(ctx, h.Row(lane, at)); err != nil {
		return err
	}
	if h.Late+h.Unsure == 0 {
		return q.DropDoubt(ctx, db.DropDoubtParams{Lane: lane, HourAt: at})
	}
	return q.PutDoubt(ctx, db.PutDoubtParams{Lane: lane, HourAt: at, Late: h.Late, Unsure: h.Unsure, WorstMs: h.WorstMS})
}
