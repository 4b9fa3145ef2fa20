package definition

import (
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"kestite/core/calendar"
	"kestite/core/measure"
)

// The specs are the bodies of revisions: what people write when they define
// something in this installation. Accounts are made from the leaner types of
// the evidence format, which the specs turn into.

// LocationSpec is a place to measure from.
type LocationSpec struct {
	Name       string   `json:"name" minLength:"1" maxLength:"80"`
	Region     string   `json:"region,omitempty" maxLength:"80"`
	Note       string   `json:"note,omitempty" maxLength:"2000"`
	Latitude   *float64 `json:"latitude,omitempty" minimum:"-90" maximum:"90" doc:"Degrees, north positive"`
	Longitude  *float64 `json:"longitude,omitempty" minimum:"-180" maximum:"180" doc:"Degrees, east positive"`
	Address    string   `json:"address,omitempty" maxLength:"255" doc:"Where checks between locations find this one"`
	EchoPort   int      `json:"echo_port,omitempty" minimum:"0" maximum:"65535" doc:"UDP port on which its agent answers UDP echo checks; 0: none"`
	References []string `json:"references,omitempty" maxItems:"10" doc:"Hosts (pinged) or host:port (connected to) that answer whenever the location is connected; while none does, measurements are errors and say nothing of their targets"`
	Rates      *Rates   `json:"rates,omitempty"`
}

// Rates bound what the agents of a location do; 0 is without bound.
type Rates struct {
	PerSecond  float64 `json:"per_second,omitempty" minimum:"0" maximum:"100000" doc:"Measurements a second, of all checks"`
	PerTargetS float64 `json:"per_target_s,omitempty" minimum:"0" maximum:"86400" doc:"Seconds between two measurements of one target at least"`
	PerDay     int64   `json:"per_day,omitempty" minimum:"0" maximum:"1000000000" doc:"Measurements in a UTC day"`
}

// ServiceSpec describes a service.
type ServiceSpec struct {
	Name  string   `json:"name" minLength:"1" maxLength:"80"`
	Kind  string   `json:"kind" enum:"business,supporting,supplier"`
	Owner string   `json:"owner,omitempty" maxLength:"120" doc:"Id of the team that owns it"`
	Tags  []string `json:"tags,omitempty" maxItems:"50"`
	// WorkApproval lets planned work on the service count only once a second person approved it.
	WorkApproval bool           `json:"work_approval,omitempty" doc:"Planned work on it counts from when a second person has approved it"`
	Runbook      string         `json:"runbook,omitempty" maxLength:"500" doc:"Link to what to do when it fails"`
	Note         string         `json:"note,omitempty" maxLength:"2000"`
	Combine      string         `json:"combine,omitempty" enum:"worst,best" default:"worst"`
	DependsOn    []Dependency   `json:"depends_on,omitempty"`
	Defaults     *CheckDefaults `json:"check_defaults,omitempty" doc:"Values that its checks follow unless they say their own"`
	Incidents    *TroublePolicy `json:"incidents,omitempty" doc:"What of it opens an incident, and how severe that is"`
	Notices      *NoticeChoice  `json:"notices,omitempty" doc:"The notice plan that its incidents follow; absent: that of its owner"`
}

// NoticeChoice is a notice plan of a service's own.
type NoticeChoice struct {
	Plan  string `json:"plan" minLength:"1" maxLength:"120" doc:"Id of a notice plan"`
	Owner bool   `json:"owner,omitempty" doc:"That of its owner too"`
}

// Dependency is a need of some of a group of services.
type Dependency struct {
	Services []string `json:"services" minItems:"1"`
	Need     int      `json:"need,omitempty" minimum:"0" doc:"How many must be up; 0: all"`
}

// Group is the dependency as accounts use it.
func (d Dependency) Group() Group { return Group{Services: d.Services, Need: Need(d.Need)} }

