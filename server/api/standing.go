package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"sort"
	"strings"
	"time"

	"kestite/core/account"
	"kestite/core/calendar"
	"kestite/core/definition"
	"kestite/core/span"
	"kestite/core/verdict"
	"kestite/server/auth"
	"kestite/server/catalogue"
	"kestite/server/history"
	"kestite/server/store/gen/db"
)

// PeriodView is the month that screens show.
type PeriodView struct {
	Name     string       `json:"name" doc:"2026-11"`
	Timezone string       `json:"timezone"`
	From     span.Instant `json:"from"`
	To       span.Instant `json:"to"`
	Now      span.Instant `json:"now"`
}

// Figures is an account without its intervals.
type Figures struct {
	Final                   bool                    `json:"final"`
	Verdict                 account.Verdict         `json:"verdict" enum:"met,missed,on-track,insufficient,not-applicable"`
	AvailabilityPercent     *string                 `json:"availability_percent"`
	AvailabilityLowPercent  *string                 `json:"availability_low_percent"`
	AvailabilityHighPercent *string                 `json:"availability_high_percent"`
	CoveragePercent         string                  `json:"coverage_percent"`
	AllowanceMS             int64                   `json:"allowance_ms"`
	AllowanceLeftMS         int64                   `json:"allowance_left_ms"`
	BaseMS                  int64                   `json:"base_ms"`
	DowntimeMS              int64                   `json:"downtime_ms"`
	TotalMS                 account.Totals          `json:"total_ms"`
	Outages                 account.Outages         `json:"outages"`
	CreditPercent           string                  `json:"credit_percent"`
	Latency                 *account.LatencyOutcome `json:"latency,omitempty"`
	Objectives              *account.ObjectivesMet  `json:"objectives,omitempty"`
}

func figures(a *account.Account) Figures {
	return Figures{
		Final: a.Final, Verdict: a.Verdict, AvailabilityPercent: a.AvailabilityPercent,
		AvailabilityLowPercent: a.AvailabilityLowPercent, AvailabilityHighPercent: a.AvailabilityHighPercent,
		CoveragePercent: a.CoveragePercent, AllowanceMS: a.AllowanceMS, AllowanceLeftMS: a.AllowanceLeftMS,
		BaseMS: a.BaseMS, DowntimeMS: a.DowntimeMS, TotalMS: a.TotalMS, Outages: a.Outages,
		CreditPercent: a.CreditPercent, Latency: a.Latency, Objectives: a.Objectives,
	}
}

// IntervalView is a run of one class.
type IntervalView struct {
	From  span.Instant `json:"from"`
	To    span.Instant `json:"to"`
	Class string       `json:"class" enum:"outside,up,degraded,down,tolerated,maintenance,upstream,excused,unmeasured"`
}

func intervals(a *account.Account) []IntervalView {
	out := make([]IntervalView, 0, len(a.Intervals))
	for _, i := range a.Intervals {
		out = append(out, IntervalView{i.From, i.To, i.Class.String()})
	}
	return out
}

// AccountView is an agreement with its account of a period.
type AccountView struct {
	Agreement   string         `json:"agreement"`
	Name        string         `json:"name"`
	Customer    string         `json:"customer"`
	Service     string         `json:"service"`
	ServiceName string         `json:"service_name"`
	Target      string         `json:"target_percent"`
	Timezone    string         `json:"timezone"`
	Figures     Figures        `json:"figures"`
	Intervals   []IntervalView `json:"intervals"`
	Planned     []span.Span    `json:"planned" doc:"Granted maintenance still to come"`
	Pace        *PaceView      `json:"pace,omitempty"`
	Fault       string         `json:"fault,omitempty" doc:"Why it cannot be accounted; the figures say nothing then"`
}

// PaceView is the forecast at the pace of the last seven days and of the period so far.
type PaceView struct {
	AtRisk     bool          `json:"at_risk"`
	Week       *account.Pace `json:"week"`
	SoFar      *account.Pace `json:"so_far"`
	RunsOutAt  *span.Instant `json:"runs_out_at" doc:"The earlier of the two"`
	RunsOutWhy string        `json:"runs_out_why" enum:"week,so_far,"`
}

