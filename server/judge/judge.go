// Package judge keeps the live state of every service: judged when a series of
// one of its checks changed or fell silent.
package judge

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/core/verdict"
	"kestite/server/defining"
	"kestite/server/history"
	"kestite/server/incidents"
	"kestite/server/lanes"
	"kestite/server/store"
	"kestite/server/store/gen/db"
)

// Judge judges services. It is safe for concurrent use, and any number of
// servers may judge at once: each service is judged by one at a time.
type Judge struct {
	Store       *store.Store
	Definitions *defining.Definitions
	Incidents   *incidents.Keeper
	Now         func() time.Time
	Log         *slog.Logger
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
		snap, err := j.Definitions.Snapshot(store.For(ctx, store.People))
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
	snap, err := j.Definitions.Snapshot(ctx)
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
	puts, tells, err := j.judged(ctx, q, snap, affected, before)
	if history.Incomputable(err) { // one of them; the others are judged all the same
		puts, tells = nil, nil
		for _, id := range affected {
			one, told, err := j.judged(ctx, q, snap, []string{id}, before)
			if history.Incomputable(err) {
				one, told, err = []db.PutStateParams{j.unknown(snap, id, before, err)}, nil, nil
			}
			if err != nil {
				return err
			}
			puts, tells = append(puts, one...), append(tells, told...)
		}
	} else if err != nil {
		return err
	}
	if len(tells) > 0 {
		if _, err := q.AddTransitions(ctx, tells); err != nil {
			return fmt.Errorf("tell what changed: %w", err)
		}
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
	if err := j.troubles(ctx, tx, snap, before, puts, tells); err != nil {
		return err
	}
	if len(changed) == 0 {
		return nil
	}
	return store.Notify(ctx, tx, store.Event{Kind: store.OnState, IDs: changed})
}

// troubles makes the incidents of services agree with what was just told of them.
func (j *Judge) troubles(ctx context.Context, tx pgx.Tx, snap *catalogue.Snapshot, before map[string]db.StandingState,
	puts []db.PutStateParams,
	tells []db.AddTransitionsParams) error {
	if len(tells) == 0 {
		return nil
	}
	since := map[string]incidents.Since{}
	for _, t := range tells {
		at := span.Of(t.At) - 1 // what was until then ends then
		if s, is := since[t.Service]; !is || at < s.At {
			since[t.Service] = incidents.Since{At: at, Good: !before[t.Service].NeverGood}
		}
	}
	for _, p := range puts {
		if p.NeverGood {
			delete(since, p.Service)
		}
	}
	if err := j.Incidents.Services(ctx, tx, snap, since); err != nil {
		return fmt.Errorf("keep the incidents of %v: %w", slices.Sorted(maps.Keys(since)), err)
	}
	return nil
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

// judged are the states of services now, and what is to be told of how they changed.
func (j *Judge) judged(ctx context.Context, q *db.Queries, snap *catalogue.Snapshot, services []string,
	before map[string]db.StandingState) ([]db.PutStateParams, []db.AddTransitionsParams, error) {
	now := span.Of(j.Now())
	states, near, err := j.lately(ctx, q, snap, services, now)
	if err != nil {
		return nil, nil, fmt.Errorf("judge %v: %w", services, err)
	}
	older := slices.DeleteFunc(slices.Clone(services), func(id string) bool { return states[id] != nil })
	more, err := j.states(ctx, q, snap, older, now, lookBack)
	if err != nil {
		return nil, nil, fmt.Errorf("judge %v: %w", older, err)
	}
	maps.Copy(states, more.lines)
	waiting, err := j.waiting(ctx, q, snap, services, more.doubted)
	if err != nil {
		return nil, nil, err
	}
	told, err := j.told(ctx, q, services)
	if err != nil {
		return nil, nil, err
	}
	puts := make([]db.PutStateParams, 0, len(services))
	var tells []db.AddTransitionsParams
	for _, id := range services {
		line := states[id]
		put := db.PutStateParams{
			Service: id, State: int16(line.At(now)[verdict.Nominal]), JudgedAt: now.Time(), Waiting: int32(waiting[id]),
		}
		since := nominal(line).Since(now)
		if edge := now.Add(-lookBack); since <= edge {
			if b, ok := before[id]; ok && b.State == put.State && span.Of(b.SinceAt) <= edge {
				since = span.Of(b.SinceAt)
			} else if far, err := j.states(ctx, q, snap, []string{id}, now, farBack); err != nil {
				return nil, nil, fmt.Errorf("judge %s: %w", id, err)
			} else {
				since = nominal(far.lines[id]).Since(now)
			}
		}
		if b, ok := before[id]; put.State == int16(verdict.Down) && !(ok && good(b)) {
			if put.NeverGood, err = j.neverGood(ctx, q, snap, id); err != nil {
				return nil, nil, err
			}
		}
		since = max(since, snap.Services[id].Since())
		put.SinceAt = since.Time()
		puts = append(puts, put)
		of := more
		if near.lines[id] != nil {
			of = near
		}
		for _, t := range told[id].since(nominal(line), of.known, since, now) {
			tells = append(tells, db.AddTransitionsParams{
				Service: id, At: t.At.Time(), FromState: int16(t.From), ToState: int16(t.To), Because: of.because(id, t.At),
				KnownAt: now.Time(), Corrects: t.Corrects,
			})
		}
	}
	return puts, tells, nil
}

// lately are the states of those services that changed within nearBack: what was
// before says nothing about them.
func (j *Judge) lately(ctx context.Context, q *db.Queries, snap *catalogue.Snapshot, services []string,
	now span.Instant) (map[string]span.Timeline[verdict.Views], states, error) {
	ordinary := slices.DeleteFunc(slices.Clone(services), func(id string) bool { return rolls(snap, id, now) })
	all, err := j.states(ctx, q, snap, ordinary, now, nearBack)
	if err != nil {
		return nil, states{}, err
	}
	out := map[string]span.Timeline[verdict.Views]{}
	for _, id := range ordinary {
		if line := all.lines[id]; nominal(line).Since(now) > now.Add(-nearBack) {
			out[id] = line
		}
	}
	all.lines = maps.Clone(out)
	return out, all, nil
}

// rolls says whether a service's state follows from a check with a rolling rule,
// of its own or of what it needs: what that believes goes far back.
func rolls(snap *catalogue.Snapshot, service string, now span.Instant) bool {
	for _, id := range snap.Needed(span.Span{From: now.Add(-catalogue.Margin), To: now + 1}, service) {
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
	list, err := q.LanesOfChecks(ctx, checks)
	if err != nil {
		return false, err
	}
	ids := make([]int32, len(list))
	for i, l := range list {
		kept, err := lanes.Of(l)
		if err != nil {
			return false, err
		}
		if kept.Tail != nil && (kept.Tail.State == verdict.Up || kept.Tail.State == verdict.Degraded) {
			return false, nil
		}
		ids[i] = l.ID
	}
	good, err := q.EverGood(ctx, ids)
	return !good, err
}

func nominal(line span.Timeline[verdict.Views]) span.Timeline[verdict.State] {
	return span.Map(line, func(v verdict.Views) verdict.State { return v[verdict.Nominal] })
}

// states are live states of services over some time until now.
type states struct {
	known   span.Instant // since when
	lines   map[string]span.Timeline[verdict.Views]
	doubted map[string]int64 // by check, how many failures its rolling rule does not believe yet
	explain func(service string, at span.Instant) verdict.ServiceReason
}

// states returns the live states of services since back before now.
func (j *Judge) states(ctx context.Context, q *db.Queries, snap *catalogue.Snapshot, services []string, now span.Instant,
	back int64) (states, error) {
	out := states{known: now.Add(-back), lines: map[string]span.Timeline[verdict.Views]{}, doubted: map[string]int64{}}
	if len(services) == 0 {
		return out, nil
	}
	today := calendar.Period{Location: time.UTC, Start: calendar.WallAt(out.known, time.UTC),
		End: calendar.WallAt(now.Add(span.Minute), time.UTC)}
	bundle, err := snap.Bundle(today, nil, services, nil, false)
	if err != nil {
		return out, err
	}
	stretches, err := history.Load(ctx, q, nil, bundle, span.Span{From: out.known, To: now}, history.Live)
	if err != nil {
		return out, err
	}
	for key, list := range stretches.Stretches {
		out.doubted[key.Check] += history.Doubted(bundle, key.Check, list, now)
	}
	all := verdict.Services(bundle, stretches.Source)
	for _, id := range services {
		out.lines[id] = all[id]
	}
	out.explain = func(service string, at span.Instant) verdict.ServiceReason {
		return verdict.Explain(bundle, stretches.Sources(), all, service, at)
	}
	return out, nil
}

// because are the checks and services that make a service's state at an instant.
func (s states) because(service string, at span.Instant) json.RawMessage {
	var out struct {
		Checks   []string `json:"checks"`
		Services []string `json:"services"`
	}
	out.Checks, out.Services = []string{}, []string{}
	r := s.explain(service, at)
	for _, c := range r.Checks {
		if c.Decides && c.State == r.State {
			out.Checks = append(out.Checks, c.Check)
		}
	}
	for _, g := range r.Groups {
		for n, member := range g.Services {
			if g.State == r.State && (r.State == verdict.Up || g.States[n] != verdict.Up) {
				out.Services = append(out.Services, member)
			}
		}
	}
	text, _ := json.Marshal(out) // lists of texts always marshal
	return text
}

// toldAtMost is how many transitions of a service are looked at to find what is new.
const toldAtMost = 60

// told is what was told of a service, the last transitions of it.
type told []verdict.Transition

func (j *Judge) told(ctx context.Context, q *db.Queries, services []string) (map[string]told, error) {
	rows, err := q.LatestTransitions(ctx, db.LatestTransitionsParams{Services: services, Most: toldAtMost})
	if err != nil {
		return nil, err
	}
	out := map[string]told{}
	for _, r := range rows {
		out[r.Service] = append(out[r.Service], verdict.Transition{
			At: span.Of(r.At), From: verdict.State(r.FromState), To: verdict.State(r.ToState), Corrects: r.Corrects,
		})
	}
	return out, nil
}

// since are the transitions that are to be told of a line, which holds from known on.
// Of a service of which nothing was told the first is that into its present state.
func (t told) since(line span.Timeline[verdict.State], known, since, now span.Instant) []verdict.Transition {
	if len(t) == 0 {
		return verdict.Transitions(span.Constant(verdict.Unmeasured), span.Constant(verdict.Unmeasured).Append(since, line.At(now)),
			since, now)
	}
	if len(t) == toldAtMost { // what was told before them is not known here
		from := t[0].At
		for _, x := range t {
			if x.Corrects {
				from = min(from, x.At)
			}
		}
		known = max(known, from)
	}
	return verdict.Transitions(verdict.Told(t), line, known, now)
}

// waiting counts the measurements of services that are not confirmed yet;
// doubted are those that a rolling rule does not believe, by check.
func (j *Judge) waiting(ctx context.Context, q *db.Queries, snap *catalogue.Snapshot, services []string, doubted map[string]int64) (map[string]int64, error) {
	var checks []string
	for _, s := range services {
		checks = append(checks, snap.ChecksOf[s]...)
	}
	list, err := q.LanesOfChecks(ctx, checks)
	if err != nil {
		return nil, err
	}
	out := map[string]int64{}
	for _, id := range checks {
		out[snap.Checks[id].Current().Spec.Service] += doubted[id]
	}
	for _, l := range list {
		kept, err := lanes.Of(l)
		if err != nil {
			return nil, err
		}
		out[snap.Checks[l.CheckID].Current().Spec.Service] += kept.Series.PendingCount()
	}
	return out, nil
}

// Stale asks for the judging of services whose checks fell silent since it was
// last called. It goes in small pieces, each noted together with its wish: a
// failure in between is made good by the next call, and no lane is held while
// anything is judged.
func (j *Judge) Stale(ctx context.Context) error {
	const piece = 200
	snap, err := j.Definitions.Snapshot(ctx)
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
