package catalogue

import (
	"fmt"
	"slices"
	"strings"

	"kestite/core/definition"
	"kestite/core/measure"
)

// judge checks a spec alone and against the other definitions. The error is a
// *definition.Fault where the spec is at fault.
func (s *Snapshot) judge(id string, spec Spec) error {
	if err := spec.Validate(); err != nil {
		return err
	}
	switch spec := spec.(type) {
	case definition.CheckSpec:
		if e := s.Services[spec.Service]; e == nil || e.Retired {
			return definition.Faultf("service", "%q names no service", spec.Service)
		}
		if e := s.Checks[id]; e != nil && e.Current().Spec.Service != spec.Service {
			return definition.Faultf("service", "a check stays with its service; make a new one for %s", spec.Service)
		}
		if err := s.judgePlaces(spec); err != nil {
			return err
		}
		return s.judgeSources(spec)
	case definition.CredentialSpec:
		return s.judgeCredential(id, spec)
	case definition.PairPlanSpec:
		if e := s.Services[spec.Service]; e == nil || e.Retired {
			return definition.Faultf("service", "%q names no service", spec.Service)
		}
		if e := s.PairPlans[id]; e != nil && e.Current().Spec.Service != spec.Service {
			return definition.Faultf("service", "a pair plan stays with its service; make a new one for %s", spec.Service)
		}
	case definition.AgreementSpec:
		return s.judgeAgreement(id, spec)
	case definition.ServiceSpec:
		return s.judgeService(id, spec)
	case definition.WindowSpec:
		for i, svc := range spec.Services {
			if e := s.Services[svc]; e == nil || e.Retired {
				return definition.Faultf(fmt.Sprintf("services[%d]", i), "%q names no service", svc)
			}
		}
	}
	return nil
}

// judgePlaces checks from where and to where is measured.
func (s *Snapshot) judgePlaces(spec definition.CheckSpec) error {
	for i, l := range spec.Locations {
		if l == definition.Server {
			continue // the spec itself says whether it may
		}
		if e := s.Locations[l]; e == nil || e.Retired {
			return definition.Faultf(fmt.Sprintf("locations[%d]", i), "%q names no location", l)
		}
	}
	if spec.HTTP != nil && spec.HTTP.Credential != "" {
		if e := s.Credentials[spec.HTTP.Credential]; e == nil || e.Retired {
			return definition.Faultf("http.credential", "%q names no credential", spec.HTTP.Credential)
		} else if err := e.Current().Spec.MayGoTo(spec.Target); err != nil {
			return definition.Faultf("http.credential", "%v", err)
		}
	}
	return nil
}

// judgeCredential refuses to take a place away that a check sends the secret to.
func (s *Snapshot) judgeCredential(id string, spec definition.CredentialSpec) error {
	for _, check := range Sorted(s.Checks) {
		e := s.Checks[check]
		if e.Retired {
			continue
		}
		of := e.Current().Spec
		if of.HTTP != nil && of.HTTP.Credential == id && spec.MayGoTo(of.Target) != nil {
			origin, _ := definition.Origin(of.Target)
			return definition.Faultf("origins", "the check %s signs in at %s with it; keep that, or change the check first",
				of.Name, origin)
		}
	}
	return nil
}

// JudgeTrial checks what is to be measured once, by hand: everything that holds
// for a check that is kept, but a service and a name of its own.
func (s *Snapshot) JudgeTrial(spec definition.CheckSpec) error {
	if definition.Inward(spec.Kind) {
		return definition.Faultf("kind", "a %s check is measured on the server and cannot be tried", spec.Kind)
	}
	if strings.TrimSpace(spec.Name) == "" {
		spec.Name = "Trial"
	}
	if err := spec.Validate(); err != nil {
		return err
	}
	return s.judgePlaces(spec)
}

// judgeSources checks what a derived check is made of.
func (s *Snapshot) judgeSources(spec definition.CheckSpec) error {
	if spec.Kind != measure.Derived.Name {
		return nil
	}
	for i, source := range spec.Derived.Sources {
		path := fmt.Sprintf("derived.sources[%d]", i)
		e := s.Checks[source.Check]
		if e == nil || e.Retired {
			return definition.Faultf(path+".check", "%q names no check", source.Check)
		}
		of := e.Current().Spec
		if of.Kind == measure.Derived.Name {
			return definition.Faultf(path+".check", "%s is derived itself; take what it is made of", of.Name)
		}
		kind, _ := measure.KindNamed(of.Kind)
		if kind.Index(source.Measure) < 0 {
			return definition.Faultf(path+".measure", "%q is no measure of %s, which is a %s check", source.Measure, of.Name, of.Kind)
		}
		if source.Location != "" && !slices.Contains(of.Locations, source.Location) {
			return definition.Faultf(path+".location", "%s is not measured from %q", of.Name, source.Location)
		}
	}
	return nil
}

