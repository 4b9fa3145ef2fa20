package standin

import (
	"fmt"
	"net"
	"slices"
	"sync"
	"time"

	"github.com/miekg/dns"
)

// NameModes are what a name server can be made to do: wrong answers another
// address, refused answers REFUSED.
var NameModes = []string{OK, Slow, Wrong, Silent, Refused}

// Names is a simulated name server that knows some names' addresses.
type Names struct {
	ID, Name string
	Addr     string            // host:port in 127.0.0.0/8
	Known    map[string]string // name: IPv4 address
	Latency  time.Duration

	mu      sync.Mutex
	mode    string
	servers []*dns.Server
}

// Mode is what it does at present.
func (n *Names) Mode() string {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.mode == "" {
		return OK
	}
	return n.mode
}

// Set changes what it does, and starts it if it was not; it fails for an
// unknown mode or when the address is taken.
func (n *Names) Set(mode string) error {
	if !slices.Contains(NameModes, mode) {
		return fmt.Errorf("%q is no mode of a name server; it is one of %v", mode, NameModes)
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	n.mode = mode
	if n.servers != nil {
		return nil
	}
	datagrams, err := net.ListenPacket("udp", n.Addr)
	if err != nil {
		return fmt.Errorf("stand-in %s: %w", n.ID, err)
	}
	streams, err := net.Listen("tcp", n.Addr)
	if err != nil {
		datagrams.Close()
		return fmt.Errorf("stand-in %s: %w", n.ID, err)
	}
	n.servers = []*dns.Server{{PacketConn: datagrams, Handler: dns.HandlerFunc(n.answer)}, {Listener: streams, Handler: dns.HandlerFunc(n.answer)}}
	for _, s := range n.servers {
		up := make(chan struct{})
		s.NotifyStartedFunc = func() { close(up) }
		go s.ActivateAndServe()
		<-up
	}
	return nil
}

// Close ends it.
func (n *Names) Close() error {
	n.mu.Lock()
	defer n.mu.Unlock()
	for _, s := range n.servers {
		s.Shutdown()
	}
	n.servers = nil
	return nil
}

func (n *Names) answer(w dns.ResponseWriter, ask *dns.Msg) {
	mode := n.Mode()
	switch mode {
	case Silent:
		return
	case Slow:
		time.Sleep(SlowFor)
	default:
		time.Sleep(n.Latency)
	}
	out := new(dns.Msg)
	out.SetReply(ask)
	if mode == Refused {
		out.Rcode = dns.RcodeRefused
	} else if len(ask.Question) == 1 {
		q := ask.Question[0]
		address, known := n.Known[q.Name[:max(0, len(q.Name)-1)]]
		switch {
		case !known:
			out.Rcode = dns.RcodeNameError
		case q.Qtype == dns.TypeA:
			if mode == Wrong {
				address = "127.0.0.1"
			}
			const ttl = 300
			out.Answer = append(out.Answer, &dns.A{Hdr: dns.RR_Header{Name: q.Name, Rrtype: dns.TypeA, Class: dns.ClassINET, Ttl: ttl}, A: net.ParseIP(address)})
		}
	}
	w.WriteMsg(out)
}
