package api

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"slices"
	"time"

	"kestite/core/account"
	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/span"
	"kestite/core/standing"
	"kestite/core/verdict"
	"kestite/server/auth"
	"kestite/server/history"
	"kestite/server/store/gen/db"
)

// PeriodView is the time that screens show: the band.
type PeriodView struct {
	Name     string        `json:"name" doc:"2026-11, 2026-Q4, 2026-H2, 2026, 2026-W48, or two days, 2026-11-15/2026-12-15"`
	Words    string        `json:"words" doc:"As a sentence says it: October to December 2026"`
	Unit     calendar.Unit `json:"unit" enum:"week,month,quarter,half-year,year," doc:"Empty where it is two days"`
	Timezone string        `json:"timezone"`
	From     span.Instant  `json:"from"`
	To       span.Instant  `json:"to"`
	Now      span.Instant  `json:"now"`
	Before   string        `json:"before" doc:"Name of the one before"`
	After    string        `json:"after" doc:"Name of the one after; it may not have begun"`
	Units    []UnitName    `json:"units" doc:"The band of each unit that holds the end of this one, or the present"`
}

// UnitName is the name of a band of a unit.
type UnitName struct {
	Unit calendar.Unit `json:"unit" enum:"week,month,quarter,half-year,year"`
	Name string        `json:"name"`
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
	Agreement   string            `json:"agreement"`
	Name        string            `json:"name"`
	Customer    string            `json:"customer"`
	Service     string            `json:"service"`
	ServiceName string            `json:"service_name"`
	Target      string            `json:"target_percent"`
	Timezone    string            `json:"timezone"`
	Period      OwnPeriod         `json:"period"`
	Revision    int               `json:"revision" doc:"The revision of the agreement that accounts the period"`
	Figures     Figures           `json:"figures"`
	Intervals   []IntervalView    `json:"intervals"`
	Planned     []span.Span       `json:"planned" doc:"Granted maintenance still to come"`
	Pace        *standing.Outlook `json:"pace,omitempty"`
	Fault       string            `json:"fault,omitempty" doc:"Why it cannot be accounted; the figures say nothing then"`
}

// OwnPeriod is a period of an agreement.
type OwnPeriod struct {
	Name  string       `json:"name"`
	Words string       `json:"words"`
	From  span.Instant `json:"from"`
	To    span.Instant `json:"to"`
}

