package instrument

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"math"
	"net"
	"slices"
	"time"

	"kestite/core/definition"
	"kestite/core/measure"
)

// certificate makes a TLS handshake and looks at what the server shows: how
// long its certificate and the shortest of its chain are valid, whether the
// chain leads to a root that this machine trusts, whether it is for the name
// asked for (RFC 9525), and whether key and signature are strong. The handshake
// itself takes any certificate, so that a bad one is described and not only refused.
func (s *Set) certificate(ctx context.Context, t Task) Result {
	var set definition.CertificateSettings
	if t.Certificate != nil {
		set = *t.Certificate
	}
	if set.ServerName == "" {
		set.ServerName, _, _ = definition.HostPort(t.Target)
	}
	ctx, cancel := context.WithTimeout(ctx, t.Timeout)
	defer cancel()
	c, err := s.connect(ctx, t.Target)
	if err != nil {
		return timedOut(failure(measure.Certificate, err), err, t.Timeout, "no connection")
	}
	defer c.Close()
	values := measure.Certificate.None()
	if c.lookup > 0 {
		values[measure.CertificateLookup] = milliseconds(c.lookup)
	}
	values[measure.CertificateConnect] = milliseconds(c.connect)
	if set.StartTLS != "" {
		if err := startTLS(ctx, c, set.StartTLS); err != nil {
			r := timedOut(failure(measure.Certificate, err), err, t.Timeout, "connected, but no answer to the wish for TLS")
			r.Values = values
			return r
		}
	}
	began := time.Now()
	config := s.handshake(set.ServerName)
	var shown *tls.ConnectionState // what was shown before the handshake came to an end
	asked := false                 // for a certificate of ours
	config.VerifyConnection = func(state tls.ConnectionState) error { shown = &state; return nil }
	config.GetClientCertificate = func(*tls.CertificateRequestInfo) (*tls.Certificate, error) {
		asked = true
		return new(tls.Certificate), nil
	}
	conn := tls.Client(c, config)
	if err := conn.HandshakeContext(ctx); err != nil && !(shown != nil && asked && refusedByAlert(err)) {
		r := timedOut(failure(measure.Certificate, err), err, t.Timeout, "connected, but no TLS handshake")
		r.Values = values
		return r
	}
	values[measure.CertificateShake] = milliseconds(time.Since(began))
	state := *shown
	now := s.now()
	leaf := state.PeerCertificates[0]
	values[measure.CertificateDaysLeft] = days(leaf.NotAfter.Sub(now))
	seen := judge(state, set, s.Roots, now)
	values[measure.CertificateChain] = days(ends(wereShown(seen.used, state.PeerCertificates)).Sub(now))
	values[measure.CertificateKeyBits] = float64(keyBits(leaf))
	values[measure.CertificateTLS] = map[uint16]float64{tls.VersionTLS10: 1.0, tls.VersionTLS11: 1.1, tls.VersionTLS12: 1.2,
		tls.VersionTLS13: 1.3}[state.Version]
	values[measure.CertificateStapled] = 0
	if len(state.OCSPResponse) > 0 {
		values[measure.CertificateStapled] = 1
	}
	r := judged(measure.Certificate, values, t.Limits)
	r.Findings = c.findings()
	r.Findings.Chain, r.Findings.Notes = links(state.PeerCertificates), seen.notes
	if asked {
		r.Findings.Notes = append(r.Findings.Notes, "the server asks for a certificate of its clients, and none was given")
	}
	r = seen.spoken(r)
	if r.Outcome == measure.OK {
		r.Detail = ""
	}
	return r
}

// wereShown are those of a chain that a server showed: a root that only this machine knows
// is none of the server's to renew.
func wereShown(chain, shown []*x509.Certificate) []*x509.Certificate {
	var out []*x509.Certificate
	for _, c := range chain {
		if slices.ContainsFunc(shown, c.Equal) {
			out = append(out, c)
		}
	}
	return out
}

// refusedByAlert says whether the other end broke a handshake off, as one does under TLS
// 1.2 that is given no certificate of its client (RFC 5246 §7.4.6).
func refusedByAlert(err error) bool {
	var op *net.OpError
	return errors.As(err, &op) && op.Op == "remote error"
}

// links describe a chain.
func links(chain []*x509.Certificate) []measure.Link {
	var out []measure.Link
	for _, c := range chain {
		out = append(out, measure.Link{
			Subject: c.Subject.String(), Issuer: c.Issuer.String(), Serial: fmt.Sprintf("%X", c.SerialNumber),
			NotBefore: c.NotBefore.UTC().Format(time.RFC3339), NotAfter: c.NotAfter.UTC().Format(time.RFC3339),
			Key: fmt.Sprintf("%s %d", c.PublicKeyAlgorithm, keyBits(c)), Signature: c.SignatureAlgorithm.String(),
		})
	}
	return out
}

// days is a duration in days, cut to hundredths.
func days(d time.Duration) float64 { return math.Floor(d.Hours()/24*100) / 100 }
