package incident

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"kestite/core/measure"
	"kestite/core/span"
)

// TogetherFor is how far apart failures may begin that are looked at together, ms.
const TogetherFor = 5 * span.Minute

// Look is a measurement made as a service failed.
type Look struct {
	Location string // its name
	Kind     string // of the check
	Failed   bool
	Resolver string // that was asked, of a dns check; empty: the location's own
	Findings *measure.Findings
}

// Sight is what was seen of a failure as it began.
type Sight struct {
	Incident int64
	Name     string // of the service
	BeganAt  span.Instant
	Looks    []Look
}

// Kinds of what failures have in common.
const (
	SharedHop         = "hop"
	SharedCertificate = "certificate"
	SharedResolver    = "name-server"
	SharedLocation    = "location"
)

// Shared is something that several failures have in common, and what speaks for it.
type Shared struct {
	Kind      string
	What      string // the hop's address, the certificate's serial number, the resolver, the locations
	Incidents []int64
	Words     string
}

// Common is what failures that began together have in common, the most of them first: a
// hop at which the ways to all of them end, a certificate that none of them could be used
// with, a name server that answered for none, locations that see them fail while others do
// not. It names no cause by itself: what is common may be chance.
func Common(sights []Sight) []Shared {
	found := map[string]map[string]map[int64]bool{} // by kind and what
	names := map[int64]string{}
	note := func(kind, what string, incident int64) {
		if what == "" {
			return
		}
		if found[kind] == nil {
			found[kind] = map[string]map[int64]bool{}
		}
		if found[kind][what] == nil {
			found[kind][what] = map[int64]bool{}
		}
		found[kind][what][incident] = true
	}
	for _, s := range sights {
		names[s.Incident] = s.Name
		for _, l := range s.Looks {
			for _, m := range l.marks() {
				note(m.kind, m.what, s.Incident)
			}
		}
		if bad, good := seenFrom(s); len(bad) > 0 && len(good) > 0 {
			note(SharedLocation, strings.Join(bad, " and "), s.Incident)
		}
	}
	var out []Shared
	for kind, by := range found {
		for what, of := range by {
			if len(of) < 2 {
				continue
			}
			x := Shared{Kind: kind, What: what, Incidents: slices.Sorted(maps.Keys(of))}
			x.Words = sharedWords(x, names)
			out = append(out, x)
		}
	}
	order := []string{SharedHop, SharedCertificate, SharedResolver, SharedLocation}
	slices.SortFunc(out, func(a, b Shared) int {
		return cmp.Or(len(b.Incidents)-len(a.Incidents), slices.Index(order, a.Kind)-slices.Index(order, b.Kind), cmp.Compare(a.What, b.What))
	})
	return out
}

// mark is something that a look shows and that others may show too.
type mark struct{ kind, what string }

func (l Look) marks() []mark {
	var out []mark
	add := func(kind, what string) {
		if what != "" {
			out = append(out, mark{kind, what})
		}
	}
	if f := l.Findings; f != nil && f.Trace != nil && !f.Trace.Reached {
		add(SharedHop, lastHop(f.Trace))
	}
	if !l.Failed {
		return out
	}
	if f := l.Findings; f != nil && len(f.Chain) > 0 && f.Response == nil && l.Kind != measure.Path.Name {
		add(SharedCertificate, f.Chain[0].Subject+", serial "+f.Chain[0].Serial)
	}
	if l.Kind == measure.DNS.Name {
		add(SharedResolver, cmp.Or(l.Resolver, "the resolver of "+l.Location))
	}
	return out
}

// Marks are what a look at the onset of an incident shows that incidents at other times
// may show too, each as its kind and what it is: "hop 198.18.0.7".
func Marks(l Look) []string {
	var out []string
	for _, m := range l.marks() {
		out = append(out, m.kind+" "+m.what)
	}
	return out
}

// Alike says what two incidents have in common by their marks, in a sentence; empty where
// that is nothing.
func Alike(a, b []string) string {
	var parts []string
	for _, m := range a {
		if !slices.Contains(b, m) {
			continue
		}
		kind, what, _ := strings.Cut(m, " ")
		switch kind {
		case SharedHop:
			parts = append(parts, "the way ended at "+what)
		case SharedCertificate:
			parts = append(parts, "it could not be used with the certificate "+what)
		case SharedResolver:
			parts = append(parts, what+" did not answer for its name")
		}
	}
	if len(parts) == 0 {
		return ""
	}
	return "Then too " + strings.Join(parts[:min(len(parts), 2)], ", and ") + "."
}

// lastHop is who answered farthest along a way that did not reach its end.
func lastHop(t *measure.Trace) string {
	for _, h := range slices.Backward(t.Hops) {
		if h.Answered > 0 && len(h.Addrs) > 0 {
			if len(h.Names) > 0 && h.Names[0] != "" {
				return h.Names[0] + " (" + h.Addrs[0] + ")"
			}
			return h.Addrs[0]
		}
	}
	return ""
}

// seenFrom are the locations from which a failure is seen, and from which nothing of it is.
func seenFrom(s Sight) (bad, good []string) {
	seen := map[string]bool{}
	for _, l := range s.Looks {
		seen[l.Location] = seen[l.Location] || l.Failed
	}
	for _, l := range slices.Sorted(maps.Keys(seen)) {
		if seen[l] {
			bad = append(bad, l)
		} else {
			good = append(good, l)
		}
	}
	return bad, good
}

func sharedWords(x Shared, names map[int64]string) string {
	var of []string
	for _, id := range x.Incidents {
		of = append(of, names[id])
	}
	who := fmt.Sprintf("%d services", len(of))
	if len(of) <= 4 {
		who = strings.Join(of[:len(of)-1], ", ") + " and " + of[len(of)-1]
	}
	switch x.Kind {
	case SharedHop:
		return "The ways to " + who + " end at " + x.What + "."
	case SharedCertificate:
		return who + " have the certificate " + x.What + ", and could not be used with it."
	case SharedResolver:
		return "The names of " + who + " were not answered by " + x.What + "."
	}
	return who + " fail from " + x.What + " alone; from elsewhere they are well."
}

// Order says which of some failures began when, the first first, in a sentence; empty
// where there is one alone.
func Order(sights []Sight) string {
	if len(sights) < 2 {
		return ""
	}
	list := slices.Clone(sights)
	slices.SortStableFunc(list, func(a, b Sight) int {
		return cmp.Or(cmp.Compare(a.BeganAt, b.BeganAt), cmp.Compare(a.Incident, b.Incident))
	})
	var later []string
	for _, s := range list[1:min(len(list), 6)] {
		if apart := int64(s.BeganAt - list[0].BeganAt); apart > 0 {
			later = append(later, fmt.Sprintf("%s %s later", s.Name, span.Words(apart)))
		} else {
			later = append(later, s.Name+" at once with it")
		}
	}
	text := fmt.Sprintf("%s failed first; %s", list[0].Name, strings.Join(later, ", "))
	if more := len(list) - 6; more > 0 {
		text += fmt.Sprintf(", and %d more after them", more)
	}
	return text + "."
}
