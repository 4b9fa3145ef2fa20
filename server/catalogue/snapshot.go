// Package catalogue holds the definitions with their history: it reads them as
// one consistent snapshot, changes them by closing a revision and opening the
// next, and makes of them what accounts and agents need.
package catalogue

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"
	"time"

	"kestite/core/calendar"
	"kestite/core/definition"
	"kestite/core/span"
	"kestite/server/store"
	"kestite/server/store/gen/db"
)

// Revision is what a definition said during [From, Until).
type Revision[S any] struct {
	Number int
	From   span.Instant
	Until  *span.Instant
	Spec   S
}

// Entry is one definition with all its revisions, oldest first.
type Entry[S any] struct {
	ID        string
	Retired   bool
	Revisions []Revision[S]
}

// Current is the latest revision; of a retired definition, the last one.
func (e *Entry[S]) Current() Revision[S] { return e.Revisions[len(e.Revisions)-1] }

// InForce is the revision in force at i, or the first where i lies before it.
func (e *Entry[S]) InForce(i span.Instant) Revision[S] {
	found := e.Revisions[0]
	for _, r := range e.Revisions {
		if r.From <= i {
			found = r
		}
	}
	return found
}

// Snapshot is every definition at one moment. It is not to be changed.
type Snapshot struct {
	Organisation db.Organisation
	Locations    map[string]*Entry[definition.LocationSpec]
	Services     map[string]*Entry[definition.ServiceSpec]
	Checks       map[string]*Entry[definition.CheckSpec]
	Agreements   map[string]*Entry[definition.AgreementSpec]
	Windows      map[string]*Entry[definition.WindowSpec]
	Networks     map[string]*Entry[definition.NetworkSpec]
	Credentials  map[string]*Entry[definition.CredentialSpec]
	Kits         map[string]*Entry[definition.KitSpec]
	PairPlans    map[string]*Entry[definition.PairPlanSpec]
	// ChecksOf lists the checks of a service, retired ones included: those that
	// decide first, those between locations last, each by id.
	ChecksOf map[string][]string
	// Mark changes with every change of a definition.
	Mark string
	// Unreadable are revisions that this program cannot read; they say nothing here.
	Unreadable []Unreadable

	windowsKept sync.Map // of resolved windows by id
}

// Unreadable is a revision that cannot be read.
type Unreadable struct {
	Kind, ID string
	Number   int
	Why      string
}

// Catalogue caches the snapshot of a store's definitions.
type Catalogue struct {
	store *store.Store
	mu    sync.Mutex
	last  *Snapshot
	// changing lets one change at a time wait for the lock in the database, so
	// that those that wait do not take all connections.
	changing sync.Mutex
}

// New returns the catalogue of a store.
func New(s *store.Store) *Catalogue { return &Catalogue{store: s} }

// Snapshot returns the definitions as they are now.
func (c *Catalogue) Snapshot(ctx context.Context) (*Snapshot, error) {
	m, err := c.store.DefinitionMark(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the definitions: %w", err)
	}
	mark := strconv.FormatInt(m, 10)
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.last != nil && c.last.Mark == mark {
		return c.last, nil
	}
	fresh, err := read(ctx, c.store)
	if err != nil {
		return nil, err
	}
	fresh.Mark = mark
	c.last = fresh
	return fresh, nil
}

func read(ctx context.Context, s *store.Store) (*Snapshot, error) {
	org, err := s.Organisation(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the organisation: %w", err)
	}
	rows, err := s.AllRevisions(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the definitions: %w", err)
	}
	out := &Snapshot{Organisation: org, ChecksOf: map[string][]string{}}
	for _, r := range rows {
		if err := out.add(r); err != nil {
			out.Unreadable = append(out.Unreadable, Unreadable{r.Kind, r.ID, int(r.Number), err.Error()})
		}
	}
	for _, id := range Sorted(out.Checks) {
		s := out.Checks[id].Current().Spec.Service
		out.ChecksOf[s] = append(out.ChecksOf[s], id)
	}
	rank := func(id string) int {
		switch c := out.Checks[id].Current().Spec; {
		case c.Pair != nil:
			return 2
		case c.Role == definition.Informs:
			return 1
		}
		return 0
	}
	for _, ids := range out.ChecksOf {
		slices.SortStableFunc(ids, func(a, b string) int { return cmp.Compare(rank(a), rank(b)) })
	}
	return out, nil
}

func add[S any](into map[string]*Entry[S], r db.AllRevisionsRow) error {
	rev := Revision[S]{Number: int(r.Number), From: span.Of(r.ValidFrom), Until: instant(r.ValidUntil)}
	err := json.Unmarshal(r.Body, &rev.Spec)
	if err != nil { // it stands there and says nothing: what refers to it must find something
		var nothing S
		rev.Spec = nothing
	}
	e := into[r.ID]
	if e == nil {
		e = &Entry[S]{ID: r.ID, Retired: r.RetiredAt != nil}
		into[r.ID] = e
	}
	e.Revisions = append(e.Revisions, rev)
	return err
}

