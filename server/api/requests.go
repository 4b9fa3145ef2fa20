package api

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/planning"
	"kestite/core/span"
	"kestite/server/planner"
	"kestite/server/requests"
	"kestite/server/store/gen/db"
)

func (s *Server) requestRoutes(a *operations) {
	on(a, access.See, http.MethodGet, "/work-requests", "work-requests", "Planned work that waits for a second person, or did, the latest first", s.workRequests)
	on(a, access.See, http.MethodGet, "/work-requests/{id}", "work-request", "What somebody asks for, and what it would do", s.workRequest)
	on(a, access.Operate, http.MethodPost, "/work-requests", "ask-for-work", "Ask a second person for planned work", s.askForWork)
	on(a, access.See, http.MethodPost, "/work-requests/{id}/decision", "decide-work", "Approve, refuse or withdraw it", s.decideWork)
}

// WorkRequest is planned work that waits for a second person, or did.
type WorkRequest struct {
	ID       int64                 `json:"id"`
	State    string                `json:"state" enum:"open,approved,refused,withdrawn"`
	Window   string                `json:"window,omitempty" doc:"Id of the window that it changes, or has made"`
	Revision int                   `json:"revision,omitempty" doc:"Of that, on which it was asked for; absent: it is new"`
	Spec     definition.WindowSpec `json:"spec"`
	Words    string                `json:"words" doc:"When it is"`
	Services []Ref                 `json:"services"`
	First    *span.Instant         `json:"first,omitempty" doc:"When it would take place next; absent: never"`
	By       string                `json:"by" doc:"Who asks, as they are called"`
	AskedAt  time.Time             `json:"asked_at"`
	Reason   string                `json:"reason"`
	Decider  string                `json:"decided_by,omitempty"`
	Decided  *time.Time            `json:"decided_at,omitempty"`
	Note     string                `json:"note,omitempty"`
}

// OwnRequest is a request as who asks stands to it.
type OwnRequest struct {
	WorkRequest
	Mine bool `json:"mine" doc:"You asked for it"`
	May  bool `json:"may" doc:"You may decide"`
}

// own says how who asks stands to a request.
func own(ctx context.Context, snap *catalogue.Snapshot, v WorkRequest, row db.WorkRequestRow) OwnRequest {
	me := who(ctx)
	out := OwnRequest{WorkRequest: v, Mine: row.By == me.ID}
	out.May = row.State == requests.Open && !out.Mine
	for _, id := range v.Spec.Services {
		out.May = out.May && me.Rights.Over(snap, access.Approve, id) == nil
	}
	return out
}

// mostRequests is how many are shown at once.
const mostRequests = 100

// planned is what would be planned if a request were approved now; the error says why it
// cannot be.
func (s *Server) planned(ctx context.Context, row db.WorkRequestRow) (*catalogue.Plan, error) {
	step, err := requests.Step(row)
	if err != nil {
		return nil, err
	}
	ch := s.change(ctx, row.Reason)
	ch.May, ch.Approved = nil, true
	return s.Definitions.Preview(ctx, ch, func(*catalogue.Snapshot) ([]catalogue.Step, error) { return []catalogue.Step{step}, nil })
}

// requestView is a request, and what it would plan; the error says why it cannot be
// planned, and the request is told all the same.
func (s *Server) requestView(ctx context.Context, snap *catalogue.Snapshot, row db.WorkRequestRow) (WorkRequest, *catalogue.Plan, error) {
	step, unreadable := requests.Step(row)
	spec, _ := step.Spec.(definition.WindowSpec)
	v := WorkRequest{ID: row.ID, State: row.State, Window: row.Work, Revision: int(row.Revision), Spec: spec, Words: planning.When(spec), Services: []Ref{},
		By: row.AskedBy, AskedAt: row.AskedAt, Reason: row.Reason, Decider: row.Decider, Decided: row.DecidedAt, Note: row.Note}
	for _, id := range spec.Services {
		v.Services = append(v.Services, Ref{id, snap.Named(catalogue.Service, id)})
	}
	if row.State != requests.Open || unreadable != nil {
		return v, nil, unreadable
	}
	plan, err := s.planned(ctx, row)
	if err != nil {
		return v, nil, err
	}
	if coming := planner.Coming(plan.After, plan.IDs[0], span.Of(s.Now())); len(coming) > 0 {
		v.First = &coming[0].Planned.From
	}
	return v, plan, nil
}

