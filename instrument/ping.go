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
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"
	"golang.org/x/sys/unix"

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
	addr, err := s.resolve(lookup, t.Target)
	if err != nil {
		return failure(measure.Ping, err)
	}
	r := s.pingOne(ctx, addr, set, t)
	if set.Second == "" || r.Outcome != measure.Failed {
		return r
	}
	second, err := s.resolve(ctx, set.Second)
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
	got, err := s.pinger.echo(ctx, addr, set, t.Timeout)
	if err != nil {
		return failure(measure.Ping, err)
	}
	values := measure.RoundTrips(got.rtts)
	r := judged(measure.Ping, values, t.Limits)
	r.Findings = &measure.Findings{Notes: got.notes(addr)}
	switch {
	case values[measure.TripLoss] == 100 && len(got.refusals) > 0:
		r.Outcome = measure.Failed
		r.Detail = got.refusals.words(len(got.rtts))
	case values[measure.TripLoss] == 100:
		r.Outcome = measure.Failed
		r.Detail = fmt.Sprintf("no answer to %d packets from %s within %d ms", len(got.rtts), addr, t.Timeout.Milliseconds())
	}
	return r
}

// pong is what came of one request: an answer, or that somebody refused it.
type pong struct {
	request int
	at      time.Time
	from    netip.Addr
	refusal string // empty for an answer
}

// echoes are what came of the requests of one measurement.
type echoes struct {
	rtts     []float64    // ms, in the order sent, NaN for one that was not answered in time
	refusals counted      // who said what of those that were refused
	others   []netip.Addr // who answered and was not asked
	fits     int          // bytes of the largest packet that passes whole, as far as known; 0: nothing is
}

// counted is what was said of packets, in the order it was said first.
type counted []saying

type saying struct {
	text    string
	packets int
}

func (c *counted) add(text string) {
	for i := range *c {
		if (*c)[i].text == text {
			(*c)[i].packets++
			return
		}
	}
	*c = append(*c, saying{text, 1})
}

// words are what was said, with of how many of all packets unless it was said of all.
func (c counted) words(all int) string {
	var out []string
	for _, s := range c {
		if s.packets < all {
			s.text = fmt.Sprintf("%s (%d of %d packets)", s.text, s.packets, all)
		}
		out = append(out, s.text)
	}
	return strings.Join(out, "; ")
}

