package standin

import (
	"bufio"
	"bytes"
	"crypto/tls"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net"
	"net/http"
	"net/mail"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// Message is what arrived at a receiver of the outside world.
type Message struct {
	Method  string    `json:"method"` // mail, sms, webhook, chat or syslog
	To      string    `json:"to"`
	Subject string    `json:"subject"`
	Text    string    `json:"text"`
	At      time.Time `json:"at"`
	ID      string    `json:"id"` // as the sender tells one message from another; empty: it does not
	Files   []File    `json:"files,omitempty"`
}

// File is what was attached to a letter.
type File struct {
	Name    string `json:"name"`
	Type    string `json:"type"`
	Content []byte `json:"-"`
}

// Messages are those that arrived, the latest first, so many at most.
type Messages struct {
	// Now says when one arrived; nil: this machine's clock. Set it before the first.
	Now func() time.Time

	mu   sync.Mutex
	list []Message
}

const mostMessages = 5000

// Add keeps one.
func (m *Messages) Add(one Message) {
	m.mu.Lock()
	defer m.mu.Unlock()
	now := time.Now
	if m.Now != nil {
		now = m.Now
	}
	one.At = now().UTC()
	m.list = append(m.list, one)
	if len(m.list) > mostMessages {
		m.list = slices.Delete(m.list, 0, len(m.list)-mostMessages)
	}
}

// All are the messages that arrived, the latest first.
func (m *Messages) All() []Message {
	m.mu.Lock()
	defer m.mu.Unlock()
	out := slices.Clone(m.list)
	slices.Reverse(out)
	return out
}

// mode is what a receiver does at present.
type mode struct {
	mu  sync.Mutex
	now string
}

func (m *mode) get() string {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.now == "" {
		return OK
	}
	return m.now
}

func (m *mode) set(to string) error {
	if !slices.Contains(WebModes, to) {
		return fmt.Errorf("%q is no mode; it is one of %v", to, WebModes)
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.now = to
	return nil
}

// Post is a simulated mail server (RFC 5321). Wrong, it refuses each letter for good;
// silent, it takes the connection and never answers.
type Post struct {
	ID, Name string
	Addr     string
	TLS      *tls.Config // nil: it offers none
	User     string      // that has to sign in, with Password; empty: nobody has
	Password string
	Kept     *Messages

	mode
	server *smtp.Server
}

// Info is what people see of it.
func (p *Post) Info() Info { return Info{p.ID, p.Name, "post", "smtp://" + p.Addr, p.get(), WebModes} }

// Set changes what it does.
func (p *Post) Set(to string) error {
	if err := p.set(to); err != nil {
		return err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if to == Refused {
		return p.end()
	}
	if p.server != nil {
		return nil
	}
	l, err := net.Listen("tcp", p.Addr)
	if err != nil {
		return fmt.Errorf("stand-in %s: %w", p.ID, err)
	}
	s := smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return p.greet() }))
	s.Domain, s.TLSConfig, s.ReadTimeout, s.WriteTimeout = "post.skerry.example", p.TLS, time.Minute, time.Minute
	s.MaxMessageBytes, s.MaxRecipients, s.ErrorLog = 1<<20, 50, quiet{}
	p.server = s
	go func() { s.Serve(l) }()
	return nil
}

// Close ends it.
func (p *Post) Close() error {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.end()
}

func (p *Post) end() error {
	if p.server == nil {
		return nil
	}
	err := p.server.Close()
	p.server = nil
	return err
}

type quiet struct{}

func (quiet) Printf(string, ...any) {}
func (quiet) Println(...any)        {}

func (p *Post) greet() (smtp.Session, error) {
	switch p.get() {
	case Slow:
		time.Sleep(SlowFor)
	case Silent:
		time.Sleep(time.Minute)
		return nil, errors.New("it was silent")
	}
	return &letter{post: p}, nil
}

// letter is one visit to the mail server.
type letter struct {
	post *Post
	in   bool
	to   []string
}

