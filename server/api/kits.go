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
	on(a, access.Define, http.MethodPost, "/kits/proposal", "propose-kit",
		"A kit of the checks of a service, with what differs as parameters; nothing is kept", s.kitOf)
	on(a, access.Define, http.MethodPost, "/kits/{id}/use", "use-kit", "Make the checks of a kit for a service", s.useKit)
}

// KitAsk asks for a kit of what a service has.
type KitAsk struct {
	Service string `json:"service" minLength:"1" doc:"Id of the service whose checks it is made of"`
	Name    string `json:"name" maxLength:"80"`
}

// kitOf makes a kit of the checks of a service, and keeps nothing.
func (s *Server) kitOf(ctx context.Context, in *body[KitAsk]) (*body[definition.KitSpec], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	e := snap.Services[in.Body.Service]
	if e == nil {
		return nil, definition.Faultf("service", "there is no service %q", in.Body.Service)
	}
	var checks []definition.CheckSpec
	for _, id := range snap.LiveChecks(e.ID) {
		checks = append(checks, snap.Checks[id].Current().Spec)
	}
	kit, err := definition.KitOf(in.Body.Name, e.Current().Spec.Name, checks)
	return &body[definition.KitSpec]{kit}, err
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
