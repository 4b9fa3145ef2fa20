package instrument

import (
	"context"
	"crypto/rand"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"kestite/core/definition"
	"kestite/core/measure"
)

// website serves HTTPS with a chain on loopback and returns its address.
func website(t *testing.T, edit func(*tls.Config), chain ...*authority) string {
	t.Helper()
	shown := tls.Certificate{PrivateKey: chain[0].key}
	for _, c := range chain {
		shown.Certificate = append(shown.Certificate, c.cert.Raw)
	}
	config := &tls.Config{Certificates: []tls.Certificate{shown}, MinVersion: tls.VersionTLS10}
	if edit != nil {
		edit(config)
	}
	l, err := tls.Listen("tcp", "127.0.0.1:0", config)
	if err != nil {
		t.Fatal(err)
	}
	server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "sailings") }), ErrorLog: log.New(io.Discard, "", 0)}
	go server.Serve(l)
	t.Cleanup(func() { server.Close() })
	return l.Addr().String()
}

// HTTP and certificate say the same of one endpoint: what clients take, why they do
// not, and what is worth knowing.
func TestTLSAsClientsSeeIt(t *testing.T) {
	root := (*authority)(nil).issue(t, ecKey(t), asAuthority("Skerry test root"))
	elsewhere := (*authority)(nil).issue(t, ecKey(t), asAuthority("Elsewhere root"))
	roots := x509.NewCertPool()
	roots.AddCert(root.cert)
	both := func(list ...func(*x509.Certificate)) func(*x509.Certificate) {
		return func(c *x509.Certificate) {
			for _, f := range list {
				f(c)
			}
		}
	}
	expired := func(c *x509.Certificate) {
		c.NotBefore, c.NotAfter = time.Now().AddDate(-2, 0, 0), time.Now().AddDate(-1, 0, 0)
	}
	rsaKey := func(bits int) *rsa.PrivateKey {
		key, err := rsa.GenerateKey(rand.Reader, bits)
		if err != nil {
			t.Fatal(err)
		}
		return key
	}
	between := root.issue(t, ecKey(t), asAuthority("Skerry intermediate"))
	// The same authority and key, signed across by a root that nobody trusts and that has expired.
	across := elsewhere.issue(t, between.key, both(asAuthority("Skerry intermediate"), expired))
	leaf := between.issue(t, ecKey(t), onLoopback)
	short := root.issue(t, ecKey(t), both(asAuthority("Skerry narrow"), func(c *x509.Certificate) { c.MaxPathLenZero = true }))
	below := short.issue(t, ecKey(t), asAuthority("Skerry below"))
	named := root.issue(t, ecKey(t), both(asAuthority("Skerry crew"), func(c *x509.Certificate) {
		_, crew, _ := net.ParseCIDR("10.0.0.0/8")
		c.PermittedIPRanges, c.PermittedDNSDomainsCritical = []*net.IPNet{crew}, true
	}))
	noCA := root.issue(t, ecKey(t), both(asAuthority("Skerry clerk"), func(c *x509.Certificate) { c.IsCA, c.KeyUsage = false, x509.KeyUsageDigitalSignature }))
	forClients := func(c *x509.Certificate) { c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth} }
	forged := root.issue(t, ecKey(t), asAuthority("Skerry intermediate")) // another key of that name
	weakCA := root.issue(t, rsaKey(1024), asAuthority("Skerry weak"))
	old := rsaKey(2048)
	sha1 := root.issue(t, ecKey(t), both(onLoopback, func(c *x509.Certificate) { c.SignatureAlgorithm = x509.ECDSAWithSHA1 }))
	bundle := filepath.Join(t.TempDir(), "roots.pem")
	if err := os.WriteFile(bundle, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: root.cert.Raw}), 0o600); err != nil {
		t.Fatal(err)
	}
	for what, c := range map[string]struct {
		target string
		waive  bool
		want   measure.Outcome
		says   string
		note   string
		same   bool
	}{
		"good":                            {website(t, nil, leaf, between), false, measure.OK, "", "", true},
		"an expired cross-sign beside it": {website(t, nil, leaf, between, across), false, measure.OK, "", "also shows Skerry intermediate, signed by Elsewhere root, which no valid chain needs (it expired on", true},
		"the cross-sign first":            {website(t, nil, leaf, across, between), false, measure.OK, "", "which no valid chain needs", true},
		"only the expired cross-sign":     {website(t, nil, leaf, across), false, measure.Failed, "the chain's Skerry intermediate expired on", "", true},
		"an old root beside it":           {website(t, nil, leaf, between, elsewhere), false, measure.OK, "", "also shows Elsewhere root", true},
		"not an authority":                {website(t, nil, noCA.issue(t, ecKey(t), onLoopback), noCA), false, measure.Failed, "the chain's Skerry clerk is not the certificate of an authority", "", true},
		"a path too long":                 {website(t, nil, below.issue(t, ecKey(t), onLoopback), below, short), false, measure.Failed, "Skerry narrow allows fewer authorities below it than there are (its path length is 0)", "", true},
		"a name that it may not sign for": {website(t, nil, named.issue(t, ecKey(t), onLoopback), named), false, measure.Failed, "by its name constraints", "", true},
		"not for servers":                 {website(t, nil, root.issue(t, ecKey(t), both(onLoopback, forClients))), false, measure.Failed, "not for servers, by its extended key usage", "", true},
		"signed by another key":           {website(t, nil, forged.issue(t, ecKey(t), onLoopback), between), false, measure.Failed, "it says that Skerry intermediate signed it, and that is not so", "", true},
		"signed with SHA-1":               {website(t, nil, sha1), false, measure.Failed, "it is signed by ECDSA-SHA1, which is not trusted any more", "", true},
		"signed with SHA-1, trust waived": {website(t, nil, sha1), true, measure.Degraded, "its signature by ECDSA-SHA1 is weak", "", true},
		"a weak key in between":           {website(t, nil, weakCA.issue(t, ecKey(t), onLoopback), weakCA), false, measure.Degraded, "the chain's Skerry weak's RSA key of 1024 bits is weak", "", true},
		"untrusted":                       {website(t, nil, elsewhere.issue(t, ecKey(t), onLoopback)), false, measure.Failed, `ends at "Elsewhere root", which is not trusted`, "", true},
		"untrusted, waived":               {website(t, nil, elsewhere.issue(t, ecKey(t), onLoopback)), true, measure.OK, "", "", true},
		"another name, trust waived":      {website(t, nil, elsewhere.issue(t, ecKey(t), func(*x509.Certificate) {})), true, measure.Failed, "it is for tickets.skerry.example, not for 127.0.0.1", "", true},
		"expired, trust waived":           {website(t, nil, elsewhere.issue(t, ecKey(t), both(onLoopback, expired))), true, measure.Failed, "it expired on", "", true},
		"a key exchange of old":           {website(t, tls12(tls.TLS_RSA_WITH_AES_128_CBC_SHA), root.issue(t, old, onLoopback)), false, measure.OK, "", "its key exchange has no forward secrecy", true},
		"a cipher of old":                 {website(t, tls12(tls.TLS_ECDHE_RSA_WITH_3DES_EDE_CBC_SHA), root.issue(t, old, onLoopback)), false, measure.OK, "", "its cipher is not safe any more", true},
		"a version of old":                {website(t, func(c *tls.Config) { c.MaxVersion = tls.VersionTLS10 }, root.issue(t, old, onLoopback)), false, measure.OK, "", "TLS 1.0 was agreed on", true},
	} {
		s := NewSet(LocalPolicy())
		s.Roots = roots
		web := s.Measure(context.Background(), Task{Kind: "http", Target: "https://" + c.target + "/", Timeout: 5 * time.Second, Settings: definition.Settings{HTTP: &definition.HTTPSettings{WaiveTrust: c.waive}}})
		cert := s.Measure(context.Background(), Task{Kind: "certificate", Target: c.target, Timeout: 5 * time.Second, Settings: definition.Settings{Certificate: &definition.CertificateSettings{WaiveTrust: c.waive}}})
		s.Close()
		for kind, r := range map[string]Result{"http": web, "certificate": cert} {
			if r.Outcome != c.want || !strings.Contains(r.Detail, c.says) || c.want == measure.OK && r.Detail != "" {
				t.Errorf("%s, %s: %s %q, not %s %q", what, kind, r.Outcome, r.Detail, c.want, c.says)
			}
			if c.note != "" && !slices.ContainsFunc(r.Findings.Notes, func(n string) bool { return strings.Contains(n, c.note) }) {
				t.Errorf("%s, %s: notes %q, not %q", what, kind, r.Findings.Notes, c.note)
			}
			if c.note == "" && c.want == measure.OK && len(r.Findings.Notes) > 0 {
				t.Errorf("%s, %s: notes %q of nothing", what, kind, r.Findings.Notes)
			}
			for _, word := range []string{"x509", "tls:", "crypto/"} {
				if strings.Contains(r.Detail, word) {
					t.Errorf("%s, %s: the words of a library: %q", what, kind, r.Detail)
				}
			}
		}
		if !c.waive && !strings.Contains(c.says, "SHA1") && !strings.Contains(c.note, "not safe") { // the tool takes the one with old ciphers, and speaks not all of these
			taken, why := openssl(t, c.target, bundle)
			if taken != (c.want != measure.Failed) {
				t.Errorf("%s: %s, and the system's tool takes it: %v\n%s", what, c.want, taken, why)
			}
		}
		if c.same && web.Detail != cert.Detail {
			t.Errorf("%s: http says %q, certificate %q", what, web.Detail, cert.Detail)
		}
	}
}

