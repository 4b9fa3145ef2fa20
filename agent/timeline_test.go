package agent_test

import (
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"kestite/agent"
	"kestite/agent/store"
	"kestite/core/span"
	"kestite/server/store/raw"
	"kestite/server/store/storetest"
)

// hits are the instants at which a target was asked.
type hits struct {
	mu  sync.Mutex
	all []time.Time
}

func (h *hits) ServeHTTP(w http.ResponseWriter, _ *http.Request) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.all = append(h.all, storetest.Now())
}

// near says whether the target was asked at about an instant, or a little later.
func (h *hits) near(at time.Time) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return slices.ContainsFunc(h.all, func(hit time.Time) bool { return hit.Sub(at).Abs() < time.Second })
}

// counted replaces the site's target by one that remembers when it was asked.
func (s *site) counted() *hits {
	h := new(hits)
	s.target.Close()
	s.target = httptest.NewServer(h)
	s.t.Cleanup(s.target.Close)
	return h
}

func (s *site) latest(check string, n int) []raw.Row {
	s.t.Helper()
	lanes, err := s.srv.API.Store.LanesOfChecks(ctx, []string{check})
	if err != nil || len(lanes) == 0 {
		s.t.Fatalf("lanes of %s: %v %v", check, lanes, err)
	}
	rows, err := raw.Latest(ctx, s.srv.API.Store.Queries, lanes[0].ID, span.Of(storetest.Now().Add(-48*time.Hour)), span.Of(storetest.Now().Add(48*time.Hour)), n)
	if err != nil {
		s.t.Fatal(err)
	}
	return rows
}

// Whatever its own clock shows, and while somebody sets it, an agent's measurements
// stand where they were made, and it says that the clock is off.
func TestMeasurementsArePlacedByTheDatabasesClock(t *testing.T) {
	t.Parallel()
	for name, off := range map[string]time.Duration{"two minutes ahead": 2 * time.Minute, "45 s behind": -45 * time.Second, "in another decade": -10 * 365 * 24 * time.Hour} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := newSite(t)
			h := s.counted()
			check := s.check()
			var moved atomic.Int64
			moved.Store(int64(off))
			s.start(s.srv.URL, func(a *agent.Agent) {
				a.Now = func() time.Time { return storetest.Now().Add(time.Duration(moved.Load())) }
			})
			eventually(t, "its complaint", func() bool {
				list, err := s.srv.API.Store.Agents(ctx)
				return err == nil && strings.Contains(list[0].Complaint, "its own clock is") && (time.Duration(list[0].ClockOffsetMs)*time.Millisecond-off).Abs() < time.Second
			})
			eventually(t, "two measurements", func() bool { return len(s.rows(check)) >= 2 })
			moved.Store(int64(7 * time.Hour)) // set while it runs
			eventually(t, "two more", func() bool { return len(s.rows(check)) >= 4 })
			rows := s.latest(check, 100)
			for i, r := range rows {
				if !h.near(r.At.Time()) {
					t.Errorf("a measurement stands at %s, and the target was not asked then", r.At)
				}
				if r.Clock == nil || r.Clock.Uncertain > 1000 {
					t.Errorf("how %+v was placed is not kept", r)
				} else if i == len(rows)-1 && (time.Duration(r.Clock.Ahead)*time.Millisecond-off).Abs() > time.Second && off > -24*24*time.Hour {
					t.Errorf("its own clock was %s off, and %d ms are kept", off, r.Clock.Ahead)
				}
				if r.LateMS > 2000 {
					t.Errorf("started %d ms late: the schedule follows the own clock", r.LateMS)
				}
			}
		})
	}
}

// alone lets an agent measure for a while with no server to be heard, on a machine
// whose clock is an hour behind.
func (s *site) alone(h *hits, start string) {
	s.t.Helper()
	h.mu.Lock()
	before := len(h.all)
	h.mu.Unlock()
	var queue *store.Store
	stop := s.start("http://127.0.0.1:9", func(a *agent.Agent) {
		queue = a.Store
		a.Now, a.Start = func() time.Time { return storetest.Now().Add(-time.Hour) }, start
	})
	eventually(s.t, "two measurements without a server", func() bool {
		h.mu.Lock()
		defer h.mu.Unlock()
		return len(h.all) >= before+2
	})
	eventually(s.t, "both on disk", func() bool { return queue.Backlog() >= 2 })
	stop()
}