func (s *Server) workRequests(ctx context.Context, in *struct {
	Open   bool  `query:"open" doc:"Those alone that nobody has decided"`
	Before int64 `query:"before" minimum:"0" doc:"Number of the last that was shown; absent: from the latest"`
}) (*list[OwnRequest], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	rows, err := s.Store.WorkRequests(ctx, db.WorkRequestsParams{Open: in.Open, Before: positive(in.Before), Most: mostRequests})
	if err != nil {
		return nil, err
	}
	var out []OwnRequest
	for _, r := range rows {
		v, _, _ := s.requestView(ctx, snap, db.WorkRequestRow(r)) // what cannot be planned any more is shown; its own page says why
		out = append(out, own(ctx, snap, v, db.WorkRequestRow(r)))
	}
	return items(out), nil
}

func positive(n int64) *int64 {
	if n <= 0 {
		return nil
	}
	return &n
}

// RequestedWork is what somebody asks for, and what it would do.
type RequestedWork struct {
	OwnRequest
	Fault string    `json:"fault,omitempty" doc:"Why it cannot be approved as things are"`
	Work  *WorkView `json:"work,omitempty" doc:"What it would do; absent where it cannot be, or was decided"`
}

func (s *Server) workRequest(ctx context.Context, in *ByNumber) (*body[RequestedWork], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	row, err := s.Store.WorkRequest(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	var out RequestedWork
	v, plan, err := s.requestView(ctx, snap, row)
	out.OwnRequest = own(ctx, snap, v, row)
	var fault *definition.Fault
	var conflict *catalogue.Conflict
	switch {
	case errors.As(err, &fault):
		out.Fault = fault.Message
	case errors.As(err, &conflict):
		out.Fault = "The window was edited by " + conflict.By + " since this was asked for. Ask again, on what it is now."
	case errors.Is(err, requests.ErrUnreadable):
		out.Fault = "What it asks for cannot be read. Withdraw it, or refuse it, and ask again."
	case errors.Is(err, catalogue.ErrRetired):
		out.Fault = "The window was cancelled since."
	case err != nil:
		return nil, err
	case plan != nil:
		if out.Work, err = s.workView(ctx, snap, plan.After, plan.IDs[0]); err != nil {
			return nil, err
		}
	}
	return &body[RequestedWork]{out}, nil
}

// WorkAsked asks a second person for planned work.
type WorkAsked struct {
	Window   string                `json:"window,omitempty" maxLength:"120" doc:"Id of the window that it changes; absent: it is new"`
	Revision int                   `json:"revision,omitempty" minimum:"0" doc:"Of that, on which it is asked for"`
	Spec     definition.WindowSpec `json:"spec"`
	Reason   string                `json:"reason,omitempty" maxLength:"500"`
}

// Asked is a request that was made.
type Asked struct {
	Request int64 `json:"request"`
}

func (s *Server) askForWork(ctx context.Context, in *body[WorkAsked]) (*body[Asked], error) {
	step := catalogue.Step{Does: catalogue.Make, Kind: catalogue.Window, Spec: in.Body.Spec}
	if in.Body.Window != "" {
		step.Does, step.ID, step.Expected = catalogue.Rewrite, in.Body.Window, in.Body.Revision
		if in.Body.Revision == 0 {
			return nil, definition.Faultf("revision", "is missing; give that of the window, on which it is asked for")
		}
	}
	id, err := s.Requests.Ask(ctx, s.change(ctx, in.Body.Reason), step)
	return &body[Asked]{Asked{id}}, inSpec(err)
}

// WorkDecision is what somebody decides.
type WorkDecision struct {
	Does string `json:"does" enum:"approve,refuse,withdraw"`
	Note string `json:"note,omitempty" maxLength:"500" doc:"Why; of a refusal it has to be said"`
}

func (s *Server) decideWork(ctx context.Context, in *struct {
	ByNumber
	Body WorkDecision
}) (*none, error) {
	state := map[string]string{"approve": requests.Approved, "refuse": requests.Refused, "withdraw": requests.Withdrawn}[in.Body.Does]
	err := s.Requests.Decide(ctx, in.ID, requests.Decision{By: by(ctx), May: who(ctx).Rights, State: state, Note: in.Body.Note})
	var fault *definition.Fault
	switch {
	case errors.Is(err, requests.ErrDecided):
		return nil, huma.Error409Conflict("Somebody else was faster: " + err.Error() + ".")
	case errors.As(err, &fault) && fault.Path != "note": // of what was asked for, which is no part of this
		return nil, huma.Error409Conflict("It cannot be approved as things are: " + fault.Message)
	}
	return nil, err
}
