package catalogue

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"kestite/core/definition"
	"kestite/core/span"
)

// Deed is what a step does.
type Deed int

// The deeds.
const (
	Make    Deed = iota // a new definition
	Rewrite             // opens a new revision
	Retire
	Restore // undoes a retirement; with a Spec that one holds, otherwise the last
)

// Step is one part of a change.
type Step struct {
	Does     Deed
	Kind, ID string // Make without an ID makes one of Name, or of what the spec is called
	Name     string
	Expected int // of Rewrite and Retire: the revision the edit was made on; 0: any
	Spec     Spec
	Reason   string // in place of the change's
	// Corrects names the period of an agreement from which a correction counts;
	// empty: an edit counts from the next period.
	Corrects string
	follows  bool // from another step, and not asked for by a person
}

// StepError says which step of a change was refused; nothing of the change is done.
type StepError struct {
	Index int
	Err   error
}

func (e *StepError) Error() string { return e.Err.Error() }

// Unwrap returns the reason.
func (e *StepError) Unwrap() error { return e.Err }

// What an edit of something that is not there, or no more, gives.
var (
	ErrNotFound = errors.New("there is none of that id")
	ErrRetired  = errors.New("it is retired; its history stays, but it cannot be edited")
)

// Conflict is an edit made on a revision that is no longer in force.
type Conflict struct {
	Mine, Theirs int
	By           string
}

func (c *Conflict) Error() string {
	return fmt.Sprintf("revision %d is in force, made by %s, while you edited revision %d; look at it and edit again", c.Theirs,
		c.By, c.Mine)
}

// Circumstances are what a change is made in.
type Circumstances struct {
	At     span.Instant // when what is changed begins
	By     string       // who makes it
	Reason string
	// Approved says that a second person approved what planned work it adds.
	Approved bool
	// Closing says that the change proposes or decides an adjustment, as a close does.
	Closing bool
	// Published gives the names of an agreement's periods whose account is published or frozen.
	Published map[string][]string
}

// Write is what a step does to one definition.
type Write struct {
	Does     Deed
	Kind, ID string
	At       span.Instant
	Closes   int // number of the revision that ends; 0: none
	Opens    int // number of the revision that begins; 0: none
	Counts   *span.Instant
	Spec     Spec // of the revision that begins
	Before   Spec // of the one that ends
	By       string
	Reason   string
	Follows  bool // from another step, and not asked for by a person
}

// Plan is what a change does.
type Plan struct {
	IDs      []string // of the definition of each step asked for
	Writes   []Write  // in order, with all that follows from the steps
	Services []string // whose states may change, in order
	After    *Snapshot
}

// Plan works out what a change does, each step upon those before it, with
// everything that follows: checks take over the new defaults of their service,
// pair plans keep their checks. Nothing of s is changed. The error is a *StepError;
// in it is a *definition.Fault, a *Conflict, ErrNotFound or ErrRetired.
func (s *Snapshot) Plan(in Circumstances, steps ...Step) (*Plan, error) {
	w := &work{Circumstances: in, before: s, after: s.copy(), concerned: map[string]bool{}, relisted: map[string]bool{}}
	p := &Plan{After: w.after}
	for i, step := range steps {
		id, err := w.do(step)
		if err != nil {
			return nil, &StepError{i, err}
		}
		p.IDs = append(p.IDs, id)
		if err := w.accounts(step, id); err != nil {
			return nil, &StepError{i, err}
		}
	}
	for service := range w.relisted {
		w.after.sortChecks(service)
	}
	p.Writes, p.Services = w.writes, slices.Sorted(maps.Keys(w.concerned))
	return p, nil
}

// copy is a snapshot that a change may be made to. What it holds is shared until
// it is written.
func (s *Snapshot) copy() *Snapshot {
	out := *s
	for _, k := range kinds {
		k.copied(&out)
	}
	out.ChecksOf = maps.Clone(s.ChecksOf)
	return &out
}