// What was measured before any server was heard is placed when one is, by the same
// count, also by another process; later starts of that process know the time at once.
func TestMeasuredBeforeAServerWasHeard(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	h := s.counted()
	check := s.check()
	stop := s.start(s.srv.URL, func(a *agent.Agent) { a.Start = "first" })
	eventually(t, "a measurement", func() bool { return len(s.rows(check)) > 0 })
	stop()
	s.alone(h, "second")
	before := len(s.rows(check))
	stop = s.start(s.srv.URL, func(a *agent.Agent) {
		a.Now, a.Start = func() time.Time { return storetest.Now().Add(-time.Hour) }, "second"
	})
	eventually(t, "what was kept", func() bool { return len(s.rows(check)) >= before+2 })
	stop()
	s.alone(h, "second") // its clock is known by now
	s.start(s.srv.URL, func(a *agent.Agent) { a.Start = "second" })
	eventually(t, "what was kept the second time", func() bool { return len(s.rows(check)) >= before+5 })
	for _, r := range s.latest(check, 100) {
		if !h.near(r.At.Time()) {
			t.Errorf("a measurement stands at %s, and the target was not asked then", r.At)
		}
	}
	if rows := s.latest(check, 1000); len(rows) != len(s.rows(check)) {
		t.Errorf("%d measurements in all and %d around now: some are misplaced", len(rows), len(s.rows(check)))
	}
}

// Where the machine was started anew before a server was heard, nobody can tell
// when: such measurements are set aside and shown, and stay there.
func TestNobodyCanTellWhenItWasMeasured(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	h := s.counted()
	check := s.check()
	stop := s.start(s.srv.URL, func(a *agent.Agent) { a.Start = "first" })
	eventually(t, "a measurement", func() bool { return len(s.rows(check)) > 0 })
	stop()
	s.alone(h, "second")
	var kept *store.Store
	s.start(s.srv.URL, func(a *agent.Agent) { a.Start, kept = "third", a.Store })
	aside := func() (n int32, why string, agent string) {
		list, err := s.srv.API.Store.Agents(ctx)
		if err != nil {
			t.Fatal(err)
		}
		return list[0].SetAside, string(list[0].Aside), list[0].ID
	}
	eventually(t, "the quarantine", func() bool {
		n, why, _ := aside()
		return n >= 2 && strings.Contains(why, "nobody can tell when it was made: by its own clock at")
	})
	n, _, id := aside()
	s.manager.Must(http.MethodPost, "/agents/"+id+"/release", nil, nil)
	eventually(t, "the agent to do so", func() bool {
		saved, ok := kept.Saved()
		return ok && saved.Release != 0
	})
	if still, _ := kept.Aside(1); still != int64(n) {
		t.Errorf("%d were set aside, and after a release %d are", n, still)
	}
	for _, r := range s.latest(check, 1000) {
		if !h.near(r.At.Time()) {
			t.Errorf("a measurement stands at %s, and the target was not asked then", r.At)
		}
	}
}

// Measurements that the store could not keep are shown until somebody has seen it,
// and the agent's next process still knows.
func TestLossIsShownUntilSeen(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.check()
	kept, err := store.Open(s.dir, 1000)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := kept.Lose(3, span.Of(storetest.Now())); err != nil {
		t.Fatal(err)
	}
	kept.Close()
	var list struct {
		Items []struct {
			ID       string
			Lost     int64  `json:"lost"`
			LostSeen int64  `json:"lost_seen"`
			LostAt   string `json:"lost_at"`
		}
	}
	says := func(lost, seen int64) {
		t.Helper()
		eventually(t, "what is lost", func() bool {
			s.manager.Must(http.MethodGet, "/agents", nil, &list)
			return list.Items[0].Lost == lost && list.Items[0].LostSeen == seen && list.Items[0].LostAt != ""
		})
	}
	stop := s.start(s.srv.URL)
	says(3, 0)
	s.manager.Must(http.MethodPost, "/agents/"+list.Items[0].ID+"/lost/seen", map[string]any{"lost": 3}, nil)
	says(3, 3)
	stop()
	if kept, err = store.Open(s.dir, 1000); err != nil {
		t.Fatal(err)
	}
	if all, err := kept.Lose(2, span.Of(storetest.Now())); err != nil || all.Count != 5 {
		t.Fatalf("%+v, %v", all, err)
	}
	kept.Close()
	s.start(s.srv.URL)
	says(5, 3)
}