// StateView is the live state of a service.
type StateView struct {
	Service   string       `json:"service"`
	State     string       `json:"state" enum:"up,degraded,down,unmeasured"`
	SinceAt   span.Instant `json:"since_at"`
	JudgedAt  span.Instant `json:"judged_at"`
	Waiting   int32        `json:"waiting" doc:"Measurements not yet confirmed"`
	Awaiting  bool         `json:"awaiting" doc:"It has checks, and none was measured yet"`
	NeverGood bool         `json:"never_good" doc:"It is down and was never good: its target may be wrong"`
	Fault     string       `json:"fault,omitempty" doc:"Why it cannot be judged"`
}

// NeedView is something that needs a person.
type NeedView struct {
	Kind    string       `json:"kind" enum:"fault,down,never-good,unmeasured,agent,report,unexplained"`
	Subject string       `json:"subject"`
	ID      string       `json:"id"`
	Service string       `json:"service,omitempty"`
	Text    string       `json:"text"`
	At      span.Instant `json:"at"`
	MS      int64        `json:"ms,omitempty"`
}

// Standing is the home screen.
type Standing struct {
	Period   PeriodView    `json:"period"`
	Accounts []AccountView `json:"accounts" doc:"By how soon they would be missed"`
	States   []StateView   `json:"states"`
	Needs    []NeedView    `json:"needs"`
	Services int           `json:"services"`
	Checks   int           `json:"checks"`
}

// InPeriod is the month asked for.
type InPeriod struct {
	Period string `query:"period" doc:"Month, 2026-11; absent: the present one"`
}

func (s *Server) standingRoutes(a *operations) {
	on(a, auth.Viewer, http.MethodGet, "/standing", "standing", "How every agreement stands", s.standing, costly)
	on(a, auth.Viewer, http.MethodGet, "/states", "states", "The live state of every service", func(ctx context.Context, _ *none) (*list[StateView], error) {
		snap, err := s.Catalogue.Snapshot(ctx)
		if err != nil {
			return nil, err
		}
		rows, err := s.Store.States(ctx)
		return items(stateViews(snap, rows)), err
	})
	on(a, auth.Viewer, http.MethodGet, "/agreements/{id}/account", "account-of-agreement", "The account of one agreement", s.accountOf, costly)
	on(a, auth.Viewer, http.MethodGet, "/agreements/{id}/periods", "periods-of-agreement", "The last periods, newest first", s.periodsOf, costly)
	on(a, auth.Viewer, http.MethodPost, "/what-if", "what-if", "What the last periods would have looked like under clauses that nobody has agreed to yet, newest first", s.whatIf, costly)
}

func stateViews(snap *catalogue.Snapshot, rows []db.StandingState) []StateView {
	var out []StateView
	for _, r := range rows {
		v := StateView{r.Service, verdict.State(r.State).String(), span.Of(r.SinceAt), span.Of(r.JudgedAt), r.Waiting, false, r.NeverGood, r.Fault}
		e := snap.Services[r.Service]
		v.Awaiting = v.State == "unmeasured" && v.Waiting == 0 && e != nil && v.SinceAt <= e.Revisions[0].From && len(liveChecks(snap, r.Service)) > 0
		out = append(out, v)
	}
	return out
}

// month resolves the period parameter in a zone; a month that has not begun is refused.
func (s *Server) month(name, zone string) (calendar.Period, error) {
	loc, err := calendar.Zone(zone)
	if err != nil {
		return calendar.Period{}, err
	}
	now := span.Of(s.Now())
	if name == "" {
		return calendar.Month(now, loc), nil
	}
	p, err := calendar.ParseMonth(name, loc)
	if err != nil {
		return p, &definition.Fault{Path: "query.period", Message: err.Error()}
	}
	if p.Span().From > now {
		return p, &definition.Fault{Path: "query.period", Message: name + " has not begun; take the present month or an earlier one"}
	}
	return p, nil
}

func (s *Server) periodView(p calendar.Period) PeriodView {
	when := p.Span()
	return PeriodView{p.Name(), p.Location.String(), when.From, when.To, span.Of(s.Now())}
}

