package catalogue

import (
	"cmp"
	"errors"
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"kestite/core/calendar"
	"kestite/core/definition"
	"kestite/core/span"
)

// Margin is how far beyond a period definitions and measurements matter to its
// account: outages that cross its edges, lead and linger, and what settles the last
// measurements, all of which are at most a day, lie inside it, and so does the
// longest time that a measurement holds, a week.
const Margin = 8 * span.Day

// onClocks is a period as wall times of its zone; of UTC where those would be read as other
// instants, as in the hour that clocks show twice.
func onClocks(p calendar.Period) definition.Period {
	loc, start, end, when := p.Location, p.Start, p.End, p.Span()
	if start.Instant(loc, calendar.Shift) != when.From || end.Instant(loc, calendar.Shift) != when.To {
		loc, start, end = time.UTC, calendar.WallAt(when.From, time.UTC), calendar.WallAt(when.To, time.UTC)
	}
	return definition.Period{Timezone: loc.String(), Start: start.String(), End: end.String()}
}

// Bundle makes the evidence bundle of a period for services (with all they
// depend on) and agreements, with windows where they matter: for an account, and
// not for states. Services and checks come with all their revisions that matter
// to the period, an agreement with the one that accounts it, windows as what was
// planned and since when that was announced. The error is a *definition.Fault.
func (s *Snapshot) Bundle(period calendar.Period, asOf *span.Instant, services, agreements []string,
	windows bool) (*definition.Compiled, error) {
	start := period.Span().From
	within := span.Span{From: start.Add(-Margin), To: period.Span().To.Add(Margin)}
	b := definition.Bundle{
		Format: definition.Format,
		Period: onClocks(period),
		AsOf:   asOf,
	}
	wanted := append([]string(nil), services...)
	for _, id := range agreements {
		a, err := s.agreement(id, start)
		if err != nil {
			return nil, err
		}
		b.Agreements = append(b.Agreements, a)
		wanted = append(append(wanted, a.Service), a.Upstream.Excuse...)
	}
	needed := s.Needed(within, wanted...)
	for _, id := range needed {
		b.Services = append(b.Services, s.serviceRevisions(id, within)...)
	}
	compiled := map[string]definition.CompiledWindow{}
	if windows {
		list, err := s.windows(needed, within)
		if err != nil {
			return nil, err
		}
		for _, w := range list {
			b.Windows = append(b.Windows, w.Window)
			compiled[w.ID] = w
		}
	}
	b.Adjustments = s.adjustments(agreements)
	c, err := definition.CompileWith(b, func(w definition.Window) (definition.CompiledWindow, error) { return compiled[w.ID], nil })
	return c, s.named(err, b)
}

// adjustments are the approved ones of some agreements, in the order in which they were
// approved: a later one wins.
func (s *Snapshot) adjustments(agreements []string) []definition.Adjustment {
	var out []definition.Adjustment
	for id, e := range s.Adjustments {
		if entry := e.Current().Spec.Entry(id); entry.Approved && slices.Contains(agreements, entry.Agreement) {
			out = append(out, entry)
		}
	}
	slices.SortFunc(out, func(a, b definition.Adjustment) int {
		return cmp.Or(cmp.Compare(*a.ApprovedAt, *b.ApprovedAt), cmp.Compare(a.ID, b.ID))
	})
	return out
}

// agreement is the agreement as the account of a period that starts at start uses it.
func (s *Snapshot) agreement(id string, start span.Instant) (definition.Agreement, error) {
	a, err := s.Promise(id, s.Accounting(id, start).Spec)
	if err != nil {
		return a, err
	}
	from, err := s.Begins(id, start)
	if err != nil {
		return a, err
	}
	a.From = &from
	if a.Until, err = s.ends(id, start); err != nil {
		return a, err
	}
	if a.Until != nil && *a.Until <= from { // it ended before it began: it promises nothing
		none := from + 1
		a.Until = &none
	}
	return a, nil
}

// serviceRevisions are a service's revisions that matter within, as accounts use
// them; the first holds the checks. One that was not in force then is there all the
// same, for what refers to it, and depends on nothing.
func (s *Snapshot) serviceRevisions(id string, within span.Span) []definition.Service {
	e := s.Services[id]
	var out []definition.Service
	for _, r := range e.During(within) {
		svc := definition.Service{ID: id, Kind: r.Spec.Kind, Combine: r.Spec.Combine}
		if svc.Combine == "" {
			svc.Combine = definition.Worst
		}
		for _, d := range r.Spec.DependsOn {
			svc.DependsOn = append(svc.DependsOn, d.Group())
		}
		if r.From > within.From { // what was before does not matter, and bounds cost
			svc.From = &r.From
		}
		if definition.Ends(r.Until) < within.To {
			svc.Until = r.Until
		}
		if last := len(out) - 1; last >= 0 && definition.Ends(out[last].Until) == r.From && sameService(out[last], svc) {
			out[last].Until = svc.Until // what changed concerns no account
			continue
		}
		out = append(out, svc)
	}
	if len(out) == 0 {
		r := e.Current()
		out = append(out, definition.Service{ID: id, Kind: r.Spec.Kind, Combine: definition.Worst, From: &r.From, Until: r.Until})
	}
	for _, check := range s.ChecksOf[id] {
		out[0].Checks = append(out[0].Checks, s.CheckRevisions(check)...)
	}
	return out
}

// sameService says whether two revisions of a service are alike to accounts.
func sameService(a, b definition.Service) bool {
	return a.Kind == b.Kind && a.Combine == b.Combine && reflect.DeepEqual(a.DependsOn, b.DependsOn)
}

var indexed = regexp.MustCompile(`^(services|windows|agreements|adjustments)\[(\d+)\]\.?(.*)$`)

// named says of a fault in a bundle whose it is, by the name that people gave.
func (s *Snapshot) named(err error, b definition.Bundle) error {
	var f *definition.Fault
	if !errors.As(err, &f) {
		return err
	}
	at := indexed.FindStringSubmatch(f.Path)
	if at == nil {
		return err
	}
	i, _ := strconv.Atoi(at[2]) // digits, by the pattern
	var whose string
	switch at[1] {
	case "services":
		whose = fmt.Sprintf("the service %q", s.Services[b.Services[i].ID].Current().Spec.Name)
	case "windows":
		id, _, _ := strings.Cut(b.Windows[i].ID, "+")
		whose = fmt.Sprintf("the window %q", s.Windows[id].Current().Spec.Name)
	case "agreements":
		whose = fmt.Sprintf("the agreement %q", s.Agreements[b.Agreements[i].ID].Current().Spec.Name)
	case "adjustments":
		whose = fmt.Sprintf("the adjustment %q of %s", b.Adjustments[i].ID, s.Named(Agreement, b.Adjustments[i].Agreement))
	}
	return &definition.Fault{Path: strings.TrimSuffix(whose+", "+at[3], ", "), Message: f.Message}
}
