package definition

import (
	"cmp"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"regexp"
	"regexp/syntax"
	"slices"
	"strconv"
	"strings"

	"github.com/theory/jsonpath"
	"golang.org/x/net/http/httpguts"
	"golang.org/x/net/idna"

	"kestite/core/measure"
)

// Settings say how one measurement is made; those of the check's own kind
// count, others are ignored.
type Settings struct {
	Ping        *PingSettings        `json:"ping,omitempty"`
	HTTP        *HTTPSettings        `json:"http,omitempty"`
	Certificate *CertificateSettings `json:"certificate,omitempty"`
	DNS         *DNSSettings         `json:"dns,omitempty"`
	Path        *PathSettings        `json:"path,omitempty"`
	UDP         *UDPSettings         `json:"udp,omitempty"`
	ReportIn    *ReportInSettings    `json:"report_in,omitempty"`
	Derived     *DerivedSettings     `json:"derived,omitempty"`
}

// UDPSettings say what a UDP echo check plays to the responder of another agent.
type UDPSettings struct {
	Codec        string `json:"codec,omitempty" enum:"g711,g729" default:"g711" doc:"Whose packet spacing, size and robustness are played (ITU-T G.711 or G.729A, 20 ms a packet)"`
	Packets      int    `json:"packets,omitempty" minimum:"0" maximum:"3000" default:"100"`
	DSCP         int    `json:"dscp,omitempty" minimum:"0" maximum:"63" doc:"Differentiated services code point (RFC 2474); 46 is what voice uses"`
	Synchronised bool   `json:"synchronised,omitempty" doc:"The clocks of both ends are synchronised, so that delays one way can be told"`
}

// Filled returns the settings with defaults in place of what is absent.
func (u *UDPSettings) Filled() UDPSettings {
	var out UDPSettings
	if u != nil {
		out = *u
	}
	out.Codec, out.Packets = cmp.Or(out.Codec, measure.G711.Name), cmp.Or(out.Packets, 100)
	return out
}

// Check says what is wrong with the settings.
func (u UDPSettings) Check() error {
	if names := measure.CodecNames(); u.Codec != "" && !slices.Contains(names, u.Codec) {
		return fault("udp.codec", "%q is no codec; it is one of %s", u.Codec, strings.Join(names, ", "))
	}
	return nil
}

// ReportInSettings say what another system reports.
type ReportInSettings struct {
	Numbers []string `json:"numbers,omitempty" maxItems:"4" doc:"Names of the numbers that it may report; they become the measures value_1 to value_4"`
}

// DerivedSettings say what is computed of which measures.
type DerivedSettings struct {
	Operation string   `json:"operation" enum:"sum,difference,mean,min,max,share" doc:"difference: the first less all others; share: the first in percent of the sum of the others"`
	Sources   []Source `json:"sources" minItems:"1" maxItems:"50"`
}

// Source is a measure of another check. Of several locations it is the mean.
type Source struct {
	Check    string `json:"check"`
	Measure  string `json:"measure"`
	Location string `json:"location,omitempty" doc:"Absent: all of the check's locations that have a fresh value"`
}

// Server is the place where report-in and derived checks are measured: nothing
// goes out from a location for them.
const Server = "server"

// Inward says whether a kind is measured on the server and not by agents.
func Inward(kind string) bool { return kind == measure.ReportIn.Name || kind == measure.Derived.Name }

// PingSettings say how one ping measurement is made.
type PingSettings struct {
	Packets   int    `json:"packets" minimum:"1" maximum:"100" default:"5"`
	SizeBytes int    `json:"size_bytes" minimum:"8" maximum:"8192" default:"56" doc:"ICMP payload"`
	SpacingMS int64  `json:"spacing_ms" minimum:"10" maximum:"10000" default:"200"`
	DSCP      int    `json:"dscp,omitempty" minimum:"0" maximum:"63" doc:"Differentiated services code point of the requests (RFC 2474)"`
	Second    string `json:"second,omitempty" maxLength:"255" doc:"A second target: the measurement fails only when both do"`
}

