package notifying

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"io"
	"net"
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/wneessen/go-mail"

	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/instrument"
)

// Message is what is sent by one delivery.
type Message struct {
	ID      string // the same whenever the delivery is sent again
	Thread  string // that messages of one incident share; empty: none
	Subject string
	Text    string
	Short   string
	Values  map[string]string // see definition.Placeholders
	Rank    int               // of syslog: severity, RFC 5424 §6.2.1
	At      time.Time
	// Attached goes with it by mail; nil: nothing.
	Attached *Attachment
}

// Attachment is a PDF.
type Attachment struct {
	Name    string
	Content []byte
}

// Sender sends messages. The zero value sends nowhere on this machine, and runs nothing.
type Sender struct {
	Policy  *instrument.Policy // which addresses it may connect to; nil: the usual one
	Scripts string             // directory of the scripts that it may run, from the root; empty: none
}

// within is how long one attempt may take.
const within = 20 * time.Second

// Refused is an answer that no later attempt changes.
type Refused struct{ Answer string }

func (r *Refused) Error() string { return r.Answer }

// dialer connects to where the policy allows, looked at when the address is known: a name
// may turn out to be anything.
func (s *Sender) dialer() *net.Dialer {
	policy := s.Policy
	if policy == nil {
		policy, _ = instrument.NewPolicy(nil, nil)
	}
	return &net.Dialer{Timeout: within, ControlContext: func(_ context.Context, _, address string, _ syscall.RawConn) error {
		at, err := netip.ParseAddrPort(address)
		if err != nil {
			return fmt.Errorf("%s is no address", address)
		}
		if what := policy.Refuses(at.Addr()); what != "" {
			return fmt.Errorf("messages do not go to %s, which is %s; who runs the server may start it with --send-to %s", at.Addr(), what, at.Addr())
		}
		return nil
	}}
}

// Mail sends a message by a mail server (RFC 5321), and returns what that answered.
func (s *Sender) Mail(ctx context.Context, r definition.RelaySpec, secret *instrument.Secret, to string, m Message) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	address, atOnce, err := r.Server()
	if err != nil {
		return "", err
	}
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return "", err
	}
	number, _ := strconv.Atoi(port)
	trust := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	if r.Authority != "" {
		if trust.RootCAs, err = x509.SystemCertPool(); err != nil {
			trust.RootCAs = x509.NewCertPool()
		}
		trust.RootCAs.AppendCertsFromPEM([]byte(r.Authority))
	}
	options := []mail.Option{mail.WithPort(number), mail.WithTimeout(within), mail.WithTLSConfig(trust), mail.WithHELO(domain(r.Sender)),
		mail.WithDialContextFunc(func(ctx context.Context, network, address string) (net.Conn, error) {
			c, err := s.dialer().DialContext(ctx, network, address)
			if err == nil && atOnce {
				return tls.Client(c, trust), nil
			}
			return c, err
		})}
	switch {
	case atOnce, r.Plain:
		options = append(options, mail.WithTLSPolicy(mail.NoTLS))
		if r.Plain {
			options = append(options, mail.WithTLSPolicy(mail.TLSOpportunistic))
		}
	default:
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory))
	}
	if secret != nil {
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(secret.User), mail.WithPassword(secret.Value))
	}
	client, err := mail.NewClient(host, options...)
	if err != nil {
		return "", err
	}
	letter := mail.NewMsg(mail.WithNoDefaultUserAgent())
	if err := errors.Join(letter.From(r.Sender), letter.To(to)); err != nil {
		return "", &Refused{err.Error()}
	}
	letter.Subject(m.Subject)
	letter.SetDateWithValue(m.At)
	letter.SetMessageIDWithValue(m.ID + "@" + domain(r.Sender))
	if m.Thread != "" {
		thread := "<" + m.Thread + "@" + domain(r.Sender) + ">"
		letter.SetGenHeader(mail.HeaderInReplyTo, thread)
		letter.SetGenHeader(mail.HeaderReferences, thread)
	}
	letter.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834: no automatic answers
	letter.SetBodyString(mail.TypeTextPlain, m.Text)
	letter.AddAlternativeString(mail.TypeTextHTML, markup(m))
	if m.Attached != nil {
		if err := letter.AttachReader(m.Attached.Name, bytes.NewReader(m.Attached.Content), mail.WithFileContentType("application/pdf")); err != nil {
			return "", err
		}
	}
	err = client.DialAndSendWithContext(ctx, letter)
	var refused *mail.SendError
	if errors.As(err, &refused) && refused.ErrorCode() >= 500 && !refused.IsTemp() {
		return "", &Refused{clean(err.Error())}
	}
	if err != nil {
		return "", errors.New(clean(err.Error()))
	}
	return clean(letter.ServerResponse()), nil
}

