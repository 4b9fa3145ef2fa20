package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"net/http"
	"slices"
	"sort"
	"strings"

	"github.com/jackc/pgx/v5"

	"kestite/core/access"
	"kestite/core/account"
	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/core/standing"
	"kestite/core/verdict"
	"kestite/server/history"
	"kestite/server/store/gen/db"
	"kestite/server/store/raw"
)

// ServiceSpan is a service over a band: its own strip, a lane for each check
// and location, what it depends on, and its agreements' accounts.
type ServiceSpan struct {
	Span     SpanView                        `json:"span"`
	Service  Defined[definition.ServiceSpec] `json:"service"`
	State    *StateView                      `json:"state,omitempty"`
	Strip    []IntervalView                  `json:"strip"`
	Checks   []CheckLanes                    `json:"checks"`
	Upstream []UpstreamStrip                 `json:"upstream"`
	Outages  []OutageView                    `json:"outages" doc:"The latest times that it was down or degraded, the last first"`
	Earlier  int                             `json:"earlier_outages" doc:"How many more there are in the band"`
	Accounts []AccountView                   `json:"accounts"`
}

// CheckLanes is a check with its lanes.
type CheckLanes struct {
	Check Defined[definition.CheckSpec] `json:"check"`
	Strip []IntervalView                `json:"strip" doc:"What its quorum makes of the locations"`
	Lanes []LaneView                    `json:"lanes"`
}

// LaneView is a check at one location.
type LaneView struct {
	Location     string         `json:"location"`
	LocationName string         `json:"location_name"`
	Strip        []IntervalView `json:"strip"`
	Points       []PointView    `json:"points"`
	StepMS       int64          `json:"step_ms" doc:"What a point sums up; 0: each is a measurement"`
	Last         *Sample        `json:"last,omitempty" doc:"The latest measurement"`
	Waiting      int64          `json:"waiting" doc:"Measurements not yet confirmed"`
}

// UpstreamStrip is a service that this one depends on.
type UpstreamStrip struct {
	Service string         `json:"service"`
	Name    string         `json:"name"`
	Strip   []IntervalView `json:"strip"`
}

// Sample is one raw measurement.
type Sample struct {
	At       span.Instant       `json:"at"`
	Outcome  string             `json:"outcome" enum:"ok,degraded,failed,error"`
	Measures map[string]float64 `json:"measures"`
	LateMS   int32              `json:"late_ms"`
	DelayS   int32              `json:"delay_s" doc:"How long after it was made it arrived; long when the agent was cut off from the server"`
	Detail   string             `json:"detail"`
	Clock    *SampleClock       `json:"clock,omitempty" doc:"How its instant was placed; absent where nobody said"`
	Findings *measure.Findings  `json:"findings,omitempty"`
	Route    *SampleRoute       `json:"route,omitempty" doc:"Of a path: since when its route is the one that was seen, and which it was before"`
}

// SampleRoute says how long a route has been what it is.
type SampleRoute struct {
	Route  string       `json:"route" doc:"Fingerprint of its addresses, hexadecimal"`
	Since  span.Instant `json:"since" doc:"The first measurement that saw it without a break, of those of the last day"`
	Before string       `json:"before,omitempty" doc:"The route before; absent: it was the same for a day, or longer"`
	Change string       `json:"change,omitempty" doc:"In what they differ, as the agent saw it"`
}

// SampleClock says how an instant was placed on the database's clock.
type SampleClock struct {
	OffsetMS    int32 `json:"offset_ms" doc:"How far the own clock of the agent was ahead"`
	UncertainMS int32 `json:"uncertain_ms" doc:"How far the instant may be wrong"`
}

func (s *Server) momentRoutes(a *operations) {
	on(a, access.See, http.MethodGet, "/services/{id}/span", "service-span", "A service over a band, lane by lane",
		s.serviceSpan, costly)
	on(a, access.See, http.MethodGet, "/services/{id}/moment", "service-moment", "Why an instant counts as it does, rule by rule, down to the measurements", s.moment, costly)
	on(a, access.See, http.MethodGet, "/services/{id}/transitions", "service-transitions",
		"How its state changed, as it was told: the latest first", s.transitions)
	on(a, access.See, http.MethodGet, "/services/strips", "service-strips", "The states of services over a band", s.strips, costly)
}

