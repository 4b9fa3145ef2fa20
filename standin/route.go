package standin

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"os/exec"
	"os/user"
	"slices"
	"strings"
	"sync"
	"time"
	"unsafe"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"
	"golang.org/x/sys/unix"
)

// Modes of a route beside ok and silent.
const (
	Detour     = "detour"     // takes other hops
	Lossy      = "lossy"      // loses a third of the packets beyond its second hop
	SilentHop  = "silent hop" // the second hop forwards and does not answer
	Prohibited = "prohibited" // the last router refuses, administratively
)

// RouteModes are what a route can be made to do.
var RouteModes = []string{OK, Detour, Lossy, SilentHop, Prohibited, Silent}

// Route is a simulated way through several routers to a target, behind a TUN
// device: the kernel hands over packets for its network, and what the routers
// and the target would answer comes back. Making the device needs root, or sudo
// without a question.
type Route struct {
	ID, Name string
	Device   string
	Network  netip.Prefix
	Hops     []netip.Addr // routers, the nearest first
	Detour   []netip.Addr // routers of the detour
	Target   netip.Addr
	PerHop   time.Duration // there and back

	mu   sync.Mutex
	mode string
	tun  *os.File
}

// Info says what it is.
func (r *Route) Info() Info {
	return Info{r.ID, r.Name, "route", r.Target.String(), r.Mode(), RouteModes}
}

// Mode is what it does at present.
func (r *Route) Mode() string {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.mode == "" {
		return OK
	}
	return r.mode
}

// Set changes what it does, and starts it if it was not.
func (r *Route) Set(mode string) error {
	if !slices.Contains(RouteModes, mode) {
		return fmt.Errorf("%q is no mode of a route; it is one of %v", mode, RouteModes)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.tun == nil {
		if err := r.open(); err != nil {
			return err
		}
	}
	r.mode = mode
	return nil
}

// Close takes the device away.
func (r *Route) Close() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.tun == nil {
		return nil
	}
	err := r.tun.Close()
	r.tun = nil
	return errors.Join(err, asRoot("ip", "link", "del", r.Device))
}

// asRoot runs a command as root.
func asRoot(args ...string) error {
	if os.Geteuid() != 0 {
		args = append([]string{"sudo", "-n"}, args...)
	}
	cmd := exec.CommandContext(context.Background(), args[0], args[1:]...)
	cmd.Env = append(os.Environ(), "PATH="+os.Getenv("PATH")+":/usr/sbin:/sbin")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%s (it needs root, or sudo without a question): %w: %s", strings.Join(args, " "), err, bytes.TrimSpace(out))
	}
	return nil
}

// open makes the device and begins to answer on it.
func (r *Route) open() error {
	me, err := user.Current()
	if err != nil {
		return err
	}
	_ = asRoot("ip", "link", "del", r.Device) // one that a killed run left behind; there is none as a rule
	for _, args := range [][]string{
		{"ip", "tuntap", "add", "dev", r.Device, "mode", "tun", "user", me.Uid},
		{"ip", "link", "set", r.Device, "up"},
		{"ip", "addr", "add", r.Network.Addr().Next().String() + "/32", "dev", r.Device},
		{"ip", "route", "add", r.Network.String(), "dev", r.Device},
	} {
		if err := asRoot(args...); err != nil {
			return fmt.Errorf("the route %s cannot be simulated here: %w", r.ID, err)
		}
	}
	if r.tun, err = openTUN(r.Device); err != nil {
		return fmt.Errorf("the route %s cannot be simulated here: %w", r.ID, err)
	}
	go r.answer(r.tun)
	return nil
}

const tunSetIFF = 0x400454ca // Linux if_tun.h

func openTUN(device string) (*os.File, error) {
	fd, err := unix.Open("/dev/net/tun", unix.O_RDWR|unix.O_CLOEXEC|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, os.NewSyscallError("open /dev/net/tun", err)
	}
	request := struct {
		name  [16]byte
		flags uint16
		_     [22]byte
	}{flags: unix.IFF_TUN | unix.IFF_NO_PI}
	copy(request.name[:], device)
	if _, _, errno := unix.Syscall(unix.SYS_IOCTL, uintptr(fd), tunSetIFF, uintptr(unsafe.Pointer(&request))); errno != 0 {
		unix.Close(fd)
		return nil, os.NewSyscallError("ioctl TUNSETIFF", errno)
	}
	return os.NewFile(uintptr(fd), "/dev/net/tun"), nil
}

