// Package judge keeps the live state of every service: judged when a series of
// one of its checks changed or fell silent.
package judge

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/calendar"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/core/verdict"
	"kestite/server/catalogue"
	"kestite/server/history"
	"kestite/server/store"
	"kestite/server/store/gen/db"
)

// Judge judges services. It is safe for concurrent use, and any number of
// servers may judge at once: each service is judged by one at a time.
type Judge struct {
	Store     *store.Store
	Catalogue *catalogue.Catalogue
	Now       func() time.Time
	Log       *slog.Logger
}

// lookBack is how far back the beginning of the present state is looked for, after
// nearBack, which is all that a service needs whose state changes often and whose
// stretches are many; a state that is older keeps the beginning stored before, or is
// looked for farBack where none is stored.
const (
	nearBack = 5 * span.Minute
	lookBack = 2 * span.Day
	farBack  = 3660 * span.Day
)

// mostWishes is how many wishes one transaction looks at, and mostAtOnce how many
// services it judges: few, so that it is short however much there is to read of them.
const (
	mostWishes = 300
	mostAtOnce = 20
)

// staleEvery is how often silence is looked for; one is seen at most this late.
const staleEvery = 2 * time.Second

// Run judges what is due until ctx ends: when wake yields, and now and then in
// any case. With stale it looks for silent lanes too.
func (j *Judge) Run(ctx context.Context, wake <-chan struct{}, stale bool) {
	ctx = store.For(ctx, store.Jobs)
	tick := time.NewTicker(staleEvery)
	defer tick.Stop()
	for ctx.Err() == nil {
		more, err := j.Due(ctx)
		if err != nil && ctx.Err() == nil {
			j.Log.Warn("judging will be tried again", "error", err)
			more = false
		}
		if more {
			continue
		}
		select {
		case <-ctx.Done():
			return
		case <-wake:
			continue
		case <-tick.C:
		}
		if !stale {
			continue
		}
		if err := j.Stale(ctx); err != nil && ctx.Err() == nil {
			j.Log.Warn("silent lanes will be looked for again", "error", err)
		}
	}
}

// Due judges some of the services that wait for it, those that nobody else is at;
// more says whether others may wait still.
func (j *Judge) Due(ctx context.Context) (more bool, err error) {
	err = j.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		due, err := q.TakeJudging(ctx, mostWishes)
		if err != nil || len(due) == 0 {
			return err
		}
		// After the wishes: what was defined before one of them is in it. Not over
		// the connections for jobs, of which this already has one.
		snap, err := j.Catalogue.Snapshot(store.For(ctx, store.People))
		if err != nil {
			return err
		}
		var asked []string
		for _, d := range due {
			if !slices.Contains(asked, d.Service) && len(asked) < mostAtOnce {
				asked = append(asked, d.Service)
			}
		}
		free, err := j.free(ctx, q, snap, asked)
		if err != nil || len(free) == 0 {
			return err
		}
		var met []int64
		for _, d := range due {
			if slices.Contains(free, d.Service) {
				met = append(met, d.ID)
			}
		}
		more = len(met) < len(due) || len(due) == mostWishes
		if err := j.services(ctx, tx, q, snap, snap.Affected(free...)); err != nil {
			return err
		}
		return q.DropJudging(ctx, met)
	})
	if err == nil {
		err = j.Store.Judged(ctx, j.Now())
	}
	return more, err
}

// free are those of some services that nobody else judges, nor any that depends on
// them; nobody will until the transaction ends.
func (j *Judge) free(ctx context.Context, q *db.Queries, snap *catalogue.Snapshot, services []string) ([]string, error) {
	locked, err := q.TryJudging(ctx, snap.Affected(services...))
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(services, func(id string) bool {
		return slices.ContainsFunc(snap.Affected(id), func(a string) bool { return !slices.Contains(locked, a) })
	}), nil
}

// Services judges the services named and all that depend on them, at once.
func (j *Judge) Services(ctx context.Context, services []string) error {
	snap, err := j.Catalogue.Snapshot(ctx)
	if err != nil {
		return err
	}
	affected := snap.Affected(services...)
	return j.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		if err := q.LockJudging(ctx, affected); err != nil {
			return fmt.Errorf("wait for others that judge %v: %w", affected, err)
		}
		return j.services(ctx, tx, q, snap, affected)
	})
}

