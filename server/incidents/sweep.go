package incidents

import (
	"cmp"
	"context"
	"errors"
	"fmt"
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
	"kestite/server/lanes"
	"kestite/server/store/gen/db"
)

// Trouble is something bad that no judging of a service tells.
type Trouble struct {
	ID    string // of a check, or of a location
	State verdict.State
	Since span.Instant
	Text  string
}

// Connected is how long after its last call an agent counts as connected; it calls at
// least every 20 s.
const Connected = 40 * time.Second

// Locations are those from which nothing comes, or not all.
func Locations(ctx context.Context, q *db.Queries, snap *catalogue.Snapshot, now span.Instant) ([]Trouble, error) {
	agents, err := q.Agents(ctx)
	if err != nil {
		return nil, err
	}
	heard, aside, said := map[string]time.Time{}, map[string]int32{}, map[string]string{}
	for _, a := range agents {
		aside[a.Location] += a.SetAside
		if trouble := cmp.Or(a.CutOff, a.Complaint); trouble != "" && a.SeenAt != nil && now.Time().Sub(*a.SeenAt) <= Connected {
			said[a.Location] = trouble
		}
		seen := a.CreatedAt
		if a.SeenAt != nil {
			seen = *a.SeenAt
		}
		if seen.After(heard[a.Location]) {
			heard[a.Location] = seen
		}
	}
	var out []Trouble
	for _, id := range catalogue.Live(snap.Locations) {
		seen, has := heard[id]
		switch n := aside[id]; {
		case !has:
			out = append(out, Trouble{id, verdict.Unmeasured, snap.Locations[id].Since(), "has no agent yet"})
		case now.Time().Sub(seen) > Connected:
			out = append(out, Trouble{id, verdict.Down, span.Of(seen), "its agent is silent"})
		case said[id] != "":
			out = append(out, Trouble{id, verdict.Degraded, now, "its agent says: " + said[id]})
		case n > 0:
			out = append(out, Trouble{id, verdict.Degraded, now, fmt.Sprintf("set aside measurements that no server could take: %d", n)})
		}
	}
	return out, nil
}

// Informing are the checks that inform and are not up: they decide no state, and would
// be seen by nobody otherwise.
func Informing(ctx context.Context, q *db.Queries, snap *catalogue.Snapshot, now span.Instant) ([]Trouble, error) {
	var ids []string
	for _, id := range catalogue.Live(snap.Checks) {
		spec := snap.Checks[id].Current().Spec
		if e := snap.Services[spec.Service]; spec.Role == definition.Informs && e != nil && !e.Retired {
			ids = append(ids, id)
		}
	}
	if len(ids) == 0 {
		return nil, nil
	}
	seen, err := lanes.Now(ctx, q, ids, now)
	if err != nil {
		return nil, err
	}
	var out []Trouble
	for _, id := range ids {
		spec := snap.Checks[id].Current().Spec
		t := Trouble{ID: id, State: lanes.Judged(spec.Revision(id), seen[id]), Since: now}
		if t.State != verdict.Down && t.State != verdict.Degraded {
			continue
		}
		var places []string
		for location, p := range seen[id] {
			if p.State == verdict.Down || p.State == verdict.Degraded {
				places = append(places, snap.Named(catalogue.Location, location))
				t.Since = min(t.Since, p.Since)
			}
		}
		slices.Sort(places)
		t.Text = t.State.String()
		if !definition.Inward(spec.Kind) {
			t.Text += " at " + strings.Join(places, " and ")
		}
		out = append(out, t)
	}
	return out, nil
}

// Sweep opens and ends the incidents of checks that inform and of locations, ends those
// of what is there no more, and opens those of services whose trouble began unseen. What
// it finds done it leaves; one server at a time does it (see jobs).
func (k *Keeper) Sweep(ctx context.Context) error {
	snap, err := k.Definitions.Snapshot(ctx)
	if err != nil {
		return err
	}
	early, err := k.early(ctx)
	if err != nil {
		return err
	}
	for about, look := range map[string]func(context.Context, *db.Queries, *catalogue.Snapshot, span.Instant) ([]Trouble, error){
		incident.Check: Informing, incident.Location: Locations} {
		err := k.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
			list, err := look(ctx, q, snap, span.Of(k.Now()))
			if err != nil {
				return err
			}
			unknown := map[string]bool{}
			if early && about == incident.Location {
				list = slices.DeleteFunc(list, func(t Trouble) bool {
					unknown[t.ID] = unknown[t.ID] || t.State == verdict.Down // silent, as far as anybody was there to hear
					return t.State == verdict.Down
				})
			}
			return k.seen(ctx, tx, snap, about, list, unknown)
		})
		if err != nil {
			return fmt.Errorf("look for incidents of a %s: %w", about, err)
		}
	}
	return k.missed(ctx, snap)
}

