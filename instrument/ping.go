package instrument

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"net"
	"net/netip"
	"os"
	"sync"
	"time"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"

	"kestite/core/definition"
	"kestite/core/measure"
)

// ping sends ICMP echo requests (RFC 792, RFC 4443 §4) and sums up the answers.
func (s *Set) ping(ctx context.Context, t Task) Result {
	set := definition.PingSettings{Packets: 5, SizeBytes: 56, SpacingMS: 200}
	if t.Ping != nil {
		set = *t.Ping
	}
	lookup, cancel := context.WithTimeout(ctx, t.Timeout)
	defer cancel()
	addr, err := resolve(lookup, t.Target)
	if err != nil {
		return failure(measure.Ping, err)
	}
	rtts, err := s.pinger.echo(ctx, addr, set, t.Timeout)
	if err != nil {
		return failure(measure.Ping, err)
	}
	values := measure.RoundTrips(rtts)
	r := judged(measure.Ping, values, t.Limits)
	if values[0] == 100 {
		r.Outcome = measure.Failed
		r.Detail = fmt.Sprintf("no answer to %d packets from %s within %d ms", len(rtts), addr, t.Timeout.Milliseconds())
	}
	return r
}

// pinger shares one ICMP socket per address family among all measurements.
type pinger struct {
	mu      sync.Mutex
	sockets map[bool]*icmpSocket // by "is IPv4"
}

func newPinger() *pinger { return &pinger{sockets: map[bool]*icmpSocket{}} }

func (p *pinger) close() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, s := range p.sockets {
		s.conn.Close()
	}
	p.sockets = map[bool]*icmpSocket{}
}

func (p *pinger) socket(v4 bool) (*icmpSocket, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if s := p.sockets[v4]; s != nil {
		return s, nil
	}
	s, err := openICMP(v4)
	if err == nil {
		p.sockets[v4] = s
	}
	return s, err
}

// icmpSocket sends echo requests and hands each reply to who waits for it. A
// request carries a random token as the first eight bytes of its payload.
type icmpSocket struct {
	conn *icmp.PacketConn
	raw  bool
	v4   bool
	id   int

	mu      sync.Mutex
	waiting map[uint64]chan<- time.Time
}

// receiveBuffer keeps bursts of replies: the default loses some at thousands a second.
const receiveBuffer = 4 << 20

func openICMP(v4 bool) (*icmpSocket, error) {
	type way struct {
		network, listen string
		raw             bool
	}
	ways := []way{{"ip4:icmp", "0.0.0.0", true}, {"udp4", "0.0.0.0", false}}
	if !v4 {
		ways = []way{{"ip6:ipv6-icmp", "::", true}, {"udp6", "::", false}}
	}
	var failed error
	for _, w := range ways {
		conn, err := icmp.ListenPacket(w.network, w.listen)
		if err != nil {
			failed = errors.Join(failed, err)
			continue
		}
		s := &icmpSocket{conn: conn, raw: w.raw, v4: v4, id: os.Getpid() & 0xffff, waiting: map[uint64]chan<- time.Time{}}
		s.tune()
		go s.receive()
		return s, nil
	}
	return nil, fmt.Errorf("no ICMP socket may be opened: give the agent CAP_NET_RAW, or put its group into net.ipv4.ping_group_range (%w)", failed)
}

// tune enlarges the buffer and lets the kernel drop what is not an echo reply.
func (s *icmpSocket) tune() {
	if s.v4 {
		if c := s.conn.IPv4PacketConn(); c != nil {
			if b, ok := c.PacketConn.(interface{ SetReadBuffer(int) error }); ok {
				b.SetReadBuffer(receiveBuffer)
			}
			if s.raw {
				var f ipv4.ICMPFilter
				f.SetAll(true)
				f.Accept(ipv4.ICMPTypeEchoReply)
				c.SetICMPFilter(&f)
			}
		}
		return
	}
	if c := s.conn.IPv6PacketConn(); c != nil {
		if b, ok := c.PacketConn.(interface{ SetReadBuffer(int) error }); ok {
			b.SetReadBuffer(receiveBuffer)
		}
		if s.raw {
			var f ipv6.ICMPFilter
			f.SetAll(true)
			f.Accept(ipv6.ICMPTypeEchoReply)
			c.SetICMPFilter(&f)
		}
	}
}

