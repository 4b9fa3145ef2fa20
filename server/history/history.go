// Package history loads stretches from the store for the rules of core/ to work
// on: accounts of agreements, and the states of services.
package history

import (
	"context"
	"errors"
	"maps"
	"math"
	"slices"
	"time"

	"kestite/core/account"
	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/core/verdict"
	"kestite/server/defining"
	"kestite/server/lanes"
	"kestite/server/store"
	"kestite/server/store/gen/db"
	"kestite/server/store/raw"
)

// LaneKey names a lane.
type LaneKey struct{ Check, Location string }

// Stretches are those of some lanes over some time.
type Stretches map[LaneKey][]verdict.Stretch

// Loaded are stretches as judged, and as they were before a rolling rule judged them.
type Loaded struct {
	Stretches
	raw Stretches
}

// Sources are those of an explanation.
func (l Loaded) Sources() verdict.Sources {
	return verdict.Sources{Judged: l.Source, Raw: func(check, location string) []verdict.Stretch {
		if list, rolled := l.raw[LaneKey{check, location}]; rolled {
			return list
		}
		return l.Source(check, location)
	}}
}

// Source is the verdict.Source of these stretches.
func (s Stretches) Source(check, location string) []verdict.Stretch {
	return s[LaneKey{check, location}]
}

// Ending says how measurements that wait for confirmation are read.
type Ending bool

const (
	// Accounted reads them as the account does when the data ends there.
	Accounted Ending = false
	// Live reads them as still being in the state before them.
	Live Ending = true
)

// Incomputable says whether an error lies in what is defined or kept, and not in
// reaching it: one definition's or one lane's, that concerns no others.
func Incomputable(err error) bool {
	var fault *definition.Fault
	var lane *lanes.BrokenError
	return errors.As(err, &fault) || errors.As(err, &lane)
}

// margin is how far beyond a time is loaded. A live state follows from what was
// measured no longer ago than a measurement holds; but what a rolling rule believes
// goes farther back.
func (e Ending) margin(bundle *definition.Compiled) int64 {
	if e == Accounted {
		return catalogue.Margin
	}
	holds := int64(0)
	for _, revisions := range bundle.Checks {
		if verdict.Revisions(revisions).Rolls() {
			return catalogue.Margin
		}
		for _, c := range revisions {
			holds = max(holds, c.StaleAfterS*span.Second)
		}
	}
	return min(holds+span.Minute, catalogue.Margin)
}

// Load returns the stretches of a bundle's checks that touch within, extended by
// catalogue.Margin, or as far as live states need. Memory may be nil.
func Load(ctx context.Context, q *db.Queries, memory *lanes.Memory, bundle *definition.Compiled, within span.Span,
	ending Ending) (Loaded, error) {
	margin := ending.margin(bundle)
	checks := slices.Collect(maps.Keys(bundle.Checks))
	list, err := memory.Load(ctx, q, checks, within.From.Add(-margin), within.To.Add(margin))
	if err != nil {
		return Loaded{}, err
	}
	out := Loaded{make(Stretches, len(list)), Stretches{}}
	rolling := map[string]map[string][]verdict.Stretch{}
	for _, l := range list {
		series := l.Kept.Series
		if p := series.Pending; len(p) > 0 && p[0].First < within.To.Add(margin) {
			l.Stretches = slices.Clone(l.Stretches) // the last may grow
			if ending == Live {
				l.Stretches = series.Waiting(l.Stretches)
			} else {
				l.Stretches = series.AtEnd(l.Stretches)
			}
		}
		out.Stretches[LaneKey{l.Check, l.Location}] = l.Stretches
		if verdict.Revisions(bundle.Checks[l.Check]).Rolls() {
			if rolling[l.Check] == nil {
				rolling[l.Check] = map[string][]verdict.Stretch{}
			}
			rolling[l.Check][l.Location] = l.Stretches
		}
	}
	for check, raw := range rolling {
		for location, list := range verdict.Roll(bundle.Checks[check], raw, bool(ending)) {
			out.raw[LaneKey{check, location}], out.Stretches[LaneKey{check, location}] = raw[location], list
		}
	}
	return out, nil
}