// AuthMechanisms are those by which somebody signs in.
func (l *letter) AuthMechanisms() []string {
	if l.post.User == "" {
		return nil
	}
	return []string{sasl.Plain}
}

// Auth signs somebody in.
func (l *letter) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if user != l.post.User || password != l.post.Password {
			return smtp.ErrAuthFailed
		}
		l.in = true
		return nil
	}), nil
}

// Mail begins a letter.
func (l *letter) Mail(string, *smtp.MailOptions) error {
	if l.post.User != "" && !l.in {
		return smtp.ErrAuthRequired
	}
	return nil
}

// Rcpt says whom it is for.
func (l *letter) Rcpt(to string, _ *smtp.RcptOptions) error {
	if l.post.get() == Wrong {
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "stand-in: nobody of that name lives here"}
	}
	l.to = append(l.to, to)
	return nil
}

// Data takes its text.
func (l *letter) Data(r io.Reader) error {
	m, err := mail.ReadMessage(r)
	if err != nil {
		return err
	}
	subject, err := new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject"))
	if err != nil {
		return err
	}
	var files []File
	text, err := plain(m.Header.Get("Content-Type"), m.Header.Get("Content-Transfer-Encoding"), m.Body, &files)
	if err != nil {
		return err
	}
	l.post.Kept.Add(Message{Method: "mail", To: strings.Join(l.to, ", "), Subject: subject, Text: text, ID: m.Header.Get("Message-Id"), Files: files})
	return nil
}

// plain is the part of a letter that is plain text; what is attached joins files.
func plain(kind, encoding string, body io.Reader, files *[]File) (string, error) {
	media, params, err := mime.ParseMediaType(kind)
	if err != nil {
		return "", err
	}
	if strings.HasPrefix(media, "multipart/") {
		parts := multipart.NewReader(body, params["boundary"])
		found := ""
		for {
			part, err := parts.NextRawPart()
			if errors.Is(err, io.EOF) {
				return found, nil
			}
			if err != nil {
				return "", err
			}
			if name := part.FileName(); name != "" {
				media, _, _ := strings.Cut(part.Header.Get("Content-Type"), ";")
				content, err := io.ReadAll(base64.NewDecoder(base64.StdEncoding, part))
				if err != nil {
					return "", err
				}
				*files = append(*files, File{name, media, content})
				continue
			}
			text, err := plain(part.Header.Get("Content-Type"), part.Header.Get("Content-Transfer-Encoding"), part, files)
			if err != nil {
				return "", err
			}
			if found == "" {
				found = text
			}
		}
	}
	if media != "text/plain" {
		return "", nil
	}
	if strings.EqualFold(encoding, "quoted-printable") {
		body = quotedprintable.NewReader(body)
	}
	text, err := io.ReadAll(body)
	return strings.ReplaceAll(strings.TrimSpace(string(text)), "\r\n", "\n"), err
}

// Reset forgets a letter that was begun.
func (l *letter) Reset() { l.to = nil }

// Logout ends the visit.
func (l *letter) Logout() error { return nil }

// Desk is a simulated SMS gateway, chat room and receiver of webhooks, at /sms, /chat and
// everything else. Wrong, it answers 500.
type Desk struct {
	ID, Name string
	Addr     string
	Kept     *Messages

	mode
	server *http.Server
}

// Info is what people see of it.
func (d *Desk) Info() Info { return Info{d.ID, d.Name, "desk", "http://" + d.Addr, d.get(), WebModes} }

// Set changes what it does.
func (d *Desk) Set(to string) error {
	if err := d.set(to); err != nil {
		return err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if to == Refused {
		return d.end()
	}
	if d.server != nil {
		return nil
	}
	l, err := net.Listen("tcp", d.Addr)
	if err != nil {
		return fmt.Errorf("stand-in %s: %w", d.ID, err)
	}
	s := &http.Server{Handler: d, ReadHeaderTimeout: 10 * time.Second}
	d.server = s
	go func() { s.Serve(l) }()
	return nil
}

// Close ends it.
func (d *Desk) Close() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.end()
}

