package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/incident"
	"kestite/core/notice"
	"kestite/core/span"
	"kestite/server/defining"
	"kestite/server/incidents"
	"kestite/server/notifying"
	"kestite/server/store/gen/db"
)

// noticeRoutes are those of who is told what: what is defined of it, who is on duty, what
// a failure would tell, and what was told.
func (s *Server) noticeRoutes(a *operations) {
	definitionRoutes(a, definitionKind[definition.RelaySpec]{
		kind: catalogue.Relay, path: "/relays", name: "a relay",
		named:   func(s definition.RelaySpec) string { return s.Name },
		entries: func(s *catalogue.Snapshot) map[string]*catalogue.Entry[definition.RelaySpec] { return s.Relays },
	})
	definitionRoutes(a, definitionKind[definition.ContactSpec]{
		kind: catalogue.Contact, path: "/contact-methods", name: "a shared contact method",
		named:   func(s definition.ContactSpec) string { return s.Name },
		entries: func(s *catalogue.Snapshot) map[string]*catalogue.Entry[definition.ContactSpec] { return s.Contacts },
		hide: func(c definition.ContactSpec) definition.ContactSpec {
			c.Address = withoutPath(c.Kind, c.Address)
			c.Headers, c.Body = nil, ""
			return c
		},
	})
	definitionRoutes(a, definitionKind[definition.PoolSpec]{
		kind: catalogue.Pool, path: "/pools", name: "a pool",
		named:   func(s definition.PoolSpec) string { return s.Name },
		entries: func(s *catalogue.Snapshot) map[string]*catalogue.Entry[definition.PoolSpec] { return s.Pools },
	})
	definitionRoutes(a, definitionKind[definition.NoticePlanSpec]{
		kind: catalogue.NoticePlan, path: "/notice-plans", name: "a notice plan",
		named: func(s definition.NoticePlanSpec) string { return s.Name },
		entries: func(s *catalogue.Snapshot) map[string]*catalogue.Entry[definition.NoticePlanSpec] {
			return s.NoticePlans
		},
	})
	on(a, access.Define, http.MethodPost, "/contact-methods/preview", "preview-contact-method",
		"What a contact method, saved or not, would be sent of a real incident; nothing is sent", s.previewContact)
	on(a, access.Define, http.MethodPost, "/contact-methods/{id}/test", "test-contact-method",
		"Send a test by it, and see what the remote answers", func(ctx context.Context, in *ByID) (*body[Answered], error) {
			answer, sent, err := s.Notices.Try(ctx, by(ctx), in.ID)
			return &body[Answered]{Answered{sent, answer}}, err
		})
	on(a, access.Operate, http.MethodPost, "/pools/{id}/overrides", "hand-over-duty", "Put somebody else on duty for a while", s.handOver)
	on(a, access.See, http.MethodGet, "/duty", "duty", "Who is on duty when", s.duty)
	on(a, access.See, http.MethodGet, "/notice-people", "notice-people", "Who can be told, and by what", s.noticePeople)
	on(a, access.See, http.MethodGet, "/rehearsal", "rehearse", "Who would be told what and when of a failure, if nobody did anything", s.rehearsal)
	on(a, access.See, http.MethodGet, "/supposition", "suppose", "What a failure to come would do: to other services, to agreements, and who would be told", s.suppose, costly)
	on(a, access.See, http.MethodGet, "/notice-gaps", "notice-gaps", "Where nobody would be told", s.noticeGaps, costly)
}

// Answered says whether a message was taken, and what the remote said.
type Answered struct {
	Sent   bool   `json:"sent"`
	Answer string `json:"answer" doc:"What the remote answered, or what went wrong"`
}

