package auth

import (
	"strings"
	"testing"
)

func TestPasswords(t *testing.T) {
	hash, err := HashPassword("a quiet harbour")
	if err != nil {
		t.Fatal(err)
	}
	other, _ := HashPassword("a quiet harbour")
	if hash == other {
		t.Error("two hashes of one password are equal: no salt")
	}
	if !strings.HasPrefix(hash, "$argon2id$v=19$m=32768,t=3,p=2$") {
		t.Errorf("%s", hash)
	}
	for password, want := range map[string]bool{"a quiet harbour": true, "A quiet harbour": false, "a quiet harbour ": false, "": false} {
		if ok, err := CheckPassword(hash, password); err != nil || ok != want {
			t.Errorf("%q: %v %v", password, ok, err)
		}
	}
	if _, err := HashPassword("kai kai é"); err == nil {
		t.Error("nine characters were taken")
	}
	if _, err := HashPassword("kai kai éé"); err != nil {
		t.Errorf("ten characters, more bytes: %v", err)
	}
	for _, broken := range []string{"", "plain", "$argon2i$v=19$m=1,t=1,p=1$AAAA$AAAA", "$argon2id$v=19$m=x$AAAA$AAAA", "$argon2id$v=19$m=1,t=1,p=1$?$AAAA"} {
		if ok, err := CheckPassword(broken, "x"); ok || err == nil {
			t.Errorf("%q: %v %v", broken, ok, err)
		}
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

func TestRolesCoverThoseBelow(t *testing.T) {
	order := []Role{Viewer, Operator, Manager, Administrator}
	for i, have := range order {
		for j, need := range order {
			if have.Covers(need) != (i >= j) {
				t.Errorf("%s for what needs %s: %v", have, need, have.Covers(need))
			}
		}
	}
	if Role("guest").Covers(Viewer) {
		t.Error("an unknown role may look")
	}
}