// CheckSpec describes a check.
type CheckSpec struct {
	Service     string          `json:"service" minLength:"1"`
	Name        string          `json:"name" minLength:"1" maxLength:"80"`
	Kind        string          `json:"kind" enum:"ping,http,tcp,certificate,dns,path,udp,report-in,derived"`
	Target      string          `json:"target" maxLength:"2000" doc:"Host name or address for ping and path, URL for http, host:port for tcp, certificate and udp, the name to look up for dns; nothing for report-in and derived"`
	IntervalS   int64           `json:"interval_s" minimum:"5" maximum:"86400"`
	TimeoutMS   int64           `json:"timeout_ms" minimum:"100" maximum:"60000"`
	RetryS      int64           `json:"retry_s,omitempty" minimum:"0" maximum:"3600" doc:"While a failure is not confirmed, measure again after so many seconds, sooner than the interval; 0: at the interval"`
	StaleAfterS int64           `json:"stale_after_s" minimum:"5" maximum:"604800"`
	Confirm     int64           `json:"confirm" minimum:"1" maximum:"100" default:"1"`
	Recover     int64           `json:"recover" minimum:"1" maximum:"100" default:"1"`
	Rolling     *Rolling        `json:"rolling,omitempty" doc:"In place of confirm and recover: so many failed runs from so many locations within a window"`
	Quorum      string          `json:"quorum,omitempty" default:"majority" doc:"any, majority, all or a whole number"`
	Role        string          `json:"role,omitempty" enum:"decides,informs" default:"decides"`
	Locations   []string        `json:"locations" minItems:"1"`
	Limits      []measure.Limit `json:"limits,omitempty"`
	Follows     []string        `json:"follows,omitempty" doc:"Fields whose values are those of the service's check defaults"`
	Pair        *PairRef        `json:"pair,omitempty" doc:"The pair plan that keeps the check; it is changed there"`
	Settings
}

// AgreementSpec is what was promised to a customer for a service.
type AgreementSpec struct {
	Name                  string           `json:"name" minLength:"1" maxLength:"120"`
	Customer              string           `json:"customer" maxLength:"120" doc:"Id of the customer who was promised; empty for an internal target"`
	Contract              string           `json:"contract,omitempty" maxLength:"120" doc:"Id of the contract that it is a part of; empty: it stands by itself"`
	Service               string           `json:"service" minLength:"1"`
	Timezone              string           `json:"timezone" minLength:"1" doc:"Zone of the period"`
	TargetPercent         Percent          `json:"target_percent" doc:"Decimal, 0 to 100"`
	From                  string           `json:"from,omitempty" doc:"First day of the promise, 2006-01-02 in the zone; absent: from when it was entered"`
	Until                 string           `json:"until,omitempty" doc:"Last day of the promise, 2006-01-02 in the zone; absent: until it is retired"`
	Period                *Cycle           `json:"period,omitempty" doc:"What is accounted at a time; absent: calendar months"`
	DegradedWeightPercent Percent          `json:"degraded_weight_percent,omitempty" default:"0"`
	Unmeasured            string           `json:"unmeasured,omitempty" enum:"exclude,down,up" default:"exclude"`
	MinOutageS            int64            `json:"min_outage_s,omitempty" minimum:"0" maximum:"86400"`
	MinCoveragePercent    Percent          `json:"min_coverage_percent,omitempty" default:"0"`
	ServiceHours          *HoursSpec       `json:"service_hours,omitempty" doc:"Absent: always"`
	Maintenance           *MaintenanceSpec `json:"maintenance,omitempty"`
	Upstream              *Upstream        `json:"upstream,omitempty"`
	Credits               []Credit         `json:"credits,omitempty"`
	Fee                   *Fee             `json:"fee,omitempty" doc:"Paid for each period; credits are so much percent of it. Accounts know nothing of it. Absent: none was agreed"`
	Latency               *Latency         `json:"latency,omitempty"`
	Objectives            *Objectives      `json:"objectives,omitempty"`
}

// MaintenanceSpec says what granted windows do to the account.
type MaintenanceSpec struct {
	Mode      string              `json:"mode" enum:"ignore,exclude,forgive" default:"ignore"`
	NoticeS   int64               `json:"notice_s" minimum:"0" default:"0" doc:"How long before its start a window must have been announced"`
	CapS      *int64              `json:"cap_s" minimum:"0" doc:"Most a month; null: no cap"`
	Within    *HoursSpec          `json:"within,omitempty" doc:"Times agreed for planned work; absent: any"`
	Emergency *EmergencyAllowance `json:"emergency,omitempty" doc:"What is granted of emergency work; absent: nothing"`
}