func (s *Snapshot) judgeAgreement(id string, spec definition.AgreementSpec) error {
	if e := s.Services[spec.Service]; e == nil || e.Retired {
		return definition.Faultf("service", "%q names no service", spec.Service)
	}
	if e := s.Agreements[id]; e != nil && e.Current().Spec.Service != spec.Service {
		return definition.Faultf("service", "an agreement stays with its service; make a new one for %s", spec.Service)
	}
	if spec.Latency != nil {
		if e := s.Checks[spec.Latency.Check]; e == nil || e.Current().Spec.Service != spec.Service {
			return definition.Faultf("latency.check", "%q names no check of %s", spec.Latency.Check, spec.Service)
		}
	}
	if spec.Upstream == nil {
		return nil
	}
	for i, u := range spec.Upstream.Excuse {
		path := fmt.Sprintf("upstream.excuse[%d]", i)
		if s.Services[u] == nil {
			return definition.Faultf(path, "%q names no service", u)
		}
		if u == spec.Service {
			return definition.Faultf(path, "the agreement excuses its own service")
		}
		for _, n := range s.Needed(u) {
			if n == spec.Service {
				return definition.Faultf(path, "%s depends on the agreement's own service", u)
			}
		}
	}
	return nil
}

func (s *Snapshot) judgeService(id string, spec definition.ServiceSpec) error {
	if spec.Defaults != nil {
		for i, l := range spec.Defaults.Locations {
			if e := s.Locations[l]; e == nil || e.Retired {
				return definition.Faultf(fmt.Sprintf("check_defaults.locations[%d]", i), "%q names no location", l)
			}
		}
	}
	for i, d := range spec.DependsOn {
		for j, member := range d.Services {
			path := fmt.Sprintf("depends_on[%d].services[%d]", i, j)
			if e := s.Services[member]; e == nil || e.Retired {
				return definition.Faultf(path, "%q names no service", member)
			}
			for _, n := range s.Needed(member) {
				if n == id {
					return definition.Faultf(path, "services would depend on each other in a circle: %s depends on %s", member, id)
				}
			}
		}
	}
	return nil
}

// retirable refuses to retire what others in force refer to.
func (s *Snapshot) retirable(kind, id string) error {
	switch kind {
	case Credential:
		for _, check := range Live(s.Checks) {
			if spec := s.Checks[check].Current().Spec; spec.HTTP != nil && spec.HTTP.Credential == id {
				return definition.Faultf("id", "the check %s of %s signs in with it; take it out there first", spec.Name, spec.Service)
			}
		}
	case Location:
		for _, plan := range Live(s.PairPlans) {
			if spec := s.PairPlans[plan].Current().Spec; names(spec, id) {
				return definition.Faultf("id", "the pair plan %s includes it; take it out there first", spec.Name)
			}
		}
		for _, service := range Live(s.Services) {
			if spec := s.Services[service].Current().Spec; spec.Defaults != nil && slices.Contains(spec.Defaults.Locations, id) {
				return definition.Faultf("id", "checks of %s measure from here by default; take the location out of its defaults first", spec.Name)
			}
		}
		for _, check := range Live(s.Checks) {
			spec := s.Checks[check].Current().Spec
			for _, l := range spec.Locations {
				if l == id {
					return definition.Faultf("id", "the check %s of %s measures from here; take the location out of it first", spec.Name, spec.Service)
				}
			}
		}
	case Service:
		for _, plan := range Live(s.PairPlans) {
			if spec := s.PairPlans[plan].Current().Spec; spec.Service == id {
				return definition.Faultf("id", "its pair plan %s is in force; retire it first", spec.Name)
			}
		}
		for _, check := range Live(s.Checks) {
			if spec := s.Checks[check].Current().Spec; spec.Service == id {
				return definition.Faultf("id", "its check %s is in force; retire it first", spec.Name)
			}
		}
		for _, a := range Live(s.Agreements) {
			if spec := s.Agreements[a].Current().Spec; spec.Service == id {
				return definition.Faultf("id", "the agreement %s is about it; retire that first", spec.Name)
			}
		}
		for _, other := range Live(s.Services) {
			for _, d := range s.Services[other].Current().Spec.DependsOn {
				for _, member := range d.Services {
					if member == id {
						return definition.Faultf("id", "%s depends on it; change that first", s.Services[other].Current().Spec.Name)
					}
				}
			}
		}
	}
	return nil
}
