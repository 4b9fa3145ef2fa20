// Package access says who may do what: what a role permits, and to what it is limited.
package access

import (
	"fmt"
	"slices"
	"strings"

	"kestite/core/catalogue"
	"kestite/core/definition"
)

// Role is what a person is here. A role permits some things.
type Role string

// The roles.
const (
	Customer      Role = "customer"      // reads what was promised and reported to them
	Viewer        Role = "viewer"        // sees everything that is measured, defined and published
	Operator      Role = "operator"      // works with it: tries, plans windows
	Approver      Role = "approver"      // the second pair of eyes: sees drafts and the trail
	Manager       Role = "manager"       // defines, and publishes
	Administrator Role = "administrator" // may do all
)

// Roles are all of them, from the widest.
var Roles = []Role{Administrator, Manager, Approver, Operator, Viewer, Customer}

// Permission is something that a role permits or does not.
type Permission string

// The permissions.
const (
	Own        Permission = "own"        // the own account, and what concerns oneself
	See        Permission = "see"        // everything measured, defined and published
	SeeDrafts  Permission = "see drafts" // reports that are not published yet
	Operate    Permission = "operate"    // try, plan windows, steer stand-ins
	Define     Permission = "define"     // services, checks, agreements and what they need
	Publish    Permission = "publish"    // draft and publish reports
	Audit      Permission = "audit"      // read the trail
	Approve    Permission = "approve"    // be the second person for what somebody else asks for
	Administer Permission = "administer" // people, agents' tokens, the organisation
)

var permits = map[Role][]Permission{
	Customer:      {Own},
	Viewer:        {Own, See},
	Operator:      {Own, See, Operate},
	Approver:      {Own, See, SeeDrafts, Audit, Approve},
	Manager:       {Own, See, SeeDrafts, Operate, Define, Publish, Audit, Approve},
	Administrator: {Own, See, SeeDrafts, Operate, Define, Publish, Audit, Approve, Administer},
}

// words say what a permission lets one do.
var words = map[Permission]string{
	Own: "have an account", See: "see what is measured and defined", SeeDrafts: "see drafts of reports",
	Operate: "operate: try checks and plan windows", Define: "define services, checks, agreements and what they need",
	Publish: "draft and publish reports", Audit: "read the trail", Approve: "approve what others ask for",
	Administer: "administer people, agents and the organisation",
}

// Words say what a permission lets one do: "draft and publish reports".
func (p Permission) Words() string { return words[p] }

// Known says whether r is a role.
func (r Role) Known() bool { return permits[r] != nil }

// Permits says whether a role permits something.
func (r Role) Permits(p Permission) bool { return slices.Contains(permits[r], p) }

// All is what a role permits.
func (r Role) All() []Permission { return slices.Clone(permits[r]) }

// With are the roles that permit something, from the widest.
func With(p Permission) []Role {
	return slices.DeleteFunc(slices.Clone(Roles), func(r Role) bool { return !r.Permits(p) })
}

// Limited says whether a role can be limited to the services of some teams: one that
// changes something, and not everything.
func (r Role) Limited() bool { return r.Permits(Operate) && !r.Permits(Administer) }

// Rights are a role and what it is limited to.
type Rights struct {
	Role Role
	// Customer is whom a person with the role Customer belongs to, by id.
	Customer string
	// Teams limit what may be changed to what the services of these teams are made of
	// and promise; none: everything that the role permits.
	Teams []string
}

// Equal says whether two are the same.
func (r Rights) Equal(other Rights) bool {
	return r.Role == other.Role && r.Customer == other.Customer && slices.Equal(r.Teams, other.Teams)
}

// May says whether a person with these rights may do something, somewhere at least.
func (r Rights) May(p Permission) bool { return r.Role.Permits(p) }

// Fault says what is wrong with rights that a person is to have.
func (r Rights) Fault(s *catalogue.Snapshot) error {
	switch {
	case !r.Role.Known():
		return definition.Faultf("role", "%q is no role", r.Role)
	case r.Role == Customer && r.Customer == "":
		return definition.Faultf("customer", "is missing; say which customer they belong to")
	case r.Role != Customer && r.Customer != "":
		return definition.Faultf("customer", "only the role customer belongs to one; take it away")
	case len(r.Teams) > 0 && !r.Role.Limited():
		return definition.Faultf("teams", "the role %s cannot be limited to teams; take them away", r.Role)
	}
	if r.Customer != "" {
		if e := s.Customers[r.Customer]; e == nil || e.Retired {
			return definition.Faultf("customer", "%q names no customer", r.Customer)
		}
	}
	for i, id := range r.Teams {
		path := fmt.Sprintf("teams[%d]", i)
		if e := s.Teams[id]; e == nil || e.Retired {
			return definition.Faultf(path, "%q names no team", id)
		}
		if slices.Contains(r.Teams[:i], id) {
			return definition.Faultf(path, "%q is named twice", id)
		}
	}
	return nil
}

// Promised says whether a person may see what an agreement promises and how it stands.
func (r Rights) Promised(spec definition.AgreementSpec) bool {
	if r.May(See) {
		return true
	}
	return r.Role == Customer && r.Customer != "" && spec.Customer == r.Customer
}

