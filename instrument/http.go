package instrument

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"math"
	"net"
	"net/http"
	"net/http/httptrace"
	"net/netip"
	"strings"
	"syscall"
	"time"

	"kestite/core/definition"
	"kestite/core/measure"
)

// Limits on what one HTTP measurement reads.
const (
	largestBody   = 16 << 20
	searchedBody  = 1 << 20
	largestHeader = 64 << 10
)

// phases are the instants of one exchange; zero where it did not come to that.
type phases struct {
	began, dnsStart, dnsDone, connectStart, connectDone, tlsStart, tlsDone, wrote, firstByte, done time.Time
}

// http asks for the target with GET on a fresh connection and does not follow
// redirects. The phases are: name lookup, connect, TLS handshake, first byte
// (from the request written to the first byte of the answer), and the total.
func (s *Set) http(ctx context.Context, t Task) Result {
	var set definition.HTTPSettings
	if t.HTTP != nil {
		set = *t.HTTP
	}
	if set.Status == "" {
		set.Status = "200-399"
	}
	expected, err := definition.ParseStatusSet(set.Status)
	if err != nil {
		return Result{Outcome: measure.Error, Detail: err.Error()}
	}
	ctx, cancel := context.WithTimeout(ctx, t.Timeout)
	defer cancel()
	var p phases
	p.began = time.Now()
	status, size, body, err := fetch(p.trace(ctx), t.Target, s.Roots)
	p.done = time.Now()
	if err != nil {
		r := failure(measure.HTTP, err)
		var nerr net.Error
		if errors.Is(err, context.DeadlineExceeded) || errors.As(err, &nerr) && nerr.Timeout() {
			r.Detail = fmt.Sprintf("no complete answer within %d ms (%s)", t.Timeout.Milliseconds(), p.reached())
		}
		if r.Values != nil {
			p.fill(r.Values)
			r.Values[0] = math.NaN() // no total: it was never complete
		}
		return r
	}
	values := measure.HTTP.None()
	p.fill(values)
	values[5], values[6] = float64(status), float64(size)
	r := judged(measure.HTTP, values, t.Limits)
	switch {
	case !expected.Contains(status):
		r.Outcome, r.Detail = measure.Failed, fmt.Sprintf("status %d is not in %s", status, set.Status)
	case set.Text != "" && !bytes.Contains(body, []byte(set.Text)):
		r.Outcome, r.Detail = measure.Failed, fmt.Sprintf("the text %q is not in the first %d bytes", set.Text, len(body))
	}
	return r
}

func fetch(ctx context.Context, target string, roots *x509.CertPool) (status int, size int64, body []byte, err error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, target, nil)
	if err != nil {
		return 0, 0, nil, err
	}
	req.Header.Set("User-Agent", "Kestite")
	req.Close = true
	dialer := &net.Dialer{Control: func(_, address string, _ syscall.RawConn) error {
		ap, err := netip.ParseAddrPort(address)
		if err != nil {
			return err
		}
		return allowed(ap.Addr())
	}}
	transport := &http.Transport{
		DialContext:            dialer.DialContext,
		TLSClientConfig:        &tls.Config{MinVersion: tls.VersionTLS12, RootCAs: roots},
		DisableKeepAlives:      true,
		ForceAttemptHTTP2:      true,
		MaxResponseHeaderBytes: largestHeader,
	}
	defer transport.CloseIdleConnections()
	resp, err := transport.RoundTrip(req)
	if err != nil {
		return 0, 0, nil, err
	}
	defer resp.Body.Close()
	body, err = io.ReadAll(io.LimitReader(resp.Body, searchedBody))
	if err != nil {
		return 0, 0, nil, err
	}
	rest, err := io.Copy(io.Discard, io.LimitReader(resp.Body, largestBody))
	return resp.StatusCode, int64(len(body)) + rest, body, err
}

func (p *phases) trace(ctx context.Context) context.Context {
	now := func(at *time.Time) { *at = time.Now() }
	return httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{
		DNSStart: func(httptrace.DNSStartInfo) { now(&p.dnsStart) },
		DNSDone:  func(httptrace.DNSDoneInfo) { now(&p.dnsDone) },
		ConnectStart: func(string, string) {
			if p.connectStart.IsZero() {
				now(&p.connectStart)
			}
		},
		ConnectDone: func(_, _ string, err error) {
			if err == nil {
				now(&p.connectDone)
			}
		},
		TLSHandshakeStart:    func() { now(&p.tlsStart) },
		TLSHandshakeDone:     func(tls.ConnectionState, error) { now(&p.tlsDone) },
		WroteRequest:         func(httptrace.WroteRequestInfo) { now(&p.wrote) },
		GotFirstResponseByte: func() { now(&p.firstByte) },
	})
}

func (p *phases) fill(values []float64) {
	ms := func(from, to time.Time) float64 {
		if from.IsZero() || to.IsZero() || to.Before(from) {
			return math.NaN()
		}
		return float64(to.Sub(from)) / float64(time.Millisecond)
	}
	values[0] = ms(p.began, p.done)
	values[1] = ms(p.dnsStart, p.dnsDone)
	values[2] = ms(p.connectStart, p.connectDone)
	values[3] = ms(p.tlsStart, p.tlsDone)
	values[4] = ms(p.wrote, p.firstByte)
}

// reached says how far an exchange came.
func (p *phases) reached() string {
	var steps []string
	for _, s := range []struct {
		at   time.Time
		name string
	}{{p.dnsDone, "name looked up"}, {p.connectDone, "connected"}, {p.tlsDone, "TLS up"}, {p.wrote, "request sent"}, {p.firstByte, "answer begun"}} {
		if !s.at.IsZero() {
			steps = append(steps, s.name)
		}
	}
	if len(steps) == 0 {
		return "not connected"
	}
	return strings.Join(steps, ", ")
}
