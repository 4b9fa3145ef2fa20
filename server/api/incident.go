package api

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"kestite/agent/wire"
	"kestite/core/account"
	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/incident"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/core/standing"
	"kestite/core/verdict"
	"kestite/server/history"
	"kestite/server/incidents"
	"kestite/server/store/gen/db"
)

// IncidentDetail is an incident with all that is known of it.
type IncidentDetail struct {
	Incident IncidentView       `json:"incident"`
	May      bool               `json:"may" doc:"Whether you may do something with it"`
	Runbook  string             `json:"runbook,omitempty"`
	Owner    string             `json:"owner,omitempty" doc:"What the team is called that owns the service"`
	Span     SpanView           `json:"span" doc:"The time around it"`
	Strips   []IncidentStrip    `json:"strips" doc:"What it concerns: itself or its cause first, then what needs that"`
	Timeline []HappenedView     `json:"timeline" doc:"What happened, in order of time"`
	Costs    []CostView         `json:"costs" doc:"What it costs, by agreement"`
	CostsCut int                `json:"costs_left" doc:"How many more agreements it touches"`
	Like     []LikeView         `json:"like" doc:"What was like it before: of the same first, then by what its evidence shows, the latest first"`
	Evidence []EvidenceView     `json:"evidence"`
	Together TogetherView       `json:"together" doc:"Failures that began with it, and what they have in common"`
	Files    []IncidentFileView `json:"files"`
	Classes  []string           `json:"classes" doc:"What a review may say that it was"`
}

// IncidentStrip is a service that an incident concerns.
type IncidentStrip struct {
	Service  string         `json:"service"`
	Name     string         `json:"name"`
	Role     string         `json:"role" doc:"What it is to the incident"`
	Incident int64          `json:"incident,omitempty" doc:"Its own incident"`
	Strip    []IntervalView `json:"strip"`
}

// HappenedView is one thing that happened.
type HappenedView struct {
	At       span.Instant `json:"at"`
	Kind     string       `json:"kind"`
	Text     string       `json:"text"`
	Public   bool         `json:"public,omitempty" doc:"Customers may read it"`
	Bad      bool         `json:"bad,omitempty" doc:"Something got worse"`
	Address  string       `json:"address,omitempty"`
	Service  string       `json:"service,omitempty" doc:"Whose page says more of the instant"`
	Incident int64        `json:"incident,omitempty" doc:"Of another incident that follows this one"`
}

// CostView is what an incident costs under an agreement.
type CostView struct {
	Agreement string      `json:"agreement"`
	Name      string      `json:"name"`
	Customer  string      `json:"customer,omitempty"`
	Service   string      `json:"service"`
	Target    string      `json:"target_percent"`
	Period    OwnPeriod   `json:"period"`
	Classes   []ClassTime `json:"classes" doc:"What its time counts as"`
	LeftMS    int64       `json:"allowance_left_ms" doc:"What is left of the allowance of the period"`
	Words     string      `json:"words" doc:"In a sentence"`
	Missed    bool        `json:"missed"`
	Credit    string      `json:"credit_percent"`
	EndsAt    string      `json:"ends_at,omitempty" doc:"When the allowance ends if this goes on, as an instant"`
	Fault     string      `json:"fault,omitempty"`
}

// EvidenceView is a measurement that was made as the trouble began, or as it was over.
type EvidenceView struct {
	Moment   string             `json:"moment" enum:"onset,recovery"`
	Label    string             `json:"label"`
	Kind     string             `json:"kind"`
	Target   string             `json:"target"`
	Location string             `json:"location"`
	AskedAt  span.Instant       `json:"asked_at"`
	DoneAt   *span.Instant      `json:"done_at,omitempty"`
	State    string             `json:"state" enum:"waiting,done,lost"`
	Outcome  string             `json:"outcome,omitempty" enum:"ok,degraded,failed,error,"`
	Measures map[string]float64 `json:"measures,omitempty"`
	Detail   string             `json:"detail,omitempty"`
	Findings *measure.Findings  `json:"findings,omitempty"`
}

