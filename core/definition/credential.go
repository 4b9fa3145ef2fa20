package definition

import (
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"golang.org/x/net/http/httpguts"
)

// Ways of using a credential.
const (
	Basic     = "basic"
	Bearer    = "bearer"
	InHeader  = "header"
	InQuery   = "query"
	maxSecret = 8000
)

// CredentialSpec is what a check signs in with, and where. Its secret is kept
// apart, encrypted, and never read back by people.
type CredentialSpec struct {
	Name      string   `json:"name" minLength:"1" maxLength:"80"`
	Kind      string   `json:"kind" enum:"basic,bearer,header,query" doc:"HTTP Basic (RFC 7617), Bearer (RFC 6750), the value of a header, or of a parameter in the address"`
	User      string   `json:"user,omitempty" maxLength:"200" doc:"User name, for basic"`
	Header    string   `json:"header,omitempty" maxLength:"200" doc:"Name of the header, for header"`
	Parameter string   `json:"parameter,omitempty" maxLength:"200" doc:"Name of the parameter, for query"`
	Origins   []string `json:"origins" minItems:"1" maxItems:"20" doc:"The only places the secret may be sent to: scheme, host and port, such as https://booking.skerry.example:8443 (RFC 6454)"`
	Note      string   `json:"note,omitempty" maxLength:"2000"`
}

// Validate of a credential.
func (c CredentialSpec) Validate() error {
	if err := called("name", c.Name); err != nil {
		return err
	}
	switch {
	case c.Kind == Basic && (c.User == "" || strings.Contains(c.User, ":")):
		return fault("user", "%q is no user name; it must not be empty nor contain a colon (RFC 7617)", c.User)
	case c.Kind == InHeader && !httpguts.ValidHeaderFieldName(c.Header):
		return fault("header", "%q is no name of a header; write it as X-Api-Key", c.Header)
	case c.Kind == InQuery && !parameter.MatchString(c.Parameter):
		return fault("parameter", "%q is no name of a parameter; write it as api_key", c.Parameter)
	case !slices.Contains([]string{Basic, Bearer, InHeader, InQuery}, c.Kind):
		return fault("kind", "%q is no kind of credential; it is basic, bearer, header or query", c.Kind)
	case len(c.Origins) == 0:
		return fault("origins", "say where the secret may be sent to: scheme, host and port, such as https://booking.skerry.example")
	}
	for i, o := range c.Origins {
		canonical, err := Origin(o)
		if err == nil {
			if u, bad := url.Parse(strings.TrimSpace(o)); bad != nil || strings.Trim(u.Path,
				"/") != "" || u.RawQuery != "" || u.Fragment != "" {
				err = fmt.Errorf("%q says more than an origin; write it as %s", withoutSecrets(o), canonical)
			}
		}
		if err != nil {
			return fault(fmt.Sprintf("origins[%d]", i), "%v", err)
		}
	}
	return nil
}

var parameter = regexp.MustCompile(`^[A-Za-z0-9_.~-]{1,200}$`)

// MayGoTo says whether the secret may be sent to the origin of a web address.
// The error says which origins it is bound to.
func (c CredentialSpec) MayGoTo(address string) error {
	origin, err := Origin(address)
	if err != nil {
		return err
	}
	if AtOrigin(c.Origins, address) {
		return nil
	}
	if len(c.Origins) == 0 {
		return fmt.Errorf("the credential %s is bound to no place yet; say under Set-up, Credentials that its secret may go to %s",
			c.Name, origin)
	}
	return fmt.Errorf("the secret of %s may be sent to %s and nowhere else, so not to %s; a manager can change that under Set-up, Credentials",
		c.Name, strings.Join(c.Origins, ", "), origin)
}

// AtOrigin says whether a web address lies at one of the origins.
func AtOrigin(origins []string, address string) bool {
	at, err := Origin(address)
	return err == nil && slices.ContainsFunc(origins, func(o string) bool {
		known, err := Origin(o)
		return err == nil && known == at
	})
}

// Origin is the scheme, host and port of a web address (RFC 6454 §4), written in
// one way only: small letters, hosts in ASCII, addresses in their shortest form,
// no port that goes without saying.
func Origin(address string) (string, error) {
	u, err := url.Parse(strings.TrimSpace(address))
	if err != nil || u.Hostname() == "" {
		return "", fmt.Errorf("%q is no web address; write it as https://host or https://host:port", withoutSecrets(address))
	}
	if u.User != nil {
		return "", errors.New("leave name and password away")
	}
	scheme := strings.ToLower(u.Scheme)
	usual, known := map[string]string{"http": "80", "https": "443", "smtp": "587", "smtps": "465"}[scheme]
	if !known {
		return "", fmt.Errorf("%q is no scheme of the web; write http or https, or smtp or smtps for a mail server", u.Scheme)
	}
	host := strings.ToLower(u.Hostname())
	if addr, err := netip.ParseAddr(host); err == nil {
		if host = addr.Unmap().String(); addr.Unmap().Is6() {
			host = "[" + host + "]"
		}
	} else {
		ascii, err := ASCIIName(host)
		if err != nil || !hostName.MatchString(ascii) {
			return "", fmt.Errorf("%q is no name of a host", u.Hostname())
		}
		host = strings.TrimSuffix(strings.ToLower(ascii), ".")
	}
	if port := u.Port(); port != "" && port != usual {
		host += ":" + port
	}
	return scheme + "://" + host, nil
}

// ValidSecret says what is wrong with a credential's secret, without repeating it.
func ValidSecret(secret string) error {
	if secret == "" || len(secret) > maxSecret || !httpguts.ValidHeaderFieldValue(secret) {
		return fault("secret", "a secret has 1 to %d characters and no line breaks", maxSecret)
	}
	return nil
}

// secretWords are parts of names whose values are secrets, as programs use them.
var secretWords = regexp.MustCompile(
	`^(key|sig|sas|pwd|auth|jwt|sid)$|authorization|cookie|api-?key|access-?key|subscription-?key|private-?key|token|secret|passw(or)?d|passphrase|credential|signature|session-?id|x-auth`)

// SecretName says whether what goes by the name, of a header or of a parameter
// in an address, is usually a secret.
func SecretName(name string) bool {
	return secretWords.MatchString(strings.ReplaceAll(strings.ToLower(name), "_", "-"))
}

// withoutSecrets is an address as it may be repeated in a message: without what
// follows its path, and without name and password.
func withoutSecrets(address string) string {
	address, _, _ = strings.Cut(address, "?")
	if before, after, found := strings.Cut(address, "@"); found {
		scheme, _, hasScheme := strings.Cut(before, "://")
		if hasScheme {
			return scheme + "://•••@" + after
		}
		return "•••@" + after
	}
	return address
}
