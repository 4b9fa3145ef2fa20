package vault_test

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"kestite/server/vault"
)

func TestSecretsOpenWithTheirKeyAlone(t *testing.T) {
	file := filepath.Join(t.TempDir(), "key")
	v, err := vault.Open(file)
	if err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
		t.Fatalf("the key file: %v, %v", info, err)
	}
	sealed, err := v.Seal("quay", "herring")
	if err != nil || bytes.Contains(sealed, []byte("herring")) {
		t.Fatalf("sealed %q, %v", sealed, err)
	}
	again, err := vault.Open(file)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := again.Open("quay", sealed); got != "herring" || err != nil {
		t.Errorf("opened %q, %v", got, err)
	}
	other, err := vault.Open(filepath.Join(t.TempDir(), "key"))
	if err != nil {
		t.Fatal(err)
	}
	sealed2, _ := v.Seal("quay", "herring")
	if bytes.Equal(sealed, sealed2) {
		t.Error("the same secret is sealed alike twice")
	}
	spoilt := bytes.Clone(sealed)
	spoilt[len(spoilt)-1] ^= 1
	for name, open := range map[string]func() (string, error){
		"another key":   func() (string, error) { return other.Open("quay", sealed) },
		"another owner": func() (string, error) { return v.Open("pier", sealed) },
		"spoilt":        func() (string, error) { return v.Open("quay", spoilt) },
		"cut short":     func() (string, error) { return v.Open("quay", sealed[:5]) },
	} {
		if got, err := open(); err == nil {
			t.Errorf("%s: opened %q", name, got)
		}
	}
}

func TestWithoutKey(t *testing.T) {
	v, err := vault.Open("")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := v.Seal("quay", "herring"); !errors.Is(err, vault.ErrNoKey) {
		t.Errorf("sealing without a key: %v", err)
	}
	bad := filepath.Join(t.TempDir(), "key")
	if err := os.WriteFile(bad, []byte("short"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := vault.Open(bad); err == nil {
		t.Error("a file that holds no key was taken")
	}
}
