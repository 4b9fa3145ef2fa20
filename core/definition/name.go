package definition

import (
	"strings"
	"unicode"
)

// called says what is wrong with a name.
func called(path, s string) error {
	if strings.TrimSpace(s) == "" {
		return fault(path, "is empty; give it a name")
	}
	return plain(path, s)
}

// plain refuses a text of one line that does not look like what it is.
func plain(path, s string) error {
	for _, r := range s {
		switch {
		case unicode.IsControl(r):
			return fault(path, "%q has a control character in it; take it out", s)
		case Unseen(r):
			return fault(path, "%+q has the character %U in it, which cannot be seen or turns the direction of what follows; take it out", s, r)
		}
	}
	return nil
}

// Named says what is wrong with the name of something that is no definition: a
// person, the organisation.
func Named(path, s string) error { return called(path, s) }

// Unseen says whether a character shows nothing, or turns the direction in which
// others are shown, so that two different names look alike: format characters
// (Unicode category Cf, bidirectional controls of UAX #9 among them), separators
// of lines and paragraphs, what has no meaning of its own (Co, Cs), and fillers.
func Unseen(r rune) bool {
	switch r {
	case 0x115F, 0x1160, 0x3164, 0xFFA0, 0x2800, 0x034F, 0x17B4, 0x17B5, unicode.ReplacementChar:
		return true
	}
	return unicode.In(r, unicode.Cf, unicode.Zl, unicode.Zp, unicode.Co, unicode.Cs) || r > 0x7f && unicode.In(r,
		unicode.Zs) && r != 0xA0 && r != 0x3000
}

// Called is what people call what a spec defines.
func (s ServiceSpec) Called() string { return s.Name }

// Called is what people call what a spec defines.
func (s CheckSpec) Called() string { return s.Name }

// Called is what people call what a spec defines.
func (s LocationSpec) Called() string { return s.Name }

// Called is what people call what a spec defines.
func (s AgreementSpec) Called() string { return s.Name }

// Called is what people call what a spec defines.
func (s WindowSpec) Called() string { return s.Name }

// Called is what people call what a spec defines.
func (s NetworkSpec) Called() string { return s.Name }

// Called is what people call what a spec defines.
func (s CredentialSpec) Called() string { return s.Name }

// Called is what people call what a spec defines.
func (s KitSpec) Called() string { return s.Name }

// Called is what people call what a spec defines.
func (s PairPlanSpec) Called() string { return s.Name }
