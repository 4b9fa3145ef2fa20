package instrument

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/fnv"
	"math/rand/v2"
	"net"
	"net/netip"
	"sync"
	"time"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"
	"golang.org/x/sys/unix"

	"kestite/core/definition"
	"kestite/core/measure"
)

// tracer shares one raw ICMP socket per address family among all traces, and
// remembers the routes they found.
type tracer struct {
	mu     sync.Mutex
	ears   map[bool]*ear // by "is IPv4"
	routes map[string]measure.Route
}

// mostRoutes bounds the memory for routes; beyond it the first look at a path is forgotten.
const mostRoutes = 50_000

func newTracer() *tracer {
	return &tracer{ears: map[bool]*ear{}, routes: map[string]measure.Route{}}
}

func (t *tracer) close() {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, e := range t.ears {
		e.conn.Close()
	}
	t.ears = map[bool]*ear{}
}

// remember joins a look at a route to what is known of it, and says how it differs.
func (t *tracer) remember(path string, r measure.Route) (measure.Route, string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	before, known := t.routes[path]
	changed := ""
	if known {
		if changed = before.Differs(r); changed == "" {
			r = before.Joined(r)
		}
	}
	if known || len(t.routes) < mostRoutes {
		t.routes[path] = r
	}
	return r, changed
}

// open makes a prober: with raw sockets where they are allowed, otherwise with
// what the kernel reports to the socket that sent (IP_RECVERR).
func (t *tracer) open(addr netip.Addr, set definition.PathSettings, flow uint16) (prober, error) {
	e, err := t.ear(addr.Is4())
	if err != nil {
		if set.Method == definition.ByTCP {
			return nil, &errOwn{fmt.Errorf("tracing by TCP needs a raw socket: give the agent CAP_NET_RAW, or trace by UDP (%w)", err)}
		}
		return openQueue(addr, set, flow)
	}
	p := &rawProber{ear: e, addr: addr, set: set, flow: flow, out: make(chan reply, 64)}
	if err := p.open(); err != nil {
		p.close()
		return nil, &errOwn{err}
	}
	return p, nil
}

// flowOf is the same for every measurement of a path by one process, so that
// routers that share load send all alike: the ICMP identifier, or the source port.
func flowOf(process string, addr netip.Addr, set definition.PathSettings) uint16 {
	h := fnv.New32a()
	fmt.Fprint(h, process, addr, set.Method, set.Port)
	const low, many = 33000, 20000 // clear of what most systems give out for connections
	return uint16(low + h.Sum32()%many)
}

// probeKey is what an answer quotes of the packet it answers.
type probeKey struct {
	addr     netip.Addr
	protocol uint8
	flow     uint16
	id       uint32
}

// ear is a raw ICMP socket that hands each answer to the trace it belongs to.
type ear struct {
	conn *icmpConn

	mu      sync.Mutex
	waiting map[probeKey]hearer
	count   uint32 // of probes ever sent, so that no two share a number soon
}

type hearer struct {
	out   chan<- reply
	probe int
}

func (t *tracer) ear(v4 bool) (*ear, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if e := t.ears[v4]; e != nil {
		return e, nil
	}
	conn, err := openRaw(v4)
	if err != nil {
		return nil, err
	}
	err = conn.accept([]ipv4.ICMPType{ipv4.ICMPTypeTimeExceeded, ipv4.ICMPTypeDestinationUnreachable, ipv4.ICMPTypeEchoReply},
		[]ipv6.ICMPType{ipv6.ICMPTypeTimeExceeded, ipv6.ICMPTypeDestinationUnreachable, ipv6.ICMPTypeEchoReply})
	if err != nil {
		conn.Close()
		return nil, err
	}
	// The numbers begin anywhere, so that they are not those of another process.
	e := &ear{conn: conn, waiting: map[probeKey]hearer{}, count: rand.Uint32()}
	go e.receive()
	t.ears[v4] = e
	return e, nil
}

func (e *ear) receive() {
	buf := make([]byte, 1<<16)
	for {
		packet, from, at, err := e.conn.receive(buf)
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err == nil {
			e.hear(packet, from, at)
		}
	}
}

// hear takes one ICMP message. What cannot be read belongs to nobody.
func (e *ear) hear(packet []byte, from netip.Addr, at time.Time) {
	kind, key, ok := dissect(packet, from, e.conn.v4)
	if !ok {
		return
	}
	e.mu.Lock()
	who := e.waiting[key]
	delete(e.waiting, key)
	e.mu.Unlock()
	if who.out != nil {
		who.tell(reply{at: at, from: from, what: kind.what(key.addr, from), note: kind.note()})
	}
}

