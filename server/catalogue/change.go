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
	"kestite/server/store"
	"kestite/server/store/gen/db"
	"kestite/server/trail"
)

// Spec is the body of a revision, which can be judged alone.
type Spec interface{ Validate() error }

// Change is an edit by a person.
type Change struct {
	By     trail.By
	Reason string
	// At is when the revision begins; zero is now. Only the demo's history sets it.
	At time.Time
}

// at is when a change made at now begins.
func (c Change) at(now time.Time) time.Time {
	if c.At.IsZero() {
		return now.UTC().Truncate(time.Millisecond)
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
	ids, err := c.Apply(ctx, ch, Step{Does: Make, Kind: kind, ID: id, Name: name, Spec: spec})
	if err != nil {
		return "", err
	}
	return ids[0], nil
}

// Edit closes the revision in force and opens one that says spec. expected is
// the number of the revision the edit was made on (0: whichever is in force);
// another one in force is a *Conflict.
func (c *Catalogue) Edit(ctx context.Context, kind, id string, expected int, spec Spec, ch Change) error {
	_, err := c.Apply(ctx, ch, Step{Does: Rewrite, Kind: kind, ID: id, Expected: expected, Spec: spec})
	return err
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
	_, err := c.Apply(ctx, ch, Step{Does: Retire, Kind: kind, ID: id})
	return err
}

// Restore undoes a retirement: a new revision says again what the last one said.
func (c *Catalogue) Restore(ctx context.Context, kind, id string, ch Change) error {
	_, err := c.Apply(ctx, ch, Step{Does: Restore, Kind: kind, ID: id})
	return err
}

// after returns at, or the first millisecond after start where at is not later.
func after(start, at time.Time) time.Time {
	if at.After(start) {
		return at
	}
	return start.Add(time.Millisecond)
}

// told writes what a step did into the trail, with what there was before and is
// since (nil: nothing), and tells everybody.
func told(ctx context.Context, tx pgx.Tx, q *db.Queries, by trail.By, action, kind, id string, before, since json.RawMessage) error {
	e := trail.Entry{By: by, Action: action, Subject: kind + " " + id}
	if before != nil {
		e.Before = before
	}
	if since != nil {
		e.Detail = since
	}
	if err := trail.Add(ctx, q, e); err != nil {
		return err
	}
	return store.Notify(ctx, tx, store.Change{Kind: "definition", IDs: []string{kind + " " + id}})
}

// freshID makes an id of a name that no definition of the kind has, nor any of
// those made meanwhile.
func (s *Snapshot) freshID(kind, name string, taken map[string]bool) string {
	ids := kinds[kind].ids(s)
	slug := definition.Slug(name)
	if slug == "" {
		slug = kind
	}
	id := slug
	for n := 2; taken[kind+" "+id] || slices.Contains(ids, id); n++ {
		id = fmt.Sprintf("%s-%d", slug, n)
	}
	return id
}
