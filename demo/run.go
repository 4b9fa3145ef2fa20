package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"kestite/server"
	"kestite/server/auth"
	"kestite/server/store/cluster"
	"kestite/server/store/gen/db"
	"kestite/standin"
	"kestite/web"
)

// Options configure a run of the demo.
type Options struct {
	Dir     string // everything of the demo is kept here
	Listen  string
	Binary  string // the kestite binary, run as the agents
	Version string
	At      time.Time // the present instant as the demo begins; zero: by this machine's clock
	Out     io.Writer
	Log     *slog.Logger
}

// Run starts the database, the stand-ins, the server and two agents, loads the
// scenario where it is not there yet, and goes on until ctx ends. Everything it
// started is stopped when it returns.
func Run(ctx context.Context, o Options) (err error) {
	began := time.Now()
	say := func(format string, args ...any) { fmt.Fprintf(o.Out, format+"\n", args...) }
	if err := os.MkdirAll(o.Dir, 0o755); err != nil {
		return err
	}
	unlock, err := lock(o.Dir)
	if err != nil {
		return err
	}
	defer unlock()

	var moved time.Duration
	if !o.At.IsZero() {
		moved = time.Until(o.At).Truncate(time.Second)
	}
	now := func() time.Time { return time.Now().Add(moved) }
	say("starting the database in %s", filepath.Join(o.Dir, "postgres"))
	pg, err := cluster.Start(ctx, filepath.Join(o.Dir, "postgres"), cluster.Settings{"shared_buffers": "256MB", "max_wal_size": "1GB",
		cluster.ClockMoved: cluster.Moved(moved)})
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, pg.Stop(context.WithoutCancel(ctx))) }()

	authority, err := standin.NewAuthority(now())
	if err != nil {
		return err
	}
	roots := filepath.Join(o.Dir, "stand-in-authority.pem")
	if err := os.WriteFile(roots, authority.PEM(), 0o644); err != nil {
		return err
	}
	var srv *server.Server
	var desk reporting
	world, err := World(authority, now, func(ctx context.Context, check string, well bool) error { return desk.report(ctx, srv, check, well) })
	if err != nil {
		return err
	}
	options := server.Options{
		Listen: o.Listen, KeyFile: filepath.Join(o.Dir, "secrets.key"), Organisation: Organisation, Timezone: Zone,
		Version: o.Version, Log: o.Log, Web: web.Handler(), StandIns: Steering{world}, SendTo: []string{receiversAt},
	}
	if options.DatabaseURL, err = migrated(ctx, pg, options); err != nil {
		return err
	}
	if srv, err = server.Build(ctx, options); err != nil {
		return err
	}
	if err := loadOnce(ctx, srv, say); err != nil {
		srv.Close()
		return err
	}
	if err := srv.Start(ctx); err != nil {
		srv.Close()
		return err
	}
	defer func() {
		stop, cancel := context.WithTimeout(context.WithoutCancel(ctx), 15*time.Second)
		defer cancel()
		err = errors.Join(err, srv.Stop(stop))
	}()
	if err := world.Start(); err != nil {
		return fmt.Errorf("start the stand-ins (does another demo run?): %w", err)
	}
	defer func() { err = errors.Join(err, world.Close()) }()
	if world.Complaint != "" {
		say("not all can be simulated here: %s", world.Complaint)
	}
	agents, err := startAgents(ctx, srv, o, roots)
	defer func() {
		for _, a := range agents {
			a.Process.Signal(syscall.SIGTERM)
		}
		for _, a := range agents {
			a.Wait()
		}
	}()
	if err != nil {
		return err
	}
	say("ready after %.1f s\n", time.Since(began).Seconds())
	say("Kestite with the Skerry Line demo:  %s\n", srv.URL)
	say("accounts (password %s):", Password)
	for _, p := range People {
		of := ""
		if p.Customer != "" {
			of = " of " + customers[p.Customer]
		} else if len(p.Teams) > 0 {
			of = ", for services of " + teams[p.Teams[0]]
		}
		say("  %-26s %s%s", p.Email, p.Role, of)
	}
	say("\nBreak something: sign in as manager, open Stand-ins, make one answer wrongly, and watch Standing.")
	say("Ctrl-C stops it all; the data stays for the next start (make demo-reset forgets it).")
	select {
	case <-ctx.Done():
		say("\nstopping …")
		return nil
	case err := <-srv.Failed():
		return err
	}
}

