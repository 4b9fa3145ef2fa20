// Package demo is the scenario of Skerry Line, an invented ferry operator: its
// services, checks and agreements, thirteen months of generated measurements
// judged by the real rules, and the stand-ins that are measured from then on.
package demo

import (
	"context"
	"fmt"
	"time"

	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/server/api"
	"kestite/server/auth"
	"kestite/server/catalogue"
	"kestite/server/store/gen/db"
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
	Role        auth.Role
}{
	{"Astrid Holm", "admin@skerry.example", auth.Administrator},
	{"Mikkel Brand", "manager@skerry.example", auth.Manager},
	{"Runa Vik", "operator@skerry.example", auth.Operator},
	{"Odd Lien", "viewer@skerry.example", auth.Viewer},
}

// Locations of the scenario.
var locations = []struct {
	id   string
	spec definition.LocationSpec
}{
	{"tolvik", definition.LocationSpec{Name: "Tolvik", Region: "South", Note: "Terminal building, server room B"}},
	{"eskerby", definition.LocationSpec{Name: "Eskerby", Region: "North", Note: "Harbour office, on the provider's line"}},
}

// subject is a service with its checks, its stand-in and its character.
type subject struct {
	id      string
	spec    definition.ServiceSpec
	web     string // address of a web stand-in, "" for none
	tls     bool
	tcp     bool   // its port is checked too
	names   string // address of a name server stand-in, "" for none
	text    string
	latency float64 // ms, of a normal answer
	hosts   []host
}

type host struct{ id, name, addr string }

func needs(need int, services ...string) []definition.Dependency {
	return []definition.Dependency{{Services: services, Need: need}}
}

var subjects = []subject{
	{
		id: "card-acquirer", spec: definition.ServiceSpec{Name: "Card acquirer", Kind: definition.Supplier, Owner: "Payments", Tags: []string{"payments"}},
		web: "127.77.0.17:8417", text: "Settlement gateway", latency: 95,
	},
	{
		id: "quay-network", spec: definition.ServiceSpec{Name: "Quay network", Kind: definition.Supporting, Owner: "Harbour IT", Tags: []string{"network"}},
		hosts: []host{{"quay-switch-tolvik", "Quay switch Tolvik", "127.77.0.21"}, {"quay-switch-eskerby", "Quay switch Eskerby", "127.77.0.22"}},
	},
	{
		id: "harbour-names", spec: definition.ServiceSpec{Name: "Harbour names", Kind: definition.Supporting, Owner: "Harbour IT", Tags: []string{"network"}, Note: "The name server of all harbours"},
		names: "127.77.0.41:8453", latency: 2,
	},
	{
		id: "boarding-gates", spec: definition.ServiceSpec{Name: "Boarding gates", Kind: definition.Business, Owner: "Terminal operations", Tags: []string{"terminal"}, Runbook: "https://runbooks.skerry.example/gates"},
		web: "127.77.0.11:8411", text: "Gate controller ready", latency: 40,
		hosts: []host{{"gate-controller", "Gate controller", "127.77.0.31"}},
	},
	{
		id: "ticket-sales", spec: definition.ServiceSpec{Name: "Ticket sales", Kind: definition.Business, Owner: "Passenger division", Tags: []string{"passengers", "payments"}, Runbook: "https://runbooks.skerry.example/tickets"},
		web: "127.77.0.12:8412", tls: true, text: "Book your crossing", latency: 130,
		hosts: []host{{"ticket-front", "Ticket front end", "127.77.0.32"}},
	},
	{
		id: "freight-booking", spec: definition.ServiceSpec{Name: "Freight booking", Kind: definition.Business, Owner: "Freight desk", Tags: []string{"freight"}},
		web: "127.77.0.13:8413", tcp: true, text: "Freight desk open", latency: 180,
	},
	{
		id: "sailing-board", spec: definition.ServiceSpec{Name: "Sailing board", Kind: definition.Business, Owner: "Passenger division", Tags: []string{"passengers"}},
		web: "127.77.0.14:8414", text: "Next sailings", latency: 30,
	},
	{
		id: "crew-roster", spec: definition.ServiceSpec{Name: "Crew roster", Kind: definition.Business, Owner: "Crewing", Tags: []string{"crew"}},
		web: "127.77.0.15:8415", text: "Roster of the week", latency: 70,
	},
	{
		id: "customer-messages", spec: definition.ServiceSpec{Name: "Customer messages", Kind: definition.Supporting, Owner: "Passenger division", Tags: []string{"passengers"}},
		web: "127.77.0.16:8416", text: "Message relay", latency: 55,
	},
	{
		id:   "departure",
		spec: definition.ServiceSpec{Name: "Departure check-in", Kind: definition.Business, Owner: "Terminal operations", Tags: []string{"terminal", "passengers"}, DependsOn: append(needs(0, "boarding-gates", "sailing-board"), needs(1, "quay-network")...)},
	},
}

