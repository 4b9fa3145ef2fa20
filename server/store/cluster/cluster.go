// Package cluster runs a PostgreSQL cluster of the project's own: in a data
// directory of its own, on loopback and a free port, never a system cluster.
package cluster

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"
)

// Cluster is a running PostgreSQL.
type Cluster struct {
	Dir      string
	Port     int
	secret   string // the superuser's password
	bin      string
	as       string // system user to run as; "" for the present one
	settings Settings
}

// Superuser made the cluster; the server listens on 127.0.0.1 alone, and asks
// everybody for a password.
const Superuser = "kestite"

// URL is the superuser's connection string for a database of the cluster.
func (c *Cluster) URL(database string) string { return c.connect(Superuser, c.secret, database) }

func (c *Cluster) connect(role, secret, database string) string {
	return fmt.Sprintf("postgres://%s:%s@127.0.0.1:%d/%s?sslmode=disable", role, secret, c.Port, database)
}

// Settings are passed to the server as -c options.
type Settings map[string]string

// ClockMoved is the setting of how far the one clock of a database stands from its
// machine's (function clock() of the schema): for trials on another day.
const ClockMoved = "kestite.clock_moved"

// Moved is the value of ClockMoved for a distance, to the second.
func Moved(by time.Duration) string { return strconv.FormatInt(int64(by/time.Second), 10) + "s" }

// Start initialises dir when it is empty, then starts the server on a free
// port. As root it runs as the system user postgres, since initdb refuses root.
func Start(ctx context.Context, dir string, settings Settings) (*Cluster, error) {
	bin, err := findBin()
	if err != nil {
		return nil, err
	}
	c := &Cluster{Dir: dir, bin: bin, settings: settings}
	if os.Geteuid() == 0 {
		c.as = "postgres"
	}
	if err := c.prepare(); err != nil {
		return nil, err
	}
	known, err := c.password()
	if err != nil {
		return nil, err
	}
	if _, err := os.Stat(filepath.Join(dir, "PG_VERSION")); errors.Is(err, os.ErrNotExist) {
		if err := c.init(ctx); err != nil {
			return nil, err
		}
		known = true
	}
	if err := c.run(ctx, "pg_ctl", "-D", dir, "status"); err == nil {
		// Left running by a process that was killed; its port is unknown to us.
		if err := c.Stop(ctx); err != nil {
			return nil, err
		}
	}
	if c.Port, err = freePort(); err != nil {
		return nil, err
	}
	if err := c.Again(ctx); err != nil {
		return nil, err
	}
	if !known {
		if err := c.lock(ctx); err != nil {
			return nil, errors.Join(err, c.Stop(ctx))
		}
	}
	return c, nil
}

// Again starts the server on its port once more, after Stop or Crash.
func (c *Cluster) Again(ctx context.Context) error {
	options := []string{
		"-c", "listen_addresses=127.0.0.1", "-c", "port=" + strconv.Itoa(c.Port),
		"-c", "unix_socket_directories=", "-c", "max_connections=200",
	}
	for _, name := range slices.Sorted(maps.Keys(c.settings)) {
		options = append(options, "-c", name+"="+c.settings[name])
	}
	log := filepath.Join(c.Dir, "server.log")
	if err := c.run(ctx, "pg_ctl", "-D", c.Dir, "-l", log, "-w", "-t", "60", "-o", strings.Join(options, " "), "start"); err != nil {
		tail, _ := os.ReadFile(log)
		return fmt.Errorf("%w\n%s", err, lastLines(tail, 5))
	}
	return nil
}

// Crash ends the server as a power cut of its processes would: what was
// committed is in the log, and the next start recovers from it.
func (c *Cluster) Crash(ctx context.Context) error {
	return c.run(ctx, "pg_ctl", "-D", c.Dir, "-m", "immediate", "-w", "stop")
}

// Stop ends the server cleanly; clients are disconnected.
func (c *Cluster) Stop(ctx context.Context) error {
	return c.run(ctx, "pg_ctl", "-D", c.Dir, "-m", "fast", "-w", "stop")
}

// prepare makes the data directory and gives it to the user who runs the server.
func (c *Cluster) prepare() error {
	if err := os.MkdirAll(c.Dir, 0o700); err != nil {
		return err
	}
	if c.as == "" {
		return nil
	}
	u, err := user.Lookup(c.as)
	if err != nil {
		return fmt.Errorf("the system user %s, who runs PostgreSQL for root: %w", c.as, err)
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	if err := os.Chown(c.Dir, uid, gid); err != nil {
		return err
	}
	if out, err := exec.Command("runuser", "-u", c.as, "--", "test", "-x", c.Dir).CombinedOutput(); err != nil {
		return fmt.Errorf("the user %s cannot reach %s; a folder above it is closed to others (%s); choose another directory", c.as, c.Dir, bytes.TrimSpace(out))
	}
	return nil
}

func (c *Cluster) run(ctx context.Context, program string, args ...string) error {
	argv := append([]string{filepath.Join(c.bin, program)}, args...)
	if c.as != "" {
		argv = append([]string{"runuser", "-u", c.as, "--"}, argv...)
	}
	cmd := exec.CommandContext(ctx, argv[0], argv[1:]...)
	cmd.Dir = "/"
	// pg_ctl hands its output to the server it starts: a pipe would never close.
	out, err := os.CreateTemp("", "kestite-pg-*.log")
	if err != nil {
		return err
	}
	defer os.Remove(out.Name())
	defer out.Close()
	cmd.Stdout, cmd.Stderr = out, out
	cmd.SysProcAttr = ownGroup()
	if err := cmd.Run(); err != nil {
		text, _ := os.ReadFile(out.Name())
		return fmt.Errorf("%s: %w: %s", program, err, lastLines(text, 5))
	}
	return nil
}

func lastLines(text []byte, n int) string {
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	return strings.Join(lines[max(0, len(lines)-n):], "\n")
}

func findBin() (string, error) {
	candidates, _ := filepath.Glob("/usr/lib/postgresql/*/bin")
	sort.Strings(candidates)
	for i := len(candidates) - 1; i >= 0; i-- {
		if _, err := os.Stat(filepath.Join(candidates[i], "initdb")); err == nil {
			return candidates[i], nil
		}
	}
	return "", errors.New("PostgreSQL's server programs are not installed; run make install, or apt-get install postgresql-15")
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}
