package incidents

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/incident"
	"kestite/core/span"
	"kestite/server/attached"
	"kestite/server/store/gen/db"
	"kestite/server/trail"
)

// Deed is what a person does with an incident, as a rule of core/incident.
type Deed func(i incident.Incident, now span.Instant) (incident.Changed, error)

// Do does something with an incident, which nobody else changes meanwhile. The error is
// a *definition.Fault, a *incident.Conflict or catalogue.ErrNotFound where it is theirs
// who asked.
func (k *Keeper) Do(ctx context.Context, by trail.By, id int64, action string, deed Deed) error {
	return k.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		i, err := k.held(ctx, q, id)
		if err != nil {
			return err
		}
		return k.done(ctx, tx, by, action, i, deed)
	})
}

// held is an incident that nobody else changes until the transaction ends.
func (k *Keeper) held(ctx context.Context, q *db.Queries, id int64) (incident.Incident, error) {
	row, err := q.IncidentForUpdate(ctx, id)
	if errors.Is(err, pgx.ErrNoRows) {
		return incident.Incident{}, catalogue.ErrNotFound
	}
	if err != nil {
		return incident.Incident{}, err
	}
	return Of(row), nil
}

func (k *Keeper) done(ctx context.Context, tx pgx.Tx, by trail.By, action string, i incident.Incident, deed Deed) error {
	c, err := deed(i, span.Of(k.Now()))
	if err != nil || len(c.Events) == 0 {
		return err
	}
	q := db.New(tx)
	row, err := put(c.Incident)
	if err != nil {
		return err
	}
	if err := q.PutIncident(ctx, row); err != nil {
		return err
	}
	detail := map[string]any{}
	var found []string
	for _, e := range c.Events {
		detail["what"] = e.Kind
		found = append(found, e.Text)
		if e.Kind == incident.ReviewedOnce {
			found = append(found, c.Review.Action, e.Other)
		}
		switch {
		case e.Kind == incident.Raised, e.Kind == incident.Assigned:
			detail["to"] = e.Text + e.Other
		case e.Cause != 0:
			detail["cause"] = e.Cause
		}
	}
	if text := strings.TrimSpace(strings.Join(found, " ")); text != "" {
		if err := findBy(ctx, tx, c.ID, text); err != nil {
			return err
		}
	}
	if err := k.tell(ctx, tx, []incident.Changed{c}, nil); err != nil {
		return err
	}
	return trail.Add(ctx, q, trail.Entry{By: by, Action: action, Subject: fmt.Sprintf("incident %d", c.ID), Detail: detail})
}

// findBy adds to what an incident is found by. Where the database keeps no more of it the
// text is kept all the same.
func findBy(ctx context.Context, tx pgx.Tx, id int64, text string) error {
	const tooMuch = "54000" // program_limit_exceeded
	err := pgx.BeginFunc(ctx, tx, func(part pgx.Tx) error {
		return db.New(part).FindIncidentBy(ctx, db.FindIncidentByParams{ID: id, Words: text})
	})
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.Code == tooMuch {
		return nil
	}
	return err
}

// Under puts an incident, and all that follow it, under another one by a person's decision.
func (k *Keeper) Under(ctx context.Context, by trail.By, id, cause int64) error {
	return k.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		held := map[int64]incident.Incident{}
		both := []int64{id, cause}
		slices.Sort(both)
		for _, n := range slices.Compact(both) { // in one order, as everybody
			i, err := k.held(ctx, q, n)
			if errors.Is(err, catalogue.ErrNotFound) && n == cause {
				return definition.Faultf("cause", "there is no incident %d; give the number of another one", n)
			}
			if err != nil {
				return err
			}
			held[n] = i
		}
		root := held[cause]
		if root.Cause != 0 {
			var err error
			if root, err = k.held(ctx, q, root.Cause); err != nil {
				return err
			}
		}
		if err := k.done(ctx, tx, by, "merge", held[id], func(i incident.Incident, now span.Instant) (incident.Changed, error) {
			return i.Under(by.Kept(), now, root)
		}); err != nil {
			return err
		}
		_, err := q.PutFollowers(ctx, db.PutFollowersParams{Cause: &root.ID, Was: id})
		return err
	})
}

// Attach keeps a file with an incident; the same one twice is kept once.
func (k *Keeper) Attach(ctx context.Context, by trail.By, id int64, name string, content []byte) error {
	name, kind, err := attached.Taken(name, content)
	if err != nil {
		return err
	}
	digest := sha256.Sum256(content)
	return k.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		i, err := k.held(ctx, q, id)
		if err != nil {
			return err
		}
		files, err := q.IncidentFiles(ctx, id)
		if err != nil {
			return err
		}
		if slices.ContainsFunc(files, func(f db.IncidentFilesRow) bool { return string(f.Digest) == string(digest[:]) }) {
			return nil
		}
		if len(files) >= attached.MostFiles {
			return definition.Faultf("content", "is one too many: %d files are the most of one incident", attached.MostFiles)
		}
		if _, err := q.AddIncidentFile(ctx, db.AddIncidentFileParams{Incident: id, Name: name, Type: kind, Digest: digest[:], Content: content,
			By: by.Kept(), At: k.Now()}); err != nil {
			return err
		}
		return k.done(ctx, tx, by, "attach", i, func(i incident.Incident, now span.Instant) (incident.Changed, error) {
			return incident.Changed{Incident: i, Events: []incident.Event{{Kind: incident.Attached, At: now, Person: by.Kept(), Other: name}}}, nil
		})
	})
}
