package instrument

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/textproto"
	"strings"
)

// startTLS asks in a protocol of its own for TLS; after it the handshake may begin.
func startTLS(ctx context.Context, conn net.Conn, protocol string) error {
	if deadline, ok := ctx.Deadline(); ok {
		if err := conn.SetDeadline(deadline); err != nil {
			return err
		}
	}
	if protocol == "postgres" {
		return startPostgres(conn)
	}
	// In TLS the client speaks first, so that nothing of it is read ahead here.
	text := textproto.NewConn(struct {
		io.Reader
		io.WriteCloser
	}{io.LimitReader(conn, mostDialogue), conn})
	switch protocol {
	case "smtp": // RFC 3207
		return dialogue(text, 220, []step{{"EHLO kestite.invalid", 250}, {"STARTTLS", 220}})
	case "ftp": // RFC 4217
		return dialogue(text, 220, []step{{"AUTH TLS", 234}})
	case "pop3": // RFC 2595
		return lines(text, "+OK", "", "STLS", "+OK")
	case "imap": // RFC 9051 §6.2.1
		return lines(text, "* OK", "a1 ", "STARTTLS", "a1 OK")
	}
	return fmt.Errorf("%q is no protocol in which TLS can be asked for", protocol)
}

// mostDialogue is how much a server may say before TLS begins, in bytes.
const mostDialogue = 64 << 10

type step struct {
	say    string
	expect int
}

func dialogue(text *textproto.Conn, greeting int, steps []step) error {
	if _, _, err := text.ReadResponse(greeting); err != nil {
		return fmt.Errorf("the greeting: %w", err)
	}
	for _, s := range steps {
		if err := text.PrintfLine("%s", s.say); err != nil {
			return err
		}
		if _, _, err := text.ReadResponse(s.expect); err != nil {
			return fmt.Errorf("to %s it answers: %w", s.say, err)
		}
	}
	return nil
}

// lines speaks a protocol of single lines: a greeting, a command with its tag, an answer.
func lines(text *textproto.Conn, greeting, tag, command, answer string) error {
	const most = 50 // lines that are no answer yet
	line, err := text.ReadLine()
	if err != nil {
		return err
	}
	if !strings.HasPrefix(line, greeting) {
		return fmt.Errorf("the greeting is %.100q", line)
	}
	if err := text.PrintfLine("%s%s", tag, command); err != nil {
		return err
	}
	for range most {
		line, err = text.ReadLine()
		if err != nil {
			return err
		}
		if strings.HasPrefix(line, answer) {
			return nil
		}
		if tag == "" || strings.HasPrefix(line, tag) {
			break
		}
	}
	return fmt.Errorf("to %s it answers %.100q", command, line)
}

// startPostgres sends an SSLRequest (PostgreSQL frontend/backend protocol, SSL session encryption).
func startPostgres(conn net.Conn) error {
	if _, err := conn.Write([]byte{0, 0, 0, 8, 4, 210, 22, 47}); err != nil {
		return err
	}
	var answer [1]byte
	if _, err := io.ReadFull(conn, answer[:]); err != nil {
		return err
	}
	if answer[0] != 'S' {
		return fmt.Errorf("the database does not offer TLS (it answers %q)", answer[0])
	}
	return nil
}