// HoursSpec are hours by the week as people write them: their holidays are dates, and
// those of lists.
type HoursSpec struct {
	WeeklyPlan
	HolidayLists []string `json:"holiday_lists,omitempty" maxItems:"20" doc:"Ids of lists whose days start no hours either"`
}

// Without is the hours with all their holidays as dates: their own, and those that days
// gives of a list.
func (h *HoursSpec) Without(days func(list string) []string) *HoursSpec {
	if h == nil || len(h.HolidayLists) == 0 {
		return h
	}
	all := slices.Clone(h.Holidays)
	for _, list := range h.HolidayLists {
		all = append(all, days(list)...)
	}
	slices.Sort(all)
	out := *h
	out.Holidays, out.HolidayLists = slices.Compact(all), nil
	return &out
}

// plan is the hours as accounts know them.
func (h *HoursSpec) plan() *WeeklyPlan {
	if h == nil {
		return nil
	}
	return &h.WeeklyPlan
}

// Cycle says how the periods of an agreement follow one another. nil is calendar months.
type Cycle struct {
	Unit    calendar.Unit `json:"unit" enum:"week,month,quarter,half-year,year" default:"month"`
	Day     int           `json:"day,omitempty" minimum:"-1" maximum:"28" doc:"Day of the month on which periods start, 1 to 28, or -1 for the last; absent: 1. Not for weeks"`
	Month   int           `json:"month,omitempty" minimum:"0" maximum:"12" doc:"Month in which a year starts, 1 to 12, from which quarters and half-years are counted; absent: January. Not for weeks and months"`
	Weekday string        `json:"weekday,omitempty" enum:"MO,TU,WE,TH,FR,SA,SU" doc:"Day on which weeks start; absent: MO. For weeks only"`
}

// Cycle is the cycle as the calendar knows it.
func (c *Cycle) Cycle() calendar.Cycle {
	if c == nil {
		return calendar.Cycle{}
	}
	out := calendar.Cycle{Unit: c.Unit, Day: c.Day, Month: time.Month(c.Month)}
	if day, said := weekdays[c.Weekday]; said {
		out.Weekday = (int(day)+6)%7 + 1 // as in ISO 8601
	}
	return out
}

// Validate of a cycle.
func (c *Cycle) Validate() error {
	if c == nil {
		return nil
	}
	known := []calendar.Unit{calendar.Week, calendar.Month, calendar.Quarter, calendar.HalfYear, calendar.Year}
	switch _, isDay := weekdays[c.Weekday]; {
	case !slices.Contains(known, c.Unit):
		return fault("unit", "%q is not allowed; it is week, month, quarter, half-year or year", c.Unit)
	case c.Day < calendar.LastDay || c.Day > 28:
		return fault("day", "%d is not allowed; periods start on a day that every month has, 1 to 28, or on the last, -1", c.Day)
	case c.Month < 0 || c.Month > 12:
		return fault("month", "%d is no month; it is 1 to 12", c.Month)
	case c.Weekday != "" && !isDay:
		return fault("weekday", "%q is no day; it is one of MO, TU, WE, TH, FR, SA, SU", c.Weekday)
	case c.Unit == calendar.Week && (c.Day != 0 || c.Month != 0):
		return fault("day", "a week starts on a weekday; leave day and month away")
	case c.Unit != calendar.Week && c.Weekday != "":
		return fault("weekday", "only weeks start on a weekday; leave it away")
	case c.Unit == calendar.Month && c.Month != 0:
		return fault("month", "months are not counted from one; leave it away")
	}
	return nil
}

