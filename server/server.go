// Package server puts the parts together into a running server.
package server

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"time"

	"kestite/instrument"
	"kestite/server/accounting"
	"kestite/server/api"
	"kestite/server/auth"
	"kestite/server/closing"
	"kestite/server/credits"
	"kestite/server/defining"
	"kestite/server/history"
	"kestite/server/incidents"
	"kestite/server/ingest"
	"kestite/server/inward"
	"kestite/server/jobs"
	"kestite/server/judge"
	"kestite/server/lanes"
	"kestite/server/notifying"
	"kestite/server/people"
	"kestite/server/planner"
	"kestite/server/publish"
	"kestite/server/report"
	"kestite/server/requests"
	"kestite/server/seals"
	"kestite/server/share"
	"kestite/server/store"
	"kestite/server/store/gen/db"
	"kestite/server/vault"
)

// Options configure a server.
type Options struct {
	DatabaseURL  string
	Listen       string // host:port
	Organisation string // name and zone of a new installation
	Timezone     string
	SecureCookie bool   // HTTPS is all there is: a proxy speaks it
	CertFile     string // with TLSKeyFile: HTTPS is spoken here
	TLSKeyFile   string
	Proxies      []netip.Prefix // whose word on where a request came from is taken
	KeyFile      string         // of the key that secrets are encrypted with; made when missing
	PublicURL    string         // where people reach it, for links in messages; empty: where it listens
	SendTo       []string       // addresses that messages may go to though they are this machine or its surroundings
	Scripts      string         // directory of scripts that messages may be given to; empty: none are
	Version      string
	Log          *slog.Logger
	Web          http.Handler
	StandIns     api.StandIns
	Now          func() time.Time // another clock than the database's; nil: that one
}

// Server is a running server.
type Server struct {
	API   *api.Server
	Judge *judge.Judge
	URL   string
	// FirstToken makes the first person; empty when there is somebody.
	FirstToken string

	opts    Options
	jobs    *jobs.Jobs
	notices *notifying.Keeper
	http    *http.Server
	end     context.CancelFunc
	running sync.WaitGroup
	failed  chan error
}

// secure says whether browsers reach the server by HTTPS alone.
func (o Options) secure() bool { return o.SecureCookie || o.CertFile != "" }

// Build connects to the database, migrates it and puts the parts together. It
// does not listen and works off no jobs yet; Close it, or Start and Stop it.
func Build(ctx context.Context, o Options) (*Server, error) {
	s, err := store.Open(ctx, o.DatabaseURL)
	if err != nil {
		return nil, err
	}
	if o.Now != nil {
		s.Show(o.Now)
	}
	o.Now = s.Now
	srv := &Server{opts: o, failed: make(chan error, 1)}
	if err := srv.build(ctx, s); err != nil {
		s.Close()
		return nil, err
	}
	return srv, nil
}

// Migrate brings the schema of a database up to date, connected as its owner, and
// admits the role that servers are to work with (none where worker is empty).
func Migrate(ctx context.Context, o Options, worker string) error {
	srv, err := Build(ctx, o)
	if err != nil {
		return err
	}
	defer srv.Close()
	if err := srv.API.Store.UpToDate(ctx); err != nil || worker == "" {
		return err
	}
	return srv.API.Store.Admit(ctx, worker)
}

