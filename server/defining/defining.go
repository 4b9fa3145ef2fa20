// Package defining reads definitions from the store as one consistent snapshot,
// and changes them by closing a revision and opening the next. What a change does
// is worked out in core/catalogue.
package defining

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/planning"
	"kestite/core/span"
	"kestite/server/store"
	"kestite/server/store/gen/db"
	"kestite/server/trail"
)

// ahead is how far beyond the present the starts of windows are kept.
const ahead = 400 * span.Day

// readAgain is how long what was read is only brought up to date, in ms; then all is
// read again, with the starts of windows that have come nearer.
const readAgain = span.Day

// Definitions are those of a store. They are safe for concurrent use.
type Definitions struct {
	store  *store.Store
	mu     sync.Mutex
	last   *catalogue.Snapshot
	seen   int64        // the mark of it
	readAt span.Instant // when all were read
	// Told is done in the transaction of every change, before its own Also; nil: nothing is.
	Told func(ctx context.Context, q *db.Queries, plan *catalogue.Plan) error
	// changing lets one change at a time wait for the lock in the database, so
	// that those that wait do not take all connections.
	changing sync.Mutex
}

// New returns the definitions of a store.
func New(s *store.Store) *Definitions { return &Definitions{store: s} }

// Snapshot returns the definitions as they are now.
func (d *Definitions) Snapshot(ctx context.Context) (*catalogue.Snapshot, error) {
	m, err := d.store.DefinitionMark(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the definitions: %w", err)
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.last != nil && d.seen == m.Number {
		return d.last, nil
	}
	now := span.Of(d.store.Now())
	var fresh *catalogue.Snapshot
	if d.last == nil || d.seen < m.Whole || d.seen > m.Number || now > d.readAt.Add(readAgain) {
		fresh, err = d.read(ctx, now)
	} else {
		fresh, err = d.readChanged(ctx)
	}
	if err != nil {
		return nil, err
	}
	org, err := d.store.Organisation(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the organisation: %w", err)
	}
	fresh.Name, fresh.Timezone, fresh.Mark = org.Name, org.Timezone, strconv.FormatInt(m.Number, 10)
	d.last, d.seen = fresh, m.Number
	return fresh, nil
}

// read reads all definitions.
func (d *Definitions) read(ctx context.Context, now span.Instant) (*catalogue.Snapshot, error) {
	rows, err := d.store.AllRevisions(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the definitions: %w", err)
	}
	records := make([]catalogue.Record, len(rows))
	for i, r := range rows {
		records[i] = record(db.RevisionsSinceRow(r))
	}
	d.readAt = now
	return catalogue.New(records, now.Add(ahead)), nil
}

// readChanged reads the definitions that have changed since the last time. There may be
// more than the mark says by now, which are read again then.
func (d *Definitions) readChanged(ctx context.Context) (*catalogue.Snapshot, error) {
	rows, err := d.store.RevisionsSince(ctx, d.seen)
	if err != nil {
		return nil, fmt.Errorf("read the definitions that have changed: %w", err)
	}
	records := make([]catalogue.Record, len(rows))
	for i, r := range rows {
		records[i] = record(r)
	}
	return d.last.With(records), nil
}

func record(r db.RevisionsSinceRow) catalogue.Record {
	return catalogue.Record{
		Kind: r.Kind, ID: r.ID, Number: int(r.Number), From: span.Of(r.ValidFrom), Until: instant(r.ValidUntil),
		Counts: instant(r.CountsFrom), By: r.MadeBy, Retired: r.RetiredAt != nil, Body: r.Body,
	}
}

func instant(t *time.Time) *span.Instant {
	if t == nil {
		return nil
	}
	i := span.Of(*t)
	return &i
}

// Change is an edit by a person.
type Change struct {
	By     trail.By
	Reason string
	// At is when what it changes begins; zero is now. Only the demo's history sets it.
	At time.Time
	// Key is the maker's own name of the change: another with it is the same, asked
	// for again. Empty: it has none.
	Key string
	// Approved says that a second person approved what planned work it adds.
	Approved bool
	// Closing says that it proposes or decides an adjustment.
	Closing bool
	// Also is done in the transaction of the change, once it is made; nil: nothing is.
	Also func(ctx context.Context, tx pgx.Tx, q *db.Queries, plan *catalogue.Plan) error
	// May refuses a write that who makes the change may not do; nil: they may all.
	May func(before, after *catalogue.Snapshot, w catalogue.Write) error
	// Digest tells changes with one key apart that are not the same.
	Digest []byte
}

// ErrOtherChange is a key that another change was made with.
var ErrOtherChange = errors.New("another change was made with this key; take a new one")

// before are the ids of a change that was made with this key before; nil where none was.
func before(ctx context.Context, q *db.Queries, ch Change) ([]string, error) {
	if ch.Key == "" {
		return nil, nil
	}
	made, err := q.ChangeMade(ctx, db.ChangeMadeParams{Person: ch.By.Person, Key: ch.Key})
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if !bytes.Equal(made.Digest, ch.Digest) {
		return nil, ErrOtherChange
	}
	return made.Ids, nil
}

// remember keeps what a change with a key made.
func remember(ctx context.Context, q *db.Queries, ch Change, ids []string) error {
	if ch.Key == "" {
		return nil
	}
	return q.RememberChange(ctx, db.RememberChangeParams{Person: ch.By.Person, Key: ch.Key, Digest: ch.Digest, Ids: ids})
}

// at is when a change made at now begins.
func (c Change) at(now time.Time) span.Instant {
	if c.At.IsZero() {
		return span.Of(now)
	}
	return span.Of(c.At)
}

// Apply makes a change of one or several definitions, whole or not at all, with
// everything that follows from it, and asks for the judging of the services whose
// state it may change. It returns the id of each step's definition. The error is a
// *catalogue.StepError where a step is at fault.
func (d *Definitions) Apply(ctx context.Context, ch Change, steps ...catalogue.Step) ([]string, error) {
	plan, _, err := d.ApplyFrom(ctx, ch, func(*catalogue.Snapshot) ([]catalogue.Step, error) { return steps, nil })
	if err != nil {
		return nil, err
	}
	return plan.IDs, nil
}

// Steps gives the steps of a change from the definitions that it is made to.
type Steps func(*catalogue.Snapshot) ([]catalogue.Step, error)

// ApplyFrom is Apply with steps that follow from what is defined. Where the change
// has a key and was made before, it is not made again: the ids are those of then,
// and the plan is nil.
func (d *Definitions) ApplyFrom(ctx context.Context, ch Change, steps Steps) (plan *catalogue.Plan, repeated []string, err error) {
	d.changing.Lock()
	defer d.changing.Unlock()
	err = d.store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		if err := q.LockDefinitions(ctx); err != nil {
			return err
		}
		var err error
		if repeated, err = before(ctx, q, ch); err != nil || repeated != nil {
			return err
		}
		if plan, err = d.plan(ctx, q, ch, steps); err != nil {
			return err
		}
		if err := remember(ctx, q, ch, plan.IDs); err != nil {
			return err
		}
		for _, w := range plan.Writes {
			if err := write(ctx, q, ch.By, w); err != nil {
				return fmt.Errorf("write %s %s: %w", w.Kind, w.ID, err)
			}
			if err := store.Notify(ctx, tx, store.Event{Kind: store.OnDefinition, IDs: []string{w.Kind + " " + w.ID}}); err != nil {
				return err
			}
		}
		services := map[string]bool{}
		for _, id := range plan.Services {
			services[id] = true
		}
		if err := store.AskJudging(ctx, tx, services); err != nil {
			return err
		}
		if d.Told != nil {
			if err := d.Told(ctx, q, plan); err != nil {
				return err
			}
		}
		if ch.Also == nil {
			return nil
		}
		return ch.Also(ctx, tx, q, plan)
	})
	return plan, repeated, d.calling(ctx, err)
}