// Validate of a location.
func (l LocationSpec) Validate() error {
	if err := called("name", l.Name); err != nil {
		return err
	}
	if err := plain("region", l.Region); err != nil {
		return err
	}
	if (l.Latitude == nil) != (l.Longitude == nil) {
		return fault("latitude", "latitude and longitude come together, or not at all")
	}
	for i, r := range l.References {
		if err := ValidTarget(measure.Ping.Name, r); err != nil {
			if _, _, err := HostPort(r); err != nil {
				return fault(fmt.Sprintf("references[%d]", i), "%q is neither a host nor a host with a port; write it as 198.18.0.1 or names.skerry.example:53", r)
			}
		}
	}
	if l.Address != "" {
		if err := ValidTarget(measure.Ping.Name, l.Address); err != nil {
			return fault("address", "%v", err)
		}
	}
	return nil
}

// Validate of a service, as far as can be told of it alone.
func (s ServiceSpec) Validate() error {
	if err := called("name", s.Name); err != nil {
		return err
	}
	for i, tag := range s.Tags {
		if err := plain(fmt.Sprintf("tags[%d]", i), tag); err != nil {
			return err
		}
	}
	if s.Runbook != "" {
		if u, err := url.Parse(s.Runbook); err != nil || u.Scheme != "http" && u.Scheme != "https" {
			return fault("runbook", "%q is no web address; write it as https://…", s.Runbook)
		}
	}
	if s.Defaults != nil {
		if err := s.Defaults.Validate(); err != nil {
			return Within("check_defaults", err)
		}
	}
	for i, d := range s.DependsOn {
		g := d.Group()
		if n := len(g.Members()); n == 0 {
			return fault(fmt.Sprintf("depends_on[%d].services", i), "the group is empty; name at least one service")
		} else if int(g.Need) > n {
			return fault(fmt.Sprintf("depends_on[%d].need", i), "%d is above the size of the group, which is %d", g.Need, n)
		}
	}
	return nil
}

// Validate of a check, as far as can be told of it alone.
func (c CheckSpec) Validate() error {
	if err := called("name", c.Name); err != nil {
		return err
	}
	if err := ValidTarget(c.Kind, c.Target); err != nil {
		return fault("target", "%v", err)
	}
	switch inward := Inward(c.Kind); {
	case inward && !slices.Equal(c.Locations, []string{Server}):
		return fault("locations", "a %s check is measured on the server; its one location is %q", c.Kind, Server)
	case !inward && slices.Contains(c.Locations, Server):
		return fault("locations", "%q is no place to measure from", Server)
	case len(c.Locations) == 0:
		return fault("locations", "a check needs at least one location to measure from")
	}
	if err := validFollows(c.Follows); err != nil {
		return err
	}
	if c.TimeoutMS >= c.IntervalS*1000 {
		return fault("timeout_ms", "%d ms does not fit into the interval of %d s", c.TimeoutMS, c.IntervalS)
	}
	if c.RetryS > 0 && (c.RetryS >= c.IntervalS || c.RetryS*1000 <= c.TimeoutMS) {
		return fault("retry_s", "%d s must lie between the timeout of %d ms and the interval of %d s", c.RetryS, c.TimeoutMS, c.IntervalS)
	}
	if c.StaleAfterS <= c.IntervalS {
		return fault("stale_after_s", "%d s is not longer than the interval of %d s: every measurement would be stale before the next", c.StaleAfterS, c.IntervalS)
	}
	if c.Rolling != nil {
		if err := c.Rolling.Fits(c.IntervalS, c.Locations); err != nil {
			return err
		}
		if c.RetryS > 0 {
			return fault("retry_s", "a rolling rule counts the runs of the schedule; leave the retries away")
		}
	}
	var q Quorum
	if err := q.SetScalar(quorumValue(c.Quorum)); err != nil {
		return fault("quorum", "%v", err)
	}
	kind, _ := measure.KindNamed(c.Kind)
	for i, l := range c.Limits {
		if err := l.Check(kind); err != nil {
			return fault(fmt.Sprintf("limits[%d]", i), "%v", err)
		}
	}
	if c.Kind == measure.Ping.Name && c.Ping != nil {
		took := int64(c.Ping.Packets)*c.Ping.SpacingMS + c.TimeoutMS
		if c.Ping.Second != "" {
			if err := ValidTarget(c.Kind, c.Ping.Second); err != nil {
				return fault("ping.second", "%v", err)
			}
			took *= 2
		}
		if took >= c.IntervalS*1000 {
			return fault("ping.packets", "%d packets every %d ms and a timeout of %d ms do not fit into the interval of %d s", c.Ping.Packets, c.Ping.SpacingMS, c.TimeoutMS, c.IntervalS)
		}
	}
	if c.Kind == measure.UDP.Name {
		u := c.UDP.Filled()
		if err := u.Check(); err != nil {
			return err
		}
		if took := int64(u.Packets)*measure.CodecNamed(u.Codec).SpacingMS + c.TimeoutMS; took >= c.IntervalS*1000 {
			return fault("udp.packets", "%d packets every %d ms and a timeout of %d ms do not fit into the interval of %d s", u.Packets, measure.CodecNamed(u.Codec).SpacingMS, c.TimeoutMS, c.IntervalS)
		}
	}
	if c.Kind == measure.Certificate.Name && c.Certificate != nil {
		if err := c.Certificate.Check(); err != nil {
			return err
		}
	}
	if c.Kind == measure.Derived.Name {
		if err := c.Derived.Check(); err != nil {
			return err
		}
	}
	if c.Kind == measure.Path.Name {
		p := c.Path.Filled()
		if err := p.Check(); err != nil {
			return err
		}
		if took := int64(p.Rounds)*p.SpacingMS + 2*c.TimeoutMS; took >= c.IntervalS*1000 {
			return fault("path.rounds", "%d rounds every %d ms and twice the timeout of %d ms (to find the way, and for the last answers) do not fit into the interval of %d s", p.Rounds, p.SpacingMS, c.TimeoutMS, c.IntervalS)
		}
	}
	if c.Kind == measure.DNS.Name && c.DNS != nil {
		if err := c.DNS.Check(); err != nil {
			return err
		}
	}
	if c.Kind == measure.HTTP.Name && c.HTTP != nil {
		if err := c.HTTP.Check(); err != nil {
			return err
		}
	}
	return nil
}