// work is a change under way.
type work struct {
	Circumstances
	before, after *Snapshot
	writes        []Write
	concerned     map[string]bool // services whose state the change may change
	relisted      map[string]bool // services whose list of checks is to be put in order
}

func (w *work) do(step Step) (string, error) {
	k, known := kinds[step.Kind]
	if !known {
		return "", definition.Faultf("kind", "%q is no kind of definition", step.Kind)
	}
	h := k.head(w.after, step.ID)
	if err := w.complete(k, h, &step); err != nil {
		return "", err
	}
	if h != nil && step.Does == Restore && !h.retired {
		return step.ID, nil // it is in force: nothing to undo
	}
	if err := w.may(&step); err != nil {
		return "", err
	}
	wrote, err := w.write(h, step)
	if err != nil {
		return "", err
	}
	w.concerns(wrote)
	w.writes = append(w.writes, wrote)
	k.write(w.after, wrote)
	if spec, is := wrote.Spec.(definition.CheckSpec); is {
		w.list(spec.Service, wrote)
	}
	more, err := w.after.consequences(step)
	if err != nil {
		return "", err
	}
	for _, m := range more {
		m.follows = true
		if _, err := w.do(m); err != nil {
			return "", because(step, m, err)
		}
	}
	return step.ID, nil
}

// complete fills in what a step leaves open, and refuses one that fits nothing.
func (w *work) complete(k kindOf, h *head, step *Step) error {
	switch step.Does {
	case Make:
		if !k.is(step.Spec) {
			return definition.Faultf("spec", "is not that of %s", k.said)
		}
		if step.ID == "" {
			name := step.Name
			if name == "" {
				name = step.Spec.Called()
			}
			step.ID = w.after.FreshID(step.Kind, name, nil)
		} else if h != nil {
			return definition.Faultf("id", "%q is taken by another %s, %s", step.ID, step.Kind, h.spec.Called())
		} else if definition.Slug(step.ID) != step.ID {
			return definition.Faultf("id", "%q is no id; it has small letters, digits and dashes", step.ID)
		}
		return nil
	case Retire:
	case Restore:
		if h != nil && step.Spec == nil {
			step.Spec = h.spec
		}
		fallthrough
	default:
		if h != nil && !k.is(step.Spec) {
			return definition.Faultf("spec", "is not that of %s", k.said)
		}
	}
	if h == nil {
		return ErrNotFound
	}
	if h.retired && step.Does != Restore {
		return ErrRetired
	}
	return nil
}

// may refuses what must not be, and fills in what a check follows.
func (w *work) may(step *Step) error {
	if step.Corrects != "" && (step.Kind != Agreement || step.Does != Rewrite) {
		return definition.Faultf("corrects", "only an edit of an agreement corrects a period; leave it away")
	}
	if step.Kind == Adjustment && !w.Closing {
		return definition.Faultf("kind", "an adjustment is proposed and decided on in the close of its period")
	}
	if !step.follows {
		if err := w.after.keptElsewhere(*step); err != nil {
			return err
		}
	}
	if step.Does == Retire {
		if step.follows {
			return nil
		}
		return w.after.retirable(step.Kind, step.ID)
	}
	if spec, is := step.Spec.(definition.CheckSpec); is {
		if e := w.after.Services[spec.Service]; e != nil && !step.follows {
			spec = spec.Following(e.Current().Spec.Defaults)
		}
		step.Spec = spec
	}
	if spec, is := step.Spec.(definition.HolidayListSpec); is {
		if err := w.after.keepsDays(step.ID, spec, w.At); err != nil {
			return err
		}
	}
	if err := w.after.admit(step.ID, step.Spec); err != nil {
		return err
	}
	if spec, is := step.Spec.(definition.WindowSpec); is && !step.follows {
		return w.admitWork(*step, spec)
	}
	return nil
}

