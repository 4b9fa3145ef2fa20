package instrument

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"math"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptrace"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/net/publicsuffix"

	"kestite/core/definition"
	"kestite/core/measure"
)

// Limits on what one HTTP measurement reads and keeps.
const (
	largestHeader = 64 << 10
	keptBody      = 16 << 10
)

// phases are the instants of one exchange; zero where it did not come to that.
// Connections that are dialled at the same time note them from several goroutines.
type phases struct {
	mu                                                                                             sync.Mutex
	began, dnsStart, dnsDone, connectStart, connectDone, tlsStart, tlsDone, wrote, firstByte, done time.Time
	remote                                                                                         string
}

// http asks for the target on a fresh connection. The phases are: name lookup,
// connect, TLS handshake, first byte (from the request written to the first byte
// of the answer), body (from there to its end), and the total. Where redirects
// are followed, the phases are those of the last exchange, and the total is that of all.
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
	if set.Credential != "" && t.Secret == nil {
		return Result{Outcome: measure.Error, Detail: "the check's credential has no secret that may go there; see Set-up, Credentials"}
	}
	ctx, cancel := context.WithTimeout(ctx, t.Timeout)
	defer cancel()
	x := &exchange{set: set, secret: t.Secret, phases: &phases{}}
	began := time.Now()
	err = x.follow(ctx, s, t.Target)
	values := measure.HTTP.None()
	x.phases.fill(values)
	if err == nil {
		values[measure.HTTPTotal] = float64(x.phases.done.Sub(began)) / float64(time.Millisecond)
		values[measure.HTTPStatus], values[measure.HTTPSize], values[measure.HTTPRedirects] = float64(x.status), float64(x.size),
			float64(len(x.visited))
		if !x.expires.IsZero() {
			values[measure.HTTPDaysLeft] = time.Until(x.expires).Hours() / 24
		}
	}
	r := Result{Values: values, Findings: &measure.Findings{Remote: x.phases.remote, Tried: x.dialled.list(), Cut: x.cut, Visited: x.masked(x.visited), Notes: x.tls.notes}}
	if err != nil {
		f := failure(measure.HTTP, err)
		r.Outcome, r.Detail = f.Outcome, x.mask(f.Detail)
		var nerr net.Error
		if errors.Is(err, context.DeadlineExceeded) || errors.As(err, &nerr) && nerr.Timeout() {
			r.Detail = fmt.Sprintf("no complete answer within %d ms (%s)", t.Timeout.Milliseconds(), x.phases.reached())
		}
		if r.Outcome == measure.Error {
			r.Values = nil
			return r
		}
		values[measure.HTTPTotal] = math.NaN() // no total: it was never complete
		r.Findings.Response = x.kept()
		return r
	}
	fault, err := x.fault(ctx, expected, values)
	if err != nil {
		r.Outcome, r.Values, r.Detail = measure.Error, nil, x.mask(err.Error())
		return r
	}
	r.Outcome, r.Detail = measure.HTTP.Rate(values, t.Limits)
	if x.cut && r.Outcome < measure.Degraded {
		r.Outcome, r.Detail = measure.Degraded, fmt.Sprintf("the body is longer than the %d bytes that are read of it", x.size)
	}
	if x.cut && fault == "" && slices.ContainsFunc(t.Limits, boundsSize) {
		fault = fmt.Sprintf("the body is longer than the %d bytes that are read of it, so that its size cannot be held against its limit", x.size)
	}
	if fault != "" {
		r.Outcome, r.Detail = measure.Failed, x.mask(fault)
	}
	r = x.tls.spoken(r)
	if r.Outcome == measure.Failed {
		r.Findings.Response = x.kept()
	}
	return r
}

// boundsSize says whether a limit is an upper one on the size of the body.
func boundsSize(l measure.Limit) bool {
	return l.Measure == "size_bytes" && (l.DegradedAbove != nil || l.FailedAbove != nil)
}

