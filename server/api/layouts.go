package api

import (
	"context"
	"errors"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/jackc/pgx/v5"

	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/server/report"
	"kestite/server/store/gen/db"
)

// layoutRoutes are those of how reports look, and of the logos on them.
func (s *Server) layoutRoutes(a *operations) {
	definitionRoutes(a, definitionKind[definition.LayoutSpec]{
		kind: catalogue.Layout, path: "/layouts", name: "a layout of reports",
		named:   func(s definition.LayoutSpec) string { return s.Name },
		entries: func(s *catalogue.Snapshot) map[string]*catalogue.Entry[definition.LayoutSpec] { return s.Layouts },
	})
	on(a, access.Define, http.MethodPost, "/logos", "upload-logo", "Upload a logo (PNG, JPEG or GIF, 1 MiB at most); it is drawn anew as PNG", s.uploadLogo,
		func(op *huma.Operation) { op.MaxBodyBytes = 2 * report.MostLogoBytes }) // what is more than a logo may be is told what may be
	on(a, access.See, http.MethodGet, "/logos/{digest}", "logo", "A logo, as PNG", s.logo)
	on(a, access.See, http.MethodPost, "/layouts/preview", "preview-layout", "The latest finished period of an agreement as a layout, saved or not, would print it: a PDF that says that it is a draft", s.previewLayout)
}

// UploadedLogo is a logo that was uploaded.
type UploadedLogo struct {
	Digest string `json:"digest" doc:"What layouts and customers name it by: the SHA-256 of the PNG"`
	Width  int    `json:"width" doc:"Pixels"`
	Height int    `json:"height"`
}

func (s *Server) uploadLogo(ctx context.Context, in *struct {
	RawBody []byte `contentType:"application/octet-stream"`
}) (*body[UploadedLogo], error) {
	l, err := report.ReadLogo(in.RawBody)
	if err != nil {
		return nil, err
	}
	err = s.Store.AddLogo(ctx, db.AddLogoParams{Digest: l.Digest(), Png: l.PNG, Width: int32(l.Width), Height: int32(l.Height), MadeBy: by(ctx).Kept(), MadeAt: s.Now()})
	if err != nil {
		return nil, err
	}
	return &body[UploadedLogo]{UploadedLogo{l.Digest(), l.Width, l.Height}}, s.did(ctx, "upload", "logo "+l.Digest()[:12], map[string]int{"width": l.Width, "height": l.Height})
}

func (s *Server) logo(ctx context.Context, in *struct {
	Digest string `path:"digest" minLength:"64" maxLength:"64"`
}) (*file, error) {
	row, err := s.Store.Logo(ctx, in.Digest)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, catalogue.ErrNotFound
	}
	return &file{ContentType: "image/png", Disposition: `inline; filename="logo.png"`, Policy: "default-src 'none'; sandbox", Body: row.Png}, err
}

// LayoutPreview asks how a layout looks.
type LayoutPreview struct {
	Spec      definition.LayoutSpec `json:"spec"`
	Agreement string                `json:"agreement" minLength:"1" maxLength:"120"`
}

func (s *Server) previewLayout(ctx context.Context, in *body[LayoutPreview]) (*file, error) {
	if err := s.over(ctx, access.See, in.Body.Agreement); err != nil {
		return nil, err
	}
	if err := definition.Valid(in.Body.Spec); err != nil {
		return nil, inSpec(err)
	}
	document, err := s.Desk.Preview(ctx, in.Body.Spec, in.Body.Agreement, s.Now())
	if err != nil {
		return nil, err
	}
	return &file{ContentType: "application/pdf", Disposition: `inline; filename="preview.pdf"`, Body: document}, nil
}
