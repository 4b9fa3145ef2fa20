package api

import (
	"context"
	"errors"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/planning"
	"kestite/core/span"
	"kestite/server/planner"
)

// WorkAsk asks what a window would do.
type WorkAsk struct {
	ID     string                `json:"id,omitempty" maxLength:"120" doc:"Of one that is there; absent: a new one"`
	Spec   definition.WindowSpec `json:"spec"`
	Reason string                `json:"reason,omitempty" maxLength:"500"`
}

// WorkView is what a window does, or would do.
type WorkView struct {
	Revision    int          `json:"revision" doc:"That is in force; of a preview the one that would be"`
	Words       string       `json:"words" doc:"When it is: every 2 weeks on Thursday at 02:00 for 45 min"`
	Occurrences []Coming     `json:"occurrences" doc:"The first to come"`
	More        int          `json:"more" doc:"How many there are beside them, in about two months"`
	Also        []Ref        `json:"also" doc:"Services that go down with it and that it does not name"`
	Asks        []Ref        `json:"asks" doc:"Services that ask a second person to approve what it adds; none: it is planned right away"`
	Effects     []WorkEffect `json:"effects" doc:"Agreements that it touches, the worst first"`
	Clashes     []ClashView  `json:"clashes"`
}

// Coming is an occurrence to come.
type Coming struct {
	At      string       `json:"at"`
	From    span.Instant `json:"from"`
	To      span.Instant `json:"to"`
	Changed bool         `json:"changed"`
}

// WorkEffect is what a window does to an agreement in one of its periods.
type WorkEffect struct {
	Agreement    string        `json:"agreement"`
	Name         string        `json:"name"`
	Customer     string        `json:"customer"`
	Service      string        `json:"service"`
	Period       *OwnPeriod    `json:"period,omitempty"`
	Fault        string        `json:"fault,omitempty" doc:"Why it cannot be accounted"`
	Mark         string        `json:"mark" doc:"What it does, in two or three words"`
	Tone         string        `json:"tone" enum:"calm,costs,bad"`
	Why          []string      `json:"why" doc:"Sentences"`
	ServiceMS    int64         `json:"service_ms" doc:"Of the work to come, what lies in service hours"`
	GrantedMS    int64         `json:"granted_ms"`
	DowntimeMS   int64         `json:"downtime_ms" doc:"If the service is down throughout"`
	LeftMS       int64         `json:"left_ms" doc:"Of the allowance, without it"`
	LeftAfterMS  int64         `json:"left_after_ms" doc:"With it, if the service is down throughout"`
	Availability string        `json:"availability_percent,omitempty" doc:"At the end of the period, if all else is well, without it"`
	After        string        `json:"availability_after_percent,omitempty" doc:"The same, with it"`
	RunsOutAt    *span.Instant `json:"runs_out_at,omitempty" doc:"When the allowance would be used up"`
	Credit       string        `json:"credit_percent" doc:"That would be owed"`
}

// mostComing is how many occurrences are told one by one.
const mostComing = 12

func (s *Server) previewWork(ctx context.Context, in *body[WorkAsk]) (*body[WorkView], error) {
	ask := in.Body
	step := catalogue.Step{Does: catalogue.Make, Kind: catalogue.Window, ID: "", Spec: ask.Spec}
	if ask.ID != "" {
		step.Does, step.ID = catalogue.Rewrite, ask.ID
	}
	view, err := s.workAfter(ctx, step)
	return view, inSpec(err)
}

// windowWork is what a window does that is there.
func (s *Server) windowWork(ctx context.Context, in *ByID) (*body[WorkView], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	if snap.Windows[in.ID] == nil {
		return nil, huma.Error404NotFound("There is no such window.")
	}
	view, err := s.workView(ctx, snap, snap, in.ID)
	if err != nil {
		return nil, err
	}
	return &body[WorkView]{*view}, nil
}

// unsaid stands for a reason in a preview, which tells of embargoes itself.
const unsaid = "preview"

