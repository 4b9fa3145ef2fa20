package api

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"kestite/core/access"
	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/span"
	"kestite/core/topology"
	"kestite/core/verdict"
	"kestite/server/history"
)

func (s *Server) graphRoutes(a *operations) {
	on(a, access.See, http.MethodGet, "/dependencies", "dependencies", "Which services need which, and how each is, now or at any moment", s.dependencies, costly)
	on(a, access.See, http.MethodGet, "/dependencies/file", "export-dependencies", "What services need, as CSV or YAML", s.exportDependencies)
	on(a, access.Define, http.MethodPost, "/dependencies/import", "import-dependencies",
		"Let services need what a file says: all of it, or none, or see what that would change", s.importDependencies)
	on(a, access.See, http.MethodGet, "/services/{id}/modelled", "modelled-availability",
		"The availability that follows from what a service needs, and what could be promised of it", s.modelled, costly)
}

// GraphView is which services need which.
type GraphView struct {
	At    span.Instant `json:"at"`
	Live  bool         `json:"live" doc:"It is of now"`
	Words string       `json:"words" doc:"What is not up and takes others with it, in a sentence"`
	Nodes []GraphNode  `json:"nodes"`
}

// GraphNode is a service among those that it needs.
type GraphNode struct {
	Service string       `json:"service"`
	Name    string       `json:"name"`
	Kind    string       `json:"kind" enum:"business,supporting,supplier"`
	Owner   string       `json:"owner,omitempty" doc:"Id of a team"`
	Tags    []string     `json:"tags"`
	State   string       `json:"state" enum:"up,degraded,down,unmeasured"`
	Since   span.Instant `json:"since_at" doc:"Of its state"`
	Decided bool         `json:"decided" doc:"Checks of its own decide its state"`
	Groups  []GraphGroup `json:"groups" doc:"What it needs"`
}

// GraphGroup is so many of some services, that a service needs.
type GraphGroup struct {
	Need     int      `json:"need" doc:"How many of them; never 0"`
	Services []string `json:"services"`
	Up       int      `json:"up" doc:"How many of them are up or degraded"`
}

func (s *Server) dependencies(ctx context.Context, in *struct {
	At  string `query:"at" maxLength:"40" doc:"A moment, as 2026-01-15T08:00:00Z, not after now; absent: now"`
	Of  string `query:"of" maxLength:"120" doc:"One service, with what hangs together with it; absent: all"`
	Way string `query:"way" enum:"both,needs,needed" default:"both" doc:"Of one service: with what it needs, what needs it, or both"`
}) (*body[GraphView], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	now := span.Of(s.Now())
	out := GraphView{At: now, Live: in.At == "", Nodes: []GraphNode{}}
	if in.At != "" {
		if out.At, err = span.ParseInstant(in.At); err != nil {
			return nil, definition.Faultf("query.at", "%v", err)
		}
		if out.At < now.Add(-farthest) {
			return nil, definition.Faultf("query.at", "is more than ten years ago; take a later moment")
		}
		if out.At > now {
			return nil, definition.Faultf("query.at", "is still to come; take a moment that has passed")
		}
	}
	specs := specsAt(snap, out.At)
	needs := map[string][]definition.Dependency{}
	for id, spec := range specs {
		needs[id] = spec.DependsOn
	}
	if in.Of != "" {
		if _, is := needs[in.Of]; !is {
			return nil, definition.Faultf("query.of", "%q names no service in force then", in.Of)
		}
		shown := topology.Around(needs, in.Of, in.Way)
		maps.DeleteFunc(specs, func(id string, _ definition.ServiceSpec) bool { return !slices.Contains(shown, id) })
		maps.DeleteFunc(needs, func(id string, _ []definition.Dependency) bool { return !slices.Contains(shown, id) })
	}
	states, err := s.statesAt(ctx, snap, specs, out.At, out.Live)
	if err != nil {
		return nil, err
	}
	for _, id := range sortedIDs(specs) {
		spec := specs[id]
		n := GraphNode{Service: id, Name: spec.Name, Kind: spec.Kind, Owner: spec.Owner, Tags: append([]string{}, spec.Tags...), State: states[id].state.String(),
			Since: states[id].since, Groups: []GraphGroup{}, Decided: decidedAt(snap, id, out.At)}
		for _, d := range spec.DependsOn {
			g := GraphGroup{Need: d.Need, Services: slices.Clone(d.Services)}
			if g.Need == 0 {
				g.Need = len(g.Services)
			}
			for _, m := range d.Services {
				if st := states[m].state; st == verdict.Up || st == verdict.Degraded {
					g.Up++
				}
			}
			n.Groups = append(n.Groups, g)
		}
		out.Nodes = append(out.Nodes, n)
	}
	out.Words = graphWords(needs, out.Nodes)
	return &body[GraphView]{out}, nil
}

