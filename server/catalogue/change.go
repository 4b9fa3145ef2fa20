package catalogue

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/server/store"
	"kestite/server/store/gen/db"
)

// Spec is the body of a revision, which can be judged alone.
type Spec interface{ Validate() error }

// Change is an edit by a person.
type Change struct {
	By     string
	Reason string
	// At is when the revision begins; zero is now. Only the demo's history sets it.
	At time.Time
}

func (c Change) at() time.Time {
	if c.At.IsZero() {
		return time.Now().UTC().Truncate(time.Millisecond)
	}
	return c.At.UTC()
}

// ErrNotFound and ErrRetired are what an edit of something that is not there, or no more, gives.
var (
	ErrNotFound = errors.New("there is none of that id")
	ErrRetired  = errors.New("it is retired; its history stays, but it cannot be edited")
)

// Create makes a definition with its first revision and returns its id, which
// is made of name unless id is given.
func (c *Catalogue) Create(ctx context.Context, kind, id, name string, spec Spec, ch Change) (string, error) {
	if err := c.judge(ctx, kind, "", spec); err != nil {
		return "", err
	}
	body, err := json.Marshal(spec)
	if err != nil {
		return "", err
	}
	if id == "" {
		if id, err = c.freshID(ctx, kind, name); err != nil {
			return "", err
		}
	}
	err = c.store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		if err := q.AddDefinition(ctx, db.AddDefinitionParams{Kind: kind, ID: id, CreatedAt: ch.at()}); err != nil {
			return err
		}
		if err := q.AddRevision(ctx, db.AddRevisionParams{
			Kind: kind, ID: id, Number: 1, ValidFrom: ch.at(), Body: body, MadeBy: ch.By, Reason: ch.Reason,
		}); err != nil {
			return err
		}
		return told(ctx, tx, q, ch.By, "create", kind, id, body)
	})
	if err != nil {
		return "", fmt.Errorf("create %s %s: %w", kind, id, err)
	}
	return id, nil
}

// Edit closes the revision in force and opens one that says spec. expected is
// the number of the revision the edit was made on (0: whichever is in force);
// another one in force is a *Conflict.
func (c *Catalogue) Edit(ctx context.Context, kind, id string, expected int, spec Spec, ch Change) error {
	if err := c.judge(ctx, kind, id, spec); err != nil {
		return err
	}
	body, err := json.Marshal(spec)
	if err != nil {
		return err
	}
	return c.store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		open, err := c.open(ctx, q, kind, id)
		if err != nil {
			return err
		}
		if expected != 0 && expected != int(open.Number) {
			return &Conflict{Mine: expected, Theirs: int(open.Number), By: open.MadeBy}
		}
		at := after(open.ValidFrom, ch.at())
		if err := q.CloseRevision(ctx, db.CloseRevisionParams{Kind: kind, ID: id, Number: open.Number, ValidUntil: &at}); err != nil {
			return err
		}
		if err := q.AddRevision(ctx, db.AddRevisionParams{
			Kind: kind, ID: id, Number: open.Number + 1, ValidFrom: at, Body: body, MadeBy: ch.By, Reason: ch.Reason,
		}); err != nil {
			return err
		}
		return told(ctx, tx, q, ch.By, "edit", kind, id, body)
	})
}

// Conflict is an edit made on a revision that is no longer in force.
type Conflict struct {
	Mine, Theirs int
	By           string
}

func (c *Conflict) Error() string {
	return fmt.Sprintf("revision %d is in force, made by %s, while you edited revision %d; look at it and edit again", c.Theirs, c.By, c.Mine)
}

// Retire ends a definition now; its history stays.
func (c *Catalogue) Retire(ctx context.Context, kind, id string, ch Change) error {
	if err := c.retirable(ctx, kind, id); err != nil {
		return err
	}
	return c.store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		open, err := c.open(ctx, q, kind, id)
		if err != nil {
			return err
		}
		at := after(open.ValidFrom, ch.at())
		if err := q.CloseRevision(ctx, db.CloseRevisionParams{Kind: kind, ID: id, Number: open.Number, ValidUntil: &at}); err != nil {
			return err
		}
		if err := q.RetireDefinition(ctx, db.RetireDefinitionParams{Kind: kind, ID: id, RetiredAt: &at}); err != nil {
			return err
		}
		return told(ctx, tx, q, ch.By, "retire", kind, id, open.Body)
	})
}

