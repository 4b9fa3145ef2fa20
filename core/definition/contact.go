package definition

import (
	"crypto/x509"
	"encoding/json"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"golang.org/x/net/http/httpguts"
)

// Ways of reaching somebody.
const (
	Mail    = "mail"    // an e-mail address
	SMS     = "sms"     // a telephone number
	Webhook = "webhook" // a web address that takes JSON
	Chat    = "chat"    // the web address of a chat room that takes {"text": …}
	Syslog  = "syslog"  // a collector of RFC 5424 messages
	Script  = "script"  // a file in the directory that the server may run scripts of
	Inbox   = "inbox"   // the list of notices in the application; everybody has it
)

// RelaySpec is what takes our messages and passes them on: a mail server (RFC 5321), or
// the web address of an SMS gateway. Those of one kind are tried from the lowest rank.
type RelaySpec struct {
	Name       string `json:"name" minLength:"1" maxLength:"80"`
	Kind       string `json:"kind" enum:"mail,sms"`
	Address    string `json:"address" minLength:"1" maxLength:"500" doc:"Of a mail server smtp://host:587 (STARTTLS, RFC 3207) or smtps://host:465 (TLS at once, RFC 8314); of an SMS gateway an http or https address"`
	Plain      bool   `json:"plain,omitempty" doc:"Of smtp: send without TLS where the server offers none; nothing is signed in with then"`
	Authority  string `json:"authority,omitempty" maxLength:"20000" doc:"Certificates in PEM that are trusted beside those of the system"`
	Sender     string `json:"sender" minLength:"1" maxLength:"200" doc:"What messages come from: a mail address, or the name or number that the gateway shows"`
	Credential string `json:"credential,omitempty" maxLength:"120" doc:"Id of what signs in there: basic for a mail server; basic, bearer or header for a gateway"`
	Body       string `json:"body,omitempty" maxLength:"2000" doc:"Of an SMS gateway: the JSON it takes, with {to}, {text} and {sender}; absent: {\"to\": \"{to}\", \"from\": \"{sender}\", \"text\": \"{text}\"}"`
	Rank       int    `json:"rank,omitempty" minimum:"0" maximum:"100" doc:"Lower ones are tried first, others where those fail"`
	Note       string `json:"note,omitempty" maxLength:"2000"`
}

// SMSBody is what an SMS gateway takes unless its relay says otherwise.
const SMSBody = `{"to": "{to}", "from": "{sender}", "text": "{text}"}`

// ContactSpec is a contact method that belongs to no single person: a shared mailbox, a
// number, a chat room, another program.
type ContactSpec struct {
	Name       string        `json:"name" minLength:"1" maxLength:"80"`
	Kind       string        `json:"kind" enum:"mail,sms,webhook,chat,syslog,script"`
	Address    string        `json:"address" minLength:"1" maxLength:"500" doc:"A mail address; a number as +4670123456 (ITU-T E.164); an http or https address; of syslog udp://host:514, tcp://host:601 or tls://host:6514; of a script the name of its file in the directory that the server was started with"`
	Args       []string      `json:"args,omitempty" maxItems:"20" doc:"Of a script: its arguments, with placeholders, none of which is read by a shell; the message is its standard input"`
	Credential string        `json:"credential,omitempty" maxLength:"120" doc:"Of webhook and chat: id of what signs in there"`
	Signing    string        `json:"signing,omitempty" maxLength:"120" doc:"Of a webhook: id of the credential whose secret signs the body with HMAC-SHA256 (RFC 2104), in the header Kestite-Signature"`
	Method     string        `json:"method,omitempty" enum:"POST,PUT" default:"POST"`
	Headers    []FixedHeader `json:"headers,omitempty" maxItems:"20" doc:"Of a webhook: sent along; secrets belong in a credential"`
	Body       string        `json:"body,omitempty" maxLength:"8000" doc:"Of a webhook: the JSON that is sent, with placeholders; absent: all there is to say"`
	Expect     int           `json:"expect,omitempty" minimum:"200" maximum:"299" doc:"Of a webhook: the only status that counts as taken; absent: any from 200 to 299"`
	Facility   int           `json:"facility,omitempty" minimum:"0" maximum:"23" doc:"Of syslog, RFC 5424 §6.2.1; absent: 16, local0"`
	Active     *WeeklyPlan   `json:"active,omitempty" doc:"When it may be used; what is due outside waits until then. Absent: always"`
	Note       string        `json:"note,omitempty" maxLength:"2000"`
}

