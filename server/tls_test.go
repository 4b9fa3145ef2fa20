package server

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"log/slog"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"
)

// writePair writes a certificate of its own with its key, and returns it.
func writePair(t *testing.T, cert, key, name string) *x509.Certificate {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	of := &x509.Certificate{
		SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: name},
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
		NotBefore:   time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IsCA: true, BasicConstraintsValid: true,
	}
	der, err := x509.CreateCertificate(rand.Reader, of, of, private.Public(), private)
	if err != nil {
		t.Fatal(err)
	}
	secret, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		t.Fatal(err)
	}
	for file, block := range map[string]*pem.Block{cert: {Type: "CERTIFICATE", Bytes: der}, key: {Type: "PRIVATE KEY", Bytes: secret}} {
		if err := os.WriteFile(file, pem.EncodeToMemory(block), 0o600); err != nil {
			t.Fatal(err)
		}
		stamp := time.Now().Add(time.Duration(of.SerialNumber.Int64() % 1000)) // times of files may be coarse
		os.Chtimes(file, stamp, stamp)
	}
	made, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	return made
}

// A renewed certificate is taken up; half a renewal harms nobody.
func TestACertificateIsRenewedWithoutARestart(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	cert, key := filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	k := &keyPair{cert: cert, key: key, log: slog.New(slog.DiscardHandler)}
	if err := k.read(); err == nil {
		t.Error("files that are not there were read")
	}
	name := func() string {
		t.Helper()
		c, err := k.get(nil)
		if err != nil {
			t.Fatal(err)
		}
		return c.Leaf.Subject.CommonName
	}
	writePair(t, cert, key, "first")
	if err := k.read(); err != nil {
		t.Fatal(err)
	}
	writePair(t, cert, key, "second")
	if got := name(); got != "first" {
		t.Errorf("within the minute: %s", got)
	}
	k.looked = time.Now().Add(-2 * lookAgain)
	if got := name(); got != "second" {
		t.Errorf("after it: %s", got)
	}
	writePair(t, cert, filepath.Join(dir, "other.pem"), "third") // the key is still to come
	k.looked = time.Now().Add(-2 * lookAgain)
	if got := name(); got != "second" {
		t.Errorf("half a renewal: %s", got)
	}
	os.Remove(cert)
	k.looked = time.Now().Add(-2 * lookAgain)
	if got := name(); got != "second" {
		t.Errorf("without the file: %s", got)
	}
}
