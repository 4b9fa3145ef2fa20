package agent_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"kestite/agent"
	"kestite/agent/store"
	"kestite/agent/wire"
	"kestite/core/access"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/instrument"
	"kestite/server"
	"kestite/server/servertest"
	"kestite/server/store/raw"
	"kestite/server/store/storetest"
)

func TestMain(m *testing.M) { storetest.Parallel(m, 12) } // they wait more than others

var ctx = context.Background()

// patience bounds waits; nothing is asserted about how long things take.
const patience = 30 * time.Second

func eventually(t *testing.T, what string, ok func() bool) {
	t.Helper()
	for end := storetest.Now().Add(patience); ; time.Sleep(50 * time.Millisecond) {
		if ok() {
			return
		}
		if storetest.Now().After(end) {
			t.Fatalf("waited %s for %s", patience, what)
		}
	}
}

// site is a server with a target, and agents that can be started and stopped.
type site struct {
	t       *testing.T
	srv     *server.Server
	manager *servertest.Client
	service string
	target  *httptest.Server
	dir     string
	token   string
}

func newSite(t *testing.T) *site {
	t.Helper()
	srv := storetest.Started(t)
	s := &site{t: t, srv: srv, dir: t.TempDir()}
	s.target = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "ok") }))
	t.Cleanup(s.target.Close)
	s.manager = servertest.As(t, srv, srv.URL, access.Manager)
	s.manager.Create("/locations", map[string]any{"name": "Tolvik"})
	s.service = s.manager.Create("/services", map[string]any{"name": "Tickets", "kind": "business", "combine": "worst"})
	s.token = servertest.Agent(t, srv, "tolvik")
	return s
}

func (s *site) check() string {
	return s.manager.Create("/checks", servertest.Check(s.service, []string{"tolvik"}, func(c map[string]any) {
		c["target"], c["interval_s"], c["stale_after_s"] = s.target.URL, 5, 20
	}))
}

// start runs an agent against url; the returned function stops it.
func (s *site) start(url string, change ...func(*agent.Agent)) (stop func()) {
	s.t.Helper()
	kept, err := store.Open(s.dir, 1000)
	if err != nil {
		s.t.Fatal(err)
	}
	a := &agent.Agent{Client: agent.NewClient(url, s.token), Store: kept, Version: "test", Log: slog.New(slog.DiscardHandler),
		Policy: instrument.LocalPolicy(), Now: storetest.Now}
	for _, c := range change {
		c(a)
	}
	running, end := context.WithCancel(ctx)
	done := make(chan error, 1)
	go func() { done <- a.Run(running) }()
	stopped := false
	stop = func() {
		if stopped {
			return
		}
		stopped = true
		end()
		if err := <-done; err != nil {
			s.t.Errorf("agent: %v", err)
		}
		kept.Close()
	}
	s.t.Cleanup(stop)
	return stop
}

func (s *site) rows(check string) []raw.Row {
	s.t.Helper()
	lanes, err := s.srv.API.Store.LanesOfChecks(ctx, []string{check})
	if err != nil {
		s.t.Fatal(err)
	}
	if len(lanes) == 0 {
		return nil
	}
	rows, err := raw.During(ctx, s.srv.API.Store.Queries, lanes[0].ID, span.Of(storetest.Now().Add(-time.Hour)), span.Of(storetest.Now().Add(time.Hour)))
	if err != nil {
		s.t.Fatal(err)
	}
	return rows
}

// An agent hears of new checks, measures for real, and hears when they end.
func TestAgentMeasuresWhatItIsAssigned(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.start(s.srv.URL)
	eventually(t, "the agent to be seen", func() bool {
		list, err := s.srv.API.Store.Agents(ctx)
		return err == nil && len(list) == 1 && list[0].SeenAt != nil
	})
	check := s.check() // after the agent began to wait for changes
	eventually(t, "measurements", func() bool { return len(s.rows(check)) >= 2 })
	rows := s.rows(check)
	if rows[0].Outcome != measure.OK ||
		rows[0].Value(measure.HTTP.Index("status")) != 200 {
		t.Errorf("measured %+v", rows[0])
	}
	for i := 1; i < len(rows); i++ {
		if gap := rows[i].At.Time().Sub(rows[i-1].At.Time()); gap < 3*time.Second {
			t.Errorf("two measurements %s apart at an interval of 5 s", gap)
		}
	}
	s.target.Close()
	eventually(t, "a failure with its reason", func() bool {
		rows := s.rows(check)
		last := rows[len(rows)-1]
		return last.Outcome == measure.Failed && strings.Contains(last.Detail, "refused")
	})
	eventually(t, "the service to be down", func() bool {
		states, err := s.srv.API.Store.States(ctx)
		return err == nil && len(states) == 1 && states[0].State == 3
	})
}