// calling puts a name to who made the revision that a change came into conflict with.
func (d *Definitions) calling(ctx context.Context, err error) error {
	var conflict *catalogue.Conflict
	if errors.As(err, &conflict) {
		if name, failed := d.store.PersonCalled(ctx, conflict.By); failed == nil {
			conflict.By = name
		}
	}
	return err
}

// Preview works out what a change would do, and does nothing.
func (d *Definitions) Preview(ctx context.Context, ch Change, steps Steps) (*catalogue.Plan, error) {
	return d.plan(ctx, d.store.Queries, ch, steps)
}

func (d *Definitions) plan(ctx context.Context, q *db.Queries, ch Change, of Steps) (*catalogue.Plan, error) {
	snap, err := d.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	steps, err := of(snap)
	if err != nil {
		return nil, err
	}
	in := catalogue.Circumstances{At: ch.at(d.store.Now()), By: ch.By.Kept(), Reason: ch.Reason, Approved: ch.Approved, Closing: ch.Closing, Published: map[string][]string{}}
	for _, s := range steps {
		if s.Kind != catalogue.Agreement || s.Corrects == "" {
			continue
		}
		if in.Published[s.ID], err = q.SettledPeriods(ctx, s.ID); err != nil {
			return nil, err
		}
	}
	plan, err := snap.Plan(in, steps...)
	if err != nil {
		return nil, d.calling(ctx, err)
	}
	if err := logosThere(ctx, q, steps); err != nil {
		return nil, err
	}
	for i, id := range plan.IDs {
		if spec, is := plan.After.Current(catalogue.Window, id).(definition.WindowSpec); !is || steps[i].Kind != catalogue.Window || steps[i].Does == catalogue.Retire || len(spec.Pause) == 0 {
			continue
		}
		if err := planning.PauseFault(plan.After, id, in.At); err != nil {
			return nil, &catalogue.StepError{Index: i, Err: err}
		}
	}
	if ch.May == nil {
		return plan, nil
	}
	for _, w := range plan.Writes {
		if err := ch.May(snap, plan.After, w); err != nil {
			return nil, err
		}
	}
	return plan, nil
}