func ownPeriod(p calendar.Period) OwnPeriod {
	when := p.Span()
	return OwnPeriod{p.Name(), p.Words(), when.From, when.To}
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
	Words   string       `json:"words,omitempty" doc:"Of a report: its period as a sentence says it"`
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

// InPeriod is the band asked for.
type InPeriod struct {
	Period string `query:"period" maxLength:"50" doc:"Month, 2026-11, or another band: 2026-Q4, 2026-H2, 2026, 2026-W48, 2026-11-15/2026-12-15; absent: the present month"`
}

func (s *Server) standingRoutes(a *operations) {
	on(a, auth.Viewer, http.MethodGet, "/standing", "standing", "How every agreement stands", s.standing, costly)
	on(a, auth.Viewer, http.MethodGet, "/states", "states", "The live state of every service", func(ctx context.Context, _ *none) (*list[StateView], error) {
		snap, err := s.Definitions.Snapshot(ctx)
		if err != nil {
			return nil, err
		}
		rows, err := s.Store.States(ctx)
		return items(stateViews(snap, rows)), err
	})
	on(a, auth.Viewer, http.MethodGet, "/agreements/{id}/account", "account-of-agreement", "The account of one agreement", s.accountOf, costly)
	on(a, auth.Viewer, http.MethodGet, "/agreements/{id}/calendar", "calendar-of-agreement",
		"Its periods by name: the next one first, then the present and those before", s.calendarOf)
	on(a, auth.Viewer, http.MethodGet, "/agreements/{id}/periods", "periods-of-agreement", "The last periods, newest first", s.periodsOf, costly)
	on(a, auth.Viewer, http.MethodPost, "/what-if", "what-if", "What the last periods would have looked like under clauses that nobody has agreed to yet, newest first", s.whatIf, costly)
}

func stateViews(snap *catalogue.Snapshot, rows []db.StandingState) []StateView {
	var out []StateView
	for _, r := range rows {
		v := StateView{r.Service, verdict.State(r.State).String(), span.Of(r.SinceAt), span.Of(r.JudgedAt), r.Waiting, false, r.NeverGood, r.Fault}
		e := snap.Services[r.Service]
		v.Awaiting = v.State == "unmeasured" && v.Waiting == 0 && e != nil && v.SinceAt <= e.Since() && len(snap.LiveChecks(r.Service)) > 0
		out = append(out, v)
	}
	return out
}

// longestBand is the most that a screen shows at once.
const longestBand = 400 * span.Day

// band resolves the period parameter in a zone; one that has not begun is refused.
func (s *Server) band(name, zone string) (calendar.Period, error) {
	loc, err := calendar.Zone(zone)
	if err != nil {
		return calendar.Period{}, err
	}
	now := span.Of(s.Now())
	if name == "" {
		return calendar.MonthAt(now, loc), nil
	}
	p, err := calendar.ParsePeriod(name, loc)
	if err != nil {
		return p, definition.Faultf("query.period", "%v", err)
	}
	switch when := p.Span(); {
	case when.From > now:
		return p, definition.Faultf("query.period", "%s has not begun; take the present period or an earlier one", p.Words())
	case when.Length() > longestBand:
		return p, definition.Faultf("query.period", "%s is longer than 400 days; take less", p.Words())
	}
	return p, nil
}

func (s *Server) periodView(p calendar.Period) PeriodView {
	when, now := p.Span(), span.Of(s.Now())
	out := PeriodView{
		Name: p.Name(), Words: p.Words(), Unit: p.UnitOf(), Timezone: p.Location.String(), From: when.From, To: when.To, Now: now,
		Before: p.Next(-1).Name(), After: p.Next(1).Name(),
	}
	for _, u := range []calendar.Unit{calendar.Week, calendar.Month, calendar.Quarter, calendar.HalfYear, calendar.Year} {
		out.Units = append(out.Units, UnitName{u, calendar.Cycle{Unit: u}.At(max(when.From, min(now, when.To-1)), p.Location).Name()})
	}
	return out
}

// ownAt is the period of an agreement that a band shows: the one that holds the
// band's end as the clocks of the agreement show it, or the present where the band
// is not over.
func (s *Server) ownAt(snap *catalogue.Snapshot, agreement string, band calendar.Period) (calendar.Period, error) {
	loc, err := calendar.Zone(snap.Agreements[agreement].Current().Spec.Timezone)
	if err != nil {
		return calendar.Period{}, definition.Faultf("timezone", "%v", err)
	}
	return snap.PeriodAt(agreement, min(span.Of(s.Now()), band.End.Instant(loc, calendar.Shift)-1))
}

func (s *Server) standing(ctx context.Context, in *InPeriod) (*body[Standing], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	band, err := s.band(in.Period, snap.Timezone)
	if err != nil {
		return nil, err
	}
	out := Standing{Period: s.periodView(band), Accounts: []AccountView{}, States: []StateView{}, Needs: []NeedView{}}
	if out.Accounts, err = s.accounts(ctx, snap, band, catalogue.Live(snap.Agreements)); err != nil {
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

// accounts makes the accounts of agreements, each for its own period that a band
// shows, ordered by how soon they would be missed. One that cannot be accounted
// costs its own row.
func (s *Server) accounts(ctx context.Context, snap *catalogue.Snapshot, band calendar.Period, ids []string) ([]AccountView, error) {
	type key struct{ name, zone string }
	groups := map[key][]string{}
	periods := map[key]calendar.Period{}
	out := []AccountView{}
	for _, id := range ids {
		p, err := s.ownAt(snap, id, band)
		if history.Incomputable(err) {
			out = append(out, faultyAccount(snap, id, err))
			continue
		}
		if err != nil {
			return nil, err
		}
		if over, err := ended(snap, id, p); err == nil && over {
			continue
		}
		k := key{p.Name(), p.Location.String()}
		groups[k], periods[k] = append(groups[k], id), p
	}
	for k, ids := range groups {
		list, err := s.accountsIn(ctx, snap, periods[k], ids)
		if history.Incomputable(err) { // one of them; the others stand all the same
			list = nil
			for _, id := range ids {
				one, err := s.accountsIn(ctx, snap, periods[k], []string{id})
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
	slices.SortFunc(out, func(a, b AccountView) int { return standing.Compare(a.row(), b.row()) })
	return out, nil
}

// ended says whether an agreement promises nothing any more in a period, as one does
// not that has another in its place.
func ended(snap *catalogue.Snapshot, agreement string, p calendar.Period) (bool, error) {
	began, err := snap.Begins(agreement, p.Span().From)
	if err != nil || began >= p.Span().From { // it is still to come, or began in it
		return false, err
	}
	promised, err := snap.Promises(agreement, p)
	return !promised, err
}

// accountsIn makes the accounts of agreements that have a period in common.
func (s *Server) accountsIn(ctx context.Context, snap *catalogue.Snapshot, p calendar.Period, ids []string) ([]AccountView, error) {
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
		out = append(out, s.accountView(snap, a, p))
	}
	return out, nil
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

// row is what an agreement's place in the order follows.
func (v AccountView) row() standing.Row {
	return standing.Row{
		Name: v.Name, Faulty: v.Fault != "", Verdict: v.Figures.Verdict, Outlook: v.Pace, LeftMS: v.Figures.AllowanceLeftMS,
		AllowanceMS: v.Figures.AllowanceMS,
	}
}

func (s *Server) accountView(snap *catalogue.Snapshot, a *account.Account, p calendar.Period) AccountView {
	revision := snap.Accounting(a.Agreement, a.From)
	spec := revision.Spec
	out := AccountView{
		Agreement: a.Agreement, Name: spec.Name, Customer: spec.Customer, Service: a.Service,
		ServiceName: snap.Services[a.Service].Current().Spec.Name, Target: string(spec.TargetPercent), Timezone: spec.Timezone,
		Period: ownPeriod(p), Revision: revision.Number, Figures: figures(a), Intervals: intervals(a), Planned: []span.Span{},
	}
	if a.Final {
		return out
	}
	out.Planned = append(out.Planned, a.Clauses.Granted.Cut(span.Span{From: a.To, To: a.Clauses.Period.To})...)
	out.Pace = standing.OutlookOf(a)
	return out
}

func (s *Server) accountOf(ctx context.Context, in *struct {
	ByID
	InPeriod
}) (*body[AccountView], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	if snap.Agreements[in.ID] == nil {
		return nil, catalogue.ErrNotFound
	}
	band, err := s.band(in.Period, snap.Agreements[in.ID].Current().Spec.Timezone)
	if err != nil {
		return nil, err
	}
	list, err := s.accounts(ctx, snap, band, []string{in.ID})
	if err != nil {
		return nil, err
	}
	if len(list) == 0 {
		return nil, definition.Faultf("query.period", "the agreement had ended before; take an earlier period")
	}
	return &body[AccountView]{list[0]}, nil
}

func (s *Server) periodsOf(ctx context.Context, in *struct {
	ByID
	Last int `query:"last" minimum:"1" maximum:"36" default:"12"`
}) (*list[PeriodAccount], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	if snap.Agreements[in.ID] == nil {
		return nil, catalogue.ErrNotFound
	}
	present, err := snap.PeriodAt(in.ID, span.Of(s.Now()))
	if err != nil {
		return nil, err
	}
	before := func(p calendar.Period) (calendar.Period, error) { return snap.PeriodBefore(in.ID, p) }
	return lastPeriods(present, in.Last, before, func(p calendar.Period) (*account.Account, int, error) {
		open, err := s.Books.Open(ctx, snap, p, span.Of(s.Now()), nil, []string{in.ID})
		if err != nil {
			return nil, 0, err
		}
		a, err := open.Evidence.Account(open.Bundle.Agreements[0])
		return a, snap.Accounting(in.ID, p.Span().From).Number, err
	})
}

// PeriodName is a period of an agreement without its account.
type PeriodName struct {
	OwnPeriod
	Revision  int  `json:"revision" doc:"The revision of the agreement that accounts it"`
	Over      bool `json:"over"`
	Published bool `json:"published" doc:"It has a published report"`
}

func (s *Server) calendarOf(ctx context.Context, in *struct {
	ByID
	Last int `query:"last" minimum:"1" maximum:"60" default:"13"`
}) (*list[PeriodName], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	if snap.Agreements[in.ID] == nil {
		return nil, catalogue.ErrNotFound
	}
	published, err := s.Store.PublishedPeriods(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	now := span.Of(s.Now())
	p, err := snap.PeriodAt(in.ID, now)
	if err == nil {
		p, err = snap.PeriodAt(in.ID, p.Span().To)
	}
	var out []PeriodName
	for err == nil {
		when := p.Span()
		out = append(out, PeriodName{ownPeriod(p), snap.Accounting(in.ID, when.From).Number, when.To <= now,
			slices.Contains(published, p.Name())})
		if len(out) > in.Last {
			return items(out), nil
		}
		p, err = snap.PeriodBefore(in.ID, p)
	}
	return nil, err
}

// WhatIf asks for the last periods under clauses.
type WhatIf struct {
	Spec definition.AgreementSpec `json:"spec"`
	Last int                      `json:"last" minimum:"1" maximum:"36"`
}

func (s *Server) whatIf(ctx context.Context, in *body[WhatIf]) (*list[PeriodAccount], error) {
	spec := in.Body.Spec
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	if err := definition.Valid(spec); err != nil {
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
	loc, err := calendar.Zone(spec.Timezone)
	if err != nil {
		return nil, err
	}
	cycle := spec.Period.Cycle()
	before := func(p calendar.Period) (calendar.Period, error) { return cycle.Before(p), nil }
	return lastPeriods(cycle.At(span.Of(s.Now()), loc), in.Body.Last, before, func(p calendar.Period) (*account.Account, int, error) {
		open, err := s.Books.OpenFor(ctx, snap, p, span.Of(s.Now()), services)
		if err != nil {
			return nil, 0, err
		}
		a, err := open.Evidence.Account(agreement)
		return a, 0, err
	})
}

// lastPeriods accounts the present period and those before it; of gives the account
// of one, with the number of the revision that it follows.
func lastPeriods(present calendar.Period, last int, before func(calendar.Period) (calendar.Period, error),
	of func(calendar.Period) (*account.Account, int, error)) (*list[PeriodAccount], error) {
	var out []PeriodAccount
	for p := present; ; {
		a, revision, err := of(p)
		if err != nil {
			return nil, err
		}
		out = append(out, PeriodAccount{p.Name(), p.Words(), p.Span(), revision, figures(a), intervals(a)})
		if len(out) == last {
			return items(out), nil
		}
		if p, err = before(p); err != nil {
			return nil, err
		}
	}
}

// PeriodAccount is the account of one period in a list of them.
type PeriodAccount struct {
	Period    string         `json:"period"`
	Words     string         `json:"words"`
	Span      span.Span      `json:"span"`
	Revision  int            `json:"revision" doc:"The revision of the agreement that accounts it; 0 in a what-if"`
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
			out = append(out, NeedView{Kind: "agent", Subject: name, ID: id, Text: "has no agent yet", At: snap.Locations[id].Since()})
		case s.Now().Sub(seen) > connectedFor:
			out = append(out, NeedView{Kind: "agent", Subject: name, ID: id, Text: "its agent is silent", At: span.Of(seen), MS: int64(now - span.Of(seen))})
		}
	}
	for _, v := range st.States {
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
	due, err := s.reportsDue(ctx, snap)
	return append(out, due...), err
}

// reportsDue lists agreements whose last finished period has no published report.
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
		last, err := lastFinished(snap, id, span.Of(s.Now()))
		if err != nil {
			continue // it cannot be accounted, and is named for that
		}
		if promised, err := snap.Promises(id, last); err != nil || !promised || published[id+" "+last.Name()] {
			continue
		}
		out = append(out, NeedView{Kind: "report", Subject: snap.Named(catalogue.Agreement, id), ID: id, Text: last.Name(),
			Words: last.Words(),
			At:    last.Span().To})
	}
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
