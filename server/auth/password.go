package auth

import (
	"fmt"
	"strings"
	"unicode"

	"github.com/nbutton23/zxcvbn-go"
)

// Lengths of a password, in characters.
const (
	MinPassword = 10
	MaxPassword = 200
)

// leastScore is what zxcvbn has to think of a password (0 to 4): below it, lists
// of known passwords and simple rules guess it in under 10⁶ to 10⁸ attempts.
const leastScore = 2

// Acceptable says what is wrong with a new password: too short or too long, of
// few different characters, one that is known, or little more than words that
// everybody knows of the person (own: name, e-mail address, organisation).
func Acceptable(password string, own ...string) error {
	characters := []rune(password)
	switch {
	case len(characters) < MinPassword:
		return fmt.Errorf("a password has at least %d characters", MinPassword)
	case len(characters) > MaxPassword:
		return fmt.Errorf("a password has at most %d characters", MaxPassword)
	}
	different := map[rune]bool{}
	for _, c := range strings.ToLower(password) {
		different[c] = true
	}
	if len(different) < 5 {
		return fmt.Errorf("the password has only %d different characters; take more", len(different))
	}
	words := []string{"kestite"}
	for _, text := range own {
		words = append(words, strings.FieldsFunc(strings.ToLower(text),
			func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) })...)
	}
	rest := strings.ToLower(password)
	for _, w := range words {
		if len([]rune(w)) > 2 {
			rest = strings.ReplaceAll(rest, w, "")
		}
	}
	if len([]rune(rest)) < min(6, len(characters)) {
		return fmt.Errorf("the password is little more than a name that everybody knows of you; take other words")
	}
	const most = 60 // what follows cannot make it worse, and looking takes time
	if zxcvbn.PasswordStrength(string(characters[:min(most, len(characters))]), words).Score < leastScore {
		return fmt.Errorf("the password is one of those that are tried first; take some words that do not belong together")
	}
	return nil
}
