package instrument

import (
	"encoding/binary"
	"net"
	"net/netip"
	"time"

	"golang.org/x/net/bpf"
	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"
	"golang.org/x/sys/unix"
)

// Offsets and flags of a TCP header (RFC 9293 §3.1).
const (
	tcpHead       = 24 // with one option
	checksumAt    = 16
	flagSYN       = 0x02
	flagRST       = 0x04
	flagACK       = 0x10
	segmentOption = 2 // maximum segment size
)

// openTCP opens a raw socket that sends SYN packets and hears the target's
// answers to them, and keeps the port from others. The kernel resets what the
// target opens.
func (p *rawProber) openTCP() error {
	family, network, local := unix.AF_INET, "ip4:tcp", "0.0.0.0"
	if p.addr.Is6() {
		family, network, local = unix.AF_INET6, "ip6:tcp", "::"
	}
	var err error
	if p.held, err = unix.Socket(family, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0); err != nil {
		return err
	}
	if err := bindPort(p.held, p.addr.Is4(), int(p.flow)); err != nil {
		if err := bindPort(p.held, p.addr.Is4(), 0); err != nil {
			return err
		}
	}
	name, err := unix.Getsockname(p.held)
	if err != nil {
		return err
	}
	switch n := name.(type) {
	case *unix.SockaddrInet4:
		p.flow = uint16(n.Port)
	case *unix.SockaddrInet6:
		p.flow = uint16(n.Port)
	}
	if p.conn, err = net.ListenPacket(network, local); err != nil {
		return err
	}
	if p.syns, err = net.ListenPacket(network, local); err != nil {
		return err
	}
	if p.addr.Is6() {
		if err := ipv6.NewPacketConn(p.conn).SetChecksum(true, checksumAt); err != nil {
			return err
		}
	}
	if err := p.filter(p.conn, nothing); err != nil {
		return err
	}
	if err := p.filter(p.syns, onlyPort(p.addr.Is4(), p.flow)); err != nil {
		return err
	}
	go p.hearTarget()
	return nil
}

func bindPort(socket int, v4 bool, port int) error {
	if v4 {
		return unix.Bind(socket, &unix.SockaddrInet4{Port: port})
	}
	return unix.Bind(socket, &unix.SockaddrInet6{Port: port})
}

var nothing = []bpf.Instruction{bpf.RetConstant{Val: 0}}

// onlyPort lets packets to one port through. On IPv4 the filter sees the IP header too.
func onlyPort(v4 bool, port uint16) []bpf.Instruction {
	load := []bpf.Instruction{bpf.LoadAbsolute{Off: 2, Size: 2}}
	if v4 {
		load = []bpf.Instruction{bpf.LoadMemShift{Off: 0}, bpf.LoadIndirect{Off: 2, Size: 2}}
	}
	return append(load, bpf.JumpIf{Cond: bpf.JumpEqual, Val: uint32(port), SkipFalse: 1}, bpf.RetConstant{Val: 1 << 16}, bpf.RetConstant{Val: 0})
}

func (p *rawProber) filter(conn net.PacketConn, program []bpf.Instruction) error {
	raw, err := bpf.Assemble(program)
	if err != nil {
		return err
	}
	if p.addr.Is4() {
		return ipv4.NewPacketConn(conn).SetBPF(raw)
	}
	return ipv6.NewPacketConn(conn).SetBPF(raw)
}

// hearTarget hears what the target says to a SYN: an open or a closed port, and
// in either case it was reached. It acknowledges the number of the SYN plus one.
func (p *rawProber) hearTarget() {
	buf := make([]byte, 1<<16)
	for {
		n, from, err := p.syns.ReadFrom(buf)
		at := time.Now()
		if err != nil {
			return
		}
		who, ok := from.(*net.IPAddr)
		if !ok {
			continue
		}
		addr, _ := netip.AddrFromSlice(who.IP)
		if addr.Unmap() != p.addr.WithZone("") || n < 20 || buf[13]&flagACK == 0 || buf[13]&(flagSYN|flagRST) == 0 {
			continue
		}
		key := probeKey{addr: p.addr, protocol: tcp, flow: p.flow, id: binary.BigEndian.Uint32(buf[8:]) - 1}
		p.ear.mu.Lock()
		h, ok := p.ear.waiting[key]
		delete(p.ear.waiting, key)
		p.ear.mu.Unlock()
		if ok {
			h.tell(reply{at: at, from: p.addr, what: arrived})
		}
	}
}

// syn makes a SYN packet.
func (p *rawProber) syn(seq uint32) []byte {
	b := make([]byte, tcpHead)
	binary.BigEndian.PutUint16(b, p.flow)
	binary.BigEndian.PutUint16(b[2:], uint16(p.set.Port))
	binary.BigEndian.PutUint32(b[4:], seq)
	b[12], b[13] = tcpHead/4<<4, flagSYN
	binary.BigEndian.PutUint16(b[14:], 1024) // window
	b[20], b[21] = segmentOption, 4
	binary.BigEndian.PutUint16(b[22:], 1220) // fits everywhere
	if p.addr.Is4() {                        // on IPv6 the kernel does it
		binary.BigEndian.PutUint16(b[checksumAt:], checksum(p.from, p.addr, tcp, b))
	}
	return b
}
