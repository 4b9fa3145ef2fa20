package instrument

import (
	"context"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"

	"kestite/core/definition"
	"kestite/core/measure"
)

// zone is a name server with one record of each kind that the tests ask for. A
// TXT answer is too long for a datagram, so that it comes over TCP.
func zone(t *testing.T) string {
	t.Helper()
	records := map[uint16][]string{
		dns.TypeA:     {"tickets.skerry.example. 300 IN A 127.77.0.12", "tickets.skerry.example. 60 IN A 127.77.0.13"},
		dns.TypeAAAA:  {"tickets.skerry.example. 300 IN AAAA ::1"},
		dns.TypeMX:    {"tickets.skerry.example. 300 IN MX 10 mail.skerry.example."},
		dns.TypeCNAME: {"tickets.skerry.example. 300 IN CNAME Front.Skerry.example."},
		dns.TypeTXT:   {`tickets.skerry.example. 300 IN TXT "` + strings.Repeat("quay ", 50) + `"`},
	}
	for range 5 {
		records[dns.TypeTXT] = append(records[dns.TypeTXT], records[dns.TypeTXT]...)
	}
	handler := dns.HandlerFunc(func(w dns.ResponseWriter, ask *dns.Msg) {
		out := new(dns.Msg)
		out.SetReply(ask)
		switch name := ask.Question[0].Name; name {
		case "tickets.skerry.example.":
			for _, text := range records[ask.Question[0].Qtype] {
				r, err := dns.NewRR(text)
				if err != nil {
					panic(err)
				}
				out.Answer = append(out.Answer, r)
			}
		case "signed.skerry.example.":
			r, _ := dns.NewRR("signed.skerry.example. 300 IN A 127.0.0.1")
			out.Answer, out.AuthenticatedData = append(out.Answer, r), true
		case "broken.skerry.example.":
			out.Rcode = dns.RcodeServerFailure
		case "version.skerry.example.":
			out.SetEdns0(1232, false)
			out.Rcode = dns.RcodeBadVers
		case "fewer.skerry.example.":
			r, _ := dns.NewRR("fewer.skerry.example. 300 IN A 127.0.0.1")
			out.Answer = append(out.Answer, r)
			packet, err := out.Pack()
			if err != nil {
				panic(err)
			}
			packet[7] = 3 // answers, as its head counts them
			w.Write(packet)
			return
		case "silent.skerry.example.":
			return
		default:
			out.Rcode = dns.RcodeNameError
		}
		if _, datagram := w.RemoteAddr().(*net.UDPAddr); datagram {
			out.Truncate(1232)
		}
		w.WriteMsg(out)
	})
	packets, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	streams, err := net.Listen("tcp", packets.LocalAddr().String())
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range []*dns.Server{{PacketConn: packets, Handler: handler}, {Listener: streams, Handler: handler}} {
		up := make(chan struct{})
		s.NotifyStartedFunc = func() { close(up) }
		go s.ActivateAndServe()
		<-up
		t.Cleanup(func() { s.Shutdown() })
	}
	return packets.LocalAddr().String()
}

func TestDNS(t *testing.T) {
	server := zone(t)
	s := NewSet(LocalPolicy())
	defer s.Close()
	const name = "tickets.skerry.example"
	for what, c := range map[string]struct {
		name    string
		set     definition.DNSSettings
		outcome measure.Outcome
		says    string
	}{
		"an address":            {name, definition.DNSSettings{}, measure.OK, ""},
		"the expected one":      {name, definition.DNSSettings{Type: "A", Expect: "127.77.0.13"}, measure.OK, ""},
		"another one":           {name, definition.DNSSettings{Type: "A", Expect: "127.0.0.1"}, measure.Failed, "expected 127.0.0.1, and the answer is 127.77.0.12, 127.77.0.13"},
		"IPv6, written longer":  {name, definition.DNSSettings{Type: "AAAA", Expect: "0:0:0:0:0:0:0:1"}, measure.OK, ""},
		"mail":                  {name, definition.DNSSettings{Type: "MX", Expect: "10 mail.skerry.example."}, measure.OK, ""},
		"a name, in any case":   {name, definition.DNSSettings{Type: "CNAME", Expect: "front.skerry.example"}, measure.OK, ""},
		"too long for UDP":      {name, definition.DNSSettings{Type: "TXT", Expect: strings.Repeat("quay ", 50)}, measure.OK, ""},
		"no record of the type": {name, definition.DNSSettings{Type: "SRV"}, measure.Failed, "has no SRV record"},
		"no such name":          {"ferries.skerry.example", definition.DNSSettings{}, measure.Failed, "there is no name ferries.skerry.example"},
		"a server in trouble":   {"broken.skerry.example", definition.DNSSettings{}, measure.Failed, "SERVFAIL"},
		"another EDNS":          {"version.skerry.example", definition.DNSSettings{}, measure.Failed, "answers BADVERS"},
		"counts what is not":    {"fewer.skerry.example", definition.DNSSettings{}, measure.Failed, "it counts 3 answers, and 1 are there"},
		"verified":              {"signed.skerry.example", definition.DNSSettings{Signed: true}, measure.OK, ""},
		"not verified":          {name, definition.DNSSettings{Signed: true}, measure.Failed, "AD flag"},
		"silence":               {"silent.skerry.example", definition.DNSSettings{}, measure.Failed, "no answer from " + server + " within 400 ms"},
	} {
		c.set.Resolver = server
		patience := 10 * time.Second
		if what == "silence" {
			patience = 400 * time.Millisecond
		}
		r := s.Measure(context.Background(), Task{Kind: "dns", Target: c.name, Timeout: patience, Settings: definition.Settings{DNS: &c.set}})
		if r.Outcome != c.outcome || !strings.Contains(r.Detail, c.says) {
			t.Errorf("%s: %s %q, not %s %q", what, r.Outcome, r.Detail, c.outcome, c.says)
		}
	}
	m := s.Measure(context.Background(), Task{Kind: "dns", Target: name, Timeout: time.Second, Settings: definition.Settings{DNS: &definition.DNSSettings{Resolver: server}}}).Measures("dns")
	if m["answers"] != 2 || m["ttl_s"] != 60 || m["total_ms"] <= 0 {
		t.Errorf("measures %v", m)
	}
	for _, c := range []struct {
		resolver, says string
		outcome        measure.Outcome
	}{{"127.0.0.1:1", "connection refused", measure.Failed}, {"169.254.169.254", "policy forbids", measure.Error}, {"not a resolver", "no resolver", measure.Error}} {
		r := s.Measure(context.Background(), Task{Kind: "dns", Target: name, Timeout: time.Second, Settings: definition.Settings{DNS: &definition.DNSSettings{Resolver: c.resolver}}})
		if r.Outcome != c.outcome || !strings.Contains(r.Detail, c.says) {
			t.Errorf("%s: %s %q", c.resolver, r.Outcome, r.Detail)
		}
	}
}
