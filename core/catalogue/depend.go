package catalogue

import (
	"errors"
	"fmt"
	"reflect"
	"strings"

	"kestite/core/definition"
	"kestite/core/topology"
)

// Depends is what a file of dependencies changes of a service.
type Depends struct {
	Service string
	Line    int
	Before  []definition.Dependency
	After   []definition.Dependency
	Step    Step
}

// DependSteps are the changes that a file of dependencies makes, in an order in which
// each can be made: a circle that only stands between two of them is none. Services are
// named by id or, where that is one service's alone, by name. What is as it was is no
// change. The faults are *definition.Fault with the line as path; with any of them nothing
// is to be made.
func (s *Snapshot) DependSteps(in Circumstances, list []topology.Needs) (out []Depends, faults []error) {
	names := map[string][]string{}
	for _, id := range Live(s.Services) {
		name := strings.ToLower(s.Services[id].Current().Spec.Name)
		names[name] = append(names[name], id)
	}
	find := func(line int, what string) (string, error) {
		path := fmt.Sprintf("line %d", line)
		if e := s.Services[what]; e != nil && !e.Retired {
			return what, nil
		}
		switch ids := names[strings.ToLower(strings.TrimSpace(what))]; len(ids) {
		case 0:
			return "", definition.Faultf(path, "%q names no service in force", what)
		case 1:
			return ids[0], nil
		default:
			return "", definition.Faultf(path, "%q is the name of %d services; write the id: %s", what, len(ids), strings.Join(ids, " or "))
		}
	}
	var pending []Depends
	seen := map[string]int{}
	for _, n := range list {
		id, err := find(n.Line, n.Service)
		if err != nil {
			faults = append(faults, err)
			continue
		}
		if line, twice := seen[id]; twice {
			faults = append(faults, definition.Faultf(fmt.Sprintf("line %d", n.Line), "%s stands there twice, first in line %d", id, line))
			continue
		}
		seen[id] = n.Line
		e := s.Services[id].Current()
		d := Depends{Service: id, Line: n.Line, Before: e.Spec.DependsOn}
		for _, g := range n.Needs {
			var members []string
			for _, m := range g.Services {
				member, err := find(n.Line, m)
				if err != nil {
					faults = append(faults, err)
					continue
				}
				members = append(members, member)
			}
			d.After = append(d.After, definition.Dependency{Services: members, Need: g.Need})
		}
		if sameGroups(d.Before, d.After) {
			continue
		}
		spec := e.Spec
		spec.DependsOn = d.After
		d.Step = Step{Does: Rewrite, Kind: Service, ID: id, Expected: e.Number, Spec: spec}
		pending = append(pending, d)
	}
	if len(faults) > 0 {
		return nil, faults[:min(20, len(faults))]
	}
	for len(pending) > 0 {
		var left []Depends
		faults = nil
		for _, d := range pending {
			plan, err := s.Plan(in, d.Step)
			if err != nil {
				left = append(left, d)
				faults = append(faults, atLine(d.Line, err))
				continue
			}
			s = plan.After
			out = append(out, d)
		}
		if len(left) == len(pending) {
			return nil, faults[:min(20, len(faults))]
		}
		pending = left
	}
	return out, nil
}

// sameGroups says whether two lists of groups say the same.
func sameGroups(a, b []definition.Dependency) bool {
	if len(a) == 0 && len(b) == 0 {
		return true
	}
	plain := func(list []definition.Dependency) []definition.Dependency {
		var out []definition.Dependency
		for _, d := range list {
			if d.Need == len(d.Services) {
				d.Need = 0
			}
			out = append(out, d)
		}
		return out
	}
	return reflect.DeepEqual(plain(a), plain(b))
}

func atLine(line int, err error) error {
	path, message := fmt.Sprintf("line %d", line), err.Error()
	var f *definition.Fault
	if errors.As(err, &f) {
		message = f.Message
	}
	return definition.Faultf(path, "%s", message)
}

// AllNeeds are what all services in force need.
func (s *Snapshot) AllNeeds() []topology.Needs {
	var out []topology.Needs
	for _, id := range Live(s.Services) {
		out = append(out, topology.Needs{Service: id, Needs: s.Services[id].Current().Spec.DependsOn})
	}
	return out
}
