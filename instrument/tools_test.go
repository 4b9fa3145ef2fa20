package instrument

import (
	"bytes"
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"math"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"

	"kestite/core/definition"
	"kestite/core/measure"
)

// tool runs one of the operating system's own.
func tool(t *testing.T, in string, args ...string) string {
	t.Helper()
	cmd := exec.Command(args[0], args[1:]...)
	cmd.Stdin = strings.NewReader(in)
	var out, failed bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &failed
	if err := cmd.Run(); err != nil {
		t.Fatalf("%s: %v\n%s%s", strings.Join(args, " "), err, out.String(), failed.String())
	}
	return out.String()
}

func TestCertificateLikeOpenSSL(t *testing.T) {
	root := (*authority)(nil).issue(t, ecKey(t), asAuthority("Skerry root"))
	middle := root.issue(t, ecKey(t), asAuthority("Skerry issuing"))
	leaf := middle.issue(t, ecKey(t), func(*x509.Certificate) {})
	target := show(t, leaf, middle)
	s := NewSet(LocalPolicy())
	s.Roots = x509.NewCertPool()
	s.Roots.AddCert(root.cert)
	r := s.Measure(context.Background(), Task{Kind: "certificate", Target: target, Timeout: 5 * time.Second, Settings: definition.Settings{Certificate: &definition.CertificateSettings{ServerName: "tickets.skerry.example"}}})
	if r.Outcome != measure.OK {
		t.Fatalf("%v %q", r.Outcome, r.Detail)
	}
	rest := []byte(tool(t, "", "openssl", "s_client", "-connect", target, "-servername", "tickets.skerry.example", "-showcerts"))
	var seen []*x509.Certificate
	for {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		if c, err := x509.ParseCertificate(block.Bytes); err == nil {
			seen = append(seen, c)
		}
	}
	if len(seen) != 2 || len(r.Findings.Chain) != len(seen) {
		t.Fatalf("openssl saw %d certificates, we %d", len(seen), len(r.Findings.Chain))
	}
	for i, c := range seen {
		if got := r.Findings.Chain[i]; got.Serial != fmt.Sprintf("%X", c.SerialNumber) || got.NotAfter != c.NotAfter.UTC().Format(time.RFC3339) {
			t.Errorf("certificate %d: %+v, openssl saw serial %X until %s", i, got, c.SerialNumber, c.NotAfter)
		}
	}
	text := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: leaf.cert.Raw})
	end, err := time.Parse("notAfter=Jan _2 15:04:05 2006 MST", strings.TrimSpace(tool(t, string(text), "openssl", "x509", "-noout", "-enddate")))
	if err != nil {
		t.Fatal(err)
	}
	if days := time.Until(end).Hours() / 24; math.Abs(days-r.Measures("certificate")["days_left"]) > 0.02 {
		t.Errorf("%v days left, openssl says %v", r.Measures("certificate")["days_left"], days)
	}
}

