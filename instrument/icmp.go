package instrument

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"
	"golang.org/x/sys/unix"
)

// icmpConn is an ICMP socket, raw or of the kind that users may open (Linux
// icmp(7), ping_group_range), that knows when the kernel received each message.
type icmpConn struct {
	net.PacketConn
	v4, raw bool
	oob     []byte
	control syscall.RawConn
	read    func(b, oob []byte) (n, oobn int, from net.Addr, err error)
}

// receiveBuffer keeps bursts of replies: the default loses some at thousands a second.
const receiveBuffer = 4 << 20

// openRaw opens a raw socket; it needs CAP_NET_RAW.
func openRaw(v4 bool) (*icmpConn, error) {
	network := "ip4:icmp"
	if !v4 {
		network = "ip6:ipv6-icmp"
	}
	conn, err := net.ListenIP(network, nil)
	if err != nil {
		return nil, err
	}
	c := &icmpConn{PacketConn: conn, v4: v4, raw: true}
	c.read = func(b, oob []byte) (int, int, net.Addr, error) {
		n, oobn, _, from, err := conn.ReadMsgIP(b, oob)
		return n, oobn, from, err
	}
	return c.tuned(conn)
}

// openUser opens a datagram ICMP socket, on which the kernel sets the identifier.
func openUser(v4 bool) (*icmpConn, error) {
	family, protocol := unix.AF_INET, unix.IPPROTO_ICMP
	if !v4 {
		family, protocol = unix.AF_INET6, unix.IPPROTO_ICMPV6
	}
	fd, err := unix.Socket(family, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, protocol)
	if err != nil {
		return nil, os.NewSyscallError("socket", err)
	}
	f := os.NewFile(uintptr(fd), "icmp")
	defer f.Close()
	pc, err := net.FilePacketConn(f)
	if err != nil {
		return nil, err
	}
	conn, ok := pc.(*net.UDPConn)
	if !ok {
		pc.Close()
		return nil, fmt.Errorf("a datagram ICMP socket came as %T", pc)
	}
	c := &icmpConn{PacketConn: conn, v4: v4}
	c.read = func(b, oob []byte) (int, int, net.Addr, error) {
		n, oobn, _, from, err := conn.ReadMsgUDP(b, oob)
		return n, oobn, from, err
	}
	return c.tuned(conn)
}

// tuned asks for times of arrival and a large buffer.
func (c *icmpConn) tuned(conn interface {
	syscall.Conn
	SetReadBuffer(int) error
}) (*icmpConn, error) {
	raw, err := conn.SyscallConn()
	c.control = raw
	if err == nil {
		var failed error
		err = errors.Join(raw.Control(func(fd uintptr) { failed = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_TIMESTAMPNS, 1) }), failed)
	}
	if err == nil {
		err = conn.SetReadBuffer(receiveBuffer)
	}
	if err != nil {
		c.Close()
		return nil, err
	}
	c.oob = make([]byte, 128)
	return c, nil
}

// accept lets only these types of message through (raw sockets).
func (c *icmpConn) accept(v4 []ipv4.ICMPType, v6 []ipv6.ICMPType) error {
	if c.v4 {
		var f ipv4.ICMPFilter
		f.SetAll(true)
		for _, t := range v4 {
			f.Accept(t)
		}
		return ipv4.NewPacketConn(c.PacketConn).SetICMPFilter(&f)
	}
	var f ipv6.ICMPFilter
	f.SetAll(true)
	for _, t := range v6 {
		f.Accept(t)
	}
	return ipv6.NewPacketConn(c.PacketConn).SetICMPFilter(&f)
}

// hearErrors lets the kernel keep what others say of the packets that a socket sent
// (Linux ip(7), IP_RECVERR).
func hearErrors(control syscall.RawConn, v4 bool) error {
	level, option := unix.IPPROTO_IP, unix.IP_RECVERR
	if !v4 {
		level, option = unix.IPPROTO_IPV6, unix.IPV6_RECVERR
	}
	var failed error
	return errors.Join(control.Control(func(fd uintptr) { failed = unix.SetsockoptInt(int(fd), level, option, 1) }), failed)
}

// saidError is an entry of a socket's error queue: the head of the packet that was
// sent, who said what of it, and the largest packet that passes where that is told.
type saidError struct {
	packet []byte
	from   netip.Addr
	kind   icmpKind
	mtu    int
}

