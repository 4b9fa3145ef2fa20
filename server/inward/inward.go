// Package inward makes the measurements that no agent makes: of checks that
// other systems report in to, and of checks derived from others' measures.
package inward

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"kestite/agent/wire"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/server/defining"
	"kestite/server/ingest"
	"kestite/server/store"
	"kestite/server/store/raw"
)

// Inward makes them. It is safe for concurrent use, and several servers may do
// so at once: a measurement's instant follows from the definitions alone, and
// what limits over time remember from what is stored.
type Inward struct {
	Store       *store.Store
	Definitions *defining.Definitions
	Ingest      *ingest.Ingest
	Now         func() time.Time
}

// Take makes a measurement of a report. The error is a *definition.Fault where
// the report is at fault.
func (in *Inward) Take(ctx context.Context, check string, r Report) error {
	snap, err := in.Definitions.Snapshot(ctx)
	if err != nil {
		return err
	}
	e := snap.Checks[check]
	if e == nil || e.Retired {
		return catalogue.ErrRetired
	}
	spec := e.Current().Spec
	m := wire.Measurement{Check: check, Detail: r.Detail}
	var names []string
	if spec.ReportIn != nil {
		names = spec.ReportIn.Numbers
	}
	if m.Outcome, m.Measures, err = r.Says(names); err != nil {
		return err
	}
	return in.Store.InTurn(ctx, "report in to "+check, func(ctx context.Context) error {
		m.At = span.Of(in.Now())
		last, err := in.last(ctx, check, m.At)
		if err != nil {
			return err
		}
		if last != nil {
			m.Measures[measure.ReportIn.Measures[0].Name] = float64(m.At-last.At) / float64(span.Second)
		}
		if err := in.rate(ctx, &m, spec); err != nil {
			return err
		}
		return in.put(ctx, m)
	})
}

// rate applies the limits to a measurement that is not stored yet.
func (in *Inward) rate(ctx context.Context, m *wire.Measurement, spec definition.CheckSpec) error {
	kind, _ := measure.KindNamed(spec.Kind)
	values := kind.None()
	for name, v := range m.Measures {
		values[kind.Index(name)] = v
	}
	memory, err := in.memory(ctx, m.Check, kind, m.At, spec)
	if err != nil {
		return err
	}
	timed, why := memory.Rate(kind, int64(m.At), values, spec.Limits)
	once, because := kind.Rate(values, spec.Limits)
	if timed > once {
		once, because = timed, why
	}
	if once > m.Outcome {
		m.Outcome, m.Detail = once, because
	}
	return nil
}

// errorsBetween is how many errors may lie between two measurements that are looked for.
const errorsBetween = 20

// mostRemembered is how many measurements limits over time look back at.
const mostRemembered = 10_000

// memory is what limits over time remember of the measurements of a check before
// an instant: read from what is stored, so that every server remembers the same.
func (in *Inward) memory(ctx context.Context, check string, kind measure.Kind, before span.Instant, spec definition.CheckSpec) (*measure.Memory, error) {
	memory := &measure.Memory{Gap: spec.StaleAfterS * span.Second}
	most, row := int64(0), 0
	for _, l := range spec.Limits {
		if l.Timed() {
			most, row = max(most, l.ForS, l.MeanS), max(row, l.InARow, 2)
		}
	}
	if row == 0 {
		return memory, nil
	}
	lanes, err := in.Store.LanesOfChecks(ctx, []string{check})
	if err != nil || len(lanes) == 0 {
		return memory, err
	}
	latest := func(from, to span.Instant, most int) ([]raw.Row, error) {
		return raw.Latest(ctx, in.Store.Queries, lanes[0].ID, from, to, most)
	}
	// All that lies in the time looked at, and before it as many as may have to be
	// broken in a row, or as many as may have to be looked through for one that is no
	// error: whatever was earlier changes nothing.
	edge := before.Add(-most * span.Second)
	rows, err := latest(edge+1, before-1, mostRemembered)
	if err != nil {
		return memory, err
	}
	earlier, err := latest(before.Add(-store.RawDays*span.Day), edge, max(errorsBetween, row-len(rows)))
	if err != nil {
		return memory, err
	}
	rows = append(rows, earlier...)
	slices.Reverse(rows)
	for _, r := range rows {
		if r.Outcome != measure.Error {
			memory.Rate(kind, int64(r.At), r.Values(), spec.Limits)
		}
	}
	return memory, nil
}

func (in *Inward) put(ctx context.Context, m wire.Measurement) error {
	receipt, err := in.Ingest.Batch(ctx, definition.Server, "", []wire.Measurement{m})
	if err == nil && len(receipt.Refused) > 0 {
		err = fmt.Errorf("the measurement of %s was refused: %s", m.Check, receipt.Refused[0].Reason)
	}
	return err
}