// workAfter is what a step on a window would do.
func (s *Server) workAfter(ctx context.Context, step catalogue.Step) (*body[WorkView], error) {
	before, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	ch := s.change(ctx, unsaid)
	ch.Approved = true
	plan, err := s.Definitions.Preview(ctx, ch, func(*catalogue.Snapshot) ([]catalogue.Step, error) { return []catalogue.Step{step}, nil })
	if err != nil {
		return nil, err
	}
	view, err := s.workView(ctx, before, plan.After, plan.IDs[0])
	if err != nil {
		return nil, err
	}
	if spec, is := step.Spec.(definition.WindowSpec); is {
		asks, err := before.Unapproved(step.ID, spec, span.Of(s.Now()))
		if err != nil {
			return nil, err
		}
		if asks != nil {
			for i, id := range asks.Services {
				view.Asks = append(view.Asks, Ref{id, asks.Names[i]})
			}
		}
	}
	return &body[WorkView]{*view}, nil
}

// workView is what a window as after defines it does, compared with before.
func (s *Server) workView(ctx context.Context, before, after *catalogue.Snapshot, window string) (*WorkView, error) {
	now := span.Of(s.Now())
	entry := after.Windows[window]
	current := entry.Current()
	v := &WorkView{Revision: current.Number, Words: planning.When(current.Spec), Occurrences: []Coming{}, Also: []Ref{}, Asks: []Ref{}, Effects: []WorkEffect{}, Clashes: []ClashView{}}
	if entry.Retired {
		return v, nil
	}
	coming := planner.Coming(after, window, now)
	for i, o := range coming {
		if i == mostComing {
			v.More = len(coming) - mostComing
			break
		}
		v.Occurrences = append(v.Occurrences, Coming{o.At, o.Planned.From, o.Planned.To, o.Changed})
	}
	for _, id := range planner.Taken(after, current.Spec.Services) {
		v.Also = append(v.Also, Ref{id, after.Named(catalogue.Service, id)})
	}
	effects, err := s.Planner.Effects(ctx, before, after, window, now)
	if err != nil {
		return nil, err
	}
	for _, e := range effects {
		w, err := s.effectView(after, e)
		if err != nil {
			return nil, err
		}
		v.Effects = append(v.Effects, w)
	}
	v.Clashes = s.workClashes(after, window, coming)
	return v, nil
}

// workClashes are those of a window with what else is planned, and with embargoes.
func (s *Server) workClashes(snap *catalogue.Snapshot, window string, coming []catalogue.Occurrence) []ClashView {
	out := []ClashView{}
	if len(coming) == 0 {
		return out
	}
	c := calendarOf{snap: snap}
	c.all, _ = snap.Occurrences(span.Span{From: coming[0].From, To: coming[len(coming)-1].To})
	for _, x := range c.clashes() {
		if slices.Contains(x.Windows, window) && len(out) < mostComing {
			out = append(out, x)
		}
	}
	return out
}

func (s *Server) effectView(snap *catalogue.Snapshot, e planner.Effect) (WorkEffect, error) {
	spec := snap.Agreements[e.Agreement].Current().Spec
	out := WorkEffect{Agreement: e.Agreement, Name: called(snap, e.Agreement), Customer: snap.Whom(spec), Tone: planning.Calm, Why: []string{},
		Service: snap.Named(catalogue.Service, spec.Service), Credit: "0"}
	if e.Fault != nil {
		out.Fault, out.Mark = e.Fault.Error(), "cannot be accounted"
		return out, nil
	}
	period := ownPeriod(e.Period)
	out.Period = &period
	out.LeftMS, out.LeftAfterMS = e.Before.AllowanceLeftMS, e.Before.AllowanceLeftMS
	well := e.Before.Suppose(nil)
	if well.AvailabilityPercent != nil {
		out.Availability, out.After = *well.AvailabilityPercent, *well.AvailabilityPercent
	}
	if e.Excused != "" {
		out.Mark, out.Why = "excused", []string{"Its clauses excuse the downtime of " + snap.Named(catalogue.Service, e.Excused) + "."}
		return out, nil
	}
	zone, err := calendar.Zone(snap.Timezone)
	if err != nil {
		return out, err
	}
	w := e.Work
	said := planning.Words(w, e.Before, e.Promise, needsOf(snap, spec.Service), zone)
	out.Mark, out.Tone, out.Why = said.Mark, said.Tone, append(out.Why, said.Why...)
	out.ServiceMS, out.GrantedMS, out.DowntimeMS, out.LeftAfterMS, out.Credit = w.ServiceMS, w.GrantedMS, w.DowntimeMS, w.LeftMS, w.CreditPercent
	out.RunsOutAt = w.RunsOutAt
	if w.AvailabilityPercent != nil {
		out.After = *w.AvailabilityPercent
	}
	return out, nil
}

