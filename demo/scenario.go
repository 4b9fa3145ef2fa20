// Package demo is the scenario of Skerry Line, an invented ferry operator: its
// services, checks and agreements, thirteen months of generated measurements
// judged by the real rules, and the stand-ins that are measured from then on.
package demo

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"net/netip"
	"slices"
	"time"

	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/server/api"
	"kestite/server/auth"
	"kestite/server/defining"
	"kestite/server/store/gen/db"
	"kestite/server/trail"
	"kestite/standin"
)

// Zone and organisation of the scenario.
const (
	Zone         = "Europe/Oslo"
	Organisation = "Skerry Line"
)

// Password of all demo accounts.
const Password = "skerry-line-demo"

// People who can sign in to the demo.
var People = []struct {
	Name, Email string
	access.Rights
}{
	{"Astrid Holm", "admin@skerry.example", access.Rights{Role: access.Administrator}},
	{"Mikkel Brand", "manager@skerry.example", access.Rights{Role: access.Manager}},
	{"Eir Moen", "approver@skerry.example", access.Rights{Role: access.Approver}},
	{"Runa Vik", "operator@skerry.example", access.Rights{Role: access.Operator}},
	{"Sindre Aune", "gates@skerry.example", access.Rights{Role: access.Manager, Teams: []string{"terminal-operations"}}},
	{"Odd Lien", "viewer@skerry.example", access.Rights{Role: access.Viewer}},
	{"Tove Sund", "customer@skerry.example", access.Rights{Role: access.Customer, Customer: "port-authority"}},
}

// Locations of the scenario.
var locations = []struct {
	id   string
	spec definition.LocationSpec
}{
	{"tolvik", definition.LocationSpec{Name: "Tolvik", Region: "South", Note: "Terminal building, server room B", Latitude: ptr(58.12), Longitude: ptr(7.95), Address: "127.0.0.1", References: []string{"127.0.0.1"}}},
	{"eskerby", definition.LocationSpec{Name: "Eskerby", Region: "North", Note: "Harbour office, on the provider's line", Latitude: ptr(62.47), Longitude: ptr(6.15), Address: "127.0.0.2", EchoPort: 8482, References: []string{"127.0.0.1"}}},
}

// subject is a service with its checks, its stand-in and its character.
type subject struct {
	id      string
	spec    definition.ServiceSpec
	web     string // address of a web stand-in, "" for none
	tls     bool
	tcp     bool   // its port is checked too
	names   string // address of a name server stand-in, "" for none
	bearer  string // token that its pages ask for, "" for none
	figures bool   // it tells figures of its business
	text    string
	latency float64 // ms, of a normal answer
	voice   string  // address of a voice stand-in, "" for none
	hosts   []host
	rolling *definition.Rolling // how failures of its page are believed, nil for in a row
	more    []checkDef          // checks of kinds that only this service has
}

type host struct{ id, name, addr string }

func needs(need int, services ...string) []definition.Dependency {
	return []definition.Dependency{{Services: services, Need: need}}
}

