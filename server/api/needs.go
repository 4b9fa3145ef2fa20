package api

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/span"
	"kestite/core/standing"
	"kestite/core/verdict"
	"kestite/server/accounting"
	"kestite/server/store/gen/db"
)

// needs lists what a person should look at now, most pressing first.
func (s *Server) needs(ctx context.Context, snap *catalogue.Snapshot, accounts []accounting.Row) ([]NeedView, error) {
	now := span.Of(s.Now())
	known, err := s.Store.States(ctx)
	if err != nil {
		return nil, err
	}
	known = slices.DeleteFunc(known, func(r db.StandingState) bool {
		e := snap.Services[r.Service]
		return e == nil || e.Retired
	})
	states := stateViews(snap, known)
	list := faults(snap, accounts, states, now)
	list = append(list, badServices(snap, states)...)
	list = append(list, unmeasured(snap, states)...)
	for _, of := range []func(context.Context, *catalogue.Snapshot, span.Instant) ([]standing.Need, error){s.silentLocations,
		s.failingChecks} {
		more, err := of(ctx, snap, now)
		if err != nil {
			return nil, err
		}
		list = append(list, more...)
	}
	standing.InOrder(list)
	out := make([]NeedView, len(list))
	for i, n := range list {
		out[i] = NeedView{Kind: n.Kind, Subject: n.Subject, ID: n.ID, Service: n.Service, Text: n.Text, At: n.Since, With: n.With}
		if n.Kind != standing.NeedFault && n.Since < now {
			out[i].MS = int64(now - n.Since)
		}
	}
	return out, nil
}

// faults are what cannot be read, accounted or judged.
func faults(snap *catalogue.Snapshot, accounts []accounting.Row, states []StateView, now span.Instant) []standing.Need {
	var out []standing.Need
	for _, u := range snap.Unreadable {
		out = append(out, standing.Need{Kind: standing.NeedFault, Subject: u.Kind + " " + u.ID, ID: u.ID, Text: "cannot be read: " + u.Why,
			Since: now})
	}
	for _, a := range accounts {
		if a.Fault != nil { // its row says why
			out = append(out, standing.Need{Kind: standing.NeedFault, Subject: called(snap, a.Agreement), ID: a.Agreement,
				Text: "cannot be accounted", Since: now})
		}
	}
	for _, v := range states {
		if v.Fault != "" {
			out = append(out, standing.Need{Kind: standing.NeedFault, Subject: snap.Named(catalogue.Service, v.Service), ID: v.Service,
				Service: v.Service,
				Text:    "cannot be judged: " + v.Fault, Since: v.SinceAt})
		}
	}
	return out
}

// badServices are those that are down or degraded, each under what it needs where that
// is bad too.
func badServices(snap *catalogue.Snapshot, states []StateView) []standing.Need {
	bad := map[string]StateView{}
	var ids []string
	for _, v := range states {
		if (v.State == standing.NeedDown || v.State == standing.NeedDegraded) && !v.NeverGood {
			bad[v.Service] = v
			ids = append(ids, v.Service)
		}
	}
	var out []standing.Need
	for id, with := range standing.Causes(ids, snap.NeededNow) {
		v := bad[id]
		n := standing.Need{Kind: v.State, Subject: snap.Named(catalogue.Service, id), ID: id, Service: id, Text: v.State, Since: v.SinceAt}
		for _, w := range with {
			n.With = append(n.With, snap.Named(catalogue.Service, w)+" "+bad[w].State)
		}
		slices.Sort(n.With)
		out = append(out, n)
	}
	return out
}

// unmeasured are services of which nothing is known, or nothing good ever was.
func unmeasured(snap *catalogue.Snapshot, states []StateView) []standing.Need {
	var out []standing.Need
	for _, v := range states {
		n := standing.Need{Kind: standing.NeedNothing, Subject: snap.Named(catalogue.Service, v.Service), ID: v.Service, Service: v.Service,
			Since: v.SinceAt}
		switch {
		case v.NeverGood:
			n.Kind, n.Text = standing.NeedNeverGood, "was never good; is its target right?"
		case v.State != standing.NeedNothing || v.Fault != "":
			continue
		case v.Awaiting:
			n.Text = "awaiting its first measurement"
		case snap.Decided(v.Service):
			n.Text = "not measured"
		case len(snap.LiveChecks(v.Service)) > 0:
			n.Text = "no check decides its state; its checks inform only"
		default:
			n.Text = "has no check, so nothing measures it"
		}
		out = append(out, n)
	}
	return out
}

