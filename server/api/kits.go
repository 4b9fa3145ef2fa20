package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"

	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/core/definition"
)

// KitUse applies a kit to a service.
type KitUse struct {
	Service   string            `json:"service" minLength:"1"`
	Locations []string          `json:"locations"`
	Values    map[string]string `json:"values,omitempty" doc:"By the parameters' names; absent ones take the default"`
}

func (s *Server) kitRoutes(a *operations) {
	definitionRoutes(a, definitionKind[definition.KitSpec]{
		kind: catalogue.Kit, path: "/kits", name: "a kit",
		named:   func(s definition.KitSpec) string { return s.Name },
		entries: func(s *catalogue.Snapshot) map[string]*catalogue.Entry[definition.KitSpec] { return s.Kits },
	})
	on(a, access.Define, http.MethodPost, "/kits/{id}/use", "use-kit", "Make the checks of a kit for a service", s.useKit)
}

func (s *Server) useKit(ctx context.Context, in *struct {
	ByID
	body[KitUse]
}) (*list[made], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	e := snap.Kits[in.ID]
	if e == nil || e.Retired {
		return nil, catalogue.ErrNotFound
	}
	kit := e.Current().Spec
	specs, err := kit.Fill(in.Body.Service, in.Body.Locations, in.Body.Values)
	if err != nil {
		return nil, err
	}
	steps := make([]catalogue.Step, len(specs))
	for i, spec := range specs {
		steps[i] = catalogue.Step{Kind: catalogue.Check, Name: spec.Service + " " + spec.Kind, Spec: spec}
	}
	ids, err := s.Definitions.Apply(ctx, s.change(ctx, "kit "+kit.Name), steps...)
	var at *catalogue.StepError
	if errors.As(err, &at) {
		return nil, definition.Within(fmt.Sprintf("checks[%d]", at.Index), err)
	}
	if err != nil {
		return nil, err
	}
	out := make([]made, len(ids))
	for i, id := range ids {
		out[i] = made{id}
	}
	return items(out), nil
}
