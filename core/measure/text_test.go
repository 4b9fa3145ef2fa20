package measure

import (
	"strings"
	"testing"
	"unicode/utf8"
)

func TestCleanText(t *testing.T) {
	for in, want := range map[string]string{
		"":                        "",
		"the answer was 503":      "the answer was 503",
		"a\x00b":                  "a\ufffdb",
		"\x1b[31mred\x07":         "\ufffd[31mred\ufffd",
		"two\nlines\r\nand\ttabs": "two lines  and tabs",
		"\xff\xfe":                "\ufffd\ufffd",
		"Tønsberg \u0085":         "Tønsberg \ufffd",
	} {
		if got := Clean(in, 100); got != want {
			t.Errorf("%q: %q, not %q", in, got, want)
		}
	}
	long := strings.Repeat("ø", 3000)
	for most := range 40 {
		got := Clean(long, most+3)
		if len(got) > most+3 || !utf8.ValidString(got) || !strings.HasSuffix(got, "…") {
			t.Errorf("cut to %d: %q", most+3, got)
		}
	}
}

func FuzzClean(f *testing.F) {
	f.Add("a\x00\xff\u2028", 5)
	f.Fuzz(func(t *testing.T, s string, most int) {
		most = 3 + (most&0xffff+0xffff)%0xffff
		got := Clean(s, most)
		if !utf8.ValidString(got) || strings.ContainsRune(got, 0) || len(got) > most || Clean(got, most) != got {
			t.Errorf("%q to %d: %q", s, most, got)
		}
	})
}
