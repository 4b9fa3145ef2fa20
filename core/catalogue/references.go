package catalogue

import (
	"fmt"
	"slices"
	"strings"

	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/core/topology"
)

// Reference is a definition that another one names.
type Reference struct {
	Path     string // of the field that names it
	Kind, ID string
	// Why says, of the name of who refers (%s), why what it names cannot be retired.
	Why string
	// Past says that what it names may be retired.
	Past bool
}

// references are all that a spec names, in the order of its fields.
func references(spec Spec) []Reference {
	var out []Reference
	each := func(path, kind, why string, ids []string) {
		for i, id := range ids {
			out = append(out, Reference{Path: fmt.Sprintf("%s[%d]", path, i), Kind: kind, ID: id, Why: why})
		}
	}
	switch spec := spec.(type) {
	case definition.ServiceSpec:
		if spec.Owner != "" {
			out = append(out, Reference{Path: "owner", Kind: Team, ID: spec.Owner, Why: "it owns %s; give that to another team first"})
		}
		if spec.Defaults != nil {
			each("check_defaults.locations", Location,
				"checks of %s measure from here by default; take the location out of its defaults first", spec.Defaults.Locations)
		}
		if spec.Notices != nil {
			out = append(out, Reference{Path: "notices.plan", Kind: NoticePlan, ID: spec.Notices.Plan,
				Why: "incidents of %s follow it; choose another plan there first"})
		}
		for i, d := range spec.DependsOn {
			each(fmt.Sprintf("depends_on[%d].services", i), Service, "%s depends on it; change that first", d.Services)
		}
	case definition.CheckSpec:
		out = append(out, Reference{Path: "service", Kind: Service, ID: spec.Service, Why: "its check %s is in force; retire it first"})
		for i, l := range spec.Locations {
			if l != definition.Server { // the spec itself says whether it may
				out = append(out, Reference{Path: fmt.Sprintf("locations[%d]", i), Kind: Location, ID: l,
					Why: "the check %s of " + spec.Service + " measures from here; take the location out of it first"})
			}
		}
		if spec.HTTP != nil && spec.HTTP.Credential != "" {
			out = append(out, Reference{Path: "http.credential", Kind: Credential, ID: spec.HTTP.Credential,
				Why: "the check %s of " + spec.Service + " signs in with it; take it out there first"})
		}
		if spec.Kind == measure.Derived.Name && spec.Derived != nil {
			for i, source := range spec.Derived.Sources {
				out = append(out, Reference{Path: fmt.Sprintf("derived.sources[%d].check", i), Kind: Check, ID: source.Check,
					Why: "the check %s of " + spec.Service + " is made of it; change that first"})
			}
		}
	case definition.PairPlanSpec:
		out = append(out, Reference{Path: "service", Kind: Service, ID: spec.Service, Why: "its pair plan %s is in force; retire it first"})
		const why = "the pair plan %s includes it; take it out there first"
		if spec.Shape == topology.Picked {
			for i, p := range spec.Pairs {
				out = append(out, Reference{Path: fmt.Sprintf("pairs[%d]", i), Kind: Location, ID: p.A, Why: why},
					Reference{Path: fmt.Sprintf("pairs[%d]", i), Kind: Location, ID: p.B, Why: why})
			}
		} else {
			each("locations", Location, why, spec.Locations)
		}
	case definition.AgreementSpec:
		out = append(out, Reference{Path: "service", Kind: Service, ID: spec.Service,
			Why: "the agreement %s is about it; retire that first"})
		if spec.Customer != "" {
			out = append(out, Reference{Path: "customer", Kind: Customer, ID: spec.Customer, Why: "the agreement %s is with it; retire that first"})
		}
		if spec.Contract != "" {
			out = append(out, Reference{Path: "contract", Kind: Contract, ID: spec.Contract,
				Why: "the agreement %s is a part of it; retire that first"})
		}
		const why = "the agreement %s has its days without hours; take it out there first"
		if spec.ServiceHours != nil {
			each("service_hours.holiday_lists", HolidayList, why, spec.ServiceHours.HolidayLists)
		}
		if spec.Maintenance != nil && spec.Maintenance.Within != nil {
			each("maintenance.within.holiday_lists", HolidayList, why, spec.Maintenance.Within.HolidayLists)
		}
		if spec.Latency != nil {
			out = append(out, Reference{Path: "latency.check", Kind: Check, ID: spec.Latency.Check, Past: true,
				Why: "the agreement %s promises its response time; change that first"})
		}
		if spec.Upstream != nil {
			from := len(out)
			each("upstream.excuse", Service, "the agreement %s excuses it; take it out there first", spec.Upstream.Excuse)
			for i := range out[from:] { // some were retired before that was refused
				out[from+i].Past = true
			}
		}
	case definition.TeamSpec:
		if spec.NoticePlan != "" {
			out = append(out, Reference{Path: "notice_plan", Kind: NoticePlan, ID: spec.NoticePlan,
				Why: "incidents of services of %s follow it; choose another plan there first"})
		}
	case definition.RelaySpec:
		if spec.Credential != "" {
			out = append(out, Reference{Path: "credential", Kind: Credential, ID: spec.Credential,
				Why: "the relay %s signs in with it; take it out there first"})
		}
	case definition.ContactSpec:
		const why = "the contact method %s uses it; take it out there first"
		for path, id := range map[string]string{"credential": spec.Credential, "signing": spec.Signing} {
			if id != "" {
				out = append(out, Reference{Path: path, Kind: Credential, ID: id, Why: why})
			}
		}
	case definition.SelectionSpec:
		for i, id := range spec.Services { // one that is retired is taken no more, and keeps nobody from an edit
			out = append(out, Reference{Path: fmt.Sprintf("services[%d]", i), Kind: Service, ID: id, Past: true})
		}
		each("owners", Team, "the selection %s takes what it owns; take it out there first", spec.Owners)
	case definition.NoticePlanSpec:
		each("selections", Selection, "the notice plan %s is for it; take it out there first", spec.Selections)
		if spec.Instead != "" {
			out = append(out, Reference{Path: "instead", Kind: NoticePlan, ID: spec.Instead,
				Why: "the notice plan %s leaves what is due outside its hours to it; change that first"})
		}
		for i, step := range spec.Steps {
			for j, r := range step.Tell {
				path := fmt.Sprintf("steps[%d].tell[%d]", i, j)
				if r.Pool != "" {
					out = append(out, Reference{Path: path + ".pool", Kind: Pool, ID: r.Pool, Why: "the notice plan %s tells it; take it out there first"})
				}
				if r.Contact != "" {
					out = append(out, Reference{Path: path + ".contact", Kind: Contact, ID: r.Contact,
						Why: "the notice plan %s tells it; take it out there first"})
				}
			}
		}
	case definition.CustomerSpec:
		if spec.Layout != "" {
			out = append(out, Reference{Path: "layout", Kind: Layout, ID: spec.Layout, Why: "the reports of the customer %s are laid out by it; choose another there first"})
		}
		if spec.Schedule != nil {
			each("schedule.holiday_lists", HolidayList, "the reports of %s are drafted around its days; take it out there first", spec.Schedule.HolidayLists)
		}
		for i, r := range spec.Tell {
			if r.Contact != "" {
				out = append(out, Reference{Path: fmt.Sprintf("tell[%d].contact", i), Kind: Contact, ID: r.Contact, Why: "the customer %s is sent its reports by it; take it out there first"})
			}
			if r.Pool != "" {
				out = append(out, Reference{Path: fmt.Sprintf("tell[%d].pool", i), Kind: Pool, ID: r.Pool, Why: "the customer %s is sent its reports by it; take it out there first"})
			}
		}
	case definition.ContractSpec:
		if spec.Customer != "" {
			out = append(out, Reference{Path: "customer", Kind: Customer, ID: spec.Customer, Why: "the contract %s is with it; retire that first"})
		}
		if spec.Layout != "" {
			out = append(out, Reference{Path: "layout", Kind: Layout, ID: spec.Layout, Why: "the reports of the contract %s are laid out by it; choose another there first"})
		}
	case definition.WindowSpec:
		each("services", Service, "", spec.Services)
		for i, id := range spec.Pause {
			out = append(out, Reference{Path: fmt.Sprintf("pause[%d]", i), Kind: Check, ID: id, Past: true})
		}
		for i, r := range spec.Tell { // what is planned holds nobody's retirement up
			if r.Pool != "" {
				out = append(out, Reference{Path: fmt.Sprintf("tell[%d].pool", i), Kind: Pool, ID: r.Pool, Past: true})
			}
			if r.Contact != "" {
				out = append(out, Reference{Path: fmt.Sprintf("tell[%d].contact", i), Kind: Contact, ID: r.Contact, Past: true})
			}
		}
	case definition.EmbargoSpec:
		each("services", Service, "", spec.Services)
	case definition.AdjustmentSpec: // an account stays when what it was promised by is retired
		out = append(out, Reference{Path: "agreement", Kind: Agreement, ID: spec.Agreement, Past: true})
	}
	return out
}

