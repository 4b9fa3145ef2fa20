package instrument

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"net"
	"net/netip"
	"strings"
	"time"

	"github.com/miekg/dns"

	"kestite/core/definition"
	"kestite/core/measure"
)

// dns asks one resolver for one name and type (RFC 1035), over UDP with EDNS
// (RFC 6891) and, where the answer is cut, over TCP. Retries are not made: a
// lost datagram is what the check is there to see.
func (s *Set) dns(ctx context.Context, t Task) Result {
	set := definition.DNSSettings{}
	if t.DNS != nil {
		set = *t.DNS
	}
	if set.Type == "" {
		set.Type = "A"
	}
	server, err := resolver(set)
	if err != nil {
		return Result{Outcome: measure.Error, Detail: err.Error()}
	}
	ctx, cancel := context.WithTimeout(ctx, t.Timeout)
	defer cancel()
	// The machine's own resolver is its owner's choice, wherever it is.
	if host, port, err := net.SplitHostPort(server); err == nil && set.Resolver != "" {
		addr, err := s.resolve(ctx, host)
		if err != nil {
			return failure(measure.DNS, err)
		}
		server = net.JoinHostPort(addr.String(), port)
	}
	kind := dns.StringToType[set.Type]
	name, err := queryName(t.Target, kind)
	if err != nil {
		return Result{Outcome: measure.Error, Detail: err.Error()}
	}
	ask := new(dns.Msg)
	ask.SetQuestion(name, kind)
	ask.SetEdns0(datagram, set.Signed)
	ask.AuthenticatedData = set.Signed // RFC 6840 §5.7: says that we understand the flag
	began := time.Now()
	answer, strange, err := askByDatagram(ctx, ask, server)
	if err == nil && answer.Truncated {
		answer, err = askByStream(ctx, ask, server)
	}
	took := time.Since(began)
	if err != nil {
		what := fmt.Sprintf("no answer from %s", server)
		if strange > 0 {
			what = fmt.Sprintf("no answer to this question from %s, but %d datagrams that are none,", server, strange)
		}
		return timedOut(failure(measure.DNS, err), err, t.Timeout, what)
	}
	values := measure.DNS.None()
	values[measure.DNSTotal], values[measure.DNSAnswers] = milliseconds(took), 0
	var data []string
	for _, r := range owned(answer.Answer, name, kind) {
		if r.Header().Rrtype == kind {
			values[measure.DNSAnswers]++
			data = append(data, recordData(r))
		}
		if ttl := float64(r.Header().Ttl); math.IsNaN(values[measure.DNSTTL]) || ttl < values[measure.DNSTTL] {
			values[measure.DNSTTL] = ttl
		}
	}
	r := judged(measure.DNS, values, t.Limits)
	r.Findings = &measure.Findings{Remote: server}
	const mostAnswers = 50
	for _, a := range answer.Answer[:min(len(answer.Answer), mostAnswers)] {
		r.Findings.Answers = append(r.Findings.Answers, strings.Join(strings.Fields(a.String()), " "))
	}
	fail := func(format string, args ...any) Result {
		r.Outcome, r.Detail = measure.Failed, fmt.Sprintf(format, args...)
		return r
	}
	switch {
	case answer.Rcode == dns.RcodeNameError:
		return fail("%s says that there is no name %s", server, t.Target)
	case answer.Rcode != dns.RcodeSuccess:
		return fail("%s answers %s", server, rcodeName(answer))
	case len(data) == 0:
		return fail("%s has no %s record for %s", server, set.Type, t.Target)
	case set.Expect != "" && !contains(data, set.Expect, kind):
		return fail("expected %s, and the answer is %s", set.Expect, strings.Join(data, ", "))
	case set.Signed && !answer.AuthenticatedData:
		return fail("the answer is not verified by DNSSEC: %s did not set the AD flag", server)
	}
	return r
}

// rcodeName names the code of an answer: with EDNS, 16 is BADVERS (RFC 6891 §9) and not
// what TSIG takes it for (RFC 8945 §3).
func rcodeName(answer *dns.Msg) string {
	if answer.Rcode == dns.RcodeBadVers && answer.IsEdns0() != nil {
		return "BADVERS"
	}
	if name, known := dns.RcodeToString[answer.Rcode]; known {
		return name
	}
	return fmt.Sprintf("code %d", answer.Rcode)
}

// missing says what a message counts in its head (RFC 1035 §4.1.1) and does not hold;
// nil where all is there, or the message says itself that it is cut.
func missing(packet []byte, m *dns.Msg) error {
	const head = 12
	if len(packet) < head || m.Truncated {
		return nil
	}
	for i, have := range []int{len(m.Question), len(m.Answer), len(m.Ns), len(m.Extra)} {
		if said := int(binary.BigEndian.Uint16(packet[4+2*i:])); said != have {
			part := []string{"questions", "answers", "authorities", "additional records"}[i]
			return fmt.Errorf("the answer is broken: it counts %d %s, and %d are there", said, part, have)
		}
	}
	return nil
}

// datagram is how many bytes cross the internet unfragmented (DNS flag day 2020).
const datagram = 1232

// queryName is the name to ask for: of an address its reverse name (RFC 1035
// §3.5, RFC 3596 §2.5) where a PTR record is wanted, of an international name
// the one that is on the wire (RFC 5891).
func queryName(target string, kind uint16) (string, error) {
	if _, err := netip.ParseAddr(target); err == nil && kind == dns.TypePTR {
		return dns.ReverseAddr(target)
	}
	ascii, err := definition.ASCIIName(target)
	return dns.Fqdn(ascii), err
}