// needsOf names what a service needs.
func needsOf(snap *catalogue.Snapshot, service string) string {
	var out []string
	for _, id := range snap.NeededNow(service) {
		if id != service {
			out = append(out, snap.Named(catalogue.Service, id))
		}
	}
	return inWords(out)
}

// OccurrenceAsk asks for a change of one occurrence.
type OccurrenceAsk struct {
	Does      string `json:"does" enum:"skip,move,restore,end" doc:"skip; move: another start, length or both; restore: as the rule says; end: now, of one that is running"`
	At        string `json:"at" maxLength:"30" doc:"Its start by the rule, as a wall time"`
	Start     string `json:"start,omitempty" maxLength:"30" doc:"Of a move: when it starts instead, as a wall time in the zone of the window"`
	DurationS int64  `json:"duration_s,omitempty" minimum:"60" maximum:"2678400" doc:"Of a move: how long it lasts"`
	Revision  int    `json:"revision" minimum:"1" doc:"The revision of the window that it was made on"`
	Reason    string `json:"reason,omitempty" maxLength:"500"`
	Preview   bool   `json:"preview,omitempty" doc:"Say what it would do, and do nothing"`
	Ask       bool   `json:"ask,omitempty" doc:"Ask a second person for it, where a service wants one"`
}

func (s *Server) changeOccurrence(ctx context.Context, in *struct {
	ByID
	Body OccurrenceAsk
}) (*body[WorkView], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	e := snap.Windows[in.ID]
	if e == nil {
		return nil, huma.Error404NotFound("There is no such window.")
	}
	step, err := s.occurrenceStep(snap, e, in.Body)
	if err != nil {
		return nil, err
	}
	if in.Body.Preview {
		view, err := s.workAfter(ctx, step)
		return view, ofOccurrence(err)
	}
	if in.Body.Ask {
		if _, err := s.Requests.Ask(ctx, s.change(ctx, in.Body.Reason), step); err != nil {
			return nil, ofOccurrence(err)
		}
	} else if _, err := s.Definitions.Apply(ctx, s.change(ctx, in.Body.Reason), step); err != nil {
		return nil, ofOccurrence(err)
	}
	after, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	view, err := s.workView(ctx, snap, after, in.ID)
	if err != nil {
		return nil, err
	}
	return &body[WorkView]{*view}, nil
}

// ofOccurrence gives a fault of a window's spec the field of the question that it is of.
func ofOccurrence(err error) error {
	var fault *definition.Fault
	if !errors.As(err, &fault) {
		return err
	}
	path := "start"
	switch {
	case fault.Path == "reason":
		return err
	case strings.HasSuffix(fault.Path, "duration_s"):
		path = "duration_s"
	case strings.HasSuffix(fault.Path, ".at"):
		path = "at"
	}
	return definition.Instead(path, err)
}