// tell hands over an answer; a trace that does not listen any more misses it.
func (h hearer) tell(r reply) {
	r.probe = h.probe
	select {
	case h.out <- r:
	default:
	}
}

// icmpKind is type and code of an ICMP message, and the protocol that it quotes.
type icmpKind struct {
	v4       bool
	kind     uint8
	code     uint8
	protocol uint8
}

const (
	icmp4, icmp6, udp, tcp = 1, 58, 17, 6 // IANA protocol numbers

	portUnreachable4, portUnreachable6 = 3, 4 // codes of RFC 792, RFC 4443 §3.1
)

func (k icmpKind) what(target, from netip.Addr) answer {
	switch {
	case k.v4 && k.kind == uint8(ipv4.ICMPTypeTimeExceeded), !k.v4 && k.kind == uint8(ipv6.ICMPTypeTimeExceeded):
		return exceeded
	case k.v4 && k.kind == uint8(ipv4.ICMPTypeEchoReply), !k.v4 && k.kind == uint8(ipv6.ICMPTypeEchoReply):
		return arrived
	case from == target && k.protocol == udp && (k.v4 && k.code == portUnreachable4 || !k.v4 && k.code == portUnreachable6):
		return arrived
	}
	return unreachable
}

// note says what an unreachable message means: RFC 792, RFC 1812 §5.2.7.1, RFC 4443 §3.1.
func (k icmpKind) note() string {
	texts := map[uint8]string{0: "network unreachable", 1: "host unreachable", 2: "protocol unreachable", 3: "port unreachable", 4: fragmentationNeeded,
		6: "network unknown", 7: "host unknown", 9: "network administratively prohibited", 10: "host administratively prohibited", 13: "administratively prohibited"}
	if !k.v4 {
		texts = map[uint8]string{0: "no route", 1: "administratively prohibited", 2: "beyond the scope of the source", 3: "address unreachable", 4: "port unreachable", 5: "refused by policy", 6: "route rejected"}
	}
	if k.v4 && k.kind != uint8(ipv4.ICMPTypeDestinationUnreachable) || !k.v4 && k.kind != uint8(ipv6.ICMPTypeDestinationUnreachable) {
		return ""
	}
	if text, known := texts[k.code]; known {
		return text
	}
	return fmt.Sprintf("unreachable, code %d", k.code)
}

// refusal says what an ICMP message other than an echo reply means for a packet that
// was to reach its target; mtu is the largest that passes, 0 where it is not told.
func (k icmpKind) refusal(mtu int) string {
	note := k.note()
	switch {
	case k.what(netip.Addr{}, netip.Addr{}) == exceeded:
		return "time to live exceeded: the way is a loop, or too long"
	case !k.v4 && k.kind == uint8(ipv6.ICMPTypePacketTooBig):
		note = "the packet is too big"
	}
	if mtu > 0 && (note == "the packet is too big" || note == fragmentationNeeded) {
		note += fmt.Sprintf(", the largest that passes has %d bytes", mtu)
	}
	return note
}

// fragmentationNeeded is what IPv4 calls a packet that is too big (RFC 1191 §4).
const fragmentationNeeded = "fragmentation needed"

// mtuOf is the largest packet that passes, as an ICMP message tells it: RFC 1191 §4,
// RFC 4443 §3.2.
func mtuOf(message []byte, v4 bool) int {
	switch {
	case len(message) < 8:
		return 0
	case v4:
		return int(binary.BigEndian.Uint16(message[6:]))
	}
	return int(min(binary.BigEndian.Uint32(message[4:]), 1<<20))
}