// strip returns the states of a timeline inside within.
func strip(line span.Timeline[verdict.Views], within span.Span) []IntervalView {
	out := []IntervalView{}
	span.Map(line, func(v verdict.Views) verdict.State { return v[verdict.Nominal] }).Runs(within, func(s span.Span, v verdict.State) {
		out = append(out, IntervalView{s.From, s.To, v.String()})
	})
	return out
}

// shown is the part of a band that has passed.
func (s *Server) shown(p calendar.Period) span.Span {
	return p.Span().Intersect(span.Span{From: span.Beginning, To: span.Of(s.Now())})
}

// Strips are the states of services over a band.
type Strips struct {
	Span   SpanView               `json:"span"`
	Strips map[string]StatesStrip `json:"strips" doc:"By service"`
}

// StatesStrip is how the state of a service was.
type StatesStrip struct {
	Strip   string           `json:"strip" doc:"Its states over the band in columns of equal length, written as those of accounts"`
	TotalMS map[string]int64 `json:"total_ms" doc:"Its time in each state"`
}

func (s *Server) strips(ctx context.Context, in *struct {
	InSpan
	IDs []string `query:"ids,explode" maxItems:"100" doc:"Of services; absent: the band alone. What is no service is left out"`
}) (*body[Strips], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	band, err := s.band(in.Span, snap.Timezone)
	if err != nil {
		return nil, err
	}
	out := Strips{Span: s.spanView(band), Strips: map[string]StatesStrip{}}
	ids := slices.DeleteFunc(in.IDs, func(id string) bool { return snap.Services[id] == nil })
	if len(ids) == 0 {
		return &body[Strips]{out}, nil
	}
	err = s.stripsOf(ctx, snap, band, ids, out.Strips)
	if history.Incomputable(err) { // one of them; the others have theirs all the same
		for _, id := range ids {
			if err = s.stripsOf(ctx, snap, band, []string{id}, out.Strips); err != nil && !history.Incomputable(err) {
				return nil, err
			}
		}
		err = nil
	}
	if err != nil {
		return nil, err
	}
	return &body[Strips]{out}, nil
}

func (s *Server) stripsOf(ctx context.Context, snap *catalogue.Snapshot, band calendar.Period, ids []string,
	out map[string]StatesStrip) error {
	open, err := s.Books.Open(ctx, snap, band, span.Of(s.Now()), ids, nil)
	if err != nil {
		return err
	}
	for _, id := range ids {
		states := account.OfStates(open.Evidence.Service(id), s.shown(band))
		total := map[string]int64{}
		for _, i := range states {
			total[i.Class.String()] += int64(i.To - i.From)
		}
		out[id] = StatesStrip{standing.Strip(states, band.Span(), standing.MostColumns), total}
	}
	return nil
}

func (s *Server) serviceSpan(ctx context.Context, in *struct {
	ByID
	InSpan
}) (*body[ServiceSpan], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	e := snap.Services[in.ID]
	if e == nil {
		return nil, catalogue.ErrNotFound
	}
	band, err := s.band(in.Span, snap.Timezone)
	if err != nil {
		return nil, err
	}
	open, err := s.Books.Open(ctx, snap, band, span.Of(s.Now()), []string{in.ID}, nil)
	if err != nil {
		return nil, err
	}
	when := s.shown(band)
	out := ServiceSpan{
		Span: s.spanView(band), Service: defined(e), Strip: strip(open.Evidence.Service(in.ID), when),
		Checks: []CheckLanes{}, Upstream: []UpstreamStrip{}, Accounts: []AccountView{},
	}
	states, err := s.Store.States(ctx)
	if err != nil {
		return nil, err
	}
	for _, v := range stateViews(snap, states) {
		if v.Service == in.ID {
			out.State = &v
		}
	}
	for _, id := range snap.ChecksOf[in.ID] {
		detail, err := s.checkLanes(ctx, snap, open, id, when)
		if err != nil {
			return nil, err
		}
		if detail != nil {
			out.Checks = append(out.Checks, *detail)
		}
	}
	for _, id := range snap.Needed(when, in.ID) {
		if id != in.ID {
			out.Upstream = append(out.Upstream, UpstreamStrip{id, snap.Services[id].Current().Spec.Name, strip(open.Evidence.Service(id), when)})
		}
	}
	var agreements []string
	for _, id := range catalogue.Live(snap.Agreements) {
		if snap.Agreements[id].Current().Spec.Service == in.ID {
			agreements = append(agreements, id)
		}
	}
	if out.Accounts, err = s.accounts(ctx, snap, band, agreements); err != nil {
		return nil, err
	}
	err = s.outages(ctx, snap, open, when, &out)
	return &body[ServiceSpan]{out}, err
}