var subjects = []subject{
	{
		id: "card-acquirer", spec: definition.ServiceSpec{Name: "Card acquirer", Kind: definition.Supplier, Owner: "payments", Tags: []string{"payments"}},
		web: "127.77.0.17:8417", text: "Settlement gateway", latency: 95,
	},
	{
		id: "uplink-east", spec: definition.ServiceSpec{Name: "Uplink east", Kind: definition.Supplier, Owner: "harbour-it", Tags: []string{"network"}},
		hosts: []host{{"uplink-east-router", "Router of the uplink east", "127.77.0.23"}},
	},
	{
		id: "uplink-west", spec: definition.ServiceSpec{Name: "Uplink west", Kind: definition.Supplier, Owner: "harbour-it", Tags: []string{"network"}},
		hosts: []host{{"uplink-west-router", "Router of the uplink west", "127.77.0.24"}},
	},
	{
		id: "quay-network", spec: definition.ServiceSpec{Name: "Quay network", Kind: definition.Supporting, Owner: "harbour-it", Tags: []string{"network"}, DependsOn: needs(1, "uplink-east", "uplink-west")},
		more: []checkDef{{"way-to-quay", definition.CheckSpec{
			Name: "Way to the far quay", Kind: measure.Path.Name, Target: farQuay.String(), Role: definition.Informs,
			IntervalS: 60, TimeoutMS: 1000, StaleAfterS: 200, Confirm: 2, Recover: 2,
			Limits:   []measure.Limit{{Measure: "loss_percent", DegradedAbove: ptr(20)}, {Measure: "route_changed", DegradedAbove: ptr(0)}},
			Settings: definition.Settings{Path: &definition.PathSettings{Method: definition.ByICMP, Rounds: 5, SpacingMS: 200, MaxHops: 20}},
		}, 14}},
		hosts: []host{{"quay-switch-tolvik", "Quay switch Tolvik", "127.77.0.21"}, {"quay-switch-eskerby", "Quay switch Eskerby", "127.77.0.22"}},
	},
	{
		id: "harbour-names", spec: definition.ServiceSpec{Name: "Harbour names", Kind: definition.Supporting, Owner: "harbour-it", Tags: []string{"network"}, Note: "The name server of all harbours"},
		names: "127.77.0.41:8453", latency: 2,
	},
	{
		id: "harbour-voice", spec: definition.ServiceSpec{Name: "Harbour voice", Kind: definition.Supporting, Owner: "harbour-it", Tags: []string{"network", "voice"}, Note: "The line that harbours speak on"},
		voice: "127.77.0.51:8481", latency: 0.3,
	},
	{
		id: "boarding-gates", spec: definition.ServiceSpec{Name: "Boarding gates", Kind: definition.Business, Owner: "terminal-operations", Tags: []string{"terminal"}, Runbook: "https://runbooks.skerry.example/gates", DependsOn: needs(0, "quay-network")},
		web: "127.77.0.11:8411", text: "Gate controller ready", latency: 40,
		more: []checkDef{{"slowest-page", definition.CheckSpec{
			Name: "Slowest page at the gate", Kind: measure.Derived.Name, Role: definition.Informs,
			IntervalS: 60, TimeoutMS: 1000, StaleAfterS: 200, Confirm: 2, Recover: 2, Locations: []string{definition.Server},
			Limits: []measure.Limit{{Measure: "value", DegradedAbove: ptr(800), MeanS: 300}},
			Settings: definition.Settings{Derived: &definition.DerivedSettings{Operation: definition.Max, Sources: []definition.Source{
				{Check: "boarding-gates-http", Measure: "total_ms"}, {Check: "sailing-board-http", Measure: "total_ms"}}}},
		}, 60}},
		hosts: []host{{"gate-controller", "Gate controller", "127.77.0.31"}},
	},
	{
		id: "ticket-sales", spec: definition.ServiceSpec{Name: "Ticket sales", Kind: definition.Business, Owner: "passenger-division", Tags: []string{"passengers", "payments"}, Runbook: "https://runbooks.skerry.example/tickets", DependsOn: needs(0, "card-acquirer"),
			Defaults: &definition.CheckDefaults{Confirm: 2, Recover: 2, RetryS: 10, Locations: both()}},
		web: "127.77.0.12:8412", tls: true, text: "Book your crossing", latency: 130, figures: true,
		hosts: []host{{"ticket-front", "Ticket front end", "127.77.0.32"}},
	},
	{
		id: "freight-booking", spec: definition.ServiceSpec{Name: "Freight booking", Kind: definition.Business, Owner: "freight-desk", Tags: []string{"freight"}},
		web: "127.77.0.13:8413", tcp: true, text: "Freight desk open", latency: 180,
		more: []checkDef{{"freight-copy", definition.CheckSpec{
			Name: "Copy of the freight ledger", Kind: measure.ReportIn.Name, Role: definition.Informs,
			IntervalS: 60, TimeoutMS: 30_000, StaleAfterS: 200, Confirm: 1, Recover: 1, Locations: []string{definition.Server},
			Limits:   []measure.Limit{{Measure: "value_1", DegradedBelow: ptr(1)}},
			Settings: definition.Settings{ReportIn: &definition.ReportInSettings{Numbers: []string{"files"}}},
		}, 60}},
	},
	{
		id: "sailing-board", spec: definition.ServiceSpec{Name: "Sailing board", Kind: definition.Business, Owner: "passenger-division", Tags: []string{"passengers"}, DependsOn: needs(0, "harbour-names")},
		web: "127.77.0.14:8414", text: "Next sailings", latency: 30,
	},
	{
		id: "crew-roster", spec: definition.ServiceSpec{Name: "Crew roster", Kind: definition.Business, Owner: "crewing", Tags: []string{"crew"}},
		web: "127.77.0.15:8415", text: "Roster of the week", latency: 70, bearer: "made-up-for-the-demo",
	},
	{
		id: "customer-messages", spec: definition.ServiceSpec{Name: "Customer messages", Kind: definition.Supporting, Owner: "passenger-division", Tags: []string{"passengers"}, WorkApproval: true},
		web: "127.77.0.16:8416", text: "Message relay", latency: 55, rolling: &definition.Rolling{Runs: 4, Locations: 2, WindowS: 300},
	},
	{
		id:   "departure",
		spec: definition.ServiceSpec{Name: "Departure check-in", Kind: definition.Business, Owner: "terminal-operations", Tags: []string{"terminal", "passengers"}, DependsOn: append(needs(0, "boarding-gates", "sailing-board"), needs(1, "quay-network")...)},
	},
}

