package api

import (
	"context"
	"fmt"
	"slices"
	"time"

	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/span"
	"kestite/server/accounting"
	"kestite/server/store/gen/db"
)

// needs lists what a person should look at now, most pressing first.
func (s *Server) needs(ctx context.Context, snap *catalogue.Snapshot, accounts []accounting.Row) ([]NeedView, error) {
	now := span.Of(s.Now())
	out := []NeedView{}
	known, err := s.Store.States(ctx)
	if err != nil {
		return nil, err
	}
	known = slices.DeleteFunc(known, func(r db.StandingState) bool {
		e := snap.Services[r.Service]
		return e == nil || e.Retired
	})
	states := stateViews(snap, known)
	for _, u := range snap.Unreadable {
		out = append(out, NeedView{Kind: "fault", Subject: u.Kind + " " + u.ID, ID: u.ID, Text: "cannot be read: " + u.Why, At: now})
	}
	for _, a := range accounts {
		if a.Fault != nil {
			out = append(out, NeedView{Kind: "fault", Subject: called(snap, a.Agreement), ID: a.Agreement, Text: "cannot be accounted", At: now}) // its row says why
		}
	}
	for _, v := range states {
		if v.Fault != "" {
			out = append(out, NeedView{Kind: "fault", Subject: snap.Services[v.Service].Current().Spec.Name, ID: v.Service, Service: v.Service, Text: "cannot be judged: " + v.Fault, At: v.SinceAt})
		}
	}
	for _, v := range states {
		name := snap.Services[v.Service].Current().Spec.Name
		if v.State == "down" && !v.NeverGood {
			out = append(out, NeedView{Kind: "down", Subject: name, ID: v.Service, Service: v.Service, Text: "down", At: v.SinceAt, MS: int64(now - v.SinceAt)})
		}
	}
	agents, err := s.Store.Agents(ctx)
	if err != nil {
		return nil, err
	}
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
		name := snap.Locations[id].Current().Spec.Name
		seen, has := heard[id]
		if n := aside[id]; n > 0 {
			out = append(out, NeedView{Kind: "agent", Subject: name, ID: id + " aside", Text: fmt.Sprintf("set aside measurements that no server could take: %d", n), At: now})
		}
		switch {
		case !has:
			out = append(out, NeedView{Kind: "agent", Subject: name, ID: id, Text: "has no agent yet", At: snap.Locations[id].Since()})
		case s.Now().Sub(seen) > connectedFor:
			out = append(out, NeedView{Kind: "agent", Subject: name, ID: id, Text: "its agent is silent", At: span.Of(seen), MS: int64(now - span.Of(seen))})
		}
	}
	for _, v := range states {
		name := snap.Services[v.Service].Current().Spec.Name
		if v.NeverGood {
			out = append(out, NeedView{Kind: "never-good", Subject: name, ID: v.Service, Service: v.Service, Text: "was never good; is its target right?", At: v.SinceAt, MS: int64(now - v.SinceAt)})
		}
		if v.State == "unmeasured" && v.Fault == "" && len(snap.LiveChecks(v.Service)) > 0 {
			text := "not measured"
			if v.Awaiting {
				text = "awaiting its first measurement"
			}
			out = append(out, NeedView{Kind: "unmeasured", Subject: name, ID: v.Service, Service: v.Service, Text: text, At: v.SinceAt, MS: int64(now - v.SinceAt)})
		}
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