func (srv *Server) build(ctx context.Context, s *store.Store) error {
	o := srv.opts
	err := s.Prepare(ctx, func() error {
		if err := s.EnsurePartitionsAhead(ctx, o.Now()); err != nil {
			return err
		}
		if err := s.MakeOrganisation(ctx, db.MakeOrganisationParams{Name: o.Organisation, Timezone: o.Timezone}); err != nil {
			return fmt.Errorf("make the organisation: %w", err)
		}
		return nil
	})
	if err != nil {
		return err
	}
	n, err := s.CountPeople(ctx)
	if err != nil {
		return err
	}
	if n == 0 {
		token, hash := auth.NewToken("kesf_")
		if err := s.AddFirstToken(ctx, hash); err != nil {
			return err
		}
		srv.FirstToken = token
	}
	seal, err := vault.Open(o.KeyFile)
	if err != nil {
		return err
	}
	definitions := defining.New(s)
	books := &history.Books{Store: s, Definitions: definitions, Memory: lanes.NewMemory()}
	board := accounting.NewBoard(books)
	troubles := &incidents.Keeper{Store: s, Definitions: definitions, Now: o.Now, Log: o.Log, Board: board, Looks: true}
	srv.Judge = &judge.Judge{Store: s, Definitions: definitions, Incidents: troubles, Now: o.Now, Log: o.Log}
	taking := &ingest.Ingest{Store: s, Definitions: definitions, Now: o.Now}
	within := &inward.Inward{Store: s, Definitions: definitions, Ingest: taking, Now: o.Now}
	rosters := &share.Rosters{Store: s, Now: o.Now}
	owed := &credits.Desk{Store: s, Definitions: definitions, Now: o.Now}
	shelf := report.NewShelf(s, board, owed)
	reports := &publish.Desk{Store: s, Definitions: definitions, Books: books, Keys: &seals.Keys{Store: s, Vault: seal, Now: o.Now}, Shelf: shelf}
	if srv.jobs, err = jobs.New(jobs.With{Store: s, Judge: srv.Judge, Inward: within, Rosters: rosters, Incidents: troubles, Reports: reports, Log: o.Log,
		Now: o.Now}); err != nil {
		return err
	}
	if err := notifying.CheckScripts(o.Scripts); err != nil {
		return err
	}
	sendTo, err := instrument.NewPolicy(o.SendTo, nil)
	if err != nil {
		return err
	}
	srv.notices = &notifying.Keeper{Store: s, Definitions: definitions, Incidents: troubles, Vault: seal, Sender: &notifying.Sender{Policy: sendTo, Scripts: o.Scripts},
		Now: o.Now, Log: o.Log, URL: func() string { return strings.TrimSuffix(cmp.Or(o.PublicURL, srv.URL), "/") }}
	definitions.Told, reports.Notices = srv.notices.Queue, srv.notices
	factor := &auth.Factor{Vault: seal}
	sessions := auth.NewSessions(s, factor, o.secure(), o.Now, api.NoSession(o.Log))
	srv.API = &api.Server{
		Store: s, Definitions: definitions, Sessions: sessions, Books: books, Board: board, Kept: accounting.NewKept(s.Queries), Planner: &planner.Planner{Books: books, Board: board}, Proxies: o.Proxies,
		People:    &people.People{Store: s, Definitions: definitions, Sessions: sessions, Factor: factor, Now: o.Now},
		Desk:      reports,
		Incidents: troubles, Notices: srv.notices, Requests: &requests.Desk{Store: s, Definitions: definitions, Notices: srv.notices, Now: o.Now},
		Credits: owed,
		Close:   &closing.Desk{Store: s, Definitions: definitions, Books: books, Board: board, Shelf: shelf, Notices: srv.notices, Now: o.Now}, Ingest: taking, Inward: within, Rosters: rosters,
		Feed: store.NewFeed(), Log: o.Log, Now: o.Now, Web: o.Web, StandIns: o.StandIns, Version: o.Version, Vault: seal,
	}
	return nil
}

// Start listens and begins background work.
func (srv *Server) Start(ctx context.Context) error {
	l, err := srv.listen()
	if err != nil {
		return err
	}
	running, end := context.WithCancel(context.WithoutCancel(ctx))
	srv.end = end
	srv.running.Go(func() { srv.API.Feed.Run(running, srv.API.Store, srv.opts.Log) })
	srv.running.Go(func() { srv.attend(running) })
	srv.running.Go(func() { srv.API.Store.Clock.Follow(running, srv.opts.Log) })
	for n := range judges {
		srv.running.Go(func() { srv.Judge.Run(running, srv.API.Feed.Judging, n == 0) })
	}
	srv.running.Go(func() { srv.notices.Run(running) })
	if err := srv.jobs.Start(running); err != nil {
		l.Close()
		return fmt.Errorf("start background work: %w", err)
	}
	srv.http = &http.Server{
		Handler:           srv.API.Handler(),
		ReadHeaderTimeout: 10 * time.Second,
		IdleTimeout:       2 * time.Minute,
		BaseContext:       func(net.Listener) context.Context { return running },
	}
	go func() {
		if err := srv.http.Serve(l); !errors.Is(err, http.ErrServerClosed) {
			srv.failed <- err
		}
	}()
	return nil
}

// listen opens the socket, with TLS where there is a certificate.
func (srv *Server) listen() (net.Listener, error) {
	l, err := net.Listen("tcp", srv.opts.Listen)
	if err != nil {
		return nil, fmt.Errorf("listen on %s: %w", srv.opts.Listen, err)
	}
	srv.URL = "http://" + l.Addr().String()
	if srv.opts.CertFile == "" {
		return l, nil
	}
	pair := &keyPair{cert: srv.opts.CertFile, key: srv.opts.TLSKeyFile, log: srv.opts.Log}
	if err := pair.read(); err != nil {
		l.Close()
		return nil, err
	}
	srv.URL = "https://" + l.Addr().String()
	return tls.NewListener(l, &tls.Config{GetCertificate: pair.get, MinVersion: tls.VersionTLS12,
		NextProtos: []string{"h2", "http/1.1"}}), nil
}

// judges is how many services of one server judge at once.
const judges = 2

// attend says that the server is there, until ctx ends.
func (srv *Server) attend(ctx context.Context) {
	tick := time.NewTicker(store.Beat)
	defer tick.Stop()
	for {
		if _, err := srv.API.Store.There(store.For(ctx, store.Jobs), srv.opts.Now()); err != nil && ctx.Err() == nil {
			srv.opts.Log.Warn("the database does not take note that this server is there", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// Failed yields an error when the server can no longer listen.
func (srv *Server) Failed() <-chan error { return srv.failed }

// Stop ends what is under way and closes the database: long-held requests at
// once, others within the time of ctx.
func (srv *Server) Stop(ctx context.Context) error {
	srv.http.RegisterOnShutdown(srv.end) // ends live streams and held requests
	err := srv.http.Shutdown(ctx)
	err = errors.Join(err, srv.jobs.Stop(ctx))
	srv.end()
	srv.running.Wait()
	srv.Close()
	return err
}

// Close closes the database of a server that was not started.
func (srv *Server) Close() {
	srv.API.Store.Close()
}
