package instrument

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"time"

	"kestite/core/definition"
	"kestite/core/measure"
)

// connected is a TCP connection with what it took to get it.
type connected struct {
	net.Conn
	lookup, connect time.Duration // lookup is 0 for an address
}

// connect looks the target up and connects to the first address it gets, IPv4
// first. The error says how far it came.
func connect(ctx context.Context, target string) (*connected, error) {
	host, port, err := definition.HostPort(target)
	if err != nil {
		return nil, &errOwn{err}
	}
	c := &connected{}
	began := time.Now()
	addr, err := resolve(ctx, host)
	if err != nil {
		return nil, err
	}
	if _, err := netip.ParseAddr(host); err != nil {
		c.lookup = time.Since(began)
	}
	began = time.Now()
	c.Conn, err = (&net.Dialer{}).DialContext(ctx, "tcp", netip.AddrPortFrom(addr, uint16(port)).String())
	c.connect = time.Since(began)
	if err != nil {
		return nil, err
	}
	return c, nil
}

// tcp connects and closes: the three-way handshake (RFC 9293 §3.5) is measured,
// nothing is sent.
func (s *Set) tcp(ctx context.Context, t Task) Result {
	ctx, cancel := context.WithTimeout(ctx, t.Timeout)
	defer cancel()
	c, err := connect(ctx, t.Target)
	if err != nil {
		return timedOut(failure(measure.TCP, err), err, t.Timeout, "no connection")
	}
	defer c.Close()
	values := measure.TCP.None()
	values[1] = milliseconds(c.connect)
	if c.lookup > 0 {
		values[0] = milliseconds(c.lookup)
	}
	return judged(measure.TCP, values, t.Limits)
}

// timedOut says what did not come in time where that is what went wrong.
func timedOut(r Result, err error, timeout time.Duration, what string) Result {
	var n net.Error
	if errors.Is(err, context.DeadlineExceeded) || errors.As(err, &n) && n.Timeout() {
		r.Detail = fmt.Sprintf("%s within %d ms", what, timeout.Milliseconds())
	}
	return r
}

func milliseconds(d time.Duration) float64 { return float64(d) / float64(time.Millisecond) }
