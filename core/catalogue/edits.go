package catalogue

import (
	"reflect"

	"kestite/core/definition"
	"kestite/core/span"
)

// Edited is a definition that accounts follow from and that was edited within a time.
type Edited struct {
	Kind, ID string
	Times    int
	Last     span.Instant
}

// Edits are the edits, within a time, of a service, of all that it depends on and of their
// deciding checks, as far as accounts differ by them.
func (s *Snapshot) Edits(service string, within span.Span) []Edited {
	var out []Edited
	for _, id := range s.Needed(within, service) {
		out = edited(out, Service, s.Services[id], within, func(a, b definition.ServiceSpec) bool {
			return a.Kind == b.Kind && a.Combine == b.Combine && reflect.DeepEqual(a.DependsOn, b.DependsOn)
		})
		for _, check := range s.ChecksOf[id] {
			out = edited(out, Check, s.Checks[check], within, func(a, b definition.CheckSpec) bool {
				x, y := a.Revision(check), b.Revision(check)
				return a.Role != definition.Decides && b.Role != definition.Decides ||
					reflect.DeepEqual(x, y) && reflect.DeepEqual(a.Limits, b.Limits) && a.TimeoutMS == b.TimeoutMS
			})
		}
	}
	return out
}

// edited adds a definition to those that were edited, unless what changed is alike to accounts.
func edited[S any](out []Edited, kind string, e *Entry[S], within span.Span, alike func(a, b S) bool) []Edited {
	found := Edited{Kind: kind, ID: e.ID}
	for n, r := range e.Revisions {
		if n > 0 && within.Contains(r.From) && !alike(e.Revisions[n-1].Spec, r.Spec) {
			found.Times++
			found.Last = r.From
		}
	}
	if until := e.Current().Until; e.Retired && until != nil && within.Contains(*until) {
		found.Times++
		found.Last = *until
	}
	if found.Times > 0 {
		out = append(out, found)
	}
	return out
}