// dissect finds the probe that an ICMP message may answer, by the head of the
// packet that it quotes (at least eight bytes of it, RFC 792), or by its own for
// an echo reply.
func dissect(p []byte, from netip.Addr, v4 bool) (icmpKind, probeKey, bool) {
	const head = 8
	if len(p) < head {
		return icmpKind{}, probeKey{}, false
	}
	k := icmpKind{v4: v4, kind: p[0], code: p[1], protocol: icmp4}
	if k.what(from, from) == arrived {
		protocol := uint8(icmp4)
		if !v4 {
			protocol = icmp6
		}
		return k, probeKey{from, protocol, binary.BigEndian.Uint16(p[4:]), uint32(binary.BigEndian.Uint16(p[6:]))}, true
	}
	inner := p[head:]
	var quoted []byte
	var to netip.Addr
	if v4 {
		if len(inner) < ipv4.HeaderLen || inner[0]>>4 != ipv4.Version {
			return k, probeKey{}, false
		}
		length := int(inner[0]&0xf) * 4
		if length < ipv4.HeaderLen || len(inner) < length+head {
			return k, probeKey{}, false
		}
		k.protocol, quoted = inner[9], inner[length:]
		to = netip.AddrFrom4([4]byte(inner[16:20]))
	} else {
		if len(inner) < ipv6.HeaderLen+head || inner[0]>>4 != ipv6.Version {
			return k, probeKey{}, false
		}
		k.protocol, quoted = inner[6], inner[ipv6.HeaderLen:]
		to = netip.AddrFrom16([16]byte(inner[24:40]))
	}
	flow := func(at int) uint16 { return binary.BigEndian.Uint16(quoted[at:]) }
	switch k.protocol {
	case icmp4, icmp6:
		return k, probeKey{to, k.protocol, flow(4), uint32(flow(6))}, true
	case udp: // by its checksum, and where enough is quoted by the number in the payload
		if len(quoted) >= head+2 {
			return k, probeKey{to, udp, flow(0), inPayload | uint32(flow(8))}, true
		}
		return k, probeKey{to, udp, flow(0), uint32(flow(6))}, true
	case tcp: // by its sequence number
		return k, probeKey{to, tcp, flow(0), binary.BigEndian.Uint32(quoted[4:])}, true
	}
	return k, probeKey{}, false
}

// inPayload tells a number found in a payload from a checksum.
const inPayload = 1 << 16

// rawProber sends on sockets of its own and hears through the shared ear.
type rawProber struct {
	ear  *ear
	addr netip.Addr
	set  definition.PathSettings
	flow uint16
	from netip.Addr // our address towards the target

	conn net.PacketConn // sends
	syns net.PacketConn // of tcp: hears the target's answers
	held int            // of tcp: a socket that keeps the port from others
	ttl  func(int) error
	out  chan reply

	keys []probeKey
}

func (p *rawProber) replies() <-chan reply { return p.out }

func (p *rawProber) close() {
	if p.conn != nil {
		p.conn.Close()
	}
	if p.syns != nil {
		p.syns.Close()
	}
	if p.held != 0 {
		unix.Close(p.held)
	}
	p.ear.mu.Lock()
	defer p.ear.mu.Unlock()
	for _, k := range p.keys {
		delete(p.ear.waiting, k)
	}
}

// open makes the socket that sends.
func (p *rawProber) open() error {
	network, local := "ip4:icmp", "0.0.0.0"
	v4 := p.addr.Is4()
	if !v4 {
		network, local = "ip6:ipv6-icmp", "::"
	}
	var err error
	switch p.set.Method {
	case definition.ByICMP:
		p.conn, err = net.ListenPacket(network, local)
	case definition.ByUDP:
		p.conn, err = listenUDP(v4, p.flow)
	case definition.ByTCP:
		err = p.openTCP()
	}
	if err != nil {
		return fmt.Errorf("a socket to trace %s with: %w", p.addr, err)
	}
	if p.from, err = sourceFor(p.addr); err != nil {
		return err
	}
	if udp, ok := p.conn.LocalAddr().(*net.UDPAddr); ok {
		p.flow = uint16(udp.Port)
	}
	if v4 {
		c := ipv4.NewPacketConn(p.conn)
		p.ttl = c.SetTTL
		if p.set.Method == definition.ByICMP { // nothing is read here
			var none ipv4.ICMPFilter
			none.SetAll(true)
			c.SetICMPFilter(&none)
		}
		return nil
	}
	c := ipv6.NewPacketConn(p.conn)
	p.ttl = c.SetHopLimit
	if p.set.Method == definition.ByICMP {
		var none ipv6.ICMPFilter
		none.SetAll(true)
		c.SetICMPFilter(&none)
	}
	return nil
}

// listenUDP binds the flow's port, or any where it is taken.
func listenUDP(v4 bool, port uint16) (*net.UDPConn, error) {
	network := "udp4"
	if !v4 {
		network = "udp6"
	}
	conn, err := net.ListenUDP(network, &net.UDPAddr{Port: int(port)})
	if errors.Is(err, unix.EADDRINUSE) {
		return net.ListenUDP(network, nil)
	}
	return conn, err
}