// openssl says whether the system's tool takes the TLS of a server, old ciphers too.
func openssl(t *testing.T, target, roots string) (taken bool, why string) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, "openssl", "s_client", "-connect", target, "-CAfile", roots, "-no-CApath", "-no-CAstore", "-verify_return_error",
		"-verify_ip", "127.0.0.1", "-purpose", "sslserver", "-cipher", "ALL:@SECLEVEL=0", "-brief")
	cmd.Stdin = strings.NewReader("")
	out, err := cmd.CombinedOutput()
	return err == nil, string(out)
}

func tls12(suite uint16) func(*tls.Config) {
	return func(c *tls.Config) { c.MaxVersion, c.CipherSuites = tls.VersionTLS12, []uint16{suite} }
}

// A name is asked for, and found in the certificate, as it stands on the wire.
func TestNamesOnTheWire(t *testing.T) {
	for host, want := range map[string]string{
		"tickets.skerry.example": "tickets.skerry.example", "färja.skerry.example": "xn--frja-loa.skerry.example", "127.0.0.1": "127.0.0.1", "::1": "::1", "": "", "not a name": "not a name",
	} {
		if got := onTheWire(host); got != want {
			t.Errorf("%q: %q, want %q", host, got, want)
		}
	}
	root := (*authority)(nil).issue(t, ecKey(t), asAuthority("Skerry test root"))
	leaf := root.issue(t, ecKey(t), func(c *x509.Certificate) { c.DNSNames = []string{"xn--frja-loa.skerry.example"} })
	asked := ""
	target := website(t, func(c *tls.Config) {
		given := c.Certificates[0]
		c.GetCertificate = func(h *tls.ClientHelloInfo) (*tls.Certificate, error) { asked = h.ServerName; return &given, nil }
		c.Certificates = nil
	}, leaf)
	s := NewSet(LocalPolicy())
	defer s.Close()
	s.Roots = x509.NewCertPool()
	s.Roots.AddCert(root.cert)
	r := s.Measure(context.Background(), Task{Kind: "certificate", Target: target, Timeout: 5 * time.Second, Settings: definition.Settings{Certificate: &definition.CertificateSettings{ServerName: "färja.skerry.example"}}})
	if r.Outcome != measure.OK || asked != "xn--frja-loa.skerry.example" {
		t.Errorf("%v %q, asked for %q", r.Outcome, r.Detail, asked)
	}
}

