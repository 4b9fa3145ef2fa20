package instrument

import (
	"context"
	"net"
	"net/netip"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/miekg/dns"

	"kestite/core/definition"
	"kestite/core/measure"
)

// Every address is tried, those that refuse at once and those that say nothing
// beside the next; the first that answers is taken, and what came of the others is told.
func TestAddressesAreTriedInTurn(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.9:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	port := uint16(l.Addr().(*net.TCPAddr).Port)
	// A listener whose queue is full says nothing to whoever comes next.
	mute := full(t, port)
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	var notes dialled
	list := []netip.Addr{mute, netip.MustParseAddr("127.0.0.7"), netip.MustParseAddr("127.0.0.9")}
	conn, err := dial(ctx, list, port, &notes)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	if got := conn.RemoteAddr().(*net.TCPAddr).IP.String(); got != "127.0.0.9" {
		t.Errorf("%s answered", got)
	}
	if got := strings.Join(notes.list(), "; "); got != "127.0.0.7: connection refused" {
		t.Errorf("tried: %s", got)
	}
	if _, err := dial(ctx, list[1:2], port, &notes); err == nil || reason(err) != "connection refused" {
		t.Errorf("where none answers: %v", err)
	}
}

// full is an address on which a connection is neither taken nor refused.
func full(t *testing.T, port uint16) netip.Addr {
	t.Helper()
	addr := netip.MustParseAddr("127.0.0.8")
	fd, err := syscall.Socket(syscall.AF_INET, syscall.SOCK_STREAM, 0)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { syscall.Close(fd) })
	if err := syscall.Bind(fd, &syscall.SockaddrInet4{Port: int(port), Addr: addr.As4()}); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Listen(fd, 0); err != nil {
		t.Fatal(err)
	}
	for range 4 {
		ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
		conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", netip.AddrPortFrom(addr, port).String())
		cancel()
		if err != nil {
			return addr
		}
		t.Cleanup(func() { conn.Close() })
	}
	t.Fatal("the queue does not fill")
	return addr
}

// What is the machine's own trouble says nothing of a target.
func TestOwnTroubleIsNoFailure(t *testing.T) {
	for err, own := range map[error]bool{
		&net.DNSError{Err: "no such host", Name: "x.example", IsNotFound: true}:                                                         false,
		&net.DNSError{Err: "server misbehaving", Name: "x.example", IsTemporary: true}:                                                  false,
		&net.DNSError{Err: "i/o timeout", Name: "x.example", IsTimeout: true}:                                                           true,
		&net.DNSError{Err: "read udp 127.0.0.1:4->127.0.0.1:53: read: connection refused", Name: "x.example"}:                           true,
		&net.DNSError{Err: "dial udp 192.0.2.1:53: connect: network is unreachable", Name: "x.example", UnwrapErr: syscall.ENETUNREACH}: true,
		&net.OpError{Op: "dial", Err: syscall.EHOSTUNREACH}:                                                                             false,
		&net.OpError{Op: "dial", Err: syscall.ECONNREFUSED}:                                                                             false,
		&net.OpError{Op: "dial", Err: syscall.EPERM}:                                                                                    true,
	} {
		r := failure(measure.TCP, err)
		if got := r.Outcome == measure.Error; got != own {
			t.Errorf("%v is %v %q", err, r.Outcome, r.Detail)
		}
	}
	if noRoute(netip.MustParseAddr("127.0.0.1")) {
		t.Error("there is no route to this machine itself")
	}
}

// liar is a name server that answers with what it is told, datagram by datagram.
func liar(t *testing.T, say func(ask *dns.Msg) [][]byte) string {
	t.Helper()
	conn, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	go func() {
		buf := make([]byte, 1<<16)
		for {
			n, from, err := conn.ReadFrom(buf)
			if err != nil {
				return
			}
			ask := new(dns.Msg)
			if ask.Unpack(buf[:n]) != nil {
				continue
			}
			for _, packet := range say(ask) {
				conn.WriteTo(packet, from)
			}
		}
	}()
	return conn.LocalAddr().String()
}

