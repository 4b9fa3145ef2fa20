package api

import (
	"context"
	"errors"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"kestite/core/access"
	"kestite/core/publication"
	"kestite/server/publish"
	"kestite/server/store/gen/db"
)

// ByNote is what was said of a report.
type ByNote struct {
	ByID
	Note int64 `path:"note"`
}

// NewNote is a comment or an objection.
type NewNote struct {
	About string `json:"about,omitempty" maxLength:"200" doc:"The line that it is about"`
	Text  string `json:"text" minLength:"1" maxLength:"4000"`
}

// ObjectionEnd is how an objection ends.
type ObjectionEnd struct {
	State  publication.State `json:"state" enum:"stands,revised,withdrawn"`
	Answer string            `json:"answer,omitempty" maxLength:"4000"`
}

// Noted is what a note led to.
type Noted struct {
	ID       int64  `json:"id,omitempty"`
	Revision string `json:"revision,omitempty" doc:"Id of the draft of a revision"`
}

func (s *Server) reviewRoutes(a *operations) {
	on(a, access.Approve, http.MethodPost, "/reports/{id}/approval", "approve-report", "Approve a draft as it was read", s.approveReport)
	on(a, access.SeeDrafts, http.MethodPost, "/reports/{id}/comments", "comment-report", "Say something of a report, among those who make it", s.commentReport)
	on(a, access.Own, http.MethodPost, "/reports/{id}/objections", "object-report", "Object to a line of a published report", s.objectReport)
	on(a, access.Own, http.MethodPost, "/reports/{id}/objections/{note}/end", "end-objection", "Answer an objection, or take one's own back", s.endObjection)
}

// reviewed adds what was said of a report, and what the person asking may do with it.
func (s *Server) reviewed(ctx context.Context, r db.Report, approvedBy string, out *ReportPage) error {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return err
	}
	notes, err := s.Store.ReportNotes(ctx, r.ID)
	if err != nil {
		return err
	}
	me, draft := by(ctx).Kept(), r.State == "draft"
	out.Notes = []NoteView{}
	for _, n := range notes {
		if n.Kind == "comment" && !seesDrafts(ctx) {
			continue
		}
		out.Notes = append(out.Notes, NoteView{n.ID, n.Kind, n.About, n.Text, n.MadeBy, n.ByID == me, n.MadeAt, publication.State(n.State), n.Answer, n.AnsweredBy, n.AnsweredAt, n.Revision})
	}
	rights, service := who(ctx).Rights, snap.ServiceOf(r.Agreement)
	publishes := rights.Over(snap, access.Publish, service) == nil
	out.May = ReportMay{Publish: draft && publishes, Comment: seesDrafts(ctx), Object: !draft && (publishes || rights.Customer != ""), Answer: !draft && publishes}
	if !draft {
		return nil
	}
	needed, err := s.Desk.NeedsApproval(ctx, r)
	if err != nil || !needed {
		return err
	}
	out.Approval = &ApprovalView{By: approvedBy, At: r.ApprovedAt, Current: r.ApprovedSeen != nil && *r.ApprovedSeen == out.Seen}
	out.May.Publish = publishes && (r.ApprovedBy == nil || *r.ApprovedBy != me)
	out.May.Approve = publication.Approves(r.MadeBy, me, rights) == nil && rights.Over(snap, access.Approve, service) == nil
	return nil
}

func (s *Server) approveReport(ctx context.Context, in *struct {
	ByID
	Body Publishing
}) (*none, error) {
	r, err := s.report(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if err := s.over(ctx, access.Approve, r.Agreement); err != nil {
		return nil, err
	}
	err = s.Desk.Approve(ctx, r.ID, in.Body.Seen, by(ctx), who(ctx).Rights, s.Now())
	switch {
	case errors.Is(err, publish.ErrUnread):
		return nil, huma.Error409Conflict("It says something else by now than what you read. Read it again, then approve.")
	case errors.Is(err, publish.ErrPublished):
		return nil, huma.Error409Conflict("It is no draft any more.")
	}
	return nil, err
}

func (s *Server) commentReport(ctx context.Context, in *struct {
	ByID
	Body NewNote
}) (*body[Noted], error) {
	r, err := s.report(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	id, err := s.Desk.Comment(ctx, r.ID, in.Body.Text, by(ctx), s.Now())
	return &body[Noted]{Noted{ID: id}}, err
}

// objectReport takes an objection of a customer, or one that came by letter from who
// publishes for the customer.
func (s *Server) objectReport(ctx context.Context, in *struct {
	ByID
	Body NewNote
}) (*body[Noted], error) {
	r, err := s.report(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if who(ctx).Rights.Customer == "" {
		if err := s.over(ctx, access.Publish, r.Agreement); err != nil {
			return nil, err
		}
	}
	id, err := s.Desk.Object(ctx, r, in.Body.About, in.Body.Text, by(ctx), s.Now())
	return &body[Noted]{Noted{ID: id}}, err
}

func (s *Server) endObjection(ctx context.Context, in *struct {
	ByNote
	Body ObjectionEnd
}) (*body[Noted], error) {
	r, err := s.report(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if in.Body.State != publication.Withdrawn {
		if err := s.over(ctx, access.Publish, r.Agreement); err != nil {
			return nil, err
		}
	}
	revision, err := s.Desk.End(ctx, r, in.Note, in.Body.State, in.Body.Answer, by(ctx), s.Now())
	return &body[Noted]{Noted{Revision: revision}}, err
}
