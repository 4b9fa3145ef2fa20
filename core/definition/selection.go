package definition

import (
	"fmt"
	"slices"

	"kestite/core/measure"
)

// What a selection is of.
const (
	OfServices = "services"
	OfChecks   = "checks"
)

// SelectionSpec is a saved filter over services, or over checks: all that meets each of
// its conditions now, whatever is added or changed later.
type SelectionSpec struct {
	Name       string   `json:"name" minLength:"1" maxLength:"80"`
	Of         string   `json:"of" enum:"services,checks"`
	Kinds      []string `json:"kinds,omitempty" maxItems:"3" enum:"business,supporting,supplier" doc:"Condition: the kind of the service is one of these; absent: any"`
	Services   []string `json:"services,omitempty" maxItems:"500" doc:"Condition: the service is one of these, by id; absent: any"`
	Owners     []string `json:"owners,omitempty" maxItems:"50" doc:"Condition: one of these teams owns the service, by id; absent: any or none"`
	Tags       []string `json:"tags,omitempty" maxItems:"20" doc:"Condition: the service has one of these tags; absent: any"`
	CheckKinds []string `json:"check_kinds,omitempty" maxItems:"9" doc:"Condition, of checks: their kind is one of these; absent: any"`
	Note       string   `json:"note,omitempty" maxLength:"2000"`
}

// Called is what people call what a spec defines.
func (s SelectionSpec) Called() string { return s.Name }

// Validate of a selection.
func (s SelectionSpec) Validate() error {
	if err := called("name", s.Name); err != nil {
		return err
	}
	if s.Of == OfServices && len(s.CheckKinds) > 0 {
		return fault("check_kinds", "are for a selection of checks; take them away, or select checks")
	}
	if len(s.Kinds)+len(s.Services)+len(s.Owners)+len(s.Tags)+len(s.CheckKinds) == 0 {
		return fault("of", "says no condition, and would select everything; give it a kind, an owner or a tag")
	}
	for i, kind := range s.CheckKinds {
		if _, known := measure.KindNamed(kind); !known {
			return fault(fmt.Sprintf("check_kinds[%d]", i), "%q is no kind of check", kind)
		}
	}
	for i, tag := range s.Tags {
		if err := called(fmt.Sprintf("tags[%d]", i), tag); err != nil {
			return err
		}
	}
	return nil
}

// Takes says whether a service meets the conditions, by its id and what it is.
func (s SelectionSpec) Takes(id string, of ServiceSpec) bool {
	return meets(s.Kinds, of.Kind) && meets(s.Services, id) && meets(s.Owners, of.Owner) &&
		(len(s.Tags) == 0 || slices.ContainsFunc(of.Tags, func(t string) bool { return slices.Contains(s.Tags, t) }))
}

// TakesCheck says whether a check of a service meets the conditions.
func (s SelectionSpec) TakesCheck(of ServiceSpec, check CheckSpec) bool {
	return s.Of == OfChecks && s.Takes(check.Service, of) && meets(s.CheckKinds, check.Kind)
}

func meets(allowed []string, what string) bool {
	return len(allowed) == 0 || slices.Contains(allowed, what)
}