var windows = []struct {
	id      string
	spec    definition.WindowSpec
	firstAt string // day of the first occurrence is the month's; see Load
}{
	{"freight-database", definition.WindowSpec{Name: "Freight database upkeep", Services: []string{"freight-booking"}, Timezone: Zone, DurationS: 90 * 60, RRule: "FREQ=WEEKLY;BYDAY=TU"}, "T05:00:00"},
	{"ticket-release", definition.WindowSpec{Name: "Ticket sales release", Services: []string{"ticket-sales"}, Timezone: Zone, DurationS: 45 * 60, RRule: "FREQ=WEEKLY;INTERVAL=2;BYDAY=TH"}, "T02:00:00"},
	{"gate-firmware", definition.WindowSpec{Name: "Gate firmware", Services: []string{"boarding-gates", "quay-network"}, Timezone: Zone, DurationS: 60 * 60, RRule: "FREQ=MONTHLY;BYDAY=SA;BYSETPOS=-1"}, "T23:30:00"},
}

// checkDef is a check with what the generator needs to know of it.
type checkDef struct {
	id      string
	spec    definition.CheckSpec
	latency float64
}

// derived is 1 for a check that is made of others.
func (c checkDef) derived() int {
	if c.spec.Kind == measure.Derived.Name {
		return 1
	}
	return 0
}

// Interval of most demo checks, in seconds.
const interval = 30

func both() []string { return []string{"tolvik", "eskerby"} }

func ptr(v float64) *float64 { return &v }

// What the scenario's name server knows.
const (
	knownName    = "tickets.skerry.example"
	knownAddress = "127.77.0.12"
)

// farQuay is at the end of the simulated route.
var farQuay = netip.MustParseAddr("198.18.4.20")

// networks are whose the hops on the way there are.
var networks = map[string]definition.NetworkSpec{
	"harbours":    {Name: "Skerry harbours", Ours: true, Prefixes: []string{"198.18.0.0/21", "127.77.0.0/16"}},
	"fjord-cable": {Name: "Fjord Cable", Prefixes: []string{"198.18.8.0/24"}, Note: "The line across the sound"},
	"isle-radio":  {Name: "Isle Radio", Prefixes: []string{"198.18.9.0/24"}, Note: "Standby, by radio link"},
}

