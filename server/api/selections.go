package api

import (
	"context"
	"net/http"

	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/core/definition"
)

func (s *Server) selectionRoutes(a *operations) {
	definitionRoutes(a, definitionKind[definition.SelectionSpec]{
		kind: catalogue.Selection, path: "/selections", name: "a selection",
		named:   func(s definition.SelectionSpec) string { return s.Name },
		entries: func(s *catalogue.Snapshot) map[string]*catalogue.Entry[definition.SelectionSpec] { return s.Selections },
	})
	on(a, access.See, http.MethodGet, "/selections/members", "selected", "What each selection in force takes now", s.selected)
	on(a, access.See, http.MethodPost, "/selections/preview", "preview-selection", "What a selection would take, saved or not", s.previewSelection)
}

// Selected is what a selection takes now.
type Selected struct {
	ID       string   `json:"id,omitempty"`
	Name     string   `json:"name"`
	Of       string   `json:"of" enum:"services,checks"`
	Services []string `json:"services" doc:"Ids; of a selection of checks, those of which it takes one"`
	Checks   []string `json:"checks" doc:"Ids; of a selection of services, all of theirs"`
}

func selectedOf(snap *catalogue.Snapshot, id string, spec definition.SelectionSpec) Selected {
	return Selected{ID: id, Name: spec.Name, Of: spec.Of, Services: append([]string{}, snap.Selected(spec)...), Checks: append([]string{}, snap.SelectedChecks(spec)...)}
}

func (s *Server) selected(ctx context.Context, _ *none) (*list[Selected], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	var out []Selected
	for _, id := range catalogue.Live(snap.Selections) {
		out = append(out, selectedOf(snap, id, snap.Selections[id].Current().Spec))
	}
	return items(out), nil
}

func (s *Server) previewSelection(ctx context.Context, in *body[struct {
	Spec definition.SelectionSpec `json:"spec"`
}]) (*body[Selected], error) {
	if err := definition.Valid(in.Body.Spec); err != nil {
		return nil, definition.Within("spec", err)
	}
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	return &body[Selected]{selectedOf(snap, "", in.Body.Spec)}, nil
}
