// Package chaos lets three servers and their agents on one PostgreSQL live
// through whatever can happen to them, and looks afterwards whether anything was
// lost, doubled or computed wrongly.
package chaos

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/agent"
	"kestite/agent/wire"
	"kestite/core/access"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/server/servertest"
)

// mostP99 is how long 99 of 100 requests of agents to running servers may take.
const mostP99 = 5 * time.Second

func TestNothingSticks(t *testing.T) {
	long, err := time.ParseDuration(os.Getenv("KESTITE_CHAOS"))
	if err != nil {
		t.Fatalf("KESTITE_CHAOS: %v", err)
	}
	seed := uint64(time.Now().UnixNano())
	t.Logf("%s, seed %d", long, seed)
	f := newFleet(t)
	run, end := context.WithTimeout(t.Context(), long)
	defer end()
	s := &sender{f: f, acknowledged: map[point]bool{}}
	var all sync.WaitGroup
	for n := range locations {
		all.Go(func() { s.send(run, n, rand.New(rand.NewPCG(seed, uint64(n)))) })
	}
	admin := servertest.As(t, f.inside, f.at[0], access.Viewer)
	for n := range 4 {
		all.Go(func() { s.read(run, admin, n) })
	}
	all.Go(func() { s.linger(run, rand.New(rand.NewPCG(seed, 100))) })
	all.Go(func() { s.silence(run) })
	s.harm(run, rand.New(rand.NewPCG(seed, 200)))
	all.Wait()
	s.calm()
	s.report()
	s.examine()
}

type point struct {
	check, location string
	at              span.Instant
}

// sender is whoever makes trouble and remembers what was promised.
type sender struct {
	f *fleet

	mu           sync.Mutex
	acknowledged map[point]bool
	took         []time.Duration // of requests to servers that ran all the while
	outages      [][2]time.Time  // of the database

	sent, refused, failed, reads, harms atomic.Int64
}

// send sends batches as an agent would, hostile rows among good ones, late ones
// and doubles; it remembers what a server said it stored.
func (s *sender) send(ctx context.Context, n int, r *rand.Rand) {
	var clients []*agent.Client
	for _, at := range s.f.at {
		clients = append(clients, agent.NewClient(at, s.f.hostile[n]))
	}
	location := fmt.Sprintf("hostile-location-%d", n)
	var last []wire.Measurement
	for ctx.Err() == nil {
		list := s.batch(r, n)
		if last != nil && r.IntN(5) == 0 {
			list = append(list, last[:r.IntN(len(last))]...) // sent again
		}
		last = list
		to := r.IntN(servers)
		began := time.Now()
		receipt, err := clients[to].Deliver(context.WithoutCancel(ctx), wire.Batch{Measurements: list})
		s.timed(to, began)
		if err != nil {
			s.failed.Add(1)
			time.Sleep(100 * time.Millisecond)
			continue
		}
		s.sent.Add(int64(len(list)))
		s.refused.Add(int64(len(receipt.Refused)))
		s.acknowledge(location, list, receipt)
		time.Sleep(time.Duration(r.IntN(150)) * time.Millisecond)
	}
}

