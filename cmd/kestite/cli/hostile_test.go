package cli

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

// asProgram makes the test binary the kestite program, in a process of its own.
const asProgram = "KESTITE_CLI_PROGRAM"

func TestMain(m *testing.M) {
	if os.Getenv(asProgram) != "" {
		os.Exit(Run(os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
	}
	os.Exit(m.Run())
}

// program runs the program, and returns its exit status, what it printed, and the
// most memory it held, in bytes.
func program(t *testing.T, stdin io.Reader, env string, args ...string) (status int, out, say string, most int64) {
	t.Helper()
	cmd := exec.Command(os.Args[0], args...)
	cmd.Env = append(os.Environ(), asProgram+"=1", env)
	var printed, said bytes.Buffer
	cmd.Stdin, cmd.Stdout, cmd.Stderr = stdin, &printed, &said
	if err := cmd.Run(); cmd.ProcessState == nil {
		t.Fatal(err)
	}
	return cmd.ProcessState.ExitCode(), printed.String(), said.String(), cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss << 10
}

// endless gives a text n times over.
type endless struct {
	text string
	n, i int
	rest string
}

func (e *endless) Read(p []byte) (n int, err error) {
	for n < len(p) {
		if e.rest == "" {
			if e.i == e.n {
				if n == 0 {
					return 0, io.EOF
				}
				return n, nil
			}
			e.rest, e.i = e.text, e.i+1
		}
		k := copy(p[n:], e.rest)
		e.rest, n = e.rest[k:], n+k
	}
	return n, nil
}

// written gives what a function makes of each number.
type written struct {
	of   func(i int) string
	n, i int
	rest string
}

func (w *written) Read(p []byte) (int, error) {
	if w.rest == "" {
		if w.i == w.n {
			return 0, io.EOF
		}
		var b strings.Builder
		for ; w.i < w.n && b.Len() < len(p); w.i++ {
			b.WriteString(w.of(w.i))
		}
		w.rest = b.String()
	}
	n := copy(p, w.rest)
	w.rest = w.rest[n:]
	return n, nil
}

// Archives made to exhaust who reads them are refused with the reason, in bounded
// memory, and nothing of them is left behind.
func TestAccountOfHostileArchives(t *testing.T) {
	good, err := os.ReadFile(filepath.Join(vectors, "01-whole-month", "bundle.json"))
	if err != nil {
		dirs, _ := filepath.Glob(vectors + "/01*")
		if good, err = os.ReadFile(filepath.Join(dirs[0], "bundle.json")); err != nil {
			t.Fatal(err)
		}
	}
	const head = "check,location,at,outcome\n"
	text := func(s string) io.Reader { return strings.NewReader(s) }
	row := func(check, at, outcome string) string { return check + ",quay," + at + "," + outcome + "\n" }
	var nested bytes.Buffer
	inner := zip.NewWriter(&nested)
	w, _ := inner.Create("bundle.json")
	w.Write(good)
	inner.Close()
	var known struct {
		Services []struct {
			Checks []struct {
				ID        string
				Locations []string
			}
		}
	}
	if err := json.Unmarshal(good, &known); err != nil {
		t.Fatal(err)
	}
	check, place := known.Services[0].Checks[0].ID, known.Services[0].Checks[0].Locations[0]
	var hundred, backwards string
	for i := range 100 {
		hundred += fmt.Sprintf("@.%03dZ,%s\n", i*10, []string{"ok", "failed"}[i%2])
	}
	for i := range 60 {
		backwards += fmt.Sprintf("%s,%s,2026-03-01T00:00:%02dZ,ok\n", check, place, 59-i)
	}
	for name, c := range map[string]struct {
		files map[string]io.Reader
		says  string
	}{
		"a bundle of spaces":        {map[string]io.Reader{"bundle.json": &endless{text: strings.Repeat(" ", 1<<16), n: 1100}}, "longer than 64 MiB"},
		"a bundle of brackets":      {map[string]io.Reader{"bundle.json": &endless{text: "[", n: 1 << 20}}, "more than 64 deep"},
		"a bundle of empty objects": {map[string]io.Reader{"bundle.json": io.MultiReader(text(`{"services":[{}`), &endless{text: ",{}", n: 3 << 20}, text("]}"))}, "beyond the 2000000 parts"},
		"a bundle of small objects": {map[string]io.Reader{"bundle.json": io.MultiReader(text(`{"services":[{}`), &endless{text: `,{"id":0}`, n: 1 << 20}, text("]}"))}, "beyond the 2000000 parts"},
		"a gzip in the gzip":        {map[string]io.Reader{"bundle.json": bytes.NewReader(good), "measurements.csv.gz": text("\x1f\x8b\x08\x00")}, "measurements.csv.gz"},
		"an archive in the archive": {map[string]io.Reader{"evidence.zip": &nested}, "there is no bundle.json"},
		"rows of nothing":           {map[string]io.Reader{"bundle.json": bytes.NewReader(good), "measurements.csv": &endless{text: strings.Repeat("\x00", 1<<16), n: 1 << 12}}, "longer than 1 MiB"},
		"line after line":           {map[string]io.Reader{"bundle.json": bytes.NewReader(good), "measurements.csv": io.MultiReader(text(head), &endless{text: strings.Repeat("\n", 1<<16), n: 1 << 12})}, "measurements.csv line 1002: is empty"},
		"a million columns":         {map[string]io.Reader{"bundle.json": bytes.NewReader(good), "measurements.csv": io.MultiReader(text("check,location,at,outcome"), &endless{text: ",a", n: 400_000}, text("\n"))}, "measurements.csv line 1"},
		"checks that nobody knows":  {map[string]io.Reader{"bundle.json": bytes.NewReader(good), "measurements.csv": io.MultiReader(text(head), &written{n: 300_000, of: func(i int) string { return row(fmt.Sprint("check-", i), "2026-03-01T00:00:00Z", "ok") }})}, "pairs of a check and a location"},
		"hours of ten thousand years": {map[string]io.Reader{"bundle.json": bytes.NewReader(good), "measurements.csv": io.MultiReader(text(head), &written{n: 1_200_000, of: func(i int) string {
			return row("check", fmt.Sprintf("%04d-%02d-%02dT%02d:00:00Z", 1970+i/8064, 1+i/672%12, 1+i/24%28, i%24), "ok")
		}})}, "different hours"},
		"changes without end": {map[string]io.Reader{"bundle.json": bytes.NewReader(good), "measurements.csv": io.MultiReader(text(head),
			&written{n: 42_000, of: func(i int) string { // a hundred changes a second
				return strings.ReplaceAll(hundred, "@", fmt.Sprintf("%s,%s,2026-%02d-%02dT%02d:%02d:%02d", check, place, 3+i/86400/28%9, 1+i/86400%28,
					i/3600%24, i/60%60, i%60))
			}})}, "changes of outcome"},
		"one hour in no order": {map[string]io.Reader{"bundle.json": bytes.NewReader(good), "measurements.csv": io.MultiReader(text(head),
			&endless{text: backwards, n: 9_500_000 / 60})}, "out of order"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			temp := t.TempDir()
			file := filepath.Join(t.TempDir(), "evidence.zip")
			f, err := os.Create(file)
			if err != nil {
				t.Fatal(err)
			}
			z := zip.NewWriter(f)
			for _, name := range []string{"bundle.json", "measurements.csv", "measurements.csv.gz", "evidence.zip"} {
				r := c.files[name]
				if r == nil {
					continue
				}
				w, err := z.Create(name)
				if err == nil && strings.HasSuffix(name, ".gz") {
					g := gzip.NewWriter(w)
					_, err = io.Copy(g, r)
					g.Close()
				} else if err == nil {
					_, err = io.Copy(w, r)
				}
				if err != nil {
					t.Fatal(err)
				}
			}
			if err := z.Close(); err != nil {
				t.Fatal(err)
			}
			if _, err := f.Seek(0, io.SeekStart); err != nil {
				t.Fatal(err)
			}
			defer f.Close()
			for _, from := range []string{file, "-"} {
				status, out, say, most := program(t, f, "TMPDIR="+temp, "account", from)
				if status != 2 || out != "" || !strings.Contains(say, c.says) {
					t.Errorf("%s: status %d, %.300s %.300s", from, status, out, say)
				}
				if most > 1<<30 {
					t.Errorf("%s: held %d MiB", from, most>>20)
				}
				t.Logf("held %d MiB", most>>20)
			}
			if left, err := os.ReadDir(temp); err != nil || len(left) > 0 {
				t.Errorf("left behind: %v %v", left, err)
			}
		})
	}
	// A listing of entries without end.
	var many bytes.Buffer
	z := zip.NewWriter(&many)
	for i := range 400_000 {
		if _, err := z.CreateRaw(&zip.FileHeader{Name: fmt.Sprintf("%04d", i%10_000)}); err != nil {
			t.Fatal(err)
		}
	}
	z.Close()
	status, _, say, most := program(t, bytes.NewReader(many.Bytes()), "TMPDIR="+t.TempDir(), "account", "-")
	if status != 2 || !strings.Contains(say, "its listing is longer than") || most > 1<<30 {
		t.Errorf("a listing of %d bytes: status %d, %s, %d MiB", many.Len(), status, say, most>>20)
	}
}

// Every misuse ends with status 2 and says what is wrong, as JSON too where that was asked for.
func TestMisuse(t *testing.T) {
	for _, c := range []struct{ args, says string }{
		{"try ping 127.0.0.1 --bogus", "unknown flag: --bogus"},
		{"try ping", "needed are 2: kestite try KIND TARGET"},
		{"try ping 127.0.0.1 ::1", "needed are 2"},
		{"try udp 127.0.0.1:8481 --codec g999", `"g999" is no codec; it is one of g711, g729`},
		{"try certificate 127.0.0.1:25 --starttls xmpp", "no protocol in which TLS is asked for"},
		{"try tcp 127.0.0.1:1 --packets 3", "--packets is for ping, and this is a tcp"},
		{"try ping 127.0.0.1 --roots x.pem", "--roots is for http, certificate"},
		{"try ping 127.0.0.1 --packets three", "invalid argument"},
		{"try http http://127.0.0.1/ --pattern (", "no regular expression"},
		{"try http http://127.0.0.1/ --json-path bookings", "no JSONPath"},
		{"account", "needed are 1"},
		{"account . --format xml", "--format xml is not known"},
		{"sail", `unknown command "sail"`},
		{"serve now", "needed are 0"},
	} {
		args := strings.Fields(c.args)
		var out, say bytes.Buffer
		if status := Run(args, strings.NewReader(""), &out, &say); status != 2 || !strings.Contains(say.String(), c.says) || out.Len() > 0 {
			t.Errorf("%s: status %d, %s%s", c.args, status, &out, &say)
		}
		if args[0] != "try" {
			continue
		}
		out.Reset()
		var got struct{ Refused string }
		if status := Run(append(args, "--json"), strings.NewReader(""), &out, &say); status != 2 || json.Unmarshal(out.Bytes(), &got) != nil || !strings.Contains(got.Refused, c.says) {
			t.Errorf("%s --json: status %d, %s", c.args, status, &out)
		}
	}
	var out, say bytes.Buffer
	if status := Run([]string{"try", "derived", "sum", "--of", "ping 127.0.0.1 rtt_mean_ms", "--packets", "1"}, strings.NewReader(""), &out, &say); status != 0 {
		t.Errorf("a flag of a source: %s%s", &out, &say)
	}
}
