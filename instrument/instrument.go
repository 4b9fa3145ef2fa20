// Package instrument makes single measurements on real sockets, a file for each
// kind of check. It needs no server: what it is told to measure comes in, a
// result goes out.
package instrument

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"math"
	"net"
	"net/netip"
	"strings"
	"syscall"
	"time"

	"kestite/core/definition"
	"kestite/core/measure"
)

// Task is one measurement to make.
type Task struct {
	Kind    string
	Target  string
	Timeout time.Duration
	Limits  []measure.Limit
	definition.Settings
	// Secret is what the check's credential stands for; nil where it has none.
	Secret *Secret
}

// Result is what came of a task. Values are in the order of the kind's measures.
type Result struct {
	Outcome  measure.Outcome
	Values   []float64
	Detail   string
	Findings *measure.Findings
}

// Measures are the values by name, without those that are absent, in
// thousandths: a microsecond is as fine as clocks are.
func (r Result) Measures(kind string) map[string]float64 {
	k, _ := measure.KindNamed(kind)
	out := map[string]float64{}
	for i, v := range r.Values {
		if !math.IsNaN(v) {
			out[k.Measures[i].Name] = math.Round(v*1000) / 1000
		}
	}
	return out
}

// Set holds what measurements share: the ICMP sockets. It is safe for
// concurrent use. Close it in the end.
type Set struct {
	// Roots are the certificates that TLS has to lead to; nil is the system's. Set it before use.
	Roots *x509.CertPool
	// Now is the clock that certificates are judged by; nil is time.Now. Set it before use.
	Now func() time.Time
	// Flows names the process: paths traced under one name keep their flows for
	// ever, and those of others on the same host have flows of their own. Set it
	// before use.
	Flows  string
	policy *Policy
	pinger *pinger
	tracer *tracer
}

// NewSet returns a set that measures what the policy allows; sockets are opened
// when first needed.
func NewSet(policy *Policy) *Set {
	return &Set{policy: policy, pinger: newPinger(), tracer: newTracer()}
}

func (s *Set) now() time.Time {
	if s.Now == nil {
		return time.Now()
	}
	return s.Now()
}

// Close closes the shared sockets.
func (s *Set) Close() {
	s.pinger.close()
	s.tracer.close()
}

// What an agent's sockets allow.
const (
	SocketsRaw  = "raw"      // everything
	SocketsUser = "datagram" // ping, and paths by ICMP and UDP
	SocketsNone = "none"     // no ping, paths by UDP alone
)

// Sockets says which ICMP sockets this process may open.
func (s *Set) Sockets() string {
	if p, err := s.pinger.socket(true); err == nil {
		if p.conn.raw {
			return SocketsRaw
		}
		return SocketsUser
	}
	return SocketsNone
}

// Measure makes one measurement. It returns after the task's timeout at the
// latest (for ping, after the last packet's), whatever the target does.
func (s *Set) Measure(ctx context.Context, t Task) Result {
	switch t.Kind {
	case measure.Ping.Name:
		return s.ping(ctx, t)
	case measure.HTTP.Name:
		return s.http(ctx, t)
	case measure.TCP.Name:
		return s.tcp(ctx, t)
	case measure.Certificate.Name:
		return s.certificate(ctx, t)
	case measure.DNS.Name:
		return s.dns(ctx, t)
	case measure.Path.Name:
		return s.path(ctx, t)
	case measure.UDP.Name:
		return s.udp(ctx, t)
	}
	return Result{Outcome: measure.Error, Detail: fmt.Sprintf("this agent cannot measure %q; update it", t.Kind)}
}

// judged applies the limits to values that were measured.
func judged(kind measure.Kind, values []float64, limits []measure.Limit) Result {
	outcome, why := kind.Rate(values, limits)
	return Result{Outcome: outcome, Values: values, Detail: why}
}

// resolve finds the address of a target to send packets to: the first of those
// that a connection would try.
func (s *Set) resolve(ctx context.Context, host string) (netip.Addr, error) {
	list, err := s.addresses(ctx, host)
	if err != nil {
		return netip.Addr{}, err
	}
	return list[0], nil
}

// errOwn is trouble of the agent itself.
type errOwn struct{ error }

func (e *errOwn) Unwrap() error { return e.error }