func route(addrs ...string) []netip.Addr {
	var out []netip.Addr
	for _, a := range addrs {
		out = append(out, netip.MustParseAddr(a))
	}
	return out
}

// devices are the stand-ins that steer themselves. report reports in to a check.
func devices(report func(ctx context.Context, check string, well bool) error) []standin.Device {
	out := []standin.Device{&standin.Route{
		ID: "far-quay", Name: "Way to the far quay", Device: "skerry0", Network: netip.MustParsePrefix("198.18.0.0/20"), Target: farQuay, PerHop: 3 * time.Millisecond,
		Hops:   route("198.18.1.1", "198.18.8.1", "198.18.8.6", "198.18.4.1"),
		Detour: route("198.18.1.1", "198.18.9.1", "198.18.9.5", "198.18.9.9", "198.18.4.1"),
	}}
	for _, s := range subjects {
		if s.voice != "" {
			out = append(out, &standin.Voice{ID: s.id, Name: s.spec.Name, Addr: s.voice})
		}
		for _, c := range s.more {
			if c.spec.Kind == measure.ReportIn.Name {
				out = append(out, &standin.Reporter{ID: c.id, Name: c.spec.Name, Every: time.Minute, Report: func(ctx context.Context, well bool) error { return report(ctx, c.id, well) }})
			}
		}
	}
	return out
}

// harbours is how the harbours reach each other; it has no history.
var harbours = definition.PairPlanSpec{
	Name: "Harbour to harbour", Service: "quay-network", Kinds: []string{measure.Ping.Name, measure.Path.Name}, Shape: "full",
	Locations: both(), IntervalS: 60, BothWays: true,
}

// webKit is what a web service of Skerry Line is measured by.
var webKit = definition.KitSpec{
	Name: "Web service", Note: "Page, answer to ping and the way there",
	Parameters: []definition.Parameter{{Name: "host", Text: "Host of the service", Default: "127.77.0.14"}, {Name: "port", Text: "Port of its pages", Default: "8414"}, {Name: "text", Text: "Text that its page must hold"}},
	Checks: []definition.CheckSpec{
		{Name: "Page", Kind: measure.HTTP.Name, Target: "http://{host}:{port}/", IntervalS: 60, TimeoutMS: 5000, RetryS: 20, StaleAfterS: 190, Confirm: 2, Recover: 2, Quorum: "majority", Role: definition.Decides,
			Settings: definition.Settings{HTTP: &definition.HTTPSettings{Text: "{text}"}}},
		{Name: "Host", Kind: measure.Ping.Name, Target: "{host}", IntervalS: 60, TimeoutMS: 1000, StaleAfterS: 190, Confirm: 2, Recover: 2, Quorum: "majority", Role: definition.Informs},
		{Name: "Way there", Kind: measure.Path.Name, Target: "{host}", IntervalS: 300, TimeoutMS: 2000, StaleAfterS: 910, Confirm: 2, Recover: 2, Quorum: "majority", Role: definition.Informs},
	},
}

// address is where the web stand-in of a service answers.
func (s subject) address() string {
	if s.tls {
		return "https://" + s.web + "/"
	}
	web := standin.Web{Addr: s.web}
	return web.URL()
}

// credentialFor is the credential of a service that asks for a token.
func credentialFor(s subject) string {
	if s.bearer == "" {
		return ""
	}
	return s.id
}

