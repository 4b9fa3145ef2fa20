package instrument

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"math/big"
	"net"
	"strings"
	"testing"
	"time"

	"kestite/core/definition"
	"kestite/core/measure"
)

// authority is a certificate authority made for a test.
type authority struct {
	cert *x509.Certificate
	key  crypto.Signer
}

func ecKey(t *testing.T) crypto.Signer {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	return key
}

var serial int64

// issue makes a certificate signed by a; nil signs itself.
func (a *authority) issue(t *testing.T, key crypto.Signer, edit func(*x509.Certificate)) *authority {
	t.Helper()
	serial++
	tmpl := &x509.Certificate{
		SerialNumber: big.NewInt(serial), Subject: pkix.Name{CommonName: "tickets.skerry.example"}, DNSNames: []string{"tickets.skerry.example"},
		NotBefore: time.Now().Add(-24 * time.Hour), NotAfter: time.Now().Add(90*24*time.Hour + time.Hour),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	edit(tmpl)
	parent, signer := tmpl, key
	if a != nil {
		parent, signer = a.cert, a.key
	}
	der, err := x509.CreateCertificate(rand.Reader, tmpl, parent, key.Public(), signer)
	if err != nil {
		t.Fatal(err)
	}
	cert, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	return &authority{cert, key}
}

func asAuthority(name string) func(*x509.Certificate) {
	return func(c *x509.Certificate) {
		c.Subject, c.DNSNames, c.ExtKeyUsage = pkix.Name{CommonName: name}, nil, nil
		c.IsCA, c.BasicConstraintsValid, c.KeyUsage = true, true, x509.KeyUsageCertSign
		c.NotAfter = time.Now().AddDate(5, 0, 0)
	}
}

// show serves a chain over TLS on loopback and returns its address.
func show(t *testing.T, chain ...*authority) string {
	t.Helper()
	shown := tls.Certificate{PrivateKey: chain[0].key}
	for _, c := range chain {
		shown.Certificate = append(shown.Certificate, c.cert.Raw)
	}
	config := &tls.Config{Certificates: []tls.Certificate{shown}, MinVersion: tls.VersionTLS10}
	return listen(t, func(c net.Conn) {
		server := tls.Server(c, config)
		server.Handshake()
		server.Close() // says goodbye, which the system's tools expect
	})
}

// A zoo of certificates: each fault is found and named, waived ones are let
// pass, and expiry is judged all the same.
func TestCertificates(t *testing.T) {
	root := (*authority)(nil).issue(t, ecKey(t), asAuthority("Skerry test root"))
	roots := x509.NewCertPool()
	roots.AddCert(root.cert)
	between := root.issue(t, ecKey(t), asAuthority("Skerry test intermediate"))
	good := func(*x509.Certificate) {}
	weak, err := rsa.GenerateKey(rand.Reader, 1024)
	if err != nil {
		t.Fatal(err)
	}
	leaf := func(edit func(*x509.Certificate)) *authority { return root.issue(t, ecKey(t), edit) }
	ends := func(d time.Duration) func(*x509.Certificate) {
		return func(c *x509.Certificate) { c.NotBefore, c.NotAfter = time.Now().Add(-48*time.Hour), time.Now().Add(d) }
	}
	plain, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer plain.Close()
	go func() {
		for {
			c, err := plain.Accept()
			if err != nil {
				return
			}
			fmt.Fprint(c, "220 harbour mail\r\n")
			c.Close()
		}
	}()
	below := func(v float64) *float64 { return &v }
	limits := []measure.Limit{{Measure: "days_left", DegradedBelow: below(21), FailedBelow: below(7)}}
	const name = "tickets.skerry.example"
	for what, c := range map[string]struct {
		target  string
		set     definition.CertificateSettings
		outcome measure.Outcome
		says    string
	}{
		"good":                   {show(t, leaf(good)), definition.CertificateSettings{ServerName: name}, measure.OK, ""},
		"good with its chain":    {show(t, between.issue(t, ecKey(t), good), between), definition.CertificateSettings{ServerName: name}, measure.OK, ""},
		"a chain with a gap":     {show(t, between.issue(t, ecKey(t), good)), definition.CertificateSettings{ServerName: name}, measure.Failed, `ends at "Skerry test intermediate"`},
		"expired":                {show(t, leaf(ends(-time.Hour))), definition.CertificateSettings{ServerName: name}, measure.Failed, "expired on"},
		"expired, trust waived":  {show(t, leaf(ends(-time.Hour))), definition.CertificateSettings{ServerName: name, WaiveTrust: true, WaiveName: true}, measure.Failed, "expired on"},
		"not valid yet":          {show(t, leaf(func(c *x509.Certificate) { c.NotBefore = time.Now().Add(time.Hour) })), definition.CertificateSettings{ServerName: name}, measure.Failed, "not valid before"},
		"ends in 20 days":        {show(t, leaf(ends(20*24*time.Hour))), definition.CertificateSettings{ServerName: name}, measure.Degraded, "below 21 d"},
		"ends in 3 days":         {show(t, leaf(ends(3*24*time.Hour))), definition.CertificateSettings{ServerName: name}, measure.Failed, "below 7 d"},
		"for another name":       {show(t, leaf(good)), definition.CertificateSettings{ServerName: "crew.skerry.example"}, measure.Failed, "it is for tickets.skerry.example, not for crew.skerry.example"},
		"another name, waived":   {show(t, leaf(good)), definition.CertificateSettings{ServerName: "crew.skerry.example", WaiveName: true}, measure.OK, ""},
		"for no address":         {show(t, leaf(good)), definition.CertificateSettings{}, measure.Failed, "not for 127.0.0.1"},
		"signed by itself":       {show(t, (*authority)(nil).issue(t, ecKey(t), good)), definition.CertificateSettings{ServerName: name}, measure.Failed, "signed by itself"},
		"by itself, waived":      {show(t, (*authority)(nil).issue(t, ecKey(t), good)), definition.CertificateSettings{ServerName: name, WaiveTrust: true}, measure.OK, ""},
		"a weak key":             {show(t, root.issue(t, weak, good)), definition.CertificateSettings{ServerName: name}, measure.Degraded, "1024 bits is weak"},
		"no TLS":                 {plain.Addr().String(), definition.CertificateSettings{ServerName: name}, measure.Failed, "does not speak TLS"},
		"nobody there":           {"127.0.0.1:1", definition.CertificateSettings{ServerName: name}, measure.Failed, "connection refused"},
		"a name that is not one": {"nowhere.skerry.example:443", definition.CertificateSettings{}, measure.Failed, "does not resolve"},
		"what policy forbids":    {"169.254.169.254:443", definition.CertificateSettings{}, measure.Error, "policy forbids"},
	} {
		s := NewSet(LocalPolicy())
		s.Roots = roots
		r := s.Measure(context.Background(), Task{Kind: "certificate", Target: c.target, Timeout: 5 * time.Second, Limits: limits, Settings: definition.Settings{Certificate: &c.set}})
		s.Close()
		if r.Outcome != c.outcome || !strings.Contains(r.Detail, c.says) || r.Outcome == measure.OK && r.Detail != "" {
			t.Errorf("%s: %s %q, not %s %q", what, r.Outcome, r.Detail, c.outcome, c.says)
		}
	}
	// The measures: 90 days, the chain's shortest, 256 bits, TLS 1.3.
	s := NewSet(LocalPolicy())
	s.Roots = roots
	defer s.Close()
	short := root.issue(t, ecKey(t), func(c *x509.Certificate) {
		asAuthority("Skerry short")(c)
		c.NotAfter = time.Now().Add(40*24*time.Hour + time.Hour)
	})
	r := s.Measure(context.Background(), Task{Kind: "certificate", Target: show(t, short.issue(t, ecKey(t), good), short), Timeout: 5 * time.Second, Settings: definition.Settings{Certificate: &definition.CertificateSettings{ServerName: name}}})
	m := r.Measures("certificate")
	if int(m["days_left"]) != 90 || int(m["chain_days_left"]) != 40 || m["key_bits"] != 256 || m["tls_version"] != 1.3 || m["tls_ms"] <= 0 || m["connect_ms"] <= 0 {
		t.Errorf("measures %v", m)
	}
	if _, has := m["dns_ms"]; has {
		t.Errorf("a name lookup of an address: %v", m)
	}
}

func TestTCP(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	six, err := net.Listen("tcp", "[::1]:0")
	if err != nil {
		t.Fatal(err)
	}
	defer six.Close()
	s := NewSet(LocalPolicy())
	defer s.Close()
	above := func(v float64) *float64 { return &v }
	for what, c := range map[string]struct {
		target  string
		limits  []measure.Limit
		outcome measure.Outcome
		says    string
	}{
		"answers":             {l.Addr().String(), nil, measure.OK, ""},
		"answers by IPv6":     {six.Addr().String(), nil, measure.OK, ""},
		"answers too late":    {l.Addr().String(), []measure.Limit{{Measure: "connect_ms", FailedAbove: above(0)}}, measure.Failed, "Connect"},
		"refuses":             {"127.0.0.1:1", nil, measure.Failed, "connection refused"},
		"does not resolve":    {"nowhere.skerry.example:80", nil, measure.Failed, "does not resolve"},
		"what policy forbids": {"[fe80::1]:80", nil, measure.Error, "policy forbids"},
	} {
		r := s.Measure(context.Background(), Task{Kind: "tcp", Target: c.target, Timeout: 2 * time.Second, Limits: c.limits})
		if r.Outcome != c.outcome || !strings.Contains(r.Detail, c.says) {
			t.Errorf("%s: %s %q, not %s %q", what, r.Outcome, r.Detail, c.outcome, c.says)
		}
		if ms := r.Measures("tcp")["connect_ms"]; c.outcome == measure.OK && ms <= 0 {
			t.Errorf("%s: connected in %v ms", what, ms)
		}
	}
}
