package api

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"

	"kestite/core/access"
	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/planning"
	"kestite/core/span"
	"kestite/server/planner"
	"kestite/server/store/gen/db"
)

func (s *Server) calendarRoutes(a *operations) {
	on(a, access.See, http.MethodGet, "/calendar", "calendar", "What is planned when, service by service, with what it costs", s.calendar, costly)
	on(a, access.Operate, http.MethodPost, "/windows/preview", "preview-window", "What planned work would do, and do nothing", s.previewWork)
	on(a, access.See, http.MethodGet, "/windows/slots", "cheapest-slots", "When work would cost least in the coming days", s.slots, costly)
	on(a, access.See, http.MethodGet, "/windows/{id}/work", "window-work", "What a window does that is there", s.windowWork, costly)
	on(a, access.Operate, http.MethodPost, "/windows/{id}/occurrence", "change-occurrence",
		"Skip, move, shorten, lengthen or end one occurrence of a window, or put it back", s.changeOccurrence)
}

// CalendarView is what is planned in some days.
type CalendarView struct {
	From      span.Instant    `json:"from"`
	To        span.Instant    `json:"to"`
	Now       span.Instant    `json:"now"`
	Timezone  string          `json:"timezone"`
	Words     string          `json:"words" doc:"What is planned, in a sentence"`
	Lanes     []CalendarLane  `json:"lanes" doc:"Those with work first"`
	Left      int             `json:"left" doc:"Lanes that match and are not shown"`
	Quiet     int             `json:"quiet" doc:"Services that have neither work nor an agreement, and no lane unless asked for"`
	Embargoes []EmbargoView   `json:"embargoes"`
	Requests  []WorkRequest   `json:"requests" doc:"Planned work that waits for a second person"`
	Clashes   []ClashView     `json:"clashes"`
	Faults    []CalendarFault `json:"faults" doc:"Windows of which it cannot be told when they are"`
}

// CalendarLane is a service in the calendar.
type CalendarLane struct {
	Service  string         `json:"service"`
	Name     string         `json:"name"`
	Kind     string         `json:"kind" enum:"business,supporting,supplier"`
	Promised []string       `json:"promised" doc:"Whom, each once; an internal agreement: internal"`
	Hours    []SpanOf       `json:"hours" doc:"In which something is agreed; none where nothing is promised"`
	Work     []CalendarWork `json:"work"`
	Asked    []AskedWork    `json:"asked" doc:"What waits for a second person"`
}

// AskedWork is an occurrence of planned work that waits for a second person.
type AskedWork struct {
	Request int64        `json:"request"`
	Name    string       `json:"name"`
	From    span.Instant `json:"from"`
	To      span.Instant `json:"to"`
}

// SpanOf is a stretch of time.
type SpanOf struct {
	From span.Instant `json:"from"`
	To   span.Instant `json:"to"`
}

// CalendarWork is one occurrence of a window, on one service.
type CalendarWork struct {
	Window     string       `json:"window"`
	Name       string       `json:"name"`
	At         string       `json:"at" doc:"Its start by the rule, as a wall time: what an edit of it alone names"`
	From       span.Instant `json:"from"`
	To         span.Instant `json:"to"`
	Type       string       `json:"type" enum:"planned,emergency"`
	Recurs     bool         `json:"recurs"`
	Words      string       `json:"words" doc:"When the window is: every 2 weeks on Thursday at 02:00 for 45 min"`
	Revision   int          `json:"revision" doc:"Of the window, now in force"`
	Timezone   string       `json:"timezone" doc:"Of the window"`
	Services   []Ref        `json:"services" doc:"That the window names"`
	Changed    bool         `json:"changed" doc:"It is otherwise than the rule says"`
	Via        []string     `json:"via" doc:"Names of what the service needs and is at work; empty: the window names the service"`
	ServiceMS  int64        `json:"service_ms" doc:"What of it, to come, lies in service hours of agreements, all together"`
	GrantedMS  int64        `json:"granted_ms" doc:"What of that is granted"`
	DowntimeMS int64        `json:"downtime_ms" doc:"What it costs if the service is down throughout"`
	Reference  string       `json:"reference,omitempty"`
	Pause      []string     `json:"pause" doc:"Names of the checks that do not measure meanwhile"`
}