// handOver puts somebody else on duty: a piece of a pool's definition that operators may
// change too.
func (s *Server) handOver(ctx context.Context, in *struct {
	ByID
	Body definition.Override
}) (*none, error) {
	o := in.Body
	if err := notifying.Unknown(ctx, s.Store.Queries, definition.PoolSpec{Overrides: []definition.Override{o}}); err != nil {
		return nil, definition.Instead("person", err)
	}
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	e := snap.Pools[in.ID]
	if e == nil || e.Retired {
		return nil, catalogue.ErrNotFound
	}
	spec := e.Current().Spec
	if spec.Rotation == nil {
		return nil, invalid("id", "everybody of "+spec.Name+" is told; there is no duty to hand over")
	}
	spec.Overrides = append(slices.Clone(spec.Overrides), o)
	ch := defining.Change{By: by(ctx), Reason: "Hand-over of duty", May: func(before, after *catalogue.Snapshot, w catalogue.Write) error {
		return who(ctx).Rights.Needs(access.Operate)
	}}
	_, err = s.Definitions.Apply(ctx, ch, catalogue.Step{Does: catalogue.Rewrite, Kind: catalogue.Pool, ID: in.ID, Expected: e.Current().Number, Spec: spec})
	return nil, inOverride(err, len(spec.Overrides)-1)
}

// Duty is who is on duty over a band.
type Duty struct {
	Span  SpanView   `json:"span"`
	Pools []PoolDuty `json:"pools"`
}

// PoolDuty is who of a pool is on duty.
type PoolDuty struct {
	ID      string       `json:"id"`
	Name    string       `json:"name"`
	Members []PersonName `json:"members"`
	Rotates bool         `json:"rotates" doc:"One at a time is on duty; otherwise all are told"`
	Now     []PersonName `json:"now" doc:"Who is told now"`
	Turns   []TurnView   `json:"turns" doc:"Over the band"`
	Plans   []Ref        `json:"plans" doc:"The notice plans that tell it"`
}

// TurnView is a time in which somebody is on duty.
type TurnView struct {
	From    span.Instant `json:"from"`
	To      span.Instant `json:"to"`
	Person  string       `json:"person" doc:"Id; empty: nobody"`
	Name    string       `json:"name"`
	StandIn bool         `json:"stand_in" doc:"In place of who would be by the rotation"`
}

// Ref is a definition by id and name.
type Ref struct {
	ID   string `json:"id"`
	Name string `json:"name"`
}

// named are people by id as they are called.
func named(d notice.Directory, ids []string) []PersonName {
	out := []PersonName{}
	for _, id := range ids {
		out = append(out, PersonName{id, personIn(d, id)})
	}
	return out
}

func personIn(d notice.Directory, id string) string {
	if p, is := d.People[id]; is {
		return p.Name
	}
	if id == "" {
		return ""
	}
	return "somebody who is gone"
}

// directory is who and what can be told now.
func (s *Server) directory(ctx context.Context) (*catalogue.Snapshot, notice.Directory, error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, notice.Directory{}, err
	}
	d, err := notifying.Directory(ctx, s.Store.Queries, snap)
	return snap, d, err
}

func (s *Server) duty(ctx context.Context, in *InSpan) (*body[Duty], error) {
	snap, d, err := s.directory(ctx)
	if err != nil {
		return nil, err
	}
	p, err := s.band(in.Span, snap.Timezone)
	if err != nil {
		return nil, err
	}
	now := span.Of(s.Now())
	out := Duty{Span: s.spanView(p), Pools: []PoolDuty{}}
	for _, id := range catalogue.Live(snap.Pools) {
		spec := snap.Pools[id].Current().Spec
		v := PoolDuty{ID: id, Name: spec.Name, Members: named(d, spec.Members), Rotates: spec.Rotation != nil,
			Now: named(d, notice.OnDuty(spec, now)), Turns: []TurnView{}, Plans: []Ref{}}
		for _, t := range notice.Turns(spec, p.Span()) {
			v.Turns = append(v.Turns, TurnView{t.From, t.To, t.Person, personIn(d, t.Person), t.StandIn})
		}
		for _, plan := range catalogue.Live(snap.NoticePlans) {
			of := snap.NoticePlans[plan].Current().Spec
			if slices.Contains(of.Recipients(), definition.Recipient{Pool: id}) {
				v.Plans = append(v.Plans, Ref{plan, of.Name})
			}
		}
		out.Pools = append(out.Pools, v)
	}
	return &body[Duty]{out}, nil
}