// A disk that is full loses nothing while a server answers, and the agent goes on when it
// is full no more.
func TestAFullDisk(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 { // a file system of its own needs root
		if out, err := exec.Command("sudo", "-n", os.Args[0], "-test.run", "^TestAFullDisk$").CombinedOutput(); err != nil {
			t.Fatalf("as root: %v\n%s", err, out)
		}
		return
	}
	s := newSite(t)
	if err := syscall.Mount("tmpfs", s.dir, "tmpfs", 0, "size=512k"); err != nil {
		t.Fatalf("a small disk to fill (as root): %v", err)
	}
	t.Cleanup(func() {
		if err := syscall.Unmount(s.dir, syscall.MNT_DETACH); err != nil {
			t.Error(err)
		}
	})
	check := s.check()
	filler := filepath.Join(s.dir, "filler")
	fill := func() {
		f, err := os.Create(filler)
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		for err == nil {
			_, err = f.Write(make([]byte, 4096))
		}
	}
	back, err := url.Parse(s.srv.URL)
	if err != nil {
		t.Fatal(err)
	}
	var away atomic.Bool
	pass := httputil.NewSingleHostReverseProxy(back)
	proxy := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if away.Load() && r.URL.Path == wire.PathBatches {
			http.Error(w, "away", http.StatusBadGateway)
			return
		}
		pass.ServeHTTP(w, r)
	}))
	t.Cleanup(proxy.Close)
	said := func(column string) (text string) {
		if err := s.srv.API.Store.Pool.QueryRow(ctx, "SELECT max("+column+"::text) FROM agent").Scan(&text); err != nil {
			t.Fatal(err)
		}
		return text
	}
	var queue *store.Store
	stop := s.start(proxy.URL, func(a *agent.Agent) { queue = a.Store })
	eventually(t, "a first measurement", func() bool { return len(s.rows(check)) > 0 })
	away.Store(true) // what is stored stays there
	fill()
	for err = nil; err == nil; {
		_, err = queue.Add(wire.Measurement{Check: "none", At: span.Of(storetest.Now()), Outcome: measure.OK, Detail: strings.Repeat("quay ", 200)}, nil)
	}
	eventually(t, "a complaint", func() bool { return strings.Contains(said("complaint"), "held in memory") })
	before := len(s.rows(check))
	away.Store(false)
	eventually(t, "measurements by way of memory", func() bool { return len(s.rows(check)) > before+1 })
	if n := said("lost"); n != "0" {
		t.Errorf("%s are said to be lost", n)
	}
	stop()
	if err := os.Remove(filler); err != nil {
		t.Fatal(err)
	}
	stop = s.start(proxy.URL)
	defer stop()
	now := len(s.rows(check))
	eventually(t, "measurements again", func() bool { return len(s.rows(check)) > now })
}