// checks lists the scenario's checks.
func checks() []checkDef {
	var out []checkDef
	for _, s := range subjects {
		if s.web != "" {
			scheme := s.address()
			out = append(out, checkDef{s.id + "-http", definition.CheckSpec{
				Service: s.id, Name: s.spec.Name + " page", Kind: measure.HTTP.Name, Target: scheme,
				IntervalS: interval, TimeoutMS: 5000, StaleAfterS: 100, Confirm: 2, Recover: 2, Quorum: "majority", Role: definition.Decides, Locations: both(),
				Limits: []measure.Limit{{Measure: "total_ms", DegradedAbove: ptr(1000)}}, RetryS: 10,
				Settings: definition.Settings{HTTP: &definition.HTTPSettings{Status: "200-299", Text: s.text, Credential: credentialFor(s)}},
			}, s.latency})
			page := &out[len(out)-1].spec
			if s.spec.Defaults != nil {
				page.Follows = []string{"locations", "confirm", "retry_s", "recover"}
			}
			if s.rolling != nil {
				page.Rolling, page.RetryS, page.Quorum = s.rolling, 0, "any"
			}
			if s.figures {
				out = append(out, checkDef{s.id + "-bookings", definition.CheckSpec{
					Service: s.id, Name: "Bookings taken in the last hour", Kind: measure.HTTP.Name, Target: scheme + "figures",
					IntervalS: 60, TimeoutMS: 5000, StaleAfterS: 200, Confirm: 2, Recover: 2, Quorum: "any", Role: definition.Informs, Locations: both()[:1],
					Limits:   []measure.Limit{{Measure: "value", DegradedBelow: ptr(5), InARow: 3}},
					Settings: definition.Settings{HTTP: &definition.HTTPSettings{Status: "200", JSONPath: "$.bookings.last_hour"}},
				}, s.latency})
			}
			if s.tls {
				out = append(out, checkDef{s.id + "-certificate", definition.CheckSpec{
					Service: s.id, Name: s.spec.Name + " certificate", Kind: measure.Certificate.Name, Target: s.web,
					IntervalS: 300, TimeoutMS: 5000, StaleAfterS: 1000, Confirm: 1, Recover: 1, Quorum: "any", Role: definition.Informs, Locations: both(),
					Limits: []measure.Limit{{Measure: "days_left", DegradedBelow: ptr(14), FailedBelow: ptr(3)}},
				}, s.latency})
			}
			if s.tcp {
				out = append(out, checkDef{s.id + "-tcp", definition.CheckSpec{
					Service: s.id, Name: s.spec.Name + " port", Kind: measure.TCP.Name, Target: s.web,
					IntervalS: interval, TimeoutMS: 2000, StaleAfterS: 100, Confirm: 2, Recover: 2, Quorum: "majority", Role: definition.Informs, Locations: both(),
				}, 0.3})
			}
		}
		if s.names != "" {
			out = append(out, checkDef{s.id + "-dns", definition.CheckSpec{
				Service: s.id, Name: "Ticket sales by name", Kind: measure.DNS.Name, Target: knownName,
				IntervalS: interval, TimeoutMS: 2000, StaleAfterS: 100, Confirm: 2, Recover: 2, Quorum: "majority", Role: definition.Decides, Locations: both(),
				Limits:   []measure.Limit{{Measure: "total_ms", DegradedAbove: ptr(500)}},
				Settings: definition.Settings{DNS: &definition.DNSSettings{Type: "A", Resolver: s.names, Expect: knownAddress}},
			}, s.latency})
		}
		if s.voice != "" {
			out = append(out, checkDef{s.id + "-udp", definition.CheckSpec{
				Service: s.id, Name: "Speech between the harbours", Kind: measure.UDP.Name, Target: s.voice,
				IntervalS: 60, TimeoutMS: 1000, StaleAfterS: 200, Confirm: 2, Recover: 2, Quorum: "majority", Role: definition.Decides, Locations: both(),
				Limits:   []measure.Limit{{Measure: "mos", DegradedBelow: ptr(4), FailedBelow: ptr(3.1)}},
				Settings: definition.Settings{UDP: &definition.UDPSettings{Codec: measure.G711.Name, Packets: 50}},
			}, s.latency})
		}
		for _, more := range s.more {
			more.spec.Service, more.spec.Quorum = s.id, "majority"
			if more.spec.Locations == nil {
				more.spec.Locations = both()
			}
			out = append(out, more)
		}
		for _, h := range s.hosts {
			role := definition.Decides
			if s.web != "" {
				role = definition.Informs
			}
			out = append(out, checkDef{h.id, definition.CheckSpec{
				Service: s.id, Name: h.name, Kind: measure.Ping.Name, Target: h.addr,
				IntervalS: interval, TimeoutMS: 1000, StaleAfterS: 100, Confirm: 2, Recover: 2, Quorum: "majority", Role: role, Locations: both(),
				Limits:   []measure.Limit{{Measure: "loss_percent", DegradedAbove: ptr(20), FailedAbove: ptr(80)}},
				Settings: definition.Settings{Ping: &definition.PingSettings{Packets: 5, SizeBytes: 56, SpacingMS: 200}},
			}, 0.19})
		}
	}
	// What is derived comes after what it is derived from.
	slices.SortStableFunc(out, func(a, b checkDef) int {
		return cmp.Compare(a.derived(), b.derived())
	})
	return out
}

