package api

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"slices"
	"time"

	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/span"
	"kestite/server/defining"
	"kestite/server/notifying"
	"kestite/server/store/gen/db"
)

// Defined is a definition with the latest revision.
type Defined[S any] struct {
	ID       string        `json:"id"`
	Revision int           `json:"revision" doc:"Number of the latest revision"`
	Since    span.Instant  `json:"since" doc:"When it was first defined"`
	From     span.Instant  `json:"from" doc:"When the revision was made"`
	Counts   *span.Instant `json:"counts_from,omitempty" doc:"Of an agreement: start of the first period that the revision accounts; absent for the first revision"`
	Retired  bool          `json:"retired"`
	Spec     S             `json:"spec"`
}

func defined[S any](e *catalogue.Entry[S]) Defined[S] {
	c := e.Current()
	return Defined[S]{ID: e.ID, Revision: c.Number, Since: e.Since(), From: c.From, Counts: c.Counts, Retired: e.Retired, Spec: c.Spec}
}

// RevisionView is one revision in a definition's history.
type RevisionView struct {
	Number int             `json:"number"`
	From   time.Time       `json:"from"`
	Until  *time.Time      `json:"until,omitempty"`
	Counts *time.Time      `json:"counts_from,omitempty" doc:"Of an agreement: start of the first period that it accounts"`
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
		Revision int    `json:"revision" minimum:"1" doc:"The revision the edit was made on"`
		Spec     S      `json:"spec"`
		Reason   string `json:"reason,omitempty" maxLength:"500"`
		Corrects string `json:"corrects,omitempty" maxLength:"50" doc:"Of an agreement: the period from which a correction counts, the present or an earlier one without a published report; it needs a reason. Absent: the edit counts from the next period"`
	}
}

type made struct {
	ID string `json:"id"`
}

// definitionKind is what the routes of one kind of definition share.
type definitionKind[S catalogue.Spec] struct {
	kind, path, name string // "service", "/services", "a service"
	named            func(S) string
	entries          func(*catalogue.Snapshot) map[string]*catalogue.Entry[S]
	// hide takes out what those do not see who may not change it; nil: they see all.
	hide func(S) S
}

// shown is a spec as who asks may see it.
func (k definitionKind[S]) shown(ctx context.Context, spec S) S {
	if k.hide == nil || who(ctx).Rights.May(access.ToChange(k.kind)) {
		return spec
	}
	return k.hide(spec)
}

// shownBody is a spec as it is kept, as who asks may see it.
func (k definitionKind[S]) shownBody(ctx context.Context, text json.RawMessage) (json.RawMessage, error) {
	var spec S
	if k.hide == nil || who(ctx).Rights.May(access.ToChange(k.kind)) {
		return text, nil
	}
	if err := json.Unmarshal(text, &spec); err != nil {
		return json.RawMessage(`{}`), nil // of what cannot be read nothing is shown
	}
	return json.Marshal(k.hide(spec))
}

// definitionRoutes registers list, create, edit, retire, restore and history of a kind.
func definitionRoutes[S catalogue.Spec](a *operations, k definitionKind[S]) {
	s := a.server
	changes := access.ToChange(k.kind)
	on(a, access.See, http.MethodGet, k.path, "list-"+k.kind, "All of them, retired ones included", func(ctx context.Context, _ *none) (*list[Defined[S]], error) {
		snap, err := s.Definitions.Snapshot(ctx)
		if err != nil {
			return nil, err
		}
		entries := k.entries(snap)
		var out []Defined[S]
		for _, id := range catalogue.Sorted(entries) {
			d := defined(entries[id])
			d.Spec = k.shown(ctx, d.Spec)
			out = append(out, d)
		}
		return items(out), nil
	})
	on(a, changes, http.MethodPost, k.path, "create-"+k.kind, "Define "+k.name, func(ctx context.Context, in *create[S]) (*body[made], error) {
		id, err := s.Definitions.Create(ctx, k.kind, "", k.named(in.Body.Spec), in.Body.Spec, s.change(ctx, in.Body.Reason))
		if err != nil {
			return nil, inSpec(err)
		}
		return &body[made]{made{id}}, nil
	})
	on(a, changes, http.MethodPut, k.path+"/{id}", "edit-"+k.kind, "Edit "+k.name+": opens a new revision", func(ctx context.Context, in *edit[S]) (*none, error) {
		_, err := s.Definitions.Apply(ctx, s.change(ctx, in.Body.Reason), catalogue.Step{
			Does: catalogue.Rewrite, Kind: k.kind, ID: in.ID, Expected: in.Body.Revision, Spec: in.Body.Spec, Corrects: in.Body.Corrects,
		})
		return nil, inSpec(err)
	})
	on(a, changes, http.MethodDelete, k.path+"/{id}", "retire-"+k.kind, "Retire "+k.name+"; its history stays", func(ctx context.Context, in *ByID) (*none, error) {
		if err := s.Definitions.Retire(ctx, k.kind, in.ID, s.change(ctx, "")); err != nil {
			return nil, err
		}
		return nil, nil
	})
	on(a, changes, http.MethodPost, k.path+"/{id}/restore", "restore-"+k.kind, "Undo a retirement", func(ctx context.Context, in *ByID) (*none, error) {
		if err := s.Definitions.Restore(ctx, k.kind, in.ID, s.change(ctx, "")); err != nil {
			return nil, err
		}
		return nil, nil
	})
	on(a, access.See, http.MethodGet, k.path+"/{id}/revisions", "revisions-of-"+k.kind, "Its revisions, newest first", func(ctx context.Context, in *ByID) (*list[RevisionView], error) {
		rows, err := s.Store.Revisions(ctx, db.RevisionsParams{Kind: k.kind, ID: in.ID})
		if err == nil && len(rows) == 0 {
			err = catalogue.ErrNotFound
		}
		var out []RevisionView
		for _, r := range rows {
			text, err := k.shownBody(ctx, r.Body)
			if err != nil {
				return nil, err
			}
			out = append(out, RevisionView{int(r.Number), r.ValidFrom, r.ValidUntil, r.CountsFrom, r.Maker, r.Reason, text})
		}
		return items(out), err
	})
}

// inSpec says of a fault in a spec that it lies there, and leaves those of the
// change itself.
func inSpec(err error) error {
	var fault *definition.Fault
	if errors.As(err, &fault) && slices.Contains([]string{"corrects", "reason", "id", "spec", "kind"}, fault.Path) {
		return err
	}
	return definition.Within("spec", err)
}

func (s *Server) change(ctx context.Context, reason string) defining.Change {
	return defining.Change{By: by(ctx), Reason: reason, May: s.mayWrite(ctx)}
}

// mayWrite refuses what who asks may not write, and people who are not there: those are
// no definitions.
func (s *Server) mayWrite(ctx context.Context) func(before, after *catalogue.Snapshot, w catalogue.Write) error {
	return func(before, after *catalogue.Snapshot, w catalogue.Write) error {
		if err := who(ctx).Rights.MayWrite(before, after, w); err != nil {
			return err
		}
		return notifying.Unknown(ctx, s.Store.Queries, w.Spec)
	}
}
