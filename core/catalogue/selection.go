package catalogue

import "kestite/core/definition"

// Selected are the services in force that a selection takes, in order; of a selection of
// checks, those of which it takes one.
func (s *Snapshot) Selected(spec definition.SelectionSpec) []string {
	var out []string
	for _, id := range Live(s.Services) {
		if of := s.Services[id].Current().Spec; spec.Of == definition.OfServices && spec.Takes(id, of) || len(s.checksIn(spec, id)) > 0 {
			out = append(out, id)
		}
	}
	return out
}

// SelectedChecks are the checks in force that a selection takes; of a selection of
// services, all of theirs.
func (s *Snapshot) SelectedChecks(spec definition.SelectionSpec) []string {
	var out []string
	for _, id := range s.Selected(spec) {
		if spec.Of == definition.OfServices {
			out = append(out, s.LiveChecks(id)...)
			continue
		}
		out = append(out, s.checksIn(spec, id)...)
	}
	return out
}

// checksIn are the checks of a service that a selection of checks takes.
func (s *Snapshot) checksIn(spec definition.SelectionSpec, service string) []string {
	var out []string
	for _, id := range s.LiveChecks(service) {
		if spec.TakesCheck(s.Services[service].Current().Spec, s.Checks[id].Current().Spec) {
			out = append(out, id)
		}
	}
	return out
}

// InSelection says whether a selection by id takes a service, or a check; a selection of
// services takes their checks, one of checks no service.
func (s *Snapshot) InSelection(id, service, check string) bool {
	e, of := s.Selections[id], s.Services[service]
	if e == nil || e.Retired || of == nil {
		return false
	}
	spec := e.Current().Spec
	if spec.Of == definition.OfServices {
		return spec.Takes(service, of.Current().Spec)
	}
	c := s.Checks[check]
	return c != nil && spec.TakesCheck(of.Current().Spec, c.Current().Spec)
}