func onLoopback(c *x509.Certificate) { c.IPAddresses = []net.IP{net.IPv4(127, 0, 0, 1)} }

// A server that wants a certificate of its clients breaks a handshake off under TLS 1.2:
// what it showed until then is read all the same.
func TestAServerThatWantsACertificate(t *testing.T) {
	root := (*authority)(nil).issue(t, ecKey(t), asAuthority("Skerry root"))
	leaf := root.issue(t, ecKey(t), onLoopback)
	s := NewSet(LocalPolicy())
	s.Roots = x509.NewCertPool()
	s.Roots.AddCert(root.cert)
	for _, version := range []uint16{tls.VersionTLS12, tls.VersionTLS13} {
		target := website(t, func(c *tls.Config) { c.MaxVersion, c.ClientAuth = version, tls.RequireAnyClientCert }, leaf)
		r := s.Measure(context.Background(), Task{Kind: "certificate", Target: target, Timeout: 5 * time.Second})
		if r.Outcome != measure.OK || int(r.Measures("certificate")["days_left"]) != 90 || len(r.Findings.Chain) != 1 ||
			!slices.Contains(r.Findings.Notes, "the server asks for a certificate of its clients, and none was given") {
			t.Errorf("%s: %v %q %v %+v", tls.VersionName(version), r.Outcome, r.Detail, r.Measures("certificate"), r.Findings)
		}
		web := s.Measure(context.Background(), Task{Kind: "http", Target: "https://" + target + "/", Timeout: 5 * time.Second})
		if web.Outcome != measure.Failed || !strings.Contains(web.Detail, "the server ends the TLS handshake: ") {
			t.Errorf("http by %s: %v %q", tls.VersionName(version), web.Outcome, web.Detail)
		}
	}
}

// Of a chain the days left are of what the server showed: not of a root that this machine
// alone knows.
func TestDaysLeftOfWhatWasShown(t *testing.T) {
	root := (*authority)(nil).issue(t, ecKey(t), func(c *x509.Certificate) {
		asAuthority("Skerry root")(c)
		c.NotAfter = time.Now().Add(10*24*time.Hour + time.Hour)
	})
	middle := root.issue(t, ecKey(t), func(c *x509.Certificate) {
		asAuthority("Skerry middle")(c)
		c.NotAfter = time.Now().Add(40*24*time.Hour + time.Hour)
	})
	leaf := middle.issue(t, ecKey(t), onLoopback)
	s := NewSet(LocalPolicy())
	s.Roots = x509.NewCertPool()
	s.Roots.AddCert(root.cert)
	for want, shown := range map[int][]*authority{40: {leaf, middle}, 10: {leaf, middle, root}} {
		r := s.Measure(context.Background(), Task{Kind: "certificate", Target: website(t, nil, shown...), Timeout: 5 * time.Second})
		if m := r.Measures("certificate"); r.Outcome != measure.OK || int(m["chain_days_left"]) != want || int(m["days_left"]) != 90 {
			t.Errorf("%d were shown: %v %q %v", len(shown), r.Outcome, r.Detail, m)
		}
	}
}