// NoticePerson is somebody who can be told.
type NoticePerson struct {
	ID      string   `json:"id"`
	Name    string   `json:"name"`
	Reached []string `json:"reached" doc:"Kinds of their verified contact methods"`
	Waiting int      `json:"waiting" doc:"Contact methods that were never verified"`
}

func (s *Server) noticePeople(ctx context.Context, _ *none) (*list[NoticePerson], error) {
	_, d, err := s.directory(ctx)
	if err != nil {
		return nil, err
	}
	people, err := s.Store.PeopleToTell(ctx)
	if err != nil {
		return nil, err
	}
	var out []NoticePerson
	for _, r := range people {
		p := d.People[r.ID]
		if p.Gone {
			continue
		}
		v := NoticePerson{ID: p.ID, Name: p.Name, Reached: []string{}}
		for _, m := range p.Methods {
			switch {
			case !m.Verified:
				v.Waiting++
			case !slices.Contains(v.Reached, m.Kind):
				v.Reached = append(v.Reached, m.Kind)
			}
		}
		out = append(out, v)
	}
	return items(out), nil
}

// Rehearsal is what a failure would tell.
type Rehearsal struct {
	At       span.Instant    `json:"at"`
	Timezone string          `json:"timezone"`
	Severity string          `json:"severity" enum:"critical,major,minor,"`
	Plans    []ChosenView    `json:"plans" doc:"The notice plans that it follows; none: nobody is told"`
	Lines    []RehearsalLine `json:"lines"`
	Reached  *span.Instant   `json:"reached,omitempty" doc:"When it first comes to somebody who need not look; absent: to nobody"`
	Why      string          `json:"why" doc:"Why nobody is told; empty: somebody is"`
}

// ChosenView is a notice plan that an incident follows, and why.
type ChosenView struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	By   string `json:"by" enum:"service,owner,everywhere,instead" doc:"The service names it, its owner does, it is for all that meets its conditions, or other plans leave to it what is due outside their hours"`
}

// RehearsalLine is one thing that would be told.
type RehearsalLine struct {
	At     span.Instant  `json:"at"`
	Plan   string        `json:"plan" doc:"What the plan is called"`
	Step   int           `json:"step" doc:"From 1"`
	Nth    int           `json:"nth" doc:"How often again; 0: the first time"`
	Digest *span.Instant `json:"digest,omitempty" doc:"When the digest is sent that tells it; absent: it is told at once"`
	To     string        `json:"to" doc:"What the receiver is called"`
	Of     string        `json:"of,omitempty" doc:"What it is told of, where several things fail"`
	Ways   []WayView     `json:"ways"`
}

// WayView is how one receiver is told.
type WayView struct {
	Person string        `json:"person,omitempty" doc:"What the person is called; absent: it is a shared contact method"`
	Kind   string        `json:"kind" enum:"mail,sms,webhook,chat,syslog,script,inbox,"`
	At     *span.Instant `json:"at,omitempty" doc:"When it arrives; later where it is not active"`
	Why    string        `json:"why,omitempty" doc:"Why nobody is reached so"`
}

func chosenViews(snap *catalogue.Snapshot, list []notice.Chosen) []ChosenView {
	out := []ChosenView{}
	for _, c := range list {
		out = append(out, ChosenView{c.Plan, snap.Named(catalogue.NoticePlan, c.Plan), c.By})
	}
	return out
}

// rehearsed is for how long a failure is rehearsed.
const rehearsed = 4 * span.Hour

