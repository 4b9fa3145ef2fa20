package api

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"math"
	"net/http"
	"os"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
	jsonv2 "github.com/go-json-experiment/json"
	"github.com/jackc/pgx/v5"

	"kestite/agent/wire"
	"kestite/core/catalogue"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/server/auth"
	"kestite/server/incidents"
	"kestite/server/ingest"
	"kestite/server/share"
	"kestite/server/store"
	"kestite/server/store/gen/db"
)

// agentRoutes are what agents call; the token tells which location they are.
func (s *Server) agentRoutes(r chi.Router) {
	r.Post(wire.PathAssignments, s.asAgent(s.assignments))
	r.Post(wire.PathBatches, s.asAgent(s.batch))
	r.Post(wire.PathTrials+"/{id}", s.asAgent(s.trialResult))
	r.Get(wire.PathProgram, s.asAgent(s.program))
}

// running is the file of the program that runs, wherever it was put since.
const running = "/proc/self/exe"

// program gives the server's own program to who has an agent's token: one file is server
// and agent. It says for which machines it is.
func (s *Server) program(w http.ResponseWriter, r *http.Request, _ db.Agent) {
	file, err := os.Open(running)
	if err != nil {
		writeProblem(w, http.StatusServiceUnavailable, "This server cannot read its own program; build it at the location, with make build.")
		return
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		s.agentError(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Header().Set("Content-Disposition", `attachment; filename="kestite"`)
	w.Header().Set("Kestite-Platform", runtime.GOOS+"/"+runtime.GOARCH)
	http.ServeContent(w, r, "", info.ModTime(), file)
}

type agentHandler func(http.ResponseWriter, *http.Request, db.Agent)

func (s *Server) asAgent(next agentHandler) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		received := s.Now()
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
			s.agentError(w, r, err)
			return
		}
		next(&timed{ResponseWriter: w, server: s, received: received}, r, a)
	}
}

// timed tells with an answer when its request was received and when it is answered,
// and what form of batches this server takes.
type timed struct {
	http.ResponseWriter
	server   *Server
	received time.Time
	told     bool
}

func (t *timed) tell() {
	if t.told {
		return
	}
	t.told = true
	_, wrong := t.server.Store.Clock.Read()
	t.Header().Set("Accept", wire.Accepted)
	t.Header().Set(wire.HeaderClock, fmt.Sprintf("%d %d %d", t.received.UnixMicro(), t.server.Now().UnixMicro(), wrong.Microseconds()))
}

func (t *timed) WriteHeader(status int) {
	t.tell()
	t.ResponseWriter.WriteHeader(status)
}

func (t *timed) Write(b []byte) (int, error) {
	t.tell()
	return t.ResponseWriter.Write(b)
}

func (s *Server) agentError(w http.ResponseWriter, r *http.Request, err error) {
	if r.Context().Err() != nil {
		return // it hung up
	}
	if passing(err) {
		s.Log.Warn("agent request given up", "error", err)
		writeProblem(w, http.StatusServiceUnavailable, "The database is busy or away; keep the measurements and try again.")
		return
	}
	s.Log.Error("agent request failed", "error", err)
	writeProblem(w, http.StatusInternalServerError, "Something went wrong on the server; keep the measurements and try again.")
}

// bodyOf is what a request says, unpacked; what is wrong with it is told to the
// agent: 413 where it is too much, which smaller ones mend.
func bodyOf(w http.ResponseWriter, r *http.Request) ([]byte, bool) {
	var text []byte
	var err error
	if r.Header.Get("Content-Encoding") == "gzip" {
		text, err = wire.Unzip(r.Body, wire.MaxBytes+1)
	} else {
		text, err = io.ReadAll(io.LimitReader(r.Body, wire.MaxBytes+1))
	}
	var long *http.MaxBytesError
	switch {
	case errors.As(err, &long) || len(text) > wire.MaxBytes:
		writeProblem(w, http.StatusRequestEntityTooLarge, fmt.Sprintf("The body is too large: send at most %d MiB at once, unpacked.", wire.MaxBytes>>20))
		return nil, false
	case errors.Is(err, gzip.ErrHeader):
		writeProblem(w, http.StatusBadRequest, "The body says it is gzip and is not: "+err.Error())
		return nil, false
	case err != nil:
		writeProblem(w, http.StatusBadRequest, "The body cannot be read to its end: "+err.Error())
		return nil, false
	}
	return text, true
}

