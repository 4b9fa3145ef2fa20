package cluster

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
)

// The database asks for passwords, also where an earlier version let everybody in.
func TestTheDatabaseAsksForPasswords(t *testing.T) {
	dir, err := os.MkdirTemp("/var/tmp", "kestite-cluster-")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	os.Chmod(dir, 0o755)
	ctx := t.Context()
	fast := Settings{"fsync": "off"}
	start := func() *Cluster {
		t.Helper()
		c, err := Start(ctx, filepath.Join(dir, "postgres"), fast)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	refused := func(c *Cluster, role, when string) {
		t.Helper()
		for _, secret := range []string{"", ":guessed"} {
			url := strings.Replace(c.connect(role, "S", "postgres"), ":S@", secret+"@", 1)
			if conn, err := pgx.Connect(ctx, url); err == nil {
				conn.Close(ctx)
				t.Errorf("%s: %s comes in with %q", when, role, secret)
			}
		}
	}
	c := start()
	refused(c, Superuser, "a new one")
	owner, worker, err := c.Roles(ctx, "postgres")
	if err != nil {
		t.Fatal(err)
	}
	refused(c, Owner, "a new one")
	for _, url := range []string{owner, worker, c.URL("postgres")} {
		conn, err := pgx.Connect(ctx, url)
		if err != nil {
			t.Fatal(err)
		}
		conn.Close(ctx)
	}
	if info, err := os.Stat(c.passwordFile()); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the password's file: %v %v", info, err)
	}
	// As an earlier version left it: everybody is let in, and nobody knows a password.
	conn, err := pgx.Connect(ctx, c.URL("postgres"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := conn.Exec(ctx, "CREATE TABLE public.kept (n int)"); err != nil {
		t.Fatal(err)
	}
	conn.Close(ctx)
	if err := c.Stop(ctx); err != nil {
		t.Fatal(err)
	}
	hba := filepath.Join(c.Dir, "pg_hba.conf")
	text, err := os.ReadFile(hba)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(hba, []byte(strings.ReplaceAll(string(text), "scram-sha-256", "trust")), 0o600); err != nil {
		t.Fatal(err)
	}
	os.Remove(c.passwordFile())
	c = start()
	defer func() { c.Stop(ctx) }()
	refused(c, Superuser, "an earlier one")
	if owner, _, err = c.Roles(ctx, "postgres"); err != nil {
		t.Fatal(err)
	}
	conn, err = pgx.Connect(ctx, owner)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	if _, err := conn.Exec(ctx, "ALTER TABLE kept ADD COLUMN m int"); err != nil {
		t.Errorf("what an earlier version made is not the owner's: %v", err)
	}
}
