package catalogue

import (
	"encoding/json"
	"fmt"

	"kestite/core/definition"
	"kestite/server/store/gen/db"
)

// Kinds of definition.
const (
	Location   = "location"
	Service    = "service"
	Check      = "check"
	Agreement  = "agreement"
	Window     = "window"
	Network    = "network"
	Credential = "credential"
	Kit        = "kit"
	PairPlan   = "pair-plan"
)

// kindOf is what is done alike with every kind of definition.
type kindOf struct {
	ids  func(*Snapshot) []string
	name func(s *Snapshot, id string) string // today; the id where there is none
	add  func(*Snapshot, db.AllRevisionsRow) error
	read func(body []byte) (Spec, error)
}

var kinds = map[string]kindOf{
	Location:   kind(func(s *Snapshot) *map[string]*Entry[definition.LocationSpec] { return &s.Locations }),
	Service:    kind(func(s *Snapshot) *map[string]*Entry[definition.ServiceSpec] { return &s.Services }),
	Check:      kind(func(s *Snapshot) *map[string]*Entry[definition.CheckSpec] { return &s.Checks }),
	Agreement:  kind(func(s *Snapshot) *map[string]*Entry[definition.AgreementSpec] { return &s.Agreements }),
	Window:     kind(func(s *Snapshot) *map[string]*Entry[definition.WindowSpec] { return &s.Windows }),
	Network:    kind(func(s *Snapshot) *map[string]*Entry[definition.NetworkSpec] { return &s.Networks }),
	Credential: kind(func(s *Snapshot) *map[string]*Entry[definition.CredentialSpec] { return &s.Credentials }),
	Kit:        kind(func(s *Snapshot) *map[string]*Entry[definition.KitSpec] { return &s.Kits }),
	PairPlan:   kind(func(s *Snapshot) *map[string]*Entry[definition.PairPlanSpec] { return &s.PairPlans }),
}

// named is a spec with what people call it.
type named interface {
	Spec
	Called() string
}

func kind[S named](entries func(*Snapshot) *map[string]*Entry[S]) kindOf {
	return kindOf{
		ids: func(s *Snapshot) []string { return Sorted(*entries(s)) },
		name: func(s *Snapshot, id string) string {
			if e := (*entries(s))[id]; e != nil {
				return e.Current().Spec.Called()
			}
			return id
		},
		add: func(s *Snapshot, r db.AllRevisionsRow) error {
			into := entries(s)
			if *into == nil {
				*into = map[string]*Entry[S]{}
			}
			return add(*into, r)
		},
		read: func(body []byte) (Spec, error) {
			var spec S
			err := json.Unmarshal(body, &spec)
			return spec, err
		},
	}
}

// add lets a revision of the kind it names join the snapshot; those of kinds
// that are not known here are left out.
func (s *Snapshot) add(r db.AllRevisionsRow) error {
	k, known := kinds[r.Kind]
	if !known {
		return nil
	}
	if err := k.add(s, r); err != nil {
		return fmt.Errorf("revision %d of %s %s: %w", r.Number, r.Kind, r.ID, err)
	}
	return nil
}