// refer refuses a spec that names what is not there.
func (s *Snapshot) refer(spec Spec) error {
	for _, r := range references(spec) {
		k := kinds[r.Kind]
		h := k.head(s, r.ID)
		if h == nil || h.retired && !r.Past {
			return definition.Faultf(r.Path, "%q names no %s", r.ID, r.Kind)
		}
	}
	return nil
}

// retirable refuses to retire what others in force refer to.
func (s *Snapshot) retirable(kind, id string) error {
	for _, other := range referring {
		k := kinds[other]
		for _, from := range k.live(s) {
			spec := k.current(s, from)
			for _, r := range references(spec) {
				if r.Kind == kind && r.ID == id && r.Why != "" {
					return definition.Faultf("id", r.Why, spec.Called())
				}
			}
		}
	}
	return nil
}

// referring are the kinds that refer to others, in the order in which they are
// named to who wants to retire something.
var referring = []string{PairPlan, Service, Check, Agreement, Team, Relay, Contact, Selection, NoticePlan, Contract, Customer}

// admit refuses a spec that cannot be, alone or beside the other definitions.
// The error is a *definition.Fault where the spec is at fault.
func (s *Snapshot) admit(id string, spec Spec) error {
	if err := definition.Valid(spec); err != nil {
		return err
	}
	if err := s.refer(spec); err != nil {
		return err
	}
	switch spec := spec.(type) {
	case definition.CheckSpec:
		if e := s.Checks[id]; e != nil && e.Current().Spec.Service != spec.Service {
			return definition.Faultf("service", "a check stays with its service; make a new one for %s", spec.Service)
		}
		if err := s.admitSecret(spec); err != nil {
			return err
		}
		return s.admitSources(spec)
	case definition.CredentialSpec:
		return s.admitOrigins(id, spec)
	case definition.RelaySpec:
		return s.sendable("credential", spec.Credential, spec.Address)
	case definition.ContactSpec:
		return s.sendable("credential", spec.Credential, spec.Address)
	case definition.PairPlanSpec:
		if e := s.PairPlans[id]; e != nil && e.Current().Spec.Service != spec.Service {
			return definition.Faultf("service", "a pair plan stays with its service; make a new one for %s", spec.Service)
		}
	case definition.AgreementSpec:
		if e := s.Agreements[id]; e != nil && e.Current().Spec.Service != spec.Service {
			return definition.Faultf("service", "an agreement stays with its service; make a new one for %s", spec.Service)
		}
		if spec.Contract != "" {
			if with := s.Contracts[spec.Contract].Current().Spec; with.Customer != spec.Customer {
				return definition.Faultf("customer", "the contract %s is with %s; take that customer, or another contract", with.Name,
					s.with(with.Customer))
			}
			if err := oneCurrency("fee.currency", s.Contracts[spec.Contract].Current().Spec, spec); err != nil {
				return err
			}
		}
		if spec.Fee != nil && s.Direction(spec) == "" {
			return definition.Faultf("fee", "an internal target costs nothing; name the customer, or take the fee away")
		}
		if l := spec.Latency; l != nil && s.Checks[l.Check].Current().Spec.Service != spec.Service {
			return definition.Faultf("latency.check", "%q names no check of %s", l.Check, spec.Service)
		}
	case definition.ContractSpec:
		for _, a := range s.Under(id) {
			if of := s.Agreements[a].Current().Spec; of.Customer != spec.Customer {
				return definition.Faultf("customer", "the agreement %s is a part of it and is with %s; take it out of the contract first", of.Name,
					s.with(of.Customer))
			}
			if err := oneCurrency("credits.currency", spec, s.Agreements[a].Current().Spec); err != nil {
				return err
			}
		}
	case definition.ServiceSpec:
		return s.admitGroups(id, spec)
	case definition.NoticePlanSpec:
		return s.admitInstead(id, spec)
	case definition.WindowSpec:
		return s.admitPause(spec)
	}
	return nil
}

