// Package incidents keeps the incidents: it opens and ends them as states change, in the
// transaction in which those do, and does what people do with them.
package incidents

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/incident"
	"kestite/core/span"
	"kestite/core/verdict"
	"kestite/server/accounting"
	"kestite/server/defining"
	"kestite/server/store"
	"kestite/server/store/gen/db"
)

// Keeper keeps the incidents. It is safe for concurrent use, and any number of servers
// may have one.
type Keeper struct {
	Store       *store.Store
	Definitions *defining.Definitions
	Now         func() time.Time
	Log         *slog.Logger
	Board       *accounting.Board
	// Looks says that evidence is asked for as incidents begin and are over.
	Looks bool
}

// told is how many transitions of a service are looked at.
const told = 60

// Since says from when on the state of a service is looked at, and whether it was ever
// good before.
type Since struct {
	At   span.Instant
	Good bool
}

// Services makes the incidents of services agree with what was told of their states,
// of each from an instant on. Who calls it judges them, and holds them: see judge. One
// that is down and was never good is not to be among them. It is part of tx.
func (k *Keeper) Services(ctx context.Context, tx pgx.Tx, snap *catalogue.Snapshot, since map[string]Since) error {
	q := db.New(tx)
	rows, err := q.LatestTransitions(ctx, db.LatestTransitionsParams{Services: slices.Sorted(maps.Keys(since)), Most: told})
	if err != nil {
		return err
	}
	list := map[string][]verdict.Transition{}
	for _, r := range rows {
		list[r.Service] = append(list[r.Service], verdict.Transition{At: span.Of(r.At), From: verdict.State(r.FromState),
			To: verdict.State(r.ToState), Corrects: r.Corrects})
	}
	subjects := map[string]subject{}
	for id, transitions := range list {
		e := snap.Services[id]
		if e == nil || e.Retired {
			continue
		}
		line := incident.Line{States: verdict.Told(transitions), Known: since[id].At, Good: since[id].Good}
		subjects[id] = subject{line, incident.PolicyOf(e.Current().Spec.Trouble())}
	}
	return k.follow(ctx, tx, snap, incident.Service, subjects)
}

// subject is what is known of what an incident may be about.
type subject struct {
	line   incident.Line
	policy incident.Policy
}

// follow makes incidents agree with the states of their subjects, and keeps what changed.
func (k *Keeper) follow(ctx context.Context, tx pgx.Tx, snap *catalogue.Snapshot, about string, subjects map[string]subject) error {
	q := db.New(tx)
	now := span.Of(k.Now())
	ids := slices.Sorted(maps.Keys(subjects))
	if len(ids) == 0 {
		return nil
	}
	since := now
	for _, s := range subjects {
		since = min(since, s.line.Known.Add(-s.policy.ReopenMS))
	}
	edge := since.Time()
	rows, err := q.IncidentsOfSubjects(ctx, db.IncidentsOfSubjectsParams{About: about, Subjects: ids, Since: &edge})
	if err != nil {
		return fmt.Errorf("read incidents of %v: %w", ids, err)
	}
	known := all(rows)
	of := map[string][]incident.Incident{}
	for _, i := range known {
		of[i.Subject.ID] = append(of[i.Subject.ID], i)
	}
	var changed []incident.Changed
	for _, id := range ids {
		s := subjects[id]
		changed = append(changed, incident.Follow(incident.Subject{About: about, ID: id}, of[id], s.line, now, s.policy)...)
	}
	return k.keep(ctx, tx, snap, changed)
}

// keep writes what changed of incidents, and sorts them under their causes.
func (k *Keeper) keep(ctx context.Context, tx pgx.Tx, snap *catalogue.Snapshot, changed []incident.Changed) error {
	if len(changed) == 0 {
		return nil
	}
	q := db.New(tx)
	for n := range changed {
		c := &changed[n]
		if c.Fresh {
			if err := k.add(ctx, q, snap, &c.Incident); err != nil {
				return err
			}
			continue
		}
		row, err := put(c.Incident)
		if err != nil {
			return err
		}
		if err := q.PutIncident(ctx, row); err != nil {
			return fmt.Errorf("keep incident %d: %w", c.ID, err)
		}
	}
	var services []string
	for _, c := range changed {
		if c.About == incident.Service {
			services = append(services, c.Subject.ID)
		}
	}
	var grouped []incident.Changed
	if len(services) > 0 {
		var err error
		if grouped, err = k.group(ctx, q, snap, snap.Affected(services...)); err != nil {
			return err
		}
	}
	follows := map[int64]bool{}
	for _, g := range grouped {
		follows[g.ID] = g.Cause != 0
	}
	alone := slices.DeleteFunc(slices.Clone(changed), func(c incident.Changed) bool { return follows[c.ID] || c.Cause != 0 })
	looked, err := k.look(ctx, tx, snap, alone)
	if err != nil {
		return err
	}
	return k.tell(ctx, tx, append(changed, grouped...), looked)
}

// tell writes down what happened to incidents, and tells everybody who looks.
func (k *Keeper) tell(ctx context.Context, tx pgx.Tx, changed []incident.Changed, more []db.AddIncidentEventsParams) error {
	if len(changed) == 0 {
		return nil
	}
	var happened []db.AddIncidentEventsParams
	var numbers []string
	for _, c := range changed {
		happened = append(happened, events(c.ID, c.Events, k.Now())...)
		numbers = append(numbers, fmt.Sprint(c.ID))
	}
	if _, err := db.New(tx).AddIncidentEvents(ctx, append(happened, more...)); err != nil {
		return fmt.Errorf("note what happened to incidents: %w", err)
	}
	slices.Sort(numbers)
	return store.Notify(ctx, tx, store.Event{Kind: store.OnIncident, IDs: slices.Compact(numbers)})
}

