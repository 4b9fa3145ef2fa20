package agent_test

import (
	"log/slog"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"kestite/agent"
	"kestite/agent/store"
	"kestite/agent/wire"
	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/server/servertest"
	"kestite/server/share"
	"kestite/server/store/storetest"
)

// second starts another agent at the site's location, with a store of its own.
func (s *site) second(token, url string) (stop func()) {
	s.t.Helper()
	other := *s
	other.dir, other.token = s.t.TempDir(), token
	return other.start(url)
}

// Two agents, each at a server of its own on one database, share a location's
// checks; when one is lost, the other takes its checks over, and no check is
// measured twice.
func TestAgentsShareAndTakeOver(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	token := servertest.Agent(t, s.srv, "tolvik")
	stopFirst := s.start(s.srv.URL)
	s.second(token, storetest.Started(t, storetest.On(s.srv)).URL)
	var checks []string
	for range 8 {
		checks = append(checks, s.check())
	}
	roster := func() []string {
		list, err := s.srv.API.Rosters.Current(ctx, "tolvik")
		if err != nil {
			t.Fatal(err)
		}
		return list
	}
	eventually(t, "both agents to share", func() bool { return len(roster()) == 2 })
	held := map[string]int{}
	for _, c := range checks {
		held[share.Holder(roster(), c)]++
	}
	if len(held) != 2 {
		t.Fatalf("all checks are held by one: %v", held)
	}
	eventually(t, "all to be measured", func() bool {
		for _, c := range checks {
			if len(s.rows(c)) < 2 {
				return false
			}
		}
		return true
	})
	stopFirst()
	lost := storetest.Now()
	eventually(t, "the other to take over", func() bool { return len(roster()) == 1 })
	eventually(t, "all to be measured again", func() bool {
		for _, c := range checks {
			rows := s.rows(c)
			if rows[len(rows)-1].At.Time().Before(lost.Add(share.LostAfter)) {
				return false
			}
		}
		return true
	})
	for _, c := range checks {
		rows := s.rows(c)
		for i := 1; i < len(rows); i++ {
			switch gap := rows[i].At.Time().Sub(rows[i-1].At.Time()); {
			case gap < 3*time.Second:
				t.Errorf("%s was measured twice, %s apart", c, gap)
			case gap > 30*time.Second+5*time.Second+5*time.Second: // the takeover, the interval, a busy machine
				t.Errorf("%s was not measured for %s", c, gap)
			}
		}
	}
}

// An agent whose reference targets are silent blames itself.
func TestCutOffIsNoFailure(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	reference := strings.TrimPrefix(s.target.URL, "http://")
	edit := func(references ...string) {
		t.Helper()
		s.manager.Must(http.MethodPut, "/locations/tolvik",
			map[string]any{"revision": s.manager.Revision("/locations/tolvik"),
				"spec": map[string]any{"name": "Tolvik", "references": references}}, nil)
	}
	edit(reference)
	check := s.check()
	s.start(s.srv.URL)
	eventually(t, "a measurement", func() bool { return len(s.rows(check)) > 0 })
	s.target.Close() // the check's target and the reference are one: the whole world is gone
	last := func() (measure.Outcome, string) {
		rows := s.rows(check)
		r := rows[len(rows)-1]
		return r.Outcome, r.Detail
	}
	eventually(t, "an error of its own", func() bool {
		o, detail := last()
		return o == measure.Error && strings.Contains(detail, "the agent is cut off: none of its reference targets answers ("+reference+")")
	})
	eventually(t, "the agent to say so", func() bool {
		list, err := s.srv.API.Store.Agents(ctx)
		return err == nil && strings.Contains(list[0].CutOff, "cut off")
	})
	edit(reference, "127.0.0.1") // one that answers
	eventually(t, "a failure of the target", func() bool {
		o, detail := last()
		return o == measure.Failed && strings.Contains(detail, "refused")
	})
}

