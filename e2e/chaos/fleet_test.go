package chaos

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"kestite/agent"
	"kestite/cmd/kestite/cli"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/server"
	"kestite/server/defining"
	"kestite/server/servertest"
	"kestite/server/store/cluster"
	"kestite/server/trail"
)

// asProgram makes the test binary the kestite program: servers and agents here
// are processes that can be killed and stopped.
const asProgram = "KESTITE_CHAOS_PROGRAM"

func TestMain(m *testing.M) {
	if os.Getenv(asProgram) != "" {
		if err := cli.Root().Execute(); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	if os.Getenv("KESTITE_CHAOS") == "" {
		fmt.Println("the harm was left out; it goes on for as long as KESTITE_CHAOS says, as make test and make soak do")
		return
	}
	os.Exit(m.Run())
}

// process is a server or an agent.
type process struct {
	name string
	args []string
	log  *os.File

	mu      sync.Mutex
	cmd     *exec.Cmd
	stopped bool      // by SIGSTOP
	since   time.Time // when it was last started, stopped or let go on
}

// start runs it and keeps it running: one that ends by itself is started again,
// as whatever looks after services would.
func (p *process) start(t *testing.T) {
	t.Helper()
	p.mu.Lock()
	defer p.mu.Unlock()
	cmd := exec.Command(os.Args[0], p.args...)
	cmd.Env = append(os.Environ(), asProgram+"=1")
	cmd.Stdout, cmd.Stderr = p.log, p.log
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := cmd.Start(); err != nil {
		t.Fatalf("start %s: %v", p.name, err)
	}
	p.cmd, p.stopped, p.since = cmd, false, time.Now()
	go func() {
		cmd.Wait()
		p.mu.Lock()
		if p.cmd == cmd {
			p.cmd, p.since = nil, time.Now()
		}
		p.mu.Unlock()
	}()
}

func (p *process) signal(s syscall.Signal) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.cmd != nil {
		p.cmd.Process.Signal(s)
		p.stopped, p.since = s == syscall.SIGSTOP, time.Now()
	}
}

// alive says whether it runs, and since when that is so.
func (p *process) alive() (bool, time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.cmd != nil && !p.stopped, p.since
}

// gone waits for it to end.
func (p *process) gone() bool {
	for range 300 {
		if up, _ := p.alive(); !up {
			return true
		}
		time.Sleep(100 * time.Millisecond)
	}
	return false
}

// target counts the measurements made of it, by path.
type target struct {
	*httptest.Server
	mu    sync.Mutex
	count map[string]int
}

func newTarget() *target {
	t := &target{count: map[string]int{}}
	t.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		t.mu.Lock()
		t.count[r.URL.Path]++
		n := t.count[r.URL.Path]
		t.mu.Unlock()
		if n%17 > 13 { // fails now and then, three in a row
			w.WriteHeader(http.StatusInternalServerError)
		}
		fmt.Fprint(w, "ok")
	}))
	return t
}

func (t *target) counted() map[string]int {
	t.mu.Lock()
	defer t.mu.Unlock()
	out := map[string]int{}
	for k, v := range t.count {
		out[k] = v
	}
	return out
}

// desk takes what is told of incidents, and fails now and then; it counts what it took.
type desk struct {
	*httptest.Server
	mu    sync.Mutex
	asked int
	took  map[string]int // by the key that tells messages apart
}

func newDesk() *desk {
	d := &desk{took: map[string]int{}}
	d.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		d.mu.Lock()
		defer d.mu.Unlock()
		if d.asked++; d.asked%11 == 0 {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		d.took[r.Header.Get("Idempotency-Key")]++
	}))
	return d
}

func (d *desk) taken() map[string]int {
	d.mu.Lock()
	defer d.mu.Unlock()
	return maps.Clone(d.took)
}

// fleet is three servers, each location's agent, and one PostgreSQL.
type fleet struct {
	t       *testing.T
	dir     string
	pg      *cluster.Cluster
	url     string         // of the database
	inside  *server.Server // not started: definitions, and a look at what is stored
	servers []*process
	at      []string // their addresses
	agents  []*process
	target  *target
	desk    *desk
	hostile []string // tokens for the hostile sender, one a location
}

const (
	servers       = 3
	locations     = 3
	checksEach    = 10 // measured for real, at each location
	checksHostile = 40 // that the hostile sender sends for
	silent        = 300
	interval      = 5 // s
)