// admitWork refuses planned work that must not be, or not yet.
func (w *work) admitWork(step Step, spec definition.WindowSpec) error {
	if err := w.after.admitEmbargoed(step.ID, spec, w.At, cmp.Or(step.Reason, w.Reason)); err != nil {
		return err
	}
	if step.Does != Restore {
		if err := w.after.admitPast(step.ID, spec, w.At); err != nil {
			return err
		}
	}
	if w.Approved {
		return nil
	}
	asks, err := w.after.Unapproved(step.ID, spec, w.At)
	if err == nil && asks != nil {
		return asks
	}
	return err
}

// write is what a step does to its definition.
func (w *work) write(h *head, step Step) (Write, error) {
	out := Write{Does: step.Does, Kind: step.Kind, ID: step.ID, At: w.At, Opens: 1, Spec: step.Spec, By: w.By, Reason: w.Reason,
		Follows: step.follows}
	if step.Reason != "" {
		out.Reason = step.Reason
	}
	least := int64(1)
	if step.Kind == Window { // whose pieces are whole seconds
		least = span.Second
		out.At = span.Instant((int64(w.At) + span.Second - 1) / span.Second * span.Second)
	}
	if step.Does == Make {
		return out, nil
	}
	if step.Expected != 0 && step.Expected != h.number {
		return out, &Conflict{Mine: step.Expected, Theirs: h.number, By: h.by}
	}
	out.At = max(out.At, h.from.Add(least)) // a revision was in force for some time
	out.Opens, out.Closes, out.Before = h.number+1, h.number, h.spec
	switch step.Does {
	case Retire:
		out.Opens, out.Spec = 0, nil
	case Restore:
		out.Closes = 0
		if out.Reason == "" {
			out.Reason = "restored"
		}
	}
	if step.Kind == Agreement && step.Does != Retire {
		step.Reason = out.Reason
		from, err := w.after.counting(step, out.At, w.Published[step.ID])
		if err != nil {
			return out, err
		}
		out.Counts = &from
	}
	return out, nil
}

// concerns notes whose state a write may change.
func (w *work) concerns(wrote Write) {
	switch wrote.Kind {
	case Service:
		w.concerned[wrote.ID] = true
	case Check:
		for _, spec := range []Spec{wrote.Spec, wrote.Before} {
			if check, is := spec.(definition.CheckSpec); is {
				w.concerned[check.Service] = true
			}
		}
	}
}

// ownFault is a fault of an agreement in a bundle at its own path in the definition; one
// that lies outside of it, such as a circle of services, comes of whom it excuses.
func ownFault(err error) error {
	var f *definition.Fault
	if errors.As(err, &f) {
		if of, own, is := strings.Cut(f.Path, "]."); is && strings.HasPrefix(of, "agreements[") {
			return definition.Instead(own, err)
		}
	}
	return definition.Instead("upstream.excuse", err)
}

// accounts refuses a step after which some agreement could not be accounted that
// could be before.
func (w *work) accounts(step Step, id string) error {
	if step.Does == Retire {
		return nil
	}
	switch spec := step.Spec.(type) {
	case definition.AgreementSpec:
		err := w.after.accountable(id, w.At)
		if err != nil && w.before.Agreements[id] != nil && w.before.accountable(id, w.At) != nil {
			return nil // it is not this that keeps it from being accounted
		}
		return ownFault(err)
	case definition.ServiceSpec:
		if e := w.before.Services[id]; e == nil || reflect.DeepEqual(membersOf(e.Current().Spec), membersOf(spec)) {
			return nil
		}
		for _, agreement := range w.after.excusing() {
			err := w.after.accountable(agreement, w.At)
			if err != nil && w.before.Agreements[agreement] != nil && w.before.accountable(agreement, w.At) == nil {
				return definition.Instead("depends_on", err)
			}
		}
	}
	return nil
}

