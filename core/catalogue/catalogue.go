// Package catalogue holds what people define, over time: which revision of each
// definition is in force at an instant and during a span, what refers to what,
// what a change would do, and the evidence bundle of a period. It computes; it
// reads and writes nothing.
package catalogue

import (
	"cmp"
	"encoding/json"
	"slices"
	"sort"
	"sync"

	"kestite/core/definition"
	"kestite/core/span"
)

// Revision is what a definition said during [From, Until).
type Revision[S any] struct {
	Number int
	From   span.Instant
	Until  *span.Instant // nil while it is in force
	By     string        // who made it, by name
	// Counts is the start of the first period that this revision of an agreement
	// accounts; nil: the first revision, or From.
	Counts *span.Instant
	Spec   S
}

// During is when the revision was in force.
func (r Revision[S]) During() span.Span {
	return span.Span{From: r.From, To: definition.Ends(r.Until)}
}

// Entry is one definition with all its revisions, oldest first.
type Entry[S any] struct {
	ID        string
	Retired   bool
	Revisions []Revision[S]
}

// Current is the latest revision; of a retired definition, the last one.
func (e *Entry[S]) Current() Revision[S] { return e.Revisions[len(e.Revisions)-1] }

// Since is when it was first defined.
func (e *Entry[S]) Since() span.Instant { return e.Revisions[0].From }

// During are the revisions in force at some time within, oldest first.
func (e *Entry[S]) During(within span.Span) []Revision[S] {
	var out []Revision[S]
	for _, r := range e.Revisions {
		if !r.During().Intersect(within).Empty() {
			out = append(out, r)
		}
	}
	return out
}

// Snapshot is every definition with its history, as known at one moment. It is
// not to be changed, and safe for concurrent use.
type Snapshot struct {
	Name     string // of the organisation
	Timezone string // of the organisation

	Locations    map[string]*Entry[definition.LocationSpec]
	Services     map[string]*Entry[definition.ServiceSpec]
	Checks       map[string]*Entry[definition.CheckSpec]
	Agreements   map[string]*Entry[definition.AgreementSpec]
	Windows      map[string]*Entry[definition.WindowSpec]
	Networks     map[string]*Entry[definition.NetworkSpec]
	Credentials  map[string]*Entry[definition.CredentialSpec]
	Kits         map[string]*Entry[definition.KitSpec]
	PairPlans    map[string]*Entry[definition.PairPlanSpec]
	Teams        map[string]*Entry[definition.TeamSpec]
	Customers    map[string]*Entry[definition.CustomerSpec]
	Contracts    map[string]*Entry[definition.ContractSpec]
	HolidayLists map[string]*Entry[definition.HolidayListSpec]
	Relays       map[string]*Entry[definition.RelaySpec]
	Contacts     map[string]*Entry[definition.ContactSpec]
	Pools        map[string]*Entry[definition.PoolSpec]
	NoticePlans  map[string]*Entry[definition.NoticePlanSpec]
	Embargoes    map[string]*Entry[definition.EmbargoSpec]
	Selections   map[string]*Entry[definition.SelectionSpec]
	Adjustments  map[string]*Entry[definition.AdjustmentSpec]
	Layouts      map[string]*Entry[definition.LayoutSpec]

	// ChecksOf lists the checks of a service, retired ones included: those that
	// decide first, those between locations last, each by id.
	ChecksOf map[string][]string
	// Mark changes with every change of a definition.
	Mark string
	// Unreadable are revisions that this program cannot read; they say nothing here.
	Unreadable []Unreadable

	ahead span.Instant // up to where the starts of windows are kept
	rules *sync.Map    // of the recurrences of windows, by ruleKey
}

// Unreadable is a revision that cannot be read.
type Unreadable struct {
	Kind, ID string
	Number   int
	Why      string
}

// Record is a revision as it is kept.
type Record struct {
	Kind, ID string
	Number   int
	From     span.Instant
	Until    *span.Instant
	Counts   *span.Instant
	By       string
	Retired  bool // the definition is, now
	Body     []byte
}