// FixedHeader is a header that is sent as it stands.
type FixedHeader struct {
	Name  string `json:"name" minLength:"1" maxLength:"200"`
	Value string `json:"value" maxLength:"1000"`
}

// Called is what people call what a spec defines.
func (r RelaySpec) Called() string { return r.Name }

// Called is what people call what a spec defines.
func (c ContactSpec) Called() string { return c.Name }

// Placeholders are what texts of messages may name, each in braces.
var Placeholders = []string{"what", "headline", "severity", "service", "began", "incident", "link", "detail"}

// relayed are the placeholders of what an SMS gateway takes.
var relayed = []string{"to", "text", "sender"}

var slot = regexp.MustCompile(`\{([A-Za-z_]+)\}`)

// named refuses a text that names what there is not.
func named(path, text string, known []string) error {
	for _, m := range slot.FindAllStringSubmatch(text, -1) {
		if !slices.Contains(known, m[1]) {
			return fault(path, "{%s} is no placeholder; there are {%s}", m[1], strings.Join(known, "}, {"))
		}
	}
	return nil
}

// jsonOf refuses a text that is no JSON once its placeholders are filled in.
func jsonOf(path, text string) error {
	if text == "" || json.Valid([]byte(slot.ReplaceAllString(text, "x"))) {
		return nil
	}
	return fault(path, `is no JSON; write it as {"text": "{headline}"}, each placeholder within quotation marks`)
}

// Filled is a text with its placeholders filled in, each as escape writes it.
func Filled(text string, values map[string]string, escape func(string) string) string {
	return slot.ReplaceAllStringFunc(text, func(m string) string {
		v, known := values[m[1:len(m)-1]]
		if !known {
			return m
		}
		return escape(v)
	})
}

var telephone = regexp.MustCompile(`^\+[1-9][0-9]{5,14}$`)

var localPart = regexp.MustCompile("^[A-Za-z0-9!#$%&'*+/=?^_`{|}~-]+(\\.[A-Za-z0-9!#$%&'*+/=?^_`{|}~-]+)*$")

// MailAddress says what is wrong with a mail address (RFC 5322 addr-spec, of dot-atoms).
func MailAddress(path, address string) error {
	local, host, _ := strings.Cut(address, "@")
	ascii, err := ASCIIName(host)
	if err != nil || !localPart.MatchString(local) || !hostName.MatchString(ascii) {
		return fault(path, "%q is no mail address; write it as name@harbour.example", address)
	}
	return plain(path, address)
}

// Number says what is wrong with a telephone number, and writes it without spaces.
func Number(path, text string) (string, error) {
	out := strings.NewReplacer(" ", "", "-", "", "(", "", ")", "").Replace(text)
	if !telephone.MatchString(out) {
		return "", fault(path, "%q is no telephone number; write it with the country, as +46 70 123 456", text)
	}
	return out, nil
}

// Validate of a relay.
func (r RelaySpec) Validate() error {
	if err := called("name", r.Name); err != nil {
		return err
	}
	if r.Authority != "" && !x509.NewCertPool().AppendCertsFromPEM([]byte(r.Authority)) {
		return fault("authority", "holds no certificate in PEM; paste it with its lines BEGIN and END")
	}
	if r.Kind == SMS {
		if r.Plain {
			return fault("plain", "is for mail servers; take it away")
		}
		if _, err := Origin(r.Address); err != nil || !strings.HasPrefix(r.Address, "http") {
			return fault("address", "%q is no web address; write it as https://gateway.example/messages", withoutSecrets(r.Address))
		}
		if err := named("body", r.Body, relayed); err != nil {
			return err
		}
		if err := jsonOf("body", r.Body); err != nil {
			return err
		}
		return called("sender", r.Sender)
	}
	if r.Body != "" {
		return fault("body", "is for SMS gateways; take it away")
	}
	if _, _, err := r.Server(); err != nil {
		return err
	}
	if r.Plain && (r.Credential != "" || strings.HasPrefix(r.Address, "smtps:")) {
		return fault("plain", "without TLS nobody signs in, and smtps is TLS; take one of them away")
	}
	return MailAddress("sender", r.Sender)
}