// World returns the stand-ins of the scenario, not started yet.
// report is how its reporters report in to a check; nil: they do not.
func World(authority *standin.Authority, now func() time.Time, report func(ctx context.Context, check string, well bool) error) (*standin.World, error) {
	if report == nil {
		report = func(context.Context, string, bool) error { return nil }
	}
	w := &standin.World{Kept: &standin.Messages{Now: now}}
	w.Devices = append(devices(report), receivers(w.Kept)...)
	for _, s := range subjects {
		if s.web != "" {
			web := &standin.Web{ID: s.id, Name: s.spec.Name, Addr: s.web, Text: s.text, Latency: time.Duration(s.latency) * time.Millisecond, Bearer: s.bearer}
			if s.figures {
				web.Figures = func() any { return figures(now().UTC()) }
			}
			if s.tls {
				config, err := authority.Server(s.web[:len(s.web)-len(":8412")])
				if err != nil {
					return nil, err
				}
				web.TLS = config
			}
			w.Webs = append(w.Webs, web)
		}
		if s.names != "" {
			w.Names = append(w.Names, &standin.Names{ID: s.id, Name: s.spec.Name, Addr: s.names, Known: map[string]string{knownName: knownAddress}, Latency: time.Duration(s.latency) * time.Millisecond})
		}
		for _, h := range s.hosts {
			w.Hosts = append(w.Hosts, standin.Host{ID: h.id, Name: h.name, Addr: h.addr})
		}
	}
	return w, nil
}

// figures are what ticket sales tell of their business: few bookings by night.
func figures(now time.Time) any {
	const perHour = 40.0
	share := 0.5 - 0.5*math.Cos(2*math.Pi*(float64(now.Hour())+float64(now.Minute())/60)/24)
	return map[string]any{"bookings": map[string]any{"last_hour": math.Round(8 + perHour*share), "open": true}, "at": now}
}

// Steering lets the interface steer a world.
type Steering struct{ World *standin.World }

// List returns all stand-ins and what they do.
func (s Steering) List(context.Context) ([]api.StandIn, error) {
	var out []api.StandIn
	for _, i := range s.World.List() {
		out = append(out, api.StandIn{ID: i.ID, Name: i.Name, Kind: i.Kind, Where: i.Where, Mode: i.Mode, Modes: i.Modes})
	}
	return out, nil
}

// Messages are those that arrived at the receivers.
func (s Steering) Messages() []api.StandInMessage {
	out := []api.StandInMessage{}
	for _, m := range s.World.Kept.All() {
		out = append(out, api.StandInMessage{Method: m.Method, To: m.To, Subject: m.Subject, Text: m.Text, At: m.At, ID: m.ID})
	}
	return out
}

// Set steers one.
func (s Steering) Set(ctx context.Context, id, mode string) error { return s.World.Set(ctx, id, mode) }