// While a failure is not confirmed the check is repeated sooner than its interval.
func TestRetriesComeSooner(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.target.Close()
	check := s.manager.Create("/checks", servertest.Check(s.service, []string{"tolvik"}, func(c map[string]any) {
		c["target"], c["interval_s"], c["stale_after_s"], c["timeout_ms"], c["confirm"], c["retry_s"] = s.target.URL, 12, 60, 500, 3, 2
	}))
	s.start(s.srv.URL)
	eventually(t, "a failure confirmed and one more", func() bool { return len(s.rows(check)) >= 4 })
	rows := s.rows(check)
	for i, want := range []time.Duration{2 * time.Second, 2 * time.Second} {
		if gap := rows[i+1].At.Time().Sub(rows[i].At.Time()); gap < want-time.Second/2 || gap > want+4*time.Second {
			t.Errorf("failure %d came %s after the one before, want %s", i+2, gap, want)
		}
	}
	if gap := rows[3].At.Time().Sub(rows[2].At.Time()); gap < 5*time.Second {
		t.Errorf("after the failure was confirmed the next came %s later", gap)
	}
}

// A location's budget is kept to, and what it keeps from being measured is no failure.
func TestRatesAreKept(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.manager.Must(http.MethodPut, "/locations/tolvik", map[string]any{"revision": s.manager.Revision("/locations/tolvik"),
		"spec": map[string]any{"name": "Tolvik", "rates": definition.Rates{PerDay: 2}}}, nil)
	check := s.check()
	s.start(s.srv.URL)
	eventually(t, "three measurements", func() bool { return len(s.rows(check)) >= 3 })
	for i, r := range s.rows(check)[:3] {
		want := measure.OK
		if i == 2 {
			want = measure.Error
		}
		if r.Outcome != want || want == measure.Error && !strings.Contains(r.Detail, "2 measurements of the day are used up") {
			t.Errorf("measurement %d: %+v", i+1, r)
		}
	}
}

// What is too old to be delivered is dropped, and the agent says so.
func TestOldMeasurementsExpireLoudly(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	check := s.check()
	stop := s.start(s.srv.URL)
	eventually(t, "a measurement", func() bool { return len(s.rows(check)) > 0 })
	stop()
	kept, err := store.Open(s.dir, 1000)
	if err != nil {
		t.Fatal(err)
	}
	left, err := kept.Oldest(0, 100, 1<<20) // what was measured as it stopped would stand before it
	if err != nil {
		t.Fatal(err)
	}
	for _, l := range left {
		if err := kept.Forget(l.Key); err != nil {
			t.Fatal(err)
		}
	}
	rows := s.rows(check)
	m := measurement(check, rows[0].At.Time().Add(-agent.MostAge-time.Hour))
	if _, err := kept.Add(m, nil); err != nil {
		t.Fatal(err)
	}
	kept.Close()
	has := func(list []store.Kept) bool {
		return slices.ContainsFunc(list, func(l store.Kept) bool { return l.At == m.At })
	}
	var queue *store.Store
	stop = s.start("http://127.0.0.1:1", func(a *agent.Agent) { queue = a.Store }) // the server is away
	eventually(t, "it to be dropped", func() bool {
		list, err := queue.Oldest(0, 10, 1<<20)
		return err == nil && !has(list)
	})
	stop()
	again, err := store.Open(s.dir, 1000)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	list, err := again.Oldest(0, 10, 1<<20)
	if err != nil {
		t.Fatal(err)
	}
	if has(list) {
		t.Error("a measurement from before the time that the server takes is still kept")
	}
}

func measurement(check string, at time.Time) wire.Measurement {
	return wire.Measurement{Check: check, At: span.Of(at), Outcome: measure.OK}
}

// Two processes with one token: one measures, the other says why it does not.
func TestOneProcessAToken(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	check := s.check()
	s.start(s.srv.URL)
	eventually(t, "a measurement", func() bool { return len(s.rows(check)) > 0 })
	var log servertest.Log
	second := *s
	second.dir = t.TempDir()
	second.start(s.srv.URL, func(a *agent.Agent) { a.Log = slog.New(slog.NewTextHandler(&log, nil)) })
	eventually(t, "the second to be refused", func() bool { return strings.Contains(log.String(), "Another process works with this agent's token") })
	n := len(s.rows(check))
	eventually(t, "three more", func() bool { return len(s.rows(check)) >= n+3 })
	rows := s.rows(check)
	for i := 1; i < len(rows); i++ {
		if gap := rows[i].At.Time().Sub(rows[i-1].At.Time()); gap < 3*time.Second {
			t.Errorf("measured twice, %s apart", gap)
		}
	}
}
