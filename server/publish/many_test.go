package publish_test

import (
	"errors"
	"strings"
	"sync"
	"testing"
	"time"

	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/demo"
	"kestite/server"
	"kestite/server/defining"
	"kestite/server/publish"
	"kestite/server/store/storetest"
	"kestite/server/trail"
)

// Many reports are published by one command, from two servers at once each once; one that
// cannot be published is left with the reason and stops no other. A customer's schedule
// drafts once, whoever looks how often, and makes up for no more than a month.
func TestManyReportsAtOnceAndBySchedule(t *testing.T) {
	t.Parallel()
	one := storetest.Server(t)
	now := storetest.Now()
	if err := demo.Load(ctx, one, 5, func(string) {}); err != nil {
		t.Fatal(err)
	}
	two := storetest.Server(t, storetest.On(one))
	loc, err := time.LoadLocation(demo.Zone)
	if err != nil {
		t.Fatal(err)
	}
	here := now.In(loc)
	band, err := calendar.ParsePeriod(here.AddDate(0, 0, -here.Day()).Format("2006-01"), loc)
	if err != nil {
		t.Fatal(err)
	}
	quarter := 0 // one agreement's periods are quarters
	if band.Span().From.Time().In(loc).Month()%3 == 0 {
		quarter = 1
	}
	by, clock := trail.By{Name: "Mikkel Brand"}, func() time.Time { return now }
	many := func(srv *server.Server, of publish.Which) (published, before int, left map[string]error) {
		left = map[string]error{}
		var mu sync.Mutex
		err := srv.API.Desk.Many(ctx, of, by, clock, func(o publish.Outcome) {
			mu.Lock()
			defer mu.Unlock()
			switch {
			case o.Published:
				published++
			case o.Why != nil:
				left[o.Agreement] = o.Why
			default:
				before++
			}
		})
		if err != nil {
			t.Error(err)
		}
		return published, before, left
	}

	// Nobody has closed anything.
	published, before, left := many(one, publish.Which{Band: band})
	if published != 0 || before != 0 || len(left) != 7+quarter {
		t.Fatalf("unclosed: %d published, %d before, left %v", published, before, left)
	}
	for agreement, why := range left {
		if !errors.Is(why, publish.ErrUnclosed) {
			t.Errorf("%s: %v", agreement, why)
		}
	}

	// Two commands at once: each report is published by one of them.
	var all sync.WaitGroup
	counts := make([]int, 2)
	for i, srv := range []*server.Server{one, two} {
		all.Go(func() {
			counts[i], _, _ = many(srv, publish.Which{Band: band, Unclosed: true, Customer: "port-authority"})
		})
	}
	all.Wait()
	if counts[0]+counts[1] != 2 {
		t.Errorf("two commands published %v of the 2 reports of one customer", counts)
	}
	published, before, left = many(one, publish.Which{Band: band, Unclosed: true})
	if published != 4+quarter || before != 2 || len(left) != 1 || left["freight-desk"] == nil || !strings.Contains(left["freight-desk"].Error(), "nobody has approved it") {
		t.Fatalf("%d published, %d before, left %v", published, before, left)
	}
	if published, before, _ = many(two, publish.Which{Band: band, Unclosed: true}); published != 0 || before != 6+quarter {
		t.Errorf("again: %d published, %d before", published, before)
	}

	// The next month's drafts, on its second working day.
	spec := one.API.Definitions
	snap, err := spec.Snapshot(ctx)
	if err != nil {
		t.Fatal(err)
	}
	customer := snap.Customers["passenger-division"].Current()
	customer.Spec.Schedule = &definition.ReportSchedule{WorkingDay: 2, At: "08:00", Timezone: demo.Zone}
	if _, err := spec.Apply(ctx, defining.Change{By: by}, catalogue.Step{Does: catalogue.Rewrite, Kind: catalogue.Customer, ID: "passenger-division", Expected: customer.Number, Spec: customer.Spec}); err != nil {
		t.Fatal(err)
	}
	drafts := func() (n int) {
		t.Helper()
		if err := one.API.Store.Pool.QueryRow(ctx, "SELECT count(*) FROM report WHERE state = 'draft' AND made_by = 'the schedule of Passenger division'").Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	next := time.Date(here.Year(), here.Month()+1, 1, 0, 0, 0, 0, loc)
	if err := one.API.Desk.Scheduled(ctx, next.Add(time.Minute)); err != nil || drafts() != 0 {
		t.Errorf("before it was due: %d drafts, %v", drafts(), err)
	}
	for range 3 {
		for _, srv := range []*server.Server{one, two} {
			all.Go(func() {
				if err := srv.API.Desk.Scheduled(ctx, next.AddDate(0, 0, 8)); err != nil {
					t.Error(err)
				}
			})
		}
	}
	all.Wait()
	if n := drafts(); n != 2 {
		t.Errorf("%d drafts of the two agreements", n)
	}
	var told int
	if err := one.API.Store.Pool.QueryRow(ctx, "SELECT count(DISTINCT notice) FROM delivery WHERE subject = 'Reports to publish: Passenger division'").Scan(&told); err != nil || told != 1 {
		t.Errorf("those who publish were told %d times, %v", told, err)
	}
	if err := one.API.Desk.Scheduled(ctx, next.AddDate(0, 3, 0)); err != nil {
		t.Error(err)
	}
	if n := drafts(); n != 4 { // of the month before alone
		t.Errorf("three months later: %d drafts", n)
	}
}
