package api

import (
	"cmp"
	"context"
	"net/http"
	"slices"
	"strings"

	"kestite/core/access"
	"kestite/core/account"
	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/span"
	"kestite/core/standing"
	"kestite/core/verdict"
	"kestite/server/accounting"
	"kestite/server/store/gen/db"
)

// SpanView is the time that screens show: the band.
type SpanView struct {
	Name     string        `json:"name" doc:"2026-11, 2026-Q4, 2026-H2, 2026, 2026-W48, two days, 2026-11-15/2026-12-15, or two instants"`
	Words    string        `json:"words" doc:"As a sentence says it: October to December 2026"`
	Unit     calendar.Unit `json:"unit" enum:"week,month,quarter,half-year,year," doc:"Empty where it is two days or two instants"`
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
	Balance                 Balance                 `json:"balance"`
	TotalMS                 account.Totals          `json:"total_ms"`
	Outages                 account.Outages         `json:"outages"`
	CreditPercent           string                  `json:"credit_percent"`
	Latency                 *account.LatencyOutcome `json:"latency,omitempty"`
	Objectives              *account.ObjectivesMet  `json:"objectives,omitempty"`
}

// Balance is allowance, use and rest in words for one sentence, where the rest is the
// difference of the other two as they are printed.
type Balance struct {
	Allowed string `json:"allowed"`
	Used    string `json:"used"`
	Left    string `json:"left"`
}

func balance(a *account.Account) (b Balance) {
	b.Allowed, b.Used, b.Left = span.Balance(a.AllowanceMS, a.DowntimeMS)
	return b
}