// checkLanes returns a check's lanes in a period; nil when it was not in force in it.
func (s *Server) checkLanes(ctx context.Context, snap *catalogue.Snapshot, open *history.Period, id string, when span.Span) (*CheckLanes, error) {
	revisions := verdict.Revisions(open.Bundle.Checks[id])
	var places []string
	seen := map[string]bool{}
	for _, r := range revisions {
		valid := span.Span{From: definition.Begins(r.From), To: definition.Ends(r.Until)}
		if valid.Intersect(open.Calendar.Span()).Empty() {
			continue
		}
		for _, l := range r.Assigned() {
			if !seen[l] {
				seen[l] = true
				places = append(places, l)
			}
		}
	}
	if len(places) == 0 {
		return nil, nil
	}
	sort.Strings(places)
	out := &CheckLanes{Check: defined(snap.Checks[id]), Lanes: []LaneView{}}
	location := func(l string) span.Timeline[verdict.Views] {
		return verdict.Location(open.Stretches.Source(id, l), revisions)
	}
	last := revisions[len(revisions)-1]
	valid := when.Intersect(span.Span{From: definition.Begins(revisions[0].From), To: definition.Ends(last.Until)})
	out.Strip = strip(verdict.Judged(last, location), valid)
	rows, err := s.Store.LanesOfChecks(ctx, []string{id})
	if err != nil {
		return nil, err
	}
	byPlace := map[string]db.Lane{}
	for _, r := range rows {
		byPlace[r.Location] = r
	}
	kind, _ := measure.KindNamed(last.Kind)
	for _, l := range places {
		v := LaneView{Location: l, LocationName: l, Strip: strip(location(l), valid), Points: []PointView{}}
		if e := snap.Locations[l]; e != nil {
			v.LocationName = e.Current().Spec.Name
		}
		if lane, ok := byPlace[l]; ok {
			if err := s.laneDetail(ctx, &v, lane, kind, when); err != nil {
				return nil, err
			}
		}
		v.Waiting += history.Doubted(open.Bundle, id, open.Stretches.Source(id, l), span.Of(s.Now()))
		out.Lanes = append(out.Lanes, v)
	}
	return out, nil
}

// sample returns the latest measurement of a lane at or before i, within a week.
func (s *Server) sample(ctx context.Context, lane int32, kind measure.Kind, i span.Instant) (*Sample, error) {
	rows, err := raw.Latest(ctx, s.Store.Queries, lane, i.Add(-7*span.Day), i, 1)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	r := rows[0]
	out := &Sample{At: r.At, Outcome: r.Outcome.String(), Measures: map[string]float64{}, LateMS: r.LateMS, DelayS: r.DelayS, Detail: r.Detail}
	if r.Clock != nil {
		out.Clock = &SampleClock{r.Clock.Ahead, r.Clock.Uncertain}
	}
	for n, v := range r.Values() {
		if n < len(kind.Measures) && !math.IsNaN(v) {
			out.Measures[kind.Measures[n].Name] = math.Round(v*1000) / 1000
		}
	}
	return out, nil
}

// TransitionView is a change of a service's state, as it was told.
type TransitionView struct {
	ID       int64        `json:"id"`
	At       span.Instant `json:"at" doc:"When the state changed, by the measurements"`
	From     string       `json:"from" enum:"up,degraded,down,unmeasured"`
	To       string       `json:"to" enum:"up,degraded,down,unmeasured"`
	Checks   []string     `json:"checks" doc:"Ids of the checks that made it so"`
	Services []string     `json:"services" doc:"Ids of the services that made it so"`
	KnownAt  span.Instant `json:"known_at" doc:"When it was judged"`
	Corrects bool         `json:"corrects" doc:"What was told of the time from then on was otherwise; this and what was told after it count"`
}

