package share_test

import (
	"context"
	"fmt"
	"slices"
	"testing"
	"time"

	"kestite/server/auth"
	"kestite/server/share"
	"kestite/server/store/gen/db"
	"kestite/server/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

func TestHoldersAreEvenAndFewMove(t *testing.T) {
	t.Parallel()
	agents := []string{"a", "b", "c", "d"}
	const checks = 4000
	count := map[string]int{}
	before := make([]string, checks)
	for i := range before {
		before[i] = share.Holder(agents, fmt.Sprint("check-", i))
		count[before[i]]++
	}
	for a, n := range count {
		if n < checks/5 || n > checks*3/10 {
			t.Errorf("%s holds %d of %d checks among four", a, n, checks)
		}
	}
	for i, holder := range before {
		if now := share.Holder([]string{"a", "b", "d"}, fmt.Sprint("check-", i)); now != holder && holder != "c" {
			t.Fatalf("check %d moved from %s to %s when c went", i, holder, now)
		}
	}
	if share.Holder(nil, "check") != "" {
		t.Error("somebody holds a check where nobody is")
	}
}

// Rosters follow who calls; nobody is dropped while there is nobody else, nor by
// a server that was away itself.
func TestRosters(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	srv := storetest.Server(t)
	s := srv.API.Store
	now := storetest.Now()
	r := &share.Rosters{Store: s, Now: func() time.Time { return now }}
	var ids []string
	for range 2 {
		_, hash := auth.NewToken("kesa_")
		a, err := s.AddAgent(ctx, db.AddAgentParams{Location: "tolvik", TokenHash: hash, CreatedBy: "test"})
		if err != nil {
			t.Fatal(err)
		}
		ids = append(ids, a.ID)
	}
	seen := func(id, cutOff string, offset int64, at time.Time) {
		t.Helper()
		if n, err := s.AgentSeen(ctx, db.AgentSeenParams{ID: id, CutOff: cutOff, ClockOffsetMs: offset, Aside: []byte("[]"), Now: at, Until: at}); err != nil || n != 1 {
			t.Fatal(n, err)
		}
		if _, err := s.Pool.Exec(ctx, "UPDATE agent SET seen_at = $2 WHERE id = $1", id, at); err != nil {
			t.Fatal(err)
		}
	}
	roster := func(want ...string) {
		t.Helper()
		if err := r.Update(ctx, ""); err != nil {
			t.Fatal(err)
		}
		slices.Sort(want)
		if got, err := r.Current(ctx, "tolvik"); err != nil || !slices.Equal(got, want) {
			t.Errorf("the roster is %v, %v; want %v", got, err, want)
		}
		now = now.Add(time.Millisecond)
	}
	// pass lets time go by while some server is there.
	pass := func(d time.Duration) {
		t.Helper()
		for ; d > 0; d -= 10 * time.Second {
			now = now.Add(min(d, 10*time.Second))
			if _, err := s.There(ctx, now); err != nil {
				t.Fatal(err)
			}
		}
	}
	roster()
	seen(ids[0], "", 0, now)
	roster(ids[0])
	seen(ids[1], "", 0, now)
	roster(ids...)
	pass(2 * share.LostAfter)
	seen(ids[1], "", 0, now)
	roster(ids[1]) // the first is lost
	pass(2 * share.LostAfter)
	roster(ids[1]) // nobody calls: nothing could take over
	seen(ids[0], "", 0, now)
	seen(ids[1], "cut off", 0, now)
	roster(ids[0])
	seen(ids[0], "cut off", 0, now)
	roster(ids...)                // both are cut off: they measure on
	seen(ids[0], "", 40_000, now) // its own clock is off: what it measures is placed by the database's
	seen(ids[1], "", 0, now)
	roster(ids...)

	// After a time in which no server was there nobody is taken for lost, whichever
	// server looks.
	seen(ids[0], "", 0, now)
	roster(ids...)
	now = now.Add(time.Hour)
	seen(ids[0], "", 0, now)
	r = &share.Rosters{Store: s, Now: func() time.Time { return now }}
	roster(ids...)
	pass(share.LostAfter + time.Second)
	seen(ids[0], "", 0, now)
	roster(ids[0])

	past, err := share.Since(ctx, s.Queries, "tolvik", now.Add(-24*time.Hour))
	if err != nil {
		t.Fatal(err)
	}
	if !past.Held(ids[0], "any", now) || past.Held(ids[1], "any", now) {
		t.Error("at present the first agent alone holds checks")
	}
	if !past.Held("anybody", "any", now.Add(-48*time.Hour)) {
		t.Error("before the first roster everybody held everything")
	}
}
