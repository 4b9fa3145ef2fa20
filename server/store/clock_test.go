package store_test

import (
	"context"
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