// New makes a snapshot of all revisions, those of one definition in order of
// their numbers. The starts of windows are kept up to ahead, so that they are
// expanded once however often they are asked for.
func New(records []Record, ahead span.Instant) *Snapshot {
	s := &Snapshot{ChecksOf: map[string][]string{}, ahead: ahead, rules: new(sync.Map)}
	for _, k := range kinds {
		k.open(s)
	}
	s.add(records)
	for _, id := range Sorted(s.Checks) {
		service := s.Checks[id].Current().Spec.Service
		s.ChecksOf[service] = append(s.ChecksOf[service], id)
	}
	for service := range s.ChecksOf {
		s.sortChecks(service)
	}
	return s
}

func (s *Snapshot) add(records []Record) {
	for _, r := range records {
		k, known := kinds[r.Kind]
		if !known {
			continue
		}
		if err := k.add(s, r); err != nil {
			s.Unreadable = append(s.Unreadable, Unreadable{r.Kind, r.ID, r.Number, err.Error()})
		}
	}
}

// With is the snapshot with all revisions of some definitions in place of those it had
// of them, in order of their numbers: what New makes of all records. Nothing of s is
// changed.
func (s *Snapshot) With(records []Record) *Snapshot {
	out := s.copy()
	fresh := map[[2]string]bool{}
	for _, r := range records {
		if k, known := kinds[r.Kind]; known && !fresh[[2]string{r.Kind, r.ID}] {
			fresh[[2]string{r.Kind, r.ID}] = true
			k.drop(out, r.ID)
		}
	}
	out.Unreadable = slices.DeleteFunc(slices.Clone(s.Unreadable), func(u Unreadable) bool { return fresh[[2]string{u.Kind, u.ID}] })
	out.add(records)
	slices.SortStableFunc(out.Unreadable, func(a, b Unreadable) int {
		return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.ID, b.ID), cmp.Compare(a.Number, b.Number))
	})
	out.relist(s, fresh)
	return out
}

// relist brings the lists of checks up to date with the checks that are fresh.
func (s *Snapshot) relist(before *Snapshot, fresh map[[2]string]bool) {
	services := map[string]bool{}
	for key := range fresh {
		if key[0] != Check {
			continue
		}
		of := s.Checks[key[1]].Current().Spec.Service
		if old := before.Checks[key[1]]; old != nil {
			if was := old.Current().Spec.Service; was != of { // one that cannot be read says of none
				s.ChecksOf[was] = slices.DeleteFunc(slices.Clone(s.ChecksOf[was]), func(id string) bool { return id == key[1] })
				if len(s.ChecksOf[was]) == 0 {
					delete(s.ChecksOf, was)
				}
			}
		}
		if list := s.ChecksOf[of]; !slices.Contains(list, key[1]) {
			s.ChecksOf[of] = append(slices.Clone(list), key[1])
		} else if !services[of] {
			s.ChecksOf[of] = slices.Clone(list) // it is sorted in its place
		}
		services[of] = true
	}
	for service := range services {
		if len(s.ChecksOf[service]) > 0 {
			s.sortChecks(service)
		}
	}
}

// sortChecks puts the checks of a service into the order in which they are shown.
func (s *Snapshot) sortChecks(service string) {
	rank := func(id string) int {
		switch c := s.Checks[id].Current().Spec; {
		case c.Pair != nil:
			return 2
		case c.Role == definition.Informs:
			return 1
		}
		return 0
	}
	slices.SortFunc(s.ChecksOf[service], func(a, b string) int { return cmp.Or(cmp.Compare(rank(a), rank(b)), cmp.Compare(a, b)) })
}

func add[S any](into map[string]*Entry[S], r Record) error {
	rev := Revision[S]{Number: r.Number, From: r.From, Until: r.Until, By: r.By, Counts: r.Counts}
	err := json.Unmarshal(r.Body, &rev.Spec)
	if err != nil { // it stands there and says nothing: what refers to it must find something
		var nothing S
		rev.Spec = nothing
	}
	e := into[r.ID]
	if e == nil {
		e = &Entry[S]{ID: r.ID, Retired: r.Retired}
		into[r.ID] = e
	}
	e.Revisions = append(e.Revisions, rev)
	return err
}

// Sorted returns the ids of entries in order.
func Sorted[S any](m map[string]*Entry[S]) []string {
	ids := make([]string, 0, len(m))
	for id := range m {
		ids = append(ids, id)
	}
	sort.Strings(ids)
	return ids
}