func (s *Server) rehearsal(ctx context.Context, in *struct {
	About string `query:"about" enum:"service,check,location" default:"service"`
	ID    string `query:"id" required:"true" maxLength:"120" doc:"Of what fails"`
	State string `query:"state" enum:"down,degraded" default:"down"`
	At    string `query:"at" maxLength:"40" doc:"When it fails, as 2026-01-15T03:10:00Z; absent: now"`
}) (*body[Rehearsal], error) {
	snap, d, err := s.directory(ctx)
	if err != nil {
		return nil, err
	}
	out := Rehearsal{At: span.Of(s.Now()), Timezone: snap.Timezone, Plans: []ChosenView{}, Lines: []RehearsalLine{}}
	if in.At != "" {
		if out.At, err = span.ParseInstant(in.At); err != nil {
			return nil, definition.Faultf("query.at", "%v", err)
		}
	}
	of := incident.Subject{About: in.About, ID: in.ID}
	policy, is := incidents.PolicyOf(snap, of)
	if !is {
		return nil, definition.Faultf("query.id", "%q names nothing that could fail", in.ID)
	}
	out.Severity = policy.Degraded
	if in.State == "down" {
		out.Severity = policy.Down
	}
	if out.Severity == "" {
		out.Why = "That opens no incident, by the policy of the service."
		return &body[Rehearsal]{out}, nil
	}
	service := incidents.ServiceOf(snap, of)
	chosen := notice.Plans(snap, of, service)
	out.Plans = chosenViews(snap, chosen)
	waits := in.About == incident.Service && len(snap.NeededNow(service)) > 0
	lines := notice.Rehearse(notice.Following(snap, chosen, service), d, out.Severity, out.At, rehearsed, waits)
	for _, l := range lines {
		out.Lines = append(out.Lines, lineView(snap, d, l))
	}
	first, reached := notice.Reached(lines)
	switch {
	case reached:
		out.Reached = &first
	case len(chosen) == 0:
		out.Why = "No notice plan is for it: neither the service nor its owner names one, and none is for everything."
	case len(lines) == 0:
		out.Why = "No step of its plans is due within four hours: they are for other severities, or for other hours."
	default:
		out.Why = "It comes to nobody who does not look by themselves."
	}
	return &body[Rehearsal]{out}, nil
}

func lineView(snap *catalogue.Snapshot, d notice.Directory, l notice.Line) RehearsalLine {
	v := RehearsalLine{At: l.At, Plan: snap.Named(catalogue.NoticePlan, l.Plan), Step: l.Step + 1, Nth: l.Nth, Digest: l.Digest, Ways: []WayView{}}
	switch {
	case l.To.Pool != "":
		v.To = snap.Named(catalogue.Pool, l.To.Pool)
	case l.To.Contact != "":
		v.To = snap.Named(catalogue.Contact, l.To.Contact)
	default:
		v.To = personIn(d, l.To.Person)
	}
	for _, w := range l.Ways {
		way := WayView{Kind: w.Kind, Why: w.Why, Person: personIn(d, w.Person)}
		if w.Why == "" {
			at := w.At
			way.At = &at
		}
		v.Ways = append(v.Ways, way)
	}
	return v
}

// Gap is where nobody would be told.
type Gap struct {
	Kind    string     `json:"kind" enum:"no-plan,hours,passive,unverified,gone,relay,behind"`
	Text    string     `json:"text" doc:"What is the matter"`
	About   string     `json:"about" enum:"service,notice-plan,person,pool,relay,contact-method"`
	ID      string     `json:"id"`
	Name    string     `json:"name"`
	TotalMS int64      `json:"total_ms,omitempty" doc:"Of hours: how much of the coming week"`
	From    *time.Time `json:"from,omitempty" doc:"Of hours: when that begins first"`
}