func figures(a *account.Account) Figures {
	return Figures{
		Balance: balance(a),
		Final:   a.Final, Verdict: a.Verdict, AvailabilityPercent: a.AvailabilityPercent,
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

// AccountRow is an agreement with its account of a period, as it stands among others.
type AccountRow struct {
	Agreement   string            `json:"agreement"`
	Name        string            `json:"name"`
	Customer    string            `json:"customer" doc:"What the customer is called; empty for an internal target"`
	CustomerID  string            `json:"customer_id,omitempty"`
	Contract    string            `json:"contract,omitempty" doc:"What the contract is called that it is a part of"`
	Part        string            `json:"part,omitempty" doc:"The part of the period that it promises, where that is not all of it, such as from 15 Nov"`
	Service     string            `json:"service"`
	ServiceName string            `json:"service_name"`
	Target      string            `json:"target_percent"`
	Timezone    string            `json:"timezone"`
	Period      OwnPeriod         `json:"period"`
	Revision    int               `json:"revision" doc:"The revision of the agreement that accounts the period"`
	AsOf        span.Instant      `json:"as_of" doc:"Up to when the figures go: the end of the period, or lately; of those that stand, when they were published or frozen"`
	Word        string            `json:"word" enum:"met,missed,at risk,on track,not measured,insufficient,not applicable,unknown" doc:"How it stands"`
	Figures     Figures           `json:"figures"`
	Planned     []span.Span       `json:"planned" doc:"Granted maintenance still to come"`
	Pace        *standing.Outlook `json:"pace,omitempty"`
	Stands      *StandsView       `json:"stands,omitempty" doc:"The figures are those that were published or frozen, and stand"`
	Fault       string            `json:"fault,omitempty" doc:"Why it cannot be accounted; the figures say nothing then"`
}

// StandsView is by what the account of a period stands, whatever it would be today.
type StandsView struct {
	How     string       `json:"how" enum:"published,frozen"`
	At      span.Instant `json:"at" doc:"When it was published or frozen"`
	Report  string       `json:"report,omitempty" doc:"The latest published one"`
	Number  int          `json:"number,omitempty" doc:"Of that report"`
	Differs []string     `json:"differs" doc:"How the account of today is otherwise, in words; nothing where it is not, and to customers, who are told by a revision"`
	Today   *Figures     `json:"today,omitempty" doc:"The figures of today, where they are otherwise"`
}

func standsView(ctx context.Context, s *accounting.Stands, today *account.Account) *StandsView {
	if s == nil {
		return nil
	}
	out := &StandsView{How: s.How(), At: s.At, Report: s.Report, Number: s.Number, Differs: []string{}}
	if !sees(ctx) {
		return out
	}
	out.Differs = append(out.Differs, s.Differs(today)...)
	if len(out.Differs) > 0 && today != nil {
		f := figures(today)
		out.Today = &f
	}
	return out
}

// AccountView is an agreement with its account of a period, interval by interval.
type AccountView struct {
	AccountRow
	Intervals []IntervalView     `json:"intervals"`
	classes   []account.Interval // the same, to be counted
}

// ListedAccount is an agreement as it stands in a band.
type ListedAccount struct {
	AccountRow
	Strip string `json:"strip" doc:"Its classes over the band in columns of equal length, from left to right, as 212u 1u96d4 300: 212 columns of up, one that was up for 96 per cent of its time and down for 4, and 300 of which nothing is said. u up, g degraded, d down, t tolerated, m maintenance, s upstream, x excused, n unmeasured, o outside"`
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
	Kind    string       `json:"kind" enum:"fault,down,degraded,notices,allowance,check,agent,request,adjustment,objection,never-good,unmeasured"`
	Subject string       `json:"subject"`
	ID      string       `json:"id"`
	Service string       `json:"service,omitempty"`
	Text    string       `json:"text"`
	At      span.Instant `json:"at"`
	MS      int64        `json:"ms,omitempty"`
	With    []string     `json:"with,omitempty" doc:"What is bad because of it"`

	Incident int64  `json:"incident,omitempty" doc:"Its number, where it is one"`
	Severity string `json:"severity,omitempty" enum:"critical,major,minor,"`
	By       string `json:"acknowledged_by,omitempty" doc:"What the person is called who is on it"`
}

// Standing is the home screen.
type Standing struct {
	Span       SpanView         `json:"span"`
	Agreements int              `json:"agreements" doc:"How many stand in the band"`
	Found      int              `json:"found" doc:"How many of them match what was looked for; accounts may be fewer"`
	Summary    standing.Summary `json:"summary" doc:"How all of them stand"`
	Accounts   []ListedAccount  `json:"accounts" doc:"By how soon they would be missed"`
	Needs      []NeedView       `json:"needs" doc:"The most pressing first"`
	NeedsLeft  int              `json:"needs_left" doc:"How many more there are"`
	Reports    ReportsDue       `json:"reports"`
	Services   int              `json:"services"`
	Checks     int              `json:"checks"`
}

// mostListed is how many rows one answer has, mostNeeds how many needs.
const (
	mostListed = 100
	mostNeeds  = 40
)

// InSpan is the band asked for.
type InSpan struct {
	Span string `query:"span" maxLength:"60" doc:"Month, 2026-11, or another band: 2026-Q4, 2026-H2, 2026, 2026-W48, 2026-11-15/2026-12-15, or two instants, 2026-11-15T08:00:00Z/2026-11-15T09:30:00Z, ten minutes apart at least; absent: the present month"`
}

func (s *Server) standingRoutes(a *operations) {
	on(a, access.Own, http.MethodGet, "/standing", "standing", "How every agreement stands", s.standing, costly)
	on(a, access.Own, http.MethodGet, "/accounts", "accounts", "How some agreements stand in a band", s.listedAccounts, costly)
	on(a, access.See, http.MethodGet, "/states", "states", "The live state of every service", func(ctx context.Context, _ *none) (*list[StateView], error) {
		snap, err := s.Definitions.Snapshot(ctx)
		if err != nil {
			return nil, err
		}
		rows, err := s.Store.States(ctx)
		return items(stateViews(snap, rows)), err
	})
	on(a, access.Own, http.MethodGet, "/agreements/{id}/account", "account-of-agreement", "The account of one agreement", s.accountOf, costly)
	on(a, access.Own, http.MethodGet, "/agreements/{id}/calendar", "calendar-of-agreement",
		"Its periods by name: the next one first, then the present and those before", s.calendarOf)
	on(a, access.Own, http.MethodGet, "/agreements/{id}/periods", "periods-of-agreement", "The last periods, newest first", s.periodsOf, costly)
	on(a, access.See, http.MethodPost, "/clauses", "clauses-in-words",
		"The sentences that a contract would have for clauses; nothing is kept", s.sentences)
	on(a, access.See, http.MethodPost, "/what-if", "what-if", "What the last periods would have looked like under clauses that nobody has agreed to yet, newest first", s.whatIf, costly)
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

// shortestBand is the least.
const shortestBand = 10 * span.Minute

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
	p, err := calendar.ParseSpan(name, loc)
	if err != nil {
		return p, definition.Faultf("query.span", "%v", err)
	}
	switch when := p.Span(); {
	case when.From > now:
		return p, definition.Faultf("query.span", "%s has not begun; take the present period or an earlier one", p.Words())
	case when.Length() > longestBand:
		return p, definition.Faultf("query.span", "%s is longer than 400 days; take less", p.Words())
	case when.Length() < shortestBand:
		return p, definition.Faultf("query.span", "%s is shorter than 10 minutes; take more", p.Words())
	}
	return p, nil
}

func (s *Server) spanView(p calendar.Period) SpanView {
	when, now := p.Span(), span.Of(s.Now())
	out := SpanView{
		Name: p.Name(), Words: p.Words(), Unit: p.UnitOf(), Timezone: p.Location.String(), From: when.From, To: when.To, Now: now,
		Before: p.Next(-1).Name(), After: p.Next(1).Name(),
	}
	for _, u := range []calendar.Unit{calendar.Week, calendar.Month, calendar.Quarter, calendar.HalfYear, calendar.Year} {
		out.Units = append(out.Units, UnitName{u, calendar.Cycle{Unit: u}.At(max(when.From, min(now, when.To-1)), p.Location).Name()})
	}
	return out
}

// InStanding asks for a part of the home screen.
type InStanding struct {
	InSpan
	Find  string `query:"find" maxLength:"80" doc:"Words that all occur in the name, the customer or the service"`
	From  int    `query:"from" minimum:"0" maximum:"100000" default:"0" doc:"How many of the most urgent to leave out"`
	Count int    `query:"count" minimum:"0" maximum:"100" default:"100"`
}

func (s *Server) standing(ctx context.Context, in *InStanding) (*body[Standing], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	band, err := s.band(in.Span, snap.Timezone)
	if err != nil {
		return nil, err
	}
	ids := slices.DeleteFunc(catalogue.Live(snap.Agreements), func(id string) bool { return !mayAsk(ctx, snap, id) })
	rows, err := s.Board.Rows(ctx, snap, span.Of(s.Now()), band, ids)
	if err != nil {
		return nil, err
	}
	rows = slices.DeleteFunc(rows, func(r accounting.Row) bool { return !shown(ctx, snap, r) })
	called := func(id string) string { return called(snap, id) }
	today := rows
	if rows, err = s.Kept.Stand(ctx, rows); err != nil {
		return nil, err
	}
	accounting.Sort(rows, called)
	out := Standing{
		Span: s.spanView(band), Agreements: len(rows), Accounts: []ListedAccount{},
	}
	if sees(ctx) {
		out.Services, out.Checks = len(catalogue.Live(snap.Services)), len(catalogue.Live(snap.Checks))
		needs, err := s.needs(ctx, snap, today)
		if err != nil {
			return nil, err
		}
		out.Needs = needs[:min(mostNeeds, len(needs))]
		out.NeedsLeft = len(needs) - len(out.Needs)
		if out.Reports, err = s.reportsDue(ctx, snap); err != nil {
			return nil, err
		}
	}
	for _, r := range rows {
		out.Summary.Add(r.Standing(called(r.Agreement)), r.Final())
	}
	if words := strings.Fields(strings.ToLower(in.Find)); len(words) > 0 {
		rows = slices.DeleteFunc(slices.Clone(rows), func(r accounting.Row) bool { return !matches(snap, r.Agreement, words) })
	}
	out.Found = len(rows)
	from := min(in.From, len(rows))
	for _, r := range rows[from:min(from+in.Count, len(rows))] {
		out.Accounts = append(out.Accounts, listed(ctx, snap, r, band))
	}
	return &body[Standing]{out}, nil
}

// called is what people call an agreement.
func called(snap *catalogue.Snapshot, agreement string) string {
	return cmp.Or(snap.Agreements[agreement].Current().Spec.Name, agreement)
}

// matches says whether all words, in small letters, occur in what an agreement is called.
func matches(snap *catalogue.Snapshot, agreement string, words []string) bool {
	spec := snap.Agreements[agreement].Current().Spec
	text := strings.ToLower(strings.Join([]string{spec.Name, snap.Whom(spec), snap.Named(catalogue.Service, spec.Service)}, " "))
	return !slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(text, w) })
}