// Revision turns the spec into the check revision that accounts use.
func (c CheckSpec) Revision(id string) Check {
	var q Quorum
	if q.SetScalar(quorumValue(c.Quorum)) != nil {
		q = "majority"
	}
	role := c.Role
	if role == "" {
		role = Decides
	}
	return Check{
		ID: id, Kind: c.Kind, IntervalS: c.IntervalS, StaleAfterS: c.StaleAfterS,
		Confirm: max(1, c.Confirm), Recover: max(1, c.Recover), Rolling: c.Rolling, Quorum: q, Role: role, Locations: c.Locations,
	}
}

func quorumValue(s string) any {
	if s == "" {
		return "majority"
	}
	if _, err := strconv.Atoi(s); err == nil {
		return json.Number(s)
	}
	return s
}

// Validate of an agreement, as far as can be told of it alone.
func (a AgreementSpec) Validate() error {
	if err := called("name", a.Name); err != nil {
		return err
	}
	if _, err := calendar.Zone(a.Timezone); err != nil {
		return fault("timezone", "%v", err)
	}
	if a.From != "" {
		if _, err := calendar.ParseDate(a.From); err != nil {
			return fault("from", "%v", err)
		}
	}
	if a.Until != "" {
		if _, err := calendar.ParseDate(a.Until); err != nil {
			return fault("until", "%v", err)
		}
		if a.From != "" && a.Until < a.From { // dates, which compare as text
			return fault("until", "%s is before the first day, %s", a.Until, a.From)
		}
	}
	if err := a.Period.Validate(); err != nil {
		return Within("period", err)
	}
	if u := a.Upstream; u != nil && (u.LeadS < 0 || u.LeadS > MostClauseS || u.LingerS < 0 || u.LingerS > MostClauseS) {
		return fault("upstream", "lead and linger lie between 0 and %d s", MostClauseS)
	}
	if a.MinOutageS < 0 || a.MinOutageS > MostClauseS {
		return fault("min_outage_s", "%d s is not allowed; it lies between 0 and %d s", a.MinOutageS, MostClauseS)
	}
	for _, of := range []struct {
		path string
		p    Percent
	}{{"target_percent", a.TargetPercent}, {"degraded_weight_percent", a.DegradedWeightPercent}, {"min_coverage_percent", a.MinCoveragePercent}} {
		if of.p == "" && of.path != "target_percent" {
			continue
		}
		if _, err := ParsePercent(string(of.p)); err != nil {
			return fault(of.path, "%v", err)
		}
	}
	for i, c := range a.Credits {
		if _, err := ParsePercent(string(c.BelowPercent)); err != nil {
			return fault(fmt.Sprintf("credits[%d].below_percent", i), "%v", err)
		}
		if _, err := ParsePercent(string(c.CreditPercent)); err != nil {
			return fault(fmt.Sprintf("credits[%d].credit_percent", i), "%v", err)
		}
	}
	if err := a.Fee.Validate(); err != nil {
		return Within("fee", err)
	}
	if a.ServiceHours != nil {
		if _, err := CompileHours(ServiceHours{a.ServiceHours.plan()}); err != nil {
			return Within("service_hours", err)
		}
	}
	if m := a.Maintenance; m != nil && m.Within != nil {
		if _, err := CompileHours(ServiceHours{m.Within.plan()}); err != nil {
			return Within("maintenance.within", err)
		}
	}
	if o := a.Objectives; o != nil {
		for _, of := range []struct {
			path string
			v    *int64
		}{{"outages_at_most", o.OutagesAtMost}, {"longest_outage_s", o.LongestOutageS}, {"mttr_s", o.MTTRS}} {
			if of.v != nil && *of.v < 0 {
				return fault("objectives."+of.path, "%d is not allowed; it is 0 or more", *of.v)
			}
		}
	}
	if m := a.Maintenance; m != nil && m.Mode != MaintenanceIgnore && m.Mode != MaintenanceExclude && m.Mode != MaintenanceForgive {
		return fault("maintenance.mode", "%q is not allowed; it is one of ignore, exclude, forgive", m.Mode)
	}
	if m := a.Maintenance; m != nil && m.Mode == MaintenanceIgnore && m.Emergency != nil {
		return fault("maintenance.emergency", "stands beside maintenance that counts like any time, which grants nothing; take it away, or let maintenance be excluded or forgiven")
	}
	return nil
}

