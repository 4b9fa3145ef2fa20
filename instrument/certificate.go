package instrument

import (
	"context"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"math"
	"strings"
	"time"

	"golang.org/x/crypto/ocsp"

	"kestite/core/definition"
	"kestite/core/measure"
)

// Least strengths (BSI TR-02102-1 and NIST SP 800-131A agree on 112 bits of security at least).
const (
	leastRSA   = 2048
	leastCurve = 224
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
	c, err := connect(ctx, t.Target)
	if err != nil {
		return timedOut(failure(measure.Certificate, err), err, t.Timeout, "no connection")
	}
	defer c.Close()
	values := measure.Certificate.None()
	if c.lookup > 0 {
		values[4] = milliseconds(c.lookup)
	}
	values[5] = milliseconds(c.connect)
	if set.StartTLS != "" {
		if err := startTLS(ctx, c, set.StartTLS); err != nil {
			r := timedOut(failure(measure.Certificate, err), err, t.Timeout, "connected, but no answer to the wish for TLS")
			r.Values = values
			return r
		}
	}
	began := time.Now()
	conn := tls.Client(c, &tls.Config{
		ServerName: set.ServerName, MinVersion: tls.VersionTLS10,
		InsecureSkipVerify: true, // verified below, where each fault gets its own words
	})
	if err := conn.HandshakeContext(ctx); err != nil {
		r := timedOut(failure(measure.Certificate, err), err, t.Timeout, "connected, but no TLS handshake")
		r.Values = values
		return r
	}
	values[6] = milliseconds(time.Since(began))
	state := conn.ConnectionState()
	now := s.now()
	leaf := state.PeerCertificates[0]
	values[0] = days(leaf.NotAfter.Sub(now))
	values[1] = values[0]
	for _, p := range state.PeerCertificates[1:] {
		values[1] = min(values[1], days(p.NotAfter.Sub(now)))
	}
	values[2] = float64(keyBits(leaf))
	values[3] = map[uint16]float64{tls.VersionTLS10: 1.0, tls.VersionTLS11: 1.1, tls.VersionTLS12: 1.2, tls.VersionTLS13: 1.3}[state.Version]
	values[7] = 0
	faults := faults(state.PeerCertificates, set, s.Roots, now)
	if len(state.OCSPResponse) > 0 {
		values[7] = 1
		if why := revocation(state, now); why != "" {
			faults = append(faults, why)
		}
	}
	r := judged(measure.Certificate, values, t.Limits)
	r.Findings = c.findings()
	r.Findings.Chain = links(state.PeerCertificates)
	if len(faults) > 0 {
		r.Outcome, r.Detail = measure.Failed, strings.Join(faults, "; ")
	}
	if r.Outcome == measure.OK {
		r.Detail = ""
	}
	return r
}