// notes are worth knowing of a measurement that has answers.
func (e *echoes) notes(asked netip.Addr) []string {
	var out []string
	for _, o := range e.others {
		out = append(out, fmt.Sprintf("%s answered, and %s was asked", o, asked))
	}
	if len(e.refusals) > 0 && slices.ContainsFunc(e.rtts, func(v float64) bool { return !math.IsNaN(v) }) {
		out = append(out, e.refusals.words(len(e.rtts)))
	}
	if e.fits > 0 {
		out = append(out, fmt.Sprintf("the largest packet that passes whole to %s has %d bytes; larger ones go in pieces", asked, e.fits))
	}
	return out
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
// request carries a random token as the first eight bytes of its payload; what
// others say of it is known by its target and number.
type icmpSocket struct {
	conn *icmpConn
	id   int

	mu      sync.Mutex // guards what follows, and the traffic class while a packet goes out
	waiting map[uint64]waiter
	numbers map[numbered]uint64 // tokens
	count   uint16
	dscp    int
}

type waiter struct {
	out     chan<- pong // has room
	request int
	key     numbered
}

// numbered is what is quoted of a request at least.
type numbered struct {
	to     netip.Addr
	number uint16
}

func openICMP(v4 bool) (*icmpSocket, error) {
	conn, err := openRaw(v4)
	if err == nil {
		err = conn.accept([]ipv4.ICMPType{ipv4.ICMPTypeEchoReply, ipv4.ICMPTypeDestinationUnreachable, ipv4.ICMPTypeTimeExceeded},
			[]ipv6.ICMPType{ipv6.ICMPTypeEchoReply, ipv6.ICMPTypeDestinationUnreachable, ipv6.ICMPTypeTimeExceeded, ipv6.ICMPTypePacketTooBig})
	}
	if err != nil {
		var second error
		if conn, second = openUser(v4); second == nil {
			second = hearErrors(conn.control, v4)
		}
		if second != nil {
			return nil, fmt.Errorf("no ICMP socket may be opened: give the agent CAP_NET_RAW, or put its group into net.ipv4.ping_group_range (%w)", errors.Join(err, second))
		}
	}
	s := newICMPSocket(conn)
	go s.receive()
	return s, nil
}

func newICMPSocket(conn *icmpConn) *icmpSocket {
	return &icmpSocket{conn: conn, id: os.Getpid() & 0xffff, waiting: map[uint64]waiter{}, numbers: map[numbered]uint64{}}
}

func (s *icmpSocket) receive() {
	buf := make([]byte, 1<<16)
	for {
		packet, from, at, err := s.conn.receive(buf)
		switch {
		case errors.Is(err, net.ErrClosed):
			return
		case err == nil:
			s.hear(packet, from, at)
		case !s.conn.raw: // somebody said something of a packet, and the kernel keeps it
			for _, e := range s.conn.errorsSaid() {
				s.told(e, time.Now())
			}
		}
	}
}

// hear takes one ICMP message. What is nothing of ours belongs to nobody.
func (s *icmpSocket) hear(packet []byte, from netip.Addr, at time.Time) {
	protocol := icmp4
	if !s.conn.v4 {
		protocol = icmp6
	}
	m, err := icmp.ParseMessage(protocol, packet)
	if err != nil {
		return
	}
	if m.Type != ipv4.ICMPTypeEchoReply && m.Type != ipv6.ICMPTypeEchoReply {
		kind, key, ok := dissect(packet, from, s.conn.v4)
		if ok && s.conn.raw && key.protocol == uint8(protocol) && int(key.flow) == s.id {
			s.refused(numbered{key.addr, uint16(key.id)}, from, kind.refusal(mtuOf(packet, s.conn.v4)), at)
		}
		return
	}
	echo, ok := m.Body.(*icmp.Echo)
	if !ok || len(echo.Data) < 8 || s.conn.raw && echo.ID != s.id {
		return
	}
	s.tell(binary.BigEndian.Uint64(echo.Data), pong{at: at, from: from})
}

// told takes an entry of the error queue, which names the request by its token where
// enough of it was quoted.
func (s *icmpSocket) told(e saidError, at time.Time) {
	const head = 8
	if len(e.packet) >= head+8 {
		s.tell(binary.BigEndian.Uint64(e.packet[head:]), pong{at: at, from: e.from, refusal: e.kind.refusal(e.mtu)})
	}
}

// refused hands over what somebody said of a request.
func (s *icmpSocket) refused(key numbered, from netip.Addr, why string, at time.Time) {
	s.mu.Lock()
	token, known := s.numbers[key]
	s.mu.Unlock()
	if known && why != "" {
		s.tell(token, pong{at: at, from: from, refusal: why})
	}
}

// tell hands over what came of a request.
func (s *icmpSocket) tell(token uint64, p pong) {
	s.mu.Lock()
	w, known := s.waiting[token]
	s.drop(token)
	s.mu.Unlock()
	if known {
		p.request = w.request
		w.out <- p
	}
}

// drop needs the lock.
func (s *icmpSocket) drop(token uint64) {
	if w, known := s.waiting[token]; known && s.numbers[w.key] == token {
		delete(s.numbers, w.key)
	}
	delete(s.waiting, token)
}

// tries is how often a packet is sent where the socket tells what it had heard before.
const tries = 3

// send sends one request; what comes of it goes to out, which has room for it.
func (s *icmpSocket) send(addr netip.Addr, request int, set definition.PingSettings, out chan<- pong) (token uint64, at time.Time, err error) {
	token = rand.Uint64()
	payload := make([]byte, max(8, set.SizeBytes))
	binary.BigEndian.PutUint64(payload, token)
	var to net.Addr = &net.IPAddr{IP: addr.AsSlice(), Zone: addr.Zone()}
	if !s.conn.raw {
		to = &net.UDPAddr{IP: addr.AsSlice(), Zone: addr.Zone()}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.count++
	m := icmp.Message{Type: ipv4.ICMPTypeEcho, Body: &icmp.Echo{ID: s.id, Seq: int(s.count), Data: payload}}
	if !s.conn.v4 {
		m.Type = ipv6.ICMPTypeEchoRequest
	}
	packet, err := m.Marshal(nil)
	if err != nil {
		return 0, at, err
	}
	if s.dscp != set.DSCP {
		if err := s.classify(set.DSCP); err != nil {
			return 0, at, err
		}
	}
	key := numbered{addr.WithZone(""), s.count}
	s.waiting[token], s.numbers[key] = waiter{out, request, key}, token
	for range tries {
		at = time.Now()
		if _, err = s.conn.WriteTo(packet, to); err == nil || s.conn.raw {
			break
		}
	}
	if err != nil {
		s.drop(token)
		return 0, at, err
	}
	return token, at, nil
}

// classify sets the differentiated services code point of what is sent next (RFC
// 2474: the upper six bits of the traffic class). It needs the lock.
func (s *icmpSocket) classify(dscp int) error {
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

func (s *icmpSocket) forget(tokens []uint64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, t := range tokens {
		s.drop(t)
	}
}

// echo sends the packets of one measurement and gathers what comes of them. One that is
// refused is lost, and the others go on.
func (p *pinger) echo(ctx context.Context, addr netip.Addr, set definition.PingSettings, timeout time.Duration) (*echoes, error) {
	s, err := p.socket(addr.Is4())
	if err != nil {
		return nil, &errOwn{err}
	}
	run := &echoRun{socket: s, addr: addr, timeout: timeout, out: make(chan pong, set.Packets)}
	defer func() { s.forget(run.tokens) }()
	spacing := time.Duration(max(1, set.SpacingMS)) * time.Millisecond
	began := time.Now()
	for i := range set.Packets {
		if err := run.listen(ctx, began.Add(time.Duration(i)*spacing)); err != nil {
			return &run.echoes, err
		}
		if err := run.send(i, set); err != nil {
			return nil, err
		}
	}
	err = run.listen(ctx, time.Now().Add(timeout))
	if mtu := pathMTU(addr); mtu > 0 && mtu < set.SizeBytes+icmpHead+ipHead(addr) {
		run.fits = mtu
	}
	return &run.echoes, err
}

// echoRun is a measurement under way.
type echoRun struct {
	echoes
	socket  *icmpSocket
	addr    netip.Addr
	timeout time.Duration
	out     chan pong
	tokens  []uint64
	sent    []time.Time
	open    int // requests of which nothing is known
}

func (r *echoRun) send(i int, set definition.PingSettings) error {
	token, at, err := r.socket.send(r.addr, i, set, r.out)
	r.rtts, r.sent = append(r.rtts, math.NaN()), append(r.sent, at)
	switch {
	case err == nil:
		r.tokens = append(r.tokens, token)
		r.open++
	case ours(err):
		return err
	case noWay(err) && noRoute(r.addr):
		return &errOwn{fmt.Errorf("this machine has no route to %s", r.addr)}
	case errors.Is(err, unix.EMSGSIZE):
		r.refusals.add(fmt.Sprintf("packets of %d bytes do not fit on the way to %s, as was said before", set.SizeBytes+icmpHead, r.addr))
	} // otherwise the network refused the packet: lost
	return nil
}

// listen takes what comes until a time, or until all is known after the last was sent.
func (r *echoRun) listen(ctx context.Context, until time.Time) error {
	timer := time.NewTimer(time.Until(until))
	defer timer.Stop()
	for last := len(r.sent) == cap(r.out); !last || r.open > 0; {
		select {
		case p := <-r.out:
			r.open--
			r.take(p)
		case <-timer.C:
			return nil
		case <-ctx.Done():
			return &errOwn{ctx.Err()}
		}
	}
	return nil
}

// take notes what came of one request.
func (r *echoRun) take(p pong) {
	took := p.at.Sub(r.sent[p.request])
	switch {
	case p.refusal != "" && p.from == r.addr:
		r.refusals.add(fmt.Sprintf("%s itself says: %s", p.from, p.refusal))
	case p.refusal != "":
		r.refusals.add(fmt.Sprintf("%s says of %s: %s", p.from, r.addr, p.refusal))
	case took <= r.timeout:
		r.rtts[p.request] = float64(took) / float64(time.Millisecond)
		if p.from.IsValid() && p.from.WithZone("") != r.addr.WithZone("") && !slices.Contains(r.others, p.from) {
			r.others = append(r.others, p.from)
		}
	}
}