// Agreement turns the spec into the agreement that accounts use.
func (a AgreementSpec) Agreement(id string) Agreement {
	out := Agreement{
		ID: id, Service: a.Service, TargetPercent: a.TargetPercent, ServiceHours: ServiceHours{a.ServiceHours.plan()},
		DegradedWeightPercent: orPercent(a.DegradedWeightPercent, "0"), Unmeasured: a.Unmeasured,
		MinOutageS: a.MinOutageS, MinCoveragePercent: orPercent(a.MinCoveragePercent, "0"), Credits: a.Credits, Latency: a.Latency, Objectives: a.Objectives,
	}
	if out.Unmeasured == "" {
		out.Unmeasured = UnmeasuredExclude
	}
	out.Maintenance.Mode = MaintenanceIgnore
	if a.Maintenance != nil {
		m := a.Maintenance
		out.Maintenance = Maintenance{Mode: m.Mode, NoticeS: m.NoticeS, CapS: m.CapS, Emergency: m.Emergency}
		if m.Within != nil {
			out.Maintenance.Within = &ServiceHours{m.Within.plan()}
		}
	}
	if a.Upstream != nil {
		out.Upstream = *a.Upstream
	}
	return out
}

func orPercent(p, otherwise Percent) Percent {
	if p == "" {
		return otherwise
	}
	return p
}

// Slug makes an id of a name: small letters, digits and dashes; "" when nothing is left.
func Slug(name string) string {
	var out strings.Builder
	dash := false
	for _, r := range strings.ToLower(name) {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			if dash && out.Len() > 0 {
				out.WriteByte('-')
			}
			dash = false
			out.WriteRune(r)
			continue
		}
		dash = true
	}
	s := out.String()
	if len(s) > 60 {
		s = strings.TrimRight(s[:60], "-")
	}
	return s
}