// Accounts are some agreements as they stand in a band.
type Accounts struct {
	Span     SpanView        `json:"span"`
	Accounts []ListedAccount `json:"accounts" doc:"By how soon they would be missed"`
}

func (s *Server) listedAccounts(ctx context.Context, in *struct {
	InSpan
	IDs []string `query:"ids,explode" maxItems:"100" doc:"Of agreements; what is no agreement, or had ended before, is left out"`
}) (*body[Accounts], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	band, err := s.band(in.Span, snap.Timezone)
	if err != nil {
		return nil, err
	}
	var ids []string
	for _, id := range in.IDs {
		if mayAsk(ctx, snap, id) && !slices.Contains(ids, id) {
			ids = append(ids, id)
		}
	}
	rows, err := s.Board.Rows(ctx, snap, span.Of(s.Now()), band, ids)
	if err != nil {
		return nil, err
	}
	rows = slices.DeleteFunc(rows, func(r accounting.Row) bool { return !shown(ctx, snap, r) })
	if rows, err = s.Kept.Stand(ctx, rows); err != nil {
		return nil, err
	}
	accounting.Sort(rows, func(id string) string { return called(snap, id) })
	out := Accounts{Span: s.spanView(band), Accounts: []ListedAccount{}}
	for _, r := range rows {
		out.Accounts = append(out.Accounts, listed(ctx, snap, r, band))
	}
	return &body[Accounts]{out}, nil
}