// exchange is one measurement's talk with a web server.
type exchange struct {
	set    definition.HTTPSettings
	secret *Secret
	hidden *regexp.Regexp // every form of the secret; made when first needed

	phases  *phases // of the last request
	visited []string
	status  int
	proto   int
	headers http.Header
	cookies []*http.Cookie
	line    string
	body    []byte // its beginning
	size    int64
	cut     bool // the body was longer than is read
	expires time.Time
	tls     opinion // of the last handshake
	dialled dialled
	jar     http.CookieJar // what redirects set, as a browser would keep it (RFC 6265); nil before the first
}

// follow asks, and where it may follows redirects. A secret goes to the
// origins it is bound to, and nowhere else.
func (x *exchange) follow(ctx context.Context, s *Set, target string) error {
	method := x.set.Method
	if method == "" {
		method = http.MethodGet
	}
	body := x.set.Body
	first, err := url.Parse(target)
	if err != nil {
		return err
	}
	for at := first; ; {
		if err := x.once(ctx, s, method, at, body, at.Host == first.Host && at.Scheme == first.Scheme); err != nil {
			return err
		}
		where := x.headers.Get("Location")
		if x.set.Redirects == 0 || x.status < 300 || x.status > 399 || where == "" {
			return nil
		}
		x.visited = append(x.visited, at.String())
		if x.jar == nil {
			if x.jar, err = cookiejar.New(&cookiejar.Options{PublicSuffixList: publicsuffix.List}); err != nil {
				return err
			}
		}
		x.jar.SetCookies(at, x.cookies)
		next, err := at.Parse(where)
		switch {
		case err != nil || next.Scheme != "http" && next.Scheme != "https" || next.Host == "":
			return fmt.Errorf("the redirect to %q leads nowhere", where)
		case len(x.visited) > x.set.Redirects:
			circle := ""
			if slices.Contains(x.visited, next.String()) {
				circle = ", in a circle"
			}
			return fmt.Errorf("more than %d redirects%s", x.set.Redirects, circle)
		}
		// RFC 9110 §15.4: these answers are fetched, the others asked for again as they were.
		if x.status == http.StatusSeeOther || x.status <= http.StatusFound && method == http.MethodPost {
			method, body = http.MethodGet, ""
		}
		at = next
	}
}

