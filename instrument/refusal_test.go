package instrument_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/instrument"
)

// Who says that a ping cannot arrive is heard at once, with the reason; so is an
// answer from an address that was not asked; with raw sockets and without.
func TestWhatRoutersSayOfAPing(t *testing.T) {
	t.Parallel() // it waits more than it measures
	n := newNetwork(t)
	if n == nil {
		return
	}
	n.calm()
	n.at("r2", "ip", "route", "add", "198.18.93.0/24", "via", "198.18.2.1") // back to where it came from
	n.at("r2", "ip", "-6", "route", "add", "fd77:93::/64", "via", "fd77:2::1")
	n.at("r1", "ip", "link", "set", "to-r2", "mtu", "1300")
	n.at("r2", "ip", "link", "set", "to-r1", "mtu", "1300")
	n.at("target", "ip", "addr", "add", "198.18.9.77/32", "dev", "lo")
	n.at("r3", "ip", "route", "add", "198.18.9.77/32", "via", "198.18.9.2")
	n.at("target", "nft", "add table ip mask { chain out { type filter hook output priority 0; ip daddr 198.18.1.1 ip saddr 198.18.9.77 icmp type echo-reply ip saddr set 198.18.9.2; }; }")
	n.at("client", "sysctl", "-q", "-w", "net.ipv4.ping_group_range=0 2147483647")
	as := map[string][]string{"root": nil, "user": {"setpriv", "--reuid=65534", "--regid=65534", "--clear-groups"}}
	for who, prefix := range as {
		measured := n.measurer("client", prefix...)
		ping := func(target string, size int) insideResult {
			return measured(instrument.Task{Kind: "ping", Target: target, Timeout: 3 * time.Second, Settings: definition.Settings{Ping: &definition.PingSettings{Packets: 5, SizeBytes: size, SpacingMS: 500}}})
		}
		for _, c := range []struct {
			target string
			size   int
			says   string
		}{
			{"198.18.90.2", 56, "198.18.6.2 says of 198.18.90.2: administratively prohibited"},
			{"198.18.91.2", 56, "198.18.6.2 says of 198.18.91.2: host unreachable"},
			{"198.18.93.2", 56, "says of 198.18.93.2: time to live exceeded"},
			{"fd77:93::2", 56, "says of fd77:93::2: time to live exceeded"},
			{target4, 1400, "198.18.1.2 says of 198.18.9.2: fragmentation needed, the largest that passes has 1300 bytes"},
			{target6, 1400, "fd77:1::2 says of fd77:9::2: the packet is too big, the largest that passes has 1300 bytes"},
		} {
			n.at("client", "ip", "route", "flush", "cache") // which knows what fits, otherwise
			n.at("client", "ip", "-6", "route", "flush", "cache")
			r := ping(c.target, c.size)
			if c.size > 1300 { // the others go on in pieces
				// An answer may not fit either.
				if r.Outcome != measure.OK || r.Measures["loss_percent"] < 20 || r.Measures["loss_percent"] > 40 || r.Findings == nil || !strings.Contains(strings.Join(r.Findings.Notes, "; "), c.says) {
					t.Errorf("%s as %s: %v %q %v %+v, want a note %q", c.target, who, r.Outcome, r.Detail, r.Measures, r.Findings, c.says)
				}
				continue
			}
			if r.Outcome != measure.Failed || !strings.Contains(r.Detail, c.says) || r.Measures["loss_percent"] != 100 {
				t.Errorf("%s as %s: %v %q %v, want %q", c.target, who, r.Outcome, r.Detail, r.Measures, c.says)
			}
		}
		r := ping("198.18.9.77", 56)
		if r.Outcome != measure.OK || r.Findings == nil || !slices.Contains(r.Findings.Notes, "198.18.9.2 answered, and 198.18.9.77 was asked") {
			t.Errorf("answered by another, as %s: %v %q %+v", who, r.Outcome, r.Detail, r.Findings)
		}
		if r := ping(target4, 56); r.Outcome != measure.OK || r.Findings != nil && len(r.Findings.Notes) > 0 {
			t.Errorf("as %s: %v %q %+v", who, r.Outcome, r.Detail, r.Findings)
		}
		loop := measured(trace("198.18.93.2", definition.PathSettings{MaxHops: 64, Rounds: 2, SpacingMS: 300}))
		if loop.Outcome != measure.Failed || !strings.Contains(loop.Detail, "the way is a loop: from hop 1 on, packets go round by 198.18.1.2, 198.18.2.2") || len(loop.Findings.Trace.Hops) > 20 {
			t.Errorf("a loop as %s: %v %q, %d hops", who, loop.Outcome, loop.Detail, len(loop.Findings.Trace.Hops))
		}
	}
	measured := n.measurer("client")
	r := measured(instrument.Task{Kind: "udp", Target: target4 + ":9", Timeout: 20 * time.Second, Settings: definition.Settings{UDP: &definition.UDPSettings{Packets: 3000}}})
	if r.Outcome != measure.Failed || !strings.Contains(r.Detail, "connection refused") {
		t.Errorf("a closed port: %v %q", r.Outcome, r.Detail)
	}
}