// add keeps a new incident, with what it is found by.
func (k *Keeper) add(ctx context.Context, q *db.Queries, snap *catalogue.Snapshot, i *incident.Incident) error {
	row := db.AddIncidentParams{
		About: i.About, Subject: i.Subject.ID, BeganAt: i.BeganAt.Time(), KnownAt: i.KnownAt.Time(), LatestAt: i.LatestAt.Time(),
		Times: int32(i.Times),
		State: int16(i.State), Worst: int16(i.Worst), EndedAt: clock(i.EndedAt), Severity: i.Severity, ResolvedAt: clock(i.ResolvedAt),
		Because: json.RawMessage(`{"checks": [], "services": []}`),
	}
	if service := ServiceOf(snap, i.Subject); service != "" && i.About != incident.Agreement {
		if window, until, is := snap.PlannedAt(service, i.BeganAt); is {
			ends := until.Time()
			row.Planned, row.PlannedUntil = &window, &ends
			i.Planned = &incident.Planned{Window: window, Until: until}
		}
	}
	var err error
	if i.ID, err = q.AddIncident(ctx, row); err != nil {
		return fmt.Errorf("open an incident of %s %s: %w", i.About, i.Subject.ID, err)
	}
	return q.FindIncidentBy(ctx, db.FindIncidentByParams{ID: i.ID, Words: strings.Join(words(snap, i.Subject), " ")})
}

// words are what an incident is found by from the beginning.
func words(snap *catalogue.Snapshot, s incident.Subject) []string {
	out := []string{snap.Named(s.About, s.ID), s.About}
	switch e := snap.Services[ServiceOf(snap, s)]; {
	case e == nil:
	default:
		spec := e.Current().Spec
		out = append(append(out, spec.Name), spec.Tags...)
		if spec.Owner != "" {
			out = append(out, snap.Named(catalogue.Team, spec.Owner))
		}
	}
	return out
}

// Name is what people call what an incident is about.
func Name(snap *catalogue.Snapshot, of incident.Subject) string {
	if of.About == incident.Agreement {
		if e := snap.Agreements[of.ID]; e != nil {
			spec := e.Current().Spec
			return strings.TrimSuffix(cmp.Or(spec.Name, of.ID)+", "+snap.Whom(spec), ", ")
		}
	}
	name := snap.Named(of.About, of.ID)
	if of.About == incident.Check {
		if service := ServiceOf(snap, of); service != "" {
			name += " of " + snap.Named(catalogue.Service, service)
		}
	}
	return name
}

// ServiceOf is the service that an incident concerns; "" where it is no one's.
func ServiceOf(snap *catalogue.Snapshot, s incident.Subject) string {
	switch s.About {
	case incident.Service:
		return s.ID
	case incident.Check:
		if e := snap.Checks[s.ID]; e != nil {
			return e.Current().Spec.Service
		}
	case incident.Agreement:
		if e := snap.Agreements[s.ID]; e != nil {
			return e.Current().Spec.Service
		}
	}
	return ""
}

// group sorts the open incidents of some services under their causes, and keeps what
// changes of that. They are those that the transaction holds, so that two of them never
// wait for each other; nil are all.
func (k *Keeper) group(ctx context.Context, q *db.Queries, snap *catalogue.Snapshot, services []string) ([]incident.Changed, error) {
	rows, err := q.OpenIncidents(ctx)
	if err != nil {
		return nil, err
	}
	open := all(rows)
	needed := func(service string) []string {
		if snap.Services[service] == nil {
			return nil
		}
		return snap.NeededNow(service)
	}
	var out []incident.Changed
	for _, g := range incident.Group(open, needed, span.Of(k.Now())) {
		if services != nil && !slices.Contains(services, g.Subject.ID) {
			continue
		}
		var cause *int64
		if g.Cause != 0 {
			cause = &g.Cause
		}
		n, err := q.PutCause(ctx, db.PutCauseParams{ID: g.ID, Cause: cause})
		if err != nil {
			return nil, fmt.Errorf("sort incident %d under its cause: %w", g.ID, err)
		}
		if n > 0 {
			out = append(out, g)
		}
	}
	return out, nil
}

// PolicyOf is what the incidents of a subject follow; false for one that has none any more.
func PolicyOf(snap *catalogue.Snapshot, s incident.Subject) (incident.Policy, bool) {
	var trouble definition.TroublePolicy
	if id := ServiceOf(snap, s); id != "" {
		e := snap.Services[id]
		if e == nil || e.Retired {
			return incident.Policy{}, false
		}
		trouble = e.Current().Spec.Trouble()
	}
	switch s.About {
	case incident.Service:
		return incident.PolicyOf(trouble), true
	case incident.Check:
		e := snap.Checks[s.ID]
		if e == nil || e.Retired || e.Current().Spec.Role != definition.Informs || trouble.ReopenS == nil {
			return incident.Policy{}, false
		}
		return incident.PolicyOfCheck(trouble), true
	case incident.Agreement:
		e := snap.Agreements[s.ID]
		return incident.PolicyOfAllowances, e != nil && !e.Retired
	}
	e := snap.Locations[s.ID]
	return incident.PolicyOfLocations, e != nil && !e.Retired
}
