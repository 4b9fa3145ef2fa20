package server_test

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"kestite/server"
	"kestite/server/store"
	"kestite/server/store/cluster"
	"kestite/server/store/storetest"
	"kestite/standin"
)

// With a certificate the server speaks HTTPS, tells browsers to keep to it, and
// its cookies go no other way.
func TestServingHTTPS(t *testing.T) {
	t.Parallel()
	authority, err := standin.NewAuthority(time.Now())
	if err != nil {
		t.Fatal(err)
	}
	cert, key := files(t, authority)
	srv := storetest.Started(t, func(o *server.Options) { o.CertFile, o.TLSKeyFile = cert, key })
	if !strings.HasPrefix(srv.URL, "https://") {
		t.Fatal(srv.URL)
	}
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM(authority.PEM())
	client := func(most uint16) *http.Client {
		return &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots, MaxVersion: most},
			ForceAttemptHTTP2: true}}
	}
	resp, err := client(0).Post(srv.URL+"/api/v1/first-person", "application/json", strings.NewReader(`{"token":"`+srv.FirstToken+
		`","name":"Astrid Holm","email":"astrid@skerry.example","password":"lantern on the quay","organisation":"Skerry Line","timezone":"Europe/Oslo"}`))
	if err != nil {
		t.Fatal(err)
	}
	resp.Body.Close()
	if resp.StatusCode != 200 || resp.ProtoMajor != 2 || resp.Header.Get("Strict-Transport-Security") == "" {
		t.Errorf("%s over %s: %v", resp.Status, resp.Proto, resp.Header)
	}
	cookies := resp.Cookies()
	if len(cookies) != 1 || !strings.HasPrefix(cookies[0].Name,
		"__Host-") || !cookies[0].Secure || !cookies[0].HttpOnly || cookies[0].Path != "/" || cookies[0].Domain != "" {
		t.Errorf("cookies %v", cookies)
	}
	if _, err := client(tls.VersionTLS11).Get(srv.URL + "/healthz"); err == nil {
		t.Error("TLS 1.1 is spoken")
	}
	if resp, err := http.Get("http" + strings.TrimPrefix(srv.URL, "https") + "/healthz"); err == nil && resp.StatusCode == 200 {
		t.Error("it answers in the clear")
	}
}

// files writes a certificate for this machine with its key.
func files(t *testing.T, a *standin.Authority) (cert, key string) {
	t.Helper()
	config, err := a.Server("127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	pair := config.Certificates[0]
	secret, err := x509.MarshalPKCS8PrivateKey(pair.PrivateKey)
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	cert, key = filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	for file, block := range map[string]*pem.Block{cert: {Type: "CERTIFICATE", Bytes: pair.Certificate[0]},
		key: {Type: "PRIVATE KEY", Bytes: secret}} {
		if err := os.WriteFile(file, pem.EncodeToMemory(block), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return cert, key
}

// A role that may not change the schema says what is to be done where it is not
// up to date, and touches nothing.
func TestAWorkerDoesNotMigrate(t *testing.T) {
	t.Parallel()
	owner := storetest.Empty(t)
	quiet := slog.New(slog.DiscardHandler)
	worker := storetest.AsWorker(owner)
	_, err := server.Build(t.Context(), server.Options{DatabaseURL: worker, Log: quiet})
	var older *store.OlderError
	if !errors.As(err, &older) || older.Database != 0 || !strings.Contains(err.Error(), "--worker") {
		t.Fatalf("on nothing: %v", err)
	}
	if err := server.Migrate(t.Context(), server.Options{DatabaseURL: owner, Log: quiet},
		"kestite_nobody"); err == nil || !strings.Contains(err.Error(), "CREATE ROLE") {
		t.Errorf("a role that is not there: %v", err)
	}
	// Again and again: it is how an installation is brought up to date.
	for range 2 {
		if err := server.Migrate(t.Context(), server.Options{DatabaseURL: owner, Log: quiet}, cluster.Worker); err != nil {
			t.Fatal(err)
		}
	}
	srv, err := server.Build(context.Background(), server.Options{DatabaseURL: worker, Log: quiet})
	if err != nil {
		t.Fatal(err)
	}
	srv.Close()
}