func (s *Server) transitions(ctx context.Context, in *struct {
	ByID
	Before int64 `query:"before" minimum:"0" doc:"Those told before the one with this id; absent: the latest"`
	Most   int32 `query:"most" minimum:"1" maximum:"1000" default:"100"`
}) (*list[TransitionView], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	if snap.Services[in.ID] == nil {
		return nil, catalogue.ErrNotFound
	}
	before := in.Before
	if before == 0 {
		before = math.MaxInt64
	}
	rows, err := s.Store.Transitions(ctx, db.TransitionsParams{Service: in.ID, Before: before, Most: in.Most})
	if err != nil {
		return nil, err
	}
	out := make([]TransitionView, len(rows))
	for i, r := range rows {
		out[i] = TransitionView{ID: r.ID, At: span.Of(r.At), From: verdict.State(r.FromState).String(),
			To:     verdict.State(r.ToState).String(),
			Checks: []string{}, Services: []string{}, KnownAt: span.Of(r.KnownAt), Corrects: r.Corrects}
		because := struct{ Checks, Services *[]string }{&out[i].Checks, &out[i].Services}
		if err := json.Unmarshal(r.Because, &because); err != nil {
			return nil, fmt.Errorf("transition %d: %w", r.ID, err)
		}
	}
	return items(out), nil
}

// Moment explains an instant.
type Moment struct {
	At         span.Instant          `json:"at"`
	Service    verdict.ServiceReason `json:"service"`
	Agreements []AgreementMoment     `json:"agreements"`
	Names      map[string]string     `json:"names" doc:"Names of the checks, locations and services mentioned, by kind and id"`
	Kinds      map[string]string     `json:"kinds" doc:"Kinds of the checks mentioned, by id"`
	Samples    map[string]*Sample    `json:"samples" doc:"The measurement that speaks, by check and location"`
}

// AgreementMoment says what an instant counts as under an agreement.
type AgreementMoment struct {
	Agreement string         `json:"agreement"`
	Name      string         `json:"name"`
	Class     string         `json:"class"`
	Rules     []account.Rule `json:"rules"`
}

func (s *Server) moment(ctx context.Context, in *struct {
	ByID
	At string `query:"at" doc:"RFC 3339" required:"true"`
}) (*body[Moment], error) {
	at, err := span.ParseInstant(in.At)
	if err != nil {
		return nil, &definition.Fault{Path: "query.at", Message: err.Error()}
	}
	if now := span.Of(s.Now()); at > now {
		return nil, &definition.Fault{Path: "query.at", Message: at.String() + " has not come yet; take a moment before now"}
	}
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	if snap.Services[in.ID] == nil {
		return nil, catalogue.ErrNotFound
	}
	out := Moment{At: at, Agreements: []AgreementMoment{}, Names: map[string]string{}, Kinds: map[string]string{}, Samples: map[string]*Sample{}}
	for _, id := range catalogue.Live(snap.Agreements) {
		spec := snap.Agreements[id].Current().Spec
		if spec.Service != in.ID {
			continue
		}
		x, err := s.explain(ctx, snap, id, at)
		if err != nil {
			return nil, err
		}
		out.Agreements = append(out.Agreements, AgreementMoment{id, spec.Name, x.Class.String(), x.Rules})
	}
	if out.Service, err = s.reason(ctx, snap, in.ID, at); err != nil {
		return nil, err
	}
	return &body[Moment]{out}, s.momentSamples(ctx, snap, &out)
}

func (s *Server) explain(ctx context.Context, snap *catalogue.Snapshot, agreement string, at span.Instant) (account.Explanation, error) {
	period, err := snap.PeriodAt(agreement, at)
	if err != nil {
		return account.Explanation{}, err
	}
	open, err := s.Books.Open(ctx, snap, period, span.Of(s.Now()), nil, []string{agreement})
	if err != nil {
		return account.Explanation{}, err
	}
	list, err := open.Evidence.All()
	if err != nil {
		return account.Explanation{}, err
	}
	return open.Evidence.Explain(list[0], open.Stretches.Sources(), at), nil
}