// Server is the host:port of a mail server, and whether TLS begins at once.
func (r RelaySpec) Server() (string, bool, error) {
	u, err := url.Parse(r.Address)
	if err != nil || u.Hostname() == "" || u.Scheme != "smtp" && u.Scheme != "smtps" || strings.Trim(u.Path,
		"/") != "" || u.User != nil || u.RawQuery != "" {
		return "", false, fault("address", "%q is no mail server; write it as smtp://host:587 or smtps://host:465", withoutSecrets(r.Address))
	}
	return hostPort(u, map[string]string{"smtp": "587", "smtps": "465"}[u.Scheme]), u.Scheme == "smtps", nil
}

// Collector is how and where a syslog collector is reached: udp, tcp or tls, and host:port.
func (c ContactSpec) Collector() (how, address string, err error) {
	u, err := url.Parse(c.Address)
	usual, known := map[string]string{"udp": "514", "tcp": "601", "tls": "6514"}[urlScheme(u)]
	if err != nil || !known || u.Hostname() == "" || strings.Trim(u.Path, "/") != "" || u.User != nil {
		return "", "", fault("address", "%q is no collector; write it as udp://host:514, tcp://host:601 or tls://host:6514",
			withoutSecrets(c.Address))
	}
	return u.Scheme, hostPort(u, usual), nil
}

// hostPort is the host and port of an address, with the usual port where it names none.
func hostPort(u *url.URL, usual string) string {
	if u.Port() != "" {
		return u.Host
	}
	return strings.TrimSuffix(u.Host, ":") + ":" + usual
}

func urlScheme(u *url.URL) string {
	if u == nil {
		return ""
	}
	return u.Scheme
}

// Validate of a shared contact method.
func (c ContactSpec) Validate() error {
	if err := called("name", c.Name); err != nil {
		return err
	}
	if _, err := active("active", c.Active); err != nil {
		return err
	}
	web := c.Kind == Webhook || c.Kind == Chat
	switch {
	case c.Credential != "" && !web:
		return fault("credential", "is for webhooks and chat rooms; take it away")
	case c.Kind != Webhook && (c.Signing != "" || len(c.Headers) > 0 || c.Body != "" || c.Expect != 0):
		return fault("kind", "signing, headers, body and the expected status are for webhooks; take them away")
	case c.Facility != 0 && c.Kind != Syslog:
		return fault("facility", "is for syslog; take it away")
	case len(c.Args) > 0 && c.Kind != Script:
		return fault("args", "are for scripts; take them away")
	}
	for i, h := range c.Headers {
		path := fmt.Sprintf("headers[%d]", i)
		switch {
		case !httpguts.ValidHeaderFieldName(h.Name):
			return fault(path+".name", "%q is no name of a header", h.Name)
		case !httpguts.ValidHeaderFieldValue(h.Value):
			return fault(path+".value", "cannot stand in a header; take line breaks out")
		case SecretName(h.Name):
			return fault(path+".name", "%s is usually a secret; keep it in a credential", h.Name)
		case slices.ContainsFunc([]string{"Content-Length", "Content-Type", "Host", "Idempotency-Key", "Kestite-Signature"},
			func(own string) bool { return strings.EqualFold(own, h.Name) }):
			return fault(path+".name", "%s is set by us; take it away", h.Name)
		}
	}
	if err := named("body", c.Body, Placeholders); err != nil {
		return err
	}
	if err := jsonOf("body", c.Body); err != nil {
		return err
	}
	switch c.Kind {
	case Mail:
		return MailAddress("address", c.Address)
	case SMS:
		_, err := Number("address", c.Address)
		return err
	case Syslog:
		_, _, err := c.Collector()
		return err
	case Script:
		return c.validScript()
	}
	if _, err := Origin(c.Address); err != nil || !strings.HasPrefix(c.Address, "http") {
		return fault("address", "%q is no web address; write it as https://host/path", withoutSecrets(c.Address))
	}
	return nil
}

// scriptName is what a script may be called: a file of the directory itself.
var scriptName = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9_.-]*$`)

func (c ContactSpec) validScript() error {
	if !scriptName.MatchString(c.Address) {
		return fault("address", "%q is no name of a script; give that of a file in the directory itself, with letters, digits, dots, dashes and underscores",
			c.Address)
	}
	for i, a := range c.Args {
		path := fmt.Sprintf("args[%d]", i)
		if err := plain(path, a); err != nil {
			return err
		}
		if len(a) > 500 {
			return fault(path, "has %d bytes; 500 are the most", len(a))
		}
		if err := named(path, a, Placeholders); err != nil {
			return err
		}
	}
	return nil
}