func (s *Server) noticeGaps(ctx context.Context, _ *none) (*list[Gap], error) {
	snap, d, err := s.directory(ctx)
	if err != nil {
		return nil, err
	}
	now := span.Of(s.Now())
	week := span.Span{From: now.Add(-int64(now) % span.Hour)}
	week.To = week.From.Add(7 * span.Day)
	var out []Gap
	for _, g := range alike(snap) {
		gap := Gap{About: catalogue.Service, ID: g.services[0], Name: someNames(snap, g.services)}
		switch unheard := notice.Unheard(notice.Following(snap, g.plans, g.services[0]), d, g.severity, week); {
		case len(g.plans) == 0:
			gap.Kind, gap.Text = "no-plan", "follows no notice plan: nobody is told"
		case unheard.Length() >= week.Length():
			gap.Kind, gap.Text = "passive", "at no hour is anybody told who does not look by themselves"
		case len(unheard) > 0:
			from := unheard[0].From.Time()
			gap.Kind, gap.TotalMS, gap.From = "hours", unheard.Length(), &from
			gap.Text = "in " + span.Words(unheard.Length()) + " of the coming week nobody is told within an hour of the last step"
		default:
			continue
		}
		out = append(out, gap)
	}
	out = append(out, peopleGaps(snap, d)...)
	for _, id := range s.Notices.Sender.ScriptsOff(d.Contacts) {
		out = append(out, Gap{Kind: "relay", Text: "is a script, and scripts are off: who runs the server may start it with --scripts",
			About: catalogue.Contact, ID: id, Name: d.Contacts[id].Name})
	}
	return items(append(out, relayGaps(snap, d)...)), nil
}

// followers are services whose failures are told alike.
type followers struct {
	services []string
	plans    []notice.Chosen
	severity string
}

// alike are the services that are measured and open incidents, by the plans that those
// follow.
func alike(snap *catalogue.Snapshot) []followers {
	var out []followers
	for _, id := range catalogue.Live(snap.Services) {
		of := incident.Subject{About: incident.Service, ID: id}
		policy, is := incidents.PolicyOf(snap, of)
		if !is || policy.Down == "" || len(snap.ChecksOf[id]) == 0 {
			continue
		}
		plans := notice.Plans(snap, of, id)
		own := slices.ContainsFunc(plans, func(c notice.Chosen) bool { return snap.NoticePlans[c.Plan].Current().Spec.Agreed != "" }) // by its own agreements
		n := slices.IndexFunc(out, func(f followers) bool {
			return !own && f.severity == policy.Down && slices.EqualFunc(f.plans, plans, notice.Chosen.Equal)
		})
		if n < 0 {
			n, out = len(out), append(out, followers{plans: plans, severity: policy.Down})
		}
		out[n].services = append(out[n].services, id)
	}
	return out
}

// someNames are what some services are called, the first few by name.
func someNames(snap *catalogue.Snapshot, ids []string) string {
	const most = 3
	var names []string
	for _, id := range ids[:min(len(ids), most)] {
		names = append(names, snap.Named(catalogue.Service, id))
	}
	out := strings.Join(names, ", ")
	if more := len(ids) - most; more > 0 {
		out += fmt.Sprintf(" and %d more", more)
	}
	return out
}

// peopleGaps are people of pools in use who cannot be reached.
func peopleGaps(snap *catalogue.Snapshot, d notice.Directory) []Gap {
	var out []Gap
	seen := map[string]bool{}
	for _, pool := range catalogue.Live(snap.Pools) {
		spec := snap.Pools[pool].Current().Spec
		for _, id := range spec.Members {
			p, is := d.People[id]
			switch {
			case !is || p.Gone:
				out = append(out, Gap{Kind: "gone", Text: "has a member who has no account any more: " + personIn(d, id), About: catalogue.Pool, ID: pool,
					Name: spec.Name})
			case !seen[id] && !slices.ContainsFunc(p.Methods, func(m notice.Method) bool { return m.Verified }):
				out = append(out, Gap{Kind: "unverified", Text: "has no contact method that was verified; notices lie in the inbox only",
					About: "person", ID: id, Name: p.Name})
			}
			seen[id] = true
		}
	}
	return out
}