func hours(days []string, from, to string) *definition.WeeklyPlan {
	return &definition.WeeklyPlan{Timezone: Zone, Weekly: []definition.WeeklyRow{{Days: days, From: from, To: to}}}
}

var (
	everyDay = []string{"MO", "TU", "WE", "TH", "FR", "SA", "SU"}
	weekdays = everyDay[:5]
)

func exclude(noticeH, capH int64) *definition.Maintenance {
	seconds := capH * 3600
	return &definition.Maintenance{Mode: definition.MaintenanceExclude, NoticeS: noticeH * 3600, CapS: &seconds}
}

// promise is an agreement with how its present month goes: the share of the
// allowance that downtime uses up, and how much of that in the last days.
type promise struct {
	id     string
	spec   definition.AgreementSpec
	used   float64
	recent float64
}

var promises = []promise{
	{"gates-port-authority", definition.AgreementSpec{Name: "Boarding gates", Customer: "Port authority", Service: "boarding-gates", TargetPercent: "99.95", Maintenance: exclude(48, 4), MinCoveragePercent: "95",
		Credits: []definition.Credit{{BelowPercent: "99.95", CreditPercent: "5"}, {BelowPercent: "99.5", CreditPercent: "15"}}}, 1.5, 0.5},
	{"tickets-passenger", definition.AgreementSpec{Name: "Ticket sales", Customer: "Passenger division", Service: "ticket-sales", TargetPercent: "99.9", DegradedWeightPercent: "25", Maintenance: exclude(24, 3), Upstream: &definition.Upstream{Excuse: []string{"card-acquirer"}, LeadS: 60, LingerS: 300}}, 0.56, 0.6},
	{"freight-desk", definition.AgreementSpec{Name: "Freight booking", Customer: "Freight desk", Service: "freight-booking", TargetPercent: "99.5", ServiceHours: hours(everyDay, "05:00", "23:00"), DegradedWeightPercent: "50", Maintenance: exclude(24, 6)}, 0.3, 0.05},
	{"sailing-board", definition.AgreementSpec{Name: "Sailing board", Customer: "Passenger division", Service: "sailing-board", TargetPercent: "99.9"}, 0.12, 0},
	{"departure", definition.AgreementSpec{Name: "Departure check-in", Customer: "Port authority", Service: "departure", TargetPercent: "99.5"}, 0, 0},
	{"crew-roster", definition.AgreementSpec{Name: "Crew roster", Service: "crew-roster", TargetPercent: "99", ServiceHours: hours(weekdays, "06:00", "20:00"), Maintenance: exclude(24, 8)}, 0.04, 0},
	{"messages", definition.AgreementSpec{Name: "Customer messages", Service: "customer-messages", TargetPercent: "99", MinOutageS: 120}, 0.03, 0.01},
	{"card-acquirer", definition.AgreementSpec{Name: "Card acquirer", Customer: "", Service: "card-acquirer", TargetPercent: "99.9", Unmeasured: definition.UnmeasuredExclude}, 0.5, 0},
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

// Interval of all demo checks, in seconds.
const interval = 30

func both() []string { return []string{"tolvik", "eskerby"} }

func ptr(v float64) *float64 { return &v }

// What the scenario's name server knows.
const (
	knownName    = "tickets.skerry.example"
	knownAddress = "127.77.0.12"
)

// checks lists the scenario's checks.
func checks() []checkDef {
	var out []checkDef
	for _, s := range subjects {
		if s.web != "" {
			web := standin.Web{Addr: s.web}
			scheme := web.URL()
			if s.tls {
				scheme = "https://" + s.web + "/"
			}
			out = append(out, checkDef{s.id + "-http", definition.CheckSpec{
				Service: s.id, Name: s.spec.Name + " page", Kind: measure.HTTP.Name, Target: scheme,
				IntervalS: interval, TimeoutMS: 5000, StaleAfterS: 100, Confirm: 2, Recover: 2, Quorum: "majority", Role: definition.Decides, Locations: both(),
				Limits: []measure.Limit{{Measure: "total_ms", DegradedAbove: ptr(1000)}},
				HTTP:   &definition.HTTPSettings{Status: "200-299", Text: s.text},
			}, s.latency})
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
				Limits: []measure.Limit{{Measure: "total_ms", DegradedAbove: ptr(500)}},
				DNS:    &definition.DNSSettings{Type: "A", Resolver: s.names, Expect: knownAddress},
			}, s.latency})
		}
		for _, h := range s.hosts {
			role := definition.Decides
			if s.web != "" {
				role = definition.Informs
			}
			out = append(out, checkDef{h.id, definition.CheckSpec{
				Service: s.id, Name: h.name, Kind: measure.Ping.Name, Target: h.addr,
				IntervalS: interval, TimeoutMS: 1000, StaleAfterS: 100, Confirm: 2, Recover: 2, Quorum: "majority", Role: role, Locations: both(),
				Limits: []measure.Limit{{Measure: "loss_percent", DegradedAbove: ptr(20), FailedAbove: ptr(80)}},
				Ping:   &definition.PingSettings{Packets: 5, SizeBytes: 56, SpacingMS: 200},
			}, 0.19})
		}
	}
	return out
}

