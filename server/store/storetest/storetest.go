// Package storetest gives each test a database of its own, migrated, on a
// PostgreSQL that the test binary started on loopback.
package storetest

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/server"
	"kestite/server/store/cluster"
)

var (
	running  *cluster.Cluster
	template sync.Once
	made     error
	count    atomic.Int64
)

const templateName = "kestite_template"

// Main starts PostgreSQL, runs the tests and stops it. Call it from TestMain.
func Main(m *testing.M) {
	os.Exit(run(m))
}

func run(m *testing.M) int {
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
	// The data is thrown away: it need not survive a crash of the machine.
	running, err = cluster.Start(ctx, dir+"/postgres", cluster.Settings{"fsync": "off", "synchronous_commit": "off", "full_page_writes": "off"})
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer running.Stop(ctx)
	return m.Run()
}

// Database makes a migrated database for one test and returns its URL. It is
// dropped when the test ends.
func Database(t testing.TB) string {
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
	if _, err := admin.Exec(ctx, "CREATE DATABASE "+name+" TEMPLATE "+templateName); err != nil {
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
	return running.URL(name)
}

func makeTemplate(ctx context.Context, admin *pgx.Conn) error {
	if _, err := admin.Exec(ctx, "CREATE DATABASE "+templateName); err != nil {
		return err
	}
	srv, err := server.Build(ctx, Options(running.URL(templateName)))
	if err != nil {
		return err
	}
	srv.Close()
	return nil
}

// Options are those of a server for tests on a database.
func Options(url string) server.Options {
	return server.Options{
		DatabaseURL: url, Listen: "127.0.0.1:0", Organisation: "Skerry Line", Timezone: "Europe/Oslo", Version: "test",
		Log: slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelError})),
	}
}

// Server builds a server on a database of its own; change may set options.
// Nothing runs yet: no listening, no background work.
func Server(t testing.TB, change ...func(*server.Options)) *server.Server {
	t.Helper()
	o := Options(Database(t))
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

// Started builds and starts a server; it is stopped when the test ends.
func Started(t testing.TB, change ...func(*server.Options)) *server.Server {
	t.Helper()
	o := Options(Database(t))
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
