package instrument

import (
	"encoding/binary"
	"fmt"
	"net"
	"net/netip"
	"syscall"
	"time"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"
	"golang.org/x/sys/unix"

	"kestite/core/definition"
)

// queueProber traces without privilege: the kernel puts the ICMP answers to what
// a socket sent into that socket's error queue (Linux ip(7), IP_RECVERR).
type queueProber struct {
	conn net.PacketConn
	raw  syscall.RawConn
	addr netip.Addr
	set  definition.PathSettings
	out  chan reply
	ttl  func(int) error
}

// openQueue opens a prober by UDP, or by ICMP where datagram ICMP sockets are allowed.
func openQueue(addr netip.Addr, set definition.PathSettings, flow uint16) (prober, error) {
	p := &queueProber{addr: addr, set: set, out: make(chan reply, 64)}
	v4 := addr.Is4()
	var err error
	if set.Method == definition.ByICMP {
		c, failed := openUser(v4)
		if failed != nil {
			return nil, &errOwn{fmt.Errorf("no ICMP socket may be opened: give the agent CAP_NET_RAW, put its group into net.ipv4.ping_group_range, or trace by UDP (%w)", failed)}
		}
		p.conn = c.PacketConn
	} else if p.conn, err = listenUDP(v4, flow); err != nil {
		return nil, &errOwn{err}
	}
	p.ttl = ipv4.NewPacketConn(p.conn).SetTTL
	if !v4 {
		p.ttl = ipv6.NewPacketConn(p.conn).SetHopLimit
	}
	if p.raw, err = p.conn.(syscall.Conn).SyscallConn(); err == nil {
		err = hearErrors(p.raw, v4)
	}
	if err != nil {
		p.conn.Close()
		return nil, &errOwn{err}
	}
	go p.receive()
	return p, nil
}

func (p *queueProber) replies() <-chan reply { return p.out }
func (p *queueProber) close()                { p.conn.Close() }

func (p *queueProber) send(ttl, probe int) (time.Time, error) {
	if err := p.ttl(ttl); err != nil {
		return time.Time{}, err
	}
	payload := make([]byte, max(8, p.set.SizeBytes-28))
	binary.BigEndian.PutUint16(payload, uint16(probe))
	packet := payload
	to := &net.UDPAddr{IP: p.addr.AsSlice(), Zone: p.addr.Zone(), Port: p.set.Port}
	if p.set.Method == definition.ByICMP {
		m := icmp.Message{Type: ipv4.ICMPTypeEcho, Body: &icmp.Echo{Seq: probe, Data: payload}}
		if p.addr.Is6() {
			m.Type = ipv6.ICMPTypeEchoRequest
		}
		packet, _ = m.Marshal(nil)
	}
	at := time.Now()
	_, err := p.conn.WriteTo(packet, to)
	if err != nil && !ours(err) { // an error that the socket had heard before: once more
		at = time.Now()
		_, err = p.conn.WriteTo(packet, to)
	}
	return at, err
}

// receive reads answers until the socket is closed.
func (p *queueProber) receive() {
	buf, oob := make([]byte, 1<<16), make([]byte, 512)
	for {
		var got []reply
		err := p.raw.Read(func(fd uintptr) bool {
			for _, flag := range []int{unix.MSG_ERRQUEUE, 0} {
				n, size, _, _, err := unix.Recvmsg(int(fd), buf, oob, flag|unix.MSG_DONTWAIT)
				if err != nil {
					continue
				}
				at := time.Now()
				r, ok := p.answer(buf[:n])
				if flag == unix.MSG_ERRQUEUE {
					r, ok = p.told(buf[:n], oob[:size])
				}
				if r.at = at; ok {
					got = append(got, r)
				}
				return true
			}
			return false
		})
		for _, r := range got {
			select {
			case p.out <- r:
			default:
			}
		}
		if err != nil {
			return
		}
	}
}

// answer is what the target itself said.
func (p *queueProber) answer(packet []byte) (reply, bool) {
	if p.set.Method != definition.ByICMP || len(packet) < 8 {
		return reply{}, false
	}
	return reply{probe: int(binary.BigEndian.Uint16(packet[6:])), from: p.addr, what: arrived}, true
}

// told reads an entry of the error queue: the packet that was sent, and in a
// control message who said what of it (struct sock_extended_err).
func (p *queueProber) told(packet, oob []byte) (reply, bool) {
	e, ok := errorSaid(packet, oob, p.addr.Is4())
	if !ok {
		return reply{}, false
	}
	at := 0
	e.kind.protocol = udp
	if p.set.Method == definition.ByICMP {
		e.kind.protocol, at = icmp4, 6
	}
	if len(packet) < at+2 {
		return reply{}, false // the router quoted too little to tell which
	}
	return reply{probe: int(binary.BigEndian.Uint16(packet[at:])), from: e.from, what: e.kind.what(p.addr, e.from), note: e.kind.note()}, true
}
