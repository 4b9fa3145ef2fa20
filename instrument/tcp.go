package instrument

import (
	"context"
	"errors"
	"fmt"
	"net"
	"time"

	"kestite/core/measure"
)

// tcp connects and closes: the three-way handshake (RFC 9293 §3.5) is measured,
// nothing is sent.
func (s *Set) tcp(ctx context.Context, t Task) Result {
	ctx, cancel := context.WithTimeout(ctx, t.Timeout)
	defer cancel()
	c, err := s.connect(ctx, t.Target)
	if err != nil {
		return timedOut(failure(measure.TCP, err), err, t.Timeout, "no connection")
	}
	defer c.Close()
	values := measure.TCP.None()
	values[measure.TCPConnect] = milliseconds(c.connect)
	if c.lookup > 0 {
		values[measure.TCPLookup] = milliseconds(c.lookup)
	}
	r := judged(measure.TCP, values, t.Limits)
	r.Findings = c.findings()
	return r
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
