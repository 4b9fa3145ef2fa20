package measure

import (
	"strings"
	"unicode/utf8"
)

// Lengths that texts of a measurement are cut to, in bytes.
const (
	MostDetail   = 2000
	MostFindings = 128 << 10 // of findings as JSON; larger ones are not kept
)

// Clean makes a text fit to be kept and shown: what is no UTF-8, and characters
// that control a terminal or that a database has no place for, become U+FFFD
// (tabs and line ends become spaces), and what is longer than so many bytes is
// cut at a character, with an ellipsis.
func Clean(s string, most int) string {
	s = strings.Map(func(r rune) rune {
		switch {
		case r == '\t' || r == '\n' || r == '\r':
			return ' '
		case r < ' ' || r >= 0x7f && r < 0xa0 || r == utf8.RuneError:
			return utf8.RuneError
		}
		return r
	}, s)
	const more = "…"
	if len(s) <= most {
		return s
	}
	cut := max(0, most-len(more))
	for cut > 0 && !utf8.RuneStart(s[cut]) {
		cut--
	}
	return s[:cut] + more
}
