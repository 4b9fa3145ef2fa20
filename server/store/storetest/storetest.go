// Package storetest gives each test a database of its own, migrated, on a
// PostgreSQL that the test binary started on loopback.
package storetest

import (
	"context"
	"flag"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/server"
	"kestite/server/auth"
	"kestite/server/store/cluster"
)

var (
	running  *cluster.Cluster
	owner    string // URL of the role that owns databases, and of the one that works with them
	worker   string
	template sync.Once
	made     error
	count    atomic.Int64
)

const templateName = "kestite_template"

// keyFile is the key of all servers here, so that a copied database can be read.
var keyFile string

// Main starts PostgreSQL, runs the tests and stops it. Call it from TestMain. Tests
// wait for processes and clocks more than they compute, so six run side by side.
func Main(m *testing.M) { Parallel(m, 6) }

// Parallel is Main with so many tests side by side, where the command line does not
// say otherwise.
func Parallel(m *testing.M, tests int) {
	os.Exit(run(m, tests))
}

func run(m *testing.M, tests int) int {
	if err := setClock(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	dir, err := os.MkdirTemp("/var/tmp", "kestite-test-")
	if err == nil {
		err = os.Chmod(dir, 0o755)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer os.RemoveAll(dir)
	ctx := context.Background()
	auth.SetWork(auth.Work{Passes: 1, Memory: 64, Threads: 1})
	// The data is thrown away: it need not survive a crash of the machine.
	keyFile = filepath.Join(dir, "secrets.key")
	running, err = cluster.Start(ctx, dir+"/postgres", cluster.Settings{"fsync": "off", "synchronous_commit": "off", "full_page_writes": "off",
		cluster.ClockMoved: cluster.Moved(moved)})
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer running.Stop(ctx)
	if owner, worker, err = running.Roles(ctx, "postgres"); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	if err := flag.Set("test.parallel", strconv.Itoa(tests)); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	return m.Run()
}

// Database makes a migrated database for one test and returns its URL. It is
// dropped when the test ends.
func Database(t testing.TB) string {
	t.Helper()
	return at(worker, clone(t, templateName))
}

// AsOwner is the URL of a test's database for the role that owns its schema.
func AsOwner(url string) string { return at(owner, nameIn(url)) }

// AsWorker is the URL of a test's database for the role that works with it.
func AsWorker(url string) string { return at(worker, nameIn(url)) }

func nameIn(url string) string {
	_, rest, _ := strings.Cut(url, "/test_")
	name, _, _ := strings.Cut(rest, "?")
	return "test_" + name
}

// at is a role's URL of another database.
func at(role, database string) string {
	return strings.Replace(role, "/postgres?", "/"+database+"?", 1)
}

// Exec changes a server's database as its owner, in ways that no server may.
func Exec(t testing.TB, srv *server.Server, sql string, args ...any) {
	t.Helper()
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, AsOwner(srv.API.Store.Pool.Config().ConnString()))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	if _, err := conn.Exec(ctx, sql, args...); err != nil {
		t.Fatal(err)
	}
}

// Superuser connects to a server's database as who may look into all of the cluster.
func Superuser(t testing.TB, srv *server.Server) *pgx.Conn {
	t.Helper()
	conn, err := pgx.Connect(context.Background(), running.URL(nameIn(srv.API.Store.Pool.Config().ConnString())))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close(context.Background()) })
	return conn
}

// Empty makes a database without any schema for one test and returns its URL, for
// the role that owns it.
func Empty(t testing.TB) string {
	t.Helper()
	return at(owner, clone(t, "template0"))
}

// clone copies a template and returns the copy's name; the migrated one is made
// when it is first needed.
func clone(t testing.TB, of string) string {
	t.Helper()
	ctx := context.Background()
	admin, err := pgx.Connect(ctx, running.URL("postgres"))
	if err != nil {
		t.Fatal(err)
	}
	defer admin.Close(ctx)
	template.Do(func() { made = makeTemplate(ctx, admin) })
	if made != nil {
		t.Fatal(made)
	}
	name := fmt.Sprintf("test_%d", count.Add(1))
	if _, err := admin.Exec(ctx, "CREATE DATABASE "+name+" TEMPLATE "+of+" OWNER "+cluster.Owner); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		admin, err := pgx.Connect(ctx, running.URL("postgres"))
		if err != nil {
			return
		}
		defer admin.Close(ctx)
		admin.Exec(ctx, "DROP DATABASE "+name+" WITH (FORCE)")
	})
	return name
}

