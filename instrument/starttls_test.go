package instrument

import (
	"bufio"
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ocsp"

	"kestite/core/definition"
	"kestite/core/measure"
)

// servers that speak just enough of a protocol to begin TLS.
var starts = map[string]func(r *bufio.Reader, c net.Conn) error{
	"smtp": func(r *bufio.Reader, c net.Conn) error {
		return talk(r, c, "220 mail.skerry.example", "EHLO", "250-mail.skerry.example\r\n250 STARTTLS", "STARTTLS", "220 go on")
	},
	"imap": func(r *bufio.Reader, c net.Conn) error {
		return talk(r, c, "* OK ready", "a1 STARTTLS", "* note\r\na1 OK go on")
	},
	"pop3": func(r *bufio.Reader, c net.Conn) error { return talk(r, c, "+OK ready", "STLS", "+OK go on") },
	"ftp":  func(r *bufio.Reader, c net.Conn) error { return talk(r, c, "220 ready", "AUTH TLS", "234 go on") },
	"postgres": func(r *bufio.Reader, c net.Conn) error {
		var ask [8]byte
		if _, err := r.Read(ask[:]); err != nil || ask[4] != 4 {
			return fmt.Errorf("asked %v, %v", ask, err)
		}
		_, err := c.Write([]byte("S"))
		return err
	},
}

// talk says the first line, then for each pair waits for one and says the other.
func talk(r *bufio.Reader, c net.Conn, greeting string, pairs ...string) error {
	fmt.Fprintf(c, "%s\r\n", greeting)
	for i := 0; i < len(pairs); i += 2 {
		line, err := r.ReadString('\n')
		if err != nil || !strings.HasPrefix(line, pairs[i]) {
			return fmt.Errorf("heard %q, %v; wanted %q", line, err, pairs[i])
		}
		fmt.Fprintf(c, "%s\r\n", pairs[i+1])
	}
	return nil
}

func listen(t *testing.T, serve func(net.Conn)) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				serve(c)
			}()
		}
	}()
	return l.Addr().String()
}

func TestStartTLS(t *testing.T) {
	t.Parallel() // it waits more than it measures
	root := (*authority)(nil).issue(t, ecKey(t), asAuthority("Skerry root"))
	leaf := root.issue(t, ecKey(t), func(*x509.Certificate) {})
	config := &tls.Config{Certificates: []tls.Certificate{{PrivateKey: leaf.key, Certificate: [][]byte{leaf.cert.Raw}}}}
	s := NewSet(LocalPolicy())
	s.Roots = x509.NewCertPool()
	s.Roots.AddCert(root.cert)
	ask := func(target, protocol string) Result {
		return s.Measure(context.Background(), Task{Kind: "certificate", Target: target, Timeout: time.Second, Settings: definition.Settings{Certificate: &definition.CertificateSettings{StartTLS: protocol, ServerName: "tickets.skerry.example"}}})
	}
	for protocol, start := range starts {
		target := listen(t, func(c net.Conn) {
			if err := start(bufio.NewReaderSize(c, 16), c); err != nil {
				t.Errorf("%s: %v", protocol, err)
				return
			}
			tls.Server(c, config).Handshake()
		})
		r := ask(target, protocol)
		if m := r.Measures("certificate"); r.Outcome != measure.OK || m["days_left"] < 89 || m["ocsp_stapled"] != 0 {
			t.Errorf("%s: %v %q %v", protocol, r.Outcome, r.Detail, m)
		}
		if len(r.Findings.Chain) != 1 || !strings.Contains(r.Findings.Chain[0].Subject, "tickets.skerry.example") || r.Findings.Chain[0].Key != "ECDSA 256" {
			t.Errorf("%s: the chain %+v", protocol, r.Findings.Chain)
		}
		rude := listen(t, func(c net.Conn) { fmt.Fprint(c, "N\r\n554 go away\r\n") })
		if r := ask(rude, protocol); r.Outcome != measure.Failed || r.Detail == "" {
			t.Errorf("%s, refused: %v %q", protocol, r.Outcome, r.Detail)
		}
		mute := listen(t, func(c net.Conn) { io.Copy(io.Discard, c) }) // until the other end gives up
		if r := ask(mute, protocol); r.Outcome != measure.Failed || !strings.Contains(r.Detail, "within 1000 ms") {
			t.Errorf("%s, silence: %v %q", protocol, r.Outcome, r.Detail)
		}
	}
}

