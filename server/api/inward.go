package api

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/jackc/pgx/v5"

	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/core/proposal"
	"kestite/server/auth"
	"kestite/server/inward"
	"kestite/server/store/gen/db"
)

// reportInPath is where the addresses to report in to are.
const reportInPath = "/in/"

// reportInRoute is where other systems report in; the token in the path is all they need.
func (s *Server) reportInRoute(r chi.Router) {
	for _, method := range []string{http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut} {
		r.MethodFunc(method, reportInPath+"{token}", s.reportIn)
	}
}

func (s *Server) inwardRoutes(a *operations) {
	on(a, access.See, http.MethodGet, "/kinds", "list-kinds", "The kinds of check, what each measures, and what a new one starts with",
		func(context.Context, *none) (*list[proposal.Kind], error) {
			return items(proposal.Kinds()), nil
		})
	on(a, access.Define, http.MethodPost, "/checks/{id}/report-in", "make-report-in-token", "Make the address to report in to; one made before is worthless from then on", s.makeReportIn)
	on(a, access.See, http.MethodGet, "/report-ins", "list-report-ins", "Which checks have an address to report in to", func(ctx context.Context, _ *none) (*list[ReportInView], error) {
		rows, err := s.Store.ReportIns(ctx)
		var out []ReportInView
		for _, r := range rows {
			out = append(out, ReportInView{r.CheckID, r.MadeAt, r.MadeBy})
		}
		return items(out), err
	})
}

// ReportInView says that a check has an address, and not which.
type ReportInView struct {
	Check  string    `json:"check"`
	MadeAt time.Time `json:"made_at"`
	MadeBy string    `json:"made_by"`
}

func (s *Server) reportIn(w http.ResponseWriter, r *http.Request) {
	check, err := s.Store.ReportInByToken(r.Context(), auth.HashToken(chi.URLParam(r, "token")))
	if errors.Is(err, pgx.ErrNoRows) {
		writeProblem(w, http.StatusNotFound, "There is no check to report in to at this address, or a new address was made since.")
		return
	}
	if err != nil {
		s.agentError(w, r, err)
		return
	}
	report, err := inward.Read(r)
	if err == nil {
		err = s.Inward.Take(r.Context(), check, report)
	}
	var fault *definition.Fault
	switch {
	case errors.As(err, &fault):
		writeProblem(w, http.StatusUnprocessableEntity, fault.Path+": "+fault.Message)
	case errors.Is(err, catalogue.ErrRetired):
		writeProblem(w, http.StatusGone, "The check was retired; nothing is measured by this report any more.")
	case err != nil:
		s.agentError(w, r, err)
	default:
		writeJSON(w, map[string]string{"taken": check})
	}
}

// ReportInAddress is shown once.
type ReportInAddress struct {
	Path string `json:"path" doc:"Below the server's address; shown this once"`
}

func (s *Server) makeReportIn(ctx context.Context, in *ByID) (*body[ReportInAddress], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	e := snap.Checks[in.ID]
	if e == nil || e.Retired {
		return nil, catalogue.ErrNotFound
	}
	if kind := e.Current().Spec.Kind; kind != measure.ReportIn.Name {
		return nil, invalid("id", "nobody reports in to a "+kind+" check")
	}
	if err := who(ctx).Rights.Over(snap, access.Define, e.Current().Spec.Service); err != nil {
		return nil, err
	}
	token, hash := auth.NewToken("kesr_")
	if err := s.Store.PutReportIn(ctx, db.PutReportInParams{CheckID: in.ID, TokenHash: hash, MadeBy: by(ctx).Kept()}); err != nil {
		return nil, err
	}
	return &body[ReportInAddress]{ReportInAddress{reportInPath + token}}, s.did(ctx, "make report-in address", "check "+in.ID, nil)
}
