// Package api is the HTTP interface: the routes, who may use them, and the
// shapes that go over the wire. It decides nothing itself.
package api

import (
	"context"
	"encoding/json"
	"log/slog"
	"net/http"
	"net/netip"
	"reflect"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"kestite/core/access"
	"kestite/server/accounting"
	"kestite/server/auth"
	"kestite/server/closing"
	"kestite/server/credits"
	"kestite/server/defining"
	"kestite/server/history"
	"kestite/server/incidents"
	"kestite/server/ingest"
	"kestite/server/inward"
	"kestite/server/notifying"
	"kestite/server/people"
	"kestite/server/planner"
	"kestite/server/publish"
	"kestite/server/requests"
	"kestite/server/share"
	"kestite/server/store"
	"kestite/server/trail"
	"kestite/server/vault"
)

// Server holds what the routes work with.
type Server struct {
	Store       *store.Store
	Definitions *defining.Definitions
	Sessions    *auth.Sessions
	Books       *history.Books
	Board       *accounting.Board
	Kept        *accounting.Kept
	Planner     *planner.Planner
	Desk        *publish.Desk
	Incidents   *incidents.Keeper
	Notices     *notifying.Keeper
	Requests    *requests.Desk
	Close       *closing.Desk
	Credits     *credits.Desk
	Pauses      planner.Pauses
	Ingest      *ingest.Ingest
	Inward      *inward.Inward
	Rosters     *share.Rosters
	Feed        *store.Feed
	Log         *slog.Logger
	Now         func() time.Time
	Web         http.Handler // the front end
	StandIns    StandIns     // nil outside the demo
	Version     string
	Vault       *vault.Vault
	People      *people.People
	Proxies     []netip.Prefix // whose word on where a request came from is taken

	streams streams
	flights *flights
	costly  map[string]bool // operations that cost much, by method and path
}

// Handler returns the whole tree of routes.
func (s *Server) Handler() http.Handler {
	s.flights = newFlights()
	r := chi.NewRouter()
	r.Use(middleware.RequestID, middleware.Recoverer, s.log, middleware.GetHead)
	if s.Sessions.Secure() {
		r.Use(strictTransport)
	}
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte("ok\n")) })
	r.Get("/readyz", s.readyz)
	r.Group(func(r chi.Router) {
		r.Use(s.guard, forAgents)
		s.agentRoutes(r)
		s.reportInRoute(r)
	})
	r.Group(func(r chi.Router) {
		r.Use(crossOrigin, s.guard, s.Sessions.Load)
		r.Get("/api/v1/live", s.live)
		r.Group(func(r chi.Router) {
			r.Use(legible, s.identify, s.answers)
			s.routes(humachi.New(r, Config(s.Version)))
		})
	})
	r.Handle("/api/*", http.HandlerFunc(noRoute))
	if s.Web != nil {
		r.Handle("/*", s.Web)
	}
	return r
}

// Config describes the API.
func Config(version string) huma.Config {
	huma.DefaultArrayNullable = false // lists are empty, never null
	c := huma.DefaultConfig("Kestite", version)
	c.OpenAPIPath = "/api/v1/openapi"
	c.DocsPath = ""
	c.SchemasPath = "/api/v1/schemas"
	c.CreateHooks = nil
	c.Transformers = append(c.Transformers, withoutValues)
	c.Info.Description = "Definitions, standing, accounts and reports. Errors are problem details (RFC 9457) with the path of each faulty field."
	return c
}

// routes registers every operation with the permission it needs.
func (s *Server) routes(api huma.API) {
	s.costly = map[string]bool{}
	a := &operations{API: api, server: s}
	s.sessionRoutes(a)
	s.ownRoutes(a)
	s.peopleRoutes(a)
	s.trailRoutes(a)
	s.locationRoutes(a)
	s.networkRoutes(a)
	s.partyRoutes(a)
	s.holidayRoutes(a)
	s.credentialRoutes(a)
	s.serviceRoutes(a)
	s.checkRoutes(a)
	s.inwardRoutes(a)
	s.kitRoutes(a)
	s.changeRoutes(a)
	s.windowRoutes(a)
	s.embargoRoutes(a)
	s.selectionRoutes(a)
	s.layoutRoutes(a)
	s.volumeRoutes(a)
	s.approvalRoutes(a)
	s.requestRoutes(a)
	s.closeRoutes(a)
	s.creditRoutes(a)
	s.counterRoutes(a)
	s.calendarRoutes(a)
	s.icalendarRoutes(a)
	s.graphRoutes(a)
	s.agreementRoutes(a)
	s.standingRoutes(a)
	s.momentRoutes(a)
	s.incidentRoutes(a)
	s.noticeRoutes(a)
	s.methodRoutes(a)
	s.holdRoutes(a)
	s.trialRoutes(a)
	s.scheduleRoutes(a)
	s.checkNowRoutes(a)
	s.pairRoutes(a)
	s.reportRoutes(a)
	s.standInRoutes(a)
	api.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[store.Event](), true, "Event") // of the stream of live.go
	bound(api)
}

// public marks an operation that needs nobody signed in.
const public access.Permission = ""

type operations struct {
	huma.API
	server *Server
}