// Restore undoes a retirement: a new revision says again what the last one said.
func (c *Catalogue) Restore(ctx context.Context, kind, id string, ch Change) error {
	return c.store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		d, err := q.DefinitionForUpdate(ctx, db.DefinitionForUpdateParams{Kind: kind, ID: id})
		if errors.Is(err, pgx.ErrNoRows) {
			return ErrNotFound
		}
		if err != nil || d.RetiredAt == nil {
			return err
		}
		last, err := q.LastRevision(ctx, db.LastRevisionParams{Kind: kind, ID: id})
		if err != nil {
			return err
		}
		if err := q.RetireDefinition(ctx, db.RetireDefinitionParams{Kind: kind, ID: id, RetiredAt: nil}); err != nil {
			return err
		}
		if err := q.AddRevision(ctx, db.AddRevisionParams{
			Kind: kind, ID: id, Number: last.Number + 1, ValidFrom: after(last.ValidFrom, ch.at()), Body: last.Body, MadeBy: ch.By, Reason: "restored",
		}); err != nil {
			return err
		}
		return told(ctx, tx, q, ch.By, "restore", kind, id, last.Body)
	})
}

func (c *Catalogue) open(ctx context.Context, q *db.Queries, kind, id string) (db.Revision, error) {
	d, err := q.DefinitionForUpdate(ctx, db.DefinitionForUpdateParams{Kind: kind, ID: id})
	if errors.Is(err, pgx.ErrNoRows) {
		return db.Revision{}, ErrNotFound
	}
	if err != nil {
		return db.Revision{}, err
	}
	if d.RetiredAt != nil {
		return db.Revision{}, ErrRetired
	}
	return q.OpenRevision(ctx, db.OpenRevisionParams{Kind: kind, ID: id})
}

// after returns at, or the first millisecond after start where at is not later.
func after(start, at time.Time) time.Time {
	if at.After(start) {
		return at
	}
	return start.Add(time.Millisecond)
}

func told(ctx context.Context, tx pgx.Tx, q *db.Queries, by, action, kind, id string, body json.RawMessage) error {
	if err := q.AddAudit(ctx, db.AddAuditParams{Person: by, Action: action, Subject: kind + " " + id, Detail: body}); err != nil {
		return err
	}
	return store.Notify(ctx, tx, store.Change{Kind: "definition", IDs: []string{kind + " " + id}})
}

func (c *Catalogue) freshID(ctx context.Context, kind, name string) (string, error) {
	s, err := c.Snapshot(ctx)
	if err != nil {
		return "", err
	}
	taken := map[string]bool{}
	for _, id := range s.ids(kind) {
		taken[id] = true
	}
	slug := definition.Slug(name)
	if slug == "" {
		slug = kind
	}
	id := slug
	for n := 2; taken[id]; n++ {
		id = fmt.Sprintf("%s-%d", slug, n)
	}
	return id, nil
}

func (s *Snapshot) ids(kind string) []string {
	switch kind {
	case Location:
		return Sorted(s.Locations)
	case Service:
		return Sorted(s.Services)
	case Check:
		return Sorted(s.Checks)
	case Agreement:
		return Sorted(s.Agreements)
	case Network:
		return Sorted(s.Networks)
	case Credential:
		return Sorted(s.Credentials)
	case Kit:
		return Sorted(s.Kits)
	}
	return Sorted(s.Windows)
}

// judge checks a spec alone and against the other definitions. The error is a
// *definition.Fault where the spec is at fault.
func (c *Catalogue) judge(ctx context.Context, kind, id string, spec Spec) error {
	if err := spec.Validate(); err != nil {
		return err
	}
	s, err := c.Snapshot(ctx)
	if err != nil {
		return err
	}
	switch spec := spec.(type) {
	case definition.CheckSpec:
		if e := s.Services[spec.Service]; e == nil || e.Retired {
			return fault("service", "%q names no service", spec.Service)
		}
		if e := s.Checks[id]; e != nil && e.Current().Spec.Service != spec.Service {
			return fault("service", "a check stays with its service; make a new one for %s", spec.Service)
		}
		for i, l := range spec.Locations {
			if l == definition.Server {
				continue // the spec itself says whether it may
			}
			if e := s.Locations[l]; e == nil || e.Retired {
				return fault(fmt.Sprintf("locations[%d]", i), "%q names no location", l)
			}
		}
		if err := s.judgeSources(spec); err != nil {
			return err
		}
		if spec.HTTP != nil && spec.HTTP.Credential != "" {
			if e := s.Credentials[spec.HTTP.Credential]; e == nil || e.Retired {
				return fault("http.credential", "%q names no credential", spec.HTTP.Credential)
			}
		}
	case definition.AgreementSpec:
		return s.judgeAgreement(id, spec)
	case definition.ServiceSpec:
		return s.judgeService(id, spec)
	case definition.WindowSpec:
		for i, svc := range spec.Services {
			if e := s.Services[svc]; e == nil || e.Retired {
				return fault(fmt.Sprintf("services[%d]", i), "%q names no service", svc)
			}
		}
	}
	return nil
}

