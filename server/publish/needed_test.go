package publish_test

import (
	"errors"
	"testing"
	"time"

	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/span"
	"kestite/demo"
	"kestite/server/store/storetest"
	"kestite/server/trail"
)

// What somebody still needs is not dropped, however old: days of a draft, of a report that
// is objected to, of a period between published ones that has none, and under a legal hold.
func TestMeasurementsThatAreNeededAreKept(t *testing.T) {
	t.Parallel()
	srv := storetest.Server(t)
	now := storetest.Now()
	if err := demo.Load(ctx, srv, 5, func(string) {}); err != nil {
		t.Fatal(err)
	}
	desk, by := srv.API.Desk, trail.By{Name: "Mikkel Brand"}
	loc, err := time.LoadLocation(demo.Zone)
	if err != nil {
		t.Fatal(err)
	}
	here := now.In(loc)
	middle := func(ago int) time.Time { // of a month
		return time.Date(here.Year(), here.Month()-time.Month(ago), 15, 0, 0, 0, 0, time.UTC)
	}
	later := now.AddDate(3, 0, 0)
	needed := func(at time.Time) func(time.Time) bool {
		t.Helper()
		keep, err := desk.Needed(ctx, at)
		if err != nil {
			t.Fatal(err)
		}
		return keep
	}
	// The demo has published the months 4, 3 and 2 ago; that of 2 ago is objected to.
	for ago, want := range map[int]bool{5: false, 4: false, 3: false, 2: true} {
		if got := needed(now)(middle(ago)); got != want {
			t.Errorf("%d months ago: needed %v", ago, got)
		}
	}
	notes, err := srv.API.Store.OpenObjections(ctx)
	if err != nil || len(notes) != 1 {
		t.Fatalf("%d objections, %v", len(notes), err)
	}
	r, err := srv.API.Store.Report(ctx, notes[0].Report)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := desk.End(ctx, r, notes[0].ID, "stands", "The log says so.", by, now); err != nil {
		t.Fatal(err)
	}
	if needed(now)(middle(2)) {
		t.Error("needed after the objection has ended")
	}
	// Three years on, what was never published after the last report is still there.
	if !needed(later)(middle(1)) {
		t.Error("an unpublished month between published ones and today may be dropped")
	}
	id, err := desk.Draft(ctx, "messages", middle(4).Format("2006-01"), "", by, now)
	if err != nil {
		t.Fatal(err)
	}
	if !needed(now)(middle(4)) {
		t.Error("the days of a draft may be dropped")
	}
	if err := desk.Drop(ctx, id, by); err != nil {
		t.Fatal(err)
	}
	if needed(now)(middle(4)) {
		t.Error("needed after the draft was thrown away")
	}

	day := middle(5).Format(time.DateOnly)
	for name, bad := range map[string][3]string{"no day": {"2026-02-30", day, "x"}, "turned round": {day, middle(6).Format(time.DateOnly), "x"}, "no reason": {day, day, " "}} {
		var fault *definition.Fault
		if _, err := desk.Hold(ctx, bad[0], bad[1], bad[2], by, now); !errors.As(err, &fault) {
			t.Errorf("%s: %v", name, err)
		}
	}
	hold, err := desk.Hold(ctx, day, day, "Claim 12", by, now)
	if err != nil {
		t.Fatal(err)
	}
	margin := int(catalogue.Margin/span.Day) + 1
	if keep := needed(now); !keep(middle(5)) || keep(middle(5).AddDate(0, 0, -margin-1)) {
		t.Error("a legal hold keeps other days than it says")
	}
	if err := desk.Lift(ctx, hold, by, now); err != nil {
		t.Fatal(err)
	}
	if err := desk.Lift(ctx, hold, by, now); !errors.Is(err, catalogue.ErrNotFound) {
		t.Errorf("lifted twice: %v", err)
	}
	if needed(now)(middle(5)) {
		t.Error("needed after the hold was lifted")
	}

	// Nothing of it is dropped, and the rest is.
	if err := srv.API.Store.EnsurePartitions(ctx, map[time.Time]bool{middle(4): true, middle(2): true}); err != nil {
		t.Fatal(err)
	}
	if _, err := desk.Hold(ctx, middle(4).Format(time.DateOnly), middle(4).Format(time.DateOnly), "Claim 13", by, now); err != nil {
		t.Fatal(err)
	}
	if _, err := srv.API.Store.DropPartitions(ctx, later, needed(later)); err != nil {
		t.Fatal(err)
	}
	for ago, want := range map[int]bool{4: true, 2: false} {
		var has bool
		if err := srv.API.Store.Pool.QueryRow(ctx, "SELECT to_regclass($1) IS NOT NULL", "measurement_"+middle(ago).Format("20060102")).Scan(&has); err != nil || has != want {
			t.Errorf("the partition of %d months ago is there: %v, %v", ago, has, err)
		}
	}
}
