package store_test

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"kestite/server/store"
	"kestite/server/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// The clock shows what the database's does, within what it says it may be wrong, and
// goes on while the database is away.
func TestClockIsTheDatabases(t *testing.T) {
	ctx := context.Background()
	srv := storetest.Server(t)
	s := srv.API.Store
	check := func(when string, at time.Time) {
		t.Helper()
		got, wrong := s.Clock.Read()
		if off := got.Sub(at); off < -wrong || off > wrong+10*time.Second { // from below the question, whose answer may take its time
			t.Errorf("%s: %s off, and ±%s was said", when, off, wrong)
		}
		if wrong > 5*time.Second {
			t.Errorf("%s: known to ±%s only", when, wrong)
		}
	}
	at, err := s.ClockTime(ctx)
	if err != nil {
		t.Fatal(err)
	}
	check("at first", at)
	lonely, err := store.Open(ctx, storetest.Database(t))
	if err != nil {
		t.Fatal(err)
	}
	lonely.Close()
	before := lonely.Now()
	time.Sleep(50 * time.Millisecond)
	if after := lonely.Now(); after.Sub(before) < 50*time.Millisecond {
		t.Errorf("stands still while the database is away: %s passed", after.Sub(before))
	}
}

// Servers, their tests, the demo and the journeys go by one clock; what only measures how
// long something takes, or speaks TLS for real, may read the machine's.
func TestThereIsOneClock(t *testing.T) {
	measures := []string{"server/tls.go", "server/tls_test.go", "server/trust_test.go", "server/store/refused.go", "server/store/storetest/", "server/api/guard.go",
		"server/api/api.go", "server/notifying/send_test.go", "demo/run.go", "e2e/chaos/", "e2e/browser/", "e2e/pictures/"}
	// What the database fills in goes by clock(); the first schema's defaults were altered since.
	machine := regexp.MustCompile(`\btime\.(Now|Since|Until)\b`)
	database := regexp.MustCompile(`\b(now\(\)|clock_timestamp\(|statement_timestamp\(|transaction_timestamp\(|current_timestamp\b|current_date\b|localtime)`)
	looked := 0
	for _, room := range []string{"server", "demo", "e2e"} {
		err := filepath.WalkDir("../../"+room, func(path string, d fs.DirEntry, err error) error {
			name := strings.TrimPrefix(filepath.ToSlash(path), "../../")
			if err != nil || d.IsDir() || strings.HasPrefix(name, "server/store/migrations/00") && name < "server/store/migrations/0036" ||
				slices.ContainsFunc(measures, func(m string) bool { return strings.HasPrefix(name, m) }) || strings.Contains(name, "/gen/") {
				return err
			}
			reads := map[string]*regexp.Regexp{".go": machine, ".sql": database}[filepath.Ext(name)]
			if reads == nil {
				return nil
			}
			text, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			looked++
			for n, line := range strings.Split(string(text), "\n") {
				if code, _, _ := strings.Cut(line, " -- "); reads.MatchString(code) && !strings.Contains(line, "kestite.clock_moved") && !strings.HasSuffix(line, "SET DEFAULT now();") {
					t.Errorf("%s:%d goes by another clock than all else: %s", name, n+1, strings.TrimSpace(line))
				}
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	if looked < 200 {
		t.Errorf("only %d files were looked at", looked)
	}
}

// The clock of a database that is moved is that of all: of the server, of what the database
// fills in, and of what it is asked about the present.
func TestAMovedClockIsOne(t *testing.T) {
	leap := time.Date(2028, 2, 29, 10, 30, 0, 0, time.UTC)
	srv := storetest.Server(t, storetest.At(t, leap))
	near := func(what string, at time.Time) {
		t.Helper()
		if off := at.Sub(leap); off < -time.Second || off > time.Minute {
			t.Errorf("%s is %s", what, at)
		}
	}
	near("the server's clock", srv.API.Store.Now())
	var filled, asked time.Time
	if err := srv.API.Store.Pool.QueryRow(t.Context(), "INSERT INTO trail (actor, action, subject) VALUES ('test', 'look', 'clock') RETURNING at, clock()").Scan(&filled, &asked); err != nil {
		t.Fatal(err)
	}
	near("what the database fills in", filled)
	near("the database's present", asked)
}