// oneCurrency refuses fees in another currency than that of the contract's limit.
func oneCurrency(path string, contract definition.ContractSpec, of definition.AgreementSpec) error {
	if c := contract.Credits; c != nil && c.Currency != "" && of.Fee != nil && of.Fee.Currency != c.Currency {
		return definition.Faultf(path, "the contract %s is in %s, and the fee of %s is in %s; take one of them for both", contract.Name, c.Currency,
			of.Name, of.Fee.Currency)
	}
	return nil
}

// admitPause refuses to let checks pause that are not at work, or that others measure.
func (s *Snapshot) admitPause(spec definition.WindowSpec) error {
	for i, id := range spec.Pause {
		path, check := fmt.Sprintf("pause[%d]", i), s.Checks[id].Current().Spec
		switch {
		case !slices.Contains(spec.Services, check.Service):
			return definition.Faultf(path, "%s is a check of %s, which the window does not name", check.Name, s.Named(Service, check.Service))
		case definition.Inward(check.Kind):
			return definition.Faultf(path, "%s is a %s check: nothing measures it that could pause", check.Name, check.Kind)
		}
	}
	return nil
}

// admitInstead refuses plans that leave to each other, or from hand to hand, what is due
// outside their hours: who is told then must stand in one place.
func (s *Snapshot) admitInstead(id string, spec definition.NoticePlanSpec) error {
	if spec.Outside != definition.OutsidePlan {
		return nil
	}
	if spec.Instead == id {
		return definition.Faultf("instead", "is the plan itself; take another one, or let what is due wait")
	}
	if to := s.NoticePlans[spec.Instead].Current().Spec; to.Outside == definition.OutsidePlan {
		return definition.Faultf("instead", "%s leaves what is due outside its own hours to another plan; take one that tells", to.Name)
	}
	for _, other := range Live(s.NoticePlans) {
		if of := s.NoticePlans[other].Current().Spec; of.Instead == id {
			return definition.Faultf("outside", "%s leaves what is due outside its hours to this plan, which has to tell then; change that first", of.Name)
		}
	}
	return nil
}

