package api

import (
	"cmp"
	"context"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"time"

	"kestite/core/access"
	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/closing"
	"kestite/core/definition"
	"kestite/core/incident"
	"kestite/core/span"
	"kestite/core/standing"
	"kestite/core/verdict"
	"kestite/server/accounting"
	"kestite/server/incidents"
	"kestite/server/report"
	"kestite/server/requests"
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
	list = append(list, unmeasured(snap, states, s.pausing(snap, now))...)
	for _, of := range []func(context.Context, *catalogue.Snapshot, span.Instant) ([]standing.Need, error){s.troubles, s.bare, s.unsent, s.requested} {
		more, err := of(ctx, snap, now)
		if err != nil {
			return nil, err
		}
		list = append(list, more...)
	}
	standing.InOrder(list)
	names, err := s.namesOf(ctx, func(yield func(string) bool) {
		for _, n := range list {
			if !yield(n.By) {
				return
			}
		}
	})
	if err != nil {
		return nil, err
	}
	out := make([]NeedView, len(list))
	for i, n := range list {
		out[i] = NeedView{Kind: n.Kind, Subject: n.Subject, ID: n.ID, Service: n.Service, Text: n.Text, At: n.Since, With: n.With,
			Incident: n.Incident, Severity: n.Severity, By: names[n.By]}
		if n.Kind != standing.NeedFault && n.Since < now {
			out[i].MS = int64(now - n.Since)
		}
	}
	return out, nil
}

// unsent are messages that could not be sent, by way.
func (s *Server) unsent(ctx context.Context, _ *catalogue.Snapshot, now span.Instant) ([]standing.Need, error) {
	rows, err := s.Store.TroubledDeliveries(ctx, now.Time().Add(-24*time.Hour))
	if err != nil {
		return nil, err
	}
	words := map[string]string{definition.Mail: "E-mail", definition.SMS: "SMS", definition.Webhook: "Webhooks", definition.Chat: "Chat rooms", definition.Syslog: "Syslog", definition.Script: "Scripts"}
	var out []standing.Need
	for _, r := range rows {
		text := fmt.Sprintf("%d messages were not taken", r.Messages)
		if r.Messages == 1 {
			text = "a message was not taken"
		}
		out = append(out, standing.Need{Kind: standing.NeedNotices, Subject: cmp.Or(words[r.Kind], r.Kind), ID: r.Kind, Text: text + ": " + r.Answer,
			Since: span.Of(r.Since)})
	}
	return out, nil
}

