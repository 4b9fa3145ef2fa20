package api

import (
	"context"
	"encoding/json"
	"net/http"
	"time"

	"kestite/core/definition"
	"kestite/core/span"
	"kestite/server/auth"
	"kestite/server/catalogue"
	"kestite/server/store/gen/db"
)

// Defined is a definition with the revision in force.
type Defined[S any] struct {
	ID       string       `json:"id"`
	Revision int          `json:"revision" doc:"Number of the revision in force"`
	Since    span.Instant `json:"since" doc:"When it was first defined"`
	From     span.Instant `json:"from" doc:"Since when the revision is in force"`
	Retired  bool         `json:"retired"`
	Spec     S            `json:"spec"`
}

func defined[S any](e *catalogue.Entry[S]) Defined[S] {
	c := e.Current()
	return Defined[S]{ID: e.ID, Revision: c.Number, Since: e.Revisions[0].From, From: c.From, Retired: e.Retired, Spec: c.Spec}
}

// RevisionView is one revision in a definition's history.
type RevisionView struct {
	Number int             `json:"number"`
	From   time.Time       `json:"from"`
	Until  *time.Time      `json:"until,omitempty"`
	By     string          `json:"by"`
	Reason string          `json:"reason"`
	Spec   json.RawMessage `json:"spec"`
}

type create[S any] struct {
	Body struct {
		Spec   S      `json:"spec"`
		Reason string `json:"reason,omitempty" maxLength:"500"`
	}
}

type edit[S any] struct {
	ByID
	Body struct {
		Revision int    `json:"revision" doc:"The revision the edit was made on; 0 for whichever is in force"`
		Spec     S      `json:"spec"`
		Reason   string `json:"reason,omitempty" maxLength:"500"`
	}
}

type made struct {
	ID string `json:"id"`
}

// definitionKind is what the routes of one kind of definition share.
type definitionKind[S catalogue.Spec] struct {
	kind, path, name string // "service", "/services", "a service"
	role             auth.Role
	named            func(S) string
	entries          func(*catalogue.Snapshot) map[string]*catalogue.Entry[S]
}

// definitionRoutes registers list, create, edit, retire, restore and history of a kind.
func definitionRoutes[S catalogue.Spec](a *operations, k definitionKind[S]) {
	s := a.server
	on(a, auth.Viewer, http.MethodGet, k.path, "list-"+k.kind, "All of them, retired ones included", func(ctx context.Context, _ *none) (*list[Defined[S]], error) {
		snap, err := s.Catalogue.Snapshot(ctx)
		if err != nil {
			return nil, err
		}
		entries := k.entries(snap)
		var out []Defined[S]
		for _, id := range catalogue.Sorted(entries) {
			out = append(out, defined(entries[id]))
		}
		return items(out), nil
	})
	on(a, k.role, http.MethodPost, k.path, "create-"+k.kind, "Define "+k.name, func(ctx context.Context, in *create[S]) (*body[made], error) {
		id, err := s.Catalogue.Create(ctx, k.kind, "", k.named(in.Body.Spec), in.Body.Spec, s.change(ctx, in.Body.Reason))
		if err != nil {
			return nil, definition.Within("spec", err)
		}
		return &body[made]{made{id}}, nil
	})
	on(a, k.role, http.MethodPut, k.path+"/{id}", "edit-"+k.kind, "Edit "+k.name+": opens a new revision", func(ctx context.Context, in *edit[S]) (*none, error) {
		if err := s.Catalogue.Edit(ctx, k.kind, in.ID, in.Body.Revision, in.Body.Spec, s.change(ctx, in.Body.Reason)); err != nil {
			return nil, definition.Within("spec", err)
		}
		return nil, nil
	})
	on(a, k.role, http.MethodDelete, k.path+"/{id}", "retire-"+k.kind, "Retire "+k.name+"; its history stays", func(ctx context.Context, in *ByID) (*none, error) {
		if err := s.Catalogue.Retire(ctx, k.kind, in.ID, s.change(ctx, "")); err != nil {
			return nil, err
		}
		return nil, nil
	})
	on(a, k.role, http.MethodPost, k.path+"/{id}/restore", "restore-"+k.kind, "Undo a retirement", func(ctx context.Context, in *ByID) (*none, error) {
		if err := s.Catalogue.Restore(ctx, k.kind, in.ID, s.change(ctx, "")); err != nil {
			return nil, err
		}
		return nil, nil
	})
	on(a, auth.Viewer, http.MethodGet, k.path+"/{id}/revisions", "revisions-of-"+k.kind, "Its revisions, newest first", func(ctx context.Context, in *ByID) (*list[RevisionView], error) {
		rows, err := s.Store.Revisions(ctx, db.RevisionsParams{Kind: k.kind, ID: in.ID})
		if err == nil && len(rows) == 0 {
			err = catalogue.ErrNotFound
		}
		var out []RevisionView
		for _, r := range rows {
			out = append(out, RevisionView{int(r.Number), r.ValidFrom, r.ValidUntil, r.MadeBy, r.Reason, r.Body})
		}
		return items(out), err
	})
}

func (s *Server) change(ctx context.Context, reason string) catalogue.Change {
	return catalogue.Change{By: by(ctx), Reason: reason}
}
