package api

import (
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/jackc/pgx/v5"

	"kestite/agent/wire"
	"kestite/core/span"
	"kestite/server/auth"
	"kestite/server/catalogue"
	"kestite/server/share"
	"kestite/server/store"
	"kestite/server/store/gen/db"
)

// agentRoutes are what agents call; the token tells which location they are.
func (s *Server) agentRoutes(r chi.Router) {
	r.Post(wire.PathAssignments, s.asAgent(s.assignments))
	r.Post(wire.PathBatches, s.asAgent(s.batch))
	r.Post(wire.PathTrials+"/{id}", s.asAgent(s.trialResult))
}

type agentHandler func(http.ResponseWriter, *http.Request, db.Agent)

func (s *Server) asAgent(next agentHandler) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		if !ok {
			writeProblem(w, http.StatusUnauthorized, "The agent's token is missing: send it as Authorization: Bearer …")
			return
		}
		a, err := s.Store.AgentByToken(r.Context(), auth.HashToken(token))
		if errors.Is(err, pgx.ErrNoRows) {
			writeProblem(w, http.StatusUnauthorized, "The token is not known, or it was revoked: make a new one under Set-up, Locations.")
			return
		}
		if err != nil {
			s.agentError(w, err)
			return
		}
		next(w, r, a)
	}
}

func (s *Server) agentError(w http.ResponseWriter, err error) {
	if errors.Is(err, context.Canceled) {
		return
	}
	s.Log.Error("agent request failed", "error", err)
	writeProblem(w, http.StatusInternalServerError, "Something went wrong on the server; keep the measurements and try again.")
}

// readJSON decodes a body, gzipped or not; what is wrong with it is told to the agent.
func readJSON(w http.ResponseWriter, r *http.Request, into any) bool {
	var in io.Reader = r.Body
	if r.Header.Get("Content-Encoding") == "gzip" {
		z, err := gzip.NewReader(in)
		if err != nil {
			writeProblem(w, http.StatusBadRequest, "The body says it is gzip and is not: "+err.Error())
			return false
		}
		const most = 64 << 20
		in = io.LimitReader(z, most)
	}
	dec := json.NewDecoder(in)
	dec.DisallowUnknownFields()
	if err := dec.Decode(into); err != nil {
		writeProblem(w, http.StatusUnprocessableEntity, fmt.Sprintf("The body cannot be read (at byte %d): %v. Nothing of it was stored.", dec.InputOffset(), err))
		return false
	}
	return true
}

func writeJSON(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(v)
}

// processes knows which process of each agent has a request open here. Agents
// are nearly always waiting in one, so that a second process is noticed.
type processes struct {
	mu   sync.Mutex
	open map[string]process
}

type process struct {
	instance string
	requests int
}

// begin notes a request; alone is false where another process has one open.
func (p *processes) begin(agent, instance string) (done func(), alone bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.open == nil {
		p.open = map[string]process{}
	}
	now := p.open[agent]
	if now.requests > 0 && now.instance != instance {
		return nil, false
	}
	p.open[agent] = process{instance, now.requests + 1}
	return func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		now := p.open[agent]
		now.requests--
		p.open[agent] = now
	}, true
}

// longestWait is how long a request for assignments is held open.
const longestWait = 20 * time.Second

// assignments answers when the agent's checks are others than it knows, when a
// trial is asked for, or after the wait it allows.
func (s *Server) assignments(w http.ResponseWriter, r *http.Request, a db.Agent) {
	var rep wire.Report
	if !readJSON(w, r, &rep) {
		return
	}
	ctx := r.Context()
	done, alone := s.processes.begin(a.ID, rep.Instance)
	if !alone {
		writeProblem(w, http.StatusConflict, "Another process works with this agent's token. Stop one of the two, or make a second token under Set-up, Locations.")
		return
	}
	defer done()
	if err := s.seen(ctx, a, rep); err != nil {
		s.agentError(w, err)
		return
	}
	if err := s.Rosters.Update(ctx, a.Location); err != nil {
		s.agentError(w, err)
		return
	}
	changes, end := s.Feed.Listen()
	defer end()
	timeout := time.After(min(time.Duration(rep.WaitS)*time.Second, longestWait))
	for {
		out, err := s.assigned(ctx, a)
		if err != nil {
			s.agentError(w, err)
			return
		}
		if out.Mark != rep.Known || len(out.Trials) > 0 || rep.WaitS == 0 {
			writeJSON(w, out)
			return
		}
		if !work(ctx, changes, timeout) {
			out.Clock = span.Of(s.Now())
			writeJSON(w, out)
			return
		}
	}
}

