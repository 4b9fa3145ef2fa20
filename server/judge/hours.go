package judge

import (
	"context"
	"math"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/measure"
	"kestite/server/catalogue"
	"kestite/server/store/gen/db"
)

var nan = math.NaN()

// Hour sums up one hour of a lane's measurements.
type Hour struct {
	Count, Degraded, Failed, Error int32
	Low, Mean, High                float64
	Sketch                         measure.Sketch
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
	if v != v || o == measure.Failed {
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

// Hours makes the summaries that are due again from raw measurements.
func (j *Judge) Hours(ctx context.Context) error {
	const atOnce = 500
	for {
		snap, err := j.Catalogue.Snapshot(ctx)
		if err != nil {
			return err
		}
		lanes, err := j.Store.Lanes(ctx)
		if err != nil {
			return err
		}
		leading := map[int32]int{}
		for _, l := range lanes {
			leading[l.ID] = leadingOf(snap, l.CheckID)
		}
		taken := 0
		err = j.Store.Tx(ctx, func(_ pgx.Tx, q *db.Queries) error {
			due, err := q.TakeHoursDue(ctx, atOnce)
			if err != nil {
				return err
			}
			taken = len(due)
			for _, d := range due {
				if err := hour(ctx, q, d.Lane, d.HourAt, leading[d.Lane]); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil || taken < atOnce {
			return err
		}
	}
}

func leadingOf(snap *catalogue.Snapshot, check string) int {
	if e := snap.Checks[check]; e != nil {
		if kind, ok := measure.KindNamed(e.Current().Spec.Kind); ok {
			return kind.Leading
		}
	}
	return 0
}

func hour(ctx context.Context, q *db.Queries, lane int32, at time.Time, leading int) error {
	rows, err := q.MeasurementsOf(ctx, db.MeasurementsOfParams{Lane: lane, At: at, At_2: at.Add(time.Hour)})
	if err != nil {
		return err
	}
	var h Hour
	for _, r := range rows {
		v := nan
		if leading < len(r.Measures) {
			v = float64(r.Measures[leading])
		}
		h.Add(measure.Outcome(r.Outcome), v)
	}
	return q.PutHour(ctx, h.Row(lane, at))
}