// ours says whether an error is the agent's own trouble, so that nothing is
// known about the target.
func ours(err error) bool {
	var policy *errForbidden
	var own *errOwn
	return ownResolver(err) || errors.As(err, &policy) || errors.As(err, &own) || errors.Is(err, syscall.EMFILE) || errors.Is(err, syscall.ENFILE) ||
		errors.Is(err, syscall.ENOBUFS) || errors.Is(err, syscall.ENOMEM) || errors.Is(err, syscall.EPERM) || errors.Is(err, syscall.EACCES)
}

// ownResolver says whether a name could not be looked up because this machine's
// own resolver does not answer; one that answers, whatever it says, is heard.
func ownResolver(err error) bool {
	var lookup *net.DNSError
	if !errors.As(err, &lookup) || lookup.IsNotFound {
		return false
	}
	return lookup.IsTimeout || noWay(err) || errors.Is(err, syscall.ECONNREFUSED) ||
		strings.Contains(lookup.Err, "connection refused") || strings.Contains(lookup.Err, "unreachable")
}

func noWay(err error) bool {
	return errors.Is(err, syscall.ENETUNREACH) || errors.Is(err, syscall.EHOSTUNREACH) || errors.Is(err, syscall.ENETDOWN)
}

// failure turns an error into a result: failed with the reason, or error where
// the trouble is the agent's own.
func failure(kind measure.Kind, err error) Result {
	r := Result{Outcome: measure.Failed, Values: kind.None(), Detail: reason(err)}
	if ours(err) {
		r.Outcome, r.Values = measure.Error, nil
	}
	return r
}

func reason(err error) string {
	var dns *net.DNSError
	var untaken *errUntaken
	switch words := handshakeFailure(err); {
	case errors.As(err, &untaken):
		return untaken.Error()
	case words != "":
		return words
	case errors.Is(err, io.EOF):
		return "the connection was closed without an answer"
	case errors.As(err, &dns) && dns.IsNotFound:
		return fmt.Sprintf("the name %s does not resolve", dns.Name)
	case ownResolver(err):
		errors.As(err, &dns)
		return fmt.Sprintf("the agent's own resolver does not answer, so the name %s cannot be looked up", dns.Name)
	case errors.As(err, &dns) && dns.IsTimeout:
		return fmt.Sprintf("the name %s could not be looked up in time", dns.Name)
	case errors.As(err, &dns):
		return fmt.Sprintf("the name %s could not be looked up: the resolver answers that it cannot", dns.Name)
	case errors.Is(err, io.ErrUnexpectedEOF):
		return "the connection was closed before the answer was complete"
	case errors.Is(err, syscall.ECONNREFUSED):
		return "connection refused"
	case errors.Is(err, syscall.ECONNRESET):
		return "connection reset"
	case errors.Is(err, syscall.EHOSTUNREACH):
		return "host unreachable"
	case errors.Is(err, syscall.ENETUNREACH):
		return "network unreachable"
	}
	if words := brokenHTTP(err); words != "" {
		return words
	}
	var own *errOwn
	var number syscall.Errno
	if !errors.As(err, &own) && errors.As(err, &number) {
		return "the system says: " + number.Error()
	}
	return err.Error()
}

// brokenHTTP is what a server does wrong by HTTP, which the library tells in words
// of its own; empty where err is something else.
func brokenHTTP(err error) string {
	text := err.Error()
	for _, w := range []struct{ part, says string }{
		{"chunk", "the answer's chunks are not as HTTP has them (RFC 9112 §7.1)"},
		{"headers exceeded", fmt.Sprintf("the headers of the answer are longer than %d KiB, and no more is read", largestHeader>>10)},
		{"header list larger", fmt.Sprintf("the headers of the answer are longer than %d KiB, and no more is read", largestHeader>>10)},
		{"gave HTTP response to HTTPS client", "connected, but what answers does not speak TLS"},
		{"malformed", "what answers does not speak HTTP (RFC 9112)"},
		{"transport connection broken", "what answers does not speak HTTP (RFC 9112)"},
		{"http2: ", "what answers does not keep to HTTP/2 (RFC 9113)"},
		{"stream error", "the server breaks the answer off (RFC 9113 §5.4)"},
		{"server closed idle connection", "the connection was closed without an answer"},
		{"unexpected protocol", "what answers does not keep to HTTP/2 (RFC 9113)"},
	} {
		if strings.Contains(text, w.part) {
			return w.says
		}
	}
	return ""
}