// occurrenceStep is the step that changes one occurrence of a window. A window that has
// only that one is moved, or retired, itself.
func (s *Server) occurrenceStep(snap *catalogue.Snapshot, e *catalogue.Entry[definition.WindowSpec], ask OccurrenceAsk) (catalogue.Step, error) {
	spec := e.Current().Spec
	step := catalogue.Step{Does: catalogue.Rewrite, Kind: catalogue.Window, ID: e.ID, Expected: ask.Revision, Reason: ask.Reason}
	var err error
	switch ask.Does {
	case "skip":
		if spec.RRule == "" {
			step.Does = catalogue.Retire
			return step, nil
		}
		spec, err = spec.Skipped(ask.At)
	case "restore":
		spec, err = spec.AsRuled(ask.At)
	case "move":
		if ask.Start == "" && ask.DurationS == 0 {
			return step, definition.Faultf("start", "is missing; give it another start, another length, or both")
		}
		spec, err = spec.Moved(ask.At, ask.Start, ask.DurationS)
	case "end":
		now := span.Of(s.Now())
		list, err := snap.OccurrencesOf(e.ID, span.Span{From: now, To: now + 1})
		if err != nil {
			return step, err
		}
		at := slices.IndexFunc(list, func(o catalogue.Occurrence) bool { return o.At == ask.At })
		if at < 0 {
			return step, definition.Faultf("at", "this occurrence does not run now; skip or move it")
		}
		elapsed := (int64(now-list[at].From) + span.Second - 1) / span.Second
		zone, err := calendar.Zone(spec.Timezone)
		if err != nil {
			return step, err
		}
		step.Spec, err = spec.Moved(ask.At, calendar.WallAt(list[at].From, zone).String(), max(60, elapsed))
		return step, err
	}
	step.Spec = spec
	return step, err
}

// SlotView is a time at which work would cost little.
type SlotView struct {
	From       span.Instant `json:"from"`
	To         span.Instant `json:"to"`
	DowntimeMS int64        `json:"downtime_ms" doc:"Of all agreements together, if it is down throughout"`
	GrantedMS  int64        `json:"granted_ms"`
	ServiceMS  int64        `json:"service_ms"`
	Misses     []string     `json:"misses" doc:"Names of agreements that it would make impossible to meet"`
	Usual      int          `json:"usual" doc:"Failures in 13 months that touched the same time of the week"`
	Clash      *ClashView   `json:"clash,omitempty"`
	Why        []string     `json:"why"`
}

// SlotsView are the cheapest slots, one a day.
type SlotsView struct {
	Items      []SlotView `json:"items" doc:"The best first"`
	Agreements int        `json:"agreements" doc:"That the work touches"`
}

func (s *Server) slots(ctx context.Context, in *struct {
	Services []string `query:"services,explode" minItems:"1" maxItems:"50" required:"true" doc:"Ids of what is worked on"`
	LastsS   int64    `query:"lasts_s" minimum:"60" maximum:"172800" required:"true"`
	Days     int64    `query:"days" minimum:"1" maximum:"31" default:"14"`
	Window   string   `query:"window" maxLength:"120" doc:"One that is there already, and would be moved"`
}) (*body[SlotsView], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	for i, id := range in.Services {
		if e := snap.Services[id]; e == nil || e.Retired {
			return nil, definition.Faultf(pathAt("query.services", i), "%q names no service in force", id)
		}
	}
	list, err := s.Planner.Cheapest(ctx, snap, in.Services, in.LastsS, in.Days, in.Window, span.Of(s.Now()), 5)
	if err != nil {
		return nil, err
	}
	out := SlotsView{Items: []SlotView{}, Agreements: len(planner.Touched(snap, in.Services))}
	for _, x := range list {
		v := SlotView{From: x.From, To: x.To, DowntimeMS: x.DowntimeMS, GrantedMS: x.GrantedMS, ServiceMS: x.ServiceMS, Usual: x.Usual, Misses: []string{},
			Why: append([]string{}, planning.SlotWords(x, out.Agreements)...)}
		for _, id := range x.Misses {
			v.Misses = append(v.Misses, called(snap, id))
		}
		if x.Clash != nil {
			c := clashView(snap, *x.Clash)
			v.Clash = &c
		}
		out.Items = append(out.Items, v)
	}
	return &body[SlotsView]{out}, nil
}