// with is whom something is with, in words.
func (s *Snapshot) with(customer string) string {
	if customer == "" {
		return "nobody, being internal"
	}
	return s.Named(Customer, customer)
}

// AdmitTrial checks what is to be measured once, by hand: everything that holds
// for a check that is kept, but a service and a name of its own.
func (s *Snapshot) AdmitTrial(spec definition.CheckSpec) error {
	if definition.Inward(spec.Kind) {
		return definition.Faultf("kind", "a %s check is measured on the server and cannot be tried", spec.Kind)
	}
	if strings.TrimSpace(spec.Name) == "" {
		spec.Name = "Trial"
	}
	if spec.Service == "" {
		spec.Service = "trial"
	}
	if err := definition.Valid(spec); err != nil {
		return err
	}
	for _, r := range references(spec) {
		if r.Kind == Service {
			continue
		}
		if h := kinds[r.Kind].head(s, r.ID); h == nil || h.retired {
			return definition.Faultf(r.Path, "%q names no %s", r.ID, r.Kind)
		}
	}
	return s.admitSecret(spec)
}

// admitSecret refuses a credential that may not be sent where a check measures.
func (s *Snapshot) admitSecret(spec definition.CheckSpec) error {
	if spec.HTTP == nil {
		return nil
	}
	return s.sendable("http.credential", spec.HTTP.Credential, spec.Target)
}

