package instrument

import (
	"context"
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
	if host, port, err := net.SplitHostPort(server); err == nil {
		addr, err := resolve(ctx, host)
		if err != nil {
			return failure(measure.DNS, err)
		}
		server = net.JoinHostPort(addr.String(), port)
	}
	kind := dns.StringToType[set.Type]
	ask := new(dns.Msg)
	ask.SetQuestion(dns.Fqdn(t.Target), kind)
	const datagram = 1232 // bytes that cross the internet unfragmented (DNS flag day 2020)
	ask.SetEdns0(datagram, set.Signed)
	ask.AuthenticatedData = set.Signed // RFC 6840 §5.7: says that we understand the flag
	began := time.Now()
	answer, _, err := (&dns.Client{Net: "udp", UDPSize: datagram, Timeout: t.Timeout}).ExchangeContext(ctx, ask, server)
	if err == nil && answer.Truncated {
		answer, _, err = (&dns.Client{Net: "tcp", Timeout: t.Timeout}).ExchangeContext(ctx, ask, server)
	}
	took := time.Since(began)
	if err != nil {
		return timedOut(failure(measure.DNS, err), err, t.Timeout, fmt.Sprintf("no answer from %s", server))
	}
	values := measure.DNS.None()
	values[0], values[1] = milliseconds(took), 0
	var data []string
	for _, r := range answer.Answer {
		if r.Header().Rrtype == kind {
			values[1]++
			data = append(data, recordData(r))
		}
		if ttl := float64(r.Header().Ttl); math.IsNaN(values[2]) || ttl < values[2] {
			values[2] = ttl
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
		return fail("%s answers %s", server, dns.RcodeToString[answer.Rcode])
	case len(data) == 0:
		return fail("%s has no %s record for %s", server, set.Type, t.Target)
	case set.Expect != "" && !contains(data, set.Expect):
		return fail("expected %s, and the answer is %s", set.Expect, strings.Join(data, ", "))
	case set.Signed && !answer.AuthenticatedData:
		return fail("the answer is not verified by DNSSEC: %s did not set the AD flag", server)
	}
	return r
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

// recordData is a record without its name, class and time to live.
func recordData(r dns.RR) string {
	text := strings.TrimSpace(strings.TrimPrefix(r.String(), r.Header().String()))
	return strings.Trim(text, `"`)
}

// contains compares names without case and the last dot, addresses by value.
func contains(data []string, want string) bool {
	plain := func(s string) string {
		if addr, err := netip.ParseAddr(s); err == nil {
			return addr.String()
		}
		return strings.ToLower(strings.TrimSuffix(s, "."))
	}
	for _, d := range data {
		if plain(d) == plain(want) {
			return true
		}
	}
	return false
}