// EmbargoView is a time in which nothing is to be planned.
type EmbargoView struct {
	ID       string       `json:"id"`
	Name     string       `json:"name"`
	Services []string     `json:"services" doc:"Ids; none: all"`
	From     span.Instant `json:"from"`
	To       span.Instant `json:"to"`
}

// ClashView is work that ought not to be at once, or not then.
type ClashView struct {
	From    span.Instant `json:"from"`
	To      span.Instant `json:"to"`
	Windows []string     `json:"windows" doc:"Ids"`
	Service string       `json:"service,omitempty" doc:"Id of what they take down together, and none alone"`
	Words   string       `json:"words"`
}

// CalendarFault is a window that cannot be told.
type CalendarFault struct {
	Window string `json:"window"`
	Name   string `json:"name"`
	Fault  string `json:"fault"`
}

// Bounds on a calendar.
const (
	mostCalendarDays = 62
	mostPieces       = 20_000
	farthest         = 3653 * span.Day // before and after now
)

func (s *Server) calendar(ctx context.Context, in *struct {
	From  string `query:"from" maxLength:"10" doc:"First day, 2006-01-02 in the zone of the organisation; absent: today"`
	Days  int    `query:"days" minimum:"1" maximum:"62" default:"14"`
	Find  string `query:"find" maxLength:"80" doc:"Words in the names of the service and of whom it is promised to"`
	Quiet bool   `query:"quiet" doc:"With services that have neither work nor an agreement"`
	Count int    `query:"count" minimum:"1" maximum:"500" default:"100"`
}) (*body[CalendarView], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	zone, err := calendar.Zone(snap.Timezone)
	if err != nil {
		return nil, err
	}
	now := span.Of(s.Now())
	day := calendar.WallAt(now, zone).At(0)
	if in.From != "" {
		if day, err = calendar.ParseDate(in.From); err != nil {
			return nil, definition.Faultf("query.from", "%v", err)
		}
	}
	if at := day.Instant(zone, calendar.Shift); at < now.Add(-farthest) || at > now.Add(farthest) {
		return nil, definition.Faultf("query.from", "is more than ten years away; take a day nearer to today")
	}
	out := CalendarView{From: day.Instant(zone, calendar.Shift), To: day.AddDays(min(in.Days, mostCalendarDays)).Instant(zone, calendar.Shift), Now: now,
		Timezone: snap.Timezone, Lanes: []CalendarLane{}, Requests: []WorkRequest{}, Embargoes: []EmbargoView{}, Clashes: []ClashView{}, Faults: []CalendarFault{}}
	c := calendarOf{snap: snap, shown: span.Span{From: out.From, To: out.To}, now: now, work: map[string][]CalendarWork{}, asked: map[string][]AskedWork{}}
	if out.Requests, err = s.asked(ctx, &c); err != nil {
		return nil, err
	}
	for id, fault := range c.collect() {
		out.Faults = append(out.Faults, CalendarFault{id, snap.Named(catalogue.Window, id), fault.Error()})
	}
	if len(c.all) > mostPieces {
		return nil, definition.Faultf("query.days", "%d pieces of work lie in these days; %d are the most that a calendar shows: take fewer days", len(c.all), mostPieces)
	}
	slices.SortFunc(out.Faults, func(a, b CalendarFault) int { return cmp.Compare(a.Window, b.Window) })
	out.Lanes, out.Quiet = c.lanes(strings.Fields(strings.ToLower(in.Find)), in.Quiet)
	out.Left = max(0, len(out.Lanes)-in.Count)
	out.Lanes = out.Lanes[:len(out.Lanes)-out.Left]
	for _, e := range snap.Embargo(nil, c.shown) {
		out.Embargoes = append(out.Embargoes, EmbargoView{e.ID, e.Spec.Name, append([]string{}, e.Spec.Services...), e.From, e.To})
	}
	out.Clashes = c.clashes()
	beyond, err := s.workCosts(ctx, c, out.Lanes)
	if err != nil {
		return nil, err
	}
	out.Words = c.words(beyond, len(out.Clashes))
	return &body[CalendarView]{out}, nil
}