// listed is a row with its strip over a band.
func listed(ctx context.Context, snap *catalogue.Snapshot, r accounting.Row, band calendar.Period) ListedAccount {
	out := ListedAccount{AccountRow: accountRow(ctx, snap, r)}
	if r.Account != nil {
		out.Strip = standing.Strip(r.Account.Intervals, band.Span(), standing.MostColumns)
	}
	return out
}

// accountRow is a row as it is shown. An agreement that cannot be accounted has no figures.
func accountRow(ctx context.Context, snap *catalogue.Snapshot, r accounting.Row) AccountRow {
	spec := snap.Agreements[r.Agreement].Current().Spec
	if r.Account != nil {
		spec = snap.Accounting(r.Agreement, r.Account.From).Spec
	}
	name := cmp.Or(spec.Name, r.Agreement)
	out := AccountRow{
		Agreement: r.Agreement, Name: name, Customer: snap.Whom(spec), CustomerID: spec.Customer, Service: spec.Service, ServiceName: spec.Service,
		Target: string(spec.TargetPercent), Timezone: spec.Timezone, Word: r.Standing(name).Word(), Planned: []span.Span{},
	}
	if e := snap.Services[spec.Service]; e != nil {
		out.ServiceName = e.Current().Spec.Name
	}
	if r.Account == nil {
		out.Fault = r.Fault.Error()
		return out
	}
	if spec.Contract != "" {
		out.Contract = snap.Named(catalogue.Contract, spec.Contract)
	}
	out.Part, _ = snap.Part(r.Agreement, r.Period) // what cannot be told has no account
	out.Period, out.Revision, out.AsOf = ownPeriod(r.Period), r.Revision, r.Account.To
	out.Figures, out.Planned, out.Pace = figures(r.Account), r.Planned, r.Outlook
	if out.Stands = standsView(ctx, r.Stands, r.Today); out.Stands != nil {
		out.AsOf = out.Stands.At
	}
	return out
}

// accountView is a row interval by interval.
func accountView(ctx context.Context, snap *catalogue.Snapshot, r accounting.Row) AccountView {
	out := AccountView{AccountRow: accountRow(ctx, snap, r), Intervals: []IntervalView{}}
	if r.Account != nil {
		out.Intervals, out.classes = intervals(r.Account), r.Account.Intervals
	}
	return out
}

// accounts makes the accounts of agreements, each for its own period that a band
// shows, by how soon they would be missed.
func (s *Server) accounts(ctx context.Context, snap *catalogue.Snapshot, band calendar.Period, ids []string) ([]AccountView, error) {
	rows, err := s.Board.Now(ctx, snap, span.Of(s.Now()), band, ids)
	if err != nil {
		return nil, err
	}
	if rows, err = s.Kept.Stand(ctx, rows); err != nil {
		return nil, err
	}
	accounting.Sort(rows, func(id string) string { return called(snap, id) })
	out := []AccountView{}
	for _, r := range rows {
		if shown(ctx, snap, r) {
			out = append(out, accountView(ctx, snap, r))
		}
	}
	return out, nil
}

func (s *Server) accountOf(ctx context.Context, in *struct {
	ByID
	InSpan
}) (*body[AccountView], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	if !mayAsk(ctx, snap, in.ID) {
		return nil, catalogue.ErrNotFound
	}
	band, err := s.band(in.Span, snap.Agreements[in.ID].Current().Spec.Timezone)
	if err != nil {
		return nil, err
	}
	list, err := s.accounts(ctx, snap, band, []string{in.ID})
	if err != nil {
		return nil, err
	}
	if len(list) == 0 {
		return nil, definition.Faultf("query.span", "the agreement had ended before; take an earlier period")
	}
	return &body[AccountView]{list[0]}, nil
}