func newFleet(t *testing.T) *fleet {
	t.Helper()
	ctx := t.Context()
	dir, err := os.MkdirTemp("/var/tmp", "kestite-chaos-")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	f := &fleet{t: t, dir: dir, target: newTarget(), desk: newDesk()}
	t.Cleanup(func() {
		for _, p := range append(f.agents, f.servers...) {
			p.signal(syscall.SIGKILL)
			p.log.Close()
		}
		f.target.Close()
		f.desk.Close()
		if f.inside != nil {
			f.inside.Close()
		}
		if f.pg != nil {
			f.pg.Stop(context.Background())
		}
		if t.Failed() && os.Getenv("KESTITE_CHAOS") != "" { // a soak that found something
			t.Logf("all of it is kept in %s", dir)
			return
		}
		os.RemoveAll(dir)
	})
	if f.pg, err = cluster.Start(ctx, filepath.Join(dir, "postgres"), cluster.Settings{"shared_buffers": "256MB", "max_wal_size": "1GB"}); err != nil {
		t.Fatal(err)
	}
	key := filepath.Join(dir, "secrets.key")
	o := server.Options{KeyFile: key, Organisation: "Skerry Line", Timezone: "Europe/Oslo", Log: slog.New(slog.DiscardHandler)}
	if o.DatabaseURL, f.url, err = f.pg.Roles(ctx, "postgres"); err != nil {
		t.Fatal(err)
	}
	if err := server.Migrate(ctx, o, cluster.Worker); err != nil {
		t.Fatal(err)
	}
	o.DatabaseURL = f.url + "&pool_max_conns=16"
	if f.inside, err = server.Build(ctx, o); err != nil {
		t.Fatal(err)
	}
	f.define()
	for n := range servers {
		address := freeAddress(t)
		f.at = append(f.at, "http://"+address)
		f.servers = append(f.servers, f.process(fmt.Sprintf("server-%d", n), "serve", "--database", f.url, "--listen", address, "--key-file", key,
			"--send-to", "127.0.0.1", "--log-level", "warn"))
	}
	for n := range locations {
		location := fmt.Sprintf("location-%d", n)
		token := filepath.Join(dir, location+".token")
		if err := os.WriteFile(token, []byte(servertest.Agent(t, f.inside, location)), 0o600); err != nil {
			t.Fatal(err)
		}
		data := filepath.Join(dir, location)
		if err := os.Mkdir(data, 0o700); err != nil {
			t.Fatal(err)
		}
		// Each begins with another server.
		urls := strings.Join(append(append([]string{}, f.at[n%servers:]...), f.at[:n%servers]...), ",")
		f.agents = append(f.agents, f.process("agent-"+location, "agent", "--server", urls, "--token-file", token, "--data", data,
			"--allow", "127.0.0.0/8", "--log-level", "warn"))
	}
	for _, p := range f.servers {
		p.start(t)
	}
	for _, at := range f.at {
		f.awaitReady(at)
	}
	for _, p := range f.agents {
		p.start(t)
	}
	time.Sleep(2 * time.Second)
	for _, p := range f.agents {
		if up, _ := p.alive(); !up {
			text, _ := os.ReadFile(p.log.Name())
			t.Fatalf("%s ended: %s", p.name, text)
		}
	}
	return f
}

func freeAddress(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().String()
}

func (f *fleet) process(name string, args ...string) *process {
	log, err := os.Create(filepath.Join(f.dir, name+".log"))
	if err != nil {
		f.t.Fatal(err)
	}
	return &process{name: name, args: args, log: log}
}

func (f *fleet) awaitReady(at string) {
	f.t.Helper()
	for range 600 {
		if resp, err := http.Get(at + "/readyz"); err == nil {
			resp.Body.Close()
			if resp.StatusCode == http.StatusOK {
				return
			}
		}
		time.Sleep(100 * time.Millisecond)
	}
	f.t.Fatalf("%s does not get ready", at)
}

// define describes what is measured: checks that agents measure for real, each
// at one location and with a path of its own, checks that the hostile sender
// sends for, and services that fall silent together.
func (f *fleet) define() {
	ch := defining.Change{By: trail.By{Name: "chaos"}, At: time.Now().Add(-29 * 24 * time.Hour)}
	var places, services, checks []catalogue.Step
	place := func(id string) {
		places = append(places, catalogue.Step{Does: catalogue.Make, Kind: catalogue.Location, ID: id, Spec: definition.LocationSpec{Name: id}})
	}
	serve := func(id string) {
		services = append(services, catalogue.Step{Does: catalogue.Make, Kind: catalogue.Service, ID: id, Spec: definition.ServiceSpec{Name: id, Kind: "business", Combine: "worst"}})
	}
	check := func(id, service string, seconds int64, at ...string) {
		checks = append(checks, catalogue.Step{Does: catalogue.Make, Kind: catalogue.Check, ID: id, Spec: definition.CheckSpec{
			Service: service, Name: id, Kind: "http", Target: f.target.URL + "/" + id, IntervalS: seconds, TimeoutMS: 2000, StaleAfterS: 3 * seconds,
			Confirm: 2, Recover: 2, Quorum: "majority", Role: "decides", Locations: at,
		}})
	}
	var hostile []string
	for n := range locations {
		location := fmt.Sprintf("location-%d", n)
		place(location)
		place("hostile-" + location)
		hostile = append(hostile, "hostile-"+location)
		for i := range checksEach {
			service := fmt.Sprintf("real-%d-%d", n, i)
			serve(service)
			check(service, service, interval, location)
		}
	}
	for i := range checksHostile {
		service := fmt.Sprintf("hostile-%d", i)
		serve(service)
		check(service, service, 60, hostile...)
	}
	for i := range silent {
		service := fmt.Sprintf("silent-%d", i)
		serve(service)
		check(service, service, interval, hostile[0])
	}
	told := []catalogue.Step{
		{Does: catalogue.Make, Kind: catalogue.Contact, ID: "desk", Spec: definition.ContactSpec{Name: "Desk", Kind: definition.Webhook, Address: f.desk.URL + "/in"}},
		{Does: catalogue.Make, Kind: catalogue.NoticePlan, ID: "all", Spec: definition.NoticePlanSpec{Name: "All", Everywhere: true,
			Steps: []definition.NoticeStep{{Tell: []definition.Recipient{{Contact: "desk"}}}}}},
	}
	for _, steps := range [][]catalogue.Step{places, services, checks, told[:1], told[1:]} {
		if _, err := f.inside.API.Definitions.Apply(f.t.Context(), ch, steps...); err != nil {
			f.t.Fatal(err)
		}
	}
	for _, l := range hostile {
		f.hostile = append(f.hostile, servertest.Agent(f.t, f.inside, l))
	}
}

// clients are the hostile sender's, each beginning with another server.
func (f *fleet) client(location, first int) *agent.Client {
	urls := append(append([]string{}, f.at[first%servers:]...), f.at[:first%servers]...)
	return agent.NewClient(strings.Join(urls, ","), f.hostile[location])
}
