package definition

import (
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"kestite/core/calendar"
	"kestite/core/measure"
)

// The specs are the bodies of revisions: what people write when they define
// something in this installation. Accounts are made from the leaner types of
// the evidence format, which the specs turn into.

// LocationSpec is a place to measure from.
type LocationSpec struct {
	Name   string `json:"name" minLength:"1" maxLength:"80"`
	Region string `json:"region,omitempty" maxLength:"80"`
	Note   string `json:"note,omitempty" maxLength:"2000"`
}

// ServiceSpec describes a service.
type ServiceSpec struct {
	Name      string       `json:"name" minLength:"1" maxLength:"80"`
	Kind      string       `json:"kind" enum:"business,supporting,supplier"`
	Owner     string       `json:"owner,omitempty" maxLength:"120"`
	Tags      []string     `json:"tags,omitempty"`
	Runbook   string       `json:"runbook,omitempty" maxLength:"500" doc:"Link to what to do when it fails"`
	Note      string       `json:"note,omitempty" maxLength:"2000"`
	Combine   string       `json:"combine,omitempty" enum:"worst,best" default:"worst"`
	DependsOn []Dependency `json:"depends_on,omitempty"`
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
	Service     string               `json:"service" minLength:"1"`
	Name        string               `json:"name" minLength:"1" maxLength:"80"`
	Kind        string               `json:"kind" enum:"ping,http,tcp,certificate,dns"`
	Target      string               `json:"target" minLength:"1" maxLength:"2000" doc:"Host name or address for ping, URL for http, host:port for tcp and certificate, the name to look up for dns"`
	IntervalS   int64                `json:"interval_s" minimum:"5" maximum:"86400"`
	TimeoutMS   int64                `json:"timeout_ms" minimum:"100" maximum:"60000"`
	StaleAfterS int64                `json:"stale_after_s" minimum:"5" maximum:"604800"`
	Confirm     int64                `json:"confirm" minimum:"1" maximum:"100" default:"1"`
	Recover     int64                `json:"recover" minimum:"1" maximum:"100" default:"1"`
	Quorum      string               `json:"quorum,omitempty" default:"majority" doc:"any, majority, all or a whole number"`
	Role        string               `json:"role,omitempty" enum:"decides,informs" default:"decides"`
	Locations   []string             `json:"locations" minItems:"1"`
	Limits      []measure.Limit      `json:"limits,omitempty"`
	Ping        *PingSettings        `json:"ping,omitempty"`
	HTTP        *HTTPSettings        `json:"http,omitempty"`
	Certificate *CertificateSettings `json:"certificate,omitempty"`
	DNS         *DNSSettings         `json:"dns,omitempty"`
}

// PingSettings say how one ping measurement is made.
type PingSettings struct {
	Packets   int   `json:"packets" minimum:"1" maximum:"100" default:"5"`
	SizeBytes int   `json:"size_bytes" minimum:"8" maximum:"8192" default:"56" doc:"ICMP payload"`
	SpacingMS int64 `json:"spacing_ms" minimum:"10" maximum:"10000" default:"200"`
}

// CertificateSettings say whose certificate is expected, and which faults are
// waived; a waiver is shown wherever the check is. Expiry is judged all the same.
type CertificateSettings struct {
	ServerName string `json:"server_name,omitempty" maxLength:"255" doc:"Name to ask for (SNI) and to find in the certificate; absent: the target's host"`
	WaiveTrust bool   `json:"waive_trust,omitempty" doc:"Take a chain that leads to no trusted root"`
	WaiveName  bool   `json:"waive_name,omitempty" doc:"Take a certificate for another name"`
}

// DNSSettings say what is asked of whom, and what answer is expected.
type DNSSettings struct {
	Type     string `json:"type,omitempty" enum:"A,AAAA,CNAME,MX,NS,TXT,SOA,SRV,CAA,PTR" default:"A" doc:"Record type"`
	Resolver string `json:"resolver,omitempty" maxLength:"255" doc:"Host or host:port to ask; absent: the agent's own resolver"`
	Expect   string `json:"expect,omitempty" maxLength:"1000" doc:"Data that one of the records must have, such as 127.0.0.1"`
	Signed   bool   `json:"signed,omitempty" doc:"The resolver must say that it verified the answer by DNSSEC (the AD flag)"`
}