// silentLocations are those from which nothing comes, or not all.
func (s *Server) silentLocations(ctx context.Context, snap *catalogue.Snapshot, now span.Instant) ([]standing.Need, error) {
	agents, err := s.Store.Agents(ctx)
	if err != nil {
		return nil, err
	}
	var out []standing.Need
	heard, aside := map[string]time.Time{}, map[string]int32{}
	for _, a := range agents {
		aside[a.Location] += a.SetAside
		seen := a.CreatedAt
		if a.SeenAt != nil {
			seen = *a.SeenAt
		}
		if seen.After(heard[a.Location]) {
			heard[a.Location] = seen
		}
	}
	for _, id := range catalogue.Live(snap.Locations) {
		name := snap.Named(catalogue.Location, id)
		seen, has := heard[id]
		if n := aside[id]; n > 0 {
			out = append(out, standing.Need{Kind: standing.NeedAgent, Subject: name, ID: id + " aside",
				Text: fmt.Sprintf("set aside measurements that no server could take: %d", n), Since: now})
		}
		switch {
		case !has:
			out = append(out, standing.Need{Kind: standing.NeedAgent, Subject: name, ID: id, Text: "has no agent yet",
				Since: snap.Locations[id].Since()})
		case now.Time().Sub(seen) > connectedFor:
			out = append(out, standing.Need{Kind: standing.NeedAgent, Subject: name, ID: id, Text: "its agent is silent", Since: span.Of(seen)})
		}
	}
	return out, nil
}

// failingChecks are the checks that inform and are not up: they decide no state, and
// would be seen by nobody otherwise.
func (s *Server) failingChecks(ctx context.Context, snap *catalogue.Snapshot, now span.Instant) ([]standing.Need, error) {
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
	seen, err := s.present(ctx, ids)
	if err != nil {
		return nil, err
	}
	var out []standing.Need
	for _, id := range ids {
		spec := snap.Checks[id].Current().Spec
		state := judgedNow(snap, id, seen[id])
		if state != verdict.Down && state != verdict.Degraded {
			continue
		}
		var places []string
		since := now
		for location, p := range seen[id] {
			if p.State == verdict.Down || p.State == verdict.Degraded {
				places = append(places, snap.Named(catalogue.Location, location))
				since = min(since, p.Since)
			}
		}
		slices.Sort(places)
		text := state.String()
		if !definition.Inward(spec.Kind) {
			text += " at " + strings.Join(places, " and ")
		}
		out = append(out, standing.Need{Kind: standing.NeedCheck, Subject: spec.Name + " of " + snap.Named(catalogue.Service, spec.Service),
			ID:      id,
			Service: spec.Service, Text: text + "; it informs only", Since: since})
	}
	return out, nil
}

// ReportsDue are the agreements whose last finished period has no published report.
type ReportsDue struct {
	Count    int      `json:"count"`
	Words    string   `json:"words" doc:"The period as a sentence says it, where it is the same for all"`
	Subjects []string `json:"subjects" doc:"The first three by name"`
}

func (s *Server) reportsDue(ctx context.Context, snap *catalogue.Snapshot) (ReportsDue, error) {
	var asked db.PublishedAmongParams
	words := map[string]string{}
	for _, id := range catalogue.Live(snap.Agreements) {
		last, err := lastFinished(snap, id, span.Of(s.Now()))
		if err != nil {
			continue // it cannot be accounted, and is named for that
		}
		if promised, err := snap.Promises(id, last); err != nil || !promised {
			continue
		}
		asked.Agreements, asked.Periods = append(asked.Agreements, id), append(asked.Periods, last.Name())
		words[id] = last.Words()
	}
	published, err := s.Store.PublishedAmong(ctx, asked)
	if err != nil {
		return ReportsDue{}, err
	}
	for _, p := range published {
		delete(words, p.Agreement)
	}
	out := ReportsDue{Count: len(words), Subjects: []string{}}
	for id, w := range words {
		out.Subjects = append(out.Subjects, called(snap, id))
		switch {
		case len(out.Subjects) == 1:
			out.Words = w
		case w != out.Words:
			out.Words = ""
		}
	}
	slices.Sort(out.Subjects)
	out.Subjects = out.Subjects[:min(3, len(out.Subjects))]
	return out, nil
}

// lastFinished is the latest period of an agreement that is over.
func lastFinished(snap *catalogue.Snapshot, agreement string, now span.Instant) (calendar.Period, error) {
	present, err := snap.PeriodAt(agreement, now)
	if err != nil {
		return present, err
	}
	return snap.PeriodBefore(agreement, present)
}
