package cli

import (
	"fmt"
	"io"
	"os"
	"strings"
	"unicode"
	"unicode/utf8"

	"kestite/core/definition"
)

// terminal writes text for people: characters that would steer a terminal, or
// show something else than what is there, are written out as \u202e is. What
// targets answer comes this way.
type terminal struct {
	io.Writer
	rest []byte // the beginning of a character whose end is still to come
}

func (t *terminal) Write(p []byte) (int, error) {
	var out strings.Builder
	text := append(t.rest, p...)
	for len(text) > 0 && utf8.FullRune(text) {
		r, size := utf8.DecodeRune(text)
		switch {
		case r == utf8.RuneError && size == 1:
			fmt.Fprintf(&out, `\x%02x`, text[0])
		case r == '\n' || r == '\t' || r == utf8.RuneError:
			out.WriteRune(r)
		case unicode.IsControl(r) || definition.Unseen(r):
			if r > 0xffff {
				fmt.Fprintf(&out, `\U%08x`, r)
			} else {
				fmt.Fprintf(&out, `\u%04x`, r)
			}
		default:
			out.WriteRune(r)
		}
		text = text[size:]
	}
	t.rest = append([]byte(nil), text...)
	if _, err := io.WriteString(t.Writer, out.String()); err != nil {
		return 0, err
	}
	return len(p), nil
}

// inLine is a text that somebody else wrote, in one line: it cannot look like lines of ours.
// What steers a terminal is written out by its writer.
func inLine(text string) string {
	return strings.NewReplacer("\n", `\u000a`, "\t", `\u0009`, "\u2028", `\u2028`, "\u2029", `\u2029`).Replace(text)
}

// asItIs is a writer for what somebody else's program prints.
func asItIs(w io.Writer) io.Writer {
	if t, is := w.(*terminal); is {
		return t.Writer
	}
	return w
}

// openToOthers is a warning about a file with a secret that others on the machine
// can read; empty where they cannot, or it is not there.
func openToOthers(file string) string {
	info, err := os.Stat(file)
	if err != nil || info.Mode().Perm()&0o077 == 0 {
		return ""
	}
	return fmt.Sprintf("%s can be read by others on this machine (its mode is %04o); it holds a secret: chmod 600 %s", file,
		info.Mode().Perm(), file)
}
