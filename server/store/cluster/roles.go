package cluster

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"
)

// Owner and Worker are the two roles of a database: who makes and changes its
// schema, and who works with what is in it.
const (
	Owner  = "kestite_owner"
	Worker = "kestite_worker"
)

// passwordFile keeps the superuser's password, beside the data directory.
func (c *Cluster) passwordFile() string { return c.Dir + ".password" }

// password reads the superuser's password, and makes one where there is none;
// known says that there was.
func (c *Cluster) password() (known bool, err error) {
	text, err := os.ReadFile(c.passwordFile())
	if err == nil {
		c.secret = strings.TrimSpace(string(text))
		return true, nil
	}
	if !errors.Is(err, os.ErrNotExist) {
		return false, fmt.Errorf("the database's password: %w", err)
	}
	c.secret = rand.Text()
	return false, os.WriteFile(c.passwordFile(), []byte(c.secret+"\n"), 0o600)
}

// init makes the cluster. It asks everybody for a password.
func (c *Cluster) init(ctx context.Context) error {
	f, err := os.CreateTemp("", "kestite-pg-*.password")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	if _, err := f.WriteString(c.secret); err != nil {
		return errors.Join(err, f.Close())
	}
	if err := f.Close(); err != nil {
		return err
	}
	if c.as != "" {
		u, err := user.Lookup(c.as)
		if err != nil {
			return err
		}
		uid, _ := strconv.Atoi(u.Uid)
		if err := os.Chown(f.Name(), uid, -1); err != nil {
			return err
		}
	}
	return c.run(ctx, "initdb", "-D", c.Dir, "-U", Superuser, "--auth=scram-sha-256", "--pwfile="+f.Name(), "--encoding=UTF8",
		"--locale=C.UTF-8", "--no-instructions")
}

// lock gives a cluster of an earlier version, which let everybody in, a password.
func (c *Cluster) lock(ctx context.Context) error {
	conn, err := pgx.Connect(ctx, c.URL("postgres"))
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	if err := setPassword(ctx, conn, Superuser, c.secret); err != nil {
		return err
	}
	file := filepath.Join(c.Dir, "pg_hba.conf")
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	var lines []string
	for _, l := range strings.Split(string(text), "\n") {
		if !strings.HasPrefix(l, "#") {
			l = strings.Replace(l, "trust", "scram-sha-256", 1)
		}
		lines = append(lines, l)
	}
	if err := os.WriteFile(file, []byte(strings.Join(lines, "\n")), 0o600); err != nil { // its owner stays
		return err
	}
	_, err = conn.Exec(ctx, "SELECT pg_reload_conf()")
	return err
}

func setPassword(ctx context.Context, conn *pgx.Conn, role, secret string) error {
	// What rand.Text makes needs no quoting.
	if _, err := conn.Exec(ctx, fmt.Sprintf("ALTER ROLE %s PASSWORD '%s'", role, secret)); err != nil {
		return fmt.Errorf("set the password of the role %s: %w", role, err)
	}
	return nil
}

// Roles makes the two roles, or gives them new passwords, makes a database theirs
// (which must be there), and returns the connection strings of both.
func (c *Cluster) Roles(ctx context.Context, database string) (owner, worker string, err error) {
	conn, err := pgx.Connect(ctx, c.URL(database))
	if err != nil {
		return "", "", err
	}
	defer conn.Close(ctx)
	secrets := map[string]string{Owner: rand.Text(), Worker: rand.Text()}
	for role, secret := range secrets {
		_, err := conn.Exec(ctx, fmt.Sprintf("DO $$ BEGIN IF NOT EXISTS (SELECT 1 FROM pg_roles WHERE rolname = '%[1]s') THEN CREATE ROLE %[1]s LOGIN; END IF; END $$", role))
		if err != nil {
			return "", "", fmt.Errorf("make the role %s: %w", role, err)
		}
		if err := setPassword(ctx, conn, role, secret); err != nil {
			return "", "", err
		}
	}
	for _, sql := range []string{
		"GRANT " + Worker + " TO " + Owner,
		fmt.Sprintf("ALTER DATABASE %s OWNER TO %s", pgx.Identifier{database}.Sanitize(), Owner),
		adopt,
	} {
		if _, err := conn.Exec(ctx, sql); err != nil {
			return "", "", fmt.Errorf("make the database %s the roles': %w", database, err)
		}
	}
	return c.connect(Owner, secrets[Owner], database), c.connect(Worker, secrets[Worker], database), nil
}

// adopt gives the owner what a superuser made in an earlier version.
const adopt = `DO $$
DECLARE it record;
BEGIN
    FOR it IN SELECT c.oid::regclass AS name, c.relkind FROM pg_class c JOIN pg_roles r ON r.oid = c.relowner
              WHERE c.relnamespace = 'public'::regnamespace AND c.relkind IN ('r', 'p', 'v') AND r.rolname = '` + Superuser + `' LOOP
        EXECUTE format('ALTER TABLE %s OWNER TO ` + Owner + `', it.name);
    END LOOP;
    FOR it IN SELECT p.oid::regprocedure AS name FROM pg_proc p JOIN pg_roles r ON r.oid = p.proowner
              WHERE p.pronamespace = 'public'::regnamespace AND r.rolname = '` + Superuser + `' LOOP
        EXECUTE format('ALTER FUNCTION %s OWNER TO ` + Owner + `', it.name);
    END LOOP;
    FOR it IN SELECT t.oid::regtype AS name FROM pg_type t JOIN pg_roles r ON r.oid = t.typowner
              WHERE t.typnamespace = 'public'::regnamespace AND t.typtype = 'e' AND r.rolname = '` + Superuser + `' LOOP
        EXECUTE format('ALTER TYPE %s OWNER TO ` + Owner + `', it.name);
    END LOOP;
END $$`