func makeTemplate(ctx context.Context, admin *pgx.Conn) error {
	if _, err := admin.Exec(ctx, "CREATE DATABASE "+templateName+" OWNER "+cluster.Owner); err != nil {
		return err
	}
	return server.Migrate(ctx, options(at(owner, templateName)), cluster.Worker)
}

// Filled is a database with contents that many tests begin with: it is made once
// and copied for each.
type Filled struct {
	// Fill fills it through a server that is not started.
	Fill func(*server.Server) error
	// At is the instant at which the clock of each copy begins; zero: that of all tests.
	At time.Time

	once sync.Once
	name string
	err  error
}

// Options are those of a server on a copy.
func (f *Filled) Options(t testing.TB) func(*server.Options) {
	t.Helper()
	f.once.Do(func() {
		f.name = clone(detached{t}, templateName)
		o := options(at(worker, f.name))
		f.begin(t, &o)
		srv, err := server.Build(context.Background(), o)
		if err != nil {
			f.err = err
			return
		}
		f.err = f.Fill(srv)
		srv.Close()
	})
	if f.err != nil {
		t.Fatal(f.err)
	}
	return func(o *server.Options) {
		o.DatabaseURL = at(worker, clone(t, f.name))
		f.begin(t, o)
	}
}

func (f *Filled) begin(t testing.TB, o *server.Options) {
	if !f.At.IsZero() {
		At(t, f.At)(o)
	}
}

// Moved is how far the clock of a copy made now stands from this machine's.
func (f *Filled) Moved() time.Duration {
	if f.At.IsZero() {
		return moved
	}
	return time.Until(f.At).Truncate(time.Second)
}

// detached is a test whose end cleans nothing up: what it makes outlives it.
type detached struct{ testing.TB }

func (detached) Cleanup(func()) {}

func options(url string) server.Options {
	return server.Options{
		DatabaseURL: url, KeyFile: keyFile, Listen: "127.0.0.1:0", Organisation: "Skerry Line", Timezone: "Europe/Oslo", Version: "test",
		Log: slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelError})),
	}
}

// Server builds a server on a database of its own; change may set options.
// Nothing runs yet: no listening, no background work.
func Server(t testing.TB, change ...func(*server.Options)) *server.Server {
	t.Helper()
	o := options(Database(t))
	for _, c := range change {
		c(&o)
	}
	srv, err := server.Build(context.Background(), o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(srv.Close)
	return srv
}

// At lets the one clock of a server's database show another instant as the test begins, for
// what has to hold in the middle of a month. The test then asks the server for the time.
func At(t testing.TB, instant time.Time) func(*server.Options) {
	return func(o *server.Options) {
		t.Helper()
		ctx, name := context.Background(), nameIn(o.DatabaseURL)
		admin, err := pgx.Connect(ctx, running.URL(name))
		if err != nil {
			t.Fatal(err)
		}
		defer admin.Close(ctx)
		if _, err := admin.Exec(ctx, fmt.Sprintf("ALTER DATABASE %s SET %s = '%s'", name, cluster.ClockMoved, cluster.Moved(time.Until(instant)))); err != nil {
			t.Fatal(err)
		}
	}
}

// On makes a server one more on the database of another.
func On(other *server.Server) func(*server.Options) {
	return func(o *server.Options) { o.DatabaseURL = other.API.Store.Pool.Config().ConnString() }
}

// Started builds and starts a server; it is stopped when the test ends.
func Started(t testing.TB, change ...func(*server.Options)) *server.Server {
	t.Helper()
	o := options(Database(t))
	for _, c := range change {
		c(&o)
	}
	srv, err := server.Build(context.Background(), o)
	if err != nil {
		t.Fatal(err)
	}
	if err := srv.Start(context.Background()); err != nil {
		srv.Close()
		t.Fatal(err)
	}
	t.Cleanup(func() {
		ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
		defer cancel()
		if err := srv.Stop(ctx); err != nil {
			t.Error("stop:", err)
		}
	})
	return srv
}