// readJSON decodes a body; what is wrong with it is told to the agent.
func readJSON(w http.ResponseWriter, r *http.Request, into any) bool {
	text, ok := bodyOf(w, r)
	if !ok {
		return false
	}
	if at, err := strictly(text, into); err != nil {
		writeProblem(w, http.StatusUnprocessableEntity, fmt.Sprintf("The body cannot be read (at byte %d): %v. Nothing of it was stored.", at, err))
		return false
	}
	return true
}

// strictly decodes JSON that has nothing unknown in it, nothing twice, and nothing
// after it.
func strictly(text []byte, into any) (at int64, err error) {
	if twice(text) {
		return 0, errTwice
	}
	dec := json.NewDecoder(bytes.NewReader(text))
	dec.DisallowUnknownFields()
	if err := dec.Decode(into); err != nil {
		return dec.InputOffset(), err
	}
	if _, err := dec.Token(); err != io.EOF {
		return dec.InputOffset(), errors.New("there is more after its end")
	}
	return 0, nil
}

// measurements reads a batch in the form that its type says. What of it cannot be read
// is refused measurement by measurement. The error is wire.ErrTooMany, or says why the
// whole cannot be read.
func measurements(form string, text []byte) (list []wire.Measurement, refused []wire.Refusal, err error) {
	if form == wire.TypePacked {
		return wire.Unpack(text, func(text []byte, into any) error {
			_, err := strictly(text, into)
			return err
		})
	}
	list, refused, err = fromJSON(text)
	if len(list) > wire.MaxBatch {
		return nil, nil, wire.ErrTooMany
	}
	return list, refused, err
}

// fromJSON reads a batch: the whole at once, or, where something in it cannot be read,
// each measurement by itself.
func fromJSON(text []byte) (list []wire.Measurement, refused []wire.Refusal, err error) {
	var b wire.Batch
	// As strict, and in one pass; who is not understood by it is told by the other.
	if jsonv2.Unmarshal(text, &b, jsonv2.RejectUnknownMembers(true)) == nil {
		return b.Measurements, nil, nil
	}
	b = wire.Batch{}
	if _, err := strictly(text, &b); err == nil {
		return b.Measurements, nil, nil
	}
	var rows struct {
		Measurements []json.RawMessage `json:"measurements"`
	}
	if _, err := strictly(text, &rows); err != nil {
		return nil, nil, err
	}
	list = make([]wire.Measurement, len(rows.Measurements))
	for i, row := range rows.Measurements {
		if _, err := strictly(row, &list[i]); err != nil {
			refused = append(refused, wire.Refusal{Index: i, Reason: "it cannot be read: " + err.Error(), Unstorable: true})
		}
	}
	return list, refused, nil
}

func writeJSON(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(v)
}

// longestWait is how long a request for assignments is held open, and
// graceOfProcess how long after that its process counts as being at work.
const (
	longestWait    = 20 * time.Second
	graceOfProcess = 6 * time.Second
)