// Due makes the measurements that are due: derived values, and failures where a
// report stayed away.
func (in *Inward) Due(ctx context.Context) error {
	snap, err := in.Definitions.Snapshot(ctx)
	if err != nil {
		return err
	}
	since, err := in.Store.There(ctx, in.Now())
	if err != nil {
		return err
	}
	var failed error
	for _, id := range catalogue.Live(snap.Checks) {
		r := snap.Checks[id].Current()
		switch r.Spec.Kind {
		case measure.Derived.Name:
			err = in.derive(ctx, snap, id, r)
		case measure.ReportIn.Name:
			err = in.silence(ctx, id, r.Spec, span.Of(since))
		default:
			continue
		}
		if err != nil && failed == nil {
			failed = fmt.Errorf("measure %s: %w", id, err)
		}
	}
	return failed
}

// last is the latest measurement of a check on the server at or before i, errors
// included, within its year; nil where there is none.
func (in *Inward) last(ctx context.Context, check string, i span.Instant) (*raw.Row, error) {
	lanes, err := in.Store.LanesOfChecks(ctx, []string{check})
	if err != nil || len(lanes) == 0 {
		return nil, err
	}
	rows, err := raw.Latest(ctx, in.Store.Queries, lanes[0].ID, i.Add(-store.RawDays*span.Day), i, 1)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	return &rows[0], nil
}

// silence makes a failure of a report that did not come within the interval and
// the grace, which is the timeout; one more after each interval. A check that
// nobody reported to yet is awaited. Since when some server has been there to
// hear reports is heard.
func (in *Inward) silence(ctx context.Context, check string, spec definition.CheckSpec, heard span.Instant) error {
	now := span.Of(in.Now())
	last, err := in.last(ctx, check, now)
	if err != nil || last == nil {
		return err
	}
	due := last.At.Add(spec.IntervalS * span.Second)
	if !strings.HasPrefix(last.Detail, silent) {
		due = due.Add(spec.TimeoutMS)
	}
	if due > now {
		return nil
	}
	m := wire.Measurement{Check: check, At: due, Outcome: measure.Failed, Detail: fmt.Sprintf("%s %d s and %.0f s of grace", silent, spec.IntervalS, float64(spec.TimeoutMS)/1000)}
	if due < heard {
		m.Outcome, m.Detail = measure.Error, silent+" the time; no server was there to hear it"
	}
	return in.put(ctx, m)
}

// silent begins the detail of a measurement made of silence.
const silent = "no report within"

// derive makes the measurement of a derived check that is due.
func (in *Inward) derive(ctx context.Context, snap *catalogue.Snapshot, check string, r catalogue.Revision[definition.CheckSpec]) error {
	step := r.Spec.IntervalS * span.Second
	at := span.Instant(int64(span.Of(in.Now())) / step * step)
	if at < r.From {
		return nil
	}
	last, err := in.last(ctx, check, at)
	if err != nil || last != nil && last.At == at {
		return err
	}
	m := wire.Measurement{Check: check, At: at, Outcome: measure.OK, LateMS: int64(span.Of(in.Now()) - at)}
	values, missing, err := in.sources(ctx, snap, r.Spec.Derived, at)
	switch {
	case err != nil:
		return err
	case missing != "":
		m.Outcome, m.Detail = measure.Error, missing
	default:
		v, err := r.Spec.Derived.Value(values)
		if err != nil {
			m.Outcome, m.Detail = measure.Error, err.Error()
			break
		}
		m.Measures = map[string]float64{"value": v, "sources": float64(len(values))}
		if err := in.rate(ctx, &m, r.Spec); err != nil {
			return err
		}
	}
	return in.put(ctx, m)
}

// sources are the values of a derived check's sources at an instant, or in words what is missing.
func (in *Inward) sources(ctx context.Context, snap *catalogue.Snapshot, set *definition.DerivedSettings, at span.Instant) (values []float64, missing string, err error) {
	for _, s := range set.Sources {
		e := snap.Checks[s.Check]
		if e == nil {
			return nil, fmt.Sprintf("there is no check %q", s.Check), nil
		}
		v, fresh, err := in.fresh(ctx, e.Current().Spec, s, at)
		if err != nil {
			return nil, "", err
		}
		if !fresh {
			spec := e.Current().Spec
			return nil, fmt.Sprintf("no value of %s of %q within its %d s", s.Measure, spec.Name, spec.StaleAfterS), nil
		}
		values = append(values, v)
	}
	return values, "", nil
}

// fresh is the mean of a measure's latest values at each location, stale ones left out.
func (in *Inward) fresh(ctx context.Context, spec definition.CheckSpec, s definition.Source, at span.Instant) (float64, bool, error) {
	kind, _ := measure.KindNamed(spec.Kind)
	index := kind.Index(s.Measure)
	lanes, err := in.Store.LanesOfChecks(ctx, []string{s.Check})
	if err != nil {
		return 0, false, err
	}
	sum, n := 0.0, 0
	for _, l := range lanes {
		if s.Location != "" && l.Location != s.Location || !slices.Contains(spec.Locations, l.Location) {
			continue
		}
		rows, err := raw.Latest(ctx, in.Store.Queries, l.ID, at.Add(-spec.StaleAfterS*span.Second), at, errorsBetween)
		if err != nil {
			return 0, false, err
		}
		for _, r := range rows {
			if r.Outcome == measure.Error {
				continue
			}
			if v := r.Value(index); !math.IsNaN(v) {
				sum += v
				n++
			}
			break
		}
	}
	return sum / float64(max(1, n)), n > 0, nil
}