// reason explains the service's state alone, as live screens see it.
func (s *Server) reason(ctx context.Context, snap *catalogue.Snapshot, id string, at span.Instant) (verdict.ServiceReason, error) {
	loc, err := calendar.Zone(snap.Timezone)
	if err != nil {
		return verdict.ServiceReason{}, err
	}
	open, err := s.Books.Open(ctx, snap, calendar.MonthAt(at, loc), span.Of(s.Now()), []string{id}, nil)
	if err != nil {
		return verdict.ServiceReason{}, err
	}
	states := map[string]span.Timeline[verdict.Views]{}
	for n := range open.Bundle.Services {
		states[n] = open.Evidence.Service(n)
	}
	return verdict.Explain(open.Bundle, open.Stretches.Sources(), states, id, at), nil
}

// momentSamples adds names and the raw measurements behind a reason.
func (s *Server) momentSamples(ctx context.Context, snap *catalogue.Snapshot, m *Moment) error {
	for _, c := range m.Service.Checks {
		spec := snap.Checks[c.Check].Current().Spec
		m.Names["check "+c.Check] = spec.Name
		m.Kinds[c.Check] = spec.Kind
		kind, _ := measure.KindNamed(spec.Kind)
		list, err := s.Store.LanesOfChecks(ctx, []string{c.Check})
		if err != nil {
			return err
		}
		for _, l := range list {
			if e := snap.Locations[l.Location]; e != nil {
				m.Names["location "+l.Location] = e.Current().Spec.Name
			}
			sample, err := s.sample(ctx, l.ID, kind, m.At)
			if err != nil {
				return err
			}
			if sample != nil && kind.Name == measure.Path.Name {
				if sample.Route, err = s.routeHeld(ctx, l.ID, sample.At); err != nil {
					return err
				}
			}
			if sample != nil {
				if sample.Findings, err = s.findings(ctx, snap, l.ID, sample.At); err != nil {
					return err
				}
			}
			m.Samples[c.Check+" "+l.Location] = sample
		}
	}
	for _, g := range m.Service.Groups {
		for _, id := range g.Services {
			m.Names["service "+id] = snap.Services[id].Current().Spec.Name
		}
	}
	return nil
}

// routeHeld says since when the route of a path is what it was at an instant; nil where no
// route was seen on the day before.
func (s *Server) routeHeld(ctx context.Context, lane int32, at span.Instant) (*SampleRoute, error) {
	const mostLooks = 20_000 // a day of the shortest interval
	rows, err := raw.Latest(ctx, s.Store.Queries, lane, at.Add(-span.Day), at, mostLooks)
	if err != nil {
		return nil, err
	}
	looks := make([]float64, len(rows))
	for i := range rows {
		looks[i] = rows[i].Value(measure.PathRoute)
	}
	since, before := measure.Held(looks)
	if since < 0 {
		return nil, nil
	}
	name := func(fingerprint float64) string { return fmt.Sprintf("%06x", uint32(fingerprint)) }
	out := &SampleRoute{Route: name(looks[since]), Since: rows[since].At}
	if !math.IsNaN(before) {
		out.Before = name(before)
		if _, change, said := strings.Cut(rows[since].Detail, measure.RouteChanged); said {
			out.Change = change
		}
	}
	return out, nil
}

// findings returns what a measurement saw, each hop with whose network it lies in; nil where there is nothing.
func (s *Server) findings(ctx context.Context, snap *catalogue.Snapshot, lane int32, at span.Instant) (*measure.Findings, error) {
	text, err := s.Store.FindingsAt(ctx, db.FindingsAtParams{Lane: lane, At: at.Time()})
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	out := new(measure.Findings)
	if err := json.Unmarshal(text, out); err != nil {
		return nil, fmt.Errorf("the findings of lane %d at %s: %w", lane, at, err)
	}
	label(snap, out)
	return out, nil
}

// label says whose network each hop lies in.
func label(snap *catalogue.Snapshot, f *measure.Findings) {
	if f == nil || f.Trace == nil {
		return
	}
	var networks []definition.NetworkSpec
	for _, id := range catalogue.Live(snap.Networks) {
		networks = append(networks, snap.Networks[id].Current().Spec)
	}
	for i := range f.Trace.Hops {
		h := &f.Trace.Hops[i]
		h.Networks = make([]string, len(h.Addrs))
		for n, a := range h.Addrs {
			h.Networks[n] = definition.NetworkOf(networks, a)
		}
	}
}