// While the server is away and across restarts of its own, an agent goes on
// measuring, and in the end the server has every measurement once.
func TestNothingIsLostOrDoubledWhileTheServerIsAway(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	check := s.check()
	back, err := url.Parse(s.srv.URL)
	if err != nil {
		t.Fatal(err)
	}
	var away atomic.Bool
	var swallowed atomic.Int64
	pass := httputil.NewSingleHostReverseProxy(back)
	proxy := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if away.Load() {
			http.Error(w, "away", http.StatusBadGateway)
			return
		}
		// Every other delivery reaches the server, but its receipt is lost.
		if r.URL.Path == wire.PathBatches && swallowed.Add(1)%2 == 1 {
			pass.ServeHTTP(httptest.NewRecorder(), r)
			http.Error(w, "lost on the way back", http.StatusBadGateway)
			return
		}
		pass.ServeHTTP(w, r)
	}))
	defer proxy.Close()
	var queue *store.Store
	watched := func(a *agent.Agent) { queue = a.Store }
	stop := s.start(proxy.URL, watched)
	eventually(t, "a first measurement", func() bool { return len(s.rows(check)) > 0 })
	away.Store(true)
	before := len(s.rows(check))
	waiting := func() int64 {
		kept, err := store.Open(s.dir, 1000)
		if err != nil {
			t.Fatal(err)
		}
		defer kept.Close()
		return kept.Backlog()
	}
	eventually(t, "a measurement that waits", func() bool { return queue.Backlog() > 0 })
	stop()
	first := waiting()
	if first == 0 {
		t.Fatal("nothing was kept while the server was away")
	}
	stop = s.start(proxy.URL, watched) // begins with what it knew: the server is still away
	eventually(t, "one more that waits", func() bool { return queue.Backlog() > first })
	stop()
	kept := waiting()
	if kept < 2 {
		t.Fatalf("%d measurements kept over a restart", kept)
	}
	away.Store(false)
	s.start(proxy.URL)
	eventually(t, "the kept measurements", func() bool { return len(s.rows(check)) >= before+int(kept) })
}

func TestAgentThatIsRefusedOrCannotReachTheServer(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	kept, err := store.Open(filepath.Join(t.TempDir()), 10)
	if err != nil {
		t.Fatal(err)
	}
	defer kept.Close()
	a := &agent.Agent{Client: agent.NewClient(s.srv.URL, "kesa_wrong"), Store: kept, Log: slog.New(slog.DiscardHandler),
		Policy: instrument.LocalPolicy()}
	var refused *agent.RefusedError
	if err := a.Run(ctx); !errors.As(err, &refused) || !strings.Contains(err.Error(), "not known") {
		t.Errorf("a wrong token: %v", err)
	}
	// An unreachable server is no reason to end: it may come back.
	brief, end := context.WithTimeout(ctx, 300*time.Millisecond)
	defer end()
	a = &agent.Agent{Client: agent.NewClient("http://127.0.0.1:9", s.token), Store: kept, Log: slog.New(slog.DiscardHandler),
		Policy: instrument.LocalPolicy()}
	if err := a.Run(brief); err != nil {
		t.Errorf("an unreachable server: %v", err)
	}
}

func TestTrialsAreMadeAtOnce(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.start(s.srv.URL)
	spec := servertest.Check(s.service, []string{"tolvik"}, func(c map[string]any) { c["target"] = s.target.URL })
	var refs struct{ Items []struct{ ID string } }
	s.manager.Must(http.MethodPost, "/trials", spec, &refs)
	var got struct {
		Items []struct {
			State, Outcome string
			Measures       map[string]float64
		}
	}
	eventually(t, "the trial's result", func() bool {
		s.manager.Must(http.MethodGet, "/trials?ids="+refs.Items[0].ID, nil, &got)
		return got.Items[0].State == "done"
	})
	if got.Items[0].Outcome != "ok" || got.Items[0].Measures["status"] != 200 {
		t.Errorf("%+v", got)
	}
}

func TestStoreDropsTheOldestWhenFull(t *testing.T) {
	kept, err := store.Open(t.TempDir(), 5)
	if err != nil {
		t.Fatal(err)
	}
	defer kept.Close()
	dropped := 0
	for i := range 8 {
		n, err := kept.Add(wire.Measurement{Check: "c", At: span.Instant(i), Outcome: measure.OK}, nil)
		if err != nil {
			t.Fatal(err)
		}
		dropped += n
	}
	list, err := kept.Oldest(0, 100, 1<<20)
	if err != nil || dropped != 3 || len(list) != 5 || list[0].At != 3 || kept.Backlog() != 5 {
		t.Errorf("dropped %d, kept %v, %v", dropped, list, err)
	}
	for _, k := range list {
		err = errors.Join(err, kept.Forget(k.Key))
	}
	if err != nil || kept.Backlog() != 0 {
		t.Errorf("backlog %d, %v", kept.Backlog(), err)
	}
	if _, err := store.Open(filepath.Dir(filepath.Join(t.TempDir(), "x")), 5); err != nil {
		t.Errorf("a fresh directory: %v", err)
	}
}