// Live returns the ids of entries that are not retired, in order.
func Live[S any](m map[string]*Entry[S]) []string {
	var ids []string
	for _, id := range Sorted(m) {
		if !m[id].Retired {
			ids = append(ids, id)
		}
	}
	return ids
}

// Named is the name of a definition today; its id where there is none.
func (s *Snapshot) Named(kind, id string) string {
	if k, known := kinds[kind]; known {
		if spec := k.current(s, id); spec != nil && spec.Called() != "" {
			return spec.Called()
		}
	}
	return id
}

// Current is the latest spec of a definition; nil where there is none.
func (s *Snapshot) Current(kind, id string) Spec {
	if k, known := kinds[kind]; known {
		return k.current(s, id)
	}
	return nil
}

// OwnerOf is the team that owns a service now; empty where none does.
func (s *Snapshot) OwnerOf(service string) string {
	if e := s.Services[service]; e != nil {
		return e.Current().Spec.Owner
	}
	return ""
}

// ServiceOf is the service that an agreement is about now; empty where there is none.
func (s *Snapshot) ServiceOf(agreement string) string {
	if e := s.Agreements[agreement]; e != nil {
		return e.Current().Spec.Service
	}
	return ""
}

// Whom is what the customer is called who was promised something; empty for an
// internal target.
func (s *Snapshot) Whom(spec definition.AgreementSpec) string {
	if spec.Customer == "" {
		return ""
	}
	return s.Named(Customer, spec.Customer)
}

// CheckRevisions returns a check's revisions as accounts use them.
func (s *Snapshot) CheckRevisions(id string) []definition.Check {
	e := s.Checks[id]
	if e == nil {
		return nil
	}
	out := make([]definition.Check, 0, len(e.Revisions))
	for _, r := range e.Revisions {
		c := r.Spec.Revision(id)
		from := r.From
		c.From, c.Until = &from, r.Until
		out = append(out, c)
	}
	return out
}

// LiveChecks are the checks of a service that are not retired.
func (s *Snapshot) LiveChecks(service string) []string {
	return slices.DeleteFunc(slices.Clone(s.ChecksOf[service]), func(id string) bool { return s.Checks[id].Retired })
}

// Needed returns services and all they depend on at some time within, through
// others too.
func (s *Snapshot) Needed(within span.Span, services ...string) []string {
	return s.closure(services, func(id string) []string {
		var out []string
		for _, r := range s.Services[id].During(within) {
			out = append(out, membersOf(r.Spec)...)
		}
		return out
	})
}

// NeededNow returns all that a service depends on now, through others too, and not
// itself.
func (s *Snapshot) NeededNow(service string) []string {
	all := s.closure([]string{service}, func(id string) []string { return membersOf(s.Services[id].Current().Spec) })
	return slices.DeleteFunc(all, func(id string) bool { return id == service })
}

// Decided says whether something decides the state of a service: a check of its own, or
// what it depends on.
func (s *Snapshot) Decided(service string) bool {
	if len(membersOf(s.Services[service].Current().Spec)) > 0 {
		return true
	}
	return slices.ContainsFunc(s.LiveChecks(service), func(id string) bool { return s.Checks[id].Current().Spec.Role == definition.Decides })
}

// Affected returns services and all that depend on them now, through others too.
func (s *Snapshot) Affected(services ...string) []string {
	dependants := map[string][]string{}
	for id, e := range s.Services {
		for _, member := range membersOf(e.Current().Spec) {
			dependants[member] = append(dependants[member], id)
		}
	}
	return s.closure(services, func(id string) []string { return dependants[id] })
}

// membersOf are all services of the groups that a service depends on.
func membersOf(spec definition.ServiceSpec) []string {
	var out []string
	for _, d := range spec.DependsOn {
		out = append(out, d.Services...)
	}
	return out
}

func (s *Snapshot) closure(services []string, next func(string) []string) []string {
	seen := map[string]bool{}
	var visit func(string)
	visit = func(id string) {
		if seen[id] || s.Services[id] == nil {
			return
		}
		seen[id] = true
		for _, n := range next(id) {
			visit(n)
		}
	}
	for _, id := range services {
		visit(id)
	}
	out := make([]string, 0, len(seen))
	for id := range seen {
		out = append(out, id)
	}
	sort.Strings(out)
	return out
}