// early says that no server was there until just now: whoever calls has to be given the
// time to, before a location counts as silent, or as heard of again.
func (k *Keeper) early(ctx context.Context) (bool, error) {
	there, err := k.Store.Attendance(ctx)
	if errors.Is(err, pgx.ErrNoRows) {
		return false, nil
	}
	return k.Now().Sub(there.SinceAt) <= Connected, err
}

// seen makes the incidents of checks or of locations agree with what is bad of them now;
// of what is unknown they stay as they are.
func (k *Keeper) seen(ctx context.Context, tx pgx.Tx, snap *catalogue.Snapshot, about string, list []Trouble, unknown map[string]bool) error {
	rows, err := db.New(tx).OpenIncidentsAbout(ctx, about)
	if err != nil {
		return err
	}
	known := all(rows)
	now := span.Of(k.Now())
	subjects := map[string]subject{}
	for _, i := range known { // over, unless it is in the list
		if unknown[i.Subject.ID] {
			continue
		}
		p, is := PolicyOf(snap, i.Subject)
		if !is {
			p = incident.Policy{Degraded: definition.Minor, Down: definition.Minor}
		}
		up := span.Constant(verdict.Up)
		subjects[i.Subject.ID] = subject{incident.Line{States: up.Append(i.LatestAt, bad(i.State)).Append(max(now, i.LatestAt+1), verdict.Up),
			Known: i.LatestAt, Good: true}, p}
	}
	for _, t := range list {
		p, is := PolicyOf(snap, incident.Subject{About: about, ID: t.ID})
		if !is || p.Of(t.State) == "" {
			continue
		}
		since := t.Since
		if n := slices.IndexFunc(known, func(i incident.Incident) bool { return i.Subject.ID == t.ID }); n >= 0 {
			since = known[n].LatestAt
		}
		subjects[t.ID] = subject{incident.Line{States: span.Constant(verdict.Up).Append(since, t.State), Known: since, Good: true}, p}
	}
	return k.follow(ctx, tx, snap, about, subjects)
}

// missed opens the incidents of services that are in trouble without one, and ends those
// of services that are there no more.
func (k *Keeper) missed(ctx context.Context, snap *catalogue.Snapshot) error {
	return k.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		states, err := q.States(ctx)
		if err != nil {
			return err
		}
		rows, err := q.OpenIncidentsAbout(ctx, incident.Service)
		if err != nil {
			return err
		}
		known := all(rows)
		open := map[string]bool{}
		var gone []incident.Changed
		now := span.Of(k.Now())
		for _, i := range known {
			open[i.Subject.ID] = true
			if _, is := PolicyOf(snap, i.Subject); !is {
				i.ResolvedAt, i.EndedAt, i.State = &now, &now, verdict.Up
				gone = append(gone, incident.Changed{Incident: i, Events: []incident.Event{{Kind: incident.ResolvedByItself, At: now,
					Text: "retired"}}})
			}
		}
		since := map[string]Since{}
		for _, s := range states {
			p, is := PolicyOf(snap, incident.Subject{About: incident.Service, ID: s.Service})
			if is && !open[s.Service] && !s.NeverGood && p.Of(verdict.State(s.State)) != "" {
				since[s.Service] = Since{span.Of(s.SinceAt), true}
			}
		}
		if len(since) > 0 {
			free, err := q.TryJudging(ctx, slices.Sorted(maps.Keys(since)))
			if err != nil {
				return err
			}
			maps.DeleteFunc(since, func(id string, _ Since) bool { return !slices.Contains(free, id) })
			if err := k.Services(ctx, tx, snap, since); err != nil {
				return err
			}
		}
		if len(gone) > 0 {
			return k.keep(ctx, tx, snap, gone)
		}
		return k.regroup(ctx, tx, snap, known)
	})
}

// regroup frees what followed a cause that has been over for a while.
func (k *Keeper) regroup(ctx context.Context, tx pgx.Tx, snap *catalogue.Snapshot, open []incident.Incident) error {
	if !slices.ContainsFunc(open, func(i incident.Incident) bool { return i.Cause != 0 }) {
		return nil
	}
	grouped, err := k.group(ctx, db.New(tx), snap, nil)
	if err != nil {
		return err
	}
	return k.tell(ctx, tx, grouped, nil)
}

// bad is a state of trouble; what cannot be measured any more was down.
func bad(s verdict.State) verdict.State {
	if s == verdict.Degraded {
		return s
	}
	return verdict.Down
}