// calendarOf collects what a calendar shows.
type calendarOf struct {
	snap   *catalogue.Snapshot
	shown  span.Span
	now    span.Instant
	all    []catalogue.Occurrence
	work   map[string][]CalendarWork // by service
	asked  map[string][]AskedWork    // by service
	coming int                       // occurrences that are not over
}

// collect finds what is planned; it returns the windows of which that cannot be told.
func (c *calendarOf) collect() map[string]error {
	all, faults := c.snap.Occurrences(c.shown)
	if c.all = all; len(all) > mostPieces {
		return faults
	}
	taken := map[string][]string{} // by the services at work
	needs := planner.Needs(c.snap)
	for _, o := range all {
		w := CalendarWork{Window: o.Window, Name: o.Spec.Name, At: o.At, From: o.Planned.From, To: o.Planned.To, Type: o.Spec.OfType(),
			Recurs: o.Spec.RRule != "", Words: planning.When(o.Spec), Revision: c.snap.Windows[o.Window].Current().Number, Timezone: o.Spec.Timezone, Changed: o.Changed, Reference: o.Spec.Reference, Via: []string{}, Services: []Ref{}, Pause: []string{}}
		for _, id := range o.Spec.Pause {
			w.Pause = append(w.Pause, c.snap.Named(catalogue.Check, id))
		}
		for _, id := range o.Spec.Services {
			w.Services = append(w.Services, Ref{id, c.snap.Named(catalogue.Service, id)})
		}
		if w.To > c.now {
			c.coming++
		}
		for _, id := range o.Spec.Services {
			c.add(id, w)
		}
		key := strings.Join(o.Spec.Services, "\n")
		also, known := taken[key]
		if !known {
			also = planner.Taken(c.snap, o.Spec.Services)
			taken[key] = also
		}
		for _, id := range also {
			via := w
			via.Via = nil
			for _, g := range needs[id] {
				for _, m := range g.Services {
					if slices.Contains(o.Spec.Services, m) || slices.Contains(also, m) {
						via.Via = append(via.Via, c.snap.Named(catalogue.Service, m))
					}
				}
			}
			slices.Sort(via.Via)
			via.Via = slices.Compact(via.Via)
			c.add(id, via)
		}
	}
	return faults
}

// add adds a piece of work to a service's lane. One that was edited while it ran is one.
func (c *calendarOf) add(service string, w CalendarWork) {
	list := c.work[service]
	before := slices.IndexFunc(list, func(o CalendarWork) bool {
		return o.Window == w.Window && o.At == w.At && o.To == w.From && slices.Equal(o.Via, w.Via)
	})
	if before >= 0 {
		w.From = list[before].From
		list[before] = w
		return
	}
	c.work[service] = append(list, w)
}

// mostAsked is how many pieces of requested work a calendar shows.
const mostAsked = 2000

// asked are the requests that are open; what they would add in the days that are shown
// stands in the calendar.
func (s *Server) asked(ctx context.Context, c *calendarOf) ([]WorkRequest, error) {
	rows, err := s.Store.WorkRequests(ctx, db.WorkRequestsParams{Open: true, Most: mostRequests})
	if err != nil {
		return nil, err
	}
	out, pieces := []WorkRequest{}, 0
	for _, r := range rows {
		v, plan, _ := s.requestView(ctx, c.snap, db.WorkRequestRow(r)) // its own page says what is wrong with it
		out = append(out, v)
		if plan == nil {
			continue
		}
		list, err := plan.After.OccurrencesOf(plan.IDs[0], c.shown)
		if err != nil {
			continue // its own page says so
		}
		for _, o := range list {
			if o.Revision != plan.After.Windows[plan.IDs[0]].Current().Number {
				continue
			}
			for _, id := range o.Spec.Services {
				if pieces++; pieces <= mostAsked {
					c.asked[id] = append(c.asked[id], AskedWork{v.ID, v.Spec.Name, o.Planned.From, o.Planned.To})
				}
			}
		}
	}
	return out, nil
}

