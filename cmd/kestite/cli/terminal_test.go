package cli

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestNothingSteersATerminal(t *testing.T) {
	for in, want := range map[string]string{
		"ok\n\tlines and tabs stay\n":          "ok\n\tlines and tabs stay\n",
		"red \x1b[31m and bell \a":             `red \u001b[31m and bell \u0007`,
		"over\r\x08written":                    `over\u000d\u0008written`,
		"turned \u202eround\u2069":             `turned \u202eround\u2069`,
		"hidden \U000e0041 \u200b":             `hidden \U000e0041 \u200b`,
		"broken \xff\xfe bytes":                `broken \xff\xfe bytes`,
		"C1 \u009b31m":                         `C1 \u009b31m`,
		"Fähre – Трап, and a lost one: \ufffd": "Fähre – Трап, and a lost one: \ufffd",
	} {
		for _, piece := range []int{1, 2, 3, len(in)} { // however it is cut
			var got bytes.Buffer
			w := &terminal{Writer: &got}
			for rest := []byte(in); len(rest) > 0; {
				n := min(piece, len(rest))
				if wrote, err := w.Write(rest[:n]); err != nil || wrote != n {
					t.Fatal(wrote, err)
				}
				rest = rest[n:]
			}
			if got.String() != want {
				t.Errorf("%q in pieces of %d: %q, not %q", in, piece, got.String(), want)
			}
		}
	}
	var out, say bytes.Buffer
	Run([]string{"try", "ping", "a\x1b]0;title\a\u202e"}, nil, &out, &say)
	if text := out.String() + say.String(); strings.ContainsAny(text, "\x1b\a\u202e") || text == "" {
		t.Errorf("%q", text)
	}
}

func TestAnAgentKeepsItsSecrets(t *testing.T) {
	dir := t.TempDir()
	token := filepath.Join(dir, "token")
	if err := os.WriteFile(token, []byte("kesa_x\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if says := openToOthers(token); !strings.Contains(says, "chmod 600") {
		t.Error(says)
	}
	os.Chmod(token, 0o600)
	if says := openToOthers(token); says != "" {
		t.Error(says)
	}
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"--server", "http://kestite.skerry.example"}, "in the clear"},
		{[]string{"--server", "http://127.0.0.1:9,http://192.0.2.1"}, "in the clear"},
		{[]string{"--server", "http://127.0.0.1:9", "--allow", "ten"}, "--allow"},
		{[]string{"--server", "http://127.0.0.1:9", "--forbid", "10.0.0.0/99"}, "--forbid"},
	} {
		var out, say bytes.Buffer
		status := Run(append([]string{"agent", "--token-file", token, "--data", dir}, c.args...), nil, &out, &say)
		if status == 0 || !strings.Contains(say.String(), c.says) {
			t.Errorf("%v: %d %s", c.args, status, say.String())
		}
	}
}