// answers says whether a message is the answer to a question (RFC 5452 §9.1):
// a response, with its id, its opcode and its one question.
func answers(answer, ask *dns.Msg) bool {
	if !answer.Response || answer.Id != ask.Id || answer.Opcode != ask.Opcode || len(answer.Question) != 1 {
		return false
	}
	have, want := answer.Question[0], ask.Question[0]
	return have.Qtype == want.Qtype && have.Qclass == want.Qclass && strings.EqualFold(have.Name, want.Name)
}

// askByDatagram asks over UDP, and waits on when something arrives that is no
// answer to the question; strange counts that.
func askByDatagram(ctx context.Context, ask *dns.Msg, server string) (answer *dns.Msg, strange int, err error) {
	conn, err := (&net.Dialer{}).DialContext(ctx, "udp", server)
	if err != nil {
		if noWay(err) {
			err = &errOwn{fmt.Errorf("this machine has no route to %s: %w", server, err)}
		}
		return nil, 0, err
	}
	defer conn.Close()
	if at, has := ctx.Deadline(); has {
		conn.SetDeadline(at)
	}
	packet, err := ask.Pack()
	if err != nil {
		return nil, 0, &errOwn{err}
	}
	if _, err := conn.Write(packet); err != nil {
		return nil, 0, err
	}
	buf := make([]byte, 1<<16)
	for {
		n, err := conn.Read(buf)
		if err != nil {
			return nil, strange, err
		}
		answer := new(dns.Msg)
		if err := answer.Unpack(buf[:n]); (err == nil || answer.Truncated) && answers(answer, ask) {
			return answer, strange, missing(buf[:n], answer)
		}
		strange++
	}
}

// askByStream asks over TCP (RFC 7766).
func askByStream(ctx context.Context, ask *dns.Msg, server string) (*dns.Msg, error) {
	raw, err := (&net.Dialer{}).DialContext(ctx, "tcp", server)
	if err != nil {
		return nil, err
	}
	defer raw.Close()
	if at, has := ctx.Deadline(); has {
		raw.SetDeadline(at)
	}
	conn := &dns.Conn{Conn: raw}
	if err := conn.WriteMsg(ask); err != nil {
		return nil, err
	}
	for {
		packet, err := conn.ReadMsgHeader(nil)
		if err != nil {
			return nil, err
		}
		answer := new(dns.Msg)
		if err := answer.Unpack(packet); err != nil {
			return nil, err
		}
		if answers(answer, ask) {
			return answer, missing(packet, answer)
		}
	}
}

// owned are the records that answer for a name: its own, and those of the names
// that its CNAME records lead to (RFC 1034 §3.6.2).
func owned(records []dns.RR, name string, kind uint16) []dns.RR {
	names := map[string]bool{strings.ToLower(name): true}
	for range records { // a chain is no longer than the answer
		for _, r := range records {
			if c, ok := r.(*dns.CNAME); ok && kind != dns.TypeCNAME && names[strings.ToLower(c.Hdr.Name)] {
				names[strings.ToLower(c.Target)] = true
			}
		}
	}
	var out []dns.RR
	for _, r := range records {
		if h := r.Header(); h.Class == dns.ClassINET && names[strings.ToLower(h.Name)] {
			out = append(out, r)
		}
	}
	return out
}

// resolver is the server to ask: the one set, or the machine's first.
func resolver(set definition.DNSSettings) (string, error) {
	server, err := set.Server()
	if err != nil || server != "" {
		return server, err
	}
	const file = "/etc/resolv.conf"
	own, err := dns.ClientConfigFromFile(file)
	if err != nil {
		return "", fmt.Errorf("the machine's own resolver is not known: %w", err)
	}
	if len(own.Servers) == 0 {
		return "", errors.New("the machine's own resolver is not known: " + file + " names none")
	}
	return net.JoinHostPort(own.Servers[0], own.Port), nil
}

// recordData is a record without its name, class and time to live, as dig +short prints it.
func recordData(r dns.RR) string {
	return strings.TrimSpace(strings.TrimPrefix(r.String(), r.Header().String()))
}

// contains says whether one of the data is the one wanted: addresses by value,
// names without case and the last dot, texts (TXT, CAA) with case, as they stand
// or joined and without quotes.
func contains(data []string, want string, kind uint16) bool {
	plain := func(s string) string {
		if addr, err := netip.ParseAddr(s); err == nil {
			return addr.String()
		}
		if kind == dns.TypeTXT || kind == dns.TypeCAA {
			return s
		}
		return strings.ToLower(strings.TrimSuffix(s, "."))
	}
	for _, d := range data {
		if plain(d) == plain(want) || joined(d) == want {
			return true
		}
	}
	return false
}

// joined is the text of a record's data: its strings without quotes, put together.
func joined(data string) string {
	var out strings.Builder
	quoted := false
	for i := 0; i < len(data); i++ {
		switch c := data[i]; {
		case c == '\\' && i+1 < len(data):
			i++
			out.WriteByte(data[i])
		case c == '"':
			quoted = !quoted
		case c == ' ' && !quoted && i > 0 && data[i-1] == '"':
			// between two strings
		default:
			out.WriteByte(c)
		}
	}
	return out.String()
}