// RecordTypes are what a dns check can ask for.
var RecordTypes = []string{"A", "AAAA", "CNAME", "MX", "NS", "TXT", "SOA", "SRV", "CAA", "PTR"}

// Server is the address of the resolver with its port; empty for the agent's own.
func (d DNSSettings) Server() (string, error) {
	if d.Resolver == "" {
		return "", nil
	}
	if net.ParseIP(d.Resolver) != nil || hostName.MatchString(d.Resolver) {
		return net.JoinHostPort(d.Resolver, "53"), nil
	}
	if _, _, err := HostPort(d.Resolver); err != nil {
		return "", fmt.Errorf("%q is no resolver; write it as 127.0.0.1 or 127.0.0.1:53", d.Resolver)
	}
	return d.Resolver, nil
}

// Check says what is wrong with the settings.
func (d DNSSettings) Check() error {
	if d.Type != "" && !slices.Contains(RecordTypes, d.Type) {
		return fault("dns.type", "%q is no record type; it is one of %s", d.Type, strings.Join(RecordTypes, ", "))
	}
	if _, err := d.Server(); err != nil {
		return fault("dns.resolver", "%v", err)
	}
	return nil
}

// HTTPSettings say what answer is expected.
type HTTPSettings struct {
	Status string `json:"status,omitempty" default:"200-399" maxLength:"100" doc:"Expected status codes, such as 200-299,304"`
	Text   string `json:"text,omitempty" maxLength:"1000" doc:"Text that the body must contain"`
}

// AgreementSpec is what was promised to a customer for a service.
type AgreementSpec struct {
	Name                  string       `json:"name" minLength:"1" maxLength:"120"`
	Customer              string       `json:"customer" maxLength:"120" doc:"Who was promised; empty for an internal target"`
	Service               string       `json:"service" minLength:"1"`
	Timezone              string       `json:"timezone" minLength:"1" doc:"Zone of the period"`
	TargetPercent         Percent      `json:"target_percent" doc:"Decimal, 0 to 100"`
	From                  string       `json:"from,omitempty" doc:"First day of the promise, 2006-01-02 in the zone; absent: from when it was entered"`
	DegradedWeightPercent Percent      `json:"degraded_weight_percent,omitempty" default:"0"`
	Unmeasured            string       `json:"unmeasured,omitempty" enum:"exclude,down,up" default:"exclude"`
	MinOutageS            int64        `json:"min_outage_s,omitempty" minimum:"0" maximum:"86400"`
	MinCoveragePercent    Percent      `json:"min_coverage_percent,omitempty" default:"0"`
	ServiceHours          *WeeklyPlan  `json:"service_hours,omitempty" doc:"Absent: always"`
	Maintenance           *Maintenance `json:"maintenance,omitempty"`
	Upstream              *Upstream    `json:"upstream,omitempty"`
	Credits               []Credit     `json:"credits,omitempty"`
	Latency               *Latency     `json:"latency,omitempty"`
}

// WindowSpec is planned work.
type WindowSpec struct {
	Name      string   `json:"name" minLength:"1" maxLength:"120"`
	Services  []string `json:"services" minItems:"1"`
	Start     string   `json:"start" doc:"Wall time, 2006-01-02T15:04:05"`
	Timezone  string   `json:"timezone"`
	DurationS int64    `json:"duration_s" minimum:"60" maximum:"2592000"`
	RRule     string   `json:"rrule,omitempty"`
	Exdates   []string `json:"exdates,omitempty"`
}

// Validate of a location.
func (l LocationSpec) Validate() error { return called("name", l.Name) }