// specsAt are the services in force at an instant.
func specsAt(snap *catalogue.Snapshot, at span.Instant) map[string]definition.ServiceSpec {
	out := map[string]definition.ServiceSpec{}
	for id, e := range snap.Services {
		for _, r := range e.During(span.Span{From: at, To: at + 1}) {
			out[id] = r.Spec
		}
	}
	for id, spec := range out { // what was retired is needed by nobody any more
		spec.DependsOn = slices.Clone(spec.DependsOn)
		for i := range spec.DependsOn {
			spec.DependsOn[i].Services = slices.DeleteFunc(slices.Clone(spec.DependsOn[i].Services), func(m string) bool { _, is := out[m]; return !is })
		}
		spec.DependsOn = slices.DeleteFunc(spec.DependsOn, func(d definition.Dependency) bool { return len(d.Services) == 0 })
		out[id] = spec
	}
	return out
}

func sortedIDs(m map[string]definition.ServiceSpec) []string {
	out := make([]string, 0, len(m))
	for id := range m {
		out = append(out, id)
	}
	slices.Sort(out)
	return out
}

// decidedAt says whether checks of its own decide a service at an instant.
func decidedAt(snap *catalogue.Snapshot, service string, at span.Instant) bool {
	return slices.ContainsFunc(snap.ChecksOf[service], func(id string) bool {
		return slices.ContainsFunc(snap.Checks[id].During(span.Span{From: at, To: at + 1}), func(r catalogue.Revision[definition.CheckSpec]) bool {
			return r.Spec.Role != definition.Informs
		})
	})
}

type stateSince struct {
	state verdict.State
	since span.Instant
}

// statesAt are the states of services, and of all that their groups name.
func (s *Server) statesAt(ctx context.Context, snap *catalogue.Snapshot, specs map[string]definition.ServiceSpec, at span.Instant, live bool) (map[string]stateSince, error) {
	out := map[string]stateSince{}
	if live {
		rows, err := s.Store.States(ctx)
		if err != nil {
			return nil, err
		}
		for id := range specs {
			out[id] = stateSince{verdict.Unmeasured, snap.Services[id].Since()}
		}
		for _, r := range rows {
			out[r.Service] = stateSince{verdict.State(r.State), span.Of(r.SinceAt)}
		}
		return out, nil
	}
	zone, err := calendar.Zone(snap.Timezone)
	if err != nil {
		return nil, err
	}
	known := func(s stateSince, id string) stateSince { // nothing is known of it before it was there
		s.since = max(s.since, snap.Services[id].Since())
		return s
	}
	load := func(ids []string) error {
		open, err := s.Books.Open(ctx, snap, calendar.Exactly(span.Span{From: at, To: at + 1}, zone), span.Of(s.Now()), ids, nil)
		if err != nil {
			return err
		}
		for _, id := range ids {
			line := span.Map(open.Evidence.Service(id), func(v verdict.Views) verdict.State { return v[verdict.Nominal] })
			out[id] = known(stateSince{line.At(at), line.Since(at)}, id)
		}
		return nil
	}
	ids := sortedIDs(specs)
	if err = load(ids); history.Incomputable(err) { // one of them; the others have theirs
		for _, id := range ids {
			if err = load([]string{id}); history.Incomputable(err) {
				out[id] = known(stateSince{state: verdict.Unmeasured}, id)
			} else if err != nil {
				return nil, err
			}
		}
		err = nil
	}
	return out, err
}

// graphWords says what is down, and whether that takes others with it.
func graphWords(needs map[string][]definition.Dependency, nodes []GraphNode) string {
	name, up, down, groups, unknown := map[string]string{}, map[string]bool{}, map[string]bool{}, 0, 0
	for _, n := range nodes {
		if n.State == verdict.Unmeasured.String() {
			unknown++
		}
		name[n.Service] = n.Name
		up[n.Service], down[n.Service] = n.State == "up" || n.State == "degraded", n.State == "down"
		groups += len(n.Groups)
	}
	called := func(ids []string) (out []string) {
		for _, id := range ids {
			out = append(out, name[id])
		}
		return out
	}
	r, t, tight := topology.Trouble(needs, up, down)
	roots, taken := called(r), called(t)
	all := append(slices.Clone(roots), taken...)
	switch {
	case len(nodes) == 0:
		return "There is no service."
	case groups == 0:
		return "No service needs another one yet."
	case len(roots) > 0 && len(taken) > 0:
		return fmt.Sprintf("%s %s down and %s %s with %s.", short(roots), of(roots, "is", "are"), of(roots, "takes", "take"), short(taken), of(roots, "it", "them"))
	case len(all) > 0:
		return fmt.Sprintf("%s %s down, and %s nothing with %s.", short(all), of(all, "is", "are"), of(all, "takes", "take"), of(all, "it", "them"))
	}
	said := "Nothing is down"
	if tight > 0 {
		said = counted(tight, "group has", "groups have") + " nothing to spare"
	}
	if unknown > 0 {
		return said + "; " + counted(unknown, "service is", "services are") + " not measured."
	}
	return said + "."
}

