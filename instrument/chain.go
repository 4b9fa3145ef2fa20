package instrument

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
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

// opinion is what is to be said of a server's TLS, the same for every kind of check.
type opinion struct {
	faults     []string // clients do not take it
	weaknesses []string // they do, and should not for long
	notes      []string // worth knowing
	used       []*x509.Certificate
}

// errUntaken is a server whose TLS clients do not take.
type errUntaken struct{ opinion opinion }

func (e *errUntaken) Error() string { return e.opinion.spoken(Result{}).Detail }

// spoken adds to a result what is to be said.
func (o opinion) spoken(r Result) Result {
	switch {
	case len(o.faults) > 0:
		r.Outcome, r.Detail = measure.Failed, "the certificate is not taken: "+strings.Join(slices.Concat(o.faults, o.weaknesses), "; ")
	case len(o.weaknesses) > 0 && r.Outcome <= measure.Degraded:
		why := o.weaknesses
		if r.Outcome == measure.Degraded {
			why = append([]string{r.Detail}, why...)
		}
		r.Outcome, r.Detail = measure.Degraded, strings.Join(why, "; ")
	}
	return r
}

// onTheWire is a host's name as TLS has it (RFC 6066 §3: A-labels); an address stays.
func onTheWire(host string) string {
	if _, err := netip.ParseAddr(host); err == nil {
		return host
	}
	if ascii, err := definition.ASCIIName(host); err == nil {
		return ascii
	}
	return host
}

// handshake is a configuration that takes whatever the library speaks, down to TLS
// 1.0 and key exchanges that nobody should use any more: what is to be said of them
// is said afterwards. SSL, export ciphers and finite-field Diffie-Hellman it does not
// speak.
func (s *Set) handshake(name string) *tls.Config {
	var suites []uint16
	for _, c := range append(tls.CipherSuites(), tls.InsecureCipherSuites()...) {
		suites = append(suites, c.ID)
	}
	return &tls.Config{
		ServerName: onTheWire(name), MinVersion: tls.VersionTLS10, CipherSuites: suites, Time: s.now,
		InsecureSkipVerify: true, // judged by judge, where each fault gets its own words
	}
}

// judge says what is to be said of a handshake and the chain that was shown in it.
func judge(state tls.ConnectionState, set definition.CertificateSettings, roots *x509.CertPool, now time.Time) opinion {
	shown := state.PeerCertificates
	leaf := shown[0]
	var out opinion
	chains, err := leaf.Verify(verification(shown, roots, now))
	trusted := err == nil
	if trusted {
		out.used = longest(chains)
		out.notes = unneeded(shown, chains, now)
	} else {
		out.used = path(shown)
		out.faults = expiries(out.used, now)
	}
	if !set.WaiveName {
		if err := leaf.VerifyHostname(onTheWire(set.ServerName)); err != nil {
			out.faults = append(out.faults, fmt.Sprintf("it is for %s, not for %s", strings.Join(namesOf(leaf), ", "), set.ServerName))
		}
	}
	if !trusted && !set.WaiveTrust {
		if why := untrusted(shown, out.used, roots, now); why != "" {
			out.faults = append(out.faults, why)
		}
	}
	if len(state.OCSPResponse) > 0 {
		if why := revocation(state.OCSPResponse, leaf, out.used, now); why != "" {
			out.faults = append(out.faults, why)
		}
	}
	out.weaknesses = weaknesses(out.used, trusted)
	out.notes = append(out.notes, old(state)...)
	return out
}