// Doubted counts the failures of a lane within the present window of its
// check's rolling rule that the rule does not believe; 0 without such a rule.
func Doubted(bundle *definition.Compiled, check string, list []verdict.Stretch, now span.Instant) int64 {
	c := verdict.Revisions(bundle.Checks[check]).Valid(now)
	if c == nil || c.Rolling == nil {
		return 0
	}
	return verdict.Doubted(list, now.Add(-c.Rolling.WindowS*span.Second))
}

// Books makes accounts from the store.
type Books struct {
	Store       *store.Store
	Definitions *defining.Definitions
	Memory      *lanes.Memory // nil remembers nothing
}

// Period is a period accounted for some agreements, with all it was made from.
type Period struct {
	Calendar  calendar.Period
	Bundle    *definition.Compiled
	Stretches Loaded
	Evidence  *account.Evidence
	Mark      string // of the definitions it was made by, where that matters
}

// Open loads a period for services and agreements, accounted up to now where it
// is not over. Without agreements it is good for states alone.
func (b *Books) Open(ctx context.Context, snap *catalogue.Snapshot, period calendar.Period, now span.Instant, services,
	agreements []string) (*Period, error) {
	return b.open(ctx, snap, period, now, services, agreements, len(agreements) > 0)
}

// OpenFor is Open for services and clauses that no agreement has yet.
func (b *Books) OpenFor(ctx context.Context, snap *catalogue.Snapshot, period calendar.Period, now span.Instant,
	services []string) (*Period, error) {
	return b.open(ctx, snap, period, now, services, nil, true)
}

func (b *Books) open(ctx context.Context, snap *catalogue.Snapshot, period calendar.Period, now span.Instant,
	services, agreements []string, windows bool) (*Period, error) {
	var asOf *span.Instant
	if when := period.Span(); now < when.To {
		at := max(now, when.From)
		asOf = &at
	}
	bundle, err := snap.Bundle(period, asOf, services, agreements, windows)
	if err != nil {
		return nil, err
	}
	stretches, err := Load(ctx, b.Store.Queries, b.Memory, bundle, bundle.Span, Accounted)
	if err != nil {
		return nil, err
	}
	p := &Period{Calendar: period, Bundle: bundle, Stretches: stretches}
	p.Evidence = account.NewEvidence(bundle, stretches.Source, b.timing(ctx, bundle))
	return p, nil
}

// timing counts answered measurements in the store, for latency objectives.
func (b *Books) timing(ctx context.Context, bundle *definition.Compiled) account.Timing {
	return func(check string, limit int64, counted func(span.Instant) bool) (measurements, within int64, err error) {
		lanes, err := b.Store.LanesOfChecks(ctx, []string{check})
		if err != nil {
			return 0, 0, err
		}
		kind, _ := measure.KindNamed(bundle.Checks[check][0].Kind)
		total := kind.Index("total_ms")
		for _, l := range lanes {
			rows, err := raw.During(ctx, b.Store.Queries, l.ID, bundle.Span.From, bundle.Span.To)
			if err != nil {
				return 0, 0, err
			}
			for _, r := range rows {
				v := r.Value(total)
				if r.Outcome != measure.OK && r.Outcome != measure.Degraded || math.IsNaN(v) {
					continue
				}
				if counted(r.At) {
					measurements++
					if measure.Thousandths(v) <= limit {
						within++
					}
				}
			}
		}
		return measurements, within, nil
	}
}

// Account makes the account of one agreement for the period of that name. The
// error is a *definition.Fault of period where it has no such period, or that has
// not begun.
func (b *Books) Account(ctx context.Context, agreement, period string, now time.Time) (*account.Account, *Period, error) {
	snap, err := b.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, nil, err
	}
	if snap.Agreements[agreement] == nil {
		return nil, nil, catalogue.ErrNotFound
	}
	when, err := snap.PeriodNamed(agreement, period)
	if err != nil {
		return nil, nil, err
	}
	if when.Span().From > span.Of(now) {
		return nil, nil, definition.Faultf("period", "%s has not begun; take the present period or an earlier one", when.Words())
	}
	p, err := b.Open(ctx, snap, when, span.Of(now), nil, []string{agreement})
	if err != nil {
		return nil, nil, err
	}
	p.Mark = snap.Mark
	list, err := p.Evidence.All()
	if err != nil {
		return nil, nil, err
	}
	return list[0], p, nil
}