// Denied is a refusal: what may not be done, and why.
type Denied struct{ Why string }

func (d *Denied) Error() string { return d.Why }

// Needs refuses what a role does not permit. The error is a *Denied.
func (r Rights) Needs(p Permission) error {
	if r.May(p) {
		return nil
	}
	var with []string
	for _, role := range With(p) {
		with = append(with, string(role))
	}
	return &Denied{fmt.Sprintf("To %s one needs the role %s; you are %s. Ask an administrator.", p.Words(),
		strings.Join(with, " or "), r.Role)}
}

// ToChange is the permission that changing definitions of a kind needs.
func ToChange(kind string) Permission {
	switch kind {
	case catalogue.Window, catalogue.Adjustment:
		return Operate
	case catalogue.Relay:
		return Administer
	}
	return Define
}

// MayWrite refuses a write of a change that a person with these rights may not make,
// between what was defined before and what is after it.
// What follows from what they may is theirs too. The error is a *Denied.
func (r Rights) MayWrite(before, after *catalogue.Snapshot, w catalogue.Write) error {
	if w.Follows {
		return nil
	}
	if err := r.Needs(ToChange(w.Kind)); err != nil {
		return err
	}
	if pausesMore(w) {
		if err := r.Needs(Define); err != nil {
			return &Denied{"That checks do not measure during work is a manager's choice. " + err.Error()}
		}
	}
	if len(r.Teams) == 0 {
		return nil
	}
	for _, s := range []*catalogue.Snapshot{before, after} { // it was theirs, and it stays theirs
		spec := s.Current(w.Kind, w.ID)
		if spec == nil {
			continue
		}
		owners, is := ownersOf(s, spec)
		if !is {
			return &Denied{fmt.Sprintf("%s is for the whole organisation, and your role counts for services of %s only. Ask an administrator.",
				spec.Called(), r.teams(s))}
		}
		if err := r.owned(s, owners); err != nil {
			return err
		}
	}
	return nil
}

// pausesMore says whether a write lets a check pause that did not before.
func pausesMore(w catalogue.Write) bool {
	after, _ := w.Spec.(definition.WindowSpec)
	before, _ := w.Before.(definition.WindowSpec)
	return slices.ContainsFunc(after.Pause, func(id string) bool { return !slices.Contains(before.Pause, id) })
}

// ownersOf are the teams that own what a spec is about, "" for one that nobody owns; is
// is false for what is about no service.
func ownersOf(s *catalogue.Snapshot, spec catalogue.Spec) (owners []string, is bool) {
	switch spec := spec.(type) {
	case definition.ServiceSpec:
		return []string{spec.Owner}, true
	case definition.CheckSpec:
		return []string{s.OwnerOf(spec.Service)}, true
	case definition.PairPlanSpec:
		return []string{s.OwnerOf(spec.Service)}, true
	case definition.AgreementSpec:
		return []string{s.OwnerOf(spec.Service)}, true
	case definition.WindowSpec:
		return ownersOfAll(s, spec.Services), true
	case definition.AdjustmentSpec:
		if e := s.Agreements[spec.Agreement]; e != nil {
			return []string{s.OwnerOf(e.Current().Spec.Service)}, true
		}
	case definition.EmbargoSpec:
		return ownersOfAll(s, spec.Services), len(spec.Services) > 0
	}
	return nil, false
}

func ownersOfAll(s *catalogue.Snapshot, services []string) []string {
	var out []string
	for _, id := range services {
		out = append(out, s.OwnerOf(id))
	}
	return out
}

// Over refuses to do something that concerns a service; the error is a *Denied.
func (r Rights) Over(s *catalogue.Snapshot, p Permission, service string) error {
	if err := r.Needs(p); err != nil {
		return err
	}
	return r.owned(s, []string{s.OwnerOf(service)})
}

// Everywhere refuses what concerns the whole organisation to who is limited to teams;
// the error is a *Denied.
func (r Rights) Everywhere(s *catalogue.Snapshot, p Permission) error {
	if err := r.Needs(p); err != nil {
		return err
	}
	if len(r.Teams) > 0 {
		return &Denied{fmt.Sprintf("This is for the whole organisation, and your role counts for services of %s only. Ask an administrator.",
			r.teams(s))}
	}
	return nil
}

func (r Rights) owned(s *catalogue.Snapshot, owners []string) error {
	if len(r.Teams) == 0 {
		return nil
	}
	for _, owner := range owners {
		if slices.Contains(r.Teams, owner) {
			continue
		}
		whose := "nobody"
		if owner != "" {
			whose = s.Named(catalogue.Team, owner)
		}
		return &Denied{fmt.Sprintf("The service is owned by %s, and your role counts for services of %s only. Ask an administrator.", whose,
			r.teams(s))}
	}
	return nil
}

func (r Rights) teams(s *catalogue.Snapshot) string {
	var names []string
	for _, id := range r.Teams {
		names = append(names, s.Named(catalogue.Team, id))
	}
	return strings.Join(names, " and ")
}