// admitOrigins refuses to take a place away that a check sends the secret to.
func (s *Snapshot) admitOrigins(id string, spec definition.CredentialSpec) error {
	for _, check := range Live(s.Checks) {
		of := s.Checks[check].Current().Spec
		if of.HTTP != nil && of.HTTP.Credential == id && spec.MayGoTo(of.Target) != nil {
			origin, _ := definition.Origin(of.Target)
			return definition.Faultf("origins", "the check %s signs in at %s with it; keep that, or change the check first",
				of.Name, origin)
		}
	}
	kept := func(said, name, credential, address string) error {
		if credential == id && spec.MayGoTo(address) != nil {
			origin, _ := definition.Origin(address)
			return definition.Faultf("origins", "the %s %s signs in at %s with it; keep that, or change the %s first", said, name, origin, said)
		}
		return nil
	}
	for _, relay := range Live(s.Relays) {
		of := s.Relays[relay].Current().Spec
		if err := kept("relay", of.Name, of.Credential, of.Address); err != nil {
			return err
		}
	}
	for _, contact := range Live(s.Contacts) {
		of := s.Contacts[contact].Current().Spec
		if err := kept("contact method", of.Name, of.Credential, of.Address); err != nil {
			return err
		}
	}
	return nil
}

// sendable refuses a credential that may not be sent to an address.
func (s *Snapshot) sendable(path, credential, address string) error {
	if credential == "" {
		return nil
	}
	if err := s.Credentials[credential].Current().Spec.MayGoTo(address); err != nil {
		return definition.Faultf(path, "%v", err)
	}
	return nil
}

// admitSources checks what a derived check is made of.
func (s *Snapshot) admitSources(spec definition.CheckSpec) error {
	if spec.Kind != measure.Derived.Name {
		return nil
	}
	for i, source := range spec.Derived.Sources {
		path := fmt.Sprintf("derived.sources[%d]", i)
		of := s.Checks[source.Check].Current().Spec
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

// admitGroups refuses circles: what services in force depend on now, through
// others too. What one depended on earlier forbids nothing.
func (s *Snapshot) admitGroups(id string, spec definition.ServiceSpec) error {
	for i, d := range spec.DependsOn {
		for j, member := range d.Services {
			path := fmt.Sprintf("depends_on[%d].services[%d]", i, j)
			if member == id {
				return definition.Faultf(path, "a service cannot depend on itself")
			}
			if way := s.wayTo(member, id); way != nil {
				return definition.Faultf(path, "services would depend on each other in a circle: %s depends on %s", way[0],
					strings.Join(way[1:], ", which depends on "))
			}
		}
	}
	return nil
}

// wayTo is how one service depends on another now: from the one to the other,
// each depending on the next; nil where it does not.
func (s *Snapshot) wayTo(from, to string) []string {
	seen := map[string]bool{}
	var visit func(id string) []string
	visit = func(id string) []string {
		if id == to {
			return []string{id}
		}
		e := s.Services[id]
		if seen[id] || e == nil {
			return nil
		}
		seen[id] = true
		for _, member := range membersOf(e.Current().Spec) {
			if way := visit(member); way != nil {
				return append([]string{id}, way...)
			}
		}
		return nil
	}
	return visit(from)
}

// accountable refuses what would keep an agreement from being accounted from a
// time on, such as excusing a service that then depends on its own.
func (s *Snapshot) accountable(agreement string, from span.Instant) error {
	for at := from.Add(-Margin); ; {
		period, err := s.PeriodAt(agreement, at)
		if err != nil {
			return err
		}
		if _, err := s.Bundle(period, nil, nil, []string{agreement}, false); err != nil {
			return err
		}
		if period.Span().From > from {
			return nil
		}
		at = period.Span().To
	}
}

// excusing are the agreements in force that excuse something in some revision.
func (s *Snapshot) excusing() []string {
	return slices.DeleteFunc(Live(s.Agreements), func(id string) bool {
		return !slices.ContainsFunc(s.Agreements[id].Revisions, func(r Revision[definition.AgreementSpec]) bool {
			return r.Spec.Upstream != nil && len(r.Spec.Upstream.Excuse) > 0
		})
	})
}