// relayGaps are relays that are missing, or stand behind what is watched.
func relayGaps(snap *catalogue.Snapshot, d notice.Directory) []Gap {
	var out []Gap
	wanted := map[string]bool{}
	for _, c := range d.Contacts {
		wanted[c.Kind] = true
	}
	for _, p := range d.People {
		for _, m := range p.Methods {
			wanted[m.Kind] = true
		}
	}
	for _, kind := range []string{definition.Mail, definition.SMS} {
		if wanted[kind] && len(notifying.Relays(snap, kind)) == 0 {
			out = append(out, Gap{Kind: "relay", Text: "there is no relay for it: nothing of that kind can be sent", About: catalogue.Relay, Name: kind})
		}
	}
	for _, id := range catalogue.Live(snap.Relays) {
		relay := snap.Relays[id].Current().Spec
		for _, check := range catalogue.Live(snap.Checks) {
			spec := snap.Checks[check].Current().Spec
			if host := definition.HostIn(spec.Target); host != "" && host == definition.HostIn(relay.Address) {
				out = append(out, Gap{Kind: "behind", Text: "is what " + snap.Named(catalogue.Service, spec.Service) + " is measured by: while that is down, nothing goes this way",
					About: catalogue.Relay, ID: id, Name: relay.Name})
				break
			}
		}
	}
	return out
}

// inOverride says a fault of an override that was added as one of the fields that were sent.
func inOverride(err error, n int) error {
	var f *definition.Fault
	if !errors.As(err, &f) {
		return err
	}
	path := strings.TrimPrefix(f.Path, fmt.Sprintf("overrides[%d].", n))
	if path == f.Path {
		path = "id"
	}
	return definition.Faultf(path, "%s", f.Message)
}

// deliveryCounts are how many deliveries of incidents are in each state.
func (s *Server) deliveryCounts(ctx context.Context, ids []int64) (map[int64]NoticeCounts, error) {
	rows, err := s.Store.CountDeliveries(ctx, ids)
	out := map[int64]NoticeCounts{}
	for _, r := range rows {
		out[*r.Incident] = NoticeCounts{Sent: r.Sent, Failed: r.Failed, Waiting: r.Waiting}
	}
	return out, err
}

// NoticeCounts are how many messages told of an incident.
type NoticeCounts struct {
	Sent    int64 `json:"sent"`
	Waiting int64 `json:"waiting" doc:"Queued, or held back for a summary"`
	Failed  int64 `json:"failed"`
}

// ContactAsk asks what a contact method would be sent.
type ContactAsk struct {
	Spec     definition.ContactSpec `json:"spec"`
	Incident int64                  `json:"incident,omitempty" minimum:"0" doc:"Its number; absent: the latest"`
}

// ContactPreview is what a contact method would be sent.
type ContactPreview struct {
	Incident int64  `json:"incident"`
	Name     string `json:"name" doc:"What the incident is about"`
	Text     string `json:"text" doc:"As it would arrive"`
}

func (s *Server) previewContact(ctx context.Context, in *body[ContactAsk]) (*body[ContactPreview], error) {
	if err := definition.Valid(in.Body.Spec); err != nil {
		return nil, definition.Within("spec", err)
	}
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	number := in.Body.Incident
	if number == 0 {
		rows, err := s.Store.IncidentList(ctx, db.IncidentListParams{Most: 1})
		if err != nil {
			return nil, err
		}
		if len(rows) == 0 {
			return nil, huma.Error404NotFound("There is no incident yet to show it by.")
		}
		number = rows[0].ID
	}
	row, err := s.numbered(ctx, number)
	if err != nil {
		return nil, err
	}
	text, err := s.Notices.Preview(ctx, snap, in.Body.Spec, row)
	if err != nil {
		return nil, err
	}
	return &body[ContactPreview]{ContactPreview{number, incidents.Name(snap, incidents.Of(row).Subject), text}}, nil
}