// revocation says what is wrong by the status that the server stapled (RFC 6066 §8, RFC 6960).
func revocation(state tls.ConnectionState, now time.Time) string {
	leaf := state.PeerCertificates[0]
	issuer := leaf
	if len(state.PeerCertificates) > 1 {
		issuer = state.PeerCertificates[1]
	}
	status, err := ocsp.ParseResponseForCert(state.OCSPResponse, leaf, issuer)
	switch {
	case err != nil:
		return fmt.Sprintf("the revocation status that is stapled to it cannot be used: %v", err)
	case status.Status == ocsp.Revoked:
		return "it was revoked on " + status.RevokedAt.UTC().Format(time.RFC3339)
	case !status.NextUpdate.IsZero() && now.After(status.NextUpdate):
		return "the revocation status that is stapled to it ended on " + status.NextUpdate.UTC().Format(time.RFC3339)
	}
	return ""
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

// faults lists what is wrong with a chain, waived faults left out.
func faults(chain []*x509.Certificate, set definition.CertificateSettings, roots *x509.CertPool, now time.Time) []string {
	leaf := chain[0]
	var out []string
	for _, c := range chain {
		who := "it"
		if c != leaf {
			who = "the chain's " + subject(c)
		}
		switch {
		case now.After(c.NotAfter):
			out = append(out, fmt.Sprintf("%s expired on %s", who, c.NotAfter.UTC().Format(time.RFC3339)))
		case now.Before(c.NotBefore):
			out = append(out, fmt.Sprintf("%s is not valid before %s", who, c.NotBefore.UTC().Format(time.RFC3339)))
		}
	}
	if !set.WaiveName {
		if err := leaf.VerifyHostname(set.ServerName); err != nil {
			names := append([]string(nil), leaf.DNSNames...)
			for _, ip := range leaf.IPAddresses {
				names = append(names, ip.String())
			}
			if len(names) == 0 {
				names = []string{"no name at all"}
			}
			out = append(out, fmt.Sprintf("it is for %s, not for %s", strings.Join(names, ", "), set.ServerName))
		}
	}
	if !set.WaiveTrust {
		if why := untrusted(chain, roots, now); why != "" {
			out = append(out, why)
		}
	}
	return append(out, weaknesses(leaf)...)
}

// untrusted says why a chain leads to no trusted root. Expiry is not its
// concern: it verifies at a time when all of the chain is valid, if there is one.
func untrusted(chain []*x509.Certificate, roots *x509.CertPool, now time.Time) string {
	at := now
	for _, c := range chain {
		if at.Before(c.NotBefore) {
			at = c.NotBefore
		}
	}
	for _, c := range chain {
		if at.After(c.NotAfter) {
			at = c.NotAfter
		}
	}
	between := x509.NewCertPool()
	for _, c := range chain[1:] {
		between.AddCert(c)
	}
	_, err := chain[0].Verify(x509.VerifyOptions{Roots: roots, Intermediates: between, CurrentTime: at, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}})
	var unknown x509.UnknownAuthorityError
	switch {
	case err == nil:
		return ""
	case errors.As(err, &unknown) && chain[len(chain)-1].Issuer.String() == chain[len(chain)-1].Subject.String() && len(chain) == 1:
		return "it is signed by itself, and not trusted"
	case errors.As(err, &unknown):
		return fmt.Sprintf("its chain ends at %q, which is not trusted; a certificate in between may be missing", chain[len(chain)-1].Issuer.CommonName)
	}
	return "its chain does not hold: " + strings.TrimPrefix(err.Error(), "x509: ")
}

func weaknesses(leaf *x509.Certificate) []string {
	var out []string
	bits := keyBits(leaf)
	switch leaf.PublicKey.(type) {
	case *rsa.PublicKey:
		if bits < leastRSA {
			out = append(out, fmt.Sprintf("its RSA key of %d bits is weak; %d are the least", bits, leastRSA))
		}
	case *ecdsa.PublicKey:
		if bits < leastCurve {
			out = append(out, fmt.Sprintf("its elliptic curve of %d bits is weak; %d are the least", bits, leastCurve))
		}
	}
	switch leaf.SignatureAlgorithm {
	case x509.MD2WithRSA, x509.MD5WithRSA, x509.SHA1WithRSA, x509.DSAWithSHA1, x509.ECDSAWithSHA1:
		out = append(out, fmt.Sprintf("its signature by %s is weak", leaf.SignatureAlgorithm))
	}
	return out
}

// keyBits is the length of the leaf's public key; 0 for a kind that is not known.
func keyBits(c *x509.Certificate) int {
	switch key := c.PublicKey.(type) {
	case *rsa.PublicKey:
		return key.N.BitLen()
	case *ecdsa.PublicKey:
		return key.Curve.Params().BitSize
	case ed25519.PublicKey:
		return 256
	}
	return 0
}

func subject(c *x509.Certificate) string {
	if c.Subject.CommonName != "" {
		return c.Subject.CommonName
	}
	return c.Subject.String()
}

// days is a duration in days, cut to hundredths.
func days(d time.Duration) float64 { return math.Floor(d.Hours()/24*100) / 100 }
