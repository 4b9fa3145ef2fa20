package api

import (
	"context"
	"errors"
	"mime"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/jackc/pgx/v5"

	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/server/attached"
	"kestite/server/store/gen/db"
)

// closeTogetherRoutes are those of who closes a period with whom, and of what they attach.
func (s *Server) closeTogetherRoutes(a *operations) {
	on(a, access.Operate, http.MethodPut, "/closes/{id}/owner", "own-close", "Say who sees to it that the period is closed", func(ctx context.Context, in *struct {
		ClosePath
		Body struct {
			Person string `json:"person,omitempty" maxLength:"36" doc:"Absent: nobody"`
		}
	}) (*none, error) {
		if err := s.over(ctx, access.Operate, in.ID); err != nil {
			return nil, err
		}
		return nil, closeProblem(s.Close.Own(ctx, in.of(), in.Body.Person, by(ctx)))
	})
	on(a, access.See, http.MethodPost, "/closes/{id}/visit", "visit-close", "Say that you look at the close, and learn who else does", s.visitClose)
	on(a, access.Operate, http.MethodPost, "/closes/{id}/files", "attach-to-close", "Attach a file to a question of a close, 2 MiB at most", s.attachToClose,
		func(op *huma.Operation) { op.MaxBodyBytes = attached.MostBytes + 1 }) // one byte more is told to be too long
	on(a, access.See, http.MethodGet, "/closes/{id}/files/{file}", "file-of-close", "A file that was attached", s.fileOfClose)
	on(a, access.Operate, http.MethodDelete, "/closes/{id}/files/{file}", "detach-from-close", "Take a file away again", func(ctx context.Context, in *CloseFilePath) (*none, error) {
		if err := s.over(ctx, access.Operate, in.ID); err != nil {
			return nil, err
		}
		return nil, closeProblem(s.Close.Detach(ctx, in.of(), in.File, by(ctx)))
	})
}

// CloseFilePath names a file of a close.
type CloseFilePath struct {
	ClosePath
	File int64 `path:"file" minimum:"1"`
}

// Others are who else looks at a close.
type Others struct {
	Others []string `json:"others" doc:"Names"`
}

func (s *Server) visitClose(ctx context.Context, in *ClosePath) (*body[Others], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	if snap.Agreements[in.ID] == nil {
		return nil, catalogue.ErrNotFound
	}
	if _, err := snap.PeriodNamed(in.ID, in.Period); err != nil {
		return nil, err
	}
	others, err := s.Close.Visit(ctx, in.of(), who(ctx).ID)
	return &body[Others]{Others{others}}, err
}

func (s *Server) attachToClose(ctx context.Context, in *struct {
	ClosePath
	Key     string `query:"key" required:"true" maxLength:"300"`
	Name    string `query:"name" required:"true" maxLength:"300"`
	RawBody []byte `contentType:"application/octet-stream"`
}) (*none, error) {
	if err := s.over(ctx, access.Operate, in.ID); err != nil {
		return nil, err
	}
	return nil, closeProblem(s.Close.Attach(ctx, in.of(), in.Key, in.Name, in.RawBody, by(ctx)))
}

// fileOfClose sends a file for saving: what a person attached is never shown as a page of ours.
func (s *Server) fileOfClose(ctx context.Context, in *CloseFilePath) (*file, error) {
	f, err := s.Store.CloseFile(ctx, db.CloseFileParams{Agreement: in.ID, Period: in.Period, ID: in.File})
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, catalogue.ErrNotFound
	}
	return &file{ContentType: f.Type, Disposition: mime.FormatMediaType("attachment", map[string]string{"filename": f.Name}), Policy: "sandbox; default-src 'none'", Body: f.Content}, err
}