// IncidentFileView is a file that was attached.
type IncidentFileView struct {
	ID   int64        `json:"id"`
	Name string       `json:"name"`
	Type string       `json:"type"`
	Size int64        `json:"size" doc:"In bytes"`
	By   string       `json:"by"`
	At   span.Instant `json:"at"`
}

// Bounds of what is told of one incident.
const (
	mostCosts    = 40
	mostLike     = 5
	mostStrips   = 45
	mostHappened = 1000
	around       = 10 * span.Minute // before and after, at least
	changesNear  = span.Day         // before it, in which changes of definitions are told
)

func (s *Server) incidentDetail(ctx context.Context, in *struct {
	ByNumber
	Wider int `query:"wider" minimum:"0" maximum:"6" doc:"How much more of the time around it is shown: each step is four times as much"`
}) (*body[IncidentDetail], error) {
	row, err := s.numbered(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	i := incidents.Of(row)
	under, err := s.Store.Followers(ctx, []int64{in.ID})
	if err != nil {
		return nil, err
	}
	views, err := s.incidentViews(ctx, snap, []db.Incident{row})
	if err != nil {
		return nil, err
	}
	out := IncidentDetail{Incident: views[0], May: s.mayHandle(ctx, in.ID) == nil, Classes: incident.Classes}
	if e := snap.Services[out.Incident.Service]; e != nil {
		spec := e.Current().Spec
		out.Runbook = spec.Runbook
		if spec.Owner != "" {
			out.Owner = snap.Named(catalogue.Team, spec.Owner)
		}
	}
	concerned := s.concerned(snap, i, out.Incident, under)
	band := s.bandAround(snap, i, in.Wider)
	out.Span = s.spanView(band)
	if out.Strips, err = s.incidentStrips(ctx, snap, band, concerned); err != nil {
		return nil, err
	}
	if out.Timeline, err = s.happened(ctx, snap, i, under, concerned); err != nil {
		return nil, err
	}
	if out.Costs, out.CostsCut, err = s.costs(ctx, snap, i, under); err != nil {
		return nil, err
	}
	if out.Like, err = s.like(ctx, snap, i, row.Marks, out.Incident.Service); err != nil {
		return nil, err
	}
	if out.Evidence, err = s.evidence(ctx, snap, in.ID); err != nil {
		return nil, err
	}
	if out.Together, err = s.together(ctx, snap, i); err != nil {
		return nil, err
	}
	files, err := s.Store.IncidentFiles(ctx, in.ID)
	out.Files = []IncidentFileView{}
	for _, f := range files {
		out.Files = append(out.Files, IncidentFileView{f.ID, f.Name, f.Type, f.Size, f.By, span.Of(f.At)})
	}
	return &body[IncidentDetail]{out}, err
}

// concerned are the services of an incident: its own, those of what follows it, and those
// that its own needs, each with what it is to it.
func (s *Server) concerned(snap *catalogue.Snapshot, i incident.Incident, v IncidentView, under []db.Incident) []IncidentStrip {
	var out []IncidentStrip
	add := func(service, role string, of int64) {
		if e := snap.Services[service]; e != nil && len(out) < mostStrips &&
			!slices.ContainsFunc(out, func(o IncidentStrip) bool { return o.Service == service }) {
			out = append(out, IncidentStrip{Service: service, Name: e.Current().Spec.Name, Role: role, Incident: of, Strip: []IntervalView{}})
		}
	}
	role := "what it is about"
	if i.About == incident.Agreement {
		role = "whose allowance it is"
	}
	if len(under) > 0 {
		role = "the cause"
	}
	add(v.Service, role, i.ID)
	for _, f := range under {
		service := incidents.ServiceOf(snap, incident.Subject{About: f.About, ID: f.Subject})
		role := "put under it"
		if v.Service != "" && slices.Contains(snap.NeededNow(service), v.Service) {
			role = "needs " + snap.Named(catalogue.Service, v.Service)
		}
		add(service, role, f.ID)
	}
	if e := snap.Services[v.Service]; e != nil {
		for _, g := range e.Current().Spec.DependsOn {
			for _, id := range g.Services {
				add(id, snap.Named(catalogue.Service, v.Service)+" needs it", 0)
			}
		}
	}
	return out
}

// bandAround is the time around an incident.
func (s *Server) bandAround(snap *catalogue.Snapshot, i incident.Incident, wider int) calendar.Period {
	loc, err := calendar.Zone(snap.Timezone)
	if err != nil {
		loc = time.UTC
	}
	lasted := i.Lasted(span.Of(s.Now()))
	beside := max(around, lasted.Length()/4) << (2 * wider)
	const longest = 390 * span.Day
	when := span.Span{From: lasted.From.Add(-beside), To: lasted.To.Add(beside)}
	when.From = max(when.From, when.To.Add(-longest))
	return calendar.Exactly(span.Span{From: when.From / 1000 * 1000, To: when.To/1000*1000 + 1000}, loc)
}

// incidentStrips fills in the states of services around an incident. One that cannot be
// told leaves the others theirs.
func (s *Server) incidentStrips(ctx context.Context, snap *catalogue.Snapshot, band calendar.Period,
	list []IncidentStrip) ([]IncidentStrip, error) {
	if len(list) == 0 {
		return []IncidentStrip{}, nil
	}
	ids := make([]string, len(list))
	for n, l := range list {
		ids[n] = l.Service
	}
	open, err := s.Books.Open(ctx, snap, band, span.Of(s.Now()), ids, nil)
	if history.Incomputable(err) {
		return list, nil
	}
	if err != nil {
		return nil, err
	}
	for n := range list {
		list[n].Strip = strip(open.Evidence.Service(list[n].Service), s.shown(band))
	}
	return list, nil
}

// saidAt is a turn of the state of a service that an event of its incident says.
type saidAt struct {
	service string
	at      span.Instant
}

// turned are events of incidents that are turns of a state too.
var turned = map[string]string{incident.Opened: "opened", incident.Reopened: "opened again",
	incident.ResolvedByItself: "resolved by itself"}

// happened is the timeline: what happened to the incident and to what follows it, how the
// states of their services changed, and which definitions were changed shortly before.
func (s *Server) happened(ctx context.Context, snap *catalogue.Snapshot, i incident.Incident, under []db.Incident,
	concerned []IncidentStrip) ([]HappenedView, error) {
	ids, names, subjects := []int64{i.ID}, map[int64]string{}, map[int64]incident.Subject{}
	own, said := incidents.Name(snap, i.Subject), map[saidAt]bool{}
	var services []string
	if service := incidents.ServiceOf(snap, i.Subject); service != "" {
		services = append(services, service)
	}
	for _, f := range under {
		of := incident.Subject{About: f.About, ID: f.Subject}
		names[f.ID], subjects[f.ID] = incidents.Name(snap, of), of
		ids = append(ids, f.ID)
		if service := incidents.ServiceOf(snap, of); f.About == incident.Service && !slices.Contains(services, service) {
			services = append(services, service)
		}
	}
	rows, err := s.Store.IncidentEvents(ctx, ids)
	if err != nil {
		return nil, err
	}
	var others []int64
	for _, r := range rows {
		if r.Cause != nil {
			others = append(others, *r.Cause)
		}
	}
	causes, err := s.Store.Incidents(ctx, others)
	if err != nil {
		return nil, err
	}
	called := map[int64]string{}
	for _, c := range causes {
		called[c.ID] = incidents.Name(snap, incident.Subject{About: c.About, ID: c.Subject})
	}
	loc, err := calendar.Zone(snap.Timezone)
	if err != nil {
		loc = time.UTC
	}
	when := func(at span.Instant) string { return at.Time().In(loc).Format("Mon 2 Jan 15:04:05") }
	out := []HappenedView{}
	for _, r := range rows {
		e := incident.Event{Kind: r.Kind, Text: r.Text, Other: r.Other}
		other := r.OtherCalled
		if r.Cause != nil {
			other = called[*r.Cause]
		}
		if r.UntilAt != nil {
			at := span.Of(*r.UntilAt)
			e.To = &at
		}
		v := HappenedView{At: span.Of(r.At), Kind: r.Kind, Text: e.Words(r.Called, other, when), Public: r.Public,
			Bad: r.Kind == incident.Opened || r.Kind == incident.Reopened}
		if r.Kind == incident.Linked {
			v.Address = r.Other
		}
		name, about := own, i.Subject
		if r.Incident != i.ID {
			v.Incident, name, about = r.Incident, names[r.Incident], subjects[r.Incident]
		}
		switch turn := r.Kind == incident.Opened || r.Kind == incident.Reopened && r.Person == "" || r.Kind == incident.ResolvedByItself; {
		case turn && about.About == incident.Service: // says the turn of its state with it
			v.Text = name + " " + r.Text + ": " + turned[r.Kind]
			if r.Kind == incident.ResolvedByItself && (r.Text == "policy" || r.Text == "retired") {
				v.Text = name + ": " + e.Words("", "", when)
			}
			v.Service = about.ID
			said[saidAt{about.ID, v.At}] = true
		case r.Incident != i.ID:
			v.Text = name + ": " + v.Text
		}
		out = append(out, v)
	}
	lasted := i.Lasted(span.Of(s.Now()))
	changes, err := s.turns(ctx, snap, services, span.Span{From: lasted.From.Add(-around), To: lasted.To.Add(around)})
	if err != nil {
		return nil, err
	}
	out = append(out, slices.DeleteFunc(changes, func(h HappenedView) bool { return said[saidAt{h.Service, h.At}] })...)
	var near, checks []string
	for _, c := range concerned {
		near, checks = append(near, c.Service), append(checks, snap.ChecksOf[c.Service]...)
	}
	edits, err := s.Store.DefinitionsChangedBetween(ctx, db.DefinitionsChangedBetweenParams{FromAt: lasted.From.Add(-changesNear).Time(),
		ToAt: lasted.To.Add(around).Time(), Services: near, Checks: checks, Most: 50})
	if err != nil {
		return nil, err
	}
	for _, e := range edits {
		out = append(out, HappenedView{At: span.Of(e.ValidFrom), Kind: "definition",
			Text: fmt.Sprintf("%s changed the %s %s (revision %d)", e.By, e.Kind, snap.Named(e.Kind, e.ID), e.Number)})
	}
	slices.SortStableFunc(out, func(a, b HappenedView) int { return int(min(1, max(-1, int64(a.At-b.At)))) })
	if len(out) > mostHappened {
		out = out[len(out)-mostHappened:]
	}
	return out, nil
}

// turns are the changes of states of services in a time, as they were told last.
func (s *Server) turns(ctx context.Context, snap *catalogue.Snapshot, services []string, within span.Span) ([]HappenedView, error) {
	rows, err := s.Store.TransitionsBetween(ctx, db.TransitionsBetweenParams{Services: services, FromAt: within.From.Time(),
		ToAt: within.To.Time(),
		Most: mostHappened})
	if err != nil {
		return nil, err
	}
	var out []HappenedView
	for _, r := range rows {
		at := span.Of(r.At)
		if r.Corrects { // what was told of the time from then on was otherwise
			out = slices.DeleteFunc(out, func(h HappenedView) bool { return h.Service == r.Service && h.At >= at })
		}
		if r.FromState == r.ToState {
			continue
		}
		to := verdict.State(r.ToState)
		out = append(out, HappenedView{At: at, Kind: "state", Service: r.Service, Bad: to == verdict.Down || to == verdict.Degraded,
			Text: snap.Named(catalogue.Service, r.Service) + " " + to.String()})
	}
	return out, nil
}

// costs are what an incident and what follows it count as under the agreements of their
// services, the scarcest allowance first.
func (s *Server) costs(ctx context.Context, snap *catalogue.Snapshot, i incident.Incident, under []db.Incident) ([]CostView, int, error) {
	now := span.Of(s.Now())
	times := map[string]span.Set{} // by service
	if i.About == incident.Service && !i.Unfounded {
		times[i.Subject.ID] = span.Union(i.Lasted(now))
	}
	lasts := map[string]bool{i.Subject.ID: i.EndedAt == nil}
	for _, r := range under {
		f := incidents.Of(r)
		if f.About == incident.Service && !f.Unfounded {
			times[f.Subject.ID] = span.Union(append(slices.Clone(times[f.Subject.ID]), f.Lasted(now))...)
			lasts[f.Subject.ID] = lasts[f.Subject.ID] || f.EndedAt == nil
		}
	}
	at := max(i.BeganAt, min(now, i.Lasted(now).To-1))
	out, left := []CostView{}, 0
	for _, id := range catalogue.Live(snap.Agreements) {
		service := snap.Agreements[id].Current().Spec.Service
		if times[service] == nil && (i.About != incident.Agreement || i.Subject.ID != id) {
			continue
		}
		if len(out) == mostCosts {
			left++
			continue
		}
		view, shown, err := s.cost(ctx, snap, id, service, at, times[service], lasts[service])
		if err != nil {
			return nil, 0, err
		}
		if shown {
			out = append(out, view)
		}
	}
	slices.SortStableFunc(out, func(a, b CostView) int { return int(min(1, max(-1, a.LeftMS-b.LeftMS))) })
	return out, left, nil
}

// cost is what some time counts as under an agreement; false where it accounts none of it.
func (s *Server) cost(ctx context.Context, snap *catalogue.Snapshot, id, service string, at span.Instant, times span.Set,
	lasts bool) (CostView, bool, error) {
	now := span.Of(s.Now())
	out := CostView{Agreement: id, Name: called(snap, id), Service: snap.Named(catalogue.Service, service), Classes: []ClassTime{}}
	a, period, err := s.accountAt(ctx, snap, id, at)
	if history.Incomputable(err) {
		out.Fault, out.Words = err.Error(), "cannot be accounted: "+err.Error()
		return out, true, nil
	}
	if err != nil || a == nil {
		return out, false, err
	}
	spec := snap.Accounting(id, a.From).Spec
	out.Customer, out.Target, out.Period = snap.Whom(spec), string(spec.TargetPercent), ownPeriod(period)
	out.LeftMS, out.Credit, out.Missed = a.AllowanceLeftMS, a.CreditPercent, a.Verdict == account.Missed
	total := map[account.Class]int64{}
	for _, t := range times {
		for _, c := range standing.CountsAs(a.Intervals, t) {
			total[c.Class] += c.MS
		}
	}
	for c := range account.Class(20) {
		if total[c] > 0 {
			out.Classes = append(out.Classes, ClassTime{c.String(), total[c]})
		}
	}
	down := total[account.Down]
	if len(times) == 0 { // of its own allowance: all that the period has
		down = a.DowntimeMS
	}
	switch {
	case out.Missed:
		out.Words = span.WordsUp(down) + " of it are downtime; the target is missed by " + span.WordsUp(-a.AllowanceLeftMS)
	case a.Final:
		out.Words = span.WordsUp(down) + " of it are downtime; " + span.Words(a.AllowanceLeftMS) + " of the allowance were left at the end"
	default:
		out.Words = span.WordsUp(down) + " of it are downtime; " + span.Words(a.AllowanceLeftMS) + " of the allowance are left"
	}
	if down == 0 && len(times) > 0 {
		out.Words = "nothing of it counts as downtime"
	}
	if lasts && down > 0 && !a.Final && !out.Missed {
		if ends, is := incident.Exhausted(a.Clauses.Hours, now, a.AllowanceLeftMS); is {
			out.EndsAt = ends.String()
		}
	}
	return out, true, nil
}

// accountAt is the account of an agreement over its period at an instant, as far as it is
// known now; nil where it accounts none of it. The error may be history.Incomputable.
func (s *Server) accountAt(ctx context.Context, snap *catalogue.Snapshot, id string, at span.Instant) (*account.Account, calendar.Period, error) {
	period, err := snap.PeriodAt(id, at)
	if err != nil {
		return nil, period, err
	}
	open, err := s.Books.Open(ctx, snap, period, span.Of(s.Now()), nil, []string{id})
	if err != nil || len(open.Bundle.Agreements) == 0 {
		return nil, period, err
	}
	a, err := open.Evidence.Account(open.Bundle.Agreements[0])
	return a, period, err
}

// LikeView is an incident that was like another one.
type LikeView struct {
	IncidentView
	Why string `json:"why" doc:"By what it was like it, where it was about something else"`
}

// like are incidents before one with the same subject or service, or with evidence that
// shows the same.
func (s *Server) like(ctx context.Context, snap *catalogue.Snapshot, i incident.Incident, marks []string, service string) ([]LikeView, error) {
	subjects := []string{i.Subject.ID}
	if i.About == incident.Check {
		subjects = append(subjects, snap.ChecksOf[service]...)
	}
	rows, err := s.Store.IncidentsLike(ctx, db.IncidentsLikeParams{ID: i.ID, BeganAt: i.BeganAt.Time(), About: i.About, Subjects: subjects,
		Subject: i.Subject.ID, Marks: marks, Most: mostLike})
	if err != nil {
		return nil, err
	}
	views, err := s.incidentViews(ctx, snap, rows)
	if err != nil {
		return nil, err
	}
	out := []LikeView{}
	for n, v := range views {
		l := LikeView{IncidentView: v}
		if rows[n].About != i.About || !slices.Contains(subjects, rows[n].Subject) {
			if l.Why = incident.Alike(marks, rows[n].Marks); l.Why == "" {
				l.Why = "It brought the same down."
			}
		}
		out = append(out, l)
	}
	return out, nil
}

func (s *Server) evidence(ctx context.Context, snap *catalogue.Snapshot, id int64) ([]EvidenceView, error) {
	rows, err := s.Store.Evidence(ctx, &id)
	if err != nil {
		return nil, err
	}
	out := []EvidenceView{}
	for _, r := range rows {
		var asked wire.Check
		if err := json.Unmarshal(r.Spec, &asked); err != nil {
			return nil, err
		}
		v := EvidenceView{Location: snap.Named(catalogue.Location, r.Location), AskedAt: span.Of(r.MadeAt), State: "waiting", Kind: asked.Kind,
			Target: asked.Target}
		if r.Moment != nil && r.Label != nil {
			v.Moment, v.Label = *r.Moment, *r.Label
		}
		switch {
		case r.DoneAt != nil:
			var res wire.Result
			if err := json.Unmarshal(r.Result, &res); err != nil {
				return nil, err
			}
			label(snap, res.Findings)
			at := span.Of(*r.DoneAt)
			v.State, v.DoneAt, v.Outcome, v.Measures, v.Detail, v.Findings = "done", &at, res.Outcome.String(), res.Measures, res.Detail,
				res.Findings
		case s.Now().Sub(r.MadeAt) > incidents.Lost:
			v.State = "lost"
		}
		out = append(out, v)
	}
	return out, nil
}