func verification(shown []*x509.Certificate, roots *x509.CertPool, at time.Time) x509.VerifyOptions {
	between := x509.NewCertPool()
	for _, c := range shown[1:] {
		between.AddCert(c)
	}
	return x509.VerifyOptions{Roots: roots, Intermediates: between, CurrentTime: at, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
}

// longest is, of chains that hold, the one that holds longest.
func longest(chains [][]*x509.Certificate) []*x509.Certificate {
	return slices.MaxFunc(chains, func(a, b []*x509.Certificate) int { return ends(a).Compare(ends(b)) })
}

// ends is when the first certificate of a chain expires.
func ends(chain []*x509.Certificate) time.Time {
	first := chain[0].NotAfter
	for _, c := range chain[1:] {
		if c.NotAfter.Before(first) {
			first = c.NotAfter
		}
	}
	return first
}

// unneeded are certificates that a server shows and that no chain which holds has a
// place for, such as one signed across by an authority that has expired.
func unneeded(shown []*x509.Certificate, chains [][]*x509.Certificate, now time.Time) []string {
	var out []string
	for _, c := range shown {
		if slices.ContainsFunc(chains, func(chain []*x509.Certificate) bool { return slices.ContainsFunc(chain, c.Equal) }) {
			continue
		}
		note := fmt.Sprintf("the server also shows %s, signed by %s, which no valid chain needs", subject(c), c.Issuer.CommonName)
		if now.After(c.NotAfter) {
			note += fmt.Sprintf(" (it expired on %s)", c.NotAfter.UTC().Format(time.RFC3339))
		}
		out = append(out, note)
	}
	return out
}

// path is the way from the leaf by issuers, as far as what was shown leads.
func path(shown []*x509.Certificate) []*x509.Certificate {
	out := []*x509.Certificate{shown[0]}
	for len(out) <= len(shown) {
		last := out[len(out)-1]
		if selfIssued(last) {
			break
		}
		next := slices.IndexFunc(shown, func(c *x509.Certificate) bool {
			return string(c.RawSubject) == string(last.RawIssuer) && !slices.ContainsFunc(out, c.Equal)
		})
		if next < 0 {
			break
		}
		out = append(out, shown[next])
	}
	return out
}

func selfIssued(c *x509.Certificate) bool { return string(c.RawSubject) == string(c.RawIssuer) }

// named is how a certificate of a chain is spoken of.
func named(chain []*x509.Certificate, c *x509.Certificate) string {
	if c.Equal(chain[0]) {
		return "it"
	}
	return "the chain's " + subject(c)
}

func expiries(chain []*x509.Certificate, now time.Time) []string {
	var out []string
	for _, c := range chain {
		switch who := named(chain, c); {
		case now.After(c.NotAfter):
			out = append(out, fmt.Sprintf("%s expired on %s", who, c.NotAfter.UTC().Format(time.RFC3339)))
		case now.Before(c.NotBefore):
			out = append(out, fmt.Sprintf("%s is not valid before %s", who, c.NotBefore.UTC().Format(time.RFC3339)))
		}
	}
	return out
}

func namesOf(leaf *x509.Certificate) []string {
	names := slices.Clone(leaf.DNSNames)
	for _, ip := range leaf.IPAddresses {
		names = append(names, ip.String())
	}
	if len(names) == 0 {
		return []string{"no name at all"}
	}
	return names
}

// untrusted says why a chain leads to no trusted root. Expiry is not its concern:
// it verifies at a time when all of the chain is valid, if there is one.
func untrusted(shown, chain []*x509.Certificate, roots *x509.CertPool, now time.Time) string {
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
	_, err := chain[0].Verify(verification(shown, roots, at))
	if err == nil {
		return ""
	}
	var invalid x509.CertificateInvalidError
	if errors.As(err, &invalid) {
		return invalidity(chain, invalid)
	}
	if why := brokenLink(chain); why != "" {
		return why
	}
	last := chain[len(chain)-1]
	if selfIssued(last) && len(chain) == 1 {
		return "it is signed by itself, and not trusted"
	}
	return fmt.Sprintf("its chain ends at %q, which is not trusted; a certificate in between may be missing", last.Issuer.CommonName)
}

// invalidity is the reason that the library found (RFC 5280 §6.1).
func invalidity(chain []*x509.Certificate, e x509.CertificateInvalidError) string {
	who := named(chain, e.Cert)
	switch e.Reason {
	case x509.NotAuthorizedToSign:
		return who + " is not the certificate of an authority, and signs others"
	case x509.TooManyIntermediates:
		return fmt.Sprintf("%s allows fewer authorities below it than there are (its path length is %d)", who, max(0, e.Cert.MaxPathLen))
	case x509.IncompatibleUsage:
		return who + " is not for servers, by its extended key usage"
	case x509.CANotAuthorizedForThisName:
		return fmt.Sprintf("%s may not sign for this name, by its name constraints (%s)", who, e.Detail)
	case x509.UnconstrainedName:
		return who + " may sign for some names only, and this one has names of a kind that it says nothing of"
	case x509.TooManyConstraints:
		return who + " has more name constraints than are looked at"
	case x509.NameMismatch:
		return who + " was not issued by the authority that it names"
	case x509.CANotAuthorizedForExtKeyUsage:
		return who + " may not sign for servers"
	case x509.Expired:
		return "there is no time at which all of its chain is valid"
	}
	return who + " is not valid"
}

// brokenLink looks for what is wrong with the signatures of a chain, which the library
// tells as an unknown authority only.
func brokenLink(chain []*x509.Certificate) string {
	for i, c := range chain {
		if i == len(chain)-1 && selfIssued(c) {
			break // what a root says of itself is nothing
		}
		if weakSignature(c.SignatureAlgorithm) {
			return fmt.Sprintf("%s is signed by %s, which is not trusted any more", named(chain, c), c.SignatureAlgorithm)
		}
		if i == len(chain)-1 {
			break
		}
		parent := chain[i+1]
		switch {
		case parent.Version == 3 && (!parent.BasicConstraintsValid || !parent.IsCA):
			return named(chain, parent) + " is not the certificate of an authority, and signs others"
		case parent.KeyUsage != 0 && parent.KeyUsage&x509.KeyUsageCertSign == 0:
			return named(chain, parent) + " may not sign certificates, by its key usage"
		case c.CheckSignatureFrom(parent) != nil:
			return fmt.Sprintf("%s says that %s signed it, and that is not so", named(chain, c), subject(parent))
		}
	}
	return ""
}

// revocation says what is wrong by the status that the server stapled (RFC 6066 §8, RFC 6960).
func revocation(staple []byte, leaf *x509.Certificate, chain []*x509.Certificate, now time.Time) string {
	issuer := leaf
	switch {
	case len(chain) > 1:
		issuer = chain[1]
	case !selfIssued(leaf):
		return "" // who issued it is not known, which is said elsewhere
	}
	status, err := ocsp.ParseResponseForCert(staple, leaf, nil)
	switch {
	case err != nil || !mayRespond(status, issuer, now):
		return "the revocation status that is stapled to it is not one of this certificate by its authority"
	case status.Status == ocsp.Revoked:
		return "it was revoked on " + status.RevokedAt.UTC().Format(time.RFC3339)
	case !status.NextUpdate.IsZero() && now.After(status.NextUpdate):
		return "the revocation status that is stapled to it ended on " + status.NextUpdate.UTC().Format(time.RFC3339)
	}
	return ""
}

// mayRespond says whether a status is signed by the issuer, or by a delegate that the issuer
// signed for it (RFC 6960 §4.2.2.2). Where a certificate stands in the status, its own
// signature was judged with it when it was read.
func mayRespond(status *ocsp.Response, issuer *x509.Certificate, now time.Time) bool {
	delegate := status.Certificate
	if delegate == nil {
		return status.CheckSignatureFrom(issuer) == nil
	}
	if bytes.Equal(delegate.RawSubjectPublicKeyInfo, issuer.RawSubjectPublicKeyInfo) && bytes.Equal(delegate.RawSubject, issuer.RawSubject) {
		return true
	}
	return slices.Contains(delegate.ExtKeyUsage, x509.ExtKeyUsageOCSPSigning) && !now.Before(delegate.NotBefore) && !now.After(delegate.NotAfter) &&
		issuer.CheckSignature(delegate.SignatureAlgorithm, delegate.RawTBSCertificate, delegate.Signature) == nil
}

// weaknesses looks at the key of every certificate used, and at every signature that
// something hangs on: not that of a trusted root, nor one of itself.
func weaknesses(chain []*x509.Certificate, trusted bool) []string {
	var out []string
	for i, c := range chain {
		whose := "its"
		if i > 0 {
			whose = "the chain's " + subject(c) + "'s"
		}
		bits := keyBits(c)
		switch c.PublicKey.(type) {
		case *rsa.PublicKey:
			if bits < leastRSA {
				out = append(out, fmt.Sprintf("%s RSA key of %d bits is weak; %d are the least", whose, bits, leastRSA))
			}
		case *ecdsa.PublicKey:
			if bits < leastCurve {
				out = append(out, fmt.Sprintf("%s elliptic curve of %d bits is weak; %d are the least", whose, bits, leastCurve))
			}
		}
		root := i == len(chain)-1 && (trusted || selfIssued(c) && i > 0)
		if weakSignature(c.SignatureAlgorithm) && !root {
			out = append(out, fmt.Sprintf("%s signature by %s is weak", whose, c.SignatureAlgorithm))
		}
	}
	return out
}

func weakSignature(a x509.SignatureAlgorithm) bool {
	switch a {
	case x509.MD2WithRSA, x509.MD5WithRSA, x509.SHA1WithRSA, x509.DSAWithSHA1, x509.ECDSAWithSHA1:
		return true
	}
	return false
}

// old says what of a handshake nobody should use any more.
func old(state tls.ConnectionState) []string {
	var out []string
	if state.Version < tls.VersionTLS12 {
		out = append(out, fmt.Sprintf("%s was agreed on, which RFC 8996 takes out of use", tls.VersionName(state.Version)))
	}
	if slices.ContainsFunc(tls.InsecureCipherSuites(), func(c *tls.CipherSuite) bool { return c.ID == state.CipherSuite }) {
		what := "its cipher is not safe any more"
		if strings.HasPrefix(tls.CipherSuiteName(state.CipherSuite), "TLS_RSA_") {
			what = "its key exchange has no forward secrecy"
		}
		out = append(out, fmt.Sprintf("%s was agreed on: %s", tls.CipherSuiteName(state.CipherSuite), what))
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

// handshakeFailure is why a handshake came to nothing, in words; empty where err is
// something else.
func handshakeFailure(err error) string {
	var record tls.RecordHeaderError
	if errors.As(err, &record) {
		return "connected, but what answers does not speak TLS"
	}
	var op *net.OpError
	if errors.As(err, &op) && op.Op == "remote error" {
		// The names of alerts are those of RFC 8446 §6.
		return "the server ends the TLS handshake: " + strings.TrimPrefix(op.Err.Error(), "tls: ")
	}
	text := err.Error()
	if !strings.HasPrefix(text, "tls: ") && !strings.HasPrefix(text, "local error: tls: ") {
		return ""
	}
	switch {
	case strings.Contains(text, "unsupported protocol version"):
		return "the TLS handshake fails: the server speaks a version older than TLS 1.0, or none that there is"
	case strings.Contains(text, "unsupported certificate"), strings.Contains(text, "unsupported key type"), strings.Contains(text, "parse certificate"):
		return "the TLS handshake fails: the server's certificate cannot be read, or has a key of a kind that is not spoken here"
	case strings.Contains(text, "cipher suite"), strings.Contains(text, "curve"), strings.Contains(text, "key exchange"):
		return "the TLS handshake fails: the server chose a cipher or key exchange that is not spoken here"
	case strings.Contains(text, "signature"):
		return "the TLS handshake fails: the server's signature does not hold, or is of a kind that is not spoken here"
	}
	return "the TLS handshake fails: the server does not keep to the protocol"
}
