package catalogue

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/definition"
	"kestite/server/store"
	"kestite/server/store/gen/db"
)

// Deed is what a step does.
type Deed int

const (
	Make    Deed = iota // a new definition
	Rewrite             // opens a new revision
	Retire
	Restore // undoes a retirement; with a Spec that one holds, otherwise the last
)

// Step is one part of a change.
type Step struct {
	Does     Deed
	Kind, ID string // Make without an ID makes one of Name
	Name     string
	Expected int // of Rewrite: the revision the edit was made on; 0: any
	Spec     Spec
	Reason   string // in place of the change's
	follows  bool   // from another step, and not asked for by a person
}

// StepError says which step of a change was refused; nothing of the change was done.
type StepError struct {
	Index int
	Err   error
}

func (e *StepError) Error() string { return e.Err.Error() }

// Unwrap returns the reason.
func (e *StepError) Unwrap() error { return e.Err }

// Apply makes a change of one or several definitions, whole or not at all, with
// everything that follows from it: checks take over the new defaults of their
// service, pair plans keep their checks. It returns the id of each step's
// definition. The error is a *StepError where a step is at fault.
func (c *Catalogue) Apply(ctx context.Context, ch Change, steps ...Step) ([]string, error) {
	c.changing.Lock()
	defer c.changing.Unlock()
	var ids []string
	err := c.store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		if err := q.LockDefinitions(ctx); err != nil {
			return err
		}
		snap, err := c.Snapshot(ctx)
		if err != nil {
			return err
		}
		w := &work{tx: tx, q: q, snap: snap, change: ch, at: ch.at(c.store.Now()), taken: map[string]bool{}, judged: map[string]bool{}}
		for i, s := range steps {
			id, err := w.do(ctx, s)
			if err != nil {
				return &StepError{i, err}
			}
			ids = append(ids, id)
		}
		return store.AskJudging(ctx, tx, w.judged)
	})
	return ids, err
}

// work is a change under way.
type work struct {
	tx     pgx.Tx
	q      *db.Queries
	snap   *Snapshot // before the change
	change Change
	at     time.Time       // when what is changed begins
	taken  map[string]bool // ids made meanwhile, with their kinds
	judged map[string]bool // services whose state the change may change
}

func (w *work) do(ctx context.Context, s Step) (string, error) {
	if s.Spec == nil && s.Does == Restore {
		last, err := w.q.LastRevision(ctx, db.LastRevisionParams{Kind: s.Kind, ID: s.ID})
		if errors.Is(err, pgx.ErrNoRows) {
			return "", ErrNotFound
		}
		if err != nil {
			return "", err
		}
		if s.Spec, err = kinds[s.Kind].read(last.Body); err != nil {
			return "", err
		}
	}
	if s.Does == Make && s.ID == "" {
		s.ID = w.snap.freshID(s.Kind, s.Name, w.taken)
	}
	if err := w.may(&s); err != nil {
		return "", err
	}
	if err := w.write(ctx, s); err != nil {
		return "", err
	}
	more, err := w.snap.consequences(s)
	if err != nil {
		return "", err
	}
	for _, m := range more {
		m.follows = true
		if _, err := w.do(ctx, m); err != nil {
			return "", because(s, m, err)
		}
	}
	return s.ID, nil
}

// may refuses what must not be, and fills in what a check follows.
func (w *work) may(s *Step) error {
	if !s.follows {
		if err := w.snap.keptElsewhere(*s); err != nil {
			return err
		}
	}
	if s.Does == Retire {
		if s.follows {
			return nil
		}
		return w.snap.retirable(s.Kind, s.ID)
	}
	if spec, ok := s.Spec.(definition.CheckSpec); ok {
		if e := w.snap.Services[spec.Service]; e != nil && !s.follows {
			spec = spec.Following(e.Current().Spec.Defaults)
		}
		s.Spec = spec
	}
	return w.snap.judge(s.ID, s.Spec)
}