// work waits for a change that may concern an agent; false when it waited long enough.
func work(ctx context.Context, changes <-chan store.Change, timeout <-chan time.Time) bool {
	for {
		select {
		case <-ctx.Done():
			return false
		case <-timeout:
			return false
		case c := <-changes:
			if c.Kind == "definition" || c.Kind == "roster" || c.Kind == "trial" || c.Kind == "all" {
				return true
			}
		}
	}
}

// seen notes what the agent says of itself.
func (s *Server) seen(ctx context.Context, a db.Agent, rep wire.Report) error {
	wasSilent := a.SeenAt == nil || s.Now().Sub(*a.SeenAt) > connectedFor || a.Complaint != rep.Complaint || a.CutOff != rep.CutOff
	if err := s.Store.AgentSeen(ctx, db.AgentSeenParams{
		ID: a.ID, Version: rep.Version, ClockOffsetMs: rep.ClockOffset, Backlog: rep.Backlog,
		LatenessMs: rep.LatenessMS, Complaint: rep.Complaint, Sockets: rep.Sockets, CutOff: rep.CutOff,
	}); err != nil {
		return err
	}
	if !wasSilent {
		return nil
	}
	return store.Notify(ctx, s.Store.Pool, store.Change{Kind: "agent", IDs: []string{a.Location}})
}

// assigned are the checks that an agent holds, and trials that are asked for at its location.
func (s *Server) assigned(ctx context.Context, a db.Agent) (wire.Assignments, error) {
	snap, err := s.Catalogue.Snapshot(ctx)
	if err != nil {
		return wire.Assignments{}, err
	}
	secrets, err := s.secrets(ctx, snap)
	if err != nil {
		return wire.Assignments{}, err
	}
	roster, err := s.Rosters.Current(ctx, a.Location)
	if err != nil {
		return wire.Assignments{}, err
	}
	out := wire.Assignments{Location: a.Location, Clock: span.Of(s.Now()), Checks: []wire.Check{}}
	for _, id := range catalogue.Live(snap.Checks) {
		spec := snap.Checks[id].Current().Spec
		if slices.Contains(spec.Locations, a.Location) && share.Holder(roster, id) == a.ID {
			c := wire.Of(id, spec)
			c.Secret = secrets[credentialOf(spec.Settings)]
			out.Checks = append(out.Checks, c)
		}
	}
	if e := snap.Locations[a.Location]; e != nil {
		out.References, out.Rates = e.Current().Spec.References, e.Current().Spec.Rates
	}
	text, err := json.Marshal(out.What())
	if err != nil {
		return out, err
	}
	h := fnv.New64a()
	h.Write(text)
	out.Mark = fmt.Sprintf("%x", h.Sum64())
	trials, err := s.Store.TakeTrials(ctx, a.Location)
	for _, t := range trials {
		trial := wire.Trial{ID: t.ID}
		if err := json.Unmarshal(t.Spec, &trial.Check); err != nil {
			return out, err
		}
		trial.Check.Secret = secrets[credentialOf(trial.Check.Settings)]
		out.Trials = append(out.Trials, trial)
	}
	return out, err
}

func (s *Server) batch(w http.ResponseWriter, r *http.Request, a db.Agent) {
	var b wire.Batch
	if !readJSON(w, r, &b) {
		return
	}
	if len(b.Measurements) > wire.MaxBatch {
		writeProblem(w, http.StatusRequestEntityTooLarge, fmt.Sprintf("The batch has %d measurements; send at most %d at once.", len(b.Measurements), wire.MaxBatch))
		return
	}
	receipt, err := s.Ingest.Batch(r.Context(), a.Location, a.ID, b.Measurements)
	if err != nil {
		s.agentError(w, err)
		return
	}
	if n := len(receipt.Refused); n > 0 {
		s.Log.Warn("measurements refused", "location", a.Location, "count", n, "first", receipt.Refused[0].Reason)
	}
	writeJSON(w, receipt)
}

func (s *Server) trialResult(w http.ResponseWriter, r *http.Request, a db.Agent) {
	var res wire.Result
	if !readJSON(w, r, &res) {
		return
	}
	text, err := json.Marshal(res)
	if err == nil {
		_, err = s.Store.FinishTrial(r.Context(), db.FinishTrialParams{ID: chi.URLParam(r, "id"), Location: a.Location, Result: text})
	}
	if err != nil {
		s.agentError(w, err)
		return
	}
	if err := store.Notify(r.Context(), s.Store.Pool, store.Change{Kind: "trial-done"}); err != nil {
		s.agentError(w, err)
		return
	}
	writeJSON(w, struct{}{})
}