func instant(t *time.Time) *span.Instant {
	if t == nil {
		return nil
	}
	i := span.Of(*t)
	return &i
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

// Needed returns services and all they depend on, through others too.
func (s *Snapshot) Needed(services ...string) []string {
	return s.closure(services, func(id string) []string {
		var out []string
		for _, r := range s.Services[id].Revisions {
			for _, d := range r.Spec.DependsOn {
				out = append(out, d.Services...)
			}
		}
		return out
	})
}

// Named is the name of a definition today; its id where there is none.
func (s *Snapshot) Named(kind, id string) string {
	if k, known := kinds[kind]; known {
		return k.name(s, id)
	}
	return id
}

// Affected returns services and all that depend on them, through others too.
func (s *Snapshot) Affected(services ...string) []string {
	dependants := map[string][]string{}
	for id, e := range s.Services {
		for _, d := range e.Current().Spec.DependsOn {
			for _, member := range d.Services {
				dependants[member] = append(dependants[member], id)
			}
		}
	}
	return s.closure(services, func(id string) []string { return dependants[id] })
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

// Bundle makes the evidence bundle of a period for services (with all they
// depend on) and agreements, with windows where they matter: for an account, and
// not for states. Of a service and of an agreement it takes the
// revision in force at the period's start, or the first after it; checks come
// with all their revisions.
func (s *Snapshot) Bundle(period calendar.Period, asOf *span.Instant, services, agreements []string, windows bool) (*definition.Compiled, error) {
	at := period.Span().From
	b := definition.Bundle{
		Format: definition.Format,
		Period: definition.Period{Timezone: period.Location.String(), Start: period.Start.String(), End: period.End.String()},
		AsOf:   asOf,
	}
	wanted := append([]string(nil), services...)
	for _, id := range agreements {
		r := s.Agreements[id].InForce(at)
		a := r.Spec.Agreement(id)
		from, err := s.Begins(id)
		if err != nil {
			return nil, err
		}
		a.From = &from
		if e := s.Agreements[id]; e.Retired {
			a.Until = e.Current().Until
		}
		b.Agreements = append(b.Agreements, a)
		wanted = append(append(wanted, a.Service), a.Upstream.Excuse...)
	}
	needed := s.Needed(wanted...)
	for _, id := range needed {
		spec := s.Services[id].InForce(at).Spec
		svc := definition.Service{ID: id, Kind: spec.Kind, Combine: spec.Combine}
		if svc.Combine == "" {
			svc.Combine = definition.Worst
		}
		for _, d := range spec.DependsOn {
			svc.DependsOn = append(svc.DependsOn, d.Group())
		}
		for _, check := range s.ChecksOf[id] {
			svc.Checks = append(svc.Checks, s.CheckRevisions(check)...)
		}
		b.Services = append(b.Services, svc)
	}
	if windows {
		b.Windows = s.windows(needed)
	}
	c, err := definition.CompileWith(b, s.resolved)
	return c, s.named(err, b)
}

var indexed = regexp.MustCompile(`^(services|windows|agreements)\[(\d+)\]\.?(.*)$`)

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
	i, _ := strconv.Atoi(at[2])
	var whose string
	switch at[1] {
	case "services":
		whose = fmt.Sprintf("the service %q", s.Services[b.Services[i].ID].Current().Spec.Name)
	case "windows":
		whose = fmt.Sprintf("the window %q", s.Windows[b.Windows[i].ID].Current().Spec.Name)
	case "agreements":
		whose = fmt.Sprintf("the agreement %q", s.Agreements[b.Agreements[i].ID].Current().Spec.Name)
	}
	return &definition.Fault{Path: strings.TrimSuffix(whose+", "+at[3], ", "), Message: f.Message}
}

// ahead is how far beyond the present the starts of windows are kept.
const ahead = 400 * span.Day

type resolved struct {
	window definition.CompiledWindow
	err    error
}

// resolved resolves a window, and keeps that with its starts: the snapshot never
// changes, and expanding a rule from its first start costs more each year.
func (s *Snapshot) resolved(w definition.Window) (definition.CompiledWindow, error) {
	kept, has := s.windowsKept.Load(w.ID)
	if !has {
		var r resolved
		if r.window, r.err = definition.CompileWindow(w); r.err == nil {
			if rec, err := r.window.Recurrence.Expanded(span.Of(time.Now()).Add(ahead)); err == nil {
				r.window.Recurrence = rec
			} else {
				r.err = &definition.Fault{Path: "rrule", Message: err.Error()}
			}
		}
		kept, _ = s.windowsKept.LoadOrStore(w.ID, r)
	}
	r := kept.(resolved)
	r.window.Window = w // which of its services matter differs
	return r.window, r.err
}

// Begins is when an agreement's promise starts: the day it names, or when it was entered.
func (s *Snapshot) Begins(agreement string) (span.Instant, error) {
	e := s.Agreements[agreement]
	spec := e.Current().Spec
	if spec.From == "" {
		return e.Revisions[0].From, nil
	}
	loc, err := calendar.Zone(spec.Timezone)
	if err != nil {
		return 0, err
	}
	day, err := calendar.ParseDate(spec.From)
	return day.Instant(loc, calendar.Shift), err
}

// windows returns the windows on any of services, announced when they were entered.
func (s *Snapshot) windows(services []string) []definition.Window {
	known := map[string]bool{}
	for _, id := range services {
		known[id] = true
	}
	var out []definition.Window
	for _, id := range Sorted(s.Windows) {
		e := s.Windows[id]
		if e.Retired {
			continue
		}
		r := e.Current()
		var on []string
		for _, svc := range r.Spec.Services {
			if known[svc] {
				on = append(on, svc)
			}
		}
		if len(on) == 0 {
			continue
		}
		out = append(out, definition.Window{
			ID: id, Services: on, Start: r.Spec.Start, Timezone: r.Spec.Timezone,
			DurationS: r.Spec.DurationS, RRule: r.Spec.RRule, Exdates: r.Spec.Exdates, AnnouncedAt: r.From,
		})
	}
	return out
}