// on registers an operation for a role.
func on[I, O any](a *operations, needs access.Permission, method, path, id, summary string, handler func(context.Context, *I) (*O, error), change ...func(*huma.Operation)) {
	op := huma.Operation{
		OperationID: id, Method: method, Path: "/api/v1" + path, Summary: summary,
		Metadata: map[string]any{"needs": needs},
	}
	if needs != public {
		op.Description = "Needs a role that permits to " + needs.Words() + "."
		op.Errors = []int{http.StatusUnauthorized, http.StatusForbidden}
	}
	for _, c := range change {
		c(&op)
	}
	op.Middlewares = huma.Middlewares{a.server.allow(a.API, needs, op.Metadata[unsecuredKey] != nil)}
	if op.Metadata[costlyKey] != nil {
		a.server.costly[method+" "+op.Path] = true
	}
	huma.Register(a.API, op, func(ctx context.Context, in *I) (*O, error) {
		out, err := handler(ctx, in)
		return out, problem(err, a.server.Log)
	})
}

const costlyKey = "costly"

// costly marks an operation that takes much computing and answers all who may
// ask it alike: equal questions are answered together, and few at once.
func costly(op *huma.Operation) { op.Metadata[costlyKey] = true }

const unsecuredKey = "unsecured"

// unsecured marks an operation that is there for people who still have to set up
// the second factor that is required of them.
func unsecured(op *huma.Operation) { op.Metadata[unsecuredKey] = true }

// withoutValues takes out of an error what was sent: it may be a secret, and who
// sent it knows it.
func withoutValues(_ huma.Context, _ string, v any) (any, error) {
	if e, is := v.(*huma.ErrorModel); is {
		for _, d := range e.Errors {
			d.Value = nil
		}
	}
	return v, nil
}

type whoKey struct{}

type askingKey struct{}

type asker struct {
	person auth.Person
	in     bool
	err    error
	caller auth.Caller
}

// caller is how the request looks from outside.
func caller(ctx context.Context) auth.Caller {
	a, _ := ctx.Value(askingKey{}).(asker)
	return a.caller
}

// by is who asks, as the trail knows them.
func by(ctx context.Context) trail.By { return who(ctx).By(caller(ctx)) }

// asking is who asks, as identify found out.
func asking(ctx context.Context) (p auth.Person, signedIn bool, err error) {
	a, _ := ctx.Value(askingKey{}).(asker)
	return a.person, a.in, a.err
}

// identify finds out once who asks.
func (s *Server) identify(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		a := asker{caller: auth.Caller{Source: s.source(r), Browser: r.UserAgent()}}
		if c, err := r.Cookie(knownCookie); err == nil {
			a.caller.Known = c.Value
		}
		a.person, a.in, a.err = s.Sessions.Who(r.Context())
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), askingKey{}, a)))
	})
}

// forAgents marks requests that have the agents' connections to the database.
func forAgents(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		next.ServeHTTP(w, r.WithContext(store.For(r.Context(), store.Agents)))
	})
}

// who is the person asking; the zero Person on public routes.
func who(ctx context.Context) auth.Person {
	p, _ := ctx.Value(whoKey{}).(auth.Person)
	return p
}

// allow is the middleware that lets only people through whose role permits something.
func (s *Server) allow(api huma.API, needs access.Permission, unsecured bool) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		p, ok, err := asking(ctx.Context())
		if err != nil && ctx.Context().Err() == nil {
			s.Log.Error("session", "error", err)
			huma.WriteErr(api, ctx, http.StatusInternalServerError, "The session cannot be read; try again.")
			return
		}
		switch {
		case needs == public:
		case !ok:
			huma.WriteErr(api, ctx, http.StatusUnauthorized, "Nobody is signed in; sign in and try again.")
			return
		case !p.Rights.May(needs):
			huma.WriteErr(api, ctx, http.StatusForbidden, p.Rights.Needs(needs).Error())
			return
		case !p.Secured && !unsecured:
			huma.WriteErr(api, ctx, http.StatusForbidden,
				"A second factor is required here, and you have none yet. Set it up under your name, Your account.")
			return
		}
		if ok {
			ctx = huma.WithValue(ctx, whoKey{}, p)
		}
		next(ctx)
	}
}

// crossOrigin refuses changes that another site's page asks for.
func crossOrigin(next http.Handler) http.Handler {
	return http.NewCrossOriginProtection().Handler(next)
}

func (s *Server) log(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		began := time.Now()
		ww := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		next.ServeHTTP(ww, r)
		level := slog.LevelDebug
		if ww.Status() >= 500 && r.Context().Err() == nil && r.URL.Path != "/readyz" { // an asker that went away is no trouble of ours
			level = slog.LevelError
		}
		s.Log.Log(r.Context(), level, "request", "method", r.Method, "path", withoutToken(r.URL.Path), "status", ww.Status(),
			"bytes", ww.BytesWritten(), "took", time.Since(began).String(), "id", middleware.GetReqID(r.Context()))
	})
}

// withoutToken is a path as it may be logged: who knows the rest of an address to
// report in to may report.
func withoutToken(path string) string {
	if strings.HasPrefix(path, reportInPath) {
		return reportInPath + "…"
	}
	return path
}

func noRoute(w http.ResponseWriter, r *http.Request) {
	writeProblem(w, http.StatusNotFound, "There is no "+r.Method+" "+r.URL.Path+"; the API is described at /api/v1/openapi.json.")
}

// Describe returns the OpenAPI 3.1 document without a running server.
func Describe(version string) ([]byte, error) {
	s := &Server{}
	api := humachi.New(chi.NewRouter(), Config(version))
	s.routes(api)
	return json.MarshalIndent(api.OpenAPI(), "", "  ")
}