// concerns notes whose state a step may change.
func (w *work) concerns(s Step) {
	switch s.Kind {
	case Service:
		w.judged[s.ID] = true
	case Check:
		if spec, ok := s.Spec.(definition.CheckSpec); ok {
			w.judged[spec.Service] = true
		}
		if e := w.snap.Checks[s.ID]; e != nil {
			w.judged[e.Current().Spec.Service] = true
		}
	}
}

func (w *work) write(ctx context.Context, s Step) error {
	w.concerns(s)
	at, reason := w.at, w.change.Reason
	if s.Reason != "" {
		reason = s.Reason
	}
	body, err := json.Marshal(s.Spec)
	if err != nil {
		return err
	}
	add := func(number int32) error {
		return w.q.AddRevision(ctx, db.AddRevisionParams{
			Kind: s.Kind, ID: s.ID, Number: number, ValidFrom: at, Body: body, MadeBy: w.change.By.Name, Reason: reason,
		})
	}
	end := func() (db.Revision, error) {
		open, err := w.open(ctx, s.Kind, s.ID)
		if err != nil {
			return open, err
		}
		if s.Expected != 0 && s.Expected != int(open.Number) {
			return open, &Conflict{Mine: s.Expected, Theirs: int(open.Number), By: open.MadeBy}
		}
		at = after(open.ValidFrom, at)
		return open, w.q.CloseRevision(ctx, db.CloseRevisionParams{Kind: s.Kind, ID: s.ID, Number: open.Number, ValidUntil: &at})
	}
	switch s.Does {
	case Make:
		w.taken[s.Kind+" "+s.ID] = true
		if err := w.q.AddDefinition(ctx, db.AddDefinitionParams{Kind: s.Kind, ID: s.ID, CreatedAt: at}); err != nil {
			return fmt.Errorf("create %s %s: %w", s.Kind, s.ID, err)
		}
		if err := add(1); err != nil {
			return err
		}
		return told(ctx, w.tx, w.q, w.change.By, "create", s.Kind, s.ID, nil, body)
	case Rewrite:
		open, err := end()
		if err != nil {
			return err
		}
		if err := add(open.Number + 1); err != nil {
			return err
		}
		return told(ctx, w.tx, w.q, w.change.By, "edit", s.Kind, s.ID, open.Body, body)
	case Retire:
		open, err := end()
		if err != nil {
			return err
		}
		if err := w.q.RetireDefinition(ctx, db.RetireDefinitionParams{Kind: s.Kind, ID: s.ID, RetiredAt: &at}); err != nil {
			return err
		}
		return told(ctx, w.tx, w.q, w.change.By, "retire", s.Kind, s.ID, open.Body, nil)
	}
	d, err := w.q.DefinitionForUpdate(ctx, db.DefinitionForUpdateParams{Kind: s.Kind, ID: s.ID})
	if errors.Is(err, pgx.ErrNoRows) {
		return ErrNotFound
	}
	if err != nil || d.RetiredAt == nil { // it is in force: nothing to undo
		return err
	}
	last, err := w.q.LastRevision(ctx, db.LastRevisionParams{Kind: s.Kind, ID: s.ID})
	if err != nil {
		return err
	}
	if err := w.q.RetireDefinition(ctx, db.RetireDefinitionParams{Kind: s.Kind, ID: s.ID, RetiredAt: nil}); err != nil {
		return err
	}
	at = after(last.ValidFrom, at)
	if reason == "" {
		reason = "restored"
	}
	if err := add(last.Number + 1); err != nil {
		return err
	}
	return told(ctx, w.tx, w.q, w.change.By, "restore", s.Kind, s.ID, nil, body)
}

func (w *work) open(ctx context.Context, kind, id string) (db.Revision, error) {
	d, err := w.q.DefinitionForUpdate(ctx, db.DefinitionForUpdateParams{Kind: kind, ID: id})
	if errors.Is(err, pgx.ErrNoRows) {
		return db.Revision{}, ErrNotFound
	}
	if err != nil {
		return db.Revision{}, err
	}
	if d.RetiredAt != nil {
		return db.Revision{}, ErrRetired
	}
	return w.q.OpenRevision(ctx, db.OpenRevisionParams{Kind: kind, ID: id})
}