func short(names []string) string {
	if len(names) > 3 {
		return fmt.Sprintf("%d services", len(names))
	}
	return inWords(names)
}

func of(names []string, one, many string) string {
	if len(names) == 1 {
		return one
	}
	return many
}

func (s *Server) exportDependencies(ctx context.Context, in *struct {
	Format string `query:"format" enum:"csv,yaml" default:"csv"`
}) (*huma.StreamResponse, error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	text, err := topology.Write(in.Format, snap.AllNeeds())
	if err != nil {
		return nil, err
	}
	kind := map[string]string{topology.CSV: "text/csv; charset=utf-8", topology.YAML: "application/yaml"}[in.Format]
	return &huma.StreamResponse{Body: func(hc huma.Context) {
		hc.SetHeader("Content-Type", kind)
		hc.SetHeader("Content-Disposition", `attachment; filename="dependencies.`+in.Format+`"`)
		hc.BodyWriter().Write(text)
	}}, nil
}

// DependAsk asks for services to need what a file says.
type DependAsk struct {
	Format  string `json:"format" enum:"csv,yaml"`
	Text    string `json:"text" minLength:"1" maxLength:"1000000"`
	Reason  string `json:"reason,omitempty" maxLength:"500"`
	Preview bool   `json:"preview,omitempty" doc:"Say what it would change, and do nothing"`
}

// DependView is what a file of dependencies changed, or would change.
type DependView struct {
	Done   bool           `json:"done"`
	Items  []DependChange `json:"items" doc:"Services that need something else than before"`
	Same   int            `json:"same" doc:"Services in the file that need what they needed"`
	Faults []LineFault    `json:"faults" doc:"What is wrong with the file; with any of it nothing is done"`
}

// DependChange is what one service needs in place of what it needed.
type DependChange struct {
	Service string `json:"service"`
	Name    string `json:"name"`
	Before  string `json:"before"`
	After   string `json:"after"`
}

// LineFault is what is wrong, and where.
type LineFault struct {
	Where string `json:"where" doc:"Such as line 7"`
	Fault string `json:"fault"`
}

func (s *Server) importDependencies(ctx context.Context, in *body[DependAsk]) (*body[DependView], error) {
	ask := in.Body
	out := DependView{Items: []DependChange{}, Faults: []LineFault{}}
	faulty := func(errs []error) *body[DependView] {
		for _, err := range errs {
			f, is := err.(*definition.Fault)
			if !is {
				f = &definition.Fault{Path: "text", Message: err.Error()}
			}
			out.Faults = append(out.Faults, LineFault{f.Path, f.Message})
		}
		return &body[DependView]{out}
	}
	list, errs := topology.Read(ask.Format, ask.Text)
	if len(errs) > 0 {
		return faulty(errs), nil
	}
	ch := s.change(ctx, ask.Reason)
	circumstances := catalogue.Circumstances{At: span.Of(s.Now()), By: ch.By.Kept(), Reason: ask.Reason}
	var changes []catalogue.Depends
	steps := func(snap *catalogue.Snapshot) ([]catalogue.Step, error) {
		changes, errs = snap.DependSteps(circumstances, list)
		var out []catalogue.Step
		for _, c := range changes {
			out = append(out, c.Step)
		}
		return out, nil
	}
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	if ask.Preview {
		_, err = s.Definitions.Preview(ctx, ch, steps)
	} else {
		_, _, err = s.Definitions.ApplyFrom(ctx, ch, steps)
	}
	if err != nil {
		return nil, err
	}
	if len(errs) > 0 {
		return faulty(errs), nil
	}
	out.Done, out.Same = !ask.Preview, len(list)-len(changes)
	for _, c := range changes {
		out.Items = append(out.Items, DependChange{c.Service, snap.Named(catalogue.Service, c.Service), needsWords(snap, c.Before), needsWords(snap, c.After)})
	}
	return &body[DependView]{out}, nil
}

// needsWords says what groups need.
func needsWords(snap *catalogue.Snapshot, groups []definition.Dependency) string {
	var parts []string
	for _, d := range groups {
		var names []string
		for _, m := range d.Services {
			names = append(names, snap.Named(catalogue.Service, m))
		}
		if d.Need > 0 && d.Need < len(d.Services) {
			parts = append(parts, fmt.Sprintf("%d of %s", d.Need, inWords(names)))
		} else {
			parts = append(parts, inWords(names))
		}
	}
	if len(parts) == 0 {
		return "nothing"
	}
	return inWords(parts)
}