// assignments answers when the agent's checks are others than it knows, when a
// trial is asked for, or after the wait it allows.
func (s *Server) assignments(w http.ResponseWriter, r *http.Request, a db.Agent) {
	var rep wire.Saying
	if !readJSON(w, r, &rep) {
		return
	}
	ctx := r.Context()
	wait := min(max(0, time.Duration(rep.WaitS)*time.Second), longestWait)
	until := s.Now().Add(wait + graceOfProcess).Truncate(time.Microsecond)
	alone, err := s.seen(ctx, a, rep, until)
	if err != nil {
		s.agentError(w, r, err)
		return
	}
	if !alone {
		writeProblem(w, http.StatusConflict, "Another process works with this agent's token. Stop one of the two, or make a second token under Set-up, Locations.")
		return
	}
	defer func() {
		if ctx.Err() == nil {
			return
		}
		// The process hung up: the next one need not wait until this one counts as gone.
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		if err := s.Store.AgentGone(ctx, db.AgentGoneParams{ID: a.ID, Instance: rep.Instance, Until: until}); err != nil {
			s.Log.Debug("an agent that hung up", "error", err)
		}
	}()
	if err := s.Rosters.Update(ctx, a.Location); err != nil {
		s.agentError(w, r, err)
		return
	}
	changes, end := s.Feed.Listen()
	defer end()
	timeout := time.After(wait)
	for again := false; ; again = true {
		if again { // what people asked of the agent meanwhile
			if a, err = s.Store.Agent(ctx, a.ID); err != nil {
				s.agentError(w, r, err)
				return
			}
		}
		out, err := s.assigned(ctx, a)
		if err != nil {
			s.agentError(w, r, err)
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
func work(ctx context.Context, changes <-chan store.Event, timeout <-chan time.Time) bool {
	for {
		select {
		case <-ctx.Done():
			return false
		case <-timeout:
			return false
		case c := <-changes:
			if c.Kind == "definition" || c.Kind == "release" || c.Kind == "roster" || c.Kind == "trial" || c.Kind == "all" {
				return true
			}
		}
	}
}

// Lengths that texts an agent says of itself are cut to, in bytes.
const (
	mostWord     = 100
	mostSentence = 1000
)

// seen notes what the agent says of itself, and that its process is at work
// until then; alone is false where another process is.
func (s *Server) seen(ctx context.Context, a db.Agent, rep wire.Saying, until time.Time) (alone bool, err error) {
	said := db.AgentSeenParams{
		ID: a.ID, Version: measure.Clean(rep.Version, mostWord), ClockOffsetMs: rep.ClockOffset, UncertainMs: max(0, rep.Uncertain), Backlog: max(0, rep.Backlog),
		LatenessMs: usable(rep.LatenessMS), Complaint: measure.Clean(rep.Complaint, mostSentence), Sockets: measure.Clean(rep.Sockets, mostWord),
		CutOff: measure.Clean(rep.CutOff, mostSentence), SetAside: int32(min(max(0, rep.SetAside), math.MaxInt32)),
		Lost: max(0, rep.Lost), Instance: measure.Clean(rep.Instance, mostWord), Until: until, Now: s.Now(),
	}
	if said.Lost > 0 && rep.LostAt > 0 {
		at := rep.LostAt.Time()
		said.LostAt = &at
	}
	aside := []wire.Aside{}
	for _, x := range rep.Aside[:min(wire.MostAside, len(rep.Aside))] {
		aside = append(aside, wire.Aside{Check: measure.Clean(x.Check, mostWord), At: x.At, Reason: measure.Clean(x.Reason, mostSentence)})
	}
	if said.Aside, err = json.Marshal(aside); err != nil {
		return false, err
	}
	n, err := s.Store.AgentSeen(ctx, said)
	if err != nil || n == 0 {
		return false, err
	}
	isNew := a.SeenAt == nil || s.Now().Sub(*a.SeenAt) > incidents.Connected || a.Complaint != said.Complaint || a.CutOff != said.CutOff ||
		a.SetAside != said.SetAside || a.Lost != said.Lost
	if !isNew {
		return true, nil
	}
	return true, store.Notify(ctx, s.Store, store.Event{Kind: store.OnAgent, IDs: []string{a.Location}})
}

// usable is a number that can be kept; 0 in place of one that cannot.
func usable(v float64) float64 {
	if !measure.Usable(v) {
		return 0
	}
	return v
}

// assigned are the checks that an agent holds, and trials that are asked for at its location.
func (s *Server) assigned(ctx context.Context, a db.Agent) (wire.Assignments, error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return wire.Assignments{}, err
	}
	secrets, err := s.Definitions.Secrets(ctx, snap, s.Vault, s.Log)
	if err != nil {
		return wire.Assignments{}, err
	}
	roster, err := s.Rosters.Current(ctx, a.Location)
	if err != nil {
		return wire.Assignments{}, err
	}
	out := wire.Assignments{Location: a.Location, Clock: span.Of(s.Now()), Checks: []wire.Check{}}
	quiet := s.Pauses.Quiet(snap, out.Clock)
	for _, id := range catalogue.Live(snap.Checks) {
		spec := snap.Checks[id].Current().Spec
		if slices.Contains(spec.Locations, a.Location) && share.Holder(roster, id) == a.ID {
			c := wire.Of(id, spec)
			c.Secret, c.Quiet = secretFor(secrets, c), quiet[id]
			out.Checks = append(out.Checks, c)
		}
	}
	if e := snap.Locations[a.Location]; e != nil {
		out.References, out.Rates = e.Current().Spec.References, e.Current().Spec.Rates
	}
	if a.ReleaseAt != nil {
		out.Release = span.Of(*a.ReleaseAt)
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
		trial.Check.Secret = secretFor(secrets, trial.Check)
		out.Trials = append(out.Trials, trial)
	}
	return out, err
}

func (s *Server) batch(w http.ResponseWriter, r *http.Request, a db.Agent) {
	text, ok := bodyOf(w, r)
	if !ok {
		return
	}
	list, unread, err := measurements(r.Header.Get("Content-Type"), text)
	if errors.Is(err, wire.ErrTooMany) {
		writeProblem(w, http.StatusRequestEntityTooLarge, fmt.Sprintf("The batch has more measurements than may come at once: send at most %d.", wire.MaxBatch))
		return
	}
	if err != nil {
		writeProblem(w, http.StatusUnprocessableEntity, fmt.Sprintf("The batch cannot be read: %v. Nothing of it was stored.", err))
		return
	}
	receipt, err := s.Ingest.Batch(r.Context(), a.Location, a.ID, readable(list, unread))
	if errors.Is(err, ingest.ErrUnstorable) {
		writeProblem(w, http.StatusUnprocessableEntity, err.Error()+".")
		return
	}
	if err != nil {
		s.agentError(w, r, err)
		return
	}
	receipt.Refused = placed(receipt.Refused, unread)
	if n := len(receipt.Refused); n > 0 {
		s.Log.Warn("measurements refused", "location", a.Location, "count", n, "first", receipt.Refused[0].Reason)
	}
	writeJSON(w, receipt)
}

// readable leaves out of a list what could not be read.
func readable(list []wire.Measurement, unread []wire.Refusal) []wire.Measurement {
	if len(unread) == 0 {
		return list
	}
	out := make([]wire.Measurement, 0, len(list))
	next := 0
	for _, u := range unread {
		out = append(out, list[next:u.Index]...)
		next = u.Index + 1
	}
	return append(out, list[next:]...)
}

// placed puts refusals of a list that readable made back to the places in the
// whole one, beside those that could not be read, by index.
func placed(refused, unread []wire.Refusal) []wire.Refusal {
	if len(unread) == 0 {
		return refused
	}
	var out []wire.Refusal
	skipped := 0
	for _, r := range refused {
		for skipped < len(unread) && unread[skipped].Index <= r.Index+skipped {
			out = append(out, unread[skipped])
			skipped++
		}
		r.Index += skipped
		out = append(out, r)
	}
	return append(out, unread[skipped:]...)
}

func (s *Server) trialResult(w http.ResponseWriter, r *http.Request, a db.Agent) {
	id := chi.URLParam(r, "id")
	if !isUUID(id) {
		writeProblem(w, http.StatusNotFound, "There is no trial of that id.")
		return
	}
	var res wire.Result
	if !readJSON(w, r, &res) {
		return
	}
	res.Detail = measure.Clean(res.Detail, measure.MostDetail)
	for name, v := range res.Measures {
		if !measure.Usable(v) {
			delete(res.Measures, name)
		}
	}
	text, err := json.Marshal(res)
	n := int64(0)
	if err == nil {
		n, err = s.Store.FinishTrial(r.Context(), db.FinishTrialParams{ID: id, Location: a.Location, Result: json.RawMessage(ingest.WithoutNUL(string(text)))})
	}
	if err != nil {
		s.agentError(w, r, err)
		return
	}
	if n > 0 {
		if err := s.mark(r.Context(), id, a.Location); err != nil { // it is kept all the same
			s.Log.Warn("what evidence shows could not be noted", "trial", id, "error", err)
		}
	}
	if err := store.Notify(r.Context(), s.Store, store.Event{Kind: store.OnTrialDone, IDs: []string{id}}); err != nil {
		s.agentError(w, r, err)
		return
	}
	writeJSON(w, struct{}{})
}

var uuid = regexp.MustCompile(`^[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}$`)

func isUUID(id string) bool { return uuid.MatchString(id) }