func domain(address string) string {
	_, host, has := strings.Cut(address, "@")
	if !has {
		return "localhost"
	}
	return host
}

// markup is a message as HTML, in which nothing is what it is not: all of it is text, and
// the links are those of its lines.
func markup(m Message) string {
	var b strings.Builder
	b.WriteString("<!doctype html><html><body style=\"font-family:sans-serif;font-size:15px\">")
	for _, line := range strings.Split(m.Text, "\n") {
		b.WriteString("<p style=\"margin:0 0 6px\">")
		before, link, has := strings.Cut(line, "http")
		b.WriteString(html.EscapeString(before))
		if has && !strings.ContainsAny(link, " \t") {
			at := html.EscapeString("http" + link)
			fmt.Fprintf(&b, "<a href=\"%s\">%s</a>", at, at)
		} else if has {
			b.WriteString(html.EscapeString("http" + link))
		}
		b.WriteString("</p>")
	}
	b.WriteString("</body></html>")
	return b.String()
}

// SMS sends a message by the web address of a gateway.
func (s *Sender) SMS(ctx context.Context, r definition.RelaySpec, secret *instrument.Secret, to string, m Message) (string, error) {
	body := r.Body
	if body == "" {
		body = definition.SMSBody
	}
	text := definition.Filled(body, map[string]string{"to": to, "sender": r.Sender, "text": m.Short}, inJSON)
	return s.post(ctx, request{address: r.Address, method: http.MethodPost, body: []byte(text), secret: secret, authority: r.Authority, id: m.ID})
}

// Webhook sends a message as JSON to another program.
func (s *Sender) Webhook(ctx context.Context, c definition.ContactSpec, secret, signing *instrument.Secret, m Message) (string, error) {
	body, err := hookBody(c, m)
	if err != nil {
		return "", err
	}
	method := c.Method
	if method == "" {
		method = http.MethodPost
	}
	return s.post(ctx, request{address: c.Address, method: method, body: body, secret: secret, signing: signing, headers: c.Headers,
		expect: c.Expect, id: m.ID, at: m.At})
}

// Chat sends a message to a chat room that takes plain JSON.
func (s *Sender) Chat(ctx context.Context, c definition.ContactSpec, secret *instrument.Secret, m Message) (string, error) {
	body, err := chatBody(m)
	if err != nil {
		return "", err
	}
	return s.post(ctx, request{address: c.Address, method: http.MethodPost, body: body, secret: secret, id: m.ID})
}

// hookBody is what a webhook gets: all values, or its own body with them in.
func hookBody(c definition.ContactSpec, m Message) ([]byte, error) {
	if c.Body != "" {
		return []byte(definition.Filled(c.Body, m.Values, inJSON)), nil
	}
	return json.Marshal(m.Values)
}

func chatBody(m Message) ([]byte, error) {
	return json.Marshal(map[string]string{"text": m.Subject + "\n" + m.Text})
}

// inJSON writes a text as it stands within the quotation marks of JSON.
func inJSON(s string) string {
	out, _ := json.Marshal(s) // of a string, it has no error
	return string(out[1 : len(out)-1])
}

type request struct {
	address, method string
	body            []byte
	secret, signing *instrument.Secret
	headers         []definition.FixedHeader
	authority       string
	expect          int
	id              string
	at              time.Time
}

// mostAnswer is how much of an answer is kept.
const mostAnswer = 500