// PathSettings say how a path is traced. Every packet of a trace belongs to one
// flow, so that routers that share load between routes treat all alike.
type PathSettings struct {
	Method    string `json:"method,omitempty" enum:"icmp,udp,tcp" default:"icmp" doc:"Packets to send: ICMP echo requests, UDP, or TCP SYN"`
	Port      int    `json:"port,omitempty" minimum:"0" maximum:"65535" doc:"Of the target, for udp and tcp; 0: 33434 for udp, 443 for tcp"`
	Rounds    int    `json:"rounds,omitempty" minimum:"0" maximum:"20" default:"3" doc:"Packets to each hop"`
	SpacingMS int64  `json:"spacing_ms,omitempty" minimum:"0" maximum:"10000" default:"500" doc:"Between the rounds"`
	MaxHops   int    `json:"max_hops,omitempty" minimum:"0" maximum:"64" default:"30"`
	SizeBytes int    `json:"size_bytes,omitempty" minimum:"0" maximum:"1500" default:"60" doc:"Of the whole IP packet, for icmp and udp; at least 60"`
	Names     bool   `json:"names,omitempty" doc:"Look up the hops' names"`
}

// Ways of tracing a path.
const (
	ByICMP = "icmp"
	ByUDP  = "udp"
	ByTCP  = "tcp"
)

// Filled returns the settings with defaults in place of what is absent.
func (p *PathSettings) Filled() PathSettings {
	var out PathSettings
	if p != nil {
		out = *p
	}
	out.Method = cmp.Or(out.Method, ByICMP)
	if out.Port == 0 && out.Method == ByUDP {
		out.Port = 33434
	}
	if out.Port == 0 && out.Method == ByTCP {
		out.Port = 443
	}
	out.Rounds, out.SpacingMS = cmp.Or(out.Rounds, 3), cmp.Or(out.SpacingMS, 500)
	out.MaxHops, out.SizeBytes = cmp.Or(out.MaxHops, 30), max(60, out.SizeBytes)
	return out
}

// Check says what is wrong with the settings.
func (p PathSettings) Check() error {
	if p.Method != "" && p.Method != ByICMP && p.Method != ByUDP && p.Method != ByTCP {
		return fault("path.method", "%q is no way to trace; it is one of icmp, udp, tcp", p.Method)
	}
	return nil
}

// CertificateSettings say whose certificate is expected, and which faults are
// waived; a waiver is shown wherever the check is. Expiry is judged all the same.
type CertificateSettings struct {
	ServerName string `json:"server_name,omitempty" maxLength:"255" doc:"Name to ask for (SNI) and to find in the certificate; absent: the target's host"`
	WaiveTrust bool   `json:"waive_trust,omitempty" doc:"Take a chain that leads to no trusted root"`
	WaiveName  bool   `json:"waive_name,omitempty" doc:"Take a certificate for another name"`
	StartTLS   string `json:"starttls,omitempty" enum:"smtp,imap,pop3,ftp,postgres," doc:"Protocol in which TLS is asked for; absent: TLS from the first byte"`
}

// StartTLSProtocols are those in which TLS can be asked for.
var StartTLSProtocols = []string{"smtp", "imap", "pop3", "ftp", "postgres"}