// World returns the stand-ins of the scenario, not started yet.
func World(authority *standin.Authority) (*standin.World, error) {
	w := &standin.World{}
	for _, s := range subjects {
		if s.web != "" {
			web := &standin.Web{ID: s.id, Name: s.spec.Name, Addr: s.web, Text: s.text, Latency: time.Duration(s.latency) * time.Millisecond}
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

// Steering lets the interface steer a world.
type Steering struct{ World *standin.World }

// List returns all stand-ins and what they do.
func (s Steering) List(context.Context) ([]api.StandIn, error) {
	var out []api.StandIn
	for _, w := range s.World.Webs {
		out = append(out, api.StandIn{ID: w.ID, Name: w.Name, Kind: "web", Where: w.URL(), Mode: w.Mode(), Modes: standin.WebModes})
	}
	for _, n := range s.World.Names {
		out = append(out, api.StandIn{ID: n.ID, Name: n.Name, Kind: "names", Where: n.Addr, Mode: n.Mode(), Modes: standin.NameModes})
	}
	for _, h := range s.World.Hosts {
		out = append(out, api.StandIn{ID: h.ID, Name: h.Name, Kind: "host", Where: h.Addr, Mode: s.World.HostMode(h.ID), Modes: standin.HostModes})
	}
	return out, nil
}

// Set steers one.
func (s Steering) Set(ctx context.Context, id, mode string) error { return s.World.Set(ctx, id, mode) }

// define makes people and definitions as if they had been entered at start.
func define(ctx context.Context, s *api.Server, start time.Time) error {
	for _, p := range People {
		hash, err := auth.HashPassword(Password)
		if err != nil {
			return err
		}
		if _, err := s.Store.AddPerson(ctx, db.AddPersonParams{Email: p.Email, Name: p.Name, Role: string(p.Role), PasswordHash: hash}); err != nil {
			return fmt.Errorf("make the demo accounts: %w", err)
		}
	}
	ch := catalogue.Change{By: People[0].Name, Reason: "first set-up", At: start}
	create := func(kind, id string, spec catalogue.Spec) error {
		_, err := s.Catalogue.Create(ctx, kind, id, "", spec, ch)
		return err
	}
	for _, l := range locations {
		if err := create(catalogue.Location, l.id, l.spec); err != nil {
			return err
		}
	}
	for _, sub := range subjects {
		sub.spec.Combine = definition.Worst
		if err := create(catalogue.Service, sub.id, sub.spec); err != nil {
			return err
		}
	}
	for _, c := range checks() {
		if err := create(catalogue.Check, c.id, c.spec); err != nil {
			return err
		}
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
