package auth

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"

	"kestite/server/vault"
)

func TestPasswords(t *testing.T) {
	ctx := t.Context()
	hash, err := HashPassword(ctx, "a quiet harbour")
	if err != nil {
		t.Fatal(err)
	}
	other, _ := HashPassword(ctx, "a quiet harbour")
	if hash == other {
		t.Error("two hashes of one password are equal: no salt")
	}
	if !strings.HasPrefix(hash, "$argon2id$v=19$m=32768,t=3,p=2$") {
		t.Errorf("%s", hash)
	}
	for password, want := range map[string]bool{"a quiet harbour": true, "A quiet harbour": false, "a quiet harbour ": false, "": false} {
		if ok, err := CheckPassword(ctx, hash, password); err != nil || ok != want {
			t.Errorf("%q: %v %v", password, ok, err)
		}
	}
	for _, broken := range []string{"", "plain", "$argon2i$v=19$m=1,t=1,p=1$AAAA$AAAA", "$argon2id$v=19$m=x$AAAA$AAAA", "$argon2id$v=19$m=1,t=1,p=1$?$AAAA"} {
		if ok, err := CheckPassword(ctx, broken, "x"); ok || err == nil {
			t.Errorf("%q: %v %v", broken, ok, err)
		}
	}
}

func TestNewPasswordsAreGoodOnes(t *testing.T) {
	for password, says := range map[string]string{
		"short":                    "at least 10",
		"kai kai é":                "at least 10",
		strings.Repeat("ab1c", 51): "at most 200",
		"aaaaaaaaaaaaaaaa":         "only 1 different",
		"ababababababab":           "only 2 different",
		"password123":              "tried first",
		"Password1234!":            "tried first",
		"qwertyuiop12":             "tried first",
		"1234567890":               "tried first",
		"abcdefghijkl":             "tried first",
		"letmein2026":              "tried first",
		"Astrid Holm":              "a name",
		"astridholm1":              "a name",
		"AstridAstrid":             "a name",
		"skerry-line-26":           "a name",
		"harbourmaster!":           "a name", // her e-mail address
		"kestitekestite":           "a name",
	} {
		if err := Acceptable(password, "Astrid Holm", "harbourmaster@skerry.example",
			"Skerry Line"); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v, not %q", password, err, says)
		}
	}
	for _, password := range []string{"a quiet harbour", "jhg4-kuzt-99xq", "Astrid likes rhubarb pie", "фонарь на причале",
		"кай и é 12 ø", strings.Repeat("q7#kLm2 ", 25)} {
		if err := Acceptable(password, "Astrid Holm", "harbourmaster@skerry.example", "Skerry Line"); err != nil {
			t.Errorf("%q: %v", password, err)
		}
	}
}

// At most as many are hashed at once as there are cores; few wait, and whoever
// waits may go.
func TestHashingIsBounded(t *testing.T) {
	for range cap(hashing) {
		hashing <- struct{}{}
	}
	waiting := cap(hashing)*(1+mostQueued) - int(queued.Load())
	ctx, cancel := context.WithCancel(t.Context())
	answers := make(chan error, waiting)
	for range waiting {
		go func() {
			_, err := HashPassword(ctx, "a quiet harbour")
			answers <- err
		}()
	}
	for queued.Load() < int64(waiting) {
		time.Sleep(time.Millisecond)
	}
	if _, err := HashPassword(ctx, "a quiet harbour"); !errors.Is(err, ErrBusy) {
		t.Errorf("one too many: %v", err)
	}
	if len(answers) > 0 {
		t.Errorf("%d were hashed though all cores were taken", len(answers))
	}
	cancel()
	for range waiting {
		if err := <-answers; !errors.Is(err, context.Canceled) {
			t.Errorf("one that went away: %v", err)
		}
	}
	for range cap(hashing) {
		<-hashing
	}
	if _, err := HashPassword(t.Context(), "a quiet harbour"); err != nil {
		t.Errorf("afterwards: %v", err)
	}
}

func TestTokensAreKeptAsHashes(t *testing.T) {
	token, hash := NewToken("kesa_")
	again, _ := NewToken("kesa_")
	if !strings.HasPrefix(token, "kesa_") || len(token) < 30 || token == again {
		t.Errorf("%s %s", token, again)
	}
	if strings.Contains(string(hash), token) || string(HashToken(token+"\n")) != string(hash) || string(HashToken(again)) == string(hash) {
		t.Error("the hash does not stand for the token")
	}
}

func TestCodesOfTheSecondFactor(t *testing.T) {
	seal, err := vault.Open(t.TempDir() + "/key")
	if err != nil {
		t.Fatal(err)
	}
	f := &Factor{seal}
	p, sealed, err := f.Propose("a", "astrid@skerry.example", "Skerry: Line")
	if err != nil {
		t.Fatal(err)
	}
	if !strings.HasPrefix(p.URI, "otpauth://totp/Kestite%20Skerry%20Line:astrid@skerry.example?") || !strings.HasPrefix(string(p.QR), "\x89PNG") {
		t.Errorf("%s, picture %q", p.URI, p.QR[:8])
	}
	if strings.Contains(string(sealed), p.Secret) {
		t.Error("the secret is kept as it is")
	}
	now := time.Date(2026, 11, 26, 12, 0, 10, 0, time.UTC)
	for off, want := range map[time.Duration]bool{0: true, -30 * time.Second: true, 30 * time.Second: true,
		-60 * time.Second: false, 60 * time.Second: false} {
		code, err := totp.GenerateCode(p.Secret, now.Add(off))
		if err != nil {
			t.Fatal(err)
		}
		step, err := f.Step("a", sealed, " "+code[:3]+" "+code[3:], now)
		if err != nil || (step > 0) != want || want && step != now.Add(off).Unix()/30 {
			t.Errorf("a code of %v: step %d, %v", off, step, err)
		}
	}
	for _, code := range []string{"", "12345", "1234567", "abcdef"} {
		if step, err := f.Step("a", sealed, code, now); step != 0 || err != nil {
			t.Errorf("%q: %d %v", code, step, err)
		}
	}
	if _, err := f.Step("b", sealed, "123456", now); err == nil {
		t.Error("the secret of one person opens for another")
	}
	codes, hashes := RecoveryCodes()
	if len(codes) != 10 || string(recoveryHash(strings.ToUpper(strings.ReplaceAll(codes[3], "-",
		" ")))) != string(hashes[3]) || codes[0] == codes[1] {
		t.Errorf("recovery codes %v", codes)
	}
	none, _ := vault.Open("")
	if _, _, err := (&Factor{none}).Propose("a", "a@skerry.example", "Skerry Line"); !errors.Is(err, vault.ErrNoKey) {
		t.Errorf("without a key: %v", err)
	}
}