// by is one of the people, as the trail knows them.
func by(ctx context.Context, s *api.Server, n int) (trail.By, error) {
	p, err := s.Store.PersonByEmail(ctx, People[n].Email)
	return trail.By{Person: p.ID, Name: p.Name}, err
}

// define makes people and definitions as if they had been entered at start.
func define(ctx context.Context, s *api.Server, start time.Time) error {
	for _, p := range People {
		hash, err := auth.HashPassword(ctx, Password)
		if err != nil {
			return err
		}
		if _, err := s.Store.AddPerson(ctx, db.AddPersonParams{Email: p.Email, Name: p.Name, Role: string(p.Role), Customer: p.Customer, Teams: p.Teams, PasswordHash: hash}); err != nil {
			return fmt.Errorf("make the demo accounts: %w", err)
		}
	}
	astrid, err := by(ctx, s, 0)
	if err != nil {
		return err
	}
	ch := defining.Change{By: astrid, Reason: "first set-up", At: start, Approved: true}
	create := func(kind, id string, spec catalogue.Spec) error {
		_, err := s.Definitions.Create(ctx, kind, id, "", spec, ch)
		return err
	}
	for _, l := range locations {
		if err := create(catalogue.Location, l.id, l.spec); err != nil {
			return err
		}
	}
	if err := tellable(ctx, s, create); err != nil {
		return err
	}
	for id, name := range teams {
		if err := create(catalogue.Team, id, definition.TeamSpec{Name: name, NoticePlan: cmp.Or(planOf[id], "on-duty")}); err != nil {
			return err
		}
	}
	if err := layOut(ctx, s, start, astrid.Kept(), create); err != nil {
		return err
	}
	for id, name := range customers {
		if err := create(catalogue.Customer, id, customerOf(id, name)); err != nil {
			return err
		}
	}
	for id, spec := range contracts {
		if err := create(catalogue.Contract, id, spec); err != nil {
			return err
		}
	}
	for _, sub := range subjects {
		sub.spec.Combine = definition.Worst
		if err := create(catalogue.Service, sub.id, sub.spec); err != nil {
			return err
		}
	}
	for id, n := range networks {
		if err := create(catalogue.Network, id, n); err != nil {
			return err
		}
	}
	for _, sub := range subjects {
		if sub.bearer == "" {
			continue
		}
		origin, err := definition.Origin(sub.address())
		if err != nil {
			return err
		}
		err = create(catalogue.Credential, sub.id, definition.CredentialSpec{
			Name: sub.spec.Name + " reader", Kind: definition.Bearer, Origins: []string{origin}, Note: "Made up for the demo",
		})
		if err != nil {
			return err
		}
		sealed, err := s.Vault.Seal(sub.id, sub.bearer)
		if err != nil {
			return err
		}
		if err := s.Store.PutSecret(ctx, db.PutSecretParams{Credential: sub.id, Sealed: sealed, ChangedBy: astrid.Kept()}); err != nil {
			return err
		}
	}
	if err := create(catalogue.Kit, "web-service", webKit); err != nil {
		return err
	}
	for _, c := range checks() {
		if err := create(catalogue.Check, c.id, c.spec); err != nil {
			return err
		}
	}
	now := defining.Change{By: astrid, Reason: "how the harbours reach each other"}
	if _, err := s.Definitions.Create(ctx, catalogue.PairPlan, "harbours", "", harbours, now); err != nil {
		return err
	}
	if err := create(catalogue.HolidayList, publicHolidays, holidaysFrom(start.Year())); err != nil {
		return err
	}
	for _, p := range promises {
		p.spec.Timezone = Zone
		if err := create(catalogue.Agreement, p.id, p.spec); err != nil {
			return err
		}
	}
	for _, w := range windows {
		w.spec.Start = start.Format("2006-01-02") + w.firstAt
		if err := create(catalogue.Window, w.id, w.spec); err != nil {
			return err
		}
	}
	return nil
}
