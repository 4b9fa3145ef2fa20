package notifying

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"kestite/core/definition"
)

// Script runs a script of the directory that the server was started with, without a
// shell: its arguments are the contact method's, each with the values in, the message is
// its standard input, and the values stand in its environment as KESTITE_HEADLINE and so
// on. What it prints is the answer; a status other than 0 is a failure that is tried
// again. It has 20 s.
func (s *Sender) Script(ctx context.Context, c definition.ContactSpec, m Message) (string, error) {
	path, err := s.script(c.Address)
	if err != nil {
		return "", err
	}
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	args := make([]string, len(c.Args))
	for i, a := range c.Args {
		args[i] = argument(a, m.Values)
	}
	cmd := exec.CommandContext(ctx, path, args...)
	cmd.Dir, cmd.Stdin = s.Scripts, strings.NewReader(m.Subject+"\n\n"+m.Text+"\n")
	cmd.Env = []string{"PATH=/usr/local/bin:/usr/bin:/bin", "LANG=C.UTF-8", "KESTITE_DELIVERY=" + m.ID}
	for _, p := range definition.Placeholders {
		cmd.Env = append(cmd.Env, "KESTITE_"+strings.ToUpper(p)+"="+oneArgument(m.Values[p]))
	}
	out := &beginning{most: mostAnswer}
	cmd.Stdout, cmd.Stderr = out, out
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // what it starts ends with it
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = time.Second // something it left behind may hold its output open
	err = cmd.Run()
	answer := clean(strings.TrimSpace(string(out.text)))
	switch {
	case ctx.Err() != nil:
		return "", fmt.Errorf("it was ended after %s", within)
	case errors.Is(err, exec.ErrWaitDelay): // it did what it was for, and must not do it again
		return clean(strings.TrimSpace(answer + " (ended with status 0, and left something running that holds its output open)")), nil
	case err != nil:
		return "", errors.New(clean(strings.TrimSpace(err.Error() + " " + answer)))
	case answer == "":
		return "ended with status 0", nil
	}
	return answer, nil
}

// script is the path of a script that may be run.
func (s *Sender) script(name string) (string, error) {
	if s.Scripts == "" {
		return "", errors.New("scripts are off; who runs the server may start it with --scripts and the directory of those that it may run")
	}
	path := filepath.Join(s.Scripts, filepath.Base(name))
	at, err := os.Lstat(path)
	switch {
	case err != nil:
		return "", fmt.Errorf("there is no script %s in the directory that this server was started with", name)
	case !at.Mode().IsRegular():
		return "", &Refused{fmt.Sprintf("%s is no file of its own; what points elsewhere is not run", name)}
	case at.Mode().Perm()&0o022 != 0:
		return "", &Refused{fmt.Sprintf("%s can be written by others than its owner; take that away (chmod go-w)", name)}
	case at.Mode().Perm()&0o111 == 0:
		return "", &Refused{fmt.Sprintf("%s cannot be run; say that it may (chmod +x)", name)}
	}
	return path, nil
}

// CheckScripts says what is wrong with a directory of scripts.
func CheckScripts(dir string) error {
	if dir == "" {
		return nil
	}
	at, err := os.Stat(dir)
	switch {
	case err != nil:
		return fmt.Errorf("the directory of scripts: %w", err)
	case !at.IsDir():
		return fmt.Errorf("the directory of scripts: %s is no directory", dir)
	case !filepath.IsAbs(dir):
		return fmt.Errorf("the directory of scripts: %s is not written from the root; give it as /etc/kestite/scripts", dir)
	case at.Mode().Perm()&0o022 != 0:
		return fmt.Errorf("the directory of scripts: %s can be written by others than its owner; take that away (chmod go-w)", dir)
	}
	return nil
}

// argument fills the values into an argument. What begins with a value cannot become an
// option of the script: a dash there is set off by a blank.
func argument(template string, values map[string]string) string {
	out := oneArgument(definition.Filled(template, values, func(s string) string { return s }))
	if strings.HasPrefix(out, "-") && !strings.HasPrefix(template, "-") {
		return " " + out
	}
	return out
}

// mostArgument is how many bytes of a value a script gets; the whole message is its input.
const mostArgument = 4096

// oneArgument is a text as the system takes it: without NUL, and bounded.
func oneArgument(s string) string {
	s = strings.ReplaceAll(s, "\x00", "")
	return strings.ToValidUTF8(s[:min(len(s), mostArgument)], "")
}

// beginning keeps the first bytes that are written to it, and takes all.
type beginning struct {
	text []byte
	most int
}

func (b *beginning) Write(p []byte) (int, error) {
	b.text = append(b.text, p[:min(len(p), b.most-len(b.text))]...)
	return len(p), nil
}

// ScriptsOff are the shared contact methods that need scripts, where those are off.
func (s *Sender) ScriptsOff(contacts map[string]definition.ContactSpec) []string {
	var out []string
	for id, c := range contacts {
		if c.Kind == definition.Script && s.Scripts == "" {
			out = append(out, id)
		}
	}
	slices.Sort(out)
	return out
}
