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
	"strings"
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
	r := s.pingOne(ctx, addr, set, t)
	if set.Second == "" || r.Outcome != measure.Failed {
		return r
	}
	second, err := resolve(ctx, set.Second)
	if err != nil {
		other := failure(measure.Ping, err)
		r.Detail += "; second target: " + other.Detail
		return r
	}
	other := s.pingOne(ctx, second, set, t)
	if other.Outcome == measure.Failed {
		r.Detail += "; second target: " + other.Detail
		return r
	}
	other.Detail = strings.TrimSuffix(fmt.Sprintf("measured at the second target %s, because %s: %s; %s", set.Second, t.Target, r.Detail, other.Detail), "; ")
	return other
}

// pingOne pings one address.
func (s *Set) pingOne(ctx context.Context, addr netip.Addr, set definition.PingSettings, t Task) Result {
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
	conn *icmpConn
	id   int

	mu      sync.Mutex // guards waiting, and the traffic class while a packet goes out
	waiting map[uint64]chan<- time.Time
	dscp    int
}

func openICMP(v4 bool) (*icmpSocket, error) {
	conn, err := openRaw(v4)
	if err == nil {
		err = conn.accept([]ipv4.ICMPType{ipv4.ICMPTypeEchoReply}, []ipv6.ICMPType{ipv6.ICMPTypeEchoReply})
	}
	if err != nil {
		var second error
		if conn, second = openUser(v4); second != nil {
			return nil, fmt.Errorf("no ICMP socket may be opened: give the agent CAP_NET_RAW, or put its group into net.ipv4.ping_group_range (%w)", errors.Join(err, second))
		}
	}
	s := &icmpSocket{conn: conn, id: os.Getpid() & 0xffff, waiting: map[uint64]chan<- time.Time{}}
	go s.receive()
	return s, nil
}

func (s *icmpSocket) receive() {
	buf := make([]byte, 1<<16)
	for {
		packet, _, at, err := s.conn.receive(buf)
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err == nil {
			s.hear(packet, at)
		}
	}
}

// hear takes one ICMP message. What is no echo reply to us belongs to nobody.
func (s *icmpSocket) hear(packet []byte, at time.Time) {
	protocol := icmp4
	if !s.conn.v4 {
		protocol = icmp6
	}
	m, err := icmp.ParseMessage(protocol, packet)
	if err != nil || m.Type != ipv4.ICMPTypeEchoReply && m.Type != ipv6.ICMPTypeEchoReply {
		return
	}
	echo, ok := m.Body.(*icmp.Echo)
	if !ok || len(echo.Data) < 8 || s.conn.raw && echo.ID != s.id {
		return
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

// send sends one request; the reply's time of arrival goes to answer, which has room for it.
func (s *icmpSocket) send(addr netip.Addr, sequence int, set definition.PingSettings, answer chan<- time.Time) (token uint64, at time.Time, err error) {
	token = rand.Uint64()
	payload := make([]byte, max(8, set.SizeBytes))
	binary.BigEndian.PutUint64(payload, token)
	m := icmp.Message{Type: ipv4.ICMPTypeEcho, Body: &icmp.Echo{ID: s.id, Seq: sequence & 0xffff, Data: payload}}
	if !s.conn.v4 {
		m.Type = ipv6.ICMPTypeEchoRequest
	}
	packet, err := m.Marshal(nil)
	if err != nil {
		return 0, at, err
	}
	var to net.Addr = &net.IPAddr{IP: addr.AsSlice(), Zone: addr.Zone()}
	if !s.conn.raw {
		to = &net.UDPAddr{IP: addr.AsSlice(), Zone: addr.Zone()}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.dscp != set.DSCP {
		if err := s.mark(set.DSCP); err != nil {
			return 0, at, err
		}
	}
	s.waiting[token] = answer
	at = time.Now()
	if _, err := s.conn.WriteTo(packet, to); err != nil {
		delete(s.waiting, token)
		return 0, at, err
	}
	return token, at, nil
}

// mark sets the differentiated services code point of what is sent next (RFC
// 2474: the upper six bits of the traffic class). It needs the lock.
func (s *icmpSocket) mark(dscp int) error {
	const shift = 2
	var err error
	if s.conn.v4 {
		err = ipv4.NewPacketConn(s.conn.PacketConn).SetTOS(dscp << shift)
	} else {
		err = ipv6.NewPacketConn(s.conn.PacketConn).SetTrafficClass(dscp << shift)
	}
	if err != nil {
		return &errOwn{fmt.Errorf("the DSCP %d cannot be set: %w", dscp, err)}
	}
	s.dscp = dscp
	return nil
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
	spacing := time.NewTicker(time.Duration(max(1, set.SpacingMS)) * time.Millisecond)
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
		if tokens[i], sent[i], err = s.send(addr, i, set, answers[i]); err != nil {
			if ours(err) {
				return nil, err
			}
			if noWay(err) && noRoute(addr) {
				return nil, &errOwn{fmt.Errorf("this machine has no route to %s", addr)}
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