// lanes are the services that are shown: those with work first, then those with
// agreements; the others, where they are not asked for, are counted.
func (c *calendarOf) lanes(words []string, quiet bool) (out []CalendarLane, hidden int) {
	promised, hours := map[string][]string{}, map[string]span.Set{}
	for _, id := range catalogue.Live(c.snap.Agreements) {
		spec := c.snap.Agreements[id].Current().Spec
		promised[spec.Service] = append(promised[spec.Service], cmp.Or(c.snap.Whom(spec), "internal"))
		a, err := c.snap.Promise(id, spec)
		if err != nil {
			continue // its own row on Standing says so
		}
		if h, err := definition.CompileHours(a.ServiceHours); err == nil {
			hours[spec.Service] = span.Union(append(slices.Clone(hours[spec.Service]), h.Within(c.shown)...)...)
		}
	}
	ids := catalogue.Live(c.snap.Services)
	for id := range c.work {
		if e := c.snap.Services[id]; e != nil && e.Retired {
			ids = append(ids, id) // it was at work then
		}
	}
	for _, id := range ids {
		spec := c.snap.Services[id].Current().Spec
		whom := promised[id]
		slices.Sort(whom)
		l := CalendarLane{Service: id, Name: spec.Name, Kind: spec.Kind, Promised: append([]string{}, slices.Compact(whom)...), Hours: []SpanOf{},
			Work: append([]CalendarWork{}, c.work[id]...), Asked: append([]AskedWork{}, c.asked[id]...)}
		text := strings.ToLower(l.Name + " " + strings.Join(l.Promised, " "))
		if slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(text, w) }) {
			continue
		}
		for _, h := range hours[id] {
			l.Hours = append(l.Hours, SpanOf{h.From, h.To})
		}
		if len(l.Work)+len(l.Asked) == 0 && len(l.Promised) == 0 && !quiet {
			hidden++
			continue
		}
		out = append(out, l)
	}
	rank := func(l CalendarLane) int {
		switch {
		case len(l.Asked) > 0 || slices.ContainsFunc(l.Work, func(w CalendarWork) bool { return len(w.Via) == 0 }):
			return 0
		case len(l.Promised) > 0:
			return 1
		}
		return 2
	}
	slices.SortStableFunc(out, func(a, b CalendarLane) int { return cmp.Or(rank(a)-rank(b), cmp.Compare(a.Name, b.Name)) })
	return out, hidden
}

// clashes are those of what is planned, and what lies in an embargo; emergency work may.
func (c *calendarOf) clashes() []ClashView {
	out := []ClashView{}
	var work []planning.Work
	for _, o := range c.all {
		work = append(work, planning.Work{Window: o.Window, Services: o.Spec.Services, Span: o.Planned})
		if o.Spec.OfType() == definition.Emergency {
			continue
		}
		for _, e := range c.snap.Embargo(o.Spec.Services, o.Planned) {
			out = append(out, clashView(c.snap, planning.Clash{Span: e.Intersect(o.Planned), Windows: []string{o.Window}, Embargo: e.ID}))
		}
	}
	for _, x := range planning.Clashes(planner.Needs(c.snap), work) {
		out = append(out, clashView(c.snap, x))
	}
	slices.SortStableFunc(out, func(a, b ClashView) int { return cmp.Compare(a.From, b.From) })
	return out
}