// migrated makes the schema as the owner of the database, and returns how the
// role connects that only works with it.
func migrated(ctx context.Context, pg *cluster.Cluster, o server.Options) (worker string, err error) {
	o.DatabaseURL, worker, err = pg.Roles(ctx, "postgres")
	if err != nil {
		return "", err
	}
	return worker, server.Migrate(ctx, o, cluster.Worker)
}

// reporting reports to checks by their own addresses, as any other system would.
type reporting struct {
	mu     sync.Mutex
	tokens map[string]string // by check, made once a run
}

func (r *reporting) token(ctx context.Context, srv *server.Server, check string) (string, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if t := r.tokens[check]; t != "" {
		return t, nil
	}
	token, hash := auth.NewToken("kesr_")
	astrid, err := by(ctx, srv.API, 0)
	if err != nil {
		return "", err
	}
	if err := srv.API.Store.PutReportIn(ctx, db.PutReportInParams{CheckID: check, TokenHash: hash, MadeBy: astrid.Kept()}); err != nil {
		return "", err
	}
	if r.tokens == nil {
		r.tokens = map[string]string{}
	}
	r.tokens[check] = token
	return token, nil
}

func (r *reporting) report(ctx context.Context, srv *server.Server, check string, well bool) error {
	token, err := r.token(ctx, srv, check)
	if err != nil {
		return err
	}
	address := srv.URL + "/in/" + token + "?files=12"
	if !well {
		address = srv.URL + "/in/" + token + "?outcome=failed&files=0&detail=the+disk+at+the+other+end+is+full"
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, nil)
	if err != nil {
		return err
	}
	resp, err := http.DefaultClient.Do(req)
	var of *url.Error
	if errors.As(err, &of) {
		return of.Err // without the address, which is a secret
	}
	if err != nil {
		return err
	}
	return resp.Body.Close()
}

// lock keeps a second demo off the same directory.
func lock(dir string) (unlock func(), err error) {
	f, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		f.Close()
		return nil, fmt.Errorf("another demo runs on %s; stop it first", dir)
	}
	return func() { f.Close() }, nil
}

func loadOnce(ctx context.Context, srv *server.Server, say func(string, ...any)) error {
	n, err := srv.API.Store.CountPeople(ctx)
	if err != nil || n > 0 {
		return err
	}
	began := time.Now()
	say("loading the scenario of %s", Organisation)
	if err := Load(ctx, srv, Months, func(step string) { say("  %s", step) }); err != nil {
		return fmt.Errorf("load the scenario (make demo-reset clears a half-loaded one): %w", err)
	}
	say("loaded in %.1f s", time.Since(began).Seconds())
	return nil
}

// startAgents runs an agent for each location as a process of its own.
func startAgents(ctx context.Context, srv *server.Server, o Options, roots string) ([]*exec.Cmd, error) {
	var out []*exec.Cmd
	for _, l := range locations {
		dir := filepath.Join(o.Dir, "agent-"+l.id)
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return out, err
		}
		token := filepath.Join(dir, "token")
		if err := ensureToken(ctx, srv, l.id, token); err != nil {
			return out, err
		}
		log, err := os.OpenFile(filepath.Join(dir, "agent.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
		if err != nil {
			return out, err
		}
		args := []string{"agent", "--server", srv.URL, "--token-file", token, "--data", dir, "--allow", "127.0.0.0/8,::1"}
		if l.spec.EchoPort != 0 {
			args = append(args, "--echo", fmt.Sprintf("%s:%d", l.spec.Address, l.spec.EchoPort))
		}
		cmd := exec.Command(o.Binary, args...)
		// The stand-ins' authority is the only one that the demo's agents trust.
		cmd.Env = append(os.Environ(), "SSL_CERT_FILE="+roots, "SSL_CERT_DIR=/nonexistent")
		cmd.Stdout, cmd.Stderr = log, log
		cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
		if err := cmd.Start(); err != nil {
			return out, fmt.Errorf("start the agent at %s: %w", l.id, err)
		}
		log.Close()
		out = append(out, cmd)
	}
	return out, nil
}

func ensureToken(ctx context.Context, srv *server.Server, location, file string) error {
	if text, err := os.ReadFile(file); err == nil {
		if _, err := srv.API.Store.AgentByToken(ctx, auth.HashToken(string(text))); err == nil {
			return nil
		}
	}
	token, hash := auth.NewToken("kesa_")
	astrid, err := by(ctx, srv.API, 0)
	if err != nil {
		return err
	}
	if _, err := srv.API.Store.AddAgent(ctx, db.AddAgentParams{Location: location, TokenHash: hash, CreatedBy: astrid.Kept()}); err != nil {
		return err
	}
	return os.WriteFile(file, []byte(token+"\n"), 0o600)
}