func (d *Desk) end() error {
	if d.server == nil {
		return nil
	}
	err := d.server.Close()
	d.server = nil
	return err
}

// ServeHTTP takes a message.
func (d *Desk) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(io.LimitReader(r.Body, 1<<20))
	if err != nil {
		return
	}
	switch d.get() {
	case Slow:
		time.Sleep(SlowFor)
	case Silent:
		select {
		case <-time.After(time.Minute):
		case <-r.Context().Done():
		}
		return
	case Wrong:
		http.Error(w, "stand-in: wrong on purpose", http.StatusInternalServerError)
		return
	}
	m := Message{Method: "webhook", To: r.URL.Path, Text: string(body), ID: r.Header.Get("Idempotency-Key")}
	var fields map[string]any
	if err := json.NewDecoder(bytes.NewReader(body)).Decode(&fields); err != nil {
		http.Error(w, "stand-in: that is no JSON", http.StatusBadRequest)
		return
	}
	field := func(name string) string { s, _ := fields[name].(string); return s }
	switch {
	case strings.HasPrefix(r.URL.Path, "/sms"):
		m.Method, m.To, m.Text = "sms", field("to"), field("text")
	case strings.HasPrefix(r.URL.Path, "/chat"):
		m.Method = "chat"
		m.Subject, m.Text, _ = strings.Cut(field("text"), "\n")
	default:
		m.Subject = field("headline")
	}
	d.Kept.Add(m)
	w.WriteHeader(http.StatusAccepted)
	fmt.Fprintf(w, "taken as number %d", len(d.Kept.All()))
}

// Collector is a simulated collector of syslog messages (RFC 5424) by UDP and TCP.
type Collector struct {
	ID, Name string
	Addr     string
	Kept     *Messages

	mode
	packets net.PacketConn
	streams net.Listener
}

// Info is what people see of it.
func (c *Collector) Info() Info {
	return Info{c.ID, c.Name, "collector", "udp://" + c.Addr, c.get(), []string{OK, Refused}}
}

// Set changes what it does.
func (c *Collector) Set(to string) error {
	if err := c.set(to); err != nil {
		return err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if to == Refused {
		return c.end()
	}
	if c.packets != nil {
		return nil
	}
	var err error
	if c.packets, err = net.ListenPacket("udp", c.Addr); err != nil {
		return fmt.Errorf("stand-in %s: %w", c.ID, err)
	}
	if c.streams, err = net.Listen("tcp", c.Addr); err != nil {
		return errors.Join(fmt.Errorf("stand-in %s: %w", c.ID, err), c.end())
	}
	go c.read(c.packets)
	go c.accept(c.streams)
	return nil
}

// Close ends it.
func (c *Collector) Close() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.end()
}

func (c *Collector) end() error {
	var err error
	if c.packets != nil {
		err = c.packets.Close()
	}
	if c.streams != nil {
		err = errors.Join(err, c.streams.Close())
	}
	c.packets, c.streams = nil, nil
	return err
}

func (c *Collector) read(from net.PacketConn) {
	buffer := make([]byte, 64<<10)
	for {
		n, _, err := from.ReadFrom(buffer)
		if err != nil {
			return
		}
		c.take(string(buffer[:n]), "udp")
	}
}

func (c *Collector) accept(from net.Listener) {
	for {
		conn, err := from.Accept()
		if err != nil {
			return
		}
		go func() {
			defer conn.Close()
			r := bufio.NewReader(conn)
			for {
				length, err := r.ReadString(' ') // octet counting
				n, bad := strconv.Atoi(strings.TrimSpace(length))
				if err != nil || bad != nil || n > 64<<10 {
					return
				}
				text := make([]byte, n)
				if _, err := io.ReadFull(r, text); err != nil {
					return
				}
				c.take(string(text), "tcp")
			}
		}()
	}
}

func (c *Collector) take(text, how string) {
	_, subject, _ := strings.Cut(text, "\xef\xbb\xbf")
	c.Kept.Add(Message{Method: "syslog", To: how, Subject: subject, Text: text})
}
