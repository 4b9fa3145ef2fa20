package catalogue

import (
	"bytes"
	"encoding/json"
	"maps"
	"slices"

	"kestite/core/definition"
	"kestite/core/span"
)

// Kinds of definition.
const (
	Location    = "location"
	Service     = "service"
	Check       = "check"
	Agreement   = "agreement"
	Window      = "window"
	Network     = "network"
	Credential  = "credential"
	Kit         = "kit"
	PairPlan    = "pair-plan"
	Team        = "team"
	Customer    = "customer"
	Contract    = "contract"
	HolidayList = "holiday-list"
	Relay       = "relay"
	Contact     = "contact-method"
	Pool        = "pool"
	NoticePlan  = "notice-plan"
	Embargo     = "embargo"
	Selection   = "selection"
	Adjustment  = "adjustment"
	Layout      = "layout"
)

// Spec is the body of a revision: what people write when they define something.
type Spec interface {
	// Validate says what is wrong with it, as far as that can be said of it alone.
	Validate() error
	// Called is what people call what it defines.
	Called() string
}

// head is what there is of a definition whatever its kind.
type head struct {
	number  int // of the latest revision
	from    span.Instant
	by      string
	retired bool
	spec    Spec // of the latest revision
}

// kindOf is what is done alike with every kind of definition.
type kindOf struct {
	open    func(*Snapshot)                    // makes room for some
	copied  func(*Snapshot)                    // makes the room its own, before write
	head    func(s *Snapshot, id string) *head // nil where there is none
	current func(s *Snapshot, id string) Spec  // of the latest revision; nil where there is none
	live    func(s *Snapshot) []string         // ids of those that are not retired, in order
	add     func(*Snapshot, Record) error      // lets a revision that is kept join
	drop    func(s *Snapshot, id string)       // forgets one, before add
	write   func(*Snapshot, Write)             // does what a step of a change does
	read    func(body []byte) (Spec, error)    // a body; the error is a *definition.Fault
	is      func(Spec) bool                    // whether a spec is one of the kind
	said    string                             // as people call it: "a check"
}

var kinds = map[string]kindOf{
	Location:    kind("a location", func(s *Snapshot) *map[string]*Entry[definition.LocationSpec] { return &s.Locations }),
	Service:     kind("a service", func(s *Snapshot) *map[string]*Entry[definition.ServiceSpec] { return &s.Services }),
	Check:       kind("a check", func(s *Snapshot) *map[string]*Entry[definition.CheckSpec] { return &s.Checks }),
	Agreement:   kind("an agreement", func(s *Snapshot) *map[string]*Entry[definition.AgreementSpec] { return &s.Agreements }),
	Window:      kind("a window", func(s *Snapshot) *map[string]*Entry[definition.WindowSpec] { return &s.Windows }),
	Network:     kind("a network", func(s *Snapshot) *map[string]*Entry[definition.NetworkSpec] { return &s.Networks }),
	Credential:  kind("a credential", func(s *Snapshot) *map[string]*Entry[definition.CredentialSpec] { return &s.Credentials }),
	Kit:         kind("a kit", func(s *Snapshot) *map[string]*Entry[definition.KitSpec] { return &s.Kits }),
	PairPlan:    kind("a pair plan", func(s *Snapshot) *map[string]*Entry[definition.PairPlanSpec] { return &s.PairPlans }),
	Team:        kind("a team", func(s *Snapshot) *map[string]*Entry[definition.TeamSpec] { return &s.Teams }),
	Customer:    kind("a customer", func(s *Snapshot) *map[string]*Entry[definition.CustomerSpec] { return &s.Customers }),
	Contract:    kind("a contract", func(s *Snapshot) *map[string]*Entry[definition.ContractSpec] { return &s.Contracts }),
	HolidayList: kind("a holiday list", func(s *Snapshot) *map[string]*Entry[definition.HolidayListSpec] { return &s.HolidayLists }),
	Relay:       kind("a relay", func(s *Snapshot) *map[string]*Entry[definition.RelaySpec] { return &s.Relays }),
	Contact:     kind("a contact method", func(s *Snapshot) *map[string]*Entry[definition.ContactSpec] { return &s.Contacts }),
	Pool:        kind("a pool", func(s *Snapshot) *map[string]*Entry[definition.PoolSpec] { return &s.Pools }),
	NoticePlan:  kind("a notice plan", func(s *Snapshot) *map[string]*Entry[definition.NoticePlanSpec] { return &s.NoticePlans }),
	Embargo:     kind("an embargo", func(s *Snapshot) *map[string]*Entry[definition.EmbargoSpec] { return &s.Embargoes }),
	Selection:   kind("a selection", func(s *Snapshot) *map[string]*Entry[definition.SelectionSpec] { return &s.Selections }),
	Layout:      kind("a layout", func(s *Snapshot) *map[string]*Entry[definition.LayoutSpec] { return &s.Layouts }),
	Adjustment:  kind("an adjustment", func(s *Snapshot) *map[string]*Entry[definition.AdjustmentSpec] { return &s.Adjustments }),
}

// KindNames are the kinds of definition, in order.
func KindNames() []string { return slices.Sorted(maps.Keys(kinds)) }

// Read makes a spec of the body of a definition. The error is a *definition.Fault.
func Read(kind string, body []byte) (Spec, error) {
	k, known := kinds[kind]
	if !known {
		return nil, definition.Faultf("kind", "%q is no kind of definition", kind)
	}
	return k.read(body)
}

func kind[S Spec](said string, entries func(*Snapshot) *map[string]*Entry[S]) kindOf {
	return kindOf{
		said:   said,
		open:   func(s *Snapshot) { *entries(s) = map[string]*Entry[S]{} },
		copied: func(s *Snapshot) { *entries(s) = maps.Clone(*entries(s)) },
		head: func(s *Snapshot, id string) *head {
			e := (*entries(s))[id]
			if e == nil {
				return nil
			}
			c := e.Current()
			return &head{c.Number, c.From, c.By, e.Retired, c.Spec}
		},
		current: func(s *Snapshot, id string) Spec {
			if e := (*entries(s))[id]; e != nil {
				return e.Current().Spec
			}
			return nil
		},
		live:  func(s *Snapshot) []string { return Live(*entries(s)) },
		add:   func(s *Snapshot, r Record) error { return add(*entries(s), r) },
		drop:  func(s *Snapshot, id string) { delete(*entries(s), id) },
		write: func(s *Snapshot, w Write) { write(*entries(s), w) },
		is:    func(spec Spec) bool { _, is := spec.(S); return is },
		read: func(body []byte) (Spec, error) {
			var spec S
			from := json.NewDecoder(bytes.NewReader(body))
			from.DisallowUnknownFields()
			if err := from.Decode(&spec); err != nil {
				return nil, definition.Faultf("spec", "it cannot be read as %s: %v", said, err)
			}
			return spec, nil
		},
	}
}

// write does what a step of a change does to the entries of its kind.
func write[S Spec](entries map[string]*Entry[S], w Write) {
	e := &Entry[S]{ID: w.ID}
	if old := entries[w.ID]; old != nil {
		e.Revisions = slices.Clone(old.Revisions)
	}
	if w.Closes != 0 {
		at := w.At
		e.Revisions[len(e.Revisions)-1].Until = &at
	}
	if w.Opens != 0 {
		spec, _ := w.Spec.(S) // the kind's own: Plan has seen to it
		e.Revisions = append(e.Revisions, Revision[S]{Number: w.Opens, From: w.At, By: w.By, Counts: w.Counts, Spec: spec})
	}
	e.Retired = w.Does == Retire
	entries[w.ID] = e
}
