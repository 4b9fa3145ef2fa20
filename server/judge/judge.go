// Package judge keeps the live state of every service: judged when a series of
// one of its checks changed or fell silent.
package judge

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/calendar"
	"kestite/core/span"
	"kestite/core/verdict"
	"kestite/server/catalogue"
	"kestite/server/history"
	"kestite/server/store"
	"kestite/server/store/gen/db"
)

// Judge judges services.
type Judge struct {
	Store     *store.Store
	Catalogue *catalogue.Catalogue
	Now       func() time.Time
}

// lookBack is how far back the beginning of the present state is looked for; a
// state that is older keeps the beginning stored before, or is looked for
// farBack where none is stored.
const (
	lookBack = 30 * span.Day
	farBack  = 3660 * span.Day
)

// Services judges the services named and all that depend on them.
func (j *Judge) Services(ctx context.Context, services []string) error {
	snap, err := j.Catalogue.Snapshot(ctx)
	if err != nil {
		return err
	}
	affected := snap.Affected(services...)
	if len(affected) == 0 {
		return nil
	}
	now := span.Of(j.Now())
	states, doubted, err := j.states(ctx, snap, affected, now, lookBack)
	if err != nil {
		return fmt.Errorf("judge %v: %w", affected, err)
	}
	waiting, err := j.waiting(ctx, snap, affected, doubted)
	if err != nil {
		return err
	}
	known, err := j.Store.States(ctx)
	if err != nil {
		return err
	}
	before := map[string]db.StandingState{}
	for _, s := range known {
		before[s.Service] = s
	}
	for _, id := range affected {
		line := states[id]
		put := db.PutStateParams{
			Service: id, State: int16(line.At(now)[verdict.Nominal]), JudgedAt: now.Time(), Waiting: int32(waiting[id]),
		}
		since := nominal(line).Since(now)
		if edge := now.Add(-lookBack); since <= edge {
			if b, ok := before[id]; ok && b.State == put.State && span.Of(b.SinceAt) <= edge {
				since = span.Of(b.SinceAt)
			} else if far, _, err := j.states(ctx, snap, []string{id}, now, farBack); err != nil {
				return fmt.Errorf("judge %s: %w", id, err)
			} else {
				since = nominal(far[id]).Since(now)
			}
		}
		if put.State == int16(verdict.Down) {
			if put.NeverGood, err = j.neverGood(ctx, snap, id); err != nil {
				return err
			}
		}
		since = max(since, snap.Services[id].Revisions[0].From)
		put.SinceAt = since.Time()
		if err := j.Store.PutState(ctx, put); err != nil {
			return err
		}
	}
	return store.Notify(ctx, j.Store.Pool, store.Change{Kind: "state", IDs: affected})
}

// neverGood says whether a service that is down has checks of which none was
// ever good.
func (j *Judge) neverGood(ctx context.Context, snap *catalogue.Snapshot, service string) (bool, error) {
	checks := snap.ChecksOf[service]
	if len(checks) == 0 {
		return false, nil
	}
	good, err := j.Store.EverGood(ctx, checks)
	return !good, err
}

func nominal(line span.Timeline[verdict.Views]) span.Timeline[verdict.State] {
	return span.Map(line, func(v verdict.Views) verdict.State { return v[verdict.Nominal] })
}

// states returns the live states of services since back before now, and by
// check how many failures its rolling rule does not believe yet.
func (j *Judge) states(ctx context.Context, snap *catalogue.Snapshot, services []string, now span.Instant, back int64) (map[string]span.Timeline[verdict.Views], map[string]int64, error) {
	today := calendar.Period{Location: time.UTC, Start: calendar.WallAt(now.Add(-back), time.UTC), End: calendar.WallAt(now.Add(span.Minute), time.UTC)}
	bundle, err := snap.Bundle(today, nil, services, nil)
	if err != nil {
		return nil, nil, err
	}
	stretches, err := history.Load(ctx, j.Store, bundle, span.Span{From: now.Add(-back), To: now}, history.Live)
	if err != nil {
		return nil, nil, err
	}
	doubted := map[string]int64{}
	for key, list := range stretches {
		doubted[key.Check] += history.Doubted(bundle, key.Check, list, now)
	}
	return verdict.Services(bundle, stretches.Source), doubted, nil
}

// waiting counts the measurements of services that are not confirmed yet;
// doubted are those that a rolling rule does not believe, by check.
func (j *Judge) waiting(ctx context.Context, snap *catalogue.Snapshot, services []string, doubted map[string]int64) (map[string]int64, error) {
	var checks []string
	for _, s := range services {
		checks = append(checks, snap.ChecksOf[s]...)
	}
	lanes, err := j.Store.LanesOfChecks(ctx, checks)
	if err != nil {
		return nil, err
	}
	out := map[string]int64{}
	for _, id := range checks {
		out[snap.Checks[id].Current().Spec.Service] += doubted[id]
	}
	for _, l := range lanes {
		series, err := history.SeriesOf(l)
		if err != nil {
			return nil, err
		}
		out[snap.Checks[l.CheckID].Current().Spec.Service] += series.PendingCount()
	}
	return out, nil
}

// Stale judges the services whose checks fell silent since it was last called.
// That they did is noted only together with the judging, so that a failure in
// between is made good by the next call.
func (j *Judge) Stale(ctx context.Context) error {
	return j.Store.Tx(ctx, func(_ pgx.Tx, q *db.Queries) error {
		checks, err := q.NoteStaleLanes(ctx)
		if err != nil || len(checks) == 0 {
			return err
		}
		snap, err := j.Catalogue.Snapshot(ctx)
		if err != nil {
			return err
		}
		var services []string
		for _, id := range checks {
			if e := snap.Checks[id]; e != nil {
				services = append(services, e.Current().Spec.Service)
			}
		}
		return j.Services(ctx, services)
	})
}