// list puts a check that was written among those of its service.
func (w *work) list(service string, wrote Write) {
	if !w.relisted[service] {
		w.relisted[service] = true
		w.after.ChecksOf[service] = slices.Clone(w.after.ChecksOf[service])
	}
	if wrote.Does == Make {
		w.after.ChecksOf[service] = append(w.after.ChecksOf[service], wrote.ID)
	}
}

// FreshID makes an id of a name that no definition of the kind has, nor any of
// those taken meanwhile, by kind and id.
func (s *Snapshot) FreshID(kind, name string, taken map[string]bool) string {
	slug := definition.Slug(name)
	if slug == "" {
		slug = kind
	}
	id := slug
	for n := 2; taken[kind+" "+id] || kinds[kind].head(s, id) != nil; n++ {
		id = fmt.Sprintf("%s-%d", slug, n)
	}
	return id
}

// consequences are the steps that follow from a step that was done.
func (s *Snapshot) consequences(step Step) ([]Step, error) {
	if step.Does == Retire {
		if step.Kind != PairPlan {
			return nil, nil
		}
		var out []Step
		for _, id := range s.KeptBy(step.ID) {
			out = append(out, Step{Does: Retire, Kind: Check, ID: id})
		}
		return out, nil
	}
	switch spec := step.Spec.(type) {
	case definition.ServiceSpec:
		return s.flow(step.ID, spec.Defaults), nil
	case definition.PairPlanSpec:
		return s.planSteps(step.ID, spec)
	case definition.LocationSpec:
		var out []Step
		for _, id := range Live(s.PairPlans) {
			plan := s.PairPlans[id].Current().Spec
			if !names(plan, step.ID) {
				continue
			}
			steps, err := s.planSteps(id, plan)
			if err != nil {
				var f *definition.Fault
				if errors.As(err, &f) {
					return nil, definition.Faultf("name", "the pair plan %s includes this location: %s", plan.Name, f.Message)
				}
				return nil, err
			}
			out = append(out, steps...)
		}
		return out, nil
	}
	return nil, nil
}

// flow gives the checks of a service the defaults that they follow.
func (s *Snapshot) flow(service string, defaults *definition.CheckDefaults) []Step {
	var out []Step
	for _, id := range s.LiveChecks(service) {
		old := s.Checks[id].Current().Spec
		if len(old.Follows) == 0 {
			continue
		}
		if spec := old.Following(defaults); !reflect.DeepEqual(spec, old) {
			out = append(out, Step{Does: Rewrite, Kind: Check, ID: id, Spec: spec, Reason: "the defaults of its service changed"})
		}
	}
	return out
}

// because puts the fault of a step that follows into words for who made the other.
func because(step, follows Step, err error) error {
	var f *definition.Fault
	if !errors.As(err, &f) {
		return err
	}
	name := follows.ID
	if follows.Spec != nil {
		name = follows.Spec.Called()
	}
	path := "name"
	switch step.Kind {
	case Service:
		path = "check_defaults"
	case PairPlan:
		path = "kinds"
	}
	return definition.Faultf(path, "its check %s would be refused: %s: %s", name, f.Path, f.Message)
}

// keptElsewhere refuses a step by a person on what a pair plan keeps.
func (s *Snapshot) keptElsewhere(step Step) error {
	if step.Kind != Check {
		return nil
	}
	spec, _ := step.Spec.(definition.CheckSpec)
	e := s.Checks[step.ID]
	if step.Does == Make && spec.Pair != nil || e != nil && e.Current().Spec.Pair == nil && spec.Pair != nil {
		return definition.Faultf("pair", "only a pair plan makes such checks; leave it away")
	}
	if e == nil || e.Current().Spec.Pair == nil {
		return nil
	}
	plan := e.Current().Spec.Pair.Plan
	return definition.Faultf("pair", "the pair plan %s keeps this check; change it there, under Set-up, Pairs", s.Named(PairPlan, plan))
}