// once makes one request and reads the answer.
func (x *exchange) once(ctx context.Context, s *Set, method string, at *url.URL, body string, home bool) error {
	x.phases = &phases{began: time.Now()}
	x.headers, x.body, x.size, x.status, x.cut = nil, nil, 0, 0, false
	req, err := http.NewRequestWithContext(x.phases.trace(ctx), method, at.String(), strings.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("User-Agent", "Kestite")
	for _, h := range x.set.Headers {
		if strings.EqualFold(h.Name, "Host") {
			req.Host = h.Value
			continue
		}
		req.Header.Set(h.Name, h.Value)
	}
	if x.secret.mayGoTo(at, home) {
		x.secret.Sign(req)
	}
	if x.jar != nil {
		for _, c := range x.jar.Cookies(at) {
			req.AddCookie(c)
		}
	}
	req.Close = true
	x.tls = opinion{}
	transport := s.transport(x.set, at.Hostname(), &x.dialled, &x.tls)
	defer transport.CloseIdleConnections()
	resp, err := transport.RoundTrip(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	x.status, x.proto, x.headers, x.line = resp.StatusCode, resp.ProtoMajor, resp.Header, resp.Proto+" "+resp.Status
	x.cookies = resp.Cookies()
	if resp.TLS != nil && len(resp.TLS.PeerCertificates) > 0 {
		x.expires = resp.TLS.PeerCertificates[0].NotAfter
	}
	most := x.set.MostBody()
	x.body, err = io.ReadAll(io.LimitReader(resp.Body, min(x.searched(), most)))
	x.size = int64(len(x.body))
	if err != nil {
		return err
	}
	rest, err := io.Copy(io.Discard, io.LimitReader(resp.Body, most+1-x.size))
	x.phases.done = time.Now()
	x.size += rest
	if x.cut = x.size > most; x.cut {
		x.size = most
	}
	return err
}

// searched is how much of a body is kept to be looked through: little, unless
// something is looked for.
func (x *exchange) searched() int64 {
	if x.set.Text+x.set.Pattern+x.set.ForbiddenText+x.set.ForbiddenPattern+x.set.JSONPath == "" {
		return keptBody
	}
	if x.set.JSONPath != "" {
		return mostJSON
	}
	return definition.UsualBody
}

func (s *Set) transport(set definition.HTTPSettings, host string, notes *dialled, seen *opinion) *http.Transport {
	dialTo := func(ctx context.Context, _, address string) (net.Conn, error) {
		host, text, err := net.SplitHostPort(address)
		if err != nil {
			return nil, err
		}
		port, err := strconv.ParseUint(text, 10, 16)
		if err != nil {
			return nil, err
		}
		list, err := s.addresses(ctx, host)
		if err != nil {
			return nil, err
		}
		return dial(ctx, list, uint16(port), notes)
	}
	config := s.handshake(host)
	config.VerifyConnection = func(state tls.ConnectionState) error {
		*seen = judge(state, definition.CertificateSettings{ServerName: host, WaiveTrust: set.WaiveTrust}, s.Roots, s.now())
		if len(seen.faults) > 0 {
			return &errUntaken{*seen}
		}
		return nil
	}
	protocols := new(http.Protocols)
	protocols.SetHTTP1(set.Version != "2")
	protocols.SetHTTP2(set.Version != "1.1")
	protocols.SetUnencryptedHTTP2(set.Version == "2")
	return &http.Transport{
		DialContext:            dialTo,
		TLSClientConfig:        config,
		DisableKeepAlives:      true,
		DisableCompression:     true, // sizes are those on the wire, and nothing unpacks to more
		Protocols:              protocols,
		MaxResponseHeaderBytes: largestHeader,
	}
}

// fault says what is wrong with an answer, apart from limits, and finds the value in
// it. The error is that it could not be found out.
func (x *exchange) fault(ctx context.Context, expected definition.StatusSet, values []float64) (string, error) {
	switch {
	case !expected.Contains(x.status):
		return fmt.Sprintf("status %d is not in %s", x.status, x.set.Status), nil
	case x.set.Version == "2" && x.proto != 2:
		return "the answer is not HTTP/2", nil
	case x.set.Text+x.set.Pattern+x.set.ForbiddenText+x.set.ForbiddenPattern+x.set.JSONPath == "":
		return "", nil
	}
	body := readable(x.body, x.headers, !x.cut && x.size == int64(len(x.body)), x.searched())
	if body.fault != "" {
		return "the answer cannot be searched: " + body.fault, nil
	}
	read := fmt.Sprintf("in the first %d bytes", len(body.bytes))
	for _, look := range []struct {
		text, pattern string
		forbidden     bool
		says          string
	}{
		{text: x.set.Text, says: fmt.Sprintf("the text %q is not %s", x.set.Text, read)},
		{pattern: x.set.Pattern, says: fmt.Sprintf("nothing matches %q %s", x.set.Pattern, read)},
		{text: x.set.ForbiddenText, forbidden: true, says: fmt.Sprintf("the forbidden text %q is in the answer", x.set.ForbiddenText)},
		{pattern: x.set.ForbiddenPattern, forbidden: true, says: fmt.Sprintf("the forbidden pattern %q matches the answer", x.set.ForbiddenPattern)},
	} {
		if look.text+look.pattern == "" {
			continue
		}
		found := look.text != "" && bytes.Contains(body.bytes, []byte(look.text))
		if look.pattern != "" {
			re, err := definition.Pattern(look.pattern)
			if err != nil {
				return "", err
			}
			if found, err = matches(ctx, re, body.bytes); err != nil {
				return "", fmt.Errorf("%q was looked for %s, and %w; write it simpler", look.pattern, read, err)
			}
		}
		if found == look.forbidden {
			return look.says, nil
		}
	}
	if !body.whole && x.set.ForbiddenText+x.set.ForbiddenPattern != "" {
		return fmt.Sprintf("the body is longer than the %d bytes that are searched of it, so that nobody knows whether what is forbidden stands behind them", len(body.bytes)), nil
	}
	if x.set.JSONPath != "" {
		if !body.whole {
			return fmt.Sprintf("the answer is longer than the %d bytes that are read of JSON", len(body.bytes)), nil
		}
		v, err := number(ctx, body.bytes, x.set.JSONPath)
		if errors.Is(err, errSlow) {
			return "", fmt.Errorf("%s was looked for, and %w", x.set.JSONPath, err)
		}
		if err != nil {
			return err.Error(), nil
		}
		values[measure.HTTPValue] = v
	}
	return "", nil
}

// kept is the answer as it is kept for people to look at; nil where there was none.
func (x *exchange) kept() *measure.Response {
	if x.headers == nil {
		return nil
	}
	out := &measure.Response{Status: x.line, Headers: []string{}}
	for name, list := range x.headers {
		for _, v := range list {
			if definition.SecretName(name) {
				v = masked
			}
			out.Headers = append(out.Headers, x.mask(name+": "+v))
		}
	}
	slices.Sort(out.Headers)
	seen := readable(x.body[:min(len(x.body), keptBody)], x.headers, false, keptBody)
	if seen.fault != "" {
		seen.bytes = x.body[:min(len(x.body), keptBody)]
	}
	text := x.mask(strings.ToValidUTF8(string(seen.bytes), "\uFFFD"))
	if len(text) > keptBody {
		text = strings.ToValidUTF8(text[:keptBody], "")
	}
	out.Body, out.Cut = text, x.size > keptBody || x.cut || len(text) == keptBody
	return out
}

func (p *phases) trace(ctx context.Context) context.Context {
	now := func(at *time.Time) {
		p.mu.Lock()
		defer p.mu.Unlock()
		*at = time.Now()
	}
	return httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{
		DNSStart: func(httptrace.DNSStartInfo) { now(&p.dnsStart) },
		DNSDone:  func(httptrace.DNSDoneInfo) { now(&p.dnsDone) },
		ConnectStart: func(string, string) {
			p.mu.Lock()
			defer p.mu.Unlock()
			if p.connectStart.IsZero() {
				p.connectStart = time.Now()
			}
		},
		ConnectDone: func(_, _ string, err error) {
			if err == nil {
				now(&p.connectDone)
			}
		},
		GotConn: func(c httptrace.GotConnInfo) {
			if host, _, err := net.SplitHostPort(c.Conn.RemoteAddr().String()); err == nil {
				p.remote = host
			}
		},
		TLSHandshakeStart: func() { now(&p.tlsStart) },
		TLSHandshakeDone: func(_ tls.ConnectionState, err error) {
			if err == nil {
				now(&p.tlsDone)
			}
		},
		WroteRequest:         func(httptrace.WroteRequestInfo) { now(&p.wrote) },
		GotFirstResponseByte: func() { now(&p.firstByte) },
	})
}

func (p *phases) fill(values []float64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	ms := func(from, to time.Time) float64 {
		if from.IsZero() || to.IsZero() || to.Before(from) {
			return math.NaN()
		}
		return float64(to.Sub(from)) / float64(time.Millisecond)
	}
	values[measure.HTTPLookup] = ms(p.dnsStart, p.dnsDone)
	values[measure.HTTPConnect] = ms(p.connectStart, p.connectDone)
	values[measure.HTTPTLS] = ms(p.tlsStart, p.tlsDone)
	values[measure.HTTPFirstByte] = ms(p.wrote, p.firstByte)
	values[measure.HTTPBody] = ms(p.firstByte, p.done)
}

// reached says how far an exchange came.
func (p *phases) reached() string {
	p.mu.Lock()
	defer p.mu.Unlock()
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