// services judges services that are locked, with all that depend on them.
func (j *Judge) services(ctx context.Context, tx pgx.Tx, q *db.Queries, snap *catalogue.Snapshot, affected []string) error {
	if len(affected) == 0 {
		return nil
	}
	known, err := q.States(ctx)
	if err != nil {
		return err
	}
	before := map[string]db.StandingState{}
	for _, s := range known {
		before[s.Service] = s
	}
	puts, err := j.judged(ctx, q, snap, affected, before)
	if history.Incomputable(err) { // one of them; the others are judged all the same
		puts = nil
		for _, id := range affected {
			one, err := j.judged(ctx, q, snap, []string{id}, before)
			if history.Incomputable(err) {
				one, err = []db.PutStateParams{j.unknown(snap, id, before, err)}, nil
			}
			if err != nil {
				return err
			}
			puts = append(puts, one...)
		}
	} else if err != nil {
		return err
	}
	var changed []string
	for _, p := range puts {
		if b, known := before[p.Service]; !known || differs(b, p) {
			changed = append(changed, p.Service)
		}
		if err := q.PutState(ctx, p); err != nil {
			return err
		}
	}
	if len(changed) == 0 {
		return nil
	}
	return store.Notify(ctx, tx, store.Change{Kind: "state", IDs: changed})
}

// differs says whether a screen would show a state otherwise than before.
func differs(b db.StandingState, p db.PutStateParams) bool {
	return b.State != p.State || !b.SinceAt.Equal(p.SinceAt) || b.Waiting != p.Waiting || b.NeverGood != p.NeverGood || b.Fault != p.Fault
}

// unknown is the state of a service that cannot be judged.
func (j *Judge) unknown(snap *catalogue.Snapshot, id string, before map[string]db.StandingState, why error) db.PutStateParams {
	now := j.Now()
	put := db.PutStateParams{Service: id, State: int16(verdict.Unmeasured), SinceAt: now, JudgedAt: now, Fault: measure.Clean(why.Error(), measure.MostDetail)}
	if b, ok := before[id]; ok && b.State == put.State {
		put.SinceAt = b.SinceAt
	}
	if b := before[id]; b.Fault != put.Fault && j.Log != nil {
		j.Log.Error("a service cannot be judged", "service", id, "name", snap.Services[id].Current().Spec.Name, "error", why)
	}
	return put
}

// judged are the states of services now.
func (j *Judge) judged(ctx context.Context, q *db.Queries, snap *catalogue.Snapshot, services []string, before map[string]db.StandingState) ([]db.PutStateParams, error) {
	now := span.Of(j.Now())
	states, err := j.lately(ctx, q, snap, services, now)
	if err != nil {
		return nil, fmt.Errorf("judge %v: %w", services, err)
	}
	older := slices.DeleteFunc(slices.Clone(services), func(id string) bool { return states[id] != nil })
	more, doubted, err := j.states(ctx, q, snap, older, now, lookBack)
	if err != nil {
		return nil, fmt.Errorf("judge %v: %w", older, err)
	}
	maps.Copy(states, more)
	waiting, err := j.waiting(ctx, q, snap, services, doubted)
	if err != nil {
		return nil, err
	}
	puts := make([]db.PutStateParams, 0, len(services))
	for _, id := range services {
		line := states[id]
		put := db.PutStateParams{
			Service: id, State: int16(line.At(now)[verdict.Nominal]), JudgedAt: now.Time(), Waiting: int32(waiting[id]),
		}
		since := nominal(line).Since(now)
		if edge := now.Add(-lookBack); since <= edge {
			if b, ok := before[id]; ok && b.State == put.State && span.Of(b.SinceAt) <= edge {
				since = span.Of(b.SinceAt)
			} else if far, _, err := j.states(ctx, q, snap, []string{id}, now, farBack); err != nil {
				return nil, fmt.Errorf("judge %s: %w", id, err)
			} else {
				since = nominal(far[id]).Since(now)
			}
		}
		if b, ok := before[id]; put.State == int16(verdict.Down) && !(ok && good(b)) {
			if put.NeverGood, err = j.neverGood(ctx, q, snap, id); err != nil {
				return nil, err
			}
		}
		since = max(since, snap.Services[id].Revisions[0].From)
		put.SinceAt = since.Time()
		puts = append(puts, put)
	}
	return puts, nil
}

// lately are the states of those services that changed within nearBack: what was
// before says nothing about them.
func (j *Judge) lately(ctx context.Context, q *db.Queries, snap *catalogue.Snapshot, services []string,
	now span.Instant) (map[string]span.Timeline[verdict.Views], error) {
	ordinary := slices.DeleteFunc(slices.Clone(services), func(id string) bool { return rolls(snap, id) })
	states, _, err := j.states(ctx, q, snap, ordinary, now, nearBack)
	if err != nil {
		return nil, err
	}
	out := map[string]span.Timeline[verdict.Views]{}
	for _, id := range ordinary {
		if line := states[id]; nominal(line).Since(now) > now.Add(-nearBack) {
			out[id] = line
		}
	}
	return out, nil
}

