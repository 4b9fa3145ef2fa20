package instrument

import (
	"encoding/binary"
	"errors"
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
	level, option := unix.IPPROTO_IP, unix.IP_RECVERR
	p.ttl = ipv4.NewPacketConn(p.conn).SetTTL
	if !v4 {
		level, option = unix.IPPROTO_IPV6, unix.IPV6_RECVERR
		p.ttl = ipv6.NewPacketConn(p.conn).SetHopLimit
	}
	if p.raw, err = p.conn.(syscall.Conn).SyscallConn(); err == nil {
		var failed error
		err = errors.Join(p.raw.Control(func(fd uintptr) { failed = unix.SetsockoptInt(int(fd), level, option, 1) }), failed)
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
	messages, err := unix.ParseSocketControlMessage(oob)
	if err != nil {
		return reply{}, false
	}
	const head, fromICMP, fromICMP6 = 16, 2, 3
	for _, m := range messages {
		if len(m.Data) < head+8 || m.Data[4] != fromICMP && m.Data[4] != fromICMP6 {
			continue
		}
		who := m.Data[head:]
		k := icmpKind{v4: p.addr.Is4(), kind: m.Data[5], code: m.Data[6], protocol: udp}
		var from netip.Addr
		if k.v4 {
			from = netip.AddrFrom4([4]byte(who[4:8]))
		} else if len(who) >= 24 {
			from = netip.AddrFrom16([16]byte(who[8:24]))
		}
		at := 0
		if p.set.Method == definition.ByICMP {
			k.protocol, at = icmp4, 6
		}
		if len(packet) < at+2 {
			return reply{}, false // the router quoted too little to tell which
		}
		return reply{probe: int(binary.BigEndian.Uint16(packet[at:])), from: from, what: k.what(p.addr, from), note: k.note()}, true
	}
	return reply{}, false
}