// sourceFor is our own address on the way to another; nothing is sent.
func sourceFor(addr netip.Addr) (netip.Addr, error) {
	conn, err := net.DialUDP("udp", nil, net.UDPAddrFromAddrPort(netip.AddrPortFrom(addr, 9)))
	if err != nil {
		return netip.Addr{}, err
	}
	defer conn.Close()
	return conn.LocalAddr().(*net.UDPAddr).AddrPort().Addr().Unmap(), nil
}

func (p *rawProber) send(ttl, probe int) (time.Time, error) {
	p.ear.mu.Lock()
	p.ear.count++
	n := p.ear.count
	p.ear.mu.Unlock()
	packet, keys := p.packet(n)
	p.ear.mu.Lock()
	for _, k := range keys {
		p.ear.waiting[k] = hearer{p.out, probe}
	}
	p.ear.mu.Unlock()
	p.keys = append(p.keys, keys...)
	if err := p.ttl(ttl); err != nil {
		return time.Time{}, err
	}
	var to net.Addr = &net.IPAddr{IP: p.addr.AsSlice(), Zone: p.addr.Zone()}
	if p.set.Method == definition.ByUDP {
		to = &net.UDPAddr{IP: p.addr.AsSlice(), Zone: p.addr.Zone(), Port: p.set.Port}
	}
	at := time.Now()
	_, err := p.conn.WriteTo(packet, to)
	return at, err
}

// packet makes the nth probe and what answers may quote of it. Only a number in
// the packet differs from one to the next; in ICMP, whose checksum routers take
// for a part of the flow, a word of the payload makes up for it.
func (p *rawProber) packet(n uint32) ([]byte, []probeKey) {
	ip := ipv4.HeaderLen
	if p.addr.Is6() {
		ip = ipv6.HeaderLen
	}
	const head = 8
	key := func(protocol uint8, id uint32) probeKey { return probeKey{p.addr, protocol, p.flow, id} }
	payload := make([]byte, max(head, p.set.SizeBytes-ip-head))
	number := uint16(n)
	switch p.set.Method {
	case definition.ByICMP:
		binary.BigEndian.PutUint16(payload, ^number)
		m := icmp.Message{Type: ipv4.ICMPTypeEcho, Body: &icmp.Echo{ID: int(p.flow), Seq: int(number), Data: payload}}
		protocol := uint8(icmp4)
		if p.addr.Is6() {
			protocol, m.Type = icmp6, ipv6.ICMPTypeEchoRequest
		}
		packet, _ := m.Marshal(nil) // an echo of this size always marshals
		return packet, []probeKey{key(protocol, uint32(number))}
	case definition.ByUDP:
		binary.BigEndian.PutUint16(payload, number)
		return payload, []probeKey{key(udp, uint32(p.checksumUDP(payload))), key(udp, inPayload|uint32(number))}
	}
	const shift = 8 // sequence numbers of a flow lie apart
	return p.syn(n << shift), []probeKey{key(tcp, n<<shift)}
}

// checksumUDP is what the kernel writes into the header (RFC 768, RFC 8200 §8.1).
func (p *rawProber) checksumUDP(payload []byte) uint16 {
	head := make([]byte, 8, 8+len(payload))
	binary.BigEndian.PutUint16(head, p.flow)
	binary.BigEndian.PutUint16(head[2:], uint16(p.set.Port))
	binary.BigEndian.PutUint16(head[4:], uint16(8+len(payload)))
	if sum := checksum(p.from, p.addr, udp, append(head, payload...)); sum != 0 {
		return sum
	}
	return 0xffff
}

// checksum of a transport packet with its pseudo header (RFC 1071, RFC 8200 §8.1).
func checksum(from, to netip.Addr, protocol uint8, packet []byte) uint16 {
	var sum uint32
	add := func(b []byte) {
		for i := 0; i+1 < len(b); i += 2 {
			sum += uint32(binary.BigEndian.Uint16(b[i:]))
		}
		if len(b)%2 == 1 {
			sum += uint32(b[len(b)-1]) << 8
		}
	}
	add(from.AsSlice())
	add(to.AsSlice())
	sum += uint32(protocol) + uint32(len(packet))
	add(packet)
	for sum>>16 != 0 {
		sum = sum>>16 + sum&0xffff
	}
	return ^uint16(sum)
}