// rolls says whether a service's state follows from a check with a rolling rule,
// of its own or of what it needs: what that believes goes far back.
func rolls(snap *catalogue.Snapshot, service string) bool {
	for _, id := range append(snap.Needed(service), service) {
		for _, check := range snap.ChecksOf[id] {
			for _, r := range snap.Checks[check].Revisions {
				if r.Spec.Rolling != nil {
					return true
				}
			}
		}
	}
	return false
}

// good says whether a service is known to have been good before.
func good(b db.StandingState) bool {
	switch verdict.State(b.State) {
	case verdict.Up, verdict.Degraded:
		return true
	case verdict.Down:
		return !b.NeverGood
	}
	return false
}

// neverGood says whether a service that is down has checks of which none was
// ever good.
func (j *Judge) neverGood(ctx context.Context, q *db.Queries, snap *catalogue.Snapshot, service string) (bool, error) {
	checks := snap.ChecksOf[service]
	if len(checks) == 0 {
		return false, nil
	}
	good, err := q.EverGood(ctx, checks)
	return !good, err
}

func nominal(line span.Timeline[verdict.Views]) span.Timeline[verdict.State] {
	return span.Map(line, func(v verdict.Views) verdict.State { return v[verdict.Nominal] })
}

// states returns the live states of services since back before now, and by
// check how many failures its rolling rule does not believe yet.
func (j *Judge) states(ctx context.Context, q *db.Queries, snap *catalogue.Snapshot, services []string, now span.Instant, back int64) (map[string]span.Timeline[verdict.Views], map[string]int64, error) {
	if len(services) == 0 {
		return map[string]span.Timeline[verdict.Views]{}, map[string]int64{}, nil
	}
	today := calendar.Period{Location: time.UTC, Start: calendar.WallAt(now.Add(-back), time.UTC), End: calendar.WallAt(now.Add(span.Minute), time.UTC)}
	bundle, err := snap.Bundle(today, nil, services, nil, false)
	if err != nil {
		return nil, nil, err
	}
	stretches, err := history.Load(ctx, q, bundle, span.Span{From: now.Add(-back), To: now}, history.Live)
	if err != nil {
		return nil, nil, err
	}
	doubted := map[string]int64{}
	for key, list := range stretches.Stretches {
		doubted[key.Check] += history.Doubted(bundle, key.Check, list, now)
	}
	return verdict.Services(bundle, stretches.Source), doubted, nil
}

// waiting counts the measurements of services that are not confirmed yet;
// doubted are those that a rolling rule does not believe, by check.
func (j *Judge) waiting(ctx context.Context, q *db.Queries, snap *catalogue.Snapshot, services []string, doubted map[string]int64) (map[string]int64, error) {
	var checks []string
	for _, s := range services {
		checks = append(checks, snap.ChecksOf[s]...)
	}
	lanes, err := q.LanesOfChecks(ctx, checks)
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

// Stale asks for the judging of services whose checks fell silent since it was
// last called. It goes in small pieces, each noted together with its wish: a
// failure in between is made good by the next call, and no lane is held while
// anything is judged.
func (j *Judge) Stale(ctx context.Context) error {
	const piece = 200
	snap, err := j.Catalogue.Snapshot(ctx)
	if err != nil {
		return err
	}
	for more := true; more; {
		err := j.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
			checks, err := q.NoteStaleLanes(ctx, db.NoteStaleLanesParams{Now: j.Now(), Most: piece})
			if err != nil {
				return err
			}
			more = len(checks) == piece
			services := map[string]bool{}
			for _, id := range checks {
				if e := snap.Checks[id]; e != nil {
					services[e.Current().Spec.Service] = true
				}
			}
			return store.AskJudging(ctx, tx, services)
		})
		if err != nil {
			return fmt.Errorf("note silent lanes: %w", err)
		}
	}
	return nil
}

// Waiting are the services that wait to be judged, each once.
func (j *Judge) Waiting(ctx context.Context) ([]string, error) {
	rows, err := j.Store.Query(ctx, "SELECT DISTINCT service FROM judge_due")
	if err != nil {
		return nil, err
	}
	list, err := pgx.CollectRows(rows, pgx.RowTo[string])
	slices.Sort(list)
	return list, err
}