// post makes a request, follows nothing, and keeps the beginning of the answer.
func (s *Sender) post(ctx context.Context, r request) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, r.method, r.address, bytes.NewReader(r.body))
	if err != nil {
		return "", &Refused{err.Error()}
	}
	for _, h := range r.headers {
		req.Header.Set(h.Name, h.Value)
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("User-Agent", "Kestite")
	req.Header.Set("Idempotency-Key", r.id)
	if r.signing != nil {
		at := strconv.FormatInt(r.at.Unix(), 10)
		mac := hmac.New(sha256.New, []byte(r.signing.Value))
		mac.Write([]byte(at + "."))
		mac.Write(r.body)
		req.Header.Set("Kestite-Signature", "t="+at+",v1="+hex.EncodeToString(mac.Sum(nil)))
	}
	if r.secret != nil && definition.AtOrigin(r.secret.Origins, r.address) {
		r.secret.Sign(req)
	}
	transport := &http.Transport{DialContext: s.dialer().DialContext, TLSClientConfig: &tls.Config{MinVersion: tls.VersionTLS12},
		DisableKeepAlives: true, MaxResponseHeaderBytes: 16 << 10}
	if r.authority != "" {
		pool, err := x509.SystemCertPool()
		if err != nil {
			pool = x509.NewCertPool()
		}
		pool.AppendCertsFromPEM([]byte(r.authority))
		transport.TLSClientConfig.RootCAs = pool
	}
	client := &http.Client{Transport: transport, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	resp, err := client.Do(req)
	if err != nil {
		return "", errors.New(clean(err.Error()))
	}
	defer resp.Body.Close()
	text, _ := io.ReadAll(io.LimitReader(resp.Body, mostAnswer))
	answer := clean(strings.TrimSpace(resp.Status + " " + string(text)))
	switch ok := resp.StatusCode >= 200 && resp.StatusCode < 300 && (r.expect == 0 || r.expect == resp.StatusCode); {
	case ok:
		return answer, nil
	case resp.StatusCode >= 300 && resp.StatusCode < 400:
		return "", &Refused{answer + ": it points elsewhere, where nothing is sent"}
	case resp.StatusCode >= 400 && resp.StatusCode < 500 && resp.StatusCode != http.StatusRequestTimeout &&
		resp.StatusCode != http.StatusTooEarly && resp.StatusCode != http.StatusTooManyRequests:
		return "", &Refused{answer}
	}
	return "", errors.New(answer)
}

// Syslog sends a message to a collector (RFC 5424; RFC 5426 by UDP, RFC 6587 §3.4.1 by
// TCP, RFC 5425 by TLS). None of them answers.
func (s *Sender) Syslog(ctx context.Context, c definition.ContactSpec, host string, m Message) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	how, address, err := c.Collector()
	if err != nil {
		return "", err
	}
	facility := c.Facility
	if facility == 0 {
		facility = 16
	}
	text := fmt.Sprintf("<%d>1 %s %s kestite - %s [incident@32473 id=%s what=%s severity=%s] \xef\xbb\xbf%s", facility*8+m.Rank,
		m.At.UTC().Format("2006-01-02T15:04:05.000Z"), header(host), header(m.Values["what"]), parameter(m.Values["incident"]),
		parameter(m.Values["what"]), parameter(m.Values["severity"]), strings.ReplaceAll(m.Subject, "\n", " "))
	network := "tcp"
	if how == "udp" {
		network = "udp"
	}
	conn, err := s.dialer().DialContext(ctx, network, address)
	if err != nil {
		return "", errors.New(clean(err.Error()))
	}
	defer conn.Close()
	if deadline, has := ctx.Deadline(); has {
		if err := conn.SetDeadline(deadline); err != nil {
			return "", err
		}
	}
	if how == "tls" {
		name, _, _ := net.SplitHostPort(address)
		conn = tls.Client(conn, &tls.Config{ServerName: name, MinVersion: tls.VersionTLS12})
	}
	if how != "udp" {
		text = strconv.Itoa(len(text)) + " " + text // octet counting
	}
	if _, err := io.WriteString(conn, text); err != nil {
		return "", errors.New(clean(err.Error()))
	}
	return "written to " + how + " " + address + "; such collectors do not answer", nil
}

// header is a field of a syslog header: printable ASCII without blanks, or a hyphen.
func header(s string) string {
	out := strings.Map(func(r rune) rune {
		if r <= ' ' || r > '~' {
			return -1
		}
		return r
	}, s)
	if out == "" {
		return "-"
	}
	return out[:min(len(out), 255)]
}

// parameter is the value of a parameter in structured data.
func parameter(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, `]`, `\]`).Replace(s) + `"`
}

func clean(s string) string { return measure.Clean(s, mostAnswer) }