// What is no answer to the question is ignored and waited on, and records of
// others do not count.
func TestDNSTakesAnswersToItsQuestionAlone(t *testing.T) {
	t.Parallel() // it waits more than it measures
	record := func(text string) dns.RR {
		r, err := dns.NewRR(text)
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	pack := func(m *dns.Msg) []byte {
		out, err := m.Pack()
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	answer := func(ask *dns.Msg, change func(*dns.Msg), records ...string) []byte {
		m := new(dns.Msg).SetReply(ask)
		for _, text := range records {
			m.Answer = append(m.Answer, record(text))
		}
		if change != nil {
			change(m)
		}
		return pack(m)
	}
	const good, bad = "tickets.skerry.example. 60 IN A 127.77.0.12", "tickets.skerry.example. 60 IN A 127.0.0.66"
	strange := map[string]func(*dns.Msg) []byte{
		"two bytes":   func(*dns.Msg) []byte { return []byte{1, 2} },
		"nothing":     func(*dns.Msg) []byte { return nil },
		"another id":  func(a *dns.Msg) []byte { return answer(a, func(m *dns.Msg) { m.Id++ }, bad) },
		"no response": func(a *dns.Msg) []byte { return answer(a, func(m *dns.Msg) { m.Response = false }, bad) },
		"another question": func(a *dns.Msg) []byte {
			return answer(a, func(m *dns.Msg) { m.Question[0].Name = "freight.skerry.example." }, bad)
		},
		"another type":         func(a *dns.Msg) []byte { return answer(a, func(m *dns.Msg) { m.Question[0].Qtype = dns.TypeTXT }, bad) },
		"without its question": func(a *dns.Msg) []byte { return answer(a, func(m *dns.Msg) { m.Question = nil }, bad) },
		"another opcode":       func(a *dns.Msg) []byte { return answer(a, func(m *dns.Msg) { m.Opcode = dns.OpcodeNotify }, bad) },
	}
	s := NewSet(LocalPolicy())
	defer s.Close()
	ask := func(server, target string, timeout time.Duration, set definition.DNSSettings) Result {
		set.Resolver = server
		return s.Measure(t.Context(), Task{Kind: "dns", Target: target, Timeout: timeout, Settings: definition.Settings{DNS: &set}})
	}
	for name, packet := range strange {
		server := liar(t, func(a *dns.Msg) [][]byte { return [][]byte{packet(a), packet(a), answer(a, nil, good)} })
		if r := ask(server, "tickets.skerry.example", 10*time.Second, definition.DNSSettings{Expect: "127.77.0.12"}); r.Outcome != measure.OK {
			t.Errorf("%s before the answer: %v %q", name, r.Outcome, r.Detail)
		}
		server = liar(t, func(a *dns.Msg) [][]byte { return [][]byte{packet(a)} })
		if r := ask(server, "tickets.skerry.example", 300*time.Millisecond, definition.DNSSettings{}); r.Outcome != measure.Failed || name != "nothing" && !strings.Contains(r.Detail, "datagrams that are none") {
			t.Errorf("%s alone: %v %q", name, r.Outcome, r.Detail)
		}
	}
	// Records of another owner, unless CNAME records lead there.
	server := liar(t, func(a *dns.Msg) [][]byte {
		return [][]byte{answer(a, nil, "quay.skerry.example. 5 IN A 127.0.0.66", "TICKETS.skerry.example. 60 IN CNAME front.skerry.example.", "front.skerry.example. 50 IN CNAME gate.skerry.example.", "gate.skerry.example. 40 IN A 127.77.0.12")}
	})
	if r := ask(server, "tickets.skerry.example", time.Second, definition.DNSSettings{Expect: "127.0.0.66"}); r.Outcome != measure.Failed || r.Measures("dns")["answers"] != 1 || r.Measures("dns")["ttl_s"] != 40 {
		t.Errorf("a record of another: %v %q %v", r.Outcome, r.Detail, r.Measures("dns"))
	}
	// Texts as dig +short prints them, or joined; with case, where the type has case.
	server = liar(t, func(a *dns.Msg) [][]byte {
		return [][]byte{answer(a, nil, map[uint16]string{
			dns.TypeTXT: `tickets.skerry.example. 60 IN TXT "harbour = " "Tolvik; \"east\" quay"`,
			dns.TypeCAA: `tickets.skerry.example. 60 IN CAA 0 issue "Authority.skerry.example"`,
			dns.TypeMX:  `tickets.skerry.example. 60 IN MX 10 Mail.skerry.example.`,
			dns.TypePTR: a.Question[0].Name + ` 60 IN PTR gate.skerry.example.`,
			dns.TypeNS:  a.Question[0].Name + ` 60 IN NS root.skerry.example.`,
			dns.TypeA:   a.Question[0].Name + ` 60 IN A 127.77.0.12`,
		}[a.Question[0].Qtype])}
	})
	for _, c := range []struct {
		target, kind, expect string
		want                 measure.Outcome
	}{
		{"tickets.skerry.example", "TXT", `"harbour = " "Tolvik; \"east\" quay"`, measure.OK},
		{"tickets.skerry.example", "TXT", `harbour = Tolvik; "east" quay`, measure.OK},
		{"tickets.skerry.example", "TXT", `harbour = tolvik; "east" quay`, measure.Failed},
		{"tickets.skerry.example", "CAA", `0 issue "Authority.skerry.example"`, measure.OK},
		{"tickets.skerry.example", "CAA", `0 issue "authority.skerry.example"`, measure.Failed},
		{"tickets.skerry.example", "MX", `10 mail.skerry.example`, measure.OK},
		{"198.18.4.2", "PTR", `gate.skerry.example`, measure.OK},
		{"fd77::1", "PTR", `gate.skerry.example`, measure.OK},
		{".", "NS", `root.skerry.example`, measure.OK},
		{"brygge-øst.example", "A", `127.77.0.12`, measure.OK},
	} {
		if r := ask(server, c.target, time.Second, definition.DNSSettings{Type: c.kind, Expect: c.expect}); r.Outcome != c.want {
			t.Errorf("%s %s, expecting %s: %v %q", c.kind, c.target, c.expect, r.Outcome, r.Detail)
		}
		if err := definition.ValidTarget("dns", c.target); err != nil {
			t.Errorf("%s: %v", c.target, err)
		}
	}
	for given, want := range map[string]string{"198.18.4.2": "2.4.18.198.in-addr.arpa.", "brygge-øst.example": "xn--brygge-st-r8a.example."} {
		kind := uint16(dns.TypeA)
		if given == "198.18.4.2" {
			kind = dns.TypePTR
		}
		if got, err := queryName(given, kind); err != nil || !strings.EqualFold(got, want) {
			t.Errorf("%s asks for %s, %v; not %s", given, got, err, want)
		}
	}
}