func clashView(snap *catalogue.Snapshot, x planning.Clash) ClashView {
	names := func(kind string, ids []string) string {
		var out []string
		for _, id := range ids {
			out = append(out, snap.Named(kind, id))
		}
		return inWords(out)
	}
	v := ClashView{From: x.From, To: x.To, Windows: append([]string{}, x.Windows...), Service: x.Service}
	if x.Embargo != "" {
		v.Words = fmt.Sprintf("%s lies in the embargo %s.", cmp.Or(names(catalogue.Window, x.Windows), "It"), snap.Named(catalogue.Embargo, x.Embargo))
		return v
	}
	v.Words = fmt.Sprintf("%s at once take %s down: it needs more of %s.", names(catalogue.Window, x.Windows), snap.Named(catalogue.Service, x.Service),
		names(catalogue.Service, x.Because))
	return v
}

// inWords writes names as a sentence lists them.
func inWords(names []string) string {
	if len(names) < 2 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
}

// workCosts fills in what the work in the lanes costs. It returns the agreements that all of
// it together would take more from than is left.
func (s *Server) workCosts(ctx context.Context, c calendarOf, lanes []CalendarLane) (beyond []string, err error) {
	of := map[string]bool{}
	at := map[string]int{} // the lane of a service with work to come
	for i, l := range lanes {
		if slices.ContainsFunc(l.Work, func(w CalendarWork) bool { return w.To > c.now }) {
			at[l.Service] = i
		}
	}
	for _, id := range catalogue.Live(c.snap.Agreements) {
		if _, is := at[c.snap.Agreements[id].Current().Spec.Service]; is {
			of[id] = true
		}
	}
	rest := span.Span{From: max(c.now, c.shown.From), To: c.shown.To}
	if len(of) == 0 || rest.Empty() {
		return nil, nil
	}
	rooms, err := s.Planner.Rooms(ctx, c.snap, of, rest, c.now, "")
	if err != nil {
		return nil, err
	}
	missed := map[string]bool{}
	for _, r := range rooms {
		l := lanes[at[r.Agreement.Service]]
		var all []span.Span
		for i, w := range l.Work {
			if excused(r, c.snap, w.Via) {
				continue
			}
			here := span.Set{{From: w.From, To: w.To}}.Cut(r.Rest)
			all = append(all, here...)
			l.Work[i].ServiceMS += here.Intersect(r.Hours).Length()
			l.Work[i].GrantedMS += here.Intersect(r.Hours).Intersect(r.Granted).Length()
			l.Work[i].DowntimeMS += r.Costs(here)
		}
		if r.LeftMS >= 0 && r.Costs(span.Union(all...)) > r.LeftMS {
			missed[called(c.snap, r.Agreement.ID)] = true
		}
	}
	return slices.Sorted(maps.Keys(missed)), nil
}

// excused says whether an agreement excuses what takes its service down.
func excused(r planning.Room, snap *catalogue.Snapshot, via []string) bool {
	return slices.ContainsFunc(r.Agreement.Upstream.Excuse, func(id string) bool { return slices.Contains(via, snap.Named(catalogue.Service, id)) })
}

// words says what is planned, in a sentence.
func (c *calendarOf) words(beyond []string, clashes int) string {
	switch {
	case c.coming == 0 && len(c.all) == 0:
		return "Nothing is planned in these days."
	case c.shown.To <= c.now:
		return counted(len(c.all), "piece of work was", "pieces of work were") + " planned in these days."
	case len(beyond) > 2:
		return fmt.Sprintf("Planned work may cost %d agreements more than they can bear.", len(beyond))
	case len(beyond) == 2:
		return "Planned work may cost " + inWords(beyond) + " more than they can bear."
	case len(beyond) == 1:
		return "Planned work may cost " + beyond[0] + " more than it can bear."
	case clashes > 0:
		return counted(clashes, "clash", "clashes") + " in what is planned."
	}
	return "Nothing is planned that costs an agreement more than it can bear."
}

func counted(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// pathAt is the path of an entry of a list.
func pathAt(list string, i int) string { return fmt.Sprintf("%s[%d]", list, i) }