// judgeSources checks what a derived check is made of.
func (s *Snapshot) judgeSources(spec definition.CheckSpec) error {
	if spec.Kind != measure.Derived.Name {
		return nil
	}
	for i, source := range spec.Derived.Sources {
		path := fmt.Sprintf("derived.sources[%d]", i)
		e := s.Checks[source.Check]
		if e == nil || e.Retired {
			return fault(path+".check", "%q names no check", source.Check)
		}
		of := e.Current().Spec
		if of.Kind == measure.Derived.Name {
			return fault(path+".check", "%s is derived itself; take what it is made of", of.Name)
		}
		kind, _ := measure.KindNamed(of.Kind)
		if kind.Index(source.Measure) < 0 {
			return fault(path+".measure", "%q is no measure of %s, which is a %s check", source.Measure, of.Name, of.Kind)
		}
		if source.Location != "" && !slices.Contains(of.Locations, source.Location) {
			return fault(path+".location", "%s is not measured from %q", of.Name, source.Location)
		}
	}
	return nil
}

func (s *Snapshot) judgeAgreement(id string, spec definition.AgreementSpec) error {
	if e := s.Services[spec.Service]; e == nil || e.Retired {
		return fault("service", "%q names no service", spec.Service)
	}
	if e := s.Agreements[id]; e != nil && e.Current().Spec.Service != spec.Service {
		return fault("service", "an agreement stays with its service; make a new one for %s", spec.Service)
	}
	if spec.Latency != nil {
		if e := s.Checks[spec.Latency.Check]; e == nil || e.Current().Spec.Service != spec.Service {
			return fault("latency.check", "%q names no check of %s", spec.Latency.Check, spec.Service)
		}
	}
	if spec.Upstream == nil {
		return nil
	}
	for i, u := range spec.Upstream.Excuse {
		path := fmt.Sprintf("upstream.excuse[%d]", i)
		if s.Services[u] == nil {
			return fault(path, "%q names no service", u)
		}
		if u == spec.Service {
			return fault(path, "the agreement excuses its own service")
		}
		for _, n := range s.Needed(u) {
			if n == spec.Service {
				return fault(path, "%s depends on the agreement's own service", u)
			}
		}
	}
	return nil
}

func (s *Snapshot) judgeService(id string, spec definition.ServiceSpec) error {
	for i, d := range spec.DependsOn {
		for j, member := range d.Services {
			path := fmt.Sprintf("depends_on[%d].services[%d]", i, j)
			if e := s.Services[member]; e == nil || e.Retired {
				return fault(path, "%q names no service", member)
			}
			for _, n := range s.Needed(member) {
				if n == id {
					return fault(path, "services would depend on each other in a circle: %s depends on %s", member, id)
				}
			}
		}
	}
	return nil
}

// retirable refuses to retire what others in force refer to.
func (c *Catalogue) retirable(ctx context.Context, kind, id string) error {
	s, err := c.Snapshot(ctx)
	if err != nil {
		return err
	}
	switch kind {
	case Credential:
		for _, check := range Live(s.Checks) {
			if spec := s.Checks[check].Current().Spec; spec.HTTP != nil && spec.HTTP.Credential == id {
				return fault("id", "the check %s of %s signs in with it; take it out there first", spec.Name, spec.Service)
			}
		}
	case Location:
		for _, check := range Live(s.Checks) {
			spec := s.Checks[check].Current().Spec
			for _, l := range spec.Locations {
				if l == id {
					return fault("id", "the check %s of %s measures from here; take the location out of it first", spec.Name, spec.Service)
				}
			}
		}
	case Service:
		for _, check := range Live(s.Checks) {
			if spec := s.Checks[check].Current().Spec; spec.Service == id {
				return fault("id", "its check %s is in force; retire it first", spec.Name)
			}
		}
		for _, a := range Live(s.Agreements) {
			if spec := s.Agreements[a].Current().Spec; spec.Service == id {
				return fault("id", "the agreement %s is about it; retire that first", spec.Name)
			}
		}
		for _, other := range Live(s.Services) {
			for _, d := range s.Services[other].Current().Spec.DependsOn {
				for _, member := range d.Services {
					if member == id {
						return fault("id", "%s depends on it; change that first", s.Services[other].Current().Spec.Name)
					}
				}
			}
		}
	}
	return nil
}

func fault(path, format string, args ...any) error {
	return &definition.Fault{Path: path, Message: fmt.Sprintf(format, args...)}
}