// errorSaid reads an entry of the error queue (struct sock_extended_err); false for
// one that is not from another machine.
func errorSaid(packet, oob []byte, v4 bool) (saidError, bool) {
	messages, err := unix.ParseSocketControlMessage(oob)
	if err != nil {
		return saidError{}, false
	}
	const head, fromICMP, fromICMP6 = 16, 2, 3
	for _, m := range messages {
		if len(m.Data) < head+8 || m.Data[4] != fromICMP && m.Data[4] != fromICMP6 {
			continue
		}
		out := saidError{packet: packet, kind: icmpKind{v4: v4, kind: m.Data[5], code: m.Data[6]}, mtu: int(binary.NativeEndian.Uint32(m.Data[8:]))}
		switch who := m.Data[head:]; {
		case v4:
			out.from = netip.AddrFrom4([4]byte(who[4:8]))
		case len(who) >= 24:
			out.from = netip.AddrFrom16([16]byte(who[8:24]))
		}
		return out, true
	}
	return saidError{}, false
}

// errorsSaid takes what is in the error queue.
func (c *icmpConn) errorsSaid() (out []saidError) {
	buf, oob := make([]byte, 1<<16), make([]byte, 512)
	c.control.Control(func(fd uintptr) {
		for {
			n, size, _, _, err := unix.Recvmsg(int(fd), buf, oob, unix.MSG_ERRQUEUE|unix.MSG_DONTWAIT)
			if err != nil {
				return
			}
			if e, ok := errorSaid(slices.Clone(buf[:n]), oob[:size], c.v4); ok {
				out = append(out, e)
			}
		}
	})
	return out
}

// receive returns the next ICMP message, who sent it and when it arrived. One
// goroutine at a time may receive.
func (c *icmpConn) receive(buf []byte) (message []byte, from netip.Addr, at time.Time, err error) {
	n, oobn, who, err := c.read(buf, c.oob)
	at = time.Now()
	if err != nil {
		return nil, from, at, err
	}
	at = arrivedAt(c.oob[:oobn], at)
	switch a := who.(type) {
	case *net.IPAddr:
		from, _ = netip.AddrFromSlice(a.IP)
	case *net.UDPAddr:
		from, _ = netip.AddrFromSlice(a.IP)
	}
	message = buf[:n]
	if c.v4 && c.raw { // the IP header comes with it
		if n < ipv4.HeaderLen || n < int(buf[0]&0xf)*4 {
			return nil, from.Unmap(), at, nil
		}
		message = message[int(buf[0]&0xf)*4:]
		if !sumHolds(message) { // raw sockets get what the kernel itself would drop
			return nil, from.Unmap(), at, nil
		}
	}
	return message, from.Unmap(), at, nil
}

// sumHolds says whether the checksum of an ICMPv4 message is right (RFC 792, RFC 1071).
func sumHolds(message []byte) bool {
	sum := uint32(0)
	for i := 0; i+1 < len(message); i += 2 {
		sum += uint32(binary.BigEndian.Uint16(message[i:]))
	}
	if len(message)%2 == 1 {
		sum += uint32(message[len(message)-1]) << 8
	}
	for sum > 0xffff {
		sum = sum>>16 + sum&0xffff
	}
	return sum == 0xffff
}

// arrivedAt takes the time of arrival from a control message (SO_TIMESTAMPNS),
// as a time of the monotonic clock; now where there is none, or the clock was
// set meanwhile.
func arrivedAt(oob []byte, now time.Time) time.Time {
	messages, err := unix.ParseSocketControlMessage(oob)
	if err != nil {
		return now
	}
	for _, m := range messages {
		if m.Header.Level != unix.SOL_SOCKET || m.Header.Type != unix.SCM_TIMESTAMPNS || len(m.Data) < int(unsafe.Sizeof(unix.Timespec{})) {
			continue
		}
		ts := *(*unix.Timespec)(unsafe.Pointer(&m.Data[0]))
		if ago := now.Round(0).Sub(time.Unix(ts.Unix())); ago > 0 && ago < time.Second {
			return now.Add(-ago)
		}
	}
	return now
}

// icmpHead is how long the head of an echo request is (RFC 792, RFC 4443 §4.1).
const icmpHead = 8

// ipHead is how long the head of an IP packet without options is.
func ipHead(addr netip.Addr) int {
	if addr.Is4() {
		return ipv4.HeaderLen
	}
	return ipv6.HeaderLen
}

// pathMTU is what the kernel knows of the largest packet that passes whole to an address
// (RFC 1191, RFC 8201; IP_MTU of ip(7)); 0 where it knows nothing. It sends nothing.
func pathMTU(addr netip.Addr) int {
	conn, err := net.Dial("udp", netip.AddrPortFrom(addr, 9).String())
	if err != nil {
		return 0
	}
	defer conn.Close()
	raw, err := conn.(*net.UDPConn).SyscallConn()
	if err != nil {
		return 0
	}
	level, option := unix.IPPROTO_IP, unix.IP_MTU
	if !addr.Is4() {
		level, option = unix.IPPROTO_IPV6, unix.IPV6_MTU
	}
	mtu := 0
	raw.Control(func(fd uintptr) { mtu, err = unix.GetsockoptInt(int(fd), level, option) })
	if err != nil {
		return 0
	}
	return mtu
}