func (s *icmpSocket) receive() {
	buf := make([]byte, 1<<16)
	protocol := 1 // ICMP; 58 is ICMPv6 (IANA protocol numbers)
	if !s.v4 {
		protocol = 58
	}
	for {
		n, _, err := s.conn.ReadFrom(buf)
		at := time.Now()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			continue
		}
		m, err := icmp.ParseMessage(protocol, buf[:n])
		if err != nil || m.Type != ipv4.ICMPTypeEchoReply && m.Type != ipv6.ICMPTypeEchoReply {
			continue
		}
		echo, ok := m.Body.(*icmp.Echo)
		if !ok || len(echo.Data) < 8 || s.raw && echo.ID != s.id {
			continue
		}
		token := binary.BigEndian.Uint64(echo.Data)
		s.mu.Lock()
		who := s.waiting[token]
		delete(s.waiting, token)
		s.mu.Unlock()
		if who != nil {
			who <- at
		}
	}
}

// send sends one request; the reply's time of arrival goes to answer, which has room for it.
func (s *icmpSocket) send(addr netip.Addr, sequence, size int, answer chan<- time.Time) (token uint64, at time.Time, err error) {
	token = rand.Uint64()
	payload := make([]byte, max(8, size))
	binary.BigEndian.PutUint64(payload, token)
	m := icmp.Message{Type: ipv4.ICMPTypeEcho, Body: &icmp.Echo{ID: s.id, Seq: sequence & 0xffff, Data: payload}}
	if !s.v4 {
		m.Type = ipv6.ICMPTypeEchoRequest
	}
	packet, err := m.Marshal(nil)
	if err != nil {
		return 0, at, err
	}
	var to net.Addr = &net.IPAddr{IP: addr.AsSlice(), Zone: addr.Zone()}
	if !s.raw {
		to = &net.UDPAddr{IP: addr.AsSlice(), Zone: addr.Zone()}
	}
	s.mu.Lock()
	s.waiting[token] = answer
	s.mu.Unlock()
	at = time.Now()
	if _, err := s.conn.WriteTo(packet, to); err != nil {
		s.forget(token)
		return 0, at, err
	}
	return token, at, nil
}

func (s *icmpSocket) forget(token uint64) {
	s.mu.Lock()
	delete(s.waiting, token)
	s.mu.Unlock()
}

// echo sends the packets of one measurement and returns their round trips in
// ms, in the order sent, NaN for one that was not answered in time.
func (p *pinger) echo(ctx context.Context, addr netip.Addr, set definition.PingSettings, timeout time.Duration) ([]float64, error) {
	s, err := p.socket(addr.Is4())
	if err != nil {
		return nil, &errOwn{err}
	}
	rtts := make([]float64, set.Packets)
	answers := make([]chan time.Time, set.Packets)
	sent := make([]time.Time, set.Packets)
	tokens := make([]uint64, set.Packets)
	spacing := time.NewTicker(time.Duration(set.SpacingMS) * time.Millisecond)
	defer spacing.Stop()
	for i := range answers {
		rtts[i] = math.NaN()
		if i > 0 {
			select {
			case <-spacing.C:
			case <-ctx.Done():
				return nil, &errOwn{ctx.Err()}
			}
		}
		answers[i] = make(chan time.Time, 1)
		if tokens[i], sent[i], err = s.send(addr, i, set.SizeBytes, answers[i]); err != nil {
			if ours(err) {
				return nil, err
			}
			close(answers[i]) // the network refused the packet: lost
		}
	}
	for i := range answers {
		wait := time.NewTimer(time.Until(sent[i].Add(timeout)))
		select {
		case at, ok := <-answers[i]:
			if ok && at.Sub(sent[i]) <= timeout {
				rtts[i] = float64(at.Sub(sent[i])) / float64(time.Millisecond)
			}
		case <-wait.C:
			s.forget(tokens[i])
		case <-ctx.Done():
			wait.Stop()
			return nil, &errOwn{ctx.Err()}
		}
		wait.Stop()
	}
	return rtts, nil
}