func TestPhasesLikeCurl(t *testing.T) {
	root := (*authority)(nil).issue(t, ecKey(t), asAuthority("Skerry root"))
	leaf := root.issue(t, ecKey(t), func(c *x509.Certificate) { c.IPAddresses = []net.IP{net.IPv4(127, 0, 0, 1)} })
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	// Phases as long as over a network: curl's own start of its TLS library, some
	// milliseconds that it counts as handshake, is then within the tolerance.
	const think, body, greet = 80 * time.Millisecond, 40 * time.Millisecond, 60 * time.Millisecond
	server := &http.Server{
		TLSConfig: &tls.Config{GetConfigForClient: func(*tls.ClientHelloInfo) (*tls.Config, error) { time.Sleep(greet); return nil, nil }, Certificates: []tls.Certificate{{PrivateKey: leaf.key, Certificate: [][]byte{leaf.cert.Raw}}}},
		Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			time.Sleep(think)
			fmt.Fprint(w, "one")
			w.(http.Flusher).Flush()
			time.Sleep(body)
			fmt.Fprint(w, "two")
		}),
	}
	// The system's many roots take curl milliseconds to read, which is no phase of the exchange.
	roots := filepath.Join(t.TempDir(), "roots.pem")
	if err := os.WriteFile(roots, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: root.cert.Raw}), 0o600); err != nil {
		t.Fatal(err)
	}
	go server.ServeTLS(l, "", "")
	defer server.Close()
	target := "https://" + l.Addr().String() + "/"
	// The best of several runs each: what others do on this machine is not measured.
	const runs = 5
	least := func(into map[string]float64, from map[string]float64) {
		for name, v := range from {
			if old, has := into[name]; !has || v < old {
				into[name] = v
			}
		}
	}
	ours, theirs := map[string]float64{}, map[string]float64{}
	s := NewSet(LocalPolicy())
	for range runs {
		r := s.Measure(context.Background(), Task{Kind: "http", Target: target, Timeout: 5 * time.Second, Settings: definition.Settings{HTTP: &definition.HTTPSettings{WaiveTrust: true, Version: "1.1"}}})
		if r.Outcome != measure.OK {
			t.Fatalf("%v %q", r.Outcome, r.Detail)
		}
		least(ours, r.Measures("http"))
		f := strings.Fields(tool(t, "", "curl", "-sk", "--cacert", roots, "--capath", t.TempDir(), "--http1.1", "-o", "/dev/null", "-w", "%{time_connect} %{time_appconnect} %{time_pretransfer} %{time_starttransfer} %{time_total} %{size_download} %{http_code}", target))
		var v [7]float64
		for i := range v {
			if v[i], err = strconv.ParseFloat(f[i], 64); err != nil {
				t.Fatal(err)
			}
		}
		const ms = 1000
		least(theirs, map[string]float64{
			"connect_ms": v[0] * ms, "tls_ms": (v[1] - v[0]) * ms, "first_byte_ms": (v[3] - v[2]) * ms, "body_ms": (v[4] - v[3]) * ms,
			"total_ms": v[4] * ms, "size_bytes": v[5], "status": v[6],
		})
	}
	// One time is never held against another: on a busy machine neither is right.
	// Counts are the same, each phase lasts as long as the server made it, and the
	// phases are in the same order of length.
	for _, name := range []string{"size_bytes", "status"} {
		if ours[name] != theirs[name] {
			t.Errorf("%s is %v, curl says %v", name, ours[name], theirs[name])
		}
	}
	for name, least := range map[string]time.Duration{"tls_ms": greet, "first_byte_ms": think, "body_ms": body, "total_ms": greet + think + body} {
		// The server begins to think when the request arrives, which may be before it is noted as written.
		const early = 5
		if ours[name] < float64(least)/float64(time.Millisecond)-early {
			t.Errorf("%s is %v, and the server took %s", name, ours[name], least)
		}
	}
	order := func(v map[string]float64) string {
		names := []string{"connect_ms", "tls_ms", "first_byte_ms", "body_ms"}
		slices.SortFunc(names, func(a, b string) int { return cmp.Compare(v[a], v[b]) })
		return strings.Join(names, " < ")
	}
	if order(ours) != order(theirs) {
		t.Errorf("ours are %s, curl's %s", order(ours), order(theirs))
	}
}

func TestAnswersLikeDig(t *testing.T) {
	conn, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	server := &dns.Server{PacketConn: conn, Handler: dns.HandlerFunc(func(w dns.ResponseWriter, ask *dns.Msg) {
		out := new(dns.Msg).SetReply(ask)
		for _, text := range map[uint16][]string{
			dns.TypeA:   {"tickets.skerry.example. 300 IN A 198.18.4.2", "tickets.skerry.example. 120 IN A 198.18.4.3"},
			dns.TypeMX:  {"tickets.skerry.example. 60 IN MX 10 mail.skerry.example."},
			dns.TypeTXT: {`tickets.skerry.example. 60 IN TXT "harbour = Tolvik"`},
		}[ask.Question[0].Qtype] {
			rr, err := dns.NewRR(text)
			if err != nil {
				t.Error(err)
			}
			out.Answer = append(out.Answer, rr)
		}
		w.WriteMsg(out)
	})}
	go server.ActivateAndServe()
	defer server.Shutdown()
	host, port, _ := net.SplitHostPort(conn.LocalAddr().String())
	for kind, ttl := range map[string]float64{"A": 120, "MX": 60, "TXT": 60} {
		r := NewSet(LocalPolicy()).Measure(context.Background(),
			Task{Kind: "dns", Target: "tickets.skerry.example", Timeout: time.Second,
				Settings: definition.Settings{DNS: &definition.DNSSettings{Type: kind, Resolver: conn.LocalAddr().String()}}})
		if r.Outcome != measure.OK || r.Measures("dns")["ttl_s"] != ttl {
			t.Fatalf("%s: %v %q %v", kind, r.Outcome, r.Detail, r.Measures("dns"))
		}
		var want []string
		for line := range strings.Lines(tool(t, "", "dig", "@"+host, "-p", port, "tickets.skerry.example", kind, "+noall", "+answer")) {
			want = append(want, strings.Join(strings.Fields(line), " "))
		}
		if got := strings.Join(r.Findings.Answers, "\n"); got != strings.Join(want, "\n") {
			t.Errorf("%s: %q, dig says %q", kind, got, want)
		}
	}
}