func (s *Server) standing(ctx context.Context, in *InPeriod) (*body[Standing], error) {
	snap, err := s.Catalogue.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	band, err := s.month(in.Period, snap.Organisation.Timezone)
	if err != nil {
		return nil, err
	}
	out := Standing{Period: s.periodView(band), Accounts: []AccountView{}, States: []StateView{}, Needs: []NeedView{}}
	if out.Accounts, err = s.accounts(ctx, snap, band.Name(), catalogue.Live(snap.Agreements)); err != nil {
		return nil, err
	}
	rows, err := s.Store.States(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range rows {
		if e := snap.Services[r.Service]; e != nil && !e.Retired {
			out.States = append(out.States, stateViews(snap, []db.StandingState{r})...)
		}
	}
	out.Services, out.Checks = len(catalogue.Live(snap.Services)), len(catalogue.Live(snap.Checks))
	if out.Needs, err = s.needs(ctx, snap, out); err != nil {
		return nil, err
	}
	return &body[Standing]{out}, nil
}

// accounts makes the accounts of agreements for a month, each in its own zone,
// ordered by how soon they would be missed.
func (s *Server) accounts(ctx context.Context, snap *catalogue.Snapshot, month string, ids []string) ([]AccountView, error) {
	byZone := map[string][]string{}
	for _, id := range ids {
		zone := snap.Agreements[id].Current().Spec.Timezone
		byZone[zone] = append(byZone[zone], id)
	}
	out := []AccountView{}
	for zone, ids := range byZone {
		list, err := s.accountsIn(ctx, snap, month, zone, ids)
		if history.Incomputable(err) && !isQuery(err) { // one of them; the others stand all the same
			list = nil
			for _, id := range ids {
				one, err := s.accountsIn(ctx, snap, month, zone, []string{id})
				if history.Incomputable(err) {
					one, err = []AccountView{faultyAccount(snap, id, err)}, nil
				}
				if err != nil {
					return nil, err
				}
				list = append(list, one...)
			}
		} else if err != nil {
			return nil, err
		}
		out = append(out, list...)
	}
	sort.Slice(out, func(i, j int) bool { return more(out[i], out[j]) })
	return out, nil
}

// accountsIn makes the accounts of agreements whose periods are in one zone.
func (s *Server) accountsIn(ctx context.Context, snap *catalogue.Snapshot, month, zone string, ids []string) ([]AccountView, error) {
	p, err := s.month(month, zone)
	if err != nil {
		return nil, err
	}
	open, err := s.Books.Open(ctx, snap, p, span.Of(s.Now()), nil, ids)
	if err != nil {
		return nil, err
	}
	list, err := open.Evidence.All()
	if err != nil {
		return nil, err
	}
	var out []AccountView
	for _, a := range list {
		out = append(out, s.accountView(snap, a))
	}
	return out, nil
}

// isQuery says whether an error lies in what was asked.
func isQuery(err error) bool {
	var fault *definition.Fault
	return errors.As(err, &fault) && strings.HasPrefix(fault.Path, "query.")
}

// faultyAccount is an agreement that cannot be accounted.
func faultyAccount(snap *catalogue.Snapshot, id string, why error) AccountView {
	spec := snap.Agreements[id].Current().Spec
	out := AccountView{
		Agreement: id, Name: cmp.Or(spec.Name, id), Customer: spec.Customer, Service: spec.Service, ServiceName: spec.Service,
		Target: string(spec.TargetPercent), Timezone: spec.Timezone, Intervals: []IntervalView{}, Planned: []span.Span{}, Fault: why.Error(),
	}
	if e := snap.Services[spec.Service]; e != nil {
		out.ServiceName = e.Current().Spec.Name
	}
	return out
}

// more says whether a is more urgent than b: missed ones by how far beyond,
// then those that run out, by when, then by the share of allowance left.
func more(a, b AccountView) bool {
	rank := func(v AccountView) int {
		switch {
		case v.Fault != "":
			return -1
		case v.Figures.Verdict == account.Missed:
			return 0
		case v.Pace != nil && v.Pace.RunsOutAt != nil:
			return 1
		}
		return 2
	}
	ra, rb := rank(a), rank(b)
	switch {
	case ra != rb:
		return ra < rb
	case ra == 1 && *a.Pace.RunsOutAt != *b.Pace.RunsOutAt:
		return *a.Pace.RunsOutAt < *b.Pace.RunsOutAt
	}
	share := func(v AccountView) float64 {
		return float64(v.Figures.AllowanceLeftMS) / float64(max(1, v.Figures.AllowanceMS))
	}
	if sa, sb := share(a), share(b); sa != sb {
		return sa < sb
	}
	return a.Name < b.Name
}

func (s *Server) accountView(snap *catalogue.Snapshot, a *account.Account) AccountView {
	spec := snap.Agreements[a.Agreement].InForce(a.From).Spec
	out := AccountView{
		Agreement: a.Agreement, Name: spec.Name, Customer: spec.Customer, Service: a.Service,
		ServiceName: snap.Services[a.Service].Current().Spec.Name, Target: string(spec.TargetPercent), Timezone: spec.Timezone,
		Figures: figures(a), Intervals: intervals(a), Planned: []span.Span{},
	}
	if a.Final {
		return out
	}
	out.Planned = append(out.Planned, a.Clauses.Granted.Cut(span.Span{From: a.To, To: a.Clauses.Period.To})...)
	pace := &PaceView{Week: a.Forecast(a.To.Add(-7 * span.Day)), SoFar: a.Forecast(a.From)}
	for why, p := range map[string]*account.Pace{"week": pace.Week, "so_far": pace.SoFar} {
		if p.RunsOutAt != nil && (pace.RunsOutAt == nil || *p.RunsOutAt < *pace.RunsOutAt || *p.RunsOutAt == *pace.RunsOutAt && why == "week") {
			pace.RunsOutAt, pace.RunsOutWhy = p.RunsOutAt, why
		}
	}
	pace.AtRisk = a.Verdict == account.OnTrack && pace.RunsOutAt != nil
	out.Pace = pace
	return out
}

func (s *Server) accountOf(ctx context.Context, in *struct {
	ByID
	InPeriod
}) (*body[AccountView], error) {
	snap, err := s.Catalogue.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	if snap.Agreements[in.ID] == nil {
		return nil, catalogue.ErrNotFound
	}
	list, err := s.accounts(ctx, snap, in.Period, []string{in.ID})
	if err != nil {
		return nil, err
	}
	return &body[AccountView]{list[0]}, nil
}

func (s *Server) periodsOf(ctx context.Context, in *struct {
	ByID
	Last int `query:"last" minimum:"1" maximum:"36" default:"12"`
}) (*list[PeriodAccount], error) {
	snap, err := s.Catalogue.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	e := snap.Agreements[in.ID]
	if e == nil {
		return nil, catalogue.ErrNotFound
	}
	return s.lastPeriods(e.Current().Spec.Timezone, in.Last, func(p calendar.Period) (*account.Account, error) {
		open, err := s.Books.Open(ctx, snap, p, span.Of(s.Now()), nil, []string{in.ID})
		if err != nil {
			return nil, err
		}
		return open.Evidence.Account(open.Bundle.Agreements[0])
	})
}

// WhatIf asks for the last periods under clauses.
type WhatIf struct {
	Spec definition.AgreementSpec `json:"spec"`
	Last int                      `json:"last" minimum:"1" maximum:"36"`
}

func (s *Server) whatIf(ctx context.Context, in *body[WhatIf]) (*list[PeriodAccount], error) {
	spec := in.Body.Spec
	snap, err := s.Catalogue.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	if err := spec.Validate(); err != nil {
		return nil, definition.Within("spec", err)
	}
	services := []string{spec.Service}
	if spec.Upstream != nil {
		services = append(services, spec.Upstream.Excuse...)
	}
	for _, id := range services {
		if snap.Services[id] == nil {
			return nil, &definition.Fault{Path: "spec.service", Message: "there is no service " + id}
		}
	}
	agreement := spec.Agreement("what-if")
	return s.lastPeriods(spec.Timezone, in.Body.Last, func(p calendar.Period) (*account.Account, error) {
		open, err := s.Books.OpenFor(ctx, snap, p, span.Of(s.Now()), services)
		if err != nil {
			return nil, err
		}
		return open.Evidence.Account(agreement)
	})
}

// lastPeriods accounts the present month of a zone and those before it.
func (s *Server) lastPeriods(zone string, last int, of func(calendar.Period) (*account.Account, error)) (*list[PeriodAccount], error) {
	month, err := s.month("", zone)
	if err != nil {
		return nil, err
	}
	var out []PeriodAccount
	for n := range last {
		p := month.Next(-n)
		a, err := of(p)
		if err != nil {
			return nil, err
		}
		out = append(out, PeriodAccount{p.Name(), p.Span(), figures(a), intervals(a)})
	}
	return items(out), nil
}

// PeriodAccount is the account of one period in a list of them.
type PeriodAccount struct {
	Period    string         `json:"period"`
	Span      span.Span      `json:"span"`
	Figures   Figures        `json:"figures"`
	Intervals []IntervalView `json:"intervals"`
}

// needs lists what a person should look at now, most pressing first.
func (s *Server) needs(ctx context.Context, snap *catalogue.Snapshot, st Standing) ([]NeedView, error) {
	now := span.Of(s.Now())
	out := []NeedView{}
	for _, u := range snap.Unreadable {
		out = append(out, NeedView{Kind: "fault", Subject: u.Kind + " " + u.ID, ID: u.ID, Text: "cannot be read: " + u.Why, At: now})
	}
	for _, a := range st.Accounts {
		if a.Fault != "" {
			out = append(out, NeedView{Kind: "fault", Subject: a.Name, ID: a.Agreement, Text: "cannot be accounted", At: now}) // its row says why
		}
	}
	for _, v := range st.States {
		if v.Fault != "" {
			out = append(out, NeedView{Kind: "fault", Subject: snap.Services[v.Service].Current().Spec.Name, ID: v.Service, Service: v.Service, Text: "cannot be judged: " + v.Fault, At: v.SinceAt})
		}
	}
	for _, v := range st.States {
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
			out = append(out, NeedView{Kind: "agent", Subject: name, ID: id, Text: "has no agent yet", At: snap.Locations[id].Revisions[0].From})
		case s.Now().Sub(seen) > connectedFor:
			out = append(out, NeedView{Kind: "agent", Subject: name, ID: id, Text: "its agent is silent", At: span.Of(seen), MS: int64(now - span.Of(seen))})
		}
	}
	for _, v := range st.States {
		name := snap.Services[v.Service].Current().Spec.Name
		if v.NeverGood {
			out = append(out, NeedView{Kind: "never-good", Subject: name, ID: v.Service, Service: v.Service, Text: "was never good; is its target right?", At: v.SinceAt, MS: int64(now - v.SinceAt)})
		}
		if v.State == "unmeasured" && v.Fault == "" && len(liveChecks(snap, v.Service)) > 0 {
			text := "not measured"
			if v.Awaiting {
				text = "awaiting its first measurement"
			}
			out = append(out, NeedView{Kind: "unmeasured", Subject: name, ID: v.Service, Service: v.Service, Text: text, At: v.SinceAt, MS: int64(now - v.SinceAt)})
		}
	}
	due, err := s.reportsDue(ctx, snap)
	return append(out, due...), err
}

func liveChecks(snap *catalogue.Snapshot, service string) []string {
	var out []string
	for _, id := range snap.ChecksOf[service] {
		if !snap.Checks[id].Retired {
			out = append(out, id)
		}
	}
	return out
}

// reportsDue lists agreements whose last finished month has no published report.
func (s *Server) reportsDue(ctx context.Context, snap *catalogue.Snapshot) ([]NeedView, error) {
	rows, err := s.Store.ReportList(ctx)
	if err != nil {
		return nil, err
	}
	published := map[string]bool{}
	for _, r := range rows {
		if r.State == "published" {
			published[r.Agreement+" "+r.Period] = true
		}
	}
	var out []NeedView
	for _, id := range catalogue.Live(snap.Agreements) {
		e := snap.Agreements[id]
		spec := e.Current().Spec
		month, err := s.month("", spec.Timezone)
		if err != nil {
			continue // it cannot be accounted, and is named for that
		}
		last := month.Next(-1)
		if began, err := snap.Begins(id); err != nil || began >= last.Span().To || published[id+" "+last.Name()] {
			continue
		}
		out = append(out, NeedView{Kind: "report", Subject: spec.Name, ID: id, Text: last.Name(), At: last.Span().To})
	}
	return out, nil
}