// Validate of a service, as far as it can be judged alone.
func (s ServiceSpec) Validate() error {
	if err := called("name", s.Name); err != nil {
		return err
	}
	if s.Runbook != "" {
		if u, err := url.Parse(s.Runbook); err != nil || u.Scheme != "http" && u.Scheme != "https" {
			return fault("runbook", "%q is no web address; write it as https://…", s.Runbook)
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

// Validate of a check, as far as it can be judged alone.
func (c CheckSpec) Validate() error {
	if err := called("name", c.Name); err != nil {
		return err
	}
	if err := ValidTarget(c.Kind, c.Target); err != nil {
		return fault("target", "%v", err)
	}
	if len(c.Locations) == 0 {
		return fault("locations", "a check needs at least one location to measure from")
	}
	if c.TimeoutMS >= c.IntervalS*1000 {
		return fault("timeout_ms", "%d ms does not fit into the interval of %d s", c.TimeoutMS, c.IntervalS)
	}
	if c.StaleAfterS <= c.IntervalS {
		return fault("stale_after_s", "%d s is not longer than the interval of %d s: every measurement would be stale before the next", c.StaleAfterS, c.IntervalS)
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
		if took := int64(c.Ping.Packets)*c.Ping.SpacingMS + c.TimeoutMS; took >= c.IntervalS*1000 {
			return fault("ping.packets", "%d packets every %d ms and a timeout of %d ms do not fit into the interval of %d s", c.Ping.Packets, c.Ping.SpacingMS, c.TimeoutMS, c.IntervalS)
		}
	}
	if c.Kind == measure.DNS.Name && c.DNS != nil {
		if err := c.DNS.Check(); err != nil {
			return err
		}
	}
	if c.Kind == measure.HTTP.Name && c.HTTP != nil && c.HTTP.Status != "" {
		if _, err := ParseStatusSet(c.HTTP.Status); err != nil {
			return fault("http.status", "%v", err)
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
		Confirm: max(1, c.Confirm), Recover: max(1, c.Recover), Quorum: q, Role: role, Locations: c.Locations,
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

var hostName = regexp.MustCompile(`^([A-Za-z0-9_]([A-Za-z0-9_-]{0,61}[A-Za-z0-9_])?\.)*[A-Za-z0-9_]([A-Za-z0-9_-]{0,61}[A-Za-z0-9_])?\.?$`)

// ValidTarget says what is wrong with the target of a kind of check.
func ValidTarget(kind, target string) error {
	switch kind {
	case measure.Ping.Name:
		if net.ParseIP(target) == nil && !hostName.MatchString(target) {
			return fmt.Errorf("%q is neither a host name nor an address; leave scheme, port and path away", target)
		}
	case measure.HTTP.Name:
		u, err := url.Parse(target)
		if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
			return fmt.Errorf("%q is no web address; write it as https://host/path", target)
		}
		if u.User != nil {
			return errors.New("a name and password in the address would be stored in the clear; leave them away")
		}
	case measure.DNS.Name:
		if !hostName.MatchString(target) || len(target) > 255 {
			return fmt.Errorf("%q is no domain name; write it as tickets.skerry.example", target)
		}
	case measure.TCP.Name, measure.Certificate.Name:
		_, _, err := HostPort(target)
		return err
	default:
		return fmt.Errorf("%q is no kind of check; it is ping, http, tcp, certificate or dns", kind)
	}
	return nil
}

// HostPort splits a target such as "tickets.skerry.example:443" or "[::1]:443".
func HostPort(target string) (host string, port int, err error) {
	host, text, err := net.SplitHostPort(target)
	if err == nil {
		port, err = strconv.Atoi(text)
	}
	if err != nil || port < 1 || port > 65535 || net.ParseIP(host) == nil && !hostName.MatchString(host) {
		return "", 0, fmt.Errorf("%q is no host with a port; write it as host:443, an IPv6 address in brackets", target)
	}
	return host, port, nil
}

// StatusSet is a set of HTTP status codes.
type StatusSet [][2]int

// ParseStatusSet reads codes and ranges such as "200-299,304".
func ParseStatusSet(s string) (StatusSet, error) {
	var set StatusSet
	for _, part := range strings.Split(s, ",") {
		from, to, isRange := strings.Cut(strings.TrimSpace(part), "-")
		if !isRange {
			to = from
		}
		a, errA := strconv.Atoi(strings.TrimSpace(from))
		b, errB := strconv.Atoi(strings.TrimSpace(to))
		if errA != nil || errB != nil || a < 100 || b > 599 || a > b {
			return nil, fmt.Errorf("%q is no set of status codes; write codes and ranges between 100 and 599, such as 200-299,304", s)
		}
		set = append(set, [2]int{a, b})
	}
	return set, nil
}

// Contains says whether the set has the code.
func (s StatusSet) Contains(code int) bool {
	for _, r := range s {
		if r[0] <= code && code <= r[1] {
			return true
		}
	}
	return false
}

// Validate of an agreement, as far as it can be judged alone.
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
	const day = 86_400
	if u := a.Upstream; u != nil && (u.LeadS < 0 || u.LeadS > day || u.LingerS < 0 || u.LingerS > day) {
		return fault("upstream", "lead and linger lie between 0 and %d s", day)
	}
	if a.MinOutageS < 0 || a.MinOutageS > day {
		return fault("min_outage_s", "%d s is not allowed; it lies between 0 and %d s", a.MinOutageS, day)
	}
	for path, p := range map[string]Percent{
		"target_percent": a.TargetPercent, "degraded_weight_percent": a.DegradedWeightPercent, "min_coverage_percent": a.MinCoveragePercent,
	} {
		if p == "" && path != "target_percent" {
			continue
		}
		if _, err := ParsePercent(string(p)); err != nil {
			return fault(path, "%v", err)
		}
	}
	for i, c := range a.Credits {
		for path, p := range map[string]Percent{"below_percent": c.BelowPercent, "credit_percent": c.CreditPercent} {
			if _, err := ParsePercent(string(p)); err != nil {
				return fault(fmt.Sprintf("credits[%d].%s", i, path), "%v", err)
			}
		}
	}
	if a.ServiceHours != nil {
		if _, err := CompileHours(ServiceHours{a.ServiceHours}); err != nil {
			f := err.(*Fault)
			return fault("service_hours."+f.Path, "%s", f.Message)
		}
	}
	if m := a.Maintenance; m != nil && m.Mode != MaintenanceIgnore && m.Mode != MaintenanceExclude && m.Mode != MaintenanceForgive {
		return fault("maintenance.mode", "%q is not allowed; it is one of ignore, exclude, forgive", m.Mode)
	}
	return nil
}

// Agreement turns the spec into the agreement that accounts use.
func (a AgreementSpec) Agreement(id string) Agreement {
	out := Agreement{
		ID: id, Service: a.Service, TargetPercent: a.TargetPercent, ServiceHours: ServiceHours{a.ServiceHours},
		DegradedWeightPercent: orPercent(a.DegradedWeightPercent, "0"), Unmeasured: a.Unmeasured,
		MinOutageS: a.MinOutageS, MinCoveragePercent: orPercent(a.MinCoveragePercent, "0"), Credits: a.Credits, Latency: a.Latency,
	}
	if out.Unmeasured == "" {
		out.Unmeasured = UnmeasuredExclude
	}
	out.Maintenance.Mode = MaintenanceIgnore
	if a.Maintenance != nil {
		out.Maintenance = *a.Maintenance
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

// Validate of a window.
func (w WindowSpec) Validate() error {
	if err := called("name", w.Name); err != nil {
		return err
	}
	if len(w.Services) == 0 {
		return fault("services", "a window needs at least one service")
	}
	_, err := CompileWindow(Window{Start: w.Start, Timezone: w.Timezone, DurationS: w.DurationS, RRule: w.RRule, Exdates: w.Exdates})
	return err
}

func called(path, s string) error {
	if strings.TrimSpace(s) == "" {
		return fault(path, "is empty; give it a name")
	}
	for _, r := range s {
		if unicode.IsControl(r) {
			return fault(path, "%q has a control character in it; take it out", s)
		}
	}
	return nil
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