// write does what a step does to its definition, and writes it into the trail
// with what there was before and is since.
func write(ctx context.Context, q *db.Queries, by trail.By, w catalogue.Write) error {
	at := w.At.Time()
	e := trail.Entry{By: by, Action: deeds[w.Does], Subject: w.Kind + " " + w.ID}
	if w.Does == catalogue.Make {
		if err := q.AddDefinition(ctx, db.AddDefinitionParams{Kind: w.Kind, ID: w.ID, CreatedAt: at}); err != nil {
			return err
		}
	}
	if w.Closes != 0 {
		before, err := q.CloseRevision(ctx, db.CloseRevisionParams{Kind: w.Kind, ID: w.ID, Number: int32(w.Closes), ValidUntil: &at})
		if errors.Is(err, pgx.ErrNoRows) {
			return fmt.Errorf("its revision %d is not in force", w.Closes)
		}
		if err != nil {
			return err
		}
		e.Before = before
	}
	if w.Does == catalogue.Retire || w.Does == catalogue.Restore {
		retired := &at
		if w.Does == catalogue.Restore {
			retired = nil
		}
		if err := q.RetireDefinition(ctx, db.RetireDefinitionParams{Kind: w.Kind, ID: w.ID, RetiredAt: retired}); err != nil {
			return err
		}
	}
	if w.Opens != 0 {
		body, err := json.Marshal(w.Spec)
		if err != nil {
			return err
		}
		row := db.AddRevisionParams{Kind: w.Kind, ID: w.ID, Number: int32(w.Opens), ValidFrom: at, Body: body, MadeBy: w.By,
			Reason: w.Reason}
		if w.Counts != nil {
			counts := w.Counts.Time()
			row.CountsFrom = &counts
		}
		if err := q.AddRevision(ctx, row); err != nil {
			return err
		}
		e.Detail = json.RawMessage(body)
	}
	return trail.Add(ctx, q, e)
}

// deeds are what the trail calls them.
var deeds = map[catalogue.Deed]string{
	catalogue.Make: "create", catalogue.Rewrite: "edit", catalogue.Retire: "retire", catalogue.Restore: "restore",
}

// Create makes a definition with its first revision and returns its id, which
// is made of name unless id is given.
func (d *Definitions) Create(ctx context.Context, kind, id, name string, spec catalogue.Spec, ch Change) (string, error) {
	ids, err := d.Apply(ctx, ch, catalogue.Step{Does: catalogue.Make, Kind: kind, ID: id, Name: name, Spec: spec})
	if err != nil {
		return "", err
	}
	return ids[0], nil
}

// Edit closes the revision in force and opens one that says spec. expected is
// the number of the revision the edit was made on (0: whichever is in force);
// another one in force is a *catalogue.Conflict.
func (d *Definitions) Edit(ctx context.Context, kind, id string, expected int, spec catalogue.Spec, ch Change) error {
	_, err := d.Apply(ctx, ch, catalogue.Step{Does: catalogue.Rewrite, Kind: kind, ID: id, Expected: expected, Spec: spec})
	return err
}

// Retire ends a definition now; its history stays.
func (d *Definitions) Retire(ctx context.Context, kind, id string, ch Change) error {
	_, err := d.Apply(ctx, ch, catalogue.Step{Does: catalogue.Retire, Kind: kind, ID: id})
	return err
}

// Restore undoes a retirement: a new revision says again what the last one said.
func (d *Definitions) Restore(ctx context.Context, kind, id string, ch Change) error {
	_, err := d.Apply(ctx, ch, catalogue.Step{Does: catalogue.Restore, Kind: kind, ID: id})
	return err
}