// Check says what is wrong with the settings.
func (c CertificateSettings) Check() error {
	if c.StartTLS != "" && !slices.Contains(StartTLSProtocols, c.StartTLS) {
		return fault("certificate.starttls", "%q is no protocol in which TLS is asked for; it is one of %s", c.StartTLS, strings.Join(StartTLSProtocols, ", "))
	}
	return nil
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
	if isAddress(d.Resolver) || hostName.MatchString(d.Resolver) {
		return WithPort(d.Resolver, "53"), nil
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

// HTTPSettings say what is asked and what answer is expected. Texts and patterns
// are looked for in the first MiB of the body.
type HTTPSettings struct {
	Method           string   `json:"method,omitempty" enum:"GET,HEAD,POST,PUT,PATCH,DELETE,OPTIONS" default:"GET"`
	Headers          []Header `json:"headers,omitempty" maxItems:"50"`
	Body             string   `json:"body,omitempty" maxLength:"65536" doc:"Sent with the request"`
	Credential       string   `json:"credential,omitempty" doc:"Credential to sign in with"`
	Redirects        int      `json:"redirects,omitempty" minimum:"0" maximum:"10" doc:"How many redirects to follow; 0: the first answer counts"`
	Version          string   `json:"version,omitempty" enum:"1.1,2," doc:"HTTP version that must be spoken; absent: either"`
	WaiveTrust       bool     `json:"waive_trust,omitempty" doc:"Take a certificate that leads to no trusted root, or is for another name"`
	Status           string   `json:"status,omitempty" default:"200-399" maxLength:"100" doc:"Expected status codes, such as 200-299,304"`
	Text             string   `json:"text,omitempty" maxLength:"1000" doc:"Text that the body must contain"`
	Pattern          string   `json:"pattern,omitempty" maxLength:"1000" doc:"Regular expression (RE2) that the body must match"`
	ForbiddenText    string   `json:"forbidden_text,omitempty" maxLength:"1000" doc:"Text that the body must not contain"`
	ForbiddenPattern string   `json:"forbidden_pattern,omitempty" maxLength:"1000" doc:"Regular expression (RE2) that the body must not match"`
	MaxBodyBytes     int64    `json:"max_body_bytes,omitempty" minimum:"0" maximum:"268435456" doc:"How much of a body is read; one that is longer is cut, which is degraded. 0: 16 MiB"`
	JSONPath         string   `json:"json_path,omitempty" maxLength:"1000" doc:"JSONPath (RFC 9535) of one number in the body, the measure value; such as $.bookings.last_hour"`
}

// Bodies of answers, in bytes: how much is read of one unless the check says
// otherwise, and at most.
const (
	UsualBody = 16 << 20
	MostBody  = 256 << 20
)

// MostBody is how much of a body is read.
func (h HTTPSettings) MostBody() int64 {
	if h.MaxBodyBytes == 0 {
		return UsualBody
	}
	return min(h.MaxBodyBytes, MostBody)
}

// Header is a field of a request.
type Header struct {
	Name  string `json:"name" minLength:"1" maxLength:"200"`
	Value string `json:"value" maxLength:"4000"`
}

// Check says what is wrong with the settings.
func (h HTTPSettings) Check() error {
	if h.Method != "" && !slices.Contains(httpMethods, h.Method) {
		return fault("http.method", "%q is no method; it is one of %s", h.Method, strings.Join(httpMethods, ", "))
	}
	if h.Version != "" && h.Version != "1.1" && h.Version != "2" {
		return fault("http.version", "%q is not known; it is 1.1 or 2", h.Version)
	}
	for i, f := range h.Headers {
		path := fmt.Sprintf("http.headers[%d]", i)
		switch {
		case !httpguts.ValidHeaderFieldName(f.Name) || !httpguts.ValidHeaderFieldValue(f.Value):
			return fault(path, "%q is no header: a name has letters, digits and dashes, a value no line breaks", f.Name)
		case SecretName(f.Name):
			return fault(path, "the value of %s looks like a secret, and would be stored in the clear; make a credential of it", f.Name)
		}
	}
	if h.MaxBodyBytes < 0 || h.MaxBodyBytes > MostBody {
		return fault("http.max_body_bytes",
			"%d bytes is not allowed; it is at most %d (256 MiB), and 0 for 16 MiB", h.MaxBodyBytes, MostBody)
	}
	if h.Status != "" {
		if _, err := ParseStatusSet(h.Status); err != nil {
			return fault("http.status", "%v", err)
		}
	}
	for path, pattern := range map[string]string{"http.pattern": h.Pattern, "http.forbidden_pattern": h.ForbiddenPattern} {
		if _, err := Pattern(pattern); err != nil {
			return fault(path, "%v", err)
		}
	}
	if h.JSONPath != "" {
		if err := JSONPath(h.JSONPath); err != nil {
			return fault("http.json_path", "%v", err)
		}
	}
	return nil
}

// mostInstructions is how large a regular expression may become: looking for it
// takes time by that and the length of the answer.
const mostInstructions = 5000

// Pattern reads a regular expression (RE2), whose size is bounded.
func Pattern(pattern string) (*regexp.Regexp, error) {
	tree, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil {
		return nil, fmt.Errorf("%q is no regular expression: %w", pattern, err)
	}
	prog, err := syntax.Compile(tree.Simplify())
	if err != nil {
		return nil, fmt.Errorf("%q is no regular expression: %w", pattern, err)
	}
	if len(prog.Inst) > mostInstructions {
		return nil, fmt.Errorf("%q repeats so much that looking for it takes longer than a measurement may; repeat less", pattern)
	}
	return regexp.Compile(pattern)
}

// JSONPath says what is wrong with a JSONPath (RFC 9535): also what on some answers
// takes longer than a measurement may.
func JSONPath(path string) error {
	if _, err := jsonpath.Parse(path); err != nil {
		return fmt.Errorf("%q is no JSONPath (%s); write it as $.bookings.last_hour", path, strings.TrimPrefix(err.Error(), "jsonpath: "))
	}
	if many := manyVisits(path); many != "" {
		return fmt.Errorf("%q has %s, which on some answers takes longer than a measurement may; write it as $.bookings.last_hour", path, many)
	}
	return nil
}

// manyVisits names what lets a valid JSONPath (RFC 9535) look at the values of
// an answer more than once for each of its steps; "" when nothing does. Such a path can be made
// to take time that grows with a power of the answer's size: two descents ..,
// several selectors in one step, or a filter that begins again at the root.
func manyVisits(path string) string {
	var open []byte // the brackets that are open
	descents, quote := 0, byte(0)
	for i := 0; i < len(path); i++ {
		switch c := path[i]; {
		case quote != 0 && c == '\\':
			i++
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '\'' || c == '"':
			quote = c
		case c == '(' && (strings.HasSuffix(path[:i], "match") || strings.HasSuffix(path[:i], "search")):
			if !simplePattern(path[i+1:]) {
				return "a regular expression (match, search) that is long, or not written in it"
			}
			open = append(open, c)
		case c == '[' || c == '(':
			open = append(open, c)
		case c == ']' || c == ')':
			open = open[:max(len(open)-1, 0)]
		case c == ',' && len(open) > 0 && open[len(open)-1] == '[':
			return "several selectors in one step"
		case c == '$' && len(open) > 0:
			return "a filter that begins again at the root ($)"
		case c == '.' && strings.HasPrefix(path[i:], ".."):
			if descents++; descents > 1 {
				return "more than one descent (..)"
			}
			i++
		}
	}
	return ""
}

// literal is a text in a JSONPath at the end of a function's arguments.
var literal = regexp.MustCompile(`,\s*(?:'((?:[^'\\]|\\.)*)'|"((?:[^"\\]|\\.)*)")\s*\)`)

// mostSimple is how large a regular expression within a JSONPath may become.
const mostSimple = 300

// simplePattern says whether the arguments of match or search end with a regular
// expression that is written there and not large.
func simplePattern(arguments string) bool {
	found := literal.FindStringSubmatch(arguments)
	if found == nil || strings.ContainsAny(arguments[:strings.Index(arguments, found[0])], "()'\"") {
		return false
	}
	tree, err := syntax.Parse(found[1]+found[2], syntax.Perl)
	if err != nil {
		return false
	}
	prog, err := syntax.Compile(tree.Simplify())
	return err == nil && len(prog.Inst) <= mostSimple
}

var httpMethods = []string{"GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"}

var hostName = regexp.MustCompile(`^([A-Za-z0-9_]([A-Za-z0-9_-]{0,61}[A-Za-z0-9_])?\.)*[A-Za-z0-9_]([A-Za-z0-9_-]{0,61}[A-Za-z0-9_])?\.?$`)

// ASCIIName is a host's name as it goes on the wire: an international one in
// its ASCII form (RFC 5891), with or without the last dot.
func ASCIIName(name string) (string, error) {
	if name == "." || isASCII(name) {
		return name, nil
	}
	ascii, err := idna.Lookup.ToASCII(name)
	if err != nil {
		return "", fmt.Errorf("%q is no international name: %v", name, err)
	}
	return ascii, nil
}

func isASCII(s string) bool {
	for i := range len(s) {
		if s[i] >= 0x80 {
			return false
		}
	}
	return true
}

// isHost says whether s is an address or the name of a host.
func isHost(s string) bool {
	if isAddress(s) {
		return true
	}
	ascii, err := ASCIIName(s)
	return err == nil && hostName.MatchString(ascii) && len(ascii) <= 255
}

// ValidTarget says what is wrong with the target of a kind of check.
func ValidTarget(kind, target string) error {
	switch kind {
	case measure.Ping.Name, measure.Path.Name:
		if !isHost(target) {
			return fmt.Errorf("%q is neither a host name nor an address; leave scheme, port and path away", target)
		}
	case measure.HTTP.Name:
		u, err := url.Parse(target)
		if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
			return fmt.Errorf("%q is no web address; write it as https://host/path", withoutSecrets(target))
		}
		if u.User != nil {
			return errors.New("a name and password in the address would be stored in the clear; leave them away")
		}
		for name := range u.Query() {
			if SecretName(name) {
				return fmt.Errorf("the value of %q in the address looks like a secret, and would be stored in the clear; make a credential of it", name)
			}
		}
	case measure.DNS.Name:
		if target != "." && !isHost(target) {
			return fmt.Errorf("%q is no domain name; write it as tickets.skerry.example", target)
		}
	case measure.TCP.Name, measure.Certificate.Name, measure.UDP.Name:
		_, _, err := HostPort(target)
		return err
	case measure.ReportIn.Name, measure.Derived.Name: // nothing is called
	default:
		return fmt.Errorf("%q is no kind of check; it is ping, http, tcp, certificate, dns, path, udp, report-in or derived", kind)
	}
	return nil
}

// HostPort splits a target such as "tickets.skerry.example:443" or "[::1]:443".
func HostPort(target string) (host string, port int, err error) {
	colon := strings.LastIndexByte(target, ':')
	if colon < 0 {
		colon = len(target)
	}
	host, text := target[:colon], strings.TrimPrefix(target[colon:], ":")
	if inside, bracketed := strings.CutPrefix(host, "["); bracketed {
		host, bracketed = strings.CutSuffix(inside, "]")
		if !bracketed || !strings.Contains(host, ":") {
			host = ""
		}
	} else if strings.Contains(host, ":") { // an IPv6 address without brackets
		host = ""
	}
	port, err = strconv.Atoi(text)
	if err != nil || port < 1 || port > 65535 || !isHost(host) {
		return "", 0, fmt.Errorf("%q is no host with a port; write it as host:443, an IPv6 address in brackets", target)
	}
	return host, port, nil
}

// WithPort writes a host and a port as one, an IPv6 address in brackets (RFC 3986 §3.2.2).
func WithPort(host, port string) string {
	if strings.Contains(host, ":") {
		host = "[" + host + "]"
	}
	return host + ":" + port
}

// isAddress says whether s is an IP address, without a zone.
func isAddress(s string) bool {
	a, err := netip.ParseAddr(s)
	return err == nil && a.Zone() == ""
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

// Check says what is wrong with the settings.
func (d *DerivedSettings) Check() error {
	if d == nil || len(d.Sources) == 0 {
		return fault("derived.sources", "a derived check needs at least one measure of another check")
	}
	if slices.Contains([]string{Difference, Share}, d.Operation) && len(d.Sources) < 2 {
		return fault("derived.sources", "a %s needs at least two measures", d.Operation)
	}
	if !slices.Contains([]string{Sum, Difference, Mean, Min, Max, Share}, d.Operation) {
		return fault("derived.operation", "%q is not known; it is sum, difference, mean, min, max or share", d.Operation)
	}
	return nil
}

// Operations of derived checks.
const (
	Sum        = "sum"
	Difference = "difference"
	Mean       = "mean"
	Min        = "min"
	Max        = "max"
	Share      = "share"
)

// Value computes the operation over values in the order of the sources. It is an
// error where the result is no number: a share of nothing.
func (d DerivedSettings) Value(values []float64) (float64, error) {
	sum := 0.0
	for _, v := range values {
		sum += v
	}
	rest := sum - values[0]
	switch d.Operation {
	case Difference:
		return values[0] - rest, nil
	case Mean:
		return sum / float64(len(values)), nil
	case Min:
		return slices.Min(values), nil
	case Max:
		return slices.Max(values), nil
	case Share:
		if rest == 0 {
			return 0, errors.New("the share of nothing: the other values add up to 0")
		}
		return 100 * values[0] / rest, nil
	}
	return sum, nil
}