func (s *sender) acknowledge(location string, list []wire.Measurement, receipt wire.Receipt) {
	refused := map[int]bool{}
	for _, x := range receipt.Refused {
		refused[x.Index] = true
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for i, m := range list {
		if !refused[i] {
			s.acknowledged[point{m.Check, location, m.At}] = true
		}
	}
}

// batch makes up to 400 measurements: in time, late, on days that have no
// partition, with texts and numbers that cannot be kept, of nothing, from the future.
func (s *sender) batch(r *rand.Rand, n int) []wire.Measurement {
	now := span.Of(time.Now())
	var out []wire.Measurement
	for range 1 + r.IntN(400) {
		m := wire.Measurement{
			Check: fmt.Sprintf("hostile-%d", r.IntN(checksHostile)), Outcome: measure.Outcome(r.IntN(4)),
			Measures: map[string]float64{"total_ms": r.Float64() * 1000},
		}
		m.At = now.Add(-r.Int64N(3 * span.Minute))
		switch r.IntN(60) {
		case 0:
			m.At = now.Add(-r.Int64N(28 * span.Day))
		case 1:
			m.Detail = "nul \x00 and \xff"
		case 2:
			m.Detail = strings.Repeat("long ", 10_000)
		case 3:
			m.Measures = map[string]float64{"total_ms": 1e300, "dns_ms": -1e39}
		case 4:
			m.Check = "nothing of that name"
		case 5:
			m.At = now.Add(5 * span.Minute)
		case 6:
			m.Measures = map[string]float64{"wind_ms": 4}
		case 7:
			m.Findings = &measure.Findings{Remote: "\x00", Answers: []string{`\u0000`, strings.Repeat("y", r.IntN(200<<10))}}
		case 8:
			m.LateMS = math.MaxInt64
		}
		out = append(out, m)
	}
	return out
}

// timed notes how long a request to a server took that ran all the while, and so
// did the database; what others did, and held, does not matter.
func (s *sender) timed(to int, began time.Time) {
	took := time.Since(began)
	if up, since := s.f.servers[to].alive(); !up || since.After(began.Add(-time.Second)) {
		return // stopped, killed, or just back
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, o := range s.outages {
		if began.Before(o[1].Add(2*time.Second)) && time.Now().After(o[0]) {
			return
		}
	}
	s.took = append(s.took, took)
}

// read looks at screens as browsers do.
func (s *sender) read(ctx context.Context, c *servertest.Client, n int) {
	for i := n; ctx.Err() == nil; i++ {
		path := []string{"/standing", "/services/strips", "/services/hostile-1/span", "/states", "/agents"}[i%5]
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, s.f.at[i%servers]+"/api/v1"+path, nil)
		if err != nil {
			s.f.t.Error(err)
			return
		}
		resp, err := (&http.Client{Jar: c.HTTP.Jar, Timeout: 20 * time.Second}).Do(req)
		if err == nil {
			text, err := io.ReadAll(resp.Body)
			resp.Body.Close()
			if err == nil && resp.StatusCode == http.StatusOK {
				s.reads.Add(1)
				if !bytes.HasPrefix(text, []byte("{")) || bytes.Contains(text, []byte("error marshaling")) {
					s.f.t.Errorf("%s: half an answer: %.200s", path, text)
				}
			}
		}
		time.Sleep(200 * time.Millisecond)
	}
}

// linger reads measurements and keeps its transaction open, as a dump or a
// person at a prompt does.
func (s *sender) linger(ctx context.Context, r *rand.Rand) {
	for ctx.Err() == nil {
		conn, err := pgx.Connect(ctx, s.f.url)
		if err == nil {
			conn.Exec(ctx, "BEGIN; SELECT count(*) FROM measurement; SELECT count(*) FROM findings")
			sleep(ctx, time.Duration(8+r.IntN(20))*time.Second)
			conn.Close(context.Background())
		}
		sleep(ctx, time.Duration(1+r.IntN(5))*time.Second)
	}
}

// silence measures many services at once, and then no more for a while.
func (s *sender) silence(ctx context.Context) {
	client := s.f.client(0, 1)
	for ctx.Err() == nil {
		at := span.Of(time.Now())
		var list []wire.Measurement
		for i := range silent {
			list = append(list, wire.Measurement{Check: fmt.Sprintf("silent-%d", i), At: at.Add(int64(i)), Outcome: measure.OK})
		}
		if receipt, err := client.Deliver(ctx, wire.Batch{Measurements: list}); err == nil {
			s.acknowledge("hostile-location-0", list, receipt)
		}
		sleep(ctx, 25*time.Second)
	}
}

func sleep(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// harm does to servers and database what happens to them, one thing after the other.
func (s *sender) harm(ctx context.Context, r *rand.Rand) {
	kinds := []func(context.Context, *rand.Rand){s.kill, s.stop, s.restart, s.crash, s.newDay, s.stop, s.kill}
	for n := 0; ctx.Err() == nil; n++ {
		sleep(ctx, time.Duration(2+r.IntN(4))*time.Second)
		if ctx.Err() != nil {
			return
		}
		kinds[n%len(kinds)](ctx, r)
		s.harms.Add(1)
	}
}

func (s *sender) kill(ctx context.Context, r *rand.Rand) {
	p := s.f.servers[r.IntN(servers)]
	p.signal(syscall.SIGKILL)
	p.gone()
	sleep(ctx, time.Duration(r.IntN(3000))*time.Millisecond)
	s.again(p)
}

// again starts a server until it stays: the database may be away.
func (s *sender) again(p *process) {
	for range 60 {
		p.start(s.f.t)
		time.Sleep(time.Second)
		if up, _ := p.alive(); up {
			return
		}
	}
	s.f.t.Errorf("%s does not start any more", p.name)
}

func (s *sender) stop(ctx context.Context, r *rand.Rand) {
	p := s.f.servers[r.IntN(servers)]
	p.signal(syscall.SIGSTOP)
	sleep(ctx, time.Duration(4+r.IntN(12))*time.Second)
	p.signal(syscall.SIGCONT)
}

func (s *sender) restart(ctx context.Context, _ *rand.Rand) { s.away(ctx, s.f.pg.Stop) }
func (s *sender) crash(ctx context.Context, _ *rand.Rand)   { s.away(ctx, s.f.pg.Crash) }

// away takes the database away and brings it back.
func (s *sender) away(ctx context.Context, take func(context.Context) error) {
	began := time.Now()
	s.mu.Lock()
	s.outages = append(s.outages, [2]time.Time{began, began.Add(time.Hour)})
	s.mu.Unlock()
	ctx = context.WithoutCancel(ctx)
	if err := take(ctx); err != nil {
		s.f.t.Errorf("end the database: %v", err)
	}
	if err := s.f.pg.Again(ctx); err != nil {
		s.f.t.Errorf("start the database: %v", err)
	}
	s.mu.Lock()
	s.outages[len(s.outages)-1][1] = time.Now()
	s.mu.Unlock()
}

// newDay takes away the partitions of the coming days and of the last one that
// has no rows, as if a day began that nobody had made ready for.
func (s *sender) newDay(ctx context.Context, _ *rand.Rand) {
	conn, err := pgx.Connect(ctx, s.f.url)
	if err != nil {
		return
	}
	defer conn.Close(context.Background())
	for n := 1; n <= 7; n++ {
		for _, table := range []string{"measurement", "findings"} {
			day := time.Now().UTC().AddDate(0, 0, n).Format("20060102")
			conn.Exec(ctx, fmt.Sprintf("SET lock_timeout = '200ms'; ALTER TABLE %s DETACH PARTITION %s_%s; DROP TABLE %s_%s", table, table, day, table, day))
		}
	}
	if err := s.f.inside.API.Store.EnsurePartitionsAhead(ctx, time.Now()); err != nil && ctx.Err() == nil {
		s.f.t.Errorf("partitions ahead while people read: %v", err)
	}
}

// calm brings everything back, lets the agents deliver what they have, and ends them.
func (s *sender) calm() {
	t := s.f.t
	for _, p := range s.f.servers {
		p.signal(syscall.SIGCONT)
		if up, _ := p.alive(); !up {
			s.again(p)
		}
	}
	for _, at := range s.f.at {
		s.f.awaitReady(at)
	}
	s.until("agents to deliver all", func() bool {
		rows, err := s.f.inside.API.Store.Agents(t.Context())
		if err != nil {
			return false
		}
		for _, a := range rows {
			if strings.HasPrefix(a.Location, "location-") && (a.SeenAt == nil || time.Since(*a.SeenAt) > 15*time.Second || a.Backlog > 2*checksEach) {
				return false
			}
		}
		return true
	})
	for _, p := range s.f.agents {
		p.signal(syscall.SIGTERM)
		if !p.gone() {
			t.Errorf("%s does not end", p.name)
		}
	}
	s.deliverRest()
	s.until("nothing to wait to be judged", func() bool {
		waiting, err := s.f.inside.Judge.Waiting(t.Context())
		return err == nil && len(waiting) == 0
	})
}

// deliverRest runs each agent once more with nothing to measure any more, so
// that what it had measured when it ended is delivered.
func (s *sender) deliverRest() {
	for n, p := range s.f.agents {
		rest, err := left(s.f.dir + fmt.Sprintf("/location-%d", n))
		if err != nil {
			s.f.t.Errorf("%s: %v", p.name, err)
			continue
		}
		client := agent.NewClient(s.f.at[0], tokenOf(s.f, n))
		if len(rest) > 0 {
			if receipt, err := client.Deliver(s.f.t.Context(), wire.Batch{Measurements: rest}); err != nil || len(receipt.Refused) > 0 {
				s.f.t.Errorf("%s: the rest: %+v %v", p.name, receipt, err)
			}
		}
	}
}

func (s *sender) until(what string, is func() bool) {
	s.f.t.Helper()
	for end := time.Now().Add(2 * time.Minute); ; time.Sleep(500 * time.Millisecond) {
		if is() {
			return
		}
		if time.Now().After(end) {
			s.f.t.Fatalf("waited two minutes for %s", what)
		}
	}
}

// report says what was done and how long agents' requests took.
func (s *sender) report() {
	slices.Sort(s.took)
	if len(s.took) == 0 {
		s.f.t.Fatal("no request was made while all servers ran")
	}
	at := func(q float64) time.Duration { return s.took[int(q*float64(len(s.took)-1))] }
	s.f.t.Logf("%d measurements sent (%d refused with a reason, %d requests failed), %d harms, %d pages read; "+
		"%d requests to running servers: p50 %s, p99 %s, longest %s",
		s.sent.Load(), s.refused.Load(), s.failed.Load(), s.harms.Load(), s.reads.Load(), len(s.took),
		at(0.5).Round(time.Millisecond), at(0.99).Round(time.Millisecond), at(1).Round(time.Millisecond))
	if at(0.99) > mostP99 {
		s.f.t.Errorf("of 100 requests of agents to running servers one took longer than %s", at(0.99))
	}
	if s.reads.Load() == 0 {
		s.f.t.Error("no page could be read")
	}
}