// requested is planned work, and adjustments, that wait for somebody of the role of who asks: what Standing
// says is the same for all of one role.
func (s *Server) requested(ctx context.Context, snap *catalogue.Snapshot, _ span.Instant) ([]standing.Need, error) {
	if !who(ctx).Rights.Role.Permits(access.Approve) {
		return nil, nil
	}
	rows, err := s.Store.WorkRequests(ctx, db.WorkRequestsParams{Open: true, Most: mostRequests})
	if err != nil {
		return nil, err
	}
	var out []standing.Need
	for _, r := range rows {
		name := fmt.Sprintf("Request %d", r.ID) // its own page says what is wrong with it
		if step, err := requests.Step(db.WorkRequestRow(r)); err == nil {
			name = step.Spec.Called()
		}
		out = append(out, standing.Need{Kind: standing.NeedRequest, Subject: name, ID: strconv.FormatInt(r.ID, 10),
			Text: "planned work waits for a second person; " + r.AskedBy + " asks for it", Since: span.Of(r.AskedAt)})
	}
	objections, err := s.Store.OpenObjections(ctx)
	if err != nil {
		return nil, err
	}
	for _, o := range objections {
		out = append(out, standing.Need{Kind: standing.NeedObjection, Subject: snap.Named(catalogue.Agreement, o.Agreement), ID: o.Report,
			Text: "an objection to the report of " + report.PeriodWords(o.Period) + " waits for an answer; " + o.MadeBy + " objects", Since: span.Of(o.MadeAt)})
	}
	for _, e := range snap.Adjustments {
		if a := e.Current().Spec; a.State == definition.Proposed {
			out = append(out, standing.Need{Kind: standing.NeedAdjusted, Subject: snap.Named(catalogue.Agreement, a.Agreement),
				ID:   a.Agreement + "?period=" + url.QueryEscape(a.Period) + "&q=" + url.QueryEscape(closing.WaitingKey(e.ID)),
				Text: "an adjustment of " + report.PeriodWords(a.Period) + " waits for a second person; " + a.Proposer.Name + " proposes it", Since: a.Proposer.At})
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

// troubles are the open incidents, each with those that follow it. What began in planned
// work that is not over disturbs nobody yet.
func (s *Server) troubles(ctx context.Context, snap *catalogue.Snapshot, now span.Instant) ([]standing.Need, error) {
	list, err := s.openIncidents(ctx)
	if err != nil {
		return nil, err
	}
	texts := map[string]string{}
	for _, of := range []func(context.Context, *db.Queries, *catalogue.Snapshot, span.Instant) ([]incidents.Trouble, error){
		incidents.Informing, incidents.Locations} {
		seen, err := of(ctx, s.Store.Queries, snap, now)
		if err != nil {
			return nil, err
		}
		for _, t := range seen {
			texts[t.ID] = t.Text
		}
	}
	lows := map[string]string{}
	if slices.ContainsFunc(list, func(i incident.Incident) bool { return i.About == incident.Agreement }) {
		rows, err := s.Incidents.Rows(ctx, snap)
		if err != nil {
			return nil, err
		}
		for _, t := range incidents.Low(rows, now) {
			lows[t.ID] = t.Text
		}
	}
	var out []standing.Need
	for _, i := range list {
		if i.Cause != 0 || i.Quiet(now) {
			continue
		}
		n := standing.Need{Kind: i.State.String(), Subject: incidents.Name(snap, i.Subject), ID: i.Subject.ID,
			Service: incidents.ServiceOf(snap, i.Subject), Text: i.State.String(), Since: i.BeganAt, Incident: i.ID, Severity: i.Severity}
		switch i.About {
		case incident.Check:
			n.Kind, n.Text = standing.NeedCheck, cmp.Or(texts[i.Subject.ID], n.Text)+"; it informs only"
		case incident.Agreement:
			n.Kind, n.Text = standing.NeedAllowance, cmp.Or(lows[i.Subject.ID], "its allowance needs somebody")
		case incident.Location:
			n.Kind, n.Text = standing.NeedAgent, cmp.Or(texts[i.Subject.ID], n.Text)
		default:
			if n.Kind == standing.NeedNothing { // it cannot be seen whether it still is
				n.Kind, n.Text = i.Worst.String(), "was "+i.Worst.String()+", and is not measured now"
			}
		}
		if i.Phase(now) == incident.Acknowledged {
			n.By = i.Acknowledged.By
		}
		for _, f := range list {
			if f.Cause == i.ID {
				n.With = append(n.With, incidents.Name(snap, f.Subject)+" "+f.State.String())
			}
		}
		slices.Sort(n.With)
		out = append(out, n)
	}
	return out, nil
}

// pausing are the services whose checks pause now, in planned work that names them.
func (s *Server) pausing(snap *catalogue.Snapshot, now span.Instant) map[string]bool {
	out := map[string]bool{}
	for _, p := range s.Pauses.Now(snap, now) {
		if p.Refused == "" && p.Work.Contains(now) {
			for _, id := range snap.Windows[p.Window].Current().Spec.Services {
				out[id] = true
			}
		}
	}
	return out
}

// unmeasured are services of which nothing is known, or nothing good ever was.
func unmeasured(snap *catalogue.Snapshot, states []StateView, pausing map[string]bool) []standing.Need {
	var out []standing.Need
	for _, v := range states {
		if pausing[v.Service] && v.State == standing.NeedNothing {
			continue // by a person's choice, which costs nothing
		}
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

// bare are the locations that nothing can come from yet.
func (s *Server) bare(ctx context.Context, snap *catalogue.Snapshot, now span.Instant) ([]standing.Need, error) {
	seen, err := incidents.Locations(ctx, s.Store.Queries, snap, now)
	if err != nil {
		return nil, err
	}
	var out []standing.Need
	for _, t := range seen {
		if t.State == verdict.Unmeasured {
			out = append(out, standing.Need{Kind: standing.NeedAgent, Subject: snap.Named(catalogue.Location, t.ID), ID: t.ID, Text: t.Text,
				Since: t.Since})
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
