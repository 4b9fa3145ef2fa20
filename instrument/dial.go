package instrument

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"time"

	"kestite/core/definition"
	"kestite/core/measure"
)

// One rule for all kinds of check that connect: every address of the name is
// tried, the families in turn and IPv4 first, one 250 ms after the other or at
// once when the one before failed; the first that answers is taken (RFC 8305
// §4, §5, with the order of families turned round). Kinds that send packets
// without connecting take the first address.

// stagger is how long one address has before the next is tried beside it (RFC 8305 §8).
const stagger = 250 * time.Millisecond

// mostAddresses bounds how many addresses of a name are tried.
const mostAddresses = 20

// addresses looks a host up, in the order in which it is to be tried; forbidden
// ones are left out, and named where nothing else is left.
func (s *Set) addresses(ctx context.Context, host string) ([]netip.Addr, error) {
	if addr, err := netip.ParseAddr(host); err == nil {
		addr = addr.Unmap()
		return []netip.Addr{addr}, s.policy.allowed(addr)
	}
	ascii, err := definition.ASCIIName(host)
	if err != nil {
		return nil, &errOwn{err}
	}
	found, err := net.DefaultResolver.LookupNetIP(ctx, "ip", ascii)
	if err != nil {
		return nil, err
	}
	var families [2][]netip.Addr
	var refused error
	for _, a := range found {
		a = a.Unmap()
		if err := s.policy.allowed(a); err != nil {
			refused = err
			continue
		}
		family := 1
		if a.Is4() {
			family = 0
		}
		families[family] = append(families[family], a)
	}
	var out []netip.Addr
	for i := range max(len(families[0]), len(families[1])) {
		for _, list := range families {
			if i < len(list) {
				out = append(out, list[i])
			}
		}
	}
	if len(out) == 0 {
		return nil, refused
	}
	return out[:min(len(out), mostAddresses)], nil
}

// dialled is what came of trying addresses.
type dialled struct {
	mu    sync.Mutex
	tried []string
}

func (d *dialled) note(addr netip.Addr, err error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if errors.Is(err, context.Canceled) {
		return // another one was faster
	}
	d.tried = append(d.tried, fmt.Sprintf("%s: %s", addr, reason(err)))
}

// list are the addresses that did not answer, each with why.
func (d *dialled) list() []string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return append([]string(nil), d.tried...)
}

// dial connects to the first of addresses that answers. The error is that of the
// first address, which says most.
func dial(ctx context.Context, list []netip.Addr, port uint16, notes *dialled) (net.Conn, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	type outcome struct {
		conn net.Conn
		err  error
		n    int
	}
	answers := make(chan outcome, len(list))
	start := func(n int) {
		conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", netip.AddrPortFrom(list[n], port).String())
		if err != nil && noRoute(list[n]) {
			err = &errOwn{fmt.Errorf("this machine has no route to %s: %w", list[n], err)}
		}
		answers <- outcome{conn, err, n}
	}
	errs := make([]error, len(list))
	next, open := 0, 0
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		select {
		case <-timer.C:
			if next < len(list) {
				go start(next)
				next, open = next+1, open+1
				timer.Reset(stagger)
			}
		case o := <-answers:
			if open--; o.err == nil {
				go func() { // those that come too late
					for range open {
						if late := <-answers; late.conn != nil {
							late.conn.Close()
						}
					}
				}()
				return o.conn, nil
			}
			errs[o.n] = o.err
			notes.note(list[o.n], o.err)
			if next < len(list) {
				timer.Reset(0)
			} else if open == 0 {
				return nil, worst(errs)
			}
		}
	}
}

// worst is the error that says most of a target: one that is the target's and
// not ours, where there is one.
func worst(errs []error) error {
	for _, err := range errs {
		if err != nil && !ours(err) {
			return err
		}
	}
	return errs[0]
}

// noRoute says whether this machine itself has no way to an address: the kernel
// answers that without sending anything.
func noRoute(addr netip.Addr) bool {
	conn, err := net.DialUDP("udp", nil, net.UDPAddrFromAddrPort(netip.AddrPortFrom(addr, 9)))
	if err != nil {
		return noWay(err)
	}
	conn.Close()
	return false
}

// connected is a TCP connection with what it took to get it.
type connected struct {
	net.Conn
	lookup, connect time.Duration // lookup is 0 for an address
	dialled         dialled
}

// findings name who answered, and who did not.
func (c *connected) findings() *measure.Findings {
	out := &measure.Findings{Tried: c.dialled.list()}
	if host, _, err := net.SplitHostPort(c.RemoteAddr().String()); err == nil {
		out.Remote = host
	}
	return out
}

// connect looks the target up and connects to it. The error says how far it came.
func (s *Set) connect(ctx context.Context, target string) (*connected, error) {
	host, port, err := definition.HostPort(target)
	if err != nil {
		return nil, &errOwn{err}
	}
	c := &connected{}
	began := time.Now()
	list, err := s.addresses(ctx, host)
	if err != nil {
		return nil, err
	}
	if _, err := netip.ParseAddr(host); err != nil {
		c.lookup = time.Since(began)
	}
	began = time.Now()
	c.Conn, err = dial(ctx, list, uint16(port), &c.dialled)
	c.connect = time.Since(began)
	if err != nil {
		return nil, err
	}
	return c, nil
}
