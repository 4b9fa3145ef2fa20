package instrument

import (
	"context"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
	"time"

	"kestite/core/definition"
	"kestite/core/measure"
)

func policy(t *testing.T, allow, forbid string) *Policy {
	t.Helper()
	p, err := NewPolicy(strings.Fields(allow), strings.Fields(forbid))
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func TestPolicy(t *testing.T) {
	for name, c := range map[string]struct {
		allow, forbid string
		may, mayNot   string
	}{
		"what goes without saying": {"", "",
			"192.0.2.7 10.0.0.1 172.16.3.4 192.168.1.1 2001:db8::1 fd00::1 64:ff9b::c000:207 2002:c000:207::1 198.18.0.1",
			// loopback, this machine, link-local and metadata, as themselves
			"127.0.0.1 127.255.255.254 ::1 0.0.0.0 :: 0.1.2.3 169.254.169.254 fe80::1 febf::1 fd00:ec2::254 100.100.100.200 224.0.0.1 ff02::1 255.255.255.255 " +
				// with a zone, and within IPv6 in every form
				"fe80::1%eth0 ::1%lo ::ffff:127.0.0.1 ::ffff:169.254.169.254 ::127.0.0.1 ::169.254.169.254 64:ff9b::169.254.169.254 64:ff9b:1::7f00:1 " +
				"64:ff9b:1:a9fe:a9:fe00:: 2002:7f00:1:: 2002:a9fe:a9fe::5 2001:0:5ef5:79fd:0:0:80ff:fffe fd00::5efe:127.0.0.1 2001:db8::200:5efe:169.254.169.254"},
		"its own machine": {"127.0.0.0/8 ::1", "", "127.0.0.1 ::1 ::ffff:127.0.0.1 2002:7f00:1::",
			"0.0.0.0 169.254.169.254 fe80::1%lo"},
		"all but one network": {"", "10.20.0.0/16", "10.21.0.1 192.0.2.1", "10.20.3.4 ::ffff:10.20.3.4 64:ff9b::a14:304 127.0.0.1"},
		"one network alone": {"198.18.0.0/15 2001:db8::/32", "0.0.0.0/0 ::/0", "198.18.0.1 198.19.255.1 2001:db8::9",
			"198.20.0.1 10.0.0.1 127.0.0.1 2001:db9::9"},
		"everything allowed":        {"0.0.0.0/0 ::/0", "", "192.0.2.1", "127.0.0.1 169.254.169.254 fe80::1"}, // said in general, it does not mean these
		"a host of its own network": {"10.20.3.4", "10.20.0.0/16", "10.20.3.4", "10.20.3.5"},
		"forbidding goes first":     {"10.20.0.0/16", "10.20.0.0/16", "10.21.0.1", "10.20.0.1"},
		"metadata on purpose":       {"169.254.169.254", "", "169.254.169.254", "169.254.169.253"},
	} {
		p := policy(t, c.allow, c.forbid)
		for _, text := range strings.Fields(c.may) {
			if err := p.allowed(netip.MustParseAddr(text)); err != nil {
				t.Errorf("%s: %v", name, err)
			}
		}
		for _, text := range strings.Fields(c.mayNot) {
			if err := p.allowed(netip.MustParseAddr(text)); err == nil || !strings.Contains(err.Error(), "policy forbids") || !ours(err) {
				t.Errorf("%s: %s may be measured (%v)", name, text, err)
			}
		}
	}
	for _, text := range []string{"", "ten", "10.0.0.0/33", "10.0.0.1-10.0.0.9", "::ffff:10.0.0.0/104", "fe80::1%eth0"} {
		if _, err := NewPolicy(nil, []string{text}); err == nil || !strings.Contains(err.Error(), "198.18.0.0/15") {
			t.Errorf("%q: %v", text, err)
		}
	}
}

// The address that is dialled is checked, for every kind and after every redirect.
func TestPolicyHoldsForEveryKind(t *testing.T) {
	asked := 0
	inner := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked++ }))
	defer inner.Close()
	_, port, _ := strings.Cut(strings.TrimPrefix(inner.URL, "http://"), ":")
	outer := httptest.NewUnstartedServer(http.RedirectHandler(inner.URL+"/secret", http.StatusFound))
	listener, err := net.Listen("tcp", "127.0.0.2:0")
	if err != nil {
		t.Fatal(err)
	}
	outer.Listener = listener
	outer.Start()
	defer outer.Close()
	s := NewSet(policy(t, "127.0.0.2", ""))
	defer s.Close()
	strict := NewSet(policy(t, "", ""))
	defer strict.Close()
	second := time.Second
	for name, c := range map[string]struct {
		set  *Set
		task Task
	}{
		"ping": {strict, Task{Kind: "ping", Target: "127.0.0.1",
			Settings: definition.Settings{Ping: &definition.PingSettings{Packets: 1, SpacingMS: 10}}}},
		"http":         {strict, Task{Kind: "http", Target: inner.URL}},
		"http by name": {strict, Task{Kind: "http", Target: "http://localhost:" + port}},
		"http after a redirect": {s, Task{Kind: "http", Target: outer.URL,
			Settings: definition.Settings{HTTP: &definition.HTTPSettings{Redirects: 3}}}},
		"http with a zone": {strict, Task{Kind: "http", Target: "http://[fe80::1%25lo]:" + port}},
		"http within IPv6": {strict, Task{Kind: "http", Target: "http://[::ffff:127.0.0.1]:" + port}},
		"tcp":              {strict, Task{Kind: "tcp", Target: "127.0.0.1:" + port}},
		"certificate":      {strict, Task{Kind: "certificate", Target: "[::1]:" + port}},
		"dns": {strict, Task{Kind: "dns", Target: "tickets.skerry.example",
			Settings: definition.Settings{DNS: &definition.DNSSettings{Resolver: "127.0.0.1:53"}}}},
		"udp": {strict, Task{Kind: "udp", Target: "127.0.0.1:9",
			Settings: definition.Settings{UDP: &definition.UDPSettings{Packets: 1}}}},
		"path": {strict, Task{Kind: "path", Target: "127.0.0.1",
			Settings: definition.Settings{Path: &definition.PathSettings{}}}},
	} {
		c.task.Timeout = second
		r := c.set.Measure(context.Background(), c.task)
		if r.Outcome != measure.Error || !strings.Contains(r.Detail, "policy forbids") {
			t.Errorf("%s: %v %s", name, r.Outcome, r.Detail)
		}
	}
	if asked > 0 {
		t.Errorf("what is forbidden was asked %d times", asked)
	}
	slow := 0.0
	r := s.Measure(context.Background(), Task{
		Kind: "ping", Target: "127.0.0.2", Timeout: second, Limits: []measure.Limit{{Measure: "rtt_mean_ms", FailedAbove: &slow}},
		Settings: definition.Settings{Ping: &definition.PingSettings{Packets: 1, SpacingMS: 10, Second: "127.0.0.1"}},
	})
	if r.Outcome != measure.Failed || !strings.Contains(r.Detail, "second target: the agent's policy forbids") {
		t.Errorf("ping of a second target: %v %s", r.Outcome, r.Detail)
	}
	if r := s.Measure(context.Background(), Task{Kind: "http", Target: outer.URL, Timeout: second}); r.Outcome != measure.OK {
		t.Errorf("what is allowed: %v %s", r.Outcome, r.Detail)
	}
}