func TestStapledRevocation(t *testing.T) {
	root := (*authority)(nil).issue(t, ecKey(t), asAuthority("Skerry root"))
	middle := root.issue(t, ecKey(t), asAuthority("Skerry middle"))
	leaf := middle.issue(t, ecKey(t), func(*x509.Certificate) {})
	s := NewSet(LocalPolicy())
	s.Roots = x509.NewCertPool()
	s.Roots.AddCert(root.cert)
	now := time.Now()
	responds := func(by *authority, usage ...x509.ExtKeyUsage) *authority {
		return by.issue(t, ecKey(t), func(c *x509.Certificate) { c.Subject.CommonName, c.ExtKeyUsage = "Skerry responder", usage })
	}
	stranger := (*authority)(nil).issue(t, ecKey(t), asAuthority("Skerry middle"))
	lapsed := middle.issue(t, ecKey(t), func(c *x509.Certificate) {
		c.ExtKeyUsage, c.NotAfter = []x509.ExtKeyUsage{x509.ExtKeyUsageOCSPSigning}, now.Add(-time.Minute)
	})
	const notBy = "not one of this certificate by its authority"
	good := ocsp.Response{Status: ocsp.Good, ThisUpdate: now, NextUpdate: now.Add(time.Hour)}
	for _, c := range []struct {
		name   string
		status ocsp.Response
		by     *authority
		shown  *authority // whose certificate stands in the status; nil: none
		want   string
	}{
		{"good", good, middle, nil, ""},
		{"revoked", ocsp.Response{Status: ocsp.Revoked, RevokedAt: now.Add(-time.Hour), ThisUpdate: now, NextUpdate: now.Add(time.Hour)}, middle, nil, "it was revoked on "},
		{"stale", ocsp.Response{Status: ocsp.Good, ThisUpdate: now.Add(-2 * time.Hour), NextUpdate: now.Add(-time.Hour)}, middle, nil, "stapled to it ended on "},
		{"with the authority's own certificate", good, middle, middle, ""},
		{"by a delegate", good, responds(middle, x509.ExtKeyUsageOCSPSigning), middle, ""},
		{"by one that is not for statuses", good, responds(middle, x509.ExtKeyUsageServerAuth), middle, notBy},
		{"by a delegate of a stranger", good, responds(stranger, x509.ExtKeyUsageOCSPSigning), middle, notBy},
		{"by a delegate that is over", good, lapsed, middle, notBy},
		{"by a stranger of the same name", good, stranger, stranger, notBy},
	} {
		c.status.SerialNumber = leaf.cert.SerialNumber
		if c.shown != nil {
			c.status.Certificate = c.by.cert
		}
		staple, err := ocsp.CreateResponse(middle.cert, c.by.cert, c.status, c.by.key)
		if err != nil {
			t.Fatal(err)
		}
		config := &tls.Config{Certificates: []tls.Certificate{{PrivateKey: leaf.key, Certificate: [][]byte{leaf.cert.Raw, middle.cert.Raw}, OCSPStaple: staple}}}
		target := listen(t, func(conn net.Conn) { tls.Server(conn, config).Handshake() })
		r := s.Measure(context.Background(), Task{Kind: "certificate", Target: target, Timeout: time.Second, Settings: definition.Settings{Certificate: &definition.CertificateSettings{ServerName: "tickets.skerry.example"}}})
		if r.Measures("certificate")["ocsp_stapled"] != 1 || (r.Outcome == measure.OK) != (c.want == "") || !strings.Contains(r.Detail, c.want) {
			t.Errorf("%s: %v %q %v", c.name, r.Outcome, r.Detail, r.Measures("certificate"))
		}
	}
}