// answer takes packets until the device is closed.
func (r *Route) answer(tun *os.File) {
	buf := make([]byte, 1<<16)
	for {
		n, err := tun.Read(buf)
		if err != nil {
			return
		}
		packet := slices.Clone(buf[:n])
		if back, after := r.forward(packet); back != nil {
			time.AfterFunc(after, func() { tun.Write(back) })
		}
	}
}

// forward is what comes back for a packet, and when; nil for nothing.
func (r *Route) forward(packet []byte) ([]byte, time.Duration) {
	h, err := ipv4.ParseHeader(packet)
	if err != nil || h.Len > len(packet) {
		return nil, 0
	}
	to, _ := netip.AddrFromSlice(h.Dst.To4())
	mode := r.Mode()
	hops := r.Hops
	if mode == Detour {
		hops = r.Detour
	}
	if to != r.Target || mode == Silent {
		return nil, 0
	}
	at := min(h.TTL, len(hops)+1) // how far it comes
	if mode == Prohibited {
		at = min(at, len(hops))
	}
	const lossyFrom, third = 2, 3
	if mode == Lossy && at > lossyFrom && rand.IntN(third) == 0 || mode == SilentHop && at == lossyFrom {
		return nil, 0
	}
	after := time.Duration(at) * r.PerHop
	switch {
	case at <= len(hops) && mode == Prohibited && at == len(hops) && h.TTL >= at:
		const byFilter = 13 // RFC 1812 §5.2.7.1
		return r.complain(hops[at-1], h, packet, ipv4.ICMPTypeDestinationUnreachable, byFilter), after
	case at <= len(hops):
		return r.complain(hops[at-1], h, packet, ipv4.ICMPTypeTimeExceeded, 0), after
	}
	return r.reply(h, packet), after
}

// complain is an ICMP error about a packet.
func (r *Route) complain(from netip.Addr, h *ipv4.Header, packet []byte, kind ipv4.ICMPType, code int) []byte {
	quoted := packet[:min(len(packet), h.Len+64)]
	var body icmp.MessageBody = &icmp.TimeExceeded{Data: quoted}
	if kind == ipv4.ICMPTypeDestinationUnreachable {
		body = &icmp.DstUnreach{Data: quoted}
	}
	return datagram(from, h, &icmp.Message{Type: kind, Code: code, Body: body})
}

// reply is what the target says.
func (r *Route) reply(h *ipv4.Header, packet []byte) []byte {
	const protocolICMP, protocolUDP, portUnreachable = 1, 17, 3
	switch h.Protocol {
	case protocolICMP:
		m, err := icmp.ParseMessage(protocolICMP, packet[h.Len:])
		if err != nil || m.Type != ipv4.ICMPTypeEcho {
			return nil
		}
		m.Type = ipv4.ICMPTypeEchoReply
		return datagram(r.Target, h, m)
	case protocolUDP:
		return r.complain(r.Target, h, packet, ipv4.ICMPTypeDestinationUnreachable, portUnreachable)
	}
	return nil
}

// datagram is an IPv4 packet with an ICMP message, back to where another came from.
func datagram(from netip.Addr, h *ipv4.Header, m *icmp.Message) []byte {
	body, err := m.Marshal(nil)
	if err != nil {
		return nil
	}
	const ttl, protocolICMP, checksumAt = 64, 1, 10
	head, err := (&ipv4.Header{Version: ipv4.Version, Len: ipv4.HeaderLen, TotalLen: ipv4.HeaderLen + len(body), TTL: ttl, Protocol: protocolICMP, Src: from.AsSlice(), Dst: h.Src}).Marshal()
	if err != nil {
		return nil
	}
	binary.BigEndian.PutUint16(head[2:], uint16(ipv4.HeaderLen+len(body)))
	var sum uint32
	for i := 0; i < len(head); i += 2 {
		sum += uint32(binary.BigEndian.Uint16(head[i:]))
	}
	for sum>>16 != 0 {
		sum = sum>>16 + sum&0xffff
	}
	binary.BigEndian.PutUint16(head[checksumAt:], ^uint16(sum))
	return append(head, body...)
}
